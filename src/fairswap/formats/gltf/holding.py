"""Which bones of a figure hold something: not the sockets, targets and spare limbs that rigs have beside."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from fairswap.formats.gltf.accessors import array_from_accessor, floats_from_accessor, item
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
            for number, primitive in enumerate(mesh.primitives):
                for used in _joints_used(container, primitive, f"meshes[{node.mesh}].primitives[{number}]"):
                    bones = [
                        bone_of[joints[row]] for row in used.tolist() if row < len(joints) and joints[row] in bone_of
                    ]
                    holds[bones] = True
        elif node.skin is None:
            holder = index
            while holder >= 0 and holder not in bone_of:
                holder = tree.parents[holder]
            if holder >= 0:
                holds[bone_of[holder]] = True
    return holds


def _joints_used(container: Container, primitive: Primitive, place: str) -> Iterator[Integers]:
    """The joints, by their rows in the skin, that some vertex follows."""
    attributes = primitive.attributes
    for number in range(64):
        joints, weights = attributes.get(f"JOINTS_{number}"), attributes.get(f"WEIGHTS_{number}")
        if joints is None or weights is None:
            return
        rows = array_from_accessor(container, joints, f"{place}.JOINTS_{number}", 4)
        shares = floats_from_accessor(container, weights, f"{place}.WEIGHTS_{number}", 4)
        shared = min(len(rows), len(shares))
        yield np.unique(rows[:shared][shares[:shared] > 0.0]).astype(np.intp)
