"""Fewer triangles and vertices, and what that costs."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np

from fairswap.figures.collapsing import Collapsing
from fairswap.figures.welding import welded
from fairswap.measure.nearness import Surface
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.mesh import deformed_vertices


@dataclass(frozen=True, eq=False)
class Reduced:
    """A figure with fewer triangles, and how far its skin is from where it was, in millimetres.

    ``off_mm`` is that of each vertex of each mesh of the ``original``, the mean over the instants looked at.
    """

    figure: Figure
    original: Figure
    mean_mm: float
    worst_mm: float
    off_mm: tuple[Floats, ...] = field(repr=False)

    @property
    def before(self) -> int:
        """How many triangles it had."""
        return sum(len(mesh.triangles) for mesh in self.original.meshes)

    @property
    def triangles(self) -> int:
        """How many triangles it has now."""
        return sum(len(mesh.triangles) for mesh in self.figure.meshes)


def reduced(figure: Figure, triangles: int, clip: Clip | None = None, vertices: int | None = None) -> Reduced:
    """A figure with so many triangles in all its meshes together, and so many vertices at most.

    ``clip`` is what the loss is measured in.

    It has more where seams, edges and materials need them: as few as can be without changing these.
    """
    before = sum(len(mesh.triangles) for mesh in figure.meshes)
    now = sum(len(mesh.vertices) for mesh in figure.meshes)
    most = now if vertices is None else vertices
    once = figure if triangles >= before and now <= most else welded(figure)
    if triangles >= before and sum(len(mesh.vertices) for mesh in once.meshes) <= most:
        return Reduced(once, figure, 0.0, 0.0, tuple(np.zeros(len(mesh.vertices)) for mesh in figure.meshes))
    work = Collapsing(once)
    work.collapse(max(triangles, 4), max(most, 4))
    new = replace(figure, meshes=tuple(work.mesh(number) for number in range(len(figure.meshes))), source=None)
    return Reduced(new, figure, *_loss_mm(figure, new, clip))


def _loss_mm(old: Figure, new: Figure, clip: Clip | None) -> tuple[float, float, tuple[Floats, ...]]:
    """How far the vertices that were are from the skin that is: mean and worst over some instants of a clip, and the
    mean of each vertex."""
    matches = []
    for mesh, other in zip(old.meshes, new.meshes, strict=True):
        surface = Surface(other.vertices, other.triangles)
        matches.append((surface, surface.nearest(mesh.vertices)))
    frames = 1 if clip is None else min(clip.frames, 24)
    poses = None if clip is None else clip.at(np.linspace(0.0, clip.duration_s, frames))
    world = old.skeleton.rest if poses is None else poses.world()
    sums, worst = [np.zeros(len(mesh.vertices)) for mesh in old.meshes], 0.0
    for frame in range(frames):
        for number, (mesh, other) in enumerate(zip(old.meshes, new.meshes, strict=True)):
            surface, found = matches[number]
            there = surface.taken(deformed_vertices(other, world, frame, poses, number), found)
            off = 1000.0 * np.linalg.norm(there - deformed_vertices(mesh, world, frame, poses, number), axis=1)
            sums[number] += off
            worst = max(worst, float(off.max(initial=0.0)))
    means = tuple(total / frames for total in sums)
    return float(np.concatenate([np.zeros(0), *means]).sum() / max(sum(map(len, means)), 1)), worst, means
