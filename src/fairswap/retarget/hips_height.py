"""How high the hips are on another figure: standing as its legs and ankles make them, sitting on the floor on it.

Depth is counted down from standing, in leg lengths. Between figures a depth is carried over by way of a common one,
which is the same near standing, where legs bend alike, and 1 on the floor for all: ``common = depth + bend * depth²``.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fairswap.model.arrays import Floats
from fairswap.pose.rigged import RiggedFigure

# Hips that rest lower or higher than this, in leg lengths, do not rest standing: no depth is told from them.
_LOWEST, _HIGHEST = 0.8, 1.9


@dataclass(frozen=True)
class HipsHeight:
    """The hips of one figure: how high they stand over the floor, metres, and its legs."""

    standing_m: float
    leg_m: float

    @classmethod
    def of(cls, rigged: RiggedFigure) -> HipsHeight:
        return cls(float(rigged.reference.hips[1]) - rigged.floor_m, rigged.reference.leg_m)

    @property
    def stands(self) -> bool:
        """Whether the figure rests standing."""
        return _LOWEST < self._deepest < _HIGHEST

    @property
    def _deepest(self) -> float:
        return self.standing_m / self.leg_m

    @property
    def _bend(self) -> float:
        return (1.0 - self._deepest) / self._deepest**2

    def common(self, height_m: Floats) -> Floats:
        """The common depth of hips at a height over the floor, ``(frames,)``."""
        depth = (self.standing_m - height_m) / self.leg_m
        down = np.clip(depth, 0.0, self._deepest)
        # Above standing as it is; below the floor it goes on as on the floor.
        return np.asarray(down + self._bend * down**2 + np.minimum(depth, 0.0) + self._slope * (depth - down).clip(0.0))

    def height(self, common: Floats) -> Floats:
        """The height over the floor, metres ``(frames,)``, of a common depth."""
        down = np.clip(common, 0.0, 1.0)
        root = np.sqrt(np.maximum(1.0 + 4.0 * self._bend * down, 0.0))
        depth = 2.0 * down / (1.0 + root) + np.minimum(common, 0.0) + (common - 1.0).clip(0.0) / self._slope
        return np.asarray(self.standing_m - self.leg_m * depth)

    @property
    def _slope(self) -> float:
        """How fast the common depth goes on the floor."""
        return 1.0 + 2.0 * self._bend * self._deepest


def height_change(source: RiggedFigure, target: RiggedFigure, height_m: Floats) -> Floats:
    """By how much the target's hips are higher than legs alone make them, metres ``(frames,)``, when those of the
    source are at ``height_m`` over its floor; nothing where one of the two does not rest standing."""
    first, second = HipsHeight.of(source), HipsHeight.of(target)
    if not (first.stands and second.stands):
        return np.zeros_like(height_m)
    by_legs = second.standing_m - second.leg_m * (first.standing_m - height_m) / first.leg_m
    return np.asarray(second.height(first.common(height_m)) - by_legs)
