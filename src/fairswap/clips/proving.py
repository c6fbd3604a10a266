"""The reel: a proving clip through every joint's range, so that a wrong bone or weight is seen at once."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from fractions import Fraction

import numpy as np

from fairswap.bones.roles import FINGERS, role_order, side_of
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.poses import Poses
from fairswap.model.rotation import conjugate, multiply, normalized, quaternion_from_axis_angle, rotate
from fairswap.model.signals import eased
from fairswap.model.skeleton import local_rotations
from fairswap.pose.rigged import RiggedFigure

_SECONDS_EACH, _PAUSE_S = 0.9, 0.1
# For each kind of joint its moves: name, axis in the common T (of the left side; the right mirrors it), degrees to the
# one and to the other end.
_MOVES: dict[str, tuple[tuple[str, tuple[float, float, float], float, float], ...]] = {
    "hips": (("turn", (0, 1, 0), 25, -25), ("tilt", (1, 0, 0), 20, -12)),
    "spine": (("bend", (1, 0, 0), 24, -12), ("turn", (0, 1, 0), 18, -18), ("lean", (0, 0, 1), 16, -16)),
    "neck": (("bend", (1, 0, 0), 14, -12), ("turn", (0, 1, 0), 20, -20)),
    "head": (("nod", (1, 0, 0), 24, -24), ("turn", (0, 1, 0), 50, -50), ("tilt", (0, 0, 1), 24, -24)),
    "jaw": (("open", (1, 0, 0), 20, 0),),
    "eye": (("look aside", (0, 1, 0), 25, -25), ("look up and down", (1, 0, 0), 18, -18)),
    "shoulder": (("shrug", (0, 0, 1), 22, -8), ("forward", (0, -1, 0), 15, -12)),
    "upper_arm": (
        ("down and up", (0, 0, 1), -80, 60), ("forward and back", (0, -1, 0), 85, -25), ("twist", (1, 0, 0), 50, -50),
    ),
    "lower_arm": (("bend", (0, -1, 0), 125, 0), ("twist", (1, 0, 0), 40, -40)),
    "hand": (("bend", (0, 0, 1), -60, 55), ("aside", (0, 1, 0), 20, -20), ("twist", (1, 0, 0), 45, -45)),
    "finger": (("bend", (0, 0, 1), -75, 8),),
    "thumb": (("bend", (0.35, 0.9, -0.2), 35, -10),),
    "upper_leg": (
        ("forward and back", (1, 0, 0), -85, 25), ("aside", (0, 0, 1), 40, -12), ("twist", (0, 1, 0), 30, -30),
    ),
    "lower_leg": (("bend", (1, 0, 0), 115, 0),),
    "foot": (("point", (1, 0, 0), 35, -22), ("tilt", (0, 0, 1), 18, -18)),
    "toes": (("bend", (1, 0, 0), -40, 15),),
}  # fmt: skip


@dataclass(frozen=True)
class Move:
    """One entry of the reel: which role does what, when (seconds)."""

    role: str
    name: str
    start_s: float
    stop_s: float


def body_reel(rigged: RiggedFigure, rate: int = 30) -> tuple[Clip, list[Move]]:
    """The reel of a figure, from the neutral T and back for every move; and the list of moves in their order."""
    rows = list(_rows(rigged))
    each = _SECONDS_EACH + _PAUSE_S
    frames = round(len(rows) * each * rate) + 1
    times = np.arange(frames) / rate
    reference = rigged.reference.rotations
    skeleton = rigged.skeleton
    base = local_rotations(skeleton, reference)
    tracks = np.repeat(base[:, :, None], frames, axis=2)
    moves = []
    for number, (role, name, axis, first, second) in enumerate(rows):
        start = number * each
        bone = rigged.roles.bones[role]
        fraction = (times - start) / _SECONDS_EACH
        now = slice(int(np.searchsorted(fraction, 0.0)), int(np.searchsorted(fraction, 1.0, side="right")))
        degrees = first * _hump(fraction[now] * 2.0) + second * _hump(fraction[now] * 2.0 - 1.0)
        parent = int(skeleton.parents[bone])
        turn = quaternion_from_axis_angle(axis, np.radians(degrees))
        if parent >= 0:
            turn = multiply(multiply(conjugate(reference[parent]), turn), reference[parent])
        tracks[bone, :, now] = multiply(turn, tracks[bone, :, now].T).T
        moves.append(Move(role, name, round(start, 4), round(start + _SECONDS_EACH, 4)))
    hips = rigged.roles.bones["hips"]
    place = rigged.reference_world.positions[0, hips]
    parent = int(skeleton.parents[hips])
    if parent >= 0:
        above = rigged.reference_world
        place = rotate(conjugate(above.rotations[0, parent]), place - above.positions[0, parent])
    poses = Poses(skeleton, tracks, np.array([hips], dtype=np.intp), np.repeat(place[None, :, None], frames, axis=2))
    keyed = frozenset(rigged.roles.bones[role] for role, *_ in rows) | {hips}
    return Clip("Reel", Fraction(rate), poses, keyed), moves


def _rows(rigged: RiggedFigure) -> Iterator[tuple[str, str, Floats, float, float]]:
    for role in sorted(rigged.roles.bones, key=role_order):
        side = side_of(role)
        base = role.removesuffix(f"_{side}")
        kind = base.rpartition("_")[0] if base.startswith(("spine_", "neck_")) else base
        if base.startswith("thumb"):
            kind = "thumb"
        elif base.startswith(FINGERS):
            kind = "" if base.endswith("metacarpal") else "finger"
        for name, axis, first, second in _MOVES.get(kind, ()):
            # A turn mirrored left to right: the part about the left axis stays, the others change their sign.
            mirror = np.array([1.0, -1.0, -1.0]) if side == "right" else np.ones(3)
            yield role, name, normalized(np.array(axis, dtype=np.float64) * mirror), float(first), float(second)


def _hump(fraction: Floats) -> Floats:
    """0 to 1 and back over a share of 0 to 1, without jerks."""
    return eased(np.clip(fraction, 0.0, 0.5) * 2.0) * (1.0 - eased(np.clip(fraction - 0.5, 0.0, 0.5) * 2.0))
