"""``fairswap fit FILE --platform P -o OUT``."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from fairswap.cli import manners

if TYPE_CHECKING:
    from fairswap.platform.fit import Fitted


@click.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--platform", required=True, metavar="P", help="The platform: a built-in name or a file.")
@click.option(
    "-o", "--out", required=True, type=click.Path(path_type=Path), metavar="OUT",
    help="OUT.glb: figure and clips together; a folder: the figure, and each motion without its mesh.",
)  # fmt: skip
@click.option("--bones", metavar="P", help="Bone profile of FILE: a file or a name.")
@click.option("--picture", type=click.Path(path_type=Path), metavar="FILE.png", help="Draw where the skin changed.")
@manners.unit
@manners.up
@manners.writing
def command(
    file: Path, platform: str, out: Path, bones: str | None, picture: Path | None, unit: str | None, up: str | None,
    as_json: bool, quiet: bool, force: bool,
) -> None:  # fmt: skip
    """Make the figure of FILE and its clips fit a platform, tell every change and its cost, and check what was written.

    What already fits is copied, byte for byte. Exit status 1 if something is left that does not fit.
    """
    from fairswap.bones.profile import profile_named
    from fairswap.files import load
    from fairswap.formats.storage import write_atomically
    from fairswap.platform.check import check
    from fairswap.platform.fit import fit
    from fairswap.platform.rules import platform_named

    for path in filter(None, (out, picture)):
        manners.never_an_input(path, (file,))
    rules = platform_named(platform)
    document = load(file, unit=unit, up=up)
    if out.suffix.lower() == file.suffix.lower() and unit is None and up is None:
        before = check(document, rules)
        if all(row.ok for row in before):
            write_atomically(out, [file.read_bytes()], force)
            report = empty_report(str(file), rules.name) | {"written": [str(out)], "fits": True, "copied": True}
            manners.emit(report, fit_lines(report), as_json, quiet)
            return
    fitted = fit(document, rules, profile_named(bones) if bones else None)
    report = finish(fitted, rules, out, picture, str(file), force)
    report["findings"] = [f.as_dict() for f in document.findings] + report["findings"]
    manners.emit(report, fit_lines(report), as_json, quiet)
    if not report["fits"]:
        raise click.exceptions.Exit(1)


def empty_report(source: str, platform: str) -> dict[str, Any]:
    """The report of a fitting in which nothing was done yet."""
    return {
        "file": source, "platform": platform, "changes": [], "proof": None, "reel_proof": None, "written": [],
        "fits": False, "copied": False, "left": [], "findings": [],
    }  # fmt: skip


def finish(fitted: Fitted, platform: Any, out: Path, picture: Path | None, source: str, force: bool) -> dict[str, Any]:
    """Write what was fitted, check it afresh, draw it; give the report."""
    from fairswap.files import load
    from fairswap.formats.storage import write_atomically
    from fairswap.platform.check import broken, check
    from fairswap.platform.outcome import write_fitted

    written = write_fitted(fitted, platform, out, force=force)
    left = []
    for name in written:
        if not name.endswith(".bin"):
            left += [row for row in check(load(name), platform) if not row.ok]
    proof = fitted.proof or fitted.reel_proof
    if picture is not None and proof is not None:
        from fairswap.picture.loss_sheet import loss_sheet

        title = f"{fitted.figure.name} on {platform.name}"
        write_atomically(picture, [loss_sheet(fitted.figure, proof, title)], force)
        written.append(str(picture))
    return empty_report(source, platform.name) | {
        "changes": [change.as_dict() for change in fitted.changes],
        "proof": fitted.proof.as_dict() if fitted.proof else None,
        "reel_proof": fitted.reel_proof.as_dict() if fitted.reel_proof else None,
        "written": written,
        "fits": not broken(left),
        "left": [row.as_dict() for row in left],
        "findings": [finding.as_dict() for finding in fitted.findings],
    }


def fit_lines(report: dict[str, Any]) -> Iterator[str]:
    """A fitting for people."""
    verdict = "fits" if report["fits"] else "does not fit yet"
    yield click.style(f"{report['file']} for {report['platform']}: {verdict}", bold=True)
    if report["copied"]:
        yield "  it fitted already and was copied as it is"
    for change in report["changes"]:
        cost = f"  ({change['cost']})" if change["cost"] else ""
        yield f"  {change['rule']:26} {change['what']}{cost}"
    for key, words in (("proof", "in its own clips"), ("reel_proof", "through every joint")):
        proof = report[key]
        if proof is not None:
            yield f"  the skin {words}: {proof['mean_mm']:.2f} mm off on average, {proof['worst_mm']:.1f} mm at worst"
    if report["proof"] is not None:
        parts = sorted(report["proof"]["parts"].items(), key=lambda row: -row[1]["mean_mm"])
        yield "           " + ", ".join(f"{part} {row['mean_mm']:.2f}" for part, row in parts if row["mean_mm"] > 0.005)
    for row in report["left"]:
        word = click.style("left", fg="red")
        yield f"  {word}     {row['rule']} of {row['place']}: {row['measured']}, allowed is {row['allowed']}"
    for path in report["written"]:
        yield f"  wrote    {path} ({Path(path).stat().st_size / 1024:.0f} KiB)"
    yield from manners.finding_lines(report["findings"])
