"""The fingers of a hand, as many as its mesh has: the branches of a finer solid beyond the wrist."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fairswap.bones.roles import FINGERS_BY_COUNT
from fairswap.figures.rigging.levels import Branch, Levels, branches_of
from fairswap.figures.rigging.shape import Shape
from fairswap.figures.rigging.solid import Solid
from fairswap.model.arrays import Floats
from fairswap.model.rotation import normalized

# Cubes along a hand, and how long a finger is at least, in hands.
_FINENESS, _LEAST_FINGER = 66, 0.14
_MOST_CUBES = 500_000
# Where the joints of a finger are between its knuckle and its tip (Buryanov and Kotiuk 2010, rounded).
_PHALANGES = {"proximal": 0.0, "intermediate": 0.46, "distal": 0.74}
_THUMB = {"metacarpal": 0.0, "proximal": 0.42, "distal": 0.72}


@dataclass(frozen=True, eq=False)
class Digit:
    """A finger or thumb: its name, and its line from the knuckle to the tip, ``(n, 3)``."""

    name: str
    line: Floats

    def joints(self, side: str) -> dict[str, Floats]:
        """The places of its joints and its tip, by role."""
        steps = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(self.line, axis=0), axis=1))])
        shares = {**(_THUMB if self.name == "thumb" else _PHALANGES), "tip": 1.0}
        return {
            f"{self.name}_{part}_{side}": np.array(
                [np.interp(share * steps[-1], steps, self.line[:, axis]) for axis in range(3)]
            )
            for part, share in shares.items()
        }


def digits_of(shape: Shape, wrist: Floats, tip: Floats) -> list[Digit]:
    """The digits of the hand between a wrist and the tip of its longest finger; none where it is a mitten."""
    length = float(np.linalg.norm(tip - wrist))
    along = (tip - wrist) / max(length, 1e-9)
    off = shape.vertices - wrist
    way = off @ along
    beside = np.linalg.norm(off - way[:, None] * along, axis=1)
    near = (way > -0.12 * length) & (way < 1.15 * length) & (beside < 0.58 * length)
    triangles = shape.triangles[near[shape.triangles].all(axis=1)]
    if len(triangles) < 20:
        return []
    hand = Solid.of(shape.vertices, triangles, length / _FINENESS, _MOST_CUBES)
    if not len(hand):
        return []
    hand = hand.largest_piece()
    ways = hand.distances(hand.nearest(wrist))
    levels = Levels.of(hand, ways, 2.0 * hand.cell_m)
    rows = [branch for branch in branches_of(hand, levels, ways, _LEAST_FINGER * length)
            if float((branch.tip - wrist) @ along) > 0.25 * length]  # fmt: skip
    if 2 <= len(rows) <= 5:
        lines = _lines(rows, levels)
        if len(rows) < 5:  # fingers that touch are one branch
            lines = _with_ridges(hand, levels, rows, lines, wrist, along, length)
        return _named(lines, wrist, along, length)
    return []


def _with_ridges(
    hand: Solid, levels: Levels, rows: list[Branch], lines: list[Floats], wrist: Floats, along: Floats, length: float
) -> list[Floats]:
    """The lines of a hand, its fingers told apart by their ridges where these are more than its branches."""
    from scipy.ndimage import gaussian_filter1d

    thumb = int(np.argmin([float((line[0] + line[-1] - 2.0 * wrist) @ along) for line in lines]))
    own = hand.points[~np.isin(levels.piece, rows[thumb].pieces)]
    way = (own - wrist) @ along
    slab = own[(way > 0.62 * length) & (way < 0.84 * length)]
    if len(slab) < 50:
        return lines
    spread = slab - slab.mean(axis=0)
    across = np.linalg.svd(spread - np.outer(spread @ along, along), full_matrices=False)[2][0]
    column = np.round((slab @ across) / hand.cell_m).astype(int)
    first = int(column.min())
    thick = gaussian_filter1d(np.bincount(column - first).astype(float), 1.5)
    peaks = _peaks(thick, 0.05 * float(thick.max()))
    gaps = np.diff(peaks)
    if not len(lines) <= len(peaks) <= 4 or gaps.max() > 1.8 * gaps.min():
        return lines
    half = 0.5 * float(gaps.mean()) * hand.cell_m
    out = [lines[thumb]]
    for peak in peaks:
        at = (peak + first) * hand.cell_m
        ridge = own[np.abs(own @ across - at) < half]
        ways = (ridge - wrist) @ along
        end, start = float(ways.max()), 0.58 * length
        middle = ridge[(ways > start) & (ways < end)].mean(axis=0)
        base = middle + (start - float((middle - wrist) @ along)) * along
        out.append(np.stack([base, base + (end - start) * along]))
    return out


def _peaks(heights: Floats, prominence: float) -> list[int]:
    """Where a line is highest, and falls by ``prominence`` on both sides before it is higher again.

    (scipy.signal has it as well, and takes three seconds to import.)
    """
    line = np.pad(heights, 1)
    out = []
    for at in np.flatnonzero((line[1:-1] > line[:-2]) & (line[1:-1] >= line[2:])) + 1:
        higher = np.flatnonzero(line > line[at])
        left = line[higher[higher < at].max(initial=0) : at]
        right = line[at : higher[higher > at].min(initial=len(line))]
        if line[at] - max(left.min(), right.min()) >= prominence:
            out.append(int(at) - 1)
    return out


def _lines(rows: list[Branch], levels: Levels) -> list[Floats]:
    """The lines of branches from the palm to their tips; the longest goes on as the palm, and is cut."""
    free = max(branch.length_m for branch in rows[1:])
    lines = []
    for branch in rows:
        middles = levels.middle[branch.pieces][::-1]
        ways = (np.arange(len(middles))[::-1] + 0.5) * levels.width_m
        own = middles[ways <= min(branch.length_m, free)]
        lines.append(np.concatenate([own, branch.tip[None]]))
    return lines


def _named(lines: list[Floats], wrist: Floats, along: Floats, length: float) -> list[Digit]:
    """The lines as thumb and fingers, in order from the thumb."""
    reach = np.array([float((line[-1] - wrist) @ along) for line in lines])
    starts = np.array([float((line[0] - wrist) @ along) for line in lines])
    thumb = int(np.argmin(reach + starts))
    others = [i for i in range(len(lines)) if i != thumb]
    # Apart from the rest: it begins nearer to the wrist and ends far short of them.
    has_thumb = reach[thumb] < 0.82 * np.median(reach[others]) or len(lines) == 5
    if not has_thumb:
        others, thumb = list(range(len(lines))), -1
    bases = np.array([line[0] for line in lines])
    spread = bases[others] - bases[others].mean(axis=0)
    across = np.linalg.svd(spread - np.outer(spread @ along, along))[2][0] if len(others) > 1 else np.zeros(3)
    if thumb >= 0 and float(across @ (bases[thumb] - bases[others].mean(axis=0))) > 0:
        across = -across
    ordered = sorted(others, key=lambda i: float(bases[i] @ across))
    out = [Digit(name, _to_the_knuckle(lines[i], wrist, length)) for name, i in
           zip(FINGERS_BY_COUNT[len(ordered)], ordered, strict=True)]  # fmt: skip
    if thumb >= 0:
        out.insert(0, Digit("thumb", _thumb_line(lines[thumb], wrist, along, length)))
    return out


def _to_the_knuckle(line: Floats, wrist: Floats, length: float) -> Floats:
    """The line of a finger, lengthened into the palm: the knuckle lies a third of what is seen below the web."""
    seen = float(np.linalg.norm(line[-1] - line[0]))
    start = line[min(2, len(line) - 1)]
    back = normalized(0.7 * normalized(line[0] - line[-1]) + 0.3 * normalized(wrist - start))
    room = max(float(np.linalg.norm(start - wrist)) - 0.35 * length, 0.0)
    return np.concatenate([(line[0] + min(0.35 * seen, room) * back)[None], line])


def _thumb_line(line: Floats, wrist: Floats, along: Floats, length: float) -> Floats:
    """The line of a thumb, from its joint at the root of the hand."""
    root = wrist + 0.12 * length * along
    return np.concatenate([(root + 0.35 * (line[0] - root))[None], line])
