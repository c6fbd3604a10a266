"""From OBJ text to bare meshes: one for each object in it, a run of triangles for each material."""

from __future__ import annotations

import codecs
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

from fairswap.errors import Finding, InputError
from fairswap.formats.gltf.reading import document_from_container
from fairswap.formats.limits import LARGEST_NUMBER, mesh_numbers
from fairswap.formats.scene.beside import Pictures, file_inside
from fairswap.formats.scene.building import Look, SceneBuilder, Surface
from fairswap.formats.scene.polygons import triangles_from_polygons, vertices_from_corners
from fairswap.formats.scene.stance import stance_node
from fairswap.formats.storage import read_bytes
from fairswap.model.arrays import Floats
from fairswap.model.document import Document

_AGAIN = "Export the file again"
_WIDTHS = {"v": 3, "vt": 2, "vn": 3}


def read(content: bytes, path: Path, *, unit: str | None = None, up: str | None = None) -> Document:
    """Read the content of an ``.obj``; see :func:`fairswap.load`.

    Raises
    ------
    InputError
        If it holds no faces, or they name what is not there.
    """
    made = _Text(path.name)
    for number, line in enumerate(_lines(content), 1):
        made.take(line, number)
    if not any(part.counts for part in made.parts):
        raise InputError("it holds no faces: points and lines are no mesh", remedy=_AGAIN + " as a mesh")
    builder = SceneBuilder(len(content))
    beside: list[str] = []
    looks = _looks(made, path, builder, beside)
    top = stance_node(builder, unit, up)
    tables = {kind: made.table(kind) for kind in _WIDTHS}
    corners = sum(len(part.corners) for part in made.parts)
    if corners * 12 > mesh_numbers(len(content)):
        raise InputError(f"its faces have {corners} corners", remedy=_AGAIN)
    for part in made.parts:
        surface = _surface(part, tables, looks)
        if surface is not None:
            builder.hang(builder.node(part.name, top), builder.mesh(part.name, surface))
    container = builder.container(path, "Wavefront OBJ", beside=tuple(dict.fromkeys(beside)))
    document = document_from_container(container)
    return replace(document, findings=(*made.findings, *document.findings))


def parts_of(path: Path) -> list[Path]:
    """The materials that an ``.obj`` names, and their pictures, where they lie beside it."""
    out: list[Path] = []
    try:
        names = [line.split(None, 1)[1] for line in _lines(path.read_bytes()) if line.startswith("mtllib ")]
        for target in filter(None, (file_inside(path.parent, name.strip()) for name in names)):
            out.append(target)
            lines = _lines(target.read_bytes())
            maps = [line.split()[-1] for line in lines if line.strip().lower().startswith("map_kd ")]
            out += [found for name in maps if (found := file_inside(path.parent, name)) is not None]
    except (OSError, IndexError):
        return out
    return list(dict.fromkeys(out))


@dataclass
class _Part:
    """One object: its faces' corners ``(v, vt, vn)``, counted from 1 (0 is none), how many each face has, and whose
    material it is."""

    name: str
    corners: list[tuple[int, int, int]] = field(default_factory=list)
    counts: list[int] = field(default_factory=list)
    materials: list[str] = field(default_factory=list)
    line: int = 0


@dataclass
class _Text:
    """What was read so far."""

    name: str
    rows: dict[str, list[list[str]]] = field(default_factory=lambda: {kind: [] for kind in _WIDTHS})
    parts: list[_Part] = field(default_factory=lambda: [_Part("mesh")])
    libraries: list[str] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)
    material: str = ""
    corners: dict[str, tuple[int, int, int]] = field(default_factory=dict)

    def take(self, line: str, number: int) -> None:
        """One line."""
        kind, _, rest = line.strip().partition(" ")
        words = rest.split()
        if kind in _WIDTHS:
            if len(words) < _WIDTHS[kind]:
                words += ["0"] * (_WIDTHS[kind] - len(words)) if kind == "vt" and words else []
            if len(words) < _WIDTHS[kind]:
                raise InputError(f"it has {len(words)} numbers", place=f"line {number}", remedy=_AGAIN)
            self.rows[kind].append(words)
        elif kind == "f":
            part = self.parts[-1]
            # Each point is a corner of some six faces: what was read of it is kept.
            corners = [self.corners.get(word) or self._corner(word, number) for word in words]
            if len(corners) >= 3:
                part.corners += corners
                part.counts.append(len(corners))
                part.materials.append(self.material)
                part.line = part.line or number
        elif kind == "o" or (kind == "g" and not self.parts[-1].counts):
            if self.parts[-1].counts:
                self.parts.append(_Part(rest.strip() or "mesh"))
            elif rest.strip():
                self.parts[-1].name = rest.strip()
        elif kind == "usemtl":
            self.material = rest.strip()
        elif kind == "mtllib":
            self.libraries.append(rest.strip())

    def _corner(self, word: str, number: int) -> tuple[int, int, int]:
        """One corner, ``v/vt/vn``; what counts from the end, with a minus, is made to count from the beginning."""
        try:
            given = [int(part) if part else 0 for part in word.split("/")]
        except ValueError:
            raise InputError(f"{word[:40]!r} is no corner of a face", place=f"line {number}", remedy=_AGAIN) from None
        given = (given + [0, 0, 0])[:3]
        counts = [len(self.rows[kind]) for kind in ("v", "vt", "vn")]
        out = [index + count + 1 if index < 0 else index for index, count in zip(given, counts, strict=True)]
        if out[0] < 1 or min(out) < 0 or max(out) > LARGEST_NUMBER:
            raise InputError(f"{word[:40]!r} names a point that is not there", place=f"line {number}", remedy=_AGAIN)
        corner = out[0], out[1], out[2]
        if min(given) >= 0:  # what counts from the end is another point in each line
            self.corners[word] = corner
        return corner

    def table(self, kind: str) -> Floats:
        """The rows of one kind as numbers; points may have colours behind their places."""
        rows = self.rows[kind]
        width = _WIDTHS[kind]
        if kind == "v" and rows and all(len(row) >= 6 for row in rows):
            width = 6
        try:
            values = np.array([row[:width] for row in rows], dtype=np.float64).reshape(-1, width)
        except ValueError:
            raise InputError(f"a number of its {kind} lines is not valid", remedy=_AGAIN) from None
        if len(values) and not np.abs(values).max() <= LARGEST_NUMBER:
            raise InputError(f"a number of its {kind} lines is not finite, or beyond all sizes", remedy=_AGAIN)
        return values


