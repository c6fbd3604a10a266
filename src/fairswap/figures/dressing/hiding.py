"""Skin that clothes hide at rest and in every pose: it may be left out, and cannot come through them then."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from fairswap.figures.dressing.worn import SKIN, Wearing
from fairswap.figures.rigging.shape import Shape
from fairswap.figures.trimming import rows_left, with_triangles
from fairswap.measure.nearness import Surface
from fairswap.model.arrays import Floats, Integers
from fairswap.model.rotation import normalized

# Cloth hides skin that it lies over up to this, in heights, seen straight and from the sides.
_OVER = 0.06
_STEPS = (0.015, 0.03, 0.06, 0.11, 0.2, 0.35, 0.6, 1.0)
_ASLANT = 0.7
# So many rings of triangles around what is seen stay: sleeves and hems move over the skin.
_RINGS = 2


def without_hidden_skin(wearing: Wearing) -> tuple[Wearing, int]:
    """The figure without the skin that what it wears hides, and how many triangles that were."""
    figure, points = wearing.figure, wearing.figure.rest_points
    skin = wearing.triangles(SKIN)
    cloth = np.concatenate([wearing.triangles(piece) for piece in range(len(wearing.names))] or [skin[:0]])
    if not len(skin) or not len(cloth):
        return wearing, 0
    body = Surface(points, skin)
    vertices = np.unique(skin)
    seen = np.ones(len(points), dtype=bool)
    seen[vertices] = ~_under(points[vertices], body.normals[vertices], Surface(points, cloth), figure.height_m)
    seen = _wider(seen, points, skin)
    dropped, meshes, left = 0, [], []
    for mesh, numbers, first in zip(figure.meshes, wearing.numbers, wearing.firsts, strict=False):
        hidden = (numbers == SKIN) & ~seen[mesh.triangles + first].any(axis=1)
        if hidden.all():
            hidden[:] = False
        dropped += int(hidden.sum())
        meshes.append(with_triangles(mesh, ~hidden) if hidden.any() else mesh)
        left.append(numbers[rows_left(mesh, ~hidden)] if hidden.any() else numbers)
    if not dropped:
        return wearing, 0
    return Wearing(replace(figure, meshes=tuple(meshes), source=None), tuple(left), wearing.names), dropped


def _under(places: Floats, normals: Floats, cloth: Surface, height: float) -> np.ndarray:
    """Which places have cloth over them whichever way one looks out."""
    side = normalized(np.cross(normals, np.where(np.abs(normals[:, :1]) < 0.7, [1.0, 0.0, 0.0], [0.0, 1.0, 0.0])))
    other = np.cross(normals, side)
    out = np.ones(len(places), dtype=bool)
    for a, b in ((0.0, 0.0), (1.0, 0.0), (-1.0, 0.0), (0.0, 1.0), (0.0, -1.0)):
        way = normalized(normals + _ASLANT * (a * side + b * other))
        met = np.zeros(len(places), dtype=bool)
        for step in _STEPS:
            off = step * _OVER * height
            near = cloth.nearest(places + off * way)
            met |= np.linalg.norm(near.place - places - off * way, axis=1) < 0.4 * off
        out &= met
    return out


def _wider(seen: np.ndarray, points: Floats, triangles: Integers) -> np.ndarray:
    """What is seen, and the rings of vertices around it."""
    welded = Shape.of(points, triangles).welded
    out = np.zeros(int(welded.max()) + 1, dtype=bool)
    used = np.unique(triangles)
    out[welded[used[seen[used]]]] = True
    for _ in range(_RINGS):
        rows = out[welded[triangles]].any(axis=1)
        out[welded[triangles[rows]].ravel()] = True
    return np.asarray(out[welded])
