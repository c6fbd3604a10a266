"""Bodies and garments standing in the common T."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np

from fairswap.bones.roles import next_roles
from fairswap.figures.dressing.pairing import nearest_roles
from fairswap.figures.dressing.worn import at_open_edges, of_the_body
from fairswap.figures.dressing.wrapping import Form
from fairswap.figures.rigging.shape import Shape
from fairswap.measure.nearness import Surface
from fairswap.model.arrays import Floats
from fairswap.model.mesh import Mesh, deformed_vertices, shaped_at_rest
from fairswap.model.rotation import IDENTITY, conjugate, multiply, normalized, quaternion_between
from fairswap.model.skeleton import Skeleton, WorldTransforms, local_rotations, world_of_pose
from fairswap.model.skinning import rebound_mesh
from fairswap.pose.rigged import RiggedFigure
from fairswap.pose.setting import rest_skeleton

# Eyes, teeth and the like are no skin that clothes lie on: pieces smaller than this, in heights.
_SMALL = 0.075


def in_t(rigged: RiggedFigure, skeleton: Skeleton) -> WorldTransforms:
    """The T of a figure, in which its limbs are apart, for a skeleton that has more bones behind those of the figure:
    those rest."""
    reference = rigged.reference.rotations
    local = skeleton.rest_rotations.copy()
    local[: len(reference)] = local_rotations(rigged.skeleton, reference)
    world = world_of_pose(skeleton, local)
    shift = rigged.reference.hips - world.positions[0, rigged.roles.bones["hips"]]
    return WorldTransforms(world.rotation_tracks, world.position_tracks + shift[None, :, None])


def form_of(rigged: RiggedFigure, as_it_moves: bool) -> Form:
    """A figure in the T: its skin as its weights move it there, or (of one whose clothes go over) with its volume."""
    world = rigged.reference_world
    if as_it_moves:
        meshes = rigged.figure.meshes
        vertices = [deformed_vertices(mesh, world, 0) for mesh in meshes]
    else:
        skeleton = rest_skeleton(rigged, rigged.reference.rotations)
        meshes = tuple(in_pose(shaped_at_rest(mesh), skeleton) for mesh in rigged.figure.meshes)
        vertices = [mesh.vertices for mesh in meshes]
        world = skeleton.rest
    joints = {role: world.positions[0, bone] for role, bone in rigged.roles.bones.items()}
    if not meshes:
        return Form(joints)
    firsts = np.cumsum([0, *(len(mesh.vertices) for mesh in meshes)])
    points = np.concatenate(vertices)
    triangles = np.concatenate([mesh.triangles + first for mesh, first in zip(meshes, firsts, strict=False)])
    shape = Shape.of(points, triangles)
    low, high = (np.full((int(shape.shell.max()) + 1, 3), side) for side in (np.inf, -np.inf))
    np.minimum.at(low, shape.shell, points)
    np.maximum.at(high, shape.shell, points)
    large = (high - low).max(axis=1) > _SMALL * float(np.ptp(points[:, 1]))
    skin = np.concatenate([of_the_body(mesh, rigged.skeleton, rigged.roles) for mesh in meshes])
    kept = triangles[skin & large[shape.shell[triangles[:, 0]]]]
    roles = tuple(joints)
    shares = np.concatenate([shares_of(mesh, rigged.skeleton, rigged.roles.bones, roles) for mesh in meshes])
    body = Surface(points, triangles, at_open_edges(points, triangles) | ~skin)
    return Form(joints, Surface(points, kept if len(kept) else triangles), body, shares, roles)


def shares_of(mesh: Mesh, skeleton: Skeleton, bones: Mapping[str, int], roles: Sequence[str]) -> Floats:
    """How much of each vertex goes with each of the roles ``(n, roles)``: what has none goes with what carries it."""
    number = {role: i for i, role in enumerate(roles)}
    column = np.array([number.get(role, 0) for role in nearest_roles(skeleton, bones)])
    out = np.zeros((len(mesh.vertices), len(roles)))
    np.add.at(out, (np.arange(len(out))[:, None], column[mesh.joints]), mesh.weights)
    return out


def in_pose(mesh: Mesh, skeleton: Skeleton) -> Mesh:
    """A mesh bound in another pose of its skeleton, also one that only hangs on a bone."""
    return rebound_mesh(mesh if mesh.skinned else replace(mesh, skinned=True), skeleton)


def skeleton_in_t(skeleton: Skeleton, roles: Mapping[str, int], like: RiggedFigure | None) -> Skeleton:
    """A garment's skeleton in the T: turned as the bones of ``like`` are, where that is known; else limb by limb until
    arms are level and legs upright."""
    turns = _turns_of(like, roles) if like is not None else _turns_by_limbs(skeleton, roles)
    carriers = nearest_roles(skeleton, roles)
    rest = skeleton.rest
    world = np.array([
        multiply(turns.get(carrier, IDENTITY), rest.rotations[0, bone]) for bone, carrier in enumerate(carriers)
    ])  # fmt: skip
    out = replace(skeleton, rest_rotations=local_rotations(skeleton, world))
    if like is None or not roles:
        return out
    first = min(roles, key=lambda role: roles[role])
    shift = like.reference_world.positions[0, like.roles.bones[first]] - out.rest.positions[0, roles[first]]
    places = out.rest_translations.copy()
    places[skeleton.parents < 0] += shift
    return replace(out, rest_translations=places)


def _turns_of(like: RiggedFigure, roles: Mapping[str, int]) -> dict[str, Floats]:
    rest, reference = like.skeleton.rest.rotations[0], like.reference.rotations
    both = {role: like.roles.bones[role] for role in roles if role in like.roles.bones}
    return {role: multiply(reference[bone], conjugate(rest[bone])) for role, bone in both.items()}


def _turns_by_limbs(skeleton: Skeleton, roles: Mapping[str, int]) -> dict[str, Floats]:
    places = skeleton.rest.positions[0]
    out: dict[str, Floats] = {}
    for side, sign in (("left", 1.0), ("right", -1.0)):
        for limb, way in ((("upper_arm", "lower_arm", "hand"), [sign, 0.0, 0.0]),
                          (("upper_leg", "lower_leg"), [0.0, -1.0, 0.0])):  # fmt: skip
            for part in limb:
                role = f"{part}_{side}"
                end = next((roles[name] for name in next_roles(role) if name in roles), None)
                if role in roles and end is not None:
                    along = normalized(places[end] - places[roles[role]])
                    out[role] = quaternion_between(along, np.array(way))
                elif role in roles:  # the last that is there goes on as the one before it
                    before = limb[limb.index(part) - 1] if limb.index(part) else part
                    out[role] = out.get(f"{before}_{side}", IDENTITY)
    return out
