"""Hand, elbow and shoulder, from the tip of the hand inward."""

from __future__ import annotations

import numpy as np

from fairswap.figures.rigging.finding import PlacesFound
from fairswap.figures.rigging.levels import Branch, Levels
from fairswap.figures.rigging.reading import ShapeReading
from fairswap.model.arrays import Floats
from fairswap.model.rotation import normalized

# Shares of an arm (Drillis and Contini 1966).
_UPPER_OF_ARM, _HAND_OF_REACH = 0.56, 0.245
# An arm slopes whose axis rises so much to the shoulder, of its length.
_SLOPING = 0.3
# Where the joint of the shoulder is: from the middle, and under the outline of the body, in heights.
_SHOULDER_ACROSS, _SHOULDER_UNDER = 0.105, 0.033


def _centre_line(reading: ShapeReading, branch: Branch, length_m: float) -> tuple[Floats, Floats]:
    """The middles of a branch's pieces from its tip on, so far, and the way of each from there."""
    levels = reading.by_way
    middles = levels.middle[branch.pieces]
    ways = (np.arange(len(middles)) + 0.5) * levels.width_m
    return middles[ways <= length_m], np.asarray(ways[ways <= length_m], dtype=np.float64)


def find_arm(found: PlacesFound, side: str) -> None:
    """Hand, elbow and shoulder of one side, from the tip of the hand inward."""
    reading, arms = found.reading, found.reading.limbs.arms
    if side not in arms:
        _arm_as_given(found, side)
        return
    branch = arms[side]
    # One of the two limbs goes on as the trunk; both are as long as the other.
    length = min(row.length_m for row in arms.values())
    middles, ways = _centre_line(reading, branch, length)
    tip = reading.furthest(branch.tip, normalized(branch.tip - middles[min(6, len(middles) - 1)]))
    # The axis of the upper arm, from the last third of the way; the arm may be bent below.
    upper = (ways > 0.62 * length) & (ways < 0.96 * length)
    inner = (ways > 0.35 * length) & (ways < 0.8 * length)
    radius = float(np.sqrt(np.quantile(reading.by_way.area_m2[branch.pieces[: len(ways)]][inner], 0.4) / np.pi))
    base, along = _line(middles[upper] if upper.sum() >= 3 else middles)
    if along[1] > _SLOPING:  # the last of it is drawn ahead by a bent forearm
        along = normalized(along * [1.0, 1.0, 0.4])
    found.put(f"upper_arm_{side}", *_shoulder(found, base, along, radius))
    shoulder = found.at(f"upper_arm_{side}")
    line = np.concatenate([[tip], middles, [shoulder]])
    line = line[: 1 + max(1, int(np.argmin(np.linalg.norm(line[1:-1] - shoulder, axis=1))) + 1)]
    line = _smoothed(np.concatenate([line, [shoulder]]))
    steps = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))])
    reach = float(steps[-1])
    wrist, sure, how = _wrist(found, line, steps, side, float(np.linalg.norm(tip - branch.tip)))
    found.put(f"hand_{side}", wrist, sure, how)
    found.put(f"hand_tip_{side}", tip, 0.9, "the end of the arm")
    _elbow(found, side, line, steps, reach)


def _arm_as_given(found: PlacesFound, side: str) -> None:
    """An arm of which only the hand is known, by hand: the rest by proportion."""
    hand = found.at(f"hand_{side}")
    sign = 1.0 if side == "left" else -1.0
    top = found.floor + 0.818 * found.height
    shoulder = np.array([found.reading.middle + sign * 0.105 * found.height, top, 0.0])
    found.put(f"upper_arm_{side}", shoulder, 0.3, "usual proportions")
    shoulder = found.at(f"upper_arm_{side}")
    found.put(f"lower_arm_{side}", shoulder + _UPPER_OF_ARM * (hand - shoulder), 0.4, "usual proportions")
    found.put(f"hand_tip_{side}", hand + 0.33 * (hand - shoulder), 0.4, "usual proportions")


def _line(points: Floats) -> tuple[Floats, Floats]:
    """The straight line through points: their middle, and the direction from the first to the last."""
    middle = points.mean(axis=0)
    along = np.linalg.svd(points - middle)[2][0]
    first, last = points[0], points[-1]
    return middle, along if float(along @ (last - first)) > 0 else -along


def _smoothed(line: Floats) -> Floats:
    out = line.copy()
    out[1:-1] = 0.25 * line[:-2] + 0.5 * line[1:-1] + 0.25 * line[2:]
    return out


