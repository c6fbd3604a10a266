"""Bring a figure's skeleton to a platform's: bones named, put in and left out, chains of another count, axes turned.

The body keeps its proportions. Each new bone takes its motion, in the world, from the old bone of its role (or from a
place on a chain); weights of bones that go are handed to the bone that carries them.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from fairswap.bones.profile import BoneProfile
from fairswap.bones.roles import RoleMap, next_roles, role_order, side_of
from fairswap.clip import Clip, Poses
from fairswap.figure import Figure, Mesh
from fairswap.kernels import Floats, Integers
from fairswap.platform.rules import FigureRules
from fairswap.rotation import IDENTITY, conjugate, multiply, quaternion_between, quaternion_from_matrix, rotate, slerp
from fairswap.skeleton import Skeleton, WorldTransforms
from fairswap.skinning import inverse_rest_matrices

_LIMBS = {
    "shoulder": ("spine",), "upper_arm": ("shoulder", "spine"), "lower_arm": ("upper_arm",), "hand": ("lower_arm",),
    "upper_leg": ("hips",), "lower_leg": ("upper_leg",), "foot": ("lower_leg",), "toes": ("foot",),
}  # fmt: skip
_NEW_TOES, _SOFT_M = 0.62, 0.03


@dataclass(frozen=True)
class NewBone:
    """One bone of the new skeleton: its name, the role or old bone it stands for, its parent, and what moves it.

    ``first``, ``second`` and ``share`` are the old bones between which its motion lies; of a bone that is put in, the
    one that carries it.
    """

    name: str
    key: str
    parent: int
    first: int
    second: int
    share: float
    place: tuple[float, float, float]


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
    bones = _planned(figure, roles, profile, rules)
    places = np.array([bone.place for bone in bones])
    parents = np.array([bone.parent for bone in bones], dtype=np.intp)
    world = _axes(bones, places, parents, old, rules.axes)
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


def same_bones(figure: Figure, made: Rebuilt) -> bool:
    """Whether rebuilding changed nothing: the same bones, called and turned alike."""
    a, b = figure.skeleton, made.figure.skeleton
    return (
        a.names == b.names
        and np.array_equal(a.parents, b.parents)
        and np.abs(a.rest_translations - b.rest_translations).max() < 1e-5
        and np.abs(np.einsum("bi,bi->b", a.rest_rotations, b.rest_rotations)).min() > 1.0 - 1e-9
    )


def carried_over(clip: Clip, made: Rebuilt) -> Clip:
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
        away = first if bone.share == 0.0 else slerp(first, _away(world, rest, bone.second), bone.share)
        turned[number] = multiply(away, new_rest[number]).T
    local = np.empty_like(turned)
    for number, parent in enumerate(new.parents.tolist()):
        rotation = turned[number].T
        local[number] = (rotation if parent < 0 else multiply(conjugate(turned[parent].T), rotation)).T
    moved, tracks = _places(clip, made, world, turned)
    poses = Poses(
        new, local, np.array(moved, dtype=np.intp), np.stack(tracks) if tracks else None, clip.poses.morph_tracks
    )
    keyed = frozenset(i for i, bone in enumerate(made.bones) if bone.first in clip.keyed or bone.second in clip.keyed)
    return replace(clip, poses=poses, keyed=keyed, origin=None, kept=None)


def _places(clip: Clip, made: Rebuilt, world: WorldTransforms, turned: Floats) -> tuple[list[int], list[Floats]]:
    """Tracks of the bones that have a place of their own in the clip: the hips, and what is moved besides."""
    new = made.figure.skeleton
    translated = set(clip.poses.translated_bones.tolist())
    moved, tracks = [], []
    where = np.empty((len(new), 3, clip.frames))
    for number, bone in enumerate(made.bones):
        parent = int(new.parents[number])
        rest = new.rest_translations[number][:, None]
        stands = rest if parent < 0 else where[parent] + rotate(turned[parent].T, rest[:, 0]).T
        where[number] = stands
        old = bone.first
        own = bone.share == 0.0 and old == bone.second and bone.key != "root"
        if own and (old in translated or (bone.key == "hips" and parent < 0)):
            where[number] = world.position_tracks[old]
            step = (
                where[number]
                if parent < 0
                else rotate(conjugate(turned[parent].T), (where[number] - where[parent]).T).T
            )
            moved.append(number)
            tracks.append(np.ascontiguousarray(np.broadcast_to(step, (3, clip.frames))))
    return moved, tracks


def _away(world: WorldTransforms, rest: Floats, bone: int) -> Floats:
    return multiply(world.rotation_tracks[bone].T, conjugate(rest[bone]))


def _planned(figure: Figure, roles: RoleMap, profile: BoneProfile, rules: FigureRules) -> list[NewBone]:
    """The new bones, parents first."""
    places = figure.skeleton.rest.positions[0]
    wanted = _wanted_roles(figure, roles, profile, rules)
    rows: list[NewBone] = []
    index: dict[str, int] = {}

    def add(key: str, name: str, parent: str, source: tuple[int, int, float], place: Floats) -> None:
        index[key] = len(rows)
        at = (float(place[0]), float(place[1]), float(place[2]))
        rows.append(NewBone(name, key, index.get(parent, -1) if parent else -1, *source, at))

    prefix = profile.prefixes[0].replace("*", "") if profile.prefixes else ""
    chains = {kind: _chain_places(roles, places, kind) for kind in ("spine", "neck")}
    for role in sorted(wanted, key=role_order):
        name = prefix + profile.roles[role][0] if role in profile.roles else prefix + role
        parent = _parent_role(role, wanted)
        kind = role.rpartition("_")[0]
        if kind in chains and chains[kind][0]:
            own = [r for r in wanted if r.startswith(f"{kind}_")]
            add(role, name, parent, *_on_chain(chains[kind], int(role.rpartition("_")[2]) - 1, len(own)))
        elif role in roles.bones:
            bone = roles.bones[role]
            add(role, name, parent, (bone, bone, 0.0), places[bone])
        else:
            add(role, name, parent, *_put_in(role, roles, places))
    _add_others(figure, roles, profile, rules, prefix, add, index, places)
    return _depth_first(rows)


def _add_others(figure, roles, profile, rules, prefix, add, index, places) -> None:  # type: ignore[no-untyped-def]
    """Bones without a role that may stay: extras, helpers, face bones."""
    from fairswap.face.bones import face_bones
    from fairswap.face.geometry import head_frame

    old = figure.skeleton
    key_of = {bone: role for role, bone in roles.bones.items() if role in index}
    chain_end = {}
    for kind in ("spine", "neck"):
        for role in roles.chain(kind):
            if role not in index:
                last = max((r for r in index if r.startswith(f"{kind}_")), key=role_order, default="hips")
                chain_end[roles.bones[role]] = last
    face = set(face_bones(old, roles, head_frame(figure, roles)).values())
    helpers = set(roles.helpers) | {
        bone for bone, name in enumerate(old.names) if "twist" in name.lower() and bone not in roles.bones.values()
    }
    for bone, name in enumerate(old.names):
        if bone in roles.bones.values() or bone in old.ends:
            continue
        if bone in face:
            stays = rules.face_bones == "all"
        elif bone in helpers:
            stays = rules.helpers == "allowed"
        else:
            stays = rules.extra == "allowed"
        above = int(old.parents[bone])
        while above >= 0 and above not in key_of and above not in chain_end:
            above = int(old.parents[above])
        if not stays or (above < 0 and "hips" not in index):
            continue
        parent = key_of.get(above) or chain_end.get(above) or ("root" if "root" in index else "hips")
        if above < 0 and int(old.parents[bone]) < 0:
            continue  # a node above everything: a root that nobody asked for
        bare = name
        for glob in profile.prefixes:
            bare = bare.removeprefix(glob.replace("*", ""))
        bare = bare.rpartition(":")[2] if prefix else bare
        add(f"bone {bone}", prefix + bare, parent, (bone, bone, 0.0), places[bone])
        key_of[bone] = f"bone {bone}"


def _wanted_roles(figure: Figure, roles: RoleMap, profile: BoneProfile, rules: FigureRules) -> set[str]:
    """The roles that the new skeleton has: what the figure has and the profile knows, and what is required."""
    wanted = {role for role in roles.bones if role in profile.roles and not role.startswith(("spine_", "neck_"))}
    wanted |= {role for role in rules.required if not role.startswith(("spine_", "neck_"))}
    for kind, span in (("spine", rules.spine), ("neck", rules.neck)):
        have = len(roles.chain(kind))
        least = max(
            [
                1 if kind == "spine" else 0,
                *(int(r.rpartition("_")[2]) for r in rules.required if r.startswith(f"{kind}_")),
            ]
        )
        count = max(have, least)
        if span is not None:
            count = min(max(count, span[0]), span[1])
        wanted |= {f"{kind}_{i + 1}" for i in range(count)}
    wanted -= set(rules.forbidden)
    if rules.root == "required":
        wanted.add("root")
    elif rules.root == "forbidden":
        wanted.discard("root")
    if rules.face_bones == "none":
        wanted -= {"jaw", "eye_left", "eye_right"}
    elif rules.face_bones == "eyes":
        wanted -= {"jaw"} - set(rules.required)
    if rules.bones_most is not None:
        # Fingers go first, from their tips, if there are too many bones.
        spare = sorted((r for r in wanted if _is_finger(r) and r not in rules.required), key=_finger_rank)
        while len(wanted) > rules.bones_most and spare:
            wanted.discard(spare.pop())
    return wanted


def _is_finger(role: str) -> bool:
    return role.startswith(("thumb", "index", "middle", "ring", "little"))


def _finger_rank(role: str) -> tuple[int, int]:
    parts = ("proximal", "intermediate", "metacarpal", "distal")
    fingers = ("thumb", "index", "middle", "ring", "little")
    return (
        next(i for i, p in enumerate(parts) if p in role),
        next(i for i, f in enumerate(fingers) if role.startswith(f)),
    )


def _parent_role(role: str, wanted: set[str]) -> str:
    """The role that a bone hangs on, among those that are there."""
    if role == "root":
        return ""
    if role == "hips":
        return "root" if "root" in wanted else ""
    side = side_of(role)
    base = role.removesuffix(f"_{side}")
    top = {
        kind: max((r for r in wanted if r.startswith(f"{kind}_")), key=role_order, default="")
        for kind in ("spine", "neck")
    }
    if base.startswith(("spine_", "neck_")):
        kind, _, number = base.rpartition("_")
        if int(number) > 1:
            return f"{kind}_{int(number) - 1}"
        return "hips" if kind == "spine" else top["spine"] or "hips"
    if base == "head":
        return top["neck"] or top["spine"] or "hips"
    if base in ("jaw", "eye") or role.startswith("eye_"):
        return "head"
    if base in _LIMBS:
        for above in _LIMBS[base]:
            found = top["spine"] if above == "spine" else above if above == "hips" else f"{above}_{side}"
            if found in wanted:
                return found
    finger, _, part = base.partition("_")
    parts = ("metacarpal", "proximal", "intermediate", "distal")
    for before in reversed(parts[: parts.index(part)] if part in parts else ()):
        if f"{finger}_{before}_{side}" in wanted:
            return f"{finger}_{before}_{side}"
    return f"hand_{side}" if f"hand_{side}" in wanted else "hips"


def _chain_places(roles: RoleMap, places: Floats, kind: str) -> tuple[list[int], Floats, Floats]:
    """The old bones of a chain, where each stands along it (0 to 1, and 1 its end), and their places with the end's."""
    own = [roles.bones[role] for role in roles.chain(kind)]
    after = [roles.bones[r] for r in (*roles.chain("neck"), "head") if r in roles.bones and roles.bones[r] not in own]
    if not own:
        return [], np.zeros(0), np.zeros((0, 3))
    points = np.concatenate([places[own], places[after[:1]] if after else places[own[-1:]] + [0.0, 0.05, 0.0]])
    length = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(points, axis=0), axis=1))])
    return own, length / max(float(length[-1]), 1e-9), points


