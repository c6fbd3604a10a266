"""A face that does nothing is as its skin was bound: a file that was saved in mid motion may rest otherwise."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from fairswap.bones.roles import SIDES, RoleMap
from fairswap.face.bones import face_bones
from fairswap.face.geometry import head_frame
from fairswap.model.arrays import Floats
from fairswap.model.figure import Figure
from fairswap.model.poses import Poses
from fairswap.model.rotation import (
    IDENTITY,
    angle_between,
    conjugate,
    multiply,
    normalized,
    quaternion_from_matrix,
    rotate,
)
from fairswap.model.skeleton import WorldTransforms, local_rotations
from fairswap.model.skinning import binding, bound_as_it_rests

# A body leans by so much of itself, degrees; and who was bound looking aside by less is not turned.
_ASIDE_DEGREES = 12.0


def at_ease(figure: Figure, roles: RoleMap | None) -> Figure:
    """A figure that rests as its meshes were bound, its head upright and looking ahead, its face at ease; itself if
    those rest so, or if it is not known how it was bound."""
    skeleton, bound = figure.skeleton, binding(figure)
    head = None if roles is None else roles.bones.get("head")
    if roles is None or head is None or bound is None:
        return figure
    ahead = _turn_ahead(bound, roles)
    if ahead is None and bound_as_it_rests(figure, [head, *skeleton.below(head).tolist()]):
        return figure
    turns, places, below = bound.rotations[0], bound.positions[0], skeleton.parents >= 0
    if ahead is not None:
        turns, places = multiply(ahead, turns), rotate(ahead, places)
    above = skeleton.parents[below]
    translations = places.copy()
    translations[below] = rotate(conjugate(turns[above]), places[below] - places[above])
    rested = replace(skeleton, rest_rotations=local_rotations(skeleton, turns), rest_translations=translations)
    return replace(figure, skeleton=rested)


def _turn_ahead(world: WorldTransforms, roles: RoleMap) -> Floats | None:
    """The turn that makes a body which stands in a pose of one frame upright and look ahead; None if it does."""
    bones, places = roles.bones, world.positions[0]
    sides = [places[bones[f"{part}_{side}"]] for side in SIDES for part in ("upper_arm", "upper_leg")]
    left = normalized(sides[0] + sides[1] - sides[2] - sides[3])
    up = places[bones["head"]] - 0.5 * (sides[1] + sides[3])
    up = normalized(up - (up @ left) * left)
    turn = conjugate(quaternion_from_matrix(np.column_stack([left, up, np.cross(left, up)])))
    return turn if np.degrees(angle_between(turn, IDENTITY)) > _ASIDE_DEGREES else None


def seen_on(figure: Figure, poses: Poses) -> Poses:
    """Poses of a figure that may rest otherwise, as those of ``figure``, which rests as it was bound."""
    return poses if poses.skeleton == figure.skeleton else replace(poses, skeleton=figure.skeleton)


def bones_of_face(figure: Figure, roles: RoleMap) -> dict[str, int]:
    """The bones of a face by name; see :func:`fairswap.face.bones.face_bones`."""
    neutral = at_ease(figure, roles)
    return face_bones(neutral.skeleton, roles, head_frame(neutral, roles))
