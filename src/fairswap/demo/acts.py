"""The acts of the troupe, danced by an abstract body whose legs are one long.

An act gives, over time, the turn of every body part away from the neutral T (in the world) and where the hips are,
in leg lengths from where they rest. So each member can perform it directly, whatever its proportions: that is the truth
conversions are held against. Feet are planted by plan, and the legs solved to reach them.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from itertools import pairwise

import numpy as np

from fairswap.bones.roles import FINGERS
from fairswap.demo.anatomy import Body
from fairswap.measure.palms import palms_of
from fairswap.model.arrays import Floats
from fairswap.model.chain_world import ChainWorld
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.poses import Poses
from fairswap.model.rotation import (
    conjugate,
    multiply,
    normalized,
    quaternion_from_axis_angle,
    quaternion_from_matrix,
    rotate,
    slerp,
    without_sign_jumps,
)
from fairswap.model.signals import eased
from fairswap.model.skeleton import Skeleton
from fairswap.pose.rigged import RiggedFigure
from fairswap.retarget.hands import push_hand

# The abstract body, in leg lengths: joint of the hip beside and below the hips bone, ankle and ball of the foot.
_HIP_ASIDE, _HIP_BELOW, _ANKLE, _BALL, _BALL_AHEAD, _HEEL_BEHIND = 0.120, 0.055, 0.125, 0.038, 0.158, 0.045
_SOFT_REACH = 0.965
SIDED = (("left", 1.0), ("right", -1.0))


@dataclass(frozen=True, eq=False)
class Meeting:
    """Hands brought together: ``both`` palms to each other, or one ``side`` to a ``place`` in leg lengths above the
    ground; ``near`` ``(frames,)`` is how much, 0..1."""

    side: str
    place: Floats | None
    near: Floats


@dataclass(frozen=True, eq=False)
class Act:
    """A motion without a body.

    ``turns`` maps roles to world turns away from the T, ``(frames, 4)``; spine and neck are told at their ends
    (``hips``, ``chest``, ``head``) and bend evenly between. ``hips`` is ``(frames, 3)`` in leg lengths. ``meetings``
    are what hands must meet, whatever the proportions: each performer's arms are solved for it.
    """

    name: str
    rate: int
    turns: Mapping[str, Floats]
    hips: Floats
    meetings: tuple[Meeting, ...] = ()

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
        for bone, fraction in zip(bones, shares, strict=True):
            motion[bone] = slerp(motion[low], end, fraction)
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
    clip = Clip(act.name, Fraction(act.rate), poses, frozenset(range(len(body.bones))))
    return _with_meetings(act, body, clip) if act.meetings else clip


def lamp_place(act: Act, body: Body) -> Floats | None:
    """Where the object that an act meets stands for a performer, metres; None if it meets none."""
    places = [meeting.place for meeting in act.meetings if meeting.place is not None]
    return leg_length(body) * places[0] if places else None


def _with_meetings(act: Act, body: Body, clip: Clip) -> Clip:
    """The clip with the performer's arms solved so that hands meet what they should."""
    performer = RiggedFigure.of(Figure(body.name, body.skeleton({})), bones=body.profile, part="source")
    edit = clip.poses.edit()
    chain = ChainWorld(edit)
    palms = palms_of(performer)
    for meeting in act.meetings:
        near = meeting.near[:, None]
        if meeting.place is None:
            points = {side: palms[side].track(chain) for side, _ in SIDED}
            middle = 0.5 * (points["left"] + points["right"])
            gap = 0.06 * palms["left"].length
            for side, sign in SIDED:
                push_hand(performer, side, chain, near * (middle + [sign * gap, 0.0, 0.0] - points[side]))
        else:
            push = near * (leg_length(body) * meeting.place - palms[meeting.side].track(chain))
            push_hand(performer, meeting.side, chain, push)
    return replace(clip, poses=edit.poses())


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


@dataclass(frozen=True, eq=False)
class Foot:
    """A foot over time: where its ball would be if it were flat ``(frames, 3)``, heading, pitch (heel up) and toes' own
    bend back to the floor, in degrees."""

    place: Floats
    yaw: Floats
    pitch: Floats
    toes: Floats


