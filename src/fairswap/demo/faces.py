"""The faces of the troupe: Juniper's sided morphs, Osric's bones, Pip's few shapes; each in its stage's own words."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from fairswap.bones.roles import SIDES
from fairswap.demo.anatomy import FACE_BONES, MIDDLE_FACE_BONES, Body
from fairswap.demo.heads import Depth, Mask, make_mask, mask_mesh, rim_of
from fairswap.demo.sculpt import Shape, skin_depth
from fairswap.face.anatomy import EYE_LEFT, EYE_OPEN, EYE_RIGHT, EYE_X, EYE_Y, SKIN, eye_open, jaw_fraction
from fairswap.model.arrays import Floats, Integers
from fairswap.model.mesh import Mesh

# Juniper's shapes are called after the actions of the coding system; L and R are her own sides.
_JUNIPER_SIDED = (
    "inner_brow_raiser", "outer_brow_raiser", "brow_lowerer", "upper_lid_raiser", "lid_tightener", "eye_closure",
    "nose_wrinkler", "nostril_dilator", "cheek_raiser", "cheek_puff", "cheek_suck", "upper_lip_raiser",
    "lip_corner_puller", "dimpler", "lip_corner_depressor", "lower_lip_depressor", "lip_stretcher",
)  # fmt: skip
_JUNIPER_WHOLE = (
    "chin_raiser", "lip_pucker", "lip_funneler", "lip_tightener", "lip_pressor", "lips_part", "lip_suck",
    "jaw_thrust", "jaw_left", "jaw_right", "tongue_show",
)  # fmt: skip
_OTHERWISE = {"cheek_puff": "Cheek Puffer", "jaw_left": "Jaw Sideways L", "jaw_right": "Jaw Sideways R"}
PIP_SHAPES = {
    "say ah": {"viseme_a": 1.0}, "say ee": {"viseme_i": 1.0}, "say oo": {"viseme_u": 1.0}, "say oh": {"viseme_o": 1.0},
    "say mm": {"viseme_pbm": 1.0},
    "happy": {"joy": 1.0}, "sad": {"sadness": 1.0}, "cross": {"anger": 1.0}, "afraid": {"fear": 1.0},
    "yuck": {"disgust": 1.0}, "wow": {"surprise": 1.0},
}  # fmt: skip


def _words(action: str) -> str:
    return _OTHERWISE.get(action, action.replace("_", " ").title())


JUNIPER_SHAPES: dict[str, dict[str, float]] = {
    **{f"{_words(action)} {side[0].upper()}": {f"{action}_{side}": 1.0} for action in _JUNIPER_SIDED for side in SIDES},
    **{_words(action): {action: 1.0} for action in _JUNIPER_WHOLE},
    "Grin": {"lip_corner_puller": 1.0},  # the sum of both smiles
}
# How far around each of Osric's face bones the skin goes with it, in head sizes.
_OSRIC_REACH = {
    "Brow Inner": (0.07, 0.07), "Brow Outer": (0.07, 0.07), "Cheek": (0.10, 0.075), "Nostril": (0.04, 0.05),
    "Lip Corner": (0.055, 0.055), "Lip Upper": (0.075, 0.04), "Lip Lower": (0.075, 0.04),
}  # fmt: skip
_GRID = {"Juniper": (40, 43), "Osric": (40, 43), "Pip": (36, 37)}


def shapes_of_face(name: str) -> Mapping[str, Mapping[str, float]]:
    """The morphs of a member of the troupe, and what each is in units."""
    return {"Juniper": JUNIPER_SHAPES, "Pip": PIP_SHAPES}.get(name, {})


def face_of(body: Body, shapes: Sequence[Shape], colors: Mapping[str, Floats], binds: Floats) -> Mesh:
    """The face mesh of a member of the troupe, in the T-pose."""
    size, pivot, wide = head_measure(body)
    mask = make_mask(_depth_on(shapes, size, pivot, wide), *_GRID[body.name])
    stretch = np.array([size * wide, size, size])
    skin = colors["skin"]
    palette = {
        "skin": skin, "lip": colors["lip"], "brow": colors["hair"] * 0.7, "lash": colors["boot"],
        "blush": skin * [1.0, 0.86, 0.84], "white": np.array([0.86, 0.86, 0.82]), "iris": colors["iris"],
        "pupil": np.full(3, 0.01), "teeth": np.array([0.87, 0.85, 0.78]), "cave": np.array([0.03, 0.006, 0.006]),
        "tongue": np.array([0.55, 0.14, 0.13]),
    }  # fmt: skip
    joints, weights = _weights(body, mask)
    return mask_mesh(
        mask, f"{body.name} face", lambda places: places * stretch + [0.0, pivot, 0.0], lambda moves: moves * stretch,
        shapes_of_face(body.name), joints, weights, binds, palette,
    )  # fmt: skip


def head_measure(body: Body) -> tuple[float, float, float]:
    """The size of a head in metres, the height of its pivot, and how wide it is against Juniper's."""
    m = body.measures
    return m.crown - m.head, m.head, 1.0 if body.name == "Juniper" else 1.12


