"""The skeleton from the front and the side, each bone in its state, told apart by shape and word, not colour alone."""

from __future__ import annotations

from io import BytesIO
from typing import TYPE_CHECKING

import numpy as np

from fairswap.bones.checking import GUESSED, MATCHED, MISSING, RoleState
from fairswap.bones.roles import part_of
from fairswap.model.arrays import bounds_of
from fairswap.model.figure import Figure
from fairswap.model.poses import Poses
from fairswap.picture.framing import OF_COLUMN, shared_out
from fairswap.picture.paper import FAINT, INK, PAPER, byte, font, pen
from fairswap.picture.raster import Canvas
from fairswap.picture.stage import Stance, View, draw_figure

if TYPE_CHECKING:
    from PIL.ImageDraw import ImageDraw

_WIDTH, _HEIGHT, _LIST = 1600, 980, 520
_COLORS = {MATCHED: (0.10, 0.45, 0.30), GUESSED: (0.80, 0.45, 0.05), MISSING: (0.75, 0.12, 0.12)}
_PARTS = ("trunk", "face", "arms", "hands", "legs", "feet")


def bones_sheet(figure: Figure, states: list[RoleState], title: str, where: str) -> bytes:
    """A PNG: the figure at rest with its bones marked, and the list of roles with their states."""
    from PIL import Image

    fine = 2
    canvas = Canvas.blank((_WIDTH - _LIST) * fine, _HEIGHT * fine, PAPER)
    points = figure.rest_points
    low, high = bounds_of(points)
    size = np.maximum(high - low, 1e-6)
    room, wide = _WIDTH - _LIST, size[[0, 2]]
    scale = min((_HEIGHT - 190) / size[1], OF_COLUMN * room / wide.sum())
    edges = shared_out(wide * scale / OF_COLUMN, room)
    middles = (0.5 * (edges[:-1] + edges[1:])).tolist()
    poses = Poses(figure.skeleton, figure.skeleton.rest_rotations[:, :, None])
    known = frozenset(state.bone for state in states if state.bone is not None)
    floor = (_HEIGHT - 50) * fine
    centre = 0.5 * (low + high)
    centre[1] = low[1]
    views = [
        View(name, centre, (middle * fine, floor), scale * fine)
        for name, middle in zip(("front", "side"), middles, strict=True)
    ]
    stance = Stance(figure, figure.skeleton.rest, 0, poses)
    for view in views:
        draw_figure(canvas, view, stance, known)
        # Skin only as a shadow: the bones are what is looked at.
    canvas.fade(0.45, PAPER)
    image = canvas.image()
    draw = pen(image)
    for view in views:
        _draw_bones(draw, view, figure, states, fine)
    sheet = Image.new("RGB", (_WIDTH, _HEIGHT), byte(PAPER))
    sheet.paste(image.resize((_WIDTH - _LIST, _HEIGHT), Image.Resampling.LANCZOS), (0, 0))
    text = pen(sheet)
    text.text((28, 18), title, font=font(28), fill=INK)
    text.text((28, 56), where, font=font(17), fill=FAINT)
    for middle, name in zip(middles, ("front", "side"), strict=True):
        text.text((middle, _HEIGHT - 36), name, font=font(16), fill=FAINT, anchor="ma")
    _draw_list(text, figure, states)
    out = BytesIO()
    sheet.save(out, "PNG")
    return out.getvalue()


def _draw_bones(draw: ImageDraw, view: View, figure: Figure, states: list[RoleState], fine: int) -> None:
    skeleton = figure.skeleton
    places, _ = view.pixels(skeleton.rest.positions[0])
    roled = {state.bone for state in states if state.bone is not None}
    for bone in range(len(skeleton)):
        parent = int(skeleton.parents[bone])
        if parent >= 0 and not (skeleton.parents[parent] < 0 and len(skeleton.children[parent]) == 1):
            color = INK if bone in roled else (176, 172, 164)
            draw.line([*places[parent], *places[bone]], fill=color, width=2 * fine if bone in roled else fine)
    for state in states:
        if state.bone is not None:
            small = part_of(state.role) in ("hands", "face")
            _mark(draw, places[state.bone], state.state, (3.2 if small else 6.0) * fine)


def _mark(draw: ImageDraw, at: np.ndarray, state: str, r: float) -> None:
    """A full disc for matched, an open diamond for guessed, a cross for missing."""
    x, y = float(at[0]), float(at[1])
    color = byte(_COLORS[state])
    if state == MATCHED:
        draw.ellipse([x - r, y - r, x + r, y + r], fill=color, outline=(255, 255, 255), width=max(int(r / 4), 1))
    elif state == GUESSED:
        corners = [(x, y - 1.4 * r), (x + 1.4 * r, y), (x, y + 1.4 * r), (x - 1.4 * r, y)]
        draw.polygon(corners, fill=(255, 255, 255), outline=color, width=max(int(r / 2.2), 1))
    else:
        width = max(int(r / 2.2), 1)
        draw.line([x - r, y - r, x + r, y + r], fill=color, width=width)
        draw.line([x - r, y + r, x + r, y - r], fill=color, width=width)


def _draw_list(draw: ImageDraw, figure: Figure, states: list[RoleState]) -> None:
    left, y = _WIDTH - _LIST + 10, 24
    counts = {state: sum(row.state == state for row in states) for state in (MATCHED, GUESSED, MISSING)}
    for number, (state, count) in enumerate(counts.items()):
        x = left + 165 * number
        _mark(draw, np.array([x + 8, y + 10]), state, 6.0)
        draw.text((x + 24, y), f"{count} {state}", font=font(18), fill=INK)
    y += 42
    shown = [row for row in states if part_of(row.role) != "hands" or row.state != MATCHED]
    hidden = len(states) - len(shown)
    room = (_HEIGHT - 60 - y) // 20
    if len(shown) > room:
        shown = sorted(shown, key=lambda row: row.state == MATCHED)[:room]
    for row in sorted(shown, key=lambda row: _PARTS.index(part_of(row.role))):
        _mark(draw, np.array([left + 8, y + 9]), row.state, 4.5)
        draw.text((left + 24, y), row.role, font=font(15), fill=INK)
        said = figure.skeleton.names[row.bone] if row.bone is not None else "no bone"
        if row.state == GUESSED and row.confidence is not None:
            said += f"  ({row.confidence:.2f})"
        draw.text(
            (left + 200, y), said[:38], font=font(15), fill=FAINT if row.bone is not None else byte(_COLORS[MISSING])
        )
        y += 20
    if hidden:
        draw.text(
            (left + 24, y + 4), f"and {hidden} bones of hands and fingers, all matched", font=font(15), fill=FAINT
        )
