"""Draft a face chart: what each shape of a head is, from the words in its name and from what it does to the face."""

from __future__ import annotations

import difflib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from fairswap.bones.roles import RoleMap
from fairswap.errors import Finding, UsageError
from fairswap.face.bones import anatomical_poses, face_alone, face_bones, pose_from_frame
from fairswap.face.chart import FaceChart, Shape
from fairswap.face.geometry import (
    CANDIDATES,
    FaceFrame,
    candidate_looks,
    fitted_frame,
    head_frame,
    likenesses,
    look_of,
    moving_vertices,
    rest_moves,
)
from fairswap.face.solve import nonnegative_weights
from fairswap.face.units import side_of, vector
from fairswap.face.words import ShapeName, shape_name
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.mesh import deformed_vertices

_NAME_COUNTS = 0.6  # a perfect name against a perfect look
_SUM_RESIDUAL, _PART_LEAST, _MOST_PARTS = 0.02, 0.08, 10
_DEAD = 1e-5  # of the head's size
_HARDLY = 0.0012  # as far as shapes go at a hundredth, at most
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


@dataclass(frozen=True, eq=False)
class FaceDraft:
    """A drafted chart with its reasons; ``frame`` is where the face was found to be.

    >>> import fairswap
    >>> drafted = fairswap.face.draft(fairswap.demo_file("pip.glb"))
    >>> drafted.chart.shapes["say ah"].units
    {'viseme_a': 1.0}
    """

    chart: FaceChart
    guesses: dict[str, ShapeGuess]
    frame: FaceFrame
    findings: list[Finding] = field(default_factory=list)

    def __repr__(self) -> str:
        return f"<FaceDraft: {len(self.chart.shapes)} shapes>"


def draft_face(
    figure: Figure, roles: RoleMap | None, clips: Sequence[Clip] = (), said: dict[str, dict[str, float]] | None = None
) -> FaceDraft:
    """Find out what every morph of a figure does, and what its face bones can do.

    Parameters
    ----------
    roles : RoleMap or None
        Which bone is which; None for a bare head.
    clips : sequence of Clip
        The figure's clips: they tell the range of weights.
    said : mapping of shape to units
        What the user says certain shapes are; it is taken as it is.

    Raises
    ------
    UsageError
        If ``said`` names a shape that is not there.
    """
    frame = head_frame(figure, roles)
    names, vertices, moves = _all_moves(figure)
    findings = _name_findings(figure)
    guesses: dict[str, ShapeGuess] = {}
    if names:
        frame = fitted_frame(frame, vertices, moves)
        ranges = _ranges(figure, clips) or _ranges_by_size(names, frame, moves)
        if any(high > 1.0 for _, high in ranges.values()):
            moves = moves * np.array([ranges.get(name, (0.0, 1.0))[1] for name in names])[:, None, None]
        guesses = _guess_shapes(names, frame, vertices, moves, ranges)
    if roles is not None:
        used = {bone for clip in clips for bone in _turning(clip)}
        for unit, shape in anatomical_poses(figure.skeleton, roles, head_frame(figure, roles)).items():
            # Where morphs do it, too, bones count if its own clips move them.
            if not _shown_by_morphs(unit, guesses) or used & set(shape.bones):
                bones = ", ".join(shape.bones)
                guesses[f"bones {unit}"] = ShapeGuess(
                    Shape(f"bones {unit}", shape.units, bones=shape.bones), 0.9, (f"where {bones} stand on the face",)
                )
    for name, units in (said or {}).items():
        if name not in guesses:
            near = difflib.get_close_matches(name, guesses, 1)
            raise UsageError(f"there is no shape {name!r}", remedy=f"Do you mean {near[0]!r}?" if near else "")
        old = guesses[name].shape
        told = Shape(name, units, low=old.low, high=old.high, bones=old.bones)
        guesses[name] = ShapeGuess(told, 1.0, ("said by the user",))
    for name, guess in guesses.items():
        findings += _doubts(name, guess)
    chart = FaceChart(figure.name, {name: guess.shape for name, guess in guesses.items()})
    return FaceDraft(chart, guesses, frame, findings)


