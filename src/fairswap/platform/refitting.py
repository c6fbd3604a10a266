"""Vertices fitted anew where bones rest otherwise, so that the moving skin is what it was.

Skin that is bound to another rest pose bends a little differently. By its weights a vertex goes to every pose by a
matrix; where it has to lie so that it comes nearest to where it was, over all poses, is a least squares problem of
three numbers. What two bones make of it is summed over the poses beforehand (see
:mod:`fairswap.platform.influences`), so that the number of poses costs nothing.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.mesh import Mesh
from fairswap.model.poses import Poses
from fairswap.model.signals import frames_across
from fairswap.platform.influences import pair_moments

# How much the shape at rest counts against the motion; and how many frames of a clip are looked at.
_REST, _FRAMES = 0.002, 120
_AT_ONCE = 20_000

Motion = tuple[Figure, Sequence[Clip]]


def refitted(before: Motion, after: Motion) -> Figure:
    """The second figure with vertices that move in its clips as nearly as they can like those of the first in its own.

    The two have the same meshes, vertex by vertex, and the same clips; morphs stay as they are.
    """
    pairs = [_sampled(old, new) for old, new in zip(before[1], after[1], strict=True)]
    meshes = [
        _fitted(mesh, other, pairs) if mesh.vertices.shape == other.vertices.shape else other
        for mesh, other in zip(before[0].meshes, after[0].meshes, strict=True)
    ]
    return replace(after[0], meshes=tuple(meshes))


def _sampled(old: Clip, new: Clip) -> tuple[Poses, Poses]:
    frames = frames_across(old.frames, _FRAMES)
    return old.poses.picked(frames), new.poses.picked(frames)


def _fitted(mesh: Mesh, other: Mesh, pairs: Sequence[tuple[Poses, Poses]]) -> Mesh:
    worlds = [(old.world(), new.world()) for old, new in pairs]
    own = np.mean([pair_moments((other, new), (other, new)) for _, new in worlds], axis=0)
    across = np.mean([pair_moments((other, new), (mesh, old)) for old, new in worlds], axis=0)
    vertices = other.vertices.copy()
    count = len(vertices)
    for rows in np.array_split(np.arange(count), count // _AT_ONCE + 1):
        goal = np.concatenate([mesh.vertices[rows], np.ones((len(rows), 1))], axis=1)
        form = _blended(own, other, other, rows)
        right = np.einsum("nij,nj->ni", _blended(across, other, mesh, rows), goal)[:, :3] - form[:, :3, 3]
        right += _REST * vertices[rows]
        square = form[:, :3, :3] + _REST * np.eye(3)
        vertices[rows] = np.linalg.solve(square, right[:, :, None])[:, :, 0]
    return replace(other, vertices=vertices)


def _blended(moments: Floats, first: Mesh, second: Mesh, rows: np.ndarray) -> Floats:
    """What the bones of each vertex make together, ``(n, 4, 4)``: by the weights of the one mesh and of the other."""
    out = np.zeros((len(rows), 4, 4))
    for a in range(first.joints.shape[1]):
        for b in range(second.joints.shape[1]):
            weight = first.weights[rows, a] * second.weights[rows, b]
            out += weight[:, None, None] * moments[first.joints[rows, a], second.joints[rows, b]]
    return out
