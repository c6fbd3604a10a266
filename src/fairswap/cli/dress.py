"""``fairswap dress FIGURE [--with GARMENT…] -o OUT``."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import click

from fairswap.cli import options
from fairswap.cli.output import Output
from fairswap.cli.reports import CutRow, FindingRow, Report, cut_rows, finding_rows
from fairswap.cli.text import cut_lines, written_lines

if TYPE_CHECKING:
    from fairswap.model.clip import Clip
    from fairswap.model.document import Document


class DressReport(Report, frozen=True):
    """What a figure wears now: the bones that came along, and how cloth and body pass through each other."""

    figure: str
    worn: tuple[str, ...]
    added: tuple[str, ...]
    clip: str
    cutting: tuple[CutRow, ...]
    before: tuple[CutRow, ...]
    written: tuple[str, ...] = ()
    findings: tuple[FindingRow, ...] = ()


@click.command()
@click.argument("figure", type=options.INPUT)
@click.option("--with", "garments", multiple=True, type=options.INPUT, metavar="GARMENT",
              help="Clothes, in a file of their own. Repeatable. Without: those that FIGURE wears.")  # fmt: skip
@options.out
@click.option("--made-for", type=options.INPUT, metavar="BODY", help="The figure that the clothes were made for.")
@click.option("--take", multiple=True, metavar="MESH", help="Only this mesh of the clothes' files: coat, boot*.")
@click.option("--motion", "motions", multiple=True, type=options.INPUT, metavar="FILE",
              help="Keep the cloth out of the body in this motion, too. Repeatable.")  # fmt: skip
@click.option("--settle/--no-settle", default=True, help="Push the cloth out of the body (default), or leave it.")
@click.option("--hide", is_flag=True, help="Remove skin that the clothes hide for good.")
@click.option("--picture", type=options.OUTPUT, metavar="FILE.png", help="Draw where cloth and body cut.")
@options.view
@options.reading
@options.writing
def command(
    figure: Path, garments: tuple[Path, ...], out: Path, made_for: Path | None, take: tuple[str, ...],
    motions: tuple[Path, ...], settle: bool, hide: bool, picture: Path | None, reading: options.Reading, output: Output,
) -> None:  # fmt: skip
    """Put clothes on FIGURE that were made for another body, or stand in another pose.

    They are laid on it as they lay on the body they were made for (--made-for), get the weights of the skin below,
    keep bones of their own, as a skirt's, and are pushed out where they cut: in FIGURE's own clips and in --motion,
    else in the reel. Without --with, the clothes that FIGURE wears already are pushed out.
    """
    from fairswap.formats.files import load, save_to
    from fairswap.jobs.dressing import dress
    from fairswap.model.document import Document

    output.announce(out, picture)
    document = reading.load(figure)
    clips = tuple(_carried(path, document) for path in motions)
    made = dress(
        document, *(load(path) for path in garments), made_for=None if made_for is None else load(made_for), take=take,
        settle=settle, hide=hide, clips=clips,
    )  # fmt: skip
    written = save_to(output.files, out, made.figure, made.clips)
    if picture is not None:
        from fairswap.picture.verbs import dressing

        written.append(output.write(picture, dressing(made)))
    output.show(Document(made.figure.name, "", made.figure.space, (made.figure,), (made.clip,)))
    report = DressReport(
        made.figure.name, tuple(made.figure.meshes[index].name for index in made.worn), made.added, made.clip.name,
        cut_rows(made.cutting), cut_rows(made.before), tuple(written), finding_rows(made.findings),
    )  # fmt: skip
    output.report(report, _lines)


def _carried(path: Path, document: Document) -> Clip:
    """A motion on the figure's own bones: as it is if it moves them, else carried over."""
    from fairswap.errors import UsageError
    from fairswap.formats.files import load
    from fairswap.jobs.conversion import convert

    motion = load(path)
    if not motion.clips:
        raise UsageError("there is no motion in it", file=path)
    if motion.figures and motion.figure.skeleton == document.figure.skeleton:
        return motion.clips[0]
    return convert(motion, onto=document).clips[0]


def _lines(report: DressReport) -> Iterator[str]:
    worn = ", ".join(report.worn)
    yield click.style(f"{report.figure} wears {worn}", bold=True)
    if report.added:
        yield f"  came along: {', '.join(report.added)}"
    yield from cut_lines(report.cutting, report.clip, report.before)
    yield from written_lines(report.written)
