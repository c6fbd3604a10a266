"""Pair the bones of two figures through their roles: one to one, and chains of unlike counts by length."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fairswap.bones.roles import RoleMap
from fairswap.kernels import Floats
from fairswap.skeleton import Skeleton


@dataclass(frozen=True)
class Pair:
    """Where a target bone takes its motion from: a source bone, or a share of the way between two."""

    role: str
    target: int
    first: int
    second: int
    share: float

    @property
    def between(self) -> bool:
        return self.first != self.second and 0.0 < self.share < 1.0


def pair_bones(source: Skeleton, source_roles: RoleMap, target: Skeleton, target_roles: RoleMap) -> list[Pair]:
    """The pairs for all target bones that get motion, in the order of the target's bones.

    The root gets none: travel is on the hips, and the root stays where it rests.
    """
    pairs = []
    for role, bone in target_roles.bones.items():
        if role in source_roles.bones and role != "root" and not role.startswith(("spine_", "neck_")):
            other = source_roles.bones[role]
            pairs.append(Pair(role, bone, other, other, 0.0))
    pairs += _chain("spine", "hips", source, source_roles, target, target_roles)
    last_spine = source_roles.chain("spine")[-1]
    if source_roles.chain("neck"):
        pairs += _chain("neck", last_spine, source, source_roles, target, target_roles)
    else:
        # No neck on the source: the target's bends evenly between chest and head.
        neck = target_roles.chain("neck")
        chest, head = source_roles.bones[last_spine], source_roles.bones["head"]
        pairs += [
            Pair(role, target_roles.bones[role], chest, head, (i + 1) / (len(neck) + 1)) for i, role in enumerate(neck)
        ]
    return sorted(pairs, key=lambda pair: pair.target)


def _chain(
    kind: str, base_role: str, source: Skeleton, source_roles: RoleMap, target: Skeleton, target_roles: RoleMap
) -> list[Pair]:
    """Each bone turns as the source's chain does at the same share of its length, counted at the bone's far end.

    The base (hips, or the last of the spine) is at 0, the far end of the last bone at 1: ends are exact.
    """
    source_bones = [source_roles.bones[role] for role in source_roles.chain(kind)]
    targets = target_roles.chain(kind)
    knots = np.concatenate([[0.0], _shares(source, source_roles, source_bones, kind)])
    bones = [source_roles.bones[base_role], *source_bones]
    pairs = []
    for role, at in zip(targets, _shares(target, target_roles, [target_roles.bones[r] for r in targets], kind), strict=True):
        after = min(int(np.searchsorted(knots, at - 1e-9)), len(knots) - 1)
        after = max(after, 1)
        share = (at - knots[after - 1]) / max(knots[after] - knots[after - 1], 1e-9)
        if share > 1.0 - 1e-6:
            pairs.append(Pair(role, target_roles.bones[role], bones[after], bones[after], 0.0))
        else:
            pairs.append(Pair(role, target_roles.bones[role], bones[after - 1], bones[after], float(share)))
    return pairs


def _shares(skeleton: Skeleton, roles: RoleMap, bones: list[int], kind: str) -> Floats:
    """The far end of each bone of a chain as a share of the chain's length, the last at 1."""
    positions = skeleton.rest.positions[0]
    ends = [positions[bone] for bone in bones[1:]]
    ends.append(_chain_end(positions, roles, kind))
    lengths = np.linalg.norm(np.array(ends) - positions[bones], axis=1)
    if lengths.sum() <= 0:
        lengths = np.ones(len(bones))
    shares = np.cumsum(lengths) / lengths.sum()
    shares[-1] = 1.0
    return shares


def _chain_end(positions: Floats, roles: RoleMap, kind: str) -> Floats:
    """Where the last bone of the chain ends: the spine at the neck (or between the arms), the neck at the head."""
    if kind == "neck":
        return np.asarray(positions[roles.bones["head"]])
    neck = roles.chain("neck")
    if neck:
        return np.asarray(positions[roles.bones[neck[0]]])
    arms = [positions[roles.bones[f"upper_arm_{side}"]] for side in ("left", "right")]
    return np.asarray(np.mean(arms, axis=0))
