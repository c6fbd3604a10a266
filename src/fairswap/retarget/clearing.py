"""Limbs kept apart: palms pushed out of the body, elbows and knees turned away, feet in the air moved aside.

The least is done that helps, and smoothly. A bent limb is swivelled about the line from its root to its end, which
stays where it is; an arm that hangs is held off the trunk; a leg that is in the air steps aside. What goes into each
other on the source as well may do so.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np

from fairswap.bones.roles import SIDES
from fairswap.measure.capsules import depths, nearest
from fairswap.measure.contacts import Contacts
from fairswap.measure.differences import rms
from fairswap.measure.palms import palms_of
from fairswap.measure.surface import surface_of
from fairswap.model.arrays import Floats
from fairswap.model.chain_world import ChainWorld
from fairswap.model.rotation import angle_between, multiply, normalized, quaternion_from_axis_angle, rotate
from fairswap.model.signals import bridged, nearest_true, nearness, runs_of, smoothed, widest, widest_mask
from fairswap.model.space import AHEAD, LEFT
from fairswap.pose.rigged import RiggedFigure
from fairswap.retarget.hands import push_hand
from fairswap.retarget.inverse_kinematics import solve_limb

Depths = Mapping[tuple[str, str], Floats]

_CLEAR_M, _ROUNDS = 0.004, 3
_TRY_DEGREES, _MOST_DEGREES = 8.0, 40.0
# By how much one way must be better than the other, metres, to say which.
_MATTERS_M = 1e-4
# What a swivel by the degrees that are tried must gain, in leg lengths.
_WORTH = 0.008
# In which orders an arm is brought out, each tried; and what shows as much as the other: so deep, in leg lengths, so
# far aside, so much twisted.
_ORDERS = (("hold", "swivel"), ("swivel", "hold"), ("hold", "swivel", "hold"))
_DEEP, _ASIDE_DEGREES, _TWIST_DEGREES = 0.09, 10.0, 25.0
_TRUNK = {"pelvis", "chest", "head"}
# How long a push takes to come and to go, also of a palm, and a foot to be free of the floor.
_COMES_S, _PALM_COMES_S, _LEAVES_S = 0.25, 0.1, 0.12
# A foot takes a stance that was moved aside with it into the next one; in the air for longer than twice this it goes
# back to its way.
_STEP_S = 0.5
# How far lines through two legs must be from each other, in leg lengths, to say well which way they come apart.
_SIDE = 0.01
_OUTWARD = {"left": 1.0, "right": -1.0}
_LIMBS = {"arm": ("upper_arm", "lower_arm", "hand"), "leg": ("upper_leg", "lower_leg", "foot")}


def clear_limbs(
    source: RiggedFigure,
    target: RiggedFigure,
    source_chain: ChainWorld,
    chain: ChainWorld,
    contacts: Contacts,
    rate: float,
) -> None:
    """Keep limbs of the target (in ``chain``, in place) out of its trunk and out of each other."""
    _push_palms_out(target, chain, rate)
    legs = target.reference.leg_m / source.reference.leg_m
    allowed = {pair: np.maximum(legs * deep, 0.0) for pair, deep in depths(source, source_chain).items()}
    # How deep all is costs most: it is worked out anew only after something has moved.
    found = depths(target, chain)

    def moved(by: Callable[..., bool], *what: Any) -> None:
        nonlocal found
        if by(target, *what, found, allowed, chain, rate):
            found = depths(target, chain)

    for side in SIDES:
        moved(_step_aside, side, contacts.standing(side))
    for _ in range(_ROUNDS):
        for side in SIDES:
            moved(_stand_aside, side, contacts)
    for _ in range(_ROUNDS):
        for side in SIDES:
            moved(_swivel_away, "leg", side)
    for side in SIDES:
        moved(_bring_out, side)
    _push_palms_out(target, chain, rate)


def _push_palms_out(target: RiggedFigure, chain: ChainWorld, rate: float) -> None:
    palms, parts = palms_of(target), surface_of(target)
    for side in SIDES:
        point = palms[side].track(chain)
        push = np.zeros_like(point)
        for part in parts:
            height, direction, distance = part.coordinates(point, chain)
            deep = np.where((height > 0.0) & (height < 1.0), np.maximum(_CLEAR_M - distance, 0.0), 0.0)
            if deep.max() > 0.0:
                even = _evened(deep, rate, _PALM_COMES_S)
                push += (part.points(height, direction, distance + even, chain) - point) * (even > 1e-5)[:, None]
        if push.any():
            push_hand(target, side, chain, push)


def _bring_out(target: RiggedFigure, side: str, found: Depths, allowed: Depths, chain: ChainWorld, rate: float) -> bool:
    """Bring an arm out of what it is in, held off and swivelled in the order that shows least; whether it moved.

    Out of a broad trunk or a large head it comes by the least turn when it is held off, and is twisted when it is
    swivelled; beside a hip, and out of the other arm, it is the other way round.
    """
    bones = [target.roles.bones[f"{part}_{side}"] for part in _LIMBS["arm"]]
    was, limb = [chain.rotation(bone).copy() for bone in bones], chain.limb(*bones)

    def hold(found: Depths) -> Depths:
        return depths(target, chain) if _hold_off(target, side, found, allowed, chain, rate) else found

    def swivel(found: Depths) -> Depths:
        for _ in range(_ROUNDS):
            if not _swivel_away(target, "arm", side, found, allowed, chain, rate):
                break
            found = depths(target, chain)
        return found

    def put(rotations: Sequence[Floats]) -> None:
        for bone, rotation in zip(bones, rotations, strict=True):
            chain.turn(bone, rotation)

    def shows(found: Depths) -> float:
        ways = [normalized(one.middle - one.root) for one in (limb, chain.limb(*bones))]
        aside = np.degrees(np.arccos(np.clip(np.sum(ways[0] * ways[1], axis=1), -1.0, 1.0)))
        twist = np.degrees(angle_between(was[0], chain.rotation(bones[0]))) - aside
        deep = _too_deep(found, allowed, "arm", side) / target.reference.leg_m
        return float(max(deep.max() / _DEEP, rms(aside) / _ASIDE_DEGREES, rms(twist) / _TWIST_DEGREES))

    if _too_deep(found, allowed, "arm", side).max() <= _CLEAR_M:
        return False
    tried = []
    for steps in _ORDERS:
        out = found
        for step in steps:
            out = hold(out) if step == "hold" else swivel(out)
        tried.append((shows(out), [chain.rotation(bone).copy() for bone in bones]))
        put(was)
    put(min(tried, key=lambda row: row[0])[1])
    return True


def _too_deep(found: Depths, allowed: Depths, kind: str, side: str) -> Floats:
    """How much deeper than allowed a limb is in anything, ``(frames,)``; an arm in a leg is the arm's to leave."""
    mine = {f"{part}_{side}" for part in _LIMBS[kind][:2]}
    own = [pair for pair in found if mine & {*pair} and not (kind == "leg" and any("arm" in part for part in pair))]
    return np.asarray(np.max([np.maximum(found[pair] - allowed[pair], 0.0) for pair in own], axis=0))


