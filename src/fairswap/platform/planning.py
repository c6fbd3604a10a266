"""Which bones a figure shall have on a platform: those of its roles, those that are put in, and those that may stay."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace

import numpy as np

from fairswap.bones.profile import BoneProfile
from fairswap.bones.roles import RoleMap, role_above, role_order, side_of
from fairswap.face.neutral import bones_of_face
from fairswap.model.arrays import Floats
from fairswap.model.figure import Figure
from fairswap.model.words import meaning_of
from fairswap.platform.rules import FACE_ROLES, FigureRules, kept_of_face


@dataclass(frozen=True)
class NewBone:
    """One bone of the new skeleton: its name, the role or old bone it stands for, its parent, and what moves it.

    ``first``, ``second``, ``fraction`` are the old bones between which its motion lies; of a bone that is put in, the
    one that carries it.
    """

    name: str
    key: str
    parent: int
    first: int
    second: int
    fraction: float
    place: tuple[float, float, float]


def planned_bones(figure: Figure, roles: RoleMap, profile: BoneProfile, rules: FigureRules) -> list[NewBone]:
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
        parent = role_above(role, wanted)
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


def _add_others(
    figure: Figure,
    roles: RoleMap,
    profile: BoneProfile,
    rules: FigureRules,
    prefix: str,
    add: Callable[..., None],
    index: Mapping[str, int],
    places: Floats,
) -> None:
    """Bones without a role that may stay: extras, helpers, face bones."""
    old = figure.skeleton
    key_of = {bone: role for role, bone in roles.bones.items() if role in index}
    chain_end = {}
    for kind in ("spine", "neck"):
        for role in roles.chain(kind):
            if role not in index:
                last = max((r for r in index if r.startswith(f"{kind}_")), key=role_order, default="hips")
                chain_end[roles.bones[role]] = last
    stays = _others(figure, roles, rules)
    for bone in _within(rules.max_bones, len(index), stays, figure):
        name, above = old.names[bone], int(old.parents[bone])
        while above >= 0 and above not in key_of and above not in chain_end:
            above = int(old.parents[above])
        if above < 0 and "hips" not in index:
            continue
        parent = key_of.get(above) or chain_end.get(above) or ("root" if "root" in index else "hips")
        bare = name
        for glob in profile.prefixes:
            bare = bare.removeprefix(glob.replace("*", ""))
        bare = bare.rpartition(":")[2] if prefix else bare
        add(f"bone {bone}", prefix + bare, parent, (bone, bone, 0.0), places[bone])
        key_of[bone] = f"bone {bone}"


def _others(figure: Figure, roles: RoleMap, rules: FigureRules) -> list[int]:
    """The bones without a role that the rules allow. What holds no skin, and only stands between two that have one,
    has no place where the one hangs on the other."""
    old, filled = figure.skeleton, set(roles.bones.values())
    between = set(old.with_ancestors(filled)) - filled
    if figure.skin_on_bones is not None:
        between &= set(np.flatnonzero(figure.skin_on_bones <= 0.0).tolist())
    face = set(bones_of_face(figure, roles).values())
    helpers = set(roles.helpers)
    helpers |= {b for b, name in enumerate(old.names) if "helper" in meaning_of(name).parts and b not in filled}
    found = []
    for bone, parent in enumerate(old.parents.tolist()):
        if bone in filled or bone in old.ends or bone in between or parent < 0:
            continue  # a node above everything is a root that nobody asked for
        if bone in face:
            stays = rules.face_bones == "all"
        else:
            stays = (rules.helpers if bone in helpers else rules.extra) == "allowed"
        if stays:
            found.append(bone)
    return found


def _within(most: int | None, taken: int, bones: list[int], figure: Figure) -> list[int]:
    """Of some bones those for which there is room beside the ``taken``: what holds no skin goes first, and then what
    holds least of it; without any skin the last."""
    if most is None or taken + len(bones) <= most:
        return bones
    held = np.zeros(len(figure.skeleton)) if figure.skin_on_bones is None else figure.skin_on_bones
    kept = sorted(bones, key=lambda bone: -held[bone])[: max(most - taken, 0)]
    return sorted(kept)


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
    if rules.face_bones != "all":
        wanted -= FACE_ROLES - kept_of_face(rules)
    if rules.max_bones is not None:
        # Fingers go first, from their tips, if there are too many bones.
        spare = sorted((r for r in wanted if _is_finger(r) and r not in rules.required), key=_finger_rank)
        while len(wanted) > rules.max_bones and spare:
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


def _chain_places(roles: RoleMap, places: Floats, kind: str) -> tuple[list[int], Floats, Floats]:
    """The old bones of a chain, where each stands along it (0 to 1, and 1 its end), and their places with the end's."""
    own = [roles.bones[role] for role in roles.chain(kind)]
    after = [roles.bones[r] for r in (*roles.chain("neck"), "head") if r in roles.bones and roles.bones[r] not in own]
    if not own:
        return [], np.zeros(0), np.zeros((0, 3))
    points = places[[*own, after[0]]]
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
    fraction = at - low
    return ((own[low], own[high], fraction) if fraction > 1e-9 else (own[low], own[low], 0.0)), place


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
