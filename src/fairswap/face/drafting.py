"""Draft a face chart: what each shape of a head is, from the words in its name and from what it does to the face."""

from __future__ import annotations

import difflib
from collections.abc import Container, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from fairswap.bones.roles import RoleMap
from fairswap.errors import Finding, UsageError
from fairswap.face.bone_poses import anatomical_poses, skin_middles
from fairswap.face.bones import face_bones, unlike_their_binding
from fairswap.face.chart import PERCENT_FROM, FaceChart, Shape
from fairswap.face.expressions import said_by_avatar
from fairswap.face.geometry import (
    CANDIDATES,
    FaceFrame,
    fitted_frame,
    head_frame,
    moving_vertices,
    rest_moves,
)
from fairswap.face.guessing import ShapeGuess, best_word, guess_shapes
from fairswap.face.lids import with_lids_shut
from fairswap.face.neutral import at_ease
from fairswap.face.organs import organs_of, shells_of
from fairswap.face.units import vector
from fairswap.face.words import shape_name
from fairswap.formats.patterns import common_prefix
from fairswap.model.arrays import Floats, Integers
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.wording import counted

# Skin further below the pivot of the head than this, or further to its sides, in head sizes, is none of a face.
_BELOW, _ASIDE = -0.6, 1.5
_BODY = "it moves the body, not the face"
_HARDLY = 0.003  # as far as shapes go at a hundredth, at most, for the part of the head that they move


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

    def text(self, name: str) -> str:
        """The chart as a file under a name, with reasons; what a scene puts before every name stands above them."""
        morphs = [shape for shape, guess in self.guesses.items() if not guess.shape.bones]
        prefix = common_prefix(morphs, ":|.", share=1.0)
        bare = {shape: shape.removeprefix(prefix) for shape in morphs}
        comments = {
            bare.get(shape, shape): f"{guess.confidence:.2f}: {'; '.join(guess.reasons)}"
            for shape, guess in self.guesses.items()
        }
        prefixes = (prefix, f"*{prefix[-1]}") if prefix else ()
        return replace(self.chart.renamed(bare), name=name, prefixes=prefixes).text(comments)

    def __repr__(self) -> str:
        return f"<FaceDraft: {counted(len(self.chart.shapes), 'shape')}>"


def draft_face(
    figure: Figure, roles: RoleMap | None, clips: Sequence[Clip] = (), doubled: Container[str] = ()
) -> FaceDraft:
    """Find out what every morph of a figure does, and what its face bones can do.

    Parameters
    ----------
    roles : RoleMap or None
        Which bone is which; None for a bare head.
    clips : sequence of Clip
        The figure's clips: they tell the range of weights.
    doubled : container of str
        Units that bones are to show where morphs show them, too.
    """
    resting, figure = figure, at_ease(figure, roles)
    frame = head_frame(figure, roles)
    names, vertices, moves, shells = all_moves(figure)
    findings = _name_findings(figure)
    guesses: dict[str, ShapeGuess] = {}
    if names and roles is not None:
        body = _of_the_body(frame, vertices, moves)
        guesses = {names[row]: ShapeGuess(Shape(names[row]), 0.9, (_BODY,)) for row in np.flatnonzero(body).tolist()}
        if guesses:
            names, vertices, moves, shells = all_moves(figure, guesses)
    if names:
        ranges = ranges_of(figure, clips) or _ranges_by_size(names, vertices, moves)
        if any(high > 1.0 for _, high in ranges.values()):
            moves = moves * np.array([ranges.get(name, (0.0, 1.0))[1] for name in names])[:, None, None]
        organs = organs_of(vertices, shells, moves)
        frame = fitted_frame(frame, vertices, moves, organs.eye_height_meters)
        guesses |= guess_shapes(names, frame, vertices, moves, ranges, organs)
    if roles is not None:
        used = {bone for clip in clips for bone in _turning(clip)}
        showing = _showing(figure)
        bare: set[str] = set()
        by_bones = head_frame(figure, roles)
        middles = skin_middles(figure, face_bones(figure.skeleton, roles, by_bones))
        poses = with_lids_shut(figure, anatomical_poses(figure.skeleton, roles, by_bones, middles), by_bones)
        posed = {bone for shape in poses.values() for bone in shape.bones}
        findings += unlike_their_binding(resting, roles, posed, figure is not resting)
        own = [guess.shape for guess in guesses.values()]
        for unit, shape in poses.items():
            if not (showing | used) & set(shape.bones):
                bare |= set(shape.bones)
            # Where morphs do it, too, bones count if its own clips move them.
            elif unit in doubled or not shown_by_morphs(unit, own) or used & set(shape.bones):
                bones = ", ".join(shape.bones)
                how = f"where {bones} {'stands' if len(shape.bones) == 1 else 'stand'} on the face"
                guesses[f"bones {unit}"] = ShapeGuess(
                    Shape(f"bones {unit}", shape.units, bones=shape.bones), 0.9, (how,)
                )
        findings += [_bare_finding(bone) for bone in sorted(bare)]
    said = said_by_avatar(figure)
    for name, guess in guesses.items():
        findings += doubts(name, guess) if name not in said else []
    # Of a shape that the file names, its range is still what was found.
    guesses |= {name: _in_range(guess, guesses.get(name)) for name, guess in said.items()}
    chart = FaceChart(figure.name, {name: guess.shape for name, guess in guesses.items()})
    return FaceDraft(chart, guesses, frame, findings)


