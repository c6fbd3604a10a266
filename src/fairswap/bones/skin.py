"""Whether the skin of each limb lies around its bone: bones can be judged right while what is drawn is not."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fairswap.bones.apart import skin_apart
from fairswap.bones.roles import SIDES, RoleMap
from fairswap.errors import Finding
from fairswap.model.arrays import Floats
from fairswap.model.figure import Figure
from fairswap.wording import listed

# Limbs from joint to joint. Trunk and head carry hair, coats and wings, which are far from their bones.
_LIMBS = {"upper_arm": "lower_arm", "lower_arm": "hand", "upper_leg": "lower_leg", "lower_leg": "foot"}
_FEWEST = 8
# Skin is beside its bone if its mean is so much of its distance to one side (1: all of it is there), and so much of the
# figure's height; or if all of it lies before the bone's beginning, or behind its end.
_ONE_SIDED, _ASIDE = 0.9, 0.02
# A limb whose skin covers less of its length than this has lost it, where the other side's covers so much.
_BARE, _COVERED = 0.5, 0.8


@dataclass(frozen=True)
class _Skin:
    """How the skin of one limb lies: how much of the bone's length it covers, and how far beside it is, metres."""

    covers: float
    off_m: float = 0.0


def skin_told(figure: Figure, roles: RoleMap) -> list[Finding]:
    """Warnings of skin that does not go where the bones of the body go."""
    return skin_apart(figure, roles) + skin_off_bones(figure, roles)


def skin_off_bones(figure: Figure, roles: RoleMap) -> list[Finding]:
    """A warning if the skin of a limb does not lie around its bone at rest: it was bound to another pose, or its
    weights name other bones."""
    if not figure.meshes:
        return []
    found = _skin_of_limbs(figure, roles)
    beside = {role: skin.off_m for role, skin in found.items() if skin.off_m > 0.0}
    other = {f"{part}_{side}": f"{part}_{SIDES[1 - at]}" for part in _LIMBS for at, side in enumerate(SIDES)}
    bare = [
        role for role, skin in found.items()
        if role not in beside and skin.covers < _BARE and other[role] in found and found[other[role]].covers > _COVERED
    ]  # fmt: skip
    told = []
    if beside:
        off_cm = 100.0 * max(beside.values())
        told.append(f"the skin of {listed(beside, 4)} lies up to {off_cm:.0f} cm beside the bone")
    if bare:
        most = max(found[role].covers for role in bare)
        told.append(f"the skin of {listed(bare, 4)} covers {max(most, 0.0):.0%} of the bone, unlike the other side's")
    if not told:
        return []
    message = f"{'; '.join(told)}: what is drawn is elsewhere than what is judged"
    return [Finding("skin-off-bones", "warning", figure.name, message)]


def _skin_of_limbs(figure: Figure, roles: RoleMap) -> dict[str, _Skin]:
    skeleton, bones = figure.skeleton, roles.bones
    limbs = [
        (f"{part}_{side}", bones[f"{part}_{side}"], bones[f"{end}_{side}"])
        for part, end in _LIMBS.items() for side in SIDES if f"{part}_{side}" in bones and f"{end}_{side}" in bones
    ]  # fmt: skip
    limb_of = np.full(len(skeleton), -1)
    for number, (_, bone, end) in enumerate(limbs):  # upper parts first: lower ones take theirs from them
        limb_of[[bone, *skeleton.below(bone)]] = number
        limb_of[[end, *skeleton.below(end)]] = -1
    for bone, (role, _) in roles.helpers.items():
        limb_of[bone] = next((number for number, limb in enumerate(limbs) if limb[0] == role), limb_of[bone])
    owner = np.concatenate([limb_of[mesh.main_bones] for mesh in figure.meshes])
    vertices, places = np.concatenate(figure.rest_vertices), skeleton.rest.positions[0]
    return {
        role: _lying(vertices[owner == number], places[bone], places[end], figure.height_m)
        for number, (role, bone, end) in enumerate(limbs)
    }


def _lying(skin: Floats, start: Floats, end: Floats, height_m: float) -> _Skin:
    """How ``skin`` ``(n, 3)`` lies about a bone from ``start`` to ``end``."""
    along = end - start
    square = float(along @ along)
    if len(skin) < _FEWEST or square <= 0.0:
        return _Skin(0.0 if square > 0.0 else 1.0)
    share = (skin - start) @ along / square
    away = skin - start - share[:, None] * along
    aside = float(np.linalg.norm(away.mean(axis=0)))
    one_sided = aside > max(_ONE_SIDED * np.linalg.norm(away, axis=1).mean(), _ASIDE * height_m)
    low, high = np.percentile(share, [1.0, 99.0])
    covers = float(min(high, 1.0) - max(low, 0.0))
    beyond = max(low - 1.0, -high, 0.0)
    off_m = float(np.hypot(aside, beyond * np.sqrt(square)))
    return _Skin(covers, off_m if one_sided or beyond > 0.0 else 0.0)
