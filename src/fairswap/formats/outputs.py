"""What a run is going to write, all known and reserved before the first byte is written."""

from __future__ import annotations

import os
from collections.abc import Iterable
from pathlib import Path

from fairswap.errors import Finding, OutputError
from fairswap.formats.naming import as_one_name
from fairswap.formats.storage import Chunk, refuse_existing, write_atomically


class Outputs:
    """The outputs of one run.

    Parameters
    ----------
    inputs : iterable of path
        Files that were read, with what they consist of: none is ever written to, forced or not.
    force : bool
        Replace files that are there.
    """

    def __init__(self, inputs: Iterable[str | Path] = (), force: bool = False) -> None:
        self.force = force
        self._inputs = {mark for name in inputs for mark in _marks(Path(name))}
        # What formats could not hold of what was written: told by whoever reports the run.
        self.left_out: list[Finding] = []
        self._announced: set[str] = set()
        self._reserved: set[str] = set()

    def announce(self, *paths: Path) -> None:
        """Say before the work begins what will be reserved later; errors as of :meth:`reserve`."""
        for path in paths:
            self._check(path)
            self._announced.add(_key(path))

    def reserve(self, *paths: Path) -> None:
        """Set paths aside for one result each.

        Raises
        ------
        OutputError
            If one is an input, is another result's already, is there and may not be replaced, or is a folder.
        """
        for path in paths:
            if _key(path) not in self._announced:
                self._check(path)
            self._announced.discard(_key(path))
            self._reserved.add(_key(path))

    def has(self, path: Path) -> bool:
        """Whether a path was reserved."""
        return _key(path) in self._reserved

    def write(self, path: Path, chunks: Iterable[Chunk]) -> str:
        """Write a file, whole or not at all; give its name. What was not reserved is so now."""
        if _key(path) not in self._reserved:
            self.reserve(path)
        write_atomically(path, chunks, self.force)
        return str(path)

    def _check(self, path: Path) -> None:
        if _marks(path) & self._inputs:
            raise OutputError("it is an input; inputs are never written to", file=path, remedy="Give another name")
        if _key(path) in self._announced | self._reserved:
            raise OutputError("two results would have this name", file=path, remedy="Give one of them another name")
        refuse_existing(path, self.force)


def _key(path: Path) -> str:
    return as_one_name(os.path.normpath(path.absolute()))


def same_file(a: Path, b: Path) -> bool:
    """Whether two paths lead to one file, there or not yet."""
    return bool(_marks(a) & _marks(b))


def _marks(path: Path) -> set[object]:
    """What tells a file: its name, and where it lies, if it is there."""
    try:
        found = path.stat()
    except (OSError, ValueError):
        return {_key(path)}
    return {_key(path), (found.st_dev, found.st_ino)}
