"""How differently bones have turned on two figures, and where they point."""

from __future__ import annotations

import numpy as np

from fairswap.bones.roles import FINGERS, RoleMap, next_roles
from fairswap.model.arrays import Floats
from fairswap.model.rotation import angle_between, conjugate, multiply, normalized, quaternion_between, rotate
from fairswap.model.skeleton import WorldTransforms
from fairswap.pose.pieces import CutLimb, cut_limbs
from fairswap.pose.rigged import RiggedFigure

Pair = tuple[RiggedFigure, RiggedFigure]
Worlds = tuple[WorldTransforms, WorldTransforms]


def by_turn(roles: list[tuple[str, str]], pair: Pair, worlds: Worlds) -> Floats:
    """Degrees ``(roles, frames)`` between how far each role's bone has turned from the reference pose on both.

    A limb cut in pieces, which may bend, has turned as what leads from its joint to the next: to where that points, and
    about it as its first piece.
    """
    turns = []
    for rigged, world in zip(pair, worlds, strict=True):
        bones = [rigged.roles.bones[last_of_chain(rigged.roles, role)] for role, _ in roles]
        turned = multiply(world.rotations[:, bones], conjugate(rigged.reference.rotations[bones]))
        cut = {limb.holder: limb for limb in cut_limbs(rigged)}
        for row, (bone, (_, onward)) in enumerate(zip(bones, roles, strict=True)):
            if onward and bone in cut and rigged.roles.bones[onward] == cut[bone].following:
                turned[:, row] = _as_one(cut[bone], turned[:, row], rigged, world)
        turns.append(turned)
    return np.degrees(angle_between(*turns)).T


def _as_one(limb: CutLimb, turned: Floats, rigged: RiggedFigure, world: WorldTransforms) -> Floats:
    """The turn ``(frames, 4)`` of a limb in pieces, brought to where its next joint is."""
    then, now = (
        places[:, limb.following] - places[:, limb.holder]
        for places in (rigged.reference_world.positions, world.positions)
    )
    return multiply(quaternion_between(rotate(turned, then[0]), now), turned)


def by_direction(roles: list[tuple[str, str]], pair: Pair, worlds: Worlds) -> Floats:
    """Degrees ``(roles, frames)`` between where limb bones point on both, from their joint to that of the next role.

    Of fingers that is each one's own next joint: one may have two where the other has three.
    """
    directions = []
    for rigged, world in zip(pair, worlds, strict=True):
        starts = [rigged.roles.bones[role] for role, _ in roles]
        ends = [rigged.roles.bones[_own_next(rigged.roles, role, onward)] for role, onward in roles]
        directions.append(normalized(world.positions[:, ends] - world.positions[:, starts]))
    return np.degrees(angle_between(*directions)).T


def _own_next(roles: RoleMap, role: str, onward: str) -> str:
    if not role.startswith(("thumb_", *FINGERS)):
        return onward
    return next(other for other in next_roles(role) if other in roles.bones)


def last_of_chain(roles: RoleMap, role: str) -> str:
    """The last of the chain that ``role`` is in; other roles are their own."""
    return roles.chain(role.partition("_")[0])[-1] if role.startswith(("spine_", "neck_")) else role
