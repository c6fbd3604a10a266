"""Every shape of a head in one sheet, each with what it was taken for; and a drawn face with its regions covered."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from fractions import Fraction
from io import BytesIO
from itertools import count
from typing import TYPE_CHECKING

import numpy as np

from fairswap.face.anatomy import EYE_HALF, EYE_X, EYE_Y, MOUTH_HALF, MOUTH_Y
from fairswap.face.bones import face_alone
from fairswap.face.chart import FaceChart
from fairswap.face.coverage import coverage, verdict_of
from fairswap.face.geometry import FaceFrame
from fairswap.face.head import Head
from fairswap.face.neutral import seen_on
from fairswap.face.transfer import still_clip
from fairswap.model.arrays import Floats, bounds_of
from fairswap.model.clip import Clip
from fairswap.picture.paper import FAINT, INK, PAPER, byte, font, pen
from fairswap.picture.raster import Canvas
from fairswap.picture.stage import Stance, View, changed_box, draw_figure
from fairswap.picture.together import drawn_together
from fairswap.wording import counted

if TYPE_CHECKING:
    from PIL.Image import Image
    from PIL.ImageDraw import ImageDraw

_WIDTH, _HEIGHT, _GAP, _WORDS, _FINE, _TOP, _COLUMNS = 172, 216, 8, 40, 2, 68, 8
# What is seen: from a little below the pivot of the head, in its sizes, upward and to the sides, and how much at most.
_BELOW, _BESIDE, _MOST = 0.22, 0.75, 1.35
# The drawn face takes this many columns and rows of tiles.
_CHART_COLUMNS, _CHART_ROWS, _CHART_WORDS = 2, 2, 150
_COLORS = {"full": (0.10, 0.45, 0.30), "in part": (0.85, 0.60, 0.10), "none": (0.75, 0.12, 0.12)}


def face_tiles(head: Head, clip: Clip, frames: Sequence[int], frame: FaceFrame) -> list[Image]:
    """The face of a clip in some frames, from the front: of a body at rest, so that it stays where it is looked at."""

    low, high = _seen(head, frame)
    tall = min(max(high[1] - low[1], (high[0] - low[0]) * _HEIGHT / _WIDTH), _MOST * frame.size)
    centre = 0.5 * (low + high)
    centre[1] = low[1] + 0.5 * tall  # a hat that is too tall is cut, never the chin
    bones = frozenset(head.bones.values())
    seen = seen_on(head.neutral, clip.poses)
    poses = replace(face_alone(seen, set(bones)), morph_tracks=seen.morph_tracks)
    world = poses.world()

    wide, high_px = _WIDTH * _FINE, _HEIGHT * _FINE
    view = View("front", centre, (0.5 * wide, 0.5 * high_px), high_px / tall)

    def drawn(stance: Stance, left: int = 0, top: int = 0, right: int = wide, bottom: int = high_px) -> Image:
        canvas = Canvas.blank(right - left, bottom - top, PAPER)
        draw_figure(canvas, view.moved(-left, -top), stance, bones)
        return canvas.image()

    before = Stance(head.neutral, world, frames[0], poses)
    first = drawn(before)

    def tile(number: int) -> Image:
        # Most shapes move little of a head: only where it looks otherwise is it drawn anew.
        image, stance = first, Stance(head.neutral, world, number, poses)
        box = changed_box(head.neutral, view, before.vertices, stance.vertices, wide, high_px)
        if box is not None:
            image = first.copy()
            image.paste(drawn(stance, *box), box[:2])
        return image.reduce(_FINE)

    return drawn_together(tile, frames)


def _seen(head: Head, frame: FaceFrame) -> tuple[Floats, Floats]:
    """The corners of the box around the head at rest: what of its figure is over the neck and near its middle."""
    points = head.neutral.rest_points
    off = (points - frame.pivot) / frame.size
    near = (off[:, 1] > -_BELOW) & (np.abs(off[:, 0]) < _BESIDE)
    if not near.any():
        return frame.pivot - [0.5 * frame.size, _BELOW * frame.size, 0.0], frame.pivot + 0.8 * frame.size
    return bounds_of(points[near])


def shapes_sheet(head: Head, frame: FaceFrame, captions: Mapping[str, str], title: str) -> bytes:
    """A PNG with every shape of a chart at its full, its name, and what it was taken for."""
    chart = head.chart
    directions = list(chart.columns)
    full = np.concatenate([np.zeros((len(directions), 1)), np.eye(len(directions))], axis=1)
    clip = head.performed(full, still_clip(head.figure, "shapes", Fraction(1), len(directions) + 1))
    correctives = [name for name, shape in chart.shapes.items() if shape.corrects]
    tiles = face_tiles(head, clip, range(len(directions) + 1), frame)
    labels = [("at rest", head.figure.name)]
    labels += [(name if sign > 0 else f"{name} (negative)", captions.get(name, "")) for name, sign in directions]
    left_out = f"; correctives, not drawn: {', '.join(correctives)}" if correctives else ""
    note = f"{counted(len(directions), 'shape')}{left_out}"
    return _sheet(tiles, labels, title, note, coverage_face(chart, _CHART_COLUMNS * (_WIDTH + _GAP) - _GAP))


def _sheet(
    tiles: Sequence[Image], labels: Sequence[tuple[str, str]], title: str, note: str = "", chart: Image | None = None
) -> bytes:
    """A PNG of tiles in rows, each with two lines under it; a drawn face stands in the corner, where there is one."""
    from PIL import Image

    step_x, step_y = _WIDTH + _GAP, _HEIGHT + _WORDS
    kept = {(row, _COLUMNS - 1 - column) for row in range(_CHART_ROWS) for column in range(_CHART_COLUMNS)}
    spots = ((row, column) for row in count() for column in range(_COLUMNS))
    free = [spot for spot, _ in zip((s for s in spots if chart is None or s not in kept), tiles, strict=False)]
    rows = max(free[-1][0] + 1, 0 if chart is None else _CHART_ROWS)
    sheet = Image.new("RGB", (_COLUMNS * step_x + _GAP, _TOP + rows * step_y + _GAP), byte(PAPER))
    draw = pen(sheet)
    draw.text((16, 14), title, font=font(24), fill=INK)
    draw.text((16, 44), _fitting(draw, note, 13, sheet.width - 32)[1], font=font(13), fill=FAINT)
    for (row, column), tile, (name, what) in zip(free, tiles, labels, strict=True):
        x, y = _GAP + column * step_x, _TOP + row * step_y
        sheet.paste(tile, (x, y))
        for text, size, below, color in ((name, 14, 2, INK), (what, 12, 20, FAINT)):
            size, text = _fitting(draw, text, size, _WIDTH)
            draw.text((x + _WIDTH // 2, y + _HEIGHT + below), text, font=font(size), fill=color, anchor="ma")
    if chart is not None:
        sheet.paste(chart, (_GAP + (_COLUMNS - _CHART_COLUMNS) * step_x, _TOP))
    out = BytesIO()
    sheet.save(out, "PNG")
    return out.getvalue()


def _fitting(draw: ImageDraw, text: str, size: int, width: float) -> tuple[int, str]:
    """A text with the size at which it is not wider than that: smaller letters first, then fewer."""
    smallest = size - 4
    while size > smallest and draw.textlength(text, font=font(size)) > width:
        size -= 1
    while len(text) > 2 and draw.textlength(text, font=font(size)) > width:
        text = text[:-2] + "…"
    return size, text


def coverage_face(chart: FaceChart, width: int) -> Image:
    """A drawn face whose regions say by colour, hatching and word whether they are covered."""
    from PIL import Image

    image = Image.new("RGB", (width, width + _CHART_WORDS), byte(PAPER))
    draw = pen(image)
    verdicts = {region: verdict_of(row) for region, row in coverage(chart).items()}

    def at(x: float, y: float) -> tuple[float, float]:
        return (0.5 + 0.9 * x) * width, (0.92 - 1.05 * y) * width

    draw.ellipse([*at(-0.42, 0.86), *at(0.42, -0.06)], outline=INK, width=2)

    def region(name: str, boxes: Sequence[tuple[float, float, float, float]]) -> None:
        color = byte(_COLORS[verdicts[name]])
        for x0, y0, x1, y1 in boxes:
            box = [*at(x0, y1), *at(x1, y0)]
            if verdicts[name] == "full":
                draw.rounded_rectangle(box, 8, fill=color)
            else:
                draw.rounded_rectangle(box, 8, outline=color, width=2)
                if verdicts[name] == "in part":
                    for x in np.arange(box[0] + 6, box[2], 7):
                        draw.line([x, box[1] + 2, x, box[3] - 2], fill=color)

    for sign in (1.0, -1.0):
        a, b = sorted((sign * 0.05, sign * 0.24))
        region("brows", [(a, 0.55, b, 0.60)])
        region("lids", [(sign * EYE_X - EYE_HALF, EYE_Y + 0.02, sign * EYE_X + EYE_HALF, EYE_Y + 0.065)])
        region("gaze", [(sign * EYE_X - 0.035, EYE_Y - 0.05, sign * EYE_X + 0.035, EYE_Y + 0.01)])
        a, b = sorted((sign * 0.13, sign * 0.26))
        region("cheeks", [(a, 0.22, b, 0.33)])
    region("nose", [(-0.05, 0.27, 0.05, 0.36)])
    region("lips", [(-MOUTH_HALF, MOUTH_Y - 0.005, MOUTH_HALF, MOUTH_Y + 0.045)])
    region("tongue", [(-0.05, MOUTH_Y - 0.055, 0.05, MOUTH_Y - 0.02)])
    region("jaw", [(-0.12, 0.01, 0.12, 0.06)])
    for number, (name, verdict) in enumerate(verdicts.items()):
        x, y = 10 + (number % 2) * width // 2, width - 4 + (number // 2) * 26
        draw.rounded_rectangle([x, y + 2, x + 14, y + 16], 3, fill=byte(_COLORS[verdict]))
        draw.text((x + 22, y), f"{name}: {verdict}", font=font(14), fill=INK)
    return image


def reel_sheet(head: Head, clip: Clip, rows: Sequence[tuple[str, int]], frame: FaceFrame, title: str) -> bytes:
    """Frames of a clip from the front, each with its name."""
    tiles = face_tiles(head, clip, [number for _, number in rows], frame)
    return _sheet(tiles, [(name, "") for name, _ in rows], title)
