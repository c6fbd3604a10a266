"""When hands touch: each other, the own body, or the floor, told by the middle of the palm.

A touch begins where the palm is near and hardly moves against what it touches, and lasts while it is not too far or too
fast (hysteresis).
"""

from __future__ import annotations

import numpy as np

from fairswap.bones.roles import SIDES
from fairswap.measure.contacts import Floor
from fairswap.measure.palms import Palm, palms_of
from fairswap.measure.surface import BodyPart, touchable_by
from fairswap.model.arrays import Floats
from fairswap.model.chain_world import ChainWorld
from fairswap.model.rotation import conjugate, normalized, rotate
from fairswap.model.signals import smoothed, with_hysteresis, without_short
from fairswap.pose.rigged import RiggedFigure

# In hand lengths: how near palms and objects must come, and how near they must stay.
_MEET, _STAY = 0.30, 0.50
# In leg lengths and leg lengths per second: hands on the body.
_TOUCH, _REST_ON, _TOUCH_SPEED, _REST_SPEED = 0.025, 0.05, 0.10, 0.22
# In hand lengths and leg lengths per second: hands on the floor.
_ON_FLOOR, _OVER_FLOOR, _FLOOR_SPEED, _FLOOR_REST_SPEED = 0.45, 0.6, 0.12, 0.25
_SHORTEST_S, _BODY_SHORTEST_S, _SMOOTH_S = 0.03, 0.15, 0.03

# Where arms hang; how straight an arm that hangs is, and the cosine of how far from plumb it and the trunk are.
_AT_THE_SIDES, _STRAIGHT, _PLUMB = ("pelvis", "thigh"), 0.93, 0.88

Coordinates = tuple[Floats, Floats, Floats]
"""A place by a part of the body: height, direction and distance, each ``(frames,)``."""


def meeting(apart: Floats, palm: Palm, rate: float) -> np.ndarray:
    """In which frames what is ``apart`` ``(frames, 3)`` from a palm is met by it."""
    near = np.linalg.norm(apart, axis=1) / palm.length
    return _lasting(near < _MEET, near < _STAY, _SHORTEST_S, rate)


def on_floor(track: Floats, height_m: Floats, palm: Palm, rigged: RiggedFigure, rate: float) -> np.ndarray:
    """In which frames a palm, by its world ``track`` ``(frames, 3)`` and its height over the floor, rests on that."""
    height = height_m / palm.length
    speed = _speed(track, rate) / rigged.reference.leg_m
    sure, still = (height < _ON_FLOOR) & (speed < _FLOOR_SPEED), (height < _OVER_FLOOR) & (speed < _FLOOR_REST_SPEED)
    return _lasting(sure, still, _BODY_SHORTEST_S, rate)


def on_body(
    side: str, track: Floats, part: BodyPart, rigged: RiggedFigure, chain: ChainWorld, rate: float
) -> tuple[np.ndarray, Coordinates]:
    """In which frames the palm of a side, by its world ``track``, rests on a part of the own body, and where it is by
    that part. Arms that only hang at the sides of one who stands rest on nothing, wide as the coat may be."""
    height, direction, distance = part.coordinates(track, chain)
    leg_m = rigged.reference.leg_m
    near = (height > -0.05) & (height < 1.05) & (distance < _REST_ON * leg_m)
    if near.any() and part.part in _AT_THE_SIDES:
        near &= ~_hangs(side, track, rigged, chain)
    if not near.any():
        return near, (height, direction, distance)
    seen = rotate(conjugate(chain.rotation(part.bone)), track - chain.position(part.bone))
    speed = _speed(seen, rate) / leg_m
    sure = near & (distance < _TOUCH * leg_m) & (speed < _TOUCH_SPEED)
    return _lasting(sure, near & (speed < _REST_SPEED), _BODY_SHORTEST_S, rate), (height, direction, distance)


def _hangs(side: str, track: Floats, rigged: RiggedFigure, chain: ChainWorld) -> np.ndarray:
    """In which frames an arm hangs down, nearly straight, from an upright trunk."""
    bones = rigged.roles.bones
    shoulder, elbow, hand, hips = (
        chain.position(bones[role]) for role in (f"upper_arm_{side}", f"lower_arm_{side}", f"hand_{side}", "hips")
    )
    chest = 0.5 * (chain.position(bones["upper_arm_left"]) + chain.position(bones["upper_arm_right"]))
    steps = [np.linalg.norm(step, axis=1) for step in (hand - shoulder, elbow - shoulder, hand - elbow)]
    straight = steps[0] > _STRAIGHT * (steps[1] + steps[2])
    down, upright = (
        normalized(way)[:, 1] * sign > _PLUMB for way, sign in ((track - shoulder, -1.0), (chest - hips, 1.0))
    )
    return np.asarray(straight & down & upright)


def touching(rigged: RiggedFigure, chain: ChainWorld, rate: float, floor: Floor | None = None) -> np.ndarray:
    """In which frames each hand touches anything, the ``floor`` its feet stand on (by default that of its rest) among
    it, ``(2, frames)``, left first."""
    floor = floor or Floor(rigged.floor_m)
    palms = palms_of(rigged)
    tracks = {side: palm.track(chain) for side, palm in palms.items()}
    together = meeting(tracks["left"] - tracks["right"], palms["left"], rate)
    found = []
    for side in SIDES:
        height = tracks[side][:, 1] - floor.height(tracks[side])
        touches = together | on_floor(tracks[side], height, palms[side], rigged, rate)
        for part in touchable_by(rigged, side):
            touches = touches | on_body(side, tracks[side], part, rigged, chain, rate)[0]
        found.append(touches)
    return np.stack(found)


def _lasting(sure: np.ndarray, still: np.ndarray, shortest_s: float, rate: float) -> np.ndarray:
    return without_short(with_hysteresis(sure, still), max(round(shortest_s * rate), 1))


def _speed(track: Floats, rate: float) -> Floats:
    """Metres per second ``(frames,)``, of the track without its shaking."""
    if len(track) < 2:
        return np.zeros(len(track))
    even = smoothed(track, _SMOOTH_S * rate)
    return np.asarray(np.linalg.norm(np.gradient(even, axis=0), axis=1) * rate)
