"""``fairswap clip join|blend|layer|place``: clips put together, on top of each other, and somewhere on the floor."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from fairswap.cli import options
from fairswap.cli.clip_change import (
    Change,
    clip_option,
    file_argument,
    named_clip,
    new_clip,
    on_figure,
    one_of,
    out_option,
    write,
)
from fairswap.cli.clip_reports import (
    ClipBlendReport,
    ClipJoinReport,
    ClipPlaceReport,
    JoinedPartRow,
    PlacedClip,
    blend_lines,
    join_lines,
    place_lines,
)
from fairswap.cli.many import OverFiles, files_named
from fairswap.cli.output import Output
from fairswap.cli.reports import finding_rows

if TYPE_CHECKING:
    from fairswap.model.clip import Clip
    from fairswap.model.document import Document

_SECONDS = options.NumberBetween(0.0, 60.0)


@click.command(short_help="Join clips, one after another.")
@click.argument("files", nargs=-1, required=True, type=options.INPUT, metavar="FILE...")
@click.option("--blend", default=0.3, metavar="SECONDS", type=_SECONDS, help="Length of the blend (0.3).")
@click.option("--match", is_flag=True, help="Blend where the two fit best: a walk into a run, foot on foot.")
@click.option("--separate", is_flag=True, help="Leave them clips of their own; each begins where the last one ends.")
@click.option("--name", default="", metavar="NAME", help="The name of the result.")
@options.figure
@clip_option
@options.bones
@out_option
@options.view
@options.writing
def join(
    files: tuple[Path, ...], blend: float, match: bool, separate: bool, name: str, names: tuple[str, ...],
    bones: str | None, out: Path, output: Output,
) -> None:  # fmt: skip
    """Join the clips of FILE... (all, or those named, in that order): each begins where the last one ended."""
    from fairswap.clips.joining import joined
    from fairswap.clips.verbs import place as placed
    from fairswap.pose.rigged import RiggedFigure

    if separate and (match or name):
        raise click.UsageError("--separate leaves clips as they are: it goes with neither --match nor --name")
    documents = [options.loaded(path) for path in files_named(files)]
    first = documents[0]
    clips = [clip for document in documents for clip in on_figure(document, first)]
    if names:
        clips = [named_clip(clips, wanted, first) for wanted in names]
    told = finding_rows(first.findings)
    of = tuple(clip.name for clip in clips)
    if separate:
        rows = clips[:1]
        for clip in clips[1:]:
            rows.append(placed(clip, after=rows[-1]))
        written = write(first, rows, out, output)
        report = ClipPlaceReport("join --separate", tuple(map(_placed_row, rows)), written, told)
        output.report(report, place_lines)
        return
    rigged = RiggedFigure.of(first.figure, bones=bones, clip=clips[0] if clips else None)
    made = joined(rigged, clips, blend, match=match, name=name)
    written = write(first, [made.clip], out, output)
    parts = tuple(JoinedPartRow(**vars(part)) for part in made.parts)
    told += finding_rows(made.findings)
    output.show_pieces(made.clip, [(part.start_s, part.stop_s, part.clip) for part in made.parts])
    output.report(ClipJoinReport("join", of, parts, (new_clip(made.clip),), written, told), join_lines)


@click.command(short_help="Lay parts of one clip over another.")
@click.argument("base", type=options.INPUT)
@click.argument("over", type=options.INPUT)
@click.option(
    "--part", "parts", multiple=True, required=True, metavar="PART",
    help="What is taken from OVER: upper, lower, trunk, head, face, arms, hands, legs; arms:left is one side. "
    "Repeatable.",
)  # fmt: skip
@click.option("--from", "start", metavar="TIME", help="Where in BASE it begins: 1.5, 45f (its start).")
@click.option("--to", "stop", metavar="TIME", help="Where it ends (when OVER does).")
@click.option("--ease", default=0.25, metavar="SECONDS", type=_SECONDS, help="How long it comes and goes (0.25).")
@click.option("--base-clip", metavar="NAME", help="This clip of BASE; without, its longest.")
@click.option("--over-clip", metavar="NAME", help="This clip of OVER; without, its longest.")
@options.figure
@options.bones
@out_option
@options.view
@options.writing
def blend(
    base: Path, over: Path, parts: tuple[str, ...], start: str | None, stop: str | None, ease: float,
    base_clip: str | None, over_clip: str | None, bones: str | None, out: Path, output: Output,
) -> None:  # fmt: skip
    """Lay parts of a clip of OVER over one of BASE, a figure of the same bones: its arms, its legs, its face.

    With the legs its ground travel comes along: it goes on from where BASE is, and BASE from where it ends.
    """
    from fairswap.clips.joining import mixed_rates
    from fairswap.clips.verbs import blend as blended

    first, second = options.loaded(base), options.loaded(over)
    mine = one_of(first, (base_clip,) if base_clip else ())
    fitting = on_figure(second, first)
    theirs = named_clip(fitting, over_clip, second) if over_clip else max(fitting, key=lambda clip: clip.frames)
    made = blended(mine, theirs, first.figure, *parts, start=start, end=stop, ease_s=ease, bones=bones)
    written = write(first, [made], out, output)
    told = finding_rows(first.findings) + finding_rows(mixed_rates([mine, theirs]))
    report = ClipBlendReport("blend", mine.name, theirs.name, parts, (new_clip(made),), written, told)
    output.report(report, blend_lines)


@click.command(cls=OverFiles, short_help="Put corrections on, by role or bone.")
@file_argument
@click.option(
    "--layer", "layers", multiple=True, required=True, type=options.INPUT, metavar="FILE.toml",
    help="Corrections to put on, in order. Repeatable.",
)  # fmt: skip
@clip_option
@options.bones
@out_option
@options.view
@options.writing
def layer(
    file: Path, layers: tuple[Path, ...], names: tuple[str, ...], bones: str | None, out: Path, output: Output
) -> None:
    """Put layers on clips of FILE, on the figure they are of: turns, shifts and poses by role (docs/motion.md)."""
    from fairswap.clips.verbs import layer as layered
    from fairswap.pose.rigged import RiggedFigure

    change = Change("layer", file, names, out, output)
    rigged = RiggedFigure.of(change.document, bones=bones)
    change.each(lambda clip: layered(clip, rigged, *layers))


@click.command(cls=OverFiles, short_help="Begin at the origin, face ahead.")
@file_argument
@click.option(
    "--at", nargs=2, type=options.Number(), default=(0.0, 0.0), metavar="X Z",
    help="Metres to the left, and ahead (0 0).",
)  # fmt: skip
@click.option("--facing", type=options.Number(), default=0.0, metavar="DEGREES", help="To the left of ahead (0).")
@click.option("--keep-heading", is_flag=True, help="Leave the heading as it is.")
@click.option("--after", type=options.INPUT, metavar="FILE", help="Begin where the clip of this file ends, instead.")
@click.option("--after-clip", metavar="NAME", help="This clip of it; without, its longest.")
@clip_option
@out_option
@options.view
@options.writing
def place(
    file: Path, at: tuple[float, float], facing: float, keep_heading: bool, after: Path | None, after_clip: str | None,
    names: tuple[str, ...], out: Path, output: Output,
) -> None:  # fmt: skip
    """Let clips begin at a place and heading on the floor; say where they end."""
    from fairswap.clips.verbs import place as placed

    change = Change("place", file, names, out, output)
    earlier = None if after is None else one_of(_other(after), (after_clip,) if after_clip else ())
    heading = None if keep_heading else facing
    clips = change.picked(lambda own: [placed(c, at, facing_degrees=heading, after=earlier) for c in own])
    written = write(change.document, clips, out, output)
    told = finding_rows(change.document.findings)
    output.report(ClipPlaceReport("place", tuple(map(_placed_row, clips)), written, told), place_lines)


def _other(path: Path) -> Document:
    """A second file, to which ``--figure`` does not refer."""
    from fairswap.formats.files import load

    return load(path)


def _placed_row(clip: Clip) -> PlacedClip:
    from fairswap.clips.placing import spot_of

    return PlacedClip(clip.name, clip.frames, clip.duration_s, spot_of(clip, 0), spot_of(clip, clip.frames - 1))
