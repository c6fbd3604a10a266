"""Several pictures at once."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

_Item = TypeVar("_Item")
_Drawn = TypeVar("_Drawn")
# Each holds a canvas: no more than this, however many cores there are.
_MOST = 8


def drawn_together(draw: Callable[[_Item], _Drawn], items: Iterable[_Item]) -> list[_Drawn]:
    """What ``draw`` makes of each item, in order, on all cores (NumPy lets go of the interpreter)."""
    with ThreadPoolExecutor(min(os.cpu_count() or 1, _MOST)) as threads:
        return list(threads.map(draw, items))
