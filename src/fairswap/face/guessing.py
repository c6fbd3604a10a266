"""What each shape of a head is: by the words in its name, by what it does to skin, eyeballs and tongue, and by what the
other shapes are."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from fairswap.face.chart import Shape
from fairswap.face.geometry import (
    CANDIDATES,
    FaceFrame,
    both_ahead,
    candidates_lips_apart,
    likenesses,
    lips_apart,
    moving_vertices,
)
from fairswap.face.organs import Organs
from fairswap.face.units import EXPRESSIONS, UNITS, VISEMES, side_of, vector
from fairswap.face.words import ShapeName, shape_name
from fairswap.model.arrays import Floats
from fairswap.model.bounded import nonnegative_weights

_NAME_COUNTS = 0.6  # a perfect name against a perfect look
_SUM_RESIDUAL, _PART_LEAST, _MOST_PARTS = 0.02, 0.08, 10
_DEAD = 1e-5  # of the head's size
# A shape without words that looks like nothing, or is small and hardly like anything, comes in with others.
_LIKE_NOTHING, _HARDLY_LIKE, _SMALL = 0.35, 0.6, 0.4
_AS_LID = 0.92
# A shape gives way to a likelier one if what it may be else is no worse than by this; to a single unit
# that nothing else is, by this.
_GIVES_WAY, _AS_WELL = 0.3, 0.06
# A shape that moves one side by less than this of the other is one-sided; what both sides do counts so much then.
_OTHER_SIDE, _BOTH_COUNT = 0.25, 0.8
_OF_BOTH = np.array([not side_of(name) and not name.startswith(("jaw_left", "jaw_right")) for name in CANDIDATES])
# What heads seldom have a shape for counts so much beside what most have.
_RARE = np.array([0.93 if name.startswith(("sharp_lip_puller", "nasolabial")) else 1.0 for name in CANDIDATES])
# What parts the lips is nothing that shuts them, and what pushes both ahead is no jaw and no tongue: it counts so much.
_PARTED, _SHUT, _BOTH_AHEAD, _OTHERWISE = 0.2, -0.15, 0.9, 0.8
_JAW_OR_TONGUE = np.array([name.startswith(("jaw_thrust", "tongue")) for name in CANDIDATES])
_IS_GAZE = np.array([name.startswith("gaze") for name in CANDIDATES])
_OPPOSITES = (
    ("up", "down"),
    ("open", "close"),
    ("smile", "frown"),
    ("in", "out"),
    ("joy", "sadness"),
    ("wide", "narrow"),
)


@dataclass(frozen=True, eq=False)
class ShapeGuess:
    """What one shape was taken for, how sure that is, and why."""

    shape: Shape
    confidence: float
    reasons: tuple[str, ...]


@dataclass(frozen=True)
class _Moves:
    """What the shapes of a face do, beside what the units look like."""

    names: list[str]
    moved_by: Floats
    looks: Floats
    backwards: Floats
    size: Floats
    sums: dict[str, dict[str, float]]
    organs: Organs
    one_sided: np.ndarray
    lips_apart: Floats
    both_ahead: Floats

    @classmethod
    def of(
        cls, names: list[str], frame: FaceFrame, vertices: Floats, moves: Floats, organs: Organs | None = None
    ) -> _Moves:
        places, moved_by = frame.places(vertices), frame.directions(moves)
        near = moving_vertices(moves)
        places, moved_by = places[near], moved_by[:, near]
        size = np.linalg.norm(moved_by, axis=2).max(axis=1, initial=0.0)
        sums = _sums(names, moved_by, size)
        left = places[:, 0] > 0.0
        share = np.linalg.norm(moved_by, axis=2)
        halves = np.stack([share[:, left].sum(axis=1), share[:, ~left].sum(axis=1)])
        one_sided = halves.min(axis=0) < _OTHER_SIDE * halves.max(axis=0)
        organs = organs or Organs([{} for _ in names], np.zeros(len(names), dtype=bool))
        return cls(
            names, moved_by, likenesses(places, moved_by), likenesses(places, -moved_by), size, sums, organs, one_sided,
            lips_apart(places, moved_by), both_ahead(places, moved_by),
        )  # fmt: skip


_CANDIDATE = {name: i for i, name in enumerate(CANDIDATES)}


def guess_shapes(
    names: list[str], frame: FaceFrame, vertices: Floats, moves: Floats, ranges: Mapping[str, tuple[float, float]],
    organs: Organs | None = None,
) -> dict[str, ShapeGuess]:  # fmt: skip
    """What each shape is, settled over the whole head: no two shapes are one unit, if one of them may be another."""
    found = _Moves.of(names, frame, vertices, moves, organs)
    looked = [_Look.of(found, row) for row in range(len(names))]
    guesses = {
        name: _guess_shape(found, row, looked[row], *ranges.get(name, (0.0, 1.0))) for row, name in enumerate(names)
    }
    _settle(found, looked, guesses, ranges)
    return guesses


@dataclass(frozen=True)
class _Look:
    """One shape: the words of its name, how like each candidate it is, and that together with the words."""

    words: ShapeName
    looks: Floats
    score: Floats

    @classmethod
    def of(cls, found: _Moves, row: int) -> _Look:
        # What turns no eyeball is no gaze, unless it is called one on a head whose eyeballs never turn.
        looks, words = found.looks[row].copy(), shape_name(found.names[row])
        called = any(name.startswith("gaze") for name in words.scores)
        if found.organs.has_eyes or not called:
            _lids_for_gazes(looks)
        score = np.where(_IS_GAZE & (looks < 0.95), 0.8, 1.0) * _RARE * looks
        if found.one_sided[row]:  # what both sides do it is not
            score *= np.where(_OF_BOTH, _BOTH_COUNT, 1.0)
        if found.lips_apart[row] > _PARTED:
            score *= np.where(candidates_lips_apart() < _SHUT, _OTHERWISE, 1.0)
        if found.both_ahead[row] > _BOTH_AHEAD:
            score *= np.where(_JAW_OR_TONGUE, _OTHERWISE, 1.0)
        for candidate, value in words.scores.items():
            score[_CANDIDATE[candidate]] += _NAME_COUNTS * value
        return cls(words, looks, score)


def _settle(
    found: _Moves, looked: Sequence[_Look], guesses: dict[str, ShapeGuess], ranges: Mapping[str, tuple[float, float]]
) -> None:
    """Where several shapes are taken for one unit, one keeps it: the one that would lose most by being another.

    The others are the next that is free; in place.
    """
    claims: dict[str, list[int]] = {}
    for row, name in enumerate(found.names):
        units = guesses[name].shape.units
        if len(units) == 1 and not found.organs.gazes[row]:
            claims.setdefault(next(iter(units)), []).append(row)
    for unit, rows in claims.items():
        if unit not in UNITS or len(rows) < 2:
            continue
        free = np.array([other not in claims and not _overlap(other, unit) for other in CANDIDATES])
        options = {row: int(np.argmax(np.where(free, looked[row].score, -1.0))) for row in rows}
        losses = {row: looked[row].score[_CANDIDATE[unit]] - looked[row].score[options[row]] for row in rows}
        first = max(rows, key=lambda row: losses[row])
        for row in rows:
            if row != first and losses[row] < _GIVES_WAY:
                name = found.names[row]
                settled = _as_unit(found, row, looked[row], options[row], *ranges.get(name, (0.0, 1.0)))
                reason = f"{found.names[first]!r} can be nothing but {unit}"
                guesses[name] = replace(settled, reasons=(*settled.reasons, reason))
    for row, name in enumerate(found.names):
        # A nameless mouth shape or expression, where the head has nothing yet for a unit that it is as like: that unit.
        whole = next(iter(guesses[name].shape.units), "")
        if whole in VISEMES + EXPRESSIONS and not looked[row].words.scores:
            score = np.where([one in UNITS and one not in claims for one in CANDIDATES], looked[row].score, -1.0)
            best = int(np.argmax(score))
            if score[best] > looked[row].score[_CANDIDATE[whole]] - _AS_WELL:
                guesses[name] = _as_unit(found, row, looked[row], best, *ranges.get(name, (0.0, 1.0)))


def _guess_shape(found: _Moves, row: int, look: _Look, low: float, high: float) -> ShapeGuess:
    """Nothing, a sum of others, a corrective, or the unit it moves and is named like."""
    name, words = found.names[row], look.words
    if found.size[row] < _DEAD:
        return ShapeGuess(Shape(name, low=low, high=high), 1.0, ("it moves nothing",))
    said = {word for word, value in words.scores.items() if value >= 0.8 and found.looks[row][_CANDIDATE[word]] > 0.88}
    total = found.sums.get(name)
    if total and (not said or _names_parts(name, total)):
        parts = " + ".join(f"{weight:.2g} {part!r}" for part, weight in total.items())
        return ShapeGuess(Shape(name, low=low, high=high, total=total), 0.9, (f"it moves as {parts}",))
    organ = _of_organ(found, row, words, low, high)
    if organ is not None and not words.corrective:
        return organ
    best = int(np.argmax(look.score))
    like = float(look.looks[best])
    small = found.size[row] < _SMALL * np.median(found.size[found.size >= _DEAD])
    if words.corrective or (not words.scores and (like < _LIKE_NOTHING or (small and like < _HARDLY_LIKE))):
        corrects = _corrected(row, found.names, found.moved_by, found.sums, words.corrective)
        reason = "its name says so" if words.corrective else "it is weak and like no unit"
        parts = " and ".join(repr(part) for part in corrects)
        how = f"it comes in with {parts} ({reason}; they move what it moves)"
        shape = Shape(name, low=low, high=high, corrects=corrects)
        return ShapeGuess(shape, 0.75 if words.corrective else 0.5, (how,))
    return _as_unit(found, row, look, best, low, high)


def _as_unit(found: _Moves, row: int, look: _Look, best: int, low: float, high: float) -> ShapeGuess:
    """The shape as one candidate, with what it does backwards, if it has two ways."""
    name, words, like = found.names[row], look.words, float(look.looks[best])
    shape, reasons = (
        Shape(name, {CANDIDATES[best]: 1.0}, low=low, high=high),
        [f"it moves {like:.0%} as {CANDIDATES[best]} does"],
    )
    if words.scores.get(CANDIDATES[best]):
        reasons.append(f"its name says so ({words.scores[CANDIDATES[best]]:.2f})")
    if any(a in words.notions and b in words.notions for a, b in _OPPOSITES) or low < 0.0:
        back = int(np.argmax(found.backwards[row]))
        if found.backwards[row, back] > 0.8:
            shape = Shape(name, shape.units, {CANDIDATES[back]: 1.0}, min(low, -high), high)
            reasons.append(f"backwards it moves as {CANDIDATES[back]} does")
    confidence, doubts = _confidence(name, words, look.score, best, like)
    return ShapeGuess(shape, confidence, (*reasons, *doubts))


def _overlap(first: str, second: str) -> bool:
    """Whether two candidates have a unit in common."""
    return bool(vector({first: 1.0}) @ vector({second: 1.0}) > 0.0)


def _names_parts(name: str, parts: Mapping[str, float]) -> bool:
    """Whether a name is made of those of at least two parts."""
    bare = _bare(name)
    return sum(len(part) > 2 and _bare(part) in bare for part in parts) >= 2


def _bare(name: str) -> str:
    return "".join(letter for letter in name.lower() if letter.isalnum())


def _lids_for_gazes(looks: Floats) -> None:
    """Skin that goes up or down where an eye is is a lid; in place."""
    for side in ("_left", "_right", ""):
        for gaze, lid in (("gaze_up", "upper_lid_raiser"), ("gaze_down", "eye_closure")):
            there, here = _CANDIDATE[f"{gaze}{side}"], _CANDIDATE[f"{lid}{side}"]
            looks[here] = max(looks[here], _AS_LID * looks[there])
    looks[_IS_GAZE] = 0.0


def _of_organ(found: _Moves, row: int, words: ShapeName, low: float, high: float) -> ShapeGuess | None:
    """A shape that turns eyeballs, or moves the tongue alone: geometry says so, whatever it is called."""
    gazes, name = found.organs.gazes[row], found.names[row]
    if gazes:
        units, how = dict(gazes), f"it turns {'an eyeball' if len({unit[-4:] for unit in gazes}) == 1 else 'eyeballs'}"
    elif found.organs.tongue[row]:
        units, how = {"tongue_show": 1.0}, "it moves the tongue alone"
    else:
        return None
    wanted = vector(units)
    said = best_word(name) if words.scores else ""
    agrees = not said or wanted @ vector({said: 1.0}) > 0.0
    reasons = (how,) if agrees else (how, f"but its name says {said}")
    return ShapeGuess(Shape(name, units, low=low, high=high), 0.97 if agrees else 0.6, reasons)


def _confidence(name: str, words: ShapeName, score: Floats, best: int, look: float) -> tuple[float, list[str]]:
    """How sure the unit ``best`` is, and what speaks against it."""
    word = words.scores.get(CANDIDATES[best], 0.0)
    confidence, doubts = (0.35 + 0.45 * look + 0.2 * word if word else min(0.97 * look, 0.9)), []
    if word and look < 0.6:
        confidence = min(confidence, 0.55)
        doubts.append("but it moves otherwise")
    elif not word and words.scores:
        confidence = min(confidence, 0.7)
        doubts.append(f"but its name says {best_word(name)}")
    other = _rival(score, best)
    if score[best] - score[other] < 0.03:
        confidence = min(confidence, 0.7)
        doubts.append(f"{CANDIDATES[other]} would fit nearly as well")
    if words.side and side_of(CANDIDATES[best]) not in ("", words.side):
        confidence = min(confidence, 0.5)
        doubts.append(f"but its name says {words.side}")
    return min(confidence, 0.99), doubts


def _sums(names: list[str], moved_by: Floats, size: Floats) -> dict[str, dict[str, float]]:
    """The shapes that are the sum of at least two others, with their parts; parts are no sums themselves."""
    flat = moved_by.reshape(len(names), -1)
    gram = flat @ flat.T
    square = np.diag(gram)
    alive = size >= _DEAD
    others = alive.copy()
    out: dict[str, dict[str, float]] = {}
    for _ in range(2):  # once more without those found, so that no sum is a part
        out = {}
        near = alive & (_left_by(gram, others) < _SUM_RESIDUAL**2)
        for row in [i for i in np.argsort(-square).tolist() if near[i]]:
            allowed = others.copy()
            allowed[row] = False
            weights = nonnegative_weights(gram, gram[:, row], allowed, _MOST_PARTS + 1)
            short = np.where(weights > _PART_LEAST, weights, 0.0)
            used = np.flatnonzero(short).tolist()
            left = square[row] - 2.0 * short @ gram[:, row] + short @ gram @ short
            parts = {names[i]: round(float(short[i]), 3) for i in used}
            exact = 2 <= len(used) <= _MOST_PARTS and short.max() <= 1.5 and left < _SUM_RESIDUAL**2 * square[row]
            tangled = any(part in out for part in parts) or any(names[row] in other for other in out.values())
            if exact and not tangled:
                out[names[row]] = parts
        found = [i for i, name in enumerate(names) if name in out]
        if not found:
            break
        others[found] = False
    return out


def _left_by(gram: Floats, others: np.ndarray) -> Floats:
    """How much of each shape the ``others`` leave, whatever their weights, as a share of its square: of itself it is
    no part. What they leave most of is not their sum."""
    length = np.sqrt(np.maximum(np.diag(gram), 1e-300))
    alike = gram / np.outer(length, length)
    among = np.flatnonzero(others)
    # The little on the diagonal is for shapes that are there twice.
    inverse = np.linalg.inv(alike[np.ix_(among, among)] + 1e-9 * np.eye(len(among)))
    known = alike[:, among]
    left = 1.0 - np.einsum("ij,jk,ik->i", known, inverse, known, optimize=True)
    left[among] = 1.0 / np.diag(inverse)
    return left


def _corrected(
    row: int, names: list[str], moved_by: Floats, sums: dict[str, dict[str, float]], by_name: bool
) -> tuple[str, ...]:
    """The two shapes that a corrective comes in with: named in its name, or those that move what it moves."""
    if by_name:
        bare = _bare(names[row])
        inside = [
            name for i, name in enumerate(names)
            if i != row and len(name) > 2 and _bare(name) in bare
        ]  # fmt: skip
        if len(inside) >= 2:
            longest = sorted(inside, key=len, reverse=True)[:2]
            return tuple(name for name in names if name in longest)
    own = np.linalg.norm(moved_by[row], axis=1)
    moved = np.linalg.norm(moved_by, axis=2)
    overlap = (
        np.minimum(moved, moved.max(axis=1, keepdims=True) * 0.5)
        @ own
        / np.maximum(np.linalg.norm(moved, axis=1), 1e-12)
    )
    overlap[row] = -1.0
    for i, name in enumerate(names):
        if name in sums:
            overlap[i] = -1.0
    best = np.argsort(-overlap)[:2]
    return tuple(names[i] for i in sorted(best.tolist()))


def _rival(score: Floats, best: int) -> int:
    """The best candidate that means something else than ``best``."""
    mine = vector({CANDIDATES[best]: 1.0})
    for other in np.argsort(-score).tolist():
        its = vector({CANDIDATES[other]: 1.0})
        if other != best and mine @ its < 0.98 * np.linalg.norm(mine) * np.linalg.norm(its):
            return int(other)
    return best


def best_word(name: str) -> str:
    scores = shape_name(name).scores
    return max(scores, key=lambda key: scores[key])