def _shoulder(found: PlacesFound, base: Floats, along: Floats, radius: float) -> tuple[Floats, float, str]:
    """Where the upper arm, followed inward along its axis, ends: of all places on it the likeliest.

    It speaks for one to lie as far from the middle as shoulders usually do, so far under the outline of the body (what
    is worn below that does not count), and, if the arm is level, where its sections widen into the trunk.
    """
    height = found.height
    steps = np.arange(0.0, 0.5 * height, 0.5 * found.solid.cell_m)
    axis = base + steps[:, None] * along
    across = np.abs(axis[:, 0] - found.reading.middle) / height
    under = (_outline(found, axis, 1.5 * radius) - axis[:, 1]) / height
    surprise = ((across - _SHOULDER_ACROSS) / 0.022) ** 2
    surprise += np.minimum(((under - _SHOULDER_UNDER) / 0.012) ** 2, 25.0)
    certainty, how = (0.8, "the outline of the shoulder") if along[1] > _SLOPING else (0.5, "usual proportions")
    if along[1] < _SLOPING:
        area, way = _sections_along(found, base, along)
        wide = np.flatnonzero((area > 1.7 * np.pi * radius**2) & (way > 0.0))
        if len(wide):
            surprise += ((steps - way[wide[0]]) / height / 0.015) ** 2
            certainty, how = 0.8, "where the arm widens into the trunk"
    least = int(np.argmin(surprise))
    return axis[least], certainty if surprise[least] < 4.0 else 0.4, how


def _sections_along(found: PlacesFound, base: Floats, along: Floats) -> tuple[Floats, Floats]:
    """The sections of the body around an axis, cut square to it: areas, and how far along they are."""
    solid, height = found.solid, found.height
    away = solid.points - base
    t = away @ along
    beside = np.linalg.norm(away - t[:, None] * along, axis=1)
    near = (t > -0.06 * height) & (t < 0.28 * height) & (beside < 0.16 * height)
    levels = Levels.of(solid, np.where(near, t, np.inf), 2.0 * solid.cell_m)
    start = float(t[near].min())
    areas, ways = [], []
    for number in range(int(levels.level.max()) + 1):
        way = start + (number + 0.5) * levels.width_m
        rows = levels.at(number)
        if len(rows):
            nearest = rows[np.argmin(np.linalg.norm(levels.middle[rows] - (base + way * along), axis=1))]
            areas.append(float(levels.area_m2[nearest]))
            ways.append(way)
    return np.array(areas), np.array(ways)


def _outline(found: PlacesFound, places: Floats, reach_m: float) -> Floats:
    """The highest point of the body over each place, seen from the front, within ``reach_m`` of the first's depth."""
    points = found.solid.points
    near = points[np.abs(points[:, 2] - places[0, 2]) < reach_m]
    cell = found.solid.cell_m
    low = min(float(near[:, 0].min()), float(places[:, 0].min()))
    column = np.round((near[:, 0] - low) / cell).astype(int)
    top = np.full(int(max(column.max(), np.round((places[:, 0].max() - low) / cell))) + 1, -np.inf)
    np.maximum.at(top, column, near[:, 1] + 0.5 * cell)
    return np.asarray(top[np.round((places[:, 0] - low) / cell).astype(int)])


def _wrist(found: PlacesFound, line: Floats, steps: Floats, side: str, thin_m: float) -> tuple[Floats, float, str]:
    """The narrowest place between hand and forearm, or a usual share of the reach.

    The solid ends ``thin_m`` before the tip: fingers are too thin for it.
    """
    reading, reach = found.reading, float(steps[-1])
    levels = reading.by_way
    pieces = reading.limbs.arms[side].pieces
    ways = (np.arange(len(pieces)) + 0.5) * levels.width_m + thin_m
    area = np.convolve(levels.area_m2[pieces], [0.25, 0.5, 0.25], mode="same")
    usual = _HAND_OF_REACH * reach
    window = (ways > 0.6 * usual) & (ways < 1.45 * usual)
    at, certainty, how = usual, 0.5, "usual proportions"
    if window.sum() >= 3:
        rows = np.flatnonzero(window)
        least = rows[np.argmin(area[rows])]
        hand = float(area[(ways > 0.25 * usual) & (ways < ways[least])].max(initial=0.0))
        if least not in (rows[0], rows[-1]) and hand > 1.15 * area[least]:
            at, certainty, how = 0.35 * usual + 0.65 * float(ways[least]), 0.8, "the narrowest girth of the arm"
    return _along(line, steps, at), certainty, how


def _along(line: Floats, steps: Floats, at: float) -> Floats:
    return np.array([np.interp(at, steps, line[:, axis]) for axis in range(3)])


def _elbow(found: PlacesFound, side: str, line: Floats, steps: Floats, reach: float) -> None:
    """Where a bent arm bends most; in a straight one a usual share of the way."""
    hand, shoulder = found.at(f"hand_{side}"), found.at(f"upper_arm_{side}")
    wrist_at = float(steps[np.argmin(np.linalg.norm(line - hand, axis=1))])
    share = wrist_at + (1.0 - _UPPER_OF_ARM) * (reach - wrist_at)
    inner = (steps > wrist_at + 0.2 * (reach - wrist_at)) & (steps < wrist_at + 0.75 * (reach - wrist_at))
    straight = shoulder - hand
    off = line - hand
    off = off - np.outer(off @ straight / max(float(straight @ straight), 1e-12), straight)
    bend = np.linalg.norm(off, axis=1)
    certainty, how = 0.6, "usual proportions"
    if inner.any() and bend[inner].max() > 0.09 * (reach - wrist_at):
        most = float(steps[np.flatnonzero(inner)[np.argmax(bend[inner])]])
        share, certainty, how = 0.5 * (share + most), 0.75, "where the arm bends most"
    found.put(f"lower_arm_{side}", _along(line, steps, share), certainty, how)
