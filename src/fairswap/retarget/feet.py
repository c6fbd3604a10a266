"""Plant the feet: where the source's foot stands, the target's stands still, on its own sole, heel or bare foot.

1. The stances of the source, heel and ball, say when. Each stance gets one place: of a flat foot its middle, else
   of the point it stands on, as the motion that was carried over has it on average.
2. In a flat stance the foot lies as its sole wants; while it rolls it turns as transferred, about the point that
   stands.
   Between stances the correction is led over by a smooth bridge.
3. The hips are lowered, smoothly, where a leg could not reach; then knees are solved, keeping their plane.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from fairswap.bones.roles import SIDES
from fairswap.measure.contacts import Contacts
from fairswap.measure.soles import Sole, soles_of
from fairswap.model.arrays import Floats
from fairswap.model.chain_world import ChainWorld
from fairswap.model.rotation import (
    conjugate,
    multiply,
    quaternion_from_axis_angle,
    quaternion_from_rotation_vector,
    rotate,
    rotation_vector,
    slerp,
)
from fairswap.model.signals import bridged, nearness, runs_of, smoothed
from fairswap.model.space import AHEAD, LEFT, UP
from fairswap.pose.rigged import RiggedFigure
from fairswap.retarget.inverse_kinematics import LONGEST, solve_limb
from fairswap.retarget.least_jerk import Wish, least_jerk, strength

# How long a foot takes to lie flat, a correction to fade, and the hips to go down, in seconds.
_FLAT_S, _FADE_S, _EDGE_S = 0.12, 0.25, 0.06
# Within what time a correction may stray: of a foot at the edge of a stance and inside it; of a leg that bears.
_LOOSE_S, _HELD_S, _AIR_S, _BEARING_S = 0.03, 0.004, 0.08, 0.05
_ROUNDS = 3
_ROLL_S = 0.02
_STRETCHED, _SHARPEST = 0.998, 4.0
_HIPS_STAY, _BEAR_S, _SWING = np.array([0.05, 0.005, 0.05]), 0.2, 0.05


@dataclass(frozen=True, eq=False)
class Planted:
    """What planting did: how far ankles were moved, by side, ``(frames,)``, and the hips, ``(frames, 3)``, metres."""

    moved_m: Mapping[str, Floats]
    hips_m: Floats


@dataclass(frozen=True, eq=False)
class _Foot:
    """One foot's aims: world rotation of the foot ``(frames, 4)``, how it moves ``(frames, 3)``, whether it stands."""

    rotation: Floats
    shift: Floats
    standing: np.ndarray


def plant_feet(target: RiggedFigure, contacts: Contacts, rate: float, chain: ChainWorld) -> Planted:
    """Move the legs and the hips in ``chain`` (local tracks of the target) so that standing feet stand.

    ``contacts`` are the source's, in the same frames.
    """
    roles = target.roles.bones
    hips, soles = roles["hips"], soles_of(target)
    aims, legs = {}, {}
    for side in SIDES:
        legs[side] = tuple(roles[f"{part}_{side}"] for part in ("upper_leg", "lower_leg", "foot"))
        aims[side] = _aim(target, soles[side], contacts, side, rate, chain)
    hips_moved = _hips_for(legs, aims, rate, chain)
    move_hips(hips, hips_moved, chain)
    moved = {}
    for side in SIDES:
        upper, lower, foot = legs[side]
        limb = chain.limb(upper, lower, foot)
        wanted = limb.end - hips_moved + aims[side].shift  # the limb went along with the hips; its foot does not
        hinge = rotate(multiply(limb.upper, conjugate(target.reference.rotations[upper])), LEFT)
        rotations = solve_limb(limb, limb.root, wanted, hinge)
        chain.turn(upper, rotations[0])
        chain.turn(lower, rotations[1])
        chain.turn(foot, aims[side].rotation)
        _lift_toes(target, soles[side], aims[side].standing, chain)
        moved[side] = np.linalg.norm(aims[side].shift, axis=1)
    return Planted(moved, hips_moved)


