"""A file by itself: a clip as a strip of instants, to choose in and out marks by eye, or a figure at rest."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction
from io import BytesIO
from typing import TYPE_CHECKING

import numpy as np

from fairswap.measure.contacts import contacts_of
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.poses import Poses
from fairswap.model.signals import runs_of
from fairswap.picture.comparison_sheet import chosen_times
from fairswap.picture.framing import Cell, Frame, Staged, panels_of
from fairswap.picture.paper import BAND, FAINT, INK, PAPER, byte, font, pen
from fairswap.picture.stage import LEFT, RIGHT
from fairswap.pose.rigged import RiggedFigure
from fairswap.wording import counted

if TYPE_CHECKING:
    from PIL.Image import Image

_WIDTH, _HEAD, _NAMES, _ROW, _FOOT = 1800, 78, 22, 330, 96
_INSTANTS, _AT_REST = 10, 1


def lone_sheet(
    figure: Figure, clip: Clip | None, rigged: RiggedFigure | None = None, times_s: Sequence[float] = (),
    shots: Sequence[str] = ("full",), title: str = "",
) -> bytes:  # fmt: skip
    """A PNG of a clip at instants evenly over its time, or those asked for; without a clip, of the figure at rest.

    Raises
    ------
    UsageError
        If an instant is not in the clip, there are too many, or a shot is none.
    """
    from PIL import Image as Images

    shown = clip or _resting(figure)
    if len(times_s):
        times = chosen_times(times_s, shown)
    else:
        times = np.linspace(0.0, shown.duration_s, _INSTANTS if clip is not None else _AT_REST)
    width = _WIDTH if len(times) > 3 else 420 * max(len(times), 2)
    staged = Staged.of(figure, shown, times, rigged)
    # One instant alone has its panels beside each other, and twice as tall.
    alone = len(times) == 1
    rows = [[[cell] for cell in row[0]] if alone else row for row in (_columns(shot, len(times)) for shot in shots)]
    frames = [Frame.beside([staged], row, width, 2 * _ROW if alone else _ROW) for row in rows]
    blocks = [_NAMES + len(row[0]) * frame.height for row, frame in zip(rows, frames, strict=True)]
    height = _HEAD + sum(blocks) + (_FOOT if clip is not None and rigged is not None else 16)
    sheet = Images.new("RGB", (width, height), byte(PAPER))
    draw = pen(sheet)
    name = clip.name if clip is not None else "at rest"
    draw.text((20, 12), title or f"{figure.name}: {name}", font=font(27), fill=INK)
    facts = f"{figure.height_m:.2f} m, {figure.bone_count} bones, {counted(len(figure.meshes), 'mesh', 'meshes')}"
    if clip is not None:
        facts += f"   ·   {clip.duration_s:.2f} s at {float(clip.rate):g}, {counted(clip.frames, 'frame')}"
    draw.text((22, 48), facts, font=font(16), fill=FAINT)
    top = _HEAD
    for row, frame, block in zip(rows, frames, blocks, strict=True):
        _draw_row(sheet, staged, row, frame, top, [] if clip is None else times.tolist(), float(shown.rate))
        top += block
    if clip is not None and rigged is not None:
        _contacts(draw, rigged, clip, times.tolist(), width, height - _FOOT + 14)
    out = BytesIO()
    sheet.save(out, "PNG")
    return out.getvalue()


def _columns(shot: str, instants: int) -> list[list[Cell]]:
    """An instant to a column, with the panels of a shot under each other."""
    return [[(instant, panel) for panel in panels_of(shot)] for instant in range(instants)]


def _draw_row(
    sheet: Image, staged: Staged, columns: list[list[Cell]], frame: Frame, top: int, times: list[float], rate: float
) -> None:
    """The panels of one shot, with the names of the views at the left and the times above."""
    draw = pen(sheet)
    papers = [PAPER if number % 2 else BAND for number in range(len(columns))]
    shown = [(staged, *cell, paper) for column, paper in zip(columns, papers, strict=True) for cell in column]
    pictures = iter(frame.pictures(shown))
    left, said = 0, set()
    for column in columns:
        for place, (_, panel) in enumerate(column):
            above = top + _NAMES + place * frame.height
            sheet.paste(next(pictures), (left, above))
            if panel not in said:
                draw.text((left + 8, above + 4), panel.name, font=font(13), fill=FAINT)
            said.add(panel)
        left += frame.width_of(*column[0])
    left = 0
    for instant, time in enumerate(times):
        wide = sum(frame.width_of(*column[0]) for column in columns if column[0][0] == instant)
        text = f"{time:.2f} s · {round(time * rate)}f"
        draw.text((left + 0.5 * wide, top + 2), text, font=font(15), fill=INK, anchor="ma")
        left += wide


def _resting(figure: Figure) -> Clip:
    rotations = figure.skeleton.rest_rotations[:, :, None]
    return Clip("at rest", Fraction(1), Poses(figure.skeleton, rotations))


def _contacts(draw, rigged: RiggedFigure, clip: Clip, times: list[float], width: int, top: int) -> None:  # type: ignore[no-untyped-def]
    """When each foot stands over the whole clip, with seconds; what is shown is marked."""
    found, rate = contacts_of(rigged, clip), float(clip.rate)
    left, right = 110, width - 24
    per_second = (right - left) / max(clip.duration_s, 1e-6)
    for number, (side, color) in enumerate((("left", LEFT), ("right", RIGHT))):
        y = top + 18 * number
        draw.text((20, y - 3), f"{side} foot", font=font(14), fill=FAINT)
        draw.line([left, y + 5, right, y + 5], fill=byte(BAND), width=10)
        for start, stop in runs_of(found.standing(side)):
            x = [left + per_second * frame / rate for frame in (start, stop - 1)]
            draw.line([x[0], y + 5, max(x[1], x[0] + 2), y + 5], fill=byte(color), width=10)
    for time in times:
        at = left + per_second * time
        draw.line([at, top - 4, at, top + 34], fill=INK, width=1)
    step = next((each for each in (0.1, 0.25, 0.5, 1, 2, 5, 10, 30, 60, 300) if clip.duration_s / each <= 16), 600)
    for mark in np.arange(0.0, clip.duration_s + 1e-9, step).tolist():
        draw.text((left + per_second * mark, top + 42), f"{mark:g} s", font=font(13), fill=FAINT, anchor="ma")
