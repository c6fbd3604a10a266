"""Two poses before each other, front and side, with the joints in which they differ marked and told in degrees."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from io import BytesIO
from typing import TYPE_CHECKING

import numpy as np

from fairswap.bones.roles import RoleMap
from fairswap.model.arrays import Floats, bounds_of
from fairswap.model.figure import Figure
from fairswap.model.poses import Poses
from fairswap.model.skeleton import WorldTransforms
from fairswap.picture.framing import OF_COLUMN, shared_out
from fairswap.picture.paper import FAINT, INK, PAPER, byte, font, pen
from fairswap.picture.raster import Canvas
from fairswap.picture.stage import VIEWS, Stance, View, bone_lines, draw_figure
from fairswap.pose.measuring import PartVerdict, RoleAngle, verdicts
from fairswap.pose.rigged import RiggedFigure

if TYPE_CHECKING:
    from PIL.ImageDraw import ImageDraw

_WIDTH, _MOST, _LIST, _HEAD, _BELOW = 1680, 900, 400, 96, 62
_TOP, _PART, _ROW = 24, 30, 21
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
    shown = [_Shown.of(figure, roles, world) for (figure, roles, _), world in zip(people, worlds, strict=True)]
    cells = [(one, name) for one in shown for name in ("front", "side")]
    wide = np.array([np.ptp(one.box(name)[:2]) for one, name in cells])
    # One height in pixels for both: poses are compared, not sizes.
    room, high = _WIDTH - _LIST, max(float(one.box("front")[3]) for one in shown)
    tall = min((_MOST - _HEAD - _BELOW) / high, OF_COLUMN * room / wide.sum())
    # No higher than the figures and the list beside them need.
    parts, apart = verdicts(angles), [row for row in angles if row.degrees >= 1.0]
    height = min(_MOST, max(round(_HEAD + tall * high + _BELOW), _TOP + _PART * len(parts) + _ROW * (len(apart) + 4)))
    edges = shared_out(wide * tall / OF_COLUMN, room)
    canvas = Canvas.blank(room * _FINE, height * _FINE, PAPER)
    floor, views = height - _BELOW, []
    for (one, name), left, right in zip(cells, edges[:-1], edges[1:], strict=True):
        middle = float(np.mean(one.box(name)[:2])) * one.height_m
        centre = np.array([0.0, one.floor_m, 0.0]) + middle * VIEWS[name][0]
        view = View(name, centre, (0.5 * (left + right) * _FINE, floor * _FINE), _FINE * tall / one.height_m)
        draw_figure(canvas, view, one.stance, one.bones)
        views.append((view, one))
    canvas.fade(0.4, PAPER)  # the skin as a shadow: bones are what is looked at
    image = canvas.image()
    draw = pen(image)
    draw.line([0, floor * _FINE, image.width, floor * _FINE], fill=FAINT, width=_FINE)
    for view, one in views:
        _bones(draw, view, one, states)
    sheet = Image.new("RGB", (_WIDTH, height), byte(PAPER))
    sheet.paste(image.resize((_WIDTH - _LIST, height), Image.Resampling.LANCZOS), (0, 0))
    text = pen(sheet)
    for (figure, _, title), left in zip(people, edges[::2], strict=False):
        text.text((left + 24, 16), title, font=font(26), fill=INK)
        text.text((left + 26, 50), figure.name, font=font(17), fill=FAINT)
    for (_, name), left, right in zip(cells, edges[:-1], edges[1:], strict=True):
        text.text((0.5 * (left + right), height - 44), name, font=font(16), fill=FAINT, anchor="ma")
    _list(text, parts, apart, height)
    out = BytesIO()
    sheet.save(out, "PNG")
    return out.getvalue()


@dataclass(frozen=True, eq=False)
class _Shown:
    """A figure in its pose: the bones that are drawn, how high they are, and where its floor is."""

    roles: RoleMap
    stance: Stance
    bones: frozenset[int]
    height_m: float
    floor_m: float

    @classmethod
    def of(cls, figure: Figure, roles: RoleMap, world: WorldTransforms) -> _Shown:
        bones = frozenset(roles.bones.values()) | figure.skeleton.ends
        stance = Stance(figure, world, 0, Poses(figure.skeleton, world.rotation_tracks), roles.bones)
        heights = world.positions[0, :, 1]
        # As far below the lowest bone as the sole is at rest.
        floor_m = heights.min() - (figure.skeleton.rest.positions[0, :, 1].min() - figure.floor_m)
        return cls(roles, stance, bones, max(float(np.ptp(heights)), 1e-6), float(floor_m))

    def box(self, view: str) -> Floats:
        """What is seen: left, right, bottom, top ``(4,)``, in heights; bottom and top from the floor."""
        points = np.concatenate([self.stance.world.positions[0, sorted(self.bones)], *self.stance.vertices])
        low, high = bounds_of((points - [0.0, self.floor_m, 0.0]) @ VIEWS[view].T / self.height_m)
        return np.array([low[0], high[0], low[1], high[1]])


def _states(angles: Sequence[RoleAngle]) -> dict[str, tuple[str, float]]:
    found = {}
    for row in angles:
        if row.degrees >= 1.0:
            state = "look" if row.suspicious else "corrected" if row.corrected else "kept"
            found[row.role] = state, row.degrees
    return found


def _bones(draw: ImageDraw, view: View, one: _Shown, states: dict[str, tuple[str, float]]) -> None:
    roles = one.roles
    for start, end, _ in bone_lines(one.stance, one.bones):
        (p, q), _ = view.pixels(np.stack([start, end]))
        draw.line([*p, *q], fill=(255, 255, 255), width=3 * _FINE)
        draw.line([*p, *q], fill=FAINT, width=_FINE)
    places, _ = view.pixels(one.stance.world.positions[0])
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


def _list(draw: ImageDraw, parts: Sequence[PartVerdict], apart: Sequence[RoleAngle], height: int) -> None:
    x, y = _WIDTH - _LIST + 12, _TOP
    for part in parts:
        color = byte(_MARKED[part.state]) if part.state in _MARKED else FAINT
        draw.ellipse([x, y + 5, x + 12, y + 17], fill=color)
        draw.text((x + 24, y), part.part, font=font(19), fill=INK)
        said = _WORDS[part.state] if part.state == "same" else f"{part.degrees:.0f}°  {_WORDS[part.state]}"
        draw.text((x + 110, y), said, font=font(19), fill=color)
        y += _PART
    y += 12
    for at, word in ((x, "joint"), (x + 210, "swing"), (x + 282, "twist")):
        draw.text((at, y), word, font=font(15), fill=FAINT)
    by_part = sorted(apart, key=lambda row: row.part == "fingers")
    for row in by_part[: (height - y - 60) // _ROW]:
        y += _ROW
        draw.text((x, y), row.role, font=font(15), fill=INK)
        draw.text((x + 250, y), f"{row.swing_degrees:.1f}°", font=font(15), fill=INK, anchor="ra")
        draw.text((x + 318, y), f"{row.twist_degrees:.1f}°", font=font(15), fill=INK, anchor="ra")
