"""Trim idle heads and tails: before the motion begins and after it has ended, against the clip's own noise."""

from __future__ import annotations

import numpy as np

from fairswap.clips.features import speed_of
from fairswap.clips.spans import span_of
from fairswap.errors import Finding
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.rotation import angle_between

# Motion is what is this much of the clip's usual speed, and this much above its noise.
_SHARE, _ABOVE_NOISE = 0.06, 4.0
# A first frame is no part of the motion if a bone turns this much after it, and this many times what follows turns.
_APART_DEGREES, _APART_TIMES, _APART_FRAMES = 15.0, 4.0, 120


def moving_frames(clip: Clip) -> Floats:
    """The speed of the fastest limb in each frame, as a multiple of what counts as motion; 1 and up moves."""
    speeds = speed_of(clip)  # (bones, frames)
    usual = np.percentile(speeds, 90, axis=1, keepdims=True)
    quiet = np.percentile(speeds, 5, axis=1, keepdims=True)
    # Noise: how much the quietest twentieth shakes. Of a bone that never rests that is motion, and the share decides.
    limit = np.maximum(_SHARE * usual.max(), np.minimum(_ABOVE_NOISE * quiet, 0.3 * usual))
    return np.asarray((speeds / np.maximum(limit, 1e-9)).max(axis=0))


def without_idle_ends(clip: Clip, margin_s: float = 0.1) -> tuple[Clip, float, float]:
    """The clip without its idle head and tail, but for a margin; and how many seconds were taken off each.

    A clip that never moves stays as it is.
    """
    moves = np.flatnonzero(moving_frames(clip) >= 1.0)
    if not len(moves):
        return clip, 0.0, 0.0
    margin = round(margin_s * float(clip.rate))
    first, last = max(int(moves[0]) - margin, 0), min(int(moves[-1]) + margin, clip.frames - 1)
    if first == 0 and last == clip.frames - 1:
        return clip, 0.0, 0.0
    rate = float(clip.rate)
    return span_of(clip, first, last), first / rate, (clip.frames - 1 - last) / rate


def frame_before_motion(clip: Clip) -> list[Finding]:
    """Whether one frame stands before the motion and is no part of it, as exporters put the rest pose there."""
    rotations = clip.rotations[:_APART_FRAMES]
    if clip.frames < 4:
        return []
    steps = np.degrees(angle_between(rotations[1:], rotations[:-1])).max(axis=1)
    if steps[0] < max(_APART_DEGREES, _APART_TIMES * steps[1:].max()):
        return []
    message = (
        f"its first frame stands {steps[0]:.0f} degrees away from the second, and nothing moves like that after it: "
        "probably a rest pose before the motion, and no part of it"
    )
    return [Finding("frame-before-motion", "warning", clip.name, message)]
