"""Polygons to triangles, and corners with several numbers each to vertices with one."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from fairswap.model.arrays import Floats, Integers

# Ears are cut one by one: of larger polygons, which no program draws, a fan is good enough.
_MOST_CORNERS = 512


def triangles_from_polygons(corners: Floats, counts: Integers) -> tuple[Integers, Integers]:
    """Cut polygons into triangles, also hollow ones.

    Parameters
    ----------
    corners : (n, 3) array
        The places of all corners, one polygon after another.
    counts : (polygons,) integers
        How many corners each polygon has; those of fewer than three are left out.

    Returns
    -------
    triangles : (m, 3) integers
        Rows of ``corners``, in the order of their polygons.
    polygons : (m,) integers
        The polygon that each triangle is of.
    """
    starts = np.cumsum(counts) - counts
    pieces: list[Integers] = []
    owners: list[Integers] = []
    for count in np.unique(counts[counts >= 3]).tolist():
        own = np.flatnonzero(counts == count)
        rows = starts[own, None] + np.arange(count)
        if count == 3:
            cut = rows[:, None, :]
        else:
            fan = np.stack([np.zeros(count - 2, np.intp), np.arange(1, count - 1), np.arange(2, count)], axis=1)
            cut = rows[:, fan]
            for polygon in np.flatnonzero(~_round_from_the_first(corners[rows])).tolist():
                cut[polygon] = rows[polygon][_ears(corners[rows[polygon]])]
        pieces.append(cut.reshape(-1, 3))
        owners.append(np.repeat(own, count - 2))
    if not pieces:
        return np.empty((0, 3), np.intp), np.empty(0, np.intp)
    owner = np.concatenate(owners)
    order = np.argsort(owner, kind="stable")
    return np.concatenate(pieces)[order], owner[order]


def triangles_from_strip(count: int) -> Integers:
    """The triangles of a strip of so many corners, all facing the same way."""
    first = np.arange(max(count - 2, 0))
    odd = first % 2
    return np.stack([first, first + 1 + odd, first + 2 - odd], axis=1)


def triangles_from_fan(count: int) -> Integers:
    """The triangles of a fan of so many corners."""
    second = np.arange(1, max(count - 1, 1))
    return np.stack([np.zeros_like(second), second, second + 1], axis=1)


def vertices_from_corners(columns: Sequence[Integers]) -> tuple[list[Integers], Integers]:
    """Corners that name a row of several tables each, as vertices that are one row of all.

    Gives, for each column, the row of each vertex; and the vertex of each corner. Vertices stand in the order in which
    their first table has them, so that a file whose tables all go together keeps its own vertices.
    """
    if all(np.array_equal(columns[0], other) for other in columns[1:]):
        rows, vertex = np.unique(columns[0], return_inverse=True)
        return [rows for _ in columns], vertex
    # One number for each combination, column by column, so that none becomes too large.
    key = columns[0]
    for other in columns[1:]:
        span = int(other.max(initial=0)) + 1
        if int(key.max(initial=0)) > (1 << 62) // span:
            key = np.unique(key, return_inverse=True)[1]
        key = key * span + other
    _, first, vertex = np.unique(key, return_index=True, return_inverse=True)
    return [column[first] for column in columns], vertex


def _round_from_the_first(polygons: Floats) -> np.ndarray:
    """Whether a fan from the first corner covers each of the polygons ``(n, corners, 3)`` once."""
    arms = polygons[:, 1:] - polygons[:, :1]
    turns = np.cross(arms[:, :-1], arms[:, 1:])
    whole = turns.sum(axis=1, keepdims=True)
    return ((turns * whole).sum(axis=2) >= 0.0).all(axis=1)


def _ears(polygon: Floats) -> Integers:
    """Triangles ``(n - 2, 3)`` of one polygon ``(n, 3)``, ear by ear (Meisters 1975)."""
    count = len(polygon)
    fan = np.stack([np.zeros(count - 2, np.intp), np.arange(1, count - 1), np.arange(2, count)], axis=1)
    if count > _MOST_CORNERS:
        return fan
    normal = np.cross(polygon, np.roll(polygon, -1, axis=0)).sum(axis=0)
    if not np.linalg.norm(normal):
        return fan
    # On the plane of the polygon, without the axis it faces most.
    keep = [axis for axis in range(3) if axis != int(np.argmax(np.abs(normal)))]
    flat = polygon[:, keep]
    before, after = flat, np.roll(flat, -1, axis=0)
    if np.sum(before[:, 0] * after[:, 1] - before[:, 1] * after[:, 0]) < 0.0:
        flat = flat[:, ::-1]
    left = list(range(count))
    out = []
    while len(left) > 3:
        ring = np.array(left)
        a, b, c = flat[np.roll(ring, 1)], flat[ring], flat[np.roll(ring, -1)]
        convex = _cross(b - a, c - b) > 0.0
        best = next((at for at in np.flatnonzero(convex).tolist() if _is_ear(flat, ring, at)), None)
        at = best if best is not None else int(np.argmax(convex))
        out.append([left[at - 1], left[at], left[(at + 1) % len(left)]])
        del left[at]
    return np.array([*out, left])


def _is_ear(flat: Floats, ring: Integers, at: int) -> bool:
    """Whether no other corner lies in the triangle at one corner of the ring."""
    three = [int(ring[at - 1]), int(ring[at]), int(ring[(at + 1) % len(ring)])]
    a, b, c = flat[three]
    others = flat[np.setdiff1d(ring, three)]
    inside = (_cross(b - a, others - a) >= 0) & (_cross(c - b, others - b) >= 0) & (_cross(a - c, others - c) >= 0)
    # Corners that lie on one of the three are the same place drawn twice, as where a hole was cut in.
    same = (np.abs(others[:, None] - flat[three][None]).max(axis=2) < 1e-12).any(axis=1)
    return not bool((inside & ~same).any())


def _cross(a: Floats, b: Floats) -> Floats:
    return a[..., 0] * b[..., 1] - a[..., 1] * b[..., 0]
