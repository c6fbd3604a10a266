"""How alike two figures move: numbers for "looks the same", before and after."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from fairswap.body.carried import contacts_of
from fairswap.body.contacts import Contacts
from fairswap.body.hands import seconds_inside
from fairswap.body.soles import lowest_and_speed, soles_of
from fairswap.body.subject import Subject
from fairswap.body.tracks import widest_mask
from fairswap.bones.profile import BoneProfile
from fairswap.bones.roles import SIDES, RoleMap, next_roles, part_of, role_order
from fairswap.clip import Clip
from fairswap.errors import ImpossibleError
from fairswap.figure import Figure
from fairswap.kernels import Floats
from fairswap.pose.reference import neutral_direction
from fairswap.rotation import angle_between, conjugate, multiply, normalized
from fairswap.skeleton import WorldTransforms

if TYPE_CHECKING:
    import pandas

Sides = tuple[Subject, Subject]
Worlds = tuple[WorldTransforms, WorldTransforms]
LIMB_PARTS = ("arms", "legs", "hands")
# Bounds the memory of a long clip.
_FRAMES_AT_ONCE = 2048
# A limb turned by more than this while it points the right way is twisted for all to see.
_TWISTED_DEGREES = 20.0
# Whose paths are watched for jerk.
_JERK_ROLES = ("hips", "head", *(f"{part}_{side}" for side in SIDES for part in ("hand", "foot", "lower_leg")))


@dataclass(frozen=True)
class RoleDifference:
    """How far one role's bone differs over time, in degrees. ``by`` is ``direction`` or ``turn``.

    ``turn_mean_degrees`` is how differently the bone has turned, twist about its own length included, mean over time.
    """

    role: str
    part: str
    by: str
    mean_degrees: float
    worst_degrees: float
    worst_at_s: float
    turn_mean_degrees: float


@dataclass(frozen=True)
class Footing:
    """How the feet behave while the source's stand: slide of the standing foot, deepest sole below the floor, share of
    time a foot stands."""

    skate_cm_s: float
    sole_below_cm: float
    standing_share: float


@dataclass(frozen=True)
class ContactsKept:
    """Foot contacts of the result against those of the source: seconds (both feet together) and how many."""

    source_count: int
    result_count: int
    source_s: float
    kept_s: float
    lost_s: float
    invented_s: float

    @property
    def kept_share(self) -> float:
        """Time in contact that was kept, 0..1."""
        return self.kept_s / self.source_s if self.source_s else 1.0


@dataclass(frozen=True, eq=False)
class Comparison:
    """The result of :func:`compare`. Angles in degrees, hips in percent of the leg's length.

    ``stands`` ``(2, 2, frames)`` says when the feet of source and result stand, left and right; ``inside_s`` how long
    palms of both are inside the own body (None without a mesh).
    """

    clip: str
    seconds: float
    duration_difference_s: float
    roles: tuple[RoleDifference, ...]
    hips_mean_percent: float
    hips_worst_percent: float
    before: Footing
    after: Footing
    contacts: ContactsKept
    jerk_ratio: float
    per_frame_degrees: Floats
    times_s: Floats
    stands: np.ndarray
    inside_s: tuple[float | None, float | None]

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
        """One number for "looks the same", 0..100: 100 for the same, less for every way in which the eye sees it.

        The product of ``exp(-x)`` over: limbs' mean degrees / 20; hips' mean percent of the leg / 40; what a standing
        foot slides, cm/s, / 20; the deepest sole below the floor, cm, / 10; the share of contact lost / 2; jerk above
        the source's (a ratio less 1) / 10.
        """
        x = self.limbs_mean_degrees / 20.0 + self.hips_mean_percent / 40.0
        x += self.after.skate_cm_s / 20.0 + self.after.sole_below_cm / 10.0
        x += (1.0 - self.contacts.kept_share) / 2.0 + max(self.jerk_ratio - 1.0, 0.0) / 10.0
        return 100.0 * float(np.exp(-x))

    @property
    def looks_same(self) -> bool:
        """Whether no artist would object: within 3 degrees on average and 45 at worst, and no limb twisted.

        A knee may bend, and an arm reach, by that much more for a moment, so that a foot or a hand is where it should
        be.
        """
        near = self.limbs_mean_degrees <= 3.0 and self.limbs_worst_degrees <= 45.0
        return near and max(role.turn_mean_degrees for role in self._limbs()) <= _TWISTED_DEGREES

    @property
    def verdict(self) -> str:
        """One sentence for the artist."""
        mean, worst = self.limbs_mean_degrees, self.limbs_worst_degrees
        twisted = max(self._limbs(), key=lambda role: role.turn_mean_degrees)
        if twisted.turn_mean_degrees > _TWISTED_DEGREES and mean <= 3.0:
            return (
                f"{self.clip}: does NOT look the same; limbs point alike ({mean:.2f} degrees), but {twisted.role} is "
                f"twisted by {twisted.turn_mean_degrees:.0f} degrees"
            )
        if mean <= 0.5 and worst <= 2.0:
            look = "looks the same"
        elif self.looks_same:
            look = "looks nearly the same"
        else:
            look = "does NOT look the same"
        limbs = f"limbs differ by {mean:.2f} degrees on average, {worst:.1f} at worst"
        return f"{self.clip}: {look} ({self.likeness:.0f} of 100); {limbs}"

    def as_dict(self) -> dict[str, Any]:
        """The report as plain data."""
        return {
            "clip": self.clip,
            "seconds": round(self.seconds, 6),
            "duration_difference_s": round(self.duration_difference_s, 6),
            "verdict": self.verdict,
            "limbs_mean_degrees": round(self.limbs_mean_degrees, 4),
            "limbs_worst_degrees": round(self.limbs_worst_degrees, 4),
            "limbs_turn_degrees": round(self.limbs_turn_degrees, 4),
            "hips_mean_percent": round(self.hips_mean_percent, 4),
            "hips_worst_percent": round(self.hips_worst_percent, 4),
            "likeness": round(self.likeness, 2),
            "before": _rounded(self.before),
            "after": _rounded(self.after),
            "contacts": _rounded(self.contacts) | {"kept_share": round(self.contacts.kept_share, 4)},
            "jerk_ratio": round(self.jerk_ratio, 4),
            "inside_body_s": [None if value is None else round(value, 4) for value in self.inside_s],
            "roles": [_rounded(role) for role in self.roles],
        }

    def table(self) -> pandas.DataFrame:
        """The roles as a pandas table. Needs pandas: ``pip install "fairswap[table]"``."""
        import pandas

        return pandas.DataFrame([_rounded(role) for role in self.roles])


def compare(
    source: Figure,
    source_clip: Clip,
    result: Figure,
    result_clip: Clip,
    *,
    source_bones: BoneProfile | None = None,
    result_bones: BoneProfile | None = None,
) -> Comparison:
    """Hold a result against its source, at the source's frames, each figure in its own frame.

    Arms, legs and fingers are compared by where their bones point, joint to joint. Trunk, head and feet, which differ
    between any two anatomies, are compared by how far they have turned from the reference pose. The hips' path is
    compared in leg lengths. Feet count as standing when the source's do.

    Raises
    ------
    ImpossibleError
        If the bones of one of them are not known, or they share no limb.
    """
    subjects = Subject("source", source, source_bones), Subject("result", result, result_bones)
    return compare_subjects(subjects[0], source_clip, subjects[1], result_clip)


def compare_subjects(a: Subject, clip_a: Clip, b: Subject, clip_b: Clip, *, inside: bool = True) -> Comparison:
    """As :func:`compare`, with figures that are ready already; without ``inside`` it is not told how long hands are
    inside the body."""
    frames, rate = clip_a.frames, float(clip_a.rate)
    times = np.arange(frames) / rate
    aligned = clip_b.rate == clip_a.rate and clip_b.frames == frames
    roles = _compared_roles((a, b))
    degrees, turns = np.empty((len(roles), frames)), np.empty((len(roles), frames))
    hips = np.empty(frames)
    # Per side and foot: height of the lowest sole point above the floor, and its speed.
    lowest, speed = np.empty((2, 2, frames)), np.empty((2, 2, frames))
    soles = soles_of(a), soles_of(b)
    same_times = clip_b if aligned else replace(clip_b, rate=clip_a.rate, poses=clip_b.at(times))
    contacts = contacts_of(a, clip_a, soles[0]), contacts_of(b, same_times, soles[1])
    ends = [role for role in _JERK_ROLES if role in a.roles.bones and role in b.roles.bones]
    paths = np.empty((2, len(ends), frames, 3))
    for start in range(0, frames, _FRAMES_AT_ONCE):
        stop = min(start + _FRAMES_AT_ONCE, frames)
        first, last = max(start - 1, 0), min(stop + 1, frames)  # a neighbour on each side, for speeds
        poses_b = clip_b.poses if aligned else clip_b.at(times[first:last])
        offset = 0 if aligned else first
        worlds = clip_a.poses.world(first, last), poses_b.world(first - offset, last - offset)
        inner = slice(start - first, stop - first)
        turns[:, start:stop] = _by_turn([role for role, _ in roles], (a, b), worlds)[:, inner]
        degrees[:, start:stop] = turns[:, start:stop]
        pointing = [row for row, (_, onward) in enumerate(roles) if onward]
        degrees[pointing, start:stop] = _by_direction([roles[row] for row in pointing], (a, b), worlds)[:, inner]
        hips[start:stop] = _hips_apart((a, b), worlds)[inner]
        for which, (side, world) in enumerate(zip((a, b), worlds, strict=True)):
            for foot, name in enumerate(SIDES):
                heights, speeds = lowest_and_speed(soles[which][name].track(world), rate)
                places = world.positions[inner, soles[which][name].foot]
                ground = contacts[which].floor.height(places) if which == 0 else side.floor_m
                lowest[which, foot, start:stop] = heights[inner] - ground
                speed[which, foot, start:stop] = speeds[inner]
            bones = [side.roles.bones[role] for role in ends]
            paths[which][:, start:stop] = world.positions[inner][:, bones].transpose(1, 0, 2) / side.reference.leg_m
    stands = np.stack([contacts[0].stands(name) for name in SIDES])
    # Speeds are of three frames: a foot that is just put down moved before.
    steady = stands & np.roll(stands, 1, axis=1) & np.roll(stands, -1, axis=1)
    jerks = [float(np.sqrt(np.mean(np.diff(path, 3, axis=1) ** 2))) if frames > 3 else 0.0 for path in paths]
    limbs = [row for row, (role, onward) in enumerate(roles) if onward and part_of(role) in LIMB_PARTS]
    before, after = (
        Footing(
            skate_cm_s=100.0 * float(speed[which][steady].mean()) if steady.any() else 0.0,
            sole_below_cm=100.0 * max(0.0, -float(lowest[which].min())),
            standing_share=float(stands.any(axis=0).mean()),
        )
        for which in (0, 1)
    )
    return Comparison(
        clip=clip_b.name,
        seconds=clip_a.duration_s,
        duration_difference_s=clip_b.duration_s - clip_a.duration_s,
        roles=tuple(
            _role_difference(role, "direction" if onward else "turn", row, turn, times)
            for (role, onward), row, turn in zip(roles, degrees, turns, strict=True)
        ),
        hips_mean_percent=float(hips.mean()),
        hips_worst_percent=float(hips.max()),
        before=before,
        after=after,
        contacts=_contacts_kept(contacts, rate),
        jerk_ratio=jerks[1] / jerks[0] if jerks[0] > 0 else 1.0,
        per_frame_degrees=degrees[limbs].mean(axis=0),
        times_s=times,
        inside_s=(seconds_inside(a, clip_a), seconds_inside(b, clip_b)) if inside else (None, None),
        stands=np.stack([[found.stands(name) for name in SIDES] for found in contacts]),
    )


def _contacts_kept(contacts: tuple[Contacts, Contacts], rate: float) -> ContactsKept:
    source, result = (np.stack([found.stands(name) for name in SIDES]) for found in contacts)
    # A stance that begins or ends a frame earlier or later is the same stance.
    near = np.stack([widest_mask(row, 1) for row in result])
    return ContactsKept(
        source_count=contacts[0].count(),
        result_count=contacts[1].count(),
        source_s=float(source.sum()) / rate,
        kept_s=float((source & near).sum()) / rate,
        lost_s=float((source & ~near).sum()) / rate,
        invented_s=float((result & ~source).sum()) / rate,
    )


def _compared_roles(sides: Sides) -> list[tuple[str, str]]:
    """The roles both have, each with the role its bone points to on both; nothing if it is compared by its turn.

    Raises
    ------
    ImpossibleError
        If there is no limb among them.
    """
    first, second = (side.roles.bones for side in sides)
    found = []
    for role in sorted((set(first) & set(second)) - {"root"}, key=role_order):
        if role != _last(sides[0].roles, role):
            continue  # of a chain only the end can be compared bone to bone
        onward = ""
        if neutral_direction(role) is not None:
            onward = next((other for other in next_roles(role) if other in first and other in second), "")
        found.append((role, onward))
    if not any(onward for _, onward in found):
        raise ImpossibleError("the two figures share no limb", remedy="Check the bone profiles")
    return found


def _role_difference(role: str, by: str, degrees: Floats, turns: Floats, times: Floats) -> RoleDifference:
    worst = int(np.argmax(degrees))
    mean, turned = float(degrees.mean()), float(turns.mean())
    return RoleDifference(role, part_of(role), by, mean, float(degrees[worst]), float(times[worst]), turned)


def _last(roles: RoleMap, role: str) -> str:
    """The last of the chain that ``role`` is in; other roles are their own."""
    return roles.chain(role.partition("_")[0])[-1] if role.startswith(("spine_", "neck_")) else role


def _by_turn(roles: list[str], sides: Sides, worlds: Worlds) -> Floats:
    """Degrees ``(roles, frames)`` between how far each role's bone has turned from the reference pose on both."""
    turns = []
    for side, world in zip(sides, worlds, strict=True):
        bones = [side.roles.bones[_last(side.roles, role)] for role in roles]
        turns.append(multiply(world.rotations[:, bones], conjugate(side.reference.rotations[bones])))
    return np.degrees(angle_between(*turns)).T


def _by_direction(roles: list[tuple[str, str]], sides: Sides, worlds: Worlds) -> Floats:
    """Degrees ``(roles, frames)`` between where limb bones point on both, from their joint to that of the next role."""
    directions = []
    for side, world in zip(sides, worlds, strict=True):
        starts = [side.roles.bones[role] for role, _ in roles]
        ends = [side.roles.bones[onward] for _, onward in roles]
        directions.append(normalized(world.positions[:, ends] - world.positions[:, starts]))
    return np.degrees(angle_between(*directions)).T


def _hips_apart(sides: Sides, worlds: Worlds) -> Floats:
    """How far the hips are apart, counted from where each rests, in percent of the leg."""
    paths = [
        (world.positions[:, side.roles.bones["hips"]] - side.reference.hips) / side.reference.leg_m
        for side, world in zip(sides, worlds, strict=True)
    ]
    return 100.0 * np.asarray(np.linalg.norm(paths[0] - paths[1], axis=1))


def _rounded(row: object) -> dict[str, Any]:
    return {key: round(value, 4) if isinstance(value, float) else value for key, value in vars(row).items()}
