"""Which way is up and forward, judged from the bones alone; their names are asked where nothing else shows the front.

Used at the border, where files do not say (motion text) or say it wrongly (a scene file without its turning node).
"""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from itertools import combinations

import numpy as np

from fairswap.model.arrays import Floats, Integers
from fairswap.model.space import UNITS_M, Space, nearest_direction

# A person of another height was measured in another unit.
PLAUSIBLE_HEIGHT_M = (0.25, 5.0)
# What people stand like; how surprised we are, in powers of e, to meet each unit in a motion file.
_USUAL_HEIGHT_M = 1.6
# Of one bone, the longest: more would make too many pairs.
_MOST_LIMBS = 40
# Toes go ahead by more than this, of what they go down: a shin with nothing below it is none.
_TOES_AHEAD = 0.5
# Legs of so many bones have thigh and shin cut in two.
_IN_PIECES = 6
# Bones of the two legs that must be called by their sides, for names to tell the front.
_SAID = 2
# Nearly all files have left and right along X. Somebody who rests in a stance, turned by up to 60 degrees, is no sign
# of another habit: the share of X that is still taken for it.
_ALONG_X = 0.58
# From this angle on, to the nearest axis, a stance may as well face another.
_ASLANT_DEGREES = 30.0
# A limb of so many bones beside the way to its end has fingers.
_FINGERS = 4
# Limbs that begin further from what holds them, of their length, do not belong to it.
_FAR = 0.6
# Joints of two legs that are nearer to each other than this share of how far the legs are ever apart are in one place.
_ONE_PLACE = 0.01
_SURPRISE = {"cm": 0.0, "m": 0.0, "in": 0.3, "mm": 0.4, "ft": 0.6, "dm": 0.8, "hm": 0.5}


@dataclass(frozen=True)
class Posture:
    """How a skeleton stands in its file: axis names, and its extent along the up axis in file units.

    ``feet`` are the bones of both where nothing shows the front, and ``forward`` is only what is usual. Where it
    ``stands_written``, a file of ours says how it stands, and that it is in metres. ``aslant`` is who is turned so far
    from an axis that it may as well face the next.
    """

    up: str
    forward: str
    height: float
    reason: str
    feet: tuple[int, ...] = ()
    stands_written: bool = False
    aslant: bool = False

    @property
    def axes(self) -> tuple[str, str]:
        """Where up and forward point."""
        return self.up, self.forward


@dataclass(frozen=True, eq=False)
class _Counted:
    """The bones of a skeleton that count, by number ``rows`` ``(n,)``, their ``parents`` among themselves, and what is
    alone below each of them ``ends``, -1 for nothing."""

    rows: Integers
    parents: Integers
    ends: Integers

    @classmethod
    def of(cls, counts: np.ndarray, parents: Integers) -> _Counted:
        counts = counts | (not counts.any())
        for bone in range(len(parents) - 1, 0, -1):
            if counts[bone] and parents[bone] >= 0:
                counts[parents[bone]] = True
        rows = np.flatnonzero(counts)
        place = np.append(np.where(counts, np.cumsum(counts) - 1, -1), -1)  # the last is of what is above all
        inner = np.flatnonzero(parents >= 0)
        children = np.bincount(parents[inner], minlength=len(parents))
        ends = np.full(len(parents), -1, dtype=np.intp)
        alone = inner[~counts[inner] & (children[inner] == 0) & (children[parents[inner]] == 1)]
        ends[parents[alone]] = alone
        return cls(rows, place[parents[rows]], ends[rows])


