"""Bodies of few parts: arms and legs of one piece, or of two without hands and feet; one block for the whole trunk.

Six rigid parts make a figure: trunk, head, arms, legs. What such a body lacks stands in as bones that never bend, so
that all that knows of elbows and ankles has them to reckon with (see :mod:`fairswap.model.stand_ins`).
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from itertools import combinations

import numpy as np

from fairswap.errors import Finding
from fairswap.model.arrays import Floats
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.model.skeleton import WorldTransforms
from fairswap.model.skinning import bound_pose
from fairswap.model.stand_ins import Added, completed, document_with, resting_places
from fairswap.model.tips import skin_of_bones, tip_of
from fairswap.model.words import other_side

# What has more bones than this, or than this with skin, has those that a body needs, or is none.
_MOST_BONES, _MOST_WITH_SKIN = 24, 16
# Twins are alike within this share of their length, and mirror images within this share of the body's height.
_ALIKE, _MIRRORED = 0.2, 0.04
# Limbs are at least this long, of the height; what leads to them begins in one place, within so much of it.
_LEAST_LIMB, _ONE_PLACE = 0.15, 0.02
# Where elbow and wrist, knee and ankle are along a limb of one piece; and wrist and ankle along the last of two.
_ARM, _LEG = (0.44, 0.78), (0.5, 0.91)
_LAST_OF_TWO = {"arm": 0.62, "leg": 0.84}
_NAMES = {"arm": ("forearm", "hand"), "leg": ("shin", "foot")}


@dataclass(frozen=True, eq=False)
class _Limb:
    """A branch of bones in one line, and where the last of them ends."""

    bones: tuple[int, ...]
    joints: Floats
    tip: Floats

    @property
    def start(self) -> Floats:
        return np.asarray(self.joints[0])

    @property
    def length_m(self) -> float:
        return float(np.linalg.norm(self.tip - self.start))

    def from_its_joint(self) -> _Limb:
        """Without the bone that only leads to where it begins."""
        return _Limb(self.bones[1:], self.joints[1:], self.tip)


def with_stand_ins(document: Document) -> Document:
    """The document with what its main figure lacks stood in for, if that is a body of few parts."""
    if not document.figures:
        return document
    figure = document.figure
    whole = _completed(figure)
    if whole is figure:
        return document
    return document_with(document, whole, _told(whole, document.file))


def _told(figure: Figure, file: str) -> Finding:
    added = figure.stand_ins.carriers if figure.stand_ins is not None else {}
    lacks = _lacking(added)
    message = (
        f"{figure.name!r} has {figure.bone_count} parts, without {lacks}: what these do is put on the parts it has"
    )
    return Finding("few-parts", "note", file, message)


def _lacking(added: Iterable[str]) -> str:
    words = " ".join(added)
    lacks = [plural for word, plural in (("hips", "hips of their own"), ("forearm", "elbows"), ("hand", "hands"),
                                         ("shin", "knees"), ("foot", "feet")) if f"({word})" in words]  # fmt: skip
    return " and ".join([", ".join(lacks[:-1]), lacks[-1]] if len(lacks) > 1 else lacks)


def _completed(figure: Figure) -> Figure:
    skeleton = figure.skeleton
    inner = [bone for bone in range(len(skeleton)) if bone not in skeleton.ends]
    if not 6 <= len(inner) <= _MOST_BONES or figure.avatar is not None or len(set(skeleton.names)) < len(skeleton):
        return figure
    skin = figure.skin_on_bones
    if skin is not None and np.count_nonzero(skin) > _MOST_WITH_SKIN:
        return figure
    bound = bound_pose(figure)
    stood = figure.skeleton.rest if bound is None else bound
    body = _Body(figure, stood)
    found = body.limbs()
    if found is None:
        return figure
    arms, legs, hips_at, chest_at = found
    added = [*_missing("arm", arms, skeleton.names), *_missing("leg", legs, skeleton.names)]
    hips = None
    if hips_at == chest_at:
        middle = np.mean([leg.start for leg in legs], axis=0)
        hips = Added(f"{skeleton.names[hips_at]} (hips)", skeleton.names[hips_at], middle)
    if not added and hips is None:
        return figure
    resting = resting_places(skeleton, stood, [*([hips] if hips else []), *added])
    hips, added = (resting[0], resting[1:]) if hips else (None, resting)
    return completed(figure, hips, [body.top_of(leg, hips_at) for leg in legs], added)


def _missing(kind: str, limbs: tuple[_Limb, _Limb], names: tuple[str, ...]) -> Iterator[Added]:
    """The bones that a limb lacks, each below the one before it."""
    for limb in limbs:
        last = names[limb.bones[-1]]
        start = limb.joints[-1]
        way = limb.tip - start
        if len(limb.bones) == 1:
            above = last
            for part, share in zip(_NAMES[kind], _ARM if kind == "arm" else _LEG, strict=True):
                yield Added(f"{last} ({part})", above, start + share * way)
                above = f"{last} ({part})"
        elif len(limb.bones) == 2:
            yield Added(f"{last} ({_NAMES[kind][1]})", last, start + _LAST_OF_TWO[kind] * way)


class _Body:
    """What the places of bones and skin say of a figure of few bones."""

    def __init__(self, figure: Figure, stood: WorldTransforms) -> None:
        self.skeleton = figure.skeleton
        self.places = stood.positions[0]
        self.skin = skin_of_bones(figure, stood)
        skin = np.concatenate(list(self.skin.values())) if self.skin else self.places
        self.height = float(np.ptp(skin[:, 1]))

    def limbs(self) -> tuple[tuple[_Limb, _Limb], tuple[_Limb, _Limb], int, int] | None:
        """Arms, legs, and the bones that legs and arms hang on; None if it is no body that lacks a part."""
        pairs = [(holder, pair) for holder in range(len(self.skeleton)) for pair in self._twins(holder)]
        if len(pairs) < 2:
            return None
        # Legs reach lowest; arms are what begins highest above them, and a head is above the arms.
        hips_at, legs = min(pairs, key=lambda row: sum(float(limb.tip[1]) for limb in row[1]))
        others = [row for row in pairs if row[1] is not legs and row[1][0].start[1] > legs[0].start[1]]
        if not others:
            return None
        chest_at, arms = max(others, key=lambda row: row[1][0].length_m)
        above = [bone for bone in self.skeleton.children[chest_at] if bone not in self._bones_of(arms, legs)]
        heads = [bone for bone in above if bone not in self.skeleton.ends and self._top(bone) > arms[0].start[1]]
        if hips_at not in self.skeleton.with_ancestors([chest_at]) or not heads:
            return None
        whole = all(len(limb.bones) >= 3 for limb in (*arms, *legs))
        return None if whole and hips_at != chest_at else (arms, legs, hips_at, chest_at)

    def top_of(self, limb: _Limb, holder: int) -> int:
        """The bone that hangs on the holder and leads to a limb."""
        bone = limb.bones[0]
        while self.skeleton.parents[bone] != holder:
            bone = int(self.skeleton.parents[bone])
        return bone

    def _bones_of(self, *pairs: tuple[_Limb, _Limb]) -> set[int]:
        return {bone for pair in pairs for limb in pair for bone in limb.bones}

    def _top(self, bone: int) -> float:
        below = [bone, *self.skeleton.below(bone).tolist()]
        tops = [float(self.skin[one][:, 1].max()) for one in below if one in self.skin]
        return max([float(self.places[below, 1].max()), *tops])

    def _twins(self, holder: int) -> Iterator[tuple[_Limb, _Limb]]:
        """Pairs of limbs below a bone that mirror each other over an upright plane."""
        limbs = [limb for child in self.skeleton.children[holder] if (limb := self._limb(child)) is not None]
        for a, b in combinations(limbs, 2):
            if len(a.bones) == len(b.bones) > 1 and np.linalg.norm(a.start - b.start) < _ONE_PLACE * self.height:
                a, b = a.from_its_joint(), b.from_its_joint()
            across = a.start - b.start
            wide = float(np.linalg.norm(across))
            if (
                len(a.bones) != len(b.bones)
                or wide < _ONE_PLACE * self.height
                or abs(across[1]) > _MIRRORED * self.height
            ):
                continue
            normal = across / wide
            middle = 0.5 * (a.start + b.start)
            image = b.tip - 2.0 * float((b.tip - middle) @ normal) * normal
            off = float(np.linalg.norm(image - a.tip))
            alike = off < _ALIKE * a.length_m and abs(a.length_m - b.length_m) < _ALIKE * a.length_m
            if alike and self._may_be_called_so(a, b):
                yield a, b

    def _may_be_called_so(self, a: _Limb, b: _Limb) -> bool:
        """Whether no name gives one of two limbs a twin that is not the other."""
        first, second = (self.skeleton.names[limb.bones[0]] for limb in (a, b))
        twins = other_side(first, self.skeleton.names), other_side(second, self.skeleton.names)
        return twins in ((None, None), (second, first))

    def _limb(self, bone: int) -> _Limb | None:
        """The limb that begins with a bone; None if it forks, has no end, or is too short."""
        bones, end = [bone], -1
        while children := self.skeleton.children[bones[-1]]:
            inner = [child for child in children if child not in self.skeleton.ends]
            if len(inner) > 1:
                return None
            if not inner:
                end = children[0]
                break
            bones.append(inner[0])
        tip = self.places[end] if end >= 0 else self._tip(bones[-1])
        if tip is None:
            return None
        if end >= 0 and len(bones) == 2:
            bones.append(end)  # an end marker is all there is of a hand or a foot
        limb = _Limb(tuple(bones), self.places[bones], tip)
        return limb if limb.length_m > _LEAST_LIMB * self.height else None

    def _tip(self, bone: int) -> Floats | None:
        """Where the skin of a bone ends, seen from its joint."""
        skin = self.skin.get(bone)
        return None if skin is None else tip_of(skin, self.places[bone], self.height)
