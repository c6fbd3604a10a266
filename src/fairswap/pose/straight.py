"""A figure that rests in mid-motion, bent and twisted as it fights or runs, stands as in the straightest moment of its
clips: what its trunk, head and toes do at rest is no anatomy."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from fairswap.bones.roles import SIDES, RoleMap
from fairswap.errors import FairSwapError, Finding
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.rotation import angle_between, normalized
from fairswap.model.signals import frames_across
from fairswap.model.skeleton import WorldTransforms
from fairswap.pose.choice import AUTO, PoseChoice
from fairswap.pose.rest import STANDING_DEGREES, can_stand, stance_of
from fairswap.pose.rigged import RiggedFigure

# So many frames of each clip are looked at.
_LOOKED_AT = 12
# Beyond these a trunk is twisted, and arms are unlike: degrees.
_TWISTED_DEGREES, _UNLIKE_DEGREES = 15.0, 40.0
# A moment is straight enough with this share, of its trunk, of what makes a rest pose one of mid-motion; the trunk is
# told by the first two of what may be bent.
_STRAIGHT, _OF_TRUNK = 0.6, 2


def straightened(rigged: RiggedFigure, clips: Sequence[Clip]) -> RiggedFigure:
    """The figure by the straightest moment of its ``clips``, if the pose its reference is worked out from is one of
    mid-motion and one of theirs is not; else itself."""
    if rigged.reference_choice.kind != AUTO.kind or _bends(rigged.base.world, rigged.roles).max() <= 1.0:
        return rigged
    found: list[tuple[float, int, Clip, int]] = []
    for clip in clips:
        frames = frames_across(clip.frames, _LOOKED_AT)
        world = clip.poses.at(frames).world()
        bends = _bends(world, rigged.roles)
        # Legs that are bent a little are straightened anyhow: which moment is best, the trunk tells.
        off = bends[:_OF_TRUNK].max(axis=0) + _unlike(world, rigged.roles)
        for index in np.flatnonzero((bends.max(axis=0) <= 1.0) & (off < _STRAIGHT)).tolist():
            if can_stand(world, rigged.roles, index):
                found.append((float(off[index]), len(found), clip, int(frames[index])))
    for _, _, clip, frame in sorted(found)[:1]:
        straight = replace(rigged, reference_choice=PoseChoice("frame", float(frame), clip=clip))
        try:
            _ = straight.reference
        except FairSwapError:
            return rigged
        return straight
    return rigged


def bends_told(rigged: RiggedFigure) -> list[Finding]:
    """A warning of a trunk that counts as straight though the pose that its reference is worked out from bends it."""
    twist, lean = _bends(rigged.base.world, rigged.roles)[:_OF_TRUNK, 0] * (_TWISTED_DEGREES, STANDING_DEGREES[0])
    if rigged.reference_choice.kind != AUTO.kind or (twist <= _TWISTED_DEGREES and lean <= STANDING_DEGREES[0]):
        return []
    message = (
        f"where it counts as standing, the trunk is twisted by {twist:.0f} degrees and leans by {lean:.0f}; no clip "
        f"shows it straight, so it is taken to be built like that"
    )
    return [Finding("trunk-bent", "warning", rigged.figure.name, message)]


def _bends(world: WorldTransforms, roles: RoleMap) -> Floats:
    """How far each frame is from standing straight, of what makes it one of mid-motion ``(6, frames)``: the twist and
    the lean of the trunk, and for each leg its slant and the bend of its knee."""
    hips, shoulders = (_across(world, roles, part) for part in ("upper_leg", "upper_arm"))
    twist = np.degrees(angle_between(hips, shoulders)) / _TWISTED_DEGREES
    return np.vstack([twist, stance_of(world.positions, roles) / STANDING_DEGREES[:, None]])


def _unlike(world: WorldTransforms, roles: RoleMap) -> Floats:
    """How far the arms are from mirroring each other ``(frames,)``: a small share of what bends count, to tell one who
    stands at ease from one who aims."""
    left = _across(world, roles, "upper_arm")
    arms = [
        normalized(
            world.positions[:, roles.bones[f"hand_{side}"]] - world.positions[:, roles.bones[f"upper_arm_{side}"]]
        )
        for side in SIDES
    ]
    mirrored = arms[1] - 2.0 * np.sum(arms[1] * left, axis=1, keepdims=True) * left
    return np.asarray(_STRAIGHT * np.degrees(angle_between(arms[0], mirrored)) / _UNLIKE_DEGREES)


def _across(world: WorldTransforms, roles: RoleMap, part: str) -> Floats:
    """From the right to the left of a pair of joints, level and unit ``(frames, 3)``."""
    left, right = (world.positions[:, roles.bones[f"{part}_{side}"]] for side in SIDES)
    return normalized((left - right) * [1.0, 0.0, 1.0])
