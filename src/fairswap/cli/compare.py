"""``fairswap compare SOURCE RESULT``."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from fairswap.cli import manners

if TYPE_CHECKING:
    from fairswap.body.compare import Comparison
    from fairswap.body.subject import Subject
    from fairswap.clip import Clip


@click.command()
@click.argument("source", type=click.Path(path_type=Path))
@click.argument("result", type=click.Path(path_type=Path))
@click.option("--clip", "name", metavar="NAME", help="The clip of this name in both; else by order and name.")
@manners.source_bones
@manners.target_bones
@manners.picture
@click.option(
    "--curves",
    "curves",
    type=click.Path(path_type=Path),
    metavar="FILE.png",
    help="Draw the curves of joints, source and result over each other, and when feet stand.",
)
@click.option(
    "--curve",
    "curve_roles",
    multiple=True,
    metavar="ROLE",
    help="Which joint; may be given several times. Without, the one that differs most.",
)
@manners.unit
@manners.up
@manners.writing
def command(
    source: Path,
    result: Path,
    name: str | None,
    source_bones: str | None,
    target_bones: str | None,
    picture: Path | None,
    curves: Path | None,
    curve_roles: tuple[str, ...],
    unit: str | None,
    up: str | None,
    as_json: bool,
    quiet: bool,
    force: bool,
) -> None:
    """Hold RESULT against SOURCE: how far every bone's direction differs over time, and how the feet behave.

    Exit status 1 if they do not look the same.
    """
    from fairswap.body.compare import compare
    from fairswap.body.subject import Subject
    from fairswap.bones.known import roles_of
    from fairswap.bones.profile import profile_named
    from fairswap.files import load
    from fairswap.formats.storage import write_atomically
    from fairswap.job import matching_clips

    for path in filter(None, (picture, curves)):
        manners.never_an_input(path, (source, result))
    before, after = load(source, unit=unit, up=up), load(result)
    profiles = [profile_named(given) if given else None for given in (source_bones, target_bones)]
    clips = matching_clips(before, after, name)
    found = compare(before.figure, clips[0], after.figure, clips[1], source_bones=profiles[0], result_bones=profiles[1])
    if picture is not None:
        from fairswap.picture.sheet import Actor, save_sheet

        actors = [
            Actor(
                Path(document.file).name, document.figure, clip,
                roles_of(document.figure, profile, what=document.figure.name, option=""),
            )
            for document, clip, profile in zip((before, after), clips, profiles, strict=True)
        ]  # fmt: skip
        save_sheet(picture, actors[0], actors[1], found, force=force)
    if curves is not None or curve_roles:
        if curves is None:
            raise click.UsageError("--curve needs --curves FILE.png to draw into")
        subjects = [
            Subject(part, document.figure, profile, clip=clip)
            for part, document, profile, clip in zip(
                ("source", "result"), (before, after), profiles, clips, strict=True
            )
        ]
        worst = max(found.roles, key=lambda role: role.mean_degrees).role
        image = _curves(found, subjects, clips, curve_roles or (worst,))
        write_atomically(curves, [image], force)
    report = {"source": str(source), "result": str(result), **found.as_dict()}
    if picture is not None:
        report["picture"] = str(picture)
    manners.emit(report, _lines(report), as_json, quiet)
    if not found.looks_same:
        raise click.exceptions.Exit(1)


def _curves(found: Comparison, subjects: Sequence[Subject], clips: Sequence[Clip], roles: Sequence[str]) -> bytes:
    """The curves of joints in source and result, and when feet stand."""
    import numpy as np

    from fairswap.body.curves import joint_curve
    from fairswap.body.tracks import runs_of
    from fairswap.picture.curves import Curve, Panel, Strip, curves_image

    panels = []
    for role in roles:
        lines = [joint_curve(subject, clip, role) for subject, clip in zip(subjects, clips, strict=True)]
        times = [np.arange(clip.frames) / float(clip.rate) for clip in clips]
        for axis, name in enumerate(("left", "up", "ahead")):
            rows = [
                Curve(word, time, line[:, axis])
                for word, time, line in zip(("source", "result"), times, lines, strict=True)
            ]
            panels.append(Panel(f"{role}, about {name}", "degrees", rows))
    strips = []
    for which, word in enumerate(("source", "result")):
        for foot, side in enumerate(("left", "right")):
            spans = [
                (float(found.times_s[a]), float(found.times_s[b - 1])) for a, b in runs_of(found.stands[which, foot])
            ]
            strips.append(Strip(f"{word} {side} foot", spans, "#1f4f6b" if which == 0 else "#c4631a"))
    return curves_image(found.clip, panels, strips)


def _lines(report: dict[str, Any]) -> Iterator[str]:
    yield click.style(f"{report['result']} against {report['source']}", bold=True)
    rows = [
        (
            row["role"],
            row["by"],
            f"{row['mean_degrees']:.2f}",
            f"{row['worst_degrees']:.2f}",
            f"{row['worst_at_s']:.2f}",
            f"{row['turn_mean_degrees']:.2f}",
        )
        for row in report["roles"]
    ]
    yield from manners.table(rows, ("role", "compared by", "mean degrees", "worst", "at second", "turn"))
    before, after = report["before"], report["after"]
    feet = [
        ("hips' path, % of leg", "", f"{report['hips_mean_percent']:.2f} (worst {report['hips_worst_percent']:.2f})"),
        ("standing foot slides, cm/s", f"{before['skate_cm_s']:.2f}", f"{after['skate_cm_s']:.2f}"),
        ("deepest sole below floor, cm", f"{before['sole_below_cm']:.2f}", f"{after['sole_below_cm']:.2f}"),
        ("seconds", f"{report['seconds']:.3f}", f"{report['seconds'] + report['duration_difference_s']:.3f}"),
    ]
    yield from manners.table(feet, ("", "source", "result"))
    yield click.style(report["verdict"], bold=True)
    if "picture" in report:
        yield f"  wrote    {report['picture']}"
