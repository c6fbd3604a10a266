"""Two poses before each other, front and side, with the joints in which they differ marked and told in degrees."""

from __future__ import annotations

from collections.abc import Sequence
from io import BytesIO
from typing import TYPE_CHECKING

import numpy as np

from fairswap.bones.roles import RoleMap
from fairswap.model.arrays import Floats
from fairswap.model.figure import Figure
from fairswap.model.poses import Poses
from fairswap.model.skeleton import Skeleton, WorldTransforms
from fairswap.picture.paper import FAINT, INK, PAPER, byte, font, pen
from fairswap.picture.raster import Canvas
from fairswap.picture.stage import Stance, View, bone_lines, draw_figure
from fairswap.pose.measuring import PartVerdict, RoleAngle, verdicts
from fairswap.pose.rigged import RiggedFigure

if TYPE_CHECKING:
    from PIL.ImageDraw import ImageDraw

_WIDTH, _HEIGHT, _LIST, _HEAD = 1680, 900, 400, 96
_FINE = 2
_MARKED = {"corrected": (0.10, 0.45, 0.30), "kept": (0.12, 0.42, 0.78), "look": (0.80, 0.15, 0.12)}
_WORDS = {"same": "alike", "corrected": "corrected", "kept": "kept", "look": "please look"}


def pose_sheet(
    a: RiggedFigure, b: RiggedFigure | None, angles: Sequence[RoleAngle], title_a: str, title_b: str = ""
) -> bytes:
    """A PNG of both poses; without ``b`` the second is the neutral T of the first."""
    from PIL import Image

    worlds = [a.base.world, b.base.world if b is not None else a.reference_world]
    people = [
        (a.figure, a.roles, title_a),
        (b.figure if b else a.figure, b.roles if b else a.roles, title_b or "neutral T"),
    ]
    states = _states(angles)
    half = (_WIDTH - _LIST) / 2
    columns = (0.32 * half, 0.80 * half)  # the middles of front and side; a T needs room from the front
    heights = [float(np.ptp(world.positions[0, :, 1])) for world in worlds]
    widths = [float(np.ptp(world.positions[0, :, 0])) for world in worlds]
    # One height in pixels for both: poses are compared, not sizes.
    tall = min(
        _HEIGHT - _HEAD - 120,
        *(0.60 * half * high / max(wide, 1e-6) for high, wide in zip(heights, widths, strict=True)),
    )
    canvas = Canvas.blank((_WIDTH - _LIST) * _FINE, _HEIGHT * _FINE, PAPER)
    floor, views = _HEIGHT - 62, []
    for number, ((figure, roles, _), world) in enumerate(zip(people, worlds, strict=True)):
        bones = frozenset(roles.bones.values()) | figure.skeleton.ends
        points = world.positions[0]
        scale = _FINE * tall / max(heights[number], 1e-6)
        centre = points[roles.bones["hips"]].copy()
        # As far below the lowest bone as the sole is at rest.
        centre[1] = points[:, 1].min() - (figure.skeleton.rest.positions[0, :, 1].min() - figure.floor_m)
        stance = Stance(figure, world, 0, _poses(figure.skeleton, world))
        for name, middle in zip(("front", "side"), columns, strict=True):
            view = View(name, centre, ((number * half + middle) * _FINE, floor * _FINE), scale)
            draw_figure(canvas, view, stance, bones)
            views.append((view, figure, roles, world, bones))
    canvas.fade(0.4, PAPER)  # the skin as a shadow: bones are what is looked at
    image = canvas.image()
    draw = pen(image)
    draw.line([0, floor * _FINE, image.width, floor * _FINE], fill=FAINT, width=_FINE)
    for view, figure, roles, world, bones in views:
        _bones(draw, view, figure, roles, world, bones, states)
    sheet = Image.new("RGB", (_WIDTH, _HEIGHT), byte(PAPER))
    sheet.paste(image.resize((_WIDTH - _LIST, _HEIGHT), Image.Resampling.LANCZOS), (0, 0))
    text = pen(sheet)
    for number, (figure, _, title) in enumerate(people):
        text.text((number * half + 24, 16), title, font=font(26), fill=INK)
        text.text((number * half + 26, 50), figure.name, font=font(17), fill=FAINT)
        for name, middle in zip(("front", "side"), columns, strict=True):
            text.text((number * half + middle, _HEIGHT - 44), name, font=font(16), fill=FAINT, anchor="ma")
    _list(text, verdicts(angles), angles)
    out = BytesIO()
    sheet.save(out, "PNG")
    return out.getvalue()


