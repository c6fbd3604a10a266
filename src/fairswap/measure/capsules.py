"""Limbs as capsules: how far two of them, or one and the trunk, go into each other."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fairswap.bones.roles import SIDES
from fairswap.measure.surface import owned_vertices, surface_of
from fairswap.model.arrays import Floats
from fairswap.model.caching import kept_with_its_argument
from fairswap.model.chain_world import ChainWorld
from fairswap.model.rotation import conjugate, rotate
from fairswap.pose.pieces import cut_limbs
from fairswap.pose.rigged import RiggedFigure

# Each limb: the role of its bone and that at its end, from which share of it on it counts (a thigh is one with the hips
# at its top), and its radius as a share of its length where no mesh shows it.
_LIMBS = {
    "upper_leg": ("lower_leg", 0.45, 0.17), "lower_leg": ("foot", 0.0, 0.12), "upper_arm": ("lower_arm", 0.5, 0.14),
    "lower_arm": ("hand", 0.0, 0.13),
}  # fmt: skip
# Which may meet: limbs of one side with those of the other, and arms with legs.
_CROSSING = (
    ("upper_leg", "upper_leg"), ("lower_leg", "lower_leg"), ("lower_leg", "upper_leg"), ("lower_arm", "lower_arm"),
    ("lower_arm", "upper_arm"),
)  # fmt: skip
_PAIRS = [
    (f"{first}_{one}", f"{second}_{other}")
    for first, second in _CROSSING
    for one, other in (SIDES, SIDES[::-1])[: 1 + (first != second)]
] + [(f"lower_arm_{one}", f"upper_leg_{other}") for one in SIDES for other in SIDES]
# So many frames at a time.
_AT_ONCE = 4096
# Where along a forearm the trunk is felt, from the elbow on.
_FELT = (0.15, 0.5, 0.85)
_FEWEST = 8
# A limb that is thicker to one side by so much than to another is not round: it is told for so many sides.
_SIDES, _ROUND = 8, 1.3
_ANGLES = np.linspace(0.0, 2.0 * np.pi, _SIDES + 1)
# At its ends a limb is thicker than half of it by no more than this.
_THICKER = 1.3
# A piece of a limb bends it where it begins so far from the limb's line, of its length.
_BESIDE = 0.1
# Of what goes around a limb no part of this angle is open, degrees. Skirts are about legs; arms may have few corners.
_GAPS = {"leg": 100.0, "arm": 120.0}


@dataclass(frozen=True, eq=False)
class Capsule:
    """A limb: its bone, both ends of its axis in the frame of that bone ``(3,)``, and its radius at each, metres.

    Who is not round is thicker to some sides than to others: ``shape`` is by how much, at even angles from ``ahead``
    about the axis; ``ahead`` is square to the axis, in the frame of the bone ``(3,)``.
    """

    role: str
    bone: int
    start: Floats
    end: Floats
    radii: tuple[float, float]
    ahead: Floats
    shape: Floats

    def radius(self, share: Floats | float) -> Floats:
        """Its radius at a share of its length, on average around it."""
        return np.asarray(self.radii[0] + share * (self.radii[1] - self.radii[0]))

    def placed(self, rotation: Floats, position: Floats) -> Floats:
        """In the world, ``(3, frames, 3)``: both ends of its axis, and which way it has ahead."""
        ends = [rotate(rotation, end) + position for end in (self.start, self.end)]
        return np.stack([*ends, rotate(rotation, self.ahead)])

    def thickness(self, share: Floats, placed: Floats, way: Floats) -> Floats:
        """How thick it is at a share of its length to one side, each ``(frames,)``; ``way`` ``(frames, 3)``."""
        if (self.shape == 1.0).all():
            return self.radius(share)
        start, end, ahead = placed
        beside = np.cross(end - start, ahead) / np.linalg.norm(self.end - self.start)
        turned = np.arctan2(np.einsum("fi,fi->f", way, beside), np.einsum("fi,fi->f", way, ahead))
        at = turned * (len(self.shape) / (2.0 * np.pi))
        low = np.floor(at).astype(np.intp)
        first, second = (self.shape[(low + step) % len(self.shape)] for step in (0, 1))
        return np.asarray(self.radius(share) * (first + (at - low) * (second - first)))


@kept_with_its_argument
def capsules_of(rigged: RiggedFigure) -> dict[str, Capsule]:
    """The limbs of a figure by role: as thick as half of their vertices keep within, from end to end.

    They are as thick as is usual where the mesh does not go around them, as a skirt does not around one leg.
    """
    world, roles = rigged.reference_world, rigged.roles.bones
    owners, vertices = owned_vertices(rigged)
    cut = {limb.holder: limb for limb in cut_limbs(rigged)}
    found = {}
    for side in SIDES:
        for part, (onward, first, usual) in _LIMBS.items():
            role, bone = f"{part}_{side}", roles[f"{part}_{side}"]
            bones, tip = [bone], roles[f"{onward}_{side}"]
            if bone in cut and len(cut[bone].shares(world.positions[0])):
                bones += cut[bone].between
            elif bone in cut:  # of pieces that bend, the first
                tip = cut[bone].between[0]
            else:
                tip = _piece_beside(rigged, bone, tip, owners, vertices)
            start, end = world.positions[0, bone], world.positions[0, tip]
            along = end - start
            length = float(np.linalg.norm(along))
            mine = vertices[np.isin(owners, bones)]
            share = (mine - start) @ along / length**2
            inner = (share > max(first, 0.15)) & (share < 0.9)
            mine, share = mine[inner], share[inner]
            square = mine - start - share[:, None] * along
            away = np.linalg.norm(square, axis=1)
            shown = len(away) >= _FEWEST and _widest_gap_degrees(square, along) < _GAPS[part[-3:]]
            radii, ahead, shape = (usual * length, usual * length), _square_to(along), np.ones(_SIDES)
            if shown:
                shape, angles = _shape(square, along, ahead, away)
                radii = _radii(share, away / np.interp(angles, _ANGLES, np.append(shape, shape[0])), first)
            undo = conjugate(rigged.reference.rotations[bone])
            places = [rotate(undo, way) for way in (first * along, along, ahead)]
            found[role] = Capsule(role, bone, places[0], places[1], radii, places[2], shape)
    return found


def _square_to(along: Floats) -> Floats:
    """Some direction square to an axis ``(3,)``, of length one."""
    aside = np.cross(along, np.eye(3)[np.argmin(np.abs(along))])
    return np.asarray(aside / np.linalg.norm(aside))


def _shape(square: Floats, along: Floats, ahead: Floats, away: Floats) -> tuple[Floats, Floats]:
    """How much thicker than on average a limb is to each side ``(sides,)``, and the angle about the axis of each of its
    vertices, radians from ``ahead`` on. Who is nearly round is round."""
    beside = np.cross(along, ahead) / np.linalg.norm(along)
    angles = np.arctan2(square @ beside, square @ ahead) % (2.0 * np.pi)
    off = np.abs((angles[None] - _ANGLES[:-1, None] + np.pi) % (2.0 * np.pi) - np.pi)
    near = off < 2.0 * np.pi / _SIDES
    thick = np.array([np.median(away[row]) if row.sum() >= 3 else np.nan for row in near])
    shape = np.where(np.isnan(thick), 1.0, thick / np.nanmean(thick))
    return (shape if shape.max() > _ROUND * shape.min() else np.ones(_SIDES)), angles


def _piece_beside(rigged: RiggedFigure, bone: int, tip: int, owners: np.ndarray, vertices: Floats) -> int:
    """Where the first piece of a limb ends that was cut in pieces which bend, if its next joint hangs on that piece by
    now, and the others beside it: skin of theirs comes to the joint, none of its own. Else the joint."""
    places = rigged.reference_world.positions[0]
    way = places[tip] - places[bone]

    def away(holder: int) -> float:
        skin = vertices[owners == holder]
        return float(np.linalg.norm(skin - places[tip], axis=1).min()) if len(skin) >= _FEWEST else np.inf

    for child in rigged.skeleton.children[bone]:
        beside = float(np.linalg.norm(np.cross(places[child] - places[bone], way))) / float(way @ way)
        if child not in rigged.role_of_bone and beside > _BESIDE and away(child) < 0.5 * away(bone):
            return child
    return tip


def depths(rigged: RiggedFigure, chain: ChainWorld) -> dict[tuple[str, str], Floats]:
    """How deep limbs are in each other and in the trunk, metres ``(frames,)``, by what goes into what.

    Less than nothing is the way that is left between them. What overlaps in the T as well is not counted.
    """
    limbs = capsules_of(rigged)
    ends = {role: limb.placed(chain.rotation(limb.bone), chain.position(limb.bone)) for role, limb in limbs.items()}
    t = rigged.reference_world
    resting = {role: limb.placed(t.rotations[:, limb.bone], t.positions[:, limb.bone]) for role, limb in limbs.items()}
    found = dict(zip(_PAIRS, _overlaps(limbs, ends) - np.maximum(_overlaps(limbs, resting), 0.0), strict=True))
    share = np.array(_FELT)[:, None]
    for role in (f"lower_arm_{side}" for side in SIDES):
        elbow, wrist, _ = ends[role]
        felt = elbow + share[..., None] * (wrist - elbow)  # (places, frames, 3)
        for part in surface_of(rigged):
            if part.part == "thigh":
                continue  # as a limb
            height, _, distance = part.coordinates(felt, chain)
            within = (height > 0.0) & (height < 1.0)
            found[role, part.part] = np.where(within, limbs[role].radius(share) - distance, -np.inf).max(axis=0)
    return found


def _widest_gap_degrees(square: Floats, along: Floats) -> float:
    """The widest angle around an axis in which there is none of the places ``(vertices, 3)``, told square to it."""
    aside = _square_to(along)
    ahead = np.cross(along, aside) / np.linalg.norm(along)
    angles = np.sort(np.arctan2(square @ aside, square @ ahead))
    return float(np.degrees(np.max(np.diff(angles, append=angles[0] + 2.0 * np.pi))))


def _radii(share: Floats, away: Floats, first: float) -> tuple[float, float]:
    """The radius at both ends, of vertices that are so far from the axis at a share of its length: a line through the
    middle ones of either half."""
    middle = 0.5 * (max(first, 0.15) + 0.9)
    halves = [share <= middle, share > middle]
    if min(half.sum() for half in halves) < 3:
        even = float(np.median(away))
        return even, even
    at, thick = ([float(np.median(values[half])) for half in halves] for values in (share, away))
    slope = (thick[1] - thick[0]) / max(at[1] - at[0], 1e-6)
    ends = (thick[0] + slope * (first - at[0]), thick[1] + slope * (1.0 - at[1]))
    thickest = _THICKER * max(thick)
    return min(max(ends[0], 0.3 * thick[0]), thickest), min(max(ends[1], 0.3 * thick[1]), thickest)


def _overlaps(limbs: dict[str, Capsule], placed: dict[str, Floats]) -> Floats:
    """How deep the limbs of all pairs are in each other ``(pairs, frames)``, by where each is ``(3, frames, 3)``."""
    first, second = zip(*_PAIRS, strict=True)
    frames = next(iter(placed.values())).shape[1]
    deep = np.empty((len(_PAIRS), frames))
    for start in range(0, frames, _AT_ONCE):
        part = slice(start, start + _AT_ONCE)
        axes = [np.stack([placed[role][end, part] for role in roles]) for roles in (first, second) for end in (0, 1)]
        way, *shares = nearest(*axes)
        for number, (one, other) in enumerate(_PAIRS):
            thick = [
                limbs[role].thickness(share[number], placed[role][:, part], sign * way[number])
                for role, share, sign in zip((one, other), shares, (1.0, -1.0), strict=True)
            ]
            deep[number, part] = thick[0] + thick[1] - np.linalg.norm(way[number], axis=-1)
    return deep


def nearest(a: Floats, b: Floats, c: Floats, d: Floats) -> tuple[Floats, Floats, Floats]:
    """The way from the line from ``a`` to ``b`` to that from ``c`` to ``d``, each ``(…, 3)``, where they are nearest;
    and at which share of either that is, ``(…,)``.

    Lumelsky 1985: the nearest points of two segments.
    """
    u, v, w = b - a, d - c, a - c
    uu, vv, uv = (np.einsum("...i,...i->...", x, y) for x, y in ((u, u), (v, v), (u, v)))
    uw, vw = np.einsum("...i,...i->...", u, w), np.einsum("...i,...i->...", v, w)
    span = uu * vv - uv**2
    s = np.where(span > 1e-12, np.clip((uv * vw - vv * uw) / np.where(span > 1e-12, span, 1.0), 0.0, 1.0), 0.0)
    t = (uv * s + vw) / np.maximum(vv, 1e-12)
    # Where that is beyond an end, from the end back.
    kept = np.clip(t, 0.0, 1.0)
    s = np.where(t == kept, s, np.clip((kept * uv - uw) / np.maximum(uu, 1e-12), 0.0, 1.0))
    return kept[..., None] * v - w - s[..., None] * u, s, kept
