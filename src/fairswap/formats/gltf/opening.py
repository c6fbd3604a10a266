"""The outer shell of a glTF file: binary container or JSON, and the buffers it points to.

What comes out of here is not compressed and has been checked for shape (types, lengths); indices and values are checked
where they are used.
"""

from __future__ import annotations

import struct
from pathlib import Path
from typing import Any

import msgspec

from fairswap.errors import InputError
from fairswap.formats.gltf.container import MAGIC, Container, bytes_from_uri
from fairswap.formats.gltf.schema import Buffer, Document
from fairswap.formats.gltf.unpacking import MESHOPT, with_plain_buffers
from fairswap.formats.storage import read_bytes
from fairswap.formats.wrong_fields import said_of

_JSON, _BIN = 0x4E4F534A, 0x004E4942
_AGAIN = "Export the file again"


def open_container(path: Path) -> Container:
    """Read a ``.glb`` or ``.gltf`` with all its buffers; errors as in :func:`container_from_bytes`."""
    return container_from_bytes(read_bytes(path), path)


def container_from_bytes(content: bytes, path: Path) -> Container:
    """The content of a ``.glb`` or ``.gltf``, with all its buffers; ``path`` is where it is (or would be).

    Raises
    ------
    InputError
        For anything that is not a whole glTF 2.0 with buffers in it or beside it.
    """
    binary: memoryview | None = None
    if content[:4] == MAGIC:
        text, binary = _chunks(content)
    elif path.suffix.lower() != ".gltf" and content.lstrip()[:1] != b"{":
        raise InputError("it is not a glTF file: the first four bytes are not 'glTF'", remedy=_AGAIN + " as GLB")
    else:
        text = memoryview(content)
    raw, document = _parse(text)
    buffers = tuple(
        memoryview(b"") if _is_for_plain_data(raw["buffers"][index], buffer) else _buffer(path, index, buffer, binary)
        for index, buffer in enumerate(document.buffers)
    )
    return with_plain_buffers(Container(path, raw, document, buffers))


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
    try:
        return raw, msgspec.convert(raw, Document)
    except msgspec.ValidationError as error:
        problem, place, _ = said_of(error, Document, "a glTF file")
        raise InputError(problem, place=place or None, remedy=_AGAIN) from None


def _is_for_plain_data(row: dict[str, Any], buffer: Buffer) -> bool:
    """Whether a buffer only says how long what is compressed elsewhere would be."""
    extensions = row.get("extensions")
    return buffer.uri is None and isinstance(extensions, dict) and any(name in extensions for name in MESHOPT)


def _buffer(path: Path, index: int, buffer: Buffer, binary: memoryview | None) -> memoryview:
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
