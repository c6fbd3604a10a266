"""A rigged mesh: where its joints were found and how surely, and where its skin tears or folds in the reel."""

from __future__ import annotations

from io import BytesIO
from typing import TYPE_CHECKING

import numpy as np

from fairswap.bones.roles import FINGERS
from fairswap.figures.rigging.making import Rigged
from fairswap.measure.folding import FOLDED, TORN, Folds
from fairswap.model.arrays import Floats, bounds_of
from fairswap.model.mesh import vertex_normals
from fairswap.picture.paper import FAINT, INK, PAPER, byte, font, pen
from fairswap.picture.raster import Canvas
from fairswap.picture.stage import View

if TYPE_CHECKING:
    from PIL.ImageDraw import ImageDraw

_WIDTH, _HEIGHT, _LIST, _FINE = 1440, 820, 330, 2
# How sure a place is, from nothing to given by hand, and its colour.
_SURE = ((0.0, (0.78, 0.10, 0.14)), (0.5, (0.90, 0.52, 0.10)), (0.75, (0.24, 0.56, 0.30)), (1.0, (0.10, 0.32, 0.62)))
_SHEET_COLORS = {"plain": (0.80, 0.81, 0.80), "torn": (0.80, 0.12, 0.16), "folded": (0.30, 0.25, 0.62)}


def rig_sheet(rigged: Rigged, folds: Folds | None, title: str) -> bytes:
    """A PNG: the places from the front and the side, the skin's worst in the reel, and a list of the places."""
    from PIL import Image

    figure = rigged.figure
    width = _WIDTH - _LIST
    canvas = Canvas.blank(width * _FINE, _HEIGHT * _FINE, PAPER)
    points = figure.rest_points
    low, high = bounds_of(points)
    size = np.maximum(high - low, 1e-6)
    shown = 3 if folds is not None else 2
    # As much room for the front, twice, and for the side as each is wide.
    across = size[0] * (shown - 1) + size[2]
    scale = _FINE * min((_HEIGHT - 150) / size[1], 0.86 * width / across)
    gap = (width * _FINE - across * scale) / (shown + 1)
    middle = 0.5 * (low + high)
    middle[1] = low[1]
    floor = (_HEIGHT - 60) * _FINE
    at, views = gap, []
    for name, extent in (("front", size[0]), ("side", size[2]), ("front", size[0]))[:shown]:
        views.append(View(name, middle, (at + 0.5 * extent * scale, floor), scale))
        at += extent * scale + gap
    for number, view in enumerate(views):
        for index, (mesh, vertices) in enumerate(zip(figure.meshes, figure.rest_vertices, strict=True)):
            pixels, depth = view.pixels(vertices)
            normals = vertex_normals(vertices, mesh.triangles) @ view.axes.T
            colors = np.tile(_SHEET_COLORS["plain"], (len(mesh.triangles), 1))
            if number == 2 and folds is not None:
                colors = _worst(folds.stretch[index], folds.squeeze[index])
            canvas.draw(pixels, depth, normals, mesh.triangles, colors)
    image = canvas.image()
    draw = pen(image)
    for view in views[:2]:
        _places(draw, view, rigged)
    sheet = Image.new("RGB", (_WIDTH, _HEIGHT), byte(PAPER))
    sheet.paste(image.resize((width, _HEIGHT), Image.Resampling.LANCZOS), (0, 0))
    text = pen(sheet)
    text.text((24, 16), title, font=font(25), fill=INK)
    said = "joints found from the shape"
    if folds is not None:
        said += f"; in the reel {100 * folds.torn:.1f} % of the skin tears, {100 * folds.folded:.1f} % folds; "
        said += f"at worst it has {100 * folds.worst_volume:.0f} % of its volume"
    text.text((24, 50), said, font=font(17), fill=FAINT)
    for view, word in zip(views, ("front", "side", "the skin at its worst"), strict=False):
        text.text((view.at[0] / _FINE, _HEIGHT - 46), word, font=font(16), fill=FAINT, anchor="ma")
    _list(text, rigged, folds)
    out = BytesIO()
    sheet.save(out, "PNG")
    return out.getvalue()


