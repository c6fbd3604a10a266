"""The outer shell of a glTF file: binary container or JSON, and the buffers it points to.

What comes out of here has been checked for shape (types, lengths); indices and values are checked where they are used.
"""

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
from fairswap.formats.wrong_fields import said_of

MAGIC = b"glTF"
_JSON, _BIN = 0x4E4F534A, 0x004E4942
_AGAIN = "Export the file again"
# Data that we cannot decode, by the extension that packs it.
_PACKED = {
    "KHR_draco_mesh_compression": "its geometry is compressed",
    "EXT_meshopt_compression": "its data is compressed",
    "KHR_meshopt_compression": "its data is compressed",
}


@dataclass(frozen=True, eq=False)
class Container:
    """A glTF document: the raw JSON (carried through), the typed view of it (read from), and its buffers.

    One that was made of a file of another format names that, the files ``beside`` that were read for it, and whether
    that format says where a figure looks. ``as_read`` is the JSON of the file where reading has added to it.
    """

    path: Path
    raw: dict[str, Any]
    document: Document
    buffers: tuple[memoryview, ...]
    format: str = "glTF 2.0"
    beside: tuple[str, ...] = ()
    says_forward: bool = True
    as_read: dict[str, Any] | None = None

    def __reduce__(self) -> tuple[Any, ...]:
        # A view of a buffer cannot be pickled; its bytes can.
        rest = (self.format, self.beside, self.says_forward, self.as_read)
        return _from_bytes, (self.path, self.raw, self.document, tuple(map(bytes, self.buffers)), *rest)

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


def open_container(path: Path) -> Container:
    """Read a ``.glb`` or ``.gltf`` with all its buffers; errors as in :func:`container_from_bytes`."""
    return container_from_bytes(read_bytes(path), path)


def container_from_bytes(content: bytes, path: Path) -> Container:
    """The content of a ``.glb`` or ``.gltf``, with all its buffers; ``path`` is where it is (or would be).

    Raises
    ------
    InputError
        For anything that is not a whole, uncompressed glTF 2.0 with buffers in it or beside it.
    """
    binary: memoryview | None = None
    if content[:4] == MAGIC:
        text, binary = _chunks(content)
    elif path.suffix.lower() != ".gltf" and content.lstrip()[:1] != b"{":
        raise InputError("it is not a glTF file: the first four bytes are not 'glTF'", remedy=_AGAIN + " as GLB")
    else:
        text = memoryview(content)
    raw, document = _parse(text)
    buffers = tuple(_buffer(path, index, buffer, binary) for index, buffer in enumerate(document.buffers))
    return Container(path, raw, document, buffers)


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


def _chunks(content: bytes) -> tuple[memoryview, memoryview | None]:
    if len(content) < 12:
        raise InputError("the file ends inside its header", remedy=_AGAIN)
    version, length = struct.unpack_from("<II", content, 4)
    if version != 2:
        raise InputError(f"it is glTF {version}, we read glTF 2.0", remedy="Export it as glTF 2.0")
    if length > len(content):
        raise InputError(
            f"the file is cut: {len(content)} of {length} bytes are there", remedy="Copy or export it again"
        )
    view = memoryview(content)[:length]
    text: memoryview | None = None
    binary: memoryview | None = None
    at = 12
    while at + 8 <= length:
        size, kind = struct.unpack_from("<II", view, at)
        if at + 8 + size > length:
            raise InputError("a chunk is longer than the file", place=f"byte {at}", remedy=_AGAIN)
        body = view[at + 8 : at + 8 + size]
        if kind == _JSON and text is None:
            text = body
        elif kind == _BIN and binary is None:
            binary = body
        at += 8 + size
    if text is None:
        raise InputError("the chunk with the JSON is missing", remedy=_AGAIN)
    return text, binary


def _parse(text: memoryview) -> tuple[dict[str, Any], Document]:
    try:
        raw = msgspec.json.decode(text)
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        raise InputError(f"its JSON is damaged ({error})", remedy=_AGAIN) from None
    except RecursionError:
        raise InputError("its JSON is nested too deeply to be a scene", remedy=_AGAIN) from None
    if not isinstance(raw, dict) or not isinstance(raw.get("asset"), dict):
        raise InputError("it is JSON, but not glTF: it has no 'asset'", remedy=_AGAIN + " as glTF 2.0")
    version = raw["asset"].get("version")
    if not str(version).startswith("2."):
        raise InputError(
            f"it is glTF {version}, we read glTF 2.0", place="asset.version", remedy="Export it as glTF 2.0"
        )
    required = raw.get("extensionsRequired") or []
    if not isinstance(required, list):
        raise InputError("it is not a list in brackets", place="extensionsRequired", remedy=_AGAIN)
    for name in required:
        if isinstance(name, str) and name in _PACKED:
            raise InputError(
                f"{_PACKED[name]} with {name}, which we cannot unpack",
                place="extensionsRequired",
                remedy="Export it again with compression switched off",
            )
    try:
        return raw, msgspec.convert(raw, Document)
    except msgspec.ValidationError as error:
        problem, place, _ = said_of(error, Document, "a glTF file")
        raise InputError(problem, place=place or None, remedy=_AGAIN) from None


def _buffer(path: Path, index: int, buffer: Any, binary: memoryview | None) -> memoryview:
    place = f"buffers[{index}]"
    if buffer.uri is not None:
        data = memoryview(bytes_from_uri(path, buffer.uri, place))
    elif index == 0 and binary is not None:
        data = binary
    else:
        raise InputError("the buffer has no data", place=place, remedy=_AGAIN)
    if buffer.byte_length > len(data):
        raise InputError(
            f"{buffer.byte_length} bytes are declared, {len(data)} are there",
            place=place,
            remedy="Copy or export it again",
        )
    return data[: buffer.byte_length]
