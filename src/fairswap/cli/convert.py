"""``fairswap convert MOTION… --onto FIGURE -o OUT``."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import click
import msgspec

from fairswap.cli import options
from fairswap.cli.convert_reports import ConvertReport, FailedRow, WrittenRow, clip_row, convert_lines
from fairswap.cli.fit import finished_fit, fit_file
from fairswap.cli.many import files_named
from fairswap.cli.output import Output
from fairswap.cli.plan_running import plan_told, run_told
from fairswap.cli.reports import finding_rows
from fairswap.wording import counted

if TYPE_CHECKING:
    from fairswap.figures.placing import Place
    from fairswap.jobs.conversion import Conversion, Conversions
    from fairswap.jobs.failures import Failure
    from fairswap.jobs.options import FaceOptions, SourceOptions, TargetOptions
    from fairswap.model.document import Document
    from fairswap.retarget.options import MotionOptions


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
@click.option("--workers", type=options.WholeBetween(1, 1024), metavar="N",
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
        _to_platform(motions, platform, out, target, picture, which, output, place, without, show_all)
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
    output.report(report, partial(convert_lines, whole=show_all))
    if not done.looks_same or failed or (report.fit is not None and not report.fit.fits):
        output.failed()


def _to_platform(
    motions: Sequence[Path], platform: str | None, out: Path, target: TargetOptions, picture: Path | None,
    reading: options.Reading, output: Output, place: Place, without: tuple[str, ...], show_all: bool,
) -> None:  # fmt: skip
    """Bring a figure, without a motion from elsewhere, to a platform: what ``fairswap fit`` does."""
    if platform is None:
        raise click.UsageError("give --onto FIGURE, or --platform P to bring a figure to a platform")
    if len(motions) > 1:
        raise click.UsageError("without --onto, give one figure")
    bones = target.profile
    fit_file(motions[0], platform, out, bones, picture, reading, output, place, without=without, show_all=show_all)


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
        clips=tuple(clip_row(row) for row in done.done),
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
