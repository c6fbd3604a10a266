"""Workers of this machine: processes that do tasks beside each other, never more at once than the memory holds."""

from __future__ import annotations

import os
import signal
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import Future
from pathlib import Path
from typing import Any, Protocol, TypeVar

from fairswap.errors import FairSwapError, ImpossibleError
from fairswap.formats.processes import WorkerDied, end_at_once, first_of, result_of, submitted
from fairswap.plans.inputs import Content
from fairswap.plans.made import Made
from fairswap.plans.recipe import ConvertWords
from fairswap.plans.tasks import ClipInfo, Task, clips_in
from fairswap.plans.work import KEPT_FIGURES, Workshop

# Measured (docs/plans.md): a process with the program loaded; what is kept of a figure that is ready, for each byte of
# its file, and the share of that for each platform; the arrays of a clip, for each bone and frame; what is read, for
# each byte.
_PROCESS_BYTES = 120_000_000
_PER_FIGURE_BYTE, _PLATFORM_SHARE = 25, 0.3
_PER_BONE_AND_FRAME, _PER_SOURCE_BYTE = 250, 2
# A worker that dies may have been killed for its memory: its task is tried by itself once more.
_TRIES = 2
# Fewer are done here before other processes have begun.
_WORTH_PROCESSES = 4
# More threads in each of several workers stand in each other's way; and sums come out the same on any machine.
_ONE_THREAD = dict.fromkeys(("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS", "MKL_NUM_THREADS"), "1")


Thing = TypeVar("Thing")


class Workers(Protocol):
    """What does tasks: here or elsewhere."""

    def done(self, tasks: Sequence[Task]) -> Iterator[tuple[Task, Made | None]]:
        """Do tasks, in any order: each is given before it is begun, with nothing, and with what was made after."""

    def clips_of(self, sources: Sequence[tuple[Path, ConvertWords]]) -> Iterator[tuple[int, tuple[ClipInfo, ...]]]:
        """The clips of sources that can be read, by their number."""

    def close(self, *, at_once: bool = False) -> None:
        """Let the workers go; ``at_once`` without waiting for what they do."""


def bytes_for(task: Task) -> int:
    """How much memory a task takes in its process, beside what that keeps."""
    return _PER_SOURCE_BYTE * task.source.size + _PER_BONE_AND_FRAME * task.frames * task.bones


def bytes_kept(tasks: Sequence[Task]) -> int:
    """How much memory a process has for the program, and for the figures of some tasks made ready."""
    figures = {task.figure.path: task.figure.size for task in tasks}
    platforms = len({task.platform for task in tasks if task.platform})
    kept = sum(sorted(figures.values())[-KEPT_FIGURES:])
    return _PROCESS_BYTES + int(_PER_FIGURE_BYTE * kept * (1.0 + _PLATFORM_SHARE * platforms))


