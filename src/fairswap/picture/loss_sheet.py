"""A figure coloured by how far its skin is from where it was, in motion: what fitting cost, and where."""

from __future__ import annotations

from collections.abc import Sequence
from io import BytesIO
from typing import TYPE_CHECKING

import numpy as np

from fairswap.figures.reducing import Reduced
from fairswap.model.arrays import Floats
from fairswap.model.figure import Figure
from fairswap.model.mesh import vertex_normals
from fairswap.picture.paper import FAINT, INK, PAPER, byte, font, pen
from fairswap.picture.raster import Canvas
from fairswap.picture.stage import View
from fairswap.platform.proof import Proof

if TYPE_CHECKING:
    from PIL.ImageDraw import ImageDraw

_WIDTH, _HEIGHT, _LIST, _TOP, _FINE = 1280, 800, 330, 100, 2
# Millimetres and the colours they have; between them colours go straight.
_STEPS = (0.0, 1.0, 3.0, 10.0, 30.0)
_COLORS = np.array([(0.86, 0.87, 0.86), (0.72, 0.83, 0.62), (0.98, 0.85, 0.42), (0.93, 0.50, 0.22), (0.68, 0.10, 0.18)])
_PLAIN = np.array([0.80, 0.82, 0.84])


def loss_sheet(figure: Figure, proof: Proof | None, title: str, reduced: Reduced | None = None) -> bytes:
    """A PNG: front and side of the figure at rest, coloured by the mean distance of each vertex, and the parts.

    Where it was made of fewer triangles: these before and after, what that cost, and what the rest of the fitting did.
    """
    from PIL import Image

    canvas = Canvas.blank((_WIDTH - _LIST) * _FINE, _HEIGHT * _FINE, PAPER)
    words: list[tuple[tuple[int, int], str]] = []
    if reduced is None and proof is not None:
        scale = _scale(figure, _HEIGHT - _TOP - 40, (_WIDTH - _LIST) * 0.52)
        for view, x in (("front", 0.32), ("side", 0.80)):
            place = (x * (_WIDTH - _LIST), _HEIGHT - 40.0)
            _draw(canvas, figure, view, place, scale, _colored(proof.vertices))
    elif reduced is not None:
        old, new = reduced.original, reduced.figure
        shown = [
            (f"{reduced.before:,} triangles", old, None),
            (f"{reduced.triangles:,} triangles", new, None),
            ("what that cost", old, _colored(reduced.off_mm)),
        ]
        if proof is not None:
            shown.append(("what the rest of the fitting cost", figure, _colored(proof.vertices)))
        wide, high = (_WIDTH - _LIST) // 2, (_HEIGHT - _TOP) // 2
        scale = min(_scale(row[1], high - 50, 0.94 * wide) for row in shown)
        for number, (said, who, colors) in enumerate(shown):
            left, top = number % 2 * wide, _TOP + number // 2 * high
            _draw(canvas, who, "front", (left + 0.5 * wide, top + high - 12.0), scale, colors)
            words.append(((left + 24, top), said))
    image = canvas.image()
    sheet = Image.new("RGB", (_WIDTH, _HEIGHT), byte(PAPER))
    sheet.paste(image.resize((_WIDTH - _LIST, _HEIGHT), Image.Resampling.LANCZOS), (0, 0))
    draw = pen(sheet)
    draw.text((24, 16), title, font=font(25), fill=INK)
    draw.text((24, 50), "; ".join(_sentences(proof, reduced)), font=font(17), fill=FAINT)
    for place, said in words:
        draw.text(place, said, font=font(17), fill=INK)
    _legend(draw, proof, "" if reduced is None else "the rest of the fitting")
    out = BytesIO()
    sheet.save(out, "PNG")
    return out.getvalue()


def _sentences(proof: Proof | None, reduced: Reduced | None) -> list[str]:
    rows = []
    if reduced is not None:
        rows.append(f"fewer triangles: {reduced.mean_mm:.2f} mm off on average, {reduced.worst_mm:.1f} mm at worst")
    if proof is not None:
        rows.append(f"in motion the skin is {proof.mean_mm:.2f} mm off on average, {proof.worst_mm:.1f} mm at worst")
    return rows


def _scale(figure: Figure, high: float, wide: float) -> float:
    """Pixels to a metre so that a figure fits."""
    size = np.ptp(figure.rest_points, axis=0)
    return _FINE * min(high / size[1], wide / max(size[0], 0.1))


def _draw(
    canvas: Canvas, figure: Figure, name: str, place: tuple[float, float], scale: float,
    colors: Sequence[Floats] | None,
) -> None:  # fmt: skip
    """A figure at rest, its soles in the middle at ``place``; without colours its triangles, each as flat as it is."""
    points = figure.rest_points
    centre = 0.5 * (points.min(axis=0) + points.max(axis=0))
    centre[1] = points[:, 1].min()
    view = View(name, centre, (place[0] * _FINE, place[1] * _FINE), scale)
    for number, (mesh, vertices) in enumerate(zip(figure.meshes, figure.rest_vertices, strict=True)):
        triangles, color = mesh.triangles, None if colors is None else colors[number]
        if color is None:  # corners of their own, so that each triangle has its own light
            vertices = vertices[triangles].reshape(-1, 3)
            triangles = np.arange(len(vertices)).reshape(-1, 3)
            color = np.tile(_PLAIN, (len(vertices), 1))
        pixels, depth = view.pixels(vertices)
        canvas.draw(pixels, depth, vertex_normals(vertices, triangles) @ view.axes.T, triangles, color)


def _legend(draw: ImageDraw, proof: Proof | None, what: str) -> None:
    x, y = _WIDTH - _LIST + 10, _TOP
    for millimetres, color in zip(_STEPS, _COLORS, strict=True):
        draw.rectangle([x, y, x + 26, y + 18], fill=byte(tuple(color.tolist())))
        more = " and more" if millimetres == _STEPS[-1] else ""
        draw.text((x + 36, y), f"{millimetres:g} mm{more}", font=font(15), fill=INK)
        y += 24
    if proof is None:
        return
    y += 20
    if what:
        draw.text((x, y), what, font=font(16), fill=INK)
        y += 28
    for text, right in (("mean mm", 150), ("worst mm", 240)):
        draw.text((x + right, y), text, font=font(15), fill=FAINT, anchor="ra")
    draw.text((x, y), "part", font=font(15), fill=FAINT)
    for part, (mean, worst) in sorted(proof.parts.items(), key=lambda row: -row[1][0]):
        y += 24
        draw.text((x, y), part, font=font(16), fill=INK)
        draw.text((x + 150, y), f"{mean:.2f}", font=font(16), fill=INK, anchor="ra")
        draw.text((x + 240, y), f"{worst:.1f}", font=font(16), fill=INK, anchor="ra")


def _colored(off_mm: Sequence[Floats]) -> list[Floats]:
    """The colours ``(n, 3)`` of the vertices of each mesh, by how far they are off."""
    return [np.stack([np.interp(row, _STEPS, _COLORS[:, channel]) for channel in range(3)], axis=1) for row in off_mm]
