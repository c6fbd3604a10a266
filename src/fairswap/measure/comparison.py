"""How alike two figures move: numbers for "looks the same", of source and result."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from fairswap.bones.roles import SIDES, part_of
from fairswap.bones.skin import skin_told
from fairswap.errors import Finding
from fairswap.measure.beside import BoneBeside
from fairswap.measure.contacts import Contacts, Floor, contacts_in, contacts_of
from fairswap.measure.cycles import Jump, jump_of_cycle
from fairswap.measure.differences import (
    ContactsKept,
    Footing,
    RoleDifference,
    Tracks,
    belt_of,
    blocks,
    contacts_kept,
    jerk_of,
    rms,
)
from fairswap.measure.intersection import LimbInside, arms_crowded, limbs_inside, seconds_inside
from fairswap.measure.lead_in import lead_in_frames
from fairswap.measure.moving_skin import skin_in_motion
from fairswap.measure.palms import bare_hands, palm_is_low
from fairswap.measure.pops import Pop, pops_of
from fairswap.measure.touches import touching
from fairswap.measure.verdict import (
    NEARLY,
    PARTS,
    SAME,
    PartScore,
    part_of_body,
    part_scores,
    reaches,
    word_for,
    worst_of,
)
from fairswap.model.arrays import Floats
from fairswap.model.cards import html_card
from fairswap.model.chain_world import ChainWorld
from fairswap.model.clip import Clip
from fairswap.model.poses import EarlierPoses, Poses
from fairswap.model.signals import nearness
from fairswap.pose.rigged import RiggedFigure
from fairswap.wording import listed

if TYPE_CHECKING:
    import pandas

# Leg lengths a frame cubed: a quarter of a millimetre of a person, which nobody sees, on a figure that stands still.
_UNSEEN_JERK = 3e-4
# A result of so much of the source's frame rate has a lower one.
_LOWER = 0.95
# How long before and after a touch an arm is on its way.
_REACHES_S = 0.3
LIMB_PARTS = ("arms", "legs", "hands")


@dataclass(frozen=True, eq=False)
class Motion:
    """A clip with the rigged figure that it moves: one side of a comparison.

    ``earlier`` are poses to be judged instead of the clip's own, as they were at an earlier stage.

    >>> import fairswap
    >>> walk = fairswap.demo_motion("walk")
    >>> fairswap.Motion(fairswap.RiggedFigure.of(walk), walk.clips[0])
    <Motion 'Walk' of 'Juniper'>
    """

    rigged: RiggedFigure
    clip: Clip
    earlier: EarlierPoses | None = field(default=None, repr=False)

    @property
    def poses(self) -> Poses | EarlierPoses:
        """What is judged."""
        return self.earlier or self.clip.poses

    def __repr__(self) -> str:
        return f"<Motion {self.clip.name!r} of {self.rigged.figure.name!r}>"


@dataclass(frozen=True, eq=False)
class Comparison:
    """A result compared with its source. Angles in degrees, hips in percent of the leg's length.

    ``source_footing`` is over the floor that the source's feet stand on; ``source_as_it_stands`` over the floor that
    its figure rests on, which may be another. ``standing`` ``(2, 2, frames)`` says when the feet of source and result
    stand, left and right. ``source`` and ``result`` are what was compared, for pictures of it. ``travel_factor`` is by
    how much longer the way was asked to be than the legs are. ``degrees_by_part`` is how far each part of the body is
    off in each frame, by its bone that is furthest off; ``hips_percent`` how far the hips are, ``(frames,)`` percent of
    the leg. ``inside`` are limbs that go into each other or the trunk on the result. ``face_missed`` is how far the
    places of the face are off, as a share of how far the source's go; None where no face moves, or there is none.
    ``face_region`` is the region of the face that misses most, of those that the result can show, and how much of it.
    ``face_beyond`` is, of a source whose face stands still, how far the places of the result's go all the same, as a
    share of a mouth opened wide; None where it moves, or the two faces are not to be alike.
    ``face_lacking`` says what of the face is not judged, and why: it moves in the source, and is not on the result, or
    nobody says what it looks like.
    ``beside`` are bones without a role that are to do as the source's, and are off; ``restless`` those that only the
    result has, and do not rest, each by how many degrees and cm. ``garment_below`` is the extra bone that goes
    furthest below the floor, and by how much, cm. ``cleared`` is whether
    limbs were kept out of the body and each other. ``starts_over`` is what jumps most where the result starts over;
    None where the source does not. ``pops`` are joints that turn from one frame to the next as in none around it.

    >>> import fairswap
    >>> walk = fairswap.demo_motion("walk")
    >>> found = fairswap.compare(walk, walk)
    >>> found.looks_same, round(found.limbs_mean_degrees, 1)
    (True, 0.0)
    """

    clip: str
    seconds: float
    duration_difference_s: float
    roles: tuple[RoleDifference, ...]
    hips_mean_percent: float
    hips_rms_percent: float
    hips_worst_percent: float
    source_footing: Footing
    result_footing: Footing
    contacts: ContactsKept
    jerk_ratio: float
    per_frame_degrees: Floats
    times_s: Floats
    standing: np.ndarray
    source: Motion = field(repr=False)
    result: Motion = field(repr=False)
    source_as_it_stands: Footing = field(repr=False)
    inside: tuple[LimbInside, ...] = ()
    cleared: bool = False
    face_missed: float | None = None
    face_region: tuple[str, float] | None = None
    face_beyond: float | None = None
    face_lacking: str = ""
    beside: tuple[BoneBeside, ...] = ()
    restless: tuple[tuple[str, float, float], ...] = ()
    garment_below: tuple[str, float] | None = None
    travel_factor: float = 1.0
    starts_over: Jump | None = None
    pops: tuple[Pop, ...] = ()
    degrees_by_part: Mapping[str, Floats] = field(default_factory=dict, repr=False)
    hips_percent: Floats = field(default_factory=lambda: np.zeros(0), repr=False)

    @cached_property
    def inside_body_s(self) -> tuple[float | None, float | None]:
        """How long palms of source and result are inside the own body, seconds; None without a mesh that tells."""
        source, result = (seconds_inside(motion.rigged, motion.clip) for motion in (self.source, self.result))
        return source, result

    @cached_property
    def parts(self) -> tuple[PartScore, ...]:
        """How near each part of the body is, and why."""
        return part_scores(self)

    def _limbs(self) -> list[RoleDifference]:
        return [role for role in self.roles if role.part in LIMB_PARTS and role.by == "direction"]

    @property
    def limbs_mean_degrees(self) -> float:
        """Mean over arms, legs and fingers and over time."""
        return float(np.mean([role.mean_degrees for role in self._limbs()]))

    @property
    def limbs_worst_degrees(self) -> float:
        """The worst limb at the worst time."""
        return max(role.worst_degrees for role in self._limbs())

    @property
    def limbs_turn_degrees(self) -> float:
        """As the mean, but by how differently the limbs have turned: shows a twist that no direction shows."""
        return float(np.mean([role.turn_mean_degrees for role in self._limbs()]))

    @property
    def likeness(self) -> float:
        """One number for "looks the same", 0..100: that of the worst part; see :mod:`fairswap.measure.verdict`."""
        return worst_of(self.parts).score

    @property
    def looks_same(self) -> bool:
        """Whether no artist would object: no part beyond its limit."""
        return reaches(self.likeness, NEARLY)

    @property
    def verdict(self) -> str:
        """One sentence for the artist."""
        worst = worst_of(self.parts)
        said = f"{self.clip}: {word_for(worst.score)} ({worst.score:.0f} of 100)"
        if reaches(worst.score, SAME):
            return f"{said}; limbs differ by {self.limbs_mean_degrees:.2f} degrees on average"
        return f"{said}; worst: {worst.part}, {worst.because} ({worst.value:.3g} {worst.unit})"

    @property
    def findings(self) -> list[Finding]:
        """What puts the verdict in doubt: bones that are guesses, and skin of the result that does not go with them."""
        guesses = [finding for side in (self.source, self.result) for finding in side.rigged.guesses]
        rigged = self.result.rigged
        told = skin_told(rigged.figure, rigged.roles)
        told += skin_in_motion(rigged.figure, rigged.roles, self.result.clip)
        if self.restless:
            some = listed((f"{bone} ({_far(degrees, cm)})" for bone, degrees, cm in self.restless), 4)
            message = f"bones without a partner do not rest: {some}; whether they should, no source says"
            remedy = "Leave them so if they are to move by themselves; else take their keys out"
            told.append(Finding("extras-restless", "note", self.clip, message, remedy))
        return guesses + told

    def table(self) -> pandas.DataFrame:
        """The roles as a pandas table."""
        import pandas

        return pandas.DataFrame([asdict(role) for role in self.roles])

    def __repr__(self) -> str:
        return f"<Comparison {self.verdict}>"

    def _repr_html_(self) -> str:
        facts = {
            "likeness": f"{self.likeness:.0f} of 100",
            "worst part": f"{worst_of(self.parts).part}: {worst_of(self.parts).because}",
            "limbs": f"{self.limbs_mean_degrees:.2f}° mean, {self.limbs_worst_degrees:.1f}° worst",
            "hips' path": f"{self.hips_mean_percent:.2f} % of leg off",
            "standing foot slides": f"{self.result_footing.skate_cm_s:.1f} cm/s",
            "contacts kept": f"{self.contacts.kept_share:.0%}",
        }
        return html_card("Comparison", self.clip, facts)


def compare_motions(
    source: Motion, result: Motion, *, source_contacts: Contacts | None = None, travel_factor: float = 1.0,
    cleared: bool = False,
) -> Comparison:  # fmt: skip
    """Compare a result with its source, at the source's frames, each figure in its own frame.

    Arms, legs and fingers are compared by where their bones point, joint to joint. Trunk, head and feet, which differ
    between any two anatomies, are compared by how far they have turned from the reference pose. The hips' path is
    compared in leg lengths. Feet count as standing when the source's do; ``source_contacts`` says when, where that was
    found already. ``travel_factor`` is by how much longer ground travel was asked to be than the legs are;
    ``cleared`` that limbs were kept out of the body, so that arms that are at it may be elsewhere.

    Raises
    ------
    ImpossibleError
        If they share no limb.
    """
    # What is no part of the motion is not judged.
    rate, lead_in = float(source.clip.rate), lead_in_frames(source.clip)
    times = np.arange(source.clip.frames) / rate
    poses = _at_frames_of(source, result, times)
    times = times[lead_in:]
    pair = source.rigged, result.rigged
    stands = source_contacts or contacts_of(pair[0], source.clip)
    belt = belt_of(stands, pair, travel_factor)
    contacts = stands, contacts_in(pair[1], ChainWorld(poses), rate, lead_in, belt)
    floors = contacts[0].floor, Floor(pair[1].floor_m)
    both_touch = _touching_alike(pair, (source.clip.poses, poses), rate, floors)[:, lead_in:]
    if cleared:
        crowded = [nearness(when, _REACHES_S * rate)[lead_in:] for when in arms_crowded(pair[1], poses)]
        both_touch = np.maximum(both_touch, crowded)
    inside = limbs_inside(pair, (source.clip.poses, poses), rate, lead_in)
    laid = {f"hand_{side}": palm_is_low(pair[1], side, ChainWorld(poses))[lead_in:]
            for side in bare_hands(pair[0], ChainWorld(source.clip.poses))}  # fmt: skip
    tracks = Tracks(pair, len(times), contacts, both_touch, rate, travel_factor, laid)
    for start, stop, first, last in blocks(lead_in, source.clip.frames):
        worlds = source.clip.poses.world(first, last), poses.world(first, last)
        tracks.fill(slice(start - lead_in, stop - lead_in), slice(start - first, stop - first), worlds)
    tracks.choose_floor()
    standing = np.stack([[found.standing(side)[lead_in:] for side in SIDES] for found in contacts])
    watched, paths = _watched(tracks, source, result, poses, lead_in)
    jerks = [jerk_of(path) for path in paths]
    limbs = [row for row, (role, onward) in enumerate(tracks.roles) if onward and part_of(role) in LIMB_PARTS]
    footings = [tracks.footing(which, standing[0]) for which in (0, 1)]
    return Comparison(
        clip=result.clip.name,
        seconds=source.clip.duration_s,
        duration_difference_s=result.clip.duration_s - source.clip.duration_s,
        roles=tracks.differences(times),
        hips_mean_percent=float(tracks.hips.mean()),
        hips_rms_percent=rms(tracks.hips),
        hips_worst_percent=float(tracks.hips.max()),
        source_footing=footings[0],
        result_footing=footings[1],
        contacts=contacts_kept(contacts, rate),
        jerk_ratio=(jerks[1] + _UNSEEN_JERK) / (jerks[0] + _UNSEEN_JERK),
        per_frame_degrees=tracks.degrees[limbs].mean(axis=0, dtype=np.float64),
        times_s=times,
        standing=standing,
        source=source,
        result=result,
        garment_below=tracks.deepest_garment(),
        inside=inside,
        cleared=cleared,
        source_as_it_stands=tracks.footing(0, standing[0], tracks.lowest_at_rest),
        travel_factor=travel_factor,
        pops=pops_of(pair, watched.poses, watched.rate, watched.first),
        starts_over=jump_of_cycle(source.rigged, source.clip, result.rigged, result.poses),
        degrees_by_part=_by_part(tracks),
        hips_percent=tracks.hips,
    )


@dataclass(frozen=True, eq=False)
class _Watched:
    """Poses of source and result in the same frames, from ``first`` on, which are looked at one after the other."""

    poses: tuple[Poses, Poses | EarlierPoses]
    rate: float
    first: int


def _watched(
    tracks: Tracks, source: Motion, result: Motion, poses: Poses | EarlierPoses, lead_in: int
) -> tuple[_Watched, Floats]:
    """The frames that are watched for what is not smooth, and the paths ``(2, joints, frames, 3)`` in them: the
    source's, or those of a result that has fewer: who asks for a lower rate asks for what is left out between them."""
    rate, slower = float(source.clip.rate), float(result.clip.rate)
    if slower > _LOWER * rate:
        return _Watched((source.clip.poses, poses), rate, lead_in), tracks.paths
    times = np.arange(np.ceil(lead_in / rate * slower), int(source.clip.duration_s * slower + 1e-6) + 1) / slower
    watched = source.clip.at(times), result.clip.at(times)
    paths = np.empty((2, len(tracks.ends), len(times), 3))
    for start, stop, first, last in blocks(0, len(times)):
        for which, own in enumerate(watched):
            world, inner = own.world(first, last), slice(start - first, stop - first)
            for row, role in enumerate(tracks.ends):
                paths[which, row, start:stop] = tracks.path(which, role, world, inner)
    return _Watched(watched, slower, 0), paths


