"""Bring a figure's skeleton to a platform's: bones named, put in and left out, chains of another count, axes turned.

The body keeps its proportions. Each new bone takes its motion, in the world, from the old bone of its role (or from a
place on a chain); weights of bones that go are handed to the bone that carries them.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from fairswap.bones.profile import BoneProfile
from fairswap.bones.roles import RoleMap, next_roles
from fairswap.model.arrays import Floats, Integers
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.mesh import Mesh
from fairswap.model.poses import PoseBuilder
from fairswap.model.rotation import (
    IDENTITY,
    conjugate,
    multiply,
    normalized,
    quaternion_between,
    quaternion_from_matrix,
    rotate,
    slerp,
)
from fairswap.model.skeleton import Skeleton, WorldTransforms
from fairswap.model.skinning import as_resting, inverse_rest_matrices
from fairswap.model.space import UP
from fairswap.platform.arriving import arrive
from fairswap.platform.planning import NewBone, planned_bones
from fairswap.platform.rules import FigureRules
from fairswap.pose.reference import is_finger, tip_of_role

_SOFT_M = 0.03

# A joint that is further from where it was, metres, is brought back there.
_AWAY_M = 1e-3


@dataclass(frozen=True, eq=False)
class Rebuilt:
    """A figure on its new skeleton; ``added`` and ``merged`` say which bones came and went."""

    figure: Figure
    bones: tuple[NewBone, ...]
    old: Skeleton
    roles: RoleMap
    added: tuple[str, ...]
    merged: tuple[str, ...]
    had_root: bool


def rebuilt(figure: Figure, roles: RoleMap, profile: BoneProfile, rules: FigureRules) -> Rebuilt:
    """The figure with the bones that a platform wants.

    The meshes must be bound at rest. Morphs stay as they are.
    """
    old = figure.skeleton
    bones = planned_bones(figure, roles, profile, rules)
    places = np.array([bone.place for bone in bones])
    parents = np.array([bone.parent for bone in bones], dtype=np.intp)
    world = _axes(bones, places, parents, old, roles, rules.axes)
    above = np.where(parents < 0, 0, parents)
    inverse = conjugate(world[above])
    local = np.where(parents[:, None] < 0, world, multiply(inverse, world))
    steps = np.where(parents[:, None] < 0, places, rotate(inverse, places - places[above]))
    skeleton = Skeleton(tuple(bone.name for bone in bones), parents, local, steps)
    carriers = _carriers(old, bones)
    meshes = tuple(_reskinned(mesh, figure, bones, carriers, skeleton, roles) for mesh in figure.meshes)
    new_roles = RoleMap({b.key: i for i, b in enumerate(bones) if not b.key.startswith("bone ")}, profile.name)
    added = tuple(bone.name for bone in bones if bone.key not in roles.bones and not bone.key.startswith("bone "))
    used = {bone.first for bone in bones} | {bone.second for bone in bones}
    merged = tuple(name for i, name in enumerate(old.names) if i not in used and i not in old.ends)
    return Rebuilt(
        replace(figure, skeleton=skeleton, meshes=meshes, source=None, known_roles={}), tuple(bones), old, new_roles,
        added, merged, "root" in roles.bones,
    )  # fmt: skip


def moved_to_rebuilt(clip: Clip, made: Rebuilt) -> Clip:
    """A clip of the old skeleton on the new one: every bone turns in the world as what it stands for."""
    old, new = made.old, made.figure.skeleton
    world = clip.world()
    rest = old.rest.rotations[0]
    turned = np.empty((len(new), 4, clip.frames))
    new_rest = new.rest.rotations[0]
    for number, bone in enumerate(made.bones):
        if bone.key == "root" and not made.had_root:
            turned[number] = new_rest[number][:, None]
            continue
        first = _away(world, rest, bone.first)
        away = first if bone.fraction == 0.0 else slerp(first, _away(world, rest, bone.second), bone.fraction)
        turned[number] = multiply(away, new_rest[number]).T
    if made.merged or any(bone.fraction > 0.0 for bone in made.bones):
        arrive(made.bones, old, new, world, turned)
    local = np.empty_like(turned)
    for number, parent in enumerate(new.parents.tolist()):
        rotation = turned[number].T
        local[number] = (rotation if parent < 0 else multiply(conjugate(turned[parent].T), rotation)).T
    poses = PoseBuilder(
        new, local, _translations(clip, made, world, turned), clip.poses.morph_tracks, clip.poses.beside
    ).poses()
    keyed = frozenset(i for i, bone in enumerate(made.bones) if bone.first in clip.keyed or bone.second in clip.keyed)
    return clip.with_poses(poses, keyed=keyed)


def _translations(clip: Clip, made: Rebuilt, world: WorldTransforms, turned: Floats) -> dict[int, Floats]:
    """Tracks of the bones that have a position of their own in the clip: the hips, and what is moved besides."""
    new = made.figure.skeleton
    translated, elsewhere = set(clip.poses.translated_bones.tolist()), _hung_elsewhere(made)
    moved: dict[int, Floats] = {}
    where = np.empty((len(new), 3, clip.frames))
    for number, bone in enumerate(made.bones):
        parent = int(new.parents[number])
        rest = new.rest_translations[number][:, None]
        where[number] = rest if parent < 0 else where[parent] + rotate(turned[parent].T, rest[:, 0]).T
        old = bone.first
        # A bone that was put in turns as the one it hangs on, and has a place of its own.
        own = bone.fraction == 0.0 and old == bone.second and bone.key != "root" and bone.name not in made.added
        left = own and parent >= 0 and number in elsewhere
        left = left and np.abs(where[number] - world.position_tracks[old]).max() > _AWAY_M
        if left or (own and (old in translated or (bone.key == "hips" and parent < 0))):
            where[number] = world.position_tracks[old]
            away = where[number] if parent < 0 else where[number] - where[parent]
            moved[number] = away.copy() if parent < 0 else rotate(conjugate(turned[parent].T), away.T).T
    return moved


def _hung_elsewhere(made: Rebuilt) -> set[int]:
    """New bones that do not hang any more on a bone that carried them: arms on a neck, a foot on a second shin."""
    new = made.figure.skeleton
    number = {bone.first: at for at, bone in enumerate(made.bones) if bone.first == bone.second}
    found = set()
    for at, bone in enumerate(made.bones):
        above, now = made.old.with_ancestors([bone.first])[:-1], new.with_ancestors([at])
        if any(other in number and number[other] not in now for other in above):
            found.add(at)
    return found


def _away(world: WorldTransforms, rest: Floats, bone: int) -> Floats:
    return multiply(world.rotation_tracks[bone].T, conjugate(rest[bone]))


def _axes(bones: list[NewBone], places: Floats, parents: Integers, old: Skeleton, roles: RoleMap, axes: str) -> Floats:
    """World rotations at rest: as the old bones', or with the wanted axis along each bone."""
    out = np.tile(IDENTITY, (len(bones), 1))
    index = {bone.key: i for i, bone in enumerate(bones)}
    rest = old.rest.rotations[0]
    for number, bone in enumerate(bones):
        if axes == "any" or bone.key.startswith("bone "):
            made = bone.key == "root" and bone.first == bone.second
            out[number] = IDENTITY if made and bone.place == (0.0, 0.0, 0.0) else rest[bone.first]
            continue
        if bone.key == "root":
            continue
        along = _along(number, bone, places, parents, index)
        if is_finger(bone.key) and number not in parents:
            along = _fingertip(bone, old, roles, along)
        if axes == "+Y":
            out[number] = quaternion_between([0.0, 1.0, 0.0], along)
        else:
            side = np.cross(along, [0.0, 0.0, 1.0] if abs(along[2]) < 0.9 else [0.0, 1.0, 0.0])
            side /= np.linalg.norm(side)
            out[number] = quaternion_from_matrix(np.stack([along, side, np.cross(along, side)], axis=1))
    return out


