"""What bones do that a body of few parts does not have, put on the parts that it has.

A trunk of one block leans as hips and spine did together; an arm or a leg of one piece points from its joint to where
hand or foot was; then the whole body is moved so that what stands is on the floor and slides as little as can be. What
stands in for the bones that lack is straight afterwards: the motion is what the file will show.
"""

from __future__ import annotations

import numpy as np

from fairswap.bones.roles import SIDES, RoleMap
from fairswap.measure.contacts import Contacts
from fairswap.measure.soles import Sole, soles_of
from fairswap.model.arrays import Floats
from fairswap.model.banded import solve_blocks
from fairswap.model.chain_world import ChainWorld
from fairswap.model.rotation import conjugate, multiply, quaternion_between, rotate
from fairswap.model.signals import nearness
from fairswap.model.stand_ins import stiff_bones
from fairswap.pose.rigged import RiggedFigure
from fairswap.retarget.bearing import move_hips

# How much the middle joint counts beside the end: of a limb bent double the end alone says little of where it points.
_MIDDLE = 0.1
# Within how much of the leg's length of the lowest point of a sole others bear the body as well; and how softly it
# rolls over its edges.
_SOLE, _SOFT = 0.01, 0.002
# How soon a body that steps longer or shorter is back on its way; how long it takes to go down to the floor; and how
# little sliding counts while no foot stands.
_KEEPS_TO_PATH_S, _SHIFT_S, _IN_THE_AIR = 0.5, 0.1, 0.02
_LIMBS = (("upper_arm", "lower_arm", "hand"), ("upper_leg", "lower_leg", "foot"))


def put_on_parts(
    source: RiggedFigure, target: RiggedFigure, source_chain: ChainWorld, chain: ChainWorld, contacts: Contacts,
    rate: float,
) -> bool:  # fmt: skip
    """Change the motion of ``chain`` in place, and say so; nothing is done to a figure without stand-ins.

    ``contacts`` say when the source's feet stand.
    """
    stand_ins, bones = stiff_bones(target.figure), target.roles.bones
    if not stand_ins:
        return False
    limbs = [tuple(bones[f"{part}_{side}"] for part in limb) for limb in _LIMBS for side in SIDES]
    ways = {limb: _way_of(limb, chain) for limb in limbs}
    turns = {limb[0]: chain.rotation(limb[0]) for limb in limbs}
    head = chain.rotation(bones["head"])
    soles = soles_of(target)
    meant = _lowest(soles, chain)
    if bones["hips"] in stand_ins:
        _lean_trunk(source, target, source_chain, chain)
        chain.turn(bones["head"], head)
        for upper, turn in turns.items():
            chain.turn(upper, turn)
    for limb in limbs:
        if limb[1] in stand_ins:
            straight = rotate(chain.rotation(limb[0]), _rest_way(limb, chain))
            chain.turn(limb[0], multiply(quaternion_between(straight, ways[limb]), chain.rotation(limb[0])))
    for bone in sorted(stand_ins - {bones["hips"]}):
        rest = chain.skeleton.rest_rotations[bone]
        chain.turn_local(bone, np.broadcast_to(rest, (chain.frames, 4)))
    move_hips(bones["hips"], _stand(target, soles, meant, contacts, rate, chain), chain)
    return True


def _way_of(limb: tuple[int, ...], chain: ChainWorld) -> Floats:
    """Where a limb points as a whole, ``(frames, 3)``."""
    start, middle, end = (chain.position(bone) for bone in limb)
    return np.asarray(end - start + _MIDDLE * (middle - start))


def _rest_way(limb: tuple[int, ...], chain: ChainWorld) -> Floats:
    """The same of the straight limb, in the frame of its first bone, ``(3,)``."""
    rest = chain.skeleton.rest_translations
    middle = rest[limb[1]]
    end = middle + rotate(chain.skeleton.rest_rotations[limb[1]], rest[limb[2]])
    return np.asarray(end + _MIDDLE * middle)


