"""Hang the skins of a second skeleton on the first: joints exchanged, bind matrices changed so that nothing moves."""

from __future__ import annotations

import copy
from typing import Any

import msgspec
import numpy as np

from fairswap.formats.gltf.accessors import floats_from_accessor
from fairswap.formats.gltf.container import Container
from fairswap.formats.gltf.nodes import tree_from_nodes
from fairswap.formats.gltf.schema import Document


def container_with_merged_joints(container: Container, into: dict[int, int]) -> tuple[Container, set[int]]:
    """The document with the nodes ``into`` replaced by their partners in all skins, and the nodes that could not be.

    A skin that has both a node and its partner keeps both. Tracks of replaced nodes are taken out, their partners have
    their own; the nodes themselves leave the scene.
    """
    raw = copy.deepcopy(container.raw)
    tree = tree_from_nodes(container.document)
    kept: set[int] = set()
    for skin in raw.get("skins", []):
        kept |= {node for node in skin["joints"] if node in into and into[node] in skin["joints"]}
    buffers = list(container.buffers)
    for index, skin in enumerate(raw.get("skins", [])):
        joints = skin["joints"]
        if not any(node in into and node not in kept for node in joints):
            continue
        binds = np.tile(np.eye(4), (len(joints), 1, 1))
        if "inverseBindMatrices" in skin:
            values = floats_from_accessor(container, skin["inverseBindMatrices"], f"skins[{index}]", 16)
            binds = values[: len(joints)].reshape(-1, 4, 4).transpose(0, 2, 1)
        for row, node in enumerate(joints):
            if node in into and node not in kept:
                binds[row] = np.linalg.inv(tree.world[into[node]]) @ tree.world[node] @ binds[row]
        skin["joints"] = [node if node in kept else into.get(node, node) for node in joints]
        skin["inverseBindMatrices"] = append_matrices(raw, buffers, binds)
        if skin.get("skeleton") in into:
            del skin["skeleton"]
    _take_out(raw, container.document, set(into) - kept)
    return Container(container.path, raw, msgspec.convert(raw, Document), tuple(buffers)), kept


def append_matrices(raw: dict[str, Any], buffers: list[memoryview], matrices: np.ndarray) -> int:
    data = np.ascontiguousarray(matrices.transpose(0, 2, 1), dtype="<f4").tobytes()
    buffers.append(memoryview(data))
    raw.setdefault("buffers", []).append({"byteLength": len(data)})
    raw.setdefault("bufferViews", []).append({"buffer": len(buffers) - 1, "byteLength": len(data)})
    row = {"bufferView": len(raw["bufferViews"]) - 1, "componentType": 5126, "count": len(matrices), "type": "MAT4"}
    raw.setdefault("accessors", []).append(row)
    return len(raw["accessors"]) - 1


def _take_out(raw: dict[str, Any], document: Document, gone: set[int]) -> None:
    """Take nodes out of the scene, unless something that stays hangs below them; and their tracks."""

    def bare(node: int) -> bool:
        row = document.nodes[node]
        return node in gone and row.mesh is None and row.camera is None and all(bare(child) for child in row.children)

    removed = {node for node in gone if bare(node)}
    for holder, key in [(node, "children") for node in raw["nodes"]] + [
        (scene, "nodes") for scene in raw.get("scenes", [])
    ]:
        if key in holder:
            holder[key] = [node for node in holder[key] if node not in removed]
            if not holder[key]:
                del holder[key]
    for animation in raw.get("animations", []):
        animation["channels"] = [c for c in animation["channels"] if c["target"].get("node") not in gone]
    if "animations" in raw:
        raw["animations"] = [animation for animation in raw["animations"] if animation["channels"]]
