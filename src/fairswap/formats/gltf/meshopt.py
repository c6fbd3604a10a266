"""Data packed as ``EXT_meshopt_compression`` and ``KHR_meshopt_compression`` have it, unpacked.

After the bitstreams and filters that these extensions define in the glTF registry. There is no Python package for it.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

Bytes = NDArray[np.uint8]

# Elements come in groups of this many; of each group every byte is packed by itself.
_GROUP = 16
_BLOCK_BYTES, _BLOCK_ELEMENTS = 8192, 256
# How many bits a byte of a group takes, by the two bits of its header: as version 0 has it, and version 1 with the
# first and the second of its controls.
_WIDTHS = {None: (0, 2, 4, 8), 0: (0, 1, 2, 4), 1: (1, 2, 4, 8)}
_NOTHING, _VERBATIM = 2, 3
_MASK = 0xFFFFFFFF


class DamagedError(Exception):
    """The data is not what its header says."""


def unpacked_attributes(data: bytes, count: int, stride: int) -> Bytes:
    """Vertices, keys and the like ``(count, stride)``, as ``ATTRIBUTES`` packs them.

    Raises
    ------
    DamagedError
        If the data does not end where it should, or has no such form.
    """
    if not data or data[0] not in (0xA0, 0xA1):
        raise DamagedError("it has no header of attributes")
    newer = data[0] == 0xA1
    tail = stride + (stride // 4 if newer else 0)
    end = len(data) - max(tail, 24 if newer else 32)
    if end < 1:
        raise DamagedError("it ends too early")
    deltas = _deltas(data, end, count, stride, newer)
    first = np.frombuffer(data, np.uint8, stride, len(data) - tail)
    ways = np.frombuffer(data, np.uint8, tail - stride, len(data) - tail + stride) if newer else np.zeros(stride // 4)
    out = np.empty((count, stride), dtype=np.uint8)
    for number, way in enumerate(ways.astype(np.uint32)):
        word = slice(4 * number, 4 * number + 4)
        rows = np.ascontiguousarray(np.concatenate([first[None, word], deltas[:, word]]))
        out[:, word] = _summed(rows, way)[1:]
    return out


def _summed(rows: Bytes, way: np.uint32) -> Bytes:
    """Four bytes of each element ``(count + 1, 4)`` from the first and the differences: by byte, by pair, or all four
    by what differs, turned by some bits."""
    kind = way & 3
    if kind == 3:
        raise DamagedError("it has a channel of no known kind")
    words = rows.view({0: "u1", 1: "<u2", 2: "<u4"}[int(kind)])
    if kind == 2:
        turn = way >> 4
        words[1:] = (words[1:] >> turn) | (words[1:] << ((32 - turn) % 32))
        return np.bitwise_xor.accumulate(words, axis=0).view(np.uint8)
    words[1:] = (words[1:] >> 1) ^ -(words[1:] & 1)
    return np.cumsum(words, axis=0, dtype=words.dtype).view(np.uint8)


def _deltas(data: bytes, end: int, count: int, stride: int, newer: bool) -> Bytes:
    """What each element differs from the one before it ``(count, stride)``, as stored."""
    per_block = min(_BLOCK_BYTES // stride // _GROUP * _GROUP, _BLOCK_ELEMENTS)
    blocks, per_block_groups = -(-count // per_block), per_block // _GROUP
    # Only the length of a group tells where the next one starts. It follows from how many of its fields are full,
    # and these are counted beforehand: up to each byte, for fields of each width.
    padded = np.frombuffer(data + bytes(2 * _GROUP), np.uint8)
    full = {width: memoryview(np.cumsum(_full(padded, width)).astype("q").data) for width in (1, 2, 4)}
    starts: dict[int, tuple[list[int], list[int]]] = {width: ([], []) for width in (1, 2, 4, 8)}
    at = 1
    for block in range(blocks):
        elements = min(count - block * per_block, per_block)
        groups = -(-elements // _GROUP)
        controls = at
        at += stride // 4 if newer else 0
        if at > end:
            raise DamagedError("it ends too early")
        for byte in range(stride):
            control = data[controls + byte // 4] >> 2 * (byte % 4) & 3 if newer else None
            place = (block * stride + byte) * per_block_groups
            if control == _NOTHING:
                continue
            if control == _VERBATIM:
                starts[8][0].extend(range(place, place + groups))
                starts[8][1].extend(range(at, at + groups * _GROUP, _GROUP))
                at += elements
                continue
            widths, header = _WIDTHS[control], at
            at += -(-groups // 4)
            if at > end:
                raise DamagedError("it ends too early")
            for group in range(groups):
                width = widths[data[header + (group >> 2)] >> 2 * (group & 3) & 3]
                if width:
                    places, found = starts[width]
                    places.append(place + group)
                    found.append(at)
                    at += 2 * width
                    if width < 8:
                        at += full[width][at - 1] - full[width][at - 2 * width - 1]
                if at > end:
                    raise DamagedError("it ends too early")
    if at != end:
        raise DamagedError(f"{end - at} bytes of it are left over")
    out = np.zeros((blocks * stride * per_block_groups, _GROUP), dtype=np.uint8)
    for width, (places, found) in starts.items():
        out[places] = _group_bytes(padded, np.array(found, dtype=np.intp), width)
    return out.reshape(blocks, stride, per_block).transpose(0, 2, 1).reshape(-1, stride)[:count]


def _full(packed: Bytes, width: int) -> NDArray[np.intp]:
    """How many of the fields of this many bits are full in each byte."""
    fields = _values(np.arange(256, dtype=np.uint8)[:, None], width)
    return (fields == (1 << width) - 1).sum(axis=1)[packed]


def _values(packed: Bytes, width: int) -> Bytes:
    """The fields of this many bits in bytes ``(n, k)``: single bits from the lowest, others from the highest."""
    shifts = np.arange(0, 8, width, dtype=np.uint8)
    shifts = shifts if width == 1 else shifts[::-1]
    fields = (packed[:, :, None] >> shifts) & np.uint8((1 << width) - 1)
    return fields.reshape(len(packed), packed.shape[1] * 8 // width)


def _group_bytes(data: Bytes, starts: NDArray[np.intp], width: int) -> Bytes:
    """The 16 bytes of each group: a field of ``width`` bits, or where that is full a byte that follows."""
    if width == 8:
        return data[starts[:, None] + np.arange(_GROUP)]
    fields = _values(data[starts[:, None] + np.arange(2 * width)], width)
    full = fields == (1 << width) - 1
    follows = starts[:, None] + 2 * width + np.cumsum(full, axis=1) - 1
    return np.where(full, data[follows], fields)


class _Stream:
    """Bytes, one after another, and whole numbers of seven bits a byte (LEB128)."""

    def __init__(self, data: bytes, at: int) -> None:
        self.data, self.at = data, at

    def byte(self) -> int:
        if self.at >= len(self.data):
            raise DamagedError("it ends too early")
        self.at += 1
        return self.data[self.at - 1]

    def number(self) -> int:
        value = shift = 0
        while True:
            byte = self.byte()
            value |= (byte & 127) << shift
            shift += 7
            if byte < 128:
                return value & _MASK


def _signed(value: int) -> int:
    return (value >> 1) ^ -(value & 1)


def unpacked_triangles(data: bytes, count: int, stride: int) -> Bytes:
    """Corners of triangles ``(count, stride)``, as ``TRIANGLES`` packs them; errors as :func:`unpacked_attributes`."""
    if not data or data[0] != 0xE1 or len(data) < 1 + count // 3 + 16:
        raise DamagedError("it has no header of triangles, or ends too early")
    stream, usual = _Stream(data, 1 + count // 3), data[-16:]
    newest = last = 0
    corners: deque[int] = deque([0] * 16, 16)
    edges: deque[tuple[int, int]] = deque([(0, 0)] * 16, 16)
    out: list[int] = []

    def fresh() -> int:
        nonlocal newest
        newest += 1
        return newest - 1

    def stepped(step: int) -> int:
        nonlocal last
        last = (last + step) & _MASK
        return last

    def corner(code: int, far: bool) -> int:
        """A new corner, one of the last, or (where that may be) one told by its distance."""
        if code == 15 and far:
            return stepped(_signed(stream.number()))
        return corners[code - 1] if code else fresh()

    for code in data[1 : 1 + count // 3]:
        high, low = code >> 4, code & 15
        if high < 15:  # it lies at one of the last edges
            a, b = edges[high]
            if 0 < low < 13:
                c = corners[low]
            else:
                c = fresh() if not low else stepped({13: -1, 14: 1}.get(low, 0) or _signed(stream.number()))
                corners.appendleft(c)
            edges.extendleft(((c, b), (a, c)))
        else:
            far = low > 13
            kinds = stream.byte() if far else usual[low]
            if far and not kinds:
                newest = 0
            a = corner(15 if low == 15 else 0, far)
            b = corner(kinds >> 4, far)
            c = corner(kinds & 15, far)
            is_new = {0, 15} if far else {0}
            corners.appendleft(a)
            corners.extendleft(new for new, kind in ((b, kinds >> 4), (c, kinds & 15)) if kind in is_new)
            edges.extendleft(((b, a), (c, b), (a, c)))
        out += (a, b, c)
    if stream.at > len(data) - 16:
        raise DamagedError("it ends too early")
    return _as_bytes(out, count, stride)


def unpacked_indices(data: bytes, count: int, stride: int) -> Bytes:
    """Indices in any order ``(count, stride)``, as ``INDICES`` packs them; errors as :func:`unpacked_attributes`."""
    if not data or data[0] != 0xD1:
        raise DamagedError("it has no header of indices")
    stream = _Stream(data, 1)
    out, last = [], [0, 0]
    for _ in range(count):
        value = stream.number()
        which = value & 1
        last[which] = (last[which] + _signed(value >> 1)) & _MASK
        out.append(last[which])
    return _as_bytes(out, count, stride)


def _as_bytes(numbers: list[int], count: int, stride: int) -> Bytes:
    values = np.array(numbers, dtype=np.uint32)
    if stride == 2 and len(values) and values.max() > 0xFFFF:
        raise DamagedError("it holds a number too large for its type")
    return values.astype(f"<u{stride}").view(np.uint8).reshape(count, stride)


def _normals(rows: Bytes) -> Bytes:
    """Directions from the faces of an octahedron to the sphere."""
    stored = rows.view(f"<i{rows.shape[1] // 4}")
    top = float(np.iinfo(stored.dtype).max)
    whole = np.maximum(stored[:, 2:3].astype(np.float64), 1.0)
    flat = stored[:, :2] / whole
    height = 1.0 - np.abs(flat).sum(axis=1, keepdims=True)
    flat -= np.where(flat >= 0, 1.0, -1.0) * np.maximum(-height, 0.0)
    directions = np.hstack([flat, height])
    length = np.linalg.norm(directions, axis=1, keepdims=True)
    out = stored.copy()
    out[:, :3] = np.rint(directions * (top / np.maximum(length, 1e-12)))
    return out.view(np.uint8)


def _rotations(rows: Bytes) -> Bytes:
    """Quaternions of which the largest component was left out."""
    stored = rows.view("<i2")
    largest, scale = stored[:, 3] & 3, stored[:, 3] | 3
    three = stored[:, :3] * (np.sqrt(0.5) / scale)[:, None]
    fourth = np.sqrt(np.maximum(1.0 - (three**2).sum(axis=1), 0.0))
    out = np.empty_like(stored)
    turned = (largest[:, None] + (1, 2, 3, 0)) % 4
    np.put_along_axis(out, turned, np.rint(np.column_stack([three, fourth]) * 32767).astype("<i2"), axis=1)
    return out.view(np.uint8)


def _powers(rows: Bytes) -> Bytes:
    """Numbers as eight bits of exponent and 24 of mantissa."""
    stored = rows.view("<i4")
    with np.errstate(over="ignore"):  # who reads it tells what is not finite
        return np.ldexp(((stored << 8) >> 8).astype("<f4"), stored >> 24).astype("<f4").view(np.uint8)


def _colors(rows: Bytes) -> Bytes:
    """Red, green and blue from brightness and two differences; the highest bit of opacity tells the range."""
    unsigned = rows.view(f"<u{rows.shape[1] // 4}")
    light, alpha = unsigned[:, 0].astype(np.int64), unsigned[:, 3].astype(np.int64)
    orange, green = unsigned.view(f"<i{rows.shape[1] // 4}")[:, 1:3].T.astype(np.int64)
    bits = np.frexp(np.maximum(alpha, 1).astype(np.float64))[1]
    whole = (1 << bits) - 1
    opacity = alpha & (whole >> 1)
    mixed = [light + orange - green, light + green, light - orange - green, opacity << 1 | opacity & 1]
    top = np.iinfo(unsigned.dtype).max
    return (
        np.clip(np.rint(np.stack(mixed, axis=1) * (top / whole)[:, None]), 0, top).astype(unsigned.dtype).view(np.uint8)
    )


MODES: dict[str, Callable[[bytes, int, int], Bytes]] = {
    "ATTRIBUTES": unpacked_attributes,
    "TRIANGLES": unpacked_triangles,
    "INDICES": unpacked_indices,
}
# What is done to attributes after that, and for how many bytes each.
FILTERS: dict[str, tuple[Callable[[Bytes], Bytes], tuple[int, ...]]] = {
    "OCTAHEDRAL": (_normals, (4, 8)),
    "QUATERNION": (_rotations, (8,)),
    "EXPONENTIAL": (_powers, tuple(range(4, 257, 4))),
    "COLOR": (_colors, (4, 8)),
}
