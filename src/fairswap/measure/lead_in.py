"""Frames before a motion that are no part of it: a T, or the rest pose, as recorders and exporters put it there."""

from __future__ import annotations

import numpy as np

from fairswap.errors import Finding
from fairswap.model.clip import Clip
from fairswap.model.rotation import angle_between

# The motion begins with a leap: a bone turns by this much from one frame to the next, and this many times as much as
# any does in the time after it. Until then the pose is held.
_LEAP_DEGREES, _LEAP_TIMES, _AFTER_S, _HELD_DEGREES = 15.0, 4.0, 3.0, 0.5
_LONGEST_S = 1.0


def lead_in_frames(clip: Clip) -> int:
    """How many frames stand before the motion and are no part of it: mostly none, or one."""
    rate = float(clip.rate)
    shown = clip.rotations[: round((_LONGEST_S + _AFTER_S) * rate) + 2]
    if clip.frames < 4:
        return 0
    steps = np.degrees(angle_between(shown[1:], shown[:-1])).max(axis=1)
    leaps = np.flatnonzero(steps[: round(_LONGEST_S * rate) + 1] >= _LEAP_DEGREES)
    if not len(leaps):
        return 0
    leap = int(leaps[0])
    after = steps[leap + 1 : leap + 1 + round(_AFTER_S * rate)]
    held = steps[:leap].max(initial=0.0) < _HELD_DEGREES
    apart = len(after) > 1 and steps[leap] >= _LEAP_TIMES * after.max()
    return leap + 1 if held and apart else 0


def lead_in_told(clip: Clip) -> list[Finding]:
    """What is worth telling of a clip that has a lead-in."""
    frames = lead_in_frames(clip)
    if not frames:
        return []
    turn = float(np.degrees(angle_between(clip.rotations[frames], clip.rotations[frames - 1])).max())
    what = "its first frame stands" if frames == 1 else f"its first {frames} frames stand"
    message = (
        f"{what} still, {turn:.0f} degrees away from the next one, and nothing moves like that after it: probably a "
        "rest pose before the motion. It counts neither for contacts nor for the verdict"
    )
    return [Finding("lead-in", "warning", clip.name, message)]
