"""``fairswap clip cut|rename|drop|trim|loop|mirror|speed|reverse|rate|thin|clean|describe|draw``.

Those that put several clips together, or somewhere, are in :mod:`fairswap.cli.clip_combine`.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import click

from fairswap.cli import clip_combine, options
from fairswap.cli.clip_change import (
    Change,
    chosen,
    clip_option,
    file_argument,
    maybe_out,
    new_clip,
    one_of,
    out_option,
    report_of_all,
    write,
    write_one,
)  # fmt: skip
from fairswap.cli.clip_reports import (
    ClipCleanReport,
    ClipCutReport,
    ClipDescribeReport,
    ClipDrawReport,
    ClipDropReport,
    ClipLoopReport,
    ClipThinReport,
    CycleRow,
    FaultRow,
    ThinnedClip,
    clean_lines,
    cut_lines,
    describe_lines,
    draw_lines,
    drop_lines,
    loop_lines,
    thin_lines,
)  # fmt: skip
from fairswap.cli.many import OverFiles, files_named
from fairswap.cli.output import Output
from fairswap.cli.reports import finding_rows

if TYPE_CHECKING:
    from fairswap.clips.looping import Cycle, Seam
    from fairswap.model.clip import Clip

_SECONDS = options.NumberBetween(0.0, 60.0)


@click.group(name="clip")
def command() -> None:
    """Cut, rename, drop, trim, loop, join, blend, mirror, resample, thin, clean, describe and draw clips.

    Figures and all other data in the file stay as they are. Times are seconds (1.5), frames (45f) or m:s (1:02.5).
    """


@command.command(cls=OverFiles, short_help="Cut one take into named clips.")
@file_argument
@click.option("--piece", "texts", multiple=True, metavar="NAME=START..END", help="One piece. Repeatable.")
@click.option("--table", type=options.INPUT, metavar="T.csv", help="A table with columns name, start, end.")
@clip_option
@out_option
@options.view
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
    document = options.loaded(file)
    take = one_of(document, names)
    made = cut_take(take, pieces)
    written = write(document, made.clips, out, output)
    told = finding_rows([*document.findings, *made.findings])
    output.show_pieces(take, [(*span, clip.name) for span, clip in zip(made.spans_s, made.clips, strict=True)])
    output.report(ClipCutReport("cut", take.name, tuple(map(new_clip, made.clips)), written, told), cut_lines)


@command.command(short_help="Rename clips, by pattern.")
@click.argument("files", nargs=-1, required=True, type=options.INPUT, metavar="FILE...")
@click.option(
    "--to", metavar="PATTERN", help="The new name: {name}, {n}, {seconds} and {file} stand for what they say."
)
@click.option("--swap", "swaps", multiple=True, metavar="OLD=NEW", help="Exchange part of each name.")
@options.figure
@clip_option
@click.option("-o", "--out", required=True, type=options.OUTPUT, metavar="OUT",
              help="Write this file; of several FILEs, a folder for files of the same names.")  # fmt: skip
@options.writing
def rename(
    files: tuple[Path, ...], to: str | None, swaps: tuple[str, ...], names: tuple[str, ...], out: Path, output: Output
) -> None:
    """Give clips new names; nameless ones are called after their file, and no two of a file end up alike."""
    from fairswap.clips.renaming import renamed

    pairs = []
    for swap in swaps:
        old, equals, new = swap.partition("=")
        if not (old and equals):
            raise click.BadParameter("write OLD=NEW", param_hint="--swap")
        pairs.append((old, new))
    files = files_named(files)
    if len(files) > 1 and out.suffix and not out.is_dir():
        raise click.BadParameter("of several files the result is a folder", param_hint="-o")
    targets = [out] if len(files) == 1 else [out / file.name for file in files]
    if len({target.name.casefold() for target in targets}) < len(targets):
        raise click.BadParameter("two of them are called alike; rename them one by one", param_hint="FILE")
    output.announce(*targets)
    changes = [Change("rename", file, names, target, output) for file, target in zip(files, targets, strict=True)]
    report_of_all("rename", output, [
        change.done(partial(renamed, to=to, swaps=pairs, stem=change.stem))
        for change in changes
    ])  # fmt: skip


@command.command(cls=OverFiles, short_help="Take clips out of a file.")
@file_argument
@clip_option
@click.option("--all", "everything", is_flag=True, help="All of them: the figure alone is left.")
@click.option("-o", "--out", required=True, type=options.OUTPUT, metavar="OUT", help="Write this file.")
@options.view
@options.writing
def drop(file: Path, names: tuple[str, ...], everything: bool, out: Path, output: Output) -> None:
    """Take the clips that are named with --clip out of FILE; figures and all other data stay."""
    if bool(names) == everything:
        raise click.UsageError("say which: --clip NAME (repeatable), or --all")
    document = options.loaded(file)
    gone = chosen(document, names)
    kept = [clip for clip in document.clips_of(document.figure) if clip not in gone]
    written = write_one(document, kept, out, output)
    told = finding_rows(document.findings)
    left = tuple(map(new_clip, kept))
    output.report(ClipDropReport(tuple(clip.name for clip in gone), left, written, told), drop_lines)


@command.command(cls=OverFiles, short_help="Take idle heads and tails off.")
@file_argument
@click.option("--from", "start", metavar="TIME", help="Begin here, whatever moves.")
@click.option("--to", "end", metavar="TIME", help="End here.")
@click.option("--margin", default=0.1, metavar="SECONDS", type=_SECONDS, help="Left on each side (0.1).")
@clip_option
@out_option
@options.view
@options.writing
def trim(
    file: Path, start: str | None, end: str | None, margin: float, names: tuple[str, ...], out: Path, output: Output
) -> None:
    """Take off what comes before the first motion and after the last, or what is outside of --from and --to."""
    from fairswap.clips.verbs import trim as trimmed

    Change("trim", file, names, out, output).each(lambda c: trimmed(c, start=start, end=end, margin_s=margin))


@command.command(cls=OverFiles, short_help="Find the cycle in a take, and close it.")
@file_argument
@click.option("--find", is_flag=True, help="Only report the best cycles; write nothing.")
@click.option("--pick", default=1, type=options.WholeBetween(1), metavar="N", help="The N-th best one (1).")
@click.option("--blend", default=0.2, metavar="SECONDS", type=_SECONDS, help="To close the seam over (0.2).")
@click.option(
    "--travel", type=click.Choice(["kept", "removed", "whole"]), default="kept",
    help="Keep travel, remove it, or make it whole: straight, without turning.",
)  # fmt: skip
@clip_option
@maybe_out
@options.view
@options.writing
def loop(
    file: Path, find: bool, pick: int, blend: float, travel: str, names: tuple[str, ...], out: Path | None,
    output: Output,
) -> None:  # fmt: skip
    """Find the part of a take that repeats, say how good its seam is, and make a clip that loops from the origin on."""
    from fairswap.clips.verbs import cycles
    from fairswap.clips.verbs import loop as looped

    if not find and out is None:
        raise click.UsageError("give -o OUT, or --find to report only")
    document = options.loaded(file)
    take = one_of(document, names)
    rate = float(take.rate)

    def report(found: Sequence[Cycle], seam: Seam | None, written: tuple[str, ...]) -> None:
        rows = tuple(CycleRow(c.first / rate, c.last / rate, c.last - c.first, c.seam) for c in found)
        told = finding_rows(document.findings)
        output.report(ClipLoopReport("loop", take.name, rows, seam, pick, written, told), loop_lines)

    if find or out is None:
        report(cycles(take, max(3, pick)), None, ())
        return
    made = looped(take, pick=pick, blend_s=blend, travel=travel)
    report(made.cycles, made.seam, write(document, [made.clip], out, output))


@command.command(cls=OverFiles, short_help="Left for right.")
@file_argument
@clip_option
@options.bones
@out_option
@options.view
@options.writing
def mirror(file: Path, names: tuple[str, ...], bones: str | None, out: Path, output: Output) -> None:
    """Mirror clips left to right."""
    from fairswap.clips.verbs import mirror as mirrored
    from fairswap.pose.rigged import RiggedFigure

    change = Change("mirror", file, names, out, output)
    rigged = RiggedFigure.of(change.document, bones=bones)
    change.each(lambda clip: mirrored(clip, rigged))


@command.command(cls=OverFiles, short_help="Faster, slower, or to a duration.")
@file_argument
@click.option("--times", "factor", type=options.Number(), metavar="FACTOR", help="2 is twice as fast.")
@click.option("--lasts", metavar="TIME", help="Let it last this long.")
@clip_option
@out_option
@options.view
@options.writing
def speed(
    file: Path, factor: float | None, lasts: str | None, names: tuple[str, ...], out: Path, output: Output
) -> None:
    """Play clips faster or slower; their rate stays."""
    from fairswap.clips.verbs import speed as at_speed

    if (factor is None) == (lasts is None):
        raise click.UsageError("give --times FACTOR, or --lasts TIME")
    Change("speed", file, names, out, output).each(lambda clip: at_speed(clip, factor, lasts=lasts))


@command.command(cls=OverFiles, short_help="Backward.")
@file_argument
@clip_option
@out_option
@options.view
@options.writing
def reverse(file: Path, names: tuple[str, ...], out: Path, output: Output) -> None:
    """Play clips backward."""
    from fairswap.clips.verbs import reverse as backward

    Change("reverse", file, names, out, output).each(backward)


@command.command(cls=OverFiles, short_help="Another frame rate, the same duration.")
@file_argument
@click.option("--to", "wanted", required=True, metavar="RATE", help="Frames per second: 30, 29.97, 30000/1001.")
@click.option("--smooth", is_flag=True, help="Going up: curves through the frames.")
@click.option("--steady", is_flag=True, help="Going down: smooth away what would flicker.")
@clip_option
@out_option
@options.view
@options.writing
def rate(
    file: Path, wanted: str, smooth: bool, steady: bool, names: tuple[str, ...], out: Path, output: Output
) -> None:
    """Resample clips; first and last pose and the duration are kept."""
    from fairswap.clips.verbs import rate as at_rate

    Change("rate", file, names, out, output).each(lambda c: at_rate(c, wanted, smooth=smooth, steady=steady))


@command.command(cls=OverFiles, short_help="Fewest keys within a budget.")
@file_argument
@click.option(
    "--mm", type=options.Number(), metavar="BUDGET", help="No bone further off than this, in the world, in any frame."
)
@click.option("--degrees", type=options.Number(), metavar="BUDGET", help="No bone's own turn further off than this.")
@click.option("--every-frame", is_flag=True, help="Plain keys on every frame instead.")
@clip_option
@options.bones
@out_option
@options.view
@options.writing
def thin(
    file: Path, mm: float | None, degrees: float | None, every_frame: bool, names: tuple[str, ...], bones: str | None,
    out: Path, output: Output,
) -> None:  # fmt: skip
    """Thin keys out. The budget is a promise, checked over all frames; standing feet stay within a millimetre."""
    from fairswap.clips.verbs import thin as thinned

    if every_frame == (mm is not None or degrees is not None):
        raise click.UsageError("give one of --mm, --degrees and --every-frame")
    change = Change("thin", file, names, out, output)
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
    written = write(change.document, clips, out, output)
    told = finding_rows(change.document.findings)
    output.report(ClipThinReport("thin", tuple(rows), written, told), thin_lines)


@command.command(cls=OverFiles, short_help="Find lead-ins, spikes, flips and jitter; mend them.")
@file_argument
@click.option("--find", is_flag=True, help="Only report; write nothing.")
@click.option("--jitter", is_flag=True, help="Smooth jitter, too.")
@clip_option
@maybe_out
@options.view
@options.writing
def clean(file: Path, find: bool, jitter: bool, names: tuple[str, ...], out: Path | None, output: Output) -> None:
    """Find faults of recorded motion, told with bone and frame, and mend them."""
    from fairswap.clips.verbs import clean as cleaned

    if not find and out is None:
        raise click.UsageError("give -o OUT, or --find to report only")
    change = Change("clean", file, names, out, output)
    rows: list[FaultRow] = []

    def one(clip: Clip) -> Clip:
        done = cleaned(clip, jitter=jitter)
        rows.extend(FaultRow(clip.name, **vars(fault)) for fault in done.faults)
        return done.clip

    clips = change.picked(lambda own: [one(clip) for clip in own])
    written = () if find or out is None else write(change.document, clips, out, output)
    told = finding_rows(change.document.findings)
    output.report(ClipCleanReport("clean", tuple(rows), written, told), clean_lines)


@command.command(cls=OverFiles, short_help="What is in a clip, as a table.")
@file_argument
@click.option("--csv", "csv_file", type=options.OUTPUT, metavar="FILE.csv", help="Write the bones as a table.")
@clip_option
@options.bones
@options.writing
def describe(file: Path, csv_file: Path | None, names: tuple[str, ...], bones: str | None, output: Output) -> None:
    """Describe clips: bones keyed and their range, travel, speed, stillness, when feet stand, and how it walks."""
    from fairswap.clips.describing import bone_table
    from fairswap.clips.verbs import describe as described

    document = options.loaded(file)
    output.announce(csv_file)
    rows = tuple(described(clip, document, bones=bones) for clip in chosen(document, names))
    written = []
    if csv_file is not None:
        written.append(output.write(csv_file, bone_table(rows).encode()))
    output.report(ClipDescribeReport(str(file), rows, tuple(written)), describe_lines)


@command.command(short_help="Draw the curves of joints, and when feet stand.")
@click.argument("files", nargs=-1, required=True, type=options.INPUT, metavar="FILE...")
@click.option("--role", "roles", multiple=True, required=True, metavar="ROLE", help="Which joint. Repeatable.")
@options.figure
@clip_option
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
    for path in files_named(files):
        document = options.loaded(path)
        rigged = RiggedFigure.of(document, bones=bones)
        motions += [Motion(rigged, clip) for clip in chosen(document, names)]
    written = output.write(out, curves(motions, roles))
    names_drawn = tuple(motion.clip.name for motion in motions)
    output.report(ClipDrawReport(names_drawn, roles, (written,)), draw_lines)


for _combining in (clip_combine.join, clip_combine.blend, clip_combine.layer, clip_combine.place):
    command.add_command(_combining)
