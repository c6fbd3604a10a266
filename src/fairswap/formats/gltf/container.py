"""A glTF document with its buffers, and the files beside it that it points to."""

from __future__ import annotations

import re
import struct
from base64 import b64decode
from binascii import Error as Base64Error
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path
from typing import Any
from urllib.parse import unquote

import msgspec

from fairswap.errors import InputError
from fairswap.formats.gltf.schema import Document
from fairswap.formats.storage import read_bytes

MAGIC = b"glTF"
_AGAIN = "Export the file again"


@dataclass(frozen=True, eq=False)
class Container:
    """A glTF document: the raw JSON (carried through), the typed view of it (read from), and its buffers.

    One that was made of a file of another format names that, the files ``beside`` that were read for it, and whether
    that format says where a figure looks. ``as_read`` is the JSON of the file where reading has added to it, and
    ``packed`` the extensions by which its data was compressed there.
    """

    path: Path
    raw: dict[str, Any]
    document: Document
    buffers: tuple[memoryview, ...]
    format: str = "glTF 2.0"
    beside: tuple[str, ...] = ()
    says_forward: bool = True
    as_read: dict[str, Any] | None = None
    packed: tuple[str, ...] = ()

    def __reduce__(self) -> tuple[Any, ...]:
        # A view of a buffer cannot be pickled; its bytes can.
        rest = (self.format, self.beside, self.says_forward, self.as_read, self.packed)
        return _from_bytes, (self.path, self.raw, self.document, tuple(map(bytes, self.buffers)), *rest)

    @property
    def is_gltf(self) -> bool:
        """Whether the file itself is a glTF document, or a VRM, and no other format's."""
        return self.format.startswith(("glTF", "VRM"))

    @property
    def size(self) -> int:
        """Bytes of all buffers: nothing in the file can honestly count more elements than that."""
        return sum(len(buffer) for buffer in self.buffers) + 65536

    def changed(self, raw: dict[str, Any], buffers: Sequence[memoryview] | None = None) -> Container:
        """The same file with other content."""
        new = tuple(self.buffers if buffers is None else buffers)
        return replace(self, raw=raw, document=msgspec.convert(raw, Document), buffers=new)

    @cached_property
    def files(self) -> tuple[str, ...]:
        """The file, and those beside it that it points to."""
        return (str(self.path), *map(str, _paths_of(self.path, self.document)), *self.beside)


class _Pointing(msgspec.Struct):
    uri: str | None = None


class _Pointers(msgspec.Struct):
    """All that is to be known of a document to see which files it points to."""

    buffers: list[_Pointing] = []
    images: list[_Pointing] = []


def _name_of(uri: str) -> str:
    """The name of a file that a URI stands for; bytes that are no text are kept, as paths keep them."""
    return unquote(uri, errors="surrogateescape")


def _paths_of(path: Path, document: Document | _Pointers) -> list[Path]:
    uris = [row.uri for row in (*document.buffers, *document.images) if row.uri and not row.uri.startswith("data:")]
    return [path.parent / name for name in map(_name_of, uris) if "\0" not in name]


def parts_of(path: Path) -> list[Path]:
    """The files that a ``.glb`` or ``.gltf`` points to, without reading them; none of one that cannot be read."""
    try:
        if not path.is_file():  # reading from a pipe would wait for ever
            return []
        with path.open("rb") as file:
            head = file.read(20)
            # The chunk with the JSON is the first.
            text = file.read(struct.unpack_from("<I", head, 12)[0]) if head[:4] == MAGIC else head + file.read()
        return _paths_of(path, msgspec.json.decode(text, type=_Pointers))
    except (OSError, ValueError, struct.error, msgspec.MsgspecError, RecursionError):
        return []  # whoever reads it will say what is wrong


def _from_bytes(
    path: Path, raw: dict[str, Any], document: Document, buffers: tuple[bytes, ...], *rest: Any
) -> Container:
    return Container(path, raw, document, tuple(map(memoryview, buffers)), *rest)


def bytes_from_uri(path: Path, uri: str, place: str) -> bytes:
    """The bytes a URI stands for: data in the URI, or a file in the folder of ``path``. Nothing else is opened."""
    if uri.startswith("data:"):
        head, comma, body = uri.partition(",")
        if not comma or not head.endswith(";base64"):
            raise InputError("the data URI is not base64", place=place, remedy=_AGAIN)
        try:
            return b64decode(body, validate=True)
        except Base64Error:
            raise InputError("the base64 data is damaged", place=place, remedy=_AGAIN) from None
    folder = path.parent.resolve()
    name = _name_of(uri)
    try:
        target = (folder / name).resolve() if "\0" not in name else folder
    except (OSError, RuntimeError):  # links in a circle
        target = folder
    scheme = re.match(r"[a-zA-Z][a-zA-Z0-9+.-]*:", uri)  # of the name as written: in a file's own name : is %3A
    if scheme or name.startswith(("/", "\\")) or not target.is_relative_to(folder) or target == folder:
        raise InputError(
            f"it points outside its folder ({uri[:80]!r}), which is never opened",
            place=place,
            remedy="Put the file beside the .gltf, or export as GLB with everything inside",
        )
    try:
        return read_bytes(target)
    except InputError as error:
        problem = f"the file {name[:80]!r} beside it: {error.problem}"
        raise InputError(problem, place=place, remedy="Copy it there too") from None
