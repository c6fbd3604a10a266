"""Nodes put in: a root bone above the hips, a joint of their skins, with nothing moved; one that moves everything."""

from __future__ import annotations

import copy

import numpy as np

from fairswap.formats.gltf.container import Container
from fairswap.formats.gltf.merging import append_matrices, binds_of_skin
from fairswap.formats.gltf.nodes import tree_from_nodes
from fairswap.model.arrays import Floats


def container_with_root(container: Container, hips: int, name: str) -> Container:
    """The document with a node ``name`` between the hips' node and what holds it; it stands where that stands."""
    raw = copy.deepcopy(container.raw)
    tree = tree_from_nodes(container.document)
    new = len(raw["nodes"])
    raw["nodes"].append({"name": name, "children": [hips]})
    above = tree.parents[hips]
    holders = [raw["nodes"][above]["children"]] if above >= 0 else [scene["nodes"] for scene in raw.get("scenes", [])]
    for nodes in holders:
        nodes[:] = [new if node == hips else node for node in nodes]
    buffers = list(container.buffers)
    world = tree.world[above] if above >= 0 else np.eye(4)
    for index, skin in enumerate(raw.get("skins", [])):
        if hips not in skin["joints"]:
            continue
        binds = binds_of_skin(container, index)
        skin["joints"] = [*skin["joints"], new]
        skin["inverseBindMatrices"] = append_matrices(raw, buffers, np.concatenate([binds, np.linalg.inv(world)[None]]))
    return container.changed(raw, buffers)


def container_with_move(container: Container, shift: Floats, scale: float = 1.0) -> Container:
    """The document with all that is in it scaled about its origin and shifted ``(3,)``, by a node above each scene."""
    raw = copy.deepcopy(container.raw)
    held = {child for node in raw["nodes"] for child in node.get("children", ())}
    everything = [index for index in range(len(raw["nodes"])) if index not in held]
    for scene in raw.setdefault("scenes", [{"nodes": everything}]):
        node = {"name": "place", "translation": shift.tolist(), "children": scene.get("nodes", [])}
        raw["nodes"].append(node if scale == 1.0 else node | {"scale": [scale] * 3})
        scene["nodes"] = [len(raw["nodes"]) - 1]
    return container.changed(raw)
