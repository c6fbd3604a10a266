"""What differs between two motions, measured frame by frame: the tracks that the verdict is made of."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

import numpy as np

from fairswap.bones.roles import SIDES, next_roles, part_of, role_above, role_order, side_of
from fairswap.errors import ImpossibleError
from fairswap.measure.contacts import Contacts, Floor
from fairswap.measure.sinking import added_fingers, garments_of
from fairswap.measure.soles import Sole, bare_soles_of, lowest_and_speed, soles_of
from fairswap.measure.turning import Pair, Worlds, by_direction, by_turn, last_of_chain
from fairswap.model.arrays import Floats
from fairswap.model.rotation import conjugate, rotate
from fairswap.model.signals import widest_mask
from fairswap.model.skeleton import WorldTransforms
from fairswap.model.stand_ins import stiff_bones
from fairswap.pose.reference import neutral_direction

# By how much less an arm's difference is seen while its hand keeps touching what the source's touches.
_WHILE_TOUCHING = 0.5
# A sole higher over where it is lowest, in leg lengths, is in the air: nobody sees how fast it goes over the ground.
_NEAR_FLOOR = 0.06
# Bounds the memory of a long clip.
_FRAMES_AT_ONCE = 1024
# Whose paths are watched for jerk: over the ground in leg lengths; hands from their shoulder in arm lengths, the head
# from the hips in lengths of the trunk, since a figure may have long arms or a high head for its legs.
_JERK_ROLES = ("hips", "head", *(f"{part}_{side}" for side in SIDES for part in ("hand", "foot", "lower_leg")))


@dataclass(frozen=True)
class RoleDifference:
    """How far one role's bone differs over time, in degrees. ``by`` is ``direction`` or ``turn``.

    ``below_floor_cm`` is how far its joint goes below the floor at worst, and ``comes_off_cm`` how far it comes out of
    its place on what carries it, both beyond what that of the source does.

    ``turn_…`` is how differently the bone has turned, twist about its own length included; ``rms`` the root of the
    mean of squares over time, in which what is far off for a while counts more. In it, in ``turn_worst`` and in
    ``seen_worst`` an arm counts half while its hand touches the floor, the body or the other hand on both figures, and
    a hand over the floor not at all where the source shows no turn of it.
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
    comes_off_cm: float
    seen_worst_degrees: float


@dataclass(frozen=True)
class Footing:
    """How the feet behave while the source's stand: slide of the standing foot, deepest sole below the floor, how high
    the standing foot is above it on average, share of time a foot stands.

    Two know nothing of who stands: ``lowest_cm_s`` is how fast the lower of both soles goes over the ground, while it
    is as near to it as it comes in a walk, and ``off_floor_cm`` how high it stays above the floor when it is lowest.
    """

    skate_cm_s: float
    lowest_cm_s: float
    sole_below_cm: float
    float_cm: float
    off_floor_cm: float
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


