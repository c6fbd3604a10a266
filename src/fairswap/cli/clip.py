"""``fairswap clip cut|rename|trim|loop|join|mirror|speed|reverse|place|rate|thin|clean|describe|draw``."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from fairswap.cli import clip_files, clip_lines, manners

if TYPE_CHECKING:
    from fairswap.body.subject import Subject
    from fairswap.clip import Clip

_file = click.argument("file", type=click.Path(path_type=Path))
_out = click.option(
    "-o", "--out", required=True, type=click.Path(path_type=Path), metavar="OUT",
    help="Write this file; a folder: one file per clip.",
)  # fmt: skip
_clip = click.option(
    "--clip", "names", multiple=True, metavar="NAME", help="Only this clip; the others stay as they are."
)
_bones = click.option("--bones", metavar="P", help="Bone profile: a file or a name.")


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
@click.option(
    "--table", type=click.Path(path_type=Path), metavar="T.csv", help="A table with columns name, start, end."
)
@_clip
@_out
@manners.writing
def cut(
    file: Path, texts: tuple[str, ...], table: Path | None, names: tuple[str, ...], out: Path, as_json: bool, quiet:
    bool, force: bool,
) -> None:  # fmt: skip
    """Cut a take of FILE into named clips; overlaps, and parts that are in no piece, are told."""
    from fairswap.clips.cut import cut as cut_take
    from fairswap.clips.cut import piece_from_text, pieces_from_table

    pieces = [piece_from_text(text) for text in texts] + (pieces_from_table(table) if table else [])
    if not pieces:
        raise click.UsageError("say what to cut: --piece walk=0..2.5, or --table pieces.csv")
    document = clip_files.loaded(file, out)
    take = clip_files.one_of(document, names)
    clips, findings = cut_take(take, pieces)
    rows = [{"clip": clip.name, "frames": clip.frames, "seconds": round(clip.duration_s, 6)} for clip in clips]
    clip_files.save_clips(
        document, clips, out, force, {"verb": "cut", "take": take.name, "clips": rows}, findings, as_json, quiet
    )


@command.command(short_help="Rename clips, by pattern.")
@_file
@click.option("--to", metavar="PATTERN", help="The new name: {name}, {n} and {seconds} stand for what they say.")
@click.option("--swap", "swaps", multiple=True, metavar="OLD=NEW", help="Exchange part of each name.")
@_clip
@_out
@manners.writing
def rename(
    file: Path, to: str | None, swaps: tuple[str, ...], names: tuple[str, ...], out: Path, as_json: bool, quiet: bool,
    force: bool,
) -> None:  # fmt: skip
    """Give clips new names; nameless ones are called after the file, and no two end up alike."""
    from fairswap.clips.rename import renamed

    pairs = []
    for swap in swaps:
        old, equals, new = swap.partition("=")
        if not (old and equals):
            raise click.BadParameter("write OLD=NEW", param_hint="--swap")
        pairs.append((old, new))

    def rename_all(clips: Sequence[Clip]) -> list[Clip]:
        return renamed(clips, to=to, swaps=pairs, stem=file.stem)

    clip_files.change_file(file, names, out, force, as_json, quiet, "rename", rename_all)


@command.command(short_help="Take idle heads and tails off.")
@_file
@click.option("--from", "start", metavar="TIME", help="Begin here, whatever moves.")
@click.option("--to", "end", metavar="TIME", help="End here.")
@click.option(
    "--margin", default=0.1, metavar="SECONDS", type=click.FloatRange(0.0, 60.0), help="Left on each side (0.1)."
)
@_clip
@_out
@manners.writing
def trim(
    file: Path, start: str | None, end: str | None, margin: float, names: tuple[str, ...], out: Path, as_json: bool,
    quiet: bool, force: bool,
) -> None:  # fmt: skip
    """Take off what comes before the first motion and after the last, or what is outside of --from and --to."""
    from fairswap.clips.spans import span_of
    from fairswap.clips.times import frame_at
    from fairswap.clips.trim import trim as trim_idle
    from fairswap.errors import UsageError

    def one(clip: Clip) -> Clip:
        if start is None and end is None:
            return trim_idle(clip, margin)[0]
        first = frame_at(clip, start, "--from") if start else 0
        last = frame_at(clip, end, "--to") if end else clip.frames - 1
        if last <= first:
            raise UsageError(f"--to {end} is before --from {start}")
        return span_of(clip, first, last)

    clip_files.change_file(file, names, out, force, as_json, quiet, "trim", clip_files.each(one))


@command.command(short_help="Find the cycle in a take, and close it.")
@_file
@click.option("--find", is_flag=True, help="Only report the best cycles; write nothing.")
@click.option("--pick", default=1, type=click.IntRange(1), metavar="N", help="The N-th best one (1).")
@click.option(
    "--blend", default=0.2, metavar="SECONDS", type=click.FloatRange(0.0, 60.0), help="To close the seam over (0.2)."
)
@click.option(
    "--travel",
    type=click.Choice(["kept", "removed", "whole"]),
    default="kept",
    help="Keep travel, remove it, or make it whole: straight, without turning.",
)
@_clip
@click.option("-o", "--out", type=click.Path(path_type=Path), metavar="OUT", help="Write this file.")
@manners.writing
def loop(
    file: Path, find: bool, pick: int, blend: float, travel: str, names: tuple[str, ...], out: Path | None, as_json:
    bool, quiet: bool, force: bool,
) -> None:  # fmt: skip
    """Find the part of a take that repeats, say how good its seam is, and make a clip of it that loops."""
    from dataclasses import replace

    from fairswap.clips.loop import closed, find_cycles, seam_after
    from fairswap.errors import UsageError

    if not find and out is None:
        raise click.UsageError("give -o OUT, or --find to report only")
    document = clip_files.loaded(file, out)
    take = clip_files.one_of(document, names)
    cycles = find_cycles(take, max(3, pick))
    rate = float(take.rate)
    rows = [
        {"start_s": round(c.first / rate, 4), "end_s": round(c.last / rate, 4), "frames": c.last - c.first,
         "seam": clip_files.rounded(c.seam)}
        for c in cycles
    ]  # fmt: skip
    report: dict[str, Any] = {"verb": "loop", "take": take.name, "cycles": rows, "closed": None}
    if find or out is None:
        manners.emit(report, clip_lines.loop_lines(report), as_json, quiet)
        return
    if pick > len(cycles):
        raise UsageError(f"there are {len(cycles)} cycles, not {pick}")
    result = replace(closed(take, cycles[pick - 1], blend, travel), name=take.name)
    report["closed"] = clip_files.rounded(seam_after(result, take, cycles[pick - 1]))
    report["pick"] = pick
    clip_files.save_clips(document, [result], out, force, report, [], as_json, quiet, clip_lines.loop_lines)


@command.command(short_help="Join clips, one after another.")
@click.argument("files", nargs=-1, required=True, type=click.Path(path_type=Path), metavar="FILE...")
@click.option(
    "--blend", default=0.3, metavar="SECONDS", type=click.FloatRange(0.0, 60.0), help="Length of the blend (0.3)."
)
@click.option("--match", is_flag=True, help="Blend where the two fit best: a walk into a run, foot on foot.")
@click.option("--name", default="", metavar="NAME", help="The name of the result.")
@_clip
@_bones
@_out
@manners.writing
def join(
    files: tuple[Path, ...], blend: float, match: bool, name: str, names: tuple[str, ...], bones: str | None, out: Path,
    as_json: bool, quiet: bool, force: bool,
) -> None:  # fmt: skip
    """Join the clips of FILE... (all, or those named, in that order): each begins where the last one ended."""
    from fairswap.clips.join import join as join_clips

    documents = [clip_files.loaded(path, out) for path in files]
    first = documents[0]
    figure = first.figure
    clips = [clip for document in documents for clip in clip_files.on_figure(document, figure)]
    if names:
        clips = [clip_files.named(clips, wanted, first) for wanted in names]
    subject = clip_files.subject_of(first, bones, clips[0] if clips else None)
    result = join_clips(subject, clips, blend, match=match, name=name)
    row = {"clip": result.name, "frames": result.frames, "seconds": round(result.duration_s, 6)}
    clip_files.save_clips(
        first, [result], out, force, {"verb": "join", "of": [c.name for c in clips], "clips": [row]}, [], as_json, quiet
    )


@command.command(short_help="Left for right.")
@_file
@_clip
@_bones
@_out
@manners.writing
def mirror(
    file: Path, names: tuple[str, ...], bones: str | None, out: Path, as_json: bool, quiet: bool, force: bool
) -> None:
    """Mirror clips left to right."""
    from fairswap.clips.mirror import mirror as mirror_clip

    document = clip_files.loaded(file, out)
    subject = clip_files.subject_of(document, bones, None)
    clip_files.change_document(
        document, names, out, force, as_json, quiet, "mirror", clip_files.each(lambda clip: mirror_clip(subject, clip))
    )


@command.command(short_help="Faster, slower, or to a duration.")
@_file
@click.option("--times", "factor", type=float, metavar="FACTOR", help="2 is twice as fast.")
@click.option("--lasts", metavar="TIME", help="Let it last this long.")
@_clip
@_out
@manners.writing
def speed(
    file: Path, factor: float | None, lasts: str | None, names: tuple[str, ...], out: Path, as_json: bool, quiet: bool,
    force: bool,
) -> None:  # fmt: skip
    """Play clips faster or slower; their rate stays."""
    from fairswap.clips.tempo import at_speed, lasting
    from fairswap.clips.times import seconds_from_text

    if (factor is None) == (lasts is None):
        raise click.UsageError("give --times FACTOR, or --lasts TIME")

    def one(clip: Clip) -> Clip:
        if factor is not None:
            return at_speed(clip, factor)
        return lasting(clip, seconds_from_text(str(lasts), float(clip.rate)))

    clip_files.change_file(file, names, out, force, as_json, quiet, "speed", clip_files.each(one))


@command.command(short_help="Backward.")
@_file
@_clip
@_out
@manners.writing
def reverse(file: Path, names: tuple[str, ...], out: Path, as_json: bool, quiet: bool, force: bool) -> None:
    """Play clips backward."""
    from fairswap.clips.tempo import reverse as reverse_clip

    clip_files.change_file(file, names, out, force, as_json, quiet, "reverse", clip_files.each(reverse_clip))


@command.command(short_help="Begin at the origin, face ahead.")
@_file
@click.option(
    "--at", nargs=2, type=float, default=(0.0, 0.0), metavar="X Z", help="Metres to the left, and ahead (0 0)."
)
@click.option("--facing", type=float, default=0.0, metavar="DEGREES", help="To the left of ahead (0).")
@click.option("--keep-heading", is_flag=True, help="Leave the heading as it is.")
@_clip
@_out
@manners.writing
def place(
    file: Path, at: tuple[float, float], facing: float, keep_heading: bool, names: tuple[str, ...], out: Path,
    as_json: bool, quiet: bool, force: bool,
) -> None:  # fmt: skip
    """Let clips begin at a place and heading on the floor."""
    from fairswap.clips.ground import place as place_clip

    heading = None if keep_heading else facing
    clip_files.change_file(
        file, names, out, force, as_json, quiet, "place", clip_files.each(lambda clip: place_clip(clip, at, heading))
    )


@command.command(short_help="Another frame rate, the same duration.")
@_file
@click.option("--to", "rate", required=True, metavar="RATE", help="Frames per second: 30, 29.97, 30000/1001.")
@click.option("--smooth", is_flag=True, help="Going up: curves through the frames.")
@click.option("--steady", is_flag=True, help="Going down: smooth away what would flicker.")
@_clip
@_out
@manners.writing
def rate(
    file: Path, rate: str, smooth: bool, steady: bool, names: tuple[str, ...], out: Path, as_json: bool, quiet: bool,
    force: bool,
) -> None:  # fmt: skip
    """Resample clips; first and last pose and the duration are kept."""
    from fairswap.clips.rate import at_rate
    from fairswap.rate import rate_from_text_per_second

    wanted = rate_from_text_per_second(rate)
    clip_files.change_file(
        file,
        names,
        out,
        force,
        as_json,
        quiet,
        "rate",
        clip_files.each(lambda c: at_rate(c, wanted, smooth=smooth, steady=steady)),
    )


@command.command(short_help="Fewest keys within a budget.")
@_file
@click.option("--mm", type=float, metavar="BUDGET", help="No bone further off than this, in the world, in any frame.")
@click.option("--degrees", type=float, metavar="BUDGET", help="No bone's own turn further off than this.")
@click.option("--every-frame", is_flag=True, help="Plain keys on every frame instead.")
@_clip
@_bones
@_out
@manners.writing
def thin(
    file: Path, mm: float | None, degrees: float | None, every_frame: bool, names: tuple[str, ...], bones: str | None,
    out: Path, as_json: bool, quiet: bool, force: bool,
) -> None:  # fmt: skip
    """Thin keys out. The budget is a promise, checked over all frames; standing feet stay within a millimetre."""
    from fairswap.body.carried import contacts_of
    from fairswap.body.soles import soles_of
    from fairswap.clips.spans import with_poses
    from fairswap.clips.thin import thin as thin_clip
    from fairswap.errors import ImpossibleError

    if every_frame == (mm is not None or degrees is not None):
        raise click.UsageError("give one of --mm, --degrees and --every-frame")
    document = clip_files.loaded(file, out)
    if every_frame:
        clip_files.change_document(
            document,
            names,
            out,
            force,
            as_json,
            quiet,
            "thin",
            clip_files.each(lambda clip: with_poses(clip, clip.poses)),
        )
        return
    try:
        subject: Subject | None = clip_files.subject_of(document, bones, None)
        soles = soles_of(subject) if subject is not None else {}
    except ImpossibleError:
        subject, soles = None, {}
    rows = []

    def one(clip: Clip) -> Clip:
        contacts = contacts_of(subject, clip, soles) if subject is not None else None
        feet = {side: sole.foot for side, sole in soles.items()}
        done = thin_clip(clip, degrees=degrees, millimetres=mm, contacts=contacts, feet=feet)
        before = clip.frames * (len(clip.skeleton) + len(clip.poses.translated_bones))
        rows.append(
            {"clip": clip.name, "keys_before": before, "keys": done.keys, "worst_mm": round(done.worst_mm, 4),
             "worst_degrees": round(done.worst_degrees, 4),
             "feet_mm": None if done.feet_mm is None else round(done.feet_mm, 4)}
        )  # fmt: skip
        return done.clip

    clips = clip_files.picked(document, names, clip_files.each(one))
    clip_files.save_clips(
        document, clips, out, force, {"verb": "thin", "clips": rows}, [], as_json, quiet, clip_lines.thin_lines
    )


@command.command(short_help="Find spikes, flips and jitter; mend them.")
@_file
@click.option("--find", is_flag=True, help="Only report; write nothing.")
@click.option("--jitter", is_flag=True, help="Smooth jitter, too.")
@_clip
@click.option("-o", "--out", type=click.Path(path_type=Path), metavar="OUT", help="Write this file.")
@manners.writing
def clean(
    file: Path,
    find: bool,
    jitter: bool,
    names: tuple[str, ...],
    out: Path | None,
    as_json: bool,
    quiet: bool,
    force: bool,
) -> None:
    """Find faults of recorded motion, told with bone and frame, and mend them."""
    from fairswap.clips.clean import cleaned, find_faults

    if not find and out is None:
        raise click.UsageError("give -o OUT, or --find to report only")
    document = clip_files.loaded(file, out)
    rows: list[dict[str, Any]] = []

    def one(clip: Clip) -> Clip:
        faults = find_faults(clip)
        rows.extend({"clip": clip.name, **vars(fault)} for fault in faults)
        mended = [fault for fault in faults if jitter or fault.kind != "jitter"]
        return cleaned(clip, mended) if mended else clip

    clips = clip_files.picked(document, names, clip_files.each(one))
    report = {"verb": "clean", "faults": rows}
    if find or out is None:
        manners.emit(report, clip_lines.clean_lines(report), as_json, quiet)
        return
    clip_files.save_clips(document, clips, out, force, report, [], as_json, quiet, clip_lines.clean_lines)


@command.command(short_help="What is in a clip, as a table.")
@_file
@click.option(
    "--csv", "csv_file", type=click.Path(path_type=Path), metavar="FILE.csv", help="Write the bones as a table."
)
@_clip
@_bones
@manners.writing
def describe(
    file: Path,
    csv_file: Path | None,
    names: tuple[str, ...],
    bones: str | None,
    as_json: bool,
    quiet: bool,
    force: bool,
) -> None:
    """Describe clips: bones keyed and their range, travel, speed, stillness, and when feet stand."""
    import csv
    import io

    from fairswap.clips.describe import bone_rows, described
    from fairswap.errors import ImpossibleError
    from fairswap.formats.storage import write_atomically

    document = clip_files.loaded(file, csv_file)
    try:
        subject: Subject | None = clip_files.subject_of(document, bones, None)
    except ImpossibleError:
        subject = None
    clips = clip_files.chosen(document, names)
    rows = [described(clip, subject) for clip in clips]
    if csv_file is not None:
        cells = bone_rows(rows)
        text = io.StringIO()
        table = csv.DictWriter(text, list(cells[0]) if cells else ["clip"], lineterminator="\n")
        table.writeheader()
        table.writerows(cells)
        write_atomically(csv_file, [text.getvalue().encode()], force)
    manners.emit({"file": str(file), "clips": rows}, clip_lines.describe_lines(rows), as_json, quiet)


@command.command(short_help="Draw the curves of joints, and when feet stand.")
@click.argument("files", nargs=-1, required=True, type=click.Path(path_type=Path), metavar="FILE...")
@click.option(
    "--role", "roles", multiple=True, required=True, metavar="ROLE", help="Which joint; may be given several times."
)
@_clip
@_bones
@click.option(
    "-o", "--out", required=True, type=click.Path(path_type=Path), metavar="OUT.png", help="Write this picture."
)
@manners.writing
def draw(
    files: tuple[Path, ...], roles: tuple[str, ...], names: tuple[str, ...], bones: str | None, out: Path, as_json:
    bool, quiet: bool, force: bool,
) -> None:  # fmt: skip
    """Draw joints over time; of several clips (or files) over each other."""
    import numpy as np

    from fairswap.body.carried import contacts_of
    from fairswap.body.curves import joint_curve
    from fairswap.body.soles import soles_of
    from fairswap.body.tracks import runs_of
    from fairswap.formats.storage import write_atomically
    from fairswap.picture.curves import Curve, Panel, Strip, curves_image

    shown = []
    for path in files:
        document = clip_files.loaded(path, out)
        subject = clip_files.subject_of(document, bones, None)
        shown += [(subject, clip) for clip in clip_files.chosen(document, names)]
    panels, strips = [], []
    for role in roles:
        lines = [(clip, joint_curve(subject, clip, role)) for subject, clip in shown]
        for axis, word in enumerate(("left", "up", "ahead")):
            curves = [
                Curve(clip.name, np.arange(clip.frames) / float(clip.rate), line[:, axis]) for clip, line in lines
            ]
            panels.append(Panel(f"{role}, about {word}", "degrees", curves))
    for subject, clip in shown:
        contacts, rate = contacts_of(subject, clip, soles_of(subject)), float(clip.rate)
        for side in ("left", "right"):
            spans = [(a / rate, (b - 1) / rate) for a, b in runs_of(contacts.stands(side))]
            strips.append(Strip(f"{clip.name[:18]} {side}", spans))
    write_atomically(out, [curves_image(" and ".join(clip.name for _, clip in shown), panels, strips)], force)
    report = {"clips": [clip.name for _, clip in shown], "roles": list(roles), "written": [str(out)]}
    manners.emit(report, [f"  wrote    {out}"], as_json, quiet)
