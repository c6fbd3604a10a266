"""Skin weights: each vertex begins on the bone that is nearest by the way inside the body; then they even out over the
surface as heat does (Baran and Popović 2007), each shell by itself, on a Laplacian that stands holes, double walls
and edges of three triangles (Sharp and Crane 2020).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fairswap.figures.rigging.shape import Shape
from fairswap.figures.rigging.skeletons import Bones
from fairswap.figures.rigging.solid import Solid, rows_used
from fairswap.model.arrays import Floats, Integers

# Influences of a vertex at most, and the least that counts.
MOST_INFLUENCES, _LEAST = 4, 0.01
# Shells no larger than this, in heights, are hard: buttons, buckles, glasses, eyes.
_HARD = 0.075
# What is worn is no further from the skin than this, in heights; from twice that on it is on its own.
_WORN = 0.03
# A mesh of more places is solved on a reduced one.
_MOST_SOLVED = 60_000


@dataclass(frozen=True, eq=False)
class Weighted:
    """Bones and weights of each vertex ``(n, 4)``; how many shells are hard, and how many wear what the body has."""

    joints: Integers
    weights: Floats
    hard: int
    worn: int


def weights_of(shape: Shape, solid: Solid, bones: Bones, hard_vertices: np.ndarray | None = None) -> Weighted:
    """Weights for every vertex; ``hard_vertices`` say what shall be rigid beside what is found to be."""
    places = np.zeros((int(shape.welded.max()) + 1, 3))
    places[shape.welded] = shape.vertices
    corners = shape.welded[shape.triangles]
    if len(places) > _MOST_SOLVED:
        table = _on_a_reduced_mesh(places, corners, solid, bones)
    else:
        table = _diffused(places, corners, solid, bones)
    shell = np.zeros(len(places), dtype=np.intp)
    shell[shape.welded] = shape.shell
    height = float(np.ptp(shape.used[:, 1]))
    table, worn = _worn_as_the_body(table, places, corners, shell, height)
    said = np.zeros(len(places), dtype=bool)
    if hard_vertices is not None:
        said[shape.welded[hard_vertices]] = True
    table, hard = _hardened(table, places, shell, said, height, bones)
    joints, weights = few_influences(table)
    return Weighted(joints[shape.welded], weights[shape.welded], hard, worn)


def few_influences(table: Floats) -> tuple[Integers, Floats]:
    """The largest influences of each row; all lose as much as the first that is left out, so that no weight jumps."""
    order = np.argsort(-table, axis=1, kind="stable")[:, : MOST_INFLUENCES + 1]
    weights = np.take_along_axis(table, order, axis=1)
    if weights.shape[1] > MOST_INFLUENCES:
        weights = weights[:, :MOST_INFLUENCES] - weights[:, MOST_INFLUENCES:]
        level = weights.sum(axis=1) < 1e-6  # five that are alike
        weights[level, 0] = 1.0
    weights[weights < _LEAST * weights.max(axis=1, keepdims=True)] = 0.0
    return order[:, :MOST_INFLUENCES], weights / weights.sum(axis=1, keepdims=True)


def segments_of(bones: Bones) -> tuple[Floats, Floats, Integers]:
    """The lines that hold the skin: starts, ends, and the bone of each. A root and end markers hold none."""
    skeleton, roles = bones.skeleton, bones.roles.bones
    places = skeleton.rest.positions[0]
    starts, ends, owners = [], [], []

    def add(bone: int, start: Floats, end: Floats) -> None:
        starts.append(start)
        ends.append(end)
        owners.append(bone)

    split = {role: sorted((f, b) for b, (r, f) in bones.roles.helpers.items() if r == role) for role in roles}
    for role, bone in roles.items():
        if role == "root":
            continue
        tip = bones.tips[bone]
        below = [child for child in skeleton.children[bone] if child not in skeleton.ends]
        base = role.rpartition("_")[0]
        if role == "hips" or base == "hand":  # a pelvis and a palm are as wide as what hangs on them
            joints = [child for child in below if child not in bones.roles.helpers]
            for child in joints:
                add(
                    bone,
                    places[bone],
                    places[bone] + (0.92 if base == "hand" else 0.75) * (places[child] - places[bone]),
                )
            if not joints:
                add(bone, places[bone], tip)
            continue
        start = places[bone]
        if base == "shoulder":  # its inner end is the breastbone's, which is the chest's
            start = start + 0.4 * (tip - start)
        for fraction, helper in split[role]:
            middle = places[bone] + 0.5 * fraction * (tip - places[bone]) if not fraction else places[helper]
            add(bone, start, middle)
            bone, start = helper, middle
        add(bone, start, tip)
    return np.array(starts), np.array(ends), np.array(owners)


def _nearest_bones(points: Floats, solid: Solid, bones: Bones) -> tuple[Integers, Floats]:
    """For each place the bone nearest by the way inside, and how long that is.

    Ways count from the skin of the ball that fits into the body around a bone's point: a belly belongs to the spine in
    its middle, not to the arm beside it.
    """
    from scipy.sparse import bmat, coo_matrix
    from scipy.sparse.csgraph import dijkstra

    owner_of = _bone_nodes(solid, bones)
    sources = np.array(sorted(owner_of))
    balls = solid.depth_m(sources)
    # One more node, from which all begin: the deeper a bone lies, the sooner.
    start = coo_matrix((balls.max() - balls + solid.cell_m, (np.zeros(len(sources), dtype=int), sources)),
                       shape=(1, len(solid)))  # fmt: skip
    graph = bmat([[solid.graph, None], [start, coo_matrix((1, 1))]]).tocsr()
    ways, before = dijkstra(graph, indices=len(solid), return_predecessors=True)
    # Whoever came from the first node is a bone's; all others follow those before them.
    origin = np.where(before == len(solid), np.arange(len(solid) + 1), before)
    origin[before < 0] = len(solid)
    for _ in range(int(np.ceil(np.log2(len(solid) + 1)))):
        further = origin[origin]
        if np.array_equal(further, origin):
            break
        origin = further
    owner, ball = np.zeros(len(solid), dtype=np.intp), np.zeros(len(solid))
    owner[sources], ball[sources] = [owner_of[node] for node in sources.tolist()], balls
    near = _nearest_known(solid, points, np.isfinite(ways[:-1]))
    first = origin[near]
    gap = np.linalg.norm(solid.points[near] - points, axis=1)
    return owner[first], ways[near] - balls.max() + ball[first] + gap


def _bone_nodes(solid: Solid, bones: Bones) -> dict[int, int]:
    """The points of a solid that lie on bones, each with its bone."""
    out: dict[int, int] = {}
    for start, end, owner in zip(*segments_of(bones), strict=True):
        count = max(2, int(np.linalg.norm(end - start) / solid.cell_m) + 1)
        line = start + np.linspace(0.0, 1.0, count)[:, None] * (end - start)
        for node in np.unique(solid.nearest(line)).tolist():
            out.setdefault(node, int(owner))
    return out


def _nearest_known(solid: Solid, points: Floats, known: np.ndarray) -> Integers:
    """The nearest of the points inside that a way leads to."""
    from scipy.spatial import cKDTree

    rows = np.flatnonzero(known)
    return np.asarray(rows[cKDTree(solid.points[rows]).query(points)[1]])


def _diffused(places: Floats, corners: Integers, solid: Solid, bones: Bones) -> Floats:
    """The weights ``(places, bones)`` in balance: heat comes from the nearest bone, and flows over the surface."""
    from robust_laplacian import mesh_laplacian
    from scipy.sparse import coo_matrix, diags
    from scipy.sparse.linalg import splu

    used = rows_used(corners, len(places))
    number = np.full(len(places), -1, dtype=np.intp)
    number[used] = np.arange(len(used))
    nearest, ways = _nearest_bones(places[used], solid, bones)
    laplacian, mass = mesh_laplacian(places[used], number[corners])
    heat = mass.diagonal() / np.maximum(ways, 0.5 * solid.cell_m) ** 2
    # Vertices of slivers have no area, and would have no heat.
    heat = np.maximum(heat, 1e-9 * heat.max())
    source = coo_matrix((heat, (np.arange(len(used)), nearest)), shape=(len(used), len(bones.skeleton))).tocsc()
    solved = splu((laplacian + diags(heat)).tocsc())
    out = np.zeros((len(places), len(bones.skeleton)))
    for bone in np.unique(nearest).tolist():
        out[used, bone] = solved.solve(source[:, [bone]].toarray().ravel())
    out = np.clip(out, 0.0, None)
    loose = out.sum(axis=1) <= 0.0
    if loose.any():
        out[loose, _nearest_bones(places[loose], solid, bones)[0]] = 1.0
    return np.asarray(out / out.sum(axis=1, keepdims=True))


def _on_a_reduced_mesh(places: Floats, corners: Integers, solid: Solid, bones: Bones) -> Floats:
    """The weights of a mesh that is too dense to be solved: of a reduced one, taken from its nearest places."""
    import fast_simplification
    from scipy.spatial import cKDTree

    target = min(len(corners), 2 * _MOST_SOLVED)
    coarse, faces = fast_simplification.simplify(
        places.astype(np.float32), corners.astype(np.int32), target_count=target, agg=5
    )
    coarse = np.asarray(coarse, dtype=np.float64)
    table = _diffused(coarse, np.asarray(faces, dtype=np.intp), solid, bones)
    apart, near = cKDTree(coarse).query(places, k=3)
    share = 1.0 / np.maximum(apart, 1e-6)
    share /= share.sum(axis=1, keepdims=True)
    return np.asarray(np.einsum("nk,nkb->nb", share, table[near]))


def _worn_as_the_body(
    table: Floats, places: Floats, corners: Integers, shell: Integers, height: float
) -> tuple[Floats, int]:
    """What is worn over the body takes its weights from there, the more the nearer it is; the body is the shell with
    the most area that reaches from the feet to the head."""
    areas = np.linalg.norm(
        np.cross(places[corners[:, 1]] - places[corners[:, 0]], places[corners[:, 2]] - places[corners[:, 0]]), axis=1
    )
    tall = _extents(places, shell)[:, 1]
    size = np.bincount(shell[corners[:, 0]], areas, len(tall))
    body = int(np.argmax(size * (tall > 0.5 * height)))
    others = np.flatnonzero((np.arange(len(size)) != body) & (tall > _HARD * height))
    if not len(others) or not (tall[body] > 0.5 * height):
        return table, 0
    out = table.copy()
    rows = np.flatnonzero(np.isin(shell, others))
    taken, apart = _from_surface(places[rows], places, corners[shell[corners[:, 0]] == body], table)
    share = np.clip(2.0 - apart / (_WORN * height), 0.0, 1.0)[:, None]
    out[rows] = share * taken + (1.0 - share) * table[rows]
    return out, int((np.bincount(shell[rows], share[:, 0] > 0.5, len(size)) > 0).sum())


def _extents(places: Floats, shell: Integers) -> Floats:
    """How large each shell is, ``(shells, 3)``."""
    count = int(shell.max()) + 1
    low, high = np.full((count, 3), np.inf), np.full((count, 3), -np.inf)
    np.minimum.at(low, shell, places)
    np.maximum.at(high, shell, places)
    return np.where(np.isfinite(low), high - low, 0.0)


def _from_surface(points: Floats, places: Floats, corners: Integers, table: Floats) -> tuple[Floats, Floats]:
    """What a table of the places says at the nearest of some samples of a surface, and how far off these are."""
    from scipy.spatial import cKDTree

    used = rows_used(corners, len(places))
    middles = places[corners].mean(axis=1)
    samples = np.concatenate([places[used], middles])
    apart, near = cKDTree(samples).query(points, k=3)
    share = 1.0 / np.maximum(apart, 1e-6) ** 2
    share /= share.sum(axis=1, keepdims=True)
    values = np.concatenate([table[used], table[corners].mean(axis=1)])
    return np.asarray(np.einsum("nk,nkb->nb", share, values[near])), np.asarray(apart[:, 0])


def _hardened(
    table: Floats, places: Floats, shell: Integers, said: np.ndarray, height: float, bones: Bones
) -> tuple[Floats, int]:
    """Small shells, and what was said to be hard, go as one piece: on the bone that holds most of each."""
    extent = _extents(places, shell)
    count = len(extent)
    sizes = np.bincount(shell, minlength=count)
    small = (extent.max(axis=1) < _HARD * height) & (sizes < 0.5 * len(places))
    asked = np.bincount(shell, said, count) > 0.5 * sizes
    # Lashes, teeth, glasses, a helmet: what is all on the head is as hard as the skull.
    head = bones.roles.bones.get("head", -1)
    mean: Floats = np.stack([np.bincount(shell, table[:, bone], count) for bone in range(table.shape[1])], axis=1)
    mean = mean / np.maximum(sizes, 1)[:, None]
    capped = (mean[:, head] > 0.9) & (sizes < 0.5 * len(places)) if head >= 0 else np.zeros(count, dtype=bool)
    hard = (small | asked | capped) & (sizes > 0)
    out = table.copy()
    rows = hard[shell]
    out[rows] = 0.0
    out[rows, np.argmax(mean, axis=1)[shell[rows]]] = 1.0
    return out, int(hard.sum())
