"""The acts of the troupe, danced by an abstract body whose legs are one long.

An act gives, over time, the turn of every body part away from the neutral T (in the world) and where the hips are,
in leg lengths from where they rest. So each member can perform it directly, whatever its proportions: that is the truth
conversions are held against. Feet are planted by plan, and the legs solved to reach them.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction
from itertools import pairwise

import numpy as np

from fairswap.bones.roles import FINGERS
from fairswap.clip import Clip, Poses
from fairswap.demo.anatomy import Body
from fairswap.kernels import Floats
from fairswap.rotation import (
    conjugate,
    multiply,
    normalized,
    quaternion_from_axis_angle,
    quaternion_from_matrix,
    rotate,
    slerp,
    without_sign_jumps,
)
from fairswap.skeleton import Skeleton

# The abstract body, in leg lengths: joint of the hip beside and below the hips bone, ankle and ball of the foot.
_HIP_ASIDE, _HIP_BELOW, _ANKLE, _BALL, _BALL_AHEAD, _HEEL_BEHIND = 0.120, 0.055, 0.125, 0.038, 0.158, 0.045
_SOFT_REACH = 0.965
_SIDES = (("left", 1.0), ("right", -1.0))


@dataclass(frozen=True, eq=False)
class Act:
    """A motion without a body.

    ``turns`` maps roles to world turns away from the T, ``(frames, 4)``; spine and neck are told at their ends
    (``hips``, ``chest``, ``head``) and bend evenly between. ``hips`` is ``(frames, 3)`` in leg lengths.
    """

    name: str
    rate: int
    turns: Mapping[str, Floats]
    hips: Floats

    @property
    def frames(self) -> int:
        return len(self.hips)


def perform(act: Act, body: Body, skeleton: Skeleton) -> Clip:
    """The act on a body of the troupe, whose ``skeleton`` may rest in any pose."""
    if skeleton.names != body.names:
        raise ValueError(f"the skeleton is not that of {body.name}")
    motion = dict(act.turns)
    for kind, low, high in (("spine", "hips", "chest"), ("neck", "chest", "head")):
        bones = [bone for bone in body.bones if bone.startswith(f"{kind}_")]
        places = np.array([body.places[body.index[bone]] for bone in bones])
        after = body.index["neck_1" if kind == "spine" else "head"]
        lengths = np.linalg.norm(np.diff(np.concatenate([places, body.places[after][None]]), axis=0), axis=1)
        shares = np.cumsum(lengths) / lengths.sum()
        end = motion[high] if kind == "spine" else slerp(motion["chest"], motion["head"], 0.6)
        for bone, share in zip(bones, shares, strict=True):
            motion[bone] = slerp(motion[low], end, share)
    world = multiply(body.turns(motion, act.frames), body.tpose[:, None])
    tracks = np.empty((len(body.bones), 4, act.frames))
    for index, parent in enumerate(body.parents):
        local = multiply(conjugate(world[parent]), world[index]) if parent >= 0 else world[index]
        tracks[index] = without_sign_jumps(np.ascontiguousarray(local.T))
    _share_twist(body, tracks)
    hips = body.index["hips"]
    place = skeleton.rest.positions[0, hips] + leg_length(body) * act.hips
    parent = body.parents[hips]
    if parent >= 0:
        place = rotate(conjugate(body.tpose[parent]), place - body.places[parent])
    poses = Poses(skeleton, tracks, np.array([hips], dtype=np.intp), np.ascontiguousarray(place.T)[None])
    return Clip(act.name, Fraction(act.rate), poses, frozenset(range(len(body.bones))))


def _share_twist(body: Body, tracks: Floats) -> None:
    """Twist helpers halfway along a forearm take half of the hand's twist; those of an upper arm half the elbow's."""
    for index, bone in enumerate(body.bones):
        kind, _, side = bone.rpartition("_twist_")
        if kind:
            name = {"elbow": "hand", "shoulder_joint": "lower_arm"}[kind] + {"l": "_left", "r": "_right"}[side]
            after, holder = body.index[name], body.parents[index]
            level = multiply(conjugate(body.tpose[holder]), body.tpose[after])
            change = multiply(tracks[after].T, conjugate(level))
            along = rotate(conjugate(body.tpose[holder]), body.places[after] - body.places[holder])
            twist = 2.0 * np.arctan2(change[:, :3] @ normalized(along), change[:, 3])
            own = multiply(conjugate(body.tpose[holder]), body.tpose[index])
            tracks[index] = multiply(quaternion_from_axis_angle(along, 0.5 * np.unwrap(twist)), own).T


def leg_length(body: Body) -> float:
    """Hip to ankle."""
    places = [body.places[body.index[f"{part}_left"]] for part in ("upper_leg", "lower_leg", "foot")]
    return float(np.linalg.norm(np.diff(places, axis=0), axis=1).sum())


def walk(rate: int = 30, seconds: float = 6.0) -> Act:
    """A relaxed walk straight ahead, eleven steps of it."""
    time = np.arange(round(seconds * rate) + 1) / rate
    step_s, step = 0.56, 0.66
    phase = time / (2 * step_s)  # one turn is two steps; the left heel strikes at 0
    speed = step / step_s
    circle = 2 * np.pi * phase
    hips = np.stack(
        [
            0.022 * np.sin(circle - 0.35),
            -0.050 - 0.018 * np.cos(2 * circle - 0.25),
            speed * time + 0.012 * np.sin(2 * circle + 0.6),
        ],
        axis=1,
    )
    pelvis = _euler(2.0 + 1.0 * np.cos(2 * circle), -6.0 * np.cos(circle), 3.0 * np.sin(circle + 0.1))
    chest = _euler(4.0 + 1.2 * np.cos(2 * circle + 0.5), 6.5 * np.cos(circle - 0.15), -1.5 * np.sin(circle))
    head = _euler(1.5 - 0.8 * np.cos(2 * circle), 1.2 * np.cos(circle), -0.5 * np.sin(circle))
    turns = {"hips": pelvis, "chest": chest, "head": head}
    for side, sign in _SIDES:
        foot = _walking_foot(phase + (0.0 if side == "left" else 0.5), step, sign)
        # The other foot's cycle counts from half a cycle earlier.
        if side == "right":
            foot = _Foot(foot.place - [0.0, 0.0, step], foot.yaw, foot.pitch, foot.toes)
        _set_leg(turns, side, sign, hips, foot)
        swing = -sign * np.cos(circle - 0.25)
        _set_arm(
            turns, side, sign, flex=4.0 + 21.0 * swing, lift=11.0 + 2.0 * np.cos(2 * circle), twist=8.0 + 0 * time,
            elbow=20.0 + 11.0 * np.clip(swing, -0.6, 1.0), wrist=4.0 * swing, curl=24.0 + 3.0 * swing,
        )  # fmt: skip
    return Act("Walk", rate, turns, hips)


def turn_and_bow(rate: int = 60, seconds: float = 8.5) -> Act:
    """Around once on the spot in small steps, then a deep bow with one arm swept out."""
    time = np.arange(round(seconds * rate) + 1) / rate
    stance = 0.115
    plans = {side: _Plan([(0.0, np.array([sign * stance, 0.0, 0.0]), 6.0 * sign)]) for side, sign in _SIDES}
    begin, pace = 0.35, 0.38
    weight: list[tuple[float, float]] = [(0.0, 0.0)]  # time, which foot carries: +1 left, -1 right
    for number in range(9):
        side, sign = _SIDES[number % 2]
        angle = min(45.0 * (number + 1), 360.0)
        place = _rotate_y(np.array([sign * stance, 0.0, 0.0]), angle)
        start = begin + pace * number
        plans[side].step(start, start + pace * 0.92, place, angle + 6.0 * sign, 0.055)
        weight.append((start + 0.45 * pace, -sign))
    turned = begin + 9 * pace
    back = turned + 0.25
    plans["right"].step(back, back + 0.42, np.array([-stance - 0.02, 0.0, -0.30]), 360.0 - 24.0, 0.03)
    weight += [
        (back + 0.2, 0.9),
        (back + 0.7, 0.35),
        (seconds - 2.0, 0.35),
        (seconds - 1.35, 0.8),
        (seconds - 0.5, 0.0),
    ]
    plans["right"].step(seconds - 1.45, seconds - 0.95, np.array([-stance, 0.0, 0.0]), 360.0 - 6.0, 0.03)
    bow = [(back + 0.15, 0.0), (back + 1.15, 1.0), (back + 1.75, 1.0), (back + 2.85, 0.0)]
    bend, carried = _keyed(time, bow), _keyed(time, weight)
    sweep = _keyed(time, [(back - 0.1, 0.0), (back + 0.75, 1.0), (back + 1.9, 1.0), (back + 3.0, 0.0)])
    present = _keyed(time, [(0.1, 0.0), (0.8, 1.0), (turned - 0.5, 1.0), (turned + 0.2, 0.0)])
    heading = _keyed(
        time, [(begin - 0.15, 0.0), (begin + 0.5, 32.0), (turned - 0.55, 335.0), (turned + 0.05, 360.0)], linear=True
    )
    feet = {side: plans[side].at(time) for side, _ in _SIDES}
    middle = 0.5 * (feet["left"].place + feet["right"].place)
    toward = 0.5 * (feet["left"].place - feet["right"].place) * carried[:, None]
    stepping = np.abs(np.sin(np.clip((time - begin) / pace, 0, 9) * np.pi))
    hips = middle + 0.55 * toward
    hips = _smoothed(hips, rate, 0.10)
    hips[:, 1] = -0.026 - 0.012 * stepping - 0.05 * bend
    hips += _rotate_y(np.array([0.0, 0.0, -0.15]), heading) * bend[:, None]
    breath = np.sin(2 * np.pi * time / 3.4)
    level = _euler(0 * time, heading, 0 * time)
    lean = _euler(24.0 * bend + 1.0, 0 * time, 2.5 * carried)
    upper = _euler(62.0 * bend + 2.0 - 1.2 * breath, 6.0 * sweep + 3.0 * present, -1.5 * carried)
    look = _euler(70.0 * bend - 4.0 * present, 8.0 * present * np.cos(np.radians(heading)), -2.0 * bend)
    turns = {"hips": multiply(level, lean), "chest": multiply(level, upper), "head": multiply(level, look)}
    for side, sign in _SIDES:
        _set_leg(turns, side, sign, hips, feet[side])
        across, out = (bend * sweep, 0 * sweep) if side == "right" else (0 * sweep, sweep)
        _set_arm(
            turns, side, sign,
            flex=3.0 + 38.0 * across + 22.0 * present - 20.0 * out,
            lift=9.0 + 16.0 * across + 34.0 * present + 56.0 * out + 1.5 * breath,
            twist=10.0 + 46.0 * across - 26.0 * out - 10.0 * present,
            elbow=14.0 + 78.0 * across + 22.0 * present + 8.0 * out,
            wrist=6.0 * out - 8.0 * present, curl=22.0 - 12.0 * out - 10.0 * present,
        )  # fmt: skip
    return Act("Turn and bow", rate, turns, hips)


@dataclass(frozen=True, eq=False)
class _Foot:
    """A foot over time: where its ball would be if it were flat ``(frames, 3)``, heading, pitch (heel up) and toes' own
    bend back to the floor, in degrees."""

    place: Floats
    yaw: Floats
    pitch: Floats
    toes: Floats


class _Plan:
    """Where one foot stands, and when it steps."""

    def __init__(self, stands: list[tuple[float, Floats, float]]) -> None:
        self.first = stands[0]
        self.steps: list[tuple[float, float, Floats, float, float]] = []

    def step(self, start: float, stop: float, place: Floats, yaw: float, lift: float) -> None:
        self.steps.append((start, stop, place, yaw, lift))

    def at(self, time: Floats) -> _Foot:
        _, place, yaw = self.first
        places, yaws = np.tile(place, (len(time), 1)), np.full(len(time), yaw)
        pitch, toes = np.zeros(len(time)), np.zeros(len(time))
        for start, stop, to, new_yaw, lift in self.steps:
            ease = _ease((time - start) / (stop - start))
            places += (to - place) * ease[:, None]
            places[:, 1] += lift * _hump((time - start) / (stop - start))
            yaws += (new_yaw - yaw) * ease
            # The heel leaves first and comes down last: up on the ball before the step, and after it.
            early = _hump((time - start + 0.10) / (0.75 * (stop - start) + 0.10))
            pitch += 26.0 * early
            toes += 26.0 * early * (1.0 - ease)
            place, yaw = to, new_yaw
        return _Foot(places, yaws, pitch, toes)


def _walking_foot(phase: Floats, step: float, sign: float) -> _Foot:
    """One foot of a walk; phase 0 is the strike of the heel, from 0.62 on it swings."""
    cycle, count = phase % 1.0, np.floor(phase)
    swing = np.clip((cycle - 0.62) / 0.38, 0.0, 1.0)
    pitch = np.interp(cycle, *_spline(
        [(0.0, -13.0), (0.05, -7.0), (0.10, 0.0), (0.36, 0.0), (0.47, 10.0), (0.56, 28.0), (0.63, 44.0), (0.72, 36.0),
         (0.83, 6.0), (0.92, -11.0), (1.0, -13.0)]
    ))  # fmt: skip
    place = np.zeros((len(phase), 3))
    place[:, 0] = sign * 0.095
    # At the strike the foot lands half a step ahead of the hips, and then stays.
    place[:, 2] = (count + _ease(swing)) * 2 * step + 0.5 * step + 0.02
    place[:, 1] = 0.028 * _hump(swing)
    toes = np.where(swing > 0, np.maximum(pitch, 0) * (1.0 - _ease(swing * 1.6)), np.maximum(pitch, 0.0))
    return _Foot(place, np.full(len(phase), 5.0 * sign), pitch, toes)


def _set_leg(turns: dict[str, Floats], side: str, sign: float, hips: Floats, foot: _Foot) -> None:
    """Solve thigh and shin so that the ankle is where the foot wants it, the knee ahead."""
    yaw = quaternion_from_axis_angle([0, 1, 0], np.radians(foot.yaw))
    tilt = multiply(yaw, quaternion_from_axis_angle([1, 0, 0], np.radians(foot.pitch)))
    up, down = foot.pitch >= 0, foot.pitch < 0
    # Heel up: about the ball. Toes up: about the heel.
    ball = np.array([0.0, _BALL, 0.0])
    about_ball = rotate(tilt, np.array([0.0, _ANKLE - _BALL, -_BALL_AHEAD])) + ball
    heel = np.array([0.0, 0.0, -_BALL_AHEAD - _HEEL_BEHIND])
    about_heel = rotate(yaw, heel) + rotate(tilt, np.array([0.0, _ANKLE, _HEEL_BEHIND]))
    ankle = foot.place + about_ball * up[:, None] + about_heel * down[:, None]
    rest = np.array([0.0, 1.0 + _ANKLE + _HIP_BELOW, 0.0])
    hip = rest + hips + rotate(turns["hips"], np.array([sign * _HIP_ASIDE, -_HIP_BELOW, 0.0]))
    reach = ankle - hip
    # Near full stretch the knee would snap: let the leg come short of the foot a little instead.
    distance = np.linalg.norm(reach, axis=1)
    room = 1.0 - _SOFT_REACH
    soft = _SOFT_REACH + room * (1.0 - np.exp(-np.maximum(distance - _SOFT_REACH, 0.0) / room))
    distance = np.where(distance > _SOFT_REACH, soft, distance)
    along = normalized(reach)
    ahead = rotate(slerp(turns["hips"], yaw, 0.5), np.array([0.08 * sign, 0.0, 1.0]))
    hinge = normalized(np.cross(ahead, along))
    bend = np.arccos(np.clip(distance, 0.0, 1.0))  # both bones are half a leg long
    for role, angle in ((f"upper_leg_{side}", -bend), (f"lower_leg_{side}", bend)):
        direction = rotate(quaternion_from_axis_angle(hinge, angle), along)
        matrix = np.stack([hinge, -direction, np.cross(hinge, -direction)], axis=-1)
        turns[role] = quaternion_from_matrix(matrix)
    turns[f"foot_{side}"] = tilt
    turns[f"toes_{side}"] = multiply(tilt, quaternion_from_axis_angle([1, 0, 0], -np.radians(foot.toes)))


def _set_arm(
    turns: dict[str, Floats], side: str, sign: float, *, flex: Floats, lift: Floats, twist: Floats, elbow: Floats,
    wrist: Floats, curl: Floats,
) -> None:  # fmt: skip
    """An arm from angles in degrees: forward, out to the side, about itself, elbow, wrist, fingers."""
    chest = turns["chest"]
    zero = 0.0 * flex
    collar = multiply(chest, _euler(zero, zero, sign * np.maximum(lift - 40.0, 0.0) * 0.25))
    upper = multiply(chest, quaternion_from_axis_angle([1, 0, 0], -np.radians(flex)))
    upper = multiply(upper, quaternion_from_axis_angle([0, 0, 1], -sign * np.radians(90.0 - lift)))
    upper = multiply(upper, quaternion_from_axis_angle([1, 0, 0], np.radians(twist)))
    lower = multiply(upper, quaternion_from_axis_angle([0, 1, 0], -sign * np.radians(elbow)))
    hand = multiply(lower, quaternion_from_axis_angle([1, 0, 0], np.radians(0.4 * twist)))
    hand = multiply(hand, quaternion_from_axis_angle([0, 0, 1], -sign * np.radians(wrist)))
    turns |= {f"shoulder_{side}": collar, f"upper_arm_{side}": upper, f"lower_arm_{side}": lower, f"hand_{side}": hand}
    for number, finger in enumerate(FINGERS):
        bent = hand
        for part, share in (("proximal", 0.9), ("intermediate", 1.1), ("distal", 0.7)):
            bent = multiply(
                bent, quaternion_from_axis_angle([0, 0, 1], -sign * np.radians(curl * share * (0.8 + 0.12 * number)))
            )
            turns[f"{finger}_{part}_{side}"] = bent
    bent = hand
    for part, share in (("metacarpal", 0.2), ("proximal", 0.35), ("distal", 0.6)):
        bent = multiply(bent, quaternion_from_axis_angle([0.35, 0.9 * sign, -0.2 * sign], np.radians(curl * share)))
        turns[f"thumb_{part}_{side}"] = bent


def _euler(pitch: Floats, yaw: Floats, roll: Floats) -> Floats:
    """Heading first, then forward bend, then to the side; degrees."""
    out = quaternion_from_axis_angle([0, 1, 0], np.radians(yaw))
    out = multiply(out, quaternion_from_axis_angle([1, 0, 0], np.radians(pitch)))
    return multiply(out, quaternion_from_axis_angle([0, 0, 1], np.radians(roll)))


def _ease(share: Floats) -> Floats:
    """From 0 to 1 with the least jerk (Flash and Hogan 1985)."""
    t = np.clip(share, 0.0, 1.0)
    return t**3 * (10.0 - 15.0 * t + 6.0 * t**2)


def _hump(share: Floats) -> Floats:
    """Up and down again, smooth at both ends."""
    return np.sin(np.pi * np.clip(share, 0.0, 1.0)) ** 2


def _keyed(time: Floats, keys: Sequence[tuple[float, float]], linear: bool = False) -> Floats:
    """A value that eases from key to key; with ``linear`` it keeps its speed between the inner ones."""
    if linear:
        x, y = _spline(list(keys))
        return np.interp(time, x, y)
    out = np.full(len(time), keys[0][1])
    for (t0, v0), (t1, v1) in pairwise(keys):
        out += (v1 - v0) * _ease((time - t0) / (t1 - t0))
    return out


def _spline(keys: list[tuple[float, float]]) -> tuple[Floats, Floats]:
    """A finely sampled cubic through keys, level at the ends, that does not overshoot (Fritsch and Butland 1984)."""
    x, y = np.array(keys).T
    step, slope = np.diff(x), np.diff(y) / np.diff(x)
    tangent = np.zeros(len(x))
    same = slope[:-1] * slope[1:] > 0
    tangent[1:-1][same] = 2.0 / (1.0 / slope[:-1][same] + 1.0 / slope[1:][same])
    fine = np.linspace(x[0], x[-1], 800)
    i = np.clip(np.searchsorted(x, fine, side="right") - 1, 0, len(step) - 1)
    t = (fine - x[i]) / step[i]
    value = (2 * t**3 - 3 * t**2 + 1) * y[i] + (t**3 - 2 * t**2 + t) * step[i] * tangent[i]
    return fine, value + (-2 * t**3 + 3 * t**2) * y[i + 1] + (t**3 - t**2) * step[i] * tangent[i + 1]


def _smoothed(track: Floats, rate: int, seconds: float) -> Floats:
    """A Gaussian over time; ends held."""
    width = max(round(3 * seconds * rate), 1)
    kernel = np.exp(-0.5 * (np.arange(-width, width + 1) / (seconds * rate)) ** 2)
    kernel /= kernel.sum()
    padded = np.pad(track, ((width, width), (0, 0)), mode="edge")
    return np.stack([np.convolve(column, kernel, mode="valid") for column in padded.T], axis=1)


def _rotate_y(vector: Floats, degrees: Floats | float) -> Floats:
    return rotate(quaternion_from_axis_angle([0, 1, 0], np.radians(degrees)), vector)


ACTS: dict[str, Callable[[], Act]] = {"walk": walk, "turn-and-bow": turn_and_bow}
