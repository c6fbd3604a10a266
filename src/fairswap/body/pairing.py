"""Pair the bones of two figures through their roles: one to one, and chains of unlike counts by length."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fairswap.body.subject import Subject
from fairswap.bones.roles import RoleMap
from fairswap.kernels import Floats


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


def pair_bones(source: Subject, target: Subject) -> list[Pair]:
    """The pairs for all target bones that get motion, in the order of the target's bones.

    The root gets none: travel is on the hips, and the root stays where it rests.
    """
    pairs = []
    for role, bone in target.roles.bones.items():
        if role in source.roles.bones and role != "root" and not role.startswith(("spine_", "neck_")):
            other = source.roles.bones[role]
            pairs.append(Pair(role, bone, other, other, 0.0))
    pairs += _chain("spine", "hips", source, target)
    last_spine = source.roles.chain("spine")[-1]
    if source.roles.chain("neck"):
        pairs += _chain("neck", last_spine, source, target)
    else:
        # No neck on the source: the target's bends evenly between chest and head.
        neck = target.roles.chain("neck")
        chest, head = source.roles.bones[last_spine], source.roles.bones["head"]
        pairs += [
            Pair(role, target.roles.bones[role], chest, head, (i + 1) / (len(neck) + 1)) for i, role in enumerate(neck)
        ]
    return sorted(pairs, key=lambda pair: pair.target)


def _chain(kind: str, base_role: str, source: Subject, target: Subject) -> list[Pair]:
    """Each bone turns as the source's chain does at the same share of its length, counted at the bone's far end.

    The base (hips, or the last of the spine) is at 0, the far end of the last bone at 1: ends are exact.
    """
    knots = np.concatenate([[0.0], _shares(source, kind)])
    bones = [source.roles.bones[role] for role in (base_role, *source.roles.chain(kind))]
    targets = target.roles.chain(kind)
    pairs = []
    for role, at in zip(targets, _shares(target, kind) if targets else (), strict=True):
        after = int(np.clip(np.searchsorted(knots, at - 1e-9), 1, len(knots) - 1))
        share = float((at - knots[after - 1]) / max(knots[after] - knots[after - 1], 1e-9))
        exact = share > 1.0 - 1e-6
        first = bones[after] if exact else bones[after - 1]
        pairs.append(Pair(role, target.roles.bones[role], first, bones[after], 0.0 if exact else share))
    return pairs


def _shares(subject: Subject, kind: str) -> Floats:
    """The far end of each bone of a chain as a share of the chain's length, the last at 1."""
    positions = subject.skeleton.rest.positions[0]
    bones = [subject.roles.bones[role] for role in subject.roles.chain(kind)]
    ends = [*positions[bones[1:]], _chain_end(positions, subject.roles, kind)]
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