def _on_chain(
    chain: tuple[list[int], Floats, Floats], number: int, count: int
) -> tuple[tuple[int, int, float], Floats]:
    """The motion and the place of bone ``number`` of ``count`` on a chain of another count; ends exact."""
    own, along, points = chain
    if count == len(own):
        return (own[number], own[number], 0.0), points[number]
    start = number / count
    place = np.array([np.interp(start, along, points[:, axis]) for axis in range(3)])
    # Its motion: the first bone as the first, the last as the last, evenly between.
    at = number / max(count - 1, 1) * (len(own) - 1) if count > 1 else float(len(own) - 1)
    low = min(int(at), len(own) - 1)
    high = min(low + 1, len(own) - 1)
    share = at - low
    return ((own[low], own[high], share) if share > 1e-9 else (own[low], own[low], 0.0)), place


def _put_in(role: str, roles: RoleMap, places: Floats) -> tuple[tuple[int, int, float], Floats]:
    """The carrier and the place of a bone that the figure lacks."""
    side = side_of(role)
    base = role.removesuffix(f"_{side}")

    def of(name: str) -> int:
        return roles.bones[name]

    hips, head = of("hips"), of("head")
    last = of(roles.chain("spine")[-1])
    if base == "root":
        return (hips, hips, 0.0), np.zeros(3)
    if base == "shoulder":
        arm = places[of(f"upper_arm_{side}")]
        return (last, last, 0.0), np.array([0.2 * arm[0] + 0.8 * places[last][0], arm[1], arm[2]])
    if base == "toes":
        foot = of(f"foot_{side}")
        height = places[foot][1]
        return (foot, foot, 0.0), places[foot] + [0.0, -0.72 * height, 1.4 * height]
    if base.startswith("neck"):
        return (last, head, 0.5), 0.35 * places[last] + 0.65 * places[head]
    size = max(float(places[head][1] - places[last][1]), 0.1)
    if base == "jaw":
        return (head, head, 0.0), places[head] + [0.0, 0.1 * size, 0.1 * size]
    if base == "eye":
        across = 0.2 * size if side == "left" else -0.2 * size
        return (head, head, 0.0), places[head] + [across, 0.6 * size, 0.4 * size]
    hand = of(f"hand_{side}") if f"hand_{side}" in roles.bones else hips
    return (hand, hand, 0.0), places[hand]


