"""A mesh without bones as one shape: its vertices welded, its shells told apart, stood up and turned to the front."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from fairswap.errors import Finding, ImpossibleError
from fairswap.figures.rigging.solid import Solid, rows_used, sampled_surface
from fairswap.model.arrays import Floats, Integers
from fairswap.model.posture import PLAUSIBLE_HEIGHT_M, unit_from_height
from fairswap.model.space import OURS, Space, usual_forward

# Vertices nearer than this are one, as a share of the extent.
_WELD = 1e-5
# A shell is closed if its open edges are no longer than this, measured by the side of a square of its area.
_OPEN = 0.4
# Mirror images are further apart than this, of the height, where a body has no symmetry.
_UNLIKE = 0.03
_COARSE = 90
# From here on a shape stands aside of its axes, if turning it back makes its sides as much more alike.
_ASIDE_DEGREES, _STRAIGHTER = 5.0, 0.6


@dataclass(frozen=True, eq=False)
class Shape:
    """Vertices ``(n, 3)``, triangles ``(m, 3)`` of all meshes together; of each vertex ``shell`` is the number of what
    hangs together, ``welded`` that of its place, which others may share."""

    vertices: Floats
    triangles: Integers
    welded: Integers
    shell: Integers

    @classmethod
    def of(cls, vertices: Floats, triangles: Integers) -> Shape:
        """Weld what is at one place, and find the shells; triangles without area are left out.

        Raises
        ------
        ImpossibleError
            If nothing has any extent.
        """
        from scipy.sparse import coo_matrix
        from scipy.sparse.csgraph import connected_components

        extent = float(np.ptp(vertices, axis=0).max()) if len(vertices) else 0.0
        if not extent > 0.0 or not len(triangles):
            raise ImpossibleError("there is no mesh to be rigged in it", code="no-body-shape")
        places = np.round((vertices - vertices.min(axis=0)) / (_WELD * extent)).astype(np.int64)
        # One number for each place: they are less than 2^18 apart along each axis.
        keys = (places[:, 0] << 36) + (places[:, 1] << 18) + places[:, 2]
        welded = np.unique(keys, return_inverse=True)[1]
        corners = welded[triangles]
        flat = (corners[:, 0] == corners[:, 1]) | (corners[:, 1] == corners[:, 2]) | (corners[:, 2] == corners[:, 0])
        kept, corners = triangles[~flat], corners[~flat]
        if not len(kept):
            raise ImpossibleError("its triangles have no area", code="no-body-shape")
        pairs = np.concatenate([corners[:, :2], corners[:, 1:]])
        count = int(welded.max()) + 1
        graph = coo_matrix((np.ones(len(pairs), dtype=np.int8), pairs.T), shape=(count, count))
        shell = connected_components(graph, directed=False)[1][welded]
        return cls(vertices, kept, welded, shell)

    @cached_property
    def closed(self) -> np.ndarray:
        """Which shells are closed but for small holes, ``(shells,)``: their open edges are short for their size."""
        corners = self.welded[self.triangles]
        edges = np.sort(np.concatenate([corners[:, [0, 1]], corners[:, [1, 2]], corners[:, [2, 0]]]), axis=1)
        keys, count = np.unique((edges[:, 0] << 32) + edges[:, 1], return_counts=True)
        loose = np.stack([keys[count == 1] >> 32, keys[count == 1] & 0xFFFFFFFF], axis=1)
        shells = int(self.shell.max()) + 1
        place, shell = np.zeros((int(self.welded.max()) + 1, 3)), np.zeros(int(self.welded.max()) + 1, dtype=np.intp)
        place[self.welded], shell[self.welded] = self.vertices, self.shell
        length = np.bincount(shell[loose[:, 0]], np.linalg.norm(np.diff(place[loose], axis=1)[:, 0], axis=1), shells)
        a, b, c = (self.vertices[self.triangles[:, corner]] for corner in range(3))
        area = np.bincount(
            self.shell[self.triangles[:, 0]], 0.5 * np.linalg.norm(np.cross(b - a, c - a), axis=1), shells
        )
        return np.asarray((area > 0.0) & (length < _OPEN * np.sqrt(area)))

    def of_shells(self, wanted: np.ndarray) -> Integers:
        """The triangles of some shells."""
        return self.triangles[wanted[self.shell[self.triangles[:, 0]]]]

    def in_our_space(self, to_ours: Floats) -> Shape:
        """Turned and scaled by ``to_ours`` ``(3, 3)``."""
        return replace(self, vertices=self.vertices @ to_ours.T)

    @cached_property
    def used(self) -> Floats:
        """The vertices that triangles have."""
        return self.vertices[rows_used(self.triangles, len(self.vertices))]


@dataclass(frozen=True, eq=False)
class Stance:
    """How a shape stands in its file, and how unlike its two sides are, as a share of its height. ``to_ours`` is the
    turn and the scale ``(3, 3)`` that brings it into our space, facing ahead: it may stand aside of all axes."""

    space: Space
    to_ours: Floats
    unlike: float
    findings: tuple[Finding, ...] = ()


class _Sides:
    """Points on a surface ``(n, 3)``, and how unlike they are on the two sides of a plane."""

    def __init__(self, points: Floats) -> None:
        from scipy.spatial import cKDTree

        self.points = points
        self._tree = cKDTree(points)
        self._some = points[:: max(1, len(points) // 3000)]

    def unlike(self, across: Floats) -> tuple[float, float]:
        """How far their image, mirrored along a direction ``(3,)``, is from them: of the most alike two thirds, and of
        all, on average; for that of three planes by which they are most alike."""
        values, out = self.points @ across, []
        own = self._some @ across
        for middle in (0.5 * (values.min() + values.max()), values.mean(), np.median(values)):
            image = self._some + 2.0 * (middle - own)[:, None] * across
            apart = np.sort(self._tree.query(image)[0])
            out.append((float(apart[: 2 * len(apart) // 3].mean()), float(apart.mean())))
        return min(out)


def stance_of(
    shape: Shape, name: str, up: str | None = None, forward: str | None = None, unit: str | None = None
) -> Stance:
    """Which way is up and ahead, and which unit it is in: from its symmetry, its legs and its feet, or as said.

    Raises
    ------
    UsageError
        If what is said of up and forward lies on one axis.
    """
    points, _ = sampled_surface(shape.vertices, shape.triangles, 0.02 * float(np.ptp(shape.used, axis=0).max()))
    longest = np.argsort(-np.ptp(points, axis=0))[:2].tolist()
    sides = _Sides(points)
    straight, degrees = _straightened(sides, ["XYZ".index(up[1])] if up else longest)
    if degrees:
        shape = shape.in_our_space(straight)
    extent = np.ptp(shape.used, axis=0)
    apart = np.array([sides.unlike(direction) for direction in straight]) / max(float(extent.max()), 1e-12)
    seen_up, seen_forward, sure = _seen(shape, apart[:, 0], extent)
    sure = sure or forward is not None
    up, forward = _as_said(seen_up, seen_forward, up, forward)
    height = float(extent["XYZ".index(up[1])])
    likely = "m" if PLAUSIBLE_HEIGHT_M[0] <= height <= PLAUSIBLE_HEIGHT_M[1] else unit_from_height(height)
    found = Space(up, forward, unit or likely)
    unlike = float(apart[3 - "XYZ".index(up[1]) - "XYZ".index(forward[1]), 1])
    findings = list(_told(unlike, name))
    if found != OURS:
        stands = f"{up} up, facing {forward}, {height:.4g} {found.unit} tall"
        message = f"it stands {stands}; stood up, turned to the front, in metres"
        findings.append(Finding("mesh-stood-up", "note", name, message))
    if degrees:
        message = f"it stands {abs(degrees):.0f} degrees aside of its axes; turned to the front"
        findings.append(Finding("mesh-stood-up", "note", name, message))
    if not sure:
        message = f"nothing tells its front from its back; {forward} is taken for its front"
        findings.append(Finding("front-unsure", "warning", name, message))
    return Stance(found, found.turn * found.metres @ straight, unlike, tuple(findings))


def _straightened(sides: _Sides, up_axes: Sequence[int]) -> tuple[Floats, float]:
    """The turn ``(3, 3)`` about an axis that may be up which brings what stands aside of the others onto them, and its
    degrees; none where its sides are as much alike as it stands.

    Of what is alike on both sides the main directions are those of its sides, and of its front.
    """
    best, degrees = np.eye(3), 0.0
    least = _STRAIGHTER * min(sides.unlike(direction)[0] for direction in best)
    for up in up_axes:
        i, j = (axis for axis in range(3) if axis != up)
        spread = np.cov(sides.points[:, [i, j]].T)
        angle = 0.5 * float(np.degrees(np.arctan2(2.0 * spread[0, 1], spread[0, 0] - spread[1, 1])))
        angle = (angle + 45.0) % 90.0 - 45.0
        if abs(angle) < _ASIDE_DEGREES:
            continue
        turns = {angle + off: _turn_in_plane(angle + off, i, j) for off in (-6.0, -4.0, -2.0, 0.0, 2.0, 4.0, 6.0)}
        unlike = {at: min(sides.unlike(turn[axis])[0] for axis in (i, j)) for at, turn in turns.items()}
        found = min(unlike, key=lambda at: unlike[at])
        if abs(found) >= _ASIDE_DEGREES and unlike[found] < least:
            best, degrees, least = turns[found], found, unlike[found]
    return best, degrees


def _turn_in_plane(degrees: float, i: int, j: int) -> Floats:
    """The turn ``(3, 3)`` that brings a direction so far from the axis ``i`` towards ``j`` onto ``i``."""
    made, angle = np.eye(3), np.radians(degrees)
    made[i, [i, j]], made[j, [i, j]] = (np.cos(angle), np.sin(angle)), (-np.sin(angle), np.cos(angle))
    return made


def _seen(shape: Shape, unlike: Floats, extent: Floats) -> tuple[str, str, bool]:
    """Up and forward as the shape shows them, and whether anything tells the front."""
    # Left and right are alike; where front and back nearly are, too, a body is wider than deep. It is higher than deep.
    first, second, _ = sorted(range(3), key=lambda axis: float(unlike[axis]))
    both = unlike[second] < 1.5 * unlike[first] + 0.002
    across = second if both and extent[second] > extent[first] else first
    up_axis, deep_axis = sorted((axis for axis in range(3) if axis != across), key=lambda axis: -float(extent[axis]))
    solid = Solid.of(shape.vertices, shape.triangles, float(extent[up_axis]) / _COARSE).largest_piece()
    points = solid.points[:, [across, up_axis, deep_axis]]
    upward = _upward(points)
    ahead = _ahead(points * [1.0, upward, 1.0])
    up = ("+" if upward > 0 else "-") + "XYZ"[up_axis]
    usual = usual_forward(up)
    if not ahead and usual[1] == "XYZ"[deep_axis]:
        return up, usual, False
    return up, ("-" if ahead < 0 else "+") + "XYZ"[deep_axis], bool(ahead)


def _as_said(up: str, forward: str, up_said: str | None, forward_said: str | None) -> tuple[str, str]:
    """What was seen, but for what was said; what does not go together with that is as usual."""
    if up_said is not None and up_said != up:
        up, forward = up_said, usual_forward(up_said)
    elif up_said is None and forward_said is not None and forward_said[1] == up[1]:
        up = "+Z" if forward_said[1] == "Y" else "+Y"
    return up, forward_said or forward


def _told(unlike: float, name: str) -> tuple[Finding, ...]:
    if unlike < _UNLIKE:
        return ()
    message = f"its two sides are {100 * unlike:.0f} % of its height apart on average: each side is read by itself"
    return (Finding("no-symmetry", "warning", name, message, "Look at the places found, and correct them by hand"),)


def _upward(points: Floats) -> float:
    """1 if the second axis points up, -1 if it points down: legs part below, and arms are in the upper half."""
    low, high = points[:, 1].min(), points[:, 1].max()
    share = (points[:, 1] - low) / (high - low)
    middle = np.median(points[:, 0])
    cell = (high - low) / _COARSE

    def parted(start: float, stop: float) -> float:
        """In how much of a slab nothing is in the middle, with something on both sides of it."""
        level = np.round(share * _COARSE).astype(int)
        inside = (share >= start) & (share <= stop)
        rows = np.unique(level[inside])
        near = np.unique(level[inside & (np.abs(points[:, 0] - middle) < 1.2 * cell)])
        return float(np.mean(~np.isin(rows, near))) if len(rows) else 0.0

    legs = parted(0.02, 0.35) - parted(0.65, 0.98)
    if abs(legs) > 0.15:
        return 1.0 if legs > 0 else -1.0
    # No legs are seen: a robe is wider at the floor than a head.
    wide = [float(np.ptp(points[(share > a) & (share < b), 0])) for a, b in ((0.02, 0.12), (0.88, 0.98))]
    return 1.0 if wide[0] >= wide[1] else -1.0


def _ahead(points: Floats) -> float:
    """1 if the feet point along the third axis, -1 if against it, 0 if nothing tells."""
    low, high = points[:, 1].min(), points[:, 1].max()
    share = (points[:, 1] - low) / (high - low)
    feet, legs = points[share < 0.04], points[(share > 0.10) & (share < 0.30)]
    if not len(feet) or not len(legs):
        return 0.0
    shift = (0.5 * (feet[:, 2].min() + feet[:, 2].max()) - np.median(legs[:, 2])) / (high - low)
    return float(np.sign(shift)) if abs(shift) > 0.012 else 0.0
