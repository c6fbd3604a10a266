"""The roles: the anatomical places that bones fill. Sides are the figure's own left and right."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass, field

from fairswap.errors import Finding

SIDES = ("left", "right")
FINGERS = ("index", "middle", "ring", "little")
# Of hands with fewer fingers, those they have.
FINGERS_BY_COUNT = {1: ("middle",), 2: ("index", "middle"), 3: ("index", "middle", "ring"), 4: FINGERS}
_THUMB = ("metacarpal", "proximal", "distal")
_FINGER = ("metacarpal", "proximal", "intermediate", "distal")
_NUMBERED = re.compile(r"(spine|neck)_([1-9]\d?)$")

ARM = ("shoulder", "upper_arm", "lower_arm", "hand")
LEG = ("upper_leg", "lower_leg", "foot", "toes")


def _sided() -> Iterator[str]:
    for side in SIDES:
        yield from (f"{part}_{side}" for part in (*ARM, *LEG))
        yield from (f"thumb_{part}_{side}" for part in _THUMB)
        yield from (f"{finger}_{part}_{side}" for finger in FINGERS for part in _FINGER)


SIDED_ROLES = tuple(_sided())
SINGLE_ROLES = ("root", "hips", "head", "jaw", "eye_left", "eye_right")
# Without these there is no body to carry a motion over to.
MUST_HAVE = (
    "hips",
    "spine_1",
    "head",
    *(f"{part}_{side}" for side in SIDES for part in (*ARM[1:], *LEG[:3])),
)


def is_role(name: str) -> bool:
    """Whether ``name`` is in the vocabulary: ``spine_3`` is, ``spine`` is not."""
    return name in SINGLE_ROLES or name in SIDED_ROLES or _NUMBERED.match(name) is not None


def role_order(role: str) -> tuple[int, int]:
    """For sorting roles as a person would list them: trunk, arms, hands, legs."""
    match = _NUMBERED.match(role)
    if match:
        return (2 if match[1] == "spine" else 3, int(match[2]))
    if role in SINGLE_ROLES:
        return ({"root": 0, "hips": 1}.get(role, 4), SINGLE_ROLES.index(role))
    return (5, SIDED_ROLES.index(role))


def side_of(role: str) -> str:
    """``left``, ``right`` or nothing."""
    return next((side for side in SIDES if role.endswith(f"_{side}")), "")


def mirrored_role(role: str) -> str:
    """The role of the other side, of a role that has one."""
    side = side_of(role)
    return role.removesuffix(side) + ("right" if side == "left" else "left")


def part_of(role: str) -> str:
    """The body part of a role, for reports: ``trunk``, ``arms``, ``hands``, ``legs``, ``feet`` or ``face``."""
    base = role.removesuffix(f"_{side_of(role)}")
    if base in ("jaw", "eye"):
        return "face"
    if base in ("upper_arm", "lower_arm"):
        return "arms"
    if base in ("upper_leg", "lower_leg"):
        return "legs"
    if base in ("foot", "toes"):
        return "feet"
    if base in ("head", "shoulder", "hips", "root") or _NUMBERED.match(base):
        return "trunk"
    return "hands"


# Of a reference pose the parts are told one by one: the bones of a hand apart from its fingers, and the head.
POSE_PARTS = ("arms", "hands", "fingers", "legs", "feet", "trunk", "head")
FOUND_BY_ITSELF = "found by itself"
THE_FILE_ITSELF = "the file itself"


@dataclass(frozen=True)
class RoleMap:
    """Which bone (by index in its skeleton) fills which role, and where that is known from.

    ``profile`` is the name of a bone profile, :data:`THE_FILE_ITSELF`, or :data:`FOUND_BY_ITSELF`; only with the last
    there are ``confidences`` (0..1) and findings. ``helpers`` are bones that share the twist of a role: which role's
    bone they sit on, and how far along it (0..1).

    >>> import fairswap
    >>> roles = fairswap.bones.roles_of(fairswap.load(fairswap.demo_file("pip.glb")).figure)
    >>> roles, roles.missing(["jaw"])
    (<RoleMap: 30 roles, bones fernway>, ['jaw'])
    """

    bones: Mapping[str, int]
    profile: str
    confidences: Mapping[str, float] = field(default_factory=dict)
    findings: tuple[Finding, ...] = ()
    helpers: Mapping[int, tuple[str, float]] = field(default_factory=dict)

    def __repr__(self) -> str:
        return f"<RoleMap: {len(self.bones)} roles, bones {self.profile}>"

    def chain(self, kind: str) -> list[str]:
        """The roles of the ``spine`` or the ``neck`` that are there, from below."""
        found = [role for role in self.bones if (match := _NUMBERED.match(role)) and match[1] == kind]
        return sorted(found, key=role_order)

    def roles(self) -> list[str]:
        """All roles that are filled, in a person's order."""
        return sorted(self.bones, key=role_order)

    def hand(self, side: str) -> list[str]:
        """The roles of a hand and its fingers that are there, the hand first."""
        return [role for role in self.roles() if part_of(role) == "hands" and side_of(role) == side]

    def missing(self, wanted: Iterable[str] = MUST_HAVE) -> list[str]:
        """The roles of ``wanted`` that no bone fills."""
        return [role for role in wanted if role not in self.bones]