def _along(number: int, bone: NewBone, places: Floats, parents: Integers, index: Mapping[str, int]) -> Floats:
    """The direction a bone points to: where its limb goes on, else on from its parent."""
    onward = ["spine_1"] if bone.key == "hips" else next_roles(bone.key)
    found = next((index[role] for role in onward if role in index), None)
    if found is None:
        below = np.flatnonzero(parents == number).tolist()
        found = below[0] if below else None
    if found is not None and np.linalg.norm(places[found] - places[number]) > 1e-6:
        step = places[found] - places[number]
    elif bone.key == "head":
        step = UP
    elif bone.key.startswith(("eye", "jaw", "toes", "foot")):
        step = np.array([0.0, 0.0, 1.0])
    else:
        step = places[number] - places[max(int(parents[number]), 0)]
    length = float(np.linalg.norm(step))
    return step / length if length > 1e-6 else UP


def _fingertip(bone: NewBone, old: Skeleton, roles: RoleMap, otherwise: Floats) -> Floats:
    """Where the last bone of a finger points: where the old one did, of which what told it may be gone."""
    rest = old.rest
    tip = tip_of_role(bone.key, bone.first, old, roles, rest.rotations[0], rest.positions[0], "it")
    return otherwise if tip is None else np.asarray(normalized(tip - rest.positions[0, bone.first]))


