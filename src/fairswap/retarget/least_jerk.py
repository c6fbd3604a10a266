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

from fairswap.model.arrays import Floats
from fairswap.model.banded import solve_blocks

# A third difference and its square: the rows of D and the bands of DᵀD.
_THIRD = np.array([-1.0, 3.0, -3.0, 1.0])
# The solve keeps its digits between these: a wish is neither stronger nor weaker.
_STRONGEST, _WEAKEST = 1e7, 1e-9
# Frames that are solved as one block: no fewer than the third differences reach.
_BLOCK = 4
# How many frames are solved at once, and how far a wish is felt: that of the weakest fades by a hundred millionth.
_AT_ONCE, _FELT = 8192, 640


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
    own = np.zeros((frames, width, width))
    right = np.zeros((frames, width))
    for wish in wishes:
        scaled = wish.normal * wish.weight[:, None]
        own += scaled[:, :, None] * wish.normal[:, None, :]
        right += scaled * wish.value[:, None]
    return _solved(own, right[:, :, None])[:, :, 0]


def least_jerk_to(values: Floats, weight: Floats) -> Floats:
    """The track ``(frames, n)`` that is near to ``values``, in each frame as much as ``weight`` ``(frames,)`` says."""
    return _solved(weight[:, None, None], (weight[:, None] * values)[:, None, :])[:, 0, :]


def _solved(own: Floats, right: Floats) -> Floats:
    """Solve ``(own + DᵀD) c = right``: ``own`` ``(frames, n, n)`` of each frame, ``right`` ``(frames, n, columns)``.

    Long clips are solved in windows that reach over each other by more than a wish is felt.
    """
    frames = len(right)
    if frames <= _AT_ONCE:
        return _solved_at_once(own, right)
    out = np.empty_like(right)
    for start in range(0, frames, _AT_ONCE):
        stop = min(start + _AT_ONCE, frames)
        first, last = max(start - _FELT, 0), min(stop + _FELT, frames)
        out[start:stop] = _solved_at_once(own[first:last], right[first:last])[start - first : stop - first]
    return out


def _solved_at_once(own: Floats, right: Floats) -> Floats:
    frames, width, columns = right.shape
    blocks = -(-frames // _BLOCK)
    size = _BLOCK * width
    diagonal, below = (np.zeros((blocks, _BLOCK, width, _BLOCK, width)) for _ in range(2))
    filled = np.tile(np.eye(width), (blocks * _BLOCK, 1, 1))  # beyond the last frame nothing is asked for
    filled[:frames] = own
    diagonal[:, range(_BLOCK), :, range(_BLOCK), :] = filled.reshape(blocks, _BLOCK, width, width).transpose(1, 0, 2, 3)
    for apart in range(4):
        band = np.zeros(blocks * _BLOCK)
        band[:frames] = _jerk_band(frames, apart)
        band = band.reshape(blocks, _BLOCK)
        for column in range(_BLOCK):
            # The frame ``apart`` later stands in this block, or in the next one.
            inside, row = column + apart < _BLOCK, (column + apart) % _BLOCK
            for part in range(width):
                if inside:
                    diagonal[:, row, part, column, part] += band[:, column]
                    if apart:
                        diagonal[:, column, part, row, part] += band[:, column]
                else:
                    below[1:, row, part, column, part] += band[:-1, column]
    shaped = np.zeros((blocks * _BLOCK, width, columns))
    shaped[:frames] = right
    shape = blocks, size, size
    found = solve_blocks(diagonal.reshape(shape), below.reshape(shape), shaped.reshape(blocks, size, columns))
    return found.reshape(-1, width, columns)[:frames]


def _jerk_band(frames: int, apart: int) -> Floats:
    """The diagonal of DᵀD that is ``apart`` below the main one, ``(frames,)``."""
    band = np.zeros(frames)
    rows = frames - 3
    if rows > 0:
        for first in range(4 - apart):
            band[first : first + rows] += _THIRD[first] * _THIRD[first + apart]
    return band
