"""From an avatar to the VRM 1.0 extensions of a document, by the nodes and meshes that its figure has there."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from fairswap.errors import ImpossibleError
from fairswap.formats.gltf.packing import Packer
from fairswap.formats.images import as_png_or_jpeg, media_type
from fairswap.formats.vrm.avatars import PRESETS
from fairswap.formats.vrm.humanoid import REQUIRED, VRM_BONE_OF_ROLE
from fairswap.model.avatar import Avatar, Expression
from fairswap.model.figure import Figure

_SPEC = "1.0"


def add_avatar(
    raw: dict[str, Any], figure: Figure, nodes: Sequence[int], mesh_nodes: Sequence[int], packer: Packer
) -> None:
    """Make a document an avatar of VRM 1.0.

    Raises
    ------
    ImpossibleError
        If it is not known which bone is which, or nobody said who made it and what may be done with it.
    """
    avatar = figure.avatar or Avatar()
    extension: dict[str, Any] = {
        "specVersion": _SPEC, "humanoid": humanoid_of(figure, nodes), "meta": _meta(avatar, raw, packer, figure.name),
    }  # fmt: skip
    rows = {name: _expression(one, raw, mesh_nodes, figure) for name, one in avatar.expressions.items()}
    expressions = {
        # The names of the standard are kept for its own (VRM 1.0, expressions): one so called is meant as that.
        "preset": {name: row for name, row in rows.items() if name in PRESETS},
        "custom": {name: row for name, row in rows.items() if name not in PRESETS},
    }
    extension["expressions"] = {kind: held for kind, held in expressions.items() if held}
    if avatar.look_at:
        extension["lookAt"] = dict(avatar.look_at)
    notes = [
        {"node": mesh_nodes[mesh], "type": word} for mesh, word in avatar.first_person.items() if mesh < len(mesh_nodes)
    ]
    if notes:
        extension["firstPerson"] = {"meshAnnotations": notes}
    add_extension(raw, "VRMC_vrm", {key: value for key, value in extension.items() if value})
    add_springs(raw, avatar, nodes)
    _add_constraints(raw, avatar, nodes)


def changed_meta(raw: dict[str, Any], avatar: Avatar, packer: Packer, name: str) -> None:
    """Put other terms into a document that is an avatar already."""
    raw["extensions"]["VRMC_vrm"]["meta"] = _meta(avatar, raw, packer, name)


def humanoid_of(figure: Figure, nodes: Sequence[int]) -> dict[str, Any]:
    """The bones by their names in the standard.

    Raises
    ------
    ImpossibleError
        If one is missing that every avatar has.
    """
    bones = {VRM_BONE_OF_ROLE[role]: bone for role, bone in figure.known_roles.items() if role in VRM_BONE_OF_ROLE}
    missing = [name for name in REQUIRED if name not in bones]
    if missing:
        problem = f"it is not said which bones are {', '.join(missing[:4])} … of {figure.name!r}"
        raise ImpossibleError(problem, code="vrm-bones")
    return {"humanBones": {name: {"node": nodes[bone]} for name, bone in bones.items()}}


def add_extension(raw: dict[str, Any], name: str, content: dict[str, Any]) -> None:
    """Put an extension on a document."""
    raw["extensions"] = {**raw.get("extensions", {}), name: content}
    raw["extensionsUsed"] = sorted({*raw.get("extensionsUsed", []), name})


def _meta(avatar: Avatar, raw: dict[str, Any], packer: Packer, name: str) -> dict[str, Any]:
    meta = dict(avatar.meta)
    if avatar.edition != "1.0" or not meta.get("name") or not meta.get("authors") or not meta.get("licenseUrl"):
        old = " (its own are in the words of edition 0.x)" if avatar.edition != "1.0" else ""
        problem = f"nothing says who made {name!r} and what may be done with it{old}: an avatar of VRM 1.0 says so"
        raise ImpossibleError(problem, code="vrm-meta")
    if avatar.thumbnail is not None:
        thumbnail = as_png_or_jpeg(avatar.thumbnail)
        raw.setdefault("images", []).append(
            {"bufferView": packer.view(thumbnail), "mimeType": media_type(thumbnail) or "image/jpeg"}
        )
        meta["thumbnailImage"] = len(raw["images"]) - 1
    return meta


def _expression(one: Expression, raw: dict[str, Any], mesh_nodes: Sequence[int], figure: Figure) -> dict[str, Any]:
    row: dict[str, Any] = {}
    morphs = [
        {"node": mesh_nodes[mesh], "index": figure.meshes[mesh].morph_names.index(name), "weight": weight}
        for mesh, name, weight in one.morphs
        if mesh < len(figure.meshes) and name in figure.meshes[mesh].morph_names
    ]
    if morphs:
        row["morphTargetBinds"] = morphs
    colors = [
        {"material": material, "type": kind, "targetValue": list(value)}
        for mesh, run, kind, value in one.colors
        if (material := _material(raw, mesh_nodes, mesh, run)) is not None
    ]
    if colors:
        row["materialColorBinds"] = colors
    textures = [
        {"material": material, "scale": list(scale), "offset": list(offset)}
        for mesh, run, scale, offset in one.textures
        if (material := _material(raw, mesh_nodes, mesh, run)) is not None
    ]
    if textures:
        row["textureTransformBinds"] = textures
    if one.binary:
        row["isBinary"] = True
    for part, way in one.overrides.items():
        row[f"override{part[0].upper()}{part[1:]}"] = way
    return row


def _material(raw: dict[str, Any], mesh_nodes: Sequence[int], mesh: int, run: int) -> int | None:
    """The material of a run of triangles in the document."""
    if mesh >= len(mesh_nodes):
        return None
    primitives = raw["meshes"][raw["nodes"][mesh_nodes[mesh]]["mesh"]]["primitives"]
    return primitives[run].get("material") if run < len(primitives) else None


def add_springs(raw: dict[str, Any], avatar: Avatar, nodes: Sequence[int]) -> None:
    """Put the rows of swinging bones and what they are kept out of into a document."""
    if not avatar.swinging:
        return
    held: dict[str, Any] = {"specVersion": _SPEC}
    if avatar.colliders:
        held["colliders"] = [{"node": nodes[bone], "shape": dict(shape)} for bone, shape in avatar.colliders]
    groups = {index: number for number, index in enumerate(i for i, (_, own) in enumerate(avatar.groups) if own)}
    if groups:
        held["colliderGroups"] = [{"name": name, "colliders": list(own)} for name, own in avatar.groups if own]
    springs = []
    for row in avatar.swinging:
        joints = [{"node": nodes[bone], **words} for bone, words in row.joints]
        spring: dict[str, Any] = {"name": row.name, "joints": joints}
        own = [groups[index] for index in row.groups if index in groups]
        springs.append(
            spring | ({"colliderGroups": own} if own else {})
            | ({} if row.center is None else {"center": nodes[row.center]})
        )  # fmt: skip
    held["springs"] = springs
    add_extension(raw, "VRMC_springBone", held)


def _add_constraints(raw: dict[str, Any], avatar: Avatar, nodes: Sequence[int]) -> None:
    for bone, (kind, source, words) in avatar.constraints.items():
        row = raw["nodes"][nodes[bone]]
        content = {"specVersion": _SPEC, "constraint": {kind: {"source": nodes[source], **words}}}
        row["extensions"] = {**row.get("extensions", {}), "VRMC_node_constraint": content}
    if avatar.constraints:
        raw["extensionsUsed"] = sorted({*raw.get("extensionsUsed", []), "VRMC_node_constraint"})