class Tracks:
    """What is measured over all frames, filled in block by block.

    ``degrees`` and ``turns`` are ``(roles, frames)``, ``hips`` ``(frames,)`` percent of the leg; for both figures and
    both feet, ``lowest`` is the height of the lowest point of the sole above the floor and ``speed`` how fast it goes,
    ``(2, 2, frames)`` metres and metres per second; ``paths`` ``(2, ends, frames, 3)`` are in lengths of the limb.
    ``laid`` says by role when a hand is over the floor whose turn the source does not show.
    """

    def __init__(
        self,
        pair: Pair,
        frames: int,
        contacts: tuple[Contacts, Contacts],
        touching: np.ndarray,
        rate: float,
        travel_factor: float,
        laid: Mapping[str, np.ndarray],
    ) -> None:
        self.pair, self.contacts, self.rate, self.travel_factor = pair, contacts, rate, travel_factor
        self.touching, self.laid = touching, laid
        self.soles: tuple[dict[str, Sole], ...] = tuple(soles_of(rigged) for rigged in pair)
        self.roles = compared_roles(pair)
        self.ends = [role for role in _JERK_ROLES if all(role in rigged.roles.bones for rigged in pair)]
        # In single precision (1e-5 degrees): of a long clip these are the most there is to keep.
        self.degrees, self.turns = (np.empty((len(self.roles), frames), dtype=np.float32) for _ in range(2))
        self.hips = np.empty(frames)
        self._hips_leveled, self.lowest_at_rest = np.empty(frames), np.empty((2, frames))
        self.depth = np.zeros((2, len(self.roles)))  # of joints below the floor, leg lengths
        self.added_depth = np.zeros((2, len(self.roles)))  # of fingers that only the result has; of that whole hand
        self.off = np.zeros((2, len(self.roles)))  # of joints out of their places, leg lengths
        self.garments = garments_of(pair[1])
        self.added = added_fingers(pair, self.roles)
        self.garment_depth = np.zeros(len(self.garments))
        self.lowest, self.speed = np.empty((2, 2, frames)), np.empty((2, 2, frames))
        # Joints say less exactly than meshes where a sole is. A source without mesh is told by them alone: then the
        # result is, too, if that speaks for it.
        self.bare = None if pair[0].figure.meshes else tuple(bare_soles_of(rigged) for rigged in pair)
        alike = (self.lowest, self.speed) if self.bare is None else (np.empty((2, 2, frames)), np.empty((2, 2, frames)))
        self.lowest_alike, self.speed_alike = alike
        self.paths = np.empty((2, len(self.ends), frames, 3))

    def fill(self, span: slice, inner: slice, worlds: Worlds) -> None:
        """Measure the frames ``span``, which are the frames ``inner`` of ``worlds``."""
        self.turns[:, span] = by_turn(self.roles, self.pair, worlds)[:, inner]
        self.degrees[:, span] = self.turns[:, span]
        pointing = [row for row, (_, onward) in enumerate(self.roles) if onward]
        directions = by_direction([self.roles[row] for row in pointing], self.pair, worlds)
        self.degrees[pointing, span] = directions[:, inner]
        # A limb of one piece has turned as its two did together, which no turn of one of them tells.
        whole = [row for row in pointing if self.roles[row][1] not in next_roles(self.roles[row][0])]
        self.turns[whole, span] = self.degrees[whole, span]
        self.hips[span] = _hips_apart(self.pair, worlds, self.travel_factor)[inner]
        self._hips_leveled[span] = _hips_apart(self.pair, worlds, self.travel_factor, self.contacts[0].floor)[inner]
        for which, (rigged, world) in enumerate(zip(self.pair, worlds, strict=True)):
            for foot, side in enumerate(SIDES):
                sole = self.soles[which][side]
                heights, speeds = lowest_and_speed(sole.track(world), self.rate, self._belt(which))
                positions = world.positions[inner, sole.foot]
                ground = self.contacts[which].floor.height(positions) if which == 0 else rigged.floor_m
                self.lowest[which, foot, span] = heights[inner] - ground
                if which == 0:
                    self.lowest_at_rest[foot, span] = heights[inner] - rigged.floor_m
                self.speed[which, foot, span] = speeds[inner]
                if self.bare is not None:
                    track = self.bare[which][side].track(world)
                    heights, speeds = lowest_and_speed(track, self.rate, self._belt(which))
                    self.lowest_alike[which, foot, span] = heights[inner] - ground
                    self.speed_alike[which, foot, span] = speeds[inner]
            self._sink(which, world, inner)
            self._come_off(which, world, inner)
            for row, role in enumerate(self.ends):
                self.paths[which, row, span] = self.path(which, role, world, inner)

    def _belt(self, which: int) -> Floats | None:
        return belt_of(self.contacts[0], self.pair, self.travel_factor) if which == 1 else self.contacts[0].belt_m_s

    def path(self, which: int, role: str, world: WorldTransforms, inner: slice) -> Floats:
        """Where a joint goes that is watched for jerk, in lengths of its limb ``(frames, 3)``."""
        rigged, bones = self.pair[which], self.pair[which].roles.bones
        path = world.position_tracks[bones[role], :, inner].T
        if role == "head" or role.startswith("hand_"):
            parts = ("hips", "head") if role == "head" else ("upper_arm", "lower_arm", "hand")
            limb = [bones[part if part in bones else f"{part}_{side_of(role)}"] for part in parts]
            joints = rigged.reference_world.positions[0, limb]
            length = float(np.linalg.norm(np.diff(joints, axis=0), axis=1).sum())
            return np.asarray((path - world.position_tracks[limb[0], :, inner].T) / length)
        asked = [self.travel_factor, 1.0, self.travel_factor] if which == 0 else 1.0
        return np.asarray(path * asked / rigged.reference.leg_m)

    def _sink(self, which: int, world: WorldTransforms, inner: slice) -> None:
        rigged = self.pair[which]

        def depth(bones: list[int]) -> Floats:
            joints = world.positions[inner][:, bones]
            floor = np.full(joints.shape[:2], rigged.floor_m)
            if which == 0:  # over the floor its feet stand on, or the one it rests on: what is higher, to its credit
                floor = np.maximum(floor, self.contacts[0].floor.height(joints))
            return np.asarray((floor - joints[:, :, 1]).max(axis=0) / rigged.reference.leg_m)

        joints = depth([rigged.roles.bones[last_of_chain(rigged.roles, role)] for role, _ in self.roles])
        self.depth[which] = np.maximum(self.depth[which], joints)
        for row, fingers in self.added[which].items():
            self.added_depth[which, row] = max(self.added_depth[which, row], depth(fingers).max())
        if which == 1 and len(self.garments):
            deep = rigged.floor_m - world.position_tracks[self.garments, 1, inner].min(axis=1)
            self.garment_depth = np.maximum(self.garment_depth, deep / rigged.reference.leg_m)

    def _come_off(self, which: int, world: WorldTransforms, inner: slice) -> None:
        rigged = self.pair[which]
        # Hips travel over the ground; all else has its place on what carries it.
        bones = {role: bone for role, bone in rigged.roles.bones.items() if role != "root"}
        roles = [last_of_chain(rigged.roles, role) for role, _ in self.roles]
        own = [bones[role] for role in roles]
        above = [bones[role_above(role, bones) or role] for role in roles]

        def offsets(seen: WorldTransforms, frames: slice) -> Floats:
            away = seen.positions[frames][:, own] - seen.positions[frames][:, above]
            return np.asarray(rotate(conjugate(seen.rotations[frames][:, above]), away))

        moved = offsets(world, inner) - offsets(rigged.reference_world, slice(None))
        off = np.linalg.norm(moved, axis=2).max(axis=0) / rigged.reference.leg_m
        self.off[which] = np.maximum(self.off[which], off)

    def choose_floor(self) -> None:
        """Count the hips from the floor under the source's feet, or from that of its rest: what the result stands on.

        A source that is off its floor may be brought to it, or left as it is; neither is a difference.
        """
        if rms(self._hips_leveled) < rms(self.hips):
            self.hips = self._hips_leveled

    def deepest_garment(self) -> tuple[str, float] | None:
        """The extra bone of the result that goes furthest below the floor, and by how much, cm."""
        if not self.garment_depth.any():
            return None
        worst = int(np.argmax(self.garment_depth))
        depth = 100.0 * float(self.garment_depth[worst]) * self.pair[1].reference.leg_m
        return self.pair[1].skeleton.labels[self.garments[worst]], depth

    def differences(self, times: Floats) -> tuple[RoleDifference, ...]:
        """Each role over time."""
        leg_cm = 100.0 * self.pair[1].reference.leg_m
        sunk, added, off = (
            leg_cm * np.maximum(worst[1] - worst[0], 0.0) for worst in (self.depth, self.added_depth, self.off)
        )
        below = np.maximum(sunk, added)
        rows = zip(self.roles, self.degrees, self.turns, below.tolist(), off.tolist(), strict=True)
        return tuple(_role_difference(role, "direction" if onward else "turn", row.astype(np.float64),
                                      turn.astype(np.float64), times, deep, out, self._seen(role))
                     for (role, onward), row, turn, deep, out in rows)  # fmt: skip

    def _seen(self, role: str) -> Floats:
        """How much of a difference is seen, in each frame: an arm whose hand touches the same has to get there, and a
        hand over the floor lies as it has to where the source's shows nothing of that."""
        if role in self.laid:
            return 1.0 - self.laid[role]
        arm = part_of(role) == "arms" and side_of(role)
        return 1.0 - _WHILE_TOUCHING * self.touching[SIDES.index(side_of(role))] if arm else np.ones(self.hips.shape)

    def footing(self, which: int, standing: np.ndarray, lowest: Floats | None = None) -> Footing:
        """How the feet of one figure behave; ``standing`` ``(2, frames)`` is when the source's stand."""
        lowest = self.lowest[which] if lowest is None else lowest
        told = (lowest, self.speed[which]), (self.lowest_alike[which], self.speed_alike[which])
        near = self._near_floor()
        skims = [np.median(np.where(low[0] < low[1], *speed)[near]) for low, speed in told]
        # In a run the other of the source's feet may be as low as that on which the result comes down.
        same = np.median(np.where(self.lowest[1, 0] < self.lowest[1, 1], *self.speed[0])[near]) if which == 0 else 0.0
        # Speeds are of three frames: a foot that is just put down moved before.
        steady = standing & np.roll(standing, 1, axis=1) & np.roll(standing, -1, axis=1)
        return Footing(
            skate_cm_s=100.0 * float(self.speed[which][steady].mean()) if steady.any() else 0.0,
            lowest_cm_s=100.0 * float(max(min(skims), same)),
            sole_below_cm=100.0 * max(0.0, -float(lowest.min())),
            float_cm=100.0 * max(0.0, float(lowest[standing].mean())) if standing.any() else 0.0,
            off_floor_cm=100.0 * max(0.0, float(lowest.min())),
            standing_share=float(standing.any(axis=0).mean()),
        )

    def _near_floor(self) -> np.ndarray:
        """When a sole of either figure is about as low as it comes, ``(frames,)``."""
        lower = [
            lowest.min(axis=0) / rigged.reference.leg_m for lowest, rigged in zip(self.lowest, self.pair, strict=True)
        ]
        return np.any([low <= low.min() + _NEAR_FLOOR for low in lower], axis=0)


