"""Palms: the middle of each hand, by which touches are told."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fairswap.bones.roles import SIDES
from fairswap.model.arrays import Floats
from fairswap.model.chain_world import ChainWorld
from fairswap.model.rotation import angle_between, conjugate, rotate
from fairswap.pose.rigged import RiggedFigure

# A hand that turns less than this against its forearm does not.
_TURNS_DEGREES = 0.5


@dataclass(frozen=True, eq=False)
class Palm:
    """The middle of a palm in the frame of its hand ``(3,)``; the hand's length in metres."""

    bone: int
    place: Floats
    length: float

    def track(self, chain: ChainWorld) -> Floats:
        """World positions ``(frames, 3)``."""
        return rotate(chain.rotation(self.bone), self.place) + chain.position(self.bone)


def palms_of(rigged: RiggedFigure) -> dict[str, Palm]:
    """The palms ``left`` and ``right``, from wrist and knuckles in the T, where palms look down."""
    world, bones = rigged.reference_world, rigged.roles.bones
    found = {}
    for side in SIDES:
        hand = bones[f"hand_{side}"]
        wrist, elbow = world.positions[0, hand], world.positions[0, bones[f"lower_arm_{side}"]]
        knuckle = next(
            (bones[f"{f}_proximal_{side}"] for f in ("middle", "ring", "index") if f"{f}_proximal_{side}" in bones),
            None,
        )
        reach = 0.38 * (wrist - elbow) if knuckle is None else world.positions[0, knuckle] - wrist
        length = 2.0 * float(np.linalg.norm(reach))
        place = 0.75 * reach + [0.0, -0.09 * length, 0.0]
        found[side] = Palm(hand, rotate(conjugate(rigged.reference.rotations[hand]), place), length)
    return found


def bare_hands(rigged: RiggedFigure, chain: ChainWorld) -> list[str]:
    """The sides whose hand has no fingers and never turns against its forearm: it does not show how it is held."""
    found = []
    for side in SIDES:
        hand, *fingers = rigged.roles.hand(side)
        turns = chain.local(rigged.roles.bones[hand])
        if not fingers and np.degrees(angle_between(turns, turns[:1])).max() < _TURNS_DEGREES:
            found.append(side)
    return found


def palm_is_low(rigged: RiggedFigure, side: str, chain: ChainWorld) -> np.ndarray:
    """In which frames a palm is less than a hand over the floor, where fingers reach it."""
    palm = palms_of(rigged)[side]
    return np.asarray(palm.track(chain)[:, 1] - rigged.floor_m < palm.length)
