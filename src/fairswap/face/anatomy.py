"""What each face unit does to a face: how far each place of it goes. Our own neutral face, in words of numbers.

Places are in head sizes (chin to crown is about 1): x to the figure's left, y up from the pivot of the head, z ahead.
The same table gives the landmarks that results are measured at, tells which unit a stranger's morph is, moves face
bones, and sculpts the demo heads.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache

import numpy as np

from fairswap.face.units import UNITS, base_of, side_of
from fairswap.model.arrays import Floats, Integers

MOUTH_Y, MOUTH_HALF = 0.155, 0.105
EYE_X, EYE_Y, EYE_HALF, EYE_OPEN, EYE_RADIUS = 0.145, 0.445, 0.08, 0.085, 0.10
GAZE_DEGREES, JAW_DEGREES = 28.0, 22.0
SKIN, EYE_LEFT, EYE_RIGHT, TONGUE, LOWER_TEETH, FIXED = range(6)

_ANY, _ABOVE, _BELOW, _OVER_EYE, _UNDER_EYE = range(5)
# For each action: centre (x, y), reach (x, y), way (x, y, z), and the part of the face it is limited to.
# Of sided actions the left side.
_Bump = tuple[float, float, float, float, float, float, float, int]
_BUMPS: dict[str, tuple[_Bump, ...]] = {
    "inner_brow_raiser": ((0.06, 0.56, 0.060, 0.07, 0.0, 0.050, 0.005, _ANY),),
    "outer_brow_raiser": ((0.205, 0.55, 0.070, 0.07, 0.0, 0.050, 0.0, _ANY),),
    "brow_lowerer": ((0.09, 0.55, 0.095, 0.07, -0.022, -0.040, 0.006, _ANY),),
    "upper_lid_raiser": ((EYE_X, 0.485, 0.10, 0.045, 0.0, 0.024, -0.004, _OVER_EYE),),
    "lid_tightener": (
        (EYE_X, 0.41, 0.10, 0.045, 0.0, 0.026, 0.004, _UNDER_EYE),
        (EYE_X, 0.48, 0.10, 0.045, 0.0, -0.014, 0.004, _OVER_EYE),
    ),
    "nose_wrinkler": (
        (0.035, 0.37, 0.045, 0.055, 0.0, 0.030, 0.004, _ANY), (0.055, 0.52, 0.05, 0.04, -0.006, -0.014, 0.0, _ANY),
    ),
    "nostril_dilator": ((0.05, 0.30, 0.026, 0.026, 0.018, 0.004, 0.0, _ANY),),
    "nostril_compressor": ((0.05, 0.30, 0.026, 0.026, -0.016, -0.004, 0.0, _ANY),),
    "cheek_raiser": (
        (0.17, 0.34, 0.10, 0.075, 0.004, 0.042, 0.016, _ANY), (EYE_X, 0.41, 0.09, 0.04, 0.0, 0.010, 0.002, _UNDER_EYE),
    ),
    "cheek_puff": ((0.20, 0.21, 0.085, 0.085, 0.040, 0.0, 0.036, _ANY),),
    "cheek_suck": ((0.20, 0.21, 0.085, 0.085, -0.032, 0.0, -0.030, _ANY),),
    "upper_lip_raiser": ((0.055, 0.19, 0.05, 0.05, 0.0, 0.042, 0.006, _ABOVE),),
    "nasolabial_deepener": ((0.105, 0.25, 0.045, 0.055, 0.010, 0.016, -0.014, _ANY),),
    "lip_corner_puller": (
        (MOUTH_HALF, 0.165, 0.055, 0.055, 0.045, 0.048, -0.014, _ANY), (0.17, 0.25, 0.06, 0.06, 0.010, 0.018, 0.012,
        _ANY),
    ),
    "sharp_lip_puller": (
        (MOUTH_HALF, 0.165, 0.045, 0.05, 0.008, 0.050, -0.010, _ANY), (0.16, 0.26, 0.06, 0.05, 0.010, 0.012, 0.026,
        _ANY),
    ),
    "dimpler": ((MOUTH_HALF + 0.01, 0.165, 0.045, 0.040, 0.026, 0.0, -0.034, _ANY),),
    "lip_corner_depressor": ((MOUTH_HALF, 0.160, 0.055, 0.055, 0.014, -0.048, -0.010, _ANY),),
    "lower_lip_depressor": ((0.05, 0.125, 0.05, 0.045, 0.0, -0.040, 0.002, _BELOW),),
    "lip_stretcher": ((MOUTH_HALF + 0.005, 0.160, 0.065, 0.055, 0.050, -0.012, -0.022, _ANY),),
    "chin_raiser": (
        (0.0, 0.05, 0.10, 0.06, 0.0, 0.036, 0.022, _ANY), (0.0, 0.135, 0.07, 0.03, 0.0, 0.010, 0.014, _BELOW),
        (0.0, 0.175, 0.07, 0.025, 0.0, 0.010, 0.006, _ABOVE),
    ),
    "lip_pucker": (
        (MOUTH_HALF, 0.16, 0.055, 0.05, -0.046, 0.0, 0.022, _ANY), (-MOUTH_HALF, 0.16, 0.055, 0.05, 0.046, 0.0, 0.022,
        _ANY), (0.0, 0.155, 0.06, 0.05, 0.0, 0.0, 0.044, _ANY),
    ),
    "lip_funneler": (
        (MOUTH_HALF, 0.16, 0.05, 0.05, -0.026, 0.0, 0.014, _ANY), (-MOUTH_HALF, 0.16, 0.05, 0.05, 0.026, 0.0, 0.014,
        _ANY), (0.0, 0.18, 0.07, 0.04, 0.0, 0.026, 0.034, _ABOVE), (0.0, 0.13, 0.07, 0.04, 0.0, -0.028, 0.034, _BELOW),
    ),
    "lip_tightener": (
        (0.0, 0.175, 0.11, 0.028, 0.0, -0.014, -0.004, _ABOVE), (0.0, 0.135, 0.11, 0.028, 0.0, 0.014, -0.004, _BELOW),
        (MOUTH_HALF, 0.16, 0.045, 0.04, -0.014, 0.0, 0.004, _ANY), (-MOUTH_HALF, 0.16, 0.045, 0.04, 0.014, 0.0, 0.004,
        _ANY),
    ),
    "lip_pressor": (
        (0.0, 0.172, 0.10, 0.022, 0.0, -0.009, 0.010, _ABOVE), (0.0, 0.138, 0.10, 0.022, 0.0, 0.009, 0.010, _BELOW),
    ),
    "lips_part": (
        (0.0, 0.175, 0.09, 0.030, 0.0, 0.014, 0.002, _ABOVE), (0.0, 0.135, 0.09, 0.034, 0.0, -0.026, 0.004, _BELOW),
    ),
    "lip_suck": (
        (0.0, 0.172, 0.10, 0.026, 0.0, -0.010, -0.040, _ABOVE), (0.0, 0.138, 0.10, 0.026, 0.0, 0.010, -0.040, _BELOW),
    ),
}  # fmt: skip
_JAW_WAYS = {
    "jaw_drop": (0.0, -0.135, -0.035),
    "jaw_thrust": (0.0, 0.0, 0.050),
    "jaw_left": (0.050, 0.0, 0.0),
    "jaw_right": (-0.050, 0.0, 0.0),
}
_GAZE = {"gaze_up": (0.0, 1.0), "gaze_down": (0.0, -1.0), "gaze_in": (-1.0, 0.0), "gaze_out": (1.0, 0.0)}


@dataclass(frozen=True, eq=False)
class FacePoints:
    """Places on a face.

    Attributes
    ----------
    xy : (n, 2) array
        In head sizes.
    over_mouth, over_eye : (n,) arrays
        1 above the mouth's (the eye's) slit, 0 below it; what is on a lip or a lid is not told by its place alone.
    organ : (n,) integers
        ``SKIN``, ``EYE_LEFT``, ``EYE_RIGHT``, ``TONGUE``, ``LOWER_TEETH`` or ``FIXED``.
    """

    xy: Floats
    over_mouth: Floats
    over_eye: Floats
    organ: Integers

    @classmethod
    def on_skin(cls, xy: Floats) -> FacePoints:
        """Skin, above or below the slits by its height."""
        curve = mouth_curve(xy[:, 0])
        return cls(
            xy,
            np.where(xy[:, 1] > curve, 1.0, 0.0),
            np.where(xy[:, 1] > EYE_Y, 1.0, 0.0),
            np.zeros(len(xy), dtype=np.intp),
        )


def mouth_curve(x: Floats) -> Floats:
    """The height of the closed mouth."""
    return MOUTH_Y + 1.2 * np.minimum(np.abs(x), 0.15) ** 2


def eye_open(across: Floats) -> Floats:
    """How far the lids stand apart, by the distance from the middle of the eye."""
    return EYE_OPEN * np.sqrt(np.clip(1.0 - (across / EYE_HALF) ** 2, 0.0, 1.0))


def jaw_fraction(points: FacePoints) -> Floats:
    """How much each place goes with the jaw: all of the chin, the lower lip towards its middle, nothing above."""
    x, y = points.xy.T
    under = np.clip((mouth_curve(x) - y) / 0.10, 0.0, 1.0)
    under = under * under * (3.0 - 2.0 * under)
    lip = np.clip(1.0 - (x / MOUTH_HALF) ** 4, 0.0, 1.0)
    fraction = np.maximum(under, lip) * np.exp(-((x / 0.30) ** 4)) * (1.0 - points.over_mouth)
    return np.asarray(np.where(points.organ == SKIN, fraction, np.isin(points.organ, (TONGUE, LOWER_TEETH)) * 1.0))


def displacement(unit: str, points: FacePoints) -> Floats:
    """Where a unit at its full takes each place: ``(n, 3)`` in head sizes."""
    action = base_of(unit)
    sign = -1.0 if side_of(unit) == "right" else 1.0
    x, y = points.xy[:, 0] * sign, points.xy[:, 1]
    out = np.zeros((len(x), 3))
    if action in _JAW_WAYS:
        return jaw_fraction(points)[:, None] * np.array(_JAW_WAYS[action])
    if action in _GAZE:
        ball = points.organ == (EYE_RIGHT if sign < 0 else EYE_LEFT)
        shift = np.sin(np.radians(GAZE_DEGREES)) * EYE_RADIUS * np.array([*_GAZE[action], 0.0])
        out[ball] = shift * [sign, 1.0, 1.0]
        return out
    if action == "tongue_show":
        out[points.organ == TONGUE] = (0.0, 0.012, 0.085)
        return out
    skin = (points.organ == SKIN) * 1.0
    if action == "eye_closure":
        across = x - EYE_X
        gap = eye_open(across) * skin
        rim = np.where(points.over_eye > 0.5, EYE_Y + 0.6 * gap, EYE_Y - 0.4 * gap)
        near = np.exp(-(((y - rim) / 0.035) ** 2))
        out[:, 1] = near * gap * np.where(points.over_eye > 0.5, -0.85, 0.15)
        out[:, 2] = near * gap * 0.16
        return out
    parts = {
        _ANY: skin, _ABOVE: skin * points.over_mouth, _BELOW: skin * (1.0 - points.over_mouth),
        _OVER_EYE: skin * points.over_eye, _UNDER_EYE: skin * (1.0 - points.over_eye),
    }  # fmt: skip
    for centre_x, centre_y, reach_x, reach_y, dx, dy, dz, part in _BUMPS[action]:
        fraction = np.exp(-(((x - centre_x) / reach_x) ** 2) - ((y - centre_y) / reach_y) ** 2) * parts[part]
        out += fraction[:, None] * np.array([dx * sign, dy, dz])
    return out


def gaze_axis(unit: str) -> Floats:
    """The axis that an eye turns about, of a gaze unit: left, up, ahead."""
    across, up = _GAZE[base_of(unit)]
    return np.array([-up, across * (-1.0 if side_of(unit) == "right" else 1.0), 0.0])


def _landmarks() -> tuple[tuple[str, ...], FacePoints]:
    rows: list[tuple[str, float, float, float, float, int]] = []
    for sign, side in ((1.0, "left"), (-1.0, "right")):
        rows += [
            (f"inner brow {side}", sign * 0.06, 0.56, 1, 1, SKIN), (f"mid brow {side}", sign * 0.13, 0.57, 1, 1, SKIN),
            (f"outer brow {side}", sign * 0.205, 0.55, 1, 1, SKIN),
            (f"upper lid {side}", sign * EYE_X, EYE_Y + 0.05, 1, 1, SKIN),
            (f"lower lid {side}", sign * EYE_X, EYE_Y - 0.034, 1, 0, SKIN),
            (f"pupil {side}", sign * EYE_X, EYE_Y, 1, 1, EYE_RIGHT if sign < 0 else EYE_LEFT),
            (f"nose side {side}", sign * 0.035, 0.37, 1, 0, SKIN), (f"nostril {side}", sign * 0.05, 0.30, 1, 0, SKIN),
            (f"cheek {side}", sign * 0.17, 0.34, 1, 0, SKIN), (f"lower cheek {side}", sign * 0.20, 0.21, 1, 0, SKIN),
            (f"nose fold {side}", sign * 0.105, 0.25, 1, 0, SKIN),
            (f"lip corner {side}", sign * MOUTH_HALF, float(mouth_curve(np.array(MOUTH_HALF))), 1, 0, SKIN),
            (f"upper lip {side}", sign * 0.05, 0.178, 1, 0, SKIN), (f"lower lip {side}", sign * 0.05, 0.137, 0, 0, SKIN),
        ]  # fmt: skip
    rows += [
        ("upper lip", 0.0, 0.176, 1, 0, SKIN), ("lower lip", 0.0, 0.134, 0, 0, SKIN), ("chin", 0.0, 0.04, 0, 0, SKIN),
        ("tongue", 0.0, 0.145, 0, 0, TONGUE),
    ]  # fmt: skip
    table = np.array([row[1:5] for row in rows])
    organ = np.array([row[5] for row in rows], dtype=np.intp)
    return tuple(row[0] for row in rows), FacePoints(table[:, :2], table[:, 2], table[:, 3], organ)


LANDMARKS, LANDMARK_POINTS = _landmarks()


@cache
def landmark_displacements() -> Floats:
    """What each unit does to the landmarks: ``(landmarks * 3, units)``."""
    return np.stack([displacement(unit, LANDMARK_POINTS).ravel() for unit in UNITS], axis=1)
