"""A new glTF document for a figure that did not come from one."""

from __future__ import annotations

from collections.abc import Hashable
from typing import Any

import numpy as np

from fairswap.formats.gltf.materials import MaterialOrigin, add_whole_material, see_through
from fairswap.formats.gltf.packing import ELEMENT_ARRAY_BUFFER, Packer
from fairswap.formats.images import as_png_or_jpeg, media_type
from fairswap.formats.scene.spaces import mesh_in_space, rest_in_space
from fairswap.model.arrays import Floats
from fairswap.model.figure import Figure
from fairswap.model.mesh import Material, Mesh, unit_normals
from fairswap.model.rotation import quaternion_from_matrix
from fairswap.model.space import OURS, Space


def build_document(figure: Figure, space: Space, packer: Packer) -> tuple[dict[str, Any], list[int], list[int]]:
    """The JSON of a document with the skeleton and the meshes; the node of each bone and of each mesh.

    In a ``space`` other than ours, bones and vertices are stored in it, below a node that turns and scales them.
    """
    skeleton = figure.skeleton
    top: dict[str, Any] = {"name": figure.name, "children": []}
    if space != OURS:
        top |= {"rotation": quaternion_from_matrix(space.turn).tolist(), "scale": [space.metres] * 3}
    nodes: list[dict[str, Any]] = [top]
    rotations, translations = rest_in_space(skeleton, space)
    for bone, parent in enumerate(skeleton.parents.tolist()):
        node: dict[str, Any] = {"name": skeleton.names[bone]}
        if np.abs(translations[bone]).max() > 0:
            node["translation"] = translations[bone].tolist()
        if np.abs(rotations[bone, :3]).max() > 1e-12:
            node["rotation"] = rotations[bone].tolist()
        nodes.append(node)
        nodes[parent + 1].setdefault("children", []).append(bone + 1)
    raw: dict[str, Any] = {"asset": {"version": "2.0"}, "scene": 0, "scenes": [{"nodes": [0]}], "nodes": nodes}
    bone_nodes = list(range(1, len(nodes)))
    mesh_nodes = []
    images: dict[bytes, int] = {}
    materials: dict[Hashable, int] = {}
    for mesh in figure.meshes:
        mesh_nodes.append(len(nodes))
        raw["scenes"][0]["nodes"].append(len(nodes))
        nodes.append({"name": mesh.name, "mesh": len(mesh_nodes) - 1, "skin": len(mesh_nodes) - 1})
        _add_mesh(raw, mesh_in_space(mesh, space), figure, packer, images, materials)
    return raw, bone_nodes, mesh_nodes


