"""One clip carried over and judged; limbs kept apart where the result is more like its source for it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace

import msgspec
import numpy as np

from fairswap.bones.roles import SIDES
from fairswap.errors import Finding
from fairswap.jobs.beside import with_lost_on_head
from fairswap.measure.comparison import Comparison, Motion, compare_motions
from fairswap.model.clip import Clip
from fairswap.model.rotation import angle_between
from fairswap.retarget.options import AS_TRANSFERRED, MotionOptions
from fairswap.retarget.pipeline import Retargeted, retarget
from fairswap.retarget.record import Record, as_made, points_of, with_travel
from fairswap.retarget.swap import Swap

# Limbs are kept apart unasked where one goes further into something than its source's, by so many centimetres; and
# where the worst part of the body scores so much more for it, or all together do and the worst no less.
_DEEP_CM, _WORTH = 1.0, 3.0
_LIMBS = [f"{part}_{side}" for part in ("upper_arm", "lower_arm", "upper_leg", "lower_leg") for side in SIDES]


@dataclass(frozen=True, eq=False)
class Carried:
    """A clip carried over, and how like its source it is; how like it was ``before`` feet and hands were seen to, and
    how like it is ``judged`` once more, limbs counting as asked to be kept apart or not."""

    made: Retargeted
    comparison: Comparison
    before: Callable[[], Comparison] = field(repr=False)
    judged: Callable[[bool], Comparison] = field(repr=False)


def carried(swap: Swap, clip: Clip, asked: Motion, motion: MotionOptions, record: Record) -> Carried:
    """A clip carried over as the options say, and held against what is ``asked`` for: the source with its layers.

    ``record`` is what was decided about the figures; it goes along with the clip.
    """
    found = _carried(swap, clip, asked, motion, record)
    inside = found.comparison.inside
    if motion.clear is not None or motion.hands == "free" or not inside or inside[0].beyond_cm <= _DEEP_CM:
        return found
    apart = _carried(swap, clip, asked, replace(motion, clear=True), record)
    # Both by one measure: that an arm is elsewhere, to be out of the body, counts.
    was, now = (np.array([part.score for part in one.parts]) for one in (found.comparison, apart.judged(False)))
    better = now.min() > was.min() + _WORTH or (now.min() >= was.min() and now.sum() > was.sum() + _WORTH)
    if not better:
        return found
    told = _told(swap, found, apart)
    return replace(apart, made=replace(apart.made, findings=(*apart.made.findings, told)))


def _carried(swap: Swap, clip: Clip, asked: Motion, motion: MotionOptions, record: Record) -> Carried:
    made = retarget(swap, clip, motion)
    taken = [] if made.travel_taken is None else points_of(made.travel_taken, float(clip.rate))
    record = msgspec.structs.replace(record, travel_taken=taken, cleared=bool(motion.clear))
    findings = tuple(with_lost_on_head(made.findings, swap, clip))
    made = replace(made, clip=replace(made.clip, made=as_made(record)), findings=findings)
    factor = 1.0 if motion.scale_travel is None else motion.scale_travel / swap.leg_ratio
    whole = with_travel(Motion(swap.target, made.clip), taken)

    def judged(cleared: bool, result: Motion = whole) -> Comparison:
        return compare_motions(asked, result, source_contacts=made.contacts, travel_factor=factor, cleared=cleared)

    comparison = judged(record.cleared)
    nothing_done = motion == replace(AS_TRANSFERRED, travel=motion.travel, scale_travel=motion.scale_travel)

    def before() -> Comparison:
        if nothing_done or made.edit is None:
            return comparison
        return judged(record.cleared, Motion(swap.target, made.clip, made.edit.first()))

    return Carried(made, comparison, before, judged)


def _told(swap: Swap, found: Carried, apart: Carried) -> Finding:
    """How deep limbs were in each other, and what it took to keep them apart."""
    bones = [swap.target.roles.bones[role] for role in _LIMBS]
    turned = angle_between(*(one.made.clip.poses.rotations[:, bones] for one in (found, apart)))
    was, now = (one.comparison.inside for one in (found, apart))
    deep = max((row.deepest_cm for row in now), default=0.0)
    most = _LIMBS[int(turned.max(axis=0).argmax())]
    message = (
        f"limbs were brought out of the body and each other, {most} turned by up to "
        f"{np.degrees(turned.max()):.0f} degrees for it: {was[0].limb} went {was[0].deepest_cm:.1f} cm into "
        f"{was[0].into_it} (source {was[0].source_deepest_cm:.1f} cm); none goes deeper than {deep:.1f} cm now"
    )
    return Finding("limbs-kept-apart", "note", apart.made.clip.name, message)