def _surface(part: _Part, tables: dict[str, Floats], looks: dict[str, int]) -> Surface | None:
    corners = np.array(part.corners, dtype=np.intp).reshape(-1, 3)
    places = f"line {part.line}"
    for column, kind in enumerate(("v", "vt", "vn")):
        if len(corners) and corners[:, column].max() > len(tables[kind]):
            problem = f"a face names {kind} {int(corners[:, column].max())} of {len(tables[kind])}"
            raise InputError(problem, place=places, remedy=_AGAIN)
    if not len(corners):
        return None
    points = tables["v"]
    triangles, faces = triangles_from_polygons(points[corners[:, 0] - 1][:, :3], np.array(part.counts, dtype=np.intp))
    if not len(triangles):
        return None
    flat = corners[triangles.ravel()]
    columns = [flat[:, 0] - 1]
    kept = [(at, name, kind) for at, name, kind in ((1, "uvs", "vt"), (2, "normals", "vn")) if (flat[:, at] > 0).all()]
    columns += [flat[:, at] - 1 for at, _, _ in kept]
    picked, vertex = vertices_from_corners(columns)
    surface = Surface(points[picked[0], :3], [])
    for (_, name, kind), rows in zip(kept, picked[1:], strict=True):
        values = tables[kind][rows]
        # Texture coordinates count from the lower edge of the picture here, from the upper in glTF.
        setattr(surface, name, values * [1.0, -1.0] + [0.0, 1.0] if name == "uvs" else values)
    if points.shape[1] == 6:
        surface.colors = np.clip(points[picked[0], 3:], 0.0, 1.0)
    of_face = np.array(part.materials)[faces]
    cut = vertex.reshape(-1, 3)
    for name in dict.fromkeys(part.materials):
        rows = np.flatnonzero(of_face == name)
        if len(rows):
            surface.runs.append((cut[rows], looks.get(name)))
    return surface


def _looks(made: _Text, path: Path, builder: SceneBuilder, beside: list[str]) -> dict[str, int]:
    """The materials that are used, by name."""
    used = {name for part in made.parts for name in part.materials if name}
    pictures = Pictures(path.parent, made.name, made.findings, beside)
    out: dict[str, int] = {}
    for library in made.libraries:
        target = file_inside(path.parent, library)
        if target is None:
            message = f"its materials ({library[:80]!r}) are not beside it; the mesh goes without"
            made.findings.append(Finding("materials-missing", "warning", made.name, message))
            continue
        beside.append(str(target))
        for name, rows in _materials(target).items():
            if name in used and name not in out:
                out[name] = builder.look(_look(name, rows, pictures))
    return out


def _materials(target: Path) -> dict[str, dict[str, list[str]]]:
    found: dict[str, dict[str, list[str]]] = {}
    own: dict[str, list[str]] = {}
    for line in _lines(read_bytes(target)):
        kind, _, rest = line.strip().partition(" ")
        if kind == "newmtl":
            own = found.setdefault(rest.strip(), {})
        elif kind:
            own[kind.lower()] = rest.split()
    return found


def _look(name: str, rows: dict[str, list[str]], pictures: Pictures) -> Look:
    color = _numbers(rows.get("kd", []), 3) or (0.8, 0.8, 0.8)
    alpha = (_numbers(rows.get("d", []), 1) or (1.0 - (_numbers(rows.get("tr", []), 1) or (0.0,))[0],))[0]
    picture = None
    file = rows.get("map_kd", [])
    if file:
        picture = pictures.found([file[-1]])
    white = picture is not None
    return Look(
        name, (1.0, 1.0, 1.0) if white else (color[0], color[1], color[2]), alpha, picture,
        "blend" if alpha < 0.999 or "map_d" in rows else "opaque",
    )  # fmt: skip


def _numbers(words: list[str], count: int) -> tuple[float, ...] | None:
    """So many numbers between 0 and 1; None if they are not there."""
    try:
        values = np.array(words[:count], dtype=np.float64)
    except ValueError:
        return None
    if len(values) < count or not np.isfinite(values).all():
        return None
    return tuple(np.clip(values, 0.0, 1.0).tolist())


def _lines(content: bytes) -> list[str]:
    """The lines of a text in any of the encodings it comes in; a line that ends in ``\\`` goes on in the next."""
    if content.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
        text = content.decode("utf-16", "replace")
    else:
        try:
            text = content.decode("utf-8-sig")
        except UnicodeDecodeError:
            text = content.decode("latin-1")
    return text.replace("\\\r\n", " ").replace("\\\n", " ").splitlines()
