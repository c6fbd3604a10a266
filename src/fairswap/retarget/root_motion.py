"""Where ground travel is kept: on the hips, on a root bone, or nowhere.

Root: the ground track of the hips, smoothed, goes to the root; what is left stays on the hips, so that the sum is the
motion. None: the drift is taken out, so that a cycle stays on the spot, and its sway is kept.
"""

from __future__ import annotations

import numpy as np

from fairswap.model.arrays import Floats
from fairswap.model.chain_world import ChainWorld
from fairswap.model.rotation import conjugate, multiply, quaternion_from_axis_angle, rotate
from fairswap.model.signals import smoothed
from fairswap.model.space import AHEAD, UP
from fairswap.pose.rigged import RiggedFigure

# The sway of a step is not travel: smoothed over about a step, in seconds.
_STEP_S = 0.25
# Hips that keep this near to a straight way, in leg lengths, walk straight.
_STRAIGHT = 0.2


def move_travel_to_root(target: RiggedFigure, root: int, rate: float, chain: ChainWorld, turns: bool) -> None:
    """Move the ground track of the hips (with ``turns`` their heading, too) to the bone ``root``, in place."""
    hips = target.roles.bones["hips"]
    position, rotation = chain.position(hips).copy(), chain.rotation(hips).copy()
    track = position - target.reference.hips
    track[:, 1] = 0.0
    # The ends are exact: a clip begins and ends with its root below its hips.
    way = smoothed(track, _STEP_S * rate)
    ramp = np.linspace(0.0, 1.0, len(way))[:, None] if len(way) > 1 else np.zeros((1, 1))
    way = way + (track[0] - way[0]) * (1.0 - ramp) + (track[-1] - way[-1]) * ramp
    heading = np.zeros(len(way))
    if turns:
        ahead = rotate(multiply(rotation, conjugate(target.reference.rotations[hips])), AHEAD)
        heading = smoothed(np.unwrap(np.arctan2(ahead[:, 0], ahead[:, 2]))[:, None], _STEP_S * rate)[:, 0]
    turn = quaternion_from_axis_angle(UP, heading)
    resting = target.resting_world
    rest_place, rest_turn = resting.positions[0, root], resting.rotations[0, root]
    # The root stands below the hips: where it rests, turned about there, then along the way.
    world_place = way + target.reference.hips * [1, 0, 1]
    world_place = world_place + rotate(turn, rest_place - target.reference.hips * [1, 0, 1])
    parent = int(chain.skeleton.parents[root])
    if parent >= 0:
        world_place = rotate(conjugate(resting.rotations[0, parent]), world_place - resting.positions[0, parent])
    chain.move(root, np.ascontiguousarray(world_place.T))
    chain.turn(root, multiply(turn, rest_turn))
    keep_hips(hips, position, rotation, chain)


def take_travel_out(target: RiggedFigure, rate: float, chain: ChainWorld) -> Floats:
    """Take the drift of the hips over the ground out, in place; give what was taken, ``(frames, 3)`` metres.

    The drift is the straight way from start to end where the hips keep near it, as in a walk; else their way smoothed
    over more than a step. Sway and bob stay.
    """
    hips = target.roles.bones["hips"]
    position = chain.position(hips).copy()
    level = position * [1, 0, 1]
    if len(level) < 3:
        return np.zeros_like(level)
    way = np.linspace(level[0], level[-1], len(level))
    if np.linalg.norm(level - way, axis=1).max() > _STRAIGHT * target.reference.leg_m:
        way = smoothed(level, 1.6 * _STEP_S * rate)
    drift = way - target.reference.hips * [1, 0, 1]
    parent = int(chain.skeleton.parents[hips])
    moved = drift if parent < 0 else rotate(conjugate(chain.rotation(parent)), drift)
    chain.move(hips, chain.translations[hips] - moved.T)
    return np.asarray(drift)


def keep_hips(hips: int, position: Floats, rotation: Floats, chain: ChainWorld) -> None:
    """Leave the hips where they were in the world, below a root that has moved."""
    parent = int(chain.skeleton.parents[hips])
    above = chain.rotation(parent)
    chain.move(hips, np.ascontiguousarray(rotate(conjugate(above), position - chain.position(parent)).T))
    chain.turn(hips, rotation)