def _of_the_body(frame: FaceFrame, vertices: Floats, moves: Floats) -> np.ndarray:
    """Which shapes move skin away from the head more than on it: a belly, an arm."""
    at = frame.places(vertices)
    away = (at[:, 1] < _BELOW) | (np.abs(at[:, 0]) > _ASIDE)
    size = np.einsum("sni,sni->sn", moves, moves)
    whole = size.sum(axis=1)
    return np.asarray((size @ away > 0.5 * whole) & (whole > 0.0))


def _in_range(said: ShapeGuess, found: ShapeGuess | None) -> ShapeGuess:
    if found is None:
        return said
    shape = replace(said.shape, low=found.shape.low, high=found.shape.high)
    return replace(said, shape=shape)


def with_said(drafted: FaceDraft, said: Mapping[str, Mapping[str, float]]) -> FaceDraft:
    """A draft with what the user says certain shapes are, in units; it is taken as it is.

    Raises
    ------
    UsageError
        If a shape is named that is not there.
    """
    guesses = dict(drafted.guesses)
    for name, units in said.items():
        if name not in guesses:
            near = difflib.get_close_matches(name, guesses, 1)
            raise UsageError(f"there is no shape {name!r}", remedy=f"Do you mean {near[0]!r}?" if near else "")
        old = guesses[name].shape
        told = Shape(name, dict(units), low=old.low, high=old.high, bones=old.bones)
        guesses[name] = ShapeGuess(told, 1.0, ("said by the user",))
    chart = replace(drafted.chart, shapes={name: guess.shape for name, guess in guesses.items()})
    # What was doubtful of them is no more.
    left = [row for row in drafted.findings if not (row.code.startswith("shape-") and row.place in said)]
    return FaceDraft(chart, guesses, drafted.frame, left)


def chart_from_names(names: Sequence[str], title: str) -> FaceChart:
    """A chart by the names alone, for tracks without a face; names that say nothing are left out."""
    shapes = {}
    for name in names:
        scores = {name: 1.0} if name in CANDIDATES else shape_name(name).scores
        if scores and max(scores.values()) >= 0.5:
            shapes[name] = Shape(name, {name if name in CANDIDATES else best_word(name): 1.0})
    return FaceChart(title, shapes)


