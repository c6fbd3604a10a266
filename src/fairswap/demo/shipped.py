"""The members of the troupe as files that come with the package."""

from __future__ import annotations

from pathlib import Path

from fairswap.errors import UsageError

_TROUPE = Path(__file__).parents[1] / "data" / "troupe"


def demo_file(name: str) -> Path:
    """The path of a figure that comes with the package: ``juniper.glb``, ``osric.glb`` or ``pip.glb``.

    >>> demo_file("pip.glb").name
    'pip.glb'

    Raises
    ------
    UsageError
        If there is none of that name; those that are there are named.
    """
    path = _TROUPE / name
    if path.parent != _TROUPE or not path.is_file():
        known = ", ".join(sorted(other.name for other in _TROUPE.glob("*.glb")))
        raise UsageError(f"no demo file is called {name!r}", remedy=f"There are {known}")
    return path
