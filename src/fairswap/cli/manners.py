"""What all commands share: common options, reports as text or JSON, progress on a terminal."""

from __future__ import annotations

import json
import sys
import textwrap
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any, TypeVar

import click

from fairswap.errors import Finding, OutputError

Function = TypeVar("Function", bound=Callable[..., Any])
_WIDTH = 110  # of reports, so that they stay readable in any window
_COLORS = {"problem": "red", "warning": "yellow", "note": "cyan"}

_as_json = click.option("--json", "as_json", is_flag=True, help="Print the report as JSON.")
_quiet = click.option("--quiet", is_flag=True, help="No report and no progress; errors still show.")
_force = click.option("--force", is_flag=True, help="Replace files that are there (never an input).")


def reporting(function: Function) -> Function:
    """The options of a command that reports."""
    return _as_json(_quiet(function))


def writing(function: Function) -> Function:
    """The options of a command that reports and writes files."""
    return reporting(_force(function))


source_bones = click.option(
    "--source-bones", metavar="P", help="Bone profile of the source: a file or a built-in name."
)
target_bones = click.option(
    "--target-bones", metavar="P", help="Bone profile of the target: a file or a built-in name."
)
source_reference = click.option(
    "--source-reference",
    default="auto",
    metavar="POSE",
    help="Reference pose of the source: auto, rest, zero, frame:N, time:S (of its clip), a saved pose, or a file.",
)
target_reference = click.option(
    "--target-reference", default="auto", metavar="POSE", help="The same for the target, of its own clip."
)
hands_reference = click.option(
    "--hands-reference",
    default="auto",
    metavar="POSE",
    help="What counts as alike for fingers: auto (straight), rest (as each rests), or a saved pose (.toml).",
)
_FINISH = (
    click.option("--travel", type=click.Choice(["hips", "root", "none"]), default="hips",
                 help="Where the way over the ground goes: hips (default), a root bone (added if needed), or none."),
    click.option("--scale-travel", type=click.FloatRange(0.0, 1e4), metavar="FACTOR",
                 help="Multiply travel by this; without, by the ratio of the legs."),
    click.option("--root-turns", is_flag=True, help="With --travel root: the root takes the heading of the hips, too."),
    click.option("--feet", type=click.Choice(["planted", "free"]), default="planted",
                 help="Keep standing feet where they stand (default), or leave them as carried over."),
    click.option("--hands", type=click.Choice(["meet", "free"]), default="meet",
                 help="Hands meet what the source's meet (default), or are left as carried over."),
    click.option("--reach", type=click.FloatRange(0.0, 1.0), default=1.0, metavar="WEIGHT",
                 help="How much a touch counts against the posture, 0 to 1."),
    click.option("--object", "thing", metavar="BONE", help="The source's bone that marks an object which hands touch."),
    click.option("--clear", is_flag=True, help="Push hands out of the own body."),
    click.option("--layer", "layers", multiple=True, type=click.Path(path_type=Path), metavar="FILE.toml",
                 help="Corrections to put on; may be given several times."),
)  # fmt: skip


def finishing(function: Function) -> Function:
    """The options of a command that finishes motions: travel, feet, hands, layers."""
    for option in reversed(_FINISH):
        function = option(function)
    return function


picture = click.option("--picture", type=click.Path(path_type=Path), metavar="FILE.png", help="Draw a sheet of it.")
unit = click.option(
    "--unit",
    type=click.Choice(["m", "dm", "cm", "mm", "in", "ft"]),
    help="Unit of the (source) file, if found wrongly.",
)
up = click.option(
    "--up",
    type=click.Choice(["+X", "-X", "+Y", "-Y", "+Z", "-Z"]),
    help="Up axis of the (source) file, if found wrongly.",
)


def emit(report: dict[str, Any], lines: Iterable[str], as_json: bool, quiet: bool) -> None:
    """Print a report to stdout: as data, or as lines for people."""
    if as_json:
        click.echo(json.dumps(report, indent=2, ensure_ascii=False))
    elif not quiet:
        for line in lines:
            click.echo(line)


