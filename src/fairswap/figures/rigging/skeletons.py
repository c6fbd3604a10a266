"""The skeleton that a mesh gets: that of a bone profile, or of another figure, sized to the places of its joints."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from fairswap.bones.profile import BoneProfile
from fairswap.bones.roles import FINGERS, SIDES, RoleMap, next_roles, role_above, role_order, side_of
from fairswap.errors import Finding
from fairswap.model.arrays import Floats
from fairswap.model.rotation import IDENTITY, conjugate, multiply, quaternion_between, rotate
from fairswap.model.skeleton import Skeleton
from fairswap.pose.rigged import RiggedFigure

# Where the lowest bone of the spine begins, as a share of the way from the hips to the neck; how far an S it is behind
# that line at most, in shares of the same.
_FIRST_SPINE, _SPINE_BEHIND = 0.06, 0.03
_FACE = ("jaw", "eye_left", "eye_right")


@dataclass(frozen=True, eq=False)
class Bones:
    """A skeleton with the roles of its bones, where each bone ends ``(bones, 3)``, and what is worth telling of it."""

    skeleton: Skeleton
    roles: RoleMap
    tips: Floats
    findings: tuple[Finding, ...]


@dataclass(frozen=True, eq=False)
class _Row:
    """One bone to be made: its name, the row above it, its role, place and world rotation."""

    name: str
    parent: int
    role: str
    place: Floats
    rotation: Floats
    helper: tuple[str, float] | None = None
    end: bool = False


def chain_places(places: Mapping[str, Floats], spine: int, neck: int) -> dict[str, Floats]:
    """The places with as many bones of spine and neck as are wanted, between hips, neck and head."""
    out = {role: at for role, at in places.items() if not role.startswith(("spine_", "neck_"))}
    hips, base, head = places["hips"], places["neck_1"], places["head"]
    long = float(np.linalg.norm(base - hips))
    for number in range(spine):
        share = _FIRST_SPINE + (1.0 - _FIRST_SPINE) * number / max(spine, 1)
        behind = _SPINE_BEHIND * long * np.sin(np.pi * share)
        out[f"spine_{number + 1}"] = places.get(f"spine_{number + 1}", hips + share * (base - hips) - [0, 0, behind])
    for number in range(neck):
        out[f"neck_{number + 1}"] = (
            places.get(f"neck_{number + 1}", base) if number == 0 else base + (head - base) * number / neck
        )
    return out


def bones_of_profile(profile: BoneProfile, places: Mapping[str, Floats], ends: bool, name: str) -> Bones:
    """Bones called as a profile calls them, unturned: in its rest pose no bone is rotated."""
    wanted = list(profile.roles)
    spine = sum(role.startswith("spine_") for role in wanted)
    neck = sum(role.startswith("neck_") for role in wanted)
    at = chain_places(places, spine, neck) | {"root": np.array([places["hips"][0], 0.0, 0.0])}
    made = sorted((role for role in wanted if role in at), key=role_order)
    rows: list[_Row] = []
    number: dict[str, int] = {}
    for role in _parents_first(made):
        above = role_above(role, number)
        number[role] = len(rows)
        rows.append(_Row(_name_of(profile, role), number.get(above, -1), role, at[role], IDENTITY))
    if ends:
        rows += [
            _Row(f"{_name_of(profile, role)} end", number[role], "", at[tip], IDENTITY, end=True)
            for role, tip in _last_roles(number, at)
        ]
    return _made(rows, at, _left_out(wanted, made, name), profile.name)


def bones_of_figure(rigged: RiggedFigure, places: Mapping[str, Floats], ends: bool, name: str) -> Bones:
    """The bones of another figure, their names, order and axes kept: each turned from the T to lie along the mesh.

    Helpers and end markers go along; bones without a role, as those of a coat or a face, are left out.
    """
    skeleton, roles = rigged.skeleton, rigged.roles
    role_of = {bone: role for role, bone in roles.bones.items()}
    at = chain_places(places, len(roles.chain("spine")), len(roles.chain("neck")))
    at |= {"root": np.array([places["hips"][0], 0.0, 0.0])}
    turns = rigged.reference.rotations
    t_places = rigged.reference_world.positions[0]
    rows: list[_Row] = []
    number: dict[int, int] = {}
    turned: dict[int, Floats] = {}
    made = []
    for bone in range(len(skeleton)):
        role = role_of.get(bone, "")
        helper = roles.helpers.get(bone)
        parent = int(skeleton.parents[bone])
        while parent >= 0 and parent not in number:
            parent = int(skeleton.parents[parent])
        end = bone in skeleton.ends
        if role and role not in at:
            continue
        if role:
            turned[bone] = _turn(role, at, roles, t_places, turned.get(parent, IDENTITY))
            place = at[role]
            made.append(role)
        elif helper is not None and helper[0] in at and parent in number:
            start, stop = at[helper[0]], _end_of(helper[0], at)
            place, turned[bone] = start + helper[1] * (stop - start), turned[roles.bones[helper[0]]]
        elif end and ends and parent in number and role_of.get(parent, "") in at:
            place, turned[bone] = _end_of(role_of[parent], at), turned[parent]
        else:
            continue
        number[bone] = len(rows)
        rotation = multiply(turned[bone], turns[bone])
        rows.append(_Row(skeleton.names[bone], number.get(parent, -1), role, place, rotation, helper, end))
    extra = len(skeleton) - len(rows) - sum(role not in at for role in role_of.values())
    findings = list(_left_out(list(roles.bones), made, name))
    if extra > 0:
        message = f"{extra} bones of {rigged.figure.name!r} without a role (cloth, face, ends) are left out"
        findings.append(Finding("bones-left-out", "note", name, message))
    return _made(rows, at, tuple(findings), rigged.roles.profile)


def _turn(role: str, at: Mapping[str, Floats], roles: RoleMap, t_places: Floats, above: Floats) -> Floats:
    """How a bone is turned away from the T: limbs to where the mesh has them, the rest as what holds it."""
    side = side_of(role)
    base = role.removesuffix(f"_{side}")
    if not side or base in ("shoulder", "foot", "toes"):
        return IDENTITY
    onward = next((later for later in next_roles(role) if later in roles.bones and later in at), None)
    if onward is None:
        return above
    before = t_places[roles.bones[onward]] - t_places[roles.bones[role]]
    return quaternion_between(before, at[onward] - at[role])


def _made(rows: list[_Row], at: Mapping[str, Floats], findings: tuple[Finding, ...], profile: str) -> Bones:
    parents = np.array([row.parent for row in rows])
    world = np.array([row.rotation for row in rows])
    places = np.array([row.place for row in rows])
    local, offsets = world.copy(), places.copy()
    inner = parents >= 0
    local[inner] = multiply(conjugate(world[parents[inner]]), world[inner])
    offsets[inner] = rotate(conjugate(world[parents[inner]]), places[inner] - places[parents[inner]])
    ends = frozenset(i for i, row in enumerate(rows) if row.end)
    skeleton = Skeleton(tuple(row.name for row in rows), parents, local, offsets, ends)
    bones = {row.role: i for i, row in enumerate(rows) if row.role}
    helpers = {i: row.helper for i, row in enumerate(rows) if row.helper is not None}
    tips = np.array([_end_of(row.role, at) if row.role else row.place for row in rows])
    return Bones(skeleton, RoleMap(bones, profile, helpers=helpers), tips, findings)


def _end_of(role: str, at: Mapping[str, Floats]) -> Floats:
    """Where the bone of a role ends: at the next joint, or the tip of the limb; if neither is known, where it is."""
    side = side_of(role)
    base = role.removesuffix(f"_{side}")
    finger = base.rpartition("_")[0]
    tips = {"head": "crown", "hand": f"hand_tip_{side}", "toes": f"toe_tip_{side}", "foot": f"toe_tip_{side}"}
    onward = [later for later in next_roles(role) if later in at]
    if onward:
        return at[onward[0]]
    if base in tips and tips[base] in at:
        return at[tips[base]]
    if finger in (*FINGERS, "thumb") and f"{finger}_tip_{side}" in at:
        return at[f"{finger}_tip_{side}"]
    return at[role]


def _last_roles(number: Mapping[str, int], at: Mapping[str, Floats]) -> list[tuple[str, str]]:
    """The roles that end a limb, with the place of their tips."""
    rows = [("head", "crown")]
    for side in SIDES:
        rows.append((f"toes_{side}" if f"toes_{side}" in number else f"foot_{side}", f"toe_tip_{side}"))
        for finger in ("thumb", *FINGERS):
            own = [role for role in number if role.startswith(f"{finger}_") and role.endswith(side)]
            rows += [(max(own, key=role_order), f"{finger}_tip_{side}")] if own else []
        if not any(role.endswith(f"distal_{side}") or role.endswith(f"proximal_{side}") for role in number):
            rows.append((f"hand_{side}", f"hand_tip_{side}"))
    return [(role, tip) for role, tip in rows if role in number and tip in at]


def _parents_first(roles: list[str]) -> list[str]:
    """Trunk, then each limb from the body outward."""
    trunk = [role for role in roles if not side_of(role) or role.startswith("eye_")]
    return [*trunk, *(role for role in roles if role not in trunk)]


def _name_of(profile: BoneProfile, role: str) -> str:
    return profile.roles[role][0].rpartition("/")[2] if role in profile.roles else role


def _left_out(wanted: list[str], made: list[str], name: str) -> tuple[Finding, ...]:
    left = [role for role in wanted if role not in made]
    out = []
    fingers = [role for role in left if role.startswith(("thumb", *FINGERS))]
    face = [role for role in left if role in _FACE]
    rest = [role for role in left if role not in fingers and role not in face]
    if fingers:
        message = f"{len(fingers)} finger bones are left out: the hands of the mesh have no such fingers"
        out.append(Finding("fingers-left-out", "note", name, message))
    if face:
        message = f"{', '.join(face)}: left out, since no shape tells where they are"
        out.append(Finding("face-bones-left-out", "note", name, message))
    if rest:
        message = f"no place is known for {', '.join(rest)}: left out"
        out.append(Finding("bones-left-out", "warning", name, message, "Give their places by hand"))
    return tuple(out)
