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
from fairswap.model.rotation import conjugate, multiply, quaternion_from_axis_angle, rotate, slerp
from fairswap.model.signals import bridged, nearness, runs_of, smoothed, widest, widest_mask
from fairswap.model.space import AHEAD, LEFT, UP
from fairswap.pose.rigged import RiggedFigure
from fairswap.retarget.inverse_kinematics import LONGEST, solve_limb

# How long a foot takes to lie flat, a correction to fade, and the hips to go down, in seconds.
_FLAT_S, _FADE_S, _LOWER_S, _SHIFT_S, _EDGE_S = 0.12, 0.25, 0.16, 0.07, 0.025
_SOFT_FLOOR_M, _SHAKING_M = 0.004, 0.0015


@dataclass(frozen=True, eq=False)
class Planted:
    """What planting did: how far ankles were moved, by side, and the hips raised: ``(frames,)``, metres."""

    moved_m: Mapping[str, Floats]
    raised_m: Floats


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
    raised = _carrying(legs, aims, rate, chain)
    raised = raised - _lowering(legs, aims, raised, rate, chain)
    if raised.any():
        raise_hips(hips, raised, chain)
    moved = {}
    for side in SIDES:
        upper, lower, foot = legs[side]
        limb = chain.limb(upper, lower, foot)
        wanted = limb.end + aims[side].shift
        wanted[:, 1] -= raised  # the limb went along with the hips; its foot does not
        hinge = rotate(multiply(limb.upper, conjugate(target.reference.rotations[upper])), LEFT)
        rotations = solve_limb(limb, limb.root, wanted, hinge)
        chain.turn(upper, rotations[0])
        chain.turn(lower, rotations[1])
        chain.turn(foot, aims[side].rotation)
        _lift_toes(target, soles[side], aims[side].standing, chain)
        moved[side] = np.linalg.norm(aims[side].shift, axis=1)
    return Planted(moved, raised)


def _aim(target: RiggedFigure, sole: Sole, contacts: Contacts, side: str, rate: float, chain: ChainWorld) -> _Foot:
    heel, ball, foot = contacts.heel[side], contacts.ball[side], sole.foot
    rotation, ankle = chain.rotation(foot), chain.position(foot)
    flat, stands = heel & ball, heel | ball
    level = _flat_rotations(target, foot, rotation, flat)
    near = nearness(flat, _FLAT_S * rate)
    turned = slerp(rotation, level, near)
    arms = {"heel": rotate(turned, sole.heel), "ball": rotate(turned, sole.ball)}
    # How much of the weight is on the ball: from heel to ball over a flat stance.
    known = heel ^ ball
    fraction = (
        np.interp(np.arange(len(heel)), np.flatnonzero(known), ball[known]) if known.any() else np.full(len(heel), 0.5)
    )
    fraction = np.where(flat, fraction, ball.astype(float))
    if sole.toes >= 0:  # of a foot that lies flat the toes do, too
        lying = multiply(conjugate(target.reference.rotations[foot]), target.reference.rotations[sole.toes])
        chain.turn_local(sole.toes, slerp(chain.local(sole.toes), lying, near))
    lowest = _lowest(sole, turned, ankle, chain)
    shift = np.zeros_like(ankle)
    for start, stop in runs_of(stands):
        span = slice(start, stop)
        here = slice(start, stop)
        spots = {part: ankle[span] + arm[span] for part, arm in arms.items()}
        own_flat = flat[here]
        if own_flat.any():
            middle = 0.5 * (spots["heel"] + spots["ball"])[own_flat].mean(axis=0)
            half = 0.5 * (arms["ball"] - arms["heel"])[span][own_flat].mean(axis=0)
            anchor = {"heel": middle - half, "ball": middle + half}
        else:
            standing = {"heel": heel[here], "ball": ball[here]}
            anchor = {
                part: spots[part][mask].mean(axis=0) if mask.any() else spots[part].mean(axis=0)
                for part, mask in standing.items()
            }
        off = {part: anchor[part] - spots[part] for part in anchor}
        shift[span] = off["heel"] * (1.0 - fraction[span, None]) + off["ball"] * fraction[span, None]
    shift[:, 1] = np.where(stands, target.floor_m - lowest, 0.0)
    shift = bridged(shift, stands, max(round(_FADE_S * rate), 2))
    # Where a stance begins and ends, what holds it sets in and lets go within a few frames, not at once.
    # (Not of feet that shake: there the correction takes the shaking out, and may not be smooth.)
    if contacts.noise_m < _SHAKING_M:
        inside = nearness(~widest_mask(~stands, round(_EDGE_S * rate)), _EDGE_S * rate)[:, None]
        shift = inside * shift + (1.0 - inside) * smoothed(shift, 0.7 * _EDGE_S * rate)
    # In the air a sole comes near the floor and never through it.
    height = lowest + shift[:, 1] - target.floor_m
    soft = _SOFT_FLOOR_M * (1.0 - nearness(stands, 0.1 * rate))
    shift[:, 1] += 0.5 * (np.sqrt(height**2 + soft**2) - height)
    return _Foot(turned, shift, stands)


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


