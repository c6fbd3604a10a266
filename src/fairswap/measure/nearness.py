"""The nearest place of a surface to any point, and on which side of the surface the point is."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from fairswap.model.arrays import Floats, Integers
from fairswap.model.kernels import dot
from fairswap.model.mesh import vertex_normals

# So many samples nearby are asked for their triangles. Samples lie about as close as the mean edge is long.
_ASKED, _LOOKED_AT, _MOST_PARTS = 6, 3, 24
_AT_ONCE = 200_000
# A point is beside a surface, not below or above it, where the way to it is further than this from its normal (cosine).
_BESIDE = 0.5


@dataclass(frozen=True, eq=False)
class Nearest:
    """For each point the nearest triangle ``(n,)``, the place there as shares of its corners ``(n, 3)`` and in metres
    ``(n, 3)``, the surface's normal there, and ``height_m``: how far above the surface, below it if negative, and NaN
    where the surface does not tell."""

    triangle: Integers
    shares: Floats
    place: Floats
    normal: Floats
    height_m: Floats


class Surface:
    """Triangles ``(m, 3)`` on vertices ``(n, 3)``, ready to be asked what of them is nearest.

    Which samples lie where is worked out once; :meth:`moved` takes the same surface in another pose. Triangles that are
    ``silent`` say nothing about which side a point is on: edges of holes, sheets.
    """

    def __init__(
        self, vertices: Floats, triangles: Integers, silent: np.ndarray | None = None,
        samples: tuple[Integers, Floats] | None = None,
    ) -> None:  # fmt: skip
        self.vertices, self.triangles, self.silent = vertices, triangles, silent
        self._owner, self._shares = samples or _samples(vertices, triangles)

    def moved(self, vertices: Floats) -> Surface:
        """The same triangles with their vertices elsewhere."""
        return Surface(vertices, self.triangles, self.silent, (self._owner, self._shares))

    def part(self, rows: Integers) -> Surface:
        """Some of the triangles, as a surface of their own on the same vertices."""
        return Surface(self.vertices, self.triangles[rows], None if self.silent is None else self.silent[rows])

    @cached_property
    def normals(self) -> Floats:
        """Unit normals of the vertices that triangles have, ``(n, 3)``."""
        return vertex_normals(self.vertices, self.triangles)

    @cached_property
    def _places(self) -> Floats:
        return np.asarray(np.einsum("sk,ski->si", self._shares, self.vertices[self.triangles[self._owner]]))

    @cached_property
    def _tree(self) -> Any:
        from scipy.spatial import cKDTree

        # Asked once or twice in each pose: quick to make, with leaves so large that many points are compared at a time.
        return cKDTree(self._places, leafsize=32, balanced_tree=False, compact_nodes=False)

    def nearest(self, points: Floats) -> Nearest:
        """What is nearest to each of the points ``(n, 3)``."""
        if not len(points):
            none = np.zeros((0, 3))
            return Nearest(np.zeros(0, dtype=np.intp), none, none, none, np.zeros(0))
        if len(points) > _AT_ONCE:
            parts = [self.nearest(part) for part in np.array_split(points, len(points) // _AT_ONCE + 1)]
            names = ("triangle", "shares", "place", "normal", "height_m")
            return Nearest(*(np.concatenate([getattr(part, name) for part in parts]) for name in names))
        _, near = self._tree.query(points, k=min(_ASKED, len(self._owner)), workers=-1)
        candidates = self._owner[near.reshape(len(points), -1)]
        corners = self.vertices[self.triangles[candidates]]
        shares = _nearest_shares(points[:, None], corners[:, :, 0], corners[:, :, 1], corners[:, :, 2])
        places = np.einsum("nkc,nkci->nki", shares, corners)
        apart = np.linalg.norm(places - points[:, None], axis=2)
        best = np.argmin(apart, axis=1)
        rows = np.arange(len(points))
        triangle, share, place = candidates[rows, best], shares[rows, best], places[rows, best]
        normal = np.einsum("nc,nci->ni", share, self.normals[self.triangles[triangle]])
        normal = normal / np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-12)
        way, length = points - place, apart[rows, best]
        along = np.einsum("ni,ni->n", way, normal)
        height = np.where(along < 0.0, -length, length)
        # Where the face itself says another side than the normals around it, nothing tells.
        a, b, c = corners[rows, best].transpose(1, 0, 2)
        unsure = np.sign(np.einsum("ni,ni->n", way, np.cross(b - a, c - a))) * along < 0.0
        beside = ((np.abs(along) < _BESIDE * length) | unsure) & (length > 1e-6)
        if self.silent is not None:
            beside |= self.silent[triangle]
        return Nearest(triangle, share, place, normal, np.where(beside, np.nan, height))

    def low(self, points: Floats, margin_m: float) -> Integers:
        """Which points may be less than a margin above the surface: those that are not clearly above all that is near.

        A quick look before :meth:`nearest`: at the planes of some samples nearby.
        """
        _, near = self._tree.query(points, k=min(_LOOKED_AT, len(self._owner)), workers=-1)
        near = near.reshape(len(points), -1)
        normals = self._sample_normals[near]
        above = np.einsum("nki,nki->nk", points[:, None] - self._places[near], normals)
        return np.flatnonzero(above.min(axis=1) < margin_m)

    def windings(self, points: Floats) -> Floats:
        """How often the surface goes around each point: 1 inside, 0 outside, between them near a hole.

        That is the solid angle of all triangles (Van Oosterom and Strackee 1983), which stays of use where a surface is
        open or passes through itself (Jacobson and others 2013). It looks at every triangle: for few points.
        """
        out = np.zeros(len(points))
        # Components first, so that each line runs over all triangles as they lie in memory.
        corners = np.ascontiguousarray(self.vertices[self.triangles].astype(np.float32).transpose(1, 2, 0))
        for number, point in enumerate(points.astype(np.float32)):
            a, b, c = corners - point[:, None]
            long_a, long_b, long_c = (np.sqrt(dot(side, side)) for side in (a, b, c))
            solid = dot(a, (b[1] * c[2] - b[2] * c[1], b[2] * c[0] - b[0] * c[2], b[0] * c[1] - b[1] * c[0]))
            flat = long_a * long_b * long_c + dot(a, b) * long_c + dot(b, c) * long_a + dot(c, a) * long_b
            out[number] = np.arctan2(solid, flat).sum(dtype=np.float64) / (2.0 * np.pi)
        return out

    def met(self, places: Floats, ways: Floats, furthest_m: float) -> np.ndarray:
        """Whether one meets the surface within so many metres on the way from each place ``(n, 3)`` along unit vectors
        ``(n, 3)`` (Möller and Trumbore 1997). It looks at every triangle: for few places."""
        out = np.zeros(len(places), dtype=bool)
        a, b, c = self.vertices[self.triangles].transpose(1, 0, 2)
        first, second = b - a, c - a
        for number, (place, way) in enumerate(zip(places, ways, strict=True)):
            across = np.cross(way, second)
            size = np.einsum("mi,mi->m", first, across)
            seen = np.abs(size) > 1e-18
            inverse = np.where(seen, 1.0, 0.0) / np.where(seen, size, 1.0)
            off = place - a
            turned = np.cross(off, first)
            u = np.einsum("mi,mi->m", off, across) * inverse
            v = turned @ way * inverse
            far = np.einsum("mi,mi->m", second, turned) * inverse
            inside = seen & (u >= 0.0) & (v >= 0.0) & (u + v <= 1.0)
            out[number] = bool((inside & (far > 0.0) & (far < furthest_m)).any())
        return out

    @cached_property
    def _sample_normals(self) -> Floats:
        return np.asarray(np.einsum("sk,ski->si", self._shares, self.normals[self.triangles[self._owner]]))

    def taken(self, values: Floats, found: Nearest) -> Floats:
        """What values of the vertices ``(n, …)`` are at the places found."""
        return np.asarray(np.einsum("nc,nc...->n...", found.shares, values[self.triangles[found.triangle]]))


def _samples(vertices: Floats, triangles: Integers) -> tuple[Integers, Floats]:
    """Triangles and shares of samples spread evenly: more of them on triangles that are larger than most."""
    a, b, c = (vertices[triangles[:, corner]] for corner in range(3))
    longest = np.max([np.linalg.norm(p - q, axis=1) for p, q in ((a, b), (b, c), (c, a))], axis=0)
    spacing = max(float(np.median(longest)), 1e-9)
    parts = np.clip(np.ceil(longest / spacing), 1, _MOST_PARTS).astype(int)
    owners, shares = [], []
    for n in np.unique(parts).tolist():
        rows = np.flatnonzero(parts == n)
        own = middles_of_parts(n)
        owners.append(np.repeat(rows, len(own)))
        shares.append(np.tile(own, (len(rows), 1)))
    return np.concatenate(owners), np.concatenate(shares)


def spread_over(
    vertices: Floats, triangles: Integers, spacing_m: float, most: int
) -> tuple[Integers, Floats, Floats]:  # fmt: skip
    """Places spread over triangles ``(m, 3)``, about so far apart: the triangle of each ``(n,)``, shares of its corners
    ``(n, 3)``, and the share of the triangle's area that it stands for ``(n,)``.

    They lie in columns on the longest edge, one at least in each triangle, and ``most`` in a column and of columns.
    """
    corners = vertices[triangles]
    edges = np.linalg.norm(corners - np.roll(corners, -1, axis=1), axis=2)
    first = np.argmax(edges, axis=1)
    # From the corner where the longest edge begins: where on it the third corner stands, and how far off.
    start, stop, tip = (np.take_along_axis(corners, (first[:, None, None] + k) % 3, axis=1)[:, 0] for k in range(3))
    base = np.einsum("mi,mi->m", stop - start, stop - start)
    foot = np.clip(np.einsum("mi,mi->m", tip - start, stop - start) / np.maximum(base, 1e-30), 1e-9, 1.0 - 1e-9)
    tall = np.linalg.norm(tip - start - foot[:, None] * (stop - start), axis=1)

    def parts(size: Floats) -> Integers:
        return np.clip(np.ceil(size / spacing_m), 1, most).astype(np.intp)

    columns = parts(np.sqrt(base))
    triangle = np.repeat(np.arange(len(triangles)), columns)
    left = (np.arange(len(triangle)) - np.repeat(np.cumsum(columns) - columns, columns)) / columns[triangle]
    middle, right = left + 0.5 / columns[triangle], left + 1.0 / columns[triangle]
    own = foot[triangle]
    high = np.minimum(middle / own, (1.0 - middle) / (1.0 - own))
    area = _area_below(right, own) - _area_below(left, own)
    rows = parts(high * tall[triangle])
    column = np.repeat(np.arange(len(rows)), rows)
    up = (np.arange(len(column)) - np.repeat(np.cumsum(rows) - rows, rows) + 0.5) / rows[column] * high[column]
    owner = triangle[column]
    along = middle[column] - up * own[column]
    turned = np.stack([1.0 - along - up, along, up], axis=1)
    shares = np.take_along_axis(turned, (np.arange(3) - first[owner, None]) % 3, axis=1)
    return owner, shares, area[column] / rows[column]


def _area_below(x: Floats, foot: Floats) -> Floats:
    """The share of a triangle's area up to a place on its base, 0 to 1; its third corner stands over ``foot``."""
    return np.where(x < foot, x**2 / foot, 1.0 - (1.0 - x) ** 2 / (1.0 - foot))


