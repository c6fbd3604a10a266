"""Pairs of limbs: which branches are twins, and which bones along them are thigh, shin and foot, or arm and hand."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from fairswap.bones.rig import Rig
from fairswap.model.words import fit

# Weights of what is seen, in the currency of the whole search; see bench/calibrate.py for how sure a lead makes us.
_NAME, _LENGTHS, _FRACTION, _SKIPPED = 2.0, 1.0, 1.5, 0.4
_MOVES, _HINGE = 0.15, 0.6
_ONE_PLACE, _WIDE = 3.0, 2.0
# A hand with its fingers is no longer than this, of the arm before it.
_LONGEST_HAND = 0.6
# What a name says of a shoulder that is called like what follows it: arm, arm1, arm2.
_ONE_OF_THREE = 0.55
_KEPT_ALIGNMENTS = 6
_NEIGHBOURS, _MOST_PAIRS = 8, 16


@dataclass(frozen=True)
class Pair:
    """Two branches that mirror each other, and where they hang."""

    holder: int
    first: tuple[int, ...]
    second: tuple[int, ...]
    twin: float


@dataclass(frozen=True)
class Alignment:
    """Which place along a pair's branches has which role (without side), and how good that is."""

    roles: tuple[tuple[str, int], ...]
    score: float

    def bones(self, pair: Pair) -> dict[str, tuple[int, int]]:
        return {role: (pair.first[at], pair.second[at]) for role, at in self.roles}


def limb_pairs(rig: Rig) -> list[Pair]:
    """All twins long enough to be limbs, from below one bone or from two branches of a forked child."""
    found = []
    for holder in range(rig.count):
        if len(rig.children[holder]) < 2:
            continue
        # Twins are alike in reach: in that order each needs to be held against its neighbours only.
        children = [child for child in rig.children[holder] if len(rig.limb(child)) >= 3]
        children.sort(key=lambda child: rig.reach[child])
        for a, b in ((a, b) for i, a in enumerate(children) for b in children[i + 1 : i + 1 + _NEIGHBOURS]):
            twin = rig.twins(a, b)
            if twin > 0.02:
                first, second = rig.limb(a), rig.limb(b)
                shared = min(len(first), len(second))
                found.append(Pair(holder, tuple(first[:shared]), tuple(second[:shared]), twin))
    if not found:
        return []
    longest = max(_main_length(rig, pair) for pair in found)
    found = [pair for pair in found if _main_length(rig, pair) > 0.25 * longest]
    if len(found) > _MOST_PAIRS:  # a scene full of things: limbs are long, mirror each other, and are called so
        found.sort(key=lambda pair: -_promise(rig, pair, longest))
    return found[:_MOST_PAIRS]


def _promise(rig: Rig, pair: Pair, longest: float) -> float:
    named = sum(bool(rig.meanings[bone].parts - {"extra", "end", "helper"}) for bone in pair.first[:4])
    return pair.twin + _main_length(rig, pair) / longest + 0.5 * named


def leg_alignments(rig: Rig, pair: Pair) -> list[Alignment]:
    """The best ways to see a pair as legs, best first."""
    length = _lengths(rig, pair)
    reach = length[1:].sum() + 1e-12
    found = []
    last = len(length) - 1
    for upper, lower, foot, thigh, shin in _two_segments(length, 3):
        base = _FRACTION * (thigh + shin) / reach + _LENGTHS * _bell(thigh / shin, 1.0, 0.3)
        base -= _at_one_place(rig, pair, upper)
        base -= _SKIPPED * (lower - upper - 1 + foot - lower - 1) + 0.3 * upper
        base += _seen(rig, pair, ("upper_leg", upper), ("lower_leg", lower), ("foot", foot))
        rows = (("upper_leg", upper), ("lower_leg", lower), ("foot", foot))
        found.append(Alignment(rows, base - 0.25 * (last > foot)))
        if foot < last:
            toes = foot + 1
            score = base + 0.6 * _bell(length[toes] / shin, 0.36, 0.5) + _seen(rig, pair, ("toes", toes))
            found.append(Alignment((*rows, ("toes", toes)), score - 0.3 * max(0, last - toes - 1)))
    return sorted(found, key=lambda row: -row.score)[:_KEPT_ALIGNMENTS]


