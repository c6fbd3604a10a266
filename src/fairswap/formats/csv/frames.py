"""The frames of a table: its times held against its rate, deleted rows and empty cells filled, and told."""

from __future__ import annotations

from fractions import Fraction

import numpy as np

from fairswap.errors import Finding, InputError
from fairswap.model.arrays import Floats
from fairswap.model.rotation import normalized, slerp

# Times that are off their frames by more than this fraction of one were changed by hand.
_OFF = 0.1


def frames_of(
    times_s: Floats, world: Floats, lines: list[int], rate: Fraction, name: str, findings: list[Finding], most: int
) -> Floats:
    """World places and rotations ``(frames, bones, 7)`` on every frame of the rate, from rows at ``times_s``.

    What is missing is filled from its neighbours: places straight, rotations as turns. ``lines`` are the numbers of
    the rows' lines, for errors; no more than ``most`` frames are made.

    Raises
    ------
    InputError
        If times do not go forward, or a bone has no number at all in a column.
    """
    if np.isnan(times_s).any():
        place = f"line {lines[int(np.argmax(np.isnan(times_s)))]}"
        raise InputError("its time is missing", place=place, remedy="Write it in the first column, in seconds")
    backward = np.flatnonzero(np.diff(times_s) <= 0)
    if len(backward):
        row = int(backward[0]) + 1
        problem = f"its time ({times_s[row]:g} s) is not after the one before it ({times_s[row - 1]:g} s)"
        raise InputError(problem, place=f"line {lines[row]}", remedy="Put the rows in the order of their times")
    at = (times_s - times_s[0]) * float(rate)
    count = round(float(at[-1])) + 1
    if count > most:
        problem = (
            f"it lasts {times_s[-1] - times_s[0]:.0f} s, {count} frames; of a file of this size at most {most} are made"
        )
        raise InputError(problem, code="table-again")
    off = float(np.abs(at - np.round(at)).max())
    if off > _OFF:
        message = f"its times are off the frames of its rate by up to {off / float(rate):.4f} s; brought onto them"
        findings.append(Finding("uneven-keys", "warning", name, message))
    else:
        at = np.round(at)
        missing = count - len(at)
        if missing:
            first = int(at[np.flatnonzero(np.diff(at) > 1)[0]]) + 1
            message = (
                f"{missing} rows are missing (the first at {first / float(rate):.3f} s); filled from their neighbours"
            )
            findings.append(Finding("gaps-filled", "warning", name, message))
    gaps = np.isnan(world)
    if gaps.any():
        if gaps.all(axis=0).any():
            raise InputError("a column holds no number at all", code="table-again")
        rows = np.flatnonzero(gaps.any(axis=(1, 2)))
        cells = f"{int(gaps.sum())} empty cells in {len(rows)} frames ({rows[0]} to {rows[-1]})"
        findings.append(Finding("gaps-filled", "warning", name, f"{cells} filled from their neighbours"))
    elif count == len(at) and off <= _OFF:
        return world
    frames = np.arange(count, dtype=np.float64)
    out = np.empty((count, world.shape[1], world.shape[2]))
    for bone in range(world.shape[1]):
        out[:, bone, :3] = _straight(frames, at, world[:, bone, :3])
        out[:, bone, 3:] = _turned(frames, at, world[:, bone, 3:])
    return out


def _straight(frames: Floats, at: Floats, places: Floats) -> Floats:
    columns = []
    for track in places.T:
        known = ~np.isnan(track)
        columns.append(np.interp(frames, at[known], track[known]))
    return np.stack(columns, axis=1)


def _turned(frames: Floats, at: Floats, turns: Floats) -> Floats:
    """Rotations ``(frames, 4)`` from those at ``at``, evenly between them; one with an empty cell is a gap."""
    known = ~np.isnan(turns).any(axis=1)
    if not known.any():
        raise InputError("a bone has no whole rotation in any row", code="table-again")
    at, turns = at[known], normalized(turns[known])
    if len(at) == 1:
        return np.repeat(turns, len(frames), axis=0)
    inside = np.clip(frames, at[0], at[-1])
    before = np.clip(np.searchsorted(at, inside, side="right") - 1, 0, len(at) - 2)
    fraction = (inside - at[before]) / (at[before + 1] - at[before])
    return slerp(turns[before], turns[before + 1], fraction)
