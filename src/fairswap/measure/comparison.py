"""How alike two figures move: numbers for "looks the same", of source and result."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import asdict, dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from fairswap.bones.roles import SIDES, RoleMap, next_roles, part_of, role_order
from fairswap.errors import ImpossibleError
from fairswap.measure.contacts import Contacts, Floor, contacts_in, contacts_of
from fairswap.measure.intersection import seconds_inside
from fairswap.measure.soles import Sole, lowest_and_speed, soles_of
from fairswap.measure.verdict import NEARLY, SAME, PartScore, part_scores, word_for, worst_of
from fairswap.model.arrays import Floats
from fairswap.model.cards import html_card
from fairswap.model.chain_world import ChainWorld
from fairswap.model.clip import Clip
from fairswap.model.poses import EarlierPoses, Poses
from fairswap.model.rotation import angle_between, conjugate, multiply, normalized
from fairswap.model.signals import widest_mask
from fairswap.model.skeleton import WorldTransforms
from fairswap.pose.reference import neutral_direction
from fairswap.pose.rigged import RiggedFigure

if TYPE_CHECKING:
    import pandas

Pair = tuple[RiggedFigure, RiggedFigure]
Worlds = tuple[WorldTransforms, WorldTransforms]
LIMB_PARTS = ("arms", "legs", "hands")
# Bounds the memory of a long clip.
_FRAMES_AT_ONCE = 2048
# Whose paths are watched for jerk.
_JERK_ROLES = ("hips", "head", *(f"{part}_{side}" for side in SIDES for part in ("hand", "foot", "lower_leg")))


@dataclass(frozen=True)
class RoleDifference:
    """How far one role's bone differs over time, in degrees. ``by`` is ``direction`` or ``turn``.

    ``below_floor_cm`` is how far its joint goes below the floor at worst, beyond what that of the source does.

    ``turn_…`` is how differently the bone has turned, twist about its own length included; ``rms`` the root of the
    mean of squares over time, in which what is far off for a while counts more.
    """

    role: str
    part: str
    by: str
    mean_degrees: float
    worst_degrees: float
    worst_at_s: float
    turn_mean_degrees: float
    rms_degrees: float
    turn_rms_degrees: float
    turn_worst_degrees: float
    below_floor_cm: float


@dataclass(frozen=True)
class Footing:
    """How the feet behave while the source's stand: slide of the standing foot, deepest sole below the floor, how high
    the standing foot is above it on average, share of time a foot stands.

    ``lowest_cm_s`` knows nothing of who stands: how fast the lowest point of both soles goes over the ground.
    """

    skate_cm_s: float
    lowest_cm_s: float
    sole_below_cm: float
    float_cm: float
    standing_share: float


@dataclass(frozen=True)
class ContactsKept:
    """Foot contacts of the result against those of the source: seconds (both feet together) and how many;
    ``kept_share`` of the source's time was kept, 0..1."""

    source_count: int
    result_count: int
    source_s: float
    kept_s: float
    lost_s: float
    invented_s: float
    kept_share: float


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
    """A result held against its source. Angles in degrees, hips in percent of the leg's length.

    ``source_footing`` is over the floor that the source's feet stand on; ``source_as_it_stands`` over the floor that
    its figure rests on, which may be another. ``standing`` ``(2, 2, frames)`` says when the feet of source and result
    stand, left and right. ``source`` and ``result`` are what was compared, for pictures of it. ``travel_factor`` is by
    how much longer the way was asked to be than the legs are.

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
    travel_factor: float = 1.0

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
        return self.likeness >= NEARLY

    @property
    def verdict(self) -> str:
        """One sentence for the artist."""
        worst = worst_of(self.parts)
        said = f"{self.clip}: {word_for(worst.score)} ({worst.score:.0f} of 100)"
        if worst.score >= SAME:
            return f"{said}; limbs differ by {self.limbs_mean_degrees:.2f} degrees on average"
        return f"{said}; worst: {worst.part}, {worst.because} ({worst.value:.3g} {worst.unit})"

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
    source: Motion, result: Motion, *, source_contacts: Contacts | None = None, travel_factor: float = 1.0
) -> Comparison:
    """Hold a result against its source, at the source's frames, each figure in its own frame.

    Arms, legs and fingers are compared by where their bones point, joint to joint. Trunk, head and feet, which differ
    between any two anatomies, are compared by how far they have turned from the reference pose. The hips' path is
    compared in leg lengths. Feet count as standing when the source's do; ``source_contacts`` says when, where that was
    found already. ``travel_factor`` is by how much longer the way over the ground was asked to be than the legs are.

    Raises
    ------
    ImpossibleError
        If they share no limb.
    """
    rate, frames = float(source.clip.rate), source.clip.frames
    times = np.arange(frames) / rate
    poses = _at_frames_of(source, result, times)
    pair = source.rigged, result.rigged
    contacts = source_contacts or contacts_of(pair[0], source.clip), contacts_in(pair[1], ChainWorld(poses), rate)
    tracks = _Tracks(pair, frames, contacts, rate, travel_factor)
    for start, stop, first, last in _blocks(frames):
        worlds = source.clip.poses.world(first, last), poses.world(first, last)
        tracks.fill(slice(start, stop), slice(start - first, stop - first), worlds)
    tracks.choose_floor()
    standing = np.stack([[found.standing(side) for side in SIDES] for found in contacts])
    jerks = [_jerk(paths) for paths in tracks.paths]
    limbs = [row for row, (role, onward) in enumerate(tracks.roles) if onward and part_of(role) in LIMB_PARTS]
    footings = [tracks.footing(which, standing[0]) for which in (0, 1)]
    return Comparison(
        clip=result.clip.name,
        seconds=source.clip.duration_s,
        duration_difference_s=result.clip.duration_s - source.clip.duration_s,
        roles=tracks.differences(times),
        hips_mean_percent=float(tracks.hips.mean()),
        hips_rms_percent=_rms(tracks.hips),
        hips_worst_percent=float(tracks.hips.max()),
        source_footing=footings[0],
        result_footing=footings[1],
        contacts=_contacts_kept(contacts, rate),
        jerk_ratio=jerks[1] / jerks[0] if jerks[0] > 0 else 1.0,
        per_frame_degrees=tracks.degrees[limbs].mean(axis=0),
        times_s=times,
        standing=standing,
        source=source,
        result=result,
        source_as_it_stands=tracks.footing(0, standing[0], tracks.lowest_at_rest),
        travel_factor=travel_factor,
    )


class _Tracks:
    """What is measured over all frames, filled in block by block.

    ``degrees`` and ``turns`` are ``(roles, frames)``, ``hips`` ``(frames,)`` percent of the leg; for both figures and
    both feet, ``lowest`` is the height of the lowest point of the sole above the floor and ``speed`` how fast it goes,
    ``(2, 2, frames)`` metres and metres per second; ``paths`` ``(2, ends, frames, 3)`` are in leg lengths.
    """

    def __init__(
        self, pair: Pair, frames: int, contacts: tuple[Contacts, Contacts], rate: float, travel_factor: float
    ) -> None:
        self.pair, self.contacts, self.rate, self.travel_factor = pair, contacts, rate, travel_factor
        self.soles: tuple[dict[str, Sole], ...] = tuple(soles_of(rigged) for rigged in pair)
        self.roles = _compared_roles(pair)
        self.ends = [role for role in _JERK_ROLES if all(role in rigged.roles.bones for rigged in pair)]
        self.degrees, self.turns = np.empty((len(self.roles), frames)), np.empty((len(self.roles), frames))
        self.hips = np.empty(frames)
        self._hips_leveled, self.lowest_at_rest = np.empty(frames), np.empty((2, frames))
        self.depth = np.zeros((2, len(self.roles)))  # of joints below the floor, leg lengths
        self.lowest, self.speed = np.empty((2, 2, frames)), np.empty((2, 2, frames))
        self.paths = np.empty((2, len(self.ends), frames, 3))

    def fill(self, span: slice, inner: slice, worlds: Worlds) -> None:
        """Measure the frames ``span``, which are the frames ``inner`` of ``worlds``."""
        self.turns[:, span] = _by_turn([role for role, _ in self.roles], self.pair, worlds)[:, inner]
        self.degrees[:, span] = self.turns[:, span]
        pointing = [row for row, (_, onward) in enumerate(self.roles) if onward]
        directions = _by_direction([self.roles[row] for row in pointing], self.pair, worlds)
        self.degrees[pointing, span] = directions[:, inner]
        self.hips[span] = _hips_apart(self.pair, worlds, self.travel_factor)[inner]
        self._hips_leveled[span] = _hips_apart(self.pair, worlds, self.travel_factor, self.contacts[0].floor)[inner]
        for which, (rigged, world) in enumerate(zip(self.pair, worlds, strict=True)):
            for foot, side in enumerate(SIDES):
                sole = self.soles[which][side]
                heights, speeds = lowest_and_speed(sole.track(world), self.rate)
                positions = world.positions[inner, sole.foot]
                ground = self.contacts[which].floor.height(positions) if which == 0 else rigged.floor_m
                self.lowest[which, foot, span] = heights[inner] - ground
                if which == 0:
                    self.lowest_at_rest[foot, span] = heights[inner] - rigged.floor_m
                self.speed[which, foot, span] = speeds[inner]
            self._sink(which, world, inner)
            bones = [rigged.roles.bones[role] for role in self.ends]
            self.paths[which][:, span] = world.positions[inner][:, bones].transpose(1, 0, 2) / rigged.reference.leg_m

    def _sink(self, which: int, world: WorldTransforms, inner: slice) -> None:
        rigged = self.pair[which]
        joints = world.positions[inner][:, [rigged.roles.bones[_last(rigged.roles, role)] for role, _ in self.roles]]
        floor = np.full(joints.shape[:2], rigged.floor_m)
        if which == 0:  # over the floor its feet stand on, or the one it rests on: what is higher, to its credit
            floor = np.maximum(floor, self.contacts[0].floor.height(joints))
        depth = (floor - joints[:, :, 1]).max(axis=0) / rigged.reference.leg_m
        self.depth[which] = np.maximum(self.depth[which], depth)

    def choose_floor(self) -> None:
        """Count the hips from the floor under the source's feet, or from that of its rest: what the result stands on.

        A source that is off its floor may be brought to it, or left as it is; neither is a difference.
        """
        if _rms(self._hips_leveled) < _rms(self.hips):
            self.hips = self._hips_leveled

    def differences(self, times: Floats) -> tuple[RoleDifference, ...]:
        """Each role over time."""
        below = 100.0 * np.maximum(self.depth[1] - self.depth[0], 0.0) * self.pair[1].reference.leg_m
        rows = zip(self.roles, self.degrees, self.turns, below.tolist(), strict=True)
        return tuple(_role_difference(role, "direction" if onward else "turn", row, turn, times, deep)
                     for (role, onward), row, turn, deep in rows)  # fmt: skip

    def footing(self, which: int, standing: np.ndarray, lowest: Floats | None = None) -> Footing:
        """How the feet of one figure behave; ``standing`` ``(2, frames)`` is when the source's stand."""
        lowest = self.lowest[which] if lowest is None else lowest
        # Speeds are of three frames: a foot that is just put down moved before.
        steady = standing & np.roll(standing, 1, axis=1) & np.roll(standing, -1, axis=1)
        return Footing(
            skate_cm_s=100.0 * float(self.speed[which][steady].mean()) if steady.any() else 0.0,
            lowest_cm_s=100.0 * float(np.median(np.where(lowest[0] < lowest[1], *self.speed[which]))),
            sole_below_cm=100.0 * max(0.0, -float(lowest.min())),
            float_cm=100.0 * max(0.0, float(lowest[standing].mean())) if standing.any() else 0.0,
            standing_share=float(standing.any(axis=0).mean()),
        )


