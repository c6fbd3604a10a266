"""Reports for people: tables, findings, and the sentences that several commands say."""

from __future__ import annotations

import textwrap
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

import click

from fairswap.measure.verdict import NEARLY, SAME, PartScore, reaches
from fairswap.wording import listed

if TYPE_CHECKING:
    from fairswap.cli.reports import ComparisonRow, CutRow, FindingRow
    from fairswap.pose.measuring import PartVerdict

Row = TypeVar("Row")

_WIDTH = 110  # of reports, so that they stay readable in any window
# Limbs that go into each other by less than this, beyond what the source's do, are not worth a line.
TOLD_CM = 1.0
# So many rows of a kind, and files, are told; of more the rest is counted.
_FEW_ROWS, _FEW_FILES = 3, 5
_COLORS = {"problem": "red", "warning": "yellow", "note": "cyan"}


def table(rows: Sequence[Sequence[str]], heads: Sequence[str], indent: str = "  ") -> Iterator[str]:
    """Rows under heads, in columns; numbers (and all but the first column that look so) to the right."""
    cells = [list(heads), *[list(row) for row in rows]]
    widths = [max(len(row[i]) for row in cells) for i in range(len(heads))]
    right = [all(_is_number(row[i]) for row in cells[1:]) for i in range(len(heads))]
    for number, row in enumerate(cells):
        parts = [cell.rjust(w) if r else cell.ljust(w) for cell, w, r in zip(row, widths, right, strict=True)]
        line = (indent + "  ".join(parts)).rstrip()
        yield click.style(line, bold=True) if number == 0 else line


def finding_lines(findings: Iterable[FindingRow], whole: bool = True) -> Iterator[str]:
    """Findings: severity, place, message, what to do, and the code under which docs/findings.md has more; what is the
    same of several places is said once. Unless the ``whole`` list is wanted, of many of a kind a few."""
    alike: dict[tuple[str, ...], list[FindingRow]] = {}
    for row in findings:
        alike.setdefault((row.code, row.severity, row.message, row.remedy), []).append(row)
    for rows, untold in first_of_each(alike.values(), lambda rows: rows[0].code, whole):
        finding = rows[0]
        word = click.style(f"{finding.severity:8}", fg=_COLORS[finding.severity])
        said = f"{listed((row.place for row in rows), 4)}: {finding.message}"
        if finding.remedy:
            said = f"{said}. {finding.remedy}" + ("" if finding.remedy.endswith(("?", "!", ".")) else ".")
        said += f" [{finding.code}]"
        first, *more = textwrap.wrap(said, _WIDTH - 11, break_long_words=False, break_on_hyphens=False)
        yield f"  {word} {first}"
        yield from (" " * 11 + line for line in more)
        if untold:
            yield f"{'':11}and {untold} more like it; --all tells them"


def written_lines(paths: Sequence[str], sizes: bool = False, whole: bool = True) -> Iterator[str]:
    """The files that were written, on request with their sizes; unless the ``whole`` list is wanted, of many a few."""
    shown = paths if whole or len(paths) <= _FEW_FILES + 1 else paths[:_FEW_FILES]
    for path in shown:
        yield f"  wrote    {path}" + (_size(Path(path)) if sizes else "")
    if len(paths) > len(shown):
        yield f"           and {len(paths) - len(shown)} more; --all lists them"


def first_of_each(rows: Iterable[Row], kind: Callable[[Row], str], whole: bool) -> Iterator[tuple[Row, int]]:
    """Rows by their kind, each with how many more of it follow untold: none, if the ``whole`` list is wanted."""
    kinds: dict[str, list[Row]] = {}
    for row in rows:
        kinds.setdefault(kind(row), []).append(row)
    for alike in kinds.values():
        shown = alike if whole or len(alike) <= _FEW_ROWS + 1 else alike[:_FEW_ROWS]
        for row in shown[:-1]:
            yield row, 0
        yield shown[-1], len(alike) - len(shown)


def _size(path: Path) -> str:
    # A name that is not printed as it is leads nowhere.
    return f" ({path.stat().st_size / 1024:.0f} KiB)" if path.is_file() else ""


