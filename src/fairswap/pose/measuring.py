"""How far apart two reference poses are: per role in degrees, swing and twist apart, and a verdict per body part.

Each joint is measured against its parent: a lifted arm is a difference of the upper arm, not of the hand at its end.
Arms, hands, fingers and legs are measured from the neutral T, which both figures share. Trunk, head and shoulders have
no pose in common; between members of one family their rest is compared bone by bone, else by where the bones point.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from fairswap.bones.roles import POSE_PARTS, next_roles, part_of, role_order, side_of
from fairswap.bones.toes import middle_of_toes
from fairswap.errors import Finding
from fairswap.model.arrays import Floats
from fairswap.model.rotation import IDENTITY, angle_between, conjugate, multiply, normalized, rotate, swing_twist
from fairswap.model.skeleton import WorldTransforms
from fairswap.pose.reference import neutral_direction
from fairswap.pose.rigged import RiggedFigure

# Less than the first is no difference; from the second on it may be a wrong bone: by part, of swing and of twist.
_SAME_DEGREES = 1.0
# Bones that are nearer to each other than this, in leg lengths, are in one place: none of them points to the other.
_ONE_PLACE = 0.002
_LOOK_DEGREES = {
    "arms": (110.0, 75.0),
    "hands": (60.0, 60.0),
    "fingers": (110.0, 75.0),
    "legs": (50.0, 45.0),
    "feet": (50.0, 50.0),
    "trunk": (35.0, 35.0),
    "head": (35.0, 35.0),
}


@dataclass(frozen=True)
class RoleAngle:
    """How far one role's joint is apart, in degrees: ``swing`` of its direction, ``twist`` about its length.

    ``corrected`` says whether carrying a motion over takes the difference out, or leaves it as anatomy.
    """

    role: str
    part: str
    swing_degrees: float
    twist_degrees: float
    corrected: bool

    @property
    def degrees(self) -> float:
        """The larger of the two."""
        return max(self.swing_degrees, self.twist_degrees)

    @property
    def suspicious(self) -> bool:
        """Whether it is so large that the bone may be a wrong one."""
        swing, twist = _LOOK_DEGREES[self.part]
        return self.swing_degrees > swing or self.twist_degrees > twist


@dataclass(frozen=True)
class PartVerdict:
    """What to think of one body part. ``state`` is ``same``, ``corrected``, ``kept`` or ``look``."""

    part: str
    state: str
    degrees: float
    role: str
    verdict: str


def measure_pose(a: RiggedFigure, b: RiggedFigure | None = None) -> list[RoleAngle]:
    """The differences between the base poses of ``a`` and ``b`` (or of ``a`` and the neutral T), largest first."""
    shared = [role for role in a.roles.roles() if (b is None or role in b.roles.bones) and role != "root"]
    rows = [row for role in shared if (row := _angle(role, a, b)) is not None]
    return sorted(rows, key=lambda row: (-row.degrees, role_order(row.role)))


def verdicts(angles: Iterable[RoleAngle]) -> list[PartVerdict]:
    """One verdict for each body part that was measured, in a person's order."""
    rows = list(angles)
    return [_verdict(part, own) for part in POSE_PARTS if (own := [row for row in rows if row.part == part])]


def pose_findings(angles: Iterable[RoleAngle], place: str) -> list[Finding]:
    """A warning for parts that are so far apart that a bone may be a wrong one."""
    found = []
    for part in POSE_PARTS:
        roles = [row for row in angles if row.part == part and row.suspicious]
        if roles:
            worst = max(roles, key=lambda row: row.degrees)
            message = f"{worst.role} is {worst.degrees:.0f} degrees off, more than a pose should be"
            found.append(Finding("correction-large", "warning", place, message))
    return found


def pose_part_of(role: str) -> str:
    """The body part for poses: as an artist poses it, hands apart from fingers, the head apart from the trunk."""
    part = part_of(role)
    if part == "face" or role == "head" or role.startswith("neck_"):
        return "head"
    return "fingers" if part == "hands" and not role.startswith("hand_") else part


def _angle(role: str, a: RiggedFigure, b: RiggedFigure | None) -> RoleAngle | None:
    part = pose_part_of(role)
    direction = neutral_direction(role)
    if role.startswith("foot_"):
        return _foot_angle(role, a, b)
    if direction is None:
        return _kept_angle(role, part, a, b)
    turns = [_posed(role, a), _posed(role, b) if b is not None else IDENTITY]
    apart = multiply(conjugate(turns[0]), turns[1])
    _, twist = swing_twist(apart, direction)
    swing = float(np.degrees(angle_between(rotate(turns[0], direction), rotate(turns[1], direction))))
    return RoleAngle(role, part, swing, float(np.degrees(angle_between(twist, IDENTITY))), True)


def joint_turns(rigged: RiggedFigure, pose: WorldTransforms | None = None) -> dict[str, Floats]:
    """How each joint of a pose is turned away from the neutral T, seen from its parent in the T, by role.

    Without a pose (its first frame counts) that of the figure's base pose.
    """
    return {role: _posed(role, rigged, pose) for role in rigged.roles.roles()}


def _posed(role: str, rigged: RiggedFigure, pose: WorldTransforms | None = None) -> Floats:
    above = _above(role, rigged)
    own = _turn(role, rigged, pose)
    return own if above is None else multiply(conjugate(_turn(above, rigged, pose)), own)


