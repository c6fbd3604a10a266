"""Face tracks as tables: a column of seconds, a column of weights for each shape or unit."""

from __future__ import annotations

import difflib
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

import numpy as np

from fairswap.errors import InputError
from fairswap.formats.limits import CLIP_NUMBERS
from fairswap.formats.tables import number_in, table_rows
from fairswap.model.arrays import Floats
from fairswap.model.rate import HIGHEST_RATE, rate_from_interval

_LARGEST = 1e4
# Rates for tables whose keys are uneven.
_KEYED_RATES = (30, 60, 120)


@dataclass(frozen=True, eq=False)
class FaceTracks:
    """Named weights over time: ``weights`` are ``(names, frames)`` at an exact rate."""

    names: tuple[str, ...]
    rate: Fraction
    weights: Floats


def read_tracks(path: str | Path) -> FaceTracks:
    """Read a table of weights over time: a column ``time_s`` (or ``time``, ``seconds``), and one for each name.

    Raises
    ------
    InputError
        If a column is missing, times go backwards, or a cell is not a number or too large.
    """
    header, rows = table_rows(path)
    when = next((i for i, name in enumerate(header) if name.lower() in ("time_s", "time", "seconds")), None)
    if when is None:
        near = difflib.get_close_matches("time_s", header, 1)
        raise InputError(
            "there is no column time_s", file=path, place="line 1",
            remedy=f"Rename {near[0]!r}" if near else "Give the seconds of each row in a column time_s",
        )  # fmt: skip
    names = [name for i, name in enumerate(header) if i != when]
    if not all(names):
        raise InputError("a column has no name", file=path, place="line 1", remedy="Name it after a shape or a unit")
    values = np.zeros((len(rows), len(header)))
    for number, (line, row) in enumerate(rows):
        if len(row) != len(header):
            raise InputError(
                f"{len(row)} cells, {len(header)} columns",
                file=path,
                place=f"line {line}",
                remedy="Fill in the missing cells",
            )
        for column, cell in enumerate(row):
            values[number, column] = number_in(cell or "0", path, f"line {line}, column {header[column]}")
    times = values[:, when]
    back = np.flatnonzero(np.diff(times) <= 0.0)
    if len(back):
        line = rows[int(back[0]) + 1][0]
        raise InputError("times go backwards", file=path, place=f"line {line}", remedy="Sort the rows by time")
    weights = np.delete(values, when, axis=1).T
    if np.abs(weights).max(initial=0.0) > _LARGEST:
        name = names[int(np.argmax(np.abs(weights).max(axis=1)))]
        raise InputError(
            f"weights of {name!r} go to {np.abs(weights).max():.3g}", file=path, remedy="Weights go to 1, or to 100"
        )
    steps = np.diff(times)
    usual = float(np.median(steps)) if len(steps) else 1 / 30
    if len(steps) and np.ptp(steps) < 0.2 * usual:  # even but for rounding: the whole span tells best
        usual = float(times[-1] - times[0]) / len(steps)
    elif len(steps):  # keys where something happens: often enough for the nearest two
        usual = 1.0 / next((rate for rate in _KEYED_RATES if rate * steps.min() >= 0.99), _KEYED_RATES[-1])
    if usual * HIGHEST_RATE < 0.5:
        problem = f"its rows are {usual:.3g} s apart, at least {1 / HIGHEST_RATE:g} s are read"
        raise InputError(problem, file=path, remedy="Write its times in seconds")
    rate = rate_from_interval(usual, 2e-3)
    frames = int(np.ceil(float(times[-1] - times[0]) * float(rate) - 0.01)) + 1
    if frames * len(names) > CLIP_NUMBERS:
        problem = f"it lasts {times[-1] - times[0]:.0f} s, {frames} frames at {float(rate):g}"
        raise InputError(problem, file=path, remedy="Correct its times, in seconds")
    even = np.arange(frames) / float(rate) + times[0]
    return FaceTracks(tuple(names), rate, np.array([np.interp(even, times, row) for row in weights]))


def held_frames(path: str | Path) -> list[tuple[int, str]]:
    """The expressions of a table with the columns ``frame`` and ``name``: which is held on which frame of a clip.

    Raises
    ------
    InputError
        If a column is missing, or a frame is not a number.
    """
    header, rows = table_rows(path)
    lower = [name.lower() for name in header]
    for word in ("frame", "name"):
        if word not in lower:
            raise InputError(
                f"there is no column {word}", file=path, place="line 1", remedy="The columns are frame, name"
            )
    frame, name = lower.index("frame"), lower.index("name")
    held = []
    for line, row in rows:
        if len(row) <= max(frame, name):
            problem = f"{len(row)} cells, {len(header)} columns"
            raise InputError(problem, file=path, place=f"line {line}", remedy="Fill in what is missing")
        held.append((round(number_in(row[frame], path, f"line {line}")), row[name]))
    return held
