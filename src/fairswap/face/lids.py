"""Lids that are bones: how far they have to go to shut, told by the skin that hangs on them.

Where a bone stands says little of where the rim of its lid is: some stand on the rim and move, others in the middle of
the eye and turn.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from fairswap.bones.roles import SIDES
from fairswap.face.chart import Shape
from fairswap.face.geometry import FaceFrame
from fairswap.face.words import shape_name
from fairswap.model.arrays import Floats
from fairswap.model.figure import Figure

# Of the way between the rims, what the upper lid goes and what the lower one does.
_UPPER, _LOWER = 0.88, 0.12
# A vertex is of a lid if its bone holds it by so much; its rim are those of its edge.
_HELD, _RIM = 0.5, 8.0
# A lid turns if its rim is this much further ahead of its bone than the eye is open.
_TURNS = 0.8


@dataclass(frozen=True)
class _Lid:
    """A lid by its bone: where that is, where the middle of its rim is, in metres, and how much of what the bone does
    the rim does."""

    bone: str
    joint: Floats
    rim: Floats
    follows: float


def with_lids_shut(figure: Figure, poses: Mapping[str, Shape], frame: FaceFrame) -> dict[str, Shape]:
    """The poses of a face's bones, with eye closures that bring the rims of its lids together."""
    out = dict(poses)
    for side in SIDES:
        unit = f"eye_closure_{side}"
        lids = _lids_of(figure, side)
        if lids is None:
            continue
        upper, lower = lids
        gap = float(upper.rim[1] - lower.rim[1])
        if gap <= 0.0:
            continue
        shape = out.get(unit, Shape(unit, {unit: 1.0}))
        bones = dict(shape.bones)
        for lid, share in ((upper, -_UPPER), (lower, _LOWER)):
            ahead, share = float(lid.rim[2] - lid.joint[2]), share / lid.follows
            if ahead > _TURNS * gap:
                bones[lid.bone] = (np.zeros(3), np.array([-np.degrees(share * gap / ahead), 0.0, 0.0]))
            else:
                move = bones.get(lid.bone, (np.zeros(3), np.zeros(3)))[0].copy()
                move[1] = share * gap / frame.size
                bones[lid.bone] = (move, np.zeros(3))
        out[unit] = replace(shape, bones=bones)
    return out


def _lids_of(figure: Figure, side: str) -> tuple[_Lid, _Lid] | None:
    """The upper and the lower lid of a side, of bones that are called so and hold skin."""
    found: dict[str, _Lid] = {}
    for bone in figure.skeleton.names:
        words = shape_name(bone)
        for which in ("upper", "lower"):
            if {"lid", which} <= words.notions and words.side == side:
                rim = _rim(figure, bone, which)
                if rim is not None:
                    joint = figure.skeleton.rest.positions[0, figure.skeleton.names.index(bone)]
                    found.setdefault(which, _Lid(bone, joint, *rim))
    return (found["upper"], found["lower"]) if len(found) == 2 else None


def _rim(figure: Figure, bone: str, which: str) -> tuple[Floats, float] | None:
    """The middle of the rim of a lid, and how much its bone holds it: of the skin that it holds, the lowest part of an
    upper lid, the highest of a lower one."""
    number, held, weights = figure.skeleton.names.index(bone), [], []
    for mesh, vertices in zip(figure.meshes, figure.rest_vertices, strict=True):
        weight = np.where(mesh.joints == number, mesh.weights, 0.0).sum(axis=1)
        held.append(vertices[weight > _HELD])
        weights.append(weight[weight > _HELD])
    points = np.concatenate(held) if held else np.zeros((0, 3))
    if len(points) < 4:
        return None
    edge = np.percentile(points[:, 1], _RIM if which == "upper" else 100.0 - _RIM)
    own = points[:, 1] <= edge if which == "upper" else points[:, 1] >= edge
    return np.asarray(points[own].mean(axis=0)), float(np.concatenate(weights)[own].mean())