def belt_of(stands: Contacts, pair: Pair, travel_factor: float) -> Floats | None:
    """How fast the floor runs under a result whose source walks on the spot: as under that, in legs, ``(3,)``."""
    ratio = pair[1].reference.leg_m / pair[0].reference.leg_m
    return None if stands.belt_m_s is None else stands.belt_m_s * ratio * travel_factor


def blocks(first: int, frames: int) -> Iterator[tuple[int, int, int, int]]:
    """Start and stop of each block from ``first`` on, and the same with a neighbour on each side, for speeds."""
    for start in range(first, frames, _FRAMES_AT_ONCE):
        stop = min(start + _FRAMES_AT_ONCE, frames)
        yield start, stop, max(start - 1, first), min(stop + 1, frames)


def jerk_of(paths: Floats) -> float:
    return float(np.sqrt(np.mean(np.diff(paths, 3, axis=1) ** 2))) if paths.shape[1] > 3 else 0.0


def contacts_kept(contacts: tuple[Contacts, Contacts], rate: float) -> ContactsKept:
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


def compared_roles(pair: Pair) -> list[tuple[str, str]]:
    """The roles both have, each with the role its bone points to on both; nothing if it is compared by its turn.

    Raises
    ------
    ImpossibleError
        If there is no limb among them.
    """
    first, second = (rigged.roles.bones for rigged in pair)
    found = []
    lacking = {rigged.role_of_bone[bone] for rigged in pair for bone in stiff_bones(rigged.figure)
               if bone in rigged.role_of_bone}  # fmt: skip
    for role in sorted((set(first) & set(second)) - {"root", *lacking}, key=role_order):
        if role != last_of_chain(pair[0].roles, role):
            continue  # of a chain only the end can be compared bone to bone
        onward = ""
        if neutral_direction(role) is not None:
            onward = next((other for other in next_roles(role) if other in first and other in second), "")
        if onward in lacking and onward.startswith("lower_"):
            onward = next_roles(onward)[0]  # a limb of one piece points to its end
        found.append((role, onward))
    if not any(onward for _, onward in found):
        raise ImpossibleError("the two figures share no limb", remedy="Check the bone profiles")
    return found


