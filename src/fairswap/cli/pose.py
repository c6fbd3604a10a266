"""``fairswap pose measure|set|save``."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import click

from fairswap.bones.roles import POSE_PARTS
from fairswap.cli import options
from fairswap.cli.output import Output
from fairswap.cli.reports import FindingRow, Report, finding_rows
from fairswap.cli.text import pose_lines, table, written_lines

_frame_of = click.option("--frame-of", "clip", metavar="CLIP", help="The clip that frame:N and time:S are of.")


if TYPE_CHECKING:
    from fairswap.figures.placing import Place
    from fairswap.pose.measuring import PartVerdict, RoleAngle


class PoseMeasureReport(Report, frozen=True):
    """How far one reference pose is from another, joint by joint and part by part."""

    file: str
    against: str | None
    pose: str
    against_pose: str
    roles: tuple[RoleAngle, ...]
    parts: tuple[PartVerdict, ...]
    written: tuple[str, ...]
    findings: tuple[FindingRow, ...]


class PoseSetReport(Report, frozen=True):
    """A figure with another rest pose, and what that cost; ``bones`` gives degrees by name."""

    file: str
    figure: str
    to: str
    bones: dict[str, float]
    clips: tuple[str, ...]
    meshes: int
    kept_skins: tuple[str, ...]
    skin_mean_mm: float
    skin_worst_mm: float
    written: tuple[str, ...]
    findings: tuple[FindingRow, ...]


class PoseSaveReport(Report, frozen=True):
    """A pose that was saved: turns by role, degrees about left, up and ahead."""

    file: str
    figure: str
    pose: str
    turns: dict[str, list[float]]
    written: tuple[str, ...]


@click.group(name="pose")
def command() -> None:
    """Reference poses: measured in degrees, set as a figure's rest, saved and used again."""


@command.command(short_help="How far a pose is from the T, or from another's.")
@click.argument("file", type=options.INPUT)
@click.option("--against", type=options.INPUT, metavar="FILE", help="Compare with this file's pose.")
@options.source_bones
@options.target_bones
@options.source_reference
@options.target_reference
@options.picture
@options.reading
@options.writing
def measure(
    file: Path, against: Path | None, source_bones: str | None, target_bones: str | None, source_reference: str,
    target_reference: str, picture: Path | None, reading: options.Reading, output: Output,
) -> None:  # fmt: skip
    """Measure the reference pose of FILE, joint by joint, in degrees: from the neutral T, or from another file's pose.

    FILE is the source, --against the target. Swing is a difference of direction, twist one about the bone's length.
    """
    from fairswap.pose.verbs import measure as measured

    output.announce(picture)
    found = measured(
        reading.load(file), against, bones=source_bones, against_bones=target_bones, reference=source_reference,
        against_reference=target_reference,
    )  # fmt: skip
    written = []
    if picture is not None:
        from fairswap.picture.verbs import pose as drawn

        written.append(output.write(picture, drawn(found, file.name, against.name if against else "")))
    report = PoseMeasureReport(
        file=str(file),
        against=None if against is None else str(against),
        pose=found.rigged.base.said,
        against_pose="the neutral T" if found.against is None else found.against.base.said,
        roles=found.angles,
        parts=tuple(found.parts),
        written=tuple(written),
        findings=finding_rows(found.findings),
    )
    output.report(report, _measure_lines)


@command.command(name="set", short_help="Give a figure another rest pose.")
@click.argument("file", type=options.INPUT)
@click.option("--to", type=options.name_or_file, metavar="POSE",
              help="t, a, a:DEGREES, frame:N, time:S, rest, a saved pose (.toml), or a file.")  # fmt: skip
