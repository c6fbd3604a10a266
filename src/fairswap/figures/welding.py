"""Vertices that are the same in all that is said of them, made one: some exporters give each triangle its own three."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from fairswap.figures.trimming import of_vertices
from fairswap.model.arrays import Floats, Integers
from fairswap.model.figure import Figure
from fairswap.model.mesh import Mesh


def welded(figure: Figure) -> Figure:
    """The figure with vertices that are the same made one, which nothing shows; itself if there are none."""
    meshes = tuple(_welded(mesh) for mesh in figure.meshes)
    same = all(new is old for new, old in zip(meshes, figure.meshes, strict=True))
    return figure if same else replace(figure, meshes=meshes, source=None)


def _welded(mesh: Mesh) -> Mesh:
    alike = np.zeros(len(mesh.vertices), dtype=np.intp)
    for values in _said_of_vertices(mesh):
        keys = np.c_[alike, values + 0.0]  # no two zeros
        rows = np.ascontiguousarray(keys).view(np.dtype((np.void, keys.itemsize * keys.shape[1]))).ravel()
        alike = np.unique(rows, return_inverse=True)[1].astype(np.intp)
    _, first = np.unique(alike, return_index=True)
    if len(first) == len(alike):
        return mesh
    number = np.empty(len(first), dtype=np.intp)
    number[alike[np.sort(first)]] = np.arange(len(first))
    triangles: Integers = number[alike][mesh.triangles]
    return replace(mesh, triangles=triangles, origin=None, **of_vertices(mesh, np.sort(first)))


def _said_of_vertices(mesh: Mesh) -> Iterator[Floats]:
    """All that a mesh says of its vertices, one thing after the other ``(n, k)``."""
    yield mesh.vertices
    yield np.where(mesh.weights > 0.0, mesh.joints, 0).astype(np.float64)
    for values in (mesh.weights, mesh.normals, mesh.uvs, mesh.tangents, *mesh.more.values()):
        if values is not None:
            yield np.asarray(values, dtype=np.float64)
    for morphs in (mesh.morph_deltas, mesh.morph_normals):
        yield from () if morphs is None else (row for row in morphs if row.any())
