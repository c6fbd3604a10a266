"""A plan carried out: what is due is found, done by workers, put in its place and recorded; what is done stays."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path

from fairswap.errors import REMEDIES, FairSwapError, OutputError, UsageError
from fairswap.formats.outputs import Outputs
from fairswap.formats.storage import is_alive, write_atomically
from fairswap.model.progress import Step, progress
from fairswap.plans.inputs import LEDGER, PAGE, REPORT, file_digest
from fairswap.plans.ledger import Ledger, Record, WrittenFile
from fairswap.plans.made import Made
from fairswap.plans.pool import Pool, Workers, memory_of_this_machine
from fairswap.plans.recipe import Plan
from fairswap.plans.results import Result, Run, State, faults_of
from fairswap.plans.tasks import Expanded, Task, expand, saved_profiles

# Folders in which workers put together what they hand over; named after the run.
_SCRATCH = ".fairswap-work-"


@dataclass(frozen=True)
class Due:
    """A task that is to be done, and why."""

    task: Task
    why: str


@dataclass(frozen=True)
class RunOptions:
    """How a plan is carried out.

    Attributes
    ----------
    workers : int or None
        Processes; without, one for each core.
    memory : int or None
        Bytes that all of them together may take; without, four fifths of what there is.
    force : bool
        Do again what failed, and write over files that were changed by hand, or that others have put there.
    cluster : str
        The address of a Dask scheduler whose workers do the tasks.
    shared : bool
        The cluster's workers see the same files under the same names: nothing is sent.
    remedies : mapping
        How an interface words what to do about errors.
    """

    workers: int | None = None
    memory: int | None = None
    force: bool = False
    cluster: str = ""
    shared: bool = False
    remedies: Mapping[str, str] = field(default_factory=lambda: REMEDIES)

    def __post_init__(self) -> None:
        if self.workers is not None and not 1 <= self.workers <= 1024:
            raise UsageError(f"{self.workers} workers", remedy="Give a number from 1 to 1024")
        if self.memory is not None and self.memory < 200_000_000:
            raise UsageError(f"{self.memory / 1e6:.0f} MB of memory hold no worker", remedy="Give 1GB or more")


Tell = Callable[[str, str], None]


def run_plan(
    plan: Plan | str | Path, out: str | Path, *, workers: int | None = None, memory: int | None = None,
    force: bool = False, cluster: str = "", shared: bool = False,
) -> Run:  # fmt: skip
    """Carry out a plan into a folder. What was done there before and is unchanged stays as it is.

    >>> import fairswap
    >>> fairswap.run_plan("nobody.toml", "results")
    Traceback (most recent call last):
    ...
    fairswap.errors.InputError: nobody.toml: there is no such file. Check the name and the folder.

    Parameters
    ----------
    workers : int, optional
        Processes; without, one for each core.
    memory : int, optional
        Bytes that all of them together may take; without, four fifths of what there is.
    force : bool
        Do again what failed, and write over files that were changed by hand, or that others have put there.
    cluster : str
        The address of a Dask scheduler (extra ``cluster``) whose workers do the tasks.
    shared : bool
        The cluster's workers see the same files under the same names: nothing is sent.

    Raises
    ------
    InputError
        If the plan cannot be read, contradicts itself, or names what is not there.
    OutputError
        If the folder cannot be written, or another run is at work in it.
    """
    loaded = plan if isinstance(plan, Plan) else Plan.load(plan)
    options, bars = RunOptions(workers, memory, force, cluster, shared), ExitStack()
    steps: list[Step] = []

    def tell(what: str, name: str) -> None:
        if what in ("made", "failed") and steps:
            steps[0](name)

    with bars:
        return carried_out(
            loaded, Path(out), options, tell,
            lambda _, due: steps.append(bars.enter_context(progress(due, "carrying over"))),
        )  # fmt: skip


def carried_out(
    plan: Plan, out: Path, options: RunOptions, tell: Tell = lambda _, __: None,
    started: Callable[[int, int], None] = lambda _, __: None,
) -> Run:  # fmt: skip
    """As :func:`run_plan`; ``started`` is told how many there are and how many are due, ``tell`` of each thing done:
    ``("reading" | "begun" | "made" | "failed", text)``."""
    if out.exists() and not out.is_dir():
        raise OutputError("it is a file", file=out, remedy="Give a folder for the results")
    ledger = Ledger(out)
    try:
        with _scratch(out) as scratch, _workers(options, scratch) as workers:
            ledger.reader = workers.clips_of
            saved, known = saved_profiles(), ledger.records()
            expanded = expand(plan, ledger, lambda name: tell("reading", name), files_of(known, out))
            states = {task.result: _state(task, known.get(task.result), out, options.force, saved, ledger.touch)
                      for task in expanded.tasks}  # fmt: skip
            due = [one.task for one in states.values() if isinstance(one, Due)]
            started(len(expanded.tasks), len(due))
            made = _Making(out, ledger, saved, tell, known, options.remedies, due)
            made.all(workers)
            run = _run_of(plan, out, expanded, states, ledger.records(), made)
            _report(run)
            return run
    finally:
        ledger.close()


class _Making:
    """Results that come from workers are put in their places and recorded, one after another."""

    def __init__(
        self, out: Path, ledger: Ledger, saved: str, tell: Tell, known: Mapping[str, Record],
        remedies: Mapping[str, str], tasks: Sequence[Task],
    ) -> None:  # fmt: skip
        self.out, self.ledger, self.saved, self.tell, self.known = out, ledger, saved, tell, known
        self.remedies, self.tasks = remedies, tasks
        self.peak_mb = 0.0
        inputs = dict.fromkeys(file for task in tasks for content in task.contents for file in content.files)
        self.outputs = Outputs(inputs, force=True)

    def all(self, workers: Workers) -> None:
        for task, made in workers.done(self.tasks):
            if made is None:
                self.ledger.begin(task, task.recipe(self.saved), self._before(task))
                self.tell("begun", task.result)
            else:
                self._finish(task, made)

    def _finish(self, task: Task, made: Made) -> None:
        self.peak_mb = max(self.peak_mb, made.peak_mb)
        files: list[WrittenFile] = []
        if not made.error:
            try:
                files = [self._written(name, content, made.digests[name]) for name, content in made.files.items()]
            except FairSwapError as error:
                made = Made(
                    task.result, lost=True, error=error.worded(self.remedies), took_s=made.took_s, worker=made.worker
                )
        self.ledger.finish(task, task.recipe(self.saved), made, files)
        for old in self._before(task):
            if old.name not in {row.name for row in files} and not made.error:
                (self.out / old.name).unlink(missing_ok=True)  # a picture that is not asked for any more
        self.tell("failed" if made.error else "made", f"{task.result}: {made.error}" if made.error else task.result)

    def _before(self, task: Task) -> tuple[WrittenFile, ...]:
        """The files that a result had."""
        return self.known[task.result].files if task.result in self.known else ()

    def _written(self, name: str, content: bytes, digest: str) -> WrittenFile:
        path = self.out / name
        self.outputs.write(path, [content])
        found = path.stat()
        return WrittenFile(name, digest, found.st_size, found.st_mtime_ns)


def _state(
    task: Task, record: Record | None, out: Path, force: bool, saved: str,
    touch: Callable[[str, list[WrittenFile]], None] = lambda _, __: None,
) -> Due | State:  # fmt: skip
    """Whether a task is due and why, or how its result stands."""
    if record is None:
        there = (out / task.result).exists()
        return "in the way" if there and not force else Due(task, "new")
    if record.state == "begun":
        return Due(task, "it was not finished")
    found = [_as_found(out / row.name, row) for row in record.files]
    edited = None in found
    if not edited and found != list(record.files):
        touch(task.result, [row for row in found if row is not None])
    if edited and not force:
        return "edited"
    why = task.recipe(saved).unlike(record.recipe)
    if why:
        return Due(task, why)
    if record.state == "lost" or (record.state == "failed" and force):
        return Due(task, "it failed")
    if record.state == "failed":
        return "failed"
    if edited:
        return Due(task, "its file was changed by hand")
    if any(not (out / row.name).exists() for row in record.files):
        return Due(task, "its file is gone")
    return "done"


def _as_found(path: Path, row: WrittenFile) -> WrittenFile | None:
    """A file as it is now, where it has the bytes that it was written with, or is gone; None if it was changed."""
    try:
        found = path.stat()
    except OSError:
        return row
    if (found.st_size, found.st_mtime_ns) == (row.size, row.mtime):
        return row
    if found.st_size != row.size or file_digest(path) != row.digest:
        return None
    return row._replace(mtime=found.st_mtime_ns)


def _run_of(
    plan: Plan, out: Path, expanded: Expanded, states: Mapping[str, Due | State], known: Mapping[str, Record],
    made: _Making,
) -> Run:  # fmt: skip
    results = []
    for task in expanded.tasks:
        state, record = states[task.result], known.get(task.result)
        why = state.why if isinstance(state, Due) else ""
        if isinstance(state, Due):
            state = "not begun" if record is None or record.state == "begun" else "failed" if record.error else "done"
        faults = faults_of(record, plan.words.failure) if record is not None and state == "done" else ()
        results.append(Result(task, state, record, why, faults))
    named = {task.result for task in expanded.tasks}
    left = tuple(row.name for name, record in known.items() if name not in named for row in record.files)
    return Run(
        plan, out, tuple(results), expanded.missing, expanded.skipped, left, made.peak_mb
    )  # fmt: skip


def _report(run: Run) -> None:
    """Write the report of a run; what is there and says the same is left."""
    from fairswap.plans.reporting import csv_of, page_of

    for name, content in ((PAGE, page_of(run)), (REPORT, csv_of(run))):
        path = run.folder / name
        if not path.exists() or path.read_bytes() != content:
            write_atomically(path, [content], force=True)


@contextmanager
def _workers(options: RunOptions, scratch: Path) -> Iterator[Workers]:
    memory = options.memory or memory_of_this_machine()
    workers: Workers
    if options.cluster:
        from fairswap.plans.cluster import Cluster

        workers = Cluster(options.cluster, options.shared, options.remedies)
    else:
        workers = Pool(options.workers or os.cpu_count() or 1, memory, scratch, options.remedies)
    try:
        yield workers
    except BaseException:  # also when the user stops it: whoever is at work is let go of at once
        workers.close(at_once=True)
        raise
    workers.close()


@contextmanager
def _scratch(out: Path) -> Iterator[Path]:
    """A folder for what workers put together; those of runs that were killed are removed."""
    for old in out.glob(f"{_SCRATCH}*"):
        number = old.name.removeprefix(_SCRATCH)
        if not number.isdigit() or int(number) == os.getpid() or not is_alive(int(number)):
            shutil.rmtree(old, ignore_errors=True)
    folder = out / f"{_SCRATCH}{os.getpid()}"
    try:
        yield folder
    finally:
        with suppress(OSError):
            shutil.rmtree(folder, ignore_errors=True)


def files_of(known: Mapping[str, Record], out: Path) -> set[Path]:
    """All files that are known as results in a folder."""
    folder = Path(os.path.abspath(out))
    return {folder / row.name for record in known.values() for row in record.files}


def standing_of(out: Path) -> list[Record]:
    """All results that are known in a folder.

    Raises
    ------
    InputError
        If no plan was ever run into it.
    """
    ledger = Ledger(out, write=False)
    try:
        return list(ledger.records().values())
    finally:
        ledger.close()


def looked_over(plan: Plan, out: Path | None) -> tuple[Expanded, dict[str, str]]:
    """The tasks of a plan, and why each that is due in a folder is; nothing is changed there.

    Raises
    ------
    InputError
        If a name in the plan means nothing, or two results would have one name.
    """
    known: dict[str, Record] = {}
    if out is not None and (out / LEDGER).exists():
        known = {record.result: record for record in standing_of(out)}
    expanded = expand(plan, own=files_of(known, out or Path()))
    if out is None:
        return expanded, {task.result: "new" for task in expanded.tasks}
    saved = saved_profiles()
    states = {task.result: _state(task, known.get(task.result), out, False, saved) for task in expanded.tasks}
    return expanded, {result: state.why for result, state in states.items() if isinstance(state, Due)}
