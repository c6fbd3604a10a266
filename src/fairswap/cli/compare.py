"""``fairswap compare SOURCE RESULT``."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import click

from fairswap.cli import options
from fairswap.cli.many import OverFiles
from fairswap.cli.output import Output
from fairswap.cli.reports import ComparisonRow, CutRow, comparison_row, cut_rows
from fairswap.cli.text import cut_lines, table, written_lines


class CompareReport(ComparisonRow, frozen=True):
    """A result file held against its source."""

    source: str
    result: str
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
    help="Which joint; may be given several times. Without, the one that differs most.",
)  # fmt: skip
@options.target_figure
@options.source_reading
@options.writing
def command(
    source: Path, result: Path, name: str | None, source_bones: str | None, target_bones: str | None,
    picture: Path | None, curves: Path | None, roles: tuple[str, ...],
    looks: options.Looks, target_figure: str | None, reading: options.Reading, output: Output,
) -> None:  # fmt: skip
    """Hold RESULT against SOURCE: how far every bone's direction differs over time, and how the feet behave.

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
    report = CompareReport(**row, source=str(source), result=str(result), cutting=cuts, written=tuple(written))
    output.report(report, _lines)
    if not found.looks_same:
        output.failed()


def _lines(report: CompareReport) -> Iterator[str]:
    yield click.style(f"{report.result} against {report.source}", bold=True)
    rows = [
        (
            row.role,
            row.by,
            f"{row.mean_degrees:.2f}",
            f"{row.worst_degrees:.2f}",
            f"{row.worst_at_s:.2f}",
            f"{row.turn_mean_degrees:.2f}",
        )
        for row in report.roles
    ]
    yield from table(rows, ("role", "compared by", "mean degrees", "worst", "at second", "turn"))
    parts = [
        (
            row.part,
            f"{row.score:.0f}",
            f"{row.because}: {row.value:.2f} {row.unit} (limit {row.limit:g})" if round(row.score) < 100 else "alike",
        )
        for row in report.parts
    ]
    yield from table(parts, ("part", "of 100", "by"))
    before, after = report.source_footing, report.result_footing
    feet = [
        ("hips' path, % of leg", "", f"{report.hips_mean_percent:.2f} (worst {report.hips_worst_percent:.2f})"),
        ("standing foot slides, cm/s", f"{before.skate_cm_s:.2f}", f"{after.skate_cm_s:.2f}"),
        ("deepest sole below floor, cm", f"{before.sole_below_cm:.2f}", f"{after.sole_below_cm:.2f}"),
        ("seconds", f"{report.seconds:.3f}", f"{report.seconds + report.duration_difference_s:.3f}"),
    ]
    yield from table(feet, ("", "source", "result"))
    yield from cut_lines(report.cutting, report.clip)
    yield click.style(report.verdict, bold=True)
    yield from written_lines(report.written)
