"""Public names that are imported when they are asked for, so that nothing heavy is loaded before it is needed."""

from __future__ import annotations

import sys
from collections.abc import Callable, Mapping
from importlib import import_module
from typing import Any


def lazily(package: str, homes: Mapping[str, str]) -> tuple[Callable[[str], Any], Callable[[], list[str]]]:
    """``__getattr__`` and ``__dir__`` of a package whose public names live in other modules.

    ``homes`` gives for each module, within ours, the names it holds, with blanks between; ``named=profile_named`` if a
    name is another one there. The names of ``""`` are modules of ours themselves.
    """
    found: dict[str, tuple[str, str]] = {}
    for module, words in homes.items():
        for word in words.split():
            name, _, other = word.partition("=")
            found[name] = (f"fairswap.{module}", other or name) if module else (f"fairswap.{name}", "")

    def get(name: str) -> Any:
        if name not in found:
            raise AttributeError(f"module {package!r} has no attribute {name!r}")
        module, other = found[name]
        value = import_module(module)
        if other:
            value = getattr(value, other)
        setattr(sys.modules[package], name, value)
        return value

    def names() -> list[str]:
        return sorted({*vars(sys.modules[package]), *found})

    return get, names
