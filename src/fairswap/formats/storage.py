"""Reading whole files, and writing them so that they appear whole or not at all."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterable
from pathlib import Path

from fairswap.errors import InputError, OutputError

Chunk = bytes | bytearray | memoryview


def read_bytes(path: Path) -> bytes:
    """The content of a file.

    Raises
    ------
    InputError
        If it is not there, is a folder, may not be read, or is empty.
    """
    try:
        content = path.read_bytes()
    except FileNotFoundError:
        raise InputError("there is no such file", file=path, remedy="Check the name and the folder") from None
    except OSError as error:
        raise InputError(f"it cannot be read ({error.strerror})", file=path) from None
    if not content:
        raise InputError("the file is empty", file=path, remedy="Export it again") from None
    return content


def refuse_existing(path: Path, force: bool) -> None:
    """Raise :class:`OutputError` if ``path`` is there and may not be replaced."""
    if path.is_dir():
        raise OutputError("it is a folder", file=path, remedy="Give a file name")
    if not force and path.exists():
        raise OutputError("it is there already", file=path, code="exists")


def write_atomically(path: Path, chunks: Iterable[Chunk], force: bool = False) -> None:
    """Write ``chunks`` to a temporary file beside ``path`` and move it into place.

    Raises
    ------
    OutputError
        If that is not possible; ``path`` is then as it was before.
    """
    refuse_existing(path, force)
    temporary = None
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        handle, temporary = tempfile.mkstemp(prefix=f".{path.name}.", suffix=".part", dir=path.parent)
        with os.fdopen(handle, "wb") as file:
            for chunk in chunks:
                file.write(chunk)
            file.flush()
            os.fsync(file.fileno())
        os.chmod(temporary, 0o666 & ~_umask())
        os.replace(temporary, path)
        temporary = None
    except OSError as error:
        raise OutputError(
            f"it cannot be written ({error.strerror})", file=path, remedy="Check the room and the rights of its folder"
        ) from None
    finally:
        if temporary is not None:
            Path(temporary).unlink(missing_ok=True)


def _umask() -> int:
    # There is no way to read it but to set it.
    mask = os.umask(0)
    os.umask(mask)
    return mask
