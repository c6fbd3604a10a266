"""Plant the feet: where the source's foot stands, the target's stands still, on its own sole, heel or bare foot.

1. The stances of the source, heel and ball, say when. Each stance gets one place: of a flat foot its middle, else
   of the point it stands on, as the motion that was carried over has it on average.
2. In a flat stance the foot lies as its sole wants; while it rolls it turns as transferred, about the point that
   stands.
3. The hips go where the legs that bear them bend as they did; then knees are solved, keeping their plane.

All corrections are led over time with the least jerk: firm inside a stance, looser at its ends.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np

from fairswap.bones.roles import SIDES
from fairswap.measure.contacts import Contacts, noise_of
from fairswap.measure.soles import Sole, soles_of, tilt_degrees
from fairswap.model.arrays import Floats
from fairswap.model.chain_world import ChainWorld, Limb
from fairswap.model.rotation import (
    conjugate,
    multiply,
    normalized,
    quaternion_between,
    quaternion_from_axis_angle,
    quaternion_from_rotation_vector,
    rotate,
    rotation_vector,
    slerp,
)
from fairswap.model.signals import bridged, frames_from, nearness, runs_of, smoothed, widest
from fairswap.model.space import AHEAD, LEFT, UP
from fairswap.pose.rigged import RiggedFigure
from fairswap.retarget.bearing import carried_hips, move_hips
from fairswap.retarget.inverse_kinematics import solve_limb
from fairswap.retarget.least_jerk import least_jerk_to, strength

# In seconds: how long toes take to lie flat, and a foot that shakes much; the weight to go from heel to ball, and a
# correction to fade in the air; how much of each end of a stance is held loosely.
_FLAT_S, _FLAT_SHAKEN_S, _ROLL_S, _FADE_S, _EDGE_S = 0.12, 0.2, 0.02, 0.25, 0.06
# Within what time a correction may stray: at the very end of a stance, inside it, there of a foot that shakes, and in
# the air. A foot shakes by more leg lengths per second, and much by more leg lengths, than this.
_LOOSE_S, _HELD_S, _HELD_TIGHT_S, _AIR_S = 0.03, 0.02, 0.004, 0.08
_SHAKES, _SHAKES_MUCH = 0.002, 0.0012
# How long before and after a stance a foot in the air goes where it will stand; how softly it is held back, in legs.
_LANDS_S, _SOFT_REACH = 0.1, 0.004
# How far a leg that stands is stretched at most, of its length, unless it was further.
_STRAIGHT = 0.995
# Of what the knee of a leg in the air is bent beyond this, it may open by that share before its foot is held back.
_NEARLY_STRAIGHT_DEGREES, _OPENS = 25.0, 0.25
# How far from the floor foot and toes in the air stay, in leg lengths.
_FOOT_CLEARS, _TOES_CLEAR = 0.003, 0.008
# A foot in the air that would go through the floor is lifted in so many rounds.
_ROUNDS = 3
# How much toes that point up hold to where their foot points.
_NO_SIDE = 1e-3
# What is nearer to the joint of the toes than this share of their length is not lifted by bending them.
_TIPS = 0.5
# How long before and after what lifts a foot, or bends toes up, sets in, seconds.
_EVENLY_S = 0.06
# Up to what tilt a foot that stands with heel and ball is laid flat, since it is meant so.
_FLAT_DEGREES = 12.0


@dataclass(frozen=True, eq=False)
class Planted:
    """What planting did: how far ankles were moved, by side, ``(frames,)``, and the hips, ``(frames, 3)``, metres."""

    moved_m: Mapping[str, Floats]
    hips_m: Floats


@dataclass(frozen=True, eq=False)
class _Foot:
    """One foot's aims: world rotation of the foot ``(frames, 4)``, how it moves ``(frames, 3)``, whether it stands, and
    how far it should be from the floor ``(frames,)``."""

    rotation: Floats
    shift: Floats
    standing: np.ndarray
    clear: Floats


def plant_feet(
    target: RiggedFigure, contacts: Contacts, rate: float, chain: ChainWorld, leg_ratio: float = 1.0, *,
    hips_stay: bool = False, floor_m: float | None = None,
) -> Planted:  # fmt: skip
    """Move the legs and the hips in ``chain`` (local tracks of the target) so that standing feet stand.

    ``contacts`` are the source's, in the same frames; its legs are ``leg_ratio`` times as long. A figure that walks on
    the spot walks over the floor while its feet are planted. If ``hips_stay``, the legs alone give way; the
    floor is the one it rests on, or at ``floor_m``.
    """
    roles = target.roles.bones
    hips, soles = roles["hips"], soles_of(target)
    if contacts.belt_m_s is not None:
        way = -leg_ratio * contacts.belt_m_s * np.arange(chain.frames)[:, None] / rate
        move_hips(hips, way, chain)
        walking = replace(contacts, belt_m_s=None)
        done = plant_feet(target, walking, rate, chain, hips_stay=hips_stay, floor_m=floor_m)
        move_hips(hips, -way, chain)
        return done
    floor_m = target.floor_m if floor_m is None else floor_m
    aims = {side: _aim(target, soles[side], contacts, side, rate, chain, floor_m) for side in SIDES}
    legs = {side: (roles[f"upper_leg_{side}"], roles[f"lower_leg_{side}"], roles[f"foot_{side}"]) for side in SIDES}
    bearing = [(legs[side], aims[side].shift, aims[side].standing) for side in SIDES]
    hips_moved = np.zeros((chain.frames, 3)) if hips_stay else carried_hips(bearing, rate, chain)
    move_hips(hips, hips_moved, chain)
    moved = {}
    for side in SIDES:
        upper, lower, foot = legs[side]
        limb = chain.limb(upper, lower, foot)
        # The limb went along with the hips; its foot does not.
        wanted = _not_overstretched(limb, limb.end - hips_moved + aims[side].shift, aims[side].standing, rate)
        hinge = rotate(multiply(limb.upper, conjugate(target.reference.rotations[upper])), LEFT)
        rotations = solve_limb(limb, limb.root, wanted, hinge)
        chain.turn(upper, rotations[0])
        chain.turn(lower, rotations[1])
        chain.turn(foot, aims[side].rotation)
        for _ in range(2):  # where one point is lifted, another one may be the lowest
            _lift_toes(target, soles[side], aims[side].clear, rate, chain)
        moved[side] = np.linalg.norm(aims[side].shift, axis=1)
    return Planted(moved, hips_moved)


def _aim(
    target: RiggedFigure, sole: Sole, contacts: Contacts, side: str, rate: float, chain: ChainWorld, floor_m: float
) -> _Foot:
    heel, ball, foot = contacts.heel[side], contacts.ball[side], sole.foot
    rotation, ankle = chain.rotation(foot), chain.position(foot)
    flat, stands, tilt = heel & ball, heel | ball, tilt_degrees(target, foot, rotation)
    for start, stop in runs_of(flat):
        flat[start:stop] = np.median(tilt[start:stop]) < _FLAT_DEGREES
    lying = _flat_rotations(target, foot, rotation, flat)
    near = nearness(flat, _FLAT_S * rate)
    noise = noise_of(ankle) / target.reference.leg_m
    holds = _hold_for(noise, rate)
    # A foot that shakes much lies flat some while longer: what it turns then is mostly its shaking.
    lies = nearness(flat, _FLAT_SHAKEN_S * rate) if noise > _SHAKES_MUCH else flat.astype(float)
    laid = rotation_vector(multiply(lying, conjugate(rotation))) * lies[:, None]
    turned = multiply(quaternion_from_rotation_vector(_led(laid, lies > 0.0, holds, rate)), rotation)
    arms = sole.rolls_off(turned)
    if sole.toes >= 0:  # of a foot that lies flat the toes do, too
        toes = chain.rotation(sole.toes)
        lie = quaternion_between(*_bent_and_lying(target, sole, toes, turned))
        # A bone may stand between foot and toes.
        above = multiply(conjugate(rotation), chain.rotation(int(target.skeleton.parents[sole.toes])))
        local = multiply(conjugate(multiply(turned, above)), slerp(toes, multiply(lie, toes), near))
        chain.turn_local(sole.toes, local)
    lowest = _lowest(sole, turned, ankle, chain)
    off = _off_its_place(heel, ball, {part: ankle + arm for part, arm in arms.items()}, rate)
    low = floor_m - lowest
    off[:, 1] = np.where(stands, low, 0.0)
    off = bridged(off, stands, max(round(_FADE_S * rate), 2))
    shift = _led(off, stands, holds, rate)
    in_air = target.reference.leg_m * (1.0 - nearness(stands, _LANDS_S * rate))
    shift[:, 1] = _lifted(off[:, 1], low + _FOOT_CLEARS * in_air, stands, holds, rate)
    return _Foot(turned, shift, stands, _TOES_CLEAR * in_air)


def _not_overstretched(limb: Limb, foot: Floats, standing: np.ndarray, rate: float) -> Floats:
    """Where the ``foot`` ``(frames, 3)`` of a leg goes, so that no knee snaps straight: in the air no further away than
    it was, since nothing holds it; standing it gives way by some millimetres where the leg would be stretched."""
    away = foot - limb.root
    far, was = np.linalg.norm(away, axis=1), np.linalg.norm(limb.end - limb.root, axis=1)
    stands = nearness(standing, _LANDS_S * rate)
    may = stands * np.maximum(_STRAIGHT * limb.length - was, 0.0) + (1.0 - stands) * _opened(limb, was)
    over = far - was - may
    soft = _SOFT_REACH * limb.length
    in_air, beyond = 0.5 * (over + np.sqrt(over**2 + soft**2)), np.maximum(over, 0.0)
    held_back = (1.0 - stands) * in_air + stands * beyond**2 / (beyond + 0.5 * soft)
    return np.asarray(foot - away * (held_back / np.maximum(far, 1e-9))[:, None])


def _opened(limb: Limb, was: Floats) -> Floats:
    """By how much longer a leg that ``was`` so long is for a knee that opens by what nobody minds, ``(frames,)``."""
    first, second = limb.lengths
    straight, product = first**2 + second**2, 2.0 * first * second
    bend = np.arccos(np.clip((was**2 - straight) / product, -1.0, 1.0))
    opens = _OPENS * np.maximum(bend - np.radians(_NEARLY_STRAIGHT_DEGREES), 0.0)
    return np.asarray(np.sqrt(straight + product * np.cos(bend - opens)) - was)


def _off_its_place(heel: np.ndarray, ball: np.ndarray, spots: Mapping[str, Floats], rate: float) -> Floats:
    """How far a foot is from where it stands ``(frames, 3)``, by the ``spots`` of its heel and ball."""
    flat, off = heel & ball, np.zeros_like(spots["heel"])
    # How much of the weight is on the ball: from heel to ball over a flat stance.
    known, frames = heel ^ ball, np.arange(len(heel))
    shared = np.interp(frames, frames[known], ball[known]) if known.any() else np.full(len(heel), 0.5)
    weight = np.where(flat, shared, ball.astype(float))
    for start, stop in runs_of(heel | ball):
        span = slice(start, stop)
        on_ball = smoothed(weight[span], _ROLL_S * rate)[:, None]  # of this stance only: beside it nothing bears
        here = {part: spot[span] for part, spot in spots.items()}
        if flat[span].any():
            place = {part: spot[flat[span]].mean(axis=0) for part, spot in here.items()}
        else:
            stands = {"heel": heel[span], "ball": ball[span]}
            place = {part: spot[stands[part]].mean(axis=0) if stands[part].any() else spot.mean(axis=0)
                     for part, spot in here.items()}  # fmt: skip
        to = {part: place[part] - here[part] for part in here}
        off[span] = to["heel"] * (1.0 - on_ball) + to["ball"] * on_ball
    return off


def _led(values: Floats, stands: np.ndarray, holds: tuple[float, float], rate: float) -> Floats:
    """``values`` ``(frames, n)``, kept where a foot stands, and led from stance to stance with the least jerk."""
    return least_jerk_to(values, strength(np.where(stands, _held_within(stands, holds, rate), _AIR_S), rate))


def _lifted(height: Floats, low: Floats, stands: np.ndarray, holds: tuple[float, float], rate: float) -> Floats:
    """As :func:`_led`, of a height ``(frames,)``; in the air it is no lower than ``low``."""
    within = np.where(stands, _held_within(stands, holds, rate), _AIR_S)
    for _ in range(_ROUNDS):
        found = least_jerk_to(height[:, None], strength(within, rate))[:, 0]
        deep = ~stands & (found < low)
        if not deep.any():
            break
        height, within = np.where(deep, low, height), np.where(deep, _LOOSE_S, within)
    return found + _evenly(np.maximum(low - found, 0.0), rate)


def _held_within(stands: np.ndarray, holds: tuple[float, float], rate: float) -> Floats:
    """Within what time a foot that stands is held in its place.

    Near the ends of a stance, where the source's foot moves too, it sets in and lets go, not at once.
    """
    inside = np.minimum(frames_from(~stands), _EDGE_S * rate) / (_EDGE_S * rate)
    return np.asarray(holds[0] * (holds[1] / holds[0]) ** inside)


def _hold_for(noise: float, rate: float) -> tuple[float, float]:
    """Within what time a foot is held at the end of a stance and inside it, by how many leg lengths it shakes.

    The more, the tighter, since its own motion is not to be followed then.
    """
    if noise > _SHAKES_MUCH:
        return _HELD_TIGHT_S, _HELD_TIGHT_S
    return _LOOSE_S, _HELD_TIGHT_S if noise * rate > _SHAKES else _HELD_S


def _flat_rotations(target: RiggedFigure, foot: int, rotation: Floats, flat: np.ndarray) -> Floats:
    """The foot lying on its sole, in each frame with the heading of the nearest flat stance."""
    ahead = _turned(target, foot, rotation, AHEAD)
    heading = np.unwrap(np.arctan2(ahead[:, 0], ahead[:, 2]))
    runs = runs_of(flat)
    if runs:
        means = np.array([heading[start:stop].mean() for start, stop in runs])
        # From the middle between two stances on, the next one counts.
        borders = [0.5 * (a[1] + b[0]) for a, b in pairwise(runs)]
        heading = means[np.searchsorted(borders, np.arange(len(heading)))]
    return multiply(quaternion_from_axis_angle(UP, heading), target.reference.rotations[foot])


def _turned(target: RiggedFigure, bone: int, rotation: Floats, way: Floats) -> Floats:
    """Where what has the direction ``way`` in the reference pose points when a bone turns to ``rotation``."""
    return rotate(multiply(rotation, conjugate(target.reference.rotations[bone])), way)


def _bent_and_lying(target: RiggedFigure, sole: Sole, toes: Floats, foot: Floats) -> tuple[Floats, Floats]:
    """Where toes point ``(frames, 3)``, and where they would if they lay level with the foot: to the same side."""
    bent, up = _turned(target, sole.toes, toes, AHEAD), _turned(target, sole.foot, foot, UP)
    level = bent - np.einsum("fi,fi->f", bent, up)[:, None] * up
    # Toes that point straight up have no side.
    return bent, normalized(level + _NO_SIDE * _turned(target, sole.foot, foot, AHEAD))


def _lowest(sole: Sole, rotation: Floats, ankle: Floats, chain: ChainWorld) -> Floats:
    """The height of the lowest point of a sole when its foot turns to ``rotation``; toes turn along."""
    turned = multiply(rotation, conjugate(chain.rotation(sole.foot)))
    heights = []
    for bone, place in zip(sole.bones.tolist(), sole.places, strict=True):
        if bone == sole.foot or sole.toes < 0:
            heights.append(rotate(rotation, place)[:, 1])
        else:
            joint = chain.position(sole.toes) - chain.position(sole.foot)
            heights.append(rotate(turned, joint + rotate(chain.rotation(sole.toes), place))[:, 1])
    # Toes that reach too low are bent up; only the part of the foot before them bears.
    bearing = [h for h, bone in zip(heights, sole.bones.tolist(), strict=True) if bone == sole.foot] or heights
    ball = sole.rolls_off(rotation)["ball"][:, 1]
    return np.min([*bearing, ball], axis=0) + ankle[:, 1]


def _lift_toes(target: RiggedFigure, sole: Sole, clear: Floats, rate: float, chain: ChainWorld) -> None:
    """Bend toes up where they would reach lower than ``clear`` ``(frames,)`` over the floor, metres."""
    if sole.toes < 0:
        return
    points = [place for bone, place in zip(sole.bones.tolist(), sole.places, strict=True) if bone == sole.toes]
    if not points:
        return
    rotation, joint = chain.rotation(sole.toes), chain.position(sole.toes)
    # About a level line across the foot, whichever of their points is the lowest: from frame to frame that changes.
    across = -_turned(target, sole.foot, chain.rotation(sole.foot), LEFT) * [1.0, 0.0, 1.0]
    across /= np.maximum(np.linalg.norm(across, axis=1), 1e-9)[:, None]
    far = np.array(points) @ np.mean(points, axis=0)
    places = np.stack(
        [rotate(rotation, point) for point, on in zip(points, far, strict=True) if on >= _TIPS * far.max()]
    )
    high, onward = places[:, :, 1], np.cross(across, places)[:, :, 1]
    wanted = (target.floor_m + clear - joint[:, 1]) / np.maximum(np.hypot(high, onward), 1e-6)
    bend = np.arcsin(np.clip(wanted, -1.0, 1.0)) - np.arctan2(high, onward)
    bend = np.maximum(np.where(onward > 0.0, bend, 0.0).max(axis=0), 0.0)
    if bend.max() > 0.0:
        chain.turn(sole.toes, multiply(quaternion_from_axis_angle(across, _evenly(bend, rate)), rotation))


def _evenly(lift: Floats, rate: float) -> Floats:
    """A lift that is needed ``(frames,)``, begun before and ended after, without a corner; at most 4 % short of it."""
    width = max(round(_EVENLY_S * rate), 1)
    return smoothed(widest(lift, width), 0.5 * width)
