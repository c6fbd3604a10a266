"""A plan carried out on the command line: how far it is, and what it came to; also a command that is told as one."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from click.core import ParameterSource

from fairswap.cli.options import Looks
from fairswap.cli.output import Output
from fairswap.cli.plan_reports import MissingRow, PlanRunReport, ResultRow, run_lines
from fairswap.formats.naming import visible

if TYPE_CHECKING:
    from fairswap.jobs.options import SourceOptions
    from fairswap.plans.recipe import ConvertWords, Plan
    from fairswap.plans.results import Result, Run
    from fairswap.plans.running import RunOptions


def run_and_report(plan: Plan, out: Path, settings: RunOptions, output: Output, written: Sequence[str] = ()) -> None:
    """Carry out a plan and report; ends with status 1 if something is not as the plan wants it."""
    from fairswap.plans.running import carried_out

    bar = _Bar(output.quiet or output.as_json)
    try:
        done = carried_out(plan, out, settings, bar.tell, bar.started)
    except Exception:
        raise
    except BaseException:  # the user stops it
        if not output.quiet:
            click.echo("\nfairswap: what is done stays; run it again to go on.", err=True)
        raise
    finally:
        bar.close()
    output.report(_run_report(plan, done, written), run_lines)
    if not done.ok:
        output.failed()


def _said(context: click.Context, folder: Path) -> ConvertWords:
    """What a ``convert`` was told, as a plan in a folder says it."""
    from fairswap.plans.drafting import seen_from
    from fairswap.plans.recipe import ConvertWords, words_of

    known, said = set(ConvertWords.__struct_encode_fields__), {}
    for parameter in context.command.params:
        name = parameter.opts[0].removeprefix("--")
        if name not in known or context.get_parameter_source(parameter.name or "") is not ParameterSource.COMMANDLINE:
            continue
        value = context.params[parameter.name or ""]
        values = [seen_from(folder, one) for one in (value if isinstance(value, tuple) else (value,))]
        said[name] = values if isinstance(value, tuple) else values[0]
    return words_of(said)


def plan_told(
    motions: Sequence[Path], figures: Sequence[Path], platform: str | None, out: Path, picture: Path | None,
    looks: Looks, source: SourceOptions, folder: Path,
) -> str:  # fmt: skip
    """What the command was told, as the text of a plan."""
    from fairswap.formats.files import written
    from fairswap.plans.drafting import drafted
    from fairswap.plans.recipe import ResultWords

    if not figures:
        raise click.UsageError("a plan carries motions over: give --onto FIGURE")
    if looks != Looks():
        raise click.UsageError("--at and --shot are of one sheet: draw it with fairswap compare")
    context = click.get_current_context()
    paged = bool(context.find_root().meta.get("fairswap.view"))
    suffix = out.suffix.lower() if out.suffix.lower() in written() else ".glb"
    results = ResultWords(format=suffix, pictures=picture is not None, pages=paged)  # type: ignore[arg-type]
    return drafted(
        motions, figures, [platform] if platform else [], folder=folder, clips=source.clips,
        convert=_said(context, folder), results=results,
    )  # fmt: skip


def run_told(text: str, write_plan: Path | None, out: Path, workers: int | None, output: Output) -> None:
    """Do it as a plan: several figures, or several processes."""
    from fairswap.cli.remedies import REMEDIES
    from fairswap.plans.recipe import Plan
    from fairswap.plans.running import RunOptions

    if out.suffix and not out.is_dir():
        raise click.BadParameter("of several figures, or by several workers, the result is a folder", param_hint="-o")
    folder = (write_plan or Path("plan.toml")).absolute().parent
    plan = Plan.from_text(text, folder)
    written = [output.write(write_plan, text.encode())] if write_plan is not None else []
    context = click.get_current_context().find_root()
    context.meta.pop("fairswap.view", None)  # each result has its own page
    run_and_report(plan, out, RunOptions(workers, force=output.force, remedies=REMEDIES), output, written)


class _Bar:
    """How far a run is, on stderr: a bar with what is being done, and errors at once."""

    def __init__(self, quiet: bool) -> None:
        self.quiet = quiet
        self.bar: Any = None
        self.running: dict[str, None] = {}

    def started(self, total: int, due: int) -> None:
        if not self.quiet and due > 1 and sys.stderr.isatty():
            label = f"{due} of {total} due" if due < total else f"{total} results"
            shown: Any = click.progressbar(length=due, label=label, file=sys.stderr, show_pos=True,
                                      item_show_func=lambda _: visible(", ".join(list(self.running)[:3])))  # fmt: skip
            self.bar = shown.__enter__()

    def tell(self, what: str, text: str) -> None:
        if what == "begun":
            self.running[text] = None
        if what not in ("made", "failed"):
            return
        self.running.pop(text.partition(": ")[0], None)
        if what == "failed" and not self.quiet:
            click.echo(("\r\033[K" if self.bar else "") + click.style("failed  ", fg="red") + visible(text), err=True)
        if self.bar:
            self.bar.update(1, text)

    def close(self) -> None:
        if self.bar:
            self.bar.__exit__(None, None, None)
            self.bar = None


def _run_report(plan: Plan, done: Run, written: Sequence[str]) -> PlanRunReport:
    from fairswap.plans.inputs import PAGE, REPORT
    from fairswap.plans.reporting import in_order

    return PlanRunReport(
        plan=plan.file, out=str(done.folder), results=tuple(map(_result_row, in_order(done.results))),
        made=done.made, skipped=done.skipped,
        missing=tuple(MissingRow(row.file, row.problem) for row in done.missing), left=done.left,
        ok=done.ok, peak_worker_mb=done.peak_mb,
        written=(*written, str(done.folder / PAGE), str(done.folder / REPORT)),
    )  # fmt: skip


def _result_row(result: Result) -> ResultRow:
    record = result.record
    return ResultRow(
        result.task.result, result.state, result.why, result.ok, result.faults, result.measures,
        record.error if record else "", tuple(row.message for row in record.findings) if record else (),
    )  # fmt: skip
