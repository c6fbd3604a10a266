"""Hands that meet something on the source meet it on the target: the other hand, the own body, the floor, or an object.

Where the source's palm touches, the target's is brought to the same place (of the other hand, of the body's surface,
of the floor, of the object), with the arm solved and the elbow on its side, blended in and out. The hand keeps the turn
it was carried over with.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from fairswap.bones.roles import SIDES
from fairswap.errors import UsageError
from fairswap.measure.palms import Palm, palms_of
from fairswap.measure.surface import touchable_by
from fairswap.measure.touches import meeting, on_body, on_floor
from fairswap.model.arrays import Floats
from fairswap.model.chain_world import ChainWorld
from fairswap.model.rotation import conjugate, multiply, rotate
from fairswap.model.signals import eased, nearness, runs_of
from fairswap.model.space import UP
from fairswap.pose.rigged import RiggedFigure
from fairswap.retarget.inverse_kinematics import solve_limb
from fairswap.retarget.options import MotionOptions

# In leg lengths over the floor: where hands begin to follow it, and where they do so wholly.
_FAR_FROM_FLOOR, _NEAR_FLOOR = 0.3, 0.1
# In seconds.
_EASE_S = 0.22


@dataclass(frozen=True)
class Touch:
    """One meeting: which hand, what it met (``hand``, ``object``, ``floor`` or a part of the body), when, and how near
    the target came to it at worst, metres."""

    side: str
    what: str
    start_s: float
    stop_s: float
    off_m: float


@dataclass(frozen=True, eq=False)
class _Wish:
    """Where a hand's palm should be ``(frames, 3)``, when ``(frames,)``, and what it meets there."""

    side: str
    what: str
    when: np.ndarray
    where: Floats


def meet_hands(
    source: RiggedFigure,
    target: RiggedFigure,
    source_chain: ChainWorld,
    chain: ChainWorld,
    rate: float,
    scale: float,
    options: MotionOptions,
) -> tuple[list[Touch], Floats | None]:
    """Bring the target's hands (in ``chain``, in place) to what the source's meet; tell each meeting, and where the
    object stands ``(3,)`` when it is first met."""
    palms = palms_of(source), palms_of(target)
    theirs = {side: palm.track(source_chain) for side, palm in palms[0].items()}
    for side, palm in palms[1].items():
        height = theirs[side][:, 1] - source.floor_m
        near = eased((_FAR_FROM_FLOOR - height / source.reference.leg_m) / (_FAR_FROM_FLOOR - _NEAR_FLOOR))
        _follow_floor(target, palm, side, palm.length / palms[0][side].length * height, near, chain)
    wishes = _hand_wishes(palms, theirs, chain, rate)
    stands = None
    if options.object is not None:
        chains = source_chain, chain
        met, stands = _object_wishes(source, target, palms, theirs, chains, scale, rate, options.object)
        wishes += met
    both = np.any([wish.when for wish in wishes], axis=0) if wishes else np.zeros(chain.frames, dtype=bool)
    wishes += _floor_wishes(source, target, palms, theirs, chain, rate, both)
    wishes += _body_wishes(source, target, palms, theirs, source_chain, chain, rate, both)
    for side in SIDES:
        own = [wish for wish in wishes if wish.side == side]
        if own:
            _reach(target, palms[1][side], side, own, rate, options.reach, chain)
    touches = []
    for wish in wishes:
        apart = np.linalg.norm(palms[1][wish.side].track(chain) - wish.where, axis=1)
        for start, stop in runs_of(wish.when):
            off = float(apart[start:stop].max())
            touches.append(Touch(wish.side, wish.what, start / rate, (stop - 1) / rate, off))
    return sorted(touches, key=lambda touch: (touch.start_s, touch.side)), stands


def _hand_wishes(
    palms: tuple[Mapping[str, Palm], Mapping[str, Palm]], theirs: Mapping[str, Floats], chain: ChainWorld, rate: float
) -> list[_Wish]:
    apart = theirs["left"] - theirs["right"]
    when = meeting(apart, palms[0]["left"], rate)
    if not when.any():
        return []
    ratio = palms[1]["left"].length / palms[0]["left"].length
    mine = {side: palms[1][side].track(chain) for side in SIDES}
    middle = 0.5 * (mine["left"] + mine["right"])
    return [
        _Wish(side, "hand", when, middle + sign * 0.5 * ratio * apart)
        for side, sign in (("left", 1.0), ("right", -1.0))
    ]


