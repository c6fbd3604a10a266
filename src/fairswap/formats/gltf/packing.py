"""Collecting binary data for a new glTF buffer: buffer views, accessors, alignment."""

from __future__ import annotations

import struct
from typing import Any

import numpy as np

from fairswap.formats.storage import Chunk
from fairswap.model.arrays import Floats, Integers, bounds_of
from fairswap.model.mesh import strongest

_COMPONENT_TYPES = {"|u1": 5121, "<i2": 5122, "<u2": 5123, "<u4": 5125, "<f4": 5126}
_TYPES = {1: "SCALAR", 2: "VEC2", 3: "VEC3", 4: "VEC4", 16: "MAT4"}
ARRAY_BUFFER, ELEMENT_ARRAY_BUFFER = 34962, 34963
# So many weights of a vertex are in a set.
SET = 4


class Packer:
    """Grows one buffer, with the lists of views and accessors that describe it."""

    def __init__(self) -> None:
        self.chunks: list[Chunk] = []
        self.length = 0
        self.views: list[dict[str, Any]] = []
        self.accessors: list[dict[str, Any]] = []

    def append(self, data: Chunk | np.ndarray[Any, Any]) -> int:
        """Add bytes, padded to four; give their offset."""
        chunk = (
            memoryview(np.ascontiguousarray(data).data).cast("B") if isinstance(data, np.ndarray) else memoryview(data)
        )
        offset = self.length
        self.chunks.append(chunk)
        padding = -len(chunk) % 4
        if padding:
            self.chunks.append(bytes(padding))
        self.length += len(chunk) + padding
        return offset

    def view(self, data: Chunk | np.ndarray[Any, Any], **more: Any) -> int:
        """A buffer view of its own for ``data``; give its index."""
        offset = self.append(data)
        length = data.nbytes if isinstance(data, np.ndarray) else len(data)
        self.views.append({"buffer": 0, "byteOffset": offset, "byteLength": length, **more})
        return len(self.views) - 1

    def accessor(self, data: np.ndarray[Any, Any], view: int, offset: int = 0, bounds: bool = False) -> int:
        """An accessor for rows ``(count, width)`` that stand at ``offset`` of ``view``; give its index."""
        row: dict[str, Any] = {"bufferView": view}
        if offset:
            row["byteOffset"] = offset
        row |= {
            "componentType": _COMPONENT_TYPES[data.dtype.str],
            "count": len(data),
            "type": _TYPES[data.shape[1] if data.ndim == 2 else 1],
        }
        if bounds:
            row["min"], row["max"] = (bound.tolist() for bound in bounds_of(data.reshape(len(data), -1)))
        self.accessors.append(row)
        return len(self.accessors) - 1

    def attribute(self, data: np.ndarray[Any, Any], target: int | None = ARRAY_BUFFER, bounds: bool = False) -> int:
        """A view and an accessor for one attribute or index list."""
        more = {} if target is None else {"target": target}
        return self.accessor(data, self.view(data, **more), bounds=bounds)

    def skin(self, joints: Integers, weights: Floats) -> dict[str, int]:
        """The attributes of a skin's bones and weights ``(n, k)``, in sets of four.

        Many programs read the first set alone: there is no second one but where a vertex has more than four.
        """
        if joints.shape[1] > SET:
            joints, weights = strongest(joints, weights)
        room = ((0, 0), (0, -joints.shape[1] % SET))
        joints, weights = np.pad(joints, room), np.pad(weights, room)
        out = {}
        for number in range(joints.shape[1] // SET):
            columns = slice(SET * number, SET * (number + 1))
            out[f"JOINTS_{number}"] = self.attribute(np.ascontiguousarray(joints[:, columns]))
            out[f"WEIGHTS_{number}"] = self.attribute(np.ascontiguousarray(weights[:, columns], dtype="<f4"))
        return out

    def block(self, arrays: list[np.ndarray[Any, Any]], bounds: frozenset[int]) -> list[int]:
        """One view for several arrays one after another, an accessor each; those in ``bounds`` get min and max."""
        start = self.length
        offsets = [self.append(array) - start for array in arrays]
        self.views.append({"buffer": 0, "byteOffset": start, "byteLength": self.length - start})
        view = len(self.views) - 1
        return [
            self.accessor(array, view, offset, index in bounds)
            for index, (array, offset) in enumerate(zip(arrays, offsets, strict=True))
        ]


def glb_chunks(text: bytes, packer: Packer) -> list[Chunk]:
    """A binary file of a document's JSON and the buffer of a packer, as the format has it."""
    text += b" " * (-len(text) % 4)
    total = 12 + 8 + len(text) + (8 + packer.length if packer.length else 0)
    out: list[Chunk] = [struct.pack("<4sIIII", b"glTF", 2, total, len(text), 0x4E4F534A), text]
    if packer.length:
        out.append(struct.pack("<II", packer.length, 0x004E4942))
    return [*out, *packer.chunks]
