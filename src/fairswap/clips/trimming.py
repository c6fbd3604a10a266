"""Trim idle heads and tails: before the motion begins and after it has ended, against the clip's own noise."""

from __future__ import annotations

import numpy as np

from fairswap.clips.features import speed_of
from fairswap.clips.spans import span_of
from fairswap.measure.lead_in import lead_in_frames
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip

# Motion is what is this much of the clip's usual speed, and this much above its noise.
_SHARE, _ABOVE_NOISE = 0.06, 4.0


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

    A rest pose before the motion is off first. A clip that never moves stays as it is.
    """
    clip, led_in_s = without_lead_in(clip)
    moves = np.flatnonzero(moving_frames(clip) >= 1.0)
    if not len(moves):
        return clip, led_in_s, 0.0
    margin = round(margin_s * float(clip.rate))
    first, last = max(int(moves[0]) - margin, 0), min(int(moves[-1]) + margin, clip.frames - 1)
    if first == 0 and last == clip.frames - 1:
        return clip, led_in_s, 0.0
    rate = float(clip.rate)
    return span_of(clip, first, last), led_in_s + first / rate, (clip.frames - 1 - last) / rate


def without_lead_in(clip: Clip) -> tuple[Clip, float]:
    """The clip without a rest pose before its motion, and how many seconds that was."""
    frames = lead_in_frames(clip)
    if not frames:
        return clip, 0.0
    return span_of(clip, frames, clip.frames - 1), frames / float(clip.rate)
