"""From PLY to one bare mesh: its header says what each element holds, then all of them follow."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from fairswap.errors import InputError
from fairswap.formats.gltf.reading import document_from_container
from fairswap.formats.limits import LARGEST_NUMBER, mesh_numbers
from fairswap.formats.scene.building import SceneBuilder, Surface
from fairswap.formats.scene.polygons import triangles_from_polygons
from fairswap.formats.scene.stance import stance_node
from fairswap.model.arrays import Floats, Integers
from fairswap.model.document import Document

_AGAIN = "Export the file again"
_TYPES = {
    "char": "i1", "int8": "i1", "uchar": "u1", "uint8": "u1", "short": "i2", "int16": "i2", "ushort": "u2",
    "uint16": "u2", "int": "i4", "int32": "i4", "uint": "u4", "uint32": "u4", "float": "f4", "float32": "f4",
    "double": "f8", "float64": "f8",
}  # fmt: skip
_ORDERS = {"binary_little_endian": "<", "binary_big_endian": ">", "ascii": ""}


@dataclass
class _Element:
    """One kind of thing in the file: how many, and their properties (name, type of a list's count or None, type)."""

    name: str
    count: int
    properties: list[tuple[str, str | None, str]] = field(default_factory=list)


def read(content: bytes, path: Path, *, unit: str | None = None, up: str | None = None) -> Document:
    """Read the content of a ``.ply``; see :func:`fairswap.load`.

    Raises
    ------
    InputError
        If it is no PLY, is cut, or holds no faces.
    """
    elements, order, start = _header(content)
    values = _Body(content, start, order).take(elements)
    vertex, face = values.get("vertex", {}), values.get("face", {})
    if not all(axis in vertex for axis in "xyz") or not len(vertex["x"]):
        raise InputError("it holds no vertices", remedy=_AGAIN)
    points = np.stack([vertex[axis] for axis in "xyz"], axis=1).astype(np.float64)
    lists = next((face[name] for name in ("vertex_indices", "vertex_index") if name in face), None)
    if lists is None or not len(lists[0]):
        raise InputError("it holds no faces: points alone are no mesh", remedy=_AGAIN + " as a mesh")
    counts, flat = lists
    corners = flat.astype(np.intp)
    if len(corners) and (corners.min() < 0 or corners.max() >= len(points)):
        raise InputError(f"a face names vertex {int(corners.max())} of {len(points)}", remedy=_AGAIN)
    if len(corners) * 12 > mesh_numbers(len(content)):
        raise InputError(f"its faces have {len(corners)} corners", remedy=_AGAIN)
    triangles = corners[triangles_from_polygons(points[corners], counts.astype(np.intp))[0]]
    if not len(triangles):
        raise InputError("it holds no faces: points alone are no mesh", remedy=_AGAIN + " as a mesh")
    surface = Surface(points, [(triangles, None)])
    surface.normals = _columns(vertex, ("nx", "ny", "nz"))
    for names in (("s", "t"), ("u", "v"), ("texture_u", "texture_v")):
        uvs = _columns(vertex, names)
        if uvs is not None:
            surface.uvs = uvs * [1.0, -1.0] + [0.0, 1.0]
            break
    surface.colors = _colors(vertex)
    builder = SceneBuilder(len(content))
    node = builder.node(path.stem, stance_node(builder, unit, up))
    builder.hang(node, builder.mesh(path.stem, surface))
    return document_from_container(builder.container(path, "PLY"))


def _header(content: bytes) -> tuple[list[_Element], str, int]:
    """The elements, the byte order ("" for text), and where the body begins."""
    if not content.startswith(b"ply"):
        raise InputError("it is no PLY: its first line is not 'ply'", remedy=_AGAIN)
    end = content.find(b"end_header")
    stop = content.find(b"\n", end)
    if end < 0 or end > 1 << 20:
        raise InputError("its header has no end", remedy=_AGAIN)
    start = (stop + 1) if stop >= 0 else len(content)
    order, elements = "", list[_Element]()
    for number, line in enumerate(content[:end].decode("latin-1").splitlines(), 1):
        words = line.split()
        place = f"line {number}"
        try:
            if words[:1] == ["format"]:
                order = _ORDERS[words[1]]
            elif words[:1] == ["element"]:
                elements.append(_Element(words[1], int(words[2])))
                if not 0 <= elements[-1].count <= len(content):
                    raise InputError(f"it counts {words[2]} of {words[1]}, more than the file holds", place=place)
            elif words[:2] == ["property", "list"]:
                elements[-1].properties.append((words[4], _TYPES[words[2]], _TYPES[words[3]]))
            elif words[:1] == ["property"]:
                elements[-1].properties.append((words[2], None, _TYPES[words[1]]))
        except (IndexError, KeyError, ValueError):
            raise InputError(f"its header says {line.strip()[:60]!r}", place=place, remedy=_AGAIN) from None
    return elements, order, start


@dataclass
class _Body:
    """The values behind the header, element by element."""

    content: bytes
    at: int
    order: str

    def take(self, elements: list[_Element]) -> dict[str, dict[str, Any]]:
        """All elements by name: columns by name; of a list, how long each is and all its values."""
        if not self.order:
            self.words = self.content[self.at :].split()
            self.at = 0
        out = {}
        for element in elements:
            if element.name in out:
                raise InputError(f"it has two elements {element.name!r}", remedy=_AGAIN)
            out[element.name] = self._text(element) if not self.order else self._binary(element)
        for columns in out.values():
            for values in columns.values():
                every = values[1] if isinstance(values, tuple) else values
                if len(every) and not np.abs(every.astype(np.float64)).max() <= LARGEST_NUMBER:
                    raise InputError("a number is not finite, or beyond all sizes", remedy=_AGAIN)
        return out

    def _text(self, element: _Element) -> dict[str, Any]:
        rows: dict[str, list[Any]] = {name: [] for name, _, _ in element.properties}
        counts: dict[str, list[int]] = {name: [] for name, size, _ in element.properties if size}
        try:
            if not counts:
                width = len(element.properties)
                stop = self.at + width * element.count
                flat = np.array(self.words[self.at : stop], dtype=np.float64).reshape(element.count, width)
                self.at = stop
                return {name: flat[:, column] for column, (name, _, _) in enumerate(element.properties)}
            for _ in range(element.count):
                for name, size, _ in element.properties:
                    length = 1
                    if size:
                        length = int(self.words[self.at])
                        counts[name].append(length)
                        self.at += 1
                    if length < 0 or self.at + length > len(self.words):
                        raise self._cut(element)
                    rows[name] += self.words[self.at : self.at + length]
                    self.at += length
            arrays = {name: np.array(own, dtype=np.float64) for name, own in rows.items()}
        except (ValueError, IndexError):
            raise self._cut(element) from None
        return {name: (np.array(counts[name]), own) if name in counts else own for name, own in arrays.items()}

    def _binary(self, element: _Element) -> dict[str, Any]:
        plain = [(name, self.order + kind) for name, size, kind in element.properties if size is None]
        if len(plain) == len(element.properties):
            dtype = np.dtype([(f"f{at}", kind) for at, (_, kind) in enumerate(plain)])
            rows = self._array(dtype, element.count, element)
            return {name: rows[f"f{at}"] for at, (name, _) in enumerate(plain)}
        # Lists that are all as long as the first, as of triangles, are read in one go.
        quick = self._alike(element)
        return quick if quick is not None else self._one_by_one(element)

    def _alike(self, element: _Element) -> dict[str, Any] | None:
        if not element.count:
            none = np.empty(0)
            return {name: (none, none) if size else none for name, size, _ in element.properties}
        at, fields, lengths = self.at, list[Any](), dict[str, int]()
        for number, (name, size, kind) in enumerate(element.properties):
            if size is None:
                fields.append((f"f{number}", self.order + kind))
                at += np.dtype(kind).itemsize
                continue
            head = np.dtype(self.order + size)
            if at + head.itemsize > len(self.content):
                raise self._cut(element)
            length = int(np.frombuffer(self.content, head, 1, at)[0])
            if not 0 <= length <= 65536:
                return None
            lengths[name] = length
            fields += [(f"n{number}", head), (f"f{number}", self.order + kind, (length,))]
            at += head.itemsize + length * np.dtype(kind).itemsize
        dtype = np.dtype(fields)
        if self.at + dtype.itemsize * element.count > len(self.content):
            return None
        rows = np.frombuffer(self.content, dtype, element.count, self.at)
        names = {name: number for number, (name, _, _) in enumerate(element.properties)}
        if any((rows[f"n{names[name]}"] != length).any() for name, length in lengths.items()):
            return None
        self.at += dtype.itemsize * element.count
        out: dict[str, Any] = {}
        for number, (name, size, _) in enumerate(element.properties):
            own = rows[f"f{number}"]
            out[name] = own if size is None else (np.full(element.count, lengths[name]), own.reshape(-1))
        return out

    def _one_by_one(self, element: _Element) -> dict[str, Any]:
        rows: dict[str, list[Any]] = {name: [] for name, _, _ in element.properties}
        counts: dict[str, list[int]] = {name: [] for name, size, _ in element.properties if size}
        for _ in range(element.count):
            for name, size, kind in element.properties:
                length = 1
                if size:
                    length = int(self._array(np.dtype(self.order + size), 1, element)[0])
                    counts[name].append(length)
                rows[name].append(self._array(np.dtype(self.order + kind), length, element))
        joined = {name: np.concatenate(own) if own else np.empty(0) for name, own in rows.items()}
        return {name: (np.array(counts[name]), own) if name in counts else own for name, own in joined.items()}

    def _array(self, dtype: np.dtype[Any], count: int, element: _Element) -> np.ndarray[Any, Any]:
        if count < 0 or self.at + dtype.itemsize * count > len(self.content):
            raise self._cut(element)
        out = np.frombuffer(self.content, dtype, count, self.at)
        self.at += dtype.itemsize * count
        return out

    def _cut(self, element: _Element) -> InputError:
        return InputError(f"it ends, or is damaged, in its {element.count} {element.name}", remedy=_AGAIN)


def _columns(vertex: dict[str, Any], names: tuple[str, ...]) -> Floats | None:
    if not all(name in vertex for name in names):
        return None
    return np.stack([vertex[name] for name in names], axis=1).astype(np.float64)


def _colors(vertex: dict[str, Integers]) -> Floats | None:
    """Colours of 0 to 1; of whole numbers, 255 is full."""
    rows = _columns(vertex, ("red", "green", "blue"))
    if rows is None:
        return None
    alpha = _columns(vertex, ("alpha",))
    rows = rows if alpha is None else np.concatenate([rows, alpha], axis=1)
    return np.clip(rows / 255.0 if rows.max(initial=0.0) > 1.0 else rows, 0.0, 1.0)