def next_roles(role: str) -> list[str]:
    """The roles that a bone's direction points to, best first: where the limb goes on."""
    side = side_of(role)
    base = role.removesuffix(f"_{side}")
    limb: tuple[str, ...] = ARM if base in ARM else LEG if base in LEG else ()
    if base == "hand":
        # The middle finger; of hands with fewer, the nearest.
        return [
            f"{finger}_{part}_{side}" for finger in ("middle", "ring", "index") for part in ("proximal", "metacarpal")
        ]
    if limb and base != limb[-1]:
        return [f"{limb[limb.index(base) + 1]}_{side}"]
    finger, _, part = base.partition("_")
    parts: tuple[str, ...] = _THUMB if finger == "thumb" else _FINGER if finger in FINGERS else ()
    if part in parts and part != parts[-1]:
        return [f"{finger}_{later}_{side}" for later in parts[parts.index(part) + 1 :]]
    return []


def role_above(role: str, there: Collection[str]) -> str:
    """The role that a bone hangs on: the nearest above it in a body, of those that are ``there``; nothing if none is.

    >>> role_above("foot_left", ["hips", "upper_leg_left"]), role_above("head", ["hips", "spine_1", "spine_2"])
    ('upper_leg_left', 'spine_2')
    """
    return next((above for above in _roles_above(role, there) if above in there), "")


def _roles_above(role: str, there: Collection[str]) -> Iterator[str]:
    """All roles above one, from the nearest."""
    side = side_of(role)
    base = role.removesuffix(f"_{side}")
    part, _, last = base.rpartition("_")
    if part in ("thumb", *FINGERS):
        yield from (f"{part}_{before}_{side}" for before in reversed(_FINGER[: _FINGER.index(last)]))
        yield f"hand_{side}"
        base = "hand"
    if base in ("jaw", "eye"):
        yield "head"
    for limb in (ARM, LEG):
        if base in limb:
            yield from (f"{before}_{side}" for before in reversed(limb[: limb.index(base)]))
    if base not in LEG and role not in ("hips", "root"):
        for kind in ("spine",) if base in ARM or part == "spine" else ("neck", "spine"):
            numbers = (int(other.rpartition("_")[2]) for other in there if other.startswith(f"{kind}_"))
            below = (number for number in numbers if kind != part or number < int(last))
            yield from (f"{kind}_{number}" for number in sorted(below, reverse=True))
    yield from {"root": (), "hips": ("root",)}.get(role, ("hips", "root"))
