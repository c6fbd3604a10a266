"""Clothes on a figure: at rest, and at the instant when they pass deepest into the body, where they do in red."""

from __future__ import annotations

from collections.abc import Sequence
from io import BytesIO

import numpy as np

from fairswap.figures.dressing.cutting import SEEN_M, Cutting
from fairswap.model.arrays import Floats, bounds_of
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.picture.paper import FAINT, INK, PAPER, byte, font, pen
from fairswap.picture.raster import Canvas
from fairswap.picture.stage import Stance, View, draw_figure

_WIDTH, _HEIGHT, _LIST, _FINE = 1440, 820, 360, 2
_SKIN, _CUT = (0.83, 0.79, 0.74), (0.82, 0.10, 0.14)
_CLOTH = ((0.36, 0.46, 0.60), (0.50, 0.42, 0.34), (0.42, 0.52, 0.42), (0.52, 0.44, 0.54))
# As deep as this is as red as can be, metres.
_DEEP_M = 0.02


def cutting_sheet(
    figure: Figure, worn: Sequence[int], cutting: Cutting, clip: Clip | None, title: str, before: Cutting | None = None
) -> bytes:
    """A PNG; ``before`` is how it was before the clothes were settled."""
    from PIL import Image

    width = _WIDTH - _LIST
    canvas = Canvas.blank(width * _FINE, _HEIGHT * _FINE, PAPER)
    colors = _painted(figure, worn, cutting)
    worst = float(cutting.times_s[int(np.argmax(cutting.worst_m))]) if len(cutting.times_s) else 0.0
    poses = None if clip is None else clip.at(np.array([worst]))
    world = figure.skeleton.rest if poses is None else poses.world()
    at_rest, worst_then = Stance(figure, figure.skeleton.rest), Stance(figure, world, 0, poses)
    shots = [(name, stance, np.concatenate(stance.vertices))
             for name, stance in (("front", at_rest), ("front", worst_then), ("side", worst_then))]  # fmt: skip
    extents = [np.ptp(points, axis=0)[2 if name == "side" else 0] for name, _, points in shots]
    tall = max(float(np.ptp(points[:, 1])) for *_, points in shots)
    scale = _FINE * min((_HEIGHT - 170) / tall, 0.9 * width / float(sum(extents)))
    gap = (width * _FINE - float(sum(extents)) * scale) / (len(shots) + 1)
    at = gap
    middles = []
    for (name, stance, points), extent in zip(shots, extents, strict=True):
        low, high = bounds_of(points)
        centre = 0.5 * (low + high)
        centre[1] = low[1]
        middles.append((at + 0.5 * extent * scale) / _FINE)
        view = View(name, centre, (middles[-1] * _FINE, (_HEIGHT - 64) * _FINE), scale)
        draw_figure(canvas, view, stance, frozenset(), colors)
        at += extent * scale + gap
    image = canvas.image()
    sheet = Image.new("RGB", (_WIDTH, _HEIGHT), byte(PAPER))
    sheet.paste(image.resize((width, _HEIGHT), Image.Resampling.LANCZOS), (0, 0))
    text = pen(sheet)
    text.text((24, 16), title, font=font(25), fill=INK)
    moving = "at rest" if clip is None else f"at rest and in {clip.name!r}"
    text.text((24, 50), f"where cloth and body pass through each other, {moving}", font=font(17), fill=FAINT)
    cuts = cutting.worst_m.max(initial=0.0) > 0.0
    when = "at rest" if clip is None else f"{worst:.2f} s{', when it is worst' if cuts else ''}"
    for middle, word in zip(middles, ("at rest", when, when), strict=True):
        text.text((middle, _HEIGHT - 50), word, font=font(16), fill=FAINT, anchor="ma")
    _list(text, cutting, before)
    out = BytesIO()
    sheet.save(out, "PNG")
    return out.getvalue()


def _painted(figure: Figure, worn: Sequence[int], cutting: Cutting) -> list[Floats]:
    out = []
    for number, (mesh, depth) in enumerate(zip(figure.meshes, cutting.depth_m, strict=True)):
        plain = _CLOTH[list(worn).index(number) % len(_CLOTH)] if number in worn else _SKIN
        share = np.where(depth > SEEN_M, np.clip(np.nan_to_num(depth) / _DEEP_M, 0.35, 1.0), 0.0)[:, None]
        out.append(np.array(plain) + share * (np.array(_CUT) - np.array(plain)))
        assert len(out[-1]) == len(mesh.triangles)
    return out


def _list(draw, cutting: Cutting, before: Cutting | None) -> None:  # type: ignore[no-untyped-def]
    x, y = _WIDTH - _LIST + 10, 24
    was = {} if before is None else {piece.piece: piece for piece in before.pieces}
    for piece in cutting.pieces:
        draw.text((x, y), piece.piece, font=font(18), fill=INK)
        y += 28
        rows = [
            ("deepest at rest", f"{1000 * piece.rest_m:.1f} mm"),
            ("deepest in motion", f"{1000 * piece.worst_m:.1f} mm"),
        ]
        if piece.part:
            rows.append(("into the body's", piece.part))
        rows += [("of the cloth, at most", f"{100 * piece.area:.2f} %"), ("of the time", f"{100 * piece.time:.0f} %")]
        if piece.piece in was:
            rows.append(("before it was settled", f"{1000 * was[piece.piece].worst_m:.1f} mm"))
        for word, value in rows:
            draw.text((x, y), word, font=font(14), fill=FAINT)
            draw.text((_WIDTH - 24, y), value, font=font(14), fill=INK, anchor="ra")
            y += 21
        y += 16
    draw.rectangle([x, y + 2, x + 22, y + 16], fill=byte(_CUT))
    draw.text((x + 30, y), f"deeper than {1000 * SEEN_M:.0f} mm", font=font(14), fill=INK)
