"""One rule for all sheets: what moves in the shown instants is inside its panel, with a margin, and all panels of a row
have one scale, in heights of their figures."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from fairswap.bones.roles import part_of
from fairswap.errors import UsageError
from fairswap.model.arrays import Floats, bounds_of
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.poses import Poses
from fairswap.model.skeleton import WorldTransforms
from fairswap.picture.paper import FAINT, byte
from fairswap.picture.raster import Canvas
from fairswap.picture.stage import LEFT, MIDDLE, RIGHT, VIEWS, Stance, View, bone_lines, draw_figure
from fairswap.picture.together import drawn_together

if TYPE_CHECKING:
    from PIL.Image import Image

    from fairswap.pose.rigged import RiggedFigure


class Panel(NamedTuple):
    """One picture of a figure: its name, the roles whose bones (and what hangs on them) it is of, and from where."""

    name: str
    roles: tuple[str, ...]
    view: str


# An instant, by its number, in a panel.
Cell = tuple[int, Panel]

# What each shot shows, from two sides or of two hands; without roles the whole figure.
SHOTS = {
    "full": (Panel("front", (), "front"), Panel("side", (), "side")),
    "face": (Panel("face, front", ("head",), "front"), Panel("face, side", ("head",), "side")),
    "hands": (Panel("right hand", ("hand_right",), "front"), Panel("left hand", ("hand_left",), "front")),
    "feet": (Panel("right foot", ("foot_right",), "side"), Panel("left foot", ("foot_left",), "side")),
}
# Of a panel: what is left free around the figure. How much a shot shows around what it is of.
_MARGIN, _AROUND = 0.05, 0.12
_FREE = 1.0 - 2.0 * _MARGIN
# Of its column on a sheet without panels a figure takes so much.
OF_COLUMN = 0.86
_FINE = 2  # drawn this much larger, then made small: smooth edges


def panels_of(shot: str) -> tuple[Panel, ...]:
    """The panels of a shot.

    Raises
    ------
    UsageError
        If it is none.
    """
    if shot not in SHOTS:
        raise UsageError(f"{shot!r} is not a shot", remedy=f"Give one of {', '.join(SHOTS)}")
    return SHOTS[shot]


@dataclass(frozen=True, eq=False)
class Staged:
    """A figure in some poses, one for each instant, ready to be framed and drawn.

    ``rigged`` is None where its bones are not known; then all bones are drawn.
    """

    figure: Figure
    poses: Poses
    rigged: RiggedFigure | None = None

    @classmethod
    def of(cls, figure: Figure, clip: Clip, times: Floats, rigged: RiggedFigure | None) -> Staged:
        """A clip at some times."""
        return cls(figure, clip.at(times), rigged)

    @cached_property
    def world(self) -> WorldTransforms:
        """Where all bones are, in all instants."""
        return self.poses.world()

    @cached_property
    def bones(self) -> frozenset[int]:
        """The bones of trunk, limbs and fingers, with their end markers: neither face nor cloth nor helpers.

        A root is none of them: it may stay behind while the hips go.
        """
        skeleton = self.figure.skeleton
        if self.rigged is None:
            tops = [bone for bone in range(len(skeleton)) if skeleton.parents[bone] < 0]
            roots = {top for top in tops if len(skeleton.children[top]) == 1 and len(skeleton) > 2}
            return frozenset(range(len(skeleton))) - roots
        roles = self.rigged.roles.bones.items()
        body = {bone for role, bone in roles if part_of(role) != "face" and role != "root"}
        return frozenset(body | {end for end in skeleton.tips if int(skeleton.parents[end]) in body})

    @property
    def floor_m(self) -> float:
        """The height of the ground that it stands on."""
        return self.figure.floor_m if self.rigged is None else self.rigged.floor_m

    @cached_property
    def height_m(self) -> float:
        """How tall it is: at rest; where that has no height, in what is shown."""
        if self.figure.height_m > 1e-3:
            return self.figure.height_m
        return max(float(np.ptp(self.world.positions, axis=1).max()), 1e-3)

    def watched(self, panel: Panel) -> list[int]:
        """The bones that a panel is of; none for the whole figure.

        Raises
        ------
        UsageError
            If the figure has no bones for it.
        """
        roles = {} if self.rigged is None else self.rigged.roles.bones
        known = [roles[role] for role in panel.roles if role in roles]
        if panel.roles and not known:
            problem = f"{self.figure.name!r} has no bone that is known as {panel.roles[0]}"
            raise UsageError(problem, remedy="Take another shot, or give a bone profile")
        return sorted({bone for top in known for bone in [top, *self.figure.skeleton.below(top).tolist()]})

    @cached_property
    def stances(self) -> list[Stance]:
        """The figure in each instant."""
        roles = None if self.rigged is None else self.rigged.roles.bones
        return [Stance(self.figure, self.world, frame, self.poses, roles) for frame in range(self.poses.frames)]

    def points(self, frame: int, panel: Panel) -> Floats:
        """All that must be seen of a panel in one instant ``(n, 3)``, metres."""
        watched = self.watched(panel)
        parts = [self.world.position_tracks[watched or sorted(self.bones), :, frame]]
        for mesh, vertices in zip(self.figure.meshes, self.stances[frame].vertices, strict=True):
            if watched:
                owner = mesh.main_bones
                vertices = vertices[np.isin(owner, watched)]
            parts.append(vertices)
        return np.concatenate(parts)

    def box(self, frame: int, panel: Panel) -> Floats:
        """What must be seen in one instant: left, right, bottom, top ``(4,)``, in heights of the figure; bottom and top
        from the floor that it rests on."""
        if (frame, panel) not in self._boxes:
            self._boxes[frame, panel] = self._box(frame, panel)
        return self._boxes[frame, panel]

    @cached_property
    def _boxes(self) -> dict[Cell, Floats]:
        return {}

    def _box(self, frame: int, panel: Panel) -> Floats:
        seen = (self.points(frame, panel) @ VIEWS[panel.view].T)[:, :2] / self.height_m
        low, high = bounds_of(seen)
        around = _AROUND * max(high - low) if panel.roles else 0.0
        floor = self.floor_m / self.height_m
        return np.array([low[0] - around, high[0] + around, low[1] - floor - around, high[1] - floor + around])


@dataclass(frozen=True)
class Frame:
    """How all panels of a row show their figures: pixels to a height of the figure, and where the floor is.

    All are as wide; but those that are in ``widths``, by instant and panel.
    """

    width: int
    height: int
    scale: float
    bottom: float
    widths: Mapping[Cell, int] = field(default_factory=dict)

    @classmethod
    def around(cls, staged: Sequence[Staged], panels: Sequence[Panel], width: int, height: int) -> Frame:
        """The largest scale at which everything is inside a panel of this size.

        A whole figure stands on one line in all panels; a part of one is in the middle of each.
        """
        wide = max(_wide(staged, panels).values())
        high, bottom = _high(staged, panels)
        return cls(width, height, _FREE * min(width / wide, height / high), bottom)

    @classmethod
    def beside(
        cls, staged: Sequence[Staged], columns: Sequence[Sequence[Cell]], width: int, most: int, least: int = 1
    ) -> Frame:
        """The largest scale at which columns of panels are beside each other within ``width``: each as wide as it
        needs, what is left over shared out. Panels are no higher than needed, from ``least`` to ``most``."""
        panels = list({panel: None for column in columns for _, panel in column})
        wide = _wide(staged, panels)
        needs = np.array([max(wide[cell] for cell in column) for column in columns])
        high, bottom = _high(staged, panels)
        scale = _FREE * min(width / needs.sum(), most / high)
        edges = shared_out(needs * scale / _FREE, width).astype(int)
        widths = {cell: int(size) for column, size in zip(columns, np.diff(edges), strict=True) for cell in column}
        return cls(width, min(most, max(least, math.ceil(high * scale / _FREE))), scale, bottom, widths)

    def width_of(self, frame: int, panel: Panel) -> int:
        """How wide a panel is, pixels."""
        return self.widths.get((frame, panel), self.width)

    def view_of(self, staged: Staged, frame: int, panel: Panel) -> View:
        """The camera of one panel: what is shown in the middle, the floor where it is in all."""
        box = staged.box(frame, panel)
        middle = 0.5 * (box[0] + box[1]) * staged.height_m
        # Half a panel up from the middle of what it is of, or all the way from the floor.
        low = 0.5 * (box[2] + box[3]) * staged.height_m if panel.roles else 0.0
        across = 0.5 * _FINE * self.width_of(frame, panel)
        at = (across, _FINE * (0.5 * self.height if panel.roles else self.floor_px))
        centre = np.array([0.0, staged.floor_m + low, 0.0]) + middle * VIEWS[panel.view][0]
        return View(panel.view, centre, at, _FINE * self.scale / staged.height_m)

    @property
    def floor_px(self) -> float:
        """Where the floor is in a panel, from its top."""
        return self.height * (1.0 - _MARGIN) + self.bottom * self.scale

    def pictures(self, cells: Iterable[tuple[Staged, int, Panel, tuple[float, float, float]]]) -> list[Image]:
        """Several instants, as :meth:`picture` draws each."""
        return drawn_together(lambda cell: self.picture(*cell), cells)

    def picture(self, staged: Staged, frame: int, panel: Panel, paper: tuple[float, float, float]) -> Image:
        """One instant from one side, skinned, with its bones over the skin and the floor under it."""
        from PIL import ImageDraw

        canvas = Canvas.blank(_FINE * self.width_of(frame, panel), _FINE * self.height, paper)
        camera = self.view_of(staged, frame, panel)
        draw_figure(canvas, camera, staged.stances[frame], staged.bones)
        image = canvas.image()
        draw = ImageDraw.Draw(image)
        if not panel.roles:
            line = _FINE * self.floor_px
            draw.line([(0, line), (image.width, line)], fill=FAINT, width=_FINE)
        if staged.figure.meshes and "head" not in panel.roles:
            for start, end, side in bone_lines(staged.stances[frame], staged.bones):
                _bone(draw, camera.pixels(np.stack([start, end]))[0], byte(_COLORS[side]))
        return image.reduce(_FINE)


def shared_out(widths: Floats, room: float) -> Floats:
    """Where things so wide begin and end beside each other, pixels: what is left over of the room is shared out."""
    return np.cumsum([0.0, *(widths + (room - widths.sum()) / len(widths))])


def _wide(staged: Sequence[Staged], panels: Sequence[Panel]) -> dict[Cell, float]:
    """How wide what is seen in each instant and panel is, of the widest figure, in heights of the figures."""
    boxes = {(frame, panel): [one.box(frame, panel) for one in staged]
             for frame in range(staged[0].poses.frames) for panel in panels}  # fmt: skip
    return {key: max([1e-6, *(float(box[1] - box[0]) for box in found)]) for key, found in boxes.items()}


def _high(staged: Sequence[Staged], panels: Sequence[Panel]) -> tuple[float, float]:
    """How high what is seen in any of them is, and how far below the floor it begins."""
    boxes = np.array([one.box(frame, panel) for one in staged for frame in range(one.poses.frames) for panel in panels])
    if any(panel.roles for panel in panels):
        return max(float((boxes[:, 3] - boxes[:, 2]).max()), 1e-6), 0.0
    # From the floor, or from below it where something goes there, to what is highest.
    bottom = min(float(boxes[:, 2].min()), 0.0)
    return max(float(boxes[:, 3].max()) - bottom, 1e-6), bottom


_COLORS = {"left": LEFT, "right": RIGHT, "": MIDDLE}


def _bone(draw, ends: Floats, color: tuple[int, int, int]) -> None:  # type: ignore[no-untyped-def]
    a, b = ends
    if np.linalg.norm(b - a) < 7 * _FINE:
        draw.line([*a, *b], fill=color, width=_FINE)
        return
    draw.line([*a, *b], fill=(255, 255, 255), width=3 * _FINE)
    draw.line([*a, *b], fill=color, width=_FINE + 1)
    for point in (a, b):
        r = 2.1 * _FINE
        draw.ellipse([*(point - r), *(point + r)], fill=color, outline=(255, 255, 255))
