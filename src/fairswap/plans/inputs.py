"""Files that a plan reads, known by what is in them: content hashes, with everything that a file pulls in."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import partial
from glob import has_magic
from pathlib import Path

from fairswap.errors import InputError, UsageError
from fairswap.formats.files import FORMATS, parts_of

_BLOCK = 1 << 20
# What a run writes into its folder beside the results.
LEDGER, REPORT, PAGE = "fairswap-run.sqlite", "report.csv", "report.html"
# More files than this are no job but a mistake, as a pattern over a whole disk.
MOST_FILES = 200_000


@dataclass(frozen=True)
class Content:
    """A file with all that it pulls in (buffers, images): the hash of the whole, its size, and each part."""

    path: str
    digest: str
    size: int
    parts: tuple[tuple[str, str], ...]

    @property
    def files(self) -> list[Path]:
        """The file and all that it pulls in."""
        return [Path(self.path).parent / name for name, _ in self.parts]


def content_of(path: Path, hashed: Callable[[Path], str] | None = None) -> Content:
    """The content of a file, by its hash.

    Parameters
    ----------
    hashed : callable
        Hashes one file; given where hashes are remembered.

    Raises
    ------
    InputError
        If it cannot be read.
    """
    hashed = hashed or file_digest
    paths = [path, *dict.fromkeys(part for part in parts_of(path) if part != path and part.is_file())]
    parts = tuple((os.path.relpath(part, path.parent), hashed(part)) for part in paths)
    whole = hashlib.sha256("\n".join(f"{name}\0{digest}" for name, digest in parts).encode())
    # A file by itself goes by its own hash: whatever it is called.
    digest = parts[0][1] if len(parts) == 1 else whole.hexdigest()
    return Content(str(path), digest, sum(part.stat().st_size for part in paths), parts)


def file_digest(path: Path) -> str:
    """The SHA-256 of a file, in hexadecimal digits.

    Raises
    ------
    InputError
        If it cannot be read.
    """
    found = hashlib.sha256()
    try:
        with path.open("rb") as file:
            while block := file.read(_BLOCK):
                found.update(block)
    except (OSError, ValueError) as error:
        reason = getattr(error, "strerror", None) or "no such name can be"
        raise InputError(f"it cannot be read ({reason})", file=path, remedy="Check the name and its rights") from None
    return found.hexdigest()


def files_meant(texts: tuple[str, ...], folder: Path, place: str = "", file: str = "") -> list[Path]:
    """The files that names, folders and patterns mean, each once, in order; of folders all that can be read in them.

    ``file`` is the plan that names them, and ``place`` where in it; without, it is the user who does.

    Raises
    ------
    InputError
        If one of a plan means nothing.
    UsageError
        If one of the user's does.
    """
    found: dict[Path, None] = {}
    for number, text in enumerate(texts):
        where = f"{place}[{number}]" if file else None
        wrong = partial(InputError if file else UsageError, file=file or None, place=where)
        try:
            rows = list(_meant(text, folder))
        except (OSError, ValueError, NotImplementedError) as error:
            reason = getattr(error, "strerror", None) or "no such name can be"
            raise wrong(f"{text[:120]!r} is no name ({reason})", remedy="Correct it") from None
        if not rows:
            what = "nothing fits this pattern" if has_magic(text) else "there is nothing to read in this folder"
            raise wrong(f"{what}: {text[:120]!r}", remedy=f"Files end in {', '.join(FORMATS)}")
        if file and not rows[0].exists():
            raise wrong(f"there is no file {text[:160]!r}", remedy="Correct its name")
        found.update(dict.fromkeys(rows))
        if len(found) > MOST_FILES:
            raise wrong(f"more than {MOST_FILES} files", remedy="Name a folder with fewer")
    return list(found)


def _meant(text: str, folder: Path) -> Iterator[Path]:
    path = folder / text
    if path.is_dir():
        yield from _readable(sorted(path.rglob("*")), path)
    elif path.exists() or not has_magic(text):
        yield path  # one that is not there is told by whoever reads it
    else:
        root = root_of(path)
        yield from _readable(sorted(root.glob(str(path.relative_to(root)))), root)


def root_of(text: str | Path) -> Path:
    """The folder below which all lies that a name, a folder or a pattern means."""
    path = Path(text)
    if path.is_dir():
        return path
    return next(parent for parent in (path, *path.parents)[1:] if not has_magic(str(parent)))


def _readable(paths: list[Path], root: Path) -> Iterator[Path]:
    """The files among them that can be read, without those of runs: a plan is not fed with what it has made."""
    made: dict[Path, bool] = {}

    def of_a_run(folder: Path) -> bool:
        if folder == root or root not in folder.parents:
            return False
        if folder not in made:
            made[folder] = (folder / LEDGER).exists() or of_a_run(folder.parent)
        return made[folder]

    for path in paths:
        hidden = any(part.startswith(".") for part in path.parts[-2:])
        if path.suffix.lower() not in FORMATS or hidden or not path.is_file() or of_a_run(path.parent):
            continue
        if path.name != REPORT or not (path.parent / LEDGER).exists():
            yield path