def _at_frames_of(source: Motion, result: Motion, times: Floats) -> Poses | EarlierPoses:
    """What is judged of the result, at the frames of the source."""
    if result.clip.rate == source.clip.rate and result.clip.frames == source.clip.frames:
        return result.poses
    return result.clip.at(times)


def _blocks(frames: int) -> Iterator[tuple[int, int, int, int]]:
    """Start and stop of each block, and the same with a neighbour on each side, for speeds."""
    for start in range(0, frames, _FRAMES_AT_ONCE):
        stop = min(start + _FRAMES_AT_ONCE, frames)
        yield start, stop, max(start - 1, 0), min(stop + 1, frames)


def _jerk(paths: Floats) -> float:
    return float(np.sqrt(np.mean(np.diff(paths, 3, axis=1) ** 2))) if paths.shape[1] > 3 else 0.0


def _contacts_kept(contacts: tuple[Contacts, Contacts], rate: float) -> ContactsKept:
    source, result = (np.stack([found.standing(side) for side in SIDES]) for found in contacts)
    # A stance that begins or ends a frame earlier or later is the same stance.
    near = np.stack([widest_mask(row, 1) for row in result])
    source_s, kept_s = float(source.sum()) / rate, float((source & near).sum()) / rate
    return ContactsKept(
        source_count=contacts[0].count(),
        result_count=contacts[1].count(),
        source_s=source_s,
        kept_s=kept_s,
        lost_s=float((source & ~near).sum()) / rate,
        invented_s=float((result & ~source).sum()) / rate,
        kept_share=kept_s / source_s if source_s else 1.0,
    )


