"""The official library at work in a process of its own.

It takes what a file says of itself at its word: a few wrong bytes make it ask for all the memory there is. There it
asks for no more than files of a size can need, and whatever happens to it happens to that process alone.
"""

from __future__ import annotations

import atexit
import contextlib
import math
import os
import shutil
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

from fairswap.errors import InputError
from fairswap.formats.processes import WorkerDied, end_at_once, result_of, submitted
from fairswap.formats.usd.packing import library

_Result = TypeVar("_Result")
_MEMORY, _MEMORY_A_BYTE = 2 << 30, 64
# Seconds of work; by the clock it may take so many times as long, where others keep the machine busy.
_SECONDS, _SECONDS_A_MIB, _BUSY = 30.0, 1.0, 10.0
_lock = threading.Lock()
_worker: tuple[int, Any] | None = None


def done_apart(work: Callable[..., _Result], size: int, *given: Any) -> _Result:
    """What ``work(*given)`` gives, done in the other process for a file of ``size`` bytes.

    Raises
    ------
    InputError
        If it takes more memory or time than such a file can need, or the process comes to an end.
    """
    seconds = _SECONDS + _SECONDS_A_MIB * size / (1 << 20)
    with _lock:
        for _ in range(2):
            try:
                call = _bounded, os.getcwd(), _MEMORY + _MEMORY_A_BYTE * size, seconds, work, given
                executor = _process()
                return result_of(executor, submitted(executor, *call), _BUSY * seconds)
            except WorkerDied:  # perhaps no fault of the file: it may have ended while it had nothing to do
                _give_up()
            except (TimeoutError, MemoryError):
                _give_up()
                break
    problem = "the official USD library fails on it, or takes more memory or time than such a file can need"
    raise InputError(problem, remedy="It is damaged: export it again")


def _process() -> Any:
    """The process: the one that is there, unless it belongs to the process that this one was forked from."""
    global _worker
    if _worker is None or _worker[0] != os.getpid():
        from loky.process_executor import ProcessPoolExecutor

        # One thread: more would only take address space. What it leaves behind when it comes to an end goes, too.
        folder = tempfile.mkdtemp(prefix="fairswap-usd-")
        atexit.register(shutil.rmtree, folder, ignore_errors=True)
        env = {"TMPDIR": folder, "OPENBLAS_NUM_THREADS": "1", "PXR_WORK_THREAD_LIMIT": "1", "MALLOC_ARENA_MAX": "2"}
        _worker = os.getpid(), ProcessPoolExecutor(max_workers=1, timeout=60, initializer=_quietly, env=env)
    return _worker[1]


def _quietly() -> None:
    """Let what the library prints when it fails go nowhere: the failure is told."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), 2)


def _give_up() -> None:
    """End the process; the next file gets a new one."""
    global _worker
    if _worker is not None:
        end_at_once(_worker[1])
    _worker = None


def _bounded(
    folder: str, more_bytes: int, more_seconds: float, work: Callable[..., _Result], given: tuple[Any, ...]
) -> _Result:
    """Work where the other process stands, with no more memory and time than this one has had and so much more."""
    library()
    os.chdir(folder)
    with contextlib.suppress(ImportError, ValueError, OSError):  # not on every system
        import resource

        pages = int(Path("/proc/self/statm").read_text().split()[0])
        _, hard = resource.getrlimit(resource.RLIMIT_AS)
        resource.setrlimit(resource.RLIMIT_AS, (pages * resource.getpagesize() + more_bytes, hard))
        # Beyond that the system ends the process.
        _, hard = resource.getrlimit(resource.RLIMIT_CPU)
        resource.setrlimit(resource.RLIMIT_CPU, (math.ceil(time.process_time() + more_seconds), hard))
    return work(*given)
