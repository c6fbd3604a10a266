"""Public names that are imported when they are asked for, so that nothing heavy is loaded before it is needed."""

from __future__ import annotations

import sys
from collections.abc import Callable, Mapping
from importlib import import_module
from typing import Any


def lazily(package: str, homes: Mapping[str, str]) -> tuple[Callable[[str], Any], Callable[[], list[str]]]:
    """``__getattr__`` and ``__dir__`` of a package whose public names live in other modules.

    ``homes`` gives for each name its module, or ``module:name`` where it is called otherwise there; a module alone
    (``"fairswap.clips:"``) is meant itself.
    """

    def get(name: str) -> Any:
        if name not in homes:
            raise AttributeError(f"module {package!r} has no attribute {name!r}")
        home, colon, other = homes[name].partition(":")
        module = import_module(home)
        value = module if colon and not other else getattr(module, other or name)
        setattr(sys.modules[package], name, value)
        return value

    def names() -> list[str]:
        return sorted({*vars(sys.modules[package]), *homes})

    return get, names
