"""``fairswap reel FIGURE -o OUT``."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import click

from fairswap.cli import options
from fairswap.cli.output import Output
from fairswap.cli.reports import FindingRow, Report, finding_rows
from fairswap.cli.text import table, written_lines
from fairswap.wording import counted

if TYPE_CHECKING:
    from fairswap.clips.proving import Move
    from fairswap.face.proving import FaceMove
    from fairswap.figures.placing import Place


class ReelReport(Report, frozen=True):
    """The moves of a proving clip, and the shapes of the face after them, each with its time."""

    figure: str
    seconds: float
    moves: tuple[Move, ...]
    shapes: tuple[FaceMove, ...]
    written: tuple[str, ...]
    findings: tuple[FindingRow, ...]


@click.command()
@click.argument("figure", type=options.INPUT)
@options.out
@options.bones
@options.place
@click.option("--rate", type=options.WholeBetween(1, 240), default=30, metavar="N", help="Frames per second (30).")
@click.option(
    "--picture", type=options.OUTPUT, metavar="FILE.png", help="Draw every joint, expression and mouth shape in it."
)
@options.view
@options.reading
@options.writing
def command(
    figure: Path, out: Path, bones: str | None, place: Place, rate: int, picture: Path | None, reading: options.Reading,
    output: Output,
) -> None:  # fmt: skip
    """Write FIGURE with a proving clip: every joint through its range, then every shape of its face, one by one.

    Look at it once for a new figure or a new bone profile: a wrong bone, a swapped side or a bad skin weight shows at
    once.
    """
    from fairswap.figures.placing import place as placed
    from fairswap.formats.files import save_to
    from fairswap.jobs.proving import reel

    document = placed(reading.load(figure), place)
    output.announce(out, picture)
    made = reel(document, bones=bones, rate=rate)
    written = save_to(output.files, out, document.figure, [made.clip])
    if picture is not None:
        from fairswap.picture.verbs import reel as drawn

        written.append(output.write(picture, drawn(made)))
    report = ReelReport(
        document.figure.name, made.clip.duration_s, made.moves, made.shapes, tuple(written),
        finding_rows(document.findings),
    )  # fmt: skip
    output.report(report, _lines)


def _lines(report: ReelReport) -> Iterator[str]:
    yield click.style(f"{report.figure}: {counted(len(report.moves), 'move')} in {report.seconds:.0f} s", bold=True)
    rows: dict[str, tuple[float, list[str]]] = {}
    for move in report.moves:
        rows.setdefault(move.role, (move.start_s, []))[1].append(move.name)
    cells = [(f"{start:.1f}", role, ", ".join(names)) for role, (start, names) in rows.items()]
    yield from table(cells, ("at s", "role", "moves"))
    if report.shapes:
        yield f"  then {counted(len(report.shapes), 'shape')} of the face, from {report.shapes[0].start_s:.1f} s on"
    yield from written_lines(report.written)