def _swivel_away(
    target: RiggedFigure, kind: str, side: str, found: Depths, allowed: Depths, chain: ChainWorld, rate: float
) -> bool:
    """Turn elbow or knee about the line from the limb's root to its end, the way on which it comes free sooner; whether
    anything moved."""

    def too_deep() -> Floats:
        return _too_deep(depths(target, chain), allowed, kind, side)

    def swivel(degrees: Floats) -> None:
        upper, lower, end = (target.roles.bones[f"{part}_{side}"] for part in _LIMBS[kind])
        limb = chain.limb(upper, lower, end)
        kept = chain.rotation(end).copy()
        _turn(chain, (upper, lower), normalized(limb.end - limb.root), degrees)
        chain.turn(end, kept)

    deep = _too_deep(found, allowed, kind, side)
    if deep.max() <= _CLEAR_M:
        return False
    way, gain = _better_way(swivel, too_deep, deep, chain.frames, rate)
    # Of a limb that is nearly straight it would take too much for too little.
    worth = gain > _WORTH * target.reference.leg_m
    wanted = np.where(worth, np.minimum(_TRY_DEGREES * deep / np.maximum(gain, 1e-6), _MOST_DEGREES), 0.0)
    if not wanted.any():
        return False
    swivel(way * _evened(wanted, rate))
    return True