def _depth_first(rows: list[NewBone]) -> list[NewBone]:
    """In the order in which files list bones, each followed by all that hangs on it."""
    children: dict[int, list[int]] = {}
    for number, row in enumerate(rows):
        children.setdefault(row.parent, []).append(number)
    order: list[int] = []
    stack = list(reversed(children.get(-1, [])))
    while stack:
        number = stack.pop()
        order.append(number)
        stack += reversed(children.get(number, []))
    place = {number: i for i, number in enumerate(order)}
    return [replace(rows[n], parent=place.get(rows[n].parent, -1)) for n in order]


def _axes(bones: list[NewBone], places: Floats, parents: Integers, old: Skeleton, axes: str) -> Floats:
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
        step = np.array([0.0, 1.0, 0.0])
    elif bone.key.startswith(("eye", "jaw", "toes", "foot")):
        step = np.array([0.0, 0.0, 1.0])
    else:
        step = places[number] - places[max(int(parents[number]), 0)]
    length = float(np.linalg.norm(step))
    return step / length if length > 1e-6 else np.array([0.0, 1.0, 0.0])


def _carriers(old: Skeleton, bones: list[NewBone]) -> list[int]:
    """For each old bone the new bone that takes its weights: its own, or that of the nearest bone above."""
    own: dict[int, int] = {}
    for number, bone in enumerate(bones):
        if bone.first == bone.second and bone.share == 0.0 and bone.key != "root":
            own.setdefault(bone.first, number)
    # Old bones of a chain of another count: the new bone whose motion is nearest to theirs.
    for number, bone in enumerate(bones):
        if bone.share > 0.0:
            own.setdefault(bone.first if bone.share < 0.5 else bone.second, number)
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
    vertices = figure.rest_vertices[figure.meshes.index(mesh)]
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
        vertices=vertices, bind_matrices=inverse_rest_matrices(skeleton), origin=None,
    )  # fmt: skip


def _along_chain(vertices: Floats, places: Floats) -> Floats:
    """How much of a chain's weight each of its bones takes of each vertex: by its height between their middles."""
    if len(places) == 1:
        return np.ones((len(vertices), 1))
    middles = 0.5 * (places[:, 1] + np.append(places[1:, 1], 2 * places[-1, 1] - places[-2, 1]))
    at = np.interp(vertices[:, 1], middles, np.arange(len(places)))
    return np.clip(1.0 - np.abs(at[:, None] - np.arange(len(places))), 0.0, 1.0)
