"""Fewer bones for each vertex, with the least change of the moving mesh.

Not the largest weights are kept but those that matter: over a set of poses, the bone whose loss moves the vertex least
(after the others have taken over) goes first. The rest is fitted anew by least squares under the sum of one (after
Le and Deng 2012); how much a loss costs is known without solving (optimal brain surgeon, Hassibi and Stork 1993).
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from fairswap.model.arrays import Floats, Integers
from fairswap.model.figure import Figure
from fairswap.model.mesh import Mesh, all_skin_matrices, strongest
from fairswap.model.poses import Poses
from fairswap.model.skeleton import WorldTransforms

_AT_ONCE = 20_000
_PULL = 1e-6  # against a square metre: a weight may change by 1 where that saves a millimetre, and not for less


def with_fewer_influences(figure: Figure, most: int, poses: Poses) -> tuple[Figure, int]:
    """The figure with at most ``most`` bones for each vertex, fitted over ``poses``; and how many vertices had more."""
    world = poses.world()
    meshes, changed = [], 0
    for mesh in figure.meshes:
        over = np.flatnonzero((mesh.weights > 0).sum(axis=1) > most)
        if not len(over):
            meshes.append(_narrowed(mesh, mesh.joints, mesh.weights, most))
            continue
        changed += len(over)
        pairs = pair_moments((mesh, world), (mesh, world))
        joints, weights = mesh.joints.copy(), mesh.weights.copy()
        for rows in np.array_split(over, len(over) // _AT_ONCE + 1):
            weights[rows] = _fitted(mesh.vertices[rows], joints[rows], weights[rows], pairs, most)
        meshes.append(_narrowed(mesh, joints, weights, most))
    return replace(figure, meshes=tuple(meshes)), changed


def pair_moments(first: tuple[Mesh, WorldTransforms], second: tuple[Mesh, WorldTransforms]) -> Floats:
    """For a bone of each of two motions the mean over poses of what they make of a vertex, one times the other.

    ``(bones, bones, 4, 4)``: for vertices ``v`` and ``u`` with a 1 behind, ``v @ moments[i, j] @ u`` is the mean of the
    scalar products of where bone i takes the one and bone j the other. So the number of poses costs nothing for
    a vertex.
    """
    a, b = (_flat(*motion) for motion in (first, second))
    frames = first[1].rotation_tracks.shape[2]
    return (a.T @ b / frames).reshape(a.shape[1] // 4, 4, -1, 4).transpose(0, 2, 1, 3)


def _flat(mesh: Mesh, world: WorldTransforms) -> Floats:
    """What each bone does in each pose, ``(3 poses, 4 bones)``."""
    frames = world.rotation_tracks.shape[2]
    return all_skin_matrices(mesh, world).transpose(0, 2, 1, 3).reshape(3 * frames, -1)


def _fitted(vertices: Floats, joints: Integers, weights: Floats, pairs: Floats, most: int) -> Floats:
    """New weights ``(n, k)`` of which at most ``most`` are not zero."""
    count, wide = joints.shape
    point = np.concatenate([vertices, np.ones((count, 1))], axis=1)
    squares = (point[:, :, None] * point[:, None, :]).reshape(count, 16)
    moments = np.ascontiguousarray(pairs).reshape(-1, 16)
    gram = np.empty((count, wide, wide))
    for i in range(wide):
        for j in range(i, wide):
            own = np.take(moments, joints[:, i] * len(pairs) + joints[:, j], axis=0)
            gram[:, i, j] = gram[:, j, i] = np.einsum("nk,nk->n", squares, own)
    gram += _PULL * np.eye(wide)
    goal = np.einsum("nij,nj->ni", gram, weights)
    alive = weights > 0
    out = weights.copy()
    rows = np.arange(count)
    while len(rows):
        current, cost = _solved(gram[rows], goal[rows], alive[rows])
        negative = (current < 0.0) & alive[rows]
        busy = (alive[rows].sum(axis=1) > most) | negative.any(axis=1)
        out[rows] = np.where(alive[rows], current, 0.0)
        rows, cost, negative = rows[busy], cost[busy], negative[busy]
        gone = np.argmin(np.where(negative, -1.0, cost), axis=1)
        alive[rows, gone] = False
    return out


def _solved(gram: Floats, goal: Floats, alive: np.ndarray) -> tuple[Floats, Floats]:
    """The best weights of the bones that are left, summing to one; and what it costs to take each of them away."""
    wide = gram.shape[1]
    both = alive[:, :, None] & alive[:, None, :]
    # Bones that are gone stand alone in the system, so that all have one size.
    inverse = np.linalg.inv(np.where(both, gram, np.eye(wide)))
    inverse = np.where(both, inverse, 0.0)
    free = np.einsum("nij,nj->ni", inverse, np.where(alive, goal, 0.0))
    ones = inverse.sum(axis=2)
    total = np.maximum(ones.sum(axis=1), 1e-300)
    current = free + ones * ((1.0 - free.sum(axis=1)) / total)[:, None]
    spread = np.einsum("nii->ni", inverse) - ones**2 / total[:, None]
    cost = np.where(alive, current**2 / np.maximum(spread, 1e-300), np.inf)
    return current, cost


def _narrowed(mesh: Mesh, joints: Integers, weights: Floats, most: int) -> Mesh:
    if mesh.joints.shape[1] <= most and weights is mesh.weights:
        return mesh
    joints, kept = strongest(joints, weights, most)
    return replace(mesh, joints=joints, weights=kept / kept.sum(axis=1, keepdims=True))
