"""What pose a figure rests in: a T, an A, arms down; and whether anybody can stand like that."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fairswap.bones.roles import SIDES, RoleMap
from fairswap.model.arrays import Floats
from fairswap.model.figure import Figure
from fairswap.model.rotation import angle_between, normalized
from fairswap.model.skeleton import WorldTransforms
from fairswap.model.space import UP

# Below level, in degrees: up to where arms count as level, and from where as hanging.
_LEVEL_DEGREES, _HANGING_DEGREES = 15.0, 62.0
# Who stands leans no more than this, nor do legs slant or knees bend more.
STANDING_DEGREES = np.array([20.0, 25.0, 35.0, 25.0, 35.0])
# With knees bent more than this a figure crouches, kneels or sits.
_CROUCHES_DEGREES = 75.0


@dataclass(frozen=True)
class RestPose:
    """What pose a figure rests in: ``T``, ``A``, ``arms down``, ``arms up``, ``uneven``, or ``mid-motion`` where its
    trunk leans or its legs are bent or step; and how far below level the upper arms point, degrees."""

    kind: str
    arm_degrees: float

    @property
    def stands_even(self) -> bool:
        """Whether it stands straight with both arms alike."""
        return self.kind not in ("uneven", "mid-motion")


def rest_pose_of(figure: Figure, roles: RoleMap) -> RestPose:
    """By how it stands, and how far below level the upper arms point."""
    places = figure.skeleton.rest.positions[0]
    angles = []
    for side in ("left", "right"):
        arm = places[roles.bones[f"lower_arm_{side}"]] - places[roles.bones[f"upper_arm_{side}"]]
        length = float(np.linalg.norm(arm))
        angles.append(float(np.degrees(np.arcsin(np.clip(-arm[1] / length, -1.0, 1.0)))) if length else 0.0)
    degrees = float(np.mean(angles))
    if (stance_of(places, roles) > STANDING_DEGREES).any():
        kind = "mid-motion"
    elif abs(angles[0] - angles[1]) > 20.0:
        kind = "uneven"
    elif abs(degrees) <= _LEVEL_DEGREES:
        kind = "T"
    elif degrees < 0:
        kind = "arms up"
    else:
        kind = "A" if degrees < _HANGING_DEGREES else "arms down"
    return RestPose(kind, round(degrees, 1))


def stance_of(places: Floats, roles: RoleMap) -> Floats:
    """How far a pose is from standing straight, degrees: the lean of the trunk, and for each leg its slant and the bend
    of its knee ``(5,)``; of places ``(frames, bones, 3)`` in each frame, ``(5, frames)``."""
    at = {role: places[..., bone, :] for role, bone in roles.bones.items()}
    out = [angle_between(normalized(at["head"] - at["hips"]), UP)]
    for side in SIDES:
        thigh, whole = (at[f"{part}_{side}"] - at[f"upper_leg_{side}"] for part in ("lower_leg", "foot"))
        out += [angle_between(normalized(whole), -UP), angle_between(normalized(thigh), normalized(whole - thigh))]
    return np.degrees(out)


def can_stand(world: WorldTransforms, roles: RoleMap, frame: int = 0) -> bool:
    """Whether a person can stand in a pose: head above hips above feet, legs mostly down and not bent square, feet near
    one height."""
    place = world.position_tracks[:, :, frame]
    head, hips = place[roles.bones["head"]], place[roles.bones["hips"]]
    feet = [place[roles.bones[f"foot_{side}"]] for side in SIDES]
    legs = [foot - place[roles.bones[f"upper_leg_{side}"]] for foot, side in zip(feet, SIDES, strict=True)]
    length = max(float(np.linalg.norm(leg)) for leg in legs)
    if length <= 0 or not head[1] > hips[1] > max(foot[1] for foot in feet):
        return False
    down = all(-leg[1] > 0.6 * np.linalg.norm(leg) for leg in legs)
    knees = [place[roles.bones[f"lower_leg_{side}"]] - place[roles.bones[f"upper_leg_{side}"]] for side in SIDES]
    bent = [angle_between(normalized(a), normalized(b - a)) for a, b in zip(knees, legs, strict=True)]
    down = down and float(np.degrees(np.max(bent))) < _CROUCHES_DEGREES
    apart = float(np.linalg.norm((feet[0] - feet[1])[[0, 2]]))
    return bool(down and abs(feet[0][1] - feet[1][1]) < 0.15 * length and apart > 1e-4 * length)
