"""The neutral T-pose of a figure, computed from the directions of its bones.

In it the arms are level and straight, palms down, thumbs forward and down; the legs are straight and parallel; the
toes point ahead. Only what is a difference of *pose* is turned: arms, hands, fingers and legs by their direction, hands
also by their palm, feet by their heading alone, since a heel is not a pose. Hips, spine, shoulders, neck and head keep
how they rest: there another direction of a bone is another anatomy.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from fairswap.bones.roles import FINGERS, SIDES, RoleMap, next_roles, role_order, side_of
from fairswap.bones.toes import middle_of_toes
from fairswap.errors import ImpossibleError
from fairswap.model.arrays import Floats, Value
from fairswap.model.clip import Clip
from fairswap.model.rotation import (
    IDENTITY,
    angle_between,
    multiply,
    normalized,
    quaternion_between,
    quaternion_from_axis_angle,
    rotate,
)
from fairswap.model.skeleton import Skeleton
from fairswap.model.space import AHEAD, UP
from fairswap.model.tips import axis_onward
from fairswap.pose.base import BasePose
from fairswap.pose.hinges import believed_axis, hinged_limbs, hinges_at_rest, hinges_in_clip
from fairswap.pose.rest import can_stand

# Of the left hand; the right mirrors it.
THUMB_DIRECTION = np.array([0.64, -0.36, 0.68]) / np.linalg.norm([0.64, -0.36, 0.68])
_KEPT = {"root", "hips", "head", "jaw", "eye", "shoulder"}


@dataclass(frozen=True, eq=False)
class ReferencePose(Value):
    """A reference pose.

    Attributes
    ----------
    rotations : (bones, 4) array
        World rotations of all bones in the reference pose.
    hips : (3,) array
        Resting place of the hips in metres. Motion of the hips is counted from here.
    leg_m : float
        Length of the legs, hip to ankle along the bones, mean of both.
    corrections : mapping of role to degrees
        How far each role had to be turned, beyond what its parent was, from the rest pose.
    """

    rotations: Floats
    hips: Floats
    leg_m: float
    corrections: Mapping[str, float]

    def __post_init__(self) -> None:
        self.freeze("rotations", ("bones", 4))
        self.freeze("hips", (3,))

    def __repr__(self) -> str:
        return f"<ReferencePose of {len(self.rotations)} bones: {len(self.corrections)} roles turned>"


def is_finger(role: str) -> bool:
    """Whether a role is in a finger or the thumb."""
    return role.startswith((*FINGERS, "thumb"))


def turned_rotations(skeleton: Skeleton, roles: RoleMap, rotations: Floats, turns: Mapping[str, Floats]) -> Floats:
    """World rotations ``(bones, 4)`` of a reference pose with ``turns`` of joints, by role, added to it.

    A turn is about the common axes (left, up, ahead), seen from the parent in the T; what hangs on a joint goes along.
    """
    role_of = {bone: role for role, bone in roles.bones.items()}
    away = np.tile(IDENTITY, (len(skeleton), 1))
    for bone, parent in enumerate(skeleton.parents.tolist()):
        above = away[parent] if parent >= 0 else IDENTITY
        turn = turns.get(role_of.get(bone, ""))
        away[bone] = above if turn is None else multiply(above, turn)
    return multiply(away, rotations)


def neutral_direction(role: str) -> Floats | None:
    """Where a role's bone points in the neutral T; None for roles that keep how they rest.

    >>> neutral_direction("lower_arm_right").tolist()
    [-1.0, 0.0, 0.0]
    """
    side = side_of(role)
    base = role.removesuffix(f"_{side}")
    outward = np.array([1.0 if side == "left" else -1.0, 0.0, 0.0])
    if base in ("upper_arm", "lower_arm", "hand"):
        return outward
    if base in ("upper_leg", "lower_leg"):
        return -UP
    finger, _, part = base.partition("_")
    if finger == "thumb":
        return THUMB_DIRECTION * [outward[0], 1.0, 1.0]
    if finger in FINGERS and part != "metacarpal":
        return outward
    return None


def t_pose(
    skeleton: Skeleton,
    roles: RoleMap,
    what: str,
    base: BasePose | None = None,
    clip: Clip | None = None,
    fingers_rest: bool = False,
) -> ReferencePose:
    """Compute the neutral T of a figure from a pose that is upright and faces ahead.

    ``what`` names the figure, for errors; ``base`` is the pose, by default the rest pose; a ``clip`` of the skeleton
    shows about which axes limbs bend that are straight in the pose. With ``fingers_rest`` fingers count as alike as
    they rest, instead of straight.

    Raises
    ------
    ImpossibleError
        If a leg or an arm has no length, so that it points nowhere; if left and right are swapped.
    """
    pose = base.world if base else skeleton.rest
    rotations, positions = pose.rotation_tracks[:, :, 0], pose.position_tracks[:, :, 0]
    if can_stand(pose, roles):  # of one that kneels, toes may point backward
        _check_sides(positions, roles, what)
    at_rest = hinges_at_rest(pose, roles)
    in_clip = {} if clip is None else hinges_in_clip(clip, pose, roles)
    neutral_axes = {role: neutral for role, _, _, neutral in hinged_limbs()}
    role_of = {bone: role for role, bone in roles.bones.items()}
    turns = np.tile(IDENTITY, (len(skeleton), 1))
    corrections: dict[str, float] = {}
    for bone in range(len(skeleton)):
        parent = int(skeleton.parents[bone])
        inherited = turns[parent] if parent >= 0 else IDENTITY
        role = role_of.get(bone, "")
        direction = neutral_direction(role) if role else None
        if fingers_rest and is_finger(role):
            direction = None
        if role.startswith("foot_"):
            turns[bone] = _heading_turn(role, bone, skeleton, roles, positions)
            corrections[role] = float(np.degrees(angle_between(turns[bone], IDENTITY)))
        elif direction is not None:
            tip = tip_of_role(role, bone, skeleton, roles, rotations, positions, what)
            if tip is None:
                turns[bone] = inherited
                continue
            now = rotate(inherited, normalized(tip - positions[bone]))
            turns[bone] = multiply(quaternion_between(now, direction), inherited)
            if role.startswith("hand_"):
                turns[bone] = multiply(_palm_turn(role, turns[bone], roles, positions, direction), turns[bone])
            elif role in neutral_axes:
                neutral, unturned = neutral_axes[role], multiply(turns[bone], rotations[bone])
                axis = believed_axis(role, unturned, neutral, at_rest.get(role), in_clip.get(role))
                if axis is not None:
                    turns[bone] = multiply(_turn_about(direction, axis, neutral), turns[bone])
            corrections[role] = float(np.degrees(angle_between(turns[bone], inherited)))
        elif _keeps_rest(role):
            turns[bone] = IDENTITY
        else:
            turns[bone] = inherited
    return ReferencePose(
        rotations=multiply(turns, rotations),
        hips=base.hips if base else positions[roles.bones["hips"]],
        leg_m=leg_length(roles, positions),
        corrections={role: corrections[role] for role in sorted(corrections, key=role_order)},
    )


def _check_sides(positions: Floats, roles: RoleMap, what: str) -> None:
    """Left is at the left here; if the toes then point backward, it is called left wrongly, or was mirrored."""
    directions = []
    for side in SIDES:
        if f"toes_{side}" in roles.bones:
            way = positions[roles.bones[f"toes_{side}"]] - positions[roles.bones[f"foot_{side}"]]
            directions.append(way[2] / max(float(np.linalg.norm(way)), 1e-9))
    if len(directions) == 2 and max(directions) < -0.3:
        raise ImpossibleError(
            f"left and right of {what} are swapped, or it is mirrored: its toes point backward, when its left is left",
            code="sides-swapped",
        )


def _keeps_rest(role: str) -> bool:
    base = role.removesuffix(f"_{side_of(role)}")
    return base in _KEPT or base.startswith(("spine_", "neck_"))


def tip_of_role(
    role: str, bone: int, skeleton: Skeleton, roles: RoleMap, rotations: Floats, positions: Floats, what: str
) -> Floats | None:
    """Where the bone of a role ends: at the next role, else at its end marker; None if nothing says."""
    following = [roles.bones[later] for later in next_roles(role) if later in roles.bones]
    if not following:
        following = [child for child in skeleton.children[bone] if child in skeleton.tips]
    for other in following:
        if np.linalg.norm(positions[other] - positions[bone]) > 1e-6:
            return np.asarray(positions[other])
    if following and role.startswith(("upper_", "lower_")):
        raise ImpossibleError(
            f"the {role.replace('_', ' ')} of {what} has no length",
            place=f"bone {skeleton.names[bone]!r}",
            remedy="Check that the profile names the right bones",
        )
    onward = axis_onward(skeleton, bone) if is_finger(role) else None
    return None if onward is None else np.asarray(positions[bone] + 0.01 * rotate(rotations[bone], onward))


def _palm_turn(role: str, turn: Floats, roles: RoleMap, positions: Floats, along: Floats) -> Floats:
    """The turn about the hand's length that makes the palm look down: the knuckles lie front to back, index ahead."""
    side = side_of(role)
    knuckles = [f"{finger}_proximal_{side}" for finger in FINGERS if f"{finger}_proximal_{side}" in roles.bones]
    if len(knuckles) < 2:
        return IDENTITY
    across = rotate(turn, positions[roles.bones[knuckles[0]]] - positions[roles.bones[knuckles[-1]]])
    return _turn_about(along, across, AHEAD)


