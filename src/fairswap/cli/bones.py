"""``fairswap bones list|show``."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import click

from fairswap.cli import manners


@click.group(name="bones")
def command() -> None:
    """Which bone is which: bone profiles, built in or your own."""


@command.command(name="list")
@manners.as_json
@manners.quiet
def list_profiles(as_json: bool, quiet: bool) -> None:
    """List the built-in profiles."""
    from fairswap.bones.profile import built_in_profiles

    rows = [
        {"name": p.name, "title": p.title, "roles": len(p.roles), "rest_pose": p.rest_pose, "space": str(p.space)}
        for p in built_in_profiles()
    ]
    lines = manners.table(
        [(str(r["name"]), str(r["roles"]), str(r["rest_pose"]), str(r["space"]), str(r["title"])) for r in rows],
        ("profile", "roles", "rests in", "space", ""),
    )
    manners.emit({"profiles": rows}, lines, as_json, quiet)


@command.command()
@click.argument("what", metavar="FILE|P")
@click.option("--bones", metavar="P", help="Bone profile for FILE: a file or a built-in name.")
@manners.as_json
@manners.quiet
def show(what: str, bones: str | None, as_json: bool, quiet: bool) -> None:
    """Show the roles of a figure or motion FILE, or of a profile P (a name or a .toml file)."""
    from fairswap.bones.profile import profile_named
    from fairswap.files import FORMATS, load
    from fairswap.stock import bones_of

    if Path(what).suffix.lower() not in FORMATS:
        profile = profile_named(what)
        report: dict[str, Any] = {
            "profile": profile.name,
            "title": profile.title,
            "prefix": list(profile.prefixes),
            "ignore": list(profile.ignore),
            "roles": {role: list(names) for role, names in profile.roles.items()},
        }
        rows = [(role, " or ".join(names)) for role, names in profile.roles.items()]
        manners.emit(report, manners.table(rows, ("role", "bone")), as_json, quiet)
        return
    document = load(what)
    report = bones_of(document.figure, profile_named(bones) if bones else None)
    manners.emit(report, _figure_lines(report), as_json, quiet)


def _figure_lines(report: dict[str, Any]) -> Iterator[str]:
    yield click.style(f"{report['figure']}", bold=True) + f"  by profile {report['profile']!r}"
    yield from manners.table(list(report["roles"].items()), ("role", "bone"))
    if report["missing"]:
        yield "  not in this figure: " + ", ".join(report["missing"])
    if report["other"]:
        yield "  bones without a role: " + ", ".join(report["other"])
    if report["ends"]:
        yield "  end markers: " + ", ".join(report["ends"])
