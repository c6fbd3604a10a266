"""Where skin tears and folds in motion: how far each triangle is stretched or squeezed, and the volume."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fairswap.bones.roles import RoleMap, part_of
from fairswap.model.arrays import Floats, Value
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.kernels import dot
from fairswap.model.mesh import deformed_vertices

# Twice as long is torn, a quarter of its area is folded: what is seen at a glance.
TORN, FOLDED = 2.0, 0.25
# Triangles smaller than this, of the mean, say nothing about the skin.
_SPECK = 0.02


@dataclass(frozen=True, eq=False)
class Folds(Value):
    """How the skin of a figure stands a clip.

    Attributes
    ----------
    stretch : tuple of (triangles,) arrays
        The longest that each triangle becomes, as a factor of its rest; one array for each mesh.
    squeeze : tuple of (triangles,) arrays
        The least area that each keeps, as a share of its rest.
    volume : (frames,) array
        The volume inside of all closed meshes, as a share of that at rest; 1 if there are none.
    times_s : (frames,) array
        The instants that were looked at.
    parts : mapping of body part to (torn, folded)
        Shares of its area that are torn or folded at some instant.
    """

    stretch: tuple[Floats, ...]
    squeeze: tuple[Floats, ...]
    volume: Floats
    times_s: Floats
    parts: dict[str, tuple[float, float]]
    torn: float
    folded: float

    @property
    def worst_volume(self) -> float:
        """The volume at the instant when it is furthest from that at rest, as a share of it."""
        return float(self.volume[np.argmax(np.abs(self.volume - 1.0))])


def folds_of(figure: Figure, roles: RoleMap, clip: Clip, times_s: Floats | None = None) -> Folds:
    """Measure the skin of a figure at instants of a clip, every sixth of a second if none are given.

    The stretch of a triangle is the larger singular value of the map from its rest (Sorkine et al. 2002).
    """
    if times_s is None:
        times_s = np.arange(0.0, clip.duration_s + 1e-9, 1.0 / 6.0)
    poses = clip.at(times_s)
    world = poses.world()
    stretch, squeeze = [], []
    volume = np.zeros(len(times_s))
    at_rest = 0.0
    sums: dict[str, Floats] = {}
    for number, (mesh, rest) in enumerate(zip(figure.meshes, figure.rest_vertices, strict=True)):
        inverse, area = _rest_frames(rest, mesh.triangles)
        counted = area > _SPECK * area.mean()
        longest, least = np.ones(len(area)), np.ones(len(area))
        closed = _is_closed(rest, mesh.triangles)
        at_rest += _volume(*_edges(rest, mesh.triangles)) if closed else 0.0
        for frame in range(len(times_s)):
            edges = _edges(deformed_vertices(mesh, world, frame, poses, number), mesh.triangles)
            first, now = _stretched(*edges[1:], inverse)
            longest, least = np.maximum(longest, first), np.minimum(least, now / np.maximum(area, 1e-18))
            volume[frame] += _volume(*edges) if closed else 0.0
        longest[~counted], least[~counted] = 1.0, 1.0
        stretch.append(longest)
        squeeze.append(least)
        for part, rows in _rows_by_part(mesh.joints, mesh.weights, mesh.triangles, roles).items():
            own = area[rows]
            sums[part] = sums.get(part, np.zeros(3)) + [
                own.sum(), own[longest[rows] > TORN].sum(), own[least[rows] < FOLDED].sum()
            ]  # fmt: skip
    total = sum(sums.values(), np.zeros(3))
    parts = {part: (float(row[1] / row[0]), float(row[2] / row[0])) for part, row in sums.items() if row[0] > 0}
    whole = total / max(total[0], 1e-18)
    return Folds(
        tuple(stretch), tuple(squeeze), volume / at_rest if at_rest > 0 else np.ones(len(times_s)), times_s, parts,
        float(whole[1]), float(whole[2]),
    )  # fmt: skip


def _edges(vertices: Floats, triangles: np.ndarray) -> tuple[Floats, Floats, Floats]:
    """The first corner of each triangle, from the middle of the mesh, and its edges from there, ``(3, m)`` each."""
    across = np.ascontiguousarray((vertices - vertices.mean(axis=0)).T)
    a, b, c = (across.take(triangles[:, corner], axis=1) for corner in range(3))
    return a, b - a, c - a


def _rest_frames(vertices: Floats, triangles: np.ndarray) -> tuple[Floats, Floats]:
    """The inverse of each triangle's edges in its own plane, its upper half ``(3, m)``, and its area."""
    _, u, v = _edges(vertices, triangles)
    long = np.sqrt(dot(u, u))
    along = dot(u, v) / np.maximum(long, 1e-12)
    high = np.sqrt(np.maximum(dot(v, v) - along**2, 1e-18))
    long = np.maximum(long, 1e-9)
    return np.array([1.0 / long, -along / (long * high), 1.0 / high]), 0.5 * long * high


def _stretched(u: Floats, v: Floats, inverse: Floats) -> tuple[Floats, Floats]:
    """The larger singular value of the map from rest, and the area, of each triangle.

    Both follow from the lengths of its edges and the angle between them.
    """
    uu, uv, vv = dot(u, u), dot(u, v), dot(v, v)
    i, j, k = inverse
    p, q, r = uu * i**2, uu * j**2 + 2.0 * uv * j * k + vv * k**2, i * (uu * j + uv * k)
    area = 0.5 * np.sqrt(np.maximum(uu * vv - uv**2, 0.0))
    return np.sqrt(0.5 * (p + q) + np.sqrt(0.25 * (p - q) ** 2 + r**2)), area


def _volume(a: Floats, u: Floats, v: Floats) -> float:
    return float(dot(a, np.cross(u, v, axis=0)).sum() / 6.0)


def _is_closed(vertices: Floats, triangles: np.ndarray) -> bool:
    """Whether the area vectors of a mesh cancel out, as they do where it has no open side."""
    _, u, v = _edges(vertices, triangles)
    areas = np.cross(u, v, axis=0)
    total = np.sqrt(dot(areas, areas)).sum()
    return bool(total > 0.0 and np.linalg.norm(areas.sum(axis=1)) < 0.01 * total)


def _rows_by_part(joints: np.ndarray, weights: Floats, triangles: np.ndarray, roles: RoleMap) -> dict[str, np.ndarray]:
    """The triangles of each body part, by the bone that holds most of their first corner."""
    main = joints[np.arange(len(joints)), np.argmax(weights, axis=1)][triangles[:, 0]]
    names = {bone: part_of(role) for role, bone in roles.bones.items()}
    return {
        part: np.flatnonzero(np.isin(main, [bone for bone, name in names.items() if name == part]))
        for part in dict.fromkeys(names.values())
    }
