"""``fairswap platform new|list|show``."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import click

from fairswap.cli import options
from fairswap.cli.output import Output
from fairswap.cli.reports import FindingRow, Report, finding_rows
from fairswap.cli.text import table
from fairswap.errors import Severity

if TYPE_CHECKING:
    from fairswap.platform.rules import ClipRules, FigureRules, FileRules


class PlatformNewReport(Report, frozen=True):
    """The platform file that was written."""

    name: str
    written: tuple[str, ...]


class PlatformName(Report, frozen=True):
    """A built-in platform."""

    name: str
    title: str
    bones: str


class PlatformListReport(Report, frozen=True):
    """The built-in platforms."""

    platforms: tuple[PlatformName, ...]


class PlatformShowReport(Report, frozen=True):
    """What a platform demands."""

    name: str
    title: str
    bones: str
    face: str | None
    space: str
    figure: FigureRules
    clip: ClipRules
    file: FileRules
    severity: dict[str, Severity]
    findings: tuple[FindingRow, ...]


@click.group(name="platform")
def command() -> None:
    """Platforms: the demands of target ecosystems, written down once."""


@command.command(short_help="Write a new platform file, every rule explained.")
@click.argument("name")
@click.option("-o", "--out", type=options.OUTPUT, required=True, metavar="P.toml", help="Write this file.")
@options.writing
def new(name: str, out: Path, output: Output) -> None:
    """Write a platform file with every rule explained, to be filled in from the platform's public page."""
    from fairswap.platform.rules import template

    output.write(out, template(name).encode())
    output.report(PlatformNewReport(name, (str(out),)), _new_lines)


@command.command(name="list", short_help="The built-in platforms.")
@options.reporting
def list_(output: Output) -> None:
    """The built-in platforms: our own stages, and open standards."""
    from fairswap.platform.rules import built_in_platforms

    rows = tuple(PlatformName(p.name, p.title, p.profile.name) for p in built_in_platforms())
    output.report(PlatformListReport(rows), _list_lines)


@command.command(short_help="What a platform demands.")
@click.argument("platform", metavar="P", type=options.name_or_file)
@options.reporting
def show(platform: str, output: Output) -> None:
    """What the platform P (a name or a file) demands."""
    from fairswap.platform.rules import platform_named

    p = platform_named(platform)
    face = p.face.name if p.face else None
    told = finding_rows(p.findings)
    report = PlatformShowReport(
        p.name, p.title, p.profile.name, face, str(p.space), p.figure, p.clip, p.file, p.severity, told
    )
    output.report(report, _show_lines)


def _new_lines(report: PlatformNewReport) -> Iterator[str]:
    yield f"  wrote    {report.written[0]}"
    yield f"  next     fill it in, then: fairswap check FILE --platform {report.written[0]}"


def _list_lines(report: PlatformListReport) -> Iterator[str]:
    return table([(row.name, row.title, row.bones) for row in report.platforms], ("name", "title", "bones"))


def _show_lines(report: PlatformShowReport) -> Iterator[str]:
    import msgspec

    yield click.style(f"{report.name}: {report.title}", bold=True)
    yield f"  bones    as in {report.bones}" + (f"; face as in {report.face}" if report.face else "")
    yield f"  space    {report.space}"
    for name in ("figure", "clip", "file"):
        for rule, value in msgspec.structs.asdict(getattr(report, name)).items():
            if value in (None, [], "", "any", "all", "allowed"):
                continue
            said = ", ".join(map(str, value)) if isinstance(value, list | tuple) else str(value)
            severity = report.severity.get(f"{name}.{rule}", "")
            yield f"  {name + '.' + rule:26} {said[:90]}{f'  ({severity})' if severity else ''}"