def _turn_about(along: Floats, now: Floats, wanted: Floats) -> Floats:
    """The turn about ``along`` that brings ``now`` as near to ``wanted`` (square to it) as it can be."""
    across = now - (now @ along) * along
    if np.linalg.norm(across) < 1e-6:
        return IDENTITY
    square = np.cross(across, wanted)
    return quaternion_from_axis_angle(along, np.arctan2(float(square @ along), float(across @ wanted)))


def _heading_turn(role: str, foot: int, skeleton: Skeleton, roles: RoleMap, positions: Floats) -> Floats:
    """The turn about the vertical that makes a foot point ahead; the sole stays as it rests."""
    toes = middle_of_toes(skeleton, roles, side_of(role), positions)
    if toes is None:
        return IDENTITY
    heading = toes - positions[foot]
    heading[1] = 0.0
    if np.linalg.norm(heading) < 1e-6:
        return IDENTITY
    return quaternion_between(heading, AHEAD)


def leg_length(roles: RoleMap, positions: Floats) -> float:
    """How long its legs are, from hip to ankle, the mean of both; ``positions`` are of all bones ``(bones, 3)``."""
    lengths = []
    for side in ("left", "right"):
        joints = [positions[roles.bones[f"{part}_{side}"]] for part in ("upper_leg", "lower_leg", "foot")]
        lengths.append(np.linalg.norm(np.diff(joints, axis=0), axis=1).sum())
    return float(np.mean(lengths))