def _role_difference(
    role: str, by: str, degrees: Floats, turns: Floats, times: Floats, below_floor_cm: float, comes_off_cm: float,
    seen: Floats,
) -> RoleDifference:  # fmt: skip
    worst = int(np.argmax(degrees))
    mean, turned = float(degrees.mean()), float(turns.mean())
    return RoleDifference(
        role, part_of(role), by, mean, float(degrees[worst]), float(times[worst]), turned, rms(seen * degrees),
        rms(seen * turns), float((seen * turns).max()), below_floor_cm, comes_off_cm, float((seen * degrees).max()),
    )  # fmt: skip


def rms(values: Floats) -> float:
    return float(np.sqrt(np.mean(np.square(values))))


def _hips_apart(pair: Pair, worlds: Worlds, travel_factor: float, floor: Floor | None = None) -> Floats:
    """How far the hips are apart, in percent of the leg.

    Over the ground they count from where each rests, and the source's way counts ``travel_factor`` times. Their height
    counts from there, too, as for a figure that stands, or from the floor, as for one that sits on it: what is between
    the two is no difference. With a ``floor``, the source's hips are brought from it to the floor that the figure
    rests on.
    """
    paths, heights = [], []
    for which, (rigged, world) in enumerate(zip(pair, worlds, strict=True)):
        position = world.positions[:, rigged.roles.bones["hips"]]
        path = position - rigged.reference.hips
        if floor is not None and which == 0:
            path[:, 1] -= floor.height(position) - rigged.floor_m
        heights.append((path[:, 1] + rigged.reference.hips[1] - rigged.floor_m) / rigged.reference.leg_m)
        if which == 0:
            path *= [travel_factor, 1.0, travel_factor]
        paths.append(path / rigged.reference.leg_m)
    apart = paths[0] - paths[1]
    standing, sitting = apart[:, 1], heights[0] - heights[1]
    nearer = np.where(np.abs(standing) < np.abs(sitting), standing, sitting)
    apart[:, 1] = np.where(standing * sitting < 0.0, 0.0, nearer)
    return 100.0 * np.asarray(np.linalg.norm(apart, axis=1))