def chart_from_names(names: Sequence[str], title: str) -> FaceChart:
    """A chart by the names alone, for tracks without a face; names that say nothing are left out."""
    shapes = {}
    for name in names:
        scores = {name: 1.0} if name in CANDIDATES else shape_name(name).scores
        if scores and max(scores.values()) >= 0.5:
            shapes[name] = Shape(name, {name if name in CANDIDATES else _best_word(name): 1.0})
    return FaceChart(title, shapes)


def _all_moves(figure: Figure) -> tuple[list[str], Floats, Floats]:
    """The names of all morphs, the vertices of all meshes that have any, and what each morph does to them."""
    parts = [(mesh, *rest_moves(figure, mesh)) for mesh in figure.meshes if mesh.morph_names]
    names = list(dict.fromkeys(name for mesh, *_ in parts for name in mesh.morph_names))
    if not parts:
        return [], np.zeros((0, 3)), np.zeros((0, 0, 3))
    vertices = np.concatenate([v for _, v, _ in parts])
    moves = np.zeros((len(names), len(vertices), 3))
    start = 0
    for mesh, v, own in parts:
        for name, rows in zip(mesh.morph_names, own, strict=True):
            moves[names.index(name), start : start + len(v)] += rows
        start += len(v)
    return names, vertices, moves


def draft_timeline(figure: Figure, roles: RoleMap, clip: Clip, held: Sequence[tuple[int, str]]) -> FaceDraft:
    """A chart of poses of face bones, from a clip in which each is held on its frame.

    Parameters
    ----------
    held : sequence of (frame, name)
        Which frame holds which pose.

    Raises
    ------
    UsageError
        If a frame is not in the clip, or no bone of the face moves in it.
    """
    frame = head_frame(figure, roles)
    bones = face_bones(figure.skeleton, roles, frame)
    names, moves, poses = [], [], {}
    for number, name in held:
        if not 0 <= number < clip.frames:
            raise UsageError(
                f"clip {clip.name!r} has no frame {number}", remedy=f"It has frames 0 to {clip.frames - 1}"
            )
        moved = pose_from_frame(clip.poses, number, bones, frame)
        if not moved:
            continue  # the reference face itself
        names.append(name)
        poses[name] = moved
        world = face_alone(clip.poses.at([number]), set(bones.values())).world()
        moves.append(np.concatenate([deformed_vertices(mesh, world, 0) for mesh in figure.meshes]) - figure.rest_points)
    if not names:
        remedy = "Give the frames on which expressions are held"
        raise UsageError(f"no bone of the face moves on those frames of {clip.name!r}", remedy=remedy)
    whole = np.array(moves)
    guesses = _guess_shapes(names, fitted_frame(frame, figure.rest_points, whole), figure.rest_points, whole, {})
    for name in names:
        guess = guesses[name]
        units = guess.shape.units or (shape_name(name).scores and {_best_word(name): 1.0}) or {}
        guesses[name] = ShapeGuess(Shape(name, units, bones=poses[name]), guess.confidence, guess.reasons)
    chart = FaceChart(figure.name, {name: guess.shape for name, guess in guesses.items()})
    return FaceDraft(chart, guesses, frame, [row for name, guess in guesses.items() for row in _doubts(name, guess)])


def _best_word(name: str) -> str:
    scores = shape_name(name).scores
    return max(scores, key=lambda key: scores[key])


