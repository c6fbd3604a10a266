"""Speed and direction of time: faster, slower, to a duration, backward."""

from __future__ import annotations

import numpy as np

from fairswap.clips.resampling import curved
from fairswap.errors import UsageError
from fairswap.model.clip import Clip
from fairswap.model.poses import check_amount


def at_speed(clip: Clip, factor: float) -> Clip:
    """The clip ``factor`` times as fast, at its own rate; first and last pose are kept.

    Slower, its new frames lie on curves through the old ones: on straight ways between them it would jerk at each.

    Raises
    ------
    UsageError
        If the factor is no positive number.
    """
    if not np.isfinite(factor) or factor <= 0.0:
        raise UsageError(f"a speed of {factor} is not possible", remedy="Give a number above zero: 2 is twice as fast")
    frames = max(round((clip.frames - 1) / factor) + 1, 2 if clip.frames > 1 else 1)
    check_amount(frames, len(clip.skeleton))
    at = np.linspace(0.0, clip.frames - 1, frames)
    return clip.with_poses(curved(clip.poses, at) if frames > clip.frames > 2 else clip.poses.at(at))


def lasting(clip: Clip, seconds: float) -> Clip:
    """The clip lasting ``seconds``, to the nearest frame.

    Raises
    ------
    UsageError
        If that is no time, or the clip has one frame only.
    """
    if not np.isfinite(seconds) or seconds <= 0.0:
        raise UsageError(f"a duration of {seconds} s is not possible", remedy="Give seconds above zero")
    if clip.frames < 2:
        raise UsageError(f"clip {clip.name!r} has one frame, which lasts no time")
    return at_speed(clip, clip.duration_s / seconds)


def reversed_clip(clip: Clip) -> Clip:
    """The clip backward."""
    return clip.with_poses(clip.poses.picked(slice(None, None, -1)))
