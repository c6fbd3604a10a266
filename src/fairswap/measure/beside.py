"""Bones without a role, judged: tails, skirts, ears and twist bones of one family do as the source's do."""

from __future__ import annotations

from collections.abc import Container, Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from fairswap.bones.roles import next_roles, part_of
from fairswap.measure.verdict import part_of_body
from fairswap.model.arrays import Floats, Integers
from fairswap.model.poses import EarlierPoses, Poses
from fairswap.model.rotation import IDENTITY, angle_between, conjugate, multiply, normalized, swing_twist
from fairswap.pose.rigged import RiggedFigure

# What is off by less than this nobody sees.
_SEEN_DEGREES = 1.0


@dataclass(frozen=True)
class BoneBeside:
    """How far a bone without a role is off, degrees: the root of its mean square over time, and at worst, when.

    ``part`` is the part of the body that it hangs on.
    """

    bone: str
    part: str
    rms_degrees: float
    worst_degrees: float
    worst_at_s: float


def bones_beside(
    pair: tuple[RiggedFigure, RiggedFigure],
    poses: tuple[Poses, Poses | EarlierPoses],
    rate: float,
    bones: Iterable[tuple[int, int]],
    moving: Container[int],
) -> tuple[BoneBeside, ...]:
    """The bones that are off, the worst first, of ``bones`` that are to do the same: of the source and of the result.

    What each does is how it has turned from its rest, against its parent, as seen in the reference poses. The poses of
    both are in the same frames; ``moving`` are the bones of the result whose partners move.
    """
    found = []
    for both in bones:
        whole = both[1] in moving
        turns = [_turned(rigged, own, bone, whole) for rigged, own, bone in zip(pair, poses, both, strict=True)]
        off = np.degrees(angle_between(*turns))
        worst = int(np.argmax(off))
        if off[worst] > _SEEN_DEGREES:
            name, rms = pair[1].skeleton.labels[both[1]], float(np.sqrt(np.mean(off**2)))
            found.append(BoneBeside(name, _part(pair[1], both[1]), rms, float(off[worst]), worst / rate))
    return tuple(sorted(found, key=lambda row: -row.rms_degrees))


def restless_bones(
    rigged: RiggedFigure, poses: Poses | EarlierPoses, bones: Integers | Sequence[int]
) -> list[tuple[str, float]]:
    """Bones that leave their rest, by how many degrees at most, the worst first."""
    names = rigged.skeleton.labels
    most = [(names[bone], float(np.degrees(angle_between(_turned(rigged, poses, bone), IDENTITY).max())))
            for bone in bones]  # fmt: skip
    return sorted((row for row in most if row[1] > _SEEN_DEGREES), key=lambda row: -row[1])


def _turned(rigged: RiggedFigure, poses: Poses | EarlierPoses, bone: int, whole: bool = False) -> Floats:
    """How a bone has turned from its rest against its parent ``(frames, 4)``, along the axes of the world in the
    reference pose; if not ``whole``, without a share of the twist of the limb that it sits on."""
    parent = int(rigged.skeleton.parents[bone])
    above = rigged.reference.rotations[parent] if parent >= 0 else IDENTITY
    local = multiply(poses.rotation_track(bone).T, conjugate(rigged.resting_rotations[bone]))
    along = None if whole else _length_of_limb(rigged, parent)
    if along is not None:
        local, _ = swing_twist(local, along)
    return multiply(multiply(above, local), conjugate(above))


def _length_of_limb(rigged: RiggedFigure, bone: int) -> Floats | None:
    """Where the limb goes that a bone is, in its own frame, unit; None if it is none."""
    role, bones = rigged.role_of_bone.get(bone, ""), rigged.roles.bones
    onward = next((bones[name] for name in next_roles(role) if name in bones), None)
    if part_of(role) not in ("arms", "legs") or onward is None:
        return None
    return normalized(rigged.skeleton.rest_translations[onward])


def _part(rigged: RiggedFigure, bone: int) -> str:
    while bone >= 0 and bone not in rigged.role_of_bone:
        bone = int(rigged.skeleton.parents[bone])
    role = rigged.role_of_bone.get(bone, "hips")
    return part_of_body(role, part_of(role))
