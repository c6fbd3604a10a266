"""Twist shared out over helper bones: the turn of a wrist goes up the forearm in steps, instead of wringing the skin.

A helper sits on a limb bone, some way along it. It turns about the bone's length by that share of how far the next
joint is twisted, counted from the resting pose. So does a link, a further piece of a limb that is cut in two; what
hangs on it is turned back, and stays as it was.
"""

from __future__ import annotations

import numpy as np

from fairswap.bones.roles import next_roles
from fairswap.model.arrays import Floats
from fairswap.model.rotation import conjugate, multiply, quaternion_from_axis_angle
from fairswap.pose.pieces import cut_limbs
from fairswap.pose.rigged import RiggedFigure


def share_twist(
    target: RiggedFigure, moved: frozenset[int], tracks: Floats, partnered: frozenset[int] = frozenset()
) -> list[int]:
    """Turn the helpers and links of ``target`` in ``tracks`` (local, ``(bones, 4, frames)``), in place; give those that
    turned.

    ``moved`` are the bones that have motion: without it a next joint twists nothing. Links that are ``partnered`` do as
    those of the source, which may be nothing.
    """
    skeleton, roles = target.skeleton, target.roles
    turned = []
    for links, following in links_of(target):
        if following not in moved or any(link in partnered for link, _ in links):
            continue
        twist = _twist_of(target, following, tracks)
        before = 0.0
        for link, fraction in links:
            turn = quaternion_from_axis_angle(skeleton.rest_translations[link], (fraction - before) * twist)
            tracks[link] = multiply(turn, target.resting_rotations[link]).T
            before = fraction
            turned.append(link)
        undo = quaternion_from_axis_angle(skeleton.rest_translations[following], -before * twist)
        tracks[following] = multiply(undo, tracks[following].T).T
    for helper, (role, fraction) in roles.helpers.items():
        following = next((roles.bones[name] for name in next_roles(role) if name in roles.bones), -1)
        holder = roles.bones[role]
        if following not in moved or helper in moved:
            continue
        if int(skeleton.parents[helper]) != holder or int(skeleton.parents[following]) != holder:
            continue
        along = skeleton.rest_translations[following]
        if np.linalg.norm(along) < 1e-6:
            continue
        turn = quaternion_from_axis_angle(along, fraction * _twist_of(target, following, tracks))
        tracks[helper] = multiply(turn, target.resting_rotations[helper]).T
        turned.append(helper)
    return turned


def links_of(target: RiggedFigure) -> list[tuple[list[tuple[int, float]], int]]:
    """Limbs whose bone is cut in pieces that lie in line: the pieces after the one with the joint, with how far along
    each begins, 0..1, and the bone of the next joint."""
    found = []
    for limb in cut_limbs(target):
        shares = limb.shares(target.skeleton.rest.positions[0]).tolist()
        if shares:
            found.append((list(zip(limb.between, shares, strict=True)), limb.following))
    return found


def _twist_of(target: RiggedFigure, bone: int, tracks: Floats) -> Floats:
    """How far a bone is twisted about what leads to it ``(frames,)``, from its rest, the short way round at first."""
    along = target.skeleton.rest_translations[bone]
    change = multiply(tracks[bone].T, conjugate(target.resting_rotations[bone]))
    twist = np.unwrap(2.0 * np.arctan2(change[:, :3] @ (along / np.linalg.norm(along)), change[:, 3]))
    # A quaternion and its negative are one turn.
    return np.asarray(twist - 2.0 * np.pi * np.round(twist[0] / (2.0 * np.pi)))
