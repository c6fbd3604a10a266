"""Edges of a figure's meshes collapse where that changes the shape least (Garland and Heckbert 1997), many at a time.

Each collapse draws one vertex onto a neighbour, so that all that is left is as it was: weights, morphs, texture
coordinates, colours. Seams and borders of materials collapse along themselves only, open edges too; where morphs move
the skin, as at lids and lips, it is held longer.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from fairswap.figures.trimming import of_vertices
from fairswap.model.arrays import Floats, Integers
from fairswap.model.figure import Figure
from fairswap.model.mesh import Mesh

# How much a change of weights, and of what morphs do, counts against one of the shape: metres to a whole weight, and
# morphs' metres to metres.
_WEIGHT_M, _MORPHS = 0.02, 8.0
# Open edges, and those between materials, which are seen at once (an iris), are held by planes of this weight.
_EDGE, _RIM = 200.0, 300.0
# And how much it counts that the edge of a picture leaves its line.
_SEAM = 4.0
# No triangle turns by more than this (cosine), and none becomes a sliver (area to the square of its longest side).
_TURNED, _SLIVER = 0.25, 0.03
# One round looks at the cheapest of the edges, one in so many, and draws together what of them is not near each other.
_CHEAP, _PASSES, _MOST_ROUNDS = 16, 8, 400


class Collapsing:
    """The meshes of a figure as one: corners are wedges (vertex and material), wedges stand at places."""

    def __init__(self, figure: Figure) -> None:
        self.figure = figure
        meshes = figure.meshes
        self.firsts = np.cumsum([0, *(len(mesh.vertices) for mesh in meshes)])
        points = figure.rest_points
        self.uvs = np.concatenate([np.zeros((len(m.vertices), 2)) if m.uvs is None else m.uvs for m in meshes])
        corners, materials = [], []
        for number, (mesh, first) in enumerate(zip(meshes, self.firsts, strict=False)):
            own = np.zeros(len(mesh.triangles), dtype=np.int64)
            for index, material in enumerate(mesh.materials):
                own[material.triangles] = index
            corners.append(mesh.triangles + first)
            materials.append(own + 1000 * number)
        triangles, self.material = np.concatenate(corners), np.concatenate(materials)
        self.row = np.arange(len(triangles))
        keys = triangles.astype(np.int64) * (int(self.material.max()) + 1) + self.material[:, None]
        unique, wedges = np.unique(keys, return_inverse=True)
        self.corners = wedges.reshape(triangles.shape)
        self.vertex = (unique // (int(self.material.max()) + 1)).astype(np.intp)
        extent = max(float(np.ptp(points, axis=0).max()), 1e-9)
        # Meshes are apart even where they touch.
        mesh_of = np.searchsorted(self.firsts, np.arange(len(points)), side="right")
        spots = np.c_[np.round(points / (1e-6 * extent)).astype(np.int64), mesh_of]
        place = np.unique(spots, axis=0, return_inverse=True)[1].ravel()
        self.place = place[self.vertex]
        self.at = np.zeros((int(place.max()) + 1, 3))
        self.at[place] = points
        self.features = self._features(place)
        self._known = np.array([-1]), np.zeros(1)
        flat = self._flat()
        self._keep(~flat)
        self.quadrics = self._quadrics()

    def _features(self, place: Integers) -> Floats:
        """What else than the shape shall not change, of each place, in metres ``(places, k)``."""
        figure, count = self.figure, int(place.max()) + 1
        bones = np.unique(np.concatenate([mesh.joints[mesh.weights > 0] for mesh in figure.meshes]))
        column = np.zeros(len(figure.skeleton), dtype=np.intp)
        column[bones] = np.arange(len(bones))
        morphs = max((len(mesh.morph_names) for mesh in figure.meshes), default=0)
        out = np.zeros((count, len(bones) + 3 * morphs), dtype=np.float64)
        for mesh, first in zip(figure.meshes, self.firsts, strict=False):
            rows = place[first + np.arange(len(mesh.vertices))]
            table = np.zeros((len(mesh.vertices), len(bones)))
            np.add.at(table, (np.arange(len(table))[:, None], column[mesh.joints]), mesh.weights)
            out[rows, : len(bones)] = _WEIGHT_M * table
            if mesh.morph_deltas is not None and len(mesh.morph_names):
                deltas = _MORPHS * mesh.morph_deltas.transpose(1, 0, 2).reshape(len(mesh.vertices), -1)
                out[rows, len(bones) : len(bones) + deltas.shape[1]] = deltas
        return out

    def _flat(self) -> np.ndarray:
        a, b, c = self.place[self.corners].T
        return np.asarray((a == b) | (b == c) | (c == a))

    def _keep(self, kept: np.ndarray) -> None:
        self.corners, self.material, self.row = self.corners[kept], self.material[kept], self.row[kept]

    def _quadrics(self) -> Floats:
        """The sum of squared distances from the planes around each place, as ``(places, 4, 4)``."""
        out = np.zeros((len(self.at), 4, 4))
        normal, area = self._planes()
        a = self.at[self.place[self.corners[:, 0]]]
        plane = np.c_[normal, -np.einsum("ni,ni->n", normal, a)]
        squares = area[:, None, None] * plane[:, :, None] * plane[:, None, :]
        for corner in self.corners.T:
            np.add.at(out, self.place[corner], squares)
        pairs, owner, count = self._edges()
        # A plane through each edge of the mesh or of a material, square to its triangle, holds the edge where it is.
        rim = self._between_materials()
        loose = np.flatnonzero((count == 1) | rim)
        firm = np.where(rim[loose], _RIM, _EDGE)[:, None, None]
        start, end = self.at[pairs[loose, 0]], self.at[pairs[loose, 1]]
        square = np.cross(end - start, normal[owner[loose]])
        length = np.maximum(np.linalg.norm(square, axis=1, keepdims=True), 1e-12)
        square = square / length
        plane = np.c_[square, -np.einsum("ni,ni->n", square, start)]
        squares = (firm * length[:, :, None] ** 2) * plane[:, :, None] * plane[:, None, :]
        for side in (0, 1):
            np.add.at(out, pairs[loose, side], squares)
        return out

    def _planes(self) -> tuple[Floats, Floats]:
        a, b, c = self.at[self.place[self.corners]].transpose(1, 0, 2)
        cross = np.cross(b - a, c - a)
        double = np.linalg.norm(cross, axis=1)
        return cross / np.maximum(double, 1e-18)[:, None], 0.5 * double

    def _edges(self) -> tuple[Integers, Integers, Integers]:
        """Edges between places ``(e, 2)``, one of the triangles at each, and how many triangles it has."""
        places = self.place[self.corners]
        both = np.sort(np.concatenate([places[:, [0, 1]], places[:, [1, 2]], places[:, [2, 0]]]), axis=1)
        owner = np.tile(np.arange(len(places)), 3)
        keys = both[:, 0].astype(np.int64) * len(self.at) + both[:, 1]
        _, first, count = np.unique(keys, return_index=True, return_counts=True)
        return both[first], owner[first], count

    def _between_materials(self) -> np.ndarray:
        """Which edges, in the order of :meth:`_edges`, have triangles of two materials."""
        places = self.place[self.corners]
        both = np.sort(np.concatenate([places[:, [0, 1]], places[:, [1, 2]], places[:, [2, 0]]]), axis=1)
        keys = both[:, 0].astype(np.int64) * len(self.at) + both[:, 1]
        _, edge = np.unique(keys, return_inverse=True)
        low, high = np.full(int(edge.max()) + 1, np.iinfo(np.int64).max), np.full(int(edge.max()) + 1, -1)
        np.minimum.at(low, edge, np.tile(self.material, 3))
        np.maximum.at(high, edge, np.tile(self.material, 3))
        return np.asarray(low != high)

    def collapse(self, triangles: int, vertices: int) -> None:
        """Collapse edges, the cheapest first, until no more than that is left or none may collapse any more."""
        for _ in range(_MOST_ROUNDS):
            used = int(np.count_nonzero(np.bincount(self.vertex[self.corners].ravel())))
            left = max(len(self.corners) - triangles, 2 * (used - vertices))
            if left <= 0:
                return
            gone, into = self._cheapest()
            if not len(gone):
                return
            most = (left + 1) // 2  # each takes two triangles with it
            self._draw(gone[:most], into[:most])

    def _cheapest(self) -> tuple[Integers, Integers]:
        """Places that may be drawn onto a neighbour and those neighbours, the cheapest first, none near another."""
        pairs, _, count = self._edges()
        steps = self._steps()
        border = np.zeros(len(self.at), dtype=bool)
        border[pairs[count != 2].ravel()] = True
        start, end = np.concatenate([pairs, pairs[:, ::-1]]).T
        inner = np.tile(count == 2, 2)
        # What lies on an open edge stays on it.
        able = ~border[start] | ~inner
        able &= self._wedges_go_along(start, end, steps)
        start, end = start[able], end[able]
        if not len(start):
            return start, end
        unlike = np.tile(self._unlike(pairs), 2)[able]
        cost = self._cost(start, end, unlike) + self._seams_cost(start, end, steps)
        order = np.argsort(cost, kind="stable")
        # What is dearer is not for this round, unless it is all that is left.
        most = max(len(order) // _CHEAP, 500)
        while True:
            some = order[:most]
            some = some[self._stays_whole(start[some], end[some], pairs)]
            chosen = some[self._apart(start[some], end[some], pairs)]
            if len(chosen) or most >= len(order):
                return start[chosen], end[chosen]
            most *= 4

    def _steps(self) -> Integers:
        """Wedges next to each other across a side of a triangle, both ways, ``(k, 2)``, sorted."""
        a, b, c = self.corners.T
        start, end = np.concatenate([a, b, b, c, c, a]), np.concatenate([b, a, c, b, a, c])
        keys = start.astype(np.int64) * len(self.place) + end
        keys.sort()
        keys = keys[np.diff(keys, prepend=-1) > 0]
        return np.stack([keys // len(self.place), keys % len(self.place)], axis=1)

    def _wedges_go_along(self, start: Integers, end: Integers, steps: Integers) -> np.ndarray:
        """Whether every wedge at the start has one at the end, across a triangle they share, and one only."""
        size = len(self.at)
        used = np.zeros(len(self.place), dtype=bool)
        used[self.corners] = True
        wedges_at = np.bincount(self.place[used], minlength=size)
        keys = self.place[steps[:, 0]].astype(np.int64) * size + self.place[steps[:, 1]]
        found, count = np.unique(keys, return_counts=True)
        one_way = steps[:, 0].astype(np.int64) * size + self.place[steps[:, 1]]
        one_way.sort()
        twice = one_way[1:][one_way[1:] == one_way[:-1]]
        unsure = self.place[twice // size].astype(np.int64) * size + twice % size
        asked = start.astype(np.int64) * size + end
        at = np.minimum(np.searchsorted(found, asked), len(found) - 1)
        whole = (found[at] == asked) & (count[at] == wedges_at[start])
        return np.asarray(whole & ~np.isin(asked, unsure))

    def _seams_cost(self, start: Integers, end: Integers, steps: Integers) -> Floats:
        """What it costs to draw a place along a seam: how far the picture's edge leaves its line there.

        Where three seams meet, or one ends, nothing is drawn.
        """
        size = len(self.at)
        here, there = self.place[steps[:, 0]], self.place[steps[:, 1]]
        keys, count = np.unique(here.astype(np.int64) * size + there, return_counts=True)
        seam = count > 1  # as many wedges on this side as the edge has sides: two where it is a seam
        ends = np.stack([keys[seam] // size, keys[seam] % size], axis=1)
        degree = np.bincount(ends[:, 0], minlength=size)
        total = np.bincount(ends[:, 0], ends[:, 1].astype(float), size).astype(np.int64)
        out = np.zeros(len(start))
        out[(degree[start] > 0) & (degree[start] != 2)] = np.inf
        asked = np.flatnonzero(degree[start] == 2)
        if not len(asked):
            return out
        other = total[start[asked]] - end[asked]
        # The wedges of each place that is drawn: rows of steps towards the end, and towards the other side.
        order = np.argsort(here.astype(np.int64) * size + there, kind="stable")
        at = np.searchsorted(keys, start[asked].astype(np.int64) * size + end[asked])
        lookup = steps[:, 0].astype(np.int64) * size + there
        by_wedge = np.argsort(lookup, kind="stable")
        length2 = ((self.at[start[asked]] - self.at[end[asked]]) ** 2).sum(axis=1)
        worst = np.zeros(len(asked))
        for k in range(2):
            have = count[at] > k
            row = order[np.minimum(np.concatenate([[0], np.cumsum(count)])[at] + k, len(order) - 1)]
            a, b = steps[row, 0], steps[row, 1]
            wanted = a.astype(np.int64) * size + other
            found = by_wedge[np.minimum(np.searchsorted(lookup[by_wedge], wanted), len(by_wedge) - 1)]
            c = np.where(lookup[found] == wanted, steps[found, 1], b)
            p, q, r = (self.uvs[self.vertex[w]] for w in (a, b, c))
            way = r - q
            along = np.einsum("ni,ni->n", p - q, way) / np.maximum(np.einsum("ni,ni->n", way, way), 1e-18)
            off = np.linalg.norm(p - q - np.clip(along, 0.0, 1.0)[:, None] * way, axis=1)
            scale = np.sqrt(length2) / np.maximum(np.linalg.norm(p - q, axis=1), 1e-9)
            worst = np.maximum(worst, np.where(have, off * scale, 0.0))
        out[asked] = length2 * (_SEAM * worst) ** 2
        return out

    def _cost(self, start: Integers, end: Integers, unlike: Floats) -> Floats:
        goal = np.c_[self.at[end], np.ones(len(end))]
        shape = np.einsum("ni,nij,nj->n", goal, self.quadrics[start] + self.quadrics[end], goal)
        length2 = ((self.at[start] - self.at[end]) ** 2).sum(axis=1)
        # A little for the length, so that flat parts shrink evenly.
        return np.asarray(np.maximum(shape, 0.0) + length2 * (unlike + 1e-6 * length2))

    def _unlike(self, pairs: Integers) -> Floats:
        """How unlike the two places of each edge are in all but the shape, squared; most are known from the round
        before."""
        keys = pairs[:, 0].astype(np.int64) * len(self.at) + pairs[:, 1]
        known, values = self._known
        at = np.minimum(np.searchsorted(known, keys), len(known) - 1)
        out = values[at]
        new = np.flatnonzero(known[at] != keys)
        start, end = pairs[new].T
        out[new] = ((self.features[start] - self.features[end]) ** 2).sum(axis=1)
        self._known = keys, out
        return out

    def _around(self) -> tuple[Integers, Integers]:
        """For each corner of each triangle its place, and the triangle; sorted by place."""
        places = self.place[self.corners].ravel()
        order = np.argsort(places, kind="stable")
        return places[order], order // 3

    def _stays_whole(self, start: Integers, end: Integers, pairs: Integers) -> np.ndarray:
        """Whether no triangle around the start turns over or becomes a sliver, and the skin does not meet itself."""
        places, owners = self._around()
        low, high = np.searchsorted(places, start), np.searchsorted(places, start, side="right")
        count = high - low
        edge = np.repeat(np.arange(len(start)), count)
        triangle = owners[np.repeat(low, count) + np.arange(len(edge)) - np.repeat(np.cumsum(count) - count, count)]
        corners = self.place[self.corners[triangle]]
        dying = (corners == end[edge, None]).any(axis=1)
        moved = np.where(corners == start[edge, None], end[edge, None], corners)
        a, b, c = self.at[corners].transpose(1, 0, 2)
        d, e, f = self.at[moved].transpose(1, 0, 2)
        old, new = np.cross(b - a, c - a), np.cross(e - d, f - d)
        longest = np.max([((p - q) ** 2).sum(axis=1) for p, q in ((d, e), (e, f), (f, d))], axis=0)
        size, was = np.linalg.norm(new, axis=1), np.linalg.norm(old, axis=1)
        before = np.max([((p - q) ** 2).sum(axis=1) for p, q in ((a, b), (b, c), (c, a))], axis=0)
        thin = (size < _SLIVER * longest) & (size / np.maximum(longest, 1e-18) < was / np.maximum(before, 1e-18))
        bad = ~dying & ((np.einsum("ni,ni->n", old, new) < _TURNED * size * was) | thin)
        ok = np.bincount(edge[bad], minlength=len(start)) == 0
        # Both ends share as many neighbours as the edge has triangles: else the skin would fold onto itself.
        dyings = np.bincount(edge[dying], minlength=len(start))
        return np.asarray(ok & (self._shared(pairs, start, end) == dyings) & (dyings >= 1))

    def _shared(self, pairs: Integers, start: Integers, end: Integers) -> Integers:
        from scipy.sparse import coo_matrix

        both = np.concatenate([pairs, pairs[:, ::-1]])
        size = (len(self.at), len(self.at))
        graph = coo_matrix((np.ones(len(both), dtype=np.int32), both.T), shape=size).tocsr()
        return np.asarray(graph[start].multiply(graph[end]).sum(axis=1)).ravel()

    def _apart(self, start: Integers, end: Integers, pairs: Integers) -> Integers:
        """Rows of edges that do not touch each other's neighbourhoods, the first in order before all others."""
        taken = np.zeros(len(start), dtype=bool)
        left = np.arange(len(start))
        for _ in range(_PASSES):
            rank = np.full(len(self.at), len(start))
            np.minimum.at(rank, start[left], left)
            np.minimum.at(rank, end[left], left)
            around = self._least_near(self._least_near(rank, pairs), pairs)
            first = left[(around[start[left]] == left) & (around[end[left]] == left)]
            if not len(first):
                break
            taken[first] = True
            near = np.ones(len(self.at))
            near[start[first]] = near[end[first]] = 0.0
            free = self._least_near(self._least_near(near, pairs), pairs) > 0.0
            left = left[free[start[left]] & free[end[left]]]
        return np.flatnonzero(taken)

    @staticmethod
    def _least_near(values: np.ndarray, pairs: Integers) -> np.ndarray:
        """The least value of each place and its neighbours."""
        out = values.copy()
        np.minimum.at(out, pairs[:, 0], values[pairs[:, 1]])
        np.minimum.at(out, pairs[:, 1], values[pairs[:, 0]])
        return out

    def _draw(self, start: Integers, end: Integers) -> None:
        """Draw places onto others, each wedge onto that with which it shares a triangle."""
        onto = np.arange(len(self.at))
        onto[start] = end
        a, b, c = self.corners.T
        sides = np.concatenate([np.stack(pair, axis=1) for pair in ((a, b), (b, a), (b, c), (c, b), (c, a), (a, c))])
        here, there = self.place[sides[:, 0]], self.place[sides[:, 1]]
        goes = (onto[here] != here) & (onto[here] == there)
        wedge = np.arange(len(self.place))
        wedge[sides[goes, 0]] = sides[goes, 1]
        self.quadrics[end] += self.quadrics[start]
        self.corners = wedge[self.corners]
        self._keep(~self._flat())

    def mesh(self, number: int) -> Mesh:
        """One of the meshes, of what is left."""
        mesh, first = self.figure.meshes[number], int(self.firsts[number])
        own = self.material // 1000 == number
        corners, material = self.vertex[self.corners[own]] - first, self.material[own] % 1000
        order = np.lexsort((self.row[own], material))
        used, triangles = np.unique(corners[order], return_inverse=True)
        counts = np.bincount(material, minlength=len(mesh.materials))
        stops = np.cumsum(counts)
        materials = tuple(
            replace(row, triangles=slice(int(stop - count), int(stop)))
            for row, stop, count in zip(mesh.materials, stops, counts, strict=True)
            if count
        )
        return replace(
            mesh, triangles=triangles.reshape(-1, 3), materials=materials, origin=None, **of_vertices(mesh, used)
        )