@dataclass(frozen=True)
class _Moves:
    """What the shapes of a face do, beside what the units look like."""

    names: list[str]
    moved_by: Floats
    looks: Floats
    backwards: Floats
    weak: Floats  # against each candidate's usual strength
    size: Floats
    sums: dict[str, dict[str, float]]

    @classmethod
    def of(cls, names: list[str], frame: FaceFrame, vertices: Floats, moves: Floats) -> _Moves:
        places, moved_by = frame.places(vertices), frame.directions(moves)
        near = moving_vertices(moves)
        places, moved_by = places[near], moved_by[:, near]
        strength = np.linalg.norm(look_of(places, moved_by), axis=1)
        size = np.linalg.norm(moved_by, axis=2).max(axis=1, initial=0.0)
        weak = strength[:, None] < 0.3 * np.linalg.norm(candidate_looks(), axis=1)
        sums = _sums(names, moved_by, size)
        return cls(names, moved_by, likenesses(places, moved_by), likenesses(places, -moved_by), weak, size, sums)


_CANDIDATE = {name: i for i, name in enumerate(CANDIDATES)}


def _guess_shapes(
    names: list[str], frame: FaceFrame, vertices: Floats, moves: Floats, ranges: Mapping[str, tuple[float, float]]
) -> dict[str, ShapeGuess]:
    found = _Moves.of(names, frame, vertices, moves)
    return {name: _guess_shape(found, row, *ranges.get(name, (0.0, 1.0))) for row, name in enumerate(names)}


def _guess_shape(found: _Moves, row: int, low: float, high: float) -> ShapeGuess:
    """Nothing, a sum of others, a corrective, or the unit it moves and is named like."""
    name, looks = found.names[row], found.looks[row]
    if found.size[row] < _DEAD:
        return ShapeGuess(Shape(name, low=low, high=high), 1.0, ("it moves nothing",))
    words = shape_name(name)
    said = {word for word, value in words.scores.items() if value >= 0.8 and looks[_CANDIDATE[word]] > 0.88}
    total = found.sums.get(name)
    if total and not said:
        parts = " + ".join(f"{weight:.2g} {part!r}" for part, weight in total.items())
        return ShapeGuess(Shape(name, low=low, high=high, total=total), 0.9, (f"it moves as {parts}",))
    # What only nearly looks like a gaze is a lid.
    score = np.where(_IS_GAZE & (looks < 0.95), 0.8, 1.0) * looks
    for candidate, value in words.scores.items():
        score[_CANDIDATE[candidate]] += _NAME_COUNTS * value
    best = int(np.argmax(score))
    look = float(looks[best])
    if words.corrective or (not words.scores and (look < 0.6 or (found.weak[row, best] and look < 0.9))):
        corrects = _corrected(row, found.names, found.moved_by, found.sums, words.corrective)
        reason = "its name says so" if words.corrective else "it is weak and like no unit"
        parts = " and ".join(repr(part) for part in corrects)
        how = f"it comes in with {parts} ({reason}; they move what it moves)"
        shape = Shape(name, low=low, high=high, corrects=corrects)
        return ShapeGuess(shape, 0.75 if words.corrective else 0.5, (how,))
    shape, reasons = (
        Shape(name, {CANDIDATES[best]: 1.0}, low=low, high=high),
        [f"it moves {look:.0%} as {CANDIDATES[best]} does"],
    )
    if words.scores.get(CANDIDATES[best]):
        reasons.append(f"its name says so ({words.scores[CANDIDATES[best]]:.2f})")
    if any(a in words.notions and b in words.notions for a, b in _OPPOSITES) or low < 0.0:
        back = int(np.argmax(found.backwards[row]))
        if found.backwards[row, back] > 0.8:
            shape = Shape(name, shape.units, {CANDIDATES[back]: 1.0}, min(low, -high), high)
            reasons.append(f"backwards it moves as {CANDIDATES[back]} does")
    confidence, doubts = _confidence(name, words, score, best, look)
    return ShapeGuess(shape, confidence, (*reasons, *doubts))


