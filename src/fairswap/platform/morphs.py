"""The morphs of a platform, made of what a head has: renamed, combined from its own morphs or bones, or dropped."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from fairswap.clip import Clip
from fairswap.face.carry import FaceSide, FaceSwap, perform_units, still_clip
from fairswap.face.chart import FaceChart
from fairswap.face.units import vector
from fairswap.figure import Figure, deformed_vertices

_LEAST_M = 1e-5


@dataclass(frozen=True)
class MorphMade:
    """One morph of the platform: how much of it is missing (0 to 1), and the shapes it was made of."""

    name: str
    lost: float
    made_of: tuple[str, ...]


def charted_morphs(
    side: FaceSide, chart: FaceChart, clips: Sequence[Clip]
) -> tuple[Figure, list[Clip], list[MorphMade]]:
    """The figure with exactly the morphs of ``chart``, as far as its own face can show them; its clips driving them.

    The meshes must be bound at rest. Face bones are not taken away here: only what they show becomes a morph.
    """
    figure, names = side.figure, [name for name, shape in chart.shapes.items() if not shape.corrects]
    units = np.stack([vector(chart.units_of(name)) for name in names], axis=1)
    still = still_clip(figure, "morphs", 1, len(names) + 1)
    made = perform_units(side, np.concatenate([np.zeros((len(units), 1)), units], axis=1), still)
    shown = side.chart.matrix @ side.shares(made.clip)[:, 1:]
    norm = np.linalg.norm(units, axis=0)
    lost = np.linalg.norm(units - shown, axis=0) / np.where(norm > 0.0, norm, 1.0)
    shares = side.shares(made.clip)
    rows = [
        MorphMade(name, float(lost[i]), tuple(side.chart.ways[j][0] for j in np.argsort(-shares[:, i + 1])[:4] if
        shares[j, i + 1] > 0.05)) for i, name in enumerate(names)
    ]  # fmt: skip
    kept = [i for i, row in enumerate(rows) if row.lost < 0.9]
    world = made.clip.world()
    meshes = []
    for number, mesh in enumerate(figure.meshes):
        rest = deformed_vertices(mesh, world, 0, made.clip.poses, number)
        deltas = np.array([deformed_vertices(mesh, world, i + 1, made.clip.poses, number) - rest for i in kept])
        moving = len(deltas) > 0 and np.abs(deltas).max() > _LEAST_M
        meshes.append(
            replace(
                mesh, morph_names=tuple(names[i] for i in kept) if moving else (), morph_normals=None,
                morph_deltas=deltas if moving else None, morph_weights=np.zeros(len(kept)) if moving else None,
                origin=None,
            )
        )  # fmt: skip
    new = replace(figure, meshes=tuple(meshes))
    target = FaceSide(new, None, FaceChart(chart.name, {names[i]: chart.shapes[names[i]] for i in kept}))
    out = []
    for clip in clips:
        bare = replace(clip, poses=replace(clip.poses, morph_tracks=()), origin=None)
        if not kept or not side.moves(clip):
            out.append(bare)
            continue
        carried = FaceSwap(side, target).carry(clip, still_clip(new, clip.name, clip.rate, clip.frames)).clip
        out.append(replace(bare, poses=replace(bare.poses, morph_tracks=carried.poses.morph_tracks)))
    return new, out, rows


def without_morphs(figure: Figure, clips: Sequence[Clip]) -> tuple[Figure, list[Clip]]:
    """The figure and its clips with no morphs at all."""
    meshes = tuple(
        replace(mesh, morph_names=(), morph_deltas=None, morph_weights=None, morph_normals=None, origin=None)
        if mesh.morph_names else mesh for mesh in figure.meshes
    )  # fmt: skip
    return replace(figure, meshes=meshes), [
        replace(c, poses=replace(c.poses, morph_tracks=()), origin=None) for c in clips
    ]


def same_morphs(figure: Figure, chart: FaceChart) -> bool:
    """Whether the figure's morphs are already those of the chart, or it has none that it could have."""
    names = {name for mesh in figure.meshes for name in mesh.morph_names}
    return names <= set(chart.shapes)