def _aim(target: RiggedFigure, sole: Sole, contacts: Contacts, side: str, rate: float, chain: ChainWorld) -> _Foot:
    heel, ball, foot = contacts.heel[side], contacts.ball[side], sole.foot
    rotation, ankle = chain.rotation(foot), chain.position(foot)
    flat, stands = heel & ball, heel | ball
    level = _flat_rotations(target, foot, rotation, flat)
    near = nearness(flat, _FLAT_S * rate)
    laid = rotation_vector(multiply(level, conjugate(rotation)))
    weight = strength(np.where(flat, _held_within(flat, rate), _AIR_S), rate)
    one = np.ones((len(heel), 1))
    laid = np.stack([least_jerk([Wish(one, np.where(flat, part, 0.0), weight)])[:, 0] for part in laid.T], axis=1)
    turned = multiply(quaternion_from_rotation_vector(laid), rotation)
    arms = {"heel": rotate(turned, sole.heel), "ball": rotate(turned, sole.ball)}
    # How much of the weight is on the ball: from heel to ball over a flat stance.
    known = heel ^ ball
    fraction = (
        np.interp(np.arange(len(heel)), np.flatnonzero(known), ball[known]) if known.any() else np.full(len(heel), 0.5)
    )
    fraction = smoothed(np.where(flat, fraction, ball.astype(float)), _ROLL_S * rate)
    if sole.toes >= 0:  # of a foot that lies flat the toes do, too
        lying = multiply(conjugate(target.reference.rotations[foot]), target.reference.rotations[sole.toes])
        chain.turn_local(sole.toes, slerp(chain.local(sole.toes), lying, near))
    lowest = _lowest(sole, turned, ankle, chain)
    off = np.zeros_like(ankle)
    for start, stop in runs_of(stands):
        span = slice(start, stop)
        spots = {part: ankle[span] + arm[span] for part, arm in arms.items()}
        own_flat = flat[span]
        if own_flat.any():
            middle = 0.5 * (spots["heel"] + spots["ball"])[own_flat].mean(axis=0)
            half = 0.5 * (arms["ball"] - arms["heel"])[span][own_flat].mean(axis=0)
            anchor = {"heel": middle - half, "ball": middle + half}
        else:
            standing = {"heel": heel[span], "ball": ball[span]}
            anchor = {
                part: spots[part][mask].mean(axis=0) if mask.any() else spots[part].mean(axis=0)
                for part, mask in standing.items()
            }
        on_heel, on_ball = anchor["heel"] - spots["heel"], anchor["ball"] - spots["ball"]
        off[span] = on_heel * (1.0 - fraction[span, None]) + on_ball * fraction[span, None]
    low = target.floor_m - lowest
    off[:, 1] = np.where(stands, low, 0.0)
    off = bridged(off, stands, max(round(_FADE_S * rate), 2))
    shift = _led(off, low, stands, rate)
    # In the air a sole comes near the floor and never through it.
    shift[:, 1] += np.maximum(low - shift[:, 1], 0.0)
    return _Foot(turned, shift, stands)


def _led(off: Floats, low: Floats, stands: np.ndarray, rate: float) -> Floats:
    """The shift ``(frames, 3)`` that is ``off`` where a foot stands, and led from stance to stance with least jerk.

    Where a stance begins and ends it sets in and lets go, not at once: there the source's foot moves, too. ``low`` is
    how far the sole must at least be moved up.
    """
    within = np.where(stands, _held_within(stands, rate), _AIR_S)
    weight = strength(within, rate)
    one = np.ones((len(off), 1))
    level = np.stack([least_jerk([Wish(one, off[:, axis], weight)])[:, 0] for axis in (0, 2)], axis=1)
    up, height = weight.copy(), off[:, 1].copy()
    for _ in range(_ROUNDS):
        found = least_jerk([Wish(one, height, up)])[:, 0]
        deep = ~stands & (found < low)
        if not deep.any():
            break
        up[deep], height[deep] = strength(_LOOSE_S, rate), low[deep]
    return np.stack([level[:, 0], found, level[:, 1]], axis=1)


def _held_within(stands: np.ndarray, rate: float) -> Floats:
    """Within what time a foot that stands is held in its place: looser near the ends of its stances."""
    inside = np.minimum(_frames_from(~stands), _EDGE_S * rate) / (_EDGE_S * rate)
    return np.asarray(_LOOSE_S * (_HELD_S / _LOOSE_S) ** inside)


def _frames_from(mask: np.ndarray) -> Floats:
    """How many frames each frame is away from the nearest true one."""
    places = np.flatnonzero(mask)
    if not len(places):
        return np.full(len(mask), float(len(mask)))
    frames = np.arange(len(mask))
    after = np.searchsorted(places, frames)
    before, behind = places[np.maximum(after - 1, 0)], places[np.minimum(after, len(places) - 1)]
    return np.minimum(np.abs(frames - before), np.abs(frames - behind)).astype(float)


def _flat_rotations(target: RiggedFigure, foot: int, rotation: Floats, flat: np.ndarray) -> Floats:
    """The foot lying on its sole, in each frame with the heading of the nearest flat stance."""
    reference = target.reference.rotations[foot]
    ahead = rotate(multiply(rotation, conjugate(reference)), AHEAD)
    heading = np.unwrap(np.arctan2(ahead[:, 0], ahead[:, 2]))
    runs = runs_of(flat)
    if runs:
        means = np.array([heading[start:stop].mean() for start, stop in runs])
        # From the middle between two stances on, the next one counts.
        borders = [0.5 * (a[1] + b[0]) for a, b in pairwise(runs)]
        heading = means[np.searchsorted(borders, np.arange(len(heading)))]
    return multiply(quaternion_from_axis_angle(UP, heading), reference)


