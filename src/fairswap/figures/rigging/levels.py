"""A solid cut into levels, and each level into what hangs together: from that its limbs and their centre lines.

Cut by the way inside from the belly, every limb is a row of pieces that ends in a tip (a Reeb graph; Shinagawa and
Kunii 1991). Cut square to a limb, the pieces are its sections.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fairswap.figures.rigging.solid import Solid, rows_of
from fairswap.model.arrays import Floats, Integers


@dataclass(frozen=True, eq=False)
class Levels:
    """The pieces of a solid's levels.

    Attributes
    ----------
    piece : (points,) integers
        The piece that each point of the solid is in; -1 outside of what was cut.
    level : (pieces,) integers
    middle : (pieces, 3) array
    low, high : (pieces, 3) arrays
        Corners of the box around each.
    area_m2 : (pieces,) array
        Volume over thickness.
    """

    piece: Integers
    level: Integers
    middle: Floats
    low: Floats
    high: Floats
    area_m2: Floats
    width_m: float
    links: Integers

    @classmethod
    def of(cls, solid: Solid, values: Floats, width_m: float) -> Levels:
        """Cut by a value of each point, in levels ``width_m`` wide; where it is not finite, the solid is left out."""
        from scipy.sparse.csgraph import connected_components

        taken = np.isfinite(values)
        level = np.full(len(solid), -1, dtype=np.int64)
        level[taken] = np.floor((values[taken] - values[taken].min()) / width_m).astype(np.int64) if taken.any() else 0
        near = solid.neighbours
        beside = (near >= 0) & taken[near] & taken[:, None]
        same = beside & (level[near] == level[:, None])
        # Each is its neighbours' neighbour: to be reached both ways is to hang together.
        _, label = connected_components(rows_of(near, same, np.ones(near.shape[1])), connection="strong")
        piece = np.full(len(solid), -1, dtype=np.int64)
        kept, piece[taken] = np.unique(label[taken], return_inverse=True)
        count = len(kept)
        rows, points = piece[taken], solid.points[taken]
        sizes = np.bincount(rows, minlength=count)
        middle = np.stack([np.bincount(rows, points[:, axis], count) / sizes for axis in range(3)], axis=1)
        low, high = np.full((count, 3), np.inf), np.full((count, 3), -np.inf)
        np.minimum.at(low, rows, points)
        np.maximum.at(high, rows, points)
        own = np.zeros(count, dtype=np.int64)
        own[rows] = level[taken]
        here, step = np.nonzero(beside & ~same)
        a, b = piece[here], piece[near[here, step]]
        links = np.stack(np.divmod(np.unique((a * count + b)[a < b]), count), axis=1)
        half = 0.5 * solid.cell_m
        return cls(
            piece, own, middle, low - half, high + half, np.asarray(sizes * solid.cell_m**3 / width_m), width_m, links
        )  # fmt: skip

    def at(self, level: int) -> Integers:
        """The pieces of a level."""
        return np.flatnonzero(self.level == level)


@dataclass(frozen=True, eq=False)
class Branch:
    """A limb: its pieces from the tip to where it leaves the rest, how long it is, and the point of its tip."""

    pieces: Integers
    length_m: float
    tip: Floats


def branches_of(solid: Solid, levels: Levels, values: Floats, least_m: float) -> list[Branch]:
    """The limbs longer than ``least_m``, longest way first; ``values`` are those that the solid was cut by."""
    count = len(levels.level)
    below: list[list[int]] = [[] for _ in range(count)]
    for a, b in levels.links.tolist():
        if levels.level[a] > levels.level[b]:
            below[a].append(b)
        elif levels.level[b] > levels.level[a]:
            below[b].append(a)
    finite = np.where(np.isfinite(values), values, -np.inf)
    order = np.lexsort((-finite, levels.piece))
    order = order[levels.piece[order] >= 0]
    furthest = order[np.unique(levels.piece[order], return_index=True)[1]]
    tip_value = finite[furthest].copy()
    tip_of = furthest.copy()
    # From the highest level down: where rows of pieces meet, the one that reaches furthest goes on, the others end.
    out: list[Branch] = []

    def ended(row: list[int], value: float, tip: int) -> None:
        length = value - levels.width_m * float(levels.level[row[-1]])
        if length >= least_m:
            out.append(Branch(np.array(row), length, solid.points[tip]))

    arriving: dict[int, list[tuple[float, int, list[int]]]] = {}
    for piece in np.argsort(-levels.level, kind="stable").tolist():
        rows = sorted(arriving.pop(piece, []), key=lambda row: -row[0])
        for value, tip, row in rows[1:]:
            ended(row, value, tip)
        value, tip, row = rows[0] if rows else (float(tip_value[piece]), int(tip_of[piece]), [])
        row = [*row, piece]
        if not below[piece]:
            ended(row, value, tip)
            continue
        # A limb that touches the body twice goes on to the larger of the two.
        onward = max(below[piece], key=lambda other: (float(levels.area_m2[other]), -other))
        arriving.setdefault(onward, []).append((value, tip, row))
    return sorted(out, key=lambda branch: -branch.length_m)
