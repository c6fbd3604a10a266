"""Other processes that work for us: waiting for what they do, and ending them, whatever state they are in."""

from __future__ import annotations

import contextlib
import threading
import time
from collections.abc import Collection
from concurrent.futures import FIRST_COMPLETED, Future, InvalidStateError, wait
from concurrent.futures.process import BrokenProcessPool
from multiprocessing import connection
from typing import Any, TypeVar

_Result = TypeVar("_Result")
# How often it is looked whether the workers live; what an executor gets to notice by itself that one does not.
_LOOK_S, _NOTICE_S = 1.0, 2.0
# What an executor gets to end by itself, and what its end may take after it was helped.
_END_S, _HELPED_S = 2.0, 10.0


class WorkerDied(Exception):  # noqa: N818 (it is no fault of ours)
    """The process that worked on something came to an end."""


def first_of(executor: Any, futures: Collection[Future[_Result]], seconds: float | None = None) -> set[Future[_Result]]:
    """Those that are finished, of what an executor's workers do, as soon as one is; none if that takes longer.

    An executor waits for ever for the rest of what a worker was handing over when it died. Here it does not: all that
    it has to do is finished then, as died.
    """
    end = None if seconds is None else time.monotonic() + seconds
    while True:
        patience = _LOOK_S if end is None else max(min(_LOOK_S, end - time.monotonic()), 0.0)
        finished, _ = wait(futures, patience, FIRST_COMPLETED)
        if not finished and _one_died(executor):
            finished, _ = wait(futures, _NOTICE_S, FIRST_COMPLETED)
            if not finished:
                promised = [item.future for item in list(executor._pending_work_items.values())]
                end_at_once(executor)
                _finish(promised)
                finished, _ = wait(futures, 0)
        if finished or (end is not None and time.monotonic() >= end):
            return finished


def result_of(executor: Any, future: Future[_Result], seconds: float | None = None) -> _Result:
    """What a worker gave.

    Raises
    ------
    WorkerDied
        If it came to an end.
    TimeoutError
        If it takes longer than ``seconds``.
    """
    from loky.process_executor import ShutdownExecutorError

    if not first_of(executor, (future,), seconds):
        raise TimeoutError
    try:
        return future.result()
    except (BrokenProcessPool, ShutdownExecutorError) as error:
        raise WorkerDied from error


def submitted(executor: Any, function: Any, *given: Any) -> Future[Any]:
    """A call given to an executor's workers; finished at once, as died, where one of them has just died."""
    try:
        future: Future[Any] = executor.submit(function, *given)
    except BrokenProcessPool as error:
        future = Future()
        future.set_exception(error)
    return future


def end_at_once(executor: Any) -> None:
    """Kill the workers of an executor, and wait for its end, but not for ever."""
    from loky.backend.utils import kill_process_tree

    def end() -> None:
        with contextlib.suppress(Exception):  # it may be gone in any state
            executor.shutdown(wait=True, kill_workers=True)

    workers = list(executor._processes.values())
    waiting = threading.Thread(target=end, daemon=True, name="fairswap-end")
    waiting.start()
    waiting.join(_END_S)
    if not waiting.is_alive():
        return
    # It waits for the rest of what a dead worker said, or for a dead one to read the rest of what it is told. With no
    # process left at the other end, ours have to be closed, too: then there is no more to wait for.
    for worker in workers:
        with contextlib.suppress(Exception):
            kill_process_tree(worker)
    for pipe in (executor._result_queue._writer, executor._call_queue._reader):
        with contextlib.suppress(Exception):
            pipe.close()
    waiting.join(_HELPED_S)


def _one_died(executor: Any) -> bool:
    workers = list(executor._processes.values())
    return bool(workers) and bool(connection.wait([worker.sentinel for worker in workers], 0))


def _finish(futures: Collection[Future[Any]]) -> None:
    """Let nobody wait for what will never be done."""
    for future in futures:
        with contextlib.suppress(InvalidStateError):
            future.set_exception(BrokenProcessPool())