def _turn(role: str, rigged: RiggedFigure, pose: WorldTransforms | None = None) -> Floats:
    bone = rigged.roles.bones[role]
    world = rigged.base.world if pose is None else pose
    return multiply(world.rotations[0, bone], conjugate(rigged.reference.rotations[bone]))


def _above(role: str, rigged: RiggedFigure) -> str | None:
    """The role of the nearest bone above that has one."""
    bone = int(rigged.skeleton.parents[rigged.roles.bones[role]])
    while bone >= 0 and bone not in rigged.role_of_bone:
        bone = int(rigged.skeleton.parents[bone])
    return rigged.role_of_bone.get(bone)


def _foot_angle(role: str, a: RiggedFigure, b: RiggedFigure | None) -> RoleAngle | None:
    """A foot by its heading, which is corrected, and by the angle of its sole to the shin, which is kept."""
    figures = [each for each in (a, b) if each is not None]
    toes, shin = role.replace("foot", "toes"), role.replace("foot", "lower_leg")
    if any(toes not in each.roles.bones for each in figures):
        return None
    directions = []
    for each in figures:
        places = each.base.world.positions[0]
        tip = middle_of_toes(each.skeleton, each.roles, side_of(role), places)
        assert tip is not None
        way = normalized(tip - places[each.roles.bones[role]])
        directions.append(rotate(conjugate(_turn(shin, each)), way))
    headings = [float(np.arctan2(way[0], way[2])) for way in directions] + [0.0] * (b is None)
    pitches = [float(np.arcsin(np.clip(way[1], -1.0, 1.0))) for way in directions]
    heading = abs(np.degrees((headings[0] - headings[1] + np.pi) % (2 * np.pi) - np.pi))
    sole = abs(np.degrees(pitches[0] - pitches[-1]))
    return RoleAngle(role, "feet", float(heading), float(sole), bool(heading >= sole))


def _kept_angle(role: str, part: str, a: RiggedFigure, b: RiggedFigure | None) -> RoleAngle | None:
    """Bones that matching leaves alone: only against a second figure is there anything to measure."""
    if b is None or role == "hips":
        return None
    if _one_family(a, b):
        turns = [_local(role, side) for side in (a, b)]
        following = _onward(role, a)
        apart = multiply(conjugate(turns[0]), turns[1])
        if following is None:
            return RoleAngle(role, part, float(np.degrees(angle_between(*turns))), 0.0, False)
        along = normalized(a.figure.skeleton.rest_translations[following])
        swing, twist = swing_twist(apart, along)
        angles = [float(np.degrees(angle_between(half, IDENTITY))) for half in (swing, twist)]
        return RoleAngle(role, part, angles[0], angles[1], False)
    directions = []
    for each in (a, b):
        places, above = each.base.world.positions[0], each.roles.bones[role]
        following = _onward(role, each)
        if following is None:
            return None
        directions.append(normalized(places[following] - places[above]))
    return RoleAngle(role, part, float(np.degrees(angle_between(*directions))), 0.0, False)


def _one_family(a: RiggedFigure, b: RiggedFigure) -> bool:
    """Whether both have the same bones: then local rotations mean the same."""
    return a.figure.skeleton.names == b.figure.skeleton.names


def _local(role: str, rigged: RiggedFigure) -> Floats:
    bone = rigged.roles.bones[role]
    parent = int(rigged.skeleton.parents[bone])
    rotations = rigged.base.world.rotations[0]
    return rotations[bone] if parent < 0 else multiply(conjugate(rotations[parent]), rotations[bone])


def _onward(role: str, rigged: RiggedFigure) -> int | None:
    """The bone that a role's bone points to: the next one of its chain that is not in the very same place."""
    kind, _, number = role.rpartition("_")
    following = [f"{kind}_{int(number) + 1}"] if number.isdigit() else next_roles(role)
    if kind == "spine":
        following += ["neck_1", "neck_2", "head"]
    if kind == "neck":
        following += ["head"]
    places, here = rigged.base.world.positions[0], rigged.roles.bones[role]
    there = [rigged.roles.bones[name] for name in following if name in rigged.roles.bones]
    least = _ONE_PLACE * rigged.reference.leg_m
    return next((bone for bone in there if np.linalg.norm(places[bone] - places[here]) > least), None)


def _verdict(part: str, rows: Sequence[RoleAngle]) -> PartVerdict:
    worst = max(rows, key=lambda row: row.degrees)
    if worst.degrees < _SAME_DEGREES:
        return PartVerdict(part, "same", worst.degrees, worst.role, "alike")
    look = any(row.suspicious for row in rows)
    kept = not worst.corrected
    state = "look" if look else "kept" if kept else "corrected"
    what = f"{worst.degrees:.0f} degrees apart"
    if worst.twist_degrees > worst.swing_degrees:
        turned = {"hands": "palms turned", "feet": "soles tilted"}.get(part, "twisted")
        what = f"{turned} {worst.twist_degrees:.0f} degrees"
    ends = [("kept, as anatomy or shoe" if part == "feet" else "kept, as anatomy") if kept else "corrected"]
    if look:
        ends.append("please look")
    return PartVerdict(part, state, worst.degrees, worst.role, f"{what} ({worst.role}), {'; '.join(ends)}")
