"""``fairswap inspect FILE``."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import click

from fairswap.cli import manners


@click.command(name="inspect")
@click.argument("file", type=click.Path())
@click.option("--bones", metavar="P", help="Bone profile: a file or a built-in name.")
@manners.unit
@manners.up
@manners.reporting
def command(file: str, bones: str | None, unit: str | None, up: str | None, as_json: bool, quiet: bool) -> None:
    """Take stock of FILE: figures, bones, space, rest pose, clips, and what is odd about them.

    Exit status 1 if there is a problem in it.
    """
    from fairswap.bones.profile import profile_named
    from fairswap.files import load
    from fairswap.stock import stock_of

    document = load(file, unit=unit, up=up)
    report = stock_of(document, profile_named(bones) if bones else None)
    manners.emit(report, _lines(report), as_json, quiet)
    if any(finding["severity"] == "problem" for finding in report["findings"]):
        raise click.exceptions.Exit(1)


def _lines(report: dict[str, Any]) -> Iterator[str]:
    space = report["space"]
    yield click.style(f"{report['file']}", bold=True) + f"  {report['format']}"
    yield f"  space    {space['up']} up, facing {space['forward']}, {space['unit']}; {space['height_m']:.2f} m tall"
    for figure in report["figures"]:
        for number, facts in enumerate(_figure_facts(figure)):
            yield ("  figure   " if number == 0 else "           ") + facts
    if report["clips"]:
        heads = ("clip", "frames", "rate", "seconds", "keyed bones", "travels m", "")
        rows = [
            (
                clip["name"],
                str(clip["frames"]),
                f"{clip['rate']:g}",
                f"{clip['duration_s']:.2f}",
                str(clip["keyed_bones"]),
                f"{clip['travel_m']:.2f}",
                "still" if clip["still"] else "",
            )
            for clip in report["clips"]
        ]
        yield from manners.table(rows, heads)
    else:
        yield "  clips    none"
    yield from manners.finding_lines(report["findings"])


def _figure_facts(figure: dict[str, Any]) -> Iterator[str]:
    bones = f"{figure['bones']} bones" + (f", {figure['end_bones']} of them ends" if figure["end_bones"] else "")
    if figure["roles"]:
        known = f"{len(figure['roles'])} roles, {figure['profile']}"
        if figure["least_sure"] is not None:
            known += f" (least sure {figure['least_sure']:.2f})"
        rest = figure["rest_pose"]
        yield f"{figure['name']}: {bones}; {known}"
        yield f"rests in {rest['kind']} (arms {rest['arm_degrees']:.0f} degrees below level)"
    else:
        yield f"{figure['name']}: {bones}; roles unknown"
    if figure["meshes"]:
        meshes = "1 mesh" if figure["meshes"] == 1 else f"{figure['meshes']} meshes"
        skin = f"{meshes}, {figure['vertices']} vertices, at most {figure['influences_max']} influences"
    else:
        skin = "no mesh"
    yield f"{skin}; " + (f"{len(figure['morphs'])} morphs" if figure["morphs"] else "no morphs")
