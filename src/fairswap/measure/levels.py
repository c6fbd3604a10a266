"""Meshes that are there several times, each coarser than the one before: levels of detail."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

import numpy as np

from fairswap.errors import Finding
from fairswap.model.arrays import bounds_of
from fairswap.model.figure import Figure
from fairswap.model.mesh import Mesh
from fairswap.wording import listed

if TYPE_CHECKING:
    from fairswap.measure.nearness import Surface

# A coarser copy has at most this share of the triangles, lies everywhere so near to the finer one (in diagonals of its
# box), and is as large as that.
_COARSER, _NEAR, _AS_LARGE = 0.8, 0.01, 0.03
_LOOKED_AT, _FEWEST = 200, 12
_LEVEL = re.compile(r"[\W_]*lod[\W_]*(\d+)", re.IGNORECASE)


def levels_told(figure: Figure) -> list[Finding]:
    """A warning if meshes of a figure are coarser copies of others of its meshes: all of them are drawn and counted."""
    copies = coarser_copies(figure)
    if not copies:
        return []
    names = [mesh.name for mesh in figure.meshes]
    of_which = listed((repr(names[finest]) for finest in dict.fromkeys(copies.values())), 3)
    one = len(copies) == 1
    message = (
        f"{listed((repr(names[copy]) for copy in copies), 4)} {'is a coarser copy' if one else 'are coarser copies'} "
        f"of {of_which}: levels of detail; all are drawn, and counted, at once"
    )
    return [Finding("levels-of-detail", "warning", figure.name, message)]


def coarser_copies(figure: Figure) -> dict[int, int]:
    """The meshes that are coarser copies, each with the finest one that it is a copy of."""
    counts = np.array([len(mesh.triangles) for mesh in figure.meshes], dtype=np.intp)
    finest_first = np.argsort(-counts, kind="stable")
    finest_first = finest_first[counts[finest_first] >= _FEWEST]
    if len(finest_first) < 2:
        return {}
    boxes = np.full((len(counts), 2, 3), np.nan)
    for index in finest_first.tolist():
        points = figure.rest_vertices[index]
        boxes[index] = bounds_of(points)
    sizes = np.linalg.norm(boxes[:, 1] - boxes[:, 0], axis=1)
    out: dict[int, int] = {}
    for at, coarse in enumerate(finest_first.tolist()):
        finer = finest_first[:at]
        off = np.abs(boxes[finer] - boxes[coarse]).max(axis=(1, 2))
        alike = (off <= _AS_LARGE * sizes[finer]) & (counts[coarse] <= _COARSER * counts[finer])
        for fine in finer[alike].tolist():
            if fine not in out and _is_copy(figure, fine, coarse, float(sizes[fine])):
                out[coarse] = fine
                break
    return dict(sorted(out.items()))


def _is_copy(figure: Figure, fine: int, coarse: int, size: float) -> bool:
    """Whether one mesh lies everywhere on another, and that on it; what is called a level need not be so near."""
    from fairswap.measure.nearness import Surface  # for the few files that have two meshes of one size

    a, b = figure.meshes[fine], figure.meshes[coarse]
    if _are_called_levels(a, b):
        return True
    here, there = figure.rest_vertices[fine], figure.rest_vertices[coarse]
    pairs = ((there, Surface(here, a.triangles)), (here, Surface(there, b.triangles)))
    return all(_furthest(points, surface) < _NEAR * size for points, surface in pairs)


def _are_called_levels(fine: Mesh, coarse: Mesh) -> bool:
    """Whether two meshes have one name but for the number of their level."""
    found = [_LEVEL.search(mesh.name) for mesh in (fine, coarse)]
    if found[0] is None and found[1] is not None:  # the first level may have no number
        return _LEVEL.sub("", coarse.name) == fine.name
    return None not in found and len({_LEVEL.sub("", mesh.name) for mesh in (fine, coarse)}) == 1


def _furthest(points: np.ndarray, surface: Surface) -> float:
    """How far some of the points are from a surface, but for a few."""
    some = points[np.linspace(0, len(points) - 1, min(len(points), _LOOKED_AT)).astype(np.intp)]
    return float(np.quantile(np.linalg.norm(surface.nearest(some).place - some, axis=1), 0.95))
