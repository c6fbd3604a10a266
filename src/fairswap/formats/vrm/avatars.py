"""From the VRM extensions of a document to an avatar, by the bones and meshes of its figure."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from fairswap.formats.vrm.humanoid import extension_of
from fairswap.model.avatar import Avatar, Expression, Swinging
from fairswap.model.mesh import Mesh

# The names of edition 0.x that are called otherwise in 1.0 (VRM 1.0, expressions: migration).
_OLD_PRESETS = {
    "a": "aa", "i": "ih", "u": "ou", "e": "ee", "o": "oh", "joy": "happy", "sorrow": "sad", "fun": "relaxed",
    "blink_l": "blinkLeft", "blink_r": "blinkRight", "lookup": "lookUp", "lookdown": "lookDown",
    "lookleft": "lookLeft", "lookright": "lookRight",
}  # fmt: skip
PRESETS = (
    "happy", "angry", "sad", "relaxed", "surprised", "aa", "ih", "ou", "ee", "oh", "blink", "blinkLeft", "blinkRight",
    "lookUp", "lookDown", "lookLeft", "lookRight", "neutral",
)  # fmt: skip


@dataclass(frozen=True)
class Places:
    """Which bone each node is, which mesh of the figure each node holds, and each glTF mesh; all by number."""

    bones: Mapping[int, int]
    meshes: Mapping[int, int]
    gltf_meshes: Mapping[int, Sequence[int]]
    materials: Mapping[int, Sequence[tuple[int, int]]]


def avatar_from(raw: dict[str, Any], places: Places, meshes: Sequence[Mesh], picture: Any) -> Avatar | None:
    """What VRM says in a document; None if it says nothing. What is broken in it is passed over.

    ``picture`` gives the bytes of an image by its number, or None.
    """
    new, old = extension_of(raw, "VRMC_vrm"), extension_of(raw, "VRM")
    motion = extension_of(raw, "VRMC_vrm_animation")
    if motion:
        return Avatar(controls=_controls(motion, places))
    if new:
        meta = _dict(new.get("meta"))
        return Avatar(
            "1.0", {key: value for key, value in meta.items() if key != "thumbnailImage"},
            picture(meta.get("thumbnailImage")), _expressions(_dict(new.get("expressions")), places, meshes),
            _dict(new.get("lookAt")) or None, _first_person(_dict(new.get("firstPerson")), places),
            *_springs(extension_of(raw, "VRMC_springBone"), places), _constraints(raw, places),
        )  # fmt: skip
    if old:
        meta = _dict(old.get("meta"))
        return Avatar("0.x", meta, None, _old_expressions(_dict(old.get("blendShapeMaster")), places, meshes))
    return None


def _controls(motion: dict[str, Any], places: Places) -> dict[str, int]:
    held = _dict(motion.get("expressions"))
    rows = {**_dict(held.get("preset")), **_dict(held.get("custom"))}
    found = {name: places.bones.get(_index(_dict(row).get("node"))) for name, row in rows.items()}
    return {name: bone for name, bone in found.items() if bone is not None}


def _expressions(held: dict[str, Any], places: Places, meshes: Sequence[Mesh]) -> dict[str, Expression]:
    out = {}
    for kind in ("preset", "custom"):
        for name, row in _dict(held.get(kind)).items():
            if not isinstance(row, dict) or name in out:  # an own one of a standard's name is not that
                continue
            morphs = []
            for bind in _rows(row.get("morphTargetBinds")):
                mesh = places.meshes.get(_index(bind.get("node")))
                index = _index(bind.get("index"))
                if mesh is not None and 0 <= index < len(meshes[mesh].morph_names):
                    morphs.append((mesh, meshes[mesh].morph_names[index], _number(bind.get("weight"), 1.0)))
            colors = [
                (*place, str(bind.get("type", "color")), numbers_or(bind.get("targetValue"), (1.0, 1.0, 1.0, 1.0)))
                for bind in _rows(row.get("materialColorBinds"))
                for place in places.materials.get(_index(bind.get("material")), ())
            ]
            textures = [
                (*place, numbers_or(bind.get("scale"), (1.0, 1.0)), numbers_or(bind.get("offset"), (0.0, 0.0)))
                for bind in _rows(row.get("textureTransformBinds"))
                for place in places.materials.get(_index(bind.get("material")), ())
            ]
            overrides = {
                part: str(row[f"override{part[0].upper()}{part[1:]}"])
                for part in ("blink", "lookAt", "mouth")
                if f"override{part[0].upper()}{part[1:]}" in row
            }
            out[name] = Expression(
                kind == "preset", tuple(morphs), tuple(colors), tuple(textures), row.get("isBinary") is True, overrides
            )
    return out


def _old_expressions(held: dict[str, Any], places: Places, meshes: Sequence[Mesh]) -> dict[str, Expression]:
    """Those of edition 0.x: by glTF mesh, weighed to 100."""
    out = {}
    for row in _rows(held.get("blendShapeGroups")):
        preset = str(row.get("presetName") or "").lower()
        name = _OLD_PRESETS.get(preset, preset)
        is_preset = name in PRESETS
        morphs = []
        for bind in _rows(row.get("binds")):
            index = _index(bind.get("index"))
            for mesh in places.gltf_meshes.get(_index(bind.get("mesh")), ()):
                if 0 <= index < len(meshes[mesh].morph_names):
                    weight = _number(bind.get("weight"), 100.0) / 100.0
                    morphs.append((mesh, meshes[mesh].morph_names[index], weight))
        title = name if is_preset else str(row.get("name") or "")
        if title and title not in out:
            out[title] = Expression(is_preset, tuple(morphs), binary=row.get("isBinary") is True)
    return out


def _first_person(held: dict[str, Any], places: Places) -> dict[int, str]:
    rows = _rows(held.get("meshAnnotations"))
    found = [(places.meshes.get(_index(row.get("node"))), row.get("type")) for row in rows]
    return {mesh: str(word) for mesh, word in found if mesh is not None}


def _springs(
    held: dict[str, Any], places: Places
) -> tuple[tuple[tuple[int, dict[str, Any]], ...], tuple[tuple[str, tuple[int, ...]], ...], tuple[Swinging, ...]]:
    colliders: list[tuple[int, dict[str, Any]]] = []
    number: dict[int, int] = {}
    for index, row in enumerate(_rows(held.get("colliders"))):
        bone = places.bones.get(_index(row.get("node")))
        if bone is not None and isinstance(row.get("shape"), dict):
            number[index] = len(colliders)
            colliders.append((bone, row["shape"]))
    groups = []
    for row in _rows(held.get("colliderGroups")):
        own = [_index(one) for one in _list(row.get("colliders"))]
        groups.append((str(row.get("name", "")), tuple(number[one] for one in own if one in number)))
    swinging = []
    for row in _rows(held.get("springs")):
        joints = []
        for joint in _rows(row.get("joints")):
            bone = places.bones.get(_index(joint.get("node")))
            if bone is not None:
                joints.append((bone, {key: value for key, value in joint.items() if key != "node"}))
        held_by = tuple(_index(one) for one in _list(row.get("colliderGroups")) if 0 <= _index(one) < len(groups))
        swinging.append(
            Swinging(str(row.get("name", "")), tuple(joints), held_by, places.bones.get(_index(row.get("center"))))
        )
    return tuple(colliders), tuple(groups), tuple(swinging)


def _constraints(raw: dict[str, Any], places: Places) -> dict[int, tuple[str, int, dict[str, Any]]]:
    out = {}
    for node, bone in places.bones.items():
        held = _dict(_dict(_dict(raw["nodes"][node]).get("extensions")).get("VRMC_node_constraint"))
        for kind in ("roll", "aim", "rotation"):
            row = _dict(_dict(held.get("constraint")).get(kind))
            source = places.bones.get(_index(row.get("source")))
            if source is not None:
                out[bone] = kind, source, {key: value for key, value in row.items() if key != "source"}
    return out


def _dict(value: Any) -> dict[str, Any]:
    return value if isinstance(value, dict) else {}


def _list(value: Any) -> list[Any]:
    return value if isinstance(value, list) else []


def _rows(value: Any) -> list[dict[str, Any]]:
    return [row for row in _list(value) if isinstance(row, dict)]


def _index(value: Any) -> int:
    return value if isinstance(value, int) and not isinstance(value, bool) else -1


def _number(value: Any, otherwise: float) -> float:
    return float(value) if isinstance(value, int | float) and abs(value) < 1e6 else otherwise


def numbers_or(value: Any, otherwise: tuple[float, ...]) -> tuple[float, ...]:
    """A row of as many numbers as the default has, or that."""
    row = _list(value)
    return tuple(_number(one, 0.0) for one in row) if len(row) == len(otherwise) else otherwise