def _compared_roles(pair: Pair) -> list[tuple[str, str]]:
    """The roles both have, each with the role its bone points to on both; nothing if it is compared by its turn.

    Raises
    ------
    ImpossibleError
        If there is no limb among them.
    """
    first, second = (rigged.roles.bones for rigged in pair)
    found = []
    for role in sorted((set(first) & set(second)) - {"root"}, key=role_order):
        if role != _last(pair[0].roles, role):
            continue  # of a chain only the end can be compared bone to bone
        onward = ""
        if neutral_direction(role) is not None:
            onward = next((other for other in next_roles(role) if other in first and other in second), "")
        found.append((role, onward))
    if not any(onward for _, onward in found):
        raise ImpossibleError("the two figures share no limb", remedy="Check the bone profiles")
    return found


def _role_difference(
    role: str, by: str, degrees: Floats, turns: Floats, times: Floats, below_floor_cm: float
) -> RoleDifference:
    worst = int(np.argmax(degrees))
    mean, turned = float(degrees.mean()), float(turns.mean())
    return RoleDifference(
        role, part_of(role), by, mean, float(degrees[worst]), float(times[worst]), turned, _rms(degrees), _rms(turns),
        float(turns.max()), below_floor_cm,
    )  # fmt: skip


def _rms(values: Floats) -> float:
    return float(np.sqrt(np.mean(np.square(values))))


