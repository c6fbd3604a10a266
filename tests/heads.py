"""A second population of heads, sculpted otherwise than the demo's: what drafting of face charts is judged by.

A head is an ellipsoid of rings with a nose, cut open at the eyes and the mouth; eyeballs are balls of their own, the
tongue and the teeth shells inside. Shapes are made as a rig makes them: the jaw turns about a hinge under the ears,
eyeballs turn about their middles, lids travel over the ball, lips are pulled along the skull. Nothing here is taken
from the neutral face of the library; places are in this head's own measures.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

import fairswap
from fairswap.model.mesh import Mesh
from fairswap.model.skeleton import Skeleton

# How shapes are called: one-sided words for left and right, and the words of each shape.
CONVENTIONS = {
    "plain": ("{} Left", "{} Right", {}),
    "camel": ("{}L", "{}R", {}),
    "prefix": ("head:L_{}", "head:R_{}", {}),
    "short": ("{}Lt", "{}Rt", {
        "blink": "lidDn", "wide": "lidUp", "brow inner up": "brwInrUp", "brow outer up": "brwOtrUp",
        "brow down": "brwDn", "jaw open": "jwOpn", "smile": "mthSml", "mouth corner down": "mthCnrDn",
        "mouth pucker": "mthPckr",
        "mouth funnel": "mthFnnl", "upper lip up": "lpUprUp", "lower lip down": "lpLwrDn", "cheek puff": "chkPff",
        "nose wrinkle": "nsWrnkl", "tongue out": "tngOt", "look up": "eyLkUp", "look down": "eyLkDn",
        "look in": "eyLkIn", "look out": "eyLkOt", "jaw forward": "jwFwd", "jaw left": "jwLt", "jaw right": "jwRt",
    }),
    "german": ("{} links", "{} rechts", {
        "blink": "Auge zu", "wide": "Auge weit", "brow inner up": "Braue innen hoch",
        "brow outer up": "Braue aussen hoch", "brow down": "Braue runter", "jaw open": "Kiefer offen",
        "smile": "Mundwinkel hoch",
        "mouth corner down": "Mundwinkel runter", "mouth pucker": "Kussmund", "mouth funnel": "Mund Trichter",
        "upper lip up": "Oberlippe hoch", "lower lip down": "Unterlippe runter", "cheek puff": "Wange aufblasen",
        "nose wrinkle": "Nase ruempfen", "tongue out": "Zunge raus", "look up": "Blick hoch",
        "look down": "Blick runter",
        "look in": "Blick rein", "look out": "Blick raus", "jaw forward": "Kiefer vor", "jaw left": "Kiefer links",
        "jaw right": "Kiefer rechts",
    }),
    "french": ("{} gauche", "{} droite", {
        "blink": "oeil fermé", "wide": "oeil écarquillé", "brow inner up": "sourcil intérieur haut",
        "brow outer up": "sourcil extérieur haut", "brow down": "sourcil bas", "jaw open": "mâchoire ouverte",
        "smile": "bouche sourire", "mouth corner down": "coin bouche bas", "mouth pucker": "baiser",
        "mouth funnel": "bouche entonnoir", "upper lip up": "lèvre supérieure haut",
        "lower lip down": "lèvre inférieure bas", "cheek puff": "joue gonflée", "nose wrinkle": "nez plissé",
        "tongue out": "langue dehors", "look up": "regard haut", "look down": "regard bas",
    }),
    "spanish": ("{} izq", "{} der", {
        "blink": "ojo cerrado", "wide": "ojo abierto", "brow inner up": "ceja interior arriba",
        "brow outer up": "ceja exterior arriba", "brow down": "ceja abajo", "jaw open": "boca abierta",
        "smile": "sonrisa",
        "mouth corner down": "comisura abajo", "mouth pucker": "beso", "upper lip up": "labio superior arriba",
        "lower lip down": "labio inferior abajo", "cheek puff": "mejilla hinchada", "nose wrinkle": "nariz arrugada",
        "tongue out": "lengua fuera", "look up": "mirada arriba", "look down": "mirada abajo",
    }),
    "russian": ("{} лев", "{} прав", {
        "blink": "глаз закрыт", "wide": "глаз открыт", "brow inner up": "бровь внутр вверх",
        "brow outer up": "бровь внешн вверх", "brow down": "бровь вниз", "jaw open": "челюсть вниз", "smile": "улыбка",
        "mouth corner down": "уголок рта вниз", "cheek puff": "щека надута", "look up": "взгляд вверх",
        "look down": "взгляд вниз",
    }),
    "japanese": ("左{}", "右{}", {
        "blink": "まぶた閉じ", "wide": "目開き", "brow inner up": "眉内上", "brow outer up": "眉外上",
        "brow down": "眉下",
        "jaw open": "顎開け", "smile": "口角上", "mouth corner down": "口角下", "upper lip up": "唇上唇上",
        "tongue out": "舌だし", "cheek puff": "頬膨",
    }),
    "codes": ("AU{}_L", "AU{}_R", {
        "blink": "43", "wide": "5", "brow inner up": "1", "brow outer up": "2", "brow down": "4", "jaw open": "26",
        "smile": "12", "mouth corner down": "15", "mouth pucker": "18", "mouth funnel": "22", "upper lip up": "10",
        "lower lip down": "16", "cheek puff": "34", "nose wrinkle": "9", "tongue out": "19", "look up": "63",
        "look down": "64", "jaw forward": "29",
    }),
    "misspelt": ("{} Left", "{} Right", {
        "blink": "blinkk", "smile": "smlie", "mouth pucker": "mouth puckr", "cheek puff": "cheek puf",
        "brow down": "brow dwon", "jaw open": "jaw opne", "nose wrinkle": "nose wrinckle", "tongue out": "tounge out",
    }),
    "numbers": ("shape {}", "shape {}", None),
}  # fmt: skip
SIDED = {
    "blink": "eye_closure", "wide": "upper_lid_raiser", "look up": "gaze_up", "look down": "gaze_down",
    "look in": "gaze_in", "look out": "gaze_out", "brow inner up": "inner_brow_raiser",
    "brow outer up": "outer_brow_raiser", "brow down": "brow_lowerer", "smile": "lip_corner_puller",
    "mouth corner down": "lip_corner_depressor", "upper lip up": "upper_lip_raiser",
    "lower lip down": "lower_lip_depressor", "cheek puff": "cheek_puff", "nose wrinkle": "nose_wrinkler",
}  # fmt: skip
WHOLE = {
    "jaw open": "jaw_drop", "jaw forward": "jaw_thrust", "jaw left": "jaw_left", "jaw right": "jaw_right",
    "mouth pucker": "lip_pucker", "mouth funnel": "lip_funneler", "tongue out": "tongue_show",
}  # fmt: skip


@dataclass(frozen=True)
class MadeHead:
    """A head, and the unit that each of its shapes is."""

    figure: fairswap.Figure
    truth: dict[str, str]


@dataclass
class _Skin:
    """Vertices of all shells in metres, which shell each is of, and where the parts of this face are."""

    points: np.ndarray
    shell: np.ndarray
    triangles: np.ndarray
    wide: float
    tall: float
    deep: float
    eye: np.ndarray
    eye_half: np.ndarray
    mouth: np.ndarray
    mouth_half: float


def _ball(middle, radii, rows=9, columns=14):
    u, v = np.meshgrid(
        np.linspace(0.0, np.pi, rows), np.linspace(0.0, 2 * np.pi, columns, endpoint=False), indexing="ij"
    )
    grid = np.stack([np.sin(u) * np.cos(v), np.cos(u), np.sin(u) * np.sin(v)], axis=-1).reshape(-1, 3)
    faces = []
    for row in range(rows - 1):
        for column in range(columns):
            a, b = row * columns + column, row * columns + (column + 1) % columns
            faces += [(a, b, a + columns), (b, b + columns, a + columns)]
    return middle + grid * radii, np.array(faces)


def _sculpt(rng) -> _Skin:
    wide, tall, deep = 0.075 * rng.uniform(0.8, 1.25), 0.115 * rng.uniform(0.85, 1.2), 0.095 * rng.uniform(0.85, 1.15)
    rows, columns = int(rng.integers(34, 70)), int(rng.integers(48, 96))
    skin, faces = _ball(np.zeros(3), [wide, tall, deep], rows, columns)
    big = rng.uniform(0.8, 1.6)
    eye = np.array([0.42 * wide, tall * rng.uniform(0.02, 0.14), 0.0])
    eye_half = np.array([0.19 * wide * min(big, 1.35), 0.055 * tall * big])
    mouth = np.array([0.0, -tall * rng.uniform(0.44, 0.54), 0.0])
    mouth_half = wide * rng.uniform(0.3, 0.42)
    front = skin[:, 2] > 0.0
    # A nose between eyes and mouth, and a chin.
    nose = np.exp(-((skin[:, 0] / (0.16 * wide)) ** 2) - ((skin[:, 1] - 0.55 * mouth[1]) / (0.2 * tall)) ** 2)
    skin[:, 2] += front * 0.22 * deep * nose * rng.uniform(0.4, 1.3)
    chin = np.exp(-((skin[:, 0] / (0.4 * wide)) ** 2) - ((skin[:, 1] + 0.82 * tall) / (0.16 * tall)) ** 2)
    skin[:, 2] += front * 0.18 * deep * chin
    middles = skin[faces].mean(axis=1)
    open_eye = [
        np.hypot((middles[:, 0] - s * eye[0]) / eye_half[0], (middles[:, 1] - eye[1]) / eye_half[1]) < 0.9
        for s in (1, -1)
    ]
    open_mouth = (np.abs(middles[:, 0]) < mouth_half) & (np.abs(middles[:, 1] - mouth[1]) < 0.018 * tall)
    faces = faces[~((middles[:, 2] > 0) & (open_eye[0] | open_eye[1] | open_mouth))]
    points, shells, all_faces, count = [skin], [np.zeros(len(skin), dtype=int)], [faces], len(skin)
    ball = 1.15 * max(eye_half)
    for number, side in ((1, 1.0), (2, -1.0)):
        depth = deep * np.sqrt(max(1.0 - (eye[0] / wide) ** 2 - (eye[1] / tall) ** 2, 0.05)) - 0.75 * ball
        more, own = _ball(np.array([side * eye[0], eye[1], depth]), ball)
        points.append(more), shells.append(np.full(len(more), number)), all_faces.append(own + count)
        count += len(more)
    inside = deep * np.sqrt(max(1.0 - (mouth[1] / tall) ** 2, 0.05))
    for number, (size, back, down) in ((3, ((0.5, 0.12, 0.6), 0.55, 0.03)), (4, ((0.75, 0.1, 0.3), 0.35, 0.05))):
        middle = mouth + [0.0, -down * tall, inside - back * 0.5 * deep]
        more, own = _ball(middle, np.array(size) * [mouth_half, 0.25 * tall, 0.35 * deep], 7, 10)
        points.append(more), shells.append(np.full(len(more), number)), all_faces.append(own + count)
        count += len(more)
    eye[2] = depth
    mouth[2] = inside
    return _Skin(
        np.concatenate(points),
        np.concatenate(shells),
        np.concatenate(all_faces),
        wide,
        tall,
        deep,
        eye,
        eye_half,
        mouth,
        mouth_half,
    )


def _turned(points, pivot, axis, degrees, share):
    axis = np.asarray(axis, dtype=float) / np.linalg.norm(axis)
    angle = np.radians(degrees) * share[:, None]
    arm = points - pivot
    turned = (
        arm * np.cos(angle) + np.cross(axis, arm) * np.sin(angle) + axis * (arm @ axis)[:, None] * (1 - np.cos(angle))
    )
    return turned - arm


def _hill(face: _Skin, x, y, reach_x, reach_y):
    """A cosine hill on the front of the skin, 1 in the middle and 0 at the reach."""
    far = np.hypot((face.points[:, 0] - x) / reach_x, (face.points[:, 1] - y) / reach_y)
    hill = 0.5 + 0.5 * np.cos(np.pi * np.clip(far, 0.0, 1.0))
    return hill * ((face.shell == 0) & (face.points[:, 2] > 0.0))


def _lip(face: _Skin, upper: bool):
    """The lip above or below the mouth, most at the rim."""
    x, y = face.points[:, 0], face.points[:, 1] - face.mouth[1]
    on = (y > 0) if upper else (y <= 0)
    fade = np.clip(1.0 - np.abs(y) / (0.16 * face.tall), 0.0, 1.0) * np.clip(
        1.0 - (x / (1.25 * face.mouth_half)) ** 2, 0.0, 1.0
    )
    return fade * on * ((face.shell == 0) & (face.points[:, 2] > 0.0))


def _shape(face: _Skin, name: str, side: float, rng) -> np.ndarray:
    p, w, t, d = face.points, face.wide, face.tall, face.deep
    strength = rng.uniform(0.75, 1.25)
    eye = face.eye * [side, 1, 1]
    zero = np.zeros_like(p)
    if name.startswith("look"):
        ball = (face.shell == (1 if side > 0 else 2)).astype(float)
        axis = {"up": (-1, 0, 0), "down": (1, 0, 0), "in": (0, -side, 0), "out": (0, side, 0)}[name.split()[1]]
        return _turned(p, eye, axis, 24.0 * strength, ball)
    if name in ("blink", "wide"):
        x, y = (p[:, 0] - eye[0]) / face.eye_half[0], (p[:, 1] - eye[1]) / face.eye_half[1]
        skin = (face.shell == 0) & (p[:, 2] > 0)
        # Rims travel along the ball: the upper to the lower one, what is further off follows less.
        edge = np.sqrt(np.clip(1.0 - x**2, 0.0, 1.0))
        upper = skin * (y > 0) * np.exp(-(((y - edge) / 0.9) ** 2)) * (np.abs(x) < 1.1) * edge
        lower = skin * (y <= 0) * np.exp(-(((y + edge) / 0.9) ** 2)) * (np.abs(x) < 1.1) * edge
        way = -1.7 * face.eye_half[1] * strength if name == "blink" else 0.5 * face.eye_half[1] * strength
        out = zero.copy()
        out[:, 1] = way * upper + (0.12 * face.eye_half[1] * lower if name == "blink" else 0.0)
        out[:, 2] = 0.25 * np.abs(out[:, 1]) * (1 if name == "blink" else -1)
        return out
    if name.startswith("jaw"):
        y = p[:, 1] - face.mouth[1]
        below = (
            np.clip(-y / (0.05 * t), 0.0, 1.0) * np.clip(1.35 - np.abs(p[:, 0]) / w, 0.0, 1.0) * (p[:, 2] > -0.45 * d)
        )
        share = np.where(face.shell == 0, below, np.isin(face.shell, (3, 4)) * 1.0)
        if name == "jaw open":
            return _turned(p, np.array([0.0, face.mouth[1] + 0.35 * t, -0.2 * d]), (1, 0, 0), 17.0 * strength, share)
        way = {"forward": (0, 0, 0.09 * d), "left": (0.11 * w, 0, 0), "right": (-0.11 * w, 0, 0)}[name.split()[1]]
        return share[:, None] * np.array(way) * strength
    if name == "tongue out":
        tip = np.clip((p[:, 2] - p[face.shell == 3][:, 2].min()) / np.ptp(p[face.shell == 3][:, 2]), 0.0, 1.0)
        return ((face.shell == 3) * tip)[:, None] * np.array([0.0, -0.01 * t, 0.32 * d]) * strength
    if name.startswith("brow"):
        high = eye[1] + face.eye_half[1] + 0.12 * t
        at = {"brow inner up": 0.17, "brow outer up": 0.62, "brow down": 0.36}[name]
        hill = _hill(face, side * at * w, high, (0.26 if name != "brow down" else 0.4) * w, 0.14 * t)
        return (
            hill[:, None]
            * np.array(
                [
                    -0.02 * w * side if name == "brow down" else 0.0,
                    0.075 * t * (-0.8 if name == "brow down" else 1.0),
                    0.0,
                ]
            )
            * strength
        )
    corner = np.array([side * face.mouth_half, face.mouth[1]])
    if name in ("smile", "mouth corner down"):
        hill = _hill(face, *corner, 0.34 * w, 0.17 * t)
        way = (0.1 * w * side, 0.085 * t, -0.02 * d) if name == "smile" else (0.0, -0.075 * t, 0.0)
        out = hill[:, None] * np.array(way) * strength
        if name == "smile":
            out += (_hill(face, side * 0.55 * w, 0.45 * face.mouth[1], 0.3 * w, 0.16 * t))[:, None] * np.array(
                [0, 0.02 * t, 0.03 * d]
            )
        return out
    if name in ("upper lip up", "lower lip down"):
        lip = _lip(face, name == "upper lip up") * np.clip(0.5 + side * p[:, 0] / (0.5 * face.mouth_half), 0.0, 1.0)
        return lip[:, None] * np.array([0.0, 0.055 * t if name == "upper lip up" else -0.06 * t, 0.01 * d]) * strength
    if name in ("mouth pucker", "mouth funnel"):
        out = zero.copy()
        near = _hill(face, 0.0, face.mouth[1], 1.5 * face.mouth_half, 0.2 * t)
        out[:, 0] = -near * p[:, 0] * (0.42 if name == "mouth pucker" else 0.24)
        out[:, 2] = near * d * (0.16 if name == "mouth pucker" else 0.13)
        if name == "mouth funnel":
            out[:, 1] = 0.045 * t * (_lip(face, True) - _lip(face, False))
        return out * strength
    if name == "cheek puff":
        hill = _hill(face, side * 0.62 * w, 0.75 * face.mouth[1], 0.36 * w, 0.24 * t)
        return hill[:, None] * np.array([0.12 * w * side, 0.0, 0.1 * d]) * strength
    hill = _hill(face, side * 0.15 * w, 0.5 * face.mouth[1] + 0.05 * t, 0.22 * w, 0.16 * t)
    return hill[:, None] * np.array([0.0, 0.06 * t, 0.015 * d]) * strength


def made_head(seed: int, convention: str) -> MadeHead:
    """One head, its shapes called by a convention."""
    rng = np.random.default_rng(seed)
    face = _sculpt(rng)
    left, right, words = CONVENTIONS[convention]
    rows, truth = [], {}
    number = 0
    for name, unit in [*SIDED.items(), *WHOLE.items()]:
        for side, pattern in ((1.0, left), (-1.0, right)) if name in SIDED else ((1.0, "{}"),):
            number += 1
            if words is None:
                called = pattern.format(number) if name in SIDED else f"shape {number}"
            else:
                word = words.get(name, name)
                called = pattern.format(word.title().replace(" ", "") if convention in ("camel", "prefix") else word)
                if name in WHOLE and convention == "codes" and name in words:
                    called = f"AU{word}"
            end = {1.0: "_left", -1.0: "_right"}[side] if name in SIDED else ""
            rows.append(_shape(face, name, side, rng))
            truth[called] = unit + end
    order = rng.permutation(len(rows))
    names = [list(truth)[i] for i in order]
    vertices = face.points + [0.0, 1.5, 0.0]
    count = len(vertices)
    mesh = Mesh(
        "head", vertices, np.tile([0.0, 0.0, 1.0], (count, 1)), face.triangles, np.zeros((count, 1), dtype=int),
        np.ones((count, 1)), np.eye(4)[None], morph_names=tuple(names), morph_deltas=np.array(rows)[order],
        morph_weights=np.zeros(len(names)),
    )  # fmt: skip
    skeleton = Skeleton(("head",), [-1], [[0.0, 0.0, 0.0, 1.0]], [[0.0, 0.0, 0.0]])
    return MadeHead(fairswap.Figure(f"{convention} {seed}", skeleton, (mesh,)), truth)
