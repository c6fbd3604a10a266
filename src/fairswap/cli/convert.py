"""``fairswap convert MOTION… --onto FIGURE -o OUT``."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from fairswap.cli import manners

if TYPE_CHECKING:
    from fairswap.bones.profile import BoneProfile
    from fairswap.document import Document
    from fairswap.face.chart import FaceChart
    from fairswap.job import Converted, Failure


@click.command()
@click.argument("motions", nargs=-1, required=True, metavar="MOTION...", type=click.Path(path_type=Path))
@click.option("--onto", type=click.Path(path_type=Path), metavar="FIGURE", help="The figure that shall move.")
@click.option("--platform", metavar="P", help="Make the result fit this platform: a built-in name or a file.")
@click.option(
    "-o", "--out", required=True, type=click.Path(path_type=Path), metavar="OUT",
    help="OUT.glb or .gltf: the figure with the clips; OUT.bvh: the motion alone; a folder: one file per clip.",
)  # fmt: skip
@click.option("--clip", "names", multiple=True, metavar="NAME", help="Only this clip; may be given several times.")
@click.option(
    "--face",
    type=click.Choice(["all", "only", "none"]),
    default="all",
    help="Carry faces over with the body (default), without it, or not at all.",
)
@click.option("--source-face", type=click.Path(path_type=Path), metavar="F.toml", help="Face chart of the source.")
@click.option("--target-face", type=click.Path(path_type=Path), metavar="F.toml", help="Face chart of FIGURE.")
@click.option("--keep-clips", is_flag=True, help="Keep the figure's own clips beside the new ones.")
@manners.source_bones
@manners.target_bones
@manners.source_reference
@manners.target_reference
@manners.hands_reference
@manners.finishing
@click.option("--strict", is_flag=True, help="Refuse bones that are guesses, less than 0.9 sure.")
@manners.picture
@manners.unit
@manners.up
@manners.writing
def command(
    motions: tuple[Path, ...],
    onto: Path | None,
    platform: str | None,
    out: Path,
    names: tuple[str, ...],
    face: str,
    source_face: Path | None,
    target_face: Path | None,
    keep_clips: bool,
    source_bones: str | None,
    target_bones: str | None,
    source_reference: str,
    target_reference: str,
    hands_reference: str,
    travel: str,
    scale_travel: float | None,
    root_turns: bool,
    feet: str,
    hands: str,
    reach: float,
    thing: str | None,
    clear: bool,
    layers: tuple[Path, ...],
    strict: bool,
    picture: Path | None,
    unit: str | None,
    up: str | None,
    as_json: bool,
    quiet: bool,
    force: bool,
) -> None:
    """Carry the clips of MOTION... over to FIGURE, and say how alike they look.

    With --platform the result is made to fit; without --onto, MOTION is a figure, which is brought to the platform with
    its own clips.

    Clips keep their names, rates and durations. One clip that fails does not stop the others. Exit status 1 if one
    failed, or does not look like its source.
    """
    from fairswap.body.finish import Finish
    from fairswap.body.layers import load_layers
    from fairswap.bones.profile import profile_named
    from fairswap.files import load
    from fairswap.formats.storage import refuse_existing
    from fairswap.job import Faces, convert_clips, outputs_for, write_outputs

    if onto is None:
        if platform is None:
            raise click.UsageError("give --onto FIGURE, or --platform P to bring a figure to a platform")
        _to_platform(motions, platform, out, picture, source_bones, unit, up, as_json, quiet, force)
        return
    inputs = [*motions, onto]
    for path in filter(None, (out, picture)):
        manners.never_an_input(path, inputs)
    if out.suffix and not out.is_dir():
        refuse_existing(out, force)  # before the work, not after it
    finish = Finish(
        travel, scale_travel, root_turns, feet, hands, reach, thing, clear, tuple(load_layers(path) for path in layers)
    )
    failures: list[Failure] = []
    sources = _loaded(motions, unit, up, failures)
    target_document = load(onto)
    profiles = [profile_named(name) if name else None for name in (source_bones, target_bones)]
    if travel == "root":
        target_document = _rooted(target_document, profiles[1])
    target = target_document.figure
    total = sum(len(document.clips) for document in sources)
    with manners.progress(total, "carrying over", quiet) as step:
        done = convert_clips(
            sources,
            target,
            names=names,
            source_bones=profiles[0],
            target_bones=profiles[1],
            strict=strict,
            source_reference=source_reference,
            target_reference=target_reference,
            target_clip=next(iter(target_document.clips_of(target)), None),
            hands_reference=hands_reference,
            finish=finish,
            faces=Faces(face, _chart(source_face), _chart(target_face)),
            failures=failures if len(motions) > 1 or total > 1 else None,
            step=step,
        )
    kept = target_document.clips_of(target) if keep_clips else ()
    if platform is not None:
        _fitted(done, kept, target, profiles[1], platform, out, picture, as_json, quiet, force)
        return
    rows = outputs_for(out, [row.clip for row in done])
    for path, _ in rows:
        manners.never_an_input(path, inputs)
    written = list(write_outputs(rows, target, kept, force=force))
    if picture is not None:
        written += _pictures(picture, done, force)
    findings = [finding for document in (*sources, target_document) for finding in document.findings]
    findings += target_document.left_standing()
    findings += [finding for row in done for finding in row.carried.findings]
    findings += [finding for row in done if row.face is not None for finding in row.face.findings]
    findings += [finding for swap in dict.fromkeys(row.swap for row in done) for finding in swap.findings]
    report = {
        "target": {"file": str(onto), "figure": target.name},
        "finish": {"travel": travel, "feet": feet, "hands": hands, "layers": [str(path) for path in layers]},
        "clips": [_clip_report(row) for row in done],
        "failed": [{"file": row.file, "clip": row.clip, "error": str(row.error)} for row in failures],
        "kept_clips": [clip.name for clip in kept],
        "written": [{"file": name, "bytes": Path(name).stat().st_size} for name in written],
        "findings": [finding.as_dict() for finding in findings],
    }
    manners.emit(report, _lines(report), as_json, quiet)
    if failures or not all(row.comparison.looks_same for row in done):
        raise click.exceptions.Exit(1)


def _chart(path: Path | None) -> FaceChart | None:
    if path is None:
        return None
    from fairswap.face.chart import FaceChart

    return FaceChart.load(path)


def _to_platform(
    motions: Sequence[Path], platform: str, out: Path, picture: Path | None, bones: str | None, unit: str | None,
    up: str | None, as_json: bool, quiet: bool, force: bool,
) -> None:  # fmt: skip
    """Bring a figure, without a motion from elsewhere, to a platform: what ``fairswap fit`` does."""
    from fairswap.cli.fit import command as fit

    if len(motions) > 1:
        raise click.UsageError("without --onto, give one figure")
    callback = fit.callback
    assert callback is not None
    callback(
        file=motions[0], platform=platform, out=out, bones=bones, picture=picture, unit=unit, up=up, as_json=as_json,
        quiet=quiet, force=force,
    )  # fmt: skip


def _fitted(
    done: Sequence[Converted], kept: Sequence[Any], target: Any, bones: BoneProfile | None, platform: str, out: Path,
    picture: Path | None, as_json: bool, quiet: bool, force: bool,
) -> None:  # fmt: skip
    """The clips carried over, made to fit a platform together with their figure."""
    from fairswap.cli.fit import finish, fit_lines
    from fairswap.platform.fit import fit_figure
    from fairswap.platform.rules import platform_named

    rules = platform_named(platform)
    fitted = fit_figure(target, [*kept, *(row.clip for row in done)], rules, bones)
    report = finish(fitted, rules, out, picture, f"{len(done)} clips on {target.name}", force)
    report["clips"] = [_clip_report(row) for row in done]
    lines = [f"  clip     {row['verdict']}" for row in report["clips"]]
    manners.emit(report, [*lines, *fit_lines(report)], as_json, quiet)
    if not report["fits"]:
        raise click.exceptions.Exit(1)


def _loaded(motions: Sequence[Path], unit: str | None, up: str | None, failures: list[Failure]) -> list[Document]:
    """The motions that can be read; of several, one that cannot does not stop the others."""
    from fairswap.errors import FairSwapError
    from fairswap.files import load
    from fairswap.job import Failure

    documents = []
    for path in motions:
        try:
            documents.append(load(path, unit=unit, up=up))
        except FairSwapError as error:
            if len(motions) == 1:
                raise
            failures.append(Failure(str(path), "", error))
    return documents


def _rooted(document: Document, profile: BoneProfile | None) -> Document:
    """The target with a bone above its hips to put the travel on."""
    from fairswap.bones.known import roles_of
    from fairswap.figures.root import document_with_root, has_root

    figure = document.figure
    roles = roles_of(figure, profile, what=f"the target {figure.name!r}", option="--target-bones")
    return document if has_root(figure, roles) else document_with_root(document, roles)


def _pictures(picture: Path, done: Sequence[Converted], force: bool) -> list[str]:
    from fairswap.job import outputs_for
    from fairswap.picture.sheet import Actor, save_sheet

    if len(done) == 1:
        paths = [picture]
    else:
        folder = picture.with_suffix("") if picture.suffix else picture
        paths = [path for path, _ in outputs_for(folder, [row.clip for row in done], ".png")]
    for path, row in zip(paths, done, strict=True):
        source = Actor(Path(row.source.file).name, row.swap.source, row.original, row.swap.source_side.roles)
        result = Actor(row.swap.target.name, row.swap.target, row.clip, row.swap.target_side.roles)
        save_sheet(path, source, result, row.comparison, force=force)
    return [str(path) for path in paths]


def _clip_report(row: Converted) -> dict[str, Any]:
    from fairswap.pose.measure import measurement_as_dict

    return {
        "source": row.source.file,
        "source_figure": row.swap.source.name,
        "source_profile": row.swap.source_side.roles.profile,
        "target_profile": row.swap.target_side.roles.profile,
        "frames": row.clip.frames,
        "rate": round(float(row.clip.rate), 6),
        "travel_scale": round(row.scale, 6),
        "source_reference": row.swap.source_side.base.said,
        "target_reference": row.swap.target_side.base.said,
        "pose": measurement_as_dict(row.swap.pose_angles)["parts"],
        "resting_bones": row.swap.resting,
        "touches": [
            {
                "hand": t.side,
                "what": t.what,
                "start_s": round(t.start_s, 4),
                "stop_s": round(t.stop_s, 4),
                "off_cm": round(100 * t.off_m, 3),
            }
            for t in row.carried.touches
        ],
        "as_carried": {
            "likeness": round(row.plain.likeness, 2),
            "limbs_mean_degrees": round(row.plain.limbs_mean_degrees, 4),
            "skate_cm_s": round(row.plain.after.skate_cm_s, 4),
            "sole_below_cm": round(row.plain.after.sole_below_cm, 4),
        },
        "face": None if row.face is None else row.face.as_dict(),
        **row.comparison.as_dict(),
    }


def _lines(report: dict[str, Any]) -> Iterator[str]:
    seen: set[str] = set()
    for clip in report["clips"]:
        if clip["source"] not in seen:
            seen.add(clip["source"])
            target = report["target"]
            yield click.style(f"{clip['source']} onto {target['figure']}", bold=True)
            resting = len(clip["resting_bones"])
            yield f"  bones    source: {clip['source_profile']}, target: {clip['target_profile']}"
            yield f"           {resting} bones of the target have no partner and stay at rest"
            yield f"  pose     source: {clip['source_reference']}"
            yield f"           target: {clip['target_reference']}"
            yield from (f"           {line}" for line in manners.pose_lines(clip["pose"]))
            yield f"  travel   times {clip['travel_scale']:.3f} (legs)"
        facts = f"{clip['frames']} frames at {clip['rate']:g}, {clip['seconds']:.2f} s"
        yield f"  clip     {clip['verdict']}"
        yield f"           {facts}; hips' path {clip['hips_mean_percent']:.2f} % of leg off"
        yield f"           {manners.footing(clip)}"
        yield f"           {manners.contact_line(clip)}"
        yield from (f"           {line}" for line in manners.inside_lines(clip))
        before = clip["as_carried"]
        if before["likeness"] != clip["likeness"]:
            yield (
                f"           before feet and hands were finished: {before['likeness']:.0f} of 100, standing foot slid "
                f"{before['skate_cm_s']:.1f} cm/s"
            )
        yield from (f"           {line}" for line in _touch_lines(clip["touches"]))
        if clip["face"] is not None:
            lost = clip["face"]["lost"]
            said = f"; {len(lost)} face units are shown in part or not" if lost else ", nothing lost"
            yield f"  face     carried over by {len(clip['face']['used'])} shapes{said}"
    for row in report["failed"]:
        name = f"{row['file']} {row['clip']}".strip()
        yield f"  {click.style('failed', fg='red')}   {name}: {row['error']}"
    if report["failed"]:
        yield f"  {len(report['clips'])} done, {len(report['failed'])} failed"
    for row in report["written"]:
        yield f"  wrote    {row['file']} ({row['bytes'] / 1024:.0f} KiB)"
    yield from manners.finding_lines(report["findings"])


def _touch_lines(touches: Sequence[dict[str, Any]]) -> Iterator[str]:
    """What the hands met, in a line for each thing."""
    for what in dict.fromkeys(row["what"] for row in touches):
        own = [row for row in touches if row["what"] == what]
        hands = " and ".join(dict.fromkeys(row["hand"] for row in own))
        name = "each other" if what == "hand" else f"the {what}"
        times = len({(row["start_s"], row["stop_s"]) for row in own})
        yield f"{hands} hand met {name} {times} times, at most {max(row['off_cm'] for row in own):.1f} cm off"
