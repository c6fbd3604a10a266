"""Clothes that a figure wears already, pushed out of its body."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from fairswap.figures.dressing.carrying import blended, carrier_between
from fairswap.figures.dressing.cutting import SPACING
from fairswap.figures.dressing.forms import in_t
from fairswap.figures.dressing.settling import Moment, settled
from fairswap.figures.dressing.worn import NEITHER, Wearing
from fairswap.figures.rigging.shape import Shape
from fairswap.measure.instants import Instants
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.mesh import Mesh, vertex_normals
from fairswap.model.rotation import quaternion_between, rotate
from fairswap.pose.rigged import RiggedFigure

# A small piece this near to cloth, in heights, goes with it.
_AT_CLOTH = 0.01


def own_clothes_settled(wearing: Wearing, body: RiggedFigure, clips: Sequence[tuple[Clip, Instants]]) -> Figure:
    """The figure with what it wears pushed out of its body: at rest, and at instants of clips. Nothing else changes."""
    figure = wearing.figure
    t_pose = in_t(body, figure.skeleton)
    apart = np.concatenate(figure.skin(t_pose))
    skin = wearing.body(apart)
    in_the_t = np.concatenate([blended(mesh, t_pose) for mesh in figure.meshes])
    rest = np.concatenate([blended(mesh, figure.skeleton.rest) for mesh in figure.meshes])
    posed = [(figure.rest_points, rest)]
    for clip, instants in clips:
        poses = clip.at(instants.times_s)
        world = poses.world()
        for frame in range(poses.frames):
            turns = [blended(mesh, world, frame) for mesh in figure.meshes]
            posed.append((np.concatenate(figure.skin(world, frame, poses)), np.concatenate(turns)))
    moved = apart.copy()
    for piece in range(len(wearing.names)):
        own, corners = np.unique(wearing.triangles(piece), return_inverse=True)
        moments = [Moment(skin.moved(points), carrier_between(in_the_t[own], turns[own])) for points, turns in posed]
        moved[own] = settled(apart[own], corners.reshape(-1, 3), skin, moments, SPACING * figure.height_m)
    _take_along(wearing, apart, moved)
    shifts = np.zeros_like(apart)
    rows = np.flatnonzero((moved != apart).any(axis=1))
    shifts[rows] = np.einsum("nij,nj->ni", np.linalg.inv(in_the_t[rows, :, :3]), (moved - apart)[rows])
    meshes = [
        _shifted(mesh, shifts[first : first + len(mesh.vertices)])
        for mesh, first in zip(figure.meshes, wearing.firsts, strict=False)
    ]
    return replace(figure, meshes=tuple(meshes))


def _take_along(wearing: Wearing, before: Floats, after: Floats) -> None:
    """Move small pieces that are neither cloth nor body, as buttons are, as a whole with the cloth they lie at."""
    from scipy.spatial import cKDTree

    corners = wearing.triangles(NEITHER)
    if not len(corners):
        return
    cloth = np.unique(wearing.triangles(*range(len(wearing.names))))
    small, shells = np.unique(corners), Shape.of(before, corners).shell
    away, near = cKDTree(before[cloth]).query(before[small])
    _, piece = np.unique(shells[small], return_inverse=True)
    count = np.bincount(piece)
    at_cloth = np.bincount(piece, away) / count < _AT_CLOTH * wearing.figure.height_m
    shifts = (after - before)[cloth[near]]
    mean = np.stack([np.bincount(piece, column) / count for column in shifts.T], axis=1)
    after[small] += np.where(at_cloth[:, None], mean, 0.0)[piece]


def _shifted(mesh: Mesh, shifts: Floats) -> Mesh:
    """A mesh with some vertices elsewhere, their normals and tangents turned as the surface is."""
    changed = np.flatnonzero(np.abs(shifts).max(axis=1) > 0.0)
    if not len(changed):
        return mesh
    vertices = mesh.vertices + shifts
    before, after = (vertex_normals(points, mesh.triangles)[changed] for points in (mesh.vertices, vertices))
    turn = quaternion_between(before, after)
    normals = mesh.normals.copy()
    normals[changed] = rotate(turn, normals[changed])
    tangents = None if mesh.tangents is None else mesh.tangents.copy()
    if tangents is not None:
        tangents[changed, :3] = rotate(turn, tangents[changed, :3])
    return replace(mesh, vertices=vertices, normals=normals, tangents=tangents)
