"""The bodies of the troupe: joints in the neutral T-pose from a few measures, and skeletons in each stage's manner."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise

import numpy as np

from fairswap.bones.profile import BoneProfile, profile_named
from fairswap.bones.roles import ARM, FINGERS, LEG
from fairswap.model.arrays import Floats
from fairswap.model.rotation import (
    conjugate,
    multiply,
    normalized,
    quaternion_between,
    quaternion_from_axis_angle,
    quaternion_from_matrix,
    rotate,
)
from fairswap.model.skeleton import Skeleton

# Where the thumb points in our neutral T: out, a little down, ahead.
_THUMB = np.array([0.64, -0.36, 0.68]) / np.linalg.norm([0.64, -0.36, 0.68])


# Face bones in head sizes: across, up, ahead; of sided ones the left.
FACE_BONES = {
    "Brow Inner": (0.060, 0.560, 0.40), "Brow Outer": (0.205, 0.550, 0.36), "Lid Upper": (0.145, 0.496, 0.36),
    "Lid Lower": (0.145, 0.411, 0.36), "Cheek": (0.170, 0.330, 0.34), "Nostril": (0.045, 0.320, 0.42),
    "Lip Corner": (0.105, 0.168, 0.36),
}  # fmt: skip
# How far ahead of the head's pivot the middle of the eyeballs lies.
_EYE_AHEAD = {"Juniper": 0.245, "Osric": 0.245}
MIDDLE_FACE_BONES = {"Lip Upper": (0.0, 0.172, 0.40), "Lip Lower": (0.0, 0.140, 0.39)}


@dataclass(frozen=True)
class Measures:
    """A body in metres. Heights are above the floor, widths from the middle."""

    stage: str
    crown: float
    head: float
    neck: float
    hips: float
    hip_joint: float
    hip_width: float
    ankle: float
    ball: tuple[float, float, float]  # height, distance ahead of the ankle, length of the toes
    shoulder: float
    shoulder_width: float
    upper_arm: float
    lower_arm: float
    hand: float
    spine_bones: int
    neck_bones: int
    metacarpals: bool
    twists: bool
    face_bones: bool
    end_bones: bool
    tails: int  # bones in each coat tail
    lowered_arms_degrees: float = 0.0
    toes: bool = True
    eyes_and_jaw: bool = True
    fingers: tuple[str, ...] = FINGERS
    finger_parts: tuple[str, ...] = ("proximal", "intermediate", "distal")
    thumb_parts: tuple[str, ...] = ("metacarpal", "proximal", "distal")


JUNIPER = Measures(
    stage="quillmoor", crown=1.84, head=1.62, neck=1.515, hips=1.05, hip_joint=1.01, hip_width=0.088, ankle=0.09,
    ball=(0.028, 0.135, 0.075), shoulder=1.478, shoulder_width=0.155, upper_arm=0.300, lower_arm=0.275, hand=0.190,
    spine_bones=6, neck_bones=3, metacarpals=True, twists=True, face_bones=False, end_bones=False,
    tails=3,
)  # fmt: skip
OSRIC = Measures(
    stage="saltglass", crown=1.52, head=1.265, neck=1.185, hips=0.78, hip_joint=0.735, hip_width=0.108, ankle=0.115,
    ball=(0.036, 0.108, 0.072), shoulder=1.135, shoulder_width=0.205, upper_arm=0.245, lower_arm=0.215, hand=0.170,
    spine_bones=4, neck_bones=1, metacarpals=False, twists=False, face_bones=True, end_bones=True,
    tails=0, lowered_arms_degrees=72.0,
)  # fmt: skip
PIP = Measures(
    stage="fernway", crown=1.16, head=0.855, neck=0.800, hips=0.505, hip_joint=0.480, hip_width=0.072, ankle=0.068,
    ball=(0.026, 0.088, 0.058), shoulder=0.768, shoulder_width=0.118, upper_arm=0.168, lower_arm=0.148, hand=0.118,
    spine_bones=1, neck_bones=1, metacarpals=False, twists=False, face_bones=False, end_bones=False,
    tails=0, lowered_arms_degrees=45.0, toes=False, eyes_and_jaw=False, fingers=("index", "middle"),
    finger_parts=("proximal", "intermediate"), thumb_parts=("proximal", "distal"),
)  # fmt: skip
BODIES = {"Juniper": JUNIPER, "Osric": OSRIC, "Pip": PIP}


@dataclass(frozen=True, eq=False)
class Body:
    """One member of the troupe: bones with roles or words, parents first, in the neutral T-pose.

    ``tpose`` are world rotations in the T, ``places`` world positions in the T; ``follows`` says for each bone which
    role's motion it has.
    """

    name: str
    measures: Measures
    bones: tuple[str, ...]  # role, or a word of our own for what has no role
    parents: tuple[int, ...]
    places: Floats
    tips: Floats
    tpose: Floats
    profile: BoneProfile

    @cached_property
    def names(self) -> tuple[str, ...]:
        """The bones as the stage calls them."""
        prefix = "salt:" if self.measures.stage == "saltglass" else ""
        roles = self.profile.roles

        def called(bone: str) -> str:
            role = bone.removesuffix(" end")
            return prefix + (roles[role][0] if role in roles else role) + (" End" if role != bone else "")

        return tuple(called(bone) for bone in self.bones)

    @cached_property
    def index(self) -> Mapping[str, int]:
        return {bone: i for i, bone in enumerate(self.bones)}

    def skeleton(self, rest: Mapping[str, Floats]) -> Skeleton:
        """The skeleton with the rest pose given as world turns away from the T, by role."""
        world = multiply(self.turns(rest, 1)[:, 0], self.tpose)
        parents = np.array(self.parents, dtype=np.intp)
        local = world.copy()
        inner = parents >= 0
        local[inner] = multiply(conjugate(world[parents[inner]]), world[inner])
        ends = frozenset(i for i, bone in enumerate(self.bones) if bone.endswith(" end"))
        return Skeleton(self.names, parents, local, self.local_places(), ends)

    def local_places(self) -> Floats:
        """Each bone's place relative to its parent, in the parent's frame: the same in every pose."""
        parents = np.array(self.parents)
        inner = parents >= 0
        local = self.places.copy()
        local[inner] = rotate(conjugate(self.tpose[parents[inner]]), (self.places - self.places[parents])[inner])
        return local

    def turns(self, motion: Mapping[str, Floats], frames: int) -> Floats:
        """World turns away from the T of all bones ``(bones, frames, 4)``; others follow their parent."""
        out = np.zeros((len(self.bones), frames, 4))
        out[..., 3] = 1.0
        for bone, (role, parent) in enumerate(zip(self.bones, self.parents, strict=True)):
            if role in motion:
                out[bone] = motion[role]
            elif parent >= 0:
                out[bone] = out[parent]
        return out

    def rest_turns(self) -> dict[str, Floats]:
        """How this body rests: in the T, or with the arms lowered, elbows and fingers a little bent."""
        degrees = self.measures.lowered_arms_degrees
        if not degrees:
            return {}
        turns: dict[str, Floats] = {}
        for side, sign in (("left", 1.0), ("right", -1.0)):
            down = quaternion_from_axis_angle([0, 0, 1], -sign * np.radians(degrees))
            bend = quaternion_from_axis_angle([0, 1, 0], -sign * np.radians(14.0))
            turns[f"upper_arm_{side}"] = down[None]
            turns[f"lower_arm_{side}"] = turns[f"hand_{side}"] = multiply(down, bend)[None]
            for finger in self.measures.fingers:
                curl = multiply(down, bend)
                for part in self.measures.finger_parts:
                    curl = multiply(curl, quaternion_from_axis_angle([0, 0, 1], -sign * np.radians(12.0)))
                    turns[f"{finger}_{part}_{side}"] = curl[None]
        return turns


class _Bones:
    """The bones of a body while it is put together: bone, parent, place; and where the last ones end."""

    def __init__(self, name: str) -> None:
        self.name, self.measures = name, BODIES[name]
        self.rows: list[tuple[str, str, Floats]] = []
        self.tips: dict[str, Floats] = {}

    def add(self, bone: str, parent: str, place: tuple[float, float, float] | Floats) -> None:
        self.rows.append((bone, parent, np.array(place, dtype=np.float64)))

    def sided(self, bone: str, parent: str, place: Floats | tuple[float, float, float], mirror: Floats) -> None:
        self.add(bone, parent, np.asarray(place) * mirror)

    def trunk(self) -> str:
        """Hips, spine, neck and head; the bone that holds the arms."""
        m, add = self.measures, self.add
        if m.stage == "quillmoor":
            add("root", "", (0, 0, 0))
            add("hips", "root", (0, m.hips, 0))
        else:
            add("hips", "", (0, m.hips, 0))
        below = "hips"
        first = m.hips + 0.06 * (m.neck - m.hips)
        for i in range(m.spine_bones):
            height = first + (m.neck - first) * i / m.spine_bones
            # A spine is an S, not a rod.
            add(f"spine_{i + 1}", below, (0, height, -0.012 * np.sin(np.pi * i / m.spine_bones) - 0.004))
            below = f"spine_{i + 1}"
        chest = below
        for i in range(m.neck_bones):
            fraction = i / m.neck_bones
            add(f"neck_{i + 1}", below, (0, m.neck + (m.head - m.neck) * fraction, -0.012 + 0.012 * fraction))
            below = f"neck_{i + 1}"
        add("head", below, (0, m.head, 0.0))
        self.tips["head"] = np.array([0, m.crown, 0.0])
        return chest

    def face(self) -> None:
        """Jaw, eyes, and the bones of a face that has them."""
        m, add, tips = self.measures, self.add, self.tips
        size = m.crown - m.head
        if m.eyes_and_jaw:
            add("jaw", "head", (0, m.head + 0.16 * size, 0.10 * size))
            tips["jaw"] = np.array([0, m.head - 0.02 * size, 0.36 * size])
        for sign, side in ((1.0, "left"), (-1.0, "right")) if m.eyes_and_jaw else ():
            across = sign * 0.145 * size * (1.0 if self.name == "Juniper" else 1.12)
            add(f"eye_{side}", "head", (across, m.head + 0.445 * size, _EYE_AHEAD[self.name] * size))
            tips[f"eye_{side}"] = self.rows[-1][2] + [0.0, 0.0, 0.12 * size]
            if m.face_bones:
                for word, place in FACE_BONES.items():
                    label = f"{'Port' if side == 'left' else 'Starboard'} {word}"
                    at = np.array([sign * place[0] * 1.12 * size, m.head + place[1] * size, place[2] * size])
                    add(label, "head", at)
                    tips[label] = at + [0, 0, 0.03]
        for word, place in MIDDLE_FACE_BONES.items() if m.face_bones else ():
            add(word, "jaw" if word == "Lip Lower" else "head", (0.0, m.head + place[1] * size, place[2] * size))
            tips[word] = self.rows[-1][2] + [0, 0, 0.03]

    def arm(self, side: str, chest: str, mirror: Floats) -> None:
        """Shoulder, arm and hand, with their twist bones."""
        m, sided = self.measures, self.sided
        wrist = m.shoulder_width + m.upper_arm + m.lower_arm
        sided(f"shoulder_{side}", chest, (0.022, m.shoulder - 0.012, 0.012), mirror)
        upper, lower = f"upper_arm_{side}", f"lower_arm_{side}"
        sided(upper, f"shoulder_{side}", (m.shoulder_width, m.shoulder, -0.008), mirror)
        if m.twists:
            half = m.shoulder_width + 0.5 * m.upper_arm
            sided(f"shoulder_joint_twist_{side[0]}", upper, (half, m.shoulder, -0.008), mirror)
        sided(lower, upper, (m.shoulder_width + m.upper_arm, m.shoulder, -0.008), mirror)
        if m.twists:
            sided(f"elbow_twist_{side[0]}", lower, (wrist - 0.5 * m.lower_arm, m.shoulder, -0.008), mirror)
        hand = np.array([wrist, m.shoulder, -0.008])
        sided(f"hand_{side}", lower, hand, mirror)
        self.fingers(side, hand, mirror)

    def fingers(self, side: str, hand: Floats, mirror: Floats) -> None:
        """As many fingers as the body has, and the thumb."""
        m, sided = self.measures, self.sided
        s = m.hand / 0.19
        for finger, z, knuckle, phalanges in (
            ("index", 0.027, 0.090, (0.042, 0.026, 0.021)),
            ("middle", 0.006, 0.094, (0.046, 0.029, 0.022)),
            ("ring", -0.015, 0.089, (0.042, 0.027, 0.021)),
            ("little", -0.034, 0.080, (0.033, 0.021, 0.018)),
        ):
            if finger not in m.fingers:
                continue
            above = f"hand_{side}"
            if m.metacarpals:
                sided(f"{finger}_metacarpal_{side}", above, hand + [0.024 * s, 0, 0.6 * z * s], mirror)
                above = f"{finger}_metacarpal_{side}"
            at = hand + [knuckle * s, 0, z * s]
            for part, length in zip(m.finger_parts, phalanges, strict=False):
                sided(f"{finger}_{part}_{side}", above, at, mirror)
                above, at = f"{finger}_{part}_{side}", at + [length * s, 0, 0]
            self.tips[above] = at * mirror
        above, at = f"hand_{side}", hand + [0.020 * s, -0.008 * s, 0.022 * s]
        for part, length in zip(m.thumb_parts, (0.044, 0.034, 0.028), strict=False):
            sided(f"thumb_{part}_{side}", above, at, mirror)
            above, at = f"thumb_{part}_{side}", at + _THUMB * length * s
        self.tips[above] = at * mirror

    def leg(self, side: str, mirror: Floats) -> None:
        """Leg, foot and toes, and the coat's tail over it."""
        m, sided, tips = self.measures, self.sided, self.tips
        half = 0.5 * (m.hip_joint - m.ankle)
        sided(f"upper_leg_{side}", "hips", (m.hip_width, m.hip_joint, 0.0), mirror)
        sided(f"lower_leg_{side}", f"upper_leg_{side}", (m.hip_width, m.hip_joint - half, 0.0), mirror)
        sided(f"foot_{side}", f"lower_leg_{side}", (m.hip_width, m.ankle, 0.0), mirror)
        toe_tip = np.array([m.hip_width, m.ball[0], m.ball[1] + m.ball[2]]) * mirror
        tips[f"toes_{side}" if m.toes else f"foot_{side}"] = toe_tip
        if m.toes:
            sided(f"toes_{side}", f"foot_{side}", (m.hip_width, m.ball[0], m.ball[1]), mirror)
        above = "hips"
        for i in range(m.tails):
            place = (0.07, m.hips - 0.02 - i * 0.17, -0.105 - 0.012 * i)
            sided(f"coat_tail_{i + 1}_{side[0]}", above, place, mirror)
            above = f"coat_tail_{i + 1}_{side[0]}"
            tips[above] = (np.array(place) - [0, 0.17, 0.012]) * mirror


