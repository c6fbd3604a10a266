"""Where bones end that no other bone goes on from: the skin tells."""

from __future__ import annotations

import numpy as np

from fairswap.model.arrays import Floats
from fairswap.model.figure import Figure
from fairswap.model.skeleton import WorldTransforms

# A limb that hangs this straight ends at its sole, not at the tip of a shoe.
_HANGS = np.cos(np.radians(35.0))
# Skin whose middle is nearer to the joint than this, in heights, says nothing.
_LEAST = 0.01


def skin_of_bones(figure: Figure, stood: WorldTransforms | None = None) -> dict[int, Floats]:
    """For each bone that holds any skin, the vertices ``(n, 3)`` that it holds more than others do, as they rest or as
    they are in the pose ``stood``, of one frame."""
    found: dict[int, list[Floats]] = {}
    skins = figure.rest_vertices if stood is None else figure.skin(stood)
    for mesh, vertices in zip(figure.meshes, skins, strict=True):
        owner = mesh.main_bones
        for bone in np.unique(owner).tolist():
            found.setdefault(bone, []).append(vertices[owner == bone])
    return {bone: np.concatenate(rows) for bone, rows in found.items()}


def tip_of(skin: Floats, joint: Floats, height_m: float) -> Floats | None:
    """Where the skin of a bone ends, seen from its joint; None if it lies all around."""
    way = 0.5 * (skin.min(axis=0) + skin.max(axis=0)) - joint
    length = float(np.linalg.norm(way))
    if length < _LEAST * height_m:
        return None
    way /= length
    if -way[1] > _HANGS:
        way = np.array([0.0, -1.0, 0.0])
    return np.asarray(joint + float(((skin - joint) @ way).max()) * way)