def all_moves(figure: Figure, without: Container[str] = ()) -> tuple[list[str], Floats, Floats, Integers]:
    """The names of all morphs but some, the vertices of all meshes that have any of them, what each morph does to them,
    and which shell each is of."""
    parts = [
        (mesh, *rest_moves(figure, mesh)) for mesh in figure.meshes
        if any(name not in without for name in mesh.morph_names)
    ]  # fmt: skip
    names = list(dict.fromkeys(name for mesh, *_ in parts for name in mesh.morph_names if name not in without))
    if not parts:
        return [], np.zeros((0, 3)), np.zeros((0, 0, 3)), np.zeros(0, dtype=np.intp)
    vertices = np.concatenate([v for _, v, _ in parts])
    moves = np.zeros((len(names), len(vertices), 3))
    shells: list[Integers] = []
    start = 0
    for mesh, v, own in parts:
        for name, rows in zip(mesh.morph_names, own, strict=True):
            if name in without:
                continue
            moves[names.index(name), start : start + len(v)] += rows
        shells.append(shells_of(mesh.triangles, len(v), v) + start)
        start += len(v)
    return names, vertices, moves, np.concatenate(shells)


def ranges_of(figure: Figure, clips: Sequence[Clip]) -> dict[str, tuple[float, float]]:
    """The range of weights, from what clips use: up to 1, up to 100; below 0 or not."""
    out: dict[str, tuple[float, float]] = {}
    for clip in clips:
        hundred = any(track.weights.max(initial=0.0) > PERCENT_FROM for track in clip.poses.morph_tracks)
        for track in clip.poses.morph_tracks:
            for name, weights in zip(figure.meshes[track.mesh].morph_names, track.weights, strict=True):
                high = 100.0 if hundred else 1.0
                low = -high if weights.min(initial=0.0) < -0.02 * high else 0.0
                old = out.get(name, (0.0, 1.0))
                out[name] = (min(old[0], low), max(old[1], high))
    return out


def _showing(figure: Figure) -> set[str]:
    """The bones that move a vertex, themselves or by bones below, by name; all of a figure without meshes."""
    skin, skeleton = figure.skin_on_bones, figure.skeleton
    if skin is None:
        return set(skeleton.names)
    return {skeleton.names[bone] for bone in skeleton.with_ancestors(np.flatnonzero(skin > 0.0).tolist())}


def _bare_finding(bone: str) -> Finding:
    message = f"bone {bone!r} of the face moves no vertex: turning it shows nothing, so it does not count"
    return Finding("face-bone-bare", "warning", bone, message, "Weight the mesh to it, or make its motion of morphs")


def _turning(clip: Clip) -> set[str]:
    """The bones that turn in a clip, by name."""
    turns = np.ptp(clip.poses.rotation_tracks, axis=2).max(axis=1)
    return {clip.skeleton.names[bone] for bone in np.flatnonzero(turns > 1e-3).tolist()}


def _ranges_by_size(names: list[str], vertices: Floats, moves: Floats) -> dict[str, tuple[float, float]]:
    """Weights to 100, where shapes at 1 hardly move anything, and at 100 as far as faces go; else nothing is told."""
    moved = vertices[moving_vertices(moves)]
    size = float(np.ptp(moved, axis=0).max()) if len(moved) else 1.0
    far = np.linalg.norm(moves, axis=2).max(axis=1, initial=0.0) / max(size, 1e-12)
    usual = float(np.median(far[far > 0.0])) if (far > 0.0).any() else 1.0
    return dict.fromkeys(names, (0.0, 100.0)) if usual < _HARDLY else {}


def shown_by_morphs(unit: str, shapes: Iterable[Shape]) -> bool:
    """Whether a morph does this unit alone."""
    return any(
        not shape.bones and not shape.total and len(vector(shape.units).nonzero()[0]) == 1
        and vector(shape.units) @ vector({unit: 1.0}) > 0.0
        for shape in shapes
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


def doubts(name: str, guess: ShapeGuess) -> list[Finding]:
    if guess.reasons == ("it moves nothing",):
        return [Finding("shape-dead", "warning", name, f"{name!r} moves nothing", "Drop it, or export it again")]
    if any(reason.startswith("but its name says") for reason in guess.reasons):
        message = f"{name!r}: {'; '.join(guess.reasons)}"
        return [Finding("shape-contradicts", "warning", name, message)]
    return []
