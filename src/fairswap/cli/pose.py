"""``fairswap pose measure|set|save``."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from fairswap.cli import manners

if TYPE_CHECKING:
    from fairswap.body.subject import Subject
    from fairswap.document import Document
    from fairswap.pose.measure import RoleAngle

_bones = click.option("--bones", metavar="P", help="Bone profile of FILE: a file or a name.")
_frame_of = click.option("--frame-of", "clip", metavar="CLIP", help="The clip that frame:N and time:S are of.")


@click.group(name="pose")
def command() -> None:
    """Reference poses: measured in degrees, set as a figure's rest, saved and used again."""


@command.command(short_help="How far a pose is from the T, or from another's.")
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--against", type=click.Path(path_type=Path), metavar="FILE", help="Hold it against this file's pose.")
@manners.source_bones
@manners.target_bones
@manners.source_reference
@manners.target_reference
@manners.picture
@manners.unit
@manners.up
@manners.writing
def measure(
    file: Path,
    against: Path | None,
    source_bones: str | None,
    target_bones: str | None,
    source_reference: str,
    target_reference: str,
    picture: Path | None,
    unit: str | None,
    up: str | None,
    as_json: bool,
    quiet: bool,
    force: bool,
) -> None:
    """Measure the reference pose of FILE, joint by joint, in degrees: from the neutral T, or from another file's pose.

    FILE is the source, --against the target. Swing is a difference of direction, twist one about the bone's length.
    """
    from fairswap.files import load
    from fairswap.pose.measure import measure_pose, measurement_as_dict, pose_findings

    inputs = [path for path in (file, against) if path is not None]
    if picture is not None:
        manners.never_an_input(picture, inputs)
    a = _subject(load(file, unit=unit, up=up), source_bones, source_reference, "source")
    b: Subject | None = None
    if against is not None:
        b = _subject(load(against), target_bones, target_reference, "target")
    angles = measure_pose(a, b)
    place = a.figure.name if b is None else f"{a.figure.name} and {b.figure.name}"
    report = {
        "file": str(file),
        "against": None if against is None else str(against),
        "pose": a.base.said,
        "against_pose": "the neutral T" if b is None else b.base.said,
        **measurement_as_dict(angles),
        "findings": [finding.as_dict() for finding in pose_findings(angles, place)],
    }
    if picture is not None:
        from fairswap.formats.storage import write_atomically
        from fairswap.picture.pose_sheet import pose_sheet

        write_atomically(picture, [pose_sheet(a, b, angles, file.name, against.name if against else "")], force)
    manners.emit(report, _measure_lines(report, angles), as_json, quiet)


@command.command(name="set", short_help="Give a figure another rest pose.")
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--to", metavar="POSE", help="t, a, a:DEGREES, frame:N, time:S, rest, a saved pose (.toml), or a file.")
@_frame_of
@click.option(
    "--skin",
    type=click.Choice(["auto", "bind", "keep"]),
    default="auto",
    help="Bind meshes to the new rest, keep them bound as they are, or bind those that were bound at rest (auto).",
)
@click.option("-o", "--out", required=True, type=click.Path(path_type=Path), metavar="OUT", help="Write this file.")
@_bones
@manners.unit
@manners.up
@manners.writing
def set_pose(
    file: Path,
    to: str | None,
    clip: str | None,
    skin: str,
    out: Path,
    bones: str | None,
    unit: str | None,
    up: str | None,
    as_json: bool,
    quiet: bool,
    force: bool,
) -> None:
    """Write FILE with another rest pose; all its clips look as before.

    Bones, bind matrices, meshes, normals, morphs and clips are changed together. An A-pose has its arms lowered by 45
    degrees; 'a:60' says how far. --frame-of CLIP alone freezes the first frame of that clip.
    """
    from fairswap.files import load, save
    from fairswap.pose.choosing import skeleton_for
    from fairswap.pose.setting import with_rest

    if to is None and clip is None:
        raise click.UsageError("say which pose: --to t, --to a, --to frame:N, --to FILE, or --frame-of CLIP")
    manners.never_an_input(out, (file,))
    document = load(file, unit=unit, up=up)
    side = _subject(document, bones, "auto", "file", clip)
    wanted = to or "frame:0"
    skeleton = skeleton_for(side, wanted, side.clip)
    rested = with_rest(
        side.figure,
        document.clips_of(side.figure),
        skeleton,
        "bind" if wanted == "rest" and skin == "auto" else skin,
    )
    report = {
        "file": str(file),
        "figure": side.figure.name,
        "to": wanted,
        "bones": {name: round(degrees, 3) for name, degrees in rested.moved_degrees.items()},
        "clips": [clip.name for clip in rested.clips],
        "meshes": len(side.figure.meshes),
        "kept_skins": list(rested.kept_skins),
        "skin_mean_mm": round(rested.skin_mean_mm, 4),
        "skin_worst_mm": round(rested.skin_worst_mm, 4),
        "written": save(out, rested.figure, rested.clips, force=force),
        "findings": [finding.as_dict() for finding in (*document.findings, *document.left_standing())],
    }
    manners.emit(report, _set_lines(report), as_json, quiet)