def posture_from_positions(
    places: Floats, parents: Integers, counts: np.ndarray | None = None, sides: Integers | None = None
) -> Posture | None:
    """Judge from the places ``(bones, 3)`` of all bones in one pose, in the world; None if no body with two legs is
    seen.

    ``sides`` ``(bones,)`` are 1 for those that are called left, -1 for right, 0 for neither.

    ``counts`` ``(bones,)`` says which bones are of the body, with those above them; all, if none is: sockets, targets
    and spare limbs are not.
    """
    counted = _Counted.of(np.ones(len(parents), dtype=bool) if counts is None else counts, parents)
    positions, tips = places[counted.rows], places[counted.ends]
    body = _trunk_and_legs(positions, counted.parents)
    if body is None:
        return None
    trunk, legs = body
    upward = positions[trunk].mean(axis=0) - positions[legs[0] + legs[1]].mean(axis=0)
    up = nearest_direction(upward)
    up_axis = "XYZ".index(up[1])
    across = _between(positions, legs)
    across[up_axis] = 0.0
    along = np.abs(across) * [1.0, _ALONG_X, _ALONG_X]
    across_axis = int(np.argmax(along))
    if across_axis == up_axis or not np.any(across):
        return None
    forward_axis = 3 - up_axis - across_axis
    off_degrees = np.degrees(np.arccos(min(abs(across[across_axis]) / np.linalg.norm(across), 1.0)))
    aslant = bool(off_degrees > _ASLANT_DEGREES)
    leg_length = np.linalg.norm(np.diff(positions[legs[0]], axis=0), axis=1).sum()
    height = float(np.ptp(positions[:, up_axis]))
    reason = f"the trunk is above the legs along {up}"
    last = [leg[-1] for leg in legs]
    toes = tips[last] if (counted.ends[last] >= 0).all() else positions[last]
    # The foot is the third bone of a leg, or a later one, where thigh and shin are cut in two.
    for at in range(2, max(3, min(map(len, legs)) - 1)):
        toes_ahead = np.mean(toes - positions[[leg[min(at, len(leg) - 1)] for leg in legs]], axis=0)
        ahead, down = abs(toes_ahead[forward_axis]), abs(toes_ahead[up_axis])
        if ahead > 0.03 * leg_length and ahead > _TOES_AHEAD * down:
            forward = ("+" if toes_ahead[forward_axis] > 0 else "-") + "XYZ"[forward_axis]
            return Posture(up, forward, height, f"{reason}, the toes point to {forward}", aslant=aslant)
    said = 0 if sides is None else int(sides[counted.rows[legs[0]]].sum() - sides[counted.rows[legs[1]]].sum())
    if abs(said) >= _SAID:
        left, upright = np.zeros(3), np.zeros(3)
        left[across_axis], upright[up_axis] = np.sign(said * across[across_axis]), 1.0 if up[0] == "+" else -1.0
        forward = nearest_direction(np.cross(left, upright))
        reason += f"; no toes tell the front, the names of the sides say {forward}"
        return Posture(up, forward, height, reason, aslant=aslant)
    forward = ("-" if up == "+Z" else "+") + "XYZ"[forward_axis]
    reason += f"; no toes tell the front, {forward} is the custom"
    feet = [leg[min(2, len(leg) - 1) if len(leg) < _IN_PIECES else -2] for leg in legs]
    return Posture(up, forward, height, reason, tuple(counted.rows[feet].tolist()), aslant=aslant)


def _between(positions: Floats, legs: tuple[list[int], list[int]]) -> Floats:
    """From the one leg to the other, where they begin to be two: some skeletons begin both in one place."""
    shared = min(map(len, legs))
    ways = positions[legs[0][:shared]] - positions[legs[1][:shared]]
    far = np.linalg.norm(ways, axis=1)
    return np.array(ways[int(np.argmax(far > _ONE_PLACE * far.max()))])


