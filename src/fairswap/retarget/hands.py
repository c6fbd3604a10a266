"""Hands that meet something on the source meet it on the target: the other hand, the own body, the floor, or an object.

Where the source's palm touches, the target's is brought to the same place (of the other hand, of the body's surface,
of the floor, of the object), with the arm solved and the elbow on its side, blended in and out. The hand keeps the turn
it was carried over with.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from fairswap.bones.roles import SIDES
from fairswap.errors import UsageError
from fairswap.measure.contacts import Floor
from fairswap.measure.palms import Palm, bare_hands, palm_is_low, palms_of
from fairswap.measure.surface import touchable_by
from fairswap.measure.touches import meeting, on_body, on_floor
from fairswap.model.arrays import Floats
from fairswap.model.chain_world import ChainWorld, Limb
from fairswap.model.rotation import conjugate, multiply, quaternion_from_axis_angle, rotate
from fairswap.model.signals import eased, nearness, runs_of, smoothed, swelled
from fairswap.model.space import AHEAD, UP
from fairswap.pose.rigged import RiggedFigure
from fairswap.retarget.inverse_kinematics import solve_limb
from fairswap.retarget.options import MotionOptions

# In leg lengths over the floor: where hands begin to follow it, and where they do so wholly.
_FAR_FROM_FLOOR, _NEAR_FLOOR = 0.3, 0.1
# In seconds.
_EASE_S, _EVEN_S = 0.22, 0.1
# Of the length of an arm: where it begins to give way.
_SOFT_REACH = 0.02
# Radians that a hand is bent back at most.
_BENT_BACK = 1.4


@dataclass(frozen=True)
class Touch:
    """One meeting: which hand, what it met (``hand``, ``object``, ``floor`` or a part of the body), when, and how near
    the target came to it at worst, metres."""

    side: str
    what: str
    start_s: float
    stop_s: float
    off_m: float


@dataclass(frozen=True, eq=False)
class _Wish:
    """Where a hand's palm should be ``(frames, 3)``, when ``(frames,)``, and what it meets there."""

    side: str
    what: str
    when: np.ndarray
    where: Floats


