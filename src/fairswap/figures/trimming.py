"""Leave triangles of a mesh out, and the vertices that no other has."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import numpy as np

from fairswap.model.arrays import Integers
from fairswap.model.mesh import Mesh


def with_triangles(mesh: Mesh, kept: np.ndarray) -> Mesh:
    """A mesh with only those of its triangles that are ``kept`` ``(m,)``; all else said of it goes along.

    Materials without a triangle are left out.
    """
    materials = []
    first = 0
    for material in mesh.materials:
        count = int(kept[material.triangles].sum())
        if count:
            materials.append(replace(material, triangles=slice(first, first + count)))
        first += count
    triangles = mesh.triangles[rows_left(mesh, kept)]
    used = np.unique(triangles)
    number = np.zeros(len(mesh.vertices), dtype=np.intp)
    number[used] = np.arange(len(used))
    return replace(
        mesh, triangles=number[triangles], materials=tuple(materials), origin=None, **of_vertices(mesh, used)
    )  # fmt: skip


def rows_left(mesh: Mesh, kept: np.ndarray) -> Integers:
    """The triangles that :func:`with_triangles` leaves, in the order it leaves them: by their materials."""
    order = np.concatenate([np.arange(len(mesh.triangles))[row.triangles] for row in mesh.materials])
    return np.asarray(order[kept[order]])


def of_vertices(mesh: Mesh, rows: Integers) -> Mapping[str, Any]:
    """All that a mesh says of its vertices, for some of them, by the names of its fields."""
    out: dict[str, Any] = {name: getattr(mesh, name)[rows] for name in ("vertices", "normals", "joints", "weights")}
    out |= {name: None if getattr(mesh, name) is None else getattr(mesh, name)[rows] for name in ("uvs", "tangents")}
    for name in ("morph_deltas", "morph_normals"):
        values = getattr(mesh, name)
        out[name] = None if values is None else values[:, rows]
    return out | {"more": {name: values[rows] for name, values in mesh.more.items()}}
