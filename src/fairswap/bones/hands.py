"""Fingers: which branch of a hand is which finger, and which bone which part of it."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise, permutations

import numpy as np

from fairswap.bones.rig import Rig
from fairswap.bones.roles import FINGERS, FINGERS_BY_COUNT
from fairswap.model.words import fit, meaning_of

_DIGITS = ("thumb", *FINGERS)
_ORDER = (*_DIGITS, "")
# What it says for a reading that the numbers of fingers go up from the thumb.
_COUNTED = 1.5


@dataclass(frozen=True)
class Finger:
    """One digit: its roles (without side) and bones, its lead over the next best reading, and what its names say."""

    name: str
    bones: tuple[tuple[str, int], ...]
    lead: float
    named: float


def fingers_of(rig: Rig, hand: int) -> list[Finger]:
    """Read the branches below a hand; none if there are none."""
    branches = [run for child in rig.children[hand] for run in _runs(rig, child)]
    branches = _digits(rig, [run for run in branches if "extra" not in rig.meanings[run[0]].parts])
    if not branches:
        return []
    readings = sorted(_readings(rig, hand, branches), key=lambda row: -row[0])
    best_score, best = readings[0]
    found = []
    for branch, digit in zip(branches, best, strict=True):
        if not digit:
            continue
        others = [score for score, names in readings if names[branches.index(branch)] != digit]
        lead = best_score - others[0] if others else 3.0
        bones = _parts(rig, hand, branch, digit)
        found.append(Finger(digit, bones, lead, _named(rig, branch, digit)))
    return found


def _runs(rig: Rig, child: int) -> list[list[int]]:
    """A branch of the hand down to its end; of a bone of the palm that holds the thumb too, both: it belongs to the
    longer."""
    run = rig.run(child)
    held = sorted(rig.children[run[-1]], key=lambda bone: rig.length[bone] + rig.reach[bone])
    if len(run) > 1 or len(held) != 2:
        return [run]
    thumb, finger = held
    return [run + rig.run(finger), rig.run(thumb)]


def _digits(rig: Rig, branches: list[list[int]]) -> list[list[int]]:
    """The branches that may be fingers: of more than five those with most skin-bearing bones, if that tells them from
    the others, which are things in the hand, or what it is moved by."""
    if len(branches) <= len(_DIGITS):
        return branches
    weight = np.ones(rig.count) if rig.weight is None else rig.weight
    joints = np.array([min(int((weight[run] > 0).sum()), 3) for run in branches])
    least = np.sort(joints)[-len(_DIGITS)]
    chosen = joints >= least if (joints >= least).sum() == len(_DIGITS) else joints > least
    return [run for run, is_one in zip(branches, chosen, strict=True) if is_one]


def _readings(rig: Rig, hand: int, branches: list[list[int]]) -> list[tuple[float, tuple[str, ...]]]:
    """Every way to call the branches, with its score: names, the thumb's place, the order across the palm."""
    count = len(branches)
    knuckles = np.array([_knuckle(rig, hand, run) for run in branches]) - rig.places[hand]
    distance = np.linalg.norm(knuckles, axis=1)
    starts = np.array([rig.distance(run[0], hand) for run in branches])
    named = np.array([[_named(rig, run, digit) for digit in _DIGITS] for run in branches])
    # The thumb begins nearest to the wrist, reaches least far, has the fewest bones, and points away from the others.
    reach = starts + np.array([rig.length[run[1:]].sum() for run in branches])
    thumbness = -1.2 * starts / (starts.max() + 1e-12) - 1.6 * reach / (reach.max() + 1e-12)
    thumbness -= 0.6 * distance / (distance.max() + 1e-12) + 0.35 * np.array([len(run) for run in branches])
    thumbness += 1.0 * _apart(rig, branches)
    numbers = _numbers(rig, branches)
    found = []
    for thumb in [*range(count), -1]:
        others = [i for i in range(count) if i != thumb]
        if thumb < 0 and count != 4 and count > 1:
            continue
        if len(others) > 4:
            continue
        score = 0.0
        if thumb >= 0:
            # One finger alone is what is left of four, unless it is called a thumb.
            score += 1.5 * np.tanh(2.0 * (thumbness[thumb] - thumbness[others].max())) if others else -1.0
        else:
            score -= 0.8 if count == 4 else 0.2
        digits = FINGERS_BY_COUNT.get(len(others), FINGERS)
        across = _across(knuckles, thumb, others)
        rank = np.argsort(np.argsort(across))
        for order in permutations(range(len(others))):
            call = [""] * count
            if thumb >= 0:
                call[thumb] = "thumb"
            for place, index in enumerate(order):
                call[others[index]] = digits[place]
            total = score + 1.6 * sum(named[i, _DIGITS.index(call[i])] for i in range(count) if call[i])
            wrong = np.mean([abs(int(rank[index]) - place) for place, index in enumerate(order)]) if others else 0.0
            ordered = [numbers[i] for i in sorted(range(count), key=lambda i: _ORDER.index(call[i])) if numbers]
            total += _COUNTED * (ordered == sorted(numbers)) - 1.1 * wrong
            found.append((float(total), tuple(call)))
        if len(others) < 4 and len(others) > 0:  # other fingers than usual, if the names say so
            for chosen in _choices(len(others)):
                if chosen == digits:
                    continue
                call = [""] * count
                if thumb >= 0:
                    call[thumb] = "thumb"
                for place, index in enumerate(np.argsort(across)):
                    call[others[int(index)]] = chosen[place]
                total = score - 1.0 + 1.6 * sum(named[i, _DIGITS.index(call[i])] for i in range(count) if call[i])
                found.append((float(total), tuple(call)))
    return found or [(0.0, ("",) * count)]


