"""Cut one take into named clips, from options or a table; what is left over and what overlaps is told."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from pathlib import Path

from fairswap.clips.spans import span_of
from fairswap.clips.times import frame_at
from fairswap.errors import Finding, InputError, UsageError
from fairswap.formats.tables import table_rows
from fairswap.model.clip import Clip

_HEADS = {
    "name": ("name", "clip", "title"),
    "start": ("start", "in", "from", "begin"),
    "end": ("end", "out", "to", "stop"),
}


@dataclass(frozen=True)
class Piece:
    """A part of a take: its name, and start and end as written (see :mod:`fairswap.clips.times`).

    An empty start is that of the take, an empty end its end.
    """

    name: str
    start: str
    end: str
    place: str = ""


@dataclass(frozen=True)
class Cuts:
    """A take's pieces, where each was in it, and what is worth telling: overlaps, and parts that are in no piece."""

    clips: tuple[Clip, ...]
    spans_s: tuple[tuple[float, float], ...]
    findings: tuple[Finding, ...]


def piece_from_text(text: str) -> Piece:
    """From ``name=start..end``; either may be left out.

    Raises
    ------
    UsageError
    """
    name, equals, span = text.partition("=")
    start, dots, end = span.partition("..")
    if not (name.strip() and equals and dots and (start.strip() or end.strip())):
        remedy = "Write name=start..end, as walk=1.5..3.2, or walk=1.5.. for all that follows"
        raise UsageError(f"{text!r} is not a piece", remedy=remedy)
    return Piece(name.strip(), start.strip(), end.strip())


def pieces_from_table(path: str | Path) -> list[Piece]:
    """From a CSV table with columns name, start, end, as a spreadsheet writes it: any order of columns, commas or
    semicolons, quotes, decimal commas, a byte order mark.

    Raises
    ------
    InputError
        With the line that is wrong.
    """
    header, lines = table_rows(path)
    heads = [cell.lower() for cell in header]
    columns = {}
    for column, words in _HEADS.items():
        found = next((heads.index(word) for word in words if word in heads), None)
        if found is None:
            have = ", ".join(repr(head) for head in heads)
            raise InputError(f"there is no column {column!r}", file=path, place="line 1", remedy=f"It has {have}")
        columns[column] = found
    pieces = []
    for number, cells in lines:
        values = [cells[at] if at < len(cells) else "" for at in columns.values()]
        if not all(values):
            raise InputError("name, start or end is empty", file=path, place=f"line {number}", remedy="Fill it in")
        pieces.append(Piece(values[0], values[1], values[2], f"line {number}"))
    names = [piece.name for piece in pieces]
    for piece in pieces:
        if names.count(piece.name) > 1:
            raise InputError(
                f"two pieces are called {piece.name!r}", file=path, place=piece.place, remedy="Rename one of them"
            )
    return pieces


def cut_into(take: Clip, pieces: Sequence[Piece]) -> Cuts:
    """The pieces of a take as clips, and what is worth telling: overlaps, and parts that are in no piece.

    Raises
    ------
    UsageError
        For a piece that ends before it begins, or lies outside of the take.
    """
    spans = []
    for piece in pieces:
        first = frame_at(take, piece.start, f"start of {piece.name!r}") if piece.start else 0
        last = frame_at(take, piece.end, f"end of {piece.name!r}") if piece.end else take.frames - 1
        if last <= first:
            problem = f"piece {piece.name!r} ends ({piece.end or 'its end'}) before it begins ({piece.start or '0'})"
            raise UsageError(problem, place=piece.place or None)
        spans.append((first, last, piece.name))
    findings = []
    ordered = sorted(spans)
    second = 1.0 / float(take.rate)
    for (_, a1, a), (b0, _, b) in pairwise(ordered):
        if b0 < a1:
            message = f"{a!r} and {b!r} overlap by {(a1 - b0) * second:.2f} s, from {b0 * second:.2f} s"
            findings.append(Finding("pieces-overlap", "note", take.name, message))
    at = 0
    for first, last, _ in [*ordered, (take.frames, take.frames, "")]:
        if first - at > 1:
            message = f"{at * second:.2f} to {min(first, take.frames - 1) * second:.2f} s is in no piece"
            findings.append(Finding("pieces-gap", "note", take.name, message))
        at = max(at, last)
    clips = tuple(span_of(take, first, last, name) for first, last, name in spans)
    return Cuts(clips, tuple((first * second, last * second) for first, last, _ in spans), tuple(findings))
