"""``fairswap compare SOURCE RESULT``."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import click

from fairswap.cli import options
from fairswap.cli.many import OverFiles
from fairswap.cli.output import Output
from fairswap.cli.reports import ComparisonRow, CutRow, FindingRow, comparison_row, cut_rows, finding_rows
from fairswap.cli.text import cut_lines, table, written_lines

if TYPE_CHECKING:
    from fairswap.measure.differences import RoleDifference

# Of the joints, so many are shown; and those that nobody sees are not.
_FURTHEST, _SEEN_DEGREES = 6, 1.0


class CompareReport(ComparisonRow, frozen=True):
    """A result file compared with its source."""

    source: str
    result: str
    face_lacking: str
    findings: tuple[FindingRow, ...]
    cutting: tuple[CutRow, ...]
    written: tuple[str, ...]


@click.command(cls=OverFiles)
@click.argument("source", type=options.INPUT)
@click.argument("result", type=options.INPUT)
@click.option("--clip", "name", metavar="NAME", help="The clip of this name in both; else by order and name.")
@options.source_bones
@options.target_bones
@options.picture
@options.looks
@options.view
@click.option(
    "--curves", type=options.OUTPUT, metavar="FILE.png",
    help="Draw the curves of joints, source and result over each other, and when feet stand.",
)  # fmt: skip
@click.option(
    "--curve", "roles", multiple=True, metavar="ROLE",
    help="Which joint. Repeatable. By default the one furthest off.",
)  # fmt: skip
@options.target_figure
@options.source_reading
@options.show_all
@options.writing
def command(
    source: Path, result: Path, name: str | None, source_bones: str | None, target_bones: str | None,
    picture: Path | None, curves: Path | None, roles: tuple[str, ...],
    looks: options.Looks, target_figure: str | None, reading: options.Reading, show_all: bool, output: Output,
) -> None:  # fmt: skip
    """Compare RESULT with SOURCE: how far each joint is off over time, and what the feet do.

    Exit status 1 if they do not look the same.
    """
    import msgspec

    from fairswap.figures.dressing.wearing import cutting
    from fairswap.formats.files import load
    from fairswap.jobs.comparing import compare
    from fairswap.jobs.options import SourceOptions, TargetOptions

    if roles and curves is None:
        raise click.UsageError("--curve needs --curves FILE.png to draw into")
    output.announce(picture, curves)
    documents = reading.load(source), load(result, figure=target_figure)
    wanted = SourceOptions(bones=source_bones), TargetOptions(bones=target_bones)
    found = compare(*documents, clip=name, source_options=wanted[0], result_options=wanted[1])
    output.show(found)
    written = []
    if picture is not None:
        from fairswap.picture.verbs import sheet

        drawn = sheet(found, f"{source.name}  onto  {result.name}", at=looks.at, shots=looks.shots)
        written.append(output.write(picture, drawn))
    if curves is not None:
        from fairswap.picture.verbs import curves as curves_of

        written.append(output.write(curves, curves_of(found, roles)))
    row = msgspec.structs.asdict(comparison_row(found))
    cuts = cut_rows(cutting(found.result.rigged, found.result.clip))
    report = CompareReport(**row, source=str(source), result=str(result), face_lacking=found.face_lacking,
                           findings=finding_rows(found.findings), cutting=cuts, written=tuple(written))  # fmt: skip
    output.report(report, partial(_lines, whole=show_all))
    if not found.looks_same:
        output.failed()


def _lines(report: CompareReport, whole: bool) -> Iterator[str]:
    yield click.style(report.verdict, bold=True)
    yield f"  {report.result} compared with {report.source}"
    differing = [row for row in report.parts if round(row.score) < 100]
    parts = [
        (row.part, f"{row.score:.0f}", f"{row.because}: {row.value:.2f} {row.unit} (limit {row.limit:.3g})")
        for row in sorted(differing, key=lambda row: row.score)
    ]
    alike = [row.part for row in report.parts if row not in differing]
    if alike:
        parts.append((f"{len(alike)} others" if parts else "every part", "100", ", ".join(alike)))
    yield from table(parts, ("part", "of 100", "why"))
    if report.face_lacking:
        yield f"  not judged: {report.face_lacking}"
    before, after = report.source_footing, report.result_footing
    feet = [
        ("hips' path, % of leg", "", f"{report.hips_mean_percent:.2f} (worst {report.hips_worst_percent:.2f})"),
        ("standing foot slides, cm/s", f"{before.skate_cm_s:.2f}", f"{after.skate_cm_s:.2f}"),
        ("deepest sole below floor, cm", f"{before.sole_below_cm:.2f}", f"{after.sole_below_cm:.2f}"),
        ("seconds", f"{report.seconds:.3f}", f"{report.seconds + report.duration_difference_s:.3f}"),
    ]
    jump = report.starts_over
    if jump is not None:
        feet.append(("jump where it starts over, °", f"{jump.source_degrees:.2f}", f"{jump.degrees:.2f}"))
    yield from table(feet, ("", "source", "result"))
    yield from cut_lines(report.cutting, report.clip)
    yield from _joint_lines(report.roles, whole)
    yield from written_lines(report.written)


def _joint_lines(roles: Sequence[RoleDifference], whole: bool) -> Iterator[str]:
    """Joint by joint: all of them, or those that are furthest off."""
    shown = list(roles) if whole else sorted(roles, key=lambda row: -row.mean_degrees)[:_FURTHEST]
    shown = shown if whole else [row for row in shown if row.worst_degrees >= _SEEN_DEGREES]
    if not shown:
        yield f"  all {len(roles)} joints within {_SEEN_DEGREES:g} degree (--all lists them)"
        return
    rows = [
        (row.role, row.by, f"{row.mean_degrees:.2f}", f"{row.worst_degrees:.2f}", f"{row.worst_at_s:.2f}",
         f"{row.turn_mean_degrees:.2f}")
        for row in shown
    ]  # fmt: skip
    yield from table(rows, ("joint", "compared by", "mean degrees", "worst", "at second", "turn"))
    if len(shown) < len(roles):
        yield f"  the furthest of {len(roles)} joints; --all lists every one"