def _add_mesh(
    raw: dict[str, Any], mesh: Mesh, figure: Figure, packer: Packer, images: dict[bytes, int],
    materials: dict[Hashable, int],
) -> None:  # fmt: skip
    """A mesh with its skin; ``mesh`` is in the coordinates of the file."""
    vertices = mesh.vertices
    attributes: dict[str, int] = {
        "POSITION": packer.attribute(_f4(vertices), bounds=True),
        "NORMAL": packer.attribute(_f4(unit_normals(mesh.normals, vertices, mesh.triangles))),
    }
    if mesh.uvs is not None:
        attributes["TEXCOORD_0"] = packer.attribute(_f4(mesh.uvs))
    if mesh.tangents is not None:
        tangents = _tangents(mesh.tangents[:, :3], mesh.tangents[:, 3], mesh.normals)
        attributes["TANGENT"] = packer.attribute(_f4(tangents))
    for name, values in mesh.more.items():
        attributes[name] = packer.attribute(_f4(values))
    joints = [bone for bone in range(len(figure.skeleton)) if bone not in figure.skeleton.ends]
    number = np.zeros(len(figure.skeleton), dtype="u1" if len(joints) < 256 else "<u2")
    number[joints] = np.arange(len(joints))
    holders = np.where(mesh.weights > 0, number[mesh.joints], 0).astype(number.dtype)
    attributes |= packer.skin(holders, mesh.weights)
    out: dict[str, Any] = {"name": mesh.name, "primitives": []}
    deltas = mesh.morph_deltas if mesh.morph_deltas is not None else ()
    targets = [{"POSITION": packer.attribute(_f4(delta), bounds=True)} for delta in deltas]
    if mesh.morph_normals is not None and mesh.morph_normals.any():
        for target, shifts in zip(targets, mesh.morph_normals, strict=True):
            target["NORMAL"] = packer.attribute(_f4(shifts))
    if targets:
        out["extras"] = {"targetNames": list(mesh.morph_names)}
        out["weights"] = (mesh.morph_weights if mesh.morph_weights is not None else np.zeros(len(targets))).tolist()
    sets = {int(name.partition("_")[2]) for name in attributes if name.startswith("TEXCOORD_")}
    for material in mesh.materials:
        faces = mesh.triangles[material.triangles].reshape(-1, 1)
        indices = packer.attribute(faces.astype("<u2" if len(vertices) < 65535 else "<u4"), ELEMENT_ARRAY_BUFFER)
        primitive: dict[str, Any] = {"attributes": dict(attributes), "indices": indices}
        if isinstance(material.origin, MaterialOrigin):
            # One that several meshes show is stored once.
            look = (*material.color, material.alpha, material.blending, material.cutoff, material.two_sided)
            same = (id(material.origin.container), material.origin.index, material.texture,
                    tuple(sorted((material.images or {}).items())), frozenset(sets), look)  # fmt: skip
            if same not in materials:
                materials[same] = add_whole_material(raw, material, packer, images, sets)
            primitive["material"] = materials[same]
        else:
            primitive["material"] = _material(raw, material, packer)
        if targets:
            primitive["targets"] = targets
        out["primitives"].append(primitive)
    raw.setdefault("meshes", []).append(out)
    binds = mesh.bind_matrices[joints]
    matrices = packer.attribute(_f4(binds.transpose(0, 2, 1).reshape(-1, 16)), target=None)
    raw.setdefault("skins", []).append({"joints": [bone + 1 for bone in joints], "inverseBindMatrices": matrices})


def _tangents(along: Floats, hand: Floats, normals: Floats) -> Floats:
    """Tangents ``(n, 4)`` of unit length; where there is none, any that is square to the normal, as the format asks."""
    length = np.linalg.norm(along, axis=1, keepdims=True)
    across = np.cross(normals, np.where(np.abs(normals[:, :1]) < 0.7, [1.0, 0.0, 0.0], [0.0, 1.0, 0.0]))
    across /= np.maximum(np.linalg.norm(across, axis=1, keepdims=True), 1e-12)
    unit = np.where(length > 1e-6, along / np.maximum(length, 1e-6), across)
    return np.concatenate([unit, np.where(hand < 0.0, -1.0, 1.0)[:, None]], axis=1)


def _material(raw: dict[str, Any], material: Material, packer: Packer) -> int:
    texture = material.texture
    shading: dict[str, Any] = {"metallicFactor": 0.0, "roughnessFactor": 0.9}
    if not np.allclose(factor := [*material.color.tolist(), material.alpha], 1.0):
        shading["baseColorFactor"] = factor
    if texture is not None:
        picture = as_png_or_jpeg(texture)
        image = {"bufferView": packer.view(picture), "mimeType": media_type(picture) or "image/jpeg"}
        raw.setdefault("images", []).append(image)
        raw.setdefault("textures", []).append({"source": len(raw["images"]) - 1})
        shading["baseColorTexture"] = {"index": len(raw["textures"]) - 1}
    row = {"pbrMetallicRoughness": shading, **see_through(material.blending, material.cutoff, material.two_sided)}
    raw.setdefault("materials", []).append(row)
    return len(raw["materials"]) - 1


def _f4(values: Floats) -> np.ndarray:
    return np.ascontiguousarray(values, dtype="<f4")