class FootPlan:
    """Where one foot stands, and when it steps."""

    def __init__(self, stands: list[tuple[float, Floats, float]]) -> None:
        self.first = stands[0]
        self.steps: list[tuple[float, float, Floats, float, float]] = []

    def step(self, start: float, stop: float, place: Floats, yaw: float, lift: float) -> None:
        self.steps.append((start, stop, place, yaw, lift))

    def at(self, time: Floats) -> Foot:
        _, place, yaw = self.first
        places, yaws = np.tile(place, (len(time), 1)), np.full(len(time), yaw)
        pitch, toes = np.zeros(len(time)), np.zeros(len(time))
        for start, stop, to, new_yaw, lift in self.steps:
            ease = eased((time - start) / (stop - start))
            places += (to - place) * ease[:, None]
            places[:, 1] += lift * hump((time - start) / (stop - start))
            yaws += (new_yaw - yaw) * ease
            # The heel leaves first and comes down last: up on the ball before the step, and after it.
            early = hump((time - start + 0.10) / (0.75 * (stop - start) + 0.10))
            pitch += 26.0 * early
            toes += 26.0 * early * (1.0 - ease)
            place, yaw = to, new_yaw
        return Foot(places, yaws, pitch, toes)


def set_leg(turns: dict[str, Floats], side: str, sign: float, hips: Floats, foot: Foot) -> None:
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


def set_arm(
    turns: dict[str, Floats], side: str, sign: float, *, flex: Floats, lift: Floats, twist: Floats, elbow: Floats,
    wrist: Floats, curl: Floats,
) -> None:  # fmt: skip
    """An arm from angles in degrees: forward, out to the side, about itself, elbow, wrist, fingers."""
    chest = turns["chest"]
    zero = 0.0 * flex
    collar = multiply(chest, euler(zero, zero, sign * np.maximum(lift - 40.0, 0.0) * 0.25))
    upper = multiply(chest, quaternion_from_axis_angle([1, 0, 0], -np.radians(flex)))
    upper = multiply(upper, quaternion_from_axis_angle([0, 0, 1], -sign * np.radians(90.0 - lift)))
    upper = multiply(upper, quaternion_from_axis_angle([1, 0, 0], np.radians(twist)))
    lower = multiply(upper, quaternion_from_axis_angle([0, 1, 0], -sign * np.radians(elbow)))
    hand = multiply(lower, quaternion_from_axis_angle([1, 0, 0], np.radians(0.4 * twist)))
    hand = multiply(hand, quaternion_from_axis_angle([0, 0, 1], -sign * np.radians(wrist)))
    turns |= {f"shoulder_{side}": collar, f"upper_arm_{side}": upper, f"lower_arm_{side}": lower, f"hand_{side}": hand}
    for number, finger in enumerate(FINGERS):
        bent = hand
        for part, fraction in (("proximal", 0.9), ("intermediate", 1.1), ("distal", 0.7)):
            bent = multiply(
                bent, quaternion_from_axis_angle([0, 0, 1], -sign * np.radians(curl * fraction * (0.8 + 0.12 * number)))
            )
            turns[f"{finger}_{part}_{side}"] = bent
    bent = hand
    for part, fraction in (("metacarpal", 0.2), ("proximal", 0.35), ("distal", 0.6)):
        bent = multiply(bent, quaternion_from_axis_angle([0.35, 0.9 * sign, -0.2 * sign], np.radians(curl * fraction)))
        turns[f"thumb_{part}_{side}"] = bent


def euler(pitch: Floats, yaw: Floats, roll: Floats) -> Floats:
    """Heading first, then forward bend, then to the side; degrees."""
    out = quaternion_from_axis_angle([0, 1, 0], np.radians(yaw))
    out = multiply(out, quaternion_from_axis_angle([1, 0, 0], np.radians(pitch)))
    return multiply(out, quaternion_from_axis_angle([0, 0, 1], np.radians(roll)))


def hump(fraction: Floats) -> Floats:
    """Up and down again, smooth at both ends."""
    return np.sin(np.pi * np.clip(fraction, 0.0, 1.0)) ** 2


def keyed(time: Floats, keys: Sequence[tuple[float, float]], linear: bool = False) -> Floats:
    """A value that eases from key to key; with ``linear`` it keeps its speed between the inner ones."""
    if linear:
        x, y = spline(list(keys))
        return np.interp(time, x, y)
    out = np.full(len(time), keys[0][1])
    for (t0, v0), (t1, v1) in pairwise(keys):
        out += (v1 - v0) * eased((time - t0) / (t1 - t0))
    return out


def spline(keys: list[tuple[float, float]]) -> tuple[Floats, Floats]:
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


def smoothed(track: Floats, rate: int, seconds: float) -> Floats:
    """A Gaussian over time; ends held."""
    width = max(round(3 * seconds * rate), 1)
    kernel = np.exp(-0.5 * (np.arange(-width, width + 1) / (seconds * rate)) ** 2)
    kernel /= kernel.sum()
    padded = np.pad(track, ((width, width), (0, 0)), mode="edge")
    return np.stack([np.convolve(column, kernel, mode="valid") for column in padded.T], axis=1)


def rotate_y(vector: Floats, degrees: Floats | float) -> Floats:
    return rotate(quaternion_from_axis_angle([0, 1, 0], np.radians(degrees)), vector)
