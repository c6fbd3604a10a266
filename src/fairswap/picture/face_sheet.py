"""Every shape of a head in one sheet, each with what it was taken for; and a drawn face with its regions covered."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from fractions import Fraction
from io import BytesIO

import numpy as np

from fairswap.face.anatomy import EYE_HALF, EYE_X, EYE_Y, MOUTH_HALF, MOUTH_Y
from fairswap.face.chart import FaceChart, coverage, verdict_of
from fairswap.face.geometry import FaceFrame
from fairswap.face.head import Head
from fairswap.face.transfer import still_clip
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.picture.paper import FAINT, INK, PAPER, byte, font, pen
from fairswap.picture.raster import Canvas
from fairswap.picture.stage import View, draw_figure

_TILE, _WORDS, _FINE = 150, 40, 2
_COLORS = {"full": (0.10, 0.45, 0.30), "in part": (0.85, 0.60, 0.10), "none": (0.75, 0.12, 0.12)}


def face_tiles(head: Head, clip: Clip, frames: Sequence[int], frame: FaceFrame) -> list[Floats]:
    """The face of a clip in some frames, from the front: pictures ``(pixels, pixels, 3)``."""
    side_px = _TILE * _FINE
    centre = frame.pivot + np.array([0.0, 0.32, 0.0]) * frame.size
    world = clip.world()
    out = []
    for number in frames:
        canvas = Canvas.blank(side_px, side_px, PAPER)
        view = View("front", centre, (0.5 * side_px, 0.5 * side_px), side_px / (1.0 * frame.size))
        draw_figure(canvas, view, head.figure, world, number, clip.poses, frozenset(head.bones.values()))
        out.append(canvas.color)
    return out


def shapes_sheet(head: Head, frame: FaceFrame, captions: Mapping[str, str], title: str) -> bytes:
    """A PNG with every shape of a chart at its full, its name, and what it was taken for."""
    from PIL import Image

    chart = head.chart
    directions = list(chart.columns)
    full = np.concatenate([np.zeros((len(directions), 1)), np.eye(len(directions))], axis=1)
    clip = head.performed(full, still_clip(head.figure, "shapes", Fraction(1), len(directions) + 1))
    correctives = [name for name, shape in chart.shapes.items() if shape.corrects]
    tiles = face_tiles(head, clip, range(len(directions) + 1), frame)
    labels = [("at rest", head.figure.name)]
    labels += [(name if sign > 0 else f"{name} (negative)", captions.get(name, "")) for name, sign in directions]
    columns = 8 if len(tiles) > 15 else 5
    rows = -(-len(tiles) // columns)
    top = 64
    sheet = Image.new("RGB", (columns * _TILE + 320, max(top + rows * (_TILE + _WORDS) + 20, 560)), byte(PAPER))
    draw = pen(sheet)
    draw.text((16, 14), title, font=font(24), fill=INK)
    note = f"{len(directions)} shapes" + (f"; correctives, not drawn: {', '.join(correctives)}" if correctives else "")
    draw.text((16, 43), note[:150], font=font(13), fill=FAINT)
    for number, (tile, (name, what)) in enumerate(zip(tiles, labels, strict=True)):
        x, y = (number % columns) * _TILE, top + (number // columns) * (_TILE + _WORDS)
        image = Image.fromarray((np.clip(tile, 0, 1) * 255).astype(np.uint8))
        sheet.paste(image.resize((_TILE, _TILE), Image.Resampling.LANCZOS), (x, y))
        draw.text((x + _TILE // 2, y + _TILE + 1), _short(name, 24), font=font(13), fill=INK, anchor="ma")
        draw.text((x + _TILE // 2, y + _TILE + 18), _short(what, 27), font=font(11), fill=FAINT, anchor="ma")
    sheet.paste(coverage_face(chart, 300), (columns * _TILE + 10, top))
    out = BytesIO()
    sheet.save(out, "PNG")
    return out.getvalue()


def coverage_face(chart: FaceChart, width: int):  # type: ignore[no-untyped-def]
    """A drawn face whose regions say by colour, hatching and word whether they are covered."""
    from PIL import Image

    image = Image.new("RGB", (width, width + 150), byte(PAPER))
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
    from PIL import Image

    tiles = face_tiles(head, _resting_body(head, clip), [number for _, number in rows], frame)
    columns = 8
    lines = -(-len(tiles) // columns)
    sheet = Image.new("RGB", (columns * _TILE, 56 + lines * (_TILE + 24)), byte(PAPER))
    draw = pen(sheet)
    draw.text((16, 14), title, font=font(24), fill=INK)
    for number, (tile, (name, _)) in enumerate(zip(tiles, rows, strict=True)):
        x, y = (number % columns) * _TILE, 56 + (number // columns) * (_TILE + 24)
        image = Image.fromarray((np.clip(tile, 0, 1) * 255).astype(np.uint8))
        sheet.paste(image.resize((_TILE, _TILE), Image.Resampling.LANCZOS), (x, y))
        draw.text((x + _TILE // 2, y + _TILE), _short(name, 24), font=font(12), fill=INK, anchor="ma")
    out = BytesIO()
    sheet.save(out, "PNG")
    return out.getvalue()


def _resting_body(head: Head, clip: Clip) -> Clip:
    """The clip with the body at rest, so that the face stays where it is looked at."""
    from fairswap.face.bones import face_alone

    alone = face_alone(clip.poses, set(head.bones.values()))
    return replace(clip, poses=replace(alone, morph_tracks=clip.poses.morph_tracks))


def _short(text: str, most: int) -> str:
    return text if len(text) <= most else text[: most - 1] + "…"