def table(rows: Sequence[Sequence[str]], heads: Sequence[str], indent: str = "  ") -> Iterator[str]:
    """Rows under heads, in columns; numbers (and all but the first column that look so) to the right."""
    cells = [list(heads), *[list(row) for row in rows]]
    widths = [max(len(row[i]) for row in cells) for i in range(len(heads))]
    right = [all(_is_number(row[i]) for row in cells[1:]) for i in range(len(heads))]
    for number, row in enumerate(cells):
        parts = [cell.rjust(w) if r else cell.ljust(w) for cell, w, r in zip(row, widths, right, strict=True)]
        line = (indent + "  ".join(parts)).rstrip()
        yield click.style(line, bold=True) if number == 0 else line


def finding_lines(findings: Iterable[dict[str, str] | Finding]) -> Iterator[str]:
    """Findings for people: severity, place, message, what to do."""
    for finding in findings:
        row = finding.as_dict() if isinstance(finding, Finding) else finding
        word = click.style(f"{row['severity']:8}", fg=_COLORS[row["severity"]])
        said = f"{row['place']}: {row['message']}"
        if row["remedy"]:
            said = f"{said}. {row['remedy']}" + ("" if row["remedy"].endswith(("?", "!")) else ".")
        first, *more = textwrap.wrap(said, _WIDTH - 11, break_long_words=False, break_on_hyphens=False)
        yield f"  {word} {first}"
        yield from (" " * 11 + line for line in more)


def footing(report: dict[str, Any]) -> str:
    """How the feet behave in a comparison, in a sentence."""
    before, after = report["before"], report["after"]
    return (
        f"standing foot slides {after['skate_cm_s']:.1f} cm/s (source {before['skate_cm_s']:.1f}), "
        f"deepest sole {after['sole_below_cm']:.1f} cm below the floor (source {before['sole_below_cm']:.1f})"
    )


def inside_lines(report: dict[str, Any]) -> Iterator[str]:
    """A line if hands of the result are inside the own body for longer than the source's."""
    before, after = report["inside_body_s"]
    if after is not None and after > (before or 0.0) + 0.1:
        yield f"hands are inside the body for {after:.1f} s (source {before or 0.0:.1f}); --clear pushes them out"


def contact_line(report: dict[str, Any]) -> str:
    """How foot contacts were kept, in a sentence."""
    contacts = report["contacts"]
    return (
        f"feet stand {100 * contacts['kept_share']:.0f} % of the time the source's do "
        f"({contacts['lost_s']:.2f} s lost, {contacts['invented_s']:.2f} s invented); "
        f"jerk {report['jerk_ratio']:.2f} of the source's"
    )


def pose_lines(parts: Iterable[dict[str, Any]]) -> Iterator[str]:
    """One line for each body part in which two poses are apart, one for all others."""
    alike = []
    for row in parts:
        if row["state"] == "same":
            alike.append(row["part"])
            continue
        color = {"look": "yellow", "kept": "cyan"}.get(row["state"])
        yield f"{click.style(row['part'], fg=color)}: {row['verdict']}"
    if alike:
        yield f"alike: {', '.join(alike)}"


@contextmanager
def progress(total: int, what: str, quiet: bool) -> Iterator[Callable[[str], None]]:
    """A progress bar on stderr if that is a terminal and there is more than one thing to do; else nothing at all."""
    if quiet or total < 2 or not sys.stderr.isatty():
        yield lambda _: None
        return
    from rich.console import Console
    from rich.progress import Progress

    with Progress(console=Console(stderr=True), transient=True) as bar:
        task = bar.add_task(what, total=total)

        def step(name: str) -> None:
            bar.update(task, advance=1, description=f"{what} {name}")

        yield step


def never_an_input(output: Path, inputs: Iterable[Path]) -> None:
    """Refuse to write over a file that was read, forced or not.

    Raises
    ------
    OutputError
    """
    for path in inputs:
        if output.exists() and path.exists() and output.samefile(path):
            raise OutputError("it is an input; inputs are never written to", file=output, remedy="Give another name")


def _is_number(text: str) -> bool:
    return text.replace(".", "", 1).replace("-", "", 1).isdigit() or text in ("", "-")
