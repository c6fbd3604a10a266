"""The morphs of a platform, made of what a head has: renamed, combined from its own morphs or bones, or dropped."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from fractions import Fraction

import numpy as np

from fairswap.errors import Finding
from fairswap.face.beside import shapes_beside, with_shapes_beside
from fairswap.face.chart import FaceChart
from fairswap.face.head import Head
from fairswap.face.transfer import FaceSwap, perform_units, still_clip
from fairswap.face.units import vector
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.mesh import deformed_vertices, shaped_at_rest, weights_over_time
from fairswap.model.poses import MorphTrack

_LEAST_M = 1e-5


@dataclass(frozen=True)
class MorphMade:
    """One morph of the platform: how much of it is missing (0 to 1), and the shapes it was made of."""

    name: str
    lost: float
    made_of: tuple[str, ...]


@dataclass(frozen=True, eq=False)
class Charted:
    """A figure with the morphs of a chart: ``head`` is its own face as it was, ``target`` the one it has now."""

    figure: Figure
    morphs: tuple[MorphMade, ...]
    head: Head
    target: Head

    def clip(self, clip: Clip) -> Clip:
        """A clip of the figure, driving the morphs of the chart."""
        bare = clip.with_poses(replace(clip.poses, morph_tracks=()), kept=clip.kept)
        if not self.target.chart.shapes or not self.head.moves(clip):
            return bare
        still = still_clip(self.figure, clip.name, clip.rate, clip.frames)
        moved = FaceSwap(self.head, self.target).transfer(clip, still).clip
        return replace(bare, poses=replace(bare.poses, morph_tracks=moved.poses.morph_tracks))

    def told(self, clip: Clip) -> list[Finding]:
        """What is worth telling of a clip of the figure: shapes beside its face that move, and that it has no more."""
        return with_shapes_beside(self.head, self.target, clip, clip)[1]


def charted_morphs(head: Head, chart: FaceChart) -> Charted:
    """The figure with exactly the morphs of ``chart``, as far as its own face can show them.

    The meshes must be bound at rest. Face bones are not taken away here: only what they show becomes a morph.
    """
    figure, names = head.figure, [name for name, shape in chart.shapes.items() if not shape.corrects]
    units = np.stack([vector(chart.units_of(name)) for name in names], axis=1)
    still = still_clip(figure, "morphs", Fraction(1), len(names) + 1)
    made = perform_units(head, np.concatenate([np.zeros((len(units), 1)), units], axis=1), still)
    shown = head.chart.matrix @ head.activations(made.clip)[:, 1:]
    norm = np.linalg.norm(units, axis=0)
    lost = np.linalg.norm(units - shown, axis=0) / np.where(norm > 0.0, norm, 1.0)
    shares = head.activations(made.clip)
    rows = [
        MorphMade(name, float(lost[i]), tuple(head.chart.columns[j][0] for j in np.argsort(-shares[:, i + 1])[:4] if
        shares[j, i + 1] > 0.05)) for i, name in enumerate(names)
    ]  # fmt: skip
    kept = {row.name: i + 1 for i, row in enumerate(rows) if row.lost < 0.9}
    new = with_frames_as_morphs(head, made.clip, kept)
    there = {name for mesh in new.meshes for name in mesh.morph_names}  # bones that carry no skin show nothing
    rows = [row if row.name in there else replace(row, lost=1.0) for row in rows]
    target = Head(new, None, FaceChart(chart.name, {name: chart.shapes[name] for name in kept if name in there}))
    return _resting_as(figure, Charted(new, tuple(rows), head, target))


def with_frames_as_morphs(head: Head, clip: Clip, frames: Mapping[str, int]) -> Figure:
    """The figure of a head with morphs, by name, of what some frames of a clip show that its first does not; no others.

    What moves nothing of a mesh is no morph of it. Shapes of the body stay as they rest.
    """
    world, body, meshes = clip.world(), shapes_beside(head), []
    for number, mesh in enumerate(head.figure.meshes):
        rest = deformed_vertices(mesh, world, 0, clip.poses, number)
        offsets = ((name, deformed_vertices(mesh, world, i, clip.poses, number) - rest) for name, i in frames.items())
        moving = {name: deltas for name, deltas in offsets if np.abs(deltas).max(initial=0.0) > _LEAST_M}
        meshes.append(
            replace(
                shaped_at_rest(mesh, body), morph_names=tuple(moving), morph_normals=None, origin=None,
                morph_deltas=np.array(list(moving.values())) if moving else None,
                morph_weights=np.zeros(len(moving)) if moving else None,
            )
        )  # fmt: skip
    return replace(head.figure, meshes=tuple(meshes))


def _resting_as(figure: Figure, made: Charted) -> Charted:
    """The same, its face resting as that of the figure did: a smile that it was set to, say."""
    tracks = tuple(
        MorphTrack(number, mesh.resting_weights[:, None])
        for number, mesh in enumerate(figure.meshes)
        if mesh.resting_weights.any()
    )
    if not tracks:
        return made
    still = still_clip(figure, "rest", Fraction(1), 1)
    shown = made.clip(replace(still, poses=replace(still.poses, morph_tracks=tracks))).poses
    meshes = tuple(
        replace(mesh, morph_weights=weights_over_time(mesh, number, shown)[:, 0]) if mesh.morph_names else mesh
        for number, mesh in enumerate(made.figure.meshes)
    )
    figure = replace(made.figure, meshes=meshes)
    return replace(made, figure=figure, target=replace(made.target, figure=figure))


def without_morphs(figure: Figure) -> Figure:
    """The figure with no morphs at all, looking as it did at rest."""
    meshes = tuple(
        replace(
            shaped_at_rest(mesh), morph_names=(), morph_deltas=None, morph_weights=None, morph_normals=None,
            origin=None,
        )
        if mesh.morph_names else mesh for mesh in figure.meshes
    )  # fmt: skip
    return replace(figure, meshes=meshes)


def same_morphs(figure: Figure, chart: FaceChart) -> bool:
    """Whether the figure's morphs are already those of the chart, or it has none that it could have."""
    names = {name for mesh in figure.meshes for name in mesh.morph_names}
    return names <= set(chart.shapes)
