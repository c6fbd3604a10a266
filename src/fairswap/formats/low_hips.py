"""Hips that turn about another place than the middle of the hip joints: about the floor, where the one bone that legs
and spine hang on is the root of all.

Turned as hips are, such a bone would swing the whole body about the floor. A stand-in between the hip joints carries
here what hangs on it; the bone itself goes along, and is what is written (see :mod:`fairswap.model.stand_ins`).
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import combinations

import numpy as np

from fairswap.errors import Finding
from fairswap.model.arrays import Floats
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.model.skeleton import Skeleton
from fairswap.model.skinning import bound_pose
from fairswap.model.stand_ins import Added, completed, document_with, resting_places

# Hips this far from the middle of their joints, of the leg's length, are elsewhere.
_ELSEWHERE = 0.5
# What has more bones is a scene.
_MOST_BONES = 1000
# More branches below one bone are no limbs.
_MOST_SIBLINGS = 16
# Of the body's height: legs are at least so long and end so near to the lowest bone; arms begin so much above them;
# two branches begin in one place; mirror images are as high. Twins are alike within a share of their length.
_LEG, _DOWN, _ABOVE, _ONE_PLACE, _LEVEL, _ALIKE = 0.2, 0.15, 0.1, 0.02, 0.04, 0.2


@dataclass(frozen=True, eq=False)
class _Twins:
    """Two branches that mirror each other: what they hang on, their tops, where both begin ``(2, 3)``, how long."""

    holder: int
    tops: tuple[int, int]
    starts: Floats
    length_m: float


def with_hips_between_legs(document: Document) -> Document:
    """The document with hips between the hip joints of its main figure, if its own are far from there."""
    if not document.figures:
        return document
    figure = document.figure
    found = _hips_elsewhere(figure)
    if found is None:
        return document
    hips, hung = found
    return document_with(document, completed(figure, hips, hung, [], free=True), _told(figure, hips))


def _told(figure: Figure, hips: Added) -> Finding:
    off = hips.place - figure.skeleton.rest.positions[0, figure.skeleton.names.index(hips.carrier)]
    message = (
        f"legs and spine hang on ‹{hips.carrier}›, {100.0 * np.linalg.norm(off):.0f} cm away from the middle of the "
        "hip joints; here it turns about that, as the hips of others do"
    )
    return Finding("hips-elsewhere", "note", figure.name, message)


def _hips_elsewhere(figure: Figure) -> tuple[Added, list[int]] | None:
    """The hips that a figure lacks, and what hangs on them; None if its own are where hips are, or are not known."""
    skeleton = figure.skeleton
    if figure.known_roles or figure.stand_ins is not None or len(skeleton) > _MOST_BONES:
        return None
    if len(set(skeleton.names)) < len(skeleton):
        return None
    bound = bound_pose(figure)
    stood = skeleton.rest if bound is None else bound
    tree = _Branches(skeleton, stood.positions[0])
    legs = max(tree.legs(), key=lambda pair: pair.length_m, default=None)
    arms = None if legs is None else max(tree.arms(legs), key=lambda pair: pair.length_m, default=None)
    if legs is None or arms is None:
        return None
    lines = [skeleton.with_ancestors(limbs.tops) for limbs in (legs, arms)]
    carrier = max(set(lines[0]) & set(lines[1]), default=-1)  # parents come before what hangs on them
    middle = legs.starts.mean(axis=0)
    if carrier < 0 or np.linalg.norm(tree.places[carrier] - middle) < _ELSEWHERE * legs.length_m:
        return None
    name = skeleton.names[carrier]
    hips = Added(f"{name} (hips)", name, middle)
    hung = [bone for bone in skeleton.children[carrier] if bone in lines[0] or bone in lines[1]]
    return resting_places(skeleton, stood, [hips])[0], hung


class _Branches:
    """A skeleton seen by where its bones are: what mirrors what."""

    def __init__(self, skeleton: Skeleton, places: Floats) -> None:
        self.skeleton, self.places = skeleton, places
        self.floor = float(places[:, 1].min())
        self.size = float(np.ptp(places[:, 1])) or 1.0

    def legs(self) -> Iterator[_Twins]:
        """Pairs of branches of three bones and more that go down to the floor."""
        for pair, lines in self.twins(3, lowest=True):
            ends = [float(self.places[line[-1], 1]) - self.floor for line in lines]
            if max(ends) < _DOWN * self.size and pair.length_m > _LEG * self.size:
                yield pair

    def arms(self, legs: _Twins) -> Iterator[_Twins]:
        """Pairs of branches of two bones and more that begin above the legs, and are none of theirs."""
        base = float(legs.starts[:, 1].max()) + _ABOVE * self.size
        for pair, lines in self.twins(2, lowest=False):
            apart = not {*legs.tops} & {*self.skeleton.with_ancestors([line[0] for line in lines])}
            if apart and float(pair.starts[:, 1].min()) > base:
                yield pair

    def twins(self, least: int, lowest: bool) -> Iterator[tuple[_Twins, list[list[int]]]]:
        """Pairs of branches below one bone that mirror each other, with the bones of each down to its end: to what is
        furthest away, or lowest."""
        for holder, children in enumerate(self.skeleton.children):
            if len(children) < 2:
                continue
            lines = [line for child in children if len(line := self.line(child, lowest)) >= least]
            for both in combinations(lines[:_MOST_SIBLINGS], 2):
                starts = self.places[[line[0] for line in both]]
                if np.linalg.norm(starts[0] - starts[1]) < _ONE_PLACE * self.size and min(map(len, both)) > least:
                    starts = self.places[[line[1] for line in both]]
                across = starts[0] - starts[1]
                lengths = [self.length(line, start) for line, start in zip(both, starts, strict=True)]
                level = abs(across[1]) < _LEVEL * self.size and np.linalg.norm(across) > _ONE_PLACE * self.size
                if level and abs(lengths[0] - lengths[1]) < _ALIKE * max(lengths):
                    yield _Twins(holder, (both[0][0], both[1][0]), starts, float(np.mean(lengths))), list(both)

    def line(self, bone: int, lowest: bool) -> list[int]:
        """From a bone to the end of its branch that is furthest away, or lowest."""
        below = [bone, *self.skeleton.below(bone).tolist()]
        places = self.places[below]
        far = -places[:, 1] if lowest else np.linalg.norm(places - self.places[bone], axis=1)
        end = below[int(np.argmax(far))]
        return [other for other in self.skeleton.with_ancestors([end]) if other in below]

    def length(self, line: list[int], start: Floats) -> float:
        """How far it is from where a branch begins to its end."""
        return float(np.linalg.norm(self.places[line[-1]] - start))
