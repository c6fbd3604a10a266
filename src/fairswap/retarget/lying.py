"""Bodies that lie: a head that is too large for it would be in the floor, so the trunk rises to lay it down."""

from __future__ import annotations

import numpy as np

from fairswap.measure.contacts import Floor
from fairswap.model.arrays import Floats
from fairswap.model.chain_world import ChainWorld
from fairswap.model.rotation import multiply, quaternion_from_axis_angle
from fairswap.model.signals import eased, smoothed
from fairswap.model.space import UP
from fairswap.pose.rigged import RiggedFigure

# In leg lengths over the floor: where a head begins to lie, and where it does so wholly.
_FAR, _NEAR = 0.5, 0.25
# By how much a trunk is raised at most, how long that takes, and the cosine to the floor from which on it lies.
_MOST_DEGREES, _SMOOTH_S, _UPRIGHT = 25.0, 0.08, 0.5


def lay_head_down(
    source: RiggedFigure, target: RiggedFigure, source_chain: ChainWorld, chain: ChainWorld, rate: float, floor: Floor
) -> Floats:
    """Raise the trunk where the head lies on the floor it stands on and would be deeper in it than theirs, for the
    longer legs; give by how much, degrees ``(frames,)``."""
    spine, none = target.roles.chain("spine"), np.zeros(chain.frames)
    if not spine:
        return none
    pivot, head = target.roles.bones[spine[0]], target.roles.bones["head"]
    theirs = source_chain.position(source.roles.bones["head"])
    height = theirs[:, 1] - floor.height(theirs)
    lies = eased((_FAR - height / source.reference.leg_m) / (_FAR - _NEAR))
    if lies.max() <= 0.0:
        return none
    away = chain.position(head) - chain.position(pivot)
    length = np.maximum(np.linalg.norm(away, axis=1), 1e-9)
    level = np.hypot(away[:, 0], away[:, 2])
    wanted = target.floor_m + target.reference.leg_m / source.reference.leg_m * height
    rise = np.maximum(wanted - chain.position(head)[:, 1], 0.0)
    angle = np.arcsin(np.clip((away[:, 1] + rise) / length, -1.0, 1.0)) - np.arctan2(away[:, 1], level)
    angle *= lies * eased((level / length - _UPRIGHT) / (1.0 - _UPRIGHT))
    angle = smoothed(np.minimum(angle, np.radians(_MOST_DEGREES)), _SMOOTH_S * rate)
    if angle.max() <= 0.0:
        return none
    axis = np.cross(away, UP)
    axis /= np.maximum(np.linalg.norm(axis, axis=1), 1e-9)[:, None]
    chain.turn(pivot, multiply(quaternion_from_axis_angle(axis, angle), chain.rotation(pivot)))
    return np.degrees(angle)
