"""Files beside a document that it names: only those in its own folder are ever opened."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path, PurePosixPath
from urllib.parse import unquote

from fairswap.errors import Finding
from fairswap.formats.images import picture_as_known
from fairswap.formats.storage import read_bytes


def file_inside(folder: Path, name: str) -> Path | None:
    """A file of the folder by its name; None if it is not there, or lies elsewhere."""
    try:
        target = folder / name
        there = bool(name) and target.is_file() and target.resolve().is_relative_to(folder.resolve())
    except (OSError, ValueError, RuntimeError):  # too long, with a null character, links in a circle
        return None
    return target if there else None


def plain_name(name: str) -> str:
    """A name as this system writes paths: without a scheme, escapes and a drive."""
    plain = unquote(re.sub(r"^file:(//)?", "", name.strip())).replace("\\", "/")
    return re.sub(r"^/?[A-Za-z]:/", "/", plain).removeprefix("./")


def file_named(folder: Path, name: str) -> Path | None:
    """The file that a document means by a name: where it says, else of that name beside it.

    A name elsewhere is that of another machine; the file often lies beside the document all the same.
    """
    plain = plain_name(name)
    return file_inside(folder, plain) or file_inside(folder, PurePosixPath(plain).name)


@dataclass
class Pictures:
    """The pictures that a document names: found beside it, or told once. ``beside`` are those that were opened."""

    folder: Path
    document: str
    findings: list[Finding]
    beside: list[str] = field(default_factory=list)
    _missing: set[str] = field(default_factory=set)

    def found(self, names: Sequence[str]) -> bytes | None:
        """The first of several names for a picture that is one; None, and told, if none is."""
        for name in names:
            target = file_named(self.folder, name)
            picture = None if target is None else picture_as_known(read_bytes(target), target.name)
            if picture is not None:
                self.beside.append(str(target))
                return picture
        return self.missing(names[0] if names else "")

    def missing(self, name: str) -> bytes | None:
        """Tell that a picture is not there, once; give none."""
        if name and name not in self._missing:
            self._missing.add(name)
            message = f"the picture {name[:80]!r} is not beside it, or is not a PNG or JPEG; its material goes without"
            self.findings.append(Finding("texture-missing", "warning", self.document, message))
        return None
