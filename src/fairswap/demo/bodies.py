"""Bodies without bones, as sculptors send them: a population, each with the truth about where its joints are.

Thin and fat, children and giants, long arms and short legs; in a T, an A or with the arms down; in a skirt, a robe, a
coat, a helmet, under long hair; coarse and dense, in one piece and in many. Needs the ``sculpt`` extra.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fairswap.demo.sculpt import Shape, surface_of_shapes
from fairswap.model.arrays import Floats, Integers
from fairswap.model.rotation import normalized

POSES = {"T": 0.0, "A": 42.0, "down": 76.0}
CLOTHES = ("", "skirt", "robe", "coat", "helmet", "hair")
_HAND_FINGERS = {5: (0.032, 0.011, -0.010, -0.031), 4: (0.028, 0.0, -0.028), 3: (0.020, -0.020)}


@dataclass(frozen=True, eq=False)
class Piece:
    """One mesh of a body."""

    name: str
    vertices: Floats
    triangles: Integers


@dataclass(frozen=True, eq=False)
class BareBody:
    """The pieces of a body, where its joints are by role, and what kind of body it is; metres, +Y up, facing +Z."""

    pieces: tuple[Piece, ...]
    joints: dict[str, Floats]
    kind: dict[str, object]

    @property
    def height_m(self) -> float:
        """From sole to crown, of the body alone."""
        return float(np.ptp(self.pieces[0].vertices[:, 1]))


def bare_body(
    seed: int, *, pose: str | None = None, clothes: str | None = None, triangles: int | None = None
) -> BareBody:
    """One body of the population; the same ``seed`` gives the same body."""
    rng = np.random.default_rng(seed)
    pose = pose or str(rng.choice(list(POSES)))
    clothes = str(rng.choice(CLOTHES)) if clothes is None else clothes
    build = str(rng.choice(["usual", "thin", "fat", "child", "long arms", "giant"]))
    count = triangles or int(2000 * 50 ** rng.uniform(0.0, 1.0))
    m = _Measures(rng, build, POSES[pose])
    shapes = _body(m)
    cell = m.height / 240
    pieces = [Piece("body", *surface_of_shapes(shapes, count, cell)), *_clothes(m, clothes, rng)]
    worn = {"hair": _hair, "helmet": _helmet}.get(clothes)
    if worn is not None:
        pieces.append(Piece(clothes, *surface_of_shapes(worn(m), max(count // 6, 400), cell)))
    kind: dict[str, object] = {
        "pose": pose, "clothes": clothes, "build": build, "triangles": sum(len(p.triangles) for p in pieces),
        "fingers": m.fingers, "height": m.height,
    }  # fmt: skip
    return BareBody(tuple(pieces), m.joints(), kind)


class _Measures:
    """Lengths in metres, drawn at random around those of a build (Drillis and Contini 1966 for the usual one)."""

    def __init__(self, rng: np.random.Generator, build: str, lowered_degrees: float) -> None:
        def about(value: float, spread: float = 0.06) -> float:
            return float(value * (1.0 + rng.uniform(-spread, spread)))

        self.height = h = about({"child": 1.12, "giant": 2.15}.get(build, 1.68), 0.1)
        self.head_size = about(0.25 if build == "child" else 0.145 if build != "giant" else 0.12) * h
        self.girth = {"thin": 0.76, "fat": 1.42, "giant": 1.1}.get(build, 1.0) * about(1.0)
        self.head_joint = h - self.head_size
        self.neck = self.head_joint - about(0.042 if build != "child" else 0.03) * h
        self.shoulder = self.neck - about(0.018, 0.3) * h
        self.hip = self.shoulder * about(0.643, 0.05)
        self.hips = self.hip + about(0.022, 0.4) * h
        self.ankle = about(0.045, 0.15) * h
        self.hip_width = about(0.052) * h * (0.6 + 0.4 * self.girth)
        self.shoulder_width = about(0.100 if build != "child" else 0.092) * h * (0.75 + 0.25 * self.girth)
        reach = about(0.44) * self.shoulder / 0.818 * (1.22 if build == "long arms" else 1.0)
        self.upper_arm, self.lower_arm, self.hand = 0.423 * reach, 0.332 * reach, about(0.245, 0.08) * reach
        self.foot = about(0.105) * h * (1.1 if build == "child" else 1.0)
        self.fingers = int(rng.choice([5, 5, 4, 3]))
        self.bend = about(8.0, 0.8)
        self.lowered = lowered_degrees
        self.spread = about(0.014, 1.0) * h  # how far the feet are beside the hips

    def joints(self) -> dict[str, Floats]:
        at: dict[str, Floats] = {
            "hips": np.array([0.0, self.hips, 0.0]), "neck_1": np.array([0.0, self.neck, -0.006 * self.height]),
            "head": np.array([0.0, self.head_joint, 0.0]),
        }  # fmt: skip
        for side, sign in (("left", 1.0), ("right", -1.0)):
            mirror = np.array([sign, 1.0, 1.0])
            down, bent = np.radians(self.lowered), np.radians(self.bend)
            along = np.array([np.cos(down), -np.sin(down), 0.0])
            after = normalized(along * np.cos(bent) + np.array([0.0, 0.0, np.sin(bent)]))
            upper = np.array([self.shoulder_width, self.shoulder, -0.004 * self.height])
            elbow = upper + self.upper_arm * along
            wrist = elbow + self.lower_arm * after
            hip = np.array([self.hip_width, self.hip, 0.0])
            ankle = np.array([self.hip_width + self.spread, self.ankle, -0.006 * self.height])
            knee = 0.5 * (hip + ankle) + [0.0, 0.0, 0.006 * self.height]
            rows = {"upper_arm": upper, "lower_arm": elbow, "hand": wrist, "hand_tip": wrist + self.hand * after,
                    "upper_leg": hip, "lower_leg": knee, "foot": ankle,
                    "toes": ankle + [0.0, 0.35 * self.ankle - self.ankle, 0.60 * self.foot]}  # fmt: skip
            at |= {f"{role}_{side}": place * mirror for role, place in rows.items()}
        return at


def _body(m: _Measures) -> list[Shape]:
    h, g, at = m.height, m.girth, m.joints()
    shapes: list[Shape] = []

    def add(
        a: Floats, b: Floats, first: float, last: float, group: str = "body", blend: float = 0.02, **more: object
    ) -> None:
        shapes.append(Shape(_point(a), _point(b), first * h, last * h, (), "", group, blend * h, **more))  # type: ignore[arg-type]

    def up(y: float, z: float = 0.0) -> Floats:
        return np.array([0.0, y, z])

    chest, waist = m.hips + 0.72 * (m.neck - m.hips), m.hips + 0.32 * (m.neck - m.hips)
    wide = max(m.shoulder_width / h - 0.018, 0.06)
    flat = (1.0, 1.0, 0.70)
    belly = min(0.078 * g**1.5, 1.25 * wide)
    add(
        up(m.hip + 0.01 * h),
        up(m.hips),
        m.hip_width / h + 0.040 * g,
        m.hip_width / h + 0.036 * g,
        squash=flat,
        blend=0.035,
    )
    add(up(waist), up(waist + 0.03 * h), belly, belly, squash=(1.0, 1.0, 0.74), blend=0.035)
    add(up(chest - 0.03 * h), up(chest), wide, wide, squash=flat, blend=0.035)
    add(up(m.neck - 0.02 * h), up(m.head_joint + 0.02 * h), 0.031 * g**0.5, 0.029 * g**0.5)
    skull = m.head_size / h
    add(up(m.head_joint + 0.60 * m.head_size), up(m.head_joint + 0.605 * m.head_size), 0.395 * skull, 0.395 * skull,
        squash=(0.88, 1.0, 1.0))  # fmt: skip
    face = m.head_joint + 0.12 * m.head_size
    add(up(face + 0.2 * m.head_size, 0.10 * m.head_size), up(face, 0.17 * m.head_size), 0.26 * skull, 0.17 * skull)
    add(
        up(face + 0.24 * m.head_size, 0.36 * m.head_size),
        up(face + 0.20 * m.head_size, 0.42 * m.head_size),
        0.03 * skull,
        0.05 * skull,
    )
    for side, sign in (("left", 1.0), ("right", -1.0)):
        upper, elbow, wrist = (at[f"{role}_{side}"] for role in ("upper_arm", "lower_arm", "hand"))
        hip, knee, ankle = (at[f"{role}_{side}"] for role in ("upper_leg", "lower_leg", "foot"))
        arm, leg = f"arm {side}", f"leg {side}"
        add(np.array([sign * 0.02 * h, m.shoulder, -0.004 * h]), upper, 0.034 * g**0.5, 0.032 * g**0.5, blend=0.03)
        add(upper, elbow, 0.030 * g**0.6, 0.024 * g**0.6, arm)
        add(elbow, wrist, 0.024 * g**0.6, 0.016 * g**0.4, arm)
        shapes.extend(_hand(m, wrist, normalized(wrist - elbow), sign, arm))
        add(hip, knee, min(0.052 * g**0.7, m.hip_width / h - 0.002), 0.034 * g**0.6, leg)
        add(knee, ankle, 0.034 * g**0.6, 0.023 * g**0.5, leg)
        add(
            knee + 0.3 * (ankle - knee) - [0.0, 0.0, 0.006 * h],
            knee + 0.42 * (ankle - knee),
            0.032 * g**0.6,
            0.026 * g**0.6,
            leg,
        )
        low = 0.42 * m.ankle
        heel, toe = (
            ankle + [0.0, low - m.ankle, -0.10 * m.foot],
            ankle + [sign * 0.08 * m.foot, 0.8 * low - m.ankle, 0.95 * m.foot],
        )
        flat_foot = (1.0, low / (0.022 * h) if low < 0.022 * h else 1.0, 1.0)
        add(heel, toe, 0.022, 0.020, leg, squash=flat_foot)
        add(ankle, ankle + [0.0, 0.6 * (low - m.ankle), 0.30 * m.foot], 0.024, 0.018, leg)
    return shapes


def _point(place: Floats) -> tuple[float, float, float]:
    x, y, z = place.tolist()
    return x, y, z


def _hand(m: _Measures, wrist: Floats, along: Floats, sign: float, group: str) -> list[Shape]:
    """Palm, fingers and thumb; the palm looks down where the arm is level, to the body where it hangs."""
    size = m.hand
    ahead = normalized(np.array([0.0, 0.0, 1.0]) - along[2] * along)
    palm = np.cross(along, ahead) * sign
    rows = _HAND_FINGERS[m.fingers]
    thick = 0.046 * size * (1.0 if m.fingers == 5 else 1.18 if m.fingers == 4 else 1.5)

    def shape(a: Floats, b: Floats, first: float, last: float, blend: float = 0.05) -> Shape:
        return Shape(_point(a), _point(b), first, last, (), "", group, blend * size)

    out = []
    for z, length in zip(rows, (0.88, 1.0, 0.94, 0.80), strict=False):
        across = z / 0.19 * size
        knuckle = wrist + 0.46 * size * along + across * ahead
        out.append(shape(wrist + 0.10 * size * along + 0.5 * across * ahead, knuckle, 1.9 * thick, 1.5 * thick, 0.12))
        out.append(
            shape(knuckle, wrist + length * (size - thick) * along + 1.15 * across * ahead, thick, 0.8 * thick, 0.02)
        )
    root = wrist + 0.16 * size * along + 0.12 * size * ahead
    tip = root + 0.44 * size * normalized(0.62 * along + 0.75 * ahead - 0.15 * palm)
    out.append(shape(root, tip, 1.25 * thick, 0.9 * thick, 0.03))
    return out


def _hair(m: _Measures) -> list[Shape]:
    """Hair to below the shoulders: no neck is seen in it."""
    top, s = m.head_joint + 0.62 * m.head_size, m.head_size
    low = m.shoulder - 0.03 * m.height
    return [
        Shape((0, top, -0.06 * s), (0, top, -0.08 * s), 0.47 * s, 0.47 * s, (), "", "hair", 0.02),
        Shape((0, top - 0.2 * s, -0.16 * s), (0, low, -0.22 * s), 0.40 * s, 0.30 * s, (), "", "hair", 0.05),
    ]


def _helmet(m: _Measures) -> list[Shape]:
    top, s = m.head_joint + 0.56 * m.head_size, m.head_size
    return [
        Shape((0, top, 0.0), (0, top, 0.01), 0.56 * s, 0.56 * s, (), "", "helmet", 0.01),
        Shape((0, top + 0.5 * s, -0.1 * s), (0, top + 0.66 * s, -0.16 * s), 0.10 * s, 0.05 * s, (), "", "helmet", 0.02),
    ]


def _clothes(m: _Measures, clothes: str, rng: np.random.Generator) -> list[Piece]:
    """Open shells around the body: a skirt, a robe, a coat, some with a wall inside the wall."""
    h = m.height
    rows = {
        "skirt": ((m.hips + 0.06 * h, 1.10), (m.hip - 0.06 * h, 1.35), (m.hip * 0.58, 1.9)),
        "robe": ((m.shoulder - 0.05 * h, 1.18), (m.hips, 1.25), (m.hip * 0.6, 1.55), (m.ankle * 0.9, 1.9)),
        "coat": ((m.shoulder - 0.06 * h, 1.16), (m.hips, 1.22), (m.hip * 0.66, 1.5)),
    }.get(clothes)
    if rows is None:
        return []
    body = max(m.shoulder_width, m.hip_width + 0.045 * h * m.girth, 0.085 * h * m.girth**1.5)
    heights = np.linspace(rows[0][0], rows[-1][0], 24)
    wide = np.interp(-heights, [-row[0] for row in rows], [row[1] for row in rows]) * body
    around = np.linspace(0.0, 2.0 * np.pi, 48, endpoint=False)
    walls = [1.0, 0.985] if rng.random() < 0.5 else [1.0]
    vertices, triangles = [], []
    for number, share in enumerate(walls):
        x = share * wide[:, None] * np.cos(around)
        z = share * wide[:, None] * np.sin(around) * 0.78
        vertices.append(np.stack([x, np.broadcast_to(heights[:, None], x.shape), z], axis=-1).reshape(-1, 3))
        row, column = np.meshgrid(np.arange(23), np.arange(48), indexing="ij")
        a, b = row * 48 + column, row * 48 + (column + 1) % 48
        quads = np.stack([a, b, b + 48, a, b + 48, a + 48], axis=-1).reshape(-1, 3)
        triangles.append((quads if number == 0 else quads[:, ::-1]) + number * 24 * 48)
    return [Piece(clothes, np.concatenate(vertices), np.concatenate(triangles))]
