"""The surface of the body, part by part: where a hand is, told by part, height, direction and distance.

A part has an axis along a bone with a radius for each height and direction, taken from the mesh in the T (without a
mesh from usual proportions). The same place on another body is the same part, height and direction, at the same
distance.
"""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise

import numpy as np

from fairswap.bones.roles import SIDES
from fairswap.model.arrays import Floats
from fairswap.model.caching import kept_with_its_argument
from fairswap.model.chain_world import ChainWorld
from fairswap.model.mesh import deformed_vertices
from fairswap.model.rotation import conjugate, rotate
from fairswap.model.space import UP
from fairswap.pose.rigged import RiggedFigure

_HEIGHTS, _DIRECTIONS = 6, 16
# What is so many times as far from the axis as what is next inside it, and this share of the part's length more, hangs
# loose about the body, as capes and wings do. What is inside are some vertices, and no thinner than a body is, as a
# share of what is usual.
_LOOSE, _LOOSE_SHARE, _FEWEST, _THIN = 1.5, 0.05, 3, 0.4
# Pieces of a body are in each other, too: that is worn which is further out than bodies usually are, or of a mesh that
# mostly is loose.
_BROAD, _MOSTLY = 1.3, 0.7
# Where nothing else is seen, no body is so many times as far out as at most places of its height.
_FAR_OUT = 2.5
# Without a mesh: radius as a share of the part's length.
_USUAL = {"pelvis": 0.62, "chest": 0.55, "head": 0.42, "thigh": 0.19, "arm": 0.15}


@dataclass(frozen=True, eq=False)
class BodyPart:
    """A part of the body's surface, in the frame of its bone: axis from ``base`` along ``along`` (metres long), and two
    directions square to it, ``ahead`` first. ``radius`` is ``(heights, directions)``, metres."""

    part: str
    bone: int
    base: Floats
    along: Floats
    ahead: Floats
    aside: Floats
    radius: Floats

    def coordinates(self, points: Floats, chain: ChainWorld) -> tuple[Floats, Floats, Floats]:
        """Height (share of the length), direction (radians) and distance from the surface (metres) of world points
        ``(…, frames, 3)``."""
        local = rotate(conjugate(chain.rotation(self.bone)), points - chain.position(self.bone)) - self.base
        length = float(np.linalg.norm(self.along))
        height = local @ self.along / length**2
        square = local - height[..., None] * self.along
        direction = np.arctan2(square @ self.aside, square @ self.ahead)
        return height, direction, np.linalg.norm(square, axis=-1) - self._radius(height, direction)

    def points(self, height: Floats, direction: Floats, distance: Floats, chain: ChainWorld) -> Floats:
        """The way back: world points ``(frames, 3)``."""
        out = self._radius(height, direction) + distance
        local = self.base + height[:, None] * self.along
        local = local + out[:, None] * (
            np.cos(direction)[:, None] * self.ahead + np.sin(direction)[:, None] * self.aside
        )
        return rotate(chain.rotation(self.bone), local) + chain.position(self.bone)

    def _radius(self, height: Floats, direction: Floats) -> Floats:
        at = np.clip(height, 0.0, 1.0) * (_HEIGHTS - 1)
        low = np.minimum(at.astype(np.intp), _HEIGHTS - 2)
        around = (direction / (2 * np.pi) % 1.0) * _DIRECTIONS
        first = around.astype(np.intp) % _DIRECTIONS
        second = (first + 1) % _DIRECTIONS
        up, on = at - low, around - np.floor(around)
        r = self.radius
        below = r[low, first] * (1 - on) + r[low, second] * on
        above = r[low + 1, first] * (1 - on) + r[low + 1, second] * on
        return np.asarray(below * (1 - up) + above * up)