def _lean_trunk(source: RiggedFigure, target: RiggedFigure, source_chain: ChainWorld, chain: ChainWorld) -> None:
    """Turn hips and trunk, which are one block, so that its shoulders lean over the hips as far as the source's do."""
    bones, skeleton = target.roles.bones, chain.skeleton
    hips, trunk = bones["hips"], bones["spine_1"]
    leant = quaternion_between(_upright(source), _line(source.roles, source_chain))
    wanted = rotate(leant, _upright(target))
    rest = skeleton.rest
    shoulders = [bones[f"upper_arm_{side}"] for side in SIDES]
    resting = rest.positions[0, shoulders].mean(axis=0) - rest.positions[0, hips]
    turn = chain.rotation(trunk)
    now = rotate(multiply(turn, conjugate(rest.rotations[0, trunk])), resting)
    turn = multiply(quaternion_between(now, wanted), turn)
    own = skeleton.rest_rotations[trunk]
    chain.turn(hips, multiply(turn, conjugate(own)))
    chain.turn_local(trunk, np.broadcast_to(own, (chain.frames, 4)))


def _line(roles: RoleMap, chain: ChainWorld) -> Floats:
    """From the hips to between the shoulders, ``(frames, 3)``."""
    shoulders = [chain.position(roles.bones[f"upper_arm_{side}"]) for side in SIDES]
    return np.asarray(np.mean(shoulders, axis=0) - chain.position(roles.bones["hips"]))


def _upright(rigged: RiggedFigure) -> Floats:
    """The same in the reference pose, ``(3,)``."""
    places, bones = rigged.reference_world.positions[0], rigged.roles.bones
    return np.asarray(places[[bones[f"upper_arm_{side}"] for side in SIDES]].mean(axis=0) - places[bones["hips"]])


def _lowest(soles: dict[str, Sole], chain: ChainWorld) -> Floats:
    """The height of the lower of heel and ball of both feet, ``(frames,)``."""
    heights = [arm[:, 1] + chain.position(sole.foot)[:, 1]
               for sole in soles.values() for arm in sole.rolls_off(chain.rotation(sole.foot)).values()]  # fmt: skip
    return np.min(heights, axis=0)


def _stand(
    target: RiggedFigure, soles: dict[str, Sole], meant: Floats, contacts: Contacts, rate: float, chain: ChainWorld
) -> Floats:
    """How the body moves so that its lower sole is as high as was ``meant`` (on the floor while a foot stands) and what
    stands slides as little as the way of the hips allows, ``(frames, 3)``: least squares."""
    points = {side: sole.track_in(chain) for side, sole in soles.items()}
    standing = {side: contacts.standing(side) for side in soles}
    some = np.any(list(standing.values()), axis=0)
    near, soft = nearness(some, _SHIFT_S * rate), _SOFT * target.reference.leg_m
    lowest = np.concatenate([track[:, :, 1] for track in points.values()])
    lowest = lowest.min(axis=0) - soft * np.log(np.exp((lowest.min(axis=0) - lowest) / soft).mean(axis=0))
    moved = np.zeros((chain.frames, 3))
    moved[:, 1] = near * target.floor_m + (1.0 - near) * np.maximum(meant, target.floor_m) - lowest
    if chain.frames == 1:
        return moved
    diagonal = np.full(chain.frames, 1.0 / (_KEEPS_TO_PATH_S * rate) ** 2)
    firm, pull = np.zeros(chain.frames - 1), np.zeros((chain.frames, 2))
    for side, track in points.items():
        bears = np.exp((track[:, :, 1].min(axis=0) - track[:, :, 1]) / (_SOLE * target.reference.leg_m))
        slides = np.einsum("pf,pfi->fi", (bears / bears.sum(axis=0))[:, :-1], np.diff(track, axis=1))[:, [0, 2]]
        weight = np.where(standing[side][:-1] & standing[side][1:], 1.0, _IN_THE_AIR)
        firm += weight
        pull[:-1] += weight[:, None] * slides
        pull[1:] -= weight[:, None] * slides
    diagonal[:-1] += firm
    diagonal[1:] += firm
    below = np.concatenate([[0.0], -firm])
    moved[:, [0, 2]] = solve_blocks(diagonal[:, None, None], below[:, None, None], pull[:, None, :])[:, 0]
    return moved


def lacks_feet(target: RiggedFigure) -> bool:
    """Whether its legs end without feet of their own, so that they roll on their ends instead of standing."""
    lacking = stiff_bones(target.figure)
    return any(target.roles.bones[f"foot_{side}"] in lacking for side in SIDES)