def _lowest(sole: Sole, rotation: Floats, ankle: Floats, chain: ChainWorld) -> Floats:
    """The height of the lowest point of a sole when its foot turns to ``rotation``; toes turn along."""
    toes_local = None if sole.toes < 0 else chain.local(sole.toes)
    heights = []
    for bone, place in zip(sole.bones.tolist(), sole.places, strict=True):
        if bone == sole.foot or toes_local is None:
            heights.append(rotate(rotation, place)[:, 1])
        else:
            joint = rotate(rotation, chain.skeleton.rest_translations[sole.toes])
            heights.append((rotate(multiply(rotation, toes_local), place) + joint)[:, 1])
    # Toes that reach too low are bent up; only the part of the foot before them bears.
    bearing = [h for h, bone in zip(heights, sole.bones.tolist(), strict=True) if bone == sole.foot] or heights
    joint_height = rotate(rotation, sole.ball)[:, 1]
    return np.min([*bearing, joint_height], axis=0) + ankle[:, 1]


def _lift_toes(target: RiggedFigure, sole: Sole, stands: np.ndarray, chain: ChainWorld) -> None:
    """Bend toes up where they would reach through the floor, and down on it where the foot stands on its ball."""
    if sole.toes < 0:
        return
    points = [place for bone, place in zip(sole.bones.tolist(), sole.places, strict=True) if bone == sole.toes]
    if not points:
        return
    rotation, joint = chain.rotation(sole.toes), chain.position(sole.toes)
    places = np.stack([rotate(rotation, place) for place in points])
    index = np.argmin(places[:, :, 1], axis=0)
    lowest = places[index, np.arange(places.shape[1])]
    reach = np.maximum(np.linalg.norm(lowest, axis=1), 1e-6)
    deep = target.floor_m - (lowest[:, 1] + joint[:, 1])
    if deep.max() <= 0.0:
        return
    level = np.hypot(lowest[:, 0], lowest[:, 2])
    now = np.arctan2(lowest[:, 1], level)
    wanted = np.arcsin(np.clip((lowest[:, 1] + np.maximum(deep, 0.0)) / reach, -1.0, 1.0))
    axis = np.cross(lowest, UP)
    axis = axis / np.maximum(np.linalg.norm(axis, axis=1), 1e-9)[:, None]
    chain.turn(sole.toes, multiply(quaternion_from_axis_angle(axis, np.maximum(wanted - now, 0.0)), rotation))


def _hips_for(legs: Mapping[str, tuple[int, ...]], aims: Mapping[str, _Foot], rate: float, chain: ChainWorld) -> Floats:
    """How the hips move so that legs that bear them bend as they did: ``(frames, 3)`` metres, with least jerk.

    A leg of given bend has a length; the hip joint is that far from the foot. Of a leg that is nearly straight the
    bend tells more by the length than of a bent one, so it counts more.
    """
    moved = np.zeros((chain.frames, 3))
    wishes = [Wish(np.tile(row, (chain.frames, 1)), np.zeros(chain.frames), np.full(chain.frames, weight))
              for row, weight in zip(np.eye(3), _HIPS_STAY * strength(_BEARING_S, rate), strict=True)]
    for _ in range(_ROUNDS):
        found = list(wishes)
        for side, (upper, lower, foot) in legs.items():
            limb = chain.limb(upper, lower, foot)
            bent = limb.end - limb.root
            length = np.linalg.norm(bent, axis=1)
            now = limb.root + moved - limb.end - aims[side].shift
            apart = np.maximum(np.linalg.norm(now, axis=1), 1e-9)
            normal = now / apart[:, None]
            value = np.minimum(length, LONGEST * limb.length) - apart + np.einsum("fi,fi->f", normal, moved)
            first, second = limb.lengths
            cosine = np.clip((first**2 + second**2 - length**2) / (2 * first * second), -1.0, 1.0)
            sharp = np.clip(length * limb.length / (4 * first * second) / np.maximum(np.sqrt(1 - cosine**2), 1e-3), 0.5, _SHARPEST)
            bears = np.maximum(nearness(aims[side].standing | (apart > _STRETCHED * limb.length), _BEAR_S * rate), _SWING)
            found.append(Wish(normal, value, bears * (1 + (sharp**2 - 1) * bears) * strength(_BEARING_S, rate)))
        moved = least_jerk(found)
    return moved


def move_hips(hips: int, moved: Floats, chain: ChainWorld) -> None:
    """Move the hips by ``moved`` ``(frames, 3)`` metres in the world."""
    parent = int(chain.skeleton.parents[hips])
    if parent >= 0:
        moved = rotate(conjugate(chain.rotation(parent)), moved)
    chain.move(hips, chain.translations[hips] + moved.T)
