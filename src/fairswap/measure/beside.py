"""Bones without a role, judged: tails, skirts, ears and twist bones of one family do as the source's do."""

from __future__ import annotations

from collections.abc import Container, Iterable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from fairswap.bones.roles import next_roles, part_of
from fairswap.measure.verdict import part_of_body
from fairswap.model.arrays import Floats, Integers
from fairswap.model.poses import EarlierPoses, Poses
from fairswap.model.rotation import IDENTITY, angle_between, conjugate, multiply, normalized, rotate, swing_twist
from fairswap.pose.rigged import RiggedFigure

# What is off by less than this nobody sees.
_SEEN_DEGREES, _SEEN_CM = 1.0, 0.5
# A bone shorter than this part of the leg is put where it is; one that is longer goes as far as it is long.
_LONG = 0.01


@dataclass(frozen=True)
class BoneBeside:
    """How far a bone without a role is off, degrees: the root of its mean square over time, and at worst, when; and how
    far its joint is from where it should be against its parent, centimetres on the result.

    ``part`` is the part of the body that it hangs on.
    """

    bone: str
    part: str
    rms_degrees: float
    worst_degrees: float
    worst_at_s: float
    rms_cm: float = 0.0
    worst_cm: float = 0.0


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
    moved = poses[0].translation_by_bone(), poses[1].translation_by_bone()
    for both in bones:
        whole = both[1] in moving
        turns = [_turned(rigged, own, bone, whole) for rigged, own, bone in zip(pair, poses, both, strict=True)]
        off = np.degrees(angle_between(*turns))
        apart = 100.0 * _apart(pair, moved, both, len(off))
        worst = int(np.argmax(off))
        if off[worst] > _SEEN_DEGREES or apart.max() > _SEEN_CM:
            name, part = pair[1].skeleton.labels[both[1]], _part(pair[1], both[1])
            degrees, cm = (float(np.sqrt(np.mean(far**2))) for far in (off, apart))
            row = BoneBeside(name, part, degrees, float(off[worst]), worst / rate, cm, float(apart.max()))
            found.append(row)
    return tuple(sorted(found, key=lambda row: -row.rms_degrees))


def _apart(
    pair: tuple[RiggedFigure, RiggedFigure], moved: tuple[Mapping[int, Floats], ...], both: tuple[int, int], frames: int
) -> Floats:
    """How far the joint of a result's bone is from where the source's goes ``(frames,)``, metres.

    What a joint goes may be told by how long its bone is, or by how large its figure is: the nearer counts.
    """
    ways = [_shifted(rigged, tracks, bone) for rigged, tracks, bone in zip(pair, moved, both, strict=True)]
    if ways[0] is None and ways[1] is None:
        return np.zeros(frames)
    there, got = (np.zeros((frames, 3)) if way is None else way for way in ways)
    legs = [rigged.reference.leg_m for rigged in pair]
    long = [
        float(np.linalg.norm(rigged.skeleton.rest_translations[bone])) for rigged, bone in zip(pair, both, strict=True)
    ]
    sizes = [legs[1] / legs[0]]
    if long[0] > _LONG * legs[0] and long[1] > _LONG * legs[1]:
        sizes.append(long[1] / long[0])
    return np.min([np.linalg.norm(got - size * there, axis=1) for size in sizes], axis=0)


def _shifted(rigged: RiggedFigure, tracks: Mapping[int, Floats], bone: int) -> Floats | None:
    """How far a bone is from where it rests against its parent ``(frames, 3)``, along the axes of the world in the
    reference pose, metres; None if it is where it rests."""
    if bone not in tracks:
        return None
    away = tracks[bone].T - rigged.skeleton.rest_translations[bone]
    return rotate(_above(rigged, bone), away)


def restless_bones(
    rigged: RiggedFigure, poses: Poses | EarlierPoses, bones: Integers | Sequence[int]
) -> list[tuple[str, float, float]]:
    """Bones that leave their rest, by how many degrees and centimetres at most, the worst first."""
    tracks, found = poses.translation_by_bone(), []
    for bone in bones:
        degrees = float(np.degrees(angle_between(_turned(rigged, poses, bone), IDENTITY).max()))
        away = _shifted(rigged, tracks, bone)
        cm = 0.0 if away is None else 100.0 * float(np.linalg.norm(away, axis=1).max())
        if degrees > _SEEN_DEGREES or cm > _SEEN_CM:
            found.append((rigged.skeleton.labels[bone], degrees, cm))
    return sorted(found, key=lambda row: (-row[1], -row[2]))


def _turned(rigged: RiggedFigure, poses: Poses | EarlierPoses, bone: int, whole: bool = False) -> Floats:
    """How a bone has turned from its rest against its parent ``(frames, 4)``, along the axes of the world in the
    reference pose; if not ``whole``, without a share of the twist of the limb that it sits on."""
    above, parent = _above(rigged, bone), int(rigged.skeleton.parents[bone])
    local = multiply(poses.rotation_track(bone).T, conjugate(rigged.resting_rotations[bone]))
    along = None if whole else _length_of_limb(rigged, parent)
    if along is not None:
        local, _ = swing_twist(local, along)
    return multiply(multiply(above, local), conjugate(above))


def _above(rigged: RiggedFigure, bone: int) -> Floats:
    """How a bone's parent is turned in the reference pose."""
    parent = int(rigged.skeleton.parents[bone])
    return rigged.reference.rotations[parent] if parent >= 0 else np.array(IDENTITY)


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
