"""``fairswap compare SOURCE RESULT``."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import click

from fairswap.cli import manners


@click.command()
@click.argument("source", type=click.Path(path_type=Path))
@click.argument("result", type=click.Path(path_type=Path))
@click.option("--clip", "name", metavar="NAME", help="The clip of this name in both; else by order and name.")
@manners.source_bones
@manners.target_bones
@manners.picture
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
    from fairswap.bones.known import roles_of
    from fairswap.bones.profile import profile_named
    from fairswap.files import load
    from fairswap.job import matching_clips

    if picture is not None:
        manners.never_an_input(picture, (source, result))
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
    report = {"source": str(source), "result": str(result), **found.as_dict()}
    if picture is not None:
        report["picture"] = str(picture)
    manners.emit(report, _lines(report), as_json, quiet)
    if not found.looks_same:
        raise click.exceptions.Exit(1)


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
