"""How far long work is. It tells nobody, unless an interface has asked: a notebook does (``%load_ext fairswap``)."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager

Step = Callable[[str], None]
Shown = Callable[[int, str], AbstractContextManager[Step]]

_shown: list[Shown] = []


def show_progress_with(shown: Shown | None) -> None:
    """Let progress be shown from now on: ``shown(total, what)`` gives a context with a function to call for each thing
    done, with its name. None shows nothing again."""
    _shown[:] = [] if shown is None else [shown]


@contextmanager
def progress(total: int, what: str) -> Iterator[Step]:
    """A function to call for each of ``total`` things done; nothing is shown of one thing alone."""
    if not _shown or total < 2:
        yield lambda _: None
        return
    with _shown[0](total, what) as step:
        yield step
