"""How alike two figures move: numbers for "looks the same", before and after."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from fairswap.body.soles import lowest_and_speed, soles_of, standing
from fairswap.bones.profile import BoneProfile, roles_of
from fairswap.bones.roles import RoleMap, next_roles, part_of, role_order
from fairswap.clip import Clip
from fairswap.errors import ImpossibleError
from fairswap.figure import Figure
from fairswap.kernels import Floats
from fairswap.pose.reference import Reference, neutral_direction, t_pose
from fairswap.rotation import angle_between, conjugate, multiply, normalized
from fairswap.skeleton import WorldTransforms

if TYPE_CHECKING:
    import pandas

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
    roles_a = roles_of(source.skeleton, source_bones, what=f"the source {source.name!r}", option="--source-bones")
    roles_b = roles_of(result.skeleton, result_bones, what=f"the result {result.name!r}", option="--target-bones")
    reference_a = t_pose(source.skeleton, roles_a, f"the source {source.name!r}")
    reference_b = t_pose(result.skeleton, roles_b, f"the result {result.name!r}")
    times = np.arange(source_clip.frames) / float(source_clip.rate)
    world_a = source_clip.world()
    aligned = result_clip.rate == source_clip.rate and result_clip.frames == source_clip.frames
    world_b = (result_clip.poses if aligned else result_clip.at(times)).world()
    shared = sorted((set(roles_a.bones) & set(roles_b.bones)) - {"root"}, key=role_order)
    rows, limbs = [], []
    for role in shared:
        if role.startswith(("spine_", "neck_")) and role != _last(roles_a, role):
            continue  # of a chain only the end can be compared bone to bone
        other = _last(roles_b, role) if role.startswith(("spine_", "neck_")) else role
        degrees = _by_direction(role, roles_a, world_a, roles_b, world_b)
        by = "direction"
        if degrees is None:
            by = "turn"
            turn_a = _turn(world_a, roles_a.bones[role], reference_a)
            degrees = np.degrees(angle_between(turn_a, _turn(world_b, roles_b.bones[other], reference_b)))
        elif part_of(role) in LIMB_PARTS:
            limbs.append(degrees)
        worst = int(np.argmax(degrees))
        mean = float(degrees.mean())
        rows.append(RoleDifference(role, part_of(role), by, mean, float(degrees[worst]), float(times[worst])))
    if not limbs:
        raise ImpossibleError("the two figures share no limb", remedy="Check the bone profiles")
    hips_a = (world_a.positions[:, roles_a.bones["hips"]] - reference_a.hips) / reference_a.leg_m
    hips_b = (world_b.positions[:, roles_b.bones["hips"]] - reference_b.hips) / reference_b.leg_m
    hips = 100.0 * np.linalg.norm(hips_a - hips_b, axis=1)
    before, after = _footing(source, roles_a, reference_a, world_a, result, roles_b, world_b, float(source_clip.rate))
    return Comparison(
        clip=result_clip.name,
        seconds=source_clip.duration_s,
        duration_difference_s=result_clip.duration_s - source_clip.duration_s,
        roles=tuple(rows),
        hips_mean_percent=float(hips.mean()),
        hips_worst_percent=float(hips.max()),
        before=before,
        after=after,
        per_frame_degrees=np.mean(limbs, axis=0),
        times_s=times,
    )


def _last(roles: RoleMap, role: str) -> str:
    chain = roles.chain(role.partition("_")[0])
    return chain[-1] if chain else role


def _turn(world: WorldTransforms, bone: int, reference: Reference) -> Floats:
    return multiply(world.rotations[:, bone], conjugate(reference.rotations[bone]))


def _by_direction(
    role: str, roles_a: RoleMap, world_a: WorldTransforms, roles_b: RoleMap, world_b: WorldTransforms
) -> Floats | None:
    """Degrees between where a limb bone points on both, frame by frame; None if the role is no limb or ends nowhere."""
    if neutral_direction(role) is None:
        return None
    for onward in next_roles(role):
        if onward in roles_a.bones and onward in roles_b.bones:
            directions = [
                normalized(world.positions[:, roles.bones[onward]] - world.positions[:, roles.bones[role]])
                for roles, world in ((roles_a, world_a), (roles_b, world_b))
            ]
            return np.degrees(angle_between(*directions))
    return None


def _footing(
    source: Figure,
    roles_a: RoleMap,
    reference_a: Reference,
    world_a: WorldTransforms,
    result: Figure,
    roles_b: RoleMap,
    world_b: WorldTransforms,
    rate: float,
) -> tuple[Footing, Footing]:
    soles_a, soles_b = soles_of(source, roles_a), soles_of(result, roles_b)
    skate: tuple[list[Floats], list[Floats]] = ([], [])
    below = [0.0, 0.0]
    shares = []
    for side, sole in soles_a.items():
        tracks = sole.track(world_a), soles_b[side].track(world_b)
        stands = standing(tracks[0], source.floor_m, reference_a.leg_m, rate)
        shares.append(stands)
        for which, (track, floor) in enumerate(zip(tracks, (source.floor_m, result.floor_m), strict=True)):
            lowest, speed = lowest_and_speed(track, rate)
            skate[which].append(speed[stands])
            below[which] = max(below[which], floor - float(lowest.min()))
    share = float(np.mean(np.any(shares, axis=0)))
    speeds = [np.concatenate(side) for side in skate]
    return tuple(
        Footing(100.0 * float(speed.mean()) if len(speed) else 0.0, 100.0 * deep, share)
        for speed, deep in zip(speeds, below, strict=True)
    )  # type: ignore[return-value]


def _rounded(row: object) -> dict[str, Any]:
    return {key: round(value, 4) if isinstance(value, float) else value for key, value in vars(row).items()}