def recessed(vertices: Floats, body: Body) -> Floats:
    """The sculpted head made hollow behind its face."""
    size, pivot, wide = head_measure(body)
    x, y, z = vertices[:, 0] / (size * wide), (vertices[:, 1] - pivot) / size, vertices[:, 2] / size
    rim = rim_of(x, y)
    fraction = np.clip((0.74 + 0.2 * np.clip((0.14 - y) / 0.08, 0.0, 1.0) - rim) / 0.25, 0.0, 1.0) * (z > 0.08)
    out = vertices.copy()
    out[:, 2] -= 0.24 * size * fraction * fraction * (3.0 - 2.0 * fraction)
    return out


def _depth_on(shapes: Sequence[Shape], size: float, pivot: float, wide: float) -> Depth:
    skin = [shape for shape in shapes if shape.group == "body"]

    def depth(x: Floats, y: Floats) -> Floats:
        return skin_depth(skin, np.asarray(x) * size * wide, np.asarray(y) * size + pivot, 0.7 * size) / size

    return depth


def _weights(body: Body, mask: Mask) -> tuple[Integers, Floats]:
    """Head, jaw and eyes; and of Osric the face bones."""
    x, y = mask.points.xy.T
    skin = mask.points.organ == SKIN
    shares: dict[str, Floats] = {}
    if "jaw" in body.index:
        shares["jaw"] = jaw_fraction(mask.points)
        shares["eye_left"], shares["eye_right"] = ((mask.points.organ == o) * 1.0 for o in (EYE_LEFT, EYE_RIGHT))
    if body.measures.face_bones:
        for sign, word in ((1.0, "Port "), (-1.0, "Starboard ")):
            for bone, place in FACE_BONES.items():
                shares[word + bone] = skin * _near(bone, place, x * sign, y, mask)
        for bone, place in MIDDLE_FACE_BONES.items():
            shares[bone] = skin * _near(bone, place, x, y, mask)
        # The lower lip rides on the jaw: what it takes, the jaw does not move twice.
        total = sum(fraction for bone, fraction in shares.items() if bone not in ("jaw", "eye_left", "eye_right"))
        over = np.maximum(np.asarray(total), 1.0)
        for bone in shares:
            if bone not in ("jaw", "eye_left", "eye_right"):
                shares[bone] = shares[bone] / over
        shares["jaw"] = shares["jaw"] * np.clip(1.0 - np.asarray(total), 0.0, 1.0)
    matrix = np.stack(list(shares.values()), axis=1) if shares else np.zeros((len(x), 0))
    matrix = np.concatenate([matrix, np.clip(1.0 - matrix.sum(axis=1, keepdims=True), 0.0, 1.0)], axis=1)
    bones = np.array([body.index[bone] for bone in shares] + [body.index["head"]], dtype=np.intp)
    order = np.argsort(-matrix, axis=1, kind="stable")[:, :4]
    weights = np.take_along_axis(matrix, order, axis=1)
    weights[weights < 0.004] = 0.0
    return bones[order], weights / weights.sum(axis=1, keepdims=True)


def _near(bone: str, place: tuple[float, float, float], x: Floats, y: Floats, mask: Mask) -> Floats:
    if bone.startswith("Lid"):
        across = x - EYE_X
        gap = eye_open(across)
        over = mask.points.over_eye > 0.5
        rim = np.where(over, EYE_Y + 0.6 * gap, EYE_Y - 0.4 * gap)
        fraction = gap / EYE_OPEN * np.exp(-(((y - rim) / 0.035) ** 2))
        return fraction * (over if bone == "Lid Upper" else ~over)
    reach = _OSRIC_REACH[bone]
    fraction = np.exp(-(((x - place[0]) / reach[0]) ** 2) - ((y - place[1]) / reach[1]) ** 2)
    if bone == "Lip Upper":
        return fraction * mask.points.over_mouth
    return fraction * (1.0 - mask.points.over_mouth) if bone == "Lip Lower" else fraction
