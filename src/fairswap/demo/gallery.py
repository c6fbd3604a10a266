"""The gallery: every figure on every stage, in three of its acts, from the files that were written."""

from __future__ import annotations

from io import BytesIO
from pathlib import Path

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


def stages_gallery(folder: Path, stages: tuple[str, ...], names: tuple[str, ...]) -> bytes:
    """A PNG of all figures on all stages; ``folder`` holds ``stage/figure/`` with the figure and its motions apart."""
    from PIL import Image, ImageDraw

    sheet = Image.new("RGB", (len(stages) * _WIDTH + 20, len(names) * _HEIGHT + 60), byte(PAPER))
    draw = ImageDraw.Draw(sheet)
    for column, stage in enumerate(stages):
        left = 20 + column * _WIDTH
        draw.text((left + _WIDTH // 2, 14), stage, font=font(24), fill=INK, anchor="ma")
        for row, name in enumerate(names):
            place, top = folder / stage / name.lower(), 50 + row * _HEIGHT
            figure = fairswap.load(place / f"{name}.glb").figure
            canvas = Canvas.blank(_FINE * _WIDTH, _FINE * _HEIGHT, PAPER)
            for number, (act, fraction, view) in enumerate(_MOMENTS):
                clip = fairswap.load(place / f"{act}.glb").clips[0]
                _draw(canvas, figure, _on(figure, clip, fraction), view, 0.18 + 0.32 * number)
            image = canvas.image()
            sheet.paste(image.resize((_WIDTH, _HEIGHT), Image.Resampling.LANCZOS), (left, top))
            morphs = len({morph for mesh in figure.meshes for morph in mesh.morph_names})
            said = f"{name}: {len(figure.skeleton)} bones, {morphs} morphs"
            draw.text((left + _WIDTH // 2, top + _HEIGHT - 22), said, font=font(15), fill=FAINT, anchor="ma")
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
