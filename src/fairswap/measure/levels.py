"""Meshes that are there several times, each coarser than the one before: levels of detail."""

from __future__ import annotations

import re

import numpy as np

from fairswap.errors import Finding
from fairswap.measure.nearness import Surface
from fairswap.model.figure import Figure
from fairswap.model.mesh import Mesh
from fairswap.wording import listed

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
    finest_first = sorted(range(len(figure.meshes)), key=lambda index: -len(figure.meshes[index].triangles))
    out: dict[int, int] = {}
    for at, coarse in enumerate(finest_first):
        for fine in finest_first[:at]:
            if fine not in out and _is_coarser(figure, fine, coarse):
                out[coarse] = fine
                break
    return dict(sorted(out.items()))


def _is_coarser(figure: Figure, fine: int, coarse: int) -> bool:
    a, b = figure.meshes[fine], figure.meshes[coarse]
    if not _FEWEST <= len(b.triangles) <= _COARSER * len(a.triangles):
        return False
    here, there = figure.rest_vertices[fine], figure.rest_vertices[coarse]
    size = float(np.linalg.norm(np.ptp(here, axis=0)))
    corners = [np.stack([points.min(axis=0), points.max(axis=0)]) for points in (here, there)]
    if size <= 0.0 or np.abs(corners[0] - corners[1]).max() > _AS_LARGE * size:
        return False
    if _are_called_levels(a, b):
        return True
    surfaces = (Surface(here, a.triangles), Surface(there, b.triangles))
    return all(
        _furthest(points, surface) < _NEAR * size
        for points, surface in zip((there, here), surfaces, strict=True)
    )  # fmt: skip


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
