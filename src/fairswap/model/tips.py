"""Where bones end that no other bone goes on from: the skin tells."""

from __future__ import annotations

import numpy as np

from fairswap.model.arrays import Floats
from fairswap.model.figure import Figure
from fairswap.model.rotation import normalized
from fairswap.model.skeleton import Skeleton, WorldTransforms

# A limb that hangs this straight ends at its sole, not at the tip of a shoe.
_HANGS = np.cos(np.radians(35.0))
# Skin whose middle is nearer to the joint than this, in heights, says nothing.
_LEAST = 0.01
# Bones of a chain whose axes are this near to each other lie along one axis.
_ONE_AXIS_DEGREES, _AXIS_DEGREES = 12.0, 2.0


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


def axis_onward(skeleton: Skeleton, bone: int) -> Floats | None:
    """Where a last bone points in its own frame: as the bone before it, if the chain keeps to one axis; else None.

    The bone before must lie along that of the one before it, or along an axis of its own frame.
    """
    parent = int(skeleton.parents[bone])
    above = int(skeleton.parents[parent]) if parent >= 0 else -1
    if above < 0:
        return None
    places = [skeleton.rest_translations[child] for child in (parent, bone)]
    if min(np.linalg.norm(place) for place in places) < 1e-6:
        return None
    expected, found = normalized(places[0]), normalized(places[1])
    alike = float(expected @ found) > np.cos(np.radians(_ONE_AXIS_DEGREES))
    along_axis = float(np.abs(found).max()) > np.cos(np.radians(_AXIS_DEGREES))
    return np.asarray(found) if alike or along_axis else None
