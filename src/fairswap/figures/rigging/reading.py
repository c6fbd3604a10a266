"""A body's shape as it is read: its solid, cut into limbs and sections."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from fairswap.errors import ImpossibleError
from fairswap.figures.rigging.levels import Branch, Levels, branches_of
from fairswap.figures.rigging.solid import Solid
from fairswap.model.arrays import Floats

# Cubes along the height of a body.
FINENESS = 180
# A limb is this long at least, as a share of the height.
_LEAST_LIMB = 0.10


@dataclass(frozen=True, eq=False)
class Limbs:
    """The five limbs of a body, by side; a pair that is not seen is missing."""

    head: Branch
    arms: dict[str, Branch]
    legs: dict[str, Branch]


class ShapeReading:
    """What the shape of an upright body says of its joints: its solid, limbs, sections, and its skin's vertices."""

    def __init__(self, solid: Solid, vertices: Floats) -> None:
        self.solid, self.vertices = solid, vertices
        points = solid.points
        self.floor = float(points[:, 1].min()) - 0.5 * solid.cell_m
        self.height = float(np.ptp(points[:, 1])) + solid.cell_m
        self.middle = self._middle()

    def _middle(self) -> float:
        """Where the plane between left and right is: the middle of the trunk's and the head's sections."""
        y = (self.solid.points[:, 1] - self.floor) / self.height
        upper = self.solid.points[(y > 0.45) & (y < 0.97)]
        if not len(upper):
            return float(self.solid.points[:, 0].mean())
        return float(np.median(upper[:, 0]))

    @cached_property
    def ways(self) -> Floats:
        """The way inside from the middle of the trunk to each point."""
        y = (self.solid.points[:, 1] - self.floor) / self.height
        near = np.abs(self.solid.points[:, 0] - self.middle) < 0.06 * self.height
        inner = np.flatnonzero(near & (y > 0.35) & (y < 0.75))
        if not len(inner):
            raise ImpossibleError("it has no trunk: nothing is in the middle of it", code="no-body-shape")
        return self.solid.distances(inner[np.argmax(self.solid.depth_m(inner))])

    @cached_property
    def by_way(self) -> Levels:
        """The body cut by the way inside from the middle of the trunk."""
        return Levels.of(self.solid, self.ways, 2.0 * self.solid.cell_m)

    @cached_property
    def branches(self) -> list[Branch]:
        """All that sticks out from the trunk, longest first."""
        return branches_of(self.solid, self.by_way, self.ways, _LEAST_LIMB * self.height)

    def furthest(self, tip: Floats, along: Floats) -> Floats:
        """The vertex furthest along near a tip of the solid: fingers are thinner than its cubes."""
        off = self.vertices - tip
        way = off @ along
        beside = np.linalg.norm(off - way[:, None] * along, axis=1)
        near = (way > -0.01 * self.height) & (way < 0.09 * self.height) & (beside < 0.05 * self.height)
        return self.vertices[near][np.argmax(way[near])] if near.any() else tip

    @cached_property
    def by_height(self) -> Levels:
        """The horizontal sections of the body."""
        return Levels.of(self.solid, self.solid.points[:, 1] - self.floor, 2.0 * self.solid.cell_m)

    @cached_property
    def limbs(self) -> Limbs:
        """Head, arms and legs among the branches."""
        rows = self.branches
        tips = np.array([branch.tip for branch in rows]).reshape(-1, 3)
        share = (tips[:, 1] - self.floor) / self.height
        across = (tips[:, 0] - self.middle) / self.height
        heads = [i for i in range(len(rows)) if share[i] > 0.75 and abs(across[i]) < 0.15]
        if not heads:
            raise ImpossibleError("it has no head: nothing rises in the middle of it", code="no-body-shape")
        head = max(heads, key=lambda i: (share[i], -i))
        legs = self._pair([i for i in range(len(rows)) if share[i] < 0.25], tips)
        rest = [i for i in range(len(rows)) if i != head and i not in legs.values() and abs(across[i]) > 0.06]
        arms = self._pair([i for i in rest if share[i] > 0.12], tips)
        return Limbs(
            rows[head], {side: rows[i] for side, i in arms.items()}, {side: rows[i] for side, i in legs.items()}
        )

    def _pair(self, rows: list[int], tips: Floats) -> dict[str, int]:
        """The two branches, one on each side, that are most alike and long; one alone where there is no other."""
        left = [i for i in rows if tips[i, 0] > self.middle + 0.01 * self.height]
        right = [i for i in rows if tips[i, 0] < self.middle - 0.01 * self.height]
        mirror = np.array([-1.0, 1.0, 1.0])

        def unlike(a: int, b: int) -> float:
            away = (tips[a] - [self.middle, 0, 0]) - (tips[b] - [self.middle, 0, 0]) * mirror
            short = min(self.branches[a].length_m, self.branches[b].length_m)
            return float(np.linalg.norm(away) - 0.5 * short + 0.5 * max(0.0, -tips[a, 2] - tips[b, 2]))

        pairs = [(unlike(a, b), a, b) for a in left for b in right]
        if pairs:
            _, a, b = min(pairs)
            return {"left": a, "right": b}
        return {side: own[0] for side, own in (("left", left), ("right", right)) if own}
