"""Compressed files: geometry packed by Draco and buffer views packed by meshopt become plain buffers once, when a file
is opened. Nothing after that knows of them, and what is written is plain."""

from __future__ import annotations

import copy
from collections.abc import Iterator
from dataclasses import replace
from typing import Any, Literal, TypeVar

import msgspec
import numpy as np

from fairswap.errors import InputError
from fairswap.formats.gltf.accessors import COMPONENT_TYPES, WIDTHS, array_from_accessor, bytes_in, item, view_bytes
from fairswap.formats.gltf.container import Container
from fairswap.formats.gltf.packing import ARRAY_BUFFER, ELEMENT_ARRAY_BUFFER, Packer
from fairswap.formats.gltf.schema import Index
from fairswap.formats.wrong_fields import said_of
from fairswap.model.arrays import bounds_of

DRACO = "KHR_draco_mesh_compression"
MESHOPT = ("EXT_meshopt_compression", "KHR_meshopt_compression")
_AGAIN = "Export the file again, or with compression switched off"
# What a file may grow to: more is no figure, but an attack on memory.
_MOST_BYTES = 1 << 31


class _PackedView(msgspec.Struct, rename="camel"):
    buffer: Index
    byte_length: Index
    byte_stride: Index
    count: Index
    mode: Literal["ATTRIBUTES", "TRIANGLES", "INDICES"]
    byte_offset: Index = 0
    filter: str = "NONE"


class _PackedPrimitive(msgspec.Struct, rename="camel"):
    buffer_view: Index
    attributes: dict[str, Index]


_Packed = TypeVar("_Packed", _PackedView, _PackedPrimitive)


def with_plain_buffers(container: Container) -> Container:
    """The document with nothing compressed; the same one if nothing is.

    Raises
    ------
    InputError
        If compressed data is damaged, or larger than any figure when unpacked.
    """
    views, primitives = list(_packed_views(container.raw)), list(_packed_primitives(container.raw))
    if not views and not primitives:
        return container
    raw = copy.deepcopy(container.raw)
    grown = _Grown(raw, len(container.buffers))
    for index, name, place in views:
        row = raw["bufferViews"][index]
        data = _unpacked_view(container, _checked(_taken(row, name), _PackedView, place), place)
        row |= {"buffer": grown.buffer, "byteOffset": grown.append(data, place), "byteLength": data.nbytes}
    for mesh, number, place in primitives:
        row = raw["meshes"][mesh]["primitives"][number]
        packed = _checked(_taken(row, DRACO), _PackedPrimitive, place)
        _unpack_primitive(container, row, packed, grown, place)
    for row in raw.get("buffers", []):  # some are said to be there for plain data only
        extensions = row.get("extensions")
        for name in MESHOPT:
            if isinstance(extensions, dict) and name in extensions:
                _taken(row, name)
    raw["buffers"] = [*raw.get("buffers", []), {"byteLength": grown.packer.length}]
    gone = sorted({name for _, name, _ in views} | ({DRACO} if primitives else set()))
    for key in ("extensionsUsed", "extensionsRequired"):
        named = raw.pop(key, None)
        if isinstance(named, list) and (left := [name for name in named if name not in gone]):
            raw[key] = left
    plain = container.changed(raw, (*container.buffers, memoryview(b"".join(grown.packer.chunks))))
    return replace(_measured(plain, grown.buffer), packed=tuple(gone))


