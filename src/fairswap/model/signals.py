"""Small tools for values over time: runs of frames, smoothing, and bridges between what must not jump."""

from __future__ import annotations

import numpy as np

from fairswap.model.arrays import Floats


def runs_of(mask: np.ndarray) -> list[tuple[int, int]]:
    """The runs of true frames as ``(first, one after the last)``."""
    edges = np.diff(np.concatenate([[0], mask.astype(np.int8), [0]]))
    return list(zip(np.flatnonzero(edges == 1).tolist(), np.flatnonzero(edges == -1).tolist(), strict=True))


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


def widest_mask(mask: np.ndarray, reach: int) -> np.ndarray:
    """The true frames and those within ``reach`` frames of them; nothing comes in from beyond the ends."""
    if reach < 1:
        return mask
    padded = np.pad(mask, reach)
    return np.asarray(np.lib.stride_tricks.sliding_window_view(padded, 2 * reach + 1).any(axis=1))


def eased(fraction: Floats) -> Floats:
    """From 0 to 1 with the least jerk (Flash and Hogan 1985)."""
    t = np.clip(fraction, 0.0, 1.0)
    return t**3 * (10.0 - 15.0 * t + 6.0 * t**2)


def nearness(mask: np.ndarray, reach: float) -> Floats:
    """1 in the true frames, easing to 0 within ``reach`` frames of them."""
    if not mask.any():
        return np.zeros(len(mask))
    frames = np.arange(len(mask))
    places = np.flatnonzero(mask)
    after = np.searchsorted(places, frames)
    left = frames - places[np.maximum(after - 1, 0)]
    right = places[np.minimum(after, len(places) - 1)] - frames
    distance = np.minimum(np.where(left < 0, len(mask), left), np.where(right < 0, len(mask), right))
    return eased(1.0 - distance / max(reach, 1.0))


def bridged(values: Floats, known: np.ndarray, longest: int) -> Floats:
    """``values`` ``(frames, n)`` where ``known``; between, smooth bridges that leave and arrive without a jerk of
    speed.

    A bridge takes the whole gap, or ``longest`` frames on each side of a longer one, with zero between; before the
    first and after the last known frame it goes to zero, too.
    """
    out = np.zeros_like(values)
    out[known] = values[known]
    gaps = runs_of(~known)
    for start, stop in gaps:
        length = stop - start
        has_left, has_right = start > 0, stop < len(values)
        if has_left and has_right and length + 1 <= 2 * longest:
            _bridge(out, values, known, start - 1, stop)
            continue
        if has_left:
            _bridge(out, values, known, start - 1, min(start - 1 + longest, start + 10**9), right=False)
        if has_right:
            _bridge(out, values, known, stop - longest, stop, left=False)
    return out


def _bridge(
    out: Floats, values: Floats, known: np.ndarray, first: int, last: int, left: bool = True, right: bool = True
) -> None:
    """A quintic from frame ``first`` to ``last``: value and speed of the known ends, zero at an end that is not one."""
    zero = np.zeros(values.shape[1])
    a = values[first] if left else zero
    b = values[last] if right else zero
    speed_a = _speed(values, known, first, -1) if left else zero
    speed_b = _speed(values, known, last, 1) if right else zero
    span = last - first
    frames = np.arange(max(first + 1, 0), min(last, len(values)))
    t = ((frames - first) / span)[:, None]
    # Quintic Hermite with no acceleration at the ends.
    h0, h1 = 1 - 10 * t**3 + 15 * t**4 - 6 * t**5, 10 * t**3 - 15 * t**4 + 6 * t**5
    d0, d1 = t - 6 * t**3 + 8 * t**4 - 3 * t**5, -4 * t**3 + 7 * t**4 - 3 * t**5
    free = ~known[frames]
    out[frames[free]] = (h0 * a + h1 * b + span * (d0 * speed_a + d1 * speed_b))[free]


def _speed(values: Floats, known: np.ndarray, frame: int, way: int) -> Floats:
    """Change per frame at the end of a known run, from its last few frames."""
    other = frame
    for _ in range(3):
        if 0 <= other + way < len(values) and known[other + way]:
            other += way
    return (values[frame] - values[other]) / (frame - other) if other != frame else np.zeros(values.shape[1])
