"""Shapes: sets of faces and plain bodies as surfaces, and appearances as materials."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from fairswap.errors import InputError
from fairswap.formats.gltf.container import bytes_from_uri
from fairswap.formats.images import picture_as_known
from fairswap.formats.limits import mesh_numbers
from fairswap.formats.markup import Tag
from fairswap.formats.scene.beside import Pictures, file_named
from fairswap.formats.scene.building import Look, SceneBuilder
from fairswap.formats.scene.polygons import triangles_from_fan, triangles_from_polygons, triangles_from_strip
from fairswap.formats.x3d.fields import number, rows, switch, texts, vector, whole
from fairswap.model.arrays import Floats, Integers

_AGAIN = "Export the file again"
_SIDES = 24


@dataclass(frozen=True)
class Faces:
    """Triangles of one shape: tables of numbers, and the row of each table at each corner, three to a triangle."""

    tables: dict[str, tuple[Floats, Integers]]
    coordinates: Tag | None
    solid: bool


def faces_of(geometry: Tag, resolve: Callable[[Tag], Tag], file_bytes: int) -> Faces | None:
    """The triangles of a geometry; None for lines, points, texts and what else no figure is made of.

    Raises
    ------
    InputError
        For indices out of range.
    """
    solid = switch(geometry, "solid", True)
    if geometry.tag in ("Box", "Sphere", "Cylinder", "Cone"):
        points, triangles = _body(geometry)
        return Faces({"positions": (points, triangles.ravel())}, None, solid)
    held = {one.tag: resolve(one) for one in geometry if isinstance(one, Tag)}
    coordinates = held.get("Coordinate", held.get("CoordinateDouble"))
    if coordinates is None:
        return None
    points = rows(coordinates, "point", 3)
    corners, triangles, polygons = _corners(geometry, points)
    if corners is None:
        return None
    _check(corners, len(points), geometry, "points")
    if len(triangles) * 36 > mesh_numbers(file_bytes):
        raise InputError(f"it has {len(triangles)} triangles", place=geometry.place, remedy=_AGAIN)
    if not switch(geometry, "ccw", True):
        triangles = triangles[:, ::-1]
    flat = triangles.ravel()
    tables = {"positions": (points, corners[flat])}
    for name, kind, width, index, per_corner in (
        ("normals", "Normal", 3, "normalIndex", "normalPerVertex"),
        ("uvs", "TextureCoordinate", 2, "texCoordIndex", ""),
        ("colors", "Color", 3, "colorIndex", "colorPerVertex"),
        ("colors", "ColorRGBA", 4, "colorIndex", "colorPerVertex"),
    ):
        own = held.get(kind)
        if own is None:
            continue
        values = rows(own, {"Normal": "vector", "TextureCoordinate": "point"}.get(kind, "color"), width)
        at = _rows_at(geometry, index, per_corner, corners, flat, polygons)
        _check(at, len(values), geometry, kind)
        tables[name] = (values * [1.0, -1.0] + [0.0, 1.0] if name == "uvs" else values), at
    return Faces(tables, coordinates, solid)


def _corners(geometry: Tag, points: Floats) -> tuple[Integers | None, Integers, Integers]:
    """The point of every corner, the triangles as rows of the corners, and the polygon of each triangle."""
    kind = geometry.tag
    if kind == "IndexedFaceSet":
        listed = whole(geometry, "coordIndex")
        ends = np.flatnonzero(listed < 0)
        if not len(listed) or listed[-1] >= 0:
            ends = np.append(ends, len(listed))
        counts = np.diff(np.concatenate([[-1], ends])) - 1
        corners = listed[listed >= 0]
        _check(corners, len(points), geometry, "points")
        triangles, polygons = triangles_from_polygons(points[corners], counts)
        return corners, triangles, polygons
    if kind in ("IndexedTriangleSet", "TriangleSet"):
        corners = whole(geometry, "index") if kind[0] == "I" else np.arange(len(points))
        triangles = np.arange(len(corners) // 3 * 3).reshape(-1, 3)
        return corners, triangles, np.arange(len(triangles))
    if kind in ("IndexedTriangleStripSet", "IndexedTriangleFanSet", "TriangleStripSet", "TriangleFanSet"):
        if kind[0] == "I":
            listed = whole(geometry, "index")
            counts = np.diff(np.concatenate([[-1], np.flatnonzero(np.append(listed, -1) < 0)])) - 1
            corners = listed[listed >= 0]
        else:
            counts = whole(geometry, "stripCount" if "Strip" in kind else "fanCount")
            corners = np.arange(len(points))
        if (counts < 0).any() or counts.sum() > len(corners):
            raise InputError("its counts do not add up", place=geometry.place, remedy=_AGAIN)
        cut = triangles_from_strip if "Strip" in kind else triangles_from_fan
        pieces = [cut(int(count)) + start for count, start in zip(counts, np.cumsum(counts) - counts, strict=True)]
        triangles = np.concatenate(pieces) if pieces else np.empty((0, 3), np.intp)
        return corners, triangles, np.arange(len(triangles))
    if kind in ("IndexedQuadSet", "QuadSet"):
        corners = whole(geometry, "index") if kind[0] == "I" else np.arange(len(points))
        corners = corners[: len(corners) // 4 * 4]
        _check(corners, len(points), geometry, "points")
        triangles, polygons = triangles_from_polygons(points[corners], np.full(len(corners) // 4, 4))
        return corners, triangles, polygons
    return None, np.empty((0, 3), np.intp), np.empty(0, np.intp)


def _rows_at(
    geometry: Tag, index: str, per_corner: str, corners: Integers, flat: Integers, polygons: Integers
) -> Integers:
    """Which row of a table each corner of each triangle takes (X3D, 11.2.1 and 13.3.6)."""
    listed = whole(geometry, index)
    if not per_corner or switch(geometry, per_corner, True):
        given = listed[listed >= 0] if len(listed) else corners
        if len(given) < len(corners):
            raise InputError(f"{index} has {len(given)} corners of {len(corners)}", place=geometry.place, remedy=_AGAIN)
        return given[flat]
    owner = np.repeat(polygons, 3)
    if len(listed) and (len(listed) <= owner.max(initial=-1) or listed.min() < 0):
        raise InputError(f"{index} does not name one for each face", place=geometry.place, remedy=_AGAIN)
    return listed[owner] if len(listed) else owner


def _check(indices: Integers, count: int, tag: Tag, what: str) -> None:
    if len(indices) and (indices.min() < 0 or indices.max() >= count):
        problem = f"it names number {int(indices.max())} of {count} {what}"
        raise InputError(problem, place=tag.place, remedy=_AGAIN)


def _body(geometry: Tag) -> tuple[Floats, Integers]:
    """A box, ball, cylinder or cone as points and triangles, seen from outside."""
    if geometry.tag == "Box":
        size = vector(geometry, "size", (2.0, 2.0, 2.0))
        signs = np.array([[x, y, z] for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)], dtype=float)
        quads = np.array([[0, 1, 3, 2], [4, 6, 7, 5], [0, 4, 5, 1], [2, 3, 7, 6], [0, 2, 6, 4], [1, 5, 7, 3]])
        return signs * size / 2.0, np.concatenate([quads[:, [0, 1, 2]], quads[:, [0, 2, 3]]])
    radius = number(geometry, "bottomRadius" if geometry.tag == "Cone" else "radius", 1.0)
    if geometry.tag == "Sphere":
        levels = np.linspace(-np.pi / 2, np.pi / 2, _SIDES // 2 + 1)
        rings = [(radius * np.cos(level), radius * np.sin(level)) for level in levels]
    else:
        half = number(geometry, "height", 2.0) / 2.0
        rings = [(0.0, -half), (radius, -half), (radius, half), (0.0, half)]
        if geometry.tag == "Cone":
            del rings[2]
    angles = np.arange(_SIDES) * (2 * np.pi / _SIDES)
    points = np.concatenate(
        [np.c_[wide * np.sin(angles), np.full(_SIDES, tall), wide * np.cos(angles)] for wide, tall in rings]
    )
    here = np.arange(_SIDES)
    ahead = (here + 1) % _SIDES
    bands = []
    for ring in range(len(rings) - 1):
        low, high = ring * _SIDES, (ring + 1) * _SIDES
        # Where a ring is one point, half of its triangles would have no area.
        if ring > 0:
            bands.append(np.c_[low + here, low + ahead, high + ahead])
        if ring + 2 < len(rings):
            bands.append(np.c_[low + here, high + ahead, high + here])
    return points, np.concatenate(bands)


@dataclass
class Looks:
    """The materials of a document, each made once."""

    builder: SceneBuilder
    path: Path
    resolve: Callable[[Tag], Tag]
    pictures: Pictures
    _made: dict[tuple[int, bool], int] = field(default_factory=dict)

    def number(self, appearance: Tag | None, two_sided: bool) -> int | None:
        """The number in the scene of an ``<Appearance>``; None for none."""
        if appearance is None:
            return None
        key = id(appearance), two_sided
        if key not in self._made:
            self._made[key] = self.builder.look(self._look(appearance, two_sided))
        return self._made[key]

    def _look(self, appearance: Tag, two_sided: bool) -> Look:
        held = {one.tag: self.resolve(one) for one in appearance if isinstance(one, Tag)}
        material = next(
            (held[kind] for kind in ("Material", "PhysicalMaterial", "UnlitMaterial") if kind in held), None
        )
        picture_tag = held.get("ImageTexture")
        color, alpha, glow, roughness, metallic = np.full(3, 0.8), 1.0, np.zeros(3), 0.9, 0.0
        if material is not None:
            name = {"PhysicalMaterial": "baseColor", "UnlitMaterial": "emissiveColor"}.get(material.tag, "diffuseColor")
            usual = (0.8, 0.8, 0.8) if name == "diffuseColor" else (1.0, 1.0, 1.0)
            color = np.clip(vector(material, name, usual), 0.0, 1.0)
            alpha = float(np.clip(1.0 - number(material, "transparency", 0.0), 0.0, 1.0))
            if material.tag != "UnlitMaterial":
                glow = np.clip(vector(material, "emissiveColor"), 0.0, 1.0)
            if material.tag == "PhysicalMaterial":
                roughness, metallic = number(material, "roughness", 1.0), number(material, "metallic", 1.0)
            inner = [self.resolve(one) for one in material if one.tag == "ImageTexture" and isinstance(one, Tag)]
            main = ("baseTexture", "diffuseTexture")
            picture_tag = next((one for one in inner if one.get("containerField") in main), picture_tag)
        picture = self._picture(picture_tag) if picture_tag is not None else None
        mode = (appearance.get("alphaMode") or "AUTO").upper()
        blending = {"MASK": "mask", "BLEND": "blend", "OPAQUE": "opaque"}.get(
            mode, "blend" if alpha < 0.999 else "opaque"
        )
        return Look(
            appearance.get("DEF") or "material",
            (1.0, 1.0, 1.0) if picture is not None else (float(color[0]), float(color[1]), float(color[2])),
            alpha, picture, blending, number(appearance, "alphaCutoff", 0.5), two_sided,  # type: ignore[arg-type]
            (float(glow[0]), float(glow[1]), float(glow[2])), None, min(max(roughness, 0.0), 1.0),
            min(max(metallic, 0.0), 1.0),
        )  # fmt: skip

    def _picture(self, tag: Tag) -> bytes | None:
        """The first of its addresses that is beside the file, or in the text itself."""
        names = texts(tag, "url")
        for name in names:
            if name.startswith("data:"):
                found = picture_as_known(bytes_from_uri(self.path, name, tag.place), "")
                if found is not None:
                    return found
        return self.pictures.found([name for name in names if not name.startswith("data:")])


def parts_of(path: Path) -> list[Path]:
    """The pictures that an ``.x3d`` names and that lie beside it, without reading more than their names."""
    try:
        if not path.is_file():
            return []
        found = re.findall(rb"<ImageTexture[^>]*\burl\s*=\s*(?:'([^']*)'|\"([^\"]*)\")", path.read_bytes())
    except OSError:
        return []
    out: list[Path] = []
    for pair in found:
        text = (pair[0] or pair[1]).decode("utf-8", "replace").replace("&quot;", '"')
        for name in re.findall(r'"([^"]*)"', text) or [text.strip()]:
            target = file_named(path.parent, name)
            out += [target] if target is not None and target not in out else []
    return out
