"""Where poses take the vertices of a mesh, as one matrix for each vertex."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from fairswap.model.arrays import Floats
from fairswap.model.mesh import Mesh, skin_matrices
from fairswap.model.skeleton import WorldTransforms


def blended(mesh: Mesh, world: WorldTransforms, frame: int = 0) -> Floats:
    """What a pose does to each vertex of a mesh as it was bound, ``(n, 3, 4)``."""
    matrices = skin_matrices(mesh, world, frame)
    return np.asarray(np.einsum("nk,nkij->nij", mesh.weights, matrices[mesh.joints]))


def carrier_between(start: Floats, end: Floats) -> Callable[[Floats], tuple[Floats, Floats]]:
    """What takes vertices ``(n, 3)`` of one pose to another, with the linear part ``(n, 3, 3)`` at each; both poses as
    :func:`blended` gives them."""
    back = np.linalg.inv(start[:, :, :3])
    linear = end[:, :, :3] @ back
    shift = end[:, :, 3] - np.einsum("nij,nj->ni", linear, start[:, :, 3])
    return lambda points: (np.einsum("nij,nj->ni", linear, points) + shift, linear)
