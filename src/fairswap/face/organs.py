"""What on a head is no skin: eyeballs that turn, the tongue that comes out; shells of their own that shapes move.

A shell is what hangs together by triangles. An eyeball is one that some shape turns about its own middle, round, at one
side of the upper face; a tongue one that moves ahead by itself, in the middle.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from fairswap.model.arrays import Floats, Integers
from fairswap.model.space import AHEAD

# A shell of fewer vertices says nothing; one with more of a head than this is its skin.
_FEWEST, _MOST_SHARE = 12, 0.4
# An eyeball turns by this at least, about its middle, and is about as wide as high.
_TURNS_DEGREES, _STAYS, _ROUND = 4.0, 0.35, 1.7
# What else moves beside eyeballs, as a share of how far they do, is a lid that goes along.
_ALONG = 0.75
_TONGUE_ALONE = 0.25


@dataclass(frozen=True, eq=False)
class Organs:
    """What the shapes of a head do to its organs.

    Attributes
    ----------
    gazes : sequence of mapping
        For each shape the gaze units it makes, with their weights; empty where it turns no eyeball, or mostly skin.
    tongue : (shapes,) array
        Whether a shape moves a tongue, and little else.
    eye_height_meters : float or None
        Where the eyeballs are that some shape turns: then gaze is what turns one, and nothing else. None without.
    """

    gazes: Sequence[dict[str, float]]
    tongue: np.ndarray
    eye_height_meters: float | None = None

    @property
    def has_eyes(self) -> bool:
        """Whether some shape turns an eyeball."""
        return self.eye_height_meters is not None


def shells_of(triangles: Integers, count: int, vertices: Floats) -> Integers:
    """The number of the shell of each vertex ``(count,)``; vertices at one place hang together."""
    _, same = np.unique(np.round(vertices, 6), axis=0, return_inverse=True)
    same = same.ravel()
    edges = (
        same[np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]]])] if len(triangles) else np.zeros((0, 2), int)
    )
    label = np.arange(int(same.max(initial=0)) + 1)
    while len(edges):
        low = np.minimum(label[edges[:, 0]], label[edges[:, 1]])
        new = label.copy()
        np.minimum.at(new, edges[:, 0], low)
        np.minimum.at(new, edges[:, 1], low)
        new = new[new]  # jump along, so that long strips take few rounds
        if (new == label).all():
            break
        label = new
    return np.asarray(label[same][:count])


def organs_of(vertices: Floats, shells: Integers, moves: Floats) -> Organs:
    """What shapes do to eyeballs and tongue.

    Parameters
    ----------
    vertices : (n, 3) array
    shells : (n,) integers
    moves : (shapes, n, 3) array
    """
    shapes = len(moves)
    gazes: list[dict[str, float]] = [{} for _ in range(shapes)]
    tongue = np.zeros(shapes, dtype=bool)
    numbers, sizes = np.unique(shells, return_counts=True)
    small = numbers[(sizes >= _FEWEST) & (sizes <= _MOST_SHARE * len(vertices))]
    middle = 0.5 * (vertices.min(axis=0) + vertices.max(axis=0)) if len(vertices) else np.zeros(3)
    reach = np.linalg.norm(moves, axis=2)
    of_eyes = np.zeros(len(vertices), dtype=bool)
    turns: list[tuple[int, str, Floats]] = []
    for number in small.tolist():
        mine = shells == number
        extent = np.ptp(vertices[mine], axis=0)
        if extent[:2].max() > _ROUND * max(extent[:2].min(), 1e-12):
            continue
        centre = vertices[mine].mean(axis=0)
        moved = np.flatnonzero(reach[:, mine].max(axis=1) > 0.0).tolist()
        looking = {row: _turned_to(vertices[mine], moves[row, mine], centre) for row in moved}
        found = [(row, ahead) for row, ahead in looking.items() if ahead is not None]
        if found:
            of_eyes |= mine
            side = "left" if centre[0] > middle[0] else "right"
            turns += [(row, side, ahead) for row, ahead in found]
    for row, side, ahead in turns:
        eye, other = reach[row, of_eyes].max(), reach[row, ~of_eyes].max(initial=0.0)
        if other < _ALONG * eye:
            gazes[row] |= _gaze(ahead, side)
    for number in small.tolist():
        mine = shells == number
        if (mine & of_eyes).any() or abs(vertices[mine, 0].mean() - middle[0]) > 0.15 * np.ptp(vertices[:, 0]):
            continue
        for row in range(shapes):
            most, other = reach[row, mine].max(), reach[row, ~mine].max(initial=0.0)
            forward = moves[row, mine, 2].max()
            tongue[row] |= most > 0.0 and other < _TONGUE_ALONE * most and forward > 0.5 * most
    return Organs(gazes, tongue, float(vertices[of_eyes, 1].mean()) if turns else None)


def _turned_to(points: Floats, moves: Floats, centre: Floats) -> Floats | None:
    """Where what looks ahead looks after a turn about the middle, ``(3,)``; None if it does something else."""
    before, after = points - centre, points + moves - (points + moves).mean(axis=0)
    size = float(np.linalg.norm(before, axis=1).mean())
    if np.linalg.norm(moves.mean(axis=0)) > _STAYS * size:
        return None
    # The turn that brings them nearest to each other (Kabsch 1976).
    left, _, right = np.linalg.svd(before.T @ after)
    sign = np.sign(np.linalg.det(left @ right))
    turn = (left * [1.0, 1.0, sign]) @ right
    off = np.linalg.norm(before @ turn - after, axis=1).mean()
    degrees = float(np.degrees(np.arccos(np.clip((np.trace(turn) - 1.0) / 2.0, -1.0, 1.0))))
    if degrees < _TURNS_DEGREES or off > 0.2 * np.linalg.norm(moves, axis=1).mean():
        return None
    return np.asarray(AHEAD @ turn)


def _gaze(ahead: Floats, side: str) -> dict[str, float]:
    """The gaze units of one eye that looks ``ahead``: what it mostly is, and the other way if it is half as much."""
    outward = float(ahead[0] if side == "left" else -ahead[0])
    across, along = ("gaze_out" if outward > 0.0 else "gaze_in"), ("gaze_up" if ahead[1] > 0.0 else "gaze_down")
    ways = {across: abs(outward), along: abs(float(ahead[1]))}
    most = max(ways.values())
    return {f"{unit}_{side}": round(way / most, 3) for unit, way in ways.items() if way > 0.4 * most}
