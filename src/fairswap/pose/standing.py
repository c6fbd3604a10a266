"""How the feet of a recording lie when they stand.

A body shows where its soles are. Recorded bones do not: the resting foot is a mere stick, and the moving one is rolled
or pitched by what its markers were off. Where it stands still and low, it lies on its sole: that counts as flat.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from fairswap.bones.roles import SIDES, RoleMap
from fairswap.model.arrays import Floats
from fairswap.model.chain_world import ChainWorld
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.rotation import IDENTITY, angle_between, conjugate, multiply, normalized, quaternion_between, rotate
from fairswap.model.space import UP
from fairswap.pose.reference import ReferencePose

# Leg lengths per second and leg lengths above where it is at its lowest.
_STILL_SPEED, _LOW = 0.15, 0.05
_SHORTEST_S = 0.3
_NO_TURN = 1e-3
# A tilt is believed if it is more than a shake, no more than a heel, and much the same whenever the foot stands.
_LEAST_DEGREES, _MOST_DEGREES, _SPREAD_DEGREES = 3.0, 35.0, 8.0


def recorded(figure: Figure) -> bool:
    """Whether a figure is bones as recordings have them: no body, and no turns of their own at rest."""
    turned = angle_between(figure.skeleton.rest_rotations, IDENTITY)
    return not figure.meshes and float(turned.max()) < _NO_TURN


def with_feet_as_they_stand(found: ReferencePose, roles: RoleMap, clip: Clip) -> ReferencePose:
    """The reference pose with each foot tilted as it is, on average, where it stands in a clip."""
    chain = ChainWorld(clip.poses)
    rotations = found.rotations.copy()
    places = {side: _places(roles, side, chain) for side in SIDES}
    # Of one who holds still a foot in the air is the higher one of both.
    low_m = min(np.percentile(_heights(own), 5) for own in places.values()) + _LOW * found.leg_m
    for side in SIDES:
        tilt = _tilt(found, roles, side, chain, float(clip.rate), places[side], low_m)
        if tilt is not None:
            foot = roles.bones[f"foot_{side}"]
            turned = [foot, *chain.skeleton.below(foot).tolist()]
            rotations[turned] = multiply(tilt, rotations[turned])
    return replace(found, rotations=rotations)


def _places(roles: RoleMap, side: str, chain: ChainWorld) -> Floats:
    """Where ankle and ball of a foot are, ``(2, frames, 3)``; of one without toes the ankle twice."""
    foot = roles.bones[f"foot_{side}"]
    return np.stack([chain.position(bone) for bone in (foot, roles.bones.get(f"toes_{side}", foot))])


def _heights(places: Floats) -> Floats:
    return np.asarray(places[:, :, 1].mean(axis=0))


def _tilt(
    found: ReferencePose, roles: RoleMap, side: str, chain: ChainWorld, rate: float, places: Floats, low_m: float
) -> Floats | None:
    foot, leg = roles.bones[f"foot_{side}"], found.leg_m
    if places.shape[1] < max(_SHORTEST_S * rate, 3.0):
        return None
    speed = np.linalg.norm(np.gradient(places, axis=1), axis=2).max(axis=0) * rate
    stands = (speed < _STILL_SPEED * leg) & (_heights(places) < low_m)
    if stands.sum() < _SHORTEST_S * rate:
        return None
    turned = multiply(chain.rotation(foot)[stands], conjugate(found.rotations[foot]))
    ups = rotate(conjugate(turned), UP)
    up = normalized(ups.mean(axis=0))
    spread, tilt = np.degrees([angle_between(ups, up).mean(), angle_between(up, UP)])
    if spread > _SPREAD_DEGREES or not _LEAST_DEGREES < tilt < _MOST_DEGREES:
        return None
    return quaternion_between(up, UP)
