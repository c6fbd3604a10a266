"""A crowd of generated heads, unlike in build, mesh, shapes and names: what drafting of face charts is tried on.

No head of it is like another: other grids, other places of mouth, eyes and brows, shapes that go more or less far and
not quite the way of our neutral face, some sided and some not, some that are sums of others, some that mend others.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from fairswap.demo.heads import make_mask, mask_mesh, plain_depth
from fairswap.face.anatomy import FacePoints, displacement
from fairswap.face.units import ACTIONS, UNITS, vector
from fairswap.model.arrays import Floats
from fairswap.model.figure import Figure
from fairswap.model.skeleton import Skeleton

KINDS = ("words", "short", "German", "French", "Spanish", "Japanese", "numbers")
# Actions as they may be called: two ways in English, an abbreviation, German, French, Spanish, Japanese.
_CALLED = {
    "inner_brow_raiser": ("Inner Brow Raise|eyebrow_inner_up", "brwInrUp", "Braue innen hoch", "Sourcil interieur haut", "Ceja interior arriba", "mayu uchi age"),
    "outer_brow_raiser": ("Outer Brow Raise|eyebrow_outer_up", "brwOtrUp", "Braue aussen hoch", "Sourcil externe haut", "Ceja exterior arriba", "mayu soto age"),
    "brow_lowerer": ("Brow Lower Down|eyebrows_down", "brwDwn", "Braue runter", "Sourcil baisse", "Ceja abajo", "mayu sage"),
    "upper_lid_raiser": ("Upper Lid Raise|eye_wide", "eyeOpn", "Auge weit", "Oeil ecarquille", "Ojo abre", "me hirogeru"),
    "lid_tightener": ("Lid Tighten|eye_squint", "eyeSqnt", "Auge eng", "Oeil plisse", "Ojo entrecerrar", "me hosomeru"),
    "eye_closure": ("Eye Close|blink", "eyeCls", "Auge zu", "Oeil ferme", "Ojo cierra", "me toji"),
    "nose_wrinkler": ("Nose Wrinkle|nose_sneer", "nosWrkl", "Nase ruempfen", "Nez plissement", "Nariz arruga", "hana shiwa"),
    "nostril_dilator": ("Nostril Dilate|nostril_flare", "nstrlFlare", "Nasenfluegel blaehen", "Narine dilate", "Narina dilatar", "bikou hirogari"),
    "cheek_raiser": ("Cheek Raise|cheek_lift", "chkUp", "Wange hoch", "Joue haut", "Mejilla arriba", "hoho age"),
    "cheek_puff": ("Cheek Puff|cheek_inflate", "chkPff", "Wange aufblasen", "Joue gonfle", "Mejilla hinchar", "hoho fukurami"),
    "cheek_suck": ("Cheek Suck|cheek_hollow", "chkIn", "Wange hohl", "Joue creux", "Mejilla hueco", "hoho maku"),
    "upper_lip_raiser": ("Upper Lip Raise|upper_lip_up", "lipUprUp", "Oberlippe hoch", "Levre superieure haut", "Labio superior arriba", "kuchibiru ue age"),
    "lip_corner_puller": ("Lip Corner Up|smile", "mthSml", "Mundwinkel hoch", "Bouche sourire", "Boca sonrisa", "kuchi egao"),
    "dimpler": ("Dimpler|mouth_dimple", "mthDmp", "Gruebchen", "Fossette", "Hoyuelo", "ekubo"),
    "lip_corner_depressor": ("Lip Corner Down|mouth_frown", "mthCrnDwn", "Mundwinkel runter", "Coin bouche bas", "Comisura boca abajo", "kuchi kado sage"),
    "lower_lip_depressor": ("Lower Lip Depress|lower_lip_down", "lipLwrDwn", "Unterlippe runter", "Levre inferieure bas", "Labio inferior abajo", "kuchibiru shita sage"),
    "lip_stretcher": ("Lip Stretch|lips_stretched", "mthStrch", "Lippe dehnen", "Levre etire", "Labio estirar", "kuchibiru hiku"),
    "chin_raiser": ("Chin Raise|chin_up", "chinUp", "Kinn hoch", "Menton haut", "Barbilla arriba", "mento ageru"),
    "lip_pucker": ("Lip Pucker|kiss", "mthPckr", "Kuss", "Baiser", "Beso", "kisu"),
    "lip_funneler": ("Lip Funnel|mouth_funnel", "mthFnl", "Lippe Trichter", "Levre entonnoir", "Labio embudo", "kuchibiru funnel"),
    "lip_suck": ("Lips Roll In|lip_suck", "lipRoll", "Lippe rollen", "Levre rouler", "Labio enrollar", "kuchibiru maku"),
    "lips_part": ("Lips Part|lips_open", "lipOpn", "Lippen offen", "Levres ouvrir", "Labios abrir", "kuchibiru akeru"),
    "jaw_drop": ("Jaw Drop|mouth_open", "jawOpn", "Kiefer offen", "Machoire ouvre", "Mandibula abre", "ago akeru"),
    "jaw_thrust": ("Jaw Thrust|jaw_ahead", "jawFwd", "Kiefer vor", "Machoire avant", "Mandibula adelante", "ago mae"),
    "tongue_show": ("Tongue Show|tongue_shown", "tngOut", "Zunge raus", "Langue dehors", "Lengua fuera", "shita dashi"),
    "joy": ("Happy|expression_joy", "joy", "Freude", "Joie", "Alegria", "yorokobi"),
    "sadness": ("Sad|expression_sadness", "sad", "Traurig", "Tristesse", "Tristeza", "kanashimi"),
    "anger": ("Angry|expression_anger", "angry", "Wut", "Colere", "Enojo", "ikari"),
    "surprise": ("Surprised|expression_surprise", "surprise", "Ueberrascht", "Surpris", "Sorpresa", "odoroki"),
    "viseme_a": ("say ah|viseme_aa", "vis_ah", "Laut a", "son phoneme a", "decir a", "say a"),
    "viseme_o": ("say oh|viseme_o", "vis_oh", "Laut o", "phoneme o", "decir o", "say o"),
    "viseme_ch": ("say ch|viseme_ch", "vis_ch", "Laut sch ch", "phoneme ch", "decir ch", "say ch"),
}  # fmt: skip
_SIDES = {
    "words": ("Left", "Right"), "short": ("L", "R"), "German": ("links", "rechts"), "French": ("gauche", "droite"),
    "Spanish": ("izquierda", "derecha"), "Japanese": ("hidari", "migi"), "numbers": ("", ""),
}  # fmt: skip
_PALETTE = {
    word: np.full(3, 0.5)
    for word in ("skin", "lip", "brow", "lash", "blush", "white", "iris", "pupil", "teeth", "cave", "tongue")
}


@dataclass(frozen=True, eq=False)
class CrowdHead:
    """A generated head, and the truth of its shapes: units of each; of sums and correctives their parts."""

    figure: Figure
    kind: str
    truth: Mapping[str, Mapping[str, float]]
    sums: Mapping[str, tuple[str, ...]]
    correctives: Mapping[str, tuple[str, ...]]


def crowd_head(seed: int, kind: str) -> CrowdHead:
    """One head of the crowd; the same ``seed`` and ``kind`` give the same head."""
    rng = np.random.default_rng(seed)
    build = rng.uniform(-0.02, 0.02, 4)

    def depth(x: Floats, y: Floats) -> Floats:
        return plain_depth(x * (1 + build[0] * 3), y + build[1]) * (1 + build[2] * 4)

    mask = make_mask(depth, int(rng.integers(34, 48)), int(rng.integers(16, 24)) * 2 + 1)
    sided = bool(rng.random() < 0.7)
    shapes = _chosen_shapes(rng, sided)
    own = _ways_of(mask.points, rng)
    names = _names(list(shapes), kind, rng)
    deltas = {names[key]: np.einsum("u,unc->nc", vector(units), own) for key, units in shapes.items()}
    truth = {names[key]: units for key, units in shapes.items()}
    sums, correctives = {}, {}
    singles = [key for key in shapes if len(vector(shapes[key]).nonzero()[0]) <= 2]
    for number in range(int(rng.integers(1, 4))):
        a, b = (singles[i] for i in rng.choice(len(singles), 2, replace=False))
        if np.abs(vector(shapes[a]) @ vector(shapes[b])) > 0.0:
            continue
        name = f"{names[a]}+{names[b]}" if kind != "numbers" else f"s{900 + number}"
        deltas[name] = deltas[names[a]] + deltas[names[b]]
        sums[name] = (names[a], names[b])
    for number in range(int(rng.integers(0, 3))):
        a, b = (singles[i] for i in rng.choice(len(singles), 2, replace=False))
        both = np.linalg.norm(deltas[names[a]], axis=1) * np.linalg.norm(deltas[names[b]], axis=1)
        if both.max() < 1e-6:
            continue
        name = f"fix {names[a]} {names[b]}" if kind != "numbers" else f"s{950 + number}"
        deltas[name] = 0.012 * (both / both.max())[:, None] * np.array([0.0, 0.2, 1.0])
        correctives[name] = (names[a], names[b])
    scale, wide = float(rng.uniform(0.16, 0.34)), float(rng.uniform(0.9, 1.12))
    stretch, at = np.array([wide, 1.0, 1.0]) * scale, rng.uniform(-0.3, 1.6, 3) * [0.0, 1.0, 0.1]
    order = rng.permutation(len(deltas)) if kind == "numbers" else np.arange(len(deltas))
    listed = [list(deltas)[i] for i in order.tolist()]
    skeleton = Skeleton(("Head",), np.array([-1]), np.array([[0.0, 0, 0, 1]]), np.zeros((1, 3)))
    count = len(mask.places)
    mesh = mask_mesh(
        mask, "face", lambda places: places * stretch + at, lambda directions: directions * stretch, {},
        np.zeros((count, 1), dtype=np.intp), np.ones((count, 1)), np.eye(4)[None], _PALETTE,
    )  # fmt: skip
    mesh = replace(
        mesh, morph_names=tuple(listed), morph_weights=np.zeros(len(listed)),
        morph_deltas=np.array([deltas[name] * stretch for name in listed]),
    )  # fmt: skip
    return CrowdHead(Figure(f"head {seed}", skeleton, (mesh,)), kind, truth, sums, correctives)


def _chosen_shapes(rng: np.random.Generator, sided: bool) -> dict[str, dict[str, float]]:
    """By a key: an action (with its side), expression or viseme, and what it is in units."""
    has_sides = {action.name for action in ACTIONS if action.sided}
    out: dict[str, dict[str, float]] = {}
    for name in _CALLED:
        if rng.random() < 0.3:
            continue
        if name in has_sides and sided:
            out |= {f"{name}_{side}": {f"{name}_{side}": 1.0} for side in ("left", "right")}
        else:
            out[name] = {name: 1.0}
    return out


def _ways_of(points: FacePoints, rng: np.random.Generator) -> Floats:
    """What each unit does to this face: stronger or weaker, shifted, and with a little of something else."""
    shift = rng.normal(0.0, 0.006, 2)
    moved = FacePoints(
        points.xy * rng.normal(1.0, 0.02, 2) + shift * [0.0, 1.0], points.over_mouth, points.over_eye, points.organ
    )
    directions = np.stack([displacement(unit, moved) for unit in UNITS])
    strength = rng.uniform(0.65, 1.35, len(UNITS))
    for number, unit in enumerate(UNITS):
        if unit.endswith("_right"):
            strength[number] = strength[number - 1]
    sway = rng.normal(0.0, 0.05, (len(UNITS), 3))
    size = np.linalg.norm(directions, axis=2, keepdims=True)
    return strength[:, None, None] * (directions + size * sway[:, None])


def _names(keys: list[str], kind: str, rng: np.random.Generator) -> dict[str, str]:
    if kind == "numbers":
        return {key: f"s{number:03d}" for number, key in enumerate(keys)}
    column = {"words": 0, "short": 1, "German": 2, "French": 3, "Spanish": 4, "Japanese": 5}[kind]
    variant, out = int(rng.integers(0, 2)), {}
    for key in keys:
        base, _, side = key.rpartition("_")
        if base not in _CALLED or side not in ("left", "right"):
            base, side = key, ""
        called = _CALLED[base][column].split("|")
        words = called[variant % len(called)]
        mark = _SIDES[kind][side == "right"] if side else ""
        joint = "_" if "_" in words or kind == "short" else " "
        out[key] = f"{words}{joint}{mark}" if mark else words
    return out
