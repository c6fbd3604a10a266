"""The repertoire of the troupe: a walk, a turn and a bow, a lamp lit, a clap, a squat and a leap, an idle stand."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from fairswap.demo.acts import (
    SIDED,
    Act,
    Foot,
    FootPlan,
    Meeting,
    euler,
    hump,
    keyed,
    rotate_y,
    set_arm,
    set_leg,
    smoothed,
    spline,
)
from fairswap.model.arrays import Floats
from fairswap.model.rotation import multiply
from fairswap.model.signals import eased


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
    pelvis = euler(2.0 + 1.0 * np.cos(2 * circle), -6.0 * np.cos(circle), 3.0 * np.sin(circle + 0.1))
    chest = euler(4.0 + 1.2 * np.cos(2 * circle + 0.5), 6.5 * np.cos(circle - 0.15), -1.5 * np.sin(circle))
    head = euler(1.5 - 0.8 * np.cos(2 * circle), 1.2 * np.cos(circle), -0.5 * np.sin(circle))
    turns = {"hips": pelvis, "chest": chest, "head": head}
    for side, sign in SIDED:
        foot = _walking_foot(phase + (0.0 if side == "left" else 0.5), step, sign)
        # The other foot's cycle counts from half a cycle earlier.
        if side == "right":
            foot = Foot(foot.place - [0.0, 0.0, step], foot.yaw, foot.pitch, foot.toes)
        set_leg(turns, side, sign, hips, foot)
        swing = -sign * np.cos(circle - 0.25)
        set_arm(
            turns, side, sign, flex=4.0 + 21.0 * swing, lift=11.0 + 2.0 * np.cos(2 * circle), twist=8.0 + 0 * time,
            elbow=20.0 + 11.0 * np.clip(swing, -0.6, 1.0), wrist=4.0 * swing, curl=24.0 + 3.0 * swing,
        )  # fmt: skip
    return Act("Walk", rate, turns, hips)


def turn_and_bow(rate: int = 60, seconds: float = 8.5) -> Act:
    """Around once on the spot in small steps, then a deep bow with one arm swept out."""
    time = np.arange(round(seconds * rate) + 1) / rate
    stance = 0.115
    plans = {side: FootPlan([(0.0, np.array([sign * stance, 0.0, 0.0]), 6.0 * sign)]) for side, sign in SIDED}
    begin, pace = 0.35, 0.38
    weight: list[tuple[float, float]] = [(0.0, 0.0)]  # time, which foot carries: +1 left, -1 right
    for number in range(9):
        side, sign = SIDED[number % 2]
        angle = min(45.0 * (number + 1), 360.0)
        place = rotate_y(np.array([sign * stance, 0.0, 0.0]), angle)
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
    bend, carried = keyed(time, bow), keyed(time, weight)
    sweep = keyed(time, [(back - 0.1, 0.0), (back + 0.75, 1.0), (back + 1.9, 1.0), (back + 3.0, 0.0)])
    present = keyed(time, [(0.1, 0.0), (0.8, 1.0), (turned - 0.5, 1.0), (turned + 0.2, 0.0)])
    heading = keyed(
        time, [(begin - 0.15, 0.0), (begin + 0.5, 32.0), (turned - 0.55, 335.0), (turned + 0.05, 360.0)], linear=True
    )
    feet = {side: plans[side].at(time) for side, _ in SIDED}
    middle = 0.5 * (feet["left"].place + feet["right"].place)
    toward = 0.5 * (feet["left"].place - feet["right"].place) * carried[:, None]
    stepping = np.abs(np.sin(np.clip((time - begin) / pace, 0, 9) * np.pi))
    hips = middle + 0.55 * toward
    hips = smoothed(hips, rate, 0.10)
    hips[:, 1] = -0.026 - 0.012 * stepping - 0.05 * bend
    hips += rotate_y(np.array([0.0, 0.0, -0.15]), heading) * bend[:, None]
    breath = np.sin(2 * np.pi * time / 3.4)
    level = euler(0 * time, heading, 0 * time)
    lean = euler(24.0 * bend + 1.0, 0 * time, 2.5 * carried)
    upper = euler(62.0 * bend + 2.0 - 1.2 * breath, 6.0 * sweep + 3.0 * present, -1.5 * carried)
    look = euler(70.0 * bend - 4.0 * present, 8.0 * present * np.cos(np.radians(heading)), -2.0 * bend)
    turns = {"hips": multiply(level, lean), "chest": multiply(level, upper), "head": multiply(level, look)}
    for side, sign in SIDED:
        set_leg(turns, side, sign, hips, feet[side])
        across, out = (bend * sweep, 0 * sweep) if side == "right" else (0 * sweep, sweep)
        set_arm(
            turns, side, sign,
            flex=3.0 + 38.0 * across + 22.0 * present - 20.0 * out,
            lift=9.0 + 16.0 * across + 34.0 * present + 56.0 * out + 1.5 * breath,
            twist=10.0 + 46.0 * across - 26.0 * out - 10.0 * present,
            elbow=14.0 + 78.0 * across + 22.0 * present + 8.0 * out,
            wrist=6.0 * out - 8.0 * present, curl=22.0 - 12.0 * out - 10.0 * present,
        )  # fmt: skip
    return Act("Turn and bow", rate, turns, hips)


def _walking_foot(phase: Floats, step: float, sign: float) -> Foot:
    """One foot of a walk; phase 0 is the strike of the heel, from 0.62 on it swings."""
    cycle, count = phase % 1.0, np.floor(phase)
    swing = np.clip((cycle - 0.62) / 0.38, 0.0, 1.0)
    pitch = np.interp(cycle, *spline(
        [(0.0, -13.0), (0.05, -7.0), (0.10, 0.0), (0.36, 0.0), (0.47, 10.0), (0.56, 28.0), (0.63, 44.0), (0.72, 36.0),
         (0.83, 6.0), (0.92, -11.0), (1.0, -13.0)]
    ))  # fmt: skip
    place = np.zeros((len(phase), 3))
    place[:, 0] = sign * 0.095
    # At the strike the foot lands half a step ahead of the hips, and then stays.
    place[:, 2] = (count + eased(swing)) * 2 * step + 0.5 * step + 0.02
    place[:, 1] = 0.028 * hump(swing)
    toes = np.where(swing > 0, np.maximum(pitch, 0) * (1.0 - eased(swing * 1.6)), np.maximum(pitch, 0.0))
    return Foot(place, np.full(len(phase), 5.0 * sign), pitch, toes)


def light_lamp(rate: int = 30, seconds: float = 6.5) -> Act:
    """Two steps up to a street lamp, the right hand up to it, held there while it is lit, and down again."""
    time = np.arange(round(seconds * rate) + 1) / rate
    stance, ahead = 0.115, 0.62
    plans = {side: FootPlan([(0.0, np.array([sign * stance, 0.0, 0.0]), 5.0 * sign)]) for side, sign in SIDED}
    plans["left"].step(0.4, 1.05, np.array([stance, 0.0, 0.52]), 5.0, 0.05)
    plans["right"].step(1.0, 1.75, np.array([-stance, 0.0, ahead]), -5.0, 0.05)
    plans["left"].step(1.75, 2.3, np.array([stance, 0.0, ahead - 0.02]), 5.0, 0.04)
    carried = keyed(time, [(0.0, 0.0), (0.45, -0.8), (0.9, 0.8), (1.35, 0.6), (1.75, -0.8), (2.1, -0.6), (2.6, -0.2)])
    feet = {side: plans[side].at(time) for side, _ in SIDED}
    middle = 0.5 * (feet["left"].place + feet["right"].place)
    toward = 0.5 * (feet["left"].place - feet["right"].place) * carried[:, None]
    hips = smoothed(middle + 0.5 * toward * [1, 0, 0], rate, 0.12)
    reach = keyed(time, [(1.7, 0.0), (2.7, 1.0), (4.4, 1.0), (5.4, 0.0)])
    hips[:, 1] = -0.045 - 0.012 * np.abs(np.sin(np.clip((time - 0.4) / 0.62, 0, 3) * np.pi)) + 0.02 * reach
    breath = np.sin(2 * np.pi * time / 3.2)
    level = euler(1.0 + 0 * time, 4.0 * carried, 1.5 * carried)
    chest = euler(3.0 - 7.0 * reach - 0.8 * breath, -3.0 * carried + 12.0 * reach, -1.0 * carried - 3.0 * reach)
    head = euler(2.0 - 22.0 * reach, 2.0 * reach, 0 * time)
    turns = {"hips": level, "chest": chest, "head": head}
    for side, sign in SIDED:
        set_leg(turns, side, sign, hips, feet[side])
        up = reach if side == "right" else 0 * reach
        swing = 8.0 * np.sin(2 * np.pi * np.clip(time - 0.4, 0, 1.9) / 1.27) * sign
        set_arm(
            turns, side, sign, flex=4.0 - swing * (1 - up) + 92.0 * up, lift=11.0 + 6.0 * up,
            twist=8.0 + 20.0 * up, elbow=18.0 + 30.0 * up * (1.0 - 0.4 * up), wrist=6.0 * up, curl=24.0 - 10.0 * up,
        )  # fmt: skip
    lamp = np.array([-0.27, 1.74, ahead + 0.47])
    return Act(
        "Lamp",
        rate,
        turns,
        hips,
        (Meeting("right", lamp, keyed(time, [(2.1, 0.0), (2.8, 1.0), (4.2, 1.0), (4.9, 0.0)])),),
    )


def clap(rate: int = 60, seconds: float = 5.0) -> Act:
    """Four claps before the chest, standing, with a little joy in the knees."""
    time = np.arange(round(seconds * rate) + 1) / rate
    first, beat = 1.15, 0.52
    feet = {side: _standing(len(time), sign, 0.125, 6.0) for side, sign in SIDED}
    ready = keyed(time, [(0.35, 0.0), (0.95, 1.0), (first + 3.6 * beat, 1.0), (first + 5.2 * beat, 0.0)])
    phase = (time - first) / beat
    within = eased((phase + 0.6) / 0.3) * (1.0 - eased((phase - 3.3) / 0.3))
    near = np.where(within > 0, (0.5 + 0.5 * np.cos(2 * np.pi * phase)) ** 3, 0.0) * within
    bounce = within * 0.5 * (1.0 + np.cos(2 * np.pi * phase - 0.5))
    hips = np.zeros((len(time), 3))
    hips[:, 1] = -0.035 - 0.012 * bounce
    breath = np.sin(2 * np.pi * time / 3.1)
    turns = {
        "hips": euler(1.0 + 0.8 * bounce, 0 * time, 0.6 * breath),
        "chest": euler(3.0 + 1.5 * bounce - 0.7 * breath, 0 * time, -0.4 * breath),
        "head": euler(4.0 * ready + 2.0 * bounce, 0 * time, 2.0 * breath),
    }
    for side, sign in SIDED:
        set_leg(turns, side, sign, hips, feet[side])
        set_arm(
            turns, side, sign, flex=4.0 + 30.0 * ready, lift=11.0 + 7.0 * ready - 3.0 * near, twist=6.0 + 0 * time,
            elbow=18.0 + 74.0 * ready, wrist=-4.0 * near, curl=22.0 - 16.0 * ready,
        )  # fmt: skip
    return Act("Clap", rate, turns, hips, (Meeting("both", None, near),))


def squat_and_leap(rate: int = 60, seconds: float = 4.2) -> Act:
    """Down into a squat, up into the air, and down again on both feet, softly."""
    time = np.arange(round(seconds * rate) + 1) / rate
    off, air = 1.75, 0.42
    on = off + air
    # In the air the hips fly a parabola: gravity for legs of 0.8 m.
    rise = 0.5 * 9.81 / 0.8 * (0.5 * air) ** 2
    flight = np.clip((time - off) / air, 0.0, 1.0)
    high = 4.0 * rise * flight * (1.0 - flight)
    x, y = spline([(0.0, -0.03), (0.35, -0.03), (1.15, -0.40), (1.32, -0.40), (off, 0.03)])
    before = np.interp(time, x, y)
    x, y = spline([(on, 0.03), (on + 0.32, -0.27), (on + 1.15, -0.03), (seconds, -0.03)])
    after = np.interp(time, x, y)
    height = np.where(time <= off, before, np.where(time >= on, after, 0.03 + high))
    hips = np.zeros((len(time), 3))
    hips[:, 1] = height
    low = np.clip(-(height + 0.03) / 0.37, 0.0, 1.0)
    hips[:, 2] = -0.10 * low
    flying = (time > off) & (time < on)
    point = keyed(time, [(off - 0.16, 0.0), (off + 0.02, 1.0), (on - 0.13, 0.55), (on + 0.10, 0.0)])
    swing = keyed(time, [(0.3, 0.0), (1.15, 1.0), (1.35, 1.0), (off + 0.05, -1.0), (on + 0.1, -0.25), (on + 1.1, 0.0)])
    lean = euler(34.0 * low + 1.0, 0 * time, 0 * time)
    turns = {"hips": lean, "chest": euler(30.0 * low + 3.0 - 6.0 * point, 0 * time, 0 * time),
             "head": euler(6.0 * low - 4.0 * point, 0 * time, 0 * time)}  # fmt: skip
    for side, sign in SIDED:
        place = np.zeros((len(time), 3))
        place[:, 0] = sign * 0.15
        place[:, 1] = np.where(flying, high, 0.0)
        foot = Foot(place, np.full(len(time), 10.0 * sign), 38.0 * point, np.where(flying, 10.0, 38.0) * point)
        set_leg(turns, side, sign, hips, foot)
        set_arm(
            turns, side, sign, flex=6.0 - 46.0 * np.maximum(swing, 0) + 128.0 * np.maximum(-swing, 0),
            lift=12.0 + 8.0 * np.abs(swing), twist=8.0 + 0 * time, elbow=16.0 + 14.0 * np.abs(swing),
            wrist=4.0 * swing, curl=24.0 - 8.0 * np.abs(swing),
        )  # fmt: skip
    return Act("Leap", rate, turns, hips)


def idle(rate: int = 30, seconds: float = 8.0) -> Act:
    """Standing: breath, the weight from foot to foot, a look aside; it ends as it began."""
    time = np.arange(round(seconds * rate) + 1) / rate
    once = 2 * np.pi * time / seconds
    breath = np.sin(2 * once)
    weight = 0.8 * np.sin(once)
    feet = {side: _standing(len(time), sign, 0.12, 8.0) for side, sign in SIDED}
    hips = np.zeros((len(time), 3))
    hips[:, 0], hips[:, 1] = 0.045 * weight, -0.022 - 0.006 * weight**2 + 0.002 * breath
    look = np.sin(once - 0.9) ** 3
    turns = {
        "hips": euler(1.0 + 0 * time, 2.5 * weight, -2.2 * weight),
        "chest": euler(2.0 - 1.4 * breath, -1.0 * weight + 5.0 * look, 1.4 * weight),
        "head": euler(1.0 - 1.5 * look, 16.0 * look, 0.8 * weight),
    }
    for side, sign in SIDED:
        set_leg(turns, side, sign, hips, feet[side])
        set_arm(
            turns, side, sign, flex=4.0 + 1.5 * breath + 2.0 * weight * sign, lift=11.0 + 1.2 * breath, twist=9.0 + 0 *
            time, elbow=17.0 + 1.5 * breath, wrist=2.0 * breath, curl=25.0 + 2.0 * breath,
        )  # fmt: skip
    return Act("Idle", rate, turns, hips)


def _standing(frames: int, sign: float, aside: float, out_degrees: float) -> Foot:
    """A foot that stays where it is."""
    zero = np.zeros(frames)
    return Foot(np.tile([sign * aside, 0.0, 0.0], (frames, 1)), np.full(frames, out_degrees * sign), zero, zero)


ACTS: dict[str, Callable[[], Act]] = {
    "walk": walk,
    "turn-and-bow": turn_and_bow,
    "lamp": light_lamp,
    "clap": clap,
    "leap": squat_and_leap,
    "idle": idle,
}
