"""Reading whole files, and writing them so that they appear whole or not at all."""

from __future__ import annotations

import contextlib
import os
import platform
import re
import stat
import tempfile
import time
from collections.abc import Iterable
from pathlib import Path

from fairswap.errors import InputError, OutputError
from fairswap.formats.limits import LARGEST_FILE_BYTES

Chunk = bytes | bytearray | memoryview
# Files being written say on which machine and by which process, so that a later run knows which were left behind.
_HOST = re.sub(r"[^A-Za-z0-9]", "", platform.node())[:24] or "host"
_PART = re.compile(rf"\.fairswap-{_HOST}-(\d+)-\w+\.part")
_OLD_S = 86400.0
_swept: set[Path] = set()


def read_bytes(path: Path) -> bytes:
    """The content of a file.

    Raises
    ------
    InputError
        If it is not there, is a folder, a pipe or a device, may not be read, is empty, or beyond any size.
    """
    try:
        found = path.stat()
        if stat.S_ISDIR(found.st_mode):
            raise InputError("it is a folder", file=path, remedy="Give a file in it")
        if not stat.S_ISREG(found.st_mode):
            raise InputError("it is a pipe or a device, not an ordinary file", file=path, remedy="Save it as a file")
        if found.st_size > LARGEST_FILE_BYTES:
            problem = f"it has {found.st_size >> 20} MiB, at most {LARGEST_FILE_BYTES >> 20} are read"
            raise InputError(problem, file=path, remedy="Export less at once")
        content = path.read_bytes()
    except FileNotFoundError:
        raise InputError("there is no such file", file=path, remedy="Check the name and the folder") from None
    except (OSError, ValueError) as error:  # a null character in a name is a ValueError
        reason = getattr(error, "strerror", None) or "no such name can be"
        raise InputError(f"it cannot be read ({reason})", file=path, remedy="Check the name and its rights") from None
    if not content:
        raise InputError("the file is empty", file=path, remedy="Export it again") from None
    return content


def refuse_existing(path: Path, force: bool) -> None:
    """Raise :class:`OutputError` if ``path`` is there and may not be replaced, or can be no file at all."""
    try:
        mode = path.lstat().st_mode
        there = path.stat().st_mode if stat.S_ISLNK(mode) and path.exists() else mode
    except FileNotFoundError:
        return
    except NotADirectoryError:
        raise OutputError("its folder is a file", file=path, remedy="Give another folder") from None
    except (OSError, ValueError) as error:
        reason = getattr(error, "strerror", None) or "no such name can be"
        raise OutputError(f"it cannot be written ({reason})", file=path, remedy="Give another name") from None
    if stat.S_ISDIR(there):
        raise OutputError("it is a folder", file=path, remedy="Give a file name")
    if not (stat.S_ISREG(there) or stat.S_ISLNK(there)):
        raise OutputError("it is a pipe or a device, not an ordinary file", file=path, remedy="Give another name")
    if not force:
        raise OutputError("it is there already", file=path, code="exists")


def write_atomically(path: Path, chunks: Iterable[Chunk], force: bool = False) -> None:
    """Write ``chunks`` to a temporary file beside ``path`` and move it into place.

    A file that is replaced hands on its rights and its owner. What a killed run left behind in the folder is removed.

    Raises
    ------
    OutputError
        If that is not possible; ``path`` is then as it was before.
    """
    refuse_existing(path, force)
    temporary = None
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        _remove_left_parts(path.parent)
        prefix = f".fairswap-{_HOST}-{os.getpid()}-"
        handle, temporary = tempfile.mkstemp(prefix=prefix, suffix=".part", dir=path.parent)
        with os.fdopen(handle, "wb") as file:
            for chunk in chunks:
                file.write(chunk)
            file.flush()
            os.fsync(file.fileno())
        _hand_on_rights(path, temporary)
        os.replace(temporary, path)
        temporary = None
    except (OSError, ValueError) as error:
        reason = getattr(error, "strerror", None) or "no such name can be"
        remedy = "Check the name, the room and the rights of its folder"
        raise OutputError(f"it cannot be written ({reason})", file=path, remedy=remedy) from None
    finally:
        if temporary is not None:
            Path(temporary).unlink(missing_ok=True)


def _hand_on_rights(path: Path, temporary: str) -> None:
    try:
        old = path.stat()
    except OSError:  # nothing is replaced
        os.chmod(temporary, 0o666 & ~_umask())
        return
    if hasattr(os, "chown") and (old.st_uid, old.st_gid) != (os.geteuid(), os.getegid()):
        with contextlib.suppress(OSError):  # only some may give files away
            os.chown(temporary, old.st_uid, old.st_gid)
    os.chmod(temporary, stat.S_IMODE(old.st_mode))


def _remove_left_parts(folder: Path) -> None:
    """Remove half files of runs that were killed: of processes of this machine that are no more, or a day old."""
    folder = folder.absolute()
    if folder in _swept:
        return
    _swept.add(folder)
    with contextlib.suppress(OSError):
        for entry in os.scandir(folder):
            found = _PART.fullmatch(entry.name)
            old = entry.name.endswith(".part") and entry.name.startswith(".fairswap-")
            old = old and time.time() - entry.stat(follow_symlinks=False).st_mtime > _OLD_S
            if old or (found and int(found[1]) != os.getpid() and not is_alive(int(found[1]))):
                os.unlink(entry.path)


def is_alive(process: int) -> bool:
    """Whether a process of this machine is there."""
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except (OSError, OverflowError):  # somebody else's
        return True
    return True


def _umask() -> int:
    # There is no way to read it but to set it.
    mask = os.umask(0)
    os.umask(mask)
    return mask
