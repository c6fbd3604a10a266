"""``fairswap platform new|list|show``."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import click

from fairswap.cli import manners


@click.group(name="platform")
def command() -> None:
    """Platforms: the demands of target ecosystems, written down once."""


@command.command(short_help="Write a new platform file, every rule explained.")
@click.argument("name")
@click.option("-o", "--out", type=click.Path(path_type=Path), required=True, metavar="P.toml", help="Write this file.")
@manners.writing
def new(name: str, out: Path, as_json: bool, quiet: bool, force: bool) -> None:
    """Write a platform file with every rule explained, to be filled in from the platform's public page."""
    from fairswap.formats.storage import write_atomically
    from fairswap.platform.rules import template

    write_atomically(out, [template(name).encode()], force)
    report = {"name": name, "written": [str(out)]}
    lines = [f"  wrote    {out}", f"  next     fill it in, then: fairswap check FILE --platform {out}"]
    manners.emit(report, lines, as_json, quiet)


@command.command(name="list", short_help="The built-in platforms.")
@manners.reporting
def list_(as_json: bool, quiet: bool) -> None:
    """The built-in platforms: our own stages, and open standards."""
    from fairswap.platform.rules import built_in_platforms

    rows = [{"name": p.name, "title": p.title, "bones": p.profile.name} for p in built_in_platforms()]
    lines = manners.table([(row["name"], row["title"], row["bones"]) for row in rows], ("name", "title", "bones"))
    manners.emit({"platforms": rows}, lines, as_json, quiet)


@command.command(short_help="What a platform demands.")
@click.argument("platform", metavar="P")
@manners.reporting
def show(platform: str, as_json: bool, quiet: bool) -> None:
    """What the platform P (a name or a file) demands."""
    from fairswap.platform.rules import as_data, platform_named

    data = as_data(platform_named(platform))
    manners.emit(data, _lines(data), as_json, quiet)


def _lines(data: dict[str, Any]) -> Iterator[str]:
    yield click.style(f"{data['name']}: {data['title']}", bold=True)
    yield f"  bones    as in {data['bones']}" + (f"; face as in {data['face']}" if data["face"] else "")
    yield f"  space    {data['space']}"
    for table in ("figure", "clip", "file"):
        for rule, value in data[table].items():
            if value in (None, [], "", "any", "all", "allowed"):
                continue
            said = ", ".join(map(str, value)) if isinstance(value, list) else str(value)
            severity = data["severity"].get(f"{table}.{rule}", "")
            yield f"  {table + '.' + rule:26} {said[:90]}{f'  ({severity})' if severity else ''}"
