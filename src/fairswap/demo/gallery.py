"""The gallery: every figure on every stage, in three of its acts, from the files that were written."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from io import BytesIO
from pathlib import Path

import numpy as np

import fairswap
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.poses import PoseBuilder, Poses
from fairswap.picture.paper import FAINT, INK, PAPER, byte, font
from fairswap.picture.raster import Canvas
from fairswap.picture.stage import Stance, View, draw_figure

_WIDTH, _HEIGHT, _FINE = 400, 330, 2
# Which act, at which share of it, from where.
_MOMENTS = (("Clap", 0.35, "front"), ("Leap", 0.5, "side"), ("Walk", 0.3, "front"))


@dataclass(frozen=True, eq=False)
class Cell:
    """A figure on a stage in its acts: what is drawn of it ``(height, width, 3)``, and what is written below."""

    pixels: np.ndarray
    said: str


def stage_cell(place: Path, name: str) -> Cell:
    """A figure in three of its acts, from the files in ``place``: the figure and its motions apart."""
    from PIL import Image

    figure = fairswap.load(place / f"{name}.glb").figure
    canvas = Canvas.blank(_FINE * _WIDTH, _FINE * _HEIGHT, PAPER)
    for number, (act, fraction, view) in enumerate(_MOMENTS):
        clip = fairswap.load(place / f"{act}.glb").clips[0]
        _draw(canvas, figure, _on(figure, clip, fraction), view, 0.18 + 0.32 * number)
    small = canvas.image().resize((_WIDTH, _HEIGHT), Image.Resampling.LANCZOS)
    morphs = len({morph for mesh in figure.meshes for morph in mesh.morph_names})
    return Cell(np.asarray(small), f"{name}: {len(figure.skeleton)} bones, {morphs} morphs")


def stages_gallery(cells: Mapping[str, Sequence[Cell]]) -> bytes:
    """A PNG of all figures on all stages: the ``cells`` of each stage, one below the other."""
    from PIL import Image, ImageDraw

    rows = max(map(len, cells.values()))
    sheet = Image.new("RGB", (len(cells) * _WIDTH + 20, rows * _HEIGHT + 60), byte(PAPER))
    draw = ImageDraw.Draw(sheet)
    for column, (stage, drawn) in enumerate(cells.items()):
        left = 20 + column * _WIDTH
        draw.text((left + _WIDTH // 2, 14), stage, font=font(24), fill=INK, anchor="ma")
        for row, cell in enumerate(drawn):
            top = 50 + row * _HEIGHT
            sheet.paste(Image.fromarray(cell.pixels), (left, top))
            draw.text((left + _WIDTH // 2, top + _HEIGHT - 22), cell.said, font=font(15), fill=FAINT, anchor="ma")
    out = BytesIO()
    sheet.save(out, "PNG")
    return out.getvalue()


def _on(figure: Figure, clip: Clip, fraction: float) -> Poses:
    """One moment of a motion on the figure it belongs to, which came in another file."""
    order = [clip.skeleton.names.index(name) for name in figure.skeleton.names]
    poses = clip.poses.at([fraction * (clip.frames - 1)])
    own = poses.translation_by_bone()
    moved = {bone: own[other] for bone, other in enumerate(order) if other in own}
    return PoseBuilder(figure.skeleton, poses.rotation_tracks[order], moved).poses()


def _draw(canvas: Canvas, figure: Figure, poses: Poses, view: str, across: float) -> None:
    world = poses.world()
    centre = world.positions[0].mean(axis=0) * [1.0, 0.0, 1.0]
    at = (_FINE * _WIDTH * across, _FINE * _HEIGHT - 60.0)
    draw_figure(canvas, View(view, centre, at, _FINE * _HEIGHT * 0.44), Stance(figure, world, 0, poses), frozenset())
