"""What the tree and the lengths of a skeleton say, whatever its pose, its axes, its unit and its names."""

from __future__ import annotations

from functools import cached_property

import numpy as np

from fairswap.bones.moving import Motion
from fairswap.bones.roles import FINGERS
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.stand_ins import stand_in_bones
from fairswap.model.words import NameMeaning, meaning_of

_MOST_SIBLINGS = 40  # a bone with more children is no limb but a scene
# Where nodes that hold nothing stand at so many of the bones, an exporter put them there.
_OFTEN_HOLLOW = 0.25
# Of what holds no skin so many bones are no limb; more are a copy of one where another stands, of the figure's size.
_FEW, _SAME_PLACE = 2, 0.003
# Branches mirror each other whose lengths differ by less than this share.
_MIRRORED = 0.01
# Names tell what is of the body if so many of the bones that hold others are called after a part of it.
_TELLING = 0.6
_FINGERS = frozenset(("thumb", *FINGERS))
_TWIN_LENGTHS = 0.22  # limbs whose lengths differ by more than this share are no twins


class Rig:
    """A skeleton seen as branches: ends and helpers set apart, the rest with lengths and reach.

    ``family`` are all that hang on each bone, ``children`` those that are neither. ``hollow`` nodes, which only hold
    one bone at its very place, are passed over, and ``idle`` ones left out. Lengths are those of the rest pose, which
    bones keep in every pose.
    """

    def __init__(self, figure: Figure, clip: Clip | None = None) -> None:
        skeleton = figure.skeleton
        self.motion = Motion(clip) if clip is not None and clip.frames > 1 else None
        self.figure, self.skeleton = figure, skeleton
        self.count = len(skeleton)
        self.places: Floats = skeleton.rest.positions[0]
        self.size = float(np.ptp(self.places, axis=0).max()) or 1.0
        self.weight = figure.skin_on_bones
        self.hollow = self._hollow()
        self.parents = [self._held_by(parent) for parent in skeleton.parents.tolist()]
        self.family: list[list[int]] = [[] for _ in range(self.count)]
        for bone, parent in enumerate(self.parents):
            if parent >= 0 and bone not in self.hollow:
                self.family[parent].append(bone)
        self.length = np.zeros(self.count)
        above = np.array(self.parents, dtype=np.intp)
        inner = above >= 0
        self.length[inner] = np.linalg.norm(self.places[inner] - self.places[above[inner]], axis=1)
        self.ends = self._ends()
        self.idle = self._idle()
        self.family = [[bone for bone in bones if bone not in self.idle] for bones in self.family]
        self.helpers = self._helpers()
        self.children: list[list[int]] = [
            [child for child in children if child not in self.ends and child not in self.helpers]
            for children in self.family
        ]
        self.reach = np.zeros(self.count)
        self.below = np.ones(self.count, dtype=np.intp)
        self._onward = [-1] * self.count  # down the longest branch
        for bone in range(self.count - 1, -1, -1):
            for child in self.children[bone]:
                way = self.length[child] + self.reach[child]
                if self._onward[bone] < 0 or way > self.reach[bone]:
                    self.reach[bone], self._onward[bone] = way, child
                self.below[bone] += self.below[child]

    @cached_property
    def meanings(self) -> list[NameMeaning]:
        return [meaning_of(name) for name in self.names]

    @cached_property
    def names(self) -> list[str]:
        """Names without what nearly all of them begin with, which says nothing of any one."""
        names = list(self.skeleton.names)
        for separator in (":", "|", "/", "_", " ", "-", "."):
            heads = [name.partition(separator)[0] for name in names if separator in name]
            common = max(set(heads), key=heads.count, default="")
            if common and heads.count(common) >= 0.8 * self.count and len(heads) > 4:
                names = [name[len(common) + 1 :] if name.startswith(common + separator) else name for name in names]
                break
        return names

    def chain(self, bone: int) -> list[int]:
        """From a bone down its longest branch."""
        found = []
        while bone >= 0:
            found.append(bone)
            bone = self._onward[bone]
        return found

    def limb(self, bone: int) -> list[int]:
        """A branch as a limb: its chain, and of one with two bones the end marker too, which is all there is of a foot
        or a hand."""
        found = self.chain(bone)
        if len(found) == 2:
            found += [child for child in self.family[found[-1]] if child in self.ends][:1]
        return found

    def run(self, bone: int) -> list[int]:
        """From a bone down until it forks or ends."""
        found = [bone]
        while len(self.children[bone]) == 1:
            bone = self.children[bone][0]
            found.append(bone)
        return found

    def ancestors(self, bone: int) -> list[int]:
        """The bone and all above it."""
        found = []
        while bone >= 0:
            found.append(bone)
            bone = self.parents[bone]
        return found

    def distance(self, a: int, b: int) -> float:
        return float(np.linalg.norm(self.places[a] - self.places[b]))

    def twins(self, a: int, b: int) -> float:
        """How much two branches are mirror images by their lengths: 1 wholly, 0 not at all.

        Held against each other up to the hand, where fingers begin: one hand may hold a thing. What one limb goes on
        where the other ends is a difference, but for one bone: an end marker that one of them lacks parts no twins.
        """
        first, second = self.limb(a), self.limb(b)
        shared = min(len(first), len(second))
        forks = [self._fork(limb[:shared]) for limb in (first, second)]
        if shared < 3:
            return 0.0
        longer = max(first, second, key=len)[shared + 1 :]
        if any(forks):
            shared, longer = min(fork for fork in forks if fork), []
        own = self.length[first[1:shared]].sum() + 1e-12
        off = np.abs(self.length[first[1:shared]] - self.length[second[1:shared]]).sum() + self.length[longer].sum()
        off = off / own + 0.08 * (self.below[a] != self.below[b])
        return float(np.exp(-((off / 0.15) ** 2))) if off < 2 * _TWIN_LENGTHS else 0.0

    def _fork(self, limb: list[int]) -> int:
        """How many bones of a limb there are up to the first that forks, of three or more; 0 if none does."""
        return next((at + 1 for at, bone in enumerate(limb) if at >= 2 and len(self.children[bone]) > 1), 0)

    def _hollow(self) -> set[int]:
        """Nodes without skin that hold one bone each, where they are, if an exporter put them in everywhere."""
        found = set()
        for bone, children in enumerate(self.skeleton.children):
            skinned = self.weight is not None and self.weight[bone] > 0
            alone = len(children) == 1 and children[0] not in self.skeleton.ends
            if skinned or not alone or self.skeleton.parents[bone] < 0:
                continue
            if self.distance(bone, children[0]) <= 1e-6 * self.size:
                found.add(bone)
        return found if len(found) >= _OFTEN_HOLLOW * self.count else set()

    def _held_by(self, bone: int) -> int:
        while bone in self.hollow:
            bone = int(self.skeleton.parents[bone])
        return bone

    def _ends(self) -> set[int]:
        found = set(self.skeleton.ends)
        for bone in range(self.count - 1, -1, -1):
            if bone in self.hollow or any(child not in found for child in self.family[bone]) or self.parents[bone] < 0:
                continue
            # Without skin, and alone where it is: eyes and helpers without skin have neighbours.
            bare = self.weight is not None and self.weight[bone] <= 0 < self.weight[self.parents[bone]]
            bare = bare and len(self.family[self.parents[bone]]) == 1
            if self.family[bone]:
                continue
            none = self.length[bone] <= 1e-9 * self.size
            if bare or none or "end" in meaning_of(self.skeleton.names[bone]).parts:
                found.add(bone)
        return found - stand_in_bones(self.figure)

    def _idle(self) -> set[int]:
        """What is no part of the body beside what is: sockets, targets, copies of limbs that a rig is moved by.

        Leaves are kept whose names say a part that no other is, or that mirror each other, as eyes do; whole limbs,
        where no other stands.
        """
        real = self._real()
        holds, size = real.copy(), np.ones(self.count, dtype=np.intp)
        for bone in range(self.count - 1, -1, -1):
            parent = self.parents[bone]
            if parent >= 0 and bone not in self.hollow:
                holds[parent] |= holds[bone]
                size[parent] += size[bone]
        said = {(meaning.parts, meaning.side) for meaning, own in zip(self.meanings, real, strict=True) if own}
        carries = np.array([any(holds[child] for child in children) for children in self.family])
        found: set[int] = set()
        for bone, parent in enumerate(self.parents):
            if parent < 0 or holds[bone] or bone in self.ends or bone in self.hollow:
                continue
            above = self.meanings[parent].parts
            if self.weight is not None:
                beside = real[parent] or carries[parent]
            else:  # a lone leaf is known for what it is by its skin only; or on a finger. In faces nothing is
                beside = (carries[parent] or (real[parent] and bool(above & _FINGERS))) and "head" not in above
            if parent in found or (beside and self._left_out(bone, int(size[bone]), real, holds, said)):
                found.add(bone)
        return found

    def _left_out(
        self, bone: int, size: int, real: np.ndarray, holds: np.ndarray, said: set[tuple[frozenset[str], str]]
    ) -> bool:
        """Whether a branch beside a body is none of its parts, by its name, its twin and its place."""
        meaning, family = self.meanings[bone], self.family[self.parents[bone]]
        if size > _FEW:
            return self._doubles(bone, np.flatnonzero(real).tolist())
        if self._doubles(bone, [other for other in family if real[other]]):
            return True
        if meaning.parts - {"extra"} and (meaning.parts, meaning.side) not in said:
            return False
        return len(family) > _MOST_SIBLINGS or not any(
            self._mirrored(bone, other) for other in family if not holds[other]
        )

    def _doubles(self, bone: int, others: list[int]) -> bool:
        """Whether one of some bones is where this one is, which then is what that one is moved by."""
        apart = np.linalg.norm(self.places[others] - self.places[bone], axis=1)
        return bool(apart.min(initial=np.inf) <= _SAME_PLACE * self.size)

    def _real(self) -> np.ndarray:
        """Which bones are surely parts of a body: those with skin; without any those that turn in the clip, if there is
        one, and those whose names say so, if the names of most bones do."""
        if self.weight is not None:
            return self.weight > 0
        says = np.array([bool(meaning.parts - {"extra", "helper", "end"}) for meaning in self.meanings])
        inner = np.array([bool(bones) for bones in self.family])
        moves = np.zeros(self.count, dtype=bool) if self.motion is None else self.motion.moves
        if says[inner].sum() < _TELLING * inner.sum():
            return moves
        return np.asarray(says | moves)

    def _mirrored(self, bone: int, other: int) -> bool:
        """Whether two bones are equally far from the one that holds them, and well apart."""
        alike = abs(self.length[bone] - self.length[other]) < _MIRRORED * self.length[bone]
        return bone != other and bool(alike and self.distance(bone, other) > 0.1 * self.length[bone])

    def _helpers(self) -> dict[int, tuple[int, float]]:
        """Leaf bones along the way from their parent to the next joint: the bone they help, and how far along."""
        found: dict[int, tuple[int, float]] = {}
        for bone in range(self.count):
            parent = self.parents[bone]
            leaf = all(child in self.ends for child in self.family[bone])
            if parent < 0 or not leaf or bone in self.ends or bone in self.hollow:
                continue
            named = "helper" in meaning_of(self.skeleton.names[bone]).parts
            best = (np.inf, 0.0)
            family = self.family[parent]
            for other in family if len(family) <= _MOST_SIBLINGS else ():
                if other == bone or other in self.ends:
                    continue
                if not self.family[other] and self.length[other] <= self.length[bone]:
                    continue
                along = self.places[other] - self.places[parent]
                length2 = float(along @ along)
                if length2 <= 0:
                    continue
                fraction = float((self.places[bone] - self.places[parent]) @ along) / length2
                off = float(np.linalg.norm(self.places[bone] - self.places[parent] - fraction * along)) / length2**0.5
                if 0.0 <= fraction <= 0.97 and off < best[0]:
                    best = (off, fraction)
            if best[0] < 0.03 or (named and best[0] < 0.5):
                found[bone] = (parent, best[1])
            elif named:
                found[bone] = (parent, 0.5)
        return found
