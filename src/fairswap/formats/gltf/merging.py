"""Hang the skins of a second skeleton on the first: joints exchanged, bind matrices changed so that nothing moves."""

from __future__ import annotations

import copy
from collections.abc import Mapping
from typing import Any

import numpy as np

from fairswap.formats.gltf.accessors import floats_from_accessor
from fairswap.formats.gltf.container import Container
from fairswap.formats.gltf.nodes import Tree, tree_from_nodes
from fairswap.formats.gltf.patching import split_matrix
from fairswap.formats.gltf.schema import Document
from fairswap.model.arrays import Floats, read_only

# Joints were bound alike if their matrices differ by no more than this, against their largest number.
_SAME_BIND = 1e-3
ORIGIN = read_only(np.zeros(3))


def container_with_merged_joints(
    container: Container, into: Mapping[int, int], shift: Floats = ORIGIN, as_bound: bool = False
) -> tuple[Container, set[int]]:
    """The document with the nodes ``into`` replaced by their partners in all skins, and the nodes that could not be.

    A skin that has both a node and its partner keeps both. Tracks of replaced nodes go to partners without any that
    rest alike, else are taken out; the nodes themselves leave the scene, but for those that hold more: they hang on
    their partners from then on.

    Parameters
    ----------
    shift : (3,) array
        How far the partners stand aside, in the scene.
    as_bound : bool
        Skins stay bound as they were, whatever the two rest in; else nothing moves at rest.
    """
    raw = copy.deepcopy(container.raw)
    tree = tree_from_nodes(container.document)
    world = tree.world.copy()
    world[np.array(list(into), dtype=np.intp), :3, 3] += shift
    kept: set[int] = set()
    for skin in raw.get("skins", []):
        kept |= {node for node in skin["joints"] if node in into and into[node] in skin["joints"]}
    gone = {node: partner for node, partner in into.items() if node not in kept}
    buffers = list(container.buffers)
    bound = binds_by_node(container)
    for index, skin in enumerate(raw.get("skins", [])):
        joints = skin["joints"]
        if not any(node in gone for node in joints):
            continue
        binds = binds_of_skin(container, index).copy()
        for row, node in enumerate(joints):
            # Bound as its partner is, it goes with it as it is, wherever the two rest; else nothing moves at rest.
            if node in gone and not as_bound and not _alike(binds[row], bound.get(gone[node])):
                binds[row] = np.linalg.inv(world[gone[node]]) @ world[node] @ binds[row]
        skin["joints"] = [gone.get(node, node) for node in joints]
        skin["inverseBindMatrices"] = append_matrices(raw, buffers, binds)
        if skin.get("skeleton") in into:
            del skin["skeleton"]
    _hand_tracks_over(raw, tree, gone)
    _take_out(raw, container.document, world, gone)
    return container.changed(raw, buffers), kept


def binds_of_skin(container: Container, index: int) -> Floats:
    """The inverse bind matrices ``(joints, 4, 4)`` of a skin."""
    skin = container.document.skins[index]
    if skin.inverse_bind_matrices is None:
        return np.tile(np.eye(4), (len(skin.joints), 1, 1))
    values = floats_from_accessor(container, skin.inverse_bind_matrices, f"skins[{index}]", 16)
    return values[: len(skin.joints)].reshape(-1, 4, 4).transpose(0, 2, 1)


def binds_by_node(container: Container) -> dict[int, Floats]:
    """The inverse bind matrix ``(4, 4)`` of each joint, by its node, in the first skin that has it."""
    found: dict[int, Floats] = {}
    for index, skin in enumerate(container.document.skins):
        for node, bind in zip(skin.joints, binds_of_skin(container, index), strict=False):
            found.setdefault(node, bind)
    return found


def _alike(bind: Floats, other: Floats | None) -> bool:
    size = float(np.abs(bind).max())
    return other is not None and bool(np.abs(bind - other).max() < _SAME_BIND * size)


def append_matrices(raw: dict[str, Any], buffers: list[memoryview], matrices: np.ndarray) -> int:
    data = np.ascontiguousarray(matrices.transpose(0, 2, 1), dtype="<f4").tobytes()
    buffers.append(memoryview(data))
    raw.setdefault("buffers", []).append({"byteLength": len(data)})
    raw.setdefault("bufferViews", []).append({"buffer": len(buffers) - 1, "byteLength": len(data)})
    row = {"bufferView": len(raw["bufferViews"]) - 1, "componentType": 5126, "count": len(matrices), "type": "MAT4"}
    raw.setdefault("accessors", []).append(row)
    return len(raw["accessors"]) - 1


def _hand_tracks_over(raw: dict[str, Any], tree: Tree, gone: Mapping[int, int]) -> None:
    """Give the tracks of replaced nodes to partners that have none and rest alike, and drop the rest of them."""

    def alike(node: int, partner: int) -> bool:
        return bool(
            np.allclose(tree.linear[node], tree.linear[partner], atol=1e-4)
            and np.allclose(tree.world[node][:3, :3], tree.world[partner][:3, :3], atol=1e-4)
        )

    for animation in raw.get("animations", []):
        there = {(row["target"].get("node"), row["target"].get("path")) for row in animation["channels"]}
        rows = []
        for row in animation["channels"]:
            target = row["target"]
            partner = gone.get(target.get("node"))
            if partner is None:
                rows.append(row)
            elif (partner, target["path"]) not in there and alike(target["node"], partner):
                rows.append({**row, "target": {**target, "node": partner}})
        animation["channels"] = rows
    if "animations" in raw:
        raw["animations"] = [animation for animation in raw["animations"] if animation["channels"]]


def _take_out(raw: dict[str, Any], document: Document, world: Floats, gone: Mapping[int, int]) -> None:
    """Take nodes out of the scene; those that something hangs below that stays are hung on their partners."""
    for holder, key in [(node, "children") for node in raw["nodes"]] + [
        (scene, "nodes") for scene in raw.get("scenes", [])
    ]:
        if key in holder:
            holder[key] = [node for node in holder[key] if node not in gone]
            if not holder[key]:
                del holder[key]
    for node, partner in gone.items():
        row, was = raw["nodes"][node], document.nodes[node]
        if was.mesh is None and was.camera is None and all(child in gone for child in was.children):
            continue
        for key in ("translation", "rotation", "scale"):
            row.pop(key, None)
        row["matrix"] = (np.linalg.inv(world[partner]) @ world[node]).T.ravel().tolist()
        split_matrix(row)
        raw["nodes"][partner].setdefault("children", []).append(node)