def _numbers(rig: Rig, branches: list[list[int]]) -> list[int]:
    """The numbers of branches that are all called fingers, and told apart by a number only; none for others."""
    meanings = [rig.meanings[run[0]] for run in branches]
    numbers = [int(word) for meaning in meanings for word in meaning.words[-1:] if word.isdigit()]
    counted = len(set(numbers)) == len(branches) and all(meaning.parts == {"finger"} for meaning in meanings)
    return numbers if counted else []


def _apart(rig: Rig, branches: list[list[int]]) -> np.ndarray:
    """How far each branch points away from the mean of the others: 0 along it, 1 square to it."""
    directions = np.array(
        [rig.places[run[1]] - rig.places[run[0]] if len(run) > 1 else np.zeros(3) for run in branches]
    )
    directions /= np.linalg.norm(directions, axis=1, keepdims=True) + 1e-12
    if len(branches) < 3:
        return np.zeros(len(branches))
    others = directions.sum(axis=0) - directions
    others /= np.linalg.norm(others, axis=1, keepdims=True) + 1e-12
    return 1.0 - np.einsum("ij,ij->i", directions, others)


def _choices(count: int) -> list[tuple[str, ...]]:
    from itertools import combinations

    return list(combinations(FINGERS, count))


def _across(knuckles: np.ndarray, thumb: int, others: list[int]) -> np.ndarray:
    """Where the other fingers are across the palm, counted away from the thumb."""
    if len(others) < 2:
        return np.zeros(len(others))
    points = knuckles[others]
    spread = points - points.mean(axis=0)
    axis = np.linalg.svd(spread)[2][0]
    across = spread @ axis
    if thumb >= 0 and (knuckles[thumb] - points.mean(axis=0)) @ axis > 0:
        across = -across
    return across


def _knuckle(rig: Rig, hand: int, run: list[int]) -> np.ndarray:
    """Where the finger leaves the palm: at its first bone, or at the second if the first lies in the palm."""
    return rig.places[run[1]] if _in_palm(rig, hand, run) else rig.places[run[0]]


def _in_palm(rig: Rig, hand: int, run: list[int]) -> bool:
    """Whether the first bone is a metacarpal: it begins near the wrist and is long."""
    if len(run) < 2:
        return False
    whole = rig.distance(run[1], hand)
    return whole > 0 and rig.distance(run[0], hand) < 0.5 * whole


def _parts(rig: Rig, hand: int, run: list[int], digit: str) -> tuple[tuple[str, int], ...]:
    parts: tuple[str, ...]
    run = _whole(rig, run)
    if digit == "thumb":
        parts = ("metacarpal", "proximal", "distal") if len(run) >= 3 else ("proximal", "distal")
    elif _in_palm(rig, hand, run) or "metacarpal" in rig.meanings[run[0]].parts:
        parts = ("metacarpal", "proximal", "intermediate", "distal")
        if len(run) == 3:
            parts = ("metacarpal", "proximal", "distal")
    else:
        parts = ("proximal", "intermediate", "distal") if len(run) >= 3 else ("proximal", "distal")
    return tuple((f"{digit}_{part}", bone) for part, bone in zip(parts, run, strict=False))


def _whole(rig: Rig, run: list[int]) -> list[int]:
    """A run without the further pieces of bones that are cut: of ``01.L.01``, ``01.L.02``, ``02.L``, ``03.L`` three. A
    number that all have is the finger's."""

    def stem(bone: int) -> tuple[list[str], list[str]]:
        words = meaning_of(rig.names[bone]).words
        return [word for word in words if not word.isdigit()], [word for word in words if word.isdigit()][:1]

    first = run[:1] + [bone for above, bone in pairwise(run) if stem(bone) != stem(above)]
    return first if len(first) >= 3 else run


def _named(rig: Rig, run: list[int], digit: str) -> float:
    """What the names of a branch say about being a digit: +1 this one, -1 another, 0 nothing."""
    words = [meaning_of(rig.names[bone]).parts for bone in run]
    if any(digit in parts for parts in words):
        return 1.0
    if any(parts & (set(_DIGITS) - {digit}) for parts in words):
        return -1.0
    return 0.4 * fit(rig.names[run[0]], f"{digit}_proximal_left")