def body_of(name: str) -> Body:
    """The body of a member of the troupe, by name."""
    bones = _Bones(name)
    m, tips = bones.measures, bones.tips
    chest = bones.trunk()
    bones.face()
    for sign, side in ((1.0, "left"), (-1.0, "right")):
        mirror = np.array([sign, 1.0, 1.0])
        bones.arm(side, chest, mirror)
        bones.leg(side, mirror)
    if m.end_bones:
        for bone in [bone for bone in tips if bone.startswith(("toes", "head")) or "distal" in bone]:
            bones.add(f"{bone} end", bone, tips[bone])
    rows = _depth_first(bones.rows)
    order = {bone: i for i, (bone, _, _) in enumerate(rows)}
    parents = tuple(order.get(parent, -1) for _, parent, _ in rows)
    places = np.array([place for _, _, place in rows])
    ends = _tips(rows, tips, places)
    frames = np.array([_frame(m.stage, bone, i, places[i], ends[i]) for i, (bone, _, _) in enumerate(rows)])
    return Body(name, m, tuple(order), parents, places, ends, frames, profile_named(m.stage))


def _depth_first(rows: list[tuple[str, str, Floats]]) -> list[tuple[str, str, Floats]]:
    """In the order in which files list bones: each followed by all that hangs on it."""
    out: list[tuple[str, str, Floats]] = []
    stack = [row for row in rows if not row[1]]
    while stack:
        row = stack.pop()
        out.append(row)
        stack += [child for child in reversed(rows) if child[1] == row[0]]
    return out


