"""The rules of VRM 1.0 that a document's JSON can be held against: our transcription of its schemas, with the clauses.

https://github.com/vrm-c/vrm-specification/tree/master/specification, VRMC_vrm-1.0, VRMC_springBone-1.0,
VRMC_node_constraint-1.0, VRMC_vrm_animation-1.0.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import msgspec

from fairswap.formats.vrm import shapes
from fairswap.formats.vrm.avatars import PRESETS
from fairswap.formats.vrm.humanoid import BONES, PARENTS, REQUIRED, extension_of
from fairswap.formats.wrong_fields import said_of

Broken = tuple[str, str]
_TERMS: dict[str, tuple[str, ...]] = {
    "avatarPermission": ("onlyAuthor", "onlySeparatelyLicensedPerson", "everyone"),
    "commercialUsage": ("personalNonProfit", "personalProfit", "corporation"),
    "creditNotation": ("required", "unnecessary"),
    "modification": ("prohibited", "allowModification", "allowModificationRedistribution"),
}
_COLORS = ("color", "emissionColor", "shadeColor", "matcapColor", "rimColor", "outlineColor")
_AXES = ("PositiveX", "NegativeX", "PositiveY", "NegativeY", "PositiveZ", "NegativeZ")


def broken_rules(raw: dict[str, Any]) -> list[Broken]:
    """The rules of the standard that a document breaks, each as clause and what is wrong; none for other documents."""
    out: list[Broken] = []
    avatar, motion = extension_of(raw, "VRMC_vrm"), extension_of(raw, "VRMC_vrm_animation")
    for name, held in (("VRMC_vrm", avatar), ("VRMC_vrm_animation", motion),
                       ("VRMC_springBone", extension_of(raw, "VRMC_springBone"))):  # fmt: skip
        if held and held.get("specVersion") != "1.0":
            out.append((f"{name}: specVersion", f"it is {held.get('specVersion')!r}, not '1.0'"))
        if held and name not in raw.get("extensionsUsed", []):
            out.append(("glTF: extensionsUsed", f"{name} is not among them"))
    springs = extension_of(raw, "VRMC_springBone")
    for name, held, kind, rules in (
        ("VRMC_vrm", avatar, shapes.Avatar, (_meta, _humanoid_of_avatar, _expressions, _look_at, _first_person)),
        ("VRMC_vrm_animation", motion, shapes.Motion, (_motion,)),
        ("VRMC_springBone", springs, shapes.Springs, (_springs,)),
    ):
        misshapen = list(_misshapen(name, held, kind)) if held else []
        # What a field says is asked only where all are of their kind.
        out += misshapen or [row for rule in rules if held for row in rule(held, raw)]
    return [*out, *_constraints(raw)]


def _misshapen(name: str, held: Any, kind: Any) -> Iterator[Broken]:
    """The first field of an extension that is not of its kind: no list, no number."""
    try:
        msgspec.convert(held, kind)
    except msgspec.ValidationError as error:
        problem, where, _ = said_of(error, kind, name)
        yield f"{name}: {where or 'the whole'}", problem


def _meta(avatar: dict[str, Any], raw: dict[str, Any]) -> Iterator[Broken]:
    clause = "VRMC_vrm: meta"
    meta = avatar.get("meta")
    if not isinstance(meta, dict):
        yield clause, "it is missing"
        return
    if not isinstance(meta.get("name"), str) or not meta["name"]:
        yield f"{clause}.name", "it is missing"
    authors = meta.get("authors")
    if not isinstance(authors, list) or not authors or not all(isinstance(one, str) and one for one in authors):
        yield f"{clause}.authors", "at least one is to be named"
    if not isinstance(meta.get("licenseUrl"), str):
        yield f"{clause}.licenseUrl", "it is missing"
    for name, words in _TERMS.items():
        if name in meta and meta[name] not in words:
            yield f"{clause}.{name}", f"{meta[name]!r} is none of {', '.join(words)}"
    for name, value in meta.items():
        if name.startswith("allow") and not isinstance(value, bool):
            yield f"{clause}.{name}", f"{value!r} is neither true nor false"
    if "thumbnailImage" in meta and not _there(raw, "images", meta["thumbnailImage"]):
        yield f"{clause}.thumbnailImage", f"there is no image {meta['thumbnailImage']!r}"


def _humanoid_of_avatar(avatar: dict[str, Any], raw: dict[str, Any]) -> Iterator[Broken]:
    return _humanoid(avatar, raw, "VRMC_vrm: humanoid")


def _humanoid(held: dict[str, Any], raw: dict[str, Any], clause: str) -> Iterator[Broken]:
    bones = held.get("humanoid", {}).get("humanBones")
    if bones is None:
        yield clause, "there are no humanBones"
        return
    nodes: dict[str, int] = {}
    for name, row in bones.items():
        node = row.get("node")
        if name not in BONES:
            yield f"{clause}.humanBones.{name}", "there is no such bone"
        elif not _there(raw, "nodes", node):
            yield f"{clause}.humanBones.{name}", f"there is no node {node!r}"
        else:
            nodes[name] = node
    for name in REQUIRED:
        if name not in nodes:
            yield f"{clause}: required bones", f"{name} is missing"
    if len(set(nodes.values())) < len(nodes):
        yield f"{clause}: one node, one bone", "a node is two bones"
    parents = {child: index for index, node in enumerate(raw.get("nodes", ())) for child in node.get("children", ())}
    for name, node in nodes.items():
        above = PARENTS.get(name)
        while above is not None and above not in nodes:
            above = PARENTS.get(above)
        if above is None:
            continue
        at: int | None = parents.get(node)
        for _ in range(len(parents) + 1):
            if at is None or at == nodes[above]:
                break
            at = parents.get(at)
        if at is None:
            yield f"{clause}: parents of the bones", f"{name} is not below {above}"


def _expressions(avatar: dict[str, Any], raw: dict[str, Any]) -> Iterator[Broken]:
    clause = "VRMC_vrm: expressions"
    held = avatar.get("expressions", {})
    for kind in ("preset", "custom"):
        for name, row in held.get(kind, {}).items():
            place = f"{clause}.{kind}.{name}"
            if (name in PRESETS) != (kind == "preset"):
                yield place, "a preset is called otherwise, or a custom one as a preset"
            for bind in row.get("morphTargetBinds", ()):
                node, index = bind.get("node"), bind.get("index")
                mesh = raw["nodes"][node].get("mesh") if _there(raw, "nodes", node) else None
                if not _there(raw, "meshes", mesh):
                    yield f"{place}.morphTargetBinds", f"node {node!r} has no mesh"
                    continue
                count = min((len(one.get("targets", ())) for one in raw["meshes"][mesh]["primitives"]), default=0)
                if not isinstance(index, int) or not 0 <= index < count:
                    yield f"{place}.morphTargetBinds", f"morph {index!r} of {count}"
                if not 0.0 <= bind.get("weight", -1.0) <= 1.0:
                    yield f"{place}.morphTargetBinds", f"its weight is {bind.get('weight')!r}, not 0 to 1"
            for bind in row.get("materialColorBinds", ()):
                if bind.get("type") not in _COLORS or len(bind.get("targetValue", ())) != 4:
                    yield f"{place}.materialColorBinds", "it is no kind of colour, or does not have four numbers"
                if not _there(raw, "materials", bind.get("material")):
                    yield f"{place}.materialColorBinds", f"there is no material {bind.get('material')!r}"
            for bind in row.get("textureTransformBinds", ()):
                if not _there(raw, "materials", bind.get("material")):
                    yield f"{place}.textureTransformBinds", f"there is no material {bind.get('material')!r}"
            for part in ("Blink", "LookAt", "Mouth"):
                if row.get(f"override{part}", "none") not in ("none", "block", "blend"):
                    yield f"{place}.override{part}", f"{row[f'override{part}']!r} is no way to override"


def _look_at(avatar: dict[str, Any], _: dict[str, Any]) -> Iterator[Broken]:
    look = avatar.get("lookAt")
    if look is None:
        return
    if look.get("type", "bone") not in ("bone", "expression"):
        yield "VRMC_vrm: lookAt.type", f"{look['type']!r} is neither bone nor expression"
    if len(look.get("offsetFromHeadBone", (0, 0, 0))) != 3:
        yield "VRMC_vrm: lookAt.offsetFromHeadBone", "it does not have three numbers"
    for name in ("HorizontalInner", "HorizontalOuter", "VerticalDown", "VerticalUp"):
        row = look.get(f"rangeMap{name}", {})
        if not 0.0 <= row.get("inputMaxValue", 90.0) <= 180.0 or row.get("outputScale", 1.0) < 0.0:
            yield f"VRMC_vrm: lookAt.rangeMap{name}", "it is not within 0 to 180 degrees, or its scale is below 0"


def _first_person(avatar: dict[str, Any], raw: dict[str, Any]) -> Iterator[Broken]:
    for row in avatar.get("firstPerson", {}).get("meshAnnotations", ()):
        if row.get("type") not in ("auto", "both", "thirdPersonOnly", "firstPersonOnly"):
            yield "VRMC_vrm: firstPerson.meshAnnotations", f"{row.get('type')!r} is no type"
        if not _there(raw, "nodes", row.get("node")):
            yield "VRMC_vrm: firstPerson.meshAnnotations", f"there is no node {row.get('node')!r}"


def _springs(held: dict[str, Any], raw: dict[str, Any]) -> Iterator[Broken]:
    clause = "VRMC_springBone"
    for row in held.get("colliders", ()):
        if not _there(raw, "nodes", row.get("node")) or not ({"sphere", "capsule"} & set(row.get("shape", {}))):
            yield f"{clause}: colliders", "it has no node, or is neither a sphere nor a capsule"
    for row in held.get("colliderGroups", ()):
        if not row.get("colliders") or not all(_there(held, "colliders", one) for one in row["colliders"]):
            yield f"{clause}: colliderGroups", "it is empty, or names a collider that is not there"
    used: set[int] = set()
    for row in held.get("springs", ()):
        joints = [joint.get("node") for joint in row.get("joints", ())]
        if not joints or not all(_there(raw, "nodes", node) for node in joints):
            yield f"{clause}: springs.joints", "it has none, or names a node that is not there"
        if used & set(joints):
            yield f"{clause}: springs.joints", "a node is in two springs"
        used |= set(joints)
        if not all(_there(held, "colliderGroups", one) for one in row.get("colliderGroups", ())):
            yield f"{clause}: springs.colliderGroups", "it names a group that is not there"
        for joint in row.get("joints", ()):
            if not 0.0 <= joint.get("dragForce", 0.5) <= 1.0 or joint.get("hitRadius", 0.0) < 0.0:
                yield f"{clause}: springs.joints", "its drag is not 0 to 1, or its radius is below 0"


def _constraints(raw: dict[str, Any]) -> Iterator[Broken]:
    clause = "VRMC_node_constraint"
    for index, node in enumerate(raw.get("nodes", ())):
        held = node.get("extensions", {}).get(clause)
        if held is None:
            continue
        misshapen = list(_misshapen(f"{clause} of node {index}", held, shapes.Constraint))
        if misshapen:
            yield from misshapen
            continue
        rows = held.get("constraint", {})
        if len(rows) != 1 or not set(rows) <= {"roll", "aim", "rotation"}:
            yield clause, f"node {index} needs one of roll, aim and rotation, and one only"
            continue
        ((kind, row),) = rows.items()
        if not _there(raw, "nodes", row.get("source")) or row.get("source") == index:
            yield clause, f"node {index} follows {row.get('source')!r}"
        if kind == "roll" and row.get("rollAxis") not in ("X", "Y", "Z"):
            yield clause, f"node {index} rolls about {row.get('rollAxis')!r}"
        if kind == "aim" and row.get("aimAxis") not in _AXES:
            yield clause, f"node {index} aims along {row.get('aimAxis')!r}"


def _motion(motion: dict[str, Any], raw: dict[str, Any]) -> Iterator[Broken]:
    clause = "VRMC_vrm_animation"
    yield from _humanoid(motion, raw, f"{clause}: humanoid")
    bones = motion.get("humanoid", {}).get("humanBones", {})
    hips = bones.get("hips", {}).get("node")
    nodes = {row.get("node"): name for name, row in bones.items()}
    for name in ("leftEye", "rightEye"):
        if name in bones:
            yield f"{clause}: humanoid", f"{name} is among the bones: the gaze is in lookAt"
    held = motion.get("expressions", {})
    for kind in ("preset", "custom"):
        for name, row in held.get(kind, {}).items():
            if (name in PRESETS) != (kind == "preset") or not _there(raw, "nodes", row.get("node")):
                yield f"{clause}: expressions", f"{name} has no node, or is in the wrong list"
    for animation in raw.get("animations", ())[:1]:
        for channel in animation.get("channels", ()):
            node, path = channel["target"].get("node"), channel["target"].get("path")
            if node in nodes and (path == "scale" or (path == "translation" and node != hips)):
                yield f"{clause}: animation", f"{nodes[node]} moves by its {path}"


def _there(held: dict[str, Any], table: str, index: Any) -> bool:
    """Whether a table of a document has such a row."""
    return isinstance(index, int) and not isinstance(index, bool) and 0 <= index < len(held.get(table, ()))
