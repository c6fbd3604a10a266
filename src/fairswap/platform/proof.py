"""Looks the same, proven: the mesh in motion before and after fitting, vertex by vertex."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from fairswap.bones.roles import RoleMap, part_of
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.mesh import deformed_vertices

_FRAMES = 24


@dataclass(frozen=True, eq=False)
class Proof:
    """How far vertices are from where they were, in millimetres, over frames of clips.

    ``parts`` are mean and worst by body part; ``vertices`` the mean of each vertex of each mesh, for the picture.
    """

    mean_mm: float
    worst_mm: float
    parts: dict[str, tuple[float, float]]
    vertices: tuple[Floats, ...] = field(repr=False, default=())


def prove(
    before: Figure, old_clips: Sequence[Clip], after: Figure, new_clips: Sequence[Clip], roles: RoleMap
) -> Proof | None:
    """Compare the moving meshes of two figures; None where vertices do not correspond.

    ``roles`` are those of ``before``; each vertex belongs to the part of the bone that holds it most.
    """
    pairs = list(zip(before.meshes, after.meshes, strict=False))
    if (
        len(before.meshes) != len(after.meshes)
        or any(len(a.vertices) != len(b.vertices) for a, b in pairs)
        or not pairs
    ):
        return None
    sums = [np.zeros(len(mesh.vertices)) for mesh in before.meshes]
    worst = [np.zeros(len(mesh.vertices)) for mesh in before.meshes]
    count = 0
    for old, new in zip(old_clips, new_clips, strict=True):
        # Not evenly: moves of one length would be met at one moment each.
        fraction = np.modf(np.arange(_FRAMES) * 0.6180339887)[0]
        a, b = old.poses.at(fraction * (old.frames - 1)), new.poses.at(fraction * (new.frames - 1))
        worlds = a.world(), b.world()
        for frame in range(_FRAMES):
            count += 1
            for number, (mesh, other) in enumerate(pairs):
                there = deformed_vertices(mesh, worlds[0], frame, a, number)
                here = deformed_vertices(other, worlds[1], frame, b, number)
                apart = 1000.0 * np.linalg.norm(there - here, axis=1)
                sums[number] += apart
                np.maximum(worst[number], apart, out=worst[number])
    if not count:
        return None
    means = tuple(total / count for total in sums)
    part_of_bone = _parts(before, roles)
    rows: dict[str, list[tuple[Floats, Floats]]] = {}
    for mesh, mean, most in zip(before.meshes, means, worst, strict=True):
        held = part_of_bone[mesh.main_bones]
        for part in np.unique(held).tolist():
            rows.setdefault(part, []).append((mean[held == part], most[held == part]))
    parts = {
        part: (float(np.concatenate([m for m, _ in own]).mean()), float(np.concatenate([w for _, w in own]).max()))
        for part, own in rows.items()
    }
    return Proof(float(np.concatenate(means).mean()), float(max(w.max() for w in worst)), parts, means)


def _parts(figure: Figure, roles: RoleMap) -> np.ndarray:
    """The body part of each bone, by the nearest role above it."""
    skeleton = figure.skeleton
    role_of = {bone: role for role, bone in roles.bones.items()}
    out = []
    for bone in range(len(skeleton)):
        at = bone
        while at >= 0 and at not in role_of:
            at = int(skeleton.parents[at])
        out.append(part_of(role_of[at]) if at >= 0 else "trunk")
    return np.array(out)
