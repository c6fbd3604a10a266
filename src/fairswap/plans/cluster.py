"""Workers of a Dask cluster. Files are sent by what is in them, once to each worker that needs them; results come back.

A worker that is lost costs only its tasks: they are given out again, and so is what it alone had.
"""

from __future__ import annotations

import tempfile
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from fairswap import __version__
from fairswap.errors import ImpossibleError, UsageError
from fairswap.formats.saved import user_folder
from fairswap.formats.storage import read_bytes
from fairswap.plans.inputs import Content
from fairswap.plans.made import Made
from fairswap.plans.pool import Pool, memory_of_this_machine, path_of
from fairswap.plans.recipe import ConvertWords
from fairswap.plans.tasks import ClipInfo, Task
from fairswap.plans.work import Workshop

if TYPE_CHECKING:
    from distributed import Future

# Tasks given out beside those that are being done, for each thread of the cluster: none has to wait for us.
_AHEAD = 3
_TRIES = 4
_WAIT_S = 6.0
Parts = Sequence[bytes]


class Cluster:
    """The workers of the scheduler at ``address``.

    Raises
    ------
    UsageError
        If Dask is not installed.
    ImpossibleError
        If there is no scheduler or worker, or a worker runs another edition of Fair Swap.
    """

    def __init__(self, address: str, shared: bool, remedies: Mapping[str, str]) -> None:
        try:
            import distributed
        except ImportError:
            remedy = "Install it: pip install 'fairswap[cluster]'"
            raise UsageError("a cluster needs a package that is not installed", remedy=remedy) from None
        self.shared, self.remedies = shared, dict(remedies)
        try:
            connect: Any = distributed.Client
            self.client = connect(address, timeout=_WAIT_S, set_as_default=False)
        except (OSError, ValueError, TypeError) as error:
            problem = f"there is no scheduler at {address!r} ({type(error).__name__})"
            raise ImpossibleError(problem, remedy="Check the address, as tcp://HOST:8786") from None
        self._sent: dict[str, Any] = {}
        self._check()
        self.count = max(sum(self.client.nthreads().values()), 1)

    def _check(self) -> None:
        """Refuse a cluster that has no workers, or of another edition."""
        if not self.client.nthreads():
            self.close()
            raise ImpossibleError("the scheduler has no workers", remedy="Start some: dask worker ADDRESS")
        found = self.client.run(_version)
        others = {worker: version for worker, version in found.items() if version != __version__}
        if others:
            worker, version = next(iter(others.items()))
            self.close()
            what = "has no Fair Swap" if version is None else f"runs Fair Swap {version}, this is {__version__}"
            raise ImpossibleError(f"the worker {worker} {what}", remedy="Install the same edition everywhere")

    def done(self, tasks: Sequence[Task]) -> Iterator[tuple[Task, Made | None]]:
        """Do tasks, in any order: each is given before it is begun, with nothing, and with what was made after."""
        import distributed

        uses = Counter(content.digest for task in tasks for content in task.contents)
        waiting, tries = list(reversed(tasks)), Counter[str]()
        running: dict[Future[Any], Task] = {}
        completed: Any = distributed.as_completed
        finished = completed(loop=self.client.loop)

        def give_out() -> Iterator[Task]:
            while waiting and len(running) < _AHEAD * self.count:
                task = waiting.pop()
                tries[task.result] += 1
                if tries[task.result] == 1:
                    yield task
                future = self._submit(task, tries[task.result])
                running[future] = task
                finished.add(future)

        yield from ((task, None) for task in give_out())
        while running:
            future = next(finished)
            task = running.pop(future)
            made = _made_by(future, task, tries[task.result] >= _TRIES)
            if made is None:  # its worker was lost, or what only that had
                for content in task.contents:
                    self._sent.pop(content.digest, None)
                waiting.append(task)
            else:
                yield task, made
                for content in task.contents:
                    uses[content.digest] -= 1
                    if not uses[content.digest]:
                        self._sent.pop(content.digest, None)  # nobody needs it any more: the workers let it go
            del future
            yield from ((task, None) for task in give_out())

    def _submit(self, task: Task, attempt: int) -> Future[Any]:
        files = {} if self.shared else {content.digest: self._scattered(content) for content in task.contents}
        home = {} if self.shared else _kept_for_families()
        return self.client.submit(
            _do, task, files, home, self.remedies, self.shared, pure=False, retries=0,
            key=f"fairswap-{task.result}-{attempt}",
        )  # fmt: skip

    def _scattered(self, content: Content) -> Any:
        """The content of a file, sent where it is needed."""
        if content.digest not in self._sent:
            # By their order: the same bytes may have other names elsewhere.
            parts = tuple(map(read_bytes, content.files))
            self._sent[content.digest] = self.client.scatter(parts, broadcast=False, hash=False)
        return self._sent[content.digest]

    def clips_of(
        self, sources: Sequence[tuple[Path, ConvertWords]]
    ) -> Iterator[tuple[int, tuple[ClipInfo, ...]]]:  # fmt: skip
        """The clips of sources that can be read, by their number: read here, where they are."""
        with tempfile.TemporaryDirectory() as scratch:
            pool = Pool(4, memory_of_this_machine(), Path(scratch), self.remedies)
            try:
                yield from pool.clips_of(sources)
            finally:
                pool.close()

    def close(self, *, at_once: bool = False) -> None:
        """Let the cluster go: what was given out and is not done is taken back."""
        self._sent.clear()
        self.client.close()


