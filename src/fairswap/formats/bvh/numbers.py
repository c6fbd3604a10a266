"""Numbers of a motion block: read bit-identical with ``float()``, written byte-identical with ``%.6f``."""

from __future__ import annotations

from collections.abc import Iterator
from io import BytesIO, TextIOWrapper

import numpy as np

from fairswap.errors import InputError
from fairswap.formats.limits import LARGEST_NUMBER
from fairswap.model.arrays import Floats

_ROWS_AT_ONCE = 2048
_BYTES_AT_ONCE = 1_000_000
_ROWS_WRITTEN_AT_ONCE = 128
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
        end = min(at + _BYTES_AT_ONCE, len(body))
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
        yield values
        at, line = end, line + block.count(b"\n")


def _plain_block(block: bytes, columns: int) -> Floats | None:
    """The numbers of a block with ``columns`` on each line; None if it is anything else."""
    if not block.strip():
        return np.empty((0, columns))
    text = TextIOWrapper(BytesIO(block), encoding="ascii", errors="strict")
    values = np.loadtxt(text, dtype=np.float64, ndmin=2, comments=None)
    return values if values.shape[1] == columns and (np.abs(values) <= LARGEST_NUMBER).all() else None


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
            if not abs(value) <= LARGEST_NUMBER:
                shown = word[:40].decode("utf-8", "replace")
                large = np.isfinite(value) or word.lower().lstrip(b"+-")[:1].isdigit()
                problem = f"{shown!r} is beyond any place" if large else f"{shown!r} stands where a number should be"
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


def _words_of(texts: list[str]) -> np.ndarray:
    """Texts of up to four letters as little-endian 32-bit words; missing letters are zero bytes."""
    return np.frombuffer(b"".join(text.encode().ljust(4, b"\0") for text in texts), dtype="<u4")


# The cells of a number "-123456.789012 ": sign and thousands, units and point, and two threes of decimals.
_THOUSANDS = _words_of([f"{sign}{n or ''}" for sign in ("", "-") for n in range(1000)])
_UNITS = _words_of([*(f"{n}." for n in range(1000)), *(f"{n:03d}." for n in range(1000))])
_MILLI = _words_of([f"{n:03d}" for n in range(1000)])
_MICRO = _words_of([f"{n:03d} " for n in range(1000)])
_NEWLINE_FOR_BLANK = np.uint32((ord(" ") ^ ord("\n")) << 24)
_MOST = 999_999.0


def text_from_rows(values: Floats) -> bytes:
    """``values`` ``(rows, columns)`` as lines of ``%.6f``, separated by blanks, each line ended.

    Digits come from tables, four letters at a time; unused letters are zero bytes, deleted at the end. Rows with a
    one so near to a half in the seventh decimal that rounding could differ from ``%.6f``, or large or not finite are
    written by Python.
    """
    if not values.size:
        return b"\n" * len(values)
    blocks = range(0, len(values), _ROWS_WRITTEN_AT_ONCE)
    return b"".join(_text_of_block(values[start : start + _ROWS_WRITTEN_AT_ONCE]) for start in blocks)


def _text_of_block(values: Floats) -> bytes:
    rows, columns = values.shape
    magnitude = np.abs(values)
    large = ~(magnitude < _MOST)
    if large.any():
        magnitude[large] = 0.5e-6  # a half: written by Python below
    scaled = magnitude * 1e6
    near = np.rint(scaled)
    # The product is off by less than one part in 2^52; only that close to a half can it round wrongly.
    off = scaled - near
    np.abs(off, out=off)
    scaled *= 2.3e-16
    off += scaled
    by_python = np.flatnonzero((off >= 0.5 - 1e-12).any(axis=1))
    integer = (near * 1e-6 + 1e-7).astype(np.int32)  # whole numbers below 10^12: half a millionth is room enough
    micro = (near - integer * 1e6).astype(np.int32)
    thousands, milli = integer // 1000, micro // 1000
    cells = np.empty((rows, columns, 4), dtype="<u4")
    cells[..., 0] = _THOUSANDS.take(thousands + 1000 * np.signbit(values))
    cells[..., 1] = _UNITS.take(integer - thousands * 1000 + 1000 * (thousands > 0))
    cells[..., 2] = _MILLI.take(milli)
    cells[..., 3] = _MICRO.take(micro - milli * 1000)
    cells[:, -1, 3] ^= _NEWLINE_FOR_BLANK
    parts, start = [], 0
    for row in [*by_python.tolist(), rows]:
        parts.append(cells[start:row].tobytes().translate(None, b"\0"))
        if row < rows:
            parts.append(b" ".join(b"%.6f" % value for value in values[row].tolist()) + b"\n")
        start = row + 1
    return b"".join(parts)
