"""``fairswap check FILE… --platform P``."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from functools import partial
from pathlib import Path

import click

from fairswap.cli import options
from fairswap.cli.output import Output
from fairswap.cli.reports import FindingRow, Report, RuleRow, finding_rows, rule_row
from fairswap.cli.text import first_of_each, table
from fairswap.wording import counted


class FileRow(Report, frozen=True):
    """One file checked against the platform; ``error`` says why it could not be read."""

    file: str
    fits: bool
    error: str | None
    rules: tuple[RuleRow, ...]
    findings: tuple[FindingRow, ...] = ()


class CheckReport(Report, frozen=True):
    """Files checked against a platform."""

    platform: str
    files: tuple[FileRow, ...]

    @property
    def findings(self) -> tuple[FindingRow, ...]:
        """Those of all files."""
        return tuple(finding for row in self.files for finding in row.findings)


@click.command()
@click.argument("files", nargs=-1, required=True, metavar="FILE...", type=options.INPUT)
@click.option("--platform", required=True, type=options.name_or_file, metavar="P",
              help="The platform: a built-in name or a file.")  # fmt: skip
@options.figure
@options.show_all
@options.reporting
def command(files: tuple[Path, ...], platform: str, show_all: bool, output: Output) -> None:
    """Check FILE... (files, folders, patterns) against a platform, rule by rule: allowed, measured, how to mend it.

    Exit status 1 if a rule of severity problem is broken.
    """
    from fairswap.plans.inputs import files_meant
    from fairswap.plans.pool import each_beside
    from fairswap.platform.rules import platform_named

    rules = platform_named(platform)
    paths = files_meant(tuple(map(str, files)), Path(), "")
    figure = click.get_current_context().meta.get("fairswap.figure_name")
    checked = partial(_checked, platform=platform, figure=figure, alone=len(paths) == 1)
    with output.progress(len(paths), "checking") as step:
        rows = []
        for row in each_beside(checked, paths):
            rows.append(row)
            step(Path(row.file).name)
    output.report(CheckReport(rules.name, tuple(rows)), partial(_lines, whole=show_all))
    if not all(row.fits for row in rows):
        output.failed()


def _checked(path: Path, platform: str, figure: str | None, alone: bool) -> FileRow:
    """One file checked against a platform; of several, one that cannot be read does not stop the others."""
    from fairswap.cli.remedies import worded_error
    from fairswap.errors import FairSwapError
    from fairswap.formats.files import load
    from fairswap.platform.checking import check
    from fairswap.platform.rules import platform_named

    try:
        found = check(load(path, figure=figure), platform_named(platform))
    except FairSwapError as error:
        if alone:
            raise
        return FileRow(str(path), False, worded_error(error), ())
    told = found.findings if alone else [replace(row, place=f"{path.name}, {row.place}") for row in found.findings]
    return FileRow(str(path), found.fits, None, tuple(map(rule_row, found.results)), finding_rows(told))


def _lines(report: CheckReport, whole: bool) -> Iterator[str]:
    if len(report.files) > 1:
        yield click.style(f"{counted(len(report.files), 'file')} against {report.platform}", bold=True)
        rows = []
        for row in report.files:
            said = row.error or ", ".join(dict.fromkeys(rule.rule for rule in row.rules if not rule.ok)) or "-"
            rows.append((row.file, "fits" if row.fits else "does not fit", said[:70]))
        yield from table(rows, ("file", "verdict", "broken rules"))
        return
    row = report.files[0]
    fits = "fits" if row.fits else "does not fit"
    yield click.style(f"{row.file} {fits} {report.platform}", bold=True)
    kept = [rule for rule in row.rules if rule.ok]
    shown = row.rules if whole else [rule for rule in row.rules if not rule.ok]
    cells: list[tuple[str, ...]] = []
    for rule, more in first_of_each(shown, lambda rule: rule.rule, whole):
        verdict = "ok" if rule.ok else rule.severity
        cells.append((rule.rule, rule.place[:24], rule.allowed[:40], rule.measured[:48], verdict))
        if more:
            cells.append(("", f"and {more} more", "", "", ""))
    if cells:
        yield from table(cells, ("rule", "of", "allowed", "measured", "verdict"))
    if kept and not whole:
        yield f"  {len(kept)} {'other rules are' if cells else 'rules, all'} kept; --all lists everything"
    for remedy in dict.fromkeys(rule.remedy for rule in row.rules if rule.remedy):
        yield f"  to mend  {remedy}"
