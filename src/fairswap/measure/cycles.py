"""Clips that start over: after how many frames, a step further on, and how well a result does so.

The last frame of a cycle is the first one again, or comes one frame before it.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fairswap.measure.lead_in import lead_in_frames
from fairswap.model.arrays import Floats, Integers
from fairswap.model.chain_world import ChainWorld
from fairswap.model.clip import Clip
from fairswap.model.poses import EarlierPoses, Poses
from fairswap.model.rotation import (
    angle_between,
    conjugate,
    multiply,
    quaternion_from_axis_angle,
    rotate,
    rotation_vector,
)
from fairswap.model.space import UP
from fairswap.pose.rigged import RiggedFigure

# Nobody sees a joint jump by less than this, or the hips, in leg lengths.
_UNSEEN_DEGREES, _UNSEEN_M = 0.05, 0.001
# A last frame that comes before the first one is not further from it than so many of the frames around are apart.
_NEAR_STEPS = 2.5
# And it goes there as the motion does: the cosine between that step and those around it, of all joints together.
_FLOWS = 0.8
_SHORTEST = 5
# How far what is done to a frame reaches, seconds.
_REACH_S = 1.5
# Bounds the memory of a long clip.
_FRAMES_AT_ONCE = 2048


@dataclass(frozen=True, eq=False)
class Cycle:
    """How a clip starts over: after ``frames`` frames, turned by ``turn`` radians about the vertical through the origin
    and then moved by ``shift`` ``(3,)`` metres."""

    frames: int
    turn: float
    shift: Floats


@dataclass(frozen=True)
class Jump:
    """What jumps most where a clip starts over, against its source: by how many degrees, and its source by how many."""

    role: str
    degrees: float
    source_degrees: float

    @property
    def beyond_degrees(self) -> float:
        """By how much more than the source's."""
        return max(self.degrees - self.source_degrees, 0.0)


def cycle_of(rigged: RiggedFigure, clip: Clip) -> Cycle | None:
    """How a clip of a figure starts over; None if it does not, nothing moves, or something stands before the motion."""
    if clip.frames < _SHORTEST or clip.still or lead_in_frames(clip) or _ends_apart(rigged, clip.poses):
        return None
    seam = _Seen.of(rigged, _around_the_seam(clip.poses))
    unseen, unseen_m = np.radians(_UNSEEN_DEGREES), _UNSEEN_M * rigged.reference.leg_m
    steps, climbs = _steps(seam.turns), np.diff(seam.place[:, 1:2], axis=0)
    apart, ways = (np.linalg.norm(rows, axis=-1) for rows in (steps, np.diff(seam.joints, axis=1)))
    if (apart[:, 1] <= unseen).all() and (ways[:, 1] <= unseen_m).all() and abs(climbs[1, 0]) <= unseen_m:
        return _cycle(seam, clip.frames - 1, last_is_first=True)
    # The last frame comes before the first, on the way that it was on, as evenly as any other before its next one.
    near = [rows[:, 1] <= _NEAR_STEPS * rows[:, [0, 2]].max(axis=1) + least
            for rows, least in ((apart, unseen), (ways, unseen_m))]  # fmt: skip
    if not np.all(near) or not _flows(steps):
        return None
    most, most_m = _most_uneven(rigged, clip.poses)
    evenly, level = _unevenness(steps)[:, 0] <= most + unseen, _unevenness(climbs)[0] <= most_m + unseen_m
    return _cycle(seam, clip.frames, last_is_first=False) if evenly.all() and level else None