def _worst(stretch: Floats, squeeze: Floats) -> Floats:
    """Red where triangles are torn, blue where they are folded, paler below that."""
    plain, torn, folded = (np.array(_SHEET_COLORS[name]) for name in ("plain", "torn", "folded"))
    share = np.clip((stretch - 1.2) / (TORN - 1.2), 0.0, 1.0)[:, None]
    less = np.clip((0.8 - squeeze) / (0.8 - FOLDED), 0.0, 1.0)[:, None]
    return np.asarray(np.where(share >= less, plain + share * (torn - plain), plain + less * (folded - plain)))


def color_of_certainty(certainty: float) -> tuple[int, int, int]:
    """The colour of a place: red is a guess, green is seen, blue is given."""
    steps = [row[0] for row in _SURE]
    red, green, blue = (float(np.interp(certainty, steps, [row[1][channel] for row in _SURE])) for channel in range(3))
    return byte((red, green, blue))


def _places(draw: ImageDraw, view: View, rigged: Rigged) -> None:
    skeleton, bones = rigged.figure.skeleton, set(rigged.roles.values())
    rest = skeleton.rest.positions[0]
    lines, _ = view.pixels(rest)
    for bone in sorted(bones):
        parent = int(skeleton.parents[bone])
        if parent in bones and bone != rigged.roles.get("hips"):
            draw.line([*lines[parent], *lines[bone]], fill=(255, 255, 255), width=3 * _FINE)
            draw.line([*lines[parent], *lines[bone]], fill=FAINT, width=_FINE)
    for role, place in sorted(rigged.places.items(), key=lambda row: -row[1].certainty):
        x, y = view.pixels(place.position[None])[0][0]
        small = role.startswith(("thumb", *FINGERS))
        r = (2.0 if small else 4.5) * _FINE
        draw.ellipse([x - r, y - r, x + r, y + r], fill=color_of_certainty(place.certainty), outline=(255, 255, 255),
                     width=_FINE if not small else 1)  # fmt: skip


def _list(draw: ImageDraw, rigged: Rigged, folds: Folds | None) -> None:
    x, y = _WIDTH - _LIST + 8, 22
    for certainty, word in (
        (1.0, "given by hand"),
        (0.8, "seen in the shape"),
        (0.5, "by proportion"),
        (0.3, "a guess"),
    ):
        draw.ellipse([x, y + 3, x + 12, y + 15], fill=color_of_certainty(certainty))
        draw.text((x + 20, y), word, font=font(15), fill=INK)
        y += 21
    y += 10
    hidden = ("thumb", *FINGERS, "hand_tip", "toe_tip")
    rows = [(role.removesuffix("_left"), place) for role, place in rigged.places.items()
            if not role.startswith(hidden) and not role.endswith("_right")]  # fmt: skip
    for role, place in rows:
        draw.ellipse([x, y + 4, x + 9, y + 13], fill=color_of_certainty(place.certainty))
        draw.text((x + 16, y), role, font=font(14), fill=INK)
        draw.text((x + 124, y), f"{place.certainty:.2f}", font=font(14), fill=INK)
        words = place.found_by
        while draw.textlength(words, font=font(12)) > _LIST - 172:
            words = words[:-2].rstrip() + "…"
        draw.text((x + 160, y + 1), words, font=font(12), fill=FAINT)
        y += 20
    fingers = {role.split("_")[0] for role in rigged.roles if role.startswith(("thumb", *FINGERS))}
    draw.text((x, y + 2), f"fingers: {', '.join(f for f in ('thumb', *FINGERS) if f in fingers) or 'none'}",
              font=font(14), fill=INK)  # fmt: skip
    y += 32
    if folds is not None:
        for word, right in (("torn %", 170), ("folded %", 250)):
            draw.text((x + right, y), word, font=font(14), fill=FAINT, anchor="ra")
        for part, (torn, folded) in sorted(folds.parts.items(), key=lambda row: -sum(row[1])):
            y += 20
            draw.text((x, y), part, font=font(14), fill=INK)
            draw.text((x + 170, y), f"{100 * torn:.1f}", font=font(14), fill=INK, anchor="ra")
            draw.text((x + 250, y), f"{100 * folded:.1f}", font=font(14), fill=INK, anchor="ra")
        y += 34
        for color, word in (
            ("torn", f"stretched to {TORN:g} times"),
            ("folded", f"squeezed to {FOLDED:g} of its area"),
        ):
            draw.rectangle([x, y, x + 22, y + 14], fill=byte(_SHEET_COLORS[color]))
            draw.text((x + 30, y - 1), word, font=font(14), fill=INK)
            y += 21