def _poses(skeleton: Skeleton, world: WorldTransforms) -> Poses:
    return Poses(skeleton, world.rotation_tracks)


def _states(angles: Sequence[RoleAngle]) -> dict[str, tuple[str, float]]:
    found = {}
    for row in angles:
        if row.degrees >= 1.0:
            state = "look" if row.suspicious else "corrected" if row.corrected else "kept"
            found[row.role] = state, row.degrees
    return found


def _bones(
    draw: ImageDraw,
    view: View,
    figure: Figure,
    roles: RoleMap,
    world: WorldTransforms,
    bones: frozenset[int],
    states: dict[str, tuple[str, float]],
) -> None:
    for start, end, _ in bone_lines(figure, world, 0, bones):
        (p, q), _ = view.pixels(np.stack([start, end]))
        draw.line([*p, *q], fill=(255, 255, 255), width=3 * _FINE)
        draw.line([*p, *q], fill=FAINT, width=_FINE)
    places, _ = view.pixels(world.positions[0])
    marked = sorted(((role, *state) for role, state in states.items()), key=lambda row: row[2])
    taken: list[Floats] = []
    for role, state, degrees in marked:
        x, y = places[roles.bones[role]] if role in roles.bones else (-99.0, -99.0)
        large = degrees >= 5.0 and not role.startswith(("thumb", "index", "middle", "ring", "little"))
        r = (6.0 if large else 2.6) * _FINE
        draw.ellipse([x - r, y - r, x + r, y + r], fill=byte(_MARKED[state]), outline=(255, 255, 255), width=_FINE)
        spot = np.array([x, y])
        if large and all(np.linalg.norm(spot - other) > 34 * _FINE for other in taken):
            draw.text(
                (x + 9 * _FINE, y - 20 * _FINE), f"{degrees:.0f}°", font=font(15 * _FINE), fill=byte(_MARKED[state])
            )
            taken.append(spot)


def _list(draw: ImageDraw, parts: Sequence[PartVerdict], angles: Sequence[RoleAngle]) -> None:
    x, y = _WIDTH - _LIST + 12, 24
    for part in parts:
        color = byte(_MARKED[part.state]) if part.state in _MARKED else FAINT
        draw.ellipse([x, y + 5, x + 12, y + 17], fill=color)
        draw.text((x + 24, y), part.part, font=font(19), fill=INK)
        said = _WORDS[part.state] if part.state == "same" else f"{part.degrees:.0f}°  {_WORDS[part.state]}"
        draw.text((x + 110, y), said, font=font(19), fill=color)
        y += 30
    y += 12
    for at, word in ((x, "joint"), (x + 210, "swing"), (x + 282, "twist")):
        draw.text((at, y), word, font=font(15), fill=FAINT)
    apart = sorted((row for row in angles if row.degrees >= 1.0), key=lambda row: row.part == "fingers")
    for row in apart[: (_HEIGHT - y - 60) // 21]:
        y += 21
        draw.text((x, y), row.role, font=font(15), fill=INK)
        draw.text((x + 250, y), f"{row.swing_degrees:.1f}°", font=font(15), fill=INK, anchor="ra")
        draw.text((x + 318, y), f"{row.twist_degrees:.1f}°", font=font(15), fill=INK, anchor="ra")
