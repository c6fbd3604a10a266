"""The sheet: source above, result below, at the same instants, from the front and the side."""

from __future__ import annotations

from collections.abc import Sequence
from io import BytesIO
from typing import TYPE_CHECKING

import numpy as np

from fairswap.errors import UsageError
from fairswap.measure.comparison import Comparison
from fairswap.measure.verdict import word_for, worst_of
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.rotation import conjugate, multiply, quaternion_from_axis_angle, rotate
from fairswap.model.signals import frames_across, runs_of
from fairswap.model.space import UP
from fairswap.picture.framing import Frame, Staged, panels_of
from fairswap.picture.paper import BAND, FAINT, INK, PAPER, byte, font, pen
from fairswap.picture.stage import LEFT, RIGHT

if TYPE_CHECKING:
    from PIL.ImageDraw import ImageDraw

_WIDTH, _LABEL, _HEAD, _NAMES, _GAP, _FOOT, _STRIP = 1800, 150, 92, 24, 12, 58, 78
# How high a row of panels is at most; and at least, for what is written beside it.
_ROW, _LEAST = 384, 190
_CANDIDATES = 61
# More instants than this are too narrow to be seen.
MOST_INSTANTS = 8


def comparison_sheet(
    comparison: Comparison, title: str = "", instants: int = 4, times_s: Sequence[float] = (),
    shots: Sequence[str] = ("full",),
) -> bytes:  # fmt: skip
    """A PNG of source and result at the same instants, 1800 pixels wide: where they differ most, and tell most.

    ``times_s`` are instants to show instead; ``shots`` what of the figures: ``full``, ``face``, ``hands``, ``feet``,
    each a pair of rows.

    Raises
    ------
    UsageError
        If an instant is not in the clip, there are more than eight, or a shot is none.
    """
    from PIL import Image

    times = chosen_times(times_s, comparison.source.clip) if len(times_s) else telling_times(comparison, instants)
    rows = [
        Staged.of(motion.rigged.figure, motion.clip, times, motion.rigged)
        for motion in (comparison.source, comparison.result)
    ]
    cells = [[(time, panel) for time in range(len(times)) for panel in panels_of(shot)] for shot in shots]
    frames = [Frame.beside(rows, [[cell] for cell in row], _WIDTH - _LABEL, _ROW, _LEAST) for row in cells]
    height = _HEAD + sum(_NAMES + 2 * (frame.height + _GAP) for frame in frames) + _FOOT + _STRIP
    sheet = Image.new("RGB", (_WIDTH, height), byte(PAPER))
    draw = pen(sheet)
    top = _HEAD
    for shot, columns, frame in zip(shots, cells, frames, strict=True):
        # Every other instant on a darker ground.
        papers = [PAPER if time % 2 else BAND for time, _ in columns]
        shown = [(staged, *cell, paper) for staged in rows for cell, paper in zip(columns, papers, strict=True)]
        pictures = iter(frame.pictures(shown))
        for which, staged in enumerate(rows):
            y, x = top + _NAMES + which * (frame.height + _GAP), _LABEL
            for _, panel in columns:
                picture = next(pictures)
                sheet.paste(picture, (x, y))
                if which == 0:
                    middle = (x + 0.5 * picture.width, top + 4)
                    draw.text(middle, panel.name, font=font(14), fill=FAINT, anchor="ma")
                x += picture.width
            _label(draw, staged, "RESULT" if which else "SOURCE", y, y + frame.floor_px if shot == "full" else None)
        top += _NAMES + 2 * (frame.height + _GAP)
    _heading(draw, comparison, title)
    _columns(draw, comparison, times, frames[-1], shots[-1], height - _STRIP)
    _contact_strip(draw, comparison, times, height - _STRIP + 4)
    out = BytesIO()
    sheet.save(out, "PNG", optimize=False)
    return out.getvalue()


def chosen_times(times_s: Sequence[float], clip: Clip) -> Floats:
    """Instants as they were asked for, in order.

    Raises
    ------
    UsageError
        If one is not in the clip, or there are too many.
    """
    if len(times_s) > MOST_INSTANTS:
        raise UsageError(f"{len(times_s)} instants; at most {MOST_INSTANTS} are seen well", remedy="Give fewer")
    for time in times_s:
        if not 0.0 <= time <= clip.duration_s + 1e-6:
            problem = f"{time:g} s is not in {clip.name!r}"
            raise UsageError(problem, remedy=f"It lasts {clip.duration_s:.2f} s")
    return np.array(sorted(times_s))


def telling_times(comparison: Comparison, count: int) -> Floats:
    """Times to look at: where the two differ most, and then again and again the pose least like those already taken."""
    source = comparison.source
    frames = frames_across(source.clip.frames, _CANDIDATES)
    bones = sorted(Staged.of(source.rigged.figure, source.clip, np.zeros(1), source.rigged).bones)
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


def _label(draw: ImageDraw, staged: Staged, word: str, top: int, floor: float | None) -> None:
    figure = staged.figure
    draw.text((24, top + 12), word, font=font(15), fill=FAINT)
    draw.text((24, top + 32), _shortened(draw, figure.name, _LABEL - 34), font=font(21), fill=INK)
    draw.text((24, top + 62), f"{figure.height_m:.2f} m", font=font(16), fill=FAINT)
    draw.text((24, top + 84), f"{figure.bone_count} bones", font=font(16), fill=FAINT)
    for number, (name, color) in enumerate((("left", LEFT), ("right", RIGHT))):
        y = top + 120 + 24 * number
        draw.line([24, y + 10, 44, y + 10], fill=byte(color), width=4)
        draw.text((52, y), name, font=font(16), fill=FAINT)
    if floor is not None:
        draw.text((24, floor - 9), "floor", font=font(15), fill=FAINT)


def _columns(draw: ImageDraw, comparison: Comparison, times: Floats, drawn: Frame, shot: str, height: int) -> None:
    """Under each instant its time, and by how much limbs differ."""
    left = _LABEL
    for number, time in enumerate(times.tolist()):
        wide = sum(drawn.width_of(number, panel) for panel in panels_of(shot))
        frame = int(np.argmin(np.abs(comparison.times_s - time)))
        text = f"{time:.2f} s   ·   {comparison.per_frame_degrees[frame]:.2f}°"
        size = 19 if len(times) <= 5 else 15
        draw.text((left + 0.5 * wide, height - 46), text, font=font(size), fill=INK, anchor="ma")
        left += wide


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
