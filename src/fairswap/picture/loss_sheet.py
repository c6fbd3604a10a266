"""A figure coloured by how far its skin is from where it was, in motion: what fitting cost, and where."""

from __future__ import annotations

from io import BytesIO

import numpy as np

from fairswap.model.arrays import Floats
from fairswap.model.figure import Figure
from fairswap.model.mesh import vertex_normals
from fairswap.picture.paper import FAINT, INK, PAPER, byte, font, pen
from fairswap.picture.raster import Canvas
from fairswap.picture.stage import View
from fairswap.platform.proof import Proof

_WIDTH, _HEIGHT, _LIST, _FINE = 1280, 800, 330, 2
# Millimetres and the colours they have; between them colours go straight.
_STEPS = (0.0, 1.0, 3.0, 10.0, 30.0)
_COLORS = np.array([(0.86, 0.87, 0.86), (0.72, 0.83, 0.62), (0.98, 0.85, 0.42), (0.93, 0.50, 0.22), (0.68, 0.10, 0.18)])


def loss_sheet(figure: Figure, proof: Proof, title: str) -> bytes:
    """A PNG: front and side of the figure at rest, coloured by the mean distance of each vertex, and the parts."""
    from PIL import Image

    canvas = Canvas.blank((_WIDTH - _LIST) * _FINE, _HEIGHT * _FINE, PAPER)
    points = figure.rest_points
    low, high = points.min(axis=0), points.max(axis=0)
    scale = _FINE * min((_HEIGHT - 140) / (high[1] - low[1]), (_WIDTH - _LIST) * 0.52 / max(high[0] - low[0], 0.1))
    centre = 0.5 * (low + high)
    centre[1] = low[1]
    floor = (_HEIGHT - 40) * _FINE
    for name, x in (("front", 0.32), ("side", 0.80)):
        view = View(name, centre, (x * (_WIDTH - _LIST) * _FINE, floor), scale)
        for mesh, vertices, off in zip(figure.meshes, figure.rest_vertices, proof.vertices, strict=True):
            pixels, depth = view.pixels(vertices)
            normals = vertex_normals(vertices, mesh.triangles)
            canvas.draw(pixels, depth, normals @ view.axes.T, mesh.triangles, _colored(off))
    image = Image.fromarray((np.clip(canvas.color, 0, 1) * 255).astype(np.uint8))
    sheet = Image.new("RGB", (_WIDTH, _HEIGHT), byte(PAPER))
    sheet.paste(image.resize((_WIDTH - _LIST, _HEIGHT), Image.Resampling.LANCZOS), (0, 0))
    draw = pen(sheet)
    draw.text((24, 16), title, font=font(25), fill=INK)
    said = f"in motion the skin is {proof.mean_mm:.2f} mm off on average, {proof.worst_mm:.1f} mm at worst"
    draw.text((24, 50), said, font=font(17), fill=FAINT)
    x, y = _WIDTH - _LIST + 10, 100
    for millimetres, color in zip(_STEPS, _COLORS, strict=True):
        draw.rectangle([x, y, x + 26, y + 18], fill=byte(tuple(color.tolist())))
        draw.text(
            (x + 36, y),
            f"{millimetres:g} mm" + (" and more" if millimetres == _STEPS[-1] else ""),
            font=font(15),
            fill=INK,
        )
        y += 24
    y += 20
    for text, right in (("mean mm", 150), ("worst mm", 240)):
        draw.text((x + right, y), text, font=font(15), fill=FAINT, anchor="ra")
    draw.text((x, y), "part", font=font(15), fill=FAINT)
    for part, (mean, worst) in sorted(proof.parts.items(), key=lambda row: -row[1][0]):
        y += 24
        draw.text((x, y), part, font=font(16), fill=INK)
        draw.text((x + 150, y), f"{mean:.2f}", font=font(16), fill=INK, anchor="ra")
        draw.text((x + 240, y), f"{worst:.1f}", font=font(16), fill=INK, anchor="ra")
    out = BytesIO()
    sheet.save(out, "PNG")
    return out.getvalue()


def _colored(millimetres: Floats) -> Floats:
    return np.stack([np.interp(millimetres, _STEPS, _COLORS[:, channel]) for channel in range(3)], axis=1)
