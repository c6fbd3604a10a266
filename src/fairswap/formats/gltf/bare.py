"""The meshes of a document that has no figure: a sculpture, a scan, a body that is still to be rigged."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from fairswap.errors import Finding, InputError
from fairswap.formats.gltf.container import Container
from fairswap.formats.gltf.meshes import MeshParts, check_numbers
from fairswap.formats.gltf.nodes import tree_from_nodes
from fairswap.model.arrays import Floats
from fairswap.model.figure import Figure
from fairswap.model.mesh import Mesh
from fairswap.model.rotation import IDENTITY, normalized
from fairswap.model.skeleton import Skeleton
from fairswap.model.space import OURS


def bare_figure(container: Container) -> tuple[Figure, list[Finding]] | None:
    """All meshes of a document as they stand in it, on one bone at the origin; None if it has none.

    Nothing is turned or scaled: without bones, who reads it must tell from its shape how it stands.
    """
    tree, document = tree_from_nodes(container.document), container.document
    findings: list[Finding] = []
    meshes: list[Mesh] = []
    numbers = 0
    for index in tree.order:
        node = document.nodes[index]
        if node.mesh is None:
            continue
        numbers = check_numbers(container, index, numbers)
        parts = MeshParts(container, node.mesh, findings)
        if not len(parts.triangles):
            continue
        if abs(np.linalg.det(tree.world[index][:3, :3])) < 1e-18:
            raise InputError("the mesh is squeezed flat by its node", place=f"nodes[{index}]", remedy="Export it again")
        joints, weights = np.zeros((len(parts.vertices), 1), dtype=np.intp), np.ones((len(parts.vertices), 1))
        title = node.name or document.meshes[node.mesh].name or f"mesh {len(meshes) + 1}"
        meshes.append(parts.mesh(title, tree.world[index], joints, weights, np.eye(4)[None], False))
    if not meshes:
        return None
    return on_one_bone(container.path.stem, meshes), findings


def on_one_bone(name: str, meshes: Sequence[Mesh]) -> Figure:
    """Meshes without bones as a figure: all hang on one bone at the origin."""
    skeleton = Skeleton(("mesh",), np.array([-1]), IDENTITY[None], np.zeros((1, 3)))
    return Figure(name, skeleton, tuple(meshes), OURS)


def stood_up(bare: Figure, linear: Floats) -> Figure:
    """The meshes turned and scaled by ``linear`` ``(3, 3)``."""
    if np.array_equal(linear, np.eye(3)):
        return bare
    turn = linear / np.cbrt(np.linalg.det(linear))

    def moved(mesh: Mesh) -> Mesh:
        tangents = mesh.tangents
        if tangents is not None:
            tangents = np.c_[tangents[:, :3] @ turn.T, tangents[:, 3]]
        return replace(
            mesh, vertices=mesh.vertices @ linear.T, normals=normalized(mesh.normals @ turn.T), tangents=tangents,
            morph_deltas=None if mesh.morph_deltas is None else mesh.morph_deltas @ linear.T,
            morph_normals=None if mesh.morph_normals is None else mesh.morph_normals @ turn.T, origin=None,
        )  # fmt: skip

    return replace(bare, meshes=tuple(map(moved, bare.meshes)))