def _carrying(legs: Mapping[str, tuple[int, ...]], aims: Mapping[str, _Foot], rate: float, chain: ChainWorld) -> Floats:
    """How far up the hips should go so that the legs that bear them bend as they did: ``(frames,)`` metres, smooth."""
    wishes, weights = [], []
    for side, (upper, lower, foot) in legs.items():
        limb = chain.limb(upper, lower, foot)
        old, new = limb.end - limb.root, limb.end + aims[side].shift - limb.root
        height = np.sqrt(np.maximum(np.sum(old**2, axis=1) - new[:, 0] ** 2 - new[:, 2] ** 2, 0.0))
        wishes.append(new[:, 1] + height)
        # A leg bears less the further it is stretched out to the side or ahead, and nothing in the air.
        weights.append(nearness(aims[side].standing, _SHIFT_S * rate) * (height / limb.length) ** 4)
    total = np.sum(weights, axis=0)
    if total.max() <= 0.0:
        return np.zeros(len(total))
    mean = np.sum(np.array(wishes) * weights, axis=0) / np.maximum(total, 1e-9)
    borne = total > 1e-3
    mean = np.interp(np.arange(len(mean)), np.flatnonzero(borne), mean[borne])
    return smoothed(mean, _SHIFT_S * rate)


def _lowering(
    legs: Mapping[str, tuple[int, ...]], aims: Mapping[str, _Foot], raised: Floats, rate: float, chain: ChainWorld
) -> Floats:
    """How far the hips must go down so that every standing leg reaches its foot, ``(frames,)`` metres, smooth."""
    need = np.zeros(chain.frames)
    for side, (upper, lower, foot) in legs.items():
        limb = chain.limb(upper, lower, foot)
        reach = limb.end + aims[side].shift - limb.root
        reach[:, 1] -= raised
        longest = limb.length * LONGEST
        level = np.minimum(np.hypot(reach[:, 0], reach[:, 2]), 0.98 * longest)
        deep = -reach[:, 1] - np.sqrt(longest**2 - level**2)
        need = np.maximum(need, np.where(aims[side].standing, np.maximum(deep, 0.0), 0.0))
    if need.max() <= 0.0:
        return np.zeros_like(need)
    width = max(round(_LOWER_S * rate), 1)
    return np.maximum(smoothed(widest(need, width), width / 3.0), 0.0)


def raise_hips(hips: int, raised: Floats, chain: ChainWorld) -> None:
    """Move the hips up by ``raised`` ``(frames,)`` metres in the world."""
    parent = int(chain.skeleton.parents[hips])
    up = np.zeros((len(raised), 3))
    up[:, 1] = raised
    if parent >= 0:
        up = rotate(conjugate(chain.rotation(parent)), up)
    chain.move(hips, chain.translations[hips] + up.T)
