"""What a shape does to a face, seen from its vertices: how far the skin around each place of the face goes.

The same look is taken of every unit on our neutral face, so that strangers' shapes can be told by it.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache

import numpy as np

from fairswap.bones.roles import RoleMap
from fairswap.face.anatomy import (
    EYE_LEFT,
    EYE_RADIUS,
    EYE_RIGHT,
    EYE_X,
    EYE_Y,
    LANDMARK_POINTS,
    MOUTH_HALF,
    SKIN,
    TONGUE,
    FacePoints,
    displacement,
    eye_open,
    mouth_curve,
)
from fairswap.face.units import UNITS, names, vector
from fairswap.model.arrays import Floats
from fairswap.model.figure import Figure
from fairswap.model.mesh import Mesh, skin_matrices

CANDIDATES = names()
_REACH, _COUNTS_LEAST = 0.05, 0.02
_PLACES = np.unique(LANDMARK_POINTS.xy.round(3), axis=0)
# Eyes may stand so much of a head's size off their place; what is more counts so much against a frame.
_EYES_MAY_BE_OFF, _EYES_COUNT = 0.05, 3.0
_MOVES = 0.02  # of the largest way of a shape: less is no part of it


@dataclass(frozen=True)
class FaceFrame:
    """Where the face is: the pivot of the head, its size and its width against its height, in metres."""

    pivot: Floats
    size: float
    wide: float = 1.0

    def places(self, points: Floats) -> Floats:
        """Points ``(n, 3)`` in head sizes."""
        return (points - self.pivot) / [self.size * self.wide, self.size, self.size]

    def directions(self, moves: Floats) -> Floats:
        """Moves ``(…, 3)`` in head sizes."""
        return moves / [self.size * self.wide, self.size, self.size]


def head_frame(figure: Figure, roles: RoleMap | None) -> FaceFrame:
    """Where the face of a figure is, from its eyes, its head bone, or the top of its meshes.

    Raises nothing: a figure without any of them is taken for a bare head.
    """
    places = figure.skeleton.rest.positions[0]
    bones = {} if roles is None else roles.bones
    if {"eye_left", "eye_right"} <= set(bones):
        eyes = places[[bones["eye_left"], bones["eye_right"]]]
        size = float(np.linalg.norm(eyes[0] - eyes[1])) / (2.0 * EYE_X)
        if "head" in bones:  # how high the eyes are tells the size, how far apart the width
            high = (float(eyes[:, 1].mean()) - float(places[bones["head"], 1])) / EYE_Y
            if 0.5 * size < high < 1.5 * size:
                middle = np.array([eyes[:, 0].mean(), places[bones["head"], 1], places[bones["head"], 2]])
                return FaceFrame(middle, high, size / high)
        return FaceFrame(eyes.mean(axis=0) - [0.0, EYE_Y * size, 0.35 * size], size)
    points = figure.rest_points
    if "head" in bones:
        pivot = places[bones["head"]]
        return FaceFrame(pivot, max(float(points[:, 1].max() - pivot[1]), 1e-3))
    low, high = points.min(axis=0), points.max(axis=0)
    tall = float(high[1] - low[1])
    return FaceFrame(np.array([0.5 * (low[0] + high[0]), low[1] + 0.1 * tall, 0.5 * (low[2] + high[2])]), 0.85 * tall)


def rest_moves(figure: Figure, mesh: Mesh) -> tuple[Floats, Floats]:
    """Vertices at rest ``(n, 3)`` and what each morph adds to them there ``(morphs, n, 3)``, in metres."""
    number = figure.meshes.index(mesh)
    deltas = mesh.morph_deltas if mesh.morph_deltas is not None else np.zeros((0, len(mesh.vertices), 3))
    matrices = skin_matrices(mesh, figure.skeleton.rest, 0)[:, :, :3]
    blend = np.einsum("nk,nkij->nij", mesh.weights, matrices[mesh.joints])
    return figure.rest_vertices[number], np.einsum("nij,mnj->mni", blend, deltas)


def look_of(places: Floats, ways: Floats) -> Floats:
    """How far the skin around each place of the face goes: ``(shapes, places * 4)``.

    Left, up, down and ahead apart, since lips and lids that part go both ways at one place. ``places`` ``(n, 3)`` and
    ``ways`` ``(shapes, n, 3)`` are in head sizes.
    """
    return _spread(_nearness(places), _sides(ways))


def _nearness(places: Floats) -> Floats:
    """How much each of ``places`` ``(n, 3)`` counts at each place of the face ``(n, places)``: in all 1, or nothing."""
    apart = np.square(np.subtract.outer(places[:, 0], _PLACES[:, 0]))
    apart += np.square(np.subtract.outer(places[:, 1], _PLACES[:, 1]))
    near = np.zeros_like(apart)
    np.exp(apart / -(_REACH**2), out=near, where=apart <= -np.log(_COUNTS_LEAST) * _REACH**2)
    total = near.sum(axis=0)
    near /= np.where(total > 0.0, total, 1.0)
    return near


def _sides(ways: Floats) -> Floats:
    """Ways ``(shapes, n, 3)`` to the left, up, down and ahead ``(4, shapes, n)``."""
    return np.stack([ways[..., 0], np.maximum(ways[..., 1], 0.0), np.maximum(-ways[..., 1], 0.0), ways[..., 2]])


def _spread(near: Floats, sides: Floats) -> Floats:
    return np.concatenate(list(sides @ near), axis=1)


@cache
def candidate_looks() -> Floats:
    """The looks of all :data:`CANDIDATES` on our neutral face, ``(candidates, …)``, not made unit."""
    points, places, ways = _candidate_ways()
    # Eyeballs stand still in all but gazes, and what never moves is not looked at (see moving_vertices).
    skin = ~np.isin(points.organ, (EYE_LEFT, EYE_RIGHT))
    looks = []
    for name, way in zip(CANDIDATES, ways, strict=True):
        own = way[None]
        looks.append((look_of(places, own) if name.startswith("gaze") else look_of(places[skin], own[:, skin]))[0])
    return np.array(looks)


def lips_apart(places: Floats, ways: Floats) -> Floats:
    """How far each shape parts the lips ``(shapes,)``, as a share of its furthest way; below 0 it shuts them."""
    return _at_lip(places, ways[..., 1], ways, 1.0) - _at_lip(places, ways[..., 1], ways, -1.0)


def both_ahead(places: Floats, ways: Floats) -> Floats:
    """How far each shape pushes the upper lip ahead, against the lower ``(shapes,)``: a jaw and a tongue leave it."""
    upper, lower = (_at_lip(places, ways[..., 2], ways, sign) for sign in (1.0, -1.0))
    return np.clip(upper / np.maximum(np.abs(lower), 1e-3), 0.0, 1.0)


def _at_lip(places: Floats, values: Floats, ways: Floats, sign: float) -> Floats:
    """The mean of ``values`` over the middle of the upper (1) or lower lip (-1), as a share of each furthest way."""
    over = sign * (places[:, 1] - mouth_curve(places[:, 0]))
    lip = np.exp(-np.square(places[:, 0] / 0.07) - np.square((over - 0.03) / 0.03)) * (over > 0.005)
    most = np.maximum(np.linalg.norm(ways, axis=2).max(axis=1, initial=0.0), 1e-12)
    return np.asarray(values @ lip / max(float(lip.sum()), 1e-12) / most)


@cache
def candidates_lips_apart() -> Floats:
    """How far each of :data:`CANDIDATES` parts the lips of our neutral face ``(candidates,)``."""
    points, places, ways = _candidate_ways()
    skin = points.organ == SKIN
    return lips_apart(places[skin], ways[:, skin])


def _candidate_ways() -> tuple[FacePoints, Floats, Floats]:
    """Our neutral face, its places, and where each of :data:`CANDIDATES` moves them ``(candidates, n, 3)``."""
    points, places = _neutral_points()
    ways = np.stack([displacement(unit, points) for unit in UNITS])
    return points, places, np.einsum("ku,unc->knc", np.stack([vector({name: 1.0}) for name in CANDIDATES]), ways)


def moving_vertices(moves: Floats) -> np.ndarray:
    """A mask of the vertices that some shape moves: teeth and eyes that stay would only blur what is around them."""
    size = np.linalg.norm(moves, axis=2)
    most = size.max(axis=1, keepdims=True, initial=0.0)
    return np.asarray(((size > _MOVES * most) & (most > 0.0)).any(axis=0))


def likenesses(places: Floats, ways: Floats) -> Floats:
    """How like each shape is to each candidate ``(shapes, candidates)``: the cosine of their looks, 0 to 1."""
    return _cosines(look_of(places, ways))


def _cosines(looks: Floats) -> Floats:
    looks = looks / np.maximum(np.linalg.norm(looks, axis=1, keepdims=True), 1e-12)
    return np.clip(looks @ _known().T, 0.0, 1.0)


@cache
def _known() -> Floats:
    """The looks of the candidates, made unit."""
    known = candidate_looks()
    return np.asarray(known / np.maximum(np.linalg.norm(known, axis=1, keepdims=True), 1e-12))


def fitted_frame(
    first: FaceFrame, vertices: Floats, moves: Floats, eye_height_meters: float | None = None
) -> FaceFrame:
    """The frame near ``first`` in which the shapes look most like units: for heads of unknown build.

    If it is known how high the eyes are, they stand where eyes do, or nearly.
    """
    largest = np.linalg.norm(moves, axis=2).max(axis=1)
    strong = moves[largest > 0.0]
    if not len(strong):
        return first
    around = moving_vertices(moves)
    vertices, strong = vertices[around], strong[:, around]
    if len(vertices) > 600:
        step = len(vertices) // 600 + 1
        vertices, strong = vertices[::step], strong[:, ::step]
    # How large a head is changes how far its skin goes, not what that looks like.
    sides = _sides(first.directions(strong))
    best, frame = -np.inf, first
    for scales, shifts in ((np.array([0.6, 0.72, 0.85, 1.0, 1.18, 1.38, 1.6]), np.linspace(-0.24, 0.24, 7)),
                           (np.array([0.93, 1.0, 1.07]), np.array([-0.04, 0.0, 0.04])),
                           (np.array([0.97, 1.0, 1.03]), np.array([-0.015, 0.0, 0.015]))):  # fmt: skip
        around_frame = frame
        for scale in scales.tolist():
            for shift in shifts.tolist():
                trial = FaceFrame(
                    around_frame.pivot + [0.0, shift * around_frame.size, 0.0],
                    around_frame.size * scale,
                    around_frame.wide,
                )
                eyes_off = 0.0
                if eye_height_meters is not None:
                    off = abs((eye_height_meters - trial.pivot[1]) / trial.size - EYE_Y)
                    eyes_off = _EYES_COUNT * max(off - _EYES_MAY_BE_OFF, 0.0)
                if 1.0 - eyes_off <= best:  # however like units they look
                    continue
                looks = _spread(_nearness(trial.places(vertices)), sides)
                score = float(_cosines(looks).max(axis=1).mean()) - eyes_off
                if score > best + 1e-9:
                    best, frame = score, trial
    return frame


def _neutral_points() -> tuple[FacePoints, Floats]:
    """A cloud over our neutral face: skin, both lips and lids along their slits, eyes, tongue."""
    x, y = (axis.ravel() for axis in np.meshgrid(np.linspace(-0.3, 0.3, 41), np.linspace(-0.06, 0.68, 50)))
    hole = np.abs(y - EYE_Y - 0.1 * eye_open(np.abs(x) - EYE_X)) < 0.5 * eye_open(np.abs(x) - EYE_X)
    skin = FacePoints.on_skin(np.stack([x, y], axis=1)[~hole])
    rows = [(skin.xy, skin.over_mouth, skin.over_eye, SKIN)]
    lip = np.linspace(-MOUTH_HALF, MOUTH_HALF, 25)
    for over in (1.0, 0.0):
        rows.append((np.stack([lip, mouth_curve(lip)], axis=1), np.full(25, over), np.zeros(25), SKIN))
        for sign in (1.0, -1.0):
            across = np.linspace(-0.075, 0.075, 15)
            rim = EYE_Y + (0.6 if over else -0.4) * eye_open(across)
            rows.append((np.stack([sign * EYE_X + across, rim], axis=1), np.ones(15), np.full(15, over), SKIN))
    ball = np.array([(r * np.cos(a), r * np.sin(a)) for r in (0.0, 0.03, 0.06) for a in np.linspace(0, 6, 12)])
    for sign, organ in ((1.0, EYE_LEFT), (-1.0, EYE_RIGHT)):
        rows.append((ball * (EYE_RADIUS / 0.10) + [sign * EYE_X, EYE_Y], np.ones(36), np.ones(36), organ))
    rows.append((ball * [0.7, 0.25] + [0.0, 0.125], np.zeros(36), np.zeros(36), TONGUE))
    xy, over_mouth, over_eye = (np.concatenate([row[i] for row in rows]) for i in range(3))
    organs = np.concatenate([np.full(len(row[0]), row[3], dtype=np.intp) for row in rows])
    return FacePoints(xy, over_mouth, over_eye, organs), np.concatenate([xy, np.zeros((len(xy), 1))], axis=1)
