"""The paint on the troupe: the colour of each place on a body, for its texture."""

from __future__ import annotations

from typing import Any

import numpy as np

from fairswap.demo.anatomy import Body
from fairswap.demo.sculpt import Paint, Shape, nearest_shape
from fairswap.demo.wardrobe import BUILDS
from fairswap.model.arrays import Floats


def paint_of(body: Body, shapes: list[Shape]) -> Paint:
    """The colour of each place on the body: of its shape, then seams, buttons and the face."""
    palette = palette_of(body)
    m = body.measures
    size = m.crown - m.head
    wide = 1.0 if body.name == "Juniper" else 1.12

    def paint(points: Floats, normals: Floats) -> Floats:
        which = nearest_shape(shapes, points)
        names = np.array([shape.color for shape in shapes])[which]
        color = np.array([palette[name] for name in names])
        x, y, z = points.T
        stripes = (names == "trousers") & (
            np.abs((np.degrees(np.arctan2(z, np.abs(x) - m.hip_width)) % 40.0) - 20.0) < 5.0
        )
        color[stripes] = palette["stripe"]
        front = (z > 0) & (names == "coat") & (np.abs(x) < 0.5 * m.shoulder_width)
        opening = front & (np.abs(x) < 0.35 * m.shoulder_width * np.clip((y - m.hips) / (m.neck - m.hips) - 0.35, 0, 1))
        color[opening] = palette["shirt"]
        edge = front & (
            np.abs(np.abs(x) - 0.35 * m.shoulder_width * np.clip((y - m.hips) / (m.neck - m.hips) - 0.35, 0, 1)) < 0.006
        )
        color[edge] = palette["trim"]
        for step in range(4):
            height = m.hips + (0.20 + 0.12 * step) * (m.neck - m.hips)
            for side in (-1, 1):
                dot = front & (np.hypot(x - side * 0.22 * m.shoulder_width, y - height) < 0.009)
                color[dot] = palette["trim"]
        hem = (names == "coat") & (y < m.hips - 0.47) & (body.name == "Juniper")
        color[hem] = palette["trim"]
        sole = (names == "boot") & (y < 0.016)
        color[sole] = palette["boot"] * 0.5
        _paint_face(color, names, points, normals)
        return _srgb(color)

    def _paint_face(color: Floats, names: Any, points: Floats, normals: Floats) -> None:
        x, y, z = points[:, 0] / (size * wide), (points[:, 1] - m.head) / size, points[:, 2] / size
        face = (names == "skin") & (z > 0.12) & (normals[:, 2] > 0.0) & (y > 0.0)
        blush = face & (np.hypot((np.abs(x) - 0.19) / 0.08, (y - 0.27) / 0.07) < 1.0)
        color[blush] = color[blush] * [1.0, 0.80, 0.78]
        for side in (-1, 1):
            across, up = x - side * 0.145, y - 0.445
            white = face & (np.hypot(across / 0.075, up / 0.046) < 1.0)
            rim = face & (np.hypot(across / 0.085, (up - 0.006) / 0.056) < 1.0) & ~white
            color[rim & (up > -0.02)] = palette["boot"]
            color[white] = (0.86, 0.86, 0.82)
            color[white & (np.hypot(across, up) < 0.040)] = palette["iris"]
            color[white & (np.hypot(across, up) < 0.019)] = (0.01, 0.01, 0.01)
            color[white & (np.hypot(across - 0.014, up - 0.014) < 0.009)] = (1.0, 1.0, 1.0)
            brow = (
                face & (np.abs(across) < 0.095) & (np.abs(up - 0.115 + 1.6 * (across * side - 0.01) ** 2 * 4) < 0.016)
            )
            color[brow] = palette["hair"] * 0.7
        mouth = face & (np.abs(x) < 0.105) & (np.abs(y - 0.155 - 1.2 * x**2) < 0.026 * (1.0 - (x / 0.11) ** 2) + 0.004)
        color[mouth] = palette["lip"]
        color[mouth & (np.abs(y - 0.155 - 1.2 * x**2) < 0.006)] = palette["lip"] * 0.35

    return paint


def palette_of(body: Body) -> dict[str, Floats]:
    """The colours of a member of the troupe, linear."""
    return {name: _linear(color) for name, color in BUILDS[body.name].colors.items()}


def _linear(color: tuple[int, int, int]) -> Floats:
    return (np.array(color) / 255.0) ** 2.2


def _srgb(color: Floats) -> Floats:
    return np.clip(color, 0.0, 1.0) ** (1.0 / 2.2)
