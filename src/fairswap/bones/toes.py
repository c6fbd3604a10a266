"""Toes: one bone with the role, or several chains side by side of which one has it."""

from __future__ import annotations

import numpy as np

from fairswap.bones.roles import RoleMap
from fairswap.model.arrays import Floats
from fairswap.model.skeleton import Skeleton

# Chains beside the one with the role are toes if they point as it does but for so much, and are about as long.
_BESIDE_DEGREES, _AS_LONG = 50.0, 2.5


def toes_of(skeleton: Skeleton, roles: RoleMap, side: str) -> list[int]:
    """The bones that toes begin with on one side, that with the role first; none where no bone has it."""
    toes, foot = roles.bones.get(f"toes_{side}"), roles.bones.get(f"foot_{side}")
    if toes is None or foot is None:
        return []
    places = skeleton.rest.positions[0]
    way = places[toes] - places[foot]
    length = float(np.linalg.norm(way))
    out, holder = [toes], int(skeleton.parents[toes])
    taken = set(roles.bones.values())
    for bone in skeleton.children[holder]:
        other = places[bone] - places[foot]
        reach = float(np.linalg.norm(other))
        if bone in taken or bone in skeleton.ends or not length / _AS_LONG < reach < length * _AS_LONG:
            continue
        if float(way @ other) > length * reach * np.cos(np.radians(_BESIDE_DEGREES)):
            out.append(bone)
    return out


def middle_of_toes(skeleton: Skeleton, roles: RoleMap, side: str, positions: Floats) -> Floats | None:
    """Where the toes of one side begin, in the middle of all, ``(3,)``, in any pose: ``positions`` ``(bones, 3)``."""
    toes = toes_of(skeleton, roles, side)
    return np.asarray(positions[toes].mean(axis=0)) if toes else None
