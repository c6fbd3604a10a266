"""A limb of two bones brought to where its end should be, for all frames at once, by the law of cosines.

The limb keeps its plane: the elbow or knee stays on the side it was on.
"""

from __future__ import annotations

import numpy as np

from fairswap.model.arrays import Floats
from fairswap.model.chain_world import Limb
from fairswap.model.rotation import multiply, normalized, quaternion_between, quaternion_from_axis_angle, rotate
from fairswap.model.signals import eased

# A limb is never stretched quite straight: there the knee snaps.
LONGEST = 0.9999
# Near there a hair's breadth is many degrees of bend: a limb keeps its bend if its end then comes so near, of its
# length, and sets in softly beyond. From which share of the length on, and from which it is the whole of that; up to
# what bend, less and less: what is bent more turns no faster than its end goes.
_SLACK, _SLACK_FROM, _SLACK_FULL, _SLACK_DEGREES = 0.0035, 0.97, 0.99, 12.0
# How much a limb that is nearly straight trusts its hinge instead of the plane it hardly shows.
_HINGE_TRUST = 0.03


def solve_limb(limb: Limb, root: Floats, end: Floats, hinge: Floats) -> tuple[Floats, Floats, Floats]:
    """New world rotations of both bones, and where the end gets to.

    Parameters
    ----------
    root, end : (frames, 3) arrays
        Where the limb begins now, and where its end should be; what is out of reach is approached.
    hinge : (frames, 3) array
        The axis the joint bends about by its anatomy, for frames in which the limb is straight.
    """
    first, second = limb.lengths
    old, straight = _unit(limb.end - limb.root)
    new, wanted = _unit(end - root)
    full = first + second
    align = quaternion_between(old, new)
    normal = np.cross(limb.middle - limb.root, limb.end - limb.root) / (first * full)[:, None]
    normal = normal + _HINGE_TRUST * hinge
    normal = normal - np.einsum("fi,fi->f", normal, old)[:, None] * old
    axis = rotate(align, normalized(normal))
    # The limb's own bend, told along the same axis, so that one slightly bent the other way comes out right, too.
    upper_old = _angle(old, limb.middle - limb.root, normalized(normal))
    lower_old = _angle(old, limb.end - limb.middle, normalized(normal))
    length = np.clip(wanted, abs(first - second) + 1e-6, full * LONGEST)
    length, kept = _with_slack(length, straight, np.abs(lower_old - upper_old), full)
    cosine = (first**2 + length**2 - second**2) / (2.0 * first * length)
    upper_new = -np.arccos(np.clip(cosine, -1.0, 1.0))
    cosine = (second**2 + length**2 - first**2) / (2.0 * second * length)
    lower_new = np.arccos(np.clip(cosine, -1.0, 1.0))
    upper_new, lower_new = np.where(kept, upper_old, upper_new), np.where(kept, lower_old, lower_new)
    upper = multiply(multiply(quaternion_from_axis_angle(axis, upper_new - upper_old), align), limb.upper)
    lower = multiply(multiply(quaternion_from_axis_angle(axis, lower_new - lower_old), align), limb.lower)
    return upper, lower, root + new * length[:, None]


def _with_slack(length: Floats, straight: Floats, bend: Floats, full: Floats) -> tuple[Floats, np.ndarray]:
    """The length ``(frames,)`` of a limb that is ``straight`` long and bent by ``bend`` radians now, if ``length`` is
    wanted; and where it keeps its own."""
    slack = _SLACK * full * np.interp(length / full, [_SLACK_FROM, _SLACK_FULL], [0.0, 1.0])
    slack = slack * eased(1.0 - np.degrees(bend) / _SLACK_DEGREES)
    short = straight - length
    beyond = np.abs(short) - slack
    kept = (beyond <= 0.0) & (slack > 0.0)
    soft = beyond - slack * np.tanh(beyond / np.maximum(slack, 1e-12))
    return straight - np.where(kept, 0.0, np.sign(short) * soft), kept


def _angle(start: Floats, end: Floats, axis: Floats) -> Floats:
    """The turn about ``axis`` from ``start`` to the part of ``end`` square to it, radians ``(frames,)``."""
    return np.arctan2(np.einsum("fi,fi->f", np.cross(start, end), axis), np.einsum("fi,fi->f", start, end))


def _unit(vectors: Floats) -> tuple[Floats, Floats]:
    length = np.linalg.norm(vectors, axis=1)
    return vectors / np.maximum(length, 1e-12)[:, None], length
