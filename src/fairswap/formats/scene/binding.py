"""One bind pose for a whole figure, for formats that know no more."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from fairswap.model.arrays import Floats
from fairswap.model.figure import Figure
from fairswap.model.mesh import Mesh, deformed_vertices, weight_on_bones
from fairswap.model.rotation import matrix_from_quaternion, rotation_from_stretched
from fairswap.model.skinning import as_bound


def bind_pose(local: Floats, parents: Sequence[int], meshes: Sequence[Mesh], *, rigid: bool = False) -> Floats:
    """Where all bones stood when the skin was bound: world matrices ``(bones, 4, 4)``.

    For each bone the mesh counts that hangs most on it together with other bones: what hangs on one bone alone can be
    bound anew exactly. A bone that holds no skin stands below its parent as it rests.
    ``local`` ``(bones, 4, 4)`` is the rest pose; ``rigid`` takes what stretches out of the matrices.
    """
    count = len(local)
    held = [_hold(mesh, count) for mesh in meshes] or [np.zeros(count)]
    weights = np.stack(held)
    owner = weights.argmax(axis=0)
    world = np.empty((count, 4, 4))
    for bone, parent in enumerate(parents):
        if weights[owner[bone], bone] > 0.0:
            world[bone] = np.linalg.inv(meshes[int(owner[bone])].bind_matrices[bone])
        else:
            world[bone] = world[parent] @ local[bone] if parent >= 0 else local[bone]
    if rigid:
        world[:, :3, :3] = matrix_from_quaternion(rotation_from_stretched(world[:, :3, :3]))
    return world


def rebound_error_m(figure: Figure, *, rigid: bool = False) -> float:
    """How far the skin is off at rest when all meshes are brought into one bind pose, in metres."""
    skeleton = figure.skeleton
    local = matrices_of(skeleton.rest_rotations, skeleton.rest_translations)
    world = bind_pose(local, skeleton.parents.tolist(), figure.meshes, rigid=rigid)
    worst = 0.0
    for mesh, before in zip(figure.meshes, figure.rest_vertices, strict=True):
        made = as_bound(mesh, world)
        if made is not mesh:
            worst = max(worst, float(np.abs(deformed_vertices(made, skeleton.rest, 0) - before).max(initial=0.0)))
    return worst


def matrices_of(rotations: Floats, translations: Floats) -> Floats:
    """Matrices ``(n, 4, 4)`` of turns ``(n, 4)`` and places ``(n, 3)``."""
    out = np.tile(np.eye(4), (len(rotations), 1, 1))
    out[:, :3, :3], out[:, :3, 3] = matrix_from_quaternion(rotations), translations
    return out


def _hold(mesh: Mesh, bones: int) -> Floats:
    """How much it matters to a mesh where each bone stood when it was bound."""
    bent = (mesh.weights > 0.0).sum(axis=1) > 1
    shared = np.bincount(mesh.joints[bent].ravel(), mesh.weights[bent].ravel(), bones)
    return np.asarray(shared + 1e-6 * weight_on_bones(mesh, bones))
