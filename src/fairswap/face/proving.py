"""The face's part of the reel: every shape of a head, one after the other, after the body's."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fairswap.face.head import Head
from fairswap.model.clip import Clip

_SECONDS_EACH = 0.6


@dataclass(frozen=True)
class FaceMove:
    """One shape of the face in the reel, from when to when (seconds)."""

    name: str
    start_s: float
    stop_s: float


def with_face_reel(head: Head, clip: Clip) -> tuple[Clip, list[FaceMove]]:
    """``clip`` with every shape of the face to its full and back after it.

    Also gives back when each shape moves.
    """
    directions = head.chart.columns
    if not directions:
        return clip, []
    rate = float(clip.rate)
    start = clip.duration_s
    frames = clip.frames + round(len(directions) * _SECONDS_EACH * rate)
    longer = clip.with_poses(clip.poses.at(np.minimum(np.arange(frames), clip.frames - 1)))
    time = np.arange(frames) / rate
    shares = np.zeros((len(directions), frames))
    rows = []
    for number, (name, sign) in enumerate(directions):
        begin = start + number * _SECONDS_EACH
        shares[number] = np.sin(np.pi * np.clip((time - begin) / _SECONDS_EACH, 0.0, 1.0)) ** 2
        title = name if sign > 0 else f"{name} (negative)"
        rows.append(FaceMove(title, round(begin, 4), round(begin + _SECONDS_EACH, 4)))
    return head.performed(shares, longer), rows