def _made_by(future: Future[Any], task: Task, last: bool) -> Made | None:
    """What a worker gave; None if the task is to be given out again."""
    if future.status == "finished":
        made: Made = future.result()
        return made
    if not last:
        return None
    return Made(task.result, error=f"the workers that did it were lost {_TRIES} times ({future.status})", lost=True)


def _version() -> str | None:
    """What a worker runs."""
    try:
        from fairswap import __version__ as version
    except ImportError:
        return None
    return version


def _kept_for_families() -> dict[str, bytes]:
    """The profiles that are kept here for families of figures, by their names below that folder."""
    return {
        f"{kind}/{path.name}": path.read_bytes()
        for kind in ("bones", "faces")
        for path in sorted(user_folder(kind).glob("*.toml"))
    }


_workshops: dict[int, Workshop] = {}


def _do(
    task: Task, files: Mapping[str, Parts], home: Mapping[str, bytes], remedies: Mapping[str, str], shared: bool
) -> Made:  # fmt: skip
    """On a worker: put the files that were sent where they can be read, once, and do the task."""
    import os
    import threading

    from distributed import get_worker

    worker = get_worker()
    folder = Path(worker.local_directory) / "fairswap"

    def place_of(content: Content) -> Path:
        if shared:
            return path_of(content)
        return folder / content.digest[:32] / Path(content.path).name

    for content in () if shared else task.contents:
        _unpacked(place_of(content), content, files[content.digest])
    if not shared:
        for name, profile in home.items():
            _put(folder / "home" / name, profile)
        os.environ["FAIRSWAP_HOME"] = str(folder / "home")
    thread = threading.get_ident()
    if thread not in _workshops:
        _workshops[thread] = Workshop(place_of, folder / f"work-{thread}", remedies, str(worker.address))
    shop = _workshops[thread]
    shop.place_of = place_of
    return shop.do(task)


def _unpacked(path: Path, content: Content, parts: Parts) -> None:
    """A file and all that it pulls in, beside each other as they were."""
    for number, ((name, _), data) in enumerate(zip(content.parts, parts, strict=True)):
        _put(path.parent / name if number else path, data)


def _put(path: Path, data: bytes) -> None:
    """Write a file of the worker's own, unless it is there; two threads may do so at once."""
    import os

    if path.exists():
        return
    path.parent.mkdir(parents=True, exist_ok=True)
    handle, temporary = tempfile.mkstemp(dir=path.parent)
    with os.fdopen(handle, "wb") as file:
        file.write(data)
    os.replace(temporary, path)
