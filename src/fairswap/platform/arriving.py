"""When bones were merged, what is left is turned so that neck and hands arrive where they were.

A spine of one bone points where the whole spine did, instead of as its lowest bone; then each arm reaches from where
its shoulder is now to where the hand was, its elbow in the plane that it was in. World turns of all else stay.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from fairswap.bones.roles import SIDES, role_order
from fairswap.model.arrays import Floats
from fairswap.model.rotation import multiply, quaternion_between, rotate
from fairswap.model.skeleton import Skeleton, WorldTransforms
from fairswap.platform.planning import NewBone

# Nearer than this it has arrived, metres; arms are never quite straightened (share of their length).
_THERE_M, _STRAIGHT = 1e-4, 0.9995
_SAME_M = 1e-3


def arrive(
    bones: Sequence[NewBone], old: Skeleton, skeleton: Skeleton, world: WorldTransforms, turned: Floats
) -> None:  # fmt: skip
    """Change the world turns ``(bones, 4, frames)`` of the new bones in place; ``world`` is the old bones' motion."""
    number = {bone.key: index for index, bone in enumerate(bones)}
    if "hips" not in number:
        return
    for chain in ("spine", "neck"):
        line = sorted((key for key in number if key.startswith(f"{chain}_")), key=role_order)
        onward = [*line[1:], next((key for key in ("neck_1", "head") if key in number), "")]
        for key, end in zip(line, onward, strict=True):
            goal = _standing(bones[number[end]], old) if end else -1
            if _between(_standing(bones[number[key]], old), goal, old):
                _aim(number[key], number[end], goal, bones, skeleton, world, turned)
        goal = _standing(bones[number[onward[-1]]], old) if line and onward[-1] else -1
        if goal >= 0 and any(bones[number[key]].fraction > 0.0 for key in line):
            _bend([number[key] for key in line], number[onward[-1]], goal, bones, skeleton, world, turned)
    for side in SIDES:
        limb = [number.get(f"{part}_{side}", -1) for part in ("upper_arm", "lower_arm", "hand")]
        if min(limb) < 0 or not all(_standing(bones[bone], old) == bones[bone].first for bone in limb):
            continue
        if skeleton.parents[limb[1]] == limb[0] and skeleton.parents[limb[2]] == limb[1]:
            _reach((limb[0], limb[1], limb[2]), bones, skeleton, world, turned)


def _standing(bone: NewBone, old: Skeleton) -> int:
    """The old bone that stands where a new one does, which tells where that has to be; -1 if there is none."""
    apart = np.linalg.norm(old.rest.positions[0] - np.array(bone.place), axis=1)
    nearest = int(np.argmin(apart))
    return nearest if apart[nearest] < _SAME_M else -1


def _between(start: int, end: int, old: Skeleton) -> bool:
    """Whether other old bones stood between two: what bent there is stiff now."""
    up = int(old.parents[end]) if end >= 0 else -1
    steps = 1
    while up >= 0 and up != start:
        up, steps = int(old.parents[up]), steps + 1
    return start >= 0 and up == start and steps > 1


def _positions(
    bone: int, bones: Sequence[NewBone], skeleton: Skeleton, world: WorldTransforms, turned: Floats
) -> Floats:
    """Where a new bone is, ``(frames, 3)``: from the hips, which are where they were, up."""
    line = [bone]
    while bones[line[-1]].key != "hips" and skeleton.parents[line[-1]] >= 0:
        line.append(int(skeleton.parents[line[-1]]))
    at = np.asarray(world.position_tracks[bones[line[-1]].first].T)
    for above, below in zip(line[:0:-1], line[-2::-1], strict=True):
        at = at + rotate(turned[above].T, skeleton.rest_translations[below])
    return at


def _bend(
    line: Sequence[int], end: int, goal: int, bones: Sequence[NewBone], skeleton: Skeleton, world: WorldTransforms,
    turned: Floats,
) -> None:  # fmt: skip
    """Turn the inner bones of a chain of another count, so that its end comes to where it was, the old bone ``goal``;
    its first bone and its last move as those of the old chain."""
    inner = line[1:-1]
    if not inner:
        return
    start, last = (_positions(bone, bones, skeleton, world, turned) for bone in (inner[0], line[-1]))
    wanted = world.position_tracks[goal].T - (_positions(end, bones, skeleton, world, turned) - last)
    by = quaternion_between(last - start, wanted - start)
    for bone in inner:
        _turn(bone, by, bones, skeleton, turned)


def _aim(
    bone: int, end: int, goal: int, bones: Sequence[NewBone], skeleton: Skeleton, world: WorldTransforms, turned: Floats
) -> None:  # fmt: skip
    """Turn a bone so that it points to where the next joint was, the old bone ``goal``."""
    start = _positions(bone, bones, skeleton, world, turned)
    now = _positions(end, bones, skeleton, world, turned) - start
    wanted = world.position_tracks[goal].T - start
    if np.linalg.norm(now - wanted, axis=1).max() > _THERE_M:
        _turn(bone, quaternion_between(now, wanted), bones, skeleton, turned)


def _reach(
    limb: tuple[int, int, int], bones: Sequence[NewBone], skeleton: Skeleton, world: WorldTransforms, turned: Floats
) -> None:  # fmt: skip
    """Bring a hand to where it was: both bones of the arm turned, the elbow in its plane (the law of cosines)."""
    upper, lower, hand = (_positions(bone, bones, skeleton, world, turned) for bone in limb)
    goal = world.position_tracks[bones[limb[2]].first].T - upper
    first, second = lower - upper, hand - lower
    if np.linalg.norm(hand - upper - goal, axis=1).max() <= _THERE_M:
        return
    a, b = np.linalg.norm(first, axis=1), np.linalg.norm(second, axis=1)
    far = np.linalg.norm(goal, axis=1)
    reach = np.clip(far, np.abs(a - b) + 1e-6, _STRAIGHT * (a + b))
    along = goal / np.maximum(far, 1e-9)[:, None]
    # The elbow stays on its side: what of it is square to the way from shoulder to hand, brought along.
    old = hand - upper
    carried = rotate(quaternion_between(old, goal), first)
    aside = carried - np.einsum("ni,ni->n", carried, along)[:, None] * along
    aside = aside / np.maximum(np.linalg.norm(aside, axis=1, keepdims=True), 1e-9)
    share = (a**2 + reach**2 - b**2) / (2.0 * reach)
    high = np.sqrt(np.maximum(a**2 - share**2, 0.0))
    elbow = share[:, None] * along + high[:, None] * aside
    _turn(limb[0], quaternion_between(first, elbow), bones, skeleton, turned)
    _turn(limb[1], quaternion_between(second, reach[:, None] * along - elbow), bones, skeleton, turned)


def _turn(bone: int, by: Floats, bones: Sequence[NewBone], skeleton: Skeleton, turned: Floats) -> None:
    """Turn a bone in the world, and with it what hangs on it without a role: helpers, cloth."""
    going = {bone}
    for other in range(bone + 1, len(bones)):
        if int(skeleton.parents[other]) in going and bones[other].key.startswith("bone "):
            going.add(other)
    for one in going:
        turned[one] = multiply(by, turned[one].T).T
