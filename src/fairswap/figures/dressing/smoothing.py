"""Values on a mesh as smooth as may be, held here and there: the heart of laying, weighting and settling cloth."""

from __future__ import annotations

from typing import Any

import numpy as np

from fairswap.figures.rigging.shape import Shape
from fairswap.model.arrays import Floats, Integers


class Smoother:
    """Solves for values ``(n, k)`` on the vertices of a mesh that are smooth and near to what is wanted.

    Vertices at one place have one value; smooth means as near as can be to the mean of the neighbours.
    """

    def __init__(self, vertices: Floats, triangles: Integers) -> None:
        from scipy.sparse import coo_matrix, diags

        self.places = Shape.of(vertices, triangles).welded
        count = int(self.places.max()) + 1
        corners = self.places[triangles]
        pairs = np.concatenate([corners[:, [0, 1]], corners[:, [1, 2]], corners[:, [2, 0]]])
        pairs = np.concatenate([pairs, pairs[:, ::-1]])
        graph = coo_matrix((np.ones(len(pairs)), pairs.T), shape=(count, count)).tocsr()
        graph.data[:] = 1.0
        graph.setdiag(0.0)
        degree = np.asarray(graph.sum(axis=1)).ravel()
        self._laplacian: Any = (diags(degree) - graph) / max(float(degree.mean()), 1.0)
        self._count = count
        apart = vertices[triangles[:, 0]] - vertices[triangles[:, 1]]
        self.edge_m = float(np.median(np.linalg.norm(apart, axis=1)))

    def near(self, wanted: Floats, held: Floats) -> Floats:
        """Values near to ``wanted`` ``(n, k)``, each held by ``held`` ``(n,)``, and evened out by their neighbours'."""
        from scipy.sparse import diags
        from scipy.sparse.linalg import splu

        weight = np.bincount(self.places, held, self._count)
        right = np.stack([np.bincount(self.places, held * column, self._count) for column in wanted.T], axis=1)
        solved = splu((self._laplacian + diags(np.maximum(weight, 1e-9))).tocsc()).solve(right)
        return np.asarray(solved[self.places])

    def least_change(self, rows: Any, wanted: Floats, stiffness: float, still: float) -> Floats:
        """The smoothest shift ``(n, 3)`` for which ``rows`` (sparse, ``(m, n)``) of it are as ``wanted`` ``(m, 3)``.

        ``stiffness`` weighs how much the shift may differ from that of the neighbours, ``still`` how large it may be.
        """
        from scipy.sparse import coo_matrix, identity
        from scipy.sparse.linalg import splu

        count = len(self.places)
        spread = coo_matrix((np.ones(count), (np.arange(count), self.places)), shape=(count, self._count)).tocsr()
        at = rows @ spread
        # Against bending alone the change would go on growing beyond what is pushed.
        stiff = 0.3 * self._laplacian @ self._laplacian + self._laplacian
        square = stiffness * stiff + still * identity(self._count) + at.T @ at
        return np.asarray(splu(square.tocsc()).solve(at.T @ wanted)[self.places])


def smoothed(vertices: Floats, triangles: Integers, wanted: Floats, held: Floats) -> Floats:
    """:meth:`Smoother.near` on a mesh that is used once."""
    return Smoother(vertices, triangles).near(wanted, held)