def continued(rigged: RiggedFigure, clip: Clip, cycle: Cycle) -> tuple[Clip, int]:
    """A cycle with more of it before and after, as if it was played over and over: as far as what is done to a frame
    depends on those around it. And how many frames stand before it now."""
    hips, before = rigged.roles.bones["hips"], round(_REACH_S * float(clip.rate))
    index = np.arange(-before, clip.frames + before)
    rounds = np.where((index >= 0) & (index < clip.frames), 0, index // cycle.frames)
    poses = clip.poses.picked(index - rounds * cycle.frames)
    chain = ChainWorld(poses)
    turns, shifts = _after(cycle, rounds)
    rotation, place = multiply(turns, chain.rotation(hips)), rotate(turns, chain.position(hips)) + shifts
    parent = int(poses.skeleton.parents[hips])
    if parent >= 0:
        above = conjugate(chain.rotation(parent))
        rotation, place = multiply(above, rotation), rotate(above, place - chain.position(parent))
    edit = poses.edit()
    edit.rotation_tracks[hips] = rotation.T
    edit.translations[hips] = np.ascontiguousarray(place.T)
    return clip.with_poses(edit.poses(stretches=poses.stretches)), before


def jump_of_cycle(source: RiggedFigure, clip: Clip, result: RiggedFigure, poses: Poses | EarlierPoses) -> Jump | None:
    """What jumps most where a result starts over, against its source; None where that does not start over."""
    cycle = cycle_of(source, clip)
    if cycle is None:
        return None
    jumps = []
    for rigged, own in ((source, clip.poses), (result, poses)):
        seen = _Seen.of(rigged, _around_the_seam(own))
        steps = np.linalg.norm(_steps(seen.turns), axis=-1)
        off = steps[:, 1]
        if cycle.frames == clip.frames:  # between the last frame and the first there is a step
            off = np.maximum(off - steps[:, [0, 2]].max(axis=1), 0.0)
        jumps.append(dict(zip(seen.roles, np.degrees(off).tolist(), strict=True)))
    found = [Jump(role, degrees, jumps[0].get(role, 0.0)) for role, degrees in jumps[1].items()]
    return max(found, key=lambda jump: jump.beyond_degrees)


@dataclass(frozen=True, eq=False)
class _Seen:
    """How each role is turned, and where its joint is, seen from the hips, ``(roles, frames, 4)`` and ``(…, 3)``; for
    the hips how they are from the way they head. Where they are ``(frames, 3)``, and which way that is, radians."""

    roles: tuple[str, ...]
    turns: Floats
    joints: Floats
    place: Floats
    heading: Floats

    @classmethod
    def of(cls, rigged: RiggedFigure, chain: ChainWorld) -> _Seen:
        hips = rigged.roles.bones["hips"]
        turned = multiply(chain.rotation(hips), conjugate(rigged.reference.rotations[hips]))
        heading = np.unwrap(2.0 * np.arctan2(turned[:, 1], turned[:, 3]))  # the twist about the vertical
        inverse, place = conjugate(chain.rotation(hips)), chain.position(hips)
        bones = {role: bone for role, bone in rigged.roles.bones.items() if role not in ("hips", "root")}
        turns = [multiply(quaternion_from_axis_angle(UP, -heading), turned),
                 *(multiply(inverse, chain.rotation(bone)) for bone in bones.values())]  # fmt: skip
        joints = [rotate(inverse, chain.position(bone) - place) for bone in (hips, *bones.values())]
        return cls(("hips", *bones), np.stack(turns), np.stack(joints), place, heading)


def _ends_apart(rigged: RiggedFigure, poses: Poses) -> bool:
    """Whether a joint is so far from its first turn at the end that there is no need to look closer."""
    joints = [bone for role, bone in rigged.roles.bones.items() if role not in ("hips", "root")]
    ends = poses.rotation_tracks[:, :, [-2, -1, 0, 1]][joints]  # few frames first: of a long clip that is no copy
    steps = angle_between(ends[:, :, :-1].swapaxes(1, 2), ends[:, :, 1:].swapaxes(1, 2))
    return bool((steps[:, 1] > np.radians(1.0) + 2.0 * _NEAR_STEPS * steps[:, [0, 2]].max(axis=1)).any())


def _around_the_seam(poses: Poses | EarlierPoses) -> ChainWorld:
    """The last two frames and then the first two."""
    whole = poses.poses() if isinstance(poses, EarlierPoses) else poses
    last = whole.frames - 1
    return ChainWorld(whole.picked(np.array([max(last - 1, 0), last, 0, min(1, last)])))


def _steps(turns: Floats) -> Floats:
    """From frame to frame, as rotation vectors ``(roles, frames - 1, 3)``."""
    return rotation_vector(multiply(turns[:, 1:], conjugate(turns[:, :-1])))


def _flows(steps: Floats) -> bool:
    """Whether the middle one of three steps ``(roles, 3, 3)`` goes where the others do: what only shakes does not."""
    onward, around = steps[:, 1].ravel(), (steps[:, 0] + steps[:, 2]).ravel()
    return bool(onward @ around > _FLOWS * np.linalg.norm(onward) * np.linalg.norm(around))


def _unevenness(steps: Floats) -> Floats:
    """How far each step ``(..., steps, n)`` but the outer ones is from the mean of those beside it."""
    return np.linalg.norm(steps[..., 1:-1, :] - 0.5 * (steps[..., :-2, :] + steps[..., 2:, :]), axis=-1)


def _most_uneven(rigged: RiggedFigure, poses: Poses) -> tuple[Floats, float]:
    """How uneven each role's steps ``(roles,)`` ever are, and those of the hips' height, metres."""
    turns, climbs = [], []
    for start in range(0, poses.frames - 3, _FRAMES_AT_ONCE):
        seen = _Seen.of(rigged, ChainWorld(poses.picked(slice(start, start + _FRAMES_AT_ONCE + 3))))
        turns.append(_unevenness(_steps(seen.turns)).max(axis=1))
        climbs.append(_unevenness(np.diff(seen.place[:, 1:2], axis=0)).max())
    return np.max(turns, axis=0), float(np.max(climbs))


def _cycle(seam: _Seen, frames: int, *, last_is_first: bool) -> Cycle:
    """The cycle that has this seam. Where its last frame comes before its first, it goes there as it goes around it."""
    turn, place = seam.heading[1], seam.place[1]
    if not last_is_first:
        turn = turn + 0.5 * (np.diff(seam.heading)[[0, 2]]).sum()
    about = quaternion_from_axis_angle(UP, turn - seam.heading[2])
    if not last_is_first:
        place = place + 0.5 * (place - seam.place[0] + rotate(about, seam.place[3] - seam.place[2]))
    return Cycle(frames, float(turn - seam.heading[2]), (place - rotate(about, seam.place[2])) * [1.0, 0.0, 1.0])


def _after(cycle: Cycle, rounds: Integers) -> tuple[Floats, Floats]:
    """The turns ``(n, 4)`` and shifts ``(n, 3)`` after so many rounds of a cycle; before it they are negative."""
    once = quaternion_from_axis_angle(UP, cycle.turn)
    shifts = {0: np.zeros(3)}
    for n in range(1, int(np.abs(rounds).max(initial=0)) + 1):
        shifts[n] = rotate(once, shifts[n - 1]) + cycle.shift
        shifts[-n] = rotate(conjugate(once), shifts[1 - n] - cycle.shift)
    return quaternion_from_axis_angle(UP, cycle.turn * rounds), np.array([shifts[n] for n in rounds.tolist()])
