"""Face tracks as tables: a column of seconds, a column of weights for each shape or unit."""

from __future__ import annotations

import csv
import difflib
import io
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

import numpy as np

from fairswap.errors import InputError
from fairswap.formats.storage import read_bytes
from fairswap.kernels import Floats
from fairswap.rate import rate_from_interval

_LARGEST = 1e4


@dataclass(frozen=True, eq=False)
class FaceTracks:
    """Named weights over time: ``weights`` are ``(names, frames)`` at an exact rate."""

    names: tuple[str, ...]
    rate: Fraction
    weights: Floats


def table_rows(path: str | Path) -> tuple[list[str], list[tuple[int, list[str]]]]:
    """The header and the rows (with their line numbers) of a table as spreadsheets write them.

    Raises
    ------
    InputError
        If it is no text, empty, or has a column twice.
    """
    try:
        text = read_bytes(Path(path)).decode("utf-8-sig")
    except UnicodeDecodeError:
        raise InputError("it is not UTF-8 text", file=path, remedy="Save the table as CSV in UTF-8") from None
    first = text.partition("\n")[0]
    mark = max(",;\t", key=first.count)
    rows = [
        (n, [cell.strip() for cell in row]) for n, row in enumerate(csv.reader(io.StringIO(text), delimiter=mark), 1)
    ]
    rows = [(n, row) for n, row in rows if any(row)]
    if len(rows) < 2:
        raise InputError("the table is empty", file=path, remedy="Its first line names the columns")
    header = rows[0][1]
    for name in header:
        if header.count(name) > 1:
            raise InputError(f"column {name!r} is there twice", file=path, place="line 1", remedy="Rename one of them")
    return header, rows[1:]


def number_in(cell: str, path: str | Path, place: str) -> float:
    """A number in a cell, also with a decimal comma.

    Raises
    ------
    InputError
        If it is none, or not finite.
    """
    try:
        value = float(cell.replace(",", "."))
    except ValueError:
        raise InputError(f"{cell!r} is no number", file=path, place=place, remedy="Write for example 0.25") from None
    if not np.isfinite(value):
        raise InputError(f"{cell!r} is not finite", file=path, place=place, remedy="Write for example 0.25")
    return value


def read_tracks(path: str | Path) -> FaceTracks:
    """Read a table of weights over time: a column ``time_s`` (or ``time``, ``seconds``), and one for each name.

    Raises
    ------
    InputError
        If a column is missing, times go backwards, or a cell is no number or too large.
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
    rate = rate_from_interval(usual, 2e-3)
    even = np.arange(round(float(times[-1] - times[0]) * float(rate)) + 1) / float(rate) + times[0]
    return FaceTracks(tuple(names), rate, np.array([np.interp(even, times, row) for row in weights]))