def _by_part(tracks: Tracks) -> dict[str, Floats]:
    """How far each part of the body is off in each frame ``(frames,)``."""
    found: dict[str, Floats] = {}
    for (role, _), row in zip(tracks.roles, tracks.degrees, strict=True):
        part = part_of_body(role, part_of(role))
        found[part] = np.maximum(found.get(part, row), row)
    return {part: found[part] for part in PARTS if part in found}


def _touching_alike(
    pair: tuple[RiggedFigure, RiggedFigure], poses: tuple[Poses, Poses | EarlierPoses], rate: float,
    floors: tuple[Floor, Floor],
) -> Floats:  # fmt: skip
    """How much each hand touches something, or is on its way there, on both figures, 0 to 1 ``(2, frames)``."""
    near = np.ones((2, poses[0].frames))
    for rigged, own, floor in zip(pair, poses, floors, strict=True):
        for row, when in enumerate(touching(rigged, ChainWorld(own), rate, floor)):
            near[row] *= nearness(when, _REACHES_S * rate)
    return near


def _at_frames_of(source: Motion, result: Motion, times: Floats) -> Poses | EarlierPoses:
    """What is judged of the result, at the frames of the source."""
    if result.clip.rate == source.clip.rate and result.clip.frames == source.clip.frames:
        return result.poses
    return result.clip.at(times)


def _far(degrees: float, cm: float) -> str:
    """How far a bone is off, in words, by what there is of it."""
    return ", ".join(f"{far:.0f} {unit}" for far, unit in ((degrees, "degrees"), (cm, "cm")) if far >= 0.5)
