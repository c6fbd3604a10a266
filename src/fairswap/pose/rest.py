"""What pose a figure rests in: a T, an A, arms down."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fairswap.bones.roles import RoleMap
from fairswap.model.figure import Figure

# Below level, in degrees: up to where arms count as level, and from where as hanging.
_LEVEL_DEGREES, _HANGING_DEGREES = 15.0, 62.0


@dataclass(frozen=True)
class RestPose:
    """What pose a figure rests in: ``T``, ``A``, ``arms down``, ``arms up`` or ``uneven``; and how far below level the
    upper arms point, degrees."""

    kind: str
    arm_degrees: float


def rest_pose_of(figure: Figure, roles: RoleMap) -> RestPose:
    """By how far below level the upper arms point."""
    places = figure.skeleton.rest.positions[0]
    angles = []
    for side in ("left", "right"):
        arm = places[roles.bones[f"lower_arm_{side}"]] - places[roles.bones[f"upper_arm_{side}"]]
        length = float(np.linalg.norm(arm))
        angles.append(float(np.degrees(np.arcsin(np.clip(-arm[1] / length, -1.0, 1.0)))) if length else 0.0)
    degrees = float(np.mean(angles))
    if abs(angles[0] - angles[1]) > 20.0:
        kind = "uneven"
    elif abs(degrees) <= _LEVEL_DEGREES:
        kind = "T"
    elif degrees < 0:
        kind = "arms up"
    else:
        kind = "A" if degrees < _HANGING_DEGREES else "arms down"
    return RestPose(kind, round(degrees, 1))
