"""Geometries: corners that name rows of several sources each, as one surface of vertices."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from fairswap.errors import InputError
from fairswap.formats.collada.library import Input, Library, child, children, rows_of
from fairswap.formats.markup import Tag, integers_of
from fairswap.formats.scene.building import Surface
from fairswap.formats.scene.polygons import (
    triangles_from_fan,
    triangles_from_polygons,
    triangles_from_strip,
    vertices_from_corners,
)
from fairswap.model.arrays import Floats, Integers

_AGAIN = "Export the file again"
_RUNS = ("triangles", "polylist", "polygons", "tristrips", "trifans")


@dataclass(frozen=True)
class Shape:
    """The surface of a geometry; ``rows`` says which row of its positions each vertex is, and how many there are."""

    surface: Surface
    rows: Integers
    count: int


@dataclass
class _Run:
    """Triangles of one material: for each source its numbers, and its row at each corner, three to a triangle."""

    material: str | None
    columns: dict[str, tuple[Floats, Integers]]


def shape_of(library: Library, geometry: Tag, material: Callable[[str | None], int | None]) -> Shape | None:
    """The surface of a ``<geometry>``; None for lines, points and splines, which no figure is made of.

    Raises
    ------
    InputError
        For indices out of range, and rows that do not add up.
    """
    mesh = child(geometry, "mesh")
    if mesh is None:
        hull = child(geometry, "convex_mesh")
        if hull is None or hull.get("convex_hull_of"):
            return None
        mesh = hull
    vertices = child(mesh, "vertices")
    if vertices is None:
        raise InputError("it has no vertices", place=geometry.place, remedy=_AGAIN)
    shared = {one.semantic: one for one in library.inputs(vertices)}
    if "POSITION" not in shared:
        raise InputError("its vertices have no positions", place=vertices.place, remedy=_AGAIN)
    positions = library.columns(shared["POSITION"], 3)
    runs = [_run(library, tag, shared) for tag in mesh if tag.tag in _RUNS and isinstance(tag, Tag)]
    runs = [run for run in runs if len(run.columns["POSITION"][1])]
    if not runs:
        return None
    corners = {name: _joined(runs, name) for name in ("POSITION", "NORMAL", "TEXCOORD", "COLOR")}
    tables = {name: pair for name, pair in corners.items() if pair is not None}
    rows, vertex = vertices_from_corners([indices for _, indices in tables.values()])
    of = dict(zip(tables, rows, strict=True))
    surface = Surface(positions[of["POSITION"]], [])
    if "NORMAL" in tables:
        surface.normals = tables["NORMAL"][0][of["NORMAL"]]
    if "TEXCOORD" in tables:
        # Counted from the lower edge of the picture here (COLLADA 1.4.1, texture coordinates), from the upper in glTF.
        surface.uvs = tables["TEXCOORD"][0][of["TEXCOORD"]][:, :2] * [1.0, -1.0] + [0.0, 1.0]
    if "COLOR" in tables:
        surface.colors = np.clip(tables["COLOR"][0][of["COLOR"]], 0.0, 1.0)
    start = 0
    for run in runs:
        end = start + len(run.columns["POSITION"][1])
        surface.runs.append((vertex[start:end].reshape(-1, 3), material(run.material)))
        start = end
    return Shape(surface, of["POSITION"], len(positions))


def positions_of(library: Library, geometry: Tag) -> tuple[Floats, Floats | None]:
    """The positions ``(n, 3)`` of a geometry as its source has them, and its normals if there is one for each."""
    vertices = child(child(geometry, "mesh"), "vertices")
    shared = {} if vertices is None else {one.semantic: one for one in library.inputs(vertices)}
    if vertices is None or "POSITION" not in shared:
        raise InputError("it has no vertices with positions", place=geometry.place, remedy=_AGAIN)
    positions = library.columns(shared["POSITION"], 3)
    normals = library.columns(shared["NORMAL"], 3) if "NORMAL" in shared else None
    return positions, normals if normals is not None and len(normals) == len(positions) else None


def _run(library: Library, tag: Tag, shared: dict[str, Input]) -> _Run:
    """The triangles of one element, with a column of rows for each source that a vertex takes from."""
    inputs = library.inputs(tag)
    own = [one for one in inputs if one.semantic == "VERTEX"]
    if not own:
        raise InputError("its corners name no vertices", place=tag.place, remedy=_AGAIN)
    width = max(one.offset for one in inputs) + 1
    indices, triangles = _triangles(library, tag, width, shared["POSITION"], own[0].offset)
    columns: dict[str, tuple[Floats, Integers]] = {}
    sources = [Input(one.tag, name, one.source, own[0].offset, "0") for name, one in shared.items()]
    # Of several sets of texture coordinates, the first; what is said of the corner counts before its vertex.
    for one in [*sorted(inputs, key=lambda one: one.group), *sources]:
        if one.semantic in ("POSITION", "NORMAL", "TEXCOORD", "COLOR") and one.semantic not in columns:
            table = library.columns(one, 2 if one.semantic == "TEXCOORD" else 3)
            rows = indices[:, one.offset][triangles].ravel()
            rows_of(table, rows, tag)
            columns[one.semantic] = table, rows
    return _Run(tag.get("material"), columns)


def _triangles(library: Library, tag: Tag, width: int, positions: Input, offset: int) -> tuple[Integers, Integers]:
    """All corners ``(n, width)`` of an element, and its triangles as rows of them."""
    lists = [_corners(one, width) for one in _index_lists(tag)]
    corners = np.concatenate(lists) if lists else np.empty((0, width), np.intp)
    counts = np.array([len(one) for one in lists], dtype=np.intp)
    if tag.tag == "triangles":
        whole = len(corners) // 3 * 3
        return corners, np.arange(whole).reshape(-1, 3)
    if tag.tag in ("tristrips", "trifans"):
        cut = triangles_from_strip if tag.tag == "tristrips" else triangles_from_fan
        starts = np.cumsum(counts) - counts
        pieces = [cut(int(count)) + start for count, start in zip(counts, starts, strict=True)]
        return corners, np.concatenate(pieces) if pieces else np.empty((0, 3), np.intp)
    if tag.tag == "polylist":
        sizes = child(tag, "vcount")
        counts = np.empty(0, np.intp) if sizes is None else integers_of(sizes)
        if (counts < 0).any() or counts.sum() != len(corners):
            problem = f"its polygons have {counts.sum()} corners, {len(corners)} are there"
            raise InputError(problem, place=tag.place, remedy=_AGAIN)
    table = library.columns(positions, 3)
    return corners, triangles_from_polygons(rows_of(table, corners[:, offset], tag), counts)[0]


def _index_lists(tag: Tag) -> list[Tag]:
    """The lists of indices of an element; a polygon with holes counts without them."""
    return [*children(tag, "p"), *(one for holed in children(tag, "ph") for one in children(holed, "p"))]


def _corners(tag: Tag, width: int) -> Integers:
    flat = integers_of(tag)
    if len(flat) % width:
        raise InputError(f"it has {len(flat)} indices, {width} to a corner", place=tag.place, remedy=_AGAIN)
    return flat.reshape(-1, width)


def _joined(runs: list[_Run], name: str) -> tuple[Floats, Integers] | None:
    """One table for all runs of a mesh, with the rows of all their corners; None if some runs have none."""
    if any(name not in run.columns for run in runs):
        return None
    tables = [run.columns[name][0] for run in runs]
    width = min(table.shape[1] for table in tables)
    kept: list[Floats] = []
    begins: dict[int, int] = {}
    rows = []
    for run, table in zip(runs, tables, strict=True):
        if id(table) not in begins:
            begins[id(table)] = sum(map(len, kept))
            kept.append(table)
        rows.append(run.columns[name][1] + begins[id(table)])
    return np.concatenate([table[:, :width] for table in kept]), np.concatenate(rows)
