"""Where clothes and body pass through each other: how deep, on how much of the cloth, and when."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from fairswap.bones.roles import RoleMap, part_of
from fairswap.figures.dressing.forms import in_t
from fairswap.figures.dressing.worn import SKIN, Wearing
from fairswap.measure.instants import Instants, telling_instants
from fairswap.measure.nearness import Nearest, Surface, spread_over
from fairswap.model.arrays import Floats, Integers, Value
from fairswap.model.cards import html_table
from fairswap.model.clip import Clip
from fairswap.pose.rigged import RiggedFigure

# Less than this is no cut that anybody sees, metres.
SEEN_M = 0.002
# Cloth is looked at this closely, in heights: also while it is pushed, so that what is told can be cleared.
SPACING, _MOST_PARTS = 0.010, 16
# In motion cloth is held against the skin that it covers: no further from there at rest than this, in heights, and so
# many times as far as it is loose; and facing the same way. A sleeve that meets the ribs since the arm does cuts
# nothing.
_COVERED, _LOOSE, _SAME_WAY = 0.02, 1.0, 0.3
# What is this far above the planes of the skin nearby is not inside, metres.
_MARGIN_M = 0.002
# So many places at a time are asked whether they are inside at all; the surface goes around those at least so often.
_VERIFIED, _INSIDE = 8, 0.25
# So far off the skin it is asked whether one is out of the body, metres.
_JUST = 0.0005
# Cloth covers skin that it lies over at about one of these heights, metres.
_OVER_M = (0.004, 0.007, 0.012, 0.02, 0.035, 0.06)


@dataclass(frozen=True, eq=False)
class Cut(Value):
    """How one piece and the body pass through each other.

    ``worst_m`` is the deepest at any instant, at ``worst_at_s`` (None: at rest) on the body ``part``; ``mean_m`` the
    mean depth over all cloth that cuts and all the clip; ``area`` the largest share of the cloth that cuts by more than
    :data:`SEEN_M` at once; ``time`` the share of the clip in which any does; ``rest_m`` the deepest at rest.
    """

    piece: str
    part: str
    rest_m: float
    worst_m: float
    worst_at_s: float | None
    mean_m: float
    area: float
    time: float


@dataclass(frozen=True, eq=False)
class Cutting(Value):
    """How the clothes of a figure and its body pass through each other, at rest and over a clip.

    >>> import fairswap
    >>> fairswap.cutting(fairswap.demo_file("pip.glb")).deepest_m
    0.0

    Attributes
    ----------
    pieces : tuple of Cut
    depth_m : tuple of (triangles,) arrays
        The deepest that each triangle of each mesh is in the body at any instant; 0 outside, NaN for what is no cloth.
    times_s : (instants,) array
    worst_m : (instants,) array
        The deepest of all pieces at each instant.
    """

    pieces: tuple[Cut, ...]
    depth_m: tuple[Floats, ...]
    times_s: Floats
    worst_m: Floats

    @property
    def deepest_m(self) -> float:
        """The deepest of all."""
        return max((piece.worst_m for piece in self.pieces), default=0.0)

    def __repr__(self) -> str:
        cuts = [row for row in self.pieces if row.worst_m > 0.0]
        told = [f"{row.piece} {1000 * row.worst_m:.1f} mm in the {row.part}" for row in cuts]
        return f"<Cutting: {', '.join(told) or 'nothing cuts'}>"

    def _repr_html_(self) -> str:
        rows = [
            (row.piece, f"{1000 * row.worst_m:.1f}", row.part, "at rest" if row.worst_at_s is None else row.worst_at_s,
             f"{row.area:.2%}")
            for row in self.pieces
        ]  # fmt: skip
        return html_table("Clothes in the body", ("piece", "deepest mm", "in", "at second", "of the cloth"), rows)


@dataclass(frozen=True, eq=False)
class Cloth:
    """Places on the triangles of one piece that are looked at: triangle and shares of its corners of each, the share of
    the triangle's area that it stands for, and what of the body it covers at rest; the piece as a surface, and the skin
    that counts ``under`` it."""

    triangles: Integers
    owner: Integers
    shares: Floats
    area: Floats
    cover: Nearest
    sheet: Surface
    under: Surface

    @classmethod
    def of(
        cls, points: Floats, triangles: Integers, skin: Surface, spacing_m: float, like: Cloth | None = None
    ) -> Cloth:
        """Sampled on the rest vertices ``points`` of a whole figure, at the places of another if one is given."""
        if like is not None:
            return replace(like, cover=skin.nearest(like.at(points)))
        owner, shares, area = _spread(points, triangles, spacing_m)
        cover = skin.nearest(_at(points, triangles, owner, shares))
        under = skin.part(_within_reach(skin, cover))
        return cls(triangles, owner, shares, area, cover, Surface(points, triangles), under)

    def at(self, points: Floats) -> Floats:
        """Where the places are with the vertices at ``points``."""
        return _at(points, self.triangles, self.owner, self.shares)

    def depths(self, points: Floats, body: Surface, under: Surface) -> tuple[Floats, Integers, Nearest]:
        """How deep each place is in the body, 0 outside; the rows that may be inside, and what is nearest to those.

        ``body`` and ``under`` are the skin, and that of it which counts, in the same pose as ``points``. Only what the
        place covers at rest counts, and only where it shows.
        """
        places, rest = self.at(points), self.under
        rows = under.low(places, _MARGIN_M)
        found = under.nearest(places[rows])
        deep = np.where(found.height_m < 0.0, -found.height_m, 0.0)
        place, normal = rest.taken(rest.vertices, found), rest.taken(rest.normals, found)
        near = np.linalg.norm(place - self.cover.place[rows], axis=1) < _reach(rest, self.cover)[rows]
        same = np.einsum("ni,ni->n", normal, self.cover.normal[rows]) > _SAME_WAY
        deep = np.where(near & same, deep, 0.0)
        inside = np.flatnonzero(deep > 0.0)
        sheet = self.sheet.moved(points)
        deep[inside[_covered(found.place[inside], found.normal[inside], sheet)]] = 0.0
        _take_out_false(deep, places[rows], body, found, sheet)
        depth = np.zeros(len(places))
        depth[rows] = deep
        return depth, rows, found


def _covered(place: Floats, normal: Floats, sheet: Surface) -> np.ndarray:
    """Where cloth lies over the skin all the same: a sleeve that is pressed into the ribs shows none of them."""
    covered = np.zeros(len(place), dtype=bool)
    for off in _OVER_M:
        rows = np.flatnonzero(~covered)
        over = place[rows] + off * normal[rows]
        covered[rows] = np.linalg.norm(sheet.nearest(over).place - over, axis=1) < 0.3 * off
    return covered


def _reach(skin: Surface, cover: Nearest) -> Floats:
    """How far from what a place covers at rest skin may be to count, metres."""
    return _COVERED * float(np.ptp(skin.vertices[:, 1])) + _LOOSE * np.abs(np.nan_to_num(cover.height_m))


def _within_reach(skin: Surface, cover: Nearest) -> Integers:
    """The triangles of the skin that some place may be held against; places of about one reach are asked together."""
    from scipy.spatial import cKDTree

    corners = skin.vertices[skin.triangles]
    middle = corners.mean(axis=1)
    size = np.linalg.norm(corners - middle[:, None], axis=2).max(axis=1)
    reach = _reach(skin, cover)
    kind = np.floor(2.0 * np.log2(np.maximum(reach, 1e-9))).astype(int)
    counted = np.zeros(len(skin.triangles), dtype=bool)
    for number in np.unique(kind).tolist():
        own = kind == number
        away, _ = cKDTree(cover.place[own]).query(middle)
        counted |= away < reach[own].max() + size
    return np.flatnonzero(counted)


def cutting_of(
    wearing: Wearing, body: RiggedFigure, clip: Clip | None = None, instants: Instants | None = None
) -> Cutting:
    """How deep all that is worn passes into the body: at rest, and at instants of a clip (those that show its poses).

    ``body`` has the first bones of what wears: in its T, where arms and ribs are apart, it is seen which skin cloth
    covers.
    """
    figure, rest = wearing.figure, wearing.figure.rest_points
    if not wearing.names or not len(wearing.triangles(SKIN)):
        empty = tuple(np.full(len(mesh.triangles), np.nan) for mesh in figure.meshes)
        return Cutting((), empty, np.zeros(0), np.zeros(0))
    t_pose = in_t(body, figure.skeleton)
    apart = np.concatenate(figure.skin(t_pose))
    skin = wearing.body(apart)
    spacing = SPACING * figure.height_m
    cloths = [Cloth.of(apart, wearing.triangles(piece), skin, spacing) for piece in range(len(wearing.names))]
    times, weights = np.zeros(0), np.ones(1)
    if clip is not None:
        looked_at = instants or telling_instants([clip], body.roles.bones["hips"], figure.height_m)[0]
        times, weights = looked_at.times_s, np.append(0.0, looked_at.shares)
    areas = [_areas(rest, cloth) for cloth in cloths]
    resting = [cloth.depths(rest, skin.moved(rest), cloth.under.moved(rest)) for cloth in cloths]
    at_rest = [depth for depth, _, _ in resting]
    holders = _holders(wearing)
    deepest = [depth.copy() for depth in at_rest]
    rows: list[list[tuple[float, float, float]]] = [[_summed(d, a)] for d, a in zip(at_rest, areas, strict=True)]
    where = [
        _part_at(holders, cloth.under, found, depth[low], body.roles)
        for cloth, (depth, low, found) in zip(cloths, resting, strict=True)
    ]
    worst_at: list[float | None] = [None] * len(cloths)
    poses = None if clip is None else clip.at(times)
    world = None if poses is None else poses.world()
    worst = np.zeros(len(times))
    for frame in range(len(times)):
        assert world is not None
        points = np.concatenate(figure.skin(world, frame, poses))
        posed = skin.moved(points)  # only where cloth seems to be in it
        for number, cloth in enumerate(cloths):
            depth, low, found = cloth.depths(points, posed, cloth.under.moved(points))
            rows[number].append(_summed(depth, areas[number]))
            worst[frame] = max(worst[frame], depth.max(initial=0.0))
            if depth.max(initial=0.0) > deepest[number].max(initial=0.0):
                worst_at[number] = float(times[frame])
                where[number] = _part_at(holders, cloth.under, found, depth[low], body.roles)
            deepest[number] = np.maximum(deepest[number], depth)
    pieces = []
    for number, name in enumerate(wearing.names):
        table = np.array(rows[number])
        depth_sum, cut_area, seen = table.T
        pieces.append(
            Cut(name, where[number], float(at_rest[number].max(initial=0.0)), float(deepest[number].max(initial=0.0)),
                worst_at[number], float(weights @ depth_sum / max(weights @ cut_area, 1e-12)),
                float(seen.max() / max(areas[number].sum(), 1e-12)), float(weights @ (seen > 0.0)))
        )  # fmt: skip
    return Cutting(tuple(pieces), _by_triangle(wearing, cloths, deepest), times, worst)


def _holders(wearing: Wearing) -> Integers:
    """The bone that holds each vertex of all meshes most, ``(n,)``."""
    return np.concatenate([mesh.main_bones for mesh in wearing.figure.meshes])


def _spread(points: Floats, triangles: Integers, spacing_m: float) -> tuple[Integers, Floats, Floats]:
    """Corners and evenly spread places of triangles: the triangle of each, shares of its corners, and of its area, of
    which corners stand for none."""
    owner, shares, area = spread_over(points, triangles, max(spacing_m, 1e-9), _MOST_PARTS)
    _, first = np.unique(triangles, return_index=True)
    return (
        np.concatenate([first // 3, owner]),
        np.concatenate([np.eye(3)[first % 3], shares]),
        np.concatenate([np.zeros(len(first)), area]),
    )


def _at(points: Floats, triangles: Integers, owner: Integers, shares: Floats) -> Floats:
    return np.asarray(np.einsum("sk,ski->si", shares, points[triangles[owner]]))


def _take_out_false(deep: Floats, places: Floats, skin: Surface, found: Nearest, sheet: Surface) -> None:
    """Set depths to 0 that are none: where skin folds into itself, the nearest face may look away from what is outside.
    Nor does it show where the way out of the skin leads into the body again, or meets cloth.

    The deepest are looked at first, and on only until all of some do show.
    """
    order = np.argsort(-deep)
    order = order[deep[order] > SEEN_M]
    for some in np.split(order, np.arange(_VERIFIED, len(order), _VERIFIED)):
        place, out = found.place[some], found.normal[some]
        unseen = (skin.windings(places[some]) < _INSIDE) | (skin.windings(place + _JUST * out) > 1.0 - _INSIDE)
        unseen |= sheet.met(place, out, _OVER_M[-1])
        deep[some[unseen]] = 0.0
        if not unseen.any():
            return


def _areas(points: Floats, cloth: Cloth) -> Floats:
    """The area that each place stands for."""
    a, b, c = (points[cloth.triangles[:, corner]] for corner in range(3))
    return np.asarray((0.5 * np.linalg.norm(np.cross(b - a, c - a), axis=1))[cloth.owner] * cloth.area)


def _summed(depth: Floats, area: Floats) -> tuple[float, float, float]:
    """Depth times area, the area that is inside, and that which is so by more than is seen."""
    return float(depth @ area), float(area[depth > 0.0].sum()), float(area[depth > SEEN_M].sum())


def _part_at(holders: Integers, skin: Surface, found: Nearest, depth: Floats, roles: RoleMap) -> str:
    """The body part where it cuts deepest; nothing where it does not."""
    if not depth.max(initial=0.0) > 0.0:
        return ""
    bone = int(holders[skin.triangles[found.triangle[int(np.argmax(depth))], 0]])
    role = next((role for role, one in roles.bones.items() if one == bone), None)
    return part_of(role) if role is not None else "trunk"


def _by_triangle(wearing: Wearing, cloths: list[Cloth], deepest: list[Floats]) -> tuple[Floats, ...]:
    out = [np.full(len(mesh.triangles), np.nan) for mesh in wearing.figure.meshes]
    for number, (cloth, depth) in enumerate(zip(cloths, deepest, strict=True)):
        each = np.zeros(len(cloth.triangles))
        np.maximum.at(each, cloth.owner, depth)
        start = 0
        for column, numbers in zip(out, wearing.numbers, strict=True):
            own = np.flatnonzero(numbers == number)
            column[own] = each[start : start + len(own)]
            start += len(own)
    return tuple(out)