def posture_of_file(rest: Posture | None, shown: list[Posture], convention: Space | None) -> tuple[Posture | None, str]:
    """The posture that a file as a whole is in, and where it was seen.

    ``rest`` is that of the rest pose, ``shown`` those of frames of clips. Somebody may rest lying down, or facing
    backwards, and yet stand in the clips: if either is as the ``convention`` of the format asks, nothing needs turning,
    unless more of the clips begin as the figure rests (of twenty that face aside, one may well turn to the front). Who
    rests aslant faces as most clips that begin straight. Where a format has no convention, the frames know better which
    way is up.
    """
    if not shown:
        return rest, "at rest"
    stands = shown[0], "in the first frame"
    if rest is None:
        return stands
    if convention is None:
        agree = len({posture.up for posture in shown}) == 1
        return stands if agree and shown[0].up != rest.up else (rest, "at rest")
    asked = convention.up, convention.forward
    straight = Counter(posture.axes for posture in shown if not posture.aslant and posture.up == rest.up)
    if rest.aslant and straight:
        seen, times = straight.most_common(1)[0]
        if seen != rest.axes and 2 * times > straight.total():
            return next(posture for posture in shown if posture.axes == seen), "in clips"
    axes = [posture.axes for posture in shown]
    if asked != rest.axes and asked in axes and axes.count(asked) >= axes.count(rest.axes):
        return shown[axes.index(asked)], "in a clip"
    return rest, "at rest"


def unit_from_height(height: float) -> str:
    """The unit in which ``height`` is most likely that of a person.

    >>> unit_from_height(172.0), unit_from_height(1.1), unit_from_height(59.0)
    ('cm', 'm', 'in')
    >>> unit_from_height(0.0172)
    'hm'
    """
    metres = {unit: height * size for unit, size in UNITS_M.items()}
    return min(_SURPRISE, key=lambda unit: abs(np.log(max(metres[unit], 1e-9) / _USUAL_HEIGHT_M)) + _SURPRISE[unit])


def _trunk_and_legs(positions: Floats, parents: Integers) -> tuple[list[int], tuple[list[int], list[int]]] | None:
    """The bones of the trunk (with arms and head), and the two legs from the hip down, along their longest chains."""
    tree = _Tree(positions, parents)
    hubs = sorted(range(len(parents)), key=lambda bone: -tree.reach[bone])  # bodies are larger than hands
    return next((found for hub in hubs if (found := tree.body_at(hub))), None)


