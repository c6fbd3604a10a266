"""What the user keeps for a family of files: in a folder of their own, found by itself next time."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

from fairswap.errors import InputError, OutputError

Saved = TypeVar("Saved")


def user_folder(kind: str) -> Path:
    """Where files of one kind (``bones``, ``faces``) are kept: in ``FAIRSWAP_HOME``, else in the user's configuration.

    Raises
    ------
    OutputError
        If this user has no such folder.
    """
    home = os.environ.get("FAIRSWAP_HOME")
    if home:
        return Path(home) / kind
    try:
        return Path(os.environ.get("XDG_CONFIG_HOME") or Path.home() / ".config") / "fairswap" / kind
    except RuntimeError:  # neither HOME nor an entry among the users of this machine
        remedy = "Set FAIRSWAP_HOME to a folder"
        raise OutputError("this user has no home folder, so nothing is kept for families", remedy=remedy) from None


def saved_files(kind: str, load: Callable[[Path], Saved]) -> list[Saved | InputError]:
    """All that is kept of one kind; of a file that cannot be read, why."""
    try:
        paths = sorted(user_folder(kind).glob("*.toml"))
    except (OSError, OutputError):
        return []
    found: list[Saved | InputError] = []
    for path in paths:
        try:
            found.append(load(path))
        except InputError as error:
            found.append(error.in_file(path))  # type: ignore[arg-type]
    return found