def parts_line(parts: Sequence[PartScore]) -> str:
    """How near the parts of the body are that are not alike, worst first; what is beyond its limit stands out."""
    said = []
    for row in sorted(parts, key=lambda row: row.score):
        if round(row.score) < 100:
            color = None if reaches(row.score, SAME) else "yellow" if reaches(row.score, NEARLY) else "red"
            said.append(click.style(f"{row.part} {row.score:.0f}", fg=color))
    alike = len(parts) - len(said)
    if alike:
        said.append(f"the {alike} others 100" if said else "every part 100")
    return ", ".join(said)


def footing_line(row: ComparisonRow) -> str:
    """How the feet behave in a comparison, in a sentence."""
    source, result = row.source_footing, row.result_footing
    return (
        f"standing foot slides {result.skate_cm_s:.1f} cm/s (source {source.skate_cm_s:.1f}), "
        f"deepest sole {result.sole_below_cm:.1f} cm below the floor (source {source.sole_below_cm:.1f})"
    )


def inside_lines(row: ComparisonRow) -> Iterator[str]:
    """A line for limbs of the result in each other, hands inside the own body, and coats below the floor; and what to
    do, where that was not done already."""
    worst = next(iter(row.inside), None)
    if worst is not None and worst.beyond_cm > TOLD_CM:
        yield (
            f"{worst.limb} goes {worst.deepest_cm:.1f} cm into {worst.into_it} at {worst.at_s:.2f} s, in all "
            f"{worst.seconds:.1f} s (source {worst.source_deepest_cm:.1f} cm, {worst.source_seconds:.1f} s)"
            f"{'' if row.cleared else '; --clear keeps limbs apart'}"
        )
    if row.garment_below is not None and row.garment_below[1] > TOLD_CM:
        name, below_cm = row.garment_below
        yield f"{name} goes {below_cm:.1f} cm below the floor; --sway keeps extra bones above it"
    source, result = row.inside_body_s
    if result is not None and result > (source or 0.0) + 0.1:
        advice = "" if row.cleared else "; --clear pushes them out"
        yield f"hands are inside the body for {result:.1f} s (source {source or 0.0:.1f}){advice}"


def cut_lines(rows: Sequence[CutRow], clip: str, before: Sequence[CutRow] = ()) -> Iterator[str]:
    """A line for each piece of clothing: how deep it passes into the body, and how it did before."""
    was = {row.piece: row for row in before}
    for row in rows:
        if row.worst_mm < 0.05:
            said = f"clear of the body, at rest and in {clip}"
        else:
            when = "at rest" if row.worst_at_s is None else f"at {row.worst_at_s:.1f} s of {clip}"
            said = f"{row.worst_mm:.1f} mm into the body's {row.part or 'skin'} {when}; {row.rest_mm:.1f} mm at rest; "
            said += f"at most {100 * row.area:.2f} % of the cloth, {100 * row.time:.0f} % of the time"
        if row.piece in was and was[row.piece].worst_mm > row.worst_mm + 0.05:
            said += f" (before it was settled {was[row.piece].worst_mm:.1f} mm)"
        yield f"  {row.piece}: {said}"


def contact_line(row: ComparisonRow) -> str:
    """How foot contacts were kept, in a sentence."""
    contacts = row.contacts
    return (
        f"feet stand {100 * contacts.kept_share:.0f} % of the time the source's do "
        f"({contacts.lost_s:.2f} s lost, {contacts.invented_s:.2f} s invented); "
        f"jerk {row.jerk_ratio:.2f} of the source's"
    )


def pose_lines(parts: Iterable[PartVerdict]) -> Iterator[str]:
    """One line for each body part in which two poses are apart, one for all others."""
    alike = []
    for row in parts:
        if row.state == "same":
            alike.append(row.part)
            continue
        color = {"look": "yellow", "kept": "cyan"}.get(row.state)
        yield f"{click.style(row.part, fg=color)}: {row.verdict}"
    if alike:
        yield f"alike: {', '.join(alike)}"


def some(names: Sequence[str], most: int = 6) -> str:
    """The first few of some names."""
    return ", ".join(names[:most]) + (" …" if len(names) > most else "")


def _is_number(text: str) -> bool:
    return text.replace(".", "", 1).replace("-", "", 1).isdigit() or text in ("", "-")
