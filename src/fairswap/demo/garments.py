"""Clothes cut for Osric, as files of their own: a long coat with a skirt that swings, and a pair of boots.

Each comes as a tailor would hand it over: only with those of his bones that it needs, under names of its own.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from fairswap.demo.anatomy import Body
from fairswap.demo.sculpt import Shape, surface_of_shapes
from fairswap.demo.wardrobe import BUILDS, shapes_of
from fairswap.measure.nearness import Surface
from fairswap.model.arrays import Floats, Integers
from fairswap.model.figure import Figure
from fairswap.model.mesh import Material, Mesh, vertex_normals
from fairswap.model.rotation import conjugate, rotate
from fairswap.model.skeleton import Skeleton
from fairswap.model.skinning import inverse_rest_matrices, rebound_mesh

_EASE_M, _CELL_M = 0.014, 0.008
_COAT, _SOLE = (0.09, 0.16, 0.30), (0.16, 0.09, 0.05)
# From here on the skirt swings by itself, over so much height (metres).
_SKIRT_M = 0.12


def garments_of(body: Body, figure: Figure) -> Iterator[tuple[str, Figure]]:
    """File names and garments for a member of the troupe; ``figure`` is the body's own, bound in the T."""
    skin = figure.meshes[0]
    yield "coat", _garment("coat", body, skin, figure.skeleton, *_coat(body), _COAT, skirt_below="hips")
    yield "boots", _garment("boots", body, skin, figure.skeleton, *_boots(body), _SOLE)


def _coat(body: Body) -> tuple[Floats, Integers]:
    """The body's own coat, wider, and down to the knees: open at the neck, the cuffs and the hem."""
    m, build = body.measures, BUILDS[body.name]
    cloth = [shape for shape in shapes_of(body) if shape.color in ("coat", "trousers") and "leg" not in shape.group]
    shapes = [_wider(shape, _EASE_M) for shape in cloth]
    knee = float(body.places[body.index["lower_leg_left"]][1])
    hem = knee + 0.05
    wide, deep = build.hips[0] + 0.03, build.hips[1] / build.hips[0]
    shapes.append(
        Shape((0, m.hips, 0), (0, hem - 0.12, 0), wide, wide * 1.22, ("hips",), "coat", squash=(1.0, 1.0, deep * 1.08),
              blend=0.05)
    )  # fmt: skip
    vertices, faces = surface_of_shapes(shapes, 5200, _CELL_M)
    cuff = m.shoulder_width + m.upper_arm + m.lower_arm - 0.045
    for normal, offset in (((0, -1, 0), -hem), ((1, 0, 0), cuff), ((-1, 0, 0), cuff)):
        vertices, faces = _cut(vertices, faces, np.array(normal, dtype=float), offset)
    neck = np.linalg.norm((vertices - [0.0, m.neck - 0.005, -0.012])[:, [0, 2]], axis=1)
    inside = (neck < build.neck * 1.75) & (vertices[:, 1] > m.shoulder)
    return _only(vertices, faces[~inside[faces].all(axis=1)])


def _boots(body: Body) -> tuple[Floats, Integers]:
    """Both boots, up to the middle of the calf."""
    own = [shape for shape in shapes_of(body) if shape.color == "boot" and "leg" in shape.group]
    ankle, knee = (float(body.places[body.index[bone]][1]) for bone in ("foot_left", "lower_leg_left"))
    top = ankle + 0.48 * (knee - ankle)
    left = [_wider(shape, 0.011) for shape in own if "left" in shape.group]
    calf = body.places[body.index["foot_left"]]
    shaft = Shape((calf[0], ankle, -0.006), (calf[0], top + 0.05, -0.008), 0.062, 0.078, ("lower_leg_left",), "boot",
                  "leg_left", 0.02)  # fmt: skip
    vertices, faces = surface_of_shapes([*left, shaft], 1500, 0.005)
    vertices, faces = _cut(vertices, faces, np.array([0.0, 1.0, 0.0]), top)
    vertices[:, 1] = np.maximum(vertices[:, 1], -0.010)
    count = len(vertices)
    both = np.concatenate([vertices, vertices * [-1.0, 1.0, 1.0]])
    return both, np.concatenate([faces, faces[:, ::-1] + count])


def _wider(shape: Shape, ease_m: float) -> Shape:
    return replace(shape, radius_a=shape.radius_a + ease_m, radius_b=shape.radius_b + ease_m)


