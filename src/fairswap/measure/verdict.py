"""The verdict: how near each part of the body is to the source, and the whole, which is no better than its worst part.

Every measure has a limit: what an artist would object to. At nothing it scores 100, at its limit 75, at twice that 56:
``100 * 0.75 ** (value / limit)``. A part scores as its worst measure does. Nothing is averaged over parts, so that no
part can hide behind the others; the limits say how much an eye sees of each. docs/measures.md has the table.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

from fairswap.bones.roles import part_of

if TYPE_CHECKING:
    from fairswap.measure.comparison import Comparison
    from fairswap.measure.differences import RoleDifference

PARTS = ("arms", "hands", "fingers", "legs", "feet", "trunk", "head", "face", "place", "timing", "smoothness")
SAME, NEARLY = 95.0, 75.0
# Degrees over all of the time (root mean square), and for a moment; by how a part of the body is seen.
_LIMITS = {
    "arms": (10.0, 45.0), "hands": (15.0, 60.0), "fingers": (20.0, 90.0), "legs": (10.0, 45.0), "feet": (15.0, 60.0),
    "toes": (25.0, 90.0), "trunk": (8.0, 35.0), "head": (10.0, 40.0),
}  # fmt: skip
# A bone that points the right way may have turned about its own length.
_TWIST_DEGREES = 25.0
# Of a figure with legs of 0.9 m; of others in proportion.
_USUAL_LEG_M = 0.9
_LOWEST_CM_S, _LOWEST_SHARE, _BELOW_CM, _OFF_CM, _INSIDE_CM = 8.0, 0.24, 4.0, 3.0, 8.0
_SLIDE_CM_S, _SINK_CM, _FLOAT_CM, _LOST_SHARE = 6.0, 4.0, 4.0, 0.5
_PLACE_PERCENT, _PLACE_WORST_PERCENT = 12.0, 60.0
# A tenth of a second, or a twentieth of the clip.
_LATE_S, _LATE_SHARE = 0.1, 0.05
_JERK_ABOVE = 1.5
# What pops is seen for a moment; and what jumps once in every round.
_POP = 1 / 3
_SEAM_DEGREES = 8.0
_OTHER_STEPS = 0.05
# A clip in which a foot stands for a frame or two has hardly a contact to lose.
_TOUCHED_S = 0.1
# As a share of how far the places of the source's face go.
_FACE_MISSED, _REGION_MISSED = 0.5, 0.75
# Tails and skirts hang as they will; but those of one family hang alike.
_BESIDE_DEGREES, _BESIDE_CM = 15.0, 5.0
# Of a face that is to stand still: as a share of a mouth opened wide, and for jaw and eyes of bones.
_FACE_BEYOND, _FACE_DEGREES, _FACE_STILL_DEGREES = 0.15, 8.0, 0.5


@dataclass(frozen=True)
class PartScore:
    """How near one part of the body is: 0 to 100, and the measure that it scores by, in words and as a number.

    ``value`` and ``limit`` are in ``unit``; at its limit a measure scores 75.
    """

    part: str
    score: float
    because: str
    value: float
    limit: float
    unit: str


def part_scores(found: Comparison) -> tuple[PartScore, ...]:
    """The score of each part of the body that both figures have, in the order of :data:`PARTS`."""
    worst: dict[str, PartScore] = {}
    for row in _measures(found):
        if row.part not in worst or row.score < worst[row.part].score:
            worst[row.part] = row
    return tuple(worst[part] for part in PARTS if part in worst)


def worst_of(parts: Iterable[PartScore]) -> PartScore:
    """The part that the whole is judged by; of several alike the first."""
    return min(parts, key=lambda row: row.score)


def word_for(score: float) -> str:
    """``looks the same``, ``looks nearly the same``, or ``does NOT look the same``."""
    if reaches(score, SAME):
        return "looks the same"
    return "looks nearly the same" if reaches(score, NEARLY) else "does NOT look the same"


def reaches(score: float, limit: float) -> bool:
    """Whether a score is that high, in whole points as it is shown: a 95 is never called less than one.

    >>> reaches(94.6, 95.0), reaches(94.4, 95.0)
    (True, False)
    """
    return round(score) >= limit


def _score(part: str, because: str, value: float, limit: float, unit: str) -> PartScore:
    return PartScore(part, 100.0 * 0.75 ** (max(value, 0.0) / limit), because, value, limit, unit)


def _measures(found: Comparison) -> Iterator[PartScore]:
    # Steps that were asked to be longer or shorter take other legs.
    other_steps = abs(found.travel_factor - 1.0) > _OTHER_STEPS
    # Lengths are told as they are on the result; what is allowed of them grows with its legs.
    leg = found.result.rigged.reference.leg_m / _USUAL_LEG_M
    head_degrees = next((role.rms_degrees for role in found.roles if role.role == "head"), 0.0)
    for role in found.roles:
        part = part_of_body(role.role, role.part)
        if role.part not in ("feet", "face"):  # feet are told by their soles
            yield _score(part, f"{role.role} goes below the floor", role.below_floor_cm, leg * _BELOW_CM, "cm")
        if role.part != "face":
            yield _score(part, f"{role.role} comes off the body", role.comes_off_cm, leg * _OFF_CM, "cm")
        # A jaw of bones may be one of shapes on the other head: told apart only where the source's does nothing.
        if role.part == "face" and found.face_beyond is not None:
            own = role.rms_degrees - head_degrees  # it goes with the head
            if own > _FACE_STILL_DEGREES:
                yield _score("face", f"{role.role} is off", own, _FACE_DEGREES, "degrees")
        if role.part != "face" and not (other_steps and role.part in ("legs", "feet")):
            yield from _of_role(role)
    for bone in found.beside:
        yield _score(bone.part, f"{bone.bone} is off", bone.rms_degrees, _BESIDE_DEGREES, "degrees")
        yield _score(bone.part, f"{bone.bone} is elsewhere", bone.rms_cm, leg * _BESIDE_CM, "cm")
    for inside in found.inside:
        part = part_of_body(inside.limb, part_of(inside.limb))
        yield _score(part, f"{inside.limb} goes into {inside.into_it}", inside.beyond_cm, leg * _INSIDE_CM, "cm")
    before, after = found.source_footing, found.result_footing
    # What the source does as well is no difference: over the floor its feet stand on, or its figure.
    legs = found.result.rigged.reference.leg_m / found.source.rigged.reference.leg_m
    stands = found.source_as_it_stands
    slide = after.skate_cm_s - legs * before.skate_cm_s
    sink = after.sole_below_cm - legs * max(before.sole_below_cm, stands.sole_below_cm)
    rise = after.float_cm - legs * max(before.float_cm, stands.float_cm)
    yield _score("feet", "a standing foot slides more", slide, leg * _SLIDE_CM_S, "cm/s")
    skim = after.lowest_cm_s - legs * before.lowest_cm_s
    # Of feet that never stand, as in a run on the spot, longer soles go faster by a share.
    skims = leg * _LOWEST_CM_S + _LOWEST_SHARE * legs * before.lowest_cm_s
    yield _score("feet", "the lowest sole goes faster over the floor", skim, skims, "cm/s")
    yield _score("feet", "soles go below the floor", sink, leg * _SINK_CM, "cm")
    yield _score("feet", "standing feet float", rise, leg * _FLOAT_CM, "cm")
    above = after.off_floor_cm - legs * max(before.off_floor_cm, stands.off_floor_cm)
    yield _score("feet", "no sole comes down to the floor", above, leg * _FLOAT_CM, "cm")
    stood = found.contacts
    lost = stood.lost_s / (stood.source_s + _TOUCHED_S)
    yield _score("feet", "contact with the floor is lost", lost, _LOST_SHARE, "of the time")
    path = "the hips are elsewhere"
    yield _score("place", path, found.hips_rms_percent, _PLACE_PERCENT, "% of the leg")
    yield _score("place", f"{path} for a moment", found.hips_worst_percent, _PLACE_WORST_PERCENT, "% of the leg")
    if found.face_missed is not None:
        yield _score("face", "the face does not do the same", found.face_missed, _FACE_MISSED, "of its motion")
    if found.face_region is not None:
        region, missed = found.face_region
        yield _score("face", f"the motion of the {region} is off", missed, _REGION_MISSED, "of its motion")
    if found.face_beyond:
        beyond = "the face does something where the source's is still"
        yield _score("face", beyond, found.face_beyond, _FACE_BEYOND, "of a mouth opened wide")
    late = max(_LATE_S, _LATE_SHARE * found.seconds)
    yield _score("timing", "it lasts longer or shorter", abs(found.duration_difference_s), late, "s")
    for pop in found.pops:
        if part_of(pop.role) != "face":
            part = part_of_body(pop.role, part_of(pop.role))
            limit = _POP * _LIMITS["toes" if pop.role.startswith("toes") else part][1]
            yield _score(part, f"{pop.role} pops at {pop.at_s:.2f} s", pop.beyond_degrees, limit, "degrees")
    if found.starts_over is not None:
        jumps = f"{found.starts_over.role} jumps where it starts over"
        yield _score("smoothness", jumps, found.starts_over.beyond_degrees, _SEAM_DEGREES, "degrees")
    yield _score("smoothness", "it is jerkier", found.jerk_ratio - 1.0, _JERK_ABOVE, "times more")


def _of_role(role: RoleDifference) -> Iterator[PartScore]:
    part = part_of_body(role.role, role.part)
    limit, moment = _LIMITS["toes" if role.role.startswith("toes") else part]
    degrees, worst = role.rms_degrees, role.seen_worst_degrees
    if role.role.startswith("hand_") and role.turn_rms_degrees < degrees:
        # Where the knuckles are differs between hands: one that has turned alike is held alike.
        degrees, worst = role.turn_rms_degrees, role.turn_worst_degrees
    yield _score(part, f"{role.role} is off", degrees, limit, "degrees")
    yield _score(part, f"{role.role} is off for a moment", worst, moment, "degrees")
    if role.by == "direction" and part in ("arms", "legs", "hands"):
        yield _score(part, f"{role.role} is twisted", role.turn_rms_degrees, max(_TWIST_DEGREES, limit), "degrees")


def part_of_body(role: str, part: str) -> str:
    """The part that a role is judged in: fingers apart from hands, feet from legs, neck with the head."""
    if role.startswith("hand_"):
        return "hands"
    if part == "hands":
        return "fingers"
    if role.startswith(("neck", "head")):
        return "head"
    if role.startswith(("foot", "toes")):
        return "feet"
    if role.startswith("shoulder"):
        return "arms"
    return part if part in _LIMITS else "trunk"
