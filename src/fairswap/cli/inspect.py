"""``fairswap inspect FILE``."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import click

from fairswap.cli import options
from fairswap.cli.output import Output
from fairswap.cli.reports import FindingRow, Report, finding_rows
from fairswap.cli.text import table
from fairswap.wording import counted, listed

if TYPE_CHECKING:
    from fairswap.inspection import ClipFacts, FigureFacts, SpaceFacts
    from fairswap.model.document import Held

# Who may wear an avatar, in the words of both editions of VRM.
_WEARERS = {
    "onlyauthor": "its authors alone",
    "onlyseparatelylicensedperson": "those whom its authors allow",
    "explicitlylicensedperson": "those whom its authors allow",
}


class InspectReport(Report, frozen=True):
    """What is in a file."""

    file: str
    format: str
    space: SpaceFacts
    figures: tuple[FigureFacts, ...]
    clips: tuple[ClipFacts, ...]
    beside: tuple[Held, ...]
    findings: tuple[FindingRow, ...]


@click.command(name="inspect")
@click.argument("file", type=options.INPUT)
@options.bones
@options.reading
@options.reporting
def command(file: Path, bones: str | None, reading: options.Reading, output: Output) -> None:
    """Take stock of FILE: figures, bones, space, rest pose, clips, and what is odd about them.

    Exit status 1 if there is a problem in it.
    """
    from fairswap.inspection import inspect

    found = inspect(reading.load(file), bones=bones)
    rows = finding_rows(found.findings)
    report = InspectReport(found.file, found.format, found.space, found.figures, found.clips, found.beside, rows)
    output.report(report, _lines)
    if any(finding.severity == "problem" for finding in found.findings):
        output.failed()


def _lines(report: InspectReport) -> Iterator[str]:
    space = report.space
    yield click.style(f"{report.file}", bold=True) + f"  {report.format}"
    tall = f"; {space.height_m:.2f} m tall" if report.figures else ""
    yield f"  space    {space.up} up, facing {space.forward}, {space.unit}{tall}"
    for figure in report.figures:
        for number, facts in enumerate(_figure_facts(figure)):
            yield ("  figure   " if number == 0 else "           ") + facts
    if report.clips:
        heads = ("clip", "frames", "rate", "seconds", "keyed bones", "travels m", "")
        rows = [
            (
                clip.name,
                str(clip.frames),
                f"{clip.rate:g}",
                f"{clip.duration_s:.2f}",
                str(clip.keyed_bones),
                f"{clip.travel_m:.2f}",
                "still" if clip.still else "",
            )
            for clip in report.clips
        ]
        yield from table(rows, heads)
    else:
        yield "  clips    none"
    for kind in dict.fromkeys(row.kind for row in report.beside):
        things = [row for row in report.beside if row.kind == kind]
        named = [_thing(row) for row in things]
        yield f"  {kind:<9}{listed(named, 8)}"


def _thing(row: Held) -> str:
    size = counted(row.triangles, "triangle") if row.triangles else ""
    moved = f"moved by {', '.join(row.moved_by)}" if row.moved_by else ""
    facts = "; ".join(fact for fact in (size, moved) if fact)
    return f"{row.name} ({facts})" if facts else row.name


def _figure_facts(figure: FigureFacts) -> Iterator[str]:
    bones = counted(figure.bones, "bone") + (f", {figure.end_bones} of them ends" if figure.end_bones else "")
    if figure.roles and figure.rest_pose is not None:
        known = f"{counted(len(figure.roles), 'role')}, {figure.profile}"
        if figure.least_sure is not None:
            known += f" (least sure {figure.least_sure:.2f})"
        yield f"{figure.name}: {bones}; {known}"
        yield f"rests in {figure.rest_pose.kind} (arms {figure.rest_pose.arm_degrees:.0f} degrees below level)"
    else:
        yield f"{figure.name}: {bones}; roles unknown"
    if figure.meshes:
        influences = counted(figure.max_influences, "influence")
        skin = f"{counted(figure.meshes, 'mesh', 'meshes')}, {figure.vertices} vertices, at most {influences}"
    else:
        skin = "no mesh"
    yield f"{skin}; " + (counted(len(figure.morphs), "morph") if figure.morphs else "no morphs")
    if figure.meshes > 1:
        yield "triangles: " + listed((f"{mesh.name} {mesh.triangles}" for mesh in figure.each_mesh), 5)
    if figure.avatar is not None:
        avatar = figure.avatar
        by = f" by {', '.join(avatar.authors)}" if avatar.authors else ""
        who = _WEARERS.get(avatar.permission.lower(), avatar.permission)
        swings = f", {avatar.swinging_rows} rows of bones that swing" if avatar.swinging_rows else ""
        yield f"avatar of VRM {avatar.edition}: {avatar.name!r}{by}; worn by {who}"
        yield f"{len(avatar.expressions)} expressions{swings}"
