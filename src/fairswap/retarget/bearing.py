"""Where the hips go when feet are planted: to where the legs that bear them bend as they did."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from fairswap.model.arrays import Floats
from fairswap.model.chain_world import ChainWorld, Limb
from fairswap.model.rotation import conjugate, rotate
from fairswap.model.signals import nearness, runs_of
from fairswap.retarget.inverse_kinematics import LONGEST
from fairswap.retarget.least_jerk import Wish, least_jerk, strength

Bearing = tuple[tuple[int, int, int], Floats, np.ndarray]
"""A leg's three bones, how far its foot is moved ``(frames, 3)``, and when it stands ``(frames,)``."""

# Within what time the hips keep to the legs, in how many rounds; how much rather they stay, to the left, up and ahead,
# and how many times as much while both feet stand for some time: then a leg may rather bend than the hips go far.
_WITHIN_S, _ROUNDS = 0.05, 3
_STAY, _STAY_AT_REST, _AT_REST_S = np.array([0.05, 0.005, 0.05]), np.array([10.0, 1.0, 10.0]), 0.5
# How long the weight takes to go to a leg, and how much of it a leg in the air bears.
_SHIFT_S, _SWINGS = 0.2, 0.05
# By how much more a leg counts where its knee turns fast, at most.
_SHARPEST = 4.0


def carried_hips(legs: Iterable[Bearing], rate: float, chain: ChainWorld) -> Floats:
    """How the hips move so that legs that bear them bend as they did: ``(frames, 3)`` metres, with least jerk.

    A leg of given bend has a length; the hip joint is that far from the foot. Of a leg that is nearly straight the
    bend tells more by the length than of a bent one, so it counts more.
    """
    moved = np.zeros((chain.frames, 3))
    limbs = [(chain.limb(*bones), shift, standing) for bones, shift, standing in legs]
    both = np.all([standing for _, _, standing in limbs], axis=0)
    at_rest = np.zeros(chain.frames, dtype=bool)
    for start, stop in runs_of(both):
        at_rest[start:stop] = stop - start >= _AT_REST_S * rate
    rests = nearness(at_rest, _SHIFT_S * rate)
    stay = [
        Wish(np.tile(row, (chain.frames, 1)), np.zeros(chain.frames), weight * times**rests * strength(_WITHIN_S, rate))
        for row, weight, times in zip(np.eye(3), _STAY, _STAY_AT_REST, strict=True)
    ]
    for _ in range(_ROUNDS):
        moved = least_jerk(
            [*stay, *(_keep_bend(limb, moved, shift, standing, rate) for limb, shift, standing in limbs)]
        )
    return moved


def _keep_bend(limb: Limb, moved: Floats, shift: Floats, standing: np.ndarray, rate: float) -> Wish:
    """The wish that a leg keeps its length, near where the hips are ``moved`` to."""
    first, second = limb.lengths
    bent = np.linalg.norm(limb.end - limb.root, axis=1)
    now = limb.root + moved - limb.end - shift
    apart = np.maximum(np.linalg.norm(now, axis=1), 1e-9)
    normal = now / apart[:, None]
    value = np.minimum(bent, LONGEST * limb.length) - apart + np.einsum("fi,fi->f", normal, moved)
    # How fast the knee turns with the leg's length, about 1 where it is bent square.
    cosine = (first**2 + second**2 - bent**2) / (2.0 * first * second)
    sine = np.sqrt(np.maximum(1.0 - cosine**2, 1e-6))
    sharp = np.clip(bent * limb.length / (4.0 * first * second) / sine, 0.5, _SHARPEST)
    # A foot in the air that is out of reach comes nearer itself: hips that went after it would go far aside.
    bears = np.maximum(nearness(standing, _SHIFT_S * rate), _SWINGS)
    return Wish(normal, value, bears * (1.0 + (sharp**2 - 1.0) * bears) * strength(_WITHIN_S, rate))


def move_hips(hips: int, moved: Floats, chain: ChainWorld) -> None:
    """Move the hips by ``moved`` ``(frames, 3)`` metres in the world."""
    parent = int(chain.skeleton.parents[hips])
    if parent >= 0:
        moved = rotate(conjugate(chain.rotation(parent)), moved)
    chain.move(hips, chain.translations[hips] + moved.T)
