"""Corrections over time that are as near to what is wished as is asked, and add as little jerk as that allows.

A correction ``c`` minimises the sum over all frames of ``weight * (normal · c - value)²`` over its wishes, plus
``|c'''|²``, its third differences squared: a smoothing spline (Reinsch 1967; Eilers and Marx 1996 for the discrete
form). A wish is as strong as a time says within which the correction may stray from it: what is asked for within a
hundredth of a second is kept, what is asked for within a quarter pulls gently. All frames are solved at once.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.linalg import solveh_banded

from fairswap.model.arrays import Floats

# A third difference and its square: the rows of D and the bands of DᵀD.
_THIRD = np.array([-1.0, 3.0, -3.0, 1.0])
# The solve keeps its digits between these: a wish is neither stronger nor weaker.
_STRONGEST, _WEAKEST = 1e7, 1e-9


@dataclass(frozen=True, eq=False)
class Wish:
    """``normal · c = value`` in each frame: ``(frames, n)``, ``(frames,)``, and how strongly ``(frames,)``."""

    normal: Floats
    value: Floats
    weight: Floats


def strength(within_s: Floats | float, rate: float) -> Floats:
    """The weight of a wish that the correction may stray from for about ``within_s`` seconds."""
    frames = np.maximum(np.asarray(within_s, dtype=float) * rate, 1e-3)
    return np.asarray(np.clip(frames**-6.0, _WEAKEST, _STRONGEST))


def least_jerk(wishes: Sequence[Wish]) -> Floats:
    """The correction ``(frames, n)`` that suits the wishes best."""
    frames, width = wishes[0].normal.shape
    blocks = np.zeros((frames, width, width))
    right = np.zeros((frames, width))
    for wish in wishes:
        scaled = wish.normal * wish.weight[:, None]
        blocks += scaled[:, :, None] * wish.normal[:, None, :]
        right += scaled * wish.value[:, None]
    # Lower bands of the matrix: the component changes fastest, so that one frame on is ``width`` rows on.
    bands = np.zeros((3 * width + 1, frames * width))
    for row in range(width):
        for column in range(row + 1):
            bands[row - column, column::width] = blocks[:, row, column]
    for apart in range(min(4, frames)):
        bands[apart * width] += np.repeat(_jerk_band(frames, apart), width)
    return np.asarray(solveh_banded(bands, right.ravel(), lower=True, check_finite=False)).reshape(frames, width)


def least_jerk_to(values: Floats, weight: Floats) -> Floats:
    """The track ``(frames, n)`` that is near to ``values``, in each frame as much as ``weight`` ``(frames,)`` says."""
    one = np.ones((len(values), 1))
    return np.concatenate([least_jerk([Wish(one, column, weight)]) for column in values.T], axis=1)


def _jerk_band(frames: int, apart: int) -> Floats:
    """The diagonal of DᵀD that is ``apart`` below the main one, ``(frames,)``."""
    band = np.zeros(frames)
    rows = frames - 3
    if rows > 0:
        for first in range(4 - apart):
            band[first : first + rows] += _THIRD[first] * _THIRD[first + apart]
    return band
