"""Faces for heads: a mask of rows and columns with a slit for the mouth and for each eye, eyeballs, teeth, tongue.

A mask is measured in head sizes, as in :mod:`fairswap.face.anatomy`; the depth of the skin comes from the head it is
put on, or from :func:`plain_depth`.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from fairswap.face.anatomy import (
    EYE_HALF,
    EYE_LEFT,
    EYE_RADIUS,
    EYE_RIGHT,
    EYE_X,
    EYE_Y,
    FIXED,
    GAZE_DEGREES,
    LOWER_TEETH,
    MOUTH_HALF,
    MOUTH_Y,
    SKIN,
    TONGUE,
    FacePoints,
    displacement,
    eye_open,
    gaze_axis,
    mouth_curve,
)
from fairswap.face.units import UNITS, base_of, side_of, vector
from fairswap.model.arrays import Floats, Integers
from fairswap.model.mesh import Material, Mesh, vertex_normals
from fairswap.model.rotation import quaternion_from_axis_angle, rotate

Depth = Callable[[Floats, Floats], Floats]
_LIP, _LID = 0.024, 0.014


@dataclass(frozen=True, eq=False)
class Mask:
    """A face: places ``(n, 3)`` in head sizes, what they are, triangles, the colour word of each triangle, the middles
    of the eyes."""

    places: Floats
    points: FacePoints
    triangles: Integers
    colors: tuple[str, ...]
    eyes: Mapping[str, Floats]

    def deltas(self, units: Mapping[str, float]) -> Floats:
        """Where a mixture of units takes each place, ``(n, 3)`` in head sizes."""
        weights = vector(units)
        out = np.zeros_like(self.places)
        for number in np.flatnonzero(weights).tolist():
            out += weights[number] * self._way(UNITS[number])
        return out

    def _way(self, unit: str) -> Floats:
        out = displacement(unit, self.points)
        action = base_of(unit)
        if action.startswith("gaze_"):  # a ball turns, it does not slide
            organ = EYE_RIGHT if side_of(unit) == "right" else EYE_LEFT
            ball = self.points.organ == organ
            turn = quaternion_from_axis_angle(gaze_axis(unit), np.radians(GAZE_DEGREES))
            from_middle = self.places[ball] - self.eyes[side_of(unit)]
            out[ball] = rotate(turn, from_middle) - from_middle
        return out


def rim_of(x: Floats, y: Floats) -> Floats:
    """Below 1 inside the oval that a mask covers: narrower at the chin than at the eyes."""
    half = 0.175 + 0.105 * np.clip((y + 0.05) / 0.40, 0.0, 1.0)
    return np.asarray((x / half) ** 2 + ((y - 0.305) / 0.355) ** 2)


def plain_depth(x: Floats, y: Floats) -> Floats:
    """How far ahead the skin of a plain head lies."""
    skull = 0.42 * np.sqrt(np.clip(1.0 - (x / 0.42) ** 2 - ((y - 0.42) / 0.66) ** 2, 0.0, 1.0))

    def bump(height: float, at: float, reach_x: float, reach_y: float, centre: float = 0.0) -> Floats:
        return np.asarray(height * np.exp(-(((np.abs(x) - centre) / reach_x) ** 2) - ((y - at) / reach_y) ** 2))

    out = skull + bump(0.085, 0.325, 0.045, 0.07) + bump(0.045, 0.42, 0.03, 0.06) + bump(0.025, MOUTH_Y, 0.10, 0.05)
    return np.asarray(out + bump(0.03, 0.03, 0.09, 0.05) + bump(0.02, 0.545, 0.08, 0.035, EYE_X))


def make_mask(depth: Depth = plain_depth, rows: int = 46, columns: int = 47) -> Mask:
    """A mask with about that many rows and columns (an odd number, so that one runs down the middle)."""
    maker = _Maker()
    grid_x = _spaced(
        np.array([-0.30, -0.235, -0.145, 0.0, 0.145, 0.235, 0.30]), [1.0, 1.5, 1.6, 1.6, 1.5, 1.0], columns
    )
    level = _spaced(
        np.array([-0.06, 0.06, 0.155, 0.25, 0.40, 0.445, 0.50, 0.60, 0.67]),
        [0.9, 1.5, 1.5, 0.9, 1.9, 1.9, 1.9, 0.7],
        rows,
    )
    mouth_row, eye_row = int(np.argmin(np.abs(level - MOUTH_Y))), int(np.argmin(np.abs(level - EYE_Y)))
    level[mouth_row], level[eye_row] = MOUTH_Y, EYE_Y
    x, y = np.meshgrid(grid_x, level)
    y = y + (mouth_curve(x) - MOUTH_Y) * np.exp(-(((y - MOUTH_Y) / 0.07) ** 2))
    gap = eye_open(np.abs(x) - EYE_X)
    above, below = np.clip(y - EYE_Y, 0, None), np.clip(EYE_Y - y, 0, None)
    row = np.arange(len(level))[:, None]
    opened = y + np.where(
        row >= eye_row, 0.6 * gap * np.exp(-((above / 0.06) ** 2)), -0.4 * gap * np.exp(-((below / 0.06) ** 2))
    )
    # Where there is no head there is no face.
    in_oval = np.where(depth(x.ravel(), y.ravel()).reshape(x.shape) < 0.08, 2.0, rim_of(x, y))
    slit_mouth = (row == mouth_row) & (np.abs(x) < MOUTH_HALF - 1e-9)
    slit_eye = (row == eye_row) & (gap > 1e-6)
    upper = maker.skin(x, opened, row >= mouth_row, row >= eye_row, depth)
    # Below each slit a second row of places: the lower lip and the lower lids.
    lower = upper.copy()
    lip = np.argwhere(slit_mouth)
    lower[slit_mouth] = maker.skin(x[slit_mouth], y[slit_mouth], np.zeros(len(lip)), np.zeros(len(lip)), depth)
    lids = y[slit_eye] - 0.4 * gap[slit_eye]
    lower[slit_eye] = maker.skin(x[slit_eye], lids, np.ones(len(lids)), np.zeros(len(lids)), depth)
    quads = []
    for r in range(len(level) - 1):
        for c in range(len(grid_x) - 1):
            if np.sort(in_oval[r : r + 2, c : c + 2].ravel())[1] < 1.0:
                bottom = upper[r, c : c + 2]
                top = (lower if r + 1 in (mouth_row, eye_row) else upper)[r + 1, c : c + 2]
                quads.append((bottom[0], bottom[1], top[1], top[0]))
    maker.quads(quads, None)
    for edge, over, back in ((upper[slit_mouth], 1, -0.006), (lower[slit_mouth], 0, 0.006)):
        ends = np.array([upper[mouth_row, lip[0, 1] - 1], *edge, upper[mouth_row, lip[-1, 1] + 1]])
        maker.fold(ends, -0.045, back, over == 0, "lip")
    for sign in (1, -1):
        side = np.flatnonzero(slit_eye[eye_row] & (np.sign(grid_x) == sign))
        for rows_of, down in ((upper, True), (lower, False)):
            ends = np.array([upper[eye_row, side[0] - 1], *rows_of[eye_row, side], upper[eye_row, side[-1] + 1]])
            maker.fold(ends, -0.02, 0.0, not down, "lash" if down else "skin")
    maker.tuck(in_oval, upper)
    maker.eyes(depth)
    maker.inside(depth)
    return maker.mask()


def mask_mesh(
    mask: Mask,
    name: str,
    to_figure: Callable[[Floats], Floats],
    directions: Callable[[Floats], Floats],
    morphs: Mapping[str, Mapping[str, float]],
    joints: Integers,
    weights: Floats,
    binds: Floats,
    palette: Mapping[str, Floats],
) -> Mesh:
    """The mask as a mesh of a figure: ``to_figure`` places it, ``ways`` turns ways in head sizes into metres."""
    order, materials, start = [], [], 0
    for color in dict.fromkeys(mask.colors):
        own = mask.triangles[np.array([c == color for c in mask.colors])]
        order.append(own)
        materials.append(Material(slice(start, start + len(own)), palette[color]))
        start += len(own)
    triangles = np.concatenate(order)
    vertices = to_figure(mask.places)
    deltas = np.array([directions(mask.deltas(units)) for units in morphs.values()]) if morphs else None
    return Mesh(
        name, vertices, vertex_normals(vertices, triangles), triangles, joints, weights, binds,
        materials=tuple(materials), morph_names=tuple(morphs), morph_deltas=deltas,
        morph_weights=np.zeros(len(morphs)) if morphs else None,
    )  # fmt: skip


class _Maker:
    """Collects the places and triangles of a mask."""

    def __init__(self) -> None:
        self.places: list[Floats] = []
        self.over_mouth: list[Floats] = []
        self.over_eye: list[Floats] = []
        self.organ: list[Integers] = []
        self.faces: list[tuple[int, int, int]] = []
        self.colors: list[str | None] = []
        self.count = 0
        self.middles: dict[str, Floats] = {}

    def add(self, places: Floats, over_mouth: ArrayLike, over_eye: ArrayLike, organ: int) -> Integers:
        numbers = np.arange(self.count, self.count + len(places))
        self.count += len(places)
        self.places.append(places)
        self.over_mouth.append(np.broadcast_to(np.asarray(over_mouth, dtype=np.float64), len(places)))
        self.over_eye.append(np.broadcast_to(np.asarray(over_eye, dtype=np.float64), len(places)))
        self.organ.append(np.full(len(places), organ, dtype=np.intp))
        return numbers

    def skin(self, x: Floats, y: Floats, over_mouth: ArrayLike, over_eye: ArrayLike, depth: Depth) -> Integers:
        """Places on the skin; near an eye they lie on the ball."""
        flat_x, flat_y = np.asarray(x).ravel(), np.asarray(y).ravel()
        z = depth(flat_x, flat_y)
        middle = _ball_depth(depth)
        apart = np.hypot(np.abs(flat_x) - EYE_X, flat_y - EYE_Y)
        ball = middle + np.sqrt(np.clip((EYE_RADIUS + 0.012) ** 2 - apart**2, 0.0, None))
        near = apart < EYE_RADIUS
        z = np.where(near, np.maximum(z - 0.02, ball), z)
        shape = np.shape(x)
        over_mouth, over_eye = (np.broadcast_to(over, shape).ravel() for over in (over_mouth, over_eye))
        return self.add(np.stack([flat_x, flat_y, z], axis=1), over_mouth, over_eye, SKIN).reshape(shape)

    def quads(self, quads: list[tuple[int, int, int, int]], color: str | None) -> None:
        for a, b, c, d in quads:
            if len({a, b, c, d}) == 4:
                self.faces += [(a, b, c), (a, c, d)]
                self.colors += [color, color]

    def fold(self, edge: Integers, back: float, up: float, flip: bool, color: str) -> None:
        """A strip from an edge inwards, so that lips and lids have a thickness."""
        places = np.concatenate(self.places)
        over_mouth, over_eye = np.concatenate(self.over_mouth), np.concatenate(self.over_eye)
        inner = self.add(places[edge] + [0.0, up, back], over_mouth[edge], over_eye[edge], SKIN)
        for i in range(len(edge) - 1):
            quad = (edge[i], edge[i + 1], inner[i + 1], inner[i])
            self.quads([quad if not flip else quad[::-1]], color)

    def tuck(self, in_oval: Floats, numbers: Integers) -> None:
        """Let the rim of the mask sink into the head below it."""
        places = np.concatenate(self.places)
        sink = 0.022 * np.clip((in_oval - 0.80) / 0.20, 0.0, 1.5) ** 2
        places[numbers.ravel(), 2] += 0.008 - sink.ravel()
        cuts = np.cumsum([len(p) for p in self.places])[:-1]
        self.places = np.split(places, cuts)

    def eyes(self, depth: Depth) -> None:
        for sign, organ in ((1.0, EYE_LEFT), (-1.0, EYE_RIGHT)):
            centre = np.array([sign * EYE_X, EYE_Y, _ball_depth(depth)])
            self.middles["left" if sign > 0 else "right"] = centre
            self._ball(centre, np.array([EYE_RADIUS] * 3), organ, ("pupil", "iris", "white"), (14.0, 28.0))

    def inside(self, depth: Depth) -> None:
        """Behind the lips: a dark cave, a row of teeth above and below, a tongue."""
        front = float(depth(np.zeros(1), np.array([MOUTH_Y]))[0])
        x = np.linspace(-0.125, 0.125, 9)
        for y, height, organ, color, back in (
            (MOUTH_Y + 0.004, 0.05, FIXED, "teeth", 0.075), (MOUTH_Y - 0.022, -0.035, LOWER_TEETH, "teeth", 0.08),
        ):  # fmt: skip
            z = front - back - 1.8 * x**2
            rows = [
                self.add(np.stack([0.75 * x, np.full(9, y + up), z], axis=1), 1.0, 1.0, organ) for up in (0.0, height)
            ]
            low, high = rows if height > 0 else rows[::-1]
            self.quads([(low[i], low[i + 1], high[i + 1], high[i]) for i in range(8)], color)
        cave_x, cave_y = np.meshgrid(np.linspace(-0.11, 0.11, 5), np.linspace(MOUTH_Y - 0.15, MOUTH_Y + 0.06, 5))
        cave = np.stack([cave_x.ravel(), cave_y.ravel(), np.full(25, front - 0.16)], axis=1)
        numbers = self.add(cave, 1.0, 1.0, FIXED).reshape(5, 5)
        self.quads(
            [
                (numbers[r, c], numbers[r, c + 1], numbers[r + 1, c + 1], numbers[r + 1, c])
                for r in range(4)
                for c in range(4)
            ],
            "cave",
        )
        self._ball(
            np.array([0.0, MOUTH_Y - 0.035, front - 0.12]),
            np.array([0.055, 0.018, 0.06]),
            TONGUE,
            ("tongue",) * 3,
            (0, 0),
        )

    def _ball(
        self, centre: Floats, radii: Floats, organ: int, colors: tuple[str, str, str], rings: tuple[float, float]
    ) -> None:
        """The front of a ball in rings about where it looks."""
        angles = np.array([0.0, 7.0, 14.0, 21.0, 28.0, 42.0, 58.0, 75.0, 92.0])
        round_ = np.radians(np.arange(16) * 22.5)
        previous: Integers | None = None
        for number, angle in enumerate(np.radians(angles)):
            ring = np.stack(
                [np.sin(angle) * np.cos(round_), np.sin(angle) * np.sin(round_), np.full(16, np.cos(angle))], 1
            )
            numbers = self.add(centre + ring[: 1 if number == 0 else 16] * radii, 1.0, 1.0, organ)
            numbers = np.repeat(numbers, 16) if number == 0 else numbers
            if previous is not None:
                outer = angles[number]
                color = colors[0] if outer <= rings[0] else colors[1] if outer <= rings[1] else colors[2]
                for i in range(16):
                    n = (i + 1) % 16
                    if number == 1:
                        self.faces.append((previous[0], numbers[i], numbers[n]))
                        self.colors.append(color)
                    else:
                        self.quads([(previous[i], numbers[i], numbers[n], previous[n])], color)
            previous = numbers

    def mask(self) -> Mask:
        places = np.concatenate(self.places)
        triangles = np.array(self.faces, dtype=np.intp)
        middle = places[triangles].mean(axis=1)
        colors = tuple(
            color or _skin_color(*where[:2]) for color, where in zip(self.colors, middle.tolist(), strict=True)
        )
        used = np.zeros(len(places), dtype=bool)
        used[triangles.ravel()] = True
        number = np.cumsum(used) - 1
        points = FacePoints(
            places[used, :2], np.concatenate(self.over_mouth)[used], np.concatenate(self.over_eye)[used],
            np.concatenate(self.organ)[used],
        )  # fmt: skip
        return Mask(places[used], points, number[triangles], colors, self.middles)


def _ball_depth(depth: Depth) -> float:
    """How far ahead the middle of an eyeball lies."""
    return float(depth(np.array([EYE_X]), np.array([EYE_Y]))[0]) - EYE_RADIUS - 0.012


def _skin_color(x: float, y: float) -> str:
    """The colour word of skin at a place."""
    curve = float(mouth_curve(np.array(x)))
    if abs(x) < MOUTH_HALF + 0.005 and abs(y - curve) < _LIP * (1.0 - 0.5 * (x / MOUTH_HALF) ** 2) + 0.004:
        return "lip"
    across = abs(x) - EYE_X
    if abs(across) < 0.095 and abs(y - 0.565 + 5.0 * (across - 0.02) ** 2) < 0.017:
        return "brow"
    rim = EYE_Y + 0.6 * float(eye_open(np.array(across)))
    if abs(across) < EYE_HALF and rim <= y < rim + _LID:
        return "lash"
    if ((abs(x) - 0.19) / 0.08) ** 2 + ((y - 0.27) / 0.06) ** 2 < 1.0:
        return "blush"
    return "skin"


def _spaced(knots: Floats, density: list[float], count: int) -> Floats:
    """About ``count`` values over the span of the knots, as dense in each part as asked for; every knot is one."""
    lengths = np.diff(knots) * density
    parts = np.maximum(np.round(lengths / lengths.sum() * (count - 1)).astype(int), 1)
    pieces = [np.linspace(a, b, n, endpoint=False) for a, b, n in zip(knots[:-1], knots[1:], parts, strict=True)]
    return np.concatenate([*pieces, knots[-1:]])
