"""Small tools for values over time: runs of frames, smoothing, and bridges between what must not jump."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike

from fairswap.model.arrays import Floats, Integers


def runs_of(mask: np.ndarray) -> list[tuple[int, int]]:
    """The runs of true frames as ``(first, one after the last)``."""
    edges = np.diff(np.concatenate([[0], mask.astype(np.int8), [0]]))
    return list(zip(np.flatnonzero(edges == 1).tolist(), np.flatnonzero(edges == -1).tolist(), strict=True))


def frames_across(frames: int, most: int) -> Integers:
    """At most so many of the numbers of ``frames``, evenly spread, with the first and the last.

    >>> frames_across(100, 4).tolist(), frames_across(3, 4).tolist()
    ([0, 33, 66, 99], [0, 1, 2])
    """
    return np.linspace(0, frames - 1, min(most, frames)).round().astype(np.intp)


def with_hysteresis(sure: np.ndarray, still: np.ndarray) -> np.ndarray:
    """Runs of ``still`` frames that hold at least one ``sure`` one: begun by the stricter, kept by the looser test."""
    out = np.zeros(len(still), dtype=bool)
    for start, stop in runs_of(still | sure):
        out[start:stop] = sure[start:stop].any()
    return out


def without_short(mask: np.ndarray, shortest: int) -> np.ndarray:
    """Gaps shorter than ``shortest`` frames filled, then runs shorter than that dropped; the ends count as they are."""
    out = mask.copy()
    for value in (False, True):
        for start, stop in runs_of(out == value):
            inner = start > 0 and stop < len(out)
            if stop - start < shortest and inner:
                out[start:stop] = not value
    return out


def smoothed(values: Floats, width: float) -> Floats:
    """A Gaussian of ``width`` frames (its sigma) along the first axis; straight lines stay straight to their ends."""
    if width < 0.3 or len(values) < 2:
        return values
    reach = max(int(np.ceil(3.0 * width)), 1)
    kernel = np.exp(-0.5 * (np.arange(-reach, reach + 1) / width) ** 2)
    kernel /= kernel.sum()
    flat = values.reshape(len(values), -1)
    # Beyond its ends a track goes on as its mirror through the end point.
    index = np.arange(-reach, len(flat) + reach)
    inside = np.abs(index)
    period = 2 * (len(flat) - 1)
    inside = inside % period
    inside = np.where(inside > len(flat) - 1, period - inside, inside)
    padded = flat[inside]
    before, after = index < 0, index > len(flat) - 1
    padded[before] = 2.0 * flat[0] - padded[before]
    padded[after] = 2.0 * flat[-1] - padded[after]
    out = np.stack([np.convolve(column, kernel, mode="valid") for column in padded.T], axis=1)
    return out.reshape(values.shape)


def widest(values: Floats, reach: int) -> Floats:
    """The largest value within ``reach`` frames of each."""
    padded = np.pad(values, reach, mode="edge")
    return np.lib.stride_tricks.sliding_window_view(padded, 2 * reach + 1).max(axis=1)


def swelled(values: Floats, reach: float) -> Floats:
    """Values from zero on that come and go smoothly: each frame has the most of its own and of the shares that it has
    in those within ``reach`` frames, which ease out with the distance. What changes slowly stays.

    >>> swelled(np.array([0.0, 0.0, 0.0, 1.0, 0.0, 0.0]), 2.0).round(2).tolist()
    [0.0, 0.21, 0.79, 1.0, 0.79, 0.21]
    """
    most = int(np.ceil(reach))
    shares = eased(1.0 - np.abs(np.arange(-most, most + 1)) / (most + 1.0)) if most else np.ones(1)
    windows = np.lib.stride_tricks.sliding_window_view(np.pad(values, most), 2 * most + 1)
    return np.asarray((windows * shares).max(axis=1))


def widest_mask(mask: np.ndarray, reach: int) -> np.ndarray:
    """The true frames and those within ``reach`` frames of them; nothing comes in from beyond the ends."""
    if reach < 1:
        return mask
    padded = np.pad(mask, reach)
    return np.asarray(np.lib.stride_tricks.sliding_window_view(padded, 2 * reach + 1).any(axis=1))


def eased(fraction: ArrayLike) -> Floats:
    """From 0 to 1 with the least jerk (Flash and Hogan 1985)."""
    t = np.clip(np.asarray(fraction, dtype=float), 0.0, 1.0)
    return t**3 * (10.0 - 15.0 * t + 6.0 * t**2)


def nearest_true(mask: np.ndarray) -> Integers:
    """For each frame the nearest true one, of two as near the earlier; itself where there is none.

    >>> nearest_true(np.array([False, True, False, False, True])).tolist()
    [1, 1, 1, 4, 4]
    """
    frames, places = np.arange(len(mask)), np.flatnonzero(mask)
    if not len(places):
        return frames
    after = np.searchsorted(places, frames)
    before, behind = places[np.maximum(after - 1, 0)], places[np.minimum(after, len(places) - 1)]
    return np.where(np.abs(frames - before) <= np.abs(frames - behind), before, behind)


def frames_from(mask: np.ndarray) -> Floats:
    """How many frames each frame is away from the nearest true one; where there is none, as many as there are."""
    if not mask.any():
        return np.full(len(mask), float(len(mask)))
    return np.abs(np.arange(len(mask)) - nearest_true(mask)).astype(float)


def nearness(mask: np.ndarray, reach: float) -> Floats:
    """1 in the true frames, easing to 0 within ``reach`` frames of them."""
    return eased(1.0 - frames_from(mask) / max(reach, 1.0)) if mask.any() else np.zeros(len(mask))


def bridged(values: Floats, known: np.ndarray, longest: int) -> Floats:
    """``values`` ``(frames, n)`` where ``known``; between, they ease from the one to the next.

    In a gap of more than two times ``longest`` frames they ease to zero and back; so they do before the first and
    after the last known frame.
    """
    out = np.zeros_like(values)
    out[known] = values[known]
    for start, stop in runs_of(~known):
        frames = np.arange(start, stop)
        if start > 0 and stop < len(values) and stop - start < 2 * longest:
            onward = eased((frames - start + 1.0) / (stop - start + 1.0))[:, None]
            out[start:stop] = values[start - 1] + onward * (values[stop] - values[start - 1])
            continue
        if start > 0:
            out[start:stop] += eased(1.0 - (frames - start + 1.0) / longest)[:, None] * values[start - 1]
        if stop < len(values):
            out[start:stop] += eased(1.0 - (stop - frames) / longest)[:, None] * values[stop]
    return out
