"""``fairswap draw FILE -o sheet.png``."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import click

from fairswap.cli import options
from fairswap.cli.output import Output
from fairswap.cli.reports import Report
from fairswap.cli.text import written_lines


class DrawReport(Report, frozen=True):
    """A file drawn by itself: a clip as a strip, or a figure at rest (then ``clip`` is empty)."""

    file: str
    figure: str
    clip: str
    bones_known: bool
    written: tuple[str, ...]


@click.command()
@click.argument("file", type=options.INPUT)
@click.option("-o", "--out", required=True, type=options.OUTPUT, metavar="SHEET.png", help="Write this picture.")
@click.option("--clip", metavar="NAME", help="This clip; without, the longest.")
@options.looks
@options.reading
@options.writing
def command(
    file: Path, out: Path, clip: str | None, looks: options.Looks, reading: options.Reading, output: Output
) -> None:
    """Draw FILE by itself: a clip as a strip of instants, with when its feet stand; or a figure at rest.

    Seconds and frames stand above each instant, so that in and out marks can be chosen by eye.
    """
    from fairswap.picture.verbs import strip
    from fairswap.pose.rigged import rigged_if_known

    output.announce(out)
    document = reading.load(file)
    clips = [document.clip(clip)] if clip is not None else list(document.clips_of(document.figure))
    longest = max(clips, key=lambda row: row.duration_s, default=None)
    written = output.write(out, strip(document, clip=clip, at=looks.at, shots=looks.shots))
    known = rigged_if_known(document, longest) is not None
    name = longest.name if longest is not None else ""
    output.report(DrawReport(str(file), document.figure.name, name, known, (written,)), _lines)


def _lines(report: DrawReport) -> Iterator[str]:
    yield f"{click.style(report.figure, bold=True)}: {report.clip or 'at rest'}"
    if not report.bones_known:
        yield "  its bones are not known, so all of them are drawn; fairswap bones draft finds out which is which"
    yield from written_lines(report.written)