def _confidence(name: str, words: ShapeName, score: Floats, best: int, look: float) -> tuple[float, list[str]]:
    """How sure the unit ``best`` is, and what speaks against it."""
    word = words.scores.get(CANDIDATES[best], 0.0)
    confidence, doubts = (0.35 + 0.45 * look + 0.2 * word if word else min(0.97 * look, 0.9)), []
    if word and look < 0.6:
        confidence = min(confidence, 0.55)
        doubts.append("but it moves otherwise")
    elif not word and words.scores:
        confidence = min(confidence, 0.7)
        doubts.append(f"but its name says {_best_word(name)}")
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
        for row in [i for i in np.argsort(-square).tolist() if alive[i]]:
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


def _corrected(
    row: int, names: list[str], moved_by: Floats, sums: dict[str, dict[str, float]], by_name: bool
) -> tuple[str, ...]:
    """The two shapes that a corrective comes in with: named in its name, or those that move what it moves."""
    if by_name:
        bare = "".join(c for c in names[row].lower() if c.isalnum())
        inside = [
            name for i, name in enumerate(names)
            if i != row and len(name) > 2 and "".join(c for c in name.lower() if c.isalnum()) in bare
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


def _ranges(figure: Figure, clips: Sequence[Clip]) -> dict[str, tuple[float, float]]:
    """The range of weights, from what clips use: up to 1, up to 100; below 0 or not."""
    out: dict[str, tuple[float, float]] = {}
    for clip in clips:
        hundred = any(track.weights.max(initial=0.0) > 1.5 for track in clip.poses.morph_tracks)
        for track in clip.poses.morph_tracks:
            for name, weights in zip(figure.meshes[track.mesh].morph_names, track.weights, strict=True):
                high = 100.0 if hundred else 1.0
                low = -high if weights.min(initial=0.0) < -0.02 * high else 0.0
                old = out.get(name, (0.0, 1.0))
                out[name] = (min(old[0], low), max(old[1], high))
    return out


def _turning(clip: Clip) -> set[str]:
    """The bones that turn in a clip, by name."""
    turns = np.ptp(clip.poses.rotation_tracks, axis=2).max(axis=1)
    return {clip.skeleton.names[bone] for bone in np.flatnonzero(turns > 1e-3).tolist()}


def _ranges_by_size(names: list[str], frame: FaceFrame, moves: Floats) -> dict[str, tuple[float, float]]:
    """Weights to 100, where shapes at 1 hardly move anything, and at 100 as far as faces go; else nothing is told."""
    far = np.linalg.norm(frame.directions(moves), axis=2).max(axis=1, initial=0.0)
    usual = float(np.median(far[far > 0.0])) if (far > 0.0).any() else 1.0
    return dict.fromkeys(names, (0.0, 100.0)) if usual < _HARDLY else {}


def _shown_by_morphs(unit: str, guesses: dict[str, ShapeGuess]) -> bool:
    """Whether a morph already does this unit alone."""
    return any(
        not guess.shape.bones and not guess.shape.total and len(vector(guess.shape.units).nonzero()[0]) == 1
        and vector(guess.shape.units) @ vector({unit: 1.0}) > 0.0
        for guess in guesses.values()
    )  # fmt: skip


def _name_findings(figure: Figure) -> list[Finding]:
    found = []
    for mesh in figure.meshes:
        names = list(mesh.morph_names)
        double = sorted({name for name in names if names.count(name) > 1})
        if double:
            message = f"morphs of mesh {mesh.name!r} have one name: {', '.join(map(repr, double[:5]))}"
            found.append(
                Finding("morphs-equal-names", "warning", mesh.name, message, "Rename them where they were made")
            )
        if any(not name.strip() for name in names):
            found.append(
                Finding("morphs-nameless", "warning", mesh.name, f"mesh {mesh.name!r} has morphs without names")
            )
    return found


def _doubts(name: str, guess: ShapeGuess) -> list[Finding]:
    if guess.reasons == ("it moves nothing",):
        return [Finding("shape-dead", "warning", name, f"{name!r} moves nothing", "Drop it, or export it again")]
    if any(reason.startswith("but its name says") for reason in guess.reasons):
        message = f"{name!r}: {'; '.join(guess.reasons)}"
        return [Finding("shape-contradicts", "warning", name, message)]
    return []
