"""What the troupe looks like: the shapes each body is sculpted from, and their colours."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from fairswap.demo.anatomy import Body
from fairswap.demo.sculpt import Shape
from fairswap.model.arrays import Floats

Colors = dict[str, tuple[int, int, int]]
_JUNIPER: Colors = {
    "skin": (233, 190, 160), "hair": (112, 52, 40), "coat": (38, 92, 92), "trim": (226, 178, 84), "shirt": (240, 232, 214),
    "trousers": (92, 56, 84), "stripe": (128, 84, 112), "boot": (52, 40, 44), "iris": (58, 110, 84), "lip": (190, 92, 88),
}  # fmt: skip
_OSRIC: Colors = {
    "skin": (214, 160, 124), "hair": (96, 84, 80), "coat": (150, 70, 48), "trim": (224, 188, 112), "shirt": (222, 214, 196),
    "trousers": (62, 72, 92), "stripe": (62, 72, 92), "boot": (44, 38, 36), "iris": (74, 96, 132), "lip": (170, 92, 80),
    "cap": (58, 62, 74),
}  # fmt: skip
_PIP: Colors = {
    "skin": (240, 200, 170), "hair": (150, 98, 52), "coat": (196, 150, 62), "trim": (70, 84, 60), "shirt": (238, 230, 210),
    "trousers": (84, 92, 76), "stripe": (84, 92, 76), "boot": (72, 56, 48), "iris": (92, 66, 44), "lip": (196, 104, 96),
    "cap": (150, 62, 52),
}  # fmt: skip


@dataclass(frozen=True)
class Build:
    """Thicknesses in metres."""

    chest: tuple[float, float]  # half width, half depth
    belly: tuple[float, float]
    hips: tuple[float, float]
    thigh: float
    knee: float
    calf: float
    upper_arm: float
    elbow: float
    wrist: float
    finger: float
    neck: float
    heel: float
    colors: Any


BUILDS = {
    "Juniper": Build((0.135, 0.095), (0.108, 0.086), (0.135, 0.10), 0.076, 0.050, 0.052, 0.042, 0.034, 0.027, 0.0092, 0.046, 0.0, _JUNIPER),
    "Osric": Build((0.185, 0.135), (0.195, 0.165), (0.185, 0.145), 0.094, 0.066, 0.066, 0.064, 0.052, 0.038, 0.0112, 0.066, 0.038, _OSRIC),
    "Pip": Build((0.098, 0.076), (0.094, 0.082), (0.094, 0.078), 0.056, 0.040, 0.040, 0.036, 0.029, 0.023, 0.0098, 0.036, 0.0, _PIP),
}  # fmt: skip


def shapes_of(body: Body) -> list[Shape]:
    """All shapes of one member of the troupe, both sides."""
    build = BUILDS[body.name]
    one_side = [*_arm(body, build), *_hand(body, build), *_leg(body, build)]
    shapes = [*_trunk(body, build), *_head(body, build), *one_side, *(shape.mirrored() for shape in one_side)]
    if body.name == "Juniper":
        shapes += _coat(body)
    return shapes


def _at(body: Body, bone: str, x: float = 0.0, y: float = 0.0, z: float = 0.0) -> tuple[float, float, float]:
    place = body.places[body.index[bone]]
    return (float(place[0] + x), float(place[1] + y), float(place[2] + z))


def _trunk(body: Body, build: Build) -> list[Shape]:
    m = body.measures
    spine = tuple(bone for bone in body.bones if bone.startswith("spine_"))
    around = ("hips", *spine)
    waist = m.hips + 0.30 * (m.neck - m.hips)
    ribs = m.hips + 0.72 * (m.neck - m.hips)

    def slab(
        y0: float, y1: float, size0: tuple[float, float], size1: tuple[float, float], color: str, z: float = 0.0
    ) -> Shape:
        depth = size0[1] / size0[0]
        return Shape((0, y0, z), (0, y1, z), size0[0], size1[0], around, color, squash=(1.0, 1.0, depth), blend=0.05)

    shapes = [
        slab(m.hip_joint + 0.015, m.hips + 0.02, build.hips, build.hips, "trousers", -0.004),
        slab(waist, waist + 0.04, build.belly, build.belly, "coat", 0.016 if body.name == "Osric" else 0.0),
        slab(ribs - 0.02, ribs + 0.01, build.chest, build.chest, "coat", -0.004),
    ]
    top = m.shoulder - 0.015
    for sign in (1, -1):
        side = "left" if sign > 0 else "right"
        shapes.append(
            Shape((sign * 0.03, top, -0.01), (sign * (m.shoulder_width - 0.03), top - 0.008, -0.008), build.upper_arm * 1.15,
                  build.upper_arm * 1.1, (spine[-1], f"shoulder_{side}"), "coat", blend=0.05)
        )  # fmt: skip
    # A collar, and the belt: rings of the coat's trim.
    shapes.append(Shape((0, m.neck - 0.02, -0.012), (0, m.neck + 0.005, -0.010), build.neck * 1.28, build.neck * 1.22,
                        (spine[-1], "neck_1"), "trim", blend=0.012))  # fmt: skip
    belt = m.hips + 0.12 * (m.neck - m.hips)
    width, depth = build.belly[0] * 0.5 + build.hips[0] * 0.5 + 0.008, build.belly[1] / build.belly[0]
    shapes.append(Shape((0, belt - 0.012, 0.004), (0, belt + 0.012, 0.004), width, width, around, "boot",
                        squash=(1.0, 0.28, depth), blend=0.012))  # fmt: skip
    return shapes


class _Head:
    """Places on a head, in parts of its size; and how wide it is."""

    def __init__(self, body: Body) -> None:
        measures = body.measures
        self.foot, self.size = measures.head, measures.crown - measures.head
        self.wide = 1.0 if body.name == "Juniper" else 1.12

    def shape(
        self, start: tuple[float, float, float], end: tuple[float, float, float], first: float, last: float, color: str,
        group: str = "body", bones: tuple[str, ...] = ("head",), **how: Any,
    ) -> Shape:  # fmt: skip
        """A shape from ``start`` to ``end``, ``first`` and ``last`` thick."""
        return Shape(self.at(*start), self.at(*end), first * self.size, last * self.size, bones, color, group, **how)

    def at(self, x: float, y: float, z: float) -> tuple[float, float, float]:
        return (x * self.size * self.wide, self.foot + y * self.size, z * self.size)


def _head(body: Body, build: Build) -> list[Shape]:
    m, head = body.measures, _Head(body)
    necks = tuple(bone for bone in body.bones if bone.startswith("neck_"))
    wide, chin = head.wide, ("jaw", "head") if m.eyes_and_jaw else ("head",)
    shape = head.shape
    shapes = [
        Shape((0, m.neck - 0.03, -0.014), (0, m.head + 0.10 * head.size, 0.0), build.neck, build.neck * 0.95, (*necks, "head"), "skin"),
        shape((0, 0.60, -0.02), (0, 0.60, -0.04), 0.385, 0.385, "skin", squash=(0.86 * wide, 1.0, 1.0)),
        # Face, jaw, chin; then cheeks, nose, ears.
        shape((0, 0.40, 0.10), (0, 0.10, 0.16), 0.27, 0.175, "skin", squash=(0.95 * wide, 1, 1), blend=0.04),
        shape((0, 0.045, 0.27), (0, 0.05, 0.28), 0.075, 0.075, "skin", bones=chin, blend=0.04),
        Shape(head.at(0, 0.44, 0.36), head.at(0, 0.315, 0.435), 0.030 * head.size, 0.052 * head.size * wide, ("head",), "skin",
              blend=0.016),
    ]  # fmt: skip
    for sign in (1, -1):
        shapes += [
            shape((sign * 0.17, 0.28, 0.23), (sign * 0.16, 0.29, 0.24), 0.10, 0.10, "skin", blend=0.03),
            shape((sign * 0.35, 0.42, -0.02), (sign * 0.36, 0.34, -0.01), 0.060, 0.042, "skin", squash=(0.55, 1, 0.9), blend=0.01),
            shape((sign * 0.145, 0.545, 0.315), (sign * 0.20, 0.53, 0.27), 0.045, 0.045, "skin", blend=0.02),
            shape((sign * 0.03, 0.150, 0.335), (sign * 0.085, 0.158, 0.305), 0.032, 0.022, "skin", blend=0.014),
        ]  # fmt: skip
    dressed = {"Juniper": _hair_of_juniper, "Pip": _cap_of_pip}.get(body.name, _cap_of_osric)
    return [*shapes, *dressed(head)]


def _hair_of_juniper(head: _Head) -> list[Shape]:
    shape = head.shape
    return [
        shape((0, 0.66, -0.075), (0, 0.64, -0.10), 0.405, 0.395, "hair", "hair", squash=(0.89, 1, 1)),
        shape((0, 0.35, -0.22), (0, 0.52, -0.22), 0.22, 0.26, "hair", "hair", squash=(1.05, 1, 0.8)),
        shape((0, 1.02, -0.20), (0, 1.06, -0.24), 0.17, 0.15, "hair", "hair", blend=0.012),
        shape((0.02, 0.93, 0.18), (0.24, 0.70, 0.20), 0.10, 0.06, "hair", "hair", blend=0.03),
        shape((-0.02, 0.93, 0.18), (-0.22, 0.74, 0.21), 0.10, 0.06, "hair", "hair", blend=0.03),
    ]


def _cap_of_pip(head: _Head) -> list[Shape]:
    """A knitted cap with a bobble, and a fringe below it."""
    shape = head.shape
    return [
        shape((0, 0.70, -0.06), (0, 0.78, -0.07), 0.415, 0.37, "cap", "hair", squash=(0.95, 0.95, 1.0)),
        shape((0, 1.12, -0.10), (0, 1.15, -0.11), 0.10, 0.09, "trim", "hair", blend=0.010),
        shape((0, 0.40, -0.20), (0, 0.55, -0.18), 0.25, 0.30, "hair", "hair", squash=(1.1, 1, 0.8)),
        shape((0.05, 0.74, 0.28), (0.20, 0.68, 0.24), 0.085, 0.06, "hair", "hair", blend=0.02),
        shape((-0.03, 0.75, 0.29), (-0.20, 0.69, 0.24), 0.085, 0.06, "hair", "hair", blend=0.02),
    ]


def _cap_of_osric(head: _Head) -> list[Shape]:
    """A flat cap with a peak, grey hair below it, and a round beard."""
    shape, chin = head.shape, ("jaw", "head")
    return [
        shape((0, 0.80, -0.04), (0, 0.86, -0.05), 0.42, 0.36, "cap", "hair", squash=(1.0, 0.55, 1.0)),
        shape((0, 0.76, 0.26), (0, 0.735, 0.40), 0.20, 0.17, "cap", "hair", squash=(1.2, 0.16, 1.0), blend=0.012),
        shape((0, 0.50, -0.16), (0, 0.30, -0.16), 0.33, 0.24, "hair", "hair", squash=(1.0, 1, 0.9)),
        shape((0.16, 0.12, 0.18), (0.02, 0.00, 0.27), 0.115, 0.12, "hair", bones=chin, blend=0.02),
        shape((-0.16, 0.12, 0.18), (-0.02, 0.00, 0.27), 0.115, 0.12, "hair", bones=chin, blend=0.02),
        shape((0.015, 0.225, 0.385), (0.12, 0.19, 0.33), 0.038, 0.028, "hair", blend=0.008),
        shape((-0.015, 0.225, 0.385), (-0.12, 0.19, 0.33), 0.038, 0.028, "hair", blend=0.008),
    ]


def _arm(body: Body, build: Build) -> list[Shape]:
    upper, lower, hand = (_at(body, f"{part}_left") for part in ("upper_arm", "lower_arm", "hand"))
    cuff = (hand[0] - 0.035, hand[1], hand[2])
    return [
        Shape(upper, lower, build.upper_arm, build.elbow, ("upper_arm_left",), "coat", "arm_left", blend=0.03),
        Shape(lower, hand, build.elbow, build.wrist, ("lower_arm_left",), "coat", "arm_left", blend=0.03),
        Shape(cuff, (hand[0] - 0.012, hand[1], hand[2]), build.wrist * 1.32, build.wrist * 1.42, ("lower_arm_left",), "trim",
              "arm_left", blend=0.008),
    ]  # fmt: skip


def _hand(body: Body, build: Build) -> list[Shape]:
    s = body.measures.hand / 0.19
    group = "hand_left"
    shapes = [
        Shape(_at(body, "hand_left", -0.03 * s), _at(body, "hand_left", 0.02 * s, 0, -0.002), build.wrist * 0.82, 0.027 * s,
              ("lower_arm_left", "hand_left"), "skin", group, 0.012, (1, 0.75, 1)),
    ]  # fmt: skip
    for finger in body.measures.fingers:
        knuckle = f"{finger}_proximal_left"
        base = body.places[body.index[knuckle]]
        wrist = body.places[body.index["hand_left"]]
        start = tuple((wrist + [0.022 * s, 0, 0.45 * (base[2] - wrist[2])]).tolist())
        palm = (
            ("hand_left", f"{finger}_metacarpal_left") if f"{finger}_metacarpal_left" in body.index else ("hand_left",)
        )
        shapes.append(
            Shape(start, tuple(base.tolist()), 0.0165 * s, build.finger * 1.35, palm, "skin", group, 0.012, (1, 0.9, 1))
        )
        thick = build.finger * (0.88 if finger == "little" else 1.0)
        for part in body.measures.finger_parts:
            bone = f"{finger}_{part}_left"
            tip = body.tips[body.index[bone]].copy()
            if part == body.measures.finger_parts[-1]:
                tip[0] -= thick * 0.7
            shapes.append(
                Shape(
                    _at(body, bone), tuple(tip.tolist()), thick, thick * 0.9, (bone,), "skin", f"{finger}_left", 0.004
                )
            )
            thick *= 0.9
    thick = build.finger * 1.25
    for part in body.measures.thumb_parts:
        bone = f"thumb_{part}_left"
        grown = thick * (1.35 if part == body.measures.thumb_parts[0] else 1.0)
        shapes.append(
            Shape(
                _at(body, bone),
                tuple(body.tips[body.index[bone]].tolist()),
                grown,
                thick,
                (bone,),
                "skin",
                "thumb_left",
                0.006,
            )
        )
        thick *= 0.9
    return shapes


def _leg(body: Body, build: Build) -> list[Shape]:
    m = body.measures
    hip, knee, ankle = (_at(body, f"{part}_left") for part in ("upper_leg", "lower_leg", "foot"))
    calf = (knee[0], knee[1] - 0.22 * (knee[1] - ankle[1]), knee[2] - 0.012)
    heel = build.heel
    shapes = [
        Shape(
            (hip[0], hip[1] - 0.01, hip[2]),
            knee,
            build.thigh,
            build.knee,
            ("upper_leg_left",),
            "trousers",
            "leg_left",
            0.03,
        ),
        Shape(knee, ankle, build.knee, build.knee * 0.72, ("lower_leg_left",), "trousers", "leg_left", 0.03),
        Shape(
            calf,
            (calf[0], calf[1] - 0.08, calf[2]),
            build.calf,
            build.calf * 0.8,
            ("lower_leg_left",),
            "trousers",
            "leg_left",
            0.03,
        ),
    ]
    top = ankle[1] + 0.30 * (knee[1] - ankle[1])
    sole = 0.020
    ball_z = m.ball[1]
    width = {"Osric": 0.046, "Pip": 0.034}.get(body.name, 0.036)
    toe = m.ball[1] + m.ball[2] - 0.03
    shapes += [
        Shape((ankle[0], ankle[1] - 0.01, -0.004), (ankle[0], top, -0.004), build.knee * 0.78, build.knee * 0.98,
              ("foot_left", "lower_leg_left"), "boot", "leg_left", 0.012),
        Shape((ankle[0], ankle[1] - 0.012, -0.002), (ankle[0], m.ball[0] + 0.012, ball_z * 0.75), 0.040, 0.034, ("foot_left",), "boot",
              "leg_left", 0.02),
        Shape((ankle[0], sole + 0.014, ball_z), (ankle[0], sole + 0.010, toe), width * 0.95, width * 0.80, ("toes_left" if m.toes else "foot_left",), "boot",
              "leg_left", 0.012, (1, 0.72, 1)),
        Shape((ankle[0], 0.032 + heel, -0.022), (ankle[0], 0.026, ball_z * 0.85), 0.034, width * 0.8, ("foot_left",), "boot", "leg_left",
              0.02, (1, 0.75, 1)),
    ]  # fmt: skip
    # The heel reaches the floor; what is below it is cut flat when the mesh is finished.
    if heel:
        shapes.append(
            Shape(
                (ankle[0], 0.018, -0.030),
                (ankle[0], heel + 0.03, -0.026),
                0.025,
                0.033,
                ("foot_left",),
                "boot",
                "leg_left",
                0.008,
            )
        )
    return shapes


def _coat(body: Body) -> list[Shape]:
    m = body.measures
    shapes = []
    for side, sign in (("l", 1.0), ("r", -1.0)):
        bones = tuple(f"coat_tail_{i + 1}_{side}" for i in range(m.tails))
        a = (sign * 0.068, m.hips - 0.01, -0.070)
        b = (sign * 0.088, m.hips - 0.50, -0.105)
        shapes.append(Shape(a, b, 0.075, 0.095, bones, "coat", f"tail_{side}", 0.02, (1.0, 1.0, 0.30)))
    return shapes


def flatten_soles(vertices: Floats) -> Floats:
    """Cut what is below the floor flat: soles stand on it."""
    out = vertices.copy()
    out[:, 1] = np.maximum(out[:, 1], 0.0)
    return out
