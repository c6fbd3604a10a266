"""``fairswap check FILE… --platform P``."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import click

from fairswap.cli import options
from fairswap.cli.output import Output
from fairswap.cli.reports import Report, RuleRow, rule_row
from fairswap.cli.text import table


class FileRow(Report, frozen=True):
    """One file held against the platform; ``error`` says why it could not be read."""

    file: str
    fits: bool
    error: str | None
    rules: tuple[RuleRow, ...]


class CheckReport(Report, frozen=True):
    """Files held against a platform."""

    platform: str
    files: tuple[FileRow, ...]


@click.command()
@click.argument("files", nargs=-1, required=True, metavar="FILE...", type=options.INPUT)
@click.option("--platform", required=True, type=options.name_or_file, metavar="P",
              help="The platform: a built-in name or a file.")  # fmt: skip
@options.figure
@options.reporting
def command(files: tuple[Path, ...], platform: str, output: Output) -> None:
    """Hold FILE... (files or folders) against a platform, rule by rule: allowed, measured, verdict, what mends it.

    Exit status 1 if a rule of severity problem is broken.
    """
    from fairswap.errors import FairSwapError
    from fairswap.platform.checking import check
    from fairswap.platform.rules import platform_named

    rules, paths = platform_named(platform), _found(files)
    rows = []
    for path in paths:
        try:
            found = check(options.loaded(path), rules)
        except FairSwapError as error:
            if len(paths) == 1:
                raise
            rows.append(FileRow(str(path), False, str(error), ()))
            continue
        rows.append(FileRow(str(path), found.fits, None, tuple(rule_row(row) for row in found.results)))
    output.report(CheckReport(rules.name, tuple(rows)), _lines)
    if not all(row.fits for row in rows):
        output.failed()


def _found(files: tuple[Path, ...]) -> list[Path]:
    """The files, and of folders all in them that we know."""
    from fairswap.errors import UsageError
    from fairswap.formats.files import FORMATS

    paths: list[Path] = []
    for path in files:
        known = sorted(p for p in path.rglob("*") if p.suffix.lower() in FORMATS) if path.is_dir() else [path]
        if not known:
            raise UsageError("there is no file in it that we know", file=path, remedy=f"Known are {', '.join(FORMATS)}")
        paths += known
    return paths


def _lines(report: CheckReport) -> Iterator[str]:
    if len(report.files) > 1:
        yield click.style(f"{len(report.files)} files against {report.platform}", bold=True)
        rows = []
        for row in report.files:
            said = row.error or ", ".join(dict.fromkeys(rule.rule for rule in row.rules if not rule.ok)) or "-"
            rows.append((row.file, "fits" if row.fits else "does not fit", said[:70]))
        yield from table(rows, ("file", "verdict", "broken rules"))
        return
    row = report.files[0]
    verdict = "fits" if row.fits else "does not fit"
    yield click.style(f"{row.file} {verdict} {report.platform}", bold=True)
    cells = [
        (rule.rule, rule.place[:24], rule.allowed[:40], rule.measured[:48], "ok" if rule.ok else rule.severity)
        for rule in row.rules
    ]
    yield from table(cells, ("rule", "of", "allowed", "measured", "verdict"))
    for remedy in dict.fromkeys(rule.remedy for rule in row.rules if rule.remedy):
        yield f"  to mend  {remedy}"
