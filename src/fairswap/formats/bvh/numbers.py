"""Numbers of a motion block: read bit-identical with ``float()``, written byte-identical with ``%.6f``."""

from __future__ import annotations

from collections.abc import Iterator
from io import BytesIO, TextIOWrapper

import numpy as np

from fairswap.errors import InputError
from fairswap.kernels import Floats

_ROWS_AT_ONCE = 2048
_AGAIN = "Export the clip again"


def rows_from_text(body: memoryview, columns: int, first_line: int) -> Iterator[Floats]:
    """Blocks ``(rows, columns)`` of the numbers in ``body``; numbers left over at the end come as a last, flat block.

    ``first_line`` is the line number in the file, for errors.

    Raises
    ------
    InputError
        With line and frame, for a word among the numbers, a NaN, or a line with too many or too few.
    """
    at, line = 0, first_line
    while at < len(body):
        # A block of whole lines: by far most files hold a frame a line.
        end = min(at + _ROWS_AT_ONCE * columns * 11, len(body))
        if end < len(body):
            newline = bytes(body[end : end + columns * 400 + 4096]).find(b"\n")
            end = len(body) if newline < 0 else end + newline + 1
        block = bytes(body[at:end])
        try:
            values = _plain_block(block, columns)
        except ValueError:
            values = None
        if values is None:
            yield from _by_words(bytes(body[at:]), columns, line)
            return
        if len(values):
            yield values
        at, line = end, line + block.count(b"\n")


def _plain_block(block: bytes, columns: int) -> Floats | None:
    """The numbers of a block with ``columns`` on each line; None if it is anything else."""
    if not block.strip():
        return np.empty((0, columns))
    text = TextIOWrapper(BytesIO(block), encoding="ascii", errors="strict")
    values = np.loadtxt(text, dtype=np.float64, ndmin=2, comments=None)
    return values if values.shape[1] == columns and np.isfinite(values).all() else None


def _by_words(text: bytes, columns: int, first_line: int) -> Iterator[Floats]:
    """The careful way: frames may run over several lines; the first number that is wrong is named."""
    values: list[float] = []
    uneven: tuple[int, int, int] | None = None  # line, frame, how many numbers
    for offset, line in enumerate(text.splitlines()):
        words = line.split()
        if not words:
            continue
        if len(words) % columns and uneven is None:
            uneven = (first_line + offset, len(values) // columns + 1, len(words))
        for word in words:
            try:
                value = float(word) if b"_" not in word else float("nan")
            except ValueError:
                value = float("nan")
            if not abs(value) < 1e300:
                shown = word[:40].decode("utf-8", "replace")
                problem = f"{shown!r} stands where a number should be"
                raise InputError(problem, place=f"line {first_line + offset}", remedy=_AGAIN)
            values.append(value)
    whole = len(values) // columns * columns
    lines = text.count(b"\n") + 1
    # One short line in a file that holds a frame a line: everything after it would be shifted.
    if uneven is not None and lines > 2 and not _ends_short(text, columns, uneven[0] - first_line):
        line_number, frame, count = uneven
        if count * 2 > columns:  # less is a frame that runs over several lines
            problem = f"frame {frame} has {count} numbers, {columns} were declared"
            raise InputError(problem, place=f"line {line_number}", remedy=_AGAIN)
    for start in range(0, whole, _ROWS_AT_ONCE * columns):
        yield np.array(values[start : min(start + _ROWS_AT_ONCE * columns, whole)]).reshape(-1, columns)
    if whole < len(values):
        yield np.array(values[whole:])


def _ends_short(text: bytes, columns: int, uneven_line: int) -> bool:
    """Whether the uneven line is the last with anything on it: a file cut inside its last frame."""
    return not b"".join(text.splitlines()[uneven_line + 1 :]).strip()


_DIGITS = np.array([[ord(c) for c in f"{number:03d}"] for number in range(1000)], dtype=np.uint8)


def text_from_rows(values: Floats) -> bytes:
    """``values`` ``(rows, columns)`` as lines of ``%.6f``, separated by blanks, each line ended.

    Digits come from a table of all threes. Where the seventh digit is so near to a five that rounding by table could
    differ from ``%.6f``, and where numbers are large, the number is written by Python.
    """
    rows, columns = values.shape
    if not values.size:
        return b"\n" * rows
    flat = np.ascontiguousarray(values, dtype=np.float64).ravel()
    magnitude = np.abs(flat)
    risky = ~(magnitude < 1e9 - 1)
    scaled = np.where(risky, 0.0, magnitude) * 1e6
    near = np.rint(scaled)
    # The product is off by less than one part in 2^52; only that close to a half can it round wrongly.
    risky |= np.abs(np.abs(scaled - near) - 0.5) <= scaled * 5e-16 + 1e-9
    whole = near.astype(np.int64)
    micro = whole % 1_000_000
    integer = whole // 1_000_000
    # Sign, nine digits, point, six digits, separator; what is not needed is masked away.
    table = np.empty((len(flat), 18), dtype=np.uint8)
    table[:, 0] = ord("-")
    table[:, 1:4] = _DIGITS[integer // 1_000_000]
    table[:, 4:7] = _DIGITS[integer // 1000 % 1000]
    table[:, 7:10] = _DIGITS[integer % 1000]
    table[:, 10] = ord(".")
    table[:, 11:14] = _DIGITS[micro // 1000]
    table[:, 14:17] = _DIGITS[micro % 1000]
    table[:, 17] = ord(" ")
    table[columns - 1 :: columns, 17] = ord("\n")
    keep = np.ones(table.shape, dtype=bool)
    keep[:, 0] = np.signbit(flat)
    for digit in range(1, 9):
        keep[:, digit] = integer >= 10 ** (9 - digit)
    if not risky.any():
        return table[keep].tobytes()
    return _with_risky(table, keep, flat, np.flatnonzero(risky))


def _with_risky(table: np.ndarray, keep: np.ndarray, flat: Floats, risky: np.ndarray) -> bytes:
    parts, start = [], 0
    for index in risky.tolist():
        parts.append(table[start:index][keep[start:index]].tobytes())
        parts.append(b"%.6f" % flat[index] + bytes(table[index, 17:]))
        start = index + 1
    parts.append(table[start:][keep[start:]].tobytes())
    return b"".join(parts)