@dataclass(frozen=True, eq=False)
class _Hands:
    """The hands of a source and a target over all frames, side by side."""

    source: RiggedFigure
    target: RiggedFigure
    source_chain: ChainWorld
    chain: ChainWorld
    rate: float
    floor: Floor

    @cached_property
    def palms(self) -> tuple[Mapping[str, Palm], Mapping[str, Palm]]:
        """Of source and target, by side."""
        return palms_of(self.source), palms_of(self.target)

    @cached_property
    def theirs(self) -> Mapping[str, Floats]:
        """Where the source's palms are ``(frames, 3)``, by side."""
        return {side: palm.track(self.source_chain) for side, palm in self.palms[0].items()}

    @cached_property
    def heights(self) -> Mapping[str, Floats]:
        """How high the source's palms are over the floor it stands on, metres ``(frames,)``, by side."""
        return {side: track[:, 1] - self.floor.height(track) for side, track in self.theirs.items()}

    @cached_property
    def bare(self) -> list[str]:
        """The sides whose hand the source does not show: it is laid down where it would go through the floor."""
        return bare_hands(self.source, self.source_chain)

    def mine(self, side: str) -> Floats:
        """Where the target's palm is by now ``(frames, 3)``."""
        return self.palms[1][side].track(self.chain)

    def ratio(self, side: str) -> float:
        """How much longer the target's hand is."""
        return self.palms[1][side].length / self.palms[0][side].length

    def over_floor(self, side: str) -> tuple[Floats, Floats]:
        """How high the target's palm should be: as high over the floor as theirs, for its size, and no lower than
        keeps the fingers that both have out of it (its own, if the source has none and its hands are not laid down);
        and that least height alone, ``(frames,)`` each."""
        both = [role for role in self.source.roles.hand(side) if role in self.target.roles.bones]
        own = both if len(both) > 1 or side in self.bare else self.target.roles.hand(side)
        lowest = _lowest(self.target, self.chain, Floor(self.target.floor_m), own)
        theirs = _lowest(self.source, self.source_chain, self.floor, both)
        least = self.mine(side)[:, 1] - lowest + np.minimum(self.ratio(side) * theirs, 0.0)
        return np.maximum(self.target.floor_m + self.ratio(side) * self.heights[side], least), least

    def follow_floor(self) -> None:
        """Bring hands that are near the floor as high over it as theirs are, for their size: the nearer they come, the
        more their height counts from the floor, and the less from their shoulder."""
        for side in SIDES:
            far = self.heights[side] / self.source.reference.leg_m
            near = eased((_FAR_FROM_FLOOR - far) / (_FAR_FROM_FLOOR - _NEAR_FLOOR))
            now = self.mine(side)[:, 1]
            if near.max() > 0.0 or now.min() - self.target.floor_m < self.palms[1][side].length:
                wanted, least = self.over_floor(side)
                push = np.maximum(near * (wanted - now), least - now)
                # A hand may come down to the floor from one frame to the next: an arm that is pushed then would snap.
                up, down = (swelled(np.maximum(sign * push, 0.0), _EASE_S * self.rate) for sign in (1.0, -1.0))
                push_hand(self.target, side, self.chain, (up - down)[:, None] * UP)

    def lay_down(self) -> None:
        """Bend hands back whose fingers would go through the floor, where the source has neither fingers nor turns of a
        hand: it does not show one that lies flat."""
        known = self.target
        for side in self.bare:
            hand, *fingers = [known.roles.bones[role] for role in known.roles.hand(side)]
            low = palm_is_low(known, side, self.chain)
            if not (fingers and low.any()):
                continue
            rests = known.reference_world.positions[0]
            tip = max(fingers, key=lambda bone: float(np.linalg.norm(rests[bone] - rests[hand])))
            turn = self.chain.rotation(hand)
            away = self.chain.position(tip) - self.chain.position(hand)
            across = rotate(multiply(turn, conjugate(known.reference.rotations[hand])), AHEAD)
            across = across if side == "left" else -across
            along = np.einsum("fi,fi->f", away, across)[:, None] * across
            # The height of the tip is of the form a·cos + b·sin of how far the hand is bent, and that is room.
            a, b = (away - along)[:, 1], np.cross(across, away)[:, 1]
            room = known.floor_m - self.chain.position(hand)[:, 1] - along[:, 1]
            most = np.arctan2(b, a)
            most = np.where(most < -0.5 * np.pi, most + 2.0 * np.pi, most)
            bent = most - np.arccos(np.clip(room / np.maximum(np.hypot(a, b), 1e-9), -1.0, 1.0))
            bent = np.where(low & (a < room), np.clip(bent, 0.0, _BENT_BACK), 0.0)
            bent = smoothed(bent, _EVEN_S * self.rate)
            self.chain.turn(hand, multiply(quaternion_from_axis_angle(across, bent), turn))

    def on_each_other(self) -> list[_Wish]:
        """Hands that meet: as far apart as theirs, for their size, around the middle between the two."""
        apart = self.theirs["left"] - self.theirs["right"]
        when = meeting(apart, self.palms[0]["left"], self.rate)
        if not when.any():
            return []
        middle = 0.5 * (self.mine("left") + self.mine("right"))
        return [
            _Wish(side, "hand", when, middle + sign * 0.5 * self.ratio("left") * apart)
            for side, sign in (("left", 1.0), ("right", -1.0))
        ]

    def on_object(self, name: str, scale: float) -> tuple[list[_Wish], Floats | None]:
        """Hands that meet an object, and where that stands ``(3,)`` when it is first met.

        On the target's stage it is as far over the ground as travel is scaled, as high as the legs are, and from there
        to where this figure's own shoulders and arms bring its hands, so that none has to stretch.
        """
        source, target = self.source, self.target
        if name not in source.skeleton.names:
            raise UsageError(f"there is no bone {name!r} in {source.figure.name} to mark an object")
        thing = self.source_chain.position(source.skeleton.names.index(name))
        legs = target.reference.leg_m / source.reference.leg_m
        seen = (thing - source.reference.hips * [1, 0, 1] - [0, source.floor_m, 0]) * [scale, legs, scale]
        there = seen + target.reference.hips * [1, 0, 1] + [0, target.floor_m, 0]
        found, misses = [], []
        for side in SIDES:
            away = self.theirs[side] - thing
            when = meeting(away, self.palms[0][side], self.rate)
            if when.any():
                found.append(_Wish(side, "object", when, there + self.ratio(side) * away))
                misses.append((self.mine(side) - found[-1].where)[when])
        if not found:
            return [], None
        shift = np.concatenate(misses).mean(axis=0)
        first = min(int(np.argmax(wish.when)) for wish in found)
        return [replace(wish, where=wish.where + shift) for wish in found], there[first] + shift

    def on_floor(self, taken: np.ndarray) -> list[_Wish]:
        """Hands that rest on the floor: as high over it as theirs, for their size, and each time in one place, or
        sliding over it as theirs does."""
        found, legs = [], self.target.reference.leg_m / self.source.reference.leg_m
        for side in SIDES:
            track, height = self.theirs[side], self.heights[side]
            when = on_floor(track, height, self.palms[0][side], self.source, self.rate) & ~taken
            if when.any():
                off = legs * track - self.mine(side)
                for start, stop in runs_of(when):
                    off[start:stop] -= off[start:stop].mean(axis=0)
                frames = np.arange(len(off))
                # Before and after, the hand comes from where it is brought to, and leaves from there.
                off = np.stack([np.interp(frames, frames[when], row[when]) for row in off.T], axis=1)
                where = self.mine(side) + off
                where[:, 1] = self.over_floor(side)[0]
                found.append(_Wish(side, "floor", when, where))
        return found

    def on_body(self, taken: np.ndarray) -> list[_Wish]:
        """Hands that rest on a part of the own body: at the same place of it."""
        found = []
        for side in SIDES:
            for old, new in zip(touchable_by(self.source, side), touchable_by(self.target, side), strict=True):
                when, (height, direction, distance) = on_body(
                    side, self.theirs[side], old, self.source, self.source_chain, self.rate
                )
                when = when & ~taken
                if when.any():
                    palm = self.mine(side)
                    push = new.points(height, direction, self.ratio(side) * distance, self.chain) - palm
                    for start, stop in runs_of(when):  # over a surface of few corners it would shake
                        push[start:stop] = smoothed(push[start:stop], _EVEN_S * self.rate)
                    found.append(_Wish(side, old.part, when, palm + push))
        return found

    def reach(self, side: str, wishes: list[_Wish], weight: float) -> None:
        """Bring the hand of a side to where it is wanted, eased in and out; between several wishes at once."""
        shares = np.array([nearness(wish.when, _EASE_S * self.rate) for wish in wishes])
        total, point = np.maximum(shares.sum(axis=0), 1.0), self.mine(side)
        push = np.sum(
            [(wish.where - point) * (fraction / total)[:, None] for wish, fraction in zip(wishes, shares, strict=True)],
            axis=0,
        )
        push_hand(self.target, side, self.chain, weight * push)