def _carriers(old: Skeleton, bones: list[NewBone]) -> list[int]:
    """For each old bone the new bone that takes its weights: its own, or that of the nearest bone above."""
    own: dict[int, int] = {}
    for number, bone in enumerate(bones):
        if bone.first == bone.second and bone.fraction == 0.0 and bone.key != "root":
            own.setdefault(bone.first, number)
    # Old bones of a chain of another count: the new bone whose motion is nearest to theirs.
    for number, bone in enumerate(bones):
        if bone.fraction > 0.0:
            own.setdefault(bone.first if bone.fraction < 0.5 else bone.second, number)
    root = next((i for i, bone in enumerate(bones) if bone.key == "hips"), 0)
    out = []
    for start in range(len(old)):
        at = start
        while at >= 0 and at not in own:
            at = int(old.parents[at])
        out.append(own[at] if at >= 0 else root)
    return out


def _reskinned(
    mesh: Mesh, figure: Figure, bones: list[NewBone], carriers: list[int], skeleton: Skeleton, roles: RoleMap
) -> Mesh:
    """The mesh on the new bones: weights handed on, chains shared by where each vertex stands, toes by their place."""
    count = len(mesh.vertices)
    old = np.zeros((count, len(figure.skeleton)))
    np.add.at(old, (np.arange(count)[:, None], mesh.joints), mesh.weights)
    new = np.zeros((count, len(bones)))
    places = np.array([bone.place for bone in bones])
    chained: set[int] = set()
    mesh = as_resting(mesh, figure.skeleton)
    vertices = mesh.vertices
    for kind in ("spine", "neck"):
        before = [roles.bones[role] for role in roles.chain(kind)]
        after = [i for i, bone in enumerate(bones) if bone.key.startswith(f"{kind}_")]
        if len(after) > len(before) > 0:
            chained |= set(before)
            new[:, after] += old[:, before].sum(axis=1)[:, None] * _along_chain(vertices, places[after])
    for gone in np.flatnonzero(old.any(axis=0)).tolist():
        if gone not in chained:
            new[:, carriers[gone]] += old[:, gone]
    for number, bone in enumerate(bones):
        if bone.key.startswith("toes") and bone.key not in roles.bones:
            foot = next(i for i, other in enumerate(bones) if other.key == bone.key.replace("toes", "foot"))
            ahead = np.clip((vertices[:, 2] - bone.place[2]) / _SOFT_M + 0.5, 0.0, 1.0)
            new[:, number] = new[:, foot] * ahead
            new[:, foot] *= 1.0 - ahead
    width = max(int((new > 1e-6).sum(axis=1).max()), 1)
    order = np.argsort(-new, axis=1, kind="stable")[:, :width]
    weights = np.take_along_axis(new, order, axis=1)
    weights[weights < 1e-6] = 0.0
    return replace(
        mesh, joints=order.astype(np.intp), weights=weights / weights.sum(axis=1, keepdims=True),
        bind_matrices=inverse_rest_matrices(skeleton), origin=None,
    )  # fmt: skip


def _along_chain(vertices: Floats, places: Floats) -> Floats:
    """How much of a chain's weight each of its bones takes of each vertex: by its height between their middles."""
    if len(places) == 1:
        return np.ones((len(vertices), 1))
    middles = 0.5 * (places[:, 1] + np.append(places[1:, 1], 2 * places[-1, 1] - places[-2, 1]))
    at = np.interp(vertices[:, 1], middles, np.arange(len(places)))
    return np.clip(1.0 - np.abs(at[:, None] - np.arange(len(places))), 0.0, 1.0)