class _Tree:
    """Bones by how far they go on downward: ``reach`` is the longest way down from each, ``depth`` how many bones that
    can be, itself included, and ``below`` how many there are in all."""

    def __init__(self, positions: Floats, parents: Integers) -> None:
        count = len(parents)
        self.positions, self.parents = positions, parents.tolist()
        self.children: list[list[int]] = [[] for _ in range(count)]
        self.below, self.depth, self.reach = [1] * count, [1] * count, [0.0] * count
        steps = np.where(parents[:, None] >= 0, positions - positions[parents], 0.0)
        self.length = np.linalg.norm(steps, axis=1).tolist()
        for bone in range(count - 1, -1, -1):
            parent = self.parents[bone]
            if parent >= 0:
                self.children[parent].append(bone)
                self.below[parent] += self.below[bone]
                self.reach[parent] = max(self.reach[parent], self.length[bone] + self.reach[bone])
                self.depth[parent] = max(self.depth[parent], 1 + self.depth[bone])
        self._chains: dict[int, list[int]] = {}

    def chain(self, bone: int) -> list[int]:
        """From a bone down the longest way."""
        if bone not in self._chains:
            found, least, at = [bone], 1e-4 * self.reach[bone], bone
            while self.children[at]:
                at = max(self.children[at], key=lambda child: (self.length[child] + self.reach[child], -child))
                if self.length[at] > least:  # some exporters put a node between every two bones
                    found.append(at)
            self._chains[bone] = found
        return self._chains[bone]

    def limbs_of(self, hub: int) -> list[int]:
        """What goes out from a bone, three bones long at least; of a child that forks at once, its branches."""
        found = []
        for child in self.children[hub]:
            branches = [branch for branch in self.children[child] if self._is_limb(branch)]
            if len(branches) == len(self.children[child]) == 2:
                found += branches
            elif self._is_limb(child):
                found.append(child)
        return found

    def _is_limb(self, bone: int) -> bool:
        return self.depth[bone] >= 3 and self.reach[bone] > 0

    def _beside(self, hub: int) -> int:
        """The largest branch that forks beside a bone; -1 for none: a spine may begin beside what holds the legs."""
        others = self.children[self.parents[hub]] if self.parents[hub] >= 0 else []
        forks = [other for other in others if other != hub and self.below[other] > self.depth[other]]
        return max(filter(self._is_limb, forks), key=lambda other: self.below[other], default=-1)

    def _apart(self, two: tuple[int, int]) -> bool:
        """Whether two limbs are two: rigs have some again, for targets, where they are."""
        first, second = (self.positions[self.chain(limb)] for limb in two)
        shared = min(len(first), len(second))
        return bool(np.abs(first[:shared] - second[:shared]).max() > 1e-3 * self.reach[two[0]])

    def _alike(self, two: tuple[int, int]) -> bool:
        """Whether two limbs mirror each other: as many bones, and as long."""
        first, second = two
        longer = abs(self.reach[first] - self.reach[second])
        return self.below[first] == self.below[second] and longer < 0.05 * self.reach[first]

    def body_at(self, hub: int) -> tuple[list[int], tuple[list[int], list[int]]] | None:
        """Trunk and legs that go out from a bone; None if these are no body's."""
        limbs = self.limbs_of(hub)
        if len(limbs) < 3:
            return None
        trunk = max(limbs, key=lambda child: (self.below[child], -child))
        spine = self._beside(hub)
        if self.below[trunk] == self.depth[trunk] and spine >= 0 and 2 * self.below[spine] > self.below[trunk]:
            trunk = spine  # what hangs on the legs' own bone does not fork: a tail
        kept = sorted(sorted(limbs, key=lambda limb: -self.reach[limb])[:_MOST_LIMBS])
        if any(self._alike((trunk, limb)) for limb in kept if limb != trunk):
            # A trunk has no twin: where legs and arms hang on one bone, arms are the trunk, and legs the longer pair of
            # those without fingers.
            twins = [two for two in combinations(kept, 2) if self._alike(two) and self._apart(two)]
            plain = [two for two in twins if self.below[two[0]] - self.depth[two[0]] < _FINGERS]
            legs = max(plain or twins, key=lambda two: self.reach[two[0]], default=(trunk, trunk))
            arms = [two for two in twins if not set(two) & set(legs)]
            if trunk in legs and arms:
                above = {*self.chain(arms[0][0]), *self.chain(arms[0][1])}
                return sorted(above), (self.chain(legs[0]), self.chain(legs[1]))
        pair = self._legs([limb for limb in kept if limb != trunk])
        if pair is None or all(self._far(limb, hub) for limb in pair):
            return None  # no twins: neck and arms; or arms that a control bone holds
        return self._with_all_below(trunk), (self.chain(pair[0]), self.chain(pair[1]))

    def _legs(self, limbs: list[int]) -> tuple[int, int] | None:
        """The pair most alike in length, and long: a tail has no twin, a skirt is shorter."""
        reach = self.reach
        pair = max(
            filter(self._apart, combinations(limbs, 2)),
            key=lambda two: min(reach[two[0]], reach[two[1]]) - 2.0 * abs(reach[two[0]] - reach[two[1]]),
            default=None,
        )
        if pair is None or abs(reach[pair[0]] - reach[pair[1]]) > 0.15 * max(reach[pair[0]], reach[pair[1]]):
            return None
        return pair

    def _far(self, limb: int, hub: int) -> bool:
        """Whether a limb begins away from what it hangs on, as no leg does, but one that ends there, as where
        hips turn about the floor."""
        chain = self.positions[self.chain(limb)] - self.positions[hub]
        return float(np.linalg.norm(chain[[0, -1]], axis=1).min()) > _FAR * self.reach[limb]

    def _with_all_below(self, trunk: int) -> list[int]:
        inside = {trunk}
        for bone in range(trunk + 1, len(self.parents)):
            if self.parents[bone] in inside:
                inside.add(bone)
        return sorted(inside)