def _better_way(
    turn: Callable[[Floats], None], too_deep: Callable[[], Floats], deep: Floats, frames: int, rate: float
) -> tuple[Floats, Floats]:
    """On which way (1 or -1) a turn brings a limb free sooner, and what the degrees that are tried gain there, metres;
    each ``(frames,)``, and nothing is turned."""
    tried = []
    for degrees in (_TRY_DEGREES, -_TRY_DEGREES):
        turn(np.full(frames, degrees))
        tried.append(too_deep())
        turn(np.full(frames, -degrees))
    # One way for as long as it is in there, so that it does not change its mind in the middle, nor where it comes out.
    near = smoothed(np.stack([deep, *tried], axis=1), 0.25 * rate)
    better = near[:, 2] - near[:, 1]
    way = np.where(better >= 0.0, 1.0, -1.0)[nearest_true(np.abs(better) > _MATTERS_M)]
    return smoothed(way, 0.1 * rate), np.maximum(near[:, 0] - np.minimum(near[:, 1], near[:, 2]), 0.0)


def _turn(chain: ChainWorld, bones: Sequence[int], axis: Floats, degrees: Floats) -> None:
    """Turn bones, parents first, about an axis in the world, each by the same."""
    about = quaternion_from_axis_angle(axis, np.radians(degrees))
    turned = [multiply(about, chain.rotation(bone)) for bone in bones]
    for bone, rotation in zip(bones, turned, strict=True):
        chain.turn(bone, rotation)


def _hold_off(target: RiggedFigure, side: str, found: Depths, allowed: Depths, chain: ChainWorld, rate: float) -> bool:
    """Raise an arm to the side by as much as its forearm is in the trunk, or lower one that is up beside the head;
    whether anything moved."""

    def in_trunk(found: Depths) -> Floats:
        return _too_deep({pair: deep for pair, deep in found.items() if pair[1] in _TRUNK}, allowed, "arm", side)

    def too_deep() -> Floats:
        return in_trunk(depths(target, chain))

    bones = [target.roles.bones[f"{part}_{side}"] for part in _LIMBS["arm"]]
    chest = target.roles.bones[target.roles.chain("spine")[-1]]
    facing = rotate(multiply(chain.rotation(chest), target.reference.rotations[chest] * [-1, -1, -1, 1]), AHEAD)
    raising = facing if side == "left" else -facing
    deep = in_trunk(found)
    if deep.max() <= _CLEAR_M:
        return False
    limb = chain.limb(*bones)
    way, gain = _better_way(lambda degrees: _turn(chain, bones, raising, degrees), too_deep, deep, chain.frames, rate)
    far = np.linalg.norm(0.5 * (limb.middle + limb.end) - limb.root, axis=1)
    helps = nearness(gain > 0.0, _COMES_S * rate)
    wanted = helps * np.degrees(_evened(deep, rate) / np.maximum(far, 1e-6))
    _turn(chain, bones, raising, way * np.minimum(wanted, _MOST_DEGREES))
    return True


def _step_aside(
    target: RiggedFigure,
    side: str,
    standing: np.ndarray,
    found: Depths,
    allowed: Depths,
    chain: ChainWorld,
    rate: float,
) -> bool:
    """Move a foot that is in the air outward by as much as its leg is in the other one; whether anything moved."""
    free = 1.0 - nearness(standing, _LEAVES_S * rate)
    deep = _too_deep(found, allowed, "leg", side) * free
    if deep.max() <= _CLEAR_M:
        return False
    push = 1.5 * (free * _evened(deep, rate))[:, None] * _OUTWARD[side] * _left_of(target, chain)
    _move_foot(target, side, chain, push)
    return True


