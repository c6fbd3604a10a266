"""The sheet: source above, result below, at the same instants, from the front and the side."""

from __future__ import annotations

from io import BytesIO
from typing import TYPE_CHECKING

import numpy as np

from fairswap.bones.roles import part_of
from fairswap.measure.comparison import Comparison, Motion
from fairswap.measure.verdict import word_for, worst_of
from fairswap.model.arrays import Floats
from fairswap.model.figure import Figure
from fairswap.model.rotation import conjugate, multiply, quaternion_from_axis_angle, rotate
from fairswap.model.signals import runs_of
from fairswap.model.skeleton import WorldTransforms
from fairswap.model.space import UP
from fairswap.picture.paper import BAND, FAINT, INK, PAPER, byte, font, pen
from fairswap.picture.raster import Canvas
from fairswap.picture.stage import LEFT, MIDDLE, RIGHT, View, bone_lines, draw_figure
from fairswap.pose.rigged import RiggedFigure

if TYPE_CHECKING:
    from PIL.ImageDraw import ImageDraw

_WIDTH, _LABEL, _HEAD, _ROW, _GAP, _FOOT, _STRIP = 1800, 150, 92, 400, 26, 58, 78
_FIGURE = 318  # pixels from sole to crown, whoever it is: postures are compared, not sizes
_CANDIDATES = 61
_FINE = 2  # drawn this much larger, then made small: smooth edges


def drawn_bones(rigged: RiggedFigure) -> frozenset[int]:
    """The bones of trunk, limbs and fingers, with their end markers: neither face nor cloth nor helpers."""
    body = {bone for role, bone in rigged.roles.bones.items() if part_of(role) != "face"}
    skeleton = rigged.skeleton
    return frozenset(body | {end for end in skeleton.ends if int(skeleton.parents[end]) in body})


def comparison_sheet(comparison: Comparison, title: str = "", instants: int = 4) -> bytes:
    """A PNG of source and result at the same instants, 1800 pixels wide: where they differ most, and tell most."""
    from PIL import Image

    times = telling_times(comparison, instants)
    height = _HEAD + 2 * _ROW + _GAP + _FOOT + _STRIP
    sheet = Image.new("RGB", (_WIDTH, height), byte(PAPER))
    draw = pen(sheet)
    for number, motion in enumerate((comparison.source, comparison.result)):
        top = _HEAD + number * (_ROW + _GAP)
        sheet.paste(_row(motion, times), (_LABEL, top))
        _label(draw, motion, "SOURCE" if number == 0 else "RESULT", top)
    _heading(draw, comparison, title)
    _columns(draw, comparison, times, height - _STRIP)
    _contact_strip(draw, comparison, times, height - _STRIP + 4)
    out = BytesIO()
    sheet.save(out, "PNG", optimize=False)
    return out.getvalue()


def telling_times(comparison: Comparison, count: int) -> Floats:
    """Times to look at: where the two differ most, and then again and again the pose least like those already taken."""
    source = comparison.source
    frames = np.unique(np.linspace(0, source.clip.frames - 1, _CANDIDATES).round().astype(np.intp))
    bones = sorted(drawn_bones(source.rigged))
    world = source.clip.poses.at(frames).world()
    # Poses as seen by who moves: whichever way it faces, wherever it stands.
    hips = source.rigged.roles.bones["hips"]
    turned = multiply(world.rotations[:, hips], conjugate(source.rigged.skeleton.rest.rotations[0, hips]))
    ahead = rotate(turned, np.array([0.0, 0.0, 1.0]))
    heading = quaternion_from_axis_angle(UP, -np.arctan2(ahead[:, 0], ahead[:, 2]))
    places = rotate(heading[:, None], world.positions[:, bones] - world.positions[:, hips, None])
    places = places.reshape(len(frames), -1)
    worst = comparison.times_s[np.argmax(comparison.per_frame_degrees)] * float(source.clip.rate)
    chosen = [int(np.argmin(np.abs(frames - worst)))]
    apart = np.linalg.norm(places - places[chosen[0]], axis=1)
    while len(chosen) < min(count, len(frames)):
        chosen.append(int(np.argmax(apart)))
        apart = np.minimum(apart, np.linalg.norm(places - places[chosen[-1]], axis=1))
    return np.sort(frames[chosen]) / float(source.clip.rate)


