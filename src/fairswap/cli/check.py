"""``fairswap check FILE… --platform P``."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import click

from fairswap.cli import manners


@click.command()
@click.argument("files", nargs=-1, required=True, metavar="FILE...", type=click.Path(path_type=Path))
@click.option("--platform", required=True, metavar="P", help="The platform: a built-in name or a file.")
@manners.reporting
def command(files: tuple[Path, ...], platform: str, as_json: bool, quiet: bool) -> None:
    """Hold FILE... (files or folders) against a platform, rule by rule: allowed, measured, verdict, what mends it.

    Exit status 1 if a rule of severity problem is broken.
    """
    from fairswap.errors import FairSwapError, UsageError
    from fairswap.files import FORMATS, load
    from fairswap.platform.check import broken, check
    from fairswap.platform.rules import platform_named

    rules = platform_named(platform)
    paths = []
    for path in files:
        known = sorted(p for p in path.rglob("*") if p.suffix.lower() in FORMATS) if path.is_dir() else [path]
        if not known:
            raise UsageError("there is no file in it that we know", file=path, remedy=f"Known are {', '.join(FORMATS)}")
        paths += known
    reports = []
    for path in paths:
        try:
            results = check(load(path), rules)
        except FairSwapError as error:
            if len(paths) == 1:
                raise
            reports.append({"file": str(path), "fits": False, "error": str(error), "rules": []})
            continue
        rows = [row.as_dict() for row in results]
        reports.append({"file": str(path), "fits": not broken(results), "error": None, "rules": rows})
    report = {"platform": rules.name, "files": reports}
    manners.emit(report, _lines(report), as_json, quiet)
    if not all(row["fits"] for row in reports):
        raise click.exceptions.Exit(1)


def _lines(report: dict[str, Any]) -> Iterator[str]:
    files = report["files"]
    if len(files) > 1:
        yield click.style(f"{len(files)} files against {report['platform']}", bold=True)
        rows = []
        for row in files:
            wrong = [rule["rule"] for rule in row["rules"] if not rule["ok"]]
            said = row["error"] or ", ".join(dict.fromkeys(wrong)) or "-"
            rows.append((row["file"], "fits" if row["fits"] else "does not fit", said[:70]))
        yield from manners.table(rows, ("file", "verdict", "broken rules"))
        return
    row = files[0]
    verdict = "fits" if row["fits"] else "does not fit"
    yield click.style(f"{row['file']} {verdict} {report['platform']}", bold=True)
    cells = [
        (
            rule["rule"],
            rule["place"][:24],
            rule["allowed"][:40],
            rule["measured"][:48],
            "ok" if rule["ok"] else rule["severity"],
        )
        for rule in row["rules"]
    ]
    yield from manners.table(cells, ("rule", "of", "allowed", "measured", "verdict"))
    for remedy in dict.fromkeys(rule["remedy"] for rule in row["rules"] if rule["remedy"]):
        yield f"  to mend  {remedy}"
