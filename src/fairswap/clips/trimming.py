"""Trim idle heads and tails: before the motion begins and after it has ended, against the clip's own noise."""

from __future__ import annotations

import numpy as np

from fairswap.clips.features import speed_of
from fairswap.clips.spans import span_of
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
