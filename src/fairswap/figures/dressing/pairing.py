"""Which bones of a garment's skeleton stand for which roles: it has only some of a body's, under names of its own."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from fairswap.bones.assignment import roles_of
from fairswap.bones.profile import built_in_profiles, saved_profiles
from fairswap.errors import FairSwapError
from fairswap.formats.bone_names import unlike_names
from fairswap.formats.naming import bare_name
from fairswap.model.figure import Figure
from fairswap.model.skeleton import Skeleton
from fairswap.model.words import fit, meaning_of
from fairswap.pose.rigged import RiggedFigure

# A garment's bones stand where those of the body it was made for do, to this, in heights; closely where names differ.
_NEAR, _SAME_PLACE = 0.06, 0.01
# Names of a profile count if they are so many.
_LEAST_NAMED = 3
_LIKELY = 0.6


def roles_in_garment(garment: Figure, target: RiggedFigure, wearer: RiggedFigure | None) -> dict[str, int]:
    """The roles of a garment's bones, as far as they are known.

    By the body it was made for, bone by bone where they stand and as they are called; else by the file itself, by a
    profile, by whole roles found from the tree; else by the names of the target's bones, or by the words in its own.
    """
    if wearer is not None:
        found = _by_another(garment.skeleton, wearer, placed=True)
        if len(found) >= min(_LEAST_NAMED, len(garment.skeleton)):
            return found
    try:
        return dict(roles_of(garment).bones)
    except FairSwapError:
        pass
    choices = [_by_profiles(garment.skeleton), _by_another(garment.skeleton, target, placed=False),
               _by_words(garment.skeleton, target)]  # fmt: skip
    best = max(choices, key=len)
    return best if len(best) >= min(_LEAST_NAMED, len(garment.skeleton)) else {}


def _by_another(skeleton: Skeleton, other: RiggedFigure, placed: bool) -> dict[str, int]:
    """The roles that the other figure's bones of these names have, where they stand if ``placed``."""
    names = [[bare_name(name) for name in one.names] for one in (other.skeleton, skeleton)]
    near = np.ones((len(skeleton), len(other.skeleton)), dtype=bool)
    apart = np.zeros(near.shape)
    if placed:
        places, others = (one.rest.positions[0] for one in (other.skeleton, skeleton))
        apart = np.linalg.norm(others[:, None] - places[None], axis=2) / max(other.figure.height_m, 1e-9)
        near = apart < _NEAR
    unlike = np.where(near, unlike_names(names[0], names[1], near), np.inf)
    if placed and not np.isfinite(unlike).any():
        unlike = np.where(apart < _SAME_PLACE, 0.0, np.inf)
    found: dict[str, int] = {}
    for role, bone in other.roles.bones.items():
        column = unlike[:, bone] + apart[:, bone]
        best = int(np.argmin(column))
        if np.isfinite(column[best]) and best not in found.values():
            found[role] = best
    return found


def _by_profiles(skeleton: Skeleton) -> dict[str, int]:
    """The roles of the profile that knows most of the names, whatever is before them."""
    number = {bare_name(name): bone for bone, name in reversed(list(enumerate(skeleton.names)))}
    best: dict[str, int] = {}
    for profile in (*saved_profiles(), *built_in_profiles()):
        found: dict[str, int] = {}
        for role, names in profile.roles.items():
            bone = next((number[bare_name(name)] for name in names if bare_name(name) in number), None)
            if bone is not None and bone not in found.values():
                found[role] = bone
        if len(found) > len(best):
            best = found
    return best


def _by_words(skeleton: Skeleton, target: RiggedFigure) -> dict[str, int]:
    """The roles of the target that names say in words."""
    found: dict[str, int] = {}
    for role in target.roles.roles():
        side = role.rpartition("_")[2] if role.endswith(("_left", "_right")) else ""
        scores = [
            fit(name, role) if meaning_of(name).side == side and bone not in found.values() else -1.0
            for bone, name in enumerate(skeleton.names)
        ]
        best = int(np.argmax(scores))
        if scores[best] > _LIKELY:
            found[role] = best
    return found


def nearest_roles(skeleton: Skeleton, roles: Mapping[str, int]) -> list[str]:
    """For each bone its role, or that of the nearest bone above that has one; of those above all, the first below."""
    own = {bone: role for role, bone in roles.items()}
    out: list[str] = []
    for bone, parent in enumerate(skeleton.parents.tolist()):
        out.append(own.get(bone) or (out[parent] if parent >= 0 else ""))
    topmost = own[min(own)] if own else ""
    return [role or topmost for role in out]
