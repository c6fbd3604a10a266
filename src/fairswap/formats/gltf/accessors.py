"""Numbers out of buffers: every component type, normalized, strided, sparse, or missing (zeros)."""

from __future__ import annotations

from typing import Any, TypeVar

import numpy as np

from fairswap.errors import InputError
from fairswap.formats.gltf.container import Container
from fairswap.model.arrays import Floats

COMPONENT_TYPES = {5120: "i1", 5121: "u1", 5122: "<i2", 5123: "<u2", 5125: "<u4", 5126: "<f4"}
WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT2": 4, "MAT3": 9, "MAT4": 16}
_AGAIN = "Export the file again"
_Item = TypeVar("_Item")


def item(items: list[_Item], index: int, kind: str, place: str) -> _Item:
    """``items[index]``, or a clear error."""
    if index >= len(items):
        raise InputError(f"it names {kind} {index}, but there are {len(items)}", place=place, remedy=_AGAIN)
    return items[index]


def view_bytes(container: Container, index: int, place: str) -> memoryview:
    """The bytes of one buffer view."""
    view = item(container.document.buffer_views, index, "buffer view", place)
    return bytes_in(container, view.buffer, view.byte_offset, view.byte_length, f"bufferViews[{index}]")


def bytes_in(container: Container, index: int, offset: int, length: int, where: str) -> memoryview:
    """The bytes of a stretch of a buffer."""
    buffer = item(list(container.buffers), index, "buffer", where)
    if offset + length > len(buffer):
        raise InputError("it reaches past the end of its buffer", place=where, remedy=_AGAIN)
    return buffer[offset : offset + length]


def array_from_accessor(
    container: Container, index: int, place: str, width: int | None = None, *, gaps: bool = False
) -> np.ndarray[Any, Any]:
    """The values ``(count, width)`` of an accessor as they are stored, checked to be finite but where ``gaps`` may be.

    Normalized integers come as floats. ``width`` is the number of components the user of the data needs.
    """
    accessor = item(container.document.accessors, index, "accessor", place)
    where = f"accessors[{index}]"
    dtype = _dtype(accessor.component_type, where)
    if accessor.type not in WIDTHS:
        raise InputError(f"its type is {accessor.type!r}", place=where, remedy=_AGAIN)
    columns = WIDTHS[accessor.type]
    if width is not None and columns != width:
        raise InputError(f"it has {columns} components, {place} needs {width}", place=where, remedy=_AGAIN)
    if accessor.count > container.size:
        raise InputError(f"it counts {accessor.count} elements, more than the file holds", place=where, remedy=_AGAIN)
    if accessor.type in ("MAT2", "MAT3") and dtype.itemsize < 4:
        raise InputError("matrices of bytes are not supported", place=where, remedy="Export them as floats")
    if accessor.buffer_view is None:
        values = np.broadcast_to(np.zeros(1, dtype), (accessor.count, columns))
    else:
        stride = item(container.document.buffer_views, accessor.buffer_view, "buffer view", where).byte_stride
        data = view_bytes(container, accessor.buffer_view, where)
        values = _strided(data, dtype, accessor.count, columns, accessor.byte_offset, stride, where)
    if accessor.sparse is not None:
        values = _with_sparse(container, values, accessor.sparse, where)
    if dtype.kind == "f":
        if not gaps and not np.isfinite(values).all():
            row = int(np.flatnonzero(~np.isfinite(values).all(axis=1))[0])
            raise InputError(f"element {row} is not a finite number (used by {place})", place=where, remedy=_AGAIN)
    elif accessor.normalized:
        return normalized_floats(values)
    return values


def floats_from_accessor(
    container: Container, index: int, place: str, width: int | None = None, *, gaps: bool = False
) -> Floats:
    """As :func:`array_from_accessor`, in float64."""
    with np.errstate(invalid="ignore"):  # some of what is no number is told when it is copied
        return np.asarray(array_from_accessor(container, index, place, width, gaps=gaps), dtype=np.float64)


def normalized_floats(values: np.ndarray[Any, Any]) -> Floats:
    """Integers over their range as -1..1 or 0..1 (glTF 2.0, 3.6.2.3)."""
    scaled = values / float(np.iinfo(values.dtype).max)
    return np.maximum(scaled, -1.0) if values.dtype.kind == "i" else scaled


def _dtype(component_type: int, where: str) -> np.dtype[Any]:
    if component_type not in COMPONENT_TYPES:
        raise InputError(f"its component type is {component_type}", place=where, remedy=_AGAIN)
    return np.dtype(COMPONENT_TYPES[component_type])


def _strided(
    data: memoryview, dtype: np.dtype[Any], count: int, columns: int, offset: int, stride: int | None, where: str
) -> np.ndarray[Any, Any]:
    size = dtype.itemsize * columns
    step = stride or size
    if count and offset + step * (count - 1) + size > len(data):
        raise InputError("it reaches past the end of its buffer view", place=where, remedy=_AGAIN)
    if step < size:
        raise InputError(f"its elements of {size} bytes overlap at a stride of {step}", place=where, remedy=_AGAIN)
    if not count:
        return np.empty((0, columns), dtype)
    return np.ndarray((count, columns), dtype, buffer=data, offset=offset, strides=(step, dtype.itemsize))


def _with_sparse(container: Container, base: np.ndarray[Any, Any], sparse: Any, where: str) -> np.ndarray[Any, Any]:
    place = f"{where}.sparse"
    index_type = _dtype(sparse.indices.component_type, place)
    if index_type.kind != "u":
        raise InputError("its indices are not unsigned integers", place=place, remedy=_AGAIN)
    if sparse.count > len(base):
        raise InputError(f"it replaces {sparse.count} of {len(base)} elements", place=place, remedy=_AGAIN)
    index_data = view_bytes(container, sparse.indices.buffer_view, place)
    rows = _strided(index_data, index_type, sparse.count, 1, sparse.indices.byte_offset, None, place)[:, 0]
    value_data = view_bytes(container, sparse.values.buffer_view, place)
    values = _strided(value_data, base.dtype, sparse.count, base.shape[1], sparse.values.byte_offset, None, place)
    if len(rows) and int(rows.max()) >= len(base):
        raise InputError(f"it names element {int(rows.max())} of {len(base)}", place=place, remedy=_AGAIN)
    out = base.copy()
    out[rows] = values
    return out