def _cut(vertices: Floats, faces: Integers, normal: Floats, offset: float) -> tuple[Floats, Integers]:
    """What is not beyond a plane; the edge is drawn onto it."""
    beyond = vertices @ normal - offset
    kept = faces[(beyond[faces] < 0.0).any(axis=1)]
    vertices = vertices - np.maximum(beyond, 0.0)[:, None] * normal
    return _only(vertices, kept)


def _only(vertices: Floats, faces: Integers) -> tuple[Floats, Integers]:
    used = np.unique(faces)
    number = np.full(len(vertices), -1)
    number[used] = np.arange(len(used))
    return vertices[used], number[faces]


def _garment(
    name: str, body: Body, skin: Mesh, skeleton: Skeleton, vertices: Floats, faces: Integers,
    color: tuple[float, float, float], skirt_below: str = "",
) -> Figure:  # fmt: skip
    """A garment with weights from the skin below it, bound in the T to those bones that it needs."""
    surface = Surface(skin.vertices, skin.triangles)
    table = np.zeros((len(skin.vertices), len(skeleton)))
    np.add.at(table, (np.arange(len(table))[:, None], skin.joints), skin.weights)
    weights = _evened(surface.taken(table, surface.nearest(vertices)), faces)
    needed = weights.sum(axis=0) > 0.02 * len(vertices) / len(skeleton)
    needed[0] = True
    for bone in np.flatnonzero(needed)[::-1].tolist():
        needed[skeleton.parents[bone]] |= skeleton.parents[bone] >= 0
    bones = np.flatnonzero(needed)
    number = {bone: i for i, bone in enumerate(bones.tolist())}
    weights = weights[:, bones] / weights[:, bones].sum(axis=1, keepdims=True)
    names = [f"{name}:{skeleton.names[bone].partition(':')[2]}" for bone in bones.tolist()]
    parents = [number.get(int(skeleton.parents[bone]), -1) for bone in bones.tolist()]
    rotations, steps = skeleton.rest_rotations[bones], skeleton.rest_translations[bones]
    if skirt_below:
        extra = _skirt(body, vertices)
        hips = number[body.index[skirt_below]]
        turn, place = skeleton.rest.rotations[0, bones[hips]], skeleton.rest.positions[0, bones[hips]]
        for side, (at, share) in extra.items():
            names.append(f"{name}:Skirt {side}")
            parents.append(hips)
            rotations = np.concatenate([rotations, conjugate(turn)[None]])
            steps = np.concatenate([steps, rotate(conjugate(turn), at - place)[None]])
            weights = np.concatenate([weights * (1.0 - share)[:, None], share[:, None]], axis=1)
    small = Skeleton(tuple(names), np.array(parents), rotations, steps)
    order = np.argsort(-weights, axis=1, kind="stable")[:, :4]
    four = np.take_along_axis(weights, order, axis=1)
    binds = np.concatenate([skin.bind_matrices[bones], inverse_rest_matrices(small)[len(bones) :]])
    material = Material(slice(0, len(faces)), np.array(color), two_sided=True)
    mesh = Mesh(
        name, vertices, vertex_normals(vertices, faces), faces, order, four / four.sum(axis=1, keepdims=True), binds,
        materials=(material,),
    )  # fmt: skip
    return Figure(name, small, (rebound_mesh(mesh, small),))


def _skirt(body: Body, vertices: Floats) -> dict[str, tuple[Floats, Floats]]:
    """The bones of a skirt, where they stand and how much of each vertex they move: behind, left and right."""
    m = body.measures
    below = np.clip((m.hip_joint - 0.02 - vertices[:, 1]) / _SKIRT_M, 0.0, 1.0)
    behind = np.clip(0.5 - vertices[:, 2] / 0.12, 0.0, 1.0)
    out = {}
    for side, sign in (("Port", 1.0), ("Starboard", -1.0)):
        own = np.clip(0.5 + sign * vertices[:, 0] / 0.12, 0.0, 1.0)
        out[side] = (np.array([sign * 0.09, m.hip_joint, -0.10]), 0.5 * below * behind * own)
    return out


def _evened(weights: Floats, faces: Integers, times: int = 6) -> Floats:
    from scipy.sparse import coo_matrix, diags

    pairs = np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]])
    pairs = np.concatenate([pairs, pairs[:, ::-1]])
    graph = coo_matrix((np.ones(len(pairs)), pairs.T), shape=(len(weights),) * 2).tocsr()
    mean = diags(1.0 / np.maximum(np.asarray(graph.sum(axis=1)).ravel(), 1.0)) @ graph
    for _ in range(times):
        weights = 0.5 * weights + 0.5 * (mean @ weights)
    return weights
