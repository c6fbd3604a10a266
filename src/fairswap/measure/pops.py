"""Joints that pop: from one frame to the next they turn as they do in none around it, and as the source's do not."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass

import numpy as np

from fairswap.bones.roles import ARM, LEG, part_of, side_of
from fairswap.model.arrays import Floats
from fairswap.model.kernels import conjugate_multiply_into
from fairswap.model.poses import EarlierPoses, Poses
from fairswap.model.rotation import multiply
from fairswap.model.signals import widest
from fairswap.pose.rigged import RiggedFigure

# Less than this nobody sees. The source may do as much this much earlier or later, in seconds, and this much less.
_SEEN_DEGREES, _AROUND_S, _AS_MUCH = 1.0, 0.1, 1.25
# Bounds the memory of a long clip.
_FRAMES_AT_ONCE = 2048


@dataclass(frozen=True)
class Pop:
    """How far the turn of a joint from one frame to the next is from those before and after it, degrees; the same of
    the source's about then; and when it is."""

    role: str
    degrees: float
    source_degrees: float
    at_s: float

    @property
    def beyond_degrees(self) -> float:
        """By how much more than the source's."""
        return self.degrees - _AS_MUCH * self.source_degrees


def pops_of(
    pair: tuple[RiggedFigure, RiggedFigure], poses: tuple[Poses, Poses | EarlierPoses], rate: float, first: int = 0
) -> tuple[Pop, ...]:
    """The joints of the result that pop where the source's do not, the worst first, from the frame ``first`` on; the
    poses of both are in the same frames."""
    shared = {*pair[0].roles.bones} & {*pair[1].roles.bones}
    around = max(round(_AROUND_S * rate), 1)
    worst: dict[str, Pop] = {}
    frames = poses[0].rotation_track(0).shape[1]
    for start in range(first, frames - 3, _FRAMES_AT_ONCE):
        span = slice(max(start - around, first), start + _FRAMES_AT_ONCE + 3 + around)
        theirs, mine = (_unevenness(one, own, shared, span) for one, own in zip(pair, poses, strict=True))
        for role, row in mine.items():
            if row.max() <= _SEEN_DEGREES:
                continue
            source = widest(_of_source(role, theirs), around)
            at = int(np.argmax(row - _AS_MUCH * source))
            pop = Pop(role, float(row[at]), float(source[at]), (span.start + at + 1) / rate)
            if pop.beyond_degrees > max(_SEEN_DEGREES, worst[role].beyond_degrees if role in worst else 0.0):
                worst[role] = pop
    return tuple(sorted(worst.values(), key=lambda pop: -pop.beyond_degrees))


def _unevenness(
    rigged: RiggedFigure, poses: Poses | EarlierPoses, shared: Collection[str], span: slice
) -> dict[str, Floats]:
    """For each role how far its turn from frame to frame is from the mean of those before and after it, in degrees
    ``(frames - 3,)``: seen from the bone above it that fills a role on both figures."""
    roles = {role: bone for role, bone in rigged.roles.bones.items() if role != "root"}
    held = {bone for role, bone in roles.items() if role in shared}
    turns = np.stack([_seen_from_above(rigged, poses, bone, held, span) for bone in roles.values()], axis=1)
    before, after = turns[..., :-1], turns[..., 1:]
    steps = conjugate_multiply_into(np.empty(after.shape), before, after, np.empty(after.shape[1:]))
    # The vector part, twice, is as good as the angle, of a turn from frame to frame.
    vectors = steps[:3] * np.copysign(2.0, steps[3])
    off = vectors[..., 1:-1] - 0.5 * (vectors[..., :-2] + vectors[..., 2:])
    return dict(zip(roles, np.degrees(np.sqrt((off**2).sum(axis=0))), strict=True))


def _seen_from_above(
    rigged: RiggedFigure, poses: Poses | EarlierPoses, bone: int, held: Collection[int], span: slice
) -> Floats:
    """How a bone is turned against the first one above it that is ``held``, else in the world ``(4, frames)``."""
    turned = poses.rotation_track(bone)[:, span]
    above = int(rigged.skeleton.parents[bone])
    while above >= 0 and above not in held:
        turned = multiply(poses.rotation_track(above)[:, span].T, turned.T).T
        above = int(rigged.skeleton.parents[above])
    return turned


def _of_source(role: str, source: Mapping[str, Floats]) -> Floats:
    """What the source does there: of a limb the most that any of its joints does, since a foot or a hand that keeps its
    place passes on what any of them does, of a chain of other counts of bones all of them together; of a finger that
    it lacks the most of that hand."""
    limb = next((parts for parts in (ARM, LEG) if role.removesuffix(f"_{side_of(role)}") in parts), ())
    chain = role.rpartition("_")[0] if role.startswith(("spine_", "neck_")) else ""
    if chain:
        rows = [row for other, row in source.items() if other.startswith(f"{chain}_")]
        return np.sum(rows, axis=0) if rows else source["hips"]
    if limb:
        rows = [source[other] for other in (f"{part}_{side_of(role)}" for part in limb) if other in source]
    elif role in source:
        rows = [source[role]]
    else:
        place = part_of(role), side_of(role)
        rows = [row for other, row in source.items() if (part_of(other), side_of(other)) == place]
    return np.max(rows, axis=0) if rows else np.zeros_like(source["hips"])
