"""What of a figure is worn: pieces of their own around the body, beside hair, eyes and what else belongs to a head."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from fairswap.bones.roles import FINGERS, RoleMap
from fairswap.figures.rigging.shape import Shape
from fairswap.measure.nearness import Surface
from fairswap.model.arrays import Floats, Integers
from fairswap.model.figure import Figure
from fairswap.model.mesh import Mesh
from fairswap.model.skeleton import Skeleton

# Smaller than this, in heights, is a button; what is so much on the head is hair; the body is so tall at least.
_SMALL, _OF_THE_HEAD, _TALL = 0.075, 0.7, 0.5
# Worn is what lies around the body: so near to it for the most part, in heights, and outside of it.
_AROUND, _OUTSIDE = 0.12, 0.5
# But a large piece, in heights, that lies just below the skin is clothes that the body has swallowed.
_LARGE, _SWALLOWED = 0.2, 0.03
# Of that much by bones of its own something swings.
_SWINGS = 0.25
_HEAD = ("head", "jaw", "eye_left", "eye_right")


# Of the body: what clothes lie on, and what swings on bones of its own; and what is no part of either.
SKIN, SWINGING, NEITHER = -1, -2, -3


@dataclass(frozen=True, eq=False)
class Wearing:
    """Which triangles of each mesh of a figure are the body's, and which are worn: arrays ``(triangles,)`` of numbers,
    :data:`SKIN` and :data:`SWINGING` for the body, :data:`NEITHER`, else the piece; ``names`` are those of the pieces.
    """

    figure: Figure
    numbers: tuple[Integers, ...]
    names: tuple[str, ...]

    @classmethod
    def of_meshes(cls, figure: Figure, roles: RoleMap, worn: Collection[int]) -> Wearing:
        """With whole meshes, by their numbers, as the pieces."""
        pieces = sorted(worn)
        numbers = tuple(
            np.full(len(mesh.triangles), pieces.index(i)) if i in worn
            else np.where(of_the_body(mesh, figure.skeleton, roles), SKIN, SWINGING)
            for i, mesh in enumerate(figure.meshes)
        )  # fmt: skip
        return cls(figure, numbers, tuple(figure.meshes[i].name for i in pieces))

    @cached_property
    def firsts(self) -> list[int]:
        """Where the vertices of each mesh begin among those of all."""
        return [0, *np.cumsum([len(mesh.vertices) for mesh in self.figure.meshes]).tolist()]

    def triangles(self, *pieces: int) -> Integers:
        """The triangles ``(m, 3)`` of some pieces, by the numbers of all vertices together."""
        rows = zip(self.figure.meshes, self.numbers, self.firsts, strict=False)
        return np.concatenate([mesh.triangles[np.isin(number, pieces)] + first for mesh, number, first in rows])

    def body(self, points: Floats) -> Surface:
        """The body with all its vertices at ``points``; what swings, and edges of holes, tell no side."""
        skin, swinging = self.triangles(SKIN), self.triangles(SWINGING)
        triangles = np.concatenate([skin, swinging])
        return Surface(points, triangles, at_open_edges(points, triangles) | (np.arange(len(triangles)) >= len(skin)))


def at_open_edges(points: Floats, triangles: Integers) -> np.ndarray:
    """Which triangles ``(m,)`` have an edge that no other has, seams between vertices at one place left aside."""
    if not len(triangles):
        return np.zeros(0, dtype=bool)
    corners = Shape.of(points, triangles).welded[triangles]
    edges = np.sort(np.stack([corners[:, [0, 1]], corners[:, [1, 2]], corners[:, [2, 0]]], axis=1), axis=2)
    keys = (edges[:, :, 0].astype(np.int64) << 32) + edges[:, :, 1]
    _, place, count = np.unique(keys.ravel(), return_inverse=True, return_counts=True)
    return np.asarray((count[place] == 1).reshape(-1, 3).any(axis=1))


def of_the_body(mesh: Mesh, skeleton: Skeleton, roles: RoleMap) -> np.ndarray:
    """Which triangles ``(m,)`` are skin that clothes lie on: not what swings on bones of its own, as coat tails do."""
    own = {*roles.bones.values(), *roles.helpers}
    # A bone of its own hangs below one with a role; what hangs on a hand or the head is a finger or the face.
    kind = np.zeros(len(skeleton), dtype=bool)
    still = {bone for role, bone in roles.bones.items() if role.startswith(("hand", "head", *_HEAD, "thumb", *FINGERS))}
    for bone, parent in enumerate(skeleton.parents.tolist()):
        if parent in still:
            still.add(bone)
        swings = bone not in own and bone not in still and not any(bone in _above(skeleton, one) for one in own)
        kind[bone] = swings
    return np.asarray((mesh.weights * kind[mesh.joints]).sum(axis=1)[mesh.triangles].max(axis=1) < _SWINGS)


def _above(skeleton: Skeleton, bone: int) -> set[int]:
    out = set()
    while bone >= 0:
        out.add(bone)
        bone = int(skeleton.parents[bone])
    return out


def worn_by_shape(figure: Figure, roles: RoleMap) -> Wearing:
    """What is worn, found from the shape: what hangs together by itself and lies around the body for the most part.

    The body is the largest piece that is half as tall as all at least.
    """
    numbers = [np.full(len(mesh.triangles), NEITHER) for mesh in figure.meshes]
    nothing = Wearing(figure, tuple(numbers), ())
    if not figure.meshes:
        return nothing
    points, firsts = figure.rest_points, nothing.firsts
    triangles = np.concatenate([mesh.triangles + first for mesh, first in zip(figure.meshes, firsts, strict=False)])
    shape = Shape.of(points, triangles)
    shell = shape.shell[triangles[:, 0]]
    count, height = int(shape.shell.max()) + 1, figure.height_m
    a, b, c = (points[triangles[:, corner]] for corner in range(3))
    area = np.bincount(shell, 0.5 * np.linalg.norm(np.cross(b - a, c - a), axis=1), count)
    low, high = np.full((count, 3), np.inf), np.full((count, 3), -np.inf)
    np.minimum.at(low, shape.shell, points)
    np.maximum.at(high, shape.shell, points)
    extent = np.where(area[:, None] > 0.0, high - low, 0.0)
    tall = extent[:, 1] > _TALL * height
    if not tall.any():
        return nothing
    body = int(np.argmax(area * tall))
    head = {roles.bones["head"]} if "head" in roles.bones else set()
    head |= {bone for bone in range(len(figure.skeleton)) if head & _above(figure.skeleton, bone)}
    held = _share_on(figure, sorted(head))
    on_head = np.bincount(shape.shell, held, count) / np.maximum(np.bincount(shape.shell, minlength=count), 1)
    skin = Surface(points, triangles[shell == body])
    names: dict[int, int] = {}
    found = np.full(count, NEITHER)
    found[body] = SKIN
    mesh_of = np.repeat(np.arange(len(figure.meshes)), [len(mesh.triangles) for mesh in figure.meshes])
    for one in np.flatnonzero((extent.max(axis=1) > _SMALL * height) & (on_head < _OF_THE_HEAD)).tolist():
        if one == body:
            continue
        near = skin.nearest(points[shape.shell == one][:4000])
        heights = near.height_m[np.isfinite(near.height_m)]
        if not len(heights):
            continue
        off, large = float(np.median(np.abs(heights))), float(extent[one].max()) > _LARGE * height
        outside = np.mean(heights > 0.0) > _OUTSIDE or (large and off < _SWALLOWED * height)
        if outside and off < _AROUND * height:
            found[one] = names.setdefault(int(mesh_of[np.flatnonzero(shell == one)[0]]), len(names))
    split = np.cumsum([len(mesh.triangles) for mesh in figure.meshes])[:-1]
    return Wearing(figure, tuple(np.split(found[shell], split)), tuple(figure.meshes[mesh].name for mesh in names))


def _share_on(figure: Figure, bones: list[int]) -> Floats:
    return np.concatenate([(mesh.weights * np.isin(mesh.joints, bones)).sum(axis=1) for mesh in figure.meshes])
