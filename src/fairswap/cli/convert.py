"""``fairswap convert MOTION… --onto FIGURE -o OUT``."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import click
import msgspec

from fairswap.cli import options
from fairswap.cli.fit import FitReport, finished_fit, fit_file, fit_lines
from fairswap.cli.many import files_named
from fairswap.cli.output import Output
from fairswap.cli.plan_running import plan_told, run_told
from fairswap.cli.reports import ComparisonRow, FindingRow, Report, comparison_row, finding_rows
from fairswap.cli.text import contact_line, footing_line, inside_lines, parts_line, pose_lines, some, table
from fairswap.measure.verdict import word_for, worst_of
from fairswap.pose.measuring import PartVerdict
from fairswap.wording import counted

if TYPE_CHECKING:
    from fairswap.face.transfer import LostUnit
    from fairswap.figures.placing import Place
    from fairswap.jobs.conversion import Conversion, Conversions
    from fairswap.jobs.failures import Failure
    from fairswap.jobs.options import FaceOptions, SourceOptions, TargetOptions
    from fairswap.model.document import Document
    from fairswap.retarget.options import MotionOptions


# Of more clips there is a line each.
_CLIPS_IN_FULL = 3


class TouchRow(Report, frozen=True):
    """What a hand met, when, and how near the target came to it at worst."""

    hand: str
    what: str
    start_s: float
    stop_s: float
    off_cm: float


class AsTransferred(Report, frozen=True):
    """The result before feet and hands were treated."""

    likeness: float
    limbs_mean_degrees: float
    skate_cm_s: float
    sole_below_cm: float


class LostUnitRow(Report, frozen=True):
    """A face unit that is shown in part or not: how much of it, when, and what was done instead."""

    unit: str
    wanted: float
    lost: float
    at_s: float
    instead: tuple[str, ...]


class FaceRow(Report, frozen=True):
    """A face put on: the shapes that were used, and what could not be shown."""

    used: tuple[str, ...]
    lost: tuple[LostUnitRow, ...]


class ClipRow(ComparisonRow, frozen=True):
    """One clip converted."""

    source: str
    source_figure: str
    source_profile: str
    target_profile: str
    frames: int
    rate: float
    travel_scale: float
    source_reference: str
    target_reference: str
    pose: tuple[PartVerdict, ...]
    resting_bones: tuple[str, ...]
    touches: tuple[TouchRow, ...]
    as_transferred: AsTransferred
    face: FaceRow | None


class FailedRow(Report, frozen=True):
    """A clip (or a file) that could not be converted, and why."""

    file: str
    clip: str
    error: str


class WrittenRow(Report, frozen=True):
    """A file that was written."""

    file: str
    bytes: int


class ConvertReport(Report, frozen=True):
    """What a conversion did; ``fit`` is there where it was made to fit a platform."""

    target_file: str
    target_figure: str
    travel: str
    feet: str
    hands: str
    layers: tuple[str, ...]
    clips: tuple[ClipRow, ...]
    failed: tuple[FailedRow, ...]
    kept_clips: tuple[str, ...]
    written: tuple[WrittenRow, ...]
    findings: tuple[FindingRow, ...]
    fit: FitReport | None = None


@click.command()
@click.argument("motions", nargs=-1, required=True, metavar="MOTION...", type=options.INPUT)
@click.option("--onto", "figures", multiple=True, type=options.INPUT, metavar="FIGURE",
              help="The figure to animate; given several times, each motion goes onto each of them.")  # fmt: skip
@click.option("--platform", type=options.name_or_file, metavar="P",
              help="Make the result fit this platform: a built-in name or a file.")  # fmt: skip
@click.option(
    "-o", "--out", required=True, type=options.OUTPUT, metavar="OUT",
    help="OUT.glb, .vrm, .dae, .usdz, .x3d …: the figure with the clips; OUT.bvh, .vrma, .csv: the motion alone; a "
    "folder: one file per clip.",
)  # fmt: skip
@options.face_options
@options.source_options
@options.target_options
@options.motion_options
@options.picture
@options.looks
@options.view
@options.place
@options.without
@options.target_figure
@click.option("--workers", type=click.IntRange(1, 1024), metavar="N",
              help="Use N processes, as a plan does: into a folder, with a report, only what changed.")  # fmt: skip
@click.option("--write-plan", type=options.OUTPUT, metavar="PLAN.toml",
              help="Write these options as a plan, to run again.")  # fmt: skip
@options.source_reading
@options.show_all
@options.writing
def command(
    motions: tuple[Path, ...], figures: tuple[Path, ...], platform: str | None, out: Path, face: FaceOptions,
    source: SourceOptions, target: TargetOptions, motion: MotionOptions, picture: Path | None,
    looks: options.Looks, place: Place, without: tuple[str, ...], target_figure: str | None,
    workers: int | None, write_plan: Path | None, reading: options.Reading, show_all: bool, output: Output,
) -> None:  # fmt: skip
    """Carry the clips of MOTION... (files, folders, patterns) over to FIGURE, and say how alike they look.

    With --platform the result is made to fit it; without --onto, MOTION is itself a figure, brought to the platform
    with its own clips.

    Clips keep their names, rates and durations. One clip that fails does not stop the others. Exit status 1 if one
    failed, or does not look like its source.

    With several figures, or --workers, OUT is a folder; results there that are up to date are kept.
    """
    from fairswap.figures.leaving import leave_out
    from fairswap.figures.placing import place as placed
    from fairswap.formats.files import load
    from fairswap.jobs.conversion import convert

    if platform is not None and target.motion_only:
        raise click.UsageError("--motion-only goes without --platform: into a folder, motions are written alone")
    asked, onto, plan = (motions, figures), files_named(figures), ""
    motions, by_plan = files_named(motions), workers is not None or len(onto) > 1
    if write_plan is not None or by_plan:
        folder = (write_plan or Path("plan.toml")).absolute().parent
        plan = plan_told(*asked, platform, out, picture, looks, source, folder)
        output.announce(write_plan)
    if by_plan:
        run_told(plan, write_plan, out, workers, output)
        return
    if not onto:
        which = replace(reading, which_figure=target_figure or reading.which_figure)
        _to_platform(motions, platform, out, target, picture, which, output, place, without)
        return
    if out.suffix and not out.is_dir():
        output.announce(out)
    with output.progress(len(motions), "reading") as step:
        documents, failed = _read(motions, reading, step)
    performer = placed(leave_out(load(onto[0], figure=target_figure), *without), place)
    with output.progress(sum(len(document.clips) for document in documents), "carrying over") as step:
        done = convert(
            documents, performer, source=source, target=target, motion=motion, face=face, platform=platform, step=step
        )
    output.show(done)
    report = _report(done, failed, motion, out, (picture, looks), output)
    if write_plan is not None:
        name = output.write(write_plan, plan.encode())
        report = msgspec.structs.replace(report, written=(*report.written, WrittenRow(name, len(plan.encode()))))
    output.report(report, partial(_lines, whole=show_all))
    if not done.looks_same or failed or (report.fit is not None and not report.fit.fits):
        output.failed()


def _to_platform(
    motions: Sequence[Path], platform: str | None, out: Path, target: TargetOptions, picture: Path | None,
    reading: options.Reading, output: Output, place: Place, without: tuple[str, ...],
) -> None:  # fmt: skip
    """Bring a figure, without a motion from elsewhere, to a platform: what ``fairswap fit`` does."""
    if platform is None:
        raise click.UsageError("give --onto FIGURE, or --platform P to bring a figure to a platform")
    if len(motions) > 1:
        raise click.UsageError("without --onto, give one figure")
    fit_file(motions[0], platform, out, target.profile, picture, reading, output, place, without=without)


def _read(motions: Sequence[Path], reading: options.Reading, step):  # type: ignore[no-untyped-def]
    """The motions that can be read, and why the others cannot; one must."""
    from fairswap.jobs.failures import going_on, none_done

    documents: list[Document] = []
    failed: list[Failure] = []
    for path in motions:
        with going_on(failed, str(path), ""):
            documents.append(reading.load(path))
        step(path.name)
    if not documents:
        raise none_done(failed)
    return documents, failed


def _report(
    done: Conversions, failed: list[Failure], motion: MotionOptions, out: Path,
    pictured: tuple[Path | None, options.Looks], output: Output,
) -> ConvertReport:  # fmt: skip
    """Write the results and the pictures; tell what was done."""
    from fairswap.cli.remedies import worded_error
    from fairswap.retarget.layers import layers_named

    fit, (picture, looks) = None, pictured
    if done.fitted is not None:
        what = f"{counted(len(done.done), 'clip')} on {done.target.figure.name}"
        fit = finished_fit(done.fitted, out, picture, what, output)
        written = list(fit.written)
    else:
        pictures = _pictures(picture, done.done)
        output.files.reserve(*pictures)
        written = done.write(out, output.files)
        written += [output.write(path, _sheet(row, looks)) for path, row in zip(pictures, done.done, strict=False)]
    failures = tuple(FailedRow(row.file, row.clip, worded_error(row.error)) for row in (*failed, *done.failures))
    return ConvertReport(
        target_file=done.target.file,
        target_figure=done.target.figure.name,
        travel=motion.travel,
        feet=motion.feet,
        hands=motion.hands,
        layers=tuple(layers_named(file).name for file in motion.layers),
        clips=tuple(_clip_row(row) for row in done.done),
        failed=failures,
        kept_clips=tuple(clip.name for clip in done.kept_clips),
        written=tuple(WrittenRow(name, Path(name).stat().st_size) for name in written),
        findings=finding_rows(done.findings),
        fit=fit,
    )


def _pictures(picture: Path | None, done: Sequence[Conversion]) -> list[Path]:
    """Where the sheet of each clip goes: the picture named, or of several one for each in a folder."""
    if picture is None or len(done) < 2:
        return [picture] if picture is not None and done else []
    from fairswap.jobs.writing import paths_for

    folder = picture.with_suffix("") if picture.suffix else picture
    return paths_for(folder, [row.clip for row in done], ".png")


def _sheet(row: Conversion, looks: options.Looks) -> bytes:
    from fairswap.picture.verbs import sheet

    title = f"{Path(row.source.file).name}  onto  {row.swap.target.figure.name}"
    return sheet(row.comparison, title, at=looks.at, shots=looks.shots)


def _clip_row(row: Conversion) -> ClipRow:
    from fairswap.pose.measuring import verdicts

    swap, clip, before = row.swap, row.clip, row.as_transferred
    touches = row.retargeted.touches
    return ClipRow(
        **msgspec.structs.asdict(comparison_row(row.comparison)),
        source=row.source.file,
        source_figure=swap.source.figure.name,
        source_profile=swap.source.roles.profile,
        target_profile=swap.target.roles.profile,
        frames=clip.frames,
        rate=float(clip.rate),
        travel_scale=row.travel_scale,
        source_reference=swap.source.base.said,
        target_reference=swap.target.base.said,
        pose=tuple(verdicts(swap.pose_angles)),
        resting_bones=tuple(swap.resting_bones),
        touches=tuple(TouchRow(t.side, t.what, t.start_s, t.stop_s, 100.0 * t.off_m) for t in touches),
        as_transferred=AsTransferred(
            before.likeness,
            before.limbs_mean_degrees,
            before.result_footing.skate_cm_s,
            before.result_footing.sole_below_cm,
        ),
        face=None if row.face is None else face_row(row.face.used, row.face.lost),
    )


def face_row(used: Sequence[str], lost: Sequence[LostUnit]) -> FaceRow:
    """A face put on, as it is reported."""
    return FaceRow(tuple(used), tuple(LostUnitRow(r.unit, r.wanted, r.lost, r.at_s, tuple(r.instead)) for r in lost))


def _lines(report: ConvertReport, whole: bool) -> Iterator[str]:
    whole = whole or len(report.clips) <= _CLIPS_IN_FULL
    seen: set[str] = set()
    for clip in report.clips:
        if clip.source not in seen:
            seen.add(clip.source)
            yield from _pair_lines(report, clip)
        if whole:
            yield from _clip_lines(clip)
    if not whole:
        yield from _short_lines(report.clips)
    for row in report.failed:
        name = f"{row.file} {row.clip}".strip()
        said = row.error if row.error.startswith(name) else f"{name}: {row.error}"
        yield f"  {click.style('failed', fg='red')}   {said}"
    if report.failed:
        yield f"  {len(report.clips)} done, {len(report.failed)} failed"
    if report.fit is not None:
        yield from fit_lines(report.fit)
    else:
        for written in report.written:
            yield f"  wrote    {written.file} ({written.bytes / 1024:.0f} KiB)"


def _short_lines(clips: Sequence[ClipRow]) -> Iterator[str]:
    """Many clips in a line each, the worst first."""
    rows = []
    for clip in sorted(clips, key=lambda row: row.likeness):
        worst = worst_of(clip.parts)
        why = f"{worst.part}: {worst.because} ({worst.value:.3g} {worst.unit})" if round(worst.score) < 100 else ""
        rows.append((clip.clip, f"{clip.likeness:.0f}", word_for(clip.likeness), why))
    yield from table(rows, ("clip", "of 100", "", "worst part"))
    yield "  --all tells more of each clip"


def _pair_lines(report: ConvertReport, clip: ClipRow) -> Iterator[str]:
    yield click.style(f"{clip.source} onto {report.target_figure}", bold=True)
    yield f"  bones    source: {clip.source_profile}, target: {clip.target_profile}"
    if clip.resting_bones:
        yield f"           {len(clip.resting_bones)} without a partner stay at rest: {some(clip.resting_bones, 4)}"
    yield f"  pose     source: {clip.source_reference}"
    yield f"           target: {clip.target_reference}"
    yield from (f"           {line}" for line in pose_lines(clip.pose))
    yield f"  travel   ground travel x {clip.travel_scale:.3f}"


def _clip_lines(clip: ClipRow) -> Iterator[str]:
    facts = f"{counted(clip.frames, 'frame')} at {clip.rate:g}, {clip.seconds:.2f} s"
    yield f"  clip     {clip.verdict}"
    yield f"           {parts_line(clip.parts)}"
    yield f"           {facts}; hips' path {clip.hips_mean_percent:.2f} % of leg off"
    yield f"           {footing_line(clip)}"
    yield f"           {contact_line(clip)}"
    yield from (f"           {line}" for line in inside_lines(clip))
    before = clip.as_transferred
    if round(before.likeness, 2) != round(clip.likeness, 2):
        yield (
            f"           before feet and hands were corrected: {before.likeness:.0f} of 100, standing foot slid "
            f"{before.skate_cm_s:.1f} cm/s"
        )
    yield from (f"           {line}" for line in _touch_lines(clip.touches))
    if clip.face is not None:
        lost = clip.face.lost
        said = f"; {counted(len(lost), 'face unit')} shown in part or not" if lost else ", nothing lost"
        used = (
            f"carried over by {counted(len(clip.face.used), 'shape')}" if clip.face.used else "nothing to show it with"
        )
        yield f"  face     {used}{said}"


def _touch_lines(touches: Sequence[TouchRow]) -> Iterator[str]:
    """What the hands met, in a line for each thing."""
    for what in dict.fromkeys(row.what for row in touches):
        own = [row for row in touches if row.what == what]
        hands = " and ".join(dict.fromkeys(row.hand for row in own))
        name = "each other" if what == "hand" else f"the {what}"
        times = len({(row.start_s, row.stop_s) for row in own})
        yield f"{hands} hand touches {name} {times} times, at most {max(row.off_cm for row in own):.1f} cm off"
