"""What ``fairswap plan`` reports, as data and for people."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

from fairswap.cli.reports import Report
from fairswap.cli.text import written_lines
from fairswap.wording import counted

if TYPE_CHECKING:
    from fairswap.plans.made import Measures

_MOST = 12


class MissingRow(Report, frozen=True):
    """A file that cannot be used, and why."""

    file: str
    problem: str


class PlanNewReport(Report, frozen=True):
    """A plan that was written: how many results it comes to, from how many files of motion."""

    results: int
    sources: int
    missing: tuple[MissingRow, ...]
    written: tuple[str, ...]


class PlannedRow(Report, frozen=True):
    """A result that a plan names; ``why`` it is due, empty if it is not."""

    result: str
    source: str
    clip: str
    figure: str
    platform: str
    frames: int
    why: str
    options: dict[str, str]


class PlanCheckReport(Report, frozen=True):
    """What a plan would do."""

    plan: str
    tasks: tuple[PlannedRow, ...]
    due: int
    skipped: int
    missing: tuple[MissingRow, ...]
    seconds: float
    input_bytes: int
    largest_task_bytes: int


class ResultRow(Report, frozen=True):
    """A result of a run: how it stands, why it was made (empty if it was there), and what counts as failure in it."""

    result: str
    state: str
    why: str
    ok: bool
    faults: tuple[str, ...]
    measures: Measures | None
    error: str
    findings: tuple[str, ...]


class PlanRunReport(Report, frozen=True):
    """What a run came to; what needs eyes first is first."""

    plan: str
    out: str
    results: tuple[ResultRow, ...]
    made: int
    skipped: int
    missing: tuple[MissingRow, ...]
    left: tuple[str, ...]
    ok: bool
    peak_worker_mb: float
    written: tuple[str, ...]


class StatusRow(Report, frozen=True):
    """A result that is known in a folder."""

    result: str
    state: str
    likeness: float | None
    error: str


class PlanStatusReport(Report, frozen=True):
    """What is known in a folder of results."""

    out: str
    done: int
    failed: int
    begun: int
    worked_s: float
    bytes: int
    results: tuple[StatusRow, ...]


def new_lines(report: PlanNewReport) -> Iterator[str]:
    """A new plan for people."""
    yield f"  {report.results} results from {counted(report.sources, 'file')} of motion"
    yield from _missing_lines(report.missing)
    yield from written_lines(report.written)
    yield f"  look through it, then: fairswap plan run {report.written[0]} -o results"


def check_lines(report: PlanCheckReport) -> Iterator[str]:
    """What a plan would do, for people."""
    counts = f"{len(report.tasks)} results" + (f", {report.due} due" if report.due < len(report.tasks) else "")
    yield click.style(f"{report.plan}: {counts}", bold=True)
    figures, platforms = (len({getattr(row, name) for row in report.tasks}) for name in ("figure", "platform"))
    clips = len({(row.source, row.clip) for row in report.tasks})
    where = f", platforms: {platforms}" if any(row.platform for row in report.tasks) else ""
    yield f"  {counted(clips, 'clip')}, figures: {figures}{where}; {report.seconds:.0f} s of motion in all"
    megabytes = report.input_bytes / 1e6
    yield f"  {megabytes:.1f} MB to read; a worker takes up to some {report.largest_task_bytes / 1e6:.0f} MB"
    if report.skipped:
        yield f"  {report.skipped} skipped by the plan"
    why = Counter(row.why for row in report.tasks if row.why and row.why != "new")
    for reason, count in why.most_common():
        yield f"  {count} again: {reason}"
    for row in report.tasks[:_MOST]:
        said = "; ".join(f"{name} {value}" for name, value in row.options.items())
        state, options = "due " if row.why else "done", f" ({said})" if said else ""
        yield f"  {state} {row.result}  from {Path(row.source).name}{options}"
    if len(report.tasks) > _MOST:
        yield f"  and {len(report.tasks) - _MOST} more; all of them with --json"
    yield from _missing_lines(report.missing)


def run_lines(report: PlanRunReport) -> Iterator[str]:
    """A run for people: what needs eyes, then how much was done and why."""
    failed = [row for row in report.results if not row.ok]
    for row in failed[:_MOST]:
        said = row.error or "; ".join(row.faults) or _STATES.get(row.state, row.state)
        yield f"  {click.style('look at', fg='red')}  {row.result}: {said}"
    if len(failed) > _MOST:
        yield f"  and {len(failed) - _MOST} more that need eyes: the report shows all"
    yield from _missing_lines(report.missing)
    why = Counter(row.why for row in report.results if row.why)
    for reason, count in why.most_common(8):
        yield f"  {count:5} {'made' if reason == 'new' else f'made again: {reason}'}"
    edited = sum(row.state == "edited" for row in report.results)
    stayed = sum(not row.why for row in report.results) - edited
    if stayed:
        yield f"  {stayed:5} were there and stayed"
    if edited:
        yield f"  {edited:5} {_STATES['edited']}: {next(row.result for row in report.results if row.state == 'edited')}"
    if report.skipped:
        yield f"  {report.skipped:5} skipped by the plan"
    if report.left:
        yield f"  {len(report.left):5} files are of results that the plan no longer names: {report.left[0]} …"
    scores = [row.measures.likeness for row in report.results if row.measures]
    if scores:
        yield f"  of 100: {min(scores):.0f} at worst, {sum(scores) / len(scores):.0f} on average"
    yield from written_lines(report.written)


def status_lines(report: PlanStatusReport) -> Iterator[str]:
    """How a folder of results stands, for people."""
    yield click.style(f"{report.out}: {report.done} done, {report.failed} failed", bold=True)
    if report.begun:
        yield f"  {report.begun} begun and not finished: being made now, or by a run that was stopped"
    yield f"  {report.bytes / 1e6:.1f} MB of results; {report.worked_s:.0f} s of work"
    shown = [row for row in report.results if row.error]
    for row in shown[:_MOST]:
        yield f"  {click.style('failed', fg='red')}   {row.result}: {row.error}"
    if len(shown) > _MOST:
        yield f"  and {len(shown) - _MOST} more; all of them with --json"
    scored = sorted((row.likeness, row.result) for row in report.results if row.likeness is not None)
    for likeness, result in scored[:3]:
        yield f"  {likeness:5.0f} of 100: {result}"


_STATES = {
    "edited": "changed by hand since it was made, left as it is; --force makes it anew",
    "in the way": "another file has this name, left as it is; --force writes over it",
    "not begun": "not begun",
}


def _missing_lines(rows: Sequence[MissingRow]) -> Iterator[str]:
    for row in rows[:_MOST]:
        yield f"  {click.style('missing', fg='red')}  {row.problem}"
    if len(rows) > _MOST:
        yield f"  and {len(rows) - _MOST} more files that cannot be used"