def _object_wishes(
    source: RiggedFigure,
    target: RiggedFigure,
    palms: tuple[Mapping[str, Palm], Mapping[str, Palm]],
    theirs: Mapping[str, Floats],
    chains: tuple[ChainWorld, ChainWorld],
    scale: float,
    rate: float,
    name: str,
) -> tuple[list[_Wish], Floats | None]:
    if name not in source.skeleton.names:
        raise UsageError(f"there is no bone {name!r} in {source.figure.name} to mark an object")
    source_chain, chain = chains
    thing = source_chain.position(source.skeleton.names.index(name))
    legs = target.reference.leg_m / source.reference.leg_m
    # Where the object is on the target's stage: as far over the ground as travel is scaled, as high as the legs are,
    # and from there to where this figure's own shoulders and arms bring its hands, so that none has to stretch.
    seen = (thing - source.reference.hips * [1, 0, 1] - [0, source.floor_m, 0]) * [scale, legs, scale]
    there = seen + target.reference.hips * [1, 0, 1] + [0, target.floor_m, 0]
    found, misses = [], []
    for side in SIDES:
        away = theirs[side] - thing
        when = meeting(away, palms[0][side], rate)
        if when.any():
            ratio = palms[1][side].length / palms[0][side].length
            found.append(_Wish(side, "object", when, there + ratio * away))
            misses.append((palms[1][side].track(chain) - found[-1].where)[when])
    if not found:
        return [], None
    shift = np.concatenate(misses).mean(axis=0)
    first = min(int(np.argmax(wish.when)) for wish in found)
    return [replace(wish, where=wish.where + shift) for wish in found], there[first] + shift


def _floor_wishes(
    source: RiggedFigure,
    target: RiggedFigure,
    palms: tuple[Mapping[str, Palm], Mapping[str, Palm]],
    theirs: Mapping[str, Floats],
    chain: ChainWorld,
    rate: float,
    taken: np.ndarray,
) -> list[_Wish]:
    """Hands that rest on the floor: as high over it as theirs, for their size, and each time in one place."""
    found = []
    for side in SIDES:
        when = on_floor(theirs[side], palms[0][side], source, rate) & ~taken
        if when.any():
            where = palms[1][side].track(chain).copy()
            ratio = palms[1][side].length / palms[0][side].length
            where[:, 1] = target.floor_m + ratio * (theirs[side][:, 1] - source.floor_m)
            for start, stop in runs_of(when):
                where[start:stop, [0, 2]] = where[start:stop, [0, 2]].mean(axis=0)
            found.append(_Wish(side, "floor", when, where))
    return found


def _follow_floor(target: RiggedFigure, palm: Palm, side: str, height: Floats, near: Floats, chain: ChainWorld) -> None:
    """Bring a hand that is ``near`` the floor ``(frames,)``, 0 to 1, to that ``height`` over it, metres: the nearer it
    comes, the more its height counts from the floor, and the less from its shoulder."""
    if near.max() > 0.0:
        push_hand(target, side, chain, (near * (target.floor_m + height - palm.track(chain)[:, 1]))[:, None] * UP)


def _body_wishes(
    source: RiggedFigure,
    target: RiggedFigure,
    palms: tuple[Mapping[str, Palm], Mapping[str, Palm]],
    theirs: Mapping[str, Floats],
    source_chain: ChainWorld,
    chain: ChainWorld,
    rate: float,
    taken: np.ndarray,
) -> list[_Wish]:
    found = []
    for side in SIDES:
        for old, new in zip(touchable_by(source, side), touchable_by(target, side), strict=True):
            when, (height, direction, distance) = on_body(theirs[side], old, source.reference.leg_m, source_chain, rate)
            when = when & ~taken
            if when.any():
                ratio = palms[1][side].length / palms[0][side].length
                found.append(_Wish(side, old.part, when, new.points(height, direction, ratio * distance, chain)))
    return found


def _reach(
    target: RiggedFigure, palm: Palm, side: str, wishes: list[_Wish], rate: float, weight: float, chain: ChainWorld
) -> None:
    point = palm.track(chain)
    shares = np.array([nearness(wish.when, _EASE_S * rate) for wish in wishes])
    total = np.maximum(shares.sum(axis=0), 1.0)
    push = np.sum(
        [(wish.where - point) * (fraction / total)[:, None] for wish, fraction in zip(wishes, shares, strict=True)],
        axis=0,
    )
    push_hand(target, side, chain, weight * push)


def push_hand(target: RiggedFigure, side: str, chain: ChainWorld, push: Floats) -> None:
    """Move a hand by ``push`` ``(frames, 3)`` in the world, its turn kept."""
    upper, lower, hand = (target.roles.bones[f"{part}_{side}"] for part in ("upper_arm", "lower_arm", "hand"))
    limb = chain.limb(upper, lower, hand)
    turn = chain.rotation(hand).copy()
    sign = 1.0 if side == "left" else -1.0
    moved = multiply(limb.upper, conjugate(target.reference.rotations[upper]))
    rotations = solve_limb(limb, limb.root, limb.end + push, rotate(moved, np.array([0.0, -sign, 0.0])))
    chain.turn(upper, rotations[0])
    chain.turn(lower, rotations[1])
    chain.turn(hand, turn)