@_frame_of
@click.option(
    "--skin", type=click.Choice(["auto", "bind", "keep"]), default="auto",
    help="Bind meshes to the new rest, keep them bound as they are, or bind those that were bound at rest (auto).",
)  # fmt: skip
@options.out
@options.bones
@options.place
@options.view
@options.reading
@options.writing
def set_(
    file: Path, to: str | None, clip: str | None, skin: str, out: Path, bones: str | None, place: Place,
    reading: options.Reading, output: Output,
) -> None:  # fmt: skip
    """Write FILE with another rest pose; all its clips look as before.

    Bones, bind matrices, meshes, normals, morphs and clips are changed together. An A-pose has its arms lowered by 45
    degrees; 'a:60' says how far. --frame-of CLIP alone freezes the first frame of that clip.
    """
    from fairswap.figures.placing import place as placed
    from fairswap.pose.verbs import set as rest_in

    if to is None and clip is None:
        raise click.UsageError("say which pose: --to t, --to a, --to frame:N, --to FILE, or --frame-of CLIP")
    document = placed(reading.load(file), place)
    output.announce(out)
    wanted = to or "frame:0"
    made = rest_in(document, wanted, clip=clip, skin=skin, bones=bones)
    rested = made.rested
    report = PoseSetReport(
        file=str(file),
        figure=made.rigged.figure.name,
        to=wanted,
        bones=dict(rested.moved_degrees),
        clips=tuple(clip.name for clip in rested.clips),
        meshes=len(made.rigged.figure.meshes),
        kept_skins=rested.kept_skins,
        skin_mean_mm=rested.skin_mean_mm,
        skin_worst_mm=rested.skin_worst_mm,
        written=tuple(made.write(out, output.files)),
        findings=finding_rows([*document.findings, *document.left_standing()]),
    )
    output.report(report, _set_lines)


@command.command(short_help="Save a pose, or the hands of one, for use again.")
@click.argument("file", type=options.INPUT)
@click.option("--pose", "of", type=options.name_or_file, default="rest", metavar="POSE",
              help="Which: rest (default), frame:N, time:S, zero.")  # fmt: skip
@_frame_of
@click.option("--part", "parts", multiple=True, type=click.Choice(POSE_PARTS), help="Only this part. Repeatable.")
@click.option("-o", "--out", required=True, type=options.OUTPUT, metavar="P.toml", help="Write it here.")
@options.bones
@options.writing
def save(
    file: Path, of: str, clip: str | None, parts: tuple[str, ...], out: Path, bones: str | None, output: Output
) -> None:
    """Save a pose of FILE by role, as turns away from the neutral T: to be set, or given as a reference pose."""
    from fairswap.formats.files import load
    from fairswap.pose.verbs import save as saved

    document = load(file)
    pose = saved(document, of, clip=clip, parts=parts, name=out.stem, bones=bones)
    written = output.write(out, pose.text().encode())
    turns = {role: turn.tolist() for role, turn in pose.turns.items()}
    output.report(PoseSaveReport(str(file), document.figure.name, of, turns, (written,)), _save_lines)


def _measure_lines(report: PoseMeasureReport) -> Iterator[str]:
    yield click.style(f"{report.file} against {report.against or 'the neutral T'}", bold=True)
    yield f"  pose     {report.pose}"
    if report.against:
        yield f"  against  {report.against_pose}"
    yield from (f"  {line}" for line in pose_lines(report.parts))
    rows = [
        (row.role, f"{row.swing_degrees:.1f}", f"{row.twist_degrees:.1f}", "corrected" if row.corrected else "kept")
        for row in report.roles
        if row.degrees >= 1.0
    ]
    if rows:
        yield ""
        yield from table(rows, ("role", "swing", "twist", "when carried over"))
    yield from written_lines(report.written)


def _set_lines(report: PoseSetReport) -> Iterator[str]:
    yield click.style(f"{report.figure} now rests in: {report.to}", bold=True)
    if report.bones:
        name, degrees = max(report.bones.items(), key=lambda row: row[1])
        yield f"  bones    {len(report.bones)} turned, {name} most, by {degrees:.1f} degrees"
    else:
        yield "  bones    rested so already"
    if report.kept_skins:
        yield f"  skin     stays bound in a pose of its own: {', '.join(report.kept_skins)}"
    elif report.meshes and not report.clips:
        yield "  skin     bound to the new rest"
    elif report.meshes:
        yield (
            f"  skin     bound to the new rest; in the clips it is {report.skin_mean_mm:.2f} mm from before on "
            f"average, {report.skin_worst_mm:.1f} mm at worst (--skin keep leaves it exactly)"
        )
    if report.clips:
        yield f"  clips    {len(report.clips)} keyed anew, bones where they were: {', '.join(report.clips[:6])}"
    yield from written_lines(report.written)


def _save_lines(report: PoseSaveReport) -> Iterator[str]:
    yield f"{len(report.turns)} joints of {report.figure} are turned away from the T"
    yield from written_lines(report.written)