def middles_of_parts(n: int) -> Floats:
    """The middles of the n² equal triangles that a triangle is cut into, as shares of its corners ``(n², 3)``."""
    i, j = np.meshgrid(np.arange(n), np.arange(n), indexing="ij")
    upright, turned = (i + j) < n, (i + j) < n - 1
    u = np.concatenate([(i[upright] + 1 / 3) / n, (i[turned] + 2 / 3) / n])
    v = np.concatenate([(j[upright] + 1 / 3) / n, (j[turned] + 2 / 3) / n])
    return np.stack([1.0 - u - v, u, v], axis=1)


def _nearest_shares(point: Floats, a: Floats, b: Floats, c: Floats) -> Floats:
    """The nearest place of each triangle to a point, as shares of its corners ``(…, 3)`` (Ericson 2005)."""
    ab, ac, ap = b - a, c - a, point - a

    def inner(x: Floats, y: Floats) -> Floats:
        return np.asarray(np.einsum("...i,...i->...", x, y))

    d1, d2 = inner(ab, ap), inner(ac, ap)
    e, f, g = inner(ab, ab), inner(ab, ac), inner(ac, ac)
    d3, d4, d5, d6 = d1 - e, d2 - f, d1 - f, d2 - g
    va, vb, vc = d3 * d6 - d5 * d4, d5 * d2 - d1 * d6, d1 * d4 - d3 * d2

    def share(numerator: Floats, denominator: Floats) -> Floats:
        return np.clip(numerator / np.where(np.abs(denominator) > 1e-30, denominator, 1.0), 0.0, 1.0)

    inside = np.abs(va + vb + vc)
    v, w = share(vb, inside), share(vc, inside)
    on_ac, on_ab = (vb <= 0) & (d2 >= 0) & (d6 <= 0), (vc <= 0) & (d1 >= 0) & (d3 <= 0)
    on_bc = (va <= 0) & (d4 >= d3) & (d5 >= d6)
    at = share(d4 - d3, (d4 - d3) + (d5 - d6))
    v, w = np.where(on_bc, 1.0 - at, v), np.where(on_bc, at, w)
    v, w = np.where(on_ac, 0.0, v), np.where(on_ac, share(d2, d2 - d6), w)
    v, w = np.where(on_ab, share(d1, d1 - d3), v), np.where(on_ab, 0.0, w)
    for at_corner, first, second in (
        ((d6 >= 0) & (d5 <= d6), 0.0, 1.0), ((d3 >= 0) & (d4 <= d3), 1.0, 0.0), ((d1 <= 0) & (d2 <= 0), 0.0, 0.0)
    ):  # fmt: skip
        v, w = np.where(at_corner, first, v), np.where(at_corner, second, w)
    return np.stack([1.0 - v - w, v, w], axis=-1)