def _tips(rows: list[tuple[str, str, Floats]], tips: dict[str, Floats], places: Floats) -> Floats:
    """The far end of each bone: of its own, or where the limb goes on."""
    out = places + [0.0, 0.05, 0.0]
    onward = {"hips": "spine_1", **{f"hand_{s}": f"middle_proximal_{s}" for s in ("left", "right")}}
    for s in ("left", "right"):
        onward |= {f"{a}_{s}": f"{b}_{s}" for limb in (ARM, LEG) for a, b in pairwise(limb)}
    index = {bone: i for i, (bone, _, _) in enumerate(rows)}
    onward = {bone: after for bone, after in onward.items() if after in index}
    for i, (bone, _, _) in enumerate(rows):
        after = onward.get(bone) or next((child for child, parent, _ in rows if parent == bone), None)
        if bone in tips:
            out[i] = tips[bone]
        elif after is not None and bone != "root":
            out[i] = places[index[after]]
    return out


def _frame(stage: str, bone: str, number: int, place: Floats, tip: Floats) -> Floats:
    """The bone's axes in the T: along +X and rolled, no two alike, in Saltglass; along +Y elsewhere."""
    along = normalized(tip - place)
    if stage != "saltglass":
        if bone == "root":
            return np.array([0.0, 0.0, 0.0, 1.0])
        return quaternion_between([0, 1, 0], along)
    sideways = normalized(np.cross(along, [0.0, 0.0, 1.0] if abs(along[2]) < 0.9 else [0.0, 1.0, 0.0]))
    matrix = np.stack([along, sideways, np.cross(along, sideways)], axis=1)
    roll = quaternion_from_axis_angle([1, 0, 0], np.radians(37.0 * number))
    return multiply(quaternion_from_matrix(matrix), roll)
