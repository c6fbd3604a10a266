"""Where a clip stands and faces: move it over the ground, begin at the origin, face ahead."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from fairswap.clips.features import carrier_of, carrier_world, heading_of, world_above
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.rotation import conjugate, multiply, quaternion_from_axis_angle, rotate
from fairswap.model.space import UP


def carriers_of(*clips: Clip) -> tuple[int, int]:
    """By which bone it is told where several clips of one skeleton are, and which bone moves them all.

    One may travel on its root, another on its hips: the hips tell where the body is in both, and the root takes it
    along.
    """
    carriers = [carrier_of(clip.poses) for clip in clips]
    told_by, moved_by = max(carriers), min(carriers)
    return told_by, moved_by if moved_by in clips[0].skeleton.with_ancestors([told_by]) else told_by


def moved_over_ground(clip: Clip, turn: ArrayLike, shift: ArrayLike, carrier: int | None = None) -> Clip:
    """The clip turned about the vertical by ``turn`` radians (about the origin), then shifted by ``shift`` metres.

    Both are one value, or one for each frame: ``()`` or ``(frames,)``, and ``(3,)`` or ``(frames, 3)``. ``carrier`` is
    the bone that is moved, if not the one that carries the clip.
    """
    poses, frames = clip.poses, clip.frames
    about = quaternion_from_axis_angle(UP, np.broadcast_to(np.asarray(turn, dtype=np.float64), (frames,)))
    carrier = carrier_of(poses) if carrier is None else carrier
    # What is above the carrier stays: a root that does not travel is where it always was.
    above_rotation, above_position = world_above(poses, carrier)
    rotation, position = carrier_world(poses, carrier)
    undo = conjugate(above_rotation)
    edit = poses.edit()
    edit.rotation_tracks[carrier] = multiply(undo, multiply(about, rotation)).T
    moved = rotate(about, position) + np.asarray(shift, dtype=np.float64)
    edit.translations[carrier] = rotate(undo, moved - above_position).T
    return clip.with_poses(edit.poses(), keyed=clip.keyed | {carrier})


def stand_of(clip: Clip, frame: int, carrier: int | None = None) -> tuple[float, Floats]:
    """Heading (radians, against how the carrier rests) and place over the ground ``(3,)`` in one frame."""
    rotation, position = carrier_world(clip.poses, carrier)
    return float(heading_of(clip.poses, rotation, carrier)[frame]), position[frame] * [1.0, 0.0, 1.0]


@dataclass(frozen=True)
class Spot:
    """A place on the floor, metres to the left and ahead of the origin, and which way the body faces there, degrees to
    the left of ahead."""

    left_m: float
    ahead_m: float
    facing_degrees: float


def spot_of(clip: Clip, frame: int, carrier: int | None = None) -> Spot:
    """Where the body stands in one frame; -1 is the last."""
    heading, place = stand_of(clip, frame, carrier)
    return Spot(round(float(place[0]), 4), round(float(place[2]), 4), round(float(np.degrees(heading)), 2))


def placed_after(clip: Clip, other: Clip) -> Clip:
    """The clip beginning where another one ends, and facing as that does."""
    heading, place = stand_of(other, other.frames - 1)
    return placed(clip, place[[0, 2]], float(np.degrees(heading)))


def placed(clip: Clip, at: ArrayLike = (0.0, 0.0), facing_degrees: float | None = 0.0) -> Clip:
    """The clip beginning at ``at`` (metres, to the left and ahead), facing ``facing_degrees`` to the left of ahead;
    None leaves the heading."""
    heading, spot = stand_of(clip, 0)
    turn = 0.0 if facing_degrees is None else np.radians(facing_degrees) - heading
    x, z = np.asarray(at, dtype=np.float64)
    about = quaternion_from_axis_angle(UP, turn)
    return moved_over_ground(clip, turn, np.array([x, 0.0, z]) - rotate(about, spot))
