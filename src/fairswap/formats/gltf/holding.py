"""Which bones of a figure hold something: not the sockets, targets and spare limbs that rigs have beside."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from fairswap.formats.gltf.accessors import array_from_accessor, item
from fairswap.formats.gltf.container import Container
from fairswap.formats.gltf.nodes import FigureNodes, Tree
from fairswap.formats.gltf.schema import Primitive
from fairswap.model.arrays import Integers


def bones_that_hold(container: Container, tree: Tree, own: FigureNodes) -> np.ndarray:
    """Which bones of a figure hold skin or a mesh ``(bones,)``."""
    document = container.document
    bone_of = {node: bone for bone, node in enumerate(own.nodes)}
    holds = np.zeros(len(own.nodes), dtype=bool)
    for index in tree.order:
        node = document.nodes[index]
        if node.mesh is None:
            continue
        if node.skin is not None and node.skin in own.skins:
            joints = document.skins[node.skin].joints
            mesh = item(document.meshes, node.mesh, "mesh", f"nodes[{index}]")
            for used in _joints_used(container, mesh.primitives, len(joints), f"meshes[{node.mesh}]"):
                holds[[bone_of[joints[row]] for row in used.tolist() if joints[row] in bone_of]] = True
        elif node.skin is None:
            holder = index
            while holder >= 0 and holder not in bone_of:
                holder = tree.parents[holder]
            if holder >= 0:
                holds[bone_of[holder]] = True
    return holds


def _joints_used(container: Container, primitives: Sequence[Primitive], count: int, place: str) -> Iterator[Integers]:
    """Of ``count`` joints of a skin those, by their rows, that some vertex of a mesh follows."""
    sets = [
        (primitive.attributes.get(f"JOINTS_{number}"), primitive.attributes.get(f"WEIGHTS_{number}"))
        for primitive in primitives
        for number in range(64)
        if f"JOINTS_{number}" in primitive.attributes
    ]
    for joints, weights in dict.fromkeys(sets):  # primitives of a mesh may have one and the same
        if joints is None or weights is None:
            continue
        rows = array_from_accessor(container, joints, place, 4)
        shares = array_from_accessor(container, weights, place, 4)
        shared = min(len(rows), len(shares))
        if rows.dtype.kind == "u":  # anything else is told when the mesh is read
            named = rows[:shared][shares[:shared] > 0]
            yield np.flatnonzero(np.bincount(named[named < count]))
