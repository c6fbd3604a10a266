"""The humanoid of VRM: the file itself says which node is which bone. Editions 1.0 and 0.x, and animations."""

from __future__ import annotations

import re
from typing import Any

# VRM 1.0's names that are not simply ours in another spelling.
_OTHER = {"spine": "spine_1", "chest": "spine_2", "upperChest": "spine_3", "neck": "neck_1"}
_SIDED = re.compile(r"(left|right)([A-Z].*)")
# The thumb's joints were called one further out in edition 0.x.
_OLD_THUMB = {"ThumbProximal": "ThumbMetacarpal", "ThumbIntermediate": "ThumbProximal"}
# The bones that every avatar has (VRM 1.0, humanoid: required bones).
REQUIRED = (
    "hips", "spine", "head", "leftUpperLeg", "leftLowerLeg", "leftFoot", "rightUpperLeg", "rightLowerLeg", "rightFoot",
    "leftUpperArm", "leftLowerArm", "leftHand", "rightUpperArm", "rightLowerArm", "rightHand",
)  # fmt: skip
# The bone above each (the same, parent of the bone); where that is not there, the one above it.
_MIDDLE = {"spine": "hips", "chest": "spine", "upperChest": "chest", "neck": "upperChest", "head": "neck"}
_LIMBS = {
    "Shoulder": "upperChest", "UpperArm": "Shoulder", "LowerArm": "UpperArm", "Hand": "LowerArm", "UpperLeg": "hips",
    "LowerLeg": "UpperLeg", "Foot": "LowerLeg", "Toes": "Foot", "Eye": "head", "ThumbMetacarpal": "Hand",
    "ThumbProximal": "ThumbMetacarpal", "ThumbDistal": "ThumbProximal",
    **{f"{finger}{part}": above for finger in ("Index", "Middle", "Ring", "Little") for part, above in (
        ("Proximal", "Hand"), ("Intermediate", f"{finger}Proximal"), ("Distal", f"{finger}Intermediate"))},
}  # fmt: skip
PARENTS = {
    **_MIDDLE, "jaw": "head",
    **{f"{side}{bone}": above if above[0].islower() else f"{side}{above}"
       for side in ("left", "right") for bone, above in _LIMBS.items()},
}  # fmt: skip
BONES = ("hips", *PARENTS)


def extension_of(raw: dict[str, Any], name: str) -> dict[str, Any]:
    """One extension of a document; empty if it has none that is an object."""
    held = raw.get("extensions")
    found = held.get(name) if isinstance(held, dict) else None
    return found if isinstance(found, dict) else {}


def nodes_of_humanoid(raw: dict[str, Any]) -> dict[str, int]:
    """The node of each bone, by the bone's name in edition 1.0; empty for other files."""
    for name in ("VRMC_vrm", "VRMC_vrm_animation"):
        humanoid = extension_of(raw, name).get("humanoid")
        bones = humanoid.get("humanBones") if isinstance(humanoid, dict) else None
        if isinstance(bones, dict):
            rows = {key: row.get("node") for key, row in bones.items() if isinstance(row, dict)}
            return {key: node for key, node in rows.items() if isinstance(node, int)}
    humanoid = extension_of(raw, "VRM").get("humanoid")
    listed = humanoid.get("humanBones") if isinstance(humanoid, dict) else None
    out: dict[str, int] = {}
    for row in listed if isinstance(listed, list) else ():
        bone, node = (row.get("bone"), row.get("node")) if isinstance(row, dict) else (None, None)
        if isinstance(bone, str) and isinstance(node, int):
            match = _SIDED.fullmatch(bone)
            out[f"{match[1]}{_OLD_THUMB.get(match[2], match[2])}" if match else bone] = node
    return out


def nodes_of_motion(raw: dict[str, Any]) -> set[int]:
    """The nodes that a VRM animation names: bones, and those that stand for expressions. They are one figure."""
    held = extension_of(raw, "VRMC_vrm_animation")
    if not held:
        return set()
    expressions = held.get("expressions")
    rows: list[Any] = []
    for kind in ("preset", "custom"):
        named = expressions.get(kind) if isinstance(expressions, dict) else None
        rows += named.values() if isinstance(named, dict) else []
    found = [row.get("node") for row in rows if isinstance(row, dict)]
    return {*nodes_of_humanoid(raw).values(), *(node for node in found if isinstance(node, int))}


def vrm_roles(raw: dict[str, Any], bone_of: dict[int, int]) -> dict[str, int]:
    """The bones by role that the humanoid names; empty for other files."""
    found = {role_of_vrm_bone(name): bone_of[node] for name, node in nodes_of_humanoid(raw).items() if node in bone_of}
    if "spine_3" in found and "spine_2" not in found:
        found["spine_2"] = found.pop("spine_3")
    return found


def role_of_vrm_bone(name: str) -> str:
    """``leftThumbProximal`` is ``thumb_proximal_left``."""
    if name in _OTHER:
        return _OTHER[name]
    match = _SIDED.fullmatch(name)
    base = match[2] if match else name
    words = "_".join(word.lower() for word in re.findall(r"[A-Z]?[a-z]+", base))
    return f"{words}_{match[1]}" if match else words


VRM_BONE_OF_ROLE = {role_of_vrm_bone(name): name for name in BONES}