def _stand_aside(
    target: RiggedFigure, side: str, contacts: Contacts, found: Depths, allowed: Depths, chain: ChainWorld, rate: float
) -> bool:
    """Move where a foot stands outward, for as long as it stands there, by its share of what its leg is in the other
    one; whether anything moved. In the air it goes from the one place to the next."""
    legs = {pair: deep for pair, deep in found.items() if all("leg" in part for part in pair)}
    deep = _too_deep(legs, allowed, "leg", side)
    # A foot that has just left, or is about to come, is not free yet to step aside; and one that shakes stands on.
    standing, other = (widest_mask(contacts.standing(one), round(_LEAVES_S * rate))
                       for one in sorted(SIDES, key=lambda one: one != side))  # fmt: skip
    share = np.where(other, 0.5, 1.0) * deep
    stances = [(start, stop, float(share[start:stop].max())) for start, stop in runs_of(standing)]
    if max((most for *_, most in stances), default=0.0) <= _CLEAR_M:
        return False
    away = share[:, None] * _away_from_the_other(target, side, chain)
    push = np.zeros((chain.frames, 3))
    for start, stop, most in stances:
        if most > 0.0:
            push[start:stop] = 1.25 * most * normalized(away[start:stop].mean(axis=0))
    _move_foot(target, side, chain, bridged(push, standing, round(_STEP_S * rate)))
    return True


def _away_from_the_other(target: RiggedFigure, side: str, chain: ChainWorld) -> Floats:
    """Level, from where the other leg is nearest to this one ``(frames, 3)``, of about length 1: of legs side by side
    outward, of crossed ones ahead for the one before the other."""
    pieces = []
    for one in sorted(SIDES, key=lambda one: one != side):
        joints = [chain.position(target.roles.bones[f"{part}_{one}"]) for part in _LIMBS["leg"]]
        pieces.append([(joints[0], joints[1]), (joints[1], joints[2])])
    least, way = np.full(chain.frames, np.inf), np.zeros((chain.frames, 3))
    for a, b in pieces[0]:
        for c, d in pieces[1]:
            between, _, _ = nearest(c, d, a, b)
            distance = np.linalg.norm(between, axis=1)
            way = np.where((distance < least)[:, None], between, way)
            least = np.minimum(distance, least)
    sure = _SIDE * target.reference.leg_m
    outward = _OUTWARD[side] * _left_of(target, chain)
    return np.asarray((way + sure * outward) * [1.0, 0.0, 1.0] / (least + sure)[:, None])


def _left_of(target: RiggedFigure, chain: ChainWorld) -> Floats:
    """Where the left of the hips is ``(frames, 3)``."""
    hips = target.roles.bones["hips"]
    return rotate(multiply(chain.rotation(hips), target.reference.rotations[hips] * [-1, -1, -1, 1]), LEFT)


def _move_foot(target: RiggedFigure, side: str, chain: ChainWorld, push: Floats) -> None:
    """Move a foot by ``(frames, 3)`` metres, as it is turned, its leg with it."""
    upper, lower, foot = (target.roles.bones[f"{part}_{side}"] for part in _LIMBS["leg"])
    limb, kept = chain.limb(upper, lower, foot), chain.rotation(foot).copy()
    rotations = solve_limb(limb, limb.root, limb.end + push, _OUTWARD[side] * _left_of(target, chain))
    chain.turn(upper, rotations[0])
    chain.turn(lower, rotations[1])
    chain.turn(foot, kept)


def _evened(deep: Floats, rate: float, comes_s: float = _COMES_S) -> Floats:
    """A push that is at least ``deep`` and comes and goes smoothly, ``(frames,)``."""
    width = max(round(comes_s * rate), 1)
    return smoothed(widest(deep, width), width / 3.0)
