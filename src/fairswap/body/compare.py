"""How alike two figures move: numbers for "looks the same", before and after."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from fairswap.body.soles import lowest_and_speed, soles_of, standing
from fairswap.body.subject import Subject
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


@dataclass(frozen=True)
class RoleDifference:
    """How far one role's bone differs over time, in degrees. ``by`` is ``direction`` or ``turn``."""

    role: str
    part: str
    by: str
    mean_degrees: float
    worst_degrees: float
    worst_at_s: float


@dataclass(frozen=True)
class Footing:
    """How the feet behave: slide of the standing foot, deepest sole below the floor, share of time a foot stands."""

    skate_cm_s: float
    sole_below_cm: float
    standing_share: float


@dataclass(frozen=True, eq=False)
class Comparison:
    """The result of :func:`compare`. Angles in degrees, hips in percent of the leg's length."""

    clip: str
    seconds: float
    duration_difference_s: float
    roles: tuple[RoleDifference, ...]
    hips_mean_percent: float
    hips_worst_percent: float
    before: Footing
    after: Footing
    per_frame_degrees: Floats
    times_s: Floats

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
    def looks_same(self) -> bool:
        """Whether no artist would object: within 3 degrees on average and 15 at worst."""
        return self.limbs_mean_degrees <= 3.0 and self.limbs_worst_degrees <= 15.0

    @property
    def verdict(self) -> str:
        """One sentence for the artist."""
        mean, worst = self.limbs_mean_degrees, self.limbs_worst_degrees
        if mean <= 0.5 and worst <= 2.0:
            look = "looks the same"
        elif self.looks_same:
            look = "looks nearly the same"
        else:
            look = "does NOT look the same"
        return f"{self.clip}: {look}; limbs differ by {mean:.2f} degrees on average, {worst:.1f} at worst"

    def as_dict(self) -> dict[str, Any]:
        """The report as plain data."""
        return {
            "clip": self.clip,
            "seconds": round(self.seconds, 6),
            "duration_difference_s": round(self.duration_difference_s, 6),
            "verdict": self.verdict,
            "limbs_mean_degrees": round(self.limbs_mean_degrees, 4),
            "limbs_worst_degrees": round(self.limbs_worst_degrees, 4),
            "hips_mean_percent": round(self.hips_mean_percent, 4),
            "hips_worst_percent": round(self.hips_worst_percent, 4),
            "before": _rounded(self.before),
            "after": _rounded(self.after),
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


def compare_subjects(a: Subject, clip_a: Clip, b: Subject, clip_b: Clip) -> Comparison:
    """As :func:`compare`, with figures that are ready already."""
    frames, rate = clip_a.frames, float(clip_a.rate)
    times = np.arange(frames) / rate
    aligned = clip_b.rate == clip_a.rate and clip_b.frames == frames
    roles = _compared_roles((a, b))
    degrees = np.empty((len(roles), frames))
    hips = np.empty(frames)
    # Per side and foot: height of the lowest sole point above the floor, and its speed.
    lowest, speed, stands = np.empty((2, 2, frames)), np.empty((2, 2, frames)), np.empty((2, frames), dtype=bool)
    soles = soles_of(a), soles_of(b)
    for start in range(0, frames, _FRAMES_AT_ONCE):
        stop = min(start + _FRAMES_AT_ONCE, frames)
        first, last = max(start - 1, 0), min(stop + 1, frames)  # a neighbour on each side, for speeds
        poses_b = clip_b.poses if aligned else clip_b.at(times[first:last])
        offset = 0 if aligned else first
        worlds = clip_a.poses.world(first, last), poses_b.world(first - offset, last - offset)
        inner = slice(start - first, stop - first)
        for row, (role, onward) in enumerate(roles):
            measure = _by_direction if onward else _by_turn
            degrees[row, start:stop] = measure(role, onward, (a, b), worlds)[inner]
        hips[start:stop] = _hips_apart((a, b), worlds)[inner]
        for which, (side, world) in enumerate(zip((a, b), worlds, strict=True)):
            for foot, name in enumerate(SIDES):
                heights, speeds = lowest_and_speed(soles[which][name].track(world), rate)
                lowest[which, foot, start:stop] = heights[inner] - side.figure.floor_m
                speed[which, foot, start:stop] = speeds[inner]
    stands[:] = standing(lowest[0], speed[0], a.reference.leg_m)
    limbs = [row for row, (role, onward) in enumerate(roles) if onward and part_of(role) in LIMB_PARTS]
    before, after = (
        Footing(
            skate_cm_s=100.0 * float(speed[which][stands].mean()) if stands.any() else 0.0,
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
            _role_difference(role, "direction" if onward else "turn", row, times)
            for (role, onward), row in zip(roles, degrees, strict=True)
        ),
        hips_mean_percent=float(hips.mean()),
        hips_worst_percent=float(hips.max()),
        before=before,
        after=after,
        per_frame_degrees=degrees[limbs].mean(axis=0),
        times_s=times,
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


def _role_difference(role: str, by: str, degrees: Floats, times: Floats) -> RoleDifference:
    worst = int(np.argmax(degrees))
    return RoleDifference(role, part_of(role), by, float(degrees.mean()), float(degrees[worst]), float(times[worst]))


def _last(roles: RoleMap, role: str) -> str:
    """The last of the chain that ``role`` is in; other roles are their own."""
    return roles.chain(role.partition("_")[0])[-1] if role.startswith(("spine_", "neck_")) else role


def _by_turn(role: str, _: str, sides: Sides, worlds: Worlds) -> Floats:
    """Degrees between how far a role's bone has turned from the reference pose on both, frame by frame."""
    turns = []
    for side, world in zip(sides, worlds, strict=True):
        bone = side.roles.bones[_last(side.roles, role)]
        turns.append(multiply(world.rotations[:, bone], conjugate(side.reference.rotations[bone])))
    return np.degrees(angle_between(*turns))


def _by_direction(role: str, onward: str, sides: Sides, worlds: Worlds) -> Floats:
    """Degrees between where a limb bone points on both, joint to joint, frame by frame."""
    directions = [
        normalized(world.positions[:, side.roles.bones[onward]] - world.positions[:, side.roles.bones[role]])
        for side, world in zip(sides, worlds, strict=True)
    ]
    return np.degrees(angle_between(*directions))


def _hips_apart(sides: Sides, worlds: Worlds) -> Floats:
    """How far the hips are apart, counted from where each rests, in percent of the leg."""
    paths = [
        (world.positions[:, side.roles.bones["hips"]] - side.reference.hips) / side.reference.leg_m
        for side, world in zip(sides, worlds, strict=True)
    ]
    return 100.0 * np.asarray(np.linalg.norm(paths[0] - paths[1], axis=1))


def _rounded(row: object) -> dict[str, Any]:
    return {key: round(value, 4) if isinstance(value, float) else value for key, value in vars(row).items()}
