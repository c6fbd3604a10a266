"""Bind a mesh anew: to another rest pose of its skeleton, so that it is drawn in that pose and moves from there.

Each vertex is carried to the new pose by the mean of its bones' turns and shifts, taken along screws (the logarithm of
rigid motions; Alexa 2002) and from the bone that holds it most. Unlike the mean of matrices this keeps volume at the
joints, and it is undone exactly by binding back.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from fairswap.model.arrays import Floats, Integers
from fairswap.model.caching import kept_with_its_argument
from fairswap.model.figure import Figure
from fairswap.model.mesh import Mesh, weight_on_bones
from fairswap.model.rotation import (
    angle_between,
    conjugate,
    matrix_from_quaternion,
    multiply,
    normalized,
    quaternion_from_matrix,
    rotate,
)
from fairswap.model.skeleton import Skeleton, WorldTransforms

# A bone is where the mesh was bound to it if it is no further off than this.
_BOUND_M, _BOUND_DEGREES = 0.001, 0.5
# Binds that differ by less are the same, rounded.
_SAME = 1e-6
# Bones were bound in a pose of this skeleton if no bone's length differs by more than this, of the skeleton's extent.
_ONE_SKELETON = 0.03


def bound_at_rest(mesh: Mesh, skeleton: Skeleton) -> bool:
    """Whether a mesh was bound in the rest pose of its skeleton, or in a pose of its own."""
    used = np.unique(mesh.joints[mesh.weights > 0])
    motions = (_rest_matrices(skeleton) @ mesh.bind_matrices)[used]
    apart = np.linalg.norm(motions[:, :3, :3] - np.eye(3), axis=(1, 2)) / np.sqrt(2.0)
    middle = np.array([mesh.vertices[np.any(mesh.joints == bone, axis=1)].mean(axis=0) for bone in used.tolist()])
    moved = np.einsum("bij,bj->bi", motions[:, :3, :3], middle) + motions[:, :3, 3] - middle
    return bool(np.degrees(apart).max() < _BOUND_DEGREES and np.linalg.norm(moved, axis=1).max() < _BOUND_M)


def rebound_mesh(mesh: Mesh, skeleton: Skeleton) -> Mesh:
    """The mesh bound to the rest pose of ``skeleton``: vertices, normals, tangents, morphs and bind matrices.

    Meshes that hang on one bone, without skin weights of their own, only go along and stay as they are.
    """
    if not mesh.skinned:
        return mesh
    world = _rest_matrices(skeleton)
    linear, shift = _blended(world @ mesh.bind_matrices, mesh.joints, mesh.weights)

    def turned(vectors: Floats | None) -> Floats | None:
        return None if vectors is None else np.einsum("nij,...nj->...ni", linear, vectors)

    tangents = mesh.tangents
    if tangents is not None:
        tangents = np.concatenate([np.asarray(turned(tangents[:, :3])), tangents[:, 3:]], axis=1)
    return replace(
        mesh,
        vertices=np.asarray(turned(mesh.vertices)) + shift,
        normals=np.asarray(turned(mesh.normals)),
        tangents=tangents,
        morph_deltas=turned(mesh.morph_deltas),
        morph_normals=turned(mesh.morph_normals),
        bind_matrices=_inverses(world),
    )


def as_bound(mesh: Mesh, world: Floats) -> Mesh:
    """The mesh as it is when it was bound in the pose ``world`` ``(bones, 4, 4)``: itself, or with its vertices blended
    into that pose as skin is."""
    binds: Floats = np.linalg.inv(world).astype(np.float64)
    used = np.flatnonzero(weight_on_bones(mesh, len(world)) > 0.0)
    if np.allclose(mesh.bind_matrices[used], binds[used], rtol=0.0, atol=_SAME):
        return mesh
    change = world @ mesh.bind_matrices
    blended = np.einsum("vk,vkij->vij", mesh.weights, change[mesh.joints])
    linear = blended[:, :3, :3]
    safe = np.where(np.abs(np.linalg.det(linear))[:, None, None] > 1e-18, linear, np.eye(3))
    normals = np.einsum("vji,vj->vi", np.linalg.inv(safe), mesh.normals)
    length = np.linalg.norm(normals, axis=1, keepdims=True)
    tangents = mesh.tangents
    if tangents is not None:
        along = normalized(np.einsum("vij,vj->vi", linear, tangents[:, :3]))
        tangents = np.concatenate([along, tangents[:, 3:]], axis=1)
    return replace(
        mesh,
        vertices=np.einsum("vij,vj->vi", linear, mesh.vertices) + blended[:, :3, 3],
        normals=normals / np.where(length > 0.0, length, 1.0),
        tangents=tangents,
        morph_deltas=None if mesh.morph_deltas is None else np.einsum("vij,mvj->mvi", linear, mesh.morph_deltas),
        morph_normals=None if mesh.morph_normals is None else np.einsum("vij,mvj->mvi", linear, mesh.morph_normals),
        bind_matrices=binds,
    )


def as_resting(mesh: Mesh, skeleton: Skeleton) -> Mesh:
    """The mesh as it looks at rest, bound there: itself, or with its vertices blended into that pose as skin is."""
    return as_bound(mesh, _rest_matrices(skeleton))


def inverse_rest_matrices(skeleton: Skeleton) -> Floats:
    """The bind matrices ``(bones, 4, 4)`` of a mesh that is bound at rest."""
    return _inverses(_rest_matrices(skeleton))


def inverse_matrices(world: WorldTransforms, frame: int = 0) -> Floats:
    """What brings each bone of a pose back to its own frame: the bind matrices ``(bones, 4, 4)`` of that pose."""
    return _inverses(_matrices(world.rotation_tracks[:, :, frame], world.position_tracks[:, :, frame]))


def bound_pose(figure: Figure) -> WorldTransforms | None:
    """The pose in which the meshes of a figure were bound to its bones: one frame; None if all bones are turned so at
    rest, or if it is not known (see :func:`binding`)."""
    bound = binding(figure)
    if bound is None:
        return None
    turned = np.degrees(angle_between(bound.rotations[0], figure.skeleton.rest.rotations[0]))
    return None if turned.max() < _BOUND_DEGREES else bound


def bound_as_it_rests(figure: Figure, bones: Sequence[int]) -> bool:
    """Whether skin was bound to some bones turned as they rest, and as far from the first of them; also if that is not
    known."""
    bound, rest = binding(figure), figure.skeleton.rest
    if bound is None:
        return True
    turned = np.degrees(angle_between(bound.rotations[0, bones], rest.rotations[0, bones]))
    places, resting = (world.positions[0, bones] - world.positions[0, bones[0]] for world in (bound, rest))
    return bool(turned.max() < _BOUND_DEGREES and np.linalg.norm(places - resting, axis=1).max() < _BOUND_M)


@kept_with_its_argument
def binding(figure: Figure) -> WorldTransforms | None:
    """The pose in which the meshes of a figure were bound to its bones, also if it rests so: one frame.

    None if the bones of its meshes were in no pose that this skeleton can take. Bones that hold no vertices stand as
    they do at rest to their parents, or, above all that do, to a bone that they carry.
    """
    skeleton = figure.skeleton
    turns, places = np.zeros((len(skeleton), 4)), np.zeros((len(skeleton), 3))
    bound = np.zeros(len(skeleton), dtype=bool)
    for mesh in sorted(figure.meshes, key=lambda mesh: -len(mesh.vertices)):
        held = np.zeros(len(skeleton), dtype=bool)
        held[mesh.joints[mesh.weights > 0]] = mesh.skinned
        held &= ~bound & (np.abs(np.linalg.det(mesh.bind_matrices[:, :3, :3])) > 1e-18)
        u, _, vt = np.linalg.svd(mesh.bind_matrices[held, :3, :3])
        turns[held] = quaternion_from_matrix((u @ vt).transpose(0, 2, 1))
        places[held] = -np.linalg.solve(mesh.bind_matrices[held, :3, :3], mesh.bind_matrices[held, :3, 3:])[:, :, 0]
        bound |= held
    if not bound.any():
        return None
    rest, known = skeleton.rest, bound.copy()
    # What no bone with skin carries goes with those that it carries itself; only then with roots, which rest.
    for roots in (False, True):
        for bone, parent in enumerate(skeleton.parents.tolist()):
            children = [] if roots else [child for child in skeleton.children[bone] if bound[child]]
            if known[bone]:
                continue
            if parent >= 0 and known[parent]:
                turns[bone] = multiply(turns[parent], skeleton.rest_rotations[bone])
                places[bone] = places[parent] + rotate(turns[parent], skeleton.rest_translations[bone])
            elif children:
                child = min(children, key=lambda child: float(np.linalg.norm(skeleton.rest_translations[child])))
                turns[bone] = multiply(turns[child], conjugate(skeleton.rest_rotations[child]))
                places[bone] = places[child] - rotate(turns[bone], skeleton.rest_translations[child])
            elif roots:
                turns[bone], places[bone] = rest.rotations[0, bone], rest.positions[0, bone]
            known[bone] = (parent >= 0 and known[parent]) or bool(children) or roots
    joined = bound & (skeleton.parents >= 0) & bound[skeleton.parents]
    offsets = np.linalg.norm(places[joined] - places[skeleton.parents[joined]], axis=1)
    lengths = np.linalg.norm(skeleton.rest_translations[joined], axis=1)
    if np.abs(offsets - lengths).max(initial=0.0) > _ONE_SKELETON * np.linalg.norm(np.ptp(rest.positions[0], axis=0)):
        return None
    return WorldTransforms(turns[:, :, None], places[:, :, None])


def _rest_matrices(skeleton: Skeleton) -> Floats:
    return _matrices(skeleton.rest.rotations[0], skeleton.rest.positions[0])


def _matrices(turns: Floats, places: Floats) -> Floats:
    world = np.zeros((len(turns), 4, 4))
    world[:, 3, 3] = 1.0
    world[:, :3, :3] = matrix_from_quaternion(turns)
    world[:, :3, 3] = places
    return world


def _blended(motions: Floats, joints: Integers, weights: Floats) -> tuple[Floats, Floats]:
    """Turn ``(n, 3, 3)`` and shift ``(n, 3)`` of each vertex from the motions ``(bones, 4, 4)`` of its bones.

    Bones that also stretch, against the pose they were bound in, are taken by their nearest turn.
    """
    rows = np.arange(len(joints))
    main = joints[rows, np.argmax(weights, axis=1)]
    # The same few pairs of bones meet at very many vertices: one logarithm for each pair.
    pairs = main[:, None] * len(motions) + joints
    pairs = np.where(weights > 0, pairs, main[:, None] * (len(motions) + 1))
    unique, place = np.unique(pairs, return_inverse=True)
    first, second = np.divmod(unique, len(motions))
    u, _, vt = np.linalg.svd(motions[:, :3, :3])
    rigid = motions.copy()
    rigid[:, :3, :3] = u @ vt
    screws = _logarithms(_inverses(rigid[first]) @ rigid[second])
    mean = np.einsum("nk,nkc->nc", weights, screws[place.reshape(joints.shape)])
    turn, shift = _exponentials(mean)
    base = rigid[main]
    out_shift = np.einsum("nij,nj->ni", base[:, :3, :3], shift) + base[:, :3, 3]
    return base[:, :3, :3] @ turn, out_shift


def _inverses(rigid: Floats) -> Floats:
    out = np.zeros_like(rigid)
    out[:, 3, 3] = 1.0
    out[:, :3, :3] = rigid[:, :3, :3].transpose(0, 2, 1)
    out[:, :3, 3] = -np.einsum("nij,nj->ni", out[:, :3, :3], rigid[:, :3, 3])
    return out


def _logarithms(rigid: Floats) -> Floats:
    """The screws ``(n, 6)`` of rigid motions: axis times angle, then the shift along the way (Murray et al. 1994)."""
    quaternion = quaternion_from_matrix(rigid[:, :3, :3])
    half = np.linalg.norm(quaternion[:, :3], axis=1)
    angle = 2.0 * np.arctan2(half, quaternion[:, 3])
    axis = quaternion[:, :3] / np.where(half > 0, half, 1.0)[:, None]
    turn = axis * angle[:, None]
    small = angle < 1e-6
    safe = np.where(small, 1.0, angle)
    # The inverse of the left Jacobian.
    factor = np.where(small, 1.0 / 12.0, (1.0 - 0.5 * safe / np.tan(0.5 * safe)) / safe**2)
    shift = rigid[:, :3, 3]
    first = np.cross(turn, shift)
    return np.concatenate([turn, shift - 0.5 * first + factor[:, None] * np.cross(turn, first)], axis=1)


def _exponentials(screws: Floats) -> tuple[Floats, Floats]:
    """The way back of :func:`_logarithms`: turns ``(n, 3, 3)`` and shifts ``(n, 3)``."""
    turn, along = screws[:, :3], screws[:, 3:]
    angle = np.linalg.norm(turn, axis=1)
    small = angle < 1e-6
    safe = np.where(small, 1.0, angle)
    half = np.where(small, 0.5, np.sin(0.5 * safe) / safe)
    quaternion = np.concatenate([turn * half[:, None], np.cos(0.5 * angle)[:, None]], axis=1)
    one = np.where(small, 0.5, (1.0 - np.cos(safe)) / safe**2)
    two = np.where(small, 1.0 / 6.0, (safe - np.sin(safe)) / safe**3)
    first = np.cross(turn, along)
    shift = along + one[:, None] * first + two[:, None] * np.cross(turn, first)
    return matrix_from_quaternion(quaternion), shift
