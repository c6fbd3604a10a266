"""The face's part of the reel: every shape of a head, one after the other, after the body's."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from fairswap.clip import Clip
from fairswap.face.carry import FaceSide

_SECONDS_EACH = 0.6


def with_face_reel(side: FaceSide, clip: Clip) -> tuple[Clip, list[tuple[str, float, float]]]:
    """``clip`` with every shape of the face to its full and back after it.

    Also gives back each shape with its start and end in seconds.
    """
    ways = side.chart.ways
    if not ways:
        return clip, []
    rate = float(clip.rate)
    start = clip.duration_s
    frames = clip.frames + round(len(ways) * _SECONDS_EACH * rate)
    longer = replace(clip, poses=clip.poses.at(np.minimum(np.arange(frames), clip.frames - 1)), origin=None)
    time = np.arange(frames) / rate
    shares = np.zeros((len(ways), frames))
    rows = []
    for number, (name, sign) in enumerate(ways):
        begin = start + number * _SECONDS_EACH
        shares[number] = np.sin(np.pi * np.clip((time - begin) / _SECONDS_EACH, 0.0, 1.0)) ** 2
        title = name if sign > 0 else f"{name} (negative)"
        rows.append((title, round(begin, 4), round(begin + _SECONDS_EACH, 4)))
    return side.performed(shares, longer), rows
