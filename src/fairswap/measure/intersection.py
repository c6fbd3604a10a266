"""Limbs in each other and in the trunk, palms in the own body: how deep, for how long, and how much on the source."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fairswap.bones.roles import SIDES
from fairswap.measure.capsules import depths
from fairswap.measure.palms import palms_of
from fairswap.measure.surface import surface_of
from fairswap.model.chain_world import ChainWorld
from fairswap.model.clip import Clip
from fairswap.model.poses import EarlierPoses, Poses
from fairswap.pose.rigged import RiggedFigure

_DEEP_M = 0.01
# As near as this, in leg lengths, a limb is at what it was pushed out of.
_AT = 0.03


@dataclass(frozen=True)
class LimbInside:
    """A limb that goes into another one, or into a part of the trunk, on the result.

    How deep at worst and for how long (deeper than a centimetre), on the result and on the source; ``beyond_cm`` is how
    much deeper at worst than the source does at that time, for legs of one length; ``at_s`` is when.
    """

    limb: str
    into: str
    deepest_cm: float
    source_deepest_cm: float
    beyond_cm: float
    seconds: float
    source_seconds: float
    at_s: float

    @property
    def into_it(self) -> str:
        """What it goes into, in a sentence: another limb, or the part of the trunk."""
        return self.into if "_" in self.into else f"the {self.into}"


def limbs_inside(
    pair: tuple[RiggedFigure, RiggedFigure], poses: tuple[Poses, Poses | EarlierPoses], rate: float, first: int = 0
) -> tuple[LimbInside, ...]:
    """Which limbs of the result go into each other or the trunk, the worst first, from the frame ``first`` on.

    A result of bones alone is taken to be of the usual thickness; then its source is, too, whatever its skin.
    """
    if not pair[1].figure.meshes:
        pair = pair[0].without_skin, pair[1]
    source, result = (depths(rigged, ChainWorld(own)) for rigged, own in zip(pair, poses, strict=True))
    legs = pair[1].reference.leg_m / pair[0].reference.leg_m
    rows = []
    for (limb, into), deep in result.items():
        mine, theirs = deep[first:], source[limb, into][first:]
        beyond = mine - legs * np.maximum(theirs, 0.0)
        worst = int(np.argmax(beyond))
        if mine.max() > 0.0:
            cm = [100.0 * max(float(value), 0.0) for value in (mine.max(), theirs.max(), beyond[worst])]
            seconds = [float((values > _DEEP_M).sum()) / rate for values in (mine, theirs)]
            row = LimbInside(limb, into, cm[0], cm[1], cm[2], seconds[0], seconds[1], (first + worst) / rate)
            rows.append(row)
    return tuple(sorted(rows, key=lambda row: -row.beyond_cm))


def arms_crowded(rigged: RiggedFigure, poses: Poses | EarlierPoses) -> np.ndarray:
    """In which frames each forearm is at the trunk or at another limb, as one that was pushed out of it is; left first,
    ``(2, frames)``."""
    near = -_AT * rigged.reference.leg_m
    found = depths(rigged, ChainWorld(poses))
    return np.stack([
        np.max([deep for pair, deep in found.items() if f"lower_arm_{side}" in pair], axis=0) > near for side in SIDES
    ])  # fmt: skip


def seconds_inside(rigged: RiggedFigure, clip: Clip) -> float | None:
    """How long a palm is more than a centimetre inside the own body, seconds; None without a mesh that tells."""
    if not rigged.figure.meshes:
        return None
    chain = ChainWorld(clip.poses)
    inside = np.zeros(clip.frames, dtype=bool)
    palms = palms_of(rigged)
    for side in SIDES:
        point = palms[side].track(chain)
        for part in surface_of(rigged):
            height, _, distance = part.coordinates(point, chain)
            inside |= (height > 0.0) & (height < 1.0) & (distance < -_DEEP_M)
    return float(inside.mean()) * clip.frames / float(clip.rate)