class _Grown:
    """One more buffer of a document, with the views and accessors that are new."""

    def __init__(self, raw: dict[str, Any], buffer: int) -> None:
        self.raw, self.buffer, self.packer = raw, buffer, Packer()
        self._filled: dict[int, np.ndarray[Any, Any]] = {}

    def append(self, data: np.ndarray[Any, Any], place: str) -> int:
        """Add bytes; give their offset."""
        if self.packer.length + data.nbytes > _MOST_BYTES:
            raise _too_large(place)
        return self.packer.append(data)

    def accessor(self, index: int | None, values: np.ndarray[Any, Any], target: int, place: str) -> int:
        """An accessor that holds ``values``: the one the file has for them, or a new one where it has none, or where
        primitives share it whose values differ."""
        rows = self.raw.setdefault("accessors", [])
        if index in self._filled and np.array_equal(self._filled[index], values):
            return index
        if index is None or index in self._filled:
            rows.append({"componentType": 5125, "type": "SCALAR"} if index is None else dict(rows[index]))
            index = len(rows) - 1
        row = rows[index]
        row.pop("byteOffset", None)
        row.pop("sparse", None)
        dtype = np.dtype(COMPONENT_TYPES.get(row["componentType"], "<u4"))
        if target == ELEMENT_ARRAY_BUFFER and (dtype.kind != "u" or values.max() > np.iinfo(dtype).max):
            row["componentType"], dtype = 5125, np.dtype("<u4")
        # Vertices start at multiples of four bytes.
        step = -(-dtype.itemsize * values.shape[1] // 4) * 4 if target == ARRAY_BUFFER else dtype.itemsize
        stored = np.zeros((len(values), step // dtype.itemsize), dtype=dtype)
        stored[:, : values.shape[1]] = values
        view = {"buffer": self.buffer, "byteOffset": self.append(stored, place), "byteLength": stored.nbytes}
        view |= {"target": target, "byteStride": step} if target == ARRAY_BUFFER else {"target": target}
        views = self.raw.setdefault("bufferViews", [])
        views.append(view)
        row |= {"bufferView": len(views) - 1, "count": len(values)}
        self._filled[index] = values
        return index


def _too_large(place: str) -> InputError:
    return InputError("it unpacks to more than 2 GiB", place=place, remedy="Leave out what is no figure")


def _packed_views(raw: dict[str, Any]) -> Iterator[tuple[int, str, str]]:
    """Of each compressed view its number, the extension, and its place in the file."""
    for index, row in enumerate(raw.get("bufferViews") or []):
        extensions = row.get("extensions")
        for name in [name for name in MESHOPT if isinstance(extensions, dict) and name in extensions][:1]:
            yield index, name, f"bufferViews[{index}].extensions.{name}"


def _packed_primitives(raw: dict[str, Any]) -> Iterator[tuple[int, int, str]]:
    """Of each compressed primitive its mesh, its number there, and its place in the file."""
    for mesh, row in enumerate(raw.get("meshes") or []):
        for number, primitive in enumerate(row["primitives"]):
            extensions = primitive.get("extensions")
            if isinstance(extensions, dict) and DRACO in extensions:
                yield mesh, number, f"meshes[{mesh}].primitives[{number}].extensions.{DRACO}"


def _taken(row: dict[str, Any], name: str) -> Any:
    """What an extension says of a row; it is gone from there."""
    said = row["extensions"].pop(name)
    if not row["extensions"]:
        del row["extensions"]
    return said


def _checked(value: Any, kind: type[_Packed], place: str) -> _Packed:
    try:
        return msgspec.convert(value, kind)
    except msgspec.ValidationError as error:
        problem, inner, _ = said_of(error, kind, "compressed data")
        raise InputError(problem, place=f"{place}.{inner}" if inner else place, remedy=_AGAIN) from None


def _unpacked_view(container: Container, packed: _PackedView, place: str) -> np.ndarray[Any, Any]:
    """The plain bytes ``(count, stride)`` of a view."""
    from fairswap.formats.gltf.meshopt import FILTERS, MODES, DamagedError

    data = bytes_in(container, packed.buffer, packed.byte_offset, packed.byte_length, place)
    stride, of_indices = packed.byte_stride, packed.mode != "ATTRIBUTES"
    fits = stride in (2, 4) if of_indices else stride % 4 == 0 and 4 <= stride <= 256
    if not fits or (packed.mode == "TRIANGLES" and packed.count % 3):
        raise InputError(f"{packed.count} times {stride} bytes cannot be {packed.mode}", place=place, remedy=_AGAIN)
    change, strides = FILTERS.get(packed.filter, (None, ()))
    if packed.filter != "NONE" and (change is None or of_indices or stride not in strides):
        raise InputError(f"its filter {packed.filter[:40]!r} does not fit it", place=place, remedy=_AGAIN)
    if packed.count * stride > _MOST_BYTES:
        raise _too_large(place)
    try:
        unpacked = MODES[packed.mode](bytes(data), packed.count, stride)
    except DamagedError as error:
        raise InputError(f"its compressed data is damaged: {error}", place=place, remedy=_AGAIN) from None
    return unpacked if change is None else change(unpacked)


def _unpack_primitive(
    container: Container, row: dict[str, Any], packed: _PackedPrimitive, grown: _Grown, place: str
) -> None:
    """Fill the accessors of a primitive from its compressed geometry."""
    import DracoPy

    data = bytes(view_bytes(container, packed.buffer_view, place))
    try:
        mesh = DracoPy.decode(data)
    except (DracoPy.FileTypeException, ValueError, RuntimeError, MemoryError):
        raise InputError("its compressed geometry is damaged", place=place, remedy=_AGAIN) from None
    if row.get("mode", 4) not in (4, 5) or not isinstance(mesh, DracoPy.DracoMesh) or not len(mesh.faces):
        raise InputError("its compressed geometry has no triangles", place=place, remedy=_AGAIN)
    row.pop("mode", None)  # what was a strip comes out as triangles
    numbered = {attribute["unique_id"]: attribute["data"] for attribute in mesh.attributes}
    values = {}
    for name, number in packed.attributes.items():
        where = f"{place}.attributes.{name}"
        if name not in row["attributes"] or number not in numbered:
            raise InputError(f"its compressed geometry has no attribute {number}", place=where, remedy=_AGAIN)
        needed = item(container.document.accessors, row["attributes"][name], "accessor", where).type
        if WIDTHS.get(needed) != numbered[number].shape[1]:
            problem = f"its compressed geometry has {numbered[number].shape[1]} numbers where {needed} is said"
            raise InputError(problem, place=where, remedy=_AGAIN)
        values[name] = numbered[number]
    for name, own in values.items():
        index = row["attributes"][name]
        row["attributes"][name] = grown.accessor(index, own, ARRAY_BUFFER, f"{place}.attributes.{name}")
    corners = mesh.faces.reshape(-1, 1)
    row["indices"] = grown.accessor(row.get("indices"), corners, ELEMENT_ARRAY_BUFFER, f"{place}.indices")


def _measured(container: Container, buffer: int) -> Container:
    """The document with the bounds of what came into a buffer as they are: packing moves values a little."""
    raw = container.raw
    for index, row in enumerate(container.document.accessors):
        if row.buffer_view is None or row.component_type != 5126 or row.min is None or not row.count:
            continue
        if (
            item(container.document.buffer_views, row.buffer_view, "buffer view", f"accessors[{index}]").buffer
            == buffer
        ):
            values = array_from_accessor(container, index, f"accessors[{index}]")
            low, high = bounds_of(values)
            raw["accessors"][index] |= {"min": low.tolist(), "max": high.tolist()}
    return container.changed(raw)