def _last(roles: RoleMap, role: str) -> str:
    """The last of the chain that ``role`` is in; other roles are their own."""
    return roles.chain(role.partition("_")[0])[-1] if role.startswith(("spine_", "neck_")) else role


def _by_turn(roles: list[str], pair: Pair, worlds: Worlds) -> Floats:
    """Degrees ``(roles, frames)`` between how far each role's bone has turned from the reference pose on both."""
    turns = []
    for rigged, world in zip(pair, worlds, strict=True):
        bones = [rigged.roles.bones[_last(rigged.roles, role)] for role in roles]
        turns.append(multiply(world.rotations[:, bones], conjugate(rigged.reference.rotations[bones])))
    return np.degrees(angle_between(*turns)).T


def _by_direction(roles: list[tuple[str, str]], pair: Pair, worlds: Worlds) -> Floats:
    """Degrees ``(roles, frames)`` between where limb bones point on both, from their joint to that of the next role."""
    directions = []
    for rigged, world in zip(pair, worlds, strict=True):
        starts = [rigged.roles.bones[role] for role, _ in roles]
        ends = [rigged.roles.bones[onward] for _, onward in roles]
        directions.append(normalized(world.positions[:, ends] - world.positions[:, starts]))
    return np.degrees(angle_between(*directions)).T


def _hips_apart(pair: Pair, worlds: Worlds, travel_factor: float, floor: Floor | None = None) -> Floats:
    """How far the hips are apart, counted from where each rests, in percent of the leg.

    The source's way over the ground counts ``travel_factor`` times. With a ``floor``, the source's hips are brought
    from it to the floor that the figure rests on.
    """
    paths = []
    for which, (rigged, world) in enumerate(zip(pair, worlds, strict=True)):
        path = world.positions[:, rigged.roles.bones["hips"]] - rigged.reference.hips
        if floor is not None and which == 0:
            path[:, 1] -= floor.height(world.positions[:, rigged.roles.bones["hips"]]) - rigged.floor_m
        if which == 0:
            path *= [travel_factor, 1.0, travel_factor]
        paths.append(path / rigged.reference.leg_m)
    return 100.0 * np.asarray(np.linalg.norm(paths[0] - paths[1], axis=1))
