"""The humanoid of VRM 1.0 (extension ``VRMC_vrm``): the file itself says which node is which bone."""

from __future__ import annotations

import re
from typing import Any

# VRM 1.0's names that are not simply ours in another spelling.
_OTHER = {"spine": "spine_1", "chest": "spine_2", "upperChest": "spine_3", "neck": "neck_1"}
_SIDED = re.compile(r"(left|right)([A-Z].*)")


def vrm_roles(raw: dict[str, Any], bone_of: dict[int, int]) -> dict[str, int]:
    """The bones by role that ``VRMC_vrm.humanoid.humanBones`` names; empty for other files."""
    bones: Any = raw.get("extensions")
    for key in ("VRMC_vrm", "humanoid", "humanBones"):
        bones = bones.get(key) if isinstance(bones, dict) else None
    found: dict[str, int] = {}
    for name, row in bones.items() if isinstance(bones, dict) else ():
        node = row.get("node") if isinstance(row, dict) else None
        if isinstance(node, int) and node in bone_of:
            found[role_of_vrm_bone(name)] = bone_of[node]
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
