"""``fairswap clip cut|rename|trim|loop|join|mirror|speed|reverse|place|rate|thin|clean|describe|draw``."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import click

from fairswap.cli import options
from fairswap.cli.clip_reports import (
    ChangedClip,
    ClipChangeReport,
    ClipCleanReport,
    ClipCutReport,
    ClipDescribeReport,
    ClipDrawReport,
    ClipJoinReport,
    ClipLoopReport,
    ClipThinReport,
    CycleRow,
    FaultRow,
    NewClip,
    ThinnedClip,
    change_lines,
    clean_lines,
    clip_facts,
    cut_lines,
    describe_lines,
    draw_lines,
    join_lines,
    loop_lines,
    thin_lines,
)  # fmt: skip
from fairswap.cli.output import Output
from fairswap.cli.reports import finding_rows

if TYPE_CHECKING:
    from fairswap.clips.looping import Cycle, Seam
    from fairswap.model.clip import Clip
    from fairswap.model.document import Document

_FIGURE = "fairswap.figure"


def _remembered(context: click.Context, _: click.Parameter, name: str | None) -> None:
    context.meta[_FIGURE] = name


def _file(function: Callable[..., None]) -> Callable[..., None]:
    """The file that a command works on, and which figure of it."""
    which = options.which_figure(expose_value=False, callback=_remembered)
    return click.argument("file", type=options.INPUT)(which(function))


_out = click.option(
    "-o",
    "--out",
    required=True,
    type=options.OUTPUT,
    metavar="OUT",
    help="Write this file; a folder: one file per clip.",
)
_maybe_out = click.option("-o", "--out", type=options.OUTPUT, metavar="OUT", help="Write this file.")
_clip = click.option(
    "--clip", "names", multiple=True, metavar="NAME", help="Only this clip; the others stay as they are."
)
_SECONDS = click.FloatRange(0.0, 60.0)


@click.group(name="clip")
def command() -> None:
    """Cut, trim, loop, join, mirror, resample, thin, clean, describe and draw clips.

    Figures and all other data in the file stay as they are. Times are seconds (1.5), frames (45f) or m:s (1:02.5).
    """


@command.command(short_help="Cut one take into named clips.")
@_file
@click.option(
    "--piece", "texts", multiple=True, metavar="NAME=START..END", help="One piece; may be given several times."
)
@click.option("--table", type=options.INPUT, metavar="T.csv", help="A table with columns name, start, end.")
@_clip
@_out
@options.writing
def cut(
    file: Path, texts: tuple[str, ...], table: Path | None, names: tuple[str, ...], out: Path, output: Output
) -> None:
    """Cut a take of FILE into named clips; overlaps, and parts that are in no piece, are told."""
    from fairswap.clips.cutting import piece_from_text, pieces_from_table
    from fairswap.clips.verbs import cut as cut_take

    pieces = [piece_from_text(text) for text in texts] + (pieces_from_table(table) if table else [])
    if not pieces:
        raise click.UsageError("say what to cut: --piece walk=0..2.5, or --table pieces.csv")
    document = _loaded(file)
    take = _one_of(document, names)
    made = cut_take(take, pieces)
    written = _write(document, made.clips, out, output)
    told = finding_rows([*document.findings, *made.findings])
    output.report(ClipCutReport("cut", take.name, tuple(map(_new, made.clips)), written, told), cut_lines)


@command.command(short_help="Rename clips, by pattern.")
@_file
@click.option("--to", metavar="PATTERN", help="The new name: {name}, {n} and {seconds} stand for what they say.")
@click.option("--swap", "swaps", multiple=True, metavar="OLD=NEW", help="Exchange part of each name.")
@_clip
@_out
@options.writing
def rename(
    file: Path, to: str | None, swaps: tuple[str, ...], names: tuple[str, ...], out: Path, output: Output
) -> None:
    """Give clips new names; nameless ones are called after the file, and no two end up alike."""
    from fairswap.clips.renaming import renamed

    pairs = []
    for swap in swaps:
        old, equals, new = swap.partition("=")
        if not (old and equals):
            raise click.BadParameter("write OLD=NEW", param_hint="--swap")
        pairs.append((old, new))
    change = _Change("rename", file, names, out, output)
    change.all_at_once(lambda clips: renamed(clips, to=to, swaps=pairs, stem=file.stem))


@command.command(short_help="Take idle heads and tails off.")
@_file
@click.option("--from", "start", metavar="TIME", help="Begin here, whatever moves.")
@click.option("--to", "end", metavar="TIME", help="End here.")
@click.option("--margin", default=0.1, metavar="SECONDS", type=_SECONDS, help="Left on each side (0.1).")
@_clip
@_out
@options.writing
def trim(
    file: Path, start: str | None, end: str | None, margin: float, names: tuple[str, ...], out: Path, output: Output
) -> None:
    """Take off what comes before the first motion and after the last, or what is outside of --from and --to."""
    from fairswap.clips.verbs import trim as trimmed

    _Change("trim", file, names, out, output).each(lambda c: trimmed(c, start=start, end=end, margin_s=margin))


@command.command(short_help="Find the cycle in a take, and close it.")
@_file
@click.option("--find", is_flag=True, help="Only report the best cycles; write nothing.")
@click.option("--pick", default=1, type=click.IntRange(1), metavar="N", help="The N-th best one (1).")
@click.option("--blend", default=0.2, metavar="SECONDS", type=_SECONDS, help="To close the seam over (0.2).")
@click.option(
    "--travel", type=click.Choice(["kept", "removed", "whole"]), default="kept",
    help="Keep travel, remove it, or make it whole: straight, without turning.",
)  # fmt: skip
@_clip
@_maybe_out
@options.writing
def loop(
    file: Path, find: bool, pick: int, blend: float, travel: str, names: tuple[str, ...], out: Path | None,
    output: Output,
) -> None:  # fmt: skip
    """Find the part of a take that repeats, say how good its seam is, and make a clip of it that loops."""
    from fairswap.clips.verbs import cycles
    from fairswap.clips.verbs import loop as looped

    if not find and out is None:
        raise click.UsageError("give -o OUT, or --find to report only")
    document = _loaded(file)
    take = _one_of(document, names)
    rate = float(take.rate)

    def report(found: Sequence[Cycle], seam: Seam | None, written: tuple[str, ...]) -> None:
        rows = tuple(CycleRow(c.first / rate, c.last / rate, c.last - c.first, c.seam) for c in found)
        told = finding_rows(document.findings)
        output.report(ClipLoopReport("loop", take.name, rows, seam, pick, written, told), loop_lines)

    if find or out is None:
        report(cycles(take, max(3, pick)), None, ())
        return
    made = looped(take, pick=pick, blend_s=blend, travel=travel)
    report(made.cycles, made.seam, _write(document, [made.clip], out, output))


@command.command(short_help="Join clips, one after another.")
@click.argument("files", nargs=-1, required=True, type=options.INPUT, metavar="FILE...")
@click.option("--blend", default=0.3, metavar="SECONDS", type=_SECONDS, help="Length of the blend (0.3).")
@click.option("--match", is_flag=True, help="Blend where the two fit best: a walk into a run, foot on foot.")
@click.option("--name", default="", metavar="NAME", help="The name of the result.")
@_clip
@options.bones
@_out
@options.writing
def join(
    files: tuple[Path, ...], blend: float, match: bool, name: str, names: tuple[str, ...], bones: str | None, out: Path,
    output: Output,
) -> None:  # fmt: skip
    """Join the clips of FILE... (all, or those named, in that order): each begins where the last one ended."""
    from fairswap.clips.verbs import join as joined

    documents = [_loaded(path) for path in files]
    first = documents[0]
    clips = [clip for document in documents for clip in _on_figure(document, first)]
    if names:
        clips = [_named(clips, wanted, first) for wanted in names]
    made = joined(clips, first.figure, bones=bones, blend_s=blend, match=match, name=name)
    written = _write(first, [made], out, output)
    told = finding_rows(first.findings)
    report = ClipJoinReport("join", tuple(clip.name for clip in clips), (_new(made),), written, told)
    output.report(report, join_lines)


@command.command(short_help="Left for right.")
@_file
@_clip
@options.bones
@_out
@options.writing
def mirror(file: Path, names: tuple[str, ...], bones: str | None, out: Path, output: Output) -> None:
    """Mirror clips left to right."""
    from fairswap.clips.verbs import mirror as mirrored
    from fairswap.pose.rigged import RiggedFigure

    change = _Change("mirror", file, names, out, output)
    rigged = RiggedFigure.of(change.document, bones=bones)
    change.each(lambda clip: mirrored(clip, rigged))


@command.command(short_help="Faster, slower, or to a duration.")
@_file
@click.option("--times", "factor", type=float, metavar="FACTOR", help="2 is twice as fast.")
@click.option("--lasts", metavar="TIME", help="Let it last this long.")
@_clip
@_out
@options.writing
def speed(
    file: Path, factor: float | None, lasts: str | None, names: tuple[str, ...], out: Path, output: Output
) -> None:
    """Play clips faster or slower; their rate stays."""
    from fairswap.clips.verbs import speed as at_speed

    if (factor is None) == (lasts is None):
        raise click.UsageError("give --times FACTOR, or --lasts TIME")
    _Change("speed", file, names, out, output).each(lambda clip: at_speed(clip, factor, lasts=lasts))


@command.command(short_help="Backward.")
@_file
@_clip
@_out
@options.writing
def reverse(file: Path, names: tuple[str, ...], out: Path, output: Output) -> None:
    """Play clips backward."""
    from fairswap.clips.verbs import reverse as backward

    _Change("reverse", file, names, out, output).each(backward)


@command.command(short_help="Begin at the origin, face ahead.")
@_file
@click.option(
    "--at", nargs=2, type=float, default=(0.0, 0.0), metavar="X Z", help="Metres to the left, and ahead (0 0)."
)
@click.option("--facing", type=float, default=0.0, metavar="DEGREES", help="To the left of ahead (0).")
@click.option("--keep-heading", is_flag=True, help="Leave the heading as it is.")
@_clip
@_out
@options.writing
def place(
    file: Path, at: tuple[float, float], facing: float, keep_heading: bool, names: tuple[str, ...], out: Path,
    output: Output,
) -> None:  # fmt: skip
    """Let clips begin at a place and heading on the floor."""
    from fairswap.clips.verbs import place as placed

    heading = None if keep_heading else facing
    _Change("place", file, names, out, output).each(lambda clip: placed(clip, at, facing_degrees=heading))


@command.command(short_help="Another frame rate, the same duration.")
@_file
@click.option("--to", "wanted", required=True, metavar="RATE", help="Frames per second: 30, 29.97, 30000/1001.")
@click.option("--smooth", is_flag=True, help="Going up: curves through the frames.")
@click.option("--steady", is_flag=True, help="Going down: smooth away what would flicker.")
@_clip
@_out
@options.writing
def rate(
    file: Path, wanted: str, smooth: bool, steady: bool, names: tuple[str, ...], out: Path, output: Output
) -> None:
    """Resample clips; first and last pose and the duration are kept."""
    from fairswap.clips.verbs import rate as at_rate

    _Change("rate", file, names, out, output).each(lambda c: at_rate(c, wanted, smooth=smooth, steady=steady))


@command.command(short_help="Fewest keys within a budget.")
@_file
@click.option("--mm", type=float, metavar="BUDGET", help="No bone further off than this, in the world, in any frame.")
@click.option("--degrees", type=float, metavar="BUDGET", help="No bone's own turn further off than this.")
@click.option("--every-frame", is_flag=True, help="Plain keys on every frame instead.")
@_clip
@options.bones
@_out
@options.writing
def thin(
    file: Path, mm: float | None, degrees: float | None, every_frame: bool, names: tuple[str, ...], bones: str | None,
    out: Path, output: Output,
) -> None:  # fmt: skip
    """Thin keys out. The budget is a promise, checked over all frames; standing feet stay within a millimetre."""
    from fairswap.clips.verbs import thin as thinned

    if every_frame == (mm is not None or degrees is not None):
        raise click.UsageError("give one of --mm, --degrees and --every-frame")
    change = _Change("thin", file, names, out, output)
    if every_frame:
        change.each(lambda clip: clip.with_poses(clip.poses))
        return
    rows: list[ThinnedClip] = []

    def one(clip: Clip) -> Clip:
        done = thinned(clip, mm=mm, degrees=degrees, on=change.document, bones=bones)
        before = clip.frames * (len(clip.skeleton) + len(clip.poses.translated_bones))
        rows.append(ThinnedClip(clip.name, before, done.keys, done.worst_mm, done.worst_degrees, done.feet_mm))
        return done.clip

    clips = change.picked(lambda own: [one(clip) for clip in own])
    written = _write(change.document, clips, out, output)
    told = finding_rows(change.document.findings)
    output.report(ClipThinReport("thin", tuple(rows), written, told), thin_lines)


@command.command(short_help="Find spikes, flips and jitter; mend them.")
@_file
@click.option("--find", is_flag=True, help="Only report; write nothing.")
@click.option("--jitter", is_flag=True, help="Smooth jitter, too.")
@_clip
@_maybe_out
@options.writing
def clean(file: Path, find: bool, jitter: bool, names: tuple[str, ...], out: Path | None, output: Output) -> None:
    """Find faults of recorded motion, told with bone and frame, and mend them."""
    from fairswap.clips.verbs import clean as cleaned

    if not find and out is None:
        raise click.UsageError("give -o OUT, or --find to report only")
    change = _Change("clean", file, names, out, output)
    rows: list[FaultRow] = []

    def one(clip: Clip) -> Clip:
        done = cleaned(clip, jitter=jitter)
        rows.extend(FaultRow(clip.name, **vars(fault)) for fault in done.faults)
        return done.clip

    clips = change.picked(lambda own: [one(clip) for clip in own])
    written = () if find or out is None else _write(change.document, clips, out, output)
    told = finding_rows(change.document.findings)
    output.report(ClipCleanReport("clean", tuple(rows), written, told), clean_lines)


@command.command(short_help="What is in a clip, as a table.")
@_file
@click.option("--csv", "csv_file", type=options.OUTPUT, metavar="FILE.csv", help="Write the bones as a table.")
@_clip
@options.bones
@options.writing
def describe(file: Path, csv_file: Path | None, names: tuple[str, ...], bones: str | None, output: Output) -> None:
    """Describe clips: bones keyed and their range, travel, speed, stillness, and when feet stand."""
    from fairswap.clips.describing import bone_table
    from fairswap.clips.verbs import describe as described

    document = _loaded(file)
    output.announce(csv_file)
    rows = tuple(described(clip, document, bones=bones) for clip in _chosen(document, names))
    written = []
    if csv_file is not None:
        written.append(output.write(csv_file, bone_table(rows).encode()))
    output.report(ClipDescribeReport(str(file), rows, tuple(written)), describe_lines)


@command.command(short_help="Draw the curves of joints, and when feet stand.")
@click.argument("files", nargs=-1, required=True, type=options.INPUT, metavar="FILE...")
@click.option(
    "--role", "roles", multiple=True, required=True, metavar="ROLE", help="Which joint; may be given several times."
)
@_clip
@options.bones
@click.option("-o", "--out", required=True, type=options.OUTPUT, metavar="OUT.png", help="Write this picture.")
@options.writing
def draw(
    files: tuple[Path, ...], roles: tuple[str, ...], names: tuple[str, ...], bones: str | None, out: Path,
    output: Output,
) -> None:  # fmt: skip
    """Draw joints over time; of several clips (or files) over each other."""
    from fairswap.measure.comparison import Motion
    from fairswap.picture.verbs import curves
    from fairswap.pose.rigged import RiggedFigure

    motions = []
    for path in files:
        document = _loaded(path)
        rigged = RiggedFigure.of(document, bones=bones)
        motions += [Motion(rigged, clip) for clip in _chosen(document, names)]
    written = output.write(out, curves(motions, roles))
    names_drawn = tuple(motion.clip.name for motion in motions)
    output.report(ClipDrawReport(names_drawn, roles, (written,)), draw_lines)


class _Change:
    """One verb on the clips of one file: those picked are changed, all are written, each is told before and after."""

    def __init__(self, verb: str, file: Path, names: Sequence[str], out: Path | None, output: Output) -> None:
        self.verb, self.names, self.out, self.output = verb, names, out, output
        self.document = _loaded(file)

    def each(self, change: Callable[[Clip], Clip]) -> None:
        """Change each clip by itself."""
        self.all_at_once(lambda clips: [change(clip) for clip in clips])

    def all_at_once(self, change: Callable[[Sequence[Clip]], list[Clip]]) -> None:
        """Change the picked clips together, write and report."""
        before = self.document.clips_of(self.document.figure)
        after = self.picked(change)
        rows = tuple(
            ChangedClip(new.name, clip_facts(old), clip_facts(new)) for old, new in zip(before, after, strict=True)
        )
        assert self.out is not None
        written = _write(self.document, after, self.out, self.output)
        told = finding_rows(self.document.findings)
        self.output.report(ClipChangeReport(self.verb, rows, written, told), change_lines)

    def picked(self, change: Callable[[Sequence[Clip]], list[Clip]]) -> list[Clip]:
        """All clips of the figure, those that are picked changed."""
        mine = _chosen(self.document, self.names)
        changed = dict(zip(map(id, mine), change(mine), strict=True))
        return [changed.get(id(clip), clip) for clip in self.document.clips_of(self.document.figure)]


def _loaded(path: Path) -> Document:
    from fairswap.formats.files import load

    return load(path, figure=click.get_current_context().meta.get(_FIGURE))


def _chosen(document: Document, names: Sequence[str]) -> list[Clip]:
    """The clips of the main figure that are named, or all."""
    from fairswap.errors import ImpossibleError

    clips = list(document.clips_of(document.figure))
    if not clips:
        raise ImpossibleError("there is no clip in it", file=document.file)
    return [_named(clips, name, document) for name in names] if names else clips


def _named(clips: Sequence[Clip], name: str, document: Document) -> Clip:
    found = next((clip for clip in clips if clip.name == name), None)
    return found if found is not None else document.clip(name)


def _one_of(document: Document, names: Sequence[str]) -> Clip:
    """The one clip that is meant: named, or the only one, or the longest."""
    return max(_chosen(document, names[:1]), key=lambda clip: clip.frames)


def _on_figure(document: Document, first: Document) -> list[Clip]:
    """The clips of a document on the bones of the first one's figure, if theirs are called alike."""
    skeleton = first.figure.skeleton
    return [
        clip
        if clip.skeleton == skeleton or clip.skeleton.names != skeleton.names
        else clip.with_poses(replace(clip.poses, skeleton=skeleton))
        for clip in document.clips_of(document.figure)
    ]


def _new(clip: Clip) -> NewClip:
    return NewClip(clip.name, clip.frames, clip.duration_s)


def _write(document: Document, clips: Sequence[Clip], out: Path, output: Output) -> tuple[str, ...]:
    from fairswap.jobs.conversion import write_clips

    suffix = Path(document.file).suffix
    return tuple(write_clips(document.figure, clips, out, output.files, suffix=suffix))