def _row(motion: Motion, times: Floats):  # type: ignore[no-untyped-def]
    """One figure at all instants, front and side, with the floor line and the bones over the skin."""
    from PIL import Image

    width, height = (_WIDTH - _LABEL) * _FINE, _ROW * _FINE
    canvas = Canvas.blank(width, height, PAPER)
    cell = width / (2 * len(times))
    for number in range(0, len(times), 2):  # every other instant on a darker ground
        canvas.color[:, int(2 * number * cell) : int(2 * (number + 1) * cell)] = BAND
    figure, bones = motion.rigged.figure, drawn_bones(motion.rigged)
    scale = _FINE * _FIGURE / figure.height_m
    floor = height - 30 * _FINE
    poses = motion.clip.at(times)
    world = poses.world()
    # Follow the figure over the ground, not up and down: the hips, or whatever carries them.
    carrier = next(iter(poses.translated_bones.tolist()), 0)
    views = []
    for number in range(len(times)):
        centre = world.position_tracks[carrier, :, number].copy()
        centre[1] = figure.floor_m
        for side, name in enumerate(("front", "side")):
            view = View(name, centre, ((2 * number + side + 0.5) * cell, floor), scale)
            draw_figure(canvas, view, figure, world, number, poses, bones)
            views.append((view, number))
    image = Image.fromarray((np.clip(canvas.color, 0, 1) * 255).astype(np.uint8))
    draw = pen(image)
    draw.line([(0, floor), (width, floor)], fill=FAINT, width=_FINE)
    if figure.meshes:
        for view, number in views:
            _bones(draw, view, figure, bones, world, number)
    return image.resize((width // _FINE, height // _FINE), Image.Resampling.LANCZOS)


def _bones(
    draw: ImageDraw, view: View, figure: Figure, bones: frozenset[int], world: WorldTransforms, frame: int
) -> None:
    for start, end, side in bone_lines(figure, world, frame, bones):
        (a, b), _ = view.pixels(np.stack([start, end]))
        color = {"left": LEFT, "right": RIGHT, "": MIDDLE}[side]
        if np.linalg.norm(b - a) < 7 * _FINE:
            draw.line([*a, *b], fill=byte(color), width=_FINE)
            continue
        draw.line([*a, *b], fill=(255, 255, 255), width=3 * _FINE)
        draw.line([*a, *b], fill=byte(color), width=_FINE + 1)
        for point in (a, b):
            r = 2.1 * _FINE
            draw.ellipse([*(point - r), *(point + r)], fill=byte(color), outline=(255, 255, 255))


def _heading(draw: ImageDraw, comparison: Comparison, title: str) -> None:
    draw.text((24, 14), comparison.clip, font=font(30), fill=INK)
    title = title or f"{comparison.source.rigged.figure.name}  onto  {comparison.result.rigged.figure.name}"
    draw.text((28 + draw.textlength(comparison.clip, font(30)) + 14, 24), title, font=font(19), fill=FAINT)
    before, after = comparison.source_footing, comparison.result_footing
    facts = (
        f"{word_for(comparison.likeness)}: {comparison.likeness:.0f} of 100 ({worst_of(comparison.parts).part})   ·   "
        f"limbs differ {comparison.limbs_mean_degrees:.2f}°   ·   "
        f"hips' path {comparison.hips_mean_percent:.2f} % of leg   ·   "
        f"standing foot slides {after.skate_cm_s:.1f} cm/s (source {before.skate_cm_s:.1f})   ·   "
        f"deepest sole {after.sole_below_cm:.1f} cm below the floor (source {before.sole_below_cm:.1f})"
    )
    draw.text((26, 56), facts, font=font(18), fill=INK)


def _label(draw: ImageDraw, motion: Motion, word: str, top: int) -> None:
    draw.text((24, top + 24), word, font=font(15), fill=FAINT)
    draw.text((24, top + 44), _shortened(draw, motion.rigged.figure.name, _LABEL - 34), font=font(21), fill=INK)
    draw.text((24, top + 74), f"{motion.rigged.figure.height_m:.2f} m", font=font(16), fill=FAINT)
    draw.text((24, top + 96), f"{len(motion.rigged.figure.skeleton)} bones", font=font(16), fill=FAINT)
    for number, (name, color) in enumerate((("left", LEFT), ("right", RIGHT))):
        y = top + 132 + 24 * number
        draw.line([24, y + 10, 44, y + 10], fill=byte(color), width=4)
        draw.text((52, y), name, font=font(16), fill=FAINT)
    draw.text((24, top + _ROW - 40), "floor", font=font(15), fill=FAINT)


def _columns(draw: ImageDraw, comparison: Comparison, times: Floats, height: int) -> None:
    cell = (_WIDTH - _LABEL) / (2 * len(times))
    for number, time in enumerate(times.tolist()):
        middle = _LABEL + (2 * number + 1) * cell
        frame = int(np.argmin(np.abs(comparison.times_s - time)))
        text = f"{time:.2f} s   ·   {comparison.per_frame_degrees[frame]:.2f}°"
        draw.text((middle, height - 46), text, font=font(19), fill=INK, anchor="ma")
        for side, name in enumerate(("front", "side")):
            x = _LABEL + (2 * number + side + 0.5) * cell
            draw.text((x, _HEAD + 4), name, font=font(14), fill=FAINT, anchor="ma")


def _contact_strip(draw: ImageDraw, comparison: Comparison, times: Floats, top: int) -> None:
    """When each foot stands in the whole clip: source above result, left above right; what is shown is marked."""
    left, right = _LABEL + 10, _WIDTH - 24
    per_second = (right - left) / max(float(comparison.times_s[-1]), 1e-6)
    rows = [(which, foot) for which in (0, 1) for foot in (0, 1)]
    for number, (which, foot) in enumerate(rows):
        y = top + 14 * number + (6 if which else 0)
        draw.line([left, y + 5, right, y + 5], fill=byte(BAND), width=9)
        for start, stop in runs_of(comparison.standing[which, foot]):
            x = [left + per_second * float(comparison.times_s[frame]) for frame in (start, stop - 1)]
            draw.line([x[0], y + 5, max(x[1], x[0] + 2), y + 5], fill=byte((LEFT, RIGHT)[foot]), width=9)
    draw.text((24, top - 1), "feet stand", font=font(15), fill=FAINT)
    for which, word in ((0, "source"), (1, "result")):
        draw.text((left - 8, top + 4 + 34 * which), word, font=font(13), fill=FAINT, anchor="ra")
    for time in times.tolist():
        x = left + per_second * time
        draw.line([x, top - 3, x, top + 62], fill=INK, width=1)


def _shortened(draw: ImageDraw, text: str, width: float) -> str:
    while draw.textlength(text, font(21)) > width and len(text) > 4:
        text = text[:-2].rstrip("…") + "…"
    return text