@kept_with_its_argument
def surface_of(rigged: RiggedFigure) -> list[BodyPart]:
    """The parts of a figure's surface: pelvis and belly, chest, head, and both thighs."""
    roles, world = rigged.roles, rigged.reference_world
    at = {role: world.positions[0, bone] for role, bone in roles.bones.items()}
    spine, neck = roles.chain("spine"), roles.chain("neck")
    shoulders = 0.5 * (at["upper_arm_left"] + at["upper_arm_right"])
    top = at[neck[0]] if neck else shoulders
    middle = at["hips"] + 0.5 * (top - at["hips"])
    crown = at["head"] + 0.9 * np.linalg.norm(top - at["hips"]) * 0.45 * UP
    seat = 0.5 * (at["upper_leg_left"] + at["upper_leg_right"])
    seat = seat - 0.25 * (at["hips"] - seat)
    torso = {"hips", *spine, "shoulder_left", "shoulder_right"}
    rows = [
        ("pelvis", "hips", seat, middle, torso),
        ("chest", spine[-1], middle, top, torso),
        ("head", "head", at["head"], crown, {"head", "jaw", "eye_left", "eye_right"}),
    ]
    rows += [
        ("thigh", f"upper_leg_{side}", at[f"upper_leg_{side}"], at[f"lower_leg_{side}"], {f"upper_leg_{side}"})
        for side in SIDES
    ]
    return _body_parts(rigged, rows)


@kept_with_its_argument
def arms_of(rigged: RiggedFigure) -> dict[str, list[BodyPart]]:
    """The surfaces of both arms, by side: upper arm and forearm, which the other hand may touch."""
    roles, world = rigged.roles, rigged.reference_world
    found = {}
    for side in SIDES:
        joints = [(f"{part}_{side}", world.positions[0, roles.bones[f"{part}_{side}"]])
                  for part in ("upper_arm", "lower_arm", "hand")]  # fmt: skip
        rows = [("arm", role, start, end, {role}) for (role, start), (_, end) in pairwise(joints)]
        found[side] = _body_parts(rigged, rows)
    return found


def touchable_by(rigged: RiggedFigure, side: str) -> list[BodyPart]:
    """What the hand of a side may touch of the own body: the trunk, the thighs, and the other arm."""
    other = next(name for name in SIDES if name != side)
    return [*surface_of(rigged), *arms_of(rigged)[other]]


def _body_parts(rigged: RiggedFigure, rows: list[tuple[str, str, Floats, Floats, set[str]]]) -> list[BodyPart]:
    owners, vertices = owned_vertices(rigged)
    meshes = np.repeat(np.arange(len(rigged.figure.meshes)), [len(mesh.vertices) for mesh in rigged.figure.meshes])
    role_of = {bone: role for role, bone in rigged.roles.bones.items()}
    own = [_owned(owners, role_of, owned) for *_, owned in rows]
    around = [
        _Around.of(part, start, end, vertices[held], meshes[held])
        for (part, _, start, end, _), held in zip(rows, own, strict=True)
    ]
    worn = {mesh for one in around for mesh in one.worn()}
    return [
        _body_part(rigged, rigged.roles.bones[role], one, one.radius(worn))
        for (_, role, *_), one in zip(rows, around, strict=True)
    ]


@kept_with_its_argument
def owned_vertices(rigged: RiggedFigure) -> tuple[np.ndarray, Floats]:
    """All vertices in the T with the bone that holds each most, bones without a role giving way to those above."""
    owners, places = [np.empty(0, dtype=np.intp)], [np.empty((0, 3))]
    for mesh in rigged.figure.meshes:
        owners.append(mesh.main_bones)
        places.append(deformed_vertices(mesh, rigged.reference_world, 0))
    return np.concatenate(owners), np.concatenate(places)


def _owned(owners: np.ndarray, role_of: dict[int, str], wanted: set[str]) -> np.ndarray:
    bones = [bone for bone, role in role_of.items() if role in wanted]
    return np.isin(owners, bones)


