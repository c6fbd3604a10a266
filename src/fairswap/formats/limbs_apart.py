"""Limbs that hang beside the body: arms on a control bone instead of the chest, legs that are roots of their own.

Keys of their own carry such limbs in each frame, so that nothing shows it. But what is put on such a figure would turn
the trunk and leave the arms behind. The skin tells what a limb belongs to: the bone across the seam. It hangs on that
one here, and is written as its file has it (see :mod:`fairswap.model.stand_ins`).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import cached_property
from itertools import permutations

import numpy as np

from fairswap.errors import Finding
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.model.rotation import conjugate, rotate
from fairswap.model.signals import frames_across
from fairswap.model.skeleton import WorldTransforms
from fairswap.model.skinning import bound_pose
from fairswap.model.stand_ins import document_with, hung_anew

# What has more bones is a scene.
_MOST_BONES = 1000
# Limbs have so many bones with skin at least, and twins are alike within this share of their length.
_LIMB, _ALIKE = 3, 0.2
# A limb belongs to a bone further along the body if it begins at more than this share of the way there.
_ALONG = 0.6
# Skin of which both parts hold less of a vertex is not shared, but rounded; a share of the most that is by the way.
_SHARED, _SOME = 0.1, 0.1
# In heights: a bone this near to what holds it is no way along the body, and a limb is this far from it; an end is as
# long as this.
_NEAR, _FAR, _END = 0.02, 0.15, 0.01
# What goes on where a carrier ends turns from its way by no more than this (cosine).
_ON = 0.5
# In clips of which so many frames are looked at: what hangs on a bone moves about it less than this, in heights; what
# hangs beside it stays, seen from it, within this share of how far it goes otherwise.
_FRAMES, _HANGS, _STAYS = 60, 0.005, 0.35


def with_limbs_hung(document: Document) -> Document:
    """The document with the limbs of its main figure hung on what they belong to, if they hang beside it."""
    if not document.figures:
        return document
    figure, clips = document.figure, document.clips_of(document.figure)
    onto = limbs_apart(figure, clips)
    if not onto:
        return document
    return document_with(document, hung_anew(figure, onto, _stood(figure)), _told(figure, onto))


def limbs_apart(figure: Figure, clips: Sequence[Clip]) -> dict[int, int]:
    """The bones of limbs that hang beside a body, each with the bone that it belongs to.

    Its clips show it: there a limb stays where it is on that bone, and moves about what holds both. What hangs below no
    bone with skin is also known by where it is.
    """
    weight, names = figure.skin_on_bones, figure.skeleton.names
    if weight is None or figure.known_roles or len(set(names)) < len(names) or len(names) > _MOST_BONES:
        return {}
    return _Parts(figure, weight, clips).onto()


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
    """A skeleton seen by its skin: bones with skin that hang on each other, each part called by its top."""

    def __init__(self, figure: Figure, weight: Floats, clips: Sequence[Clip]) -> None:
        self.figure, self.skeleton, self.weight, self.clips = figure, figure.skeleton, weight, clips
        moved = {int(bone) for clip in clips for bone in clip.poses.translated_bones}
        self.part = np.full(len(weight), -1, dtype=np.intp)
        above = self.part.copy()
        for bone, parent in enumerate(self.skeleton.parents.tolist()):
            above[bone] = -1 if parent < 0 else parent if weight[parent] > 0.0 else above[parent]
            if weight[bone] > 0.0:
                hangs = above[bone] >= 0 and (
                    (above[bone] == parent and bone not in moved)
                    or (self.shown and self.moves(bone, int(above[bone])) < _HANGS * self.size)
                )
                self.part[bone] = self.part[above[bone]] if hangs else bone
        self.tops = sorted({*self.part[self.part >= 0].tolist()})

    @cached_property
    def shown(self) -> list[WorldTransforms]:
        """The clips in which something moves, some frames of each."""
        worlds = [clip.poses.at(frames_across(clip.frames, _FRAMES)).world() for clip in self.clips if clip.frames > 1]
        return [world for world in worlds if np.ptp(world.position_tracks, axis=2).max() > _HANGS * self.size]

    def moves(self, bone: int, about: int) -> float:
        """How far a bone goes in the clips, seen from another one or, for -1, from the world; metres."""
        far = 0.0
        for world in self.shown:
            place = world.positions[:, bone]
            if about >= 0:
                place = rotate(conjugate(world.rotations[:, about]), place - world.positions[:, about])
            far = max(far, float(np.linalg.norm(place - place.mean(axis=0), axis=1).max()))
        return far

    def onto(self) -> dict[int, int]:
        """For each bone to hang elsewhere the one to hang it on."""
        limbs = self.twins()
        rest = [top for top in self.tops if top not in limbs]
        if not rest or len(self.tops) < 2:
            return {}
        main = max(rest, key=lambda top: float(self.weight[self.part == top].sum()))
        long = [top for top in rest if top != main and self.line(top)[0] >= _LIMB]
        small = [top for top in rest if top != main and top not in long]
        joined, found = {main}, dict[int, int]()
        # What is long is of the body, as head and trunk are; what is small may be a prop. Some hang on what does so.
        for tops in (long, limbs, small, limbs, small):
            for top in tops:
                carrier = -1 if top in found else self.carrier(top, joined)
                if carrier >= 0 and not self.carries(top, carrier, found):
                    found[top] = carrier
            joined |= {top for top in tops if tops is not small or top in found}
        return found | self.held_beside(small, found) if found else {}

    def carries(self, top: int, bone: int, onto: Mapping[int, int]) -> bool:
        """Whether a part carries a bone, with what hangs elsewhere now."""
        while bone >= 0 and bone != top:
            bone = onto.get(bone, int(self.skeleton.parents[bone]))
        return bone == top

    def under_skin(self, bone: int) -> bool:
        """Whether some bone above one holds skin."""
        return any(self.weight[above] > 0.0 for above in self.skeleton.with_ancestors([bone]) if above != bone)

    def passes(self, top: int, carrier: int) -> bool:
        """Whether the way to a limb goes by its carrier: over bones without skin at the joints of others."""
        way = self.places[self.skeleton.with_ancestors([top])] - self.places[carrier]
        return bool(np.linalg.norm(way, axis=1).min() < _NEAR * self.size)

    def ends(self, bone: int) -> bool:
        """Whether no bone below one holds skin."""
        return not (self.weight[self.skeleton.below(bone)] > 0.0).any()

    def twins(self) -> list[int]:
        """The tops of limbs of which there are two, each more like the other than like any third."""
        rows = [row for top in self.tops if (row := (top, *self.line(top)))[1] >= _LIMB]

        def unlike(one: tuple[int, int, float], other: tuple[int, int, float]) -> float:
            (_, many, long), (_, others, length) = one, other
            off = abs(long - length) / max(long, length, 1e-12)
            return off if abs(many - others) <= 1 and off < _ALIKE else np.inf

        nearest = {
            row: min((other for other in rows if other is not row), key=lambda other: unlike(row, other), default=row)
            for row in rows
        }
        return sorted(
            row[0] for row in rows
            if nearest[nearest[row]] == row != nearest[row] and unlike(row, nearest[row]) < np.inf
        )  # fmt: skip

    def line(self, top: int) -> tuple[int, float]:
        """How many bones with skin a part has in one line, and how long that is."""
        many, long = np.zeros(len(self.part), dtype=np.intp), np.zeros(len(self.part))
        lengths = np.linalg.norm(self.skeleton.rest_translations, axis=1)
        for bone in np.flatnonzero(self.part == top).tolist():
            parent = int(self.skeleton.parents[bone]) if bone != top else -1
            many[bone] = 1 + (many[parent] if parent >= 0 else 0)
            long[bone] = lengths[bone] + long[parent] if parent >= 0 else 0.0
        return int(many.max()), float(long.max())

    @cached_property
    def places(self) -> Floats:
        return _stood(self.figure).positions[0]

    @cached_property
    def size(self) -> float:
        return float(np.ptp(self.places, axis=0).max())

    @cached_property
    def seams(self) -> tuple[Floats, Floats]:
        """How much skin each two bones share, and how many edges of their skins meet: ``(bones, bones)`` both."""
        count = len(self.part)
        shared, met = np.zeros(count**2), np.zeros(count**2)
        for mesh in self.figure.meshes:
            joints, weights, owner = mesh.joints.astype(np.intp), mesh.weights, mesh.main_bones.astype(np.intp)
            for first, second in permutations(range(joints.shape[1]), 2):
                both = np.minimum(weights[:, first], weights[:, second])
                shared += np.bincount(joints[:, first] * count + joints[:, second], both, minlength=count**2)
            for first, second in permutations(range(3), 2):
                here, there = owner[mesh.triangles[:, first]], owner[mesh.triangles[:, second]]
                met += np.bincount(here * count + there, minlength=count**2)
        return shared.reshape(count, count), met.reshape(count, count)

    def carrier(self, top: int, joined: set[int]) -> int:
        """The bone of parts already joined that a part belongs to: that shares most skin with it, or whose skin meets
        its, and is near. -1 if there is none, or it carries the part already."""
        own, others = self.part == top, np.isin(self.part, list(joined - {top}))
        shared, met = (np.where(others, table[own].sum(axis=0), 0.0) for table in self.seams)
        most = shared if shared.max() > _SHARED else met
        apart = np.linalg.norm(self.places - self.places[top], axis=1) + _NEAR * self.size
        bones = np.flatnonzero(most > _SOME * most.max())
        above, below = self.skeleton.with_ancestors([top]), set(self.skeleton.below(top).tolist())
        for bone in bones[np.argsort(-most[bones] / apart[bones], kind="stable")].tolist():
            if bone in above:
                return -1
            if bone not in below and self.belongs(top, bone):
                return int(bone)
        return -1

    def belongs(self, top: int, carrier: int) -> bool:
        """Whether a limb stays on its carrier in the clips, not on what holds both, and far from that. Of what hangs
        below no bone with skin, or where no clip shows it on none near its carrier, also whether it begins at its
        carrier, and far from what holds both, as thighs on hips without skin do not; or goes on where a carrier ends,
        as a foot below a shin."""
        holder, carries = int(self.skeleton.parents[top]), self.skeleton.with_ancestors([carrier])
        while holder >= 0 and holder not in carries:
            holder = int(self.skeleton.parents[holder])
        places, size, above = self.places, self.size, int(self.skeleton.parents[carrier])
        along = places[top] - (places[holder] if holder >= 0 else 0.0)
        far = holder < 0 or float(np.linalg.norm(along)) > _FAR * size
        goes = self.moves(top, holder) if self.shown and far else 0.0
        if goes > _HANGS * size and self.moves(top, carrier) < _STAYS * goes:
            return True
        if holder < 0 or (self.under_skin(top) and (self.shown or self.passes(top, carrier))):
            return holder < 0
        if self.ends(carrier) and above >= 0:
            limb, end = places[carrier] - places[above], places[top] - places[carrier]
            lengths = float(np.linalg.norm(limb)), float(np.linalg.norm(end))
            return lengths[1] > _END * size and float(limb @ end) > _ON * lengths[0] * lengths[1]
        on = [child for child in self.skeleton.children[carrier] if self.weight[child] > 0.0]
        way = places[on or [carrier]].mean(axis=0) - places[holder]
        return far and float(along @ way) > _ALONG * float(way @ way) > _ALONG * (_NEAR * size) ** 2

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
        return {top: bone for top, bone in found.items() if bone >= 0 and not self.carries(top, bone, onto)}
