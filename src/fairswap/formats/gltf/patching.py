"""Put what was changed of a figure into the document it came in: bones, vertices, weights, morphs, bind matrices.

Everything else of the document, materials and extensions too, is carried through. Only what is not the very thing that
was read is stored anew.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from fairswap.formats.gltf.folding import Fold
from fairswap.formats.gltf.packing import ARRAY_BUFFER, Packer
from fairswap.model.arrays import Floats
from fairswap.model.figure import Figure
from fairswap.model.mesh import Mesh, unit_normals
from fairswap.model.rotation import normalized
from fairswap.model.skeleton import Skeleton


@dataclass(frozen=True, eq=False)
class MeshOrigin:
    """Where a mesh stands in its document: which mesh; the matrix from its data into our space; and for each primitive
    where its vertices begin and how many they are."""

    mesh: int
    upright: Floats
    runs: tuple[tuple[int, int, int], ...]


# What of a mesh is carried through as it was read: one where anything else stands there is built anew.
_CARRIED = ("origin", "triangles", "joints", "weights", "uvs", "more", "materials")


def can_patch(figure: Figure, skeleton: Skeleton, meshes: tuple[Mesh, ...]) -> bool:
    """Whether a figure still has the bones, meshes and vertices that were read, whatever their numbers are now."""
    same_tree = len(figure.skeleton) == len(skeleton) and np.array_equal(figure.skeleton.parents, skeleton.parents)
    return (
        same_tree
        and len(figure.meshes) == len(meshes)
        and all(
            all(getattr(mesh, name) is getattr(old, name) for name in _CARRIED) and mesh.morph_names == old.morph_names
            for mesh, old in zip(figure.meshes, meshes, strict=True)
        )
    )


@dataclass(frozen=True, eq=False)
class Replacement:
    """New numbers for ``holder[key]``, which names an accessor: to be packed when the old ones have been left out."""

    holder: dict[str, Any]
    key: str
    values: np.ndarray[Any, Any]


def pack_replacements(replacements: list[Replacement], packer: Packer) -> None:
    """Store the new numbers; those that several primitives share once."""
    packed: dict[int, int] = {}
    for row in replacements:
        if id(row.values) not in packed:
            target = None if row.key in ("inverseBindMatrices", "output") else ARRAY_BUFFER
            packed[id(row.values)] = packer.attribute(row.values, target, bounds=row.key == "POSITION")
        row.holder[row.key] = packed[id(row.values)]


def patch_document(
    raw: dict[str, Any],
    figure: Figure,
    skeleton: Skeleton,
    meshes: tuple[Mesh, ...],
    nodes: tuple[int, ...],
    mesh_nodes: tuple[int, ...],
    fold: Fold,
) -> list[Replacement]:
    """Change ``raw`` to what ``figure`` is now; give the numbers that are to be stored anew."""
    new: list[Replacement] = []
    _patch_bones(raw, figure.skeleton, skeleton, nodes, fold)
    uses = [node.get("mesh") for node in raw["nodes"]]
    for node, mesh, old in zip(mesh_nodes, figure.meshes, meshes, strict=True):
        if mesh is old:
            continue
        row = raw["nodes"][node]
        entry = raw["meshes"][row["mesh"]]
        if uses.count(row["mesh"]) > 1:  # another node shows the same mesh, and keeps it as it is
            entry = {**entry, "primitives": [_deep(primitive) for primitive in entry["primitives"]]}
            raw["meshes"].append(entry)
            row["mesh"] = len(raw["meshes"]) - 1
        if mesh.name != old.name and node not in nodes:
            row["name"] = mesh.name
        if mesh.morph_weights is not None and mesh.morph_weights is not old.morph_weights:
            row["weights"] = mesh.morph_weights.tolist()
        new += _attributes(entry, mesh, old)
        if mesh.bind_matrices is not old.bind_matrices and mesh.skinned:
            new.append(_binds(raw, row, mesh, nodes, fold))
    for replacement in new:
        replacement.holder.pop(replacement.key, None)  # nothing names the old numbers any more
    return new


def _patch_bones(raw: dict[str, Any], now: Skeleton, old: Skeleton, nodes: tuple[int, ...], fold: Fold) -> None:
    for bone, node in enumerate(nodes):
        row = raw["nodes"][node]
        if now.names[bone] != old.names[bone]:
            row["name"] = now.names[bone]
        moved = not np.array_equal(now.rest_translations[bone], old.rest_translations[bone])
        turned = not np.array_equal(now.rest_rotations[bone], old.rest_rotations[bone])
        if not (moved or turned):
            continue
        if "matrix" in row:
            split_matrix(row)
        if turned:
            row["rotation"] = fold.node_rotations(bone, now.rest_rotations[bone]).tolist()
        if moved:
            row["translation"] = fold.node_translations(bone, now.rest_translations[bone]).tolist()


def _attributes(entry: dict[str, Any], mesh: Mesh, old: Mesh) -> list[Replacement]:
    linear, shift = mesh.origin.upright[:3, :3], mesh.origin.upright[:3, 3]
    back = np.linalg.inv(linear)
    new: dict[str, Any] = {}
    if mesh.vertices is not old.vertices:
        new["POSITION"] = (mesh.vertices - shift) @ back.T
    if mesh.normals is not old.normals:
        new["NORMAL"] = normalized(unit_normals(mesh.normals, mesh.vertices, mesh.triangles) @ linear)
    if mesh.tangents is not None and mesh.tangents is not old.tangents:
        new["TANGENT"] = np.concatenate([normalized(mesh.tangents[:, :3] @ back.T), mesh.tangents[:, 3:]], axis=1)
    targets: dict[str, Any] = {}
    if mesh.morph_deltas is not None and mesh.morph_deltas is not old.morph_deltas:
        targets["POSITION"] = mesh.morph_deltas @ back.T
    if mesh.morph_normals is not None and mesh.morph_normals is not old.morph_normals:
        targets["NORMAL"] = mesh.morph_normals @ linear
    found: list[Replacement] = []
    stored: dict[tuple[str, int, int], np.ndarray[Any, Any]] = {}
    for number, start, count in mesh.origin.runs:
        primitive, span = entry["primitives"][number], slice(start, start + count)
        for name, values in new.items():
            if name in primitive["attributes"]:
                part = stored.setdefault((name, -1, start), _f4(values[span]))
                found.append(Replacement(primitive["attributes"], name, part))
        for index, target in enumerate(primitive.get("targets", [])):
            for name, values in targets.items():
                if name in target:
                    part = stored.setdefault((name, index, start), _f4(values[index, span]))
                    found.append(Replacement(target, name, part))
            if targets:  # how the tangents shift is not known any more; clients work it out
                target.pop("TANGENT", None)
    return found


def _binds(raw: dict[str, Any], row: dict[str, Any], mesh: Mesh, nodes: tuple[int, ...], fold: Fold) -> Replacement:
    """A skin of its own for the mesh: others may hang on the old one."""
    skin = dict(raw["skins"][row["skin"]])
    bone_of = {node: bone for bone, node in enumerate(nodes)}
    bones = [bone_of[joint] for joint in skin["joints"]]
    binds = mesh.bind_matrices[bones] @ mesh.origin.upright
    binds[:, :3] = np.linalg.inv(fold.residual[bones]) @ binds[:, :3]
    users = [node.get("skin") for node in raw["nodes"]]
    if users.count(row["skin"]) == 1:
        raw["skins"][row["skin"]] = skin
    else:
        raw["skins"].append(skin)
        row["skin"] = len(raw["skins"]) - 1
    return Replacement(skin, "inverseBindMatrices", _f4(binds.transpose(0, 2, 1).reshape(-1, 16)))


def split_matrix(row: dict[str, Any]) -> None:
    """Give a node that has a matrix its parts instead, so that they can be changed or animated."""
    import msgspec

    from fairswap.formats.gltf.nodes import tree_from_nodes
    from fairswap.formats.gltf.schema import Document

    tree = tree_from_nodes(msgspec.convert({"nodes": [{"matrix": row.pop("matrix")}]}, Document))
    row["translation"] = tree.translation[0].tolist()
    row["rotation"] = tree.rotation[0].tolist()
    row["scale"] = tree.scale[0].tolist()


def _deep(primitive: dict[str, Any]) -> dict[str, Any]:
    out = {**primitive, "attributes": dict(primitive["attributes"])}
    if "targets" in primitive:
        out["targets"] = [dict(target) for target in primitive["targets"]]
    return out


def _f4(values: Floats) -> np.ndarray:
    return np.ascontiguousarray(values, dtype="<f4")