def arm_alignments(rig: Rig, pair: Pair) -> list[Alignment]:
    """The best ways to see a pair as arms, best first."""
    length = _lengths(rig, pair)
    reach = length[1:].sum() + 1e-12
    last = len(length) - 1
    forks = [at for at in range(2, last + 1) if len(rig.children[pair.first[at]]) >= 2]
    found = []
    for upper, lower, hand, above, below in _two_segments(length, 4):
        base = _FRACTION * (above + below) / reach + _LENGTHS * _bell(above / below, 1.1, 0.3)
        base -= _at_one_place(rig, pair, upper)
        base -= _SKIPPED * (lower - upper - 1 + hand - lower - 1)
        base -= min(max(float(length[hand + 1 :].sum()) / (above + below) - _LONGEST_HAND, 0.0), 1.0)
        if forks:
            base += 1.6 if hand == forks[0] else -0.8
        else:
            base += 0.8 if hand == last else 0.3 if hand == last - 1 and _ends_there(rig, pair) else 0.0
        rows = (("upper_arm", upper), ("lower_arm", lower), ("hand", hand))
        found.append(Alignment(rows, base + _seen(rig, pair, *rows) + 0.25 - 0.5 * upper))
        for shoulder in range(upper):
            collar = length[shoulder + 1 : upper + 1].sum()
            whole = (("shoulder", shoulder), *rows)
            score = base + 0.7 * _bell(collar / above, 0.5, 0.5) + _seen(rig, pair, *whole)
            score -= _SKIPPED * (upper - shoulder - 1) + 0.3 * shoulder + _as_wide(rig, pair, shoulder, upper)
            found.append(Alignment(whole, score))
    return sorted(found, key=lambda row: -row.score)[:_KEPT_ALIGNMENTS]


def _at_one_place(rig: Rig, pair: Pair, at: int) -> float:
    """What is lost where a pair begins in one place: what leads to shoulders and hips may do so, they may not."""
    return _ONE_PLACE if rig.distance(pair.first[at], pair.second[at]) < 0.01 * rig.size else 0.0


def _as_wide(rig: Rig, pair: Pair, collar: int, upper: int) -> float:
    """What is lost where two collars begin about as far apart as the arms that they lead to: collars begin near the
    middle, and arms at the sides, in every pose."""
    inner, outer = (rig.distance(pair.first[at], pair.second[at]) for at in (collar, upper))
    return _WIDE * max(inner / max(outer, 1e-12) - 0.5, 0.0)


def _two_segments(length: np.ndarray, most_before: int) -> Iterator[tuple[int, int, int, float, float]]:
    """Every choice of three joints in line, and the lengths of the two segments between them.

    Fewer than ``most_before`` bones lie before the first, at most two between two of them.
    """
    last = len(length) - 1
    for first in range(min(most_before, last - 1)):
        for middle in range(first + 1, min(first + 4, last)):
            for end in range(middle + 1, min(middle + 4, last + 1)):
                upper, lower = float(length[first + 1 : middle + 1].sum()), float(length[middle + 1 : end + 1].sum())
                if min(upper, lower) > 0:
                    yield first, middle, end, upper, lower


def _ends_there(rig: Rig, pair: Pair) -> bool:
    """Whether the last bones may be no more than end markers: short, and nothing below them."""
    last = pair.first[-1]
    return not rig.children[last] and rig.length[last] < 0.6 * rig.length[pair.first[-2]]


def _seen(rig: Rig, pair: Pair, *roles: tuple[str, int]) -> float:
    """What names, and a clip where there is one, say for bones in these roles."""
    total, given = 0.0, {at for _, at in roles}
    for role, at in roles:
        for branch in (pair.first, pair.second):
            named = fit(rig.names[branch[at]], f"{role}_left")
            if role == "shoulder" and all(rig.meanings[bone].parts == {"arm"} for bone in branch[at : at + 3]):
                named = _ONE_OF_THREE
            # Of two bones in line that are called the same, a limb cut in two, the first has the joint.
            again = at > 0 and at - 1 not in given and fit(rig.names[branch[at - 1]], f"{role}_left") >= named > 0
            total += 0.5 * _NAME * (0.5 * named if again else named)
            if rig.motion is not None and rig.motion.moves.any():
                total += _MOVES if rig.motion.moves[branch[at]] else -_MOVES
                if role.startswith("lower_"):  # knees and elbows are hinges
                    total += _HINGE * (float(rig.motion.hinge[branch[at]]) - 0.7)
    return total


def _lengths(rig: Rig, pair: Pair) -> np.ndarray:
    return 0.5 * (rig.length[list(pair.first)] + rig.length[list(pair.second)])


def _main_length(rig: Rig, pair: Pair) -> float:
    return float(rig.length[list(pair.first[1:])].sum())


def _bell(value: float, middle: float, width: float) -> float:
    """1 where a ratio is what it mostly is, less the more it differs by factor."""
    return float(np.exp(-((np.log(max(value, 1e-9) / middle) / width) ** 2)))
