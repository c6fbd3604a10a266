"""``fairswap view FILE… -o page.html``."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import click

from fairswap.cli import options
from fairswap.cli.output import Output
from fairswap.cli.reports import Report
from fairswap.cli.text import written_lines
from fairswap.wording import listed

if TYPE_CHECKING:
    import msgspec

    from fairswap.picture.page.scene import Pieces
    from fairswap.picture.page.viewing import Page, Viewed


class ViewedRow(Report, frozen=True):
    """A figure on a page, and how each of its clips compares with the first figure's, where that can be told."""

    title: str
    figure: str
    bones_known: bool
    clips: tuple[str, ...]
    likeness: dict[str, float]


class ViewReport(Report, frozen=True):
    """A page that plays figures and motions."""

    figures: tuple[ViewedRow, ...]
    kilobytes: int
    written: tuple[str, ...]


@click.command()
@click.argument("files", nargs=-1, required=True, metavar="FILE...", type=options.INPUT)
@click.option("-o", "--out", required=True, type=options.OUTPUT, metavar="PAGE.html", help="Write this page.")
@click.option("--clip", metavar="NAME", help="Only clips of this name.")
@click.option("--title", default="", metavar="WORDS", help="What the page is called.")
@options.source_reading
@options.writing
def command(
    files: tuple[Path, ...], out: Path, clip: str | None, title: str, reading: options.Reading, output: Output
) -> None:
    """Look at FILE moving, in a browser: alone, or source and results beside each other, in step.

    The page is one file and needs no network. Of several files the first is the source; the others are
    compared with it.
    """
    from fairswap.formats.files import load
    from fairswap.picture.page.viewing import view

    output.announce(out)
    documents = [reading.load(files[0]), *(load(file) for file in files[1:])]
    page = view(*documents, clip=clip, title=title)
    content = page.html.encode()
    written = output.write(out, content)
    output.report(ViewReport(viewed_rows(page), round(len(content) / 1000), (written,)), _lines)


def with_page(
    report: msgspec.Struct, output: Output, path: Path, inputs: Sequence[Path], shown: Viewed | None, pieces: Pieces
) -> msgspec.Struct:
    """Write the page that a command was asked for beside its work; give its report with that among what was written."""
    import msgspec

    from fairswap.picture.page.viewing import view

    written = report.written  # type: ignore[attr-defined]
    names = [row if isinstance(row, str) else row.file for row in written]
    made = view(shown) if shown is not None else _before_and_after(inputs, [Path(name) for name in names], pieces)
    name = output.write(path, made.html.encode())
    row = name if not written or isinstance(written[0], str) else type(written[0])(name, path.stat().st_size)
    return msgspec.structs.replace(report, written=(*written, row))


def _before_and_after(inputs: Sequence[Path], written: Sequence[Path], pieces: Pieces) -> Page:
    """The file that a command began with, if anything moves in it, and what it wrote."""
    from fairswap.formats.files import FORMATS, load
    from fairswap.picture.page.viewing import MOST_FIGURES, of_document, view

    figures = [path for path in written if path.suffix.lower() in FORMATS]
    before = [of_document(load(path)) for path in inputs if path.suffix.lower() in FORMATS][:1]
    after = [of_document(load(path)) for path in figures[: MOST_FIGURES - 1]]
    shown = [replace(row, pieces=pieces) for row in (*before, *after)]
    return view(*(row for row in shown[: len(before)] if row.clips), *shown[len(before) :])


def viewed_rows(page: Page) -> tuple[ViewedRow, ...]:
    """What is on a page."""
    return tuple(
        ViewedRow(
            shown.title, shown.figure.name, shown.rigged is not None, tuple(clip.name for clip in shown.clips),
            {name: found.likeness for name, found in shown.against.items()},
        )
        for shown in page.shown
    )  # fmt: skip


def _lines(report: ViewReport) -> Iterator[str]:
    for row in report.figures:
        clips = listed(row.clips)
        known = "" if row.bones_known else "; which bone is which is not known, so contacts and roles are not shown"
        yield f"  {click.style(row.title, bold=True)}: {clips or 'at rest, no clips'}{known}"
        for name, likeness in row.likeness.items():
            yield f"    {name}: {likeness:.0f} of 100 against the first"
    yield from written_lines(report.written)
    yield f"  {report.kilobytes / 1000:.1f} MB; open it in a browser"
