"""Limbs that hang beside the body: arms on a control bone instead of the chest, legs that are roots of their own.

Keys of their own carry such limbs in each frame, so that nothing shows it. But what is put on such a figure would turn
the trunk and leave the arms behind. The skin tells what a limb belongs to: the bone across the seam. It hangs on that
one here, and is written as its file has it (see :mod:`fairswap.model.stand_ins`).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import combinations, permutations

import numpy as np

from fairswap.errors import Finding
from fairswap.model.arrays import Floats
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.model.skeleton import WorldTransforms
from fairswap.model.skinning import bound_pose
from fairswap.model.stand_ins import completed_clip, hung_anew

# Limbs have so many bones with skin at least, and twins are alike within this share of their length.
_LIMB, _PAIR, _ALIKE = 3, 2, 0.2
# A limb belongs to a bone further along the body if it begins at more than this share of the way there.
_ALONG = 0.6
# Skin that less of one vertex is held by both parts is not shared, but rounded.
_SHARED = 0.1
# A bone this near to what holds it, in heights, is no way along the body.
_NEAR = 0.01


def with_limbs_hung(document: Document) -> Document:
    """The document with the limbs of its main figure hung on what they belong to, if they hang beside it."""
    if not document.figures:
        return document
    figure, clips = document.figure, document.clips_of(document.figure)
    onto = limbs_apart(figure)
    if not onto:
        return document
    whole = hung_anew(figure, onto, _stood(figure))
    own = set(map(id, clips))
    return replace(
        document,
        figures=tuple(whole if one is figure else one for one in document.figures),
        clips=tuple(completed_clip(clip, whole) if id(clip) in own else clip for clip in document.clips),
        findings=(*document.findings, _told(figure, onto)),
    )


def limbs_apart(figure: Figure) -> dict[int, int]:
    """The bones of limbs that hang beside a body, each with the bone that it belongs to."""
    parts = _Parts.of(figure)
    return {} if parts is None else parts.onto()


def _stood(figure: Figure) -> WorldTransforms:
    """The pose the meshes were bound in, in which all is where it belongs; else the rest pose."""
    bound = bound_pose(figure)
    return figure.skeleton.rest if bound is None else bound


def _told(figure: Figure, onto: dict[int, int]) -> Finding:
    names = figure.skeleton.names
    rows = ", ".join(f"‹{names[bone]}› with ‹{names[carrier]}›" for bone, carrier in onto.items())
    message = f"parts of its body hang beside it in the file, each with keys of its own; here they go along: {rows}"
    return Finding("limbs-apart", "note", figure.name, message)


class _Parts:
    """A skeleton seen by its skin: bones with skin that hang together, each part called by its ``tops``."""

    def __init__(self, figure: Figure, weight: Floats) -> None:
        self.figure, self.skeleton, self.weight = figure, figure.skeleton, weight
        self.part = np.full(len(weight), -1, dtype=np.intp)
        above = self.part.copy()
        for bone, parent in enumerate(self.skeleton.parents.tolist()):
            above[bone] = above[parent] if parent >= 0 else -1
            if weight[bone] > 0.0:
                self.part[bone] = above[bone] = above[bone] if above[bone] >= 0 else bone
        self.tops = np.unique(self.part[self.part >= 0]).tolist()

    @classmethod
    def of(cls, figure: Figure) -> _Parts | None:
        """The parts of a figure; None if it has too few to be apart, or says itself which bone is which."""
        weight, names = figure.skin_on_bones, figure.skeleton.names
        if weight is None or figure.known_roles or len(set(names)) < len(names):
            return None
        parts = cls(figure, weight)
        return parts if len(parts.tops) >= _LIMB else None

    def onto(self) -> dict[int, int]:
        """For each bone to hang elsewhere the one to hang it on."""
        limbs = self.twins()
        rest = [top for top in self.tops if top not in limbs]
        if not rest:
            return {}
        # What is large is of the trunk; what is small may be a prop.
        joined = {max(rest, key=lambda top: float(self.weight[self.part == top].sum()))}
        joined |= {top for top in rest if self.line(top)[0] >= _LIMB}
        found = self.carriers(limbs, joined)
        found = {top: carrier for top, carrier in found.items() if self.belongs(top, carrier)}
        joined |= set(limbs)
        small = [top for top in rest if top not in joined]
        held = self.carriers(small, joined)
        if not found:  # feet or hands that controls hold: at least two, on the ends of two limbs
            held = {top: carrier for top, carrier in held.items() if self.ends(carrier)}
            held = held if len(set(held.values())) >= _PAIR else {}
        onto = found | held
        return onto | self.held_beside(small, onto) if onto else {}

    def carriers(self, tops: Sequence[int], joined: set[int]) -> dict[int, int]:
        """For each of some parts the bone of ``joined`` ones across the seam, if there is one."""
        rows = ((top, self.across_the_seam(top, joined)) for top in tops)
        return {top: carrier for top, carrier in rows if carrier >= 0}

    def ends(self, bone: int) -> bool:
        """Whether no bone below one holds skin."""
        return not (self.weight[self.skeleton.below(bone)] > 0.0).any()

    def twins(self) -> list[int]:
        """The tops of limbs of which there are two."""
        rows = [(top, *self.line(top)) for top in self.tops]
        found: set[int] = set()
        for (a, many, long), (b, others, other) in combinations([row for row in rows if row[1] >= _LIMB], 2):
            if abs(many - others) <= 1 and abs(long - other) < _ALIKE * long:
                found |= {a, b}
        return sorted(found)

    def line(self, top: int) -> tuple[int, float]:
        """How many bones with skin a part has in one line, and how long that is."""
        many, long = np.zeros(len(self.part), dtype=np.intp), np.zeros(len(self.part))
        lengths = np.linalg.norm(self.skeleton.rest_translations, axis=1)
        for bone in np.flatnonzero(self.part == top).tolist():
            parent = int(self.skeleton.parents[bone]) if bone != top else -1
            many[bone] = 1 + (many[parent] if parent >= 0 else 0)
            long[bone] = lengths[bone] + long[parent] if parent >= 0 else 0.0
        return int(many.max()), float(long.max())

    def across_the_seam(self, top: int, joined: set[int]) -> int:
        """The bone of parts already joined that shares most skin with a part, or whose skin meets it; -1 for none."""
        own, others = self.part == top, np.isin(self.part, list(joined))
        shared, met = np.zeros(len(self.part)), np.zeros(len(self.part))
        for mesh in self.figure.meshes:
            held = np.where(own[mesh.joints], mesh.weights, 0.0).sum(axis=1, keepdims=True)
            both = np.where(others[mesh.joints], np.minimum(mesh.weights, held), 0.0)
            shared += np.bincount(mesh.joints.ravel(), weights=both.ravel(), minlength=len(shared))
            owner = mesh.main_bones
            for first, second in permutations(range(3), 2):
                here, there = owner[mesh.triangles[:, first]], owner[mesh.triangles[:, second]]
                met += np.bincount(there[own[here] & others[there]], minlength=len(met))
        most = shared if shared.max() > _SHARED else met
        return int(np.argmax(most)) if most.any() else -1

    def belongs(self, top: int, carrier: int) -> bool:
        """Whether a limb begins at its carrier rather than at what holds both, as thighs do on hips without skin."""
        holder, carries = int(self.skeleton.parents[top]), self.skeleton.with_ancestors([carrier])
        while holder >= 0 and holder not in carries:
            holder = int(self.skeleton.parents[holder])
        if holder < 0 or self.ends(carrier):
            return True
        places = _stood(self.figure).positions[0]
        way = places[carrier] - places[holder]
        length = float(way @ way)
        if length < (_NEAR * float(np.ptp(places, axis=0).max())) ** 2:
            return False
        return float((places[top] - places[holder]) @ way) > _ALONG * length

    def held_beside(self, tops: Sequence[int], onto: dict[int, int]) -> dict[int, int]:
        """What goes with parts that hang elsewhere now, as a shield does with the thumb that the same bone holds."""
        found = {}
        alone = [top for top in tops if top not in onto]
        for top in alone:
            holder = int(self.skeleton.parents[top])
            held = [other for other in self.tops if holder in self.skeleton.with_ancestors([other])]
            where = {onto.get(other, -1) for other in held if other not in alone}
            if holder >= 0 and len(where) == 1:
                found[top] = where.pop()
        return {bone: carrier for bone, carrier in found.items() if carrier >= 0}
