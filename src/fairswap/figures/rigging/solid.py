"""What is inside a surface, on a grid of cubes: robust against holes, several shells, double walls and open cloth.

A cube is inside if rays along two of the three axes are caught in it (its slices, filled), or if the winding number of
the surface says so (Jacobson et al. 2013), which is taken from one Poisson problem on the grid (Kazhdan 2005): that
closes what is open, as a robe from below, and counts overlapping shells as one.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from fairswap.measure.nearness import middles_of_parts
from fairswap.model.arrays import Floats, Integers

# Cubes around the surface, so that the outside is one.
_MARGIN = 6
# Cubes at most: a quarter of a gigabyte of work space.
_MOST_CUBES = 16_000_000
# Of a body a hundred thousand are inside; of more, coarser ones do.
_MOST_INSIDE = 600_000
# Samples of the surface in one go.
_MOST_SAMPLES = 4_000_000
_STEPS = np.array([(i, j, k) for i in (-1, 0, 1) for j in (-1, 0, 1) for k in (-1, 0, 1) if i or j or k])


@dataclass(frozen=True, eq=False)
class Solid:
    """The inside of a surface: ``inside`` is ``(nx, ny, nz)``, its first cube around ``origin``, ``cell_m`` wide.

    ``number`` gives each cube that is inside its row in ``points`` ``(n, 3)``, metres; others have -1.
    """

    origin: Floats
    cell_m: float
    inside: np.ndarray
    number: Integers
    points: Floats

    @classmethod
    def of(cls, vertices: Floats, triangles: Integers, cell_m: float, most_cubes: int = _MOST_CUBES) -> Solid:
        """The inside of triangles; the cubes are larger than asked where they would be too many."""
        used = vertices[rows_used(triangles, len(vertices))]
        low, extent = used.min(axis=0), np.ptp(used, axis=0)
        cell_m = max(cell_m, float(np.cbrt(np.prod(extent + 1e-9) / most_cubes)), float(extent.max()) / 2000.0)
        counts = np.ceil(extent / cell_m).astype(int) + 1 + 2 * _MARGIN
        origin = low - _MARGIN * cell_m
        surface, flow = _splatted(vertices, triangles, origin, cell_m, counts)
        votes = _votes(surface)
        winding = _winding(flow, cell_m)
        sure = (votes >= 2) & ~surface
        agreed = float(np.median(winding[sure])) if sure.any() else 0.0
        inside = sure | ((winding > 0.5) if agreed > 0.5 else surface if agreed < 0.25 else winding > 0.4)
        held = int(inside.sum())
        if held > _MOST_INSIDE:  # a block, not a body
            return cls.of(vertices, triangles, cell_m * float(np.cbrt(2.0 * held / _MOST_INSIDE)), most_cubes)
        return cls.from_cubes(origin, cell_m, inside)

    @classmethod
    def from_cubes(cls, origin: Floats, cell_m: float, inside: np.ndarray) -> Solid:
        """From the cubes that are inside, none of them at an edge of the grid."""
        where = np.argwhere(inside)
        number = np.full(inside.shape, -1, dtype=np.int64)
        number[tuple(where.T)] = np.arange(len(where))
        return cls(origin, cell_m, inside, number, origin + where * cell_m)

    def __len__(self) -> int:
        return len(self.points)

    @cached_property
    def neighbours(self) -> Integers:
        """The rows of the 26 cubes around each point inside, ``(n, 26)``; -1 where there is nothing inside."""
        flat = np.flatnonzero(self.inside)
        return np.asarray(self.number.ravel()[flat[:, None] + _STEPS @ self._strides])

    @property
    def _strides(self) -> Integers:
        """How far apart neighbours along each axis are where all cubes stand in one row."""
        return np.array(self.number.strides) // self.number.itemsize

    def depth_m(self, rows: Integers) -> Floats:
        """How far some of the points inside are from the outside, ``(rows,)``."""
        return np.asarray(self._outside.query(np.argwhere(self.inside)[rows])[0] * self.cell_m)

    @cached_property
    def _outside(self) -> Any:
        """The cubes around the solid: whatever is nearest outside has a face in common with it."""
        from scipy.spatial import cKDTree

        faces = np.abs(_STEPS).sum(axis=1) == 1
        here, step = np.nonzero(self.neighbours[:, faces] < 0)
        around = np.unique(np.flatnonzero(self.inside)[here] + (_STEPS[faces] @ self._strides)[step])
        return cKDTree(np.stack(np.unravel_index(around, self.inside.shape), axis=1))

    @cached_property
    def graph(self) -> Any:
        """The neighbours as a sparse matrix of their distances in metres."""
        lengths = self.cell_m * np.linalg.norm(_STEPS, axis=1)
        return rows_of(self.neighbours, self.neighbours >= 0, lengths)

    def largest_piece(self) -> Solid:
        """What hangs together and is largest, with pieces beside it that are a twentieth of it at least."""
        from scipy.ndimage import label

        pieces, count = label(self.inside, structure=np.ones((3, 3, 3)))
        if count <= 1:
            return self
        sizes = np.bincount(pieces.ravel())[1:]
        return Solid.from_cubes(
            self.origin, self.cell_m, np.isin(pieces, np.flatnonzero(sizes >= 0.05 * sizes.max()) + 1)
        )

    def distances(self, start: Integers) -> Floats:
        """The way inside from any of the points ``start`` to each point, metres; infinite where there is none."""
        from scipy.sparse.csgraph import dijkstra

        return np.asarray(dijkstra(self.graph, indices=np.atleast_1d(start), min_only=True))

    def nearest(self, places: Floats) -> Integers:
        """The row of the point inside nearest to each of the places ``(k, 3)``."""
        return np.asarray(self._tree.query(np.atleast_2d(places))[1])

    @cached_property
    def _tree(self) -> Any:
        from scipy.spatial import cKDTree

        return cKDTree(self.points)


def rows_of(neighbours: Integers, taken: np.ndarray, lengths: Floats) -> Any:
    """A sparse matrix from a table of neighbours ``(n, k)``: those that are taken, column for column so long."""
    from scipy.sparse import csr_matrix

    ends = np.concatenate([[0], np.cumsum(taken.sum(axis=1))])
    values = np.broadcast_to(lengths, neighbours.shape)[taken]
    return csr_matrix((values, neighbours[taken], ends), shape=(len(neighbours),) * 2)


def rows_used(triangles: Integers, count: int) -> Integers:
    """The vertices, of ``count``, that triangles have, in order."""
    used = np.zeros(count, dtype=bool)
    used[triangles] = True
    return np.flatnonzero(used)


def sampled_surface(vertices: Floats, triangles: Integers, spacing_m: float) -> tuple[Floats, Floats]:
    """Points on triangles, no further apart than a spacing, and the area vector of each: ``(n, 3)`` twice."""
    a, b, c = (vertices[triangles[:, corner]] for corner in range(3))
    areas = 0.5 * np.cross(b - a, c - a)
    longest = np.sqrt(np.max([((p - q) ** 2).sum(axis=1) for p, q in ((a, b), (b, c), (c, a))], axis=0))
    parts = np.clip(np.ceil(longest / spacing_m), 1, 400).astype(int)
    points, flows = [], []
    for n in np.unique(parts).tolist():
        rows = np.flatnonzero(parts == n)
        _, u, v = middles_of_parts(n).T
        for chunk in np.array_split(rows, max(1, len(rows) * len(u) // _MOST_SAMPLES + 1)):
            there = a[chunk, None] + u[:, None] * (b - a)[chunk, None] + v[:, None] * (c - a)[chunk, None]
            points.append(there.reshape(-1, 3))
            flows.append(np.repeat(areas[chunk] / len(u), len(u), axis=0))
    return np.concatenate(points), np.concatenate(flows)


def _splatted(
    vertices: Floats, triangles: Integers, origin: Floats, cell_m: float, counts: Integers
) -> tuple[Any, Floats]:
    """The cubes that the surface goes through, and its area vectors in them ``(3, nx, ny, nz)``."""
    points, flows = sampled_surface(vertices, triangles, 0.6 * cell_m)
    at = np.clip(np.round((points - origin) / cell_m).astype(np.int64), 0, counts - 1)
    flat = np.ravel_multi_index(tuple(at.T), tuple(counts))
    size = int(np.prod(counts))
    surface = np.bincount(flat, minlength=size).reshape(counts) > 0
    flow = np.stack([np.bincount(flat, flows[:, axis], size).reshape(counts) for axis in range(3)])
    return surface, np.asarray(flow, dtype=np.float64)


def _votes(surface: np.ndarray) -> Integers:
    """For each cube, along how many axes the slice it lies in catches it."""
    from scipy.ndimage import label

    votes = np.zeros(surface.shape, dtype=np.int64)
    for axis in range(3):
        structure = np.zeros((3, 3, 3), dtype=int)
        middle = [slice(None)] * 3
        middle[axis] = slice(1, 2)
        structure[tuple(middle)] = 1
        structure &= np.add.outer(np.add.outer(*(np.abs([-1, 0, 1]),) * 2), np.abs([-1, 0, 1])) <= 1
        regions, _ = label(~surface, structure=structure)
        # Every slice touches the edge of the grid, where all is outside.
        edges = [np.take(regions, [0, -1], axis=other).ravel() for other in range(3) if other != axis]
        open_regions = np.zeros(int(regions.max()) + 1, dtype=bool)
        open_regions[np.concatenate(edges)] = True
        votes += ~open_regions[regions]
    return votes


def _winding(flow: Floats, cell_m: float) -> Floats:
    """The winding number of the surface in each cube: the field whose gradient the area vectors are."""
    from scipy.fft import irfftn, next_fast_len, rfftn

    counts = flow.shape[1:]
    sizes = [next_fast_len(n, real=True) for n in counts]
    waves = [np.fft.fftfreq(n) for n in sizes[:2]] + [np.fft.rfftfreq(sizes[2])]
    kx, ky, kz = np.meshgrid(*(2.0 * np.pi * wave.astype(np.float32) for wave in waves), indexing="ij", sparse=True)
    # Inside 1, outside 0, and area vectors point outward: the gradient is the area vector the other way round. All in
    # cubes, and blurred a little: what is thinner has no inside.
    total = sum(k * rfftn((flow[axis] / cell_m**2).astype(np.float32), s=sizes) for axis, k in enumerate((kx, ky, kz)))
    square = kx**2 + ky**2 + kz**2
    square[0, 0, 0] = 1.0
    field = irfftn(np.complex64(1j) * total * (np.exp(-0.245 * square) / square), s=sizes)
    field = field[tuple(slice(n) for n in counts)]
    edge = np.concatenate([np.take(field, [0, -1], axis=axis).ravel() for axis in range(3)])
    field = field - np.median(edge)
    # Turned inside out, all triangles wind the other way.
    return np.asarray(field if abs(field.max()) >= abs(field.min()) else -field)
