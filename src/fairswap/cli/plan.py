"""``fairswap plan new|check|run|status``: whole jobs in a file."""

from __future__ import annotations

import re
from collections import Counter
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from fairswap.cli import options
from fairswap.cli.output import Output
from fairswap.cli.plan_reports import (
    MissingRow,
    PlanCheckReport,
    PlannedRow,
    PlanNewReport,
    PlanStatusReport,
    StatusRow,
    check_lines,
    new_lines,
    status_lines,
)
from fairswap.cli.plan_running import run_and_report

if TYPE_CHECKING:
    from fairswap.plans.tasks import Task

_UNITS = {"": 1, "K": 10**3, "M": 10**6, "G": 10**9, "T": 10**12}


class Bytes(click.ParamType):  # type: ignore[type-arg]
    """An amount of memory, as 800MB or 4GB."""

    name = "bytes"

    def convert(self, value: Any, parameter: click.Parameter | None, context: click.Context | None) -> int:
        if isinstance(value, int):
            return value
        found = re.fullmatch(r"(\d{1,9}(?:\.\d{1,6})?)\s*([KMGT]?)i?B?", str(value).strip(), re.IGNORECASE)
        if not found:
            self.fail(f"{value!r} is no amount of memory: write 800MB, 4GB.", parameter, context)
        return int(float(found[1]) * _UNITS[found[2].upper()])


_plan = click.argument("plan", type=options.INPUT, metavar="PLAN.toml")


@click.group(name="plan")
def command() -> None:
    """Many motions on many figures for many platforms, as a file that can be run again.

    A run does only what changed since the last one, and goes on where it was stopped.
    """


@command.command(short_help="Write a plan for what is there.")
@click.argument("files", nargs=-1, required=True, metavar="FILES...")
@click.option("--onto", "figures", multiple=True, required=True, metavar="FIGURE",
              help="A figure to animate, or a folder of them. Repeatable.")  # fmt: skip
@click.option("--platform", "platforms", multiple=True, type=options.name_or_file, metavar="P",
              help="Make results fit this platform. Repeatable.")  # fmt: skip
@click.option("--clip", "clips", multiple=True, metavar="NAME", help="Only clips of this name or pattern.")
@click.option("-o", "--out", required=True, type=options.OUTPUT, metavar="PLAN.toml", help="Write this plan.")
@options.writing
def new(
    files: tuple[str, ...], figures: tuple[str, ...], platforms: tuple[str, ...], clips: tuple[str, ...], out: Path,
    output: Output,
) -> None:  # fmt: skip
    """Write a plan that carries FILES... (motions; folders; patterns in quotes) onto figures, every line explained."""
    from fairswap.plans.drafting import drafted
    from fairswap.plans.recipe import Plan
    from fairswap.plans.tasks import expand

    output.announce(out)
    text = drafted(files, figures, platforms, folder=out.absolute().parent, clips=clips)
    found = expand(Plan.from_text(text, out.absolute().parent))  # what is named is there, and no two results clash
    written = output.write(out, text.encode())
    missing = tuple(MissingRow(row.file, row.problem) for row in found.missing)
    output.report(PlanNewReport(len(found.tasks), len(found.sources), missing, (written,)), new_lines)


@command.command(short_help="Say what a plan would do, without doing it.")
@_plan
@click.option("-o", "--out", type=options.OUTPUT, metavar="OUT", help="The folder of its results: only what is due.")
@options.reporting
def check(plan: Path, out: Path | None, output: Output) -> None:
    """Say what PLAN would do and what is missing, without doing it. Exit status 1 if something is missing."""
    from fairswap.plans.pool import bytes_for, bytes_kept
    from fairswap.plans.recipe import Plan
    from fairswap.plans.running import looked_over

    found, why = looked_over(Plan.load(plan), out)
    rows = tuple(_planned(task, why.get(task.result, "")) for task in found.tasks)
    contents = {content.path: content.size for task in found.tasks for content in task.contents}
    report = PlanCheckReport(
        plan=str(plan), tasks=rows, due=sum(bool(row.why) for row in rows), skipped=found.skipped,
        missing=tuple(MissingRow(row.file, row.problem) for row in found.missing), seconds=found.seconds,
        input_bytes=sum(contents.values()),
        largest_task_bytes=bytes_kept(found.tasks) + max(map(bytes_for, found.tasks), default=0),
    )  # fmt: skip
    output.report(report, check_lines)
    if found.missing:
        output.failed()


@command.command(short_help="Carry out a plan, or the rest of it.")
@_plan
@click.option("-o", "--out", required=True, type=options.OUTPUT, metavar="OUT", help="The folder of its results.")
@click.option("--workers", type=options.WholeBetween(1, 1024), metavar="N", help="Processes (one for each core).")
@click.option("--memory", type=Bytes(), metavar="4GB", help="What they may take together (four fifths of all).")
@click.option("--cluster", default="", metavar="ADDRESS", help="Let the workers of a Dask scheduler do it.")
@click.option("--shared", is_flag=True, help="The cluster sees the same files under the same names: send nothing.")
@options.writing
def run(
    plan: Path, out: Path, workers: int | None, memory: int | None, cluster: str, shared: bool, output: Output
) -> None:
    """Carry out PLAN into the folder OUT: what is there and unchanged stays, a stopped run goes on.

    With --force also what failed, and what was changed by hand, is done again. Exit status 1 if something failed, or
    counts as failure in the plan.
    """
    from fairswap.cli.remedies import REMEDIES
    from fairswap.plans.recipe import Plan
    from fairswap.plans.running import RunOptions

    if shared and not cluster:
        raise click.UsageError("--shared goes with --cluster")
    settings = RunOptions(workers, memory, output.force, cluster, shared, REMEDIES)
    run_and_report(Plan.load(plan), out, settings, output)


@command.command(short_help="Say how far a run is.")
@click.argument("out", type=options.OUTPUT, metavar="OUT")
@options.reporting
def status(out: Path, output: Output) -> None:
    """Say what is done and what failed in the folder OUT, also while a run is at work there."""
    from fairswap.plans.running import standing_of

    records = standing_of(out)
    counts = Counter(record.state for record in records)
    rows = tuple(
        StatusRow(record.result, record.state, record.measures.likeness if record.measures else None, record.error)
        for record in sorted(records)
    )
    took = sum(record.took_s for record in records)
    files = sum(file.size for record in records for file in record.files)
    failed = counts["failed"] + counts["lost"]
    report = PlanStatusReport(str(out), counts["done"], failed, counts["begun"], took, files, rows)
    output.report(report, status_lines)


def _planned(task: Task, why: str) -> PlannedRow:
    return PlannedRow(
        task.result, task.source.path, task.clip, task.figure.path, task.platform, task.frames, why,
        {**{name: _shown(value) for name, value in task.convert.given().items()},
         **{name: _shown(value) for name, value in task.steps.given().items()}},
    )  # fmt: skip


def _shown(value: object) -> str:
    return ", ".join(map(str, value)) if isinstance(value, tuple) else str(value)
