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
    times = np.arange(clip_a.frames) / float(clip_a.rate)
    aligned = clip_b.rate == clip_a.rate and clip_b.frames == clip_a.frames
    worlds = clip_a.world(), (clip_b.poses if aligned else clip_b.at(times)).world()
    rows, limbs = [], []
    for role in sorted((set(a.roles.bones) & set(b.roles.bones)) - {"root"}, key=role_order):
        if role != _last(a.roles, role):
            continue  # of a chain only the end can be compared bone to bone
        by, degrees = "direction", _by_direction(role, (a, b), worlds)
        if degrees is None:
            by, degrees = "turn", _by_turn(role, (a, b), worlds)
        elif part_of(role) in LIMB_PARTS:
            limbs.append(degrees)
        worst = int(np.argmax(degrees))
        mean = float(degrees.mean())
        rows.append(RoleDifference(role, part_of(role), by, mean, float(degrees[worst]), float(times[worst])))
    if not limbs:
        raise ImpossibleError("the two figures share no limb", remedy="Check the bone profiles")
    paths = [
        (world.positions[:, side.roles.bones["hips"]] - side.reference.hips) / side.reference.leg_m
        for side, world in zip((a, b), worlds, strict=True)
    ]
    hips = 100.0 * np.linalg.norm(paths[0] - paths[1], axis=1)
    before, after = _footing((a, b), worlds, float(clip_a.rate))
    return Comparison(
        clip=clip_b.name,
        seconds=clip_a.duration_s,
        duration_difference_s=clip_b.duration_s - clip_a.duration_s,
        roles=tuple(rows),
        hips_mean_percent=float(hips.mean()),
        hips_worst_percent=float(hips.max()),
        before=before,
        after=after,
        per_frame_degrees=np.mean(limbs, axis=0),
        times_s=times,
    )


def _last(roles: RoleMap, role: str) -> str:
    """The last of the chain that ``role`` is in; other roles are their own."""
    chain = roles.chain(role.partition("_")[0])
    return chain[-1] if chain else role


def _by_turn(role: str, sides: Sides, worlds: Worlds) -> Floats:
    """Degrees between how far a role's bone has turned from the reference pose on both, frame by frame."""
    turns = [
        multiply(world.rotations[:, bone], conjugate(side.reference.rotations[bone]))
        for side, world in zip(sides, worlds, strict=True)
        for bone in (side.roles.bones[_last(side.roles, role)],)
    ]
    return np.degrees(angle_between(*turns))


def _by_direction(role: str, sides: Sides, worlds: Worlds) -> Floats | None:
    """Degrees between where a limb bone points on both, frame by frame; None if the role is no limb or ends nowhere."""
    if neutral_direction(role) is None:
        return None
    for onward in next_roles(role):
        if all(onward in side.roles.bones for side in sides):
            directions = [
                normalized(world.positions[:, side.roles.bones[onward]] - world.positions[:, side.roles.bones[role]])
                for side, world in zip(sides, worlds, strict=True)
            ]
            return np.degrees(angle_between(*directions))
    return None


def _footing(sides: Sides, worlds: Worlds, rate: float) -> tuple[Footing, Footing]:
    """Both measured while the source's foot stands."""
    speeds: tuple[list[Floats], list[Floats]] = ([], [])
    below = [0.0, 0.0]
    stands = []
    soles = [soles_of(side) for side in sides]
    for foot in SIDES:
        tracks = [sole[foot].track(world) for sole, world in zip(soles, worlds, strict=True)]
        stands.append(standing(tracks[0], sides[0].figure.floor_m, sides[0].reference.leg_m, rate))
        for which, side in enumerate(sides):
            lowest, speed = lowest_and_speed(tracks[which], rate)
            speeds[which].append(speed[stands[-1]])
            below[which] = max(below[which], side.figure.floor_m - float(lowest.min()))
    share = float(np.mean(np.any(stands, axis=0)))
    before, after = (
        Footing(100.0 * float(np.mean(all_speeds)) if len(all_speeds) else 0.0, 100.0 * deep, share)
        for all_speeds, deep in zip(map(np.concatenate, speeds), below, strict=True)
    )
    return before, after


def _rounded(row: object) -> dict[str, Any]:
    return {key: round(value, 4) if isinstance(value, float) else value for key, value in vars(row).items()}