def meet_hands(
    source: RiggedFigure, target: RiggedFigure, source_chain: ChainWorld, chain: ChainWorld, rate: float, floor: Floor,
    scale: float, options: MotionOptions,
) -> tuple[list[Touch], Floats | None]:  # fmt: skip
    """Bring the target's hands (in ``chain``, in place) to what the source's meet, the ``floor`` it stands on among it;
    tell each meeting, and where the object stands ``(3,)`` when it is first met."""
    hands = _Hands(source, target, source_chain, chain, rate, floor)
    hands.follow_floor()
    wishes, stands = hands.on_each_other(), None
    if options.object is not None:
        met, stands = hands.on_object(options.object, scale)
        wishes += met
    both = np.any([wish.when for wish in wishes], axis=0) if wishes else np.zeros(chain.frames, dtype=bool)
    wishes += hands.on_floor(both) + hands.on_body(both)
    for side in SIDES:
        own = [wish for wish in wishes if wish.side == side]
        if own:
            hands.reach(side, own, options.reach)
    hands.lay_down()
    touches = []
    for wish in wishes:
        apart = np.linalg.norm(hands.mine(wish.side) - wish.where, axis=1)
        for start, stop in runs_of(wish.when):
            off = float(apart[start:stop].max())
            touches.append(Touch(wish.side, wish.what, start / rate, (stop - 1) / rate, off))
    return sorted(touches, key=lambda touch: (touch.start_s, touch.side)), stands


def push_hand(target: RiggedFigure, side: str, chain: ChainWorld, push: Floats) -> None:
    """Move a hand by ``push`` ``(frames, 3)`` in the world, its turn kept."""
    upper, lower, hand = (target.roles.bones[f"{part}_{side}"] for part in ("upper_arm", "lower_arm", "hand"))
    limb = chain.limb(upper, lower, hand)
    turn = chain.rotation(hand).copy()
    sign = 1.0 if side == "left" else -1.0
    moved = multiply(limb.upper, conjugate(target.reference.rotations[upper]))
    goal = _within_reach(limb, limb.end + push)
    rotations = solve_limb(limb, limb.root, goal, rotate(moved, np.array([0.0, -sign, 0.0])))
    chain.turn(upper, rotations[0])
    chain.turn(lower, rotations[1])
    chain.turn(hand, turn)


def _lowest(rigged: RiggedFigure, chain: ChainWorld, floor: Floor, roles: list[str]) -> Floats:
    """How high the lowest of the joints with these roles is over the floor, metres ``(frames,)``."""
    places = [chain.position(rigged.roles.bones[role]) for role in roles]
    return np.asarray(np.min([place[:, 1] - floor.height(place) for place in places], axis=0))


def _within_reach(limb: Limb, goal: Floats) -> Floats:
    """``goal`` ``(frames, 3)`` where the arm reaches it easily; beyond, the nearer to its full length the slower: an
    elbow that is stretched at once snaps."""
    away = goal - limb.root
    far = np.linalg.norm(away, axis=1)
    begins = np.maximum(np.linalg.norm(limb.end - limb.root, axis=1), (1.0 - _SOFT_REACH) * limb.length)
    room = np.maximum(limb.length - begins, 1e-9)
    held = np.where(far > begins, begins + room * -np.expm1(-np.maximum(far - begins, 0.0) / room), far)
    return np.asarray(limb.root + away * (held / np.maximum(far, 1e-9))[:, None])