@dataclass(frozen=True, eq=False)
class _Around:
    """The vertices around an axis, sorted by the ``cells`` they are in and by how ``far`` they are from it, metres."""

    part: str
    start: Floats
    along: Floats
    ahead: Floats
    aside: Floats
    cells: np.ndarray
    far: Floats
    meshes: np.ndarray

    @classmethod
    def of(cls, part: str, start: Floats, end: Floats, vertices: Floats, meshes: np.ndarray) -> _Around:
        along = end - start
        length = float(np.linalg.norm(along))
        unit = along / length
        ahead = np.array([0.0, 0.0, 1.0]) - unit[2] * unit
        ahead = ahead / np.linalg.norm(ahead)
        aside = np.cross(unit, ahead)
        height = (vertices - start) @ unit / length
        square = vertices - start - (height * length)[:, None] * unit
        direction = np.arctan2(square @ aside, square @ ahead) / (2 * np.pi) % 1.0
        row = np.round(height * (_HEIGHTS - 1)).astype(np.intp)
        column = np.round(direction * _DIRECTIONS).astype(np.intp) % _DIRECTIONS
        inside = (row >= 0) & (row < _HEIGHTS)
        cells, far = (row * _DIRECTIONS + column)[inside], np.linalg.norm(square[inside], axis=1)
        order = np.lexsort((far, cells))
        return cls(part, start, along, ahead, aside, cells[order], far[order], meshes[inside][order])

    @property
    def usual(self) -> float:
        """The radius that is usual, metres."""
        return _USUAL[self.part] * float(np.linalg.norm(self.along))

    @cached_property
    def loose(self) -> np.ndarray:
        """Which vertices are beyond a gap."""
        _, first, count = np.unique(self.cells, return_index=True, return_counts=True)
        place, inner = np.arange(len(self.far)) - np.repeat(first, count), np.roll(self.far, 1)
        gap = (place >= _FEWEST) & (inner > _THIN * self.usual)
        gap &= self.far > _LOOSE * inner + _LOOSE_SHARE * float(np.linalg.norm(self.along))
        begins = np.minimum.reduceat(np.where(gap, place, len(self.far)), first) if len(first) else first
        return np.asarray(place >= np.repeat(begins, count))

    def worn(self) -> list[int]:
        """The meshes most vertices of which are beyond a gap."""
        here, there = np.bincount(self.meshes), np.bincount(self.meshes, self.loose)
        return np.flatnonzero((here > 0) & (there > _MOSTLY * here)).tolist()

    def radius(self, worn: Collection[int]) -> Floats:
        """For each height and direction the radius that 85 of 100 vertices of the body keep within; as in most places
        where none are."""
        body = ~np.isin(self.meshes, list(worn))
        of_usual_size = self.part != "head"  # that may be of any size, and has eyes and teeth inside
        if of_usual_size:
            body &= ~(self.loose & (self.far > _BROAD * self.usual))
        radius, far = np.full((_HEIGHTS, _DIRECTIONS), np.nan), self.far[body]
        found, first, count = np.unique(self.cells[body], return_index=True, return_counts=True)
        radius.ravel()[found] = far[first + (0.85 * (count - 1)).astype(np.intp)]
        for ring in radius if of_usual_size else ():
            known = ring[np.isfinite(ring)]
            if len(known):
                ring[ring > _FAR_OUT * max(float(np.median(known)), self.usual)] = np.nan
        known = np.isfinite(radius)
        radius[~known] = np.median(radius[known]) if known.any() else self.usual
        return radius


def _body_part(rigged: RiggedFigure, bone: int, around: _Around, radius: Floats) -> BodyPart:
    undo = conjugate(rigged.reference.rotations[bone])
    base = around.start - rigged.reference_world.positions[0, bone]
    turned = [rotate(undo, way) for way in (base, around.along, around.ahead, around.aside)]
    return BodyPart(around.part, bone, turned[0], turned[1], turned[2], turned[3], radius)