@command.command(short_help="Save a pose, or the hands of one, for use again.")
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--pose", "of", default="rest", metavar="POSE", help="Which: rest (default), frame:N, time:S, zero.")
@_frame_of
@click.option(
    "--part",
    "parts",
    multiple=True,
    type=click.Choice(["arms", "hands", "fingers", "legs", "feet", "trunk", "head"]),
    help="Only this part; may be given several times.",
)
@click.option("-o", "--out", required=True, type=click.Path(path_type=Path), metavar="P.toml", help="Write it here.")
@_bones
@manners.writing
def save(
    file: Path,
    of: str,
    clip: str | None,
    parts: tuple[str, ...],
    out: Path,
    bones: str | None,
    as_json: bool,
    quiet: bool,
    force: bool,
) -> None:
    """Save a pose of FILE by role, as turns away from the neutral T: to be set, or given as a reference pose."""
    from fairswap.files import load
    from fairswap.formats.storage import write_atomically
    from fairswap.pose.choosing import pose_of
    from fairswap.pose.measure import pose_part_of
    from fairswap.pose.saved import SavedPose

    manners.never_an_input(out, (file,))
    side = _subject(load(file), bones, "auto", "file", clip)
    turns = {
        role: turn for role, turn in pose_of(side, of, side.clip).items() if not parts or pose_part_of(role) in parts
    }
    pose = SavedPose.from_rotations(out.stem, turns)
    write_atomically(out, [pose.text().encode()], force)
    report = {
        "file": str(file),
        "pose": of,
        "turns": {role: [round(x, 4) for x in turn.tolist()] for role, turn in pose.turns.items()},
        "written": [str(out)],
    }
    lines = [f"{len(pose.turns)} joints of {side.figure.name} are turned away from the T", f"  wrote    {out}"]
    manners.emit(report, lines, as_json, quiet)


def _subject(document: Document, bones: str | None, reference: str, part: str, clip: str | None = None) -> Subject:
    from fairswap.body.subject import Subject
    from fairswap.bones.profile import profile_named

    figure = document.figure
    moving = document.clip(clip) if clip else next(iter(document.clips_of(figure)), None)
    profile = profile_named(bones) if bones else None
    return Subject(part, figure, profile, clip=moving, reference_choice=reference)


def _measure_lines(report: dict[str, Any], angles: list[RoleAngle]) -> Iterator[str]:
    yield click.style(f"{report['file']} against {report['against'] or 'the neutral T'}", bold=True)
    yield f"  pose     {report['pose']}"
    if report["against"]:
        yield f"  against  {report['against_pose']}"
    yield from (f"  {line}" for line in manners.pose_lines(report["parts"]))
    rows = [
        (row.role, f"{row.swing_degrees:.1f}", f"{row.twist_degrees:.1f}", "corrected" if row.corrected else "kept")
        for row in angles
        if row.degrees >= 1.0
    ]
    if rows:
        yield ""
        yield from manners.table(rows, ("role", "swing", "twist", "when carried over"))
    yield from manners.finding_lines(report["findings"])


def _set_lines(report: dict[str, Any]) -> Iterator[str]:
    yield click.style(f"{report['figure']} now rests in: {report['to']}", bold=True)
    bones = report["bones"]
    if bones:
        name, degrees = max(bones.items(), key=lambda row: row[1])
        yield f"  bones    {len(bones)} turned, {name} most, by {degrees:.1f} degrees"
    else:
        yield "  bones    rested so already"
    if not report["meshes"]:
        pass
    elif report["kept_skins"]:
        yield f"  skin     stays bound in a pose of its own: {', '.join(report['kept_skins'])}"
    elif not report["clips"]:
        yield "  skin     bound to the new rest"
    else:
        yield (
            f"  skin     bound to the new rest; in the clips it is {report['skin_mean_mm']:.2f} mm from before on "
            f"average, {report['skin_worst_mm']:.1f} mm at worst (--skin keep leaves it exactly)"
        )
    if report["clips"]:
        yield f"  clips    {len(report['clips'])} keyed anew, bones where they were: {', '.join(report['clips'][:6])}"
    yield from (f"  wrote    {path}" for path in report["written"])
    yield from manners.finding_lines(report["findings"])
