"""Tables as spreadsheets write them: CSV with commas, semicolons or tabs, quotes, a byte order mark, decimal commas."""

from __future__ import annotations

import csv
import io
import math
from collections import Counter
from pathlib import Path

from fairswap.errors import InputError
from fairswap.formats.limits import LARGEST_NUMBER, MOST_COLUMNS, MOST_ROWS
from fairswap.formats.own import text_of_file


def table_rows(path: str | Path) -> tuple[list[str], list[tuple[int, list[str]]]]:
    """The header and the rows (with their line numbers) of a table as spreadsheets write them.

    Raises
    ------
    InputError
        If it is no text, empty, or has a column twice.
    """
    text = text_of_file(path)
    first = next((line for line in text.splitlines() if line.strip()), "")
    mark = max(",;\t", key=first.count)
    # Also of old programs, whose lines end in a carriage return alone.
    lines = io.StringIO(text.replace("\r\n", "\n").replace("\r", "\n"))
    try:
        rows = [(n, [cell.strip() for cell in row]) for n, row in enumerate(csv.reader(lines, delimiter=mark), 1)]
    except csv.Error as error:
        raise InputError(f"it is not a table ({error})", file=path, remedy="Save it as CSV (UTF-8) again") from None
    rows = [(n, row) for n, row in rows if any(row)]
    if len(rows) < 2:
        raise InputError("the table is empty", file=path, remedy="Its first line names the columns")
    header = rows[0][1]
    if len(header) > MOST_COLUMNS or len(rows) > MOST_ROWS:
        problem = f"it has {len(rows)} rows of {len(header)} columns; at most {MOST_ROWS} of {MOST_COLUMNS} are read"
        raise InputError(problem, file=path, remedy="Leave out what is not needed")
    for name, count in Counter(header).items():
        if count > 1:
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
        raise InputError(
            f"{cell[:30]!r} is not a number", file=path, place=place, remedy="Write for example 0.25"
        ) from None
    if not abs(value) <= LARGEST_NUMBER:
        what = "not finite" if not math.isfinite(value) else f"beyond {LARGEST_NUMBER:g}"
        raise InputError(f"{cell[:30]!r} is {what}", file=path, place=place, remedy="Write for example 0.25")
    return value
