"""Skin on bones above the hips: it goes with them.

Some rigs move the body by a bone above its hips, and part of the skin hangs on that. Motion is carried to the hips:
this bone would rest where it is, and hold its skin back.
"""

from __future__ import annotations

import numpy as np

from fairswap.bones.apart import skin_above_hips
from fairswap.model.chain_world import ChainWorld
from fairswap.model.rotation import conjugate, multiply, rotate
from fairswap.pose.rigged import RiggedFigure
from fairswap.retarget.root_motion import keep_hips


def take_skin_along(target: RiggedFigure, chain: ChainWorld, travels: int | None = None) -> list[int]:
    """Move the topmost bone above the hips that holds skin as if it were one with the hips, in place; those between it
    and them keep their rest. ``travels`` is a bone that takes the travel, and stays with that.

    Gives the bones that go along.
    """
    skeleton, hips = target.skeleton, target.roles.bones["hips"]
    path = skeleton.with_ancestors([hips])[:-1]
    free = path[path.index(travels) + 1 :] if travels in path else path
    held = skin_above_hips(target.figure, target.roles)
    first = next((at for at, bone in enumerate(free) if bone in held), None)
    if first is None:
        return []
    along = free[first:]
    position, rotation = chain.position(hips).copy(), chain.rotation(hips).copy()
    places, turns = skeleton.rest.positions[0], skeleton.rest.rotations[0]
    # As both stand at rest, seen from the hips.
    undo = conjugate(turns[hips])
    aside, turned = rotate(undo, places[along[0]] - places[hips]), multiply(undo, turns[along[0]])
    place = position + rotate(rotation, aside)
    parent = int(skeleton.parents[along[0]])
    if parent >= 0:
        place = rotate(conjugate(chain.rotation(parent)), place - chain.position(parent))
    chain.move(along[0], np.ascontiguousarray(place.T))
    chain.turn(along[0], multiply(rotation, turned))
    for bone in along[1:]:
        chain.move(bone, np.repeat(skeleton.rest_translations[bone][:, None], chain.frames, axis=1))
        chain.turn_local(bone, np.tile(skeleton.rest_rotations[bone], (chain.frames, 1)))
    keep_hips(hips, position, rotation, chain)
    return along
