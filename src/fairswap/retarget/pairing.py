"""Pair the bones of two figures through their roles: one to one, and chains of unlike counts by length."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from fairswap.bones.roles import FINGERS, SIDES
from fairswap.bones.toes import toes_of
from fairswap.model.arrays import Floats
from fairswap.pose.rigged import RiggedFigure

# The last joint of a finger bends by this fraction of the one before it.
_CURLS_ON = 0.65


@dataclass(frozen=True)
class PairedBone:
    """A bone of the target with what moves it, in words."""

    role: str
    source: str
    target: str


@dataclass(frozen=True)
class Pair:
    """Where a target bone takes its motion from: a source bone, or a fraction of the way between two."""

    role: str
    target: int
    first: int
    second: int
    fraction: float

    @property
    def between(self) -> bool:
        """Whether it takes its motion from two bones: part of the way between them, or (above 1) on from the second."""
        return self.first != self.second and self.fraction not in (0.0, 1.0)


def pair_bones(source: RiggedFigure, target: RiggedFigure) -> list[Pair]:
    """The pairs for all target bones that get motion, in the order of the target's bones.

    The root gets none: travel is on the hips, and the root stays where it rests.
    """
    fingers = [pair for side in SIDES for finger in FINGERS for pair in _finger(finger, side, source, target)]
    done = {pair.role for pair in fingers}
    pairs = list(fingers)
    for role, bone in target.roles.bones.items():
        alone = role != "root" and role not in done and not role.startswith(("spine_", "neck_"))
        if alone and role in source.roles.bones:
            other = source.roles.bones[role]
            pairs.append(Pair(role, bone, other, other, 0.0))
    for side in SIDES:  # toes in several chains all bend as the one with the role
        first = next((pair for pair in pairs if pair.role == f"toes_{side}"), None)
        if first is not None:
            pairs += [replace(first, target=bone) for bone in toes_of(target.skeleton, target.roles, side)[1:]]
    spine, last_spine = source.roles.chain("spine"), source.roles.chain("spine")[-1]
    pairs += _chain("hips", spine, target.roles.chain("spine"), source, target)
    if source.roles.chain("neck"):
        pairs += _chain(last_spine, source.roles.chain("neck"), target.roles.chain("neck"), source, target)
    else:
        # No neck on the source: the target's bends evenly between chest and head.
        neck = target.roles.chain("neck")
        chest, head = source.roles.bones[last_spine], source.roles.bones["head"]
        pairs += [
            Pair(role, target.roles.bones[role], chest, head, (i + 1) / (len(neck) + 1)) for i, role in enumerate(neck)
        ]
    # Where the target's arms hang on its neck, that keeps to the chest, and a spine that its legs hang on to the hips.
    for limb, kind, keeps_to in (("arm", "neck", last_spine), ("leg", "spine", "hips")):
        still = source.roles.bones[keeps_to]
        if not _bears(source, limb, kind):
            kept = _bears(target, limb, kind)
            pairs = [Pair(row.role, row.target, still, still, 0.0) if row.target in kept else row for row in pairs]
    return sorted(pairs, key=lambda pair: pair.target)


def _bears(rigged: RiggedFigure, limb: str, kind: str) -> set[int]:
    """The bones of the neck that the arms hang on, or of the spine that the legs do, of a rig that is made so."""
    above = rigged.skeleton.with_ancestors([rigged.roles.bones[f"upper_{limb}_{side}"] for side in SIDES])
    return {rigged.roles.bones[role] for role in rigged.roles.chain(kind)} & set(above)


def _finger(finger: str, side: str, source: RiggedFigure, target: RiggedFigure) -> list[Pair]:
    """The joints of a finger that the source has otherwise: a finger it lacks follows its neighbour, a last joint it
    lacks curls on from the two before it."""
    bones = source.roles.bones
    place = FINGERS.index(finger)
    # The finger itself, else the nearest; of two as near, the inner one.
    donors = sorted(FINGERS, key=lambda other: (abs(FINGERS.index(other) - place), FINGERS.index(other)))
    donor = next((other for other in donors if f"{other}_proximal_{side}" in bones), None)
    if donor is None:
        return []
    found = []
    for part in ("proximal", "intermediate", "distal"):
        role, theirs = f"{finger}_{part}_{side}", f"{donor}_{part}_{side}"
        if role not in target.roles.bones or role in bones:
            continue
        bone = target.roles.bones[role]
        before = [f"{donor}_{earlier}_{side}" for earlier in ("proximal", "intermediate")]
        if theirs in bones:
            found.append(Pair(role, bone, bones[theirs], bones[theirs], 0.0))
        elif part == "distal" and all(name in bones for name in before):
            found.append(Pair(role, bone, bones[before[0]], bones[before[1]], 1.0 + _CURLS_ON))
    return found


def _chain(
    base_role: str, source_roles: list[str], target_roles: list[str], source: RiggedFigure, target: RiggedFigure
) -> list[Pair]:
    """Each bone turns as the source's chain does at the same fraction of its length, counted at the bone's far end.

    The base (hips, or the last of the spine) is at 0, the far end of the last bone at 1: ends are exact.
    """
    knots = np.concatenate([[0.0], _fractions(source, source_roles)])
    bones = [source.roles.bones[role] for role in (base_role, *source_roles)]
    pairs = []
    for role, at in zip(target_roles, _fractions(target, target_roles) if target_roles else (), strict=True):
        after = int(np.clip(np.searchsorted(knots, at - 1e-9), 1, len(knots) - 1))
        fraction = float((at - knots[after - 1]) / max(knots[after] - knots[after - 1], 1e-9))
        exact = fraction > 1.0 - 1e-6
        if at > 1.0 - 1e-9:  # the source's last carries neck and shoulders, also where it has no length of its own
            after, exact = len(knots) - 1, True
        first = bones[after] if exact else bones[after - 1]
        pairs.append(Pair(role, target.roles.bones[role], first, bones[after], 0.0 if exact else fraction))
    return pairs


def _fractions(rigged: RiggedFigure, roles: list[str]) -> Floats:
    """The far end of each bone of a chain as a fraction of the chain's length, the last at 1."""
    positions = rigged.skeleton.rest.positions[0]
    bones = [rigged.roles.bones[role] for role in roles]
    ends = [*positions[bones[1:]], _chain_end(positions, rigged, roles)]
    lengths = np.linalg.norm(np.array(ends) - positions[bones], axis=1)
    if lengths.sum() <= 0:
        lengths = np.ones(len(bones))
    fractions = np.cumsum(lengths) / lengths.sum()
    fractions[-1] = 1.0
    return fractions


def _chain_end(positions: Floats, rigged: RiggedFigure, chain: list[str]) -> Floats:
    """Where the last bone of a chain ends: the spine at the neck (or between the arms), the neck at the head, a finger
    at its end marker, or as far on as its last bone but one is long."""
    roles, last = rigged.roles, rigged.roles.bones[chain[-1]]
    if chain[0].startswith(FINGERS):
        ends = [child for child in rigged.skeleton.children[last] if child in rigged.skeleton.ends]
        before = int(rigged.skeleton.parents[last])
        return np.asarray(positions[ends[0]] if ends else 1.8 * positions[last] - 0.8 * positions[before])
    if chain[0].startswith("neck"):
        return np.asarray(positions[roles.bones["head"]])
    neck = roles.chain("neck")
    if neck:
        return np.asarray(positions[roles.bones[neck[0]]])
    arms = [positions[roles.bones[f"upper_arm_{side}"]] for side in ("left", "right")]
    return np.asarray(np.mean(arms, axis=0))