def memory_of_this_machine() -> int:
    """Four fifths of the memory that there is, in bytes."""
    try:
        return int(0.8 * os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES"))
    except (AttributeError, ValueError, OSError):  # not every system says
        return 4_000_000_000


class Pool:
    """Several processes of this machine."""

    def __init__(self, count: int, memory: int, scratch: Path, remedies: Mapping[str, str]) -> None:
        self.count, self.memory = max(1, min(count, memory // _PROCESS_BYTES)), memory
        self._given = scratch, dict(remedies)
        self._executor: Any = None

    def done(self, tasks: Sequence[Task]) -> Iterator[tuple[Task, Made | None]]:
        waiting, tries = list(reversed(tasks)), dict.fromkeys((task.result for task in tasks), 0)
        running: dict[Future[Made], Task] = {}
        room = self._room_for(tasks)
        # After a worker died: one at a time, until it is known whose fault it was.
        suspects: list[Task] = []
        while waiting or running or suspects:
            alone = bool(suspects)
            while (waiting or suspects) and len(running) < (1 if alone else self.count + 1):
                source = suspects if alone else waiting
                needed = sum(bytes_for(task) for task in running.values()) + bytes_for(source[-1])
                if running and needed > room:
                    break
                task = source.pop()
                if not tries[task.result]:
                    yield task, None
                tries[task.result] += 1
                running[submitted(self._started, _do, task)] = task
            broken = False
            for future in first_of(self._started, running):
                try:
                    made = result_of(self._started, future)
                except WorkerDied:
                    broken = True
                else:
                    yield running.pop(future), made
            if broken:
                lost, running = list(running.values()), {}
                self.close(at_once=True)
                for task in lost:
                    if tries[task.result] >= _TRIES or (len(lost) == 1 and alone):
                        yield task, Made(task.result, error=_DIED, lost=True)
                    else:
                        suspects.append(task)

    def _room_for(self, tasks: Sequence[Task]) -> int:
        """What memory there is for tasks, with no more workers than can keep what they have made ready."""
        kept = bytes_kept(tasks)
        fits = max(1, min(self.count, self.memory // kept))
        if fits < self.count:
            self.close()
            self.count = fits
        return self.memory - self.count * kept

    def clips_of(self, sources: Sequence[tuple[Path, ConvertWords]]) -> Iterator[tuple[int, tuple[ClipInfo, ...]]]:
        begun = {submitted(self._started, _clips_in, *row): number for number, row in enumerate(sources)}
        died = False
        for future, number in begun.items():
            try:
                found = result_of(self._started, future)
            except WorkerDied:  # those that it has not read are read where they are needed
                died = True
            else:
                if found is not None:
                    yield number, found
        if died:
            self.close(at_once=True)

    @property
    def _started(self) -> Any:
        if self._executor is None:
            self._executor = _processes(self.count, initializer=_begin, initargs=self._given)
        return self._executor

    def close(self, *, at_once: bool = False) -> None:
        if self._executor is not None:
            if at_once:
                end_at_once(self._executor)
            else:
                self._executor.shutdown()
            self._executor = None


_DIED = "the worker that did it died twice: perhaps for want of memory. Run it by itself, or with fewer workers"


def each_beside(function: Callable[[Any], Thing], items: Sequence[Any]) -> Iterator[Thing]:
    """A function done on each item, in order: by all cores, where there are enough items for that."""
    if len(items) < _WORTH_PROCESSES:
        yield from map(function, items)
        return
    count = max(1, min(os.cpu_count() or 1, len(items), memory_of_this_machine() // _PROCESS_BYTES))
    executor = _processes(count)
    try:
        begun = [submitted(executor, function, item) for item in items]
        for item, future in zip(items, begun, strict=True):
            try:
                result = result_of(executor, future)
            except WorkerDied:  # perhaps another's fault, which took all the memory
                result = _by_itself(function, item)
            yield result
    except BaseException:
        end_at_once(executor)
        raise
    executor.shutdown()


def _by_itself(function: Callable[[Any], Thing], item: Any) -> Thing:
    """A function done on an item in a process of its own, with no other beside.

    Raises
    ------
    ImpossibleError
        If that process dies.
    """
    executor = _processes(1)
    try:
        return result_of(executor, submitted(executor, function, item))
    except WorkerDied:
        problem = f"the process that worked on {item if isinstance(item, Path) else 'a file'} died twice"
        raise ImpossibleError(
            problem, remedy="Perhaps for want of memory: give it fewer files at once, or smaller ones"
        ) from None
    finally:
        end_at_once(executor)


def _processes(count: int, **begun: Any) -> Any:
    from loky import ProcessPoolExecutor

    return ProcessPoolExecutor(count, env=_ONE_THREAD, **begun)


def path_of(content: Content) -> Path:
    """Where a file is, on the machine that the plan is on."""
    return Path(content.path)


_workshop: list[Workshop] = []


def _begin(scratch: Path, remedies: Mapping[str, str]) -> None:
    # Ctrl-C is for the one who gives out the work.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    from loky import process_executor

    # Figures are kept here on purpose: that is no leak, for which a worker would be started anew.
    process_executor._MAX_MEMORY_LEAK_SIZE = 1 << 62
    _workshop.append(Workshop(path_of, scratch, remedies, f"process {os.getpid()}"))


def _clips_in(path: Path, options: ConvertWords) -> tuple[ClipInfo, ...] | None:
    try:
        return clips_in(path, options)
    except FairSwapError:  # it is read once more where that is told
        return None


def _do(task: Task) -> Made:
    return _workshop[0].do(task)
