"""Twist shared out over helper bones: the turn of a wrist goes up the forearm in steps, instead of wringing the skin.

A helper sits on a limb bone, some way along it. It turns about the bone's length by that share of how far the next
joint is twisted, counted from the resting pose.
"""

from __future__ import annotations

import numpy as np

from fairswap.bones.roles import next_roles
from fairswap.model.arrays import Floats
from fairswap.model.rotation import conjugate, multiply, quaternion_from_axis_angle
from fairswap.pose.rigged import RiggedFigure


def share_twist(target: RiggedFigure, moved: frozenset[int], tracks: Floats) -> list[int]:
    """Turn the helpers of ``target`` in ``tracks`` (local, ``(bones, 4, frames)``), in place; give those that turned.

    ``moved`` are the bones that have motion: without it a next joint twists nothing.
    """
    skeleton, roles = target.skeleton, target.roles
    turned = []
    for helper, (role, fraction) in roles.helpers.items():
        following = next((roles.bones[name] for name in next_roles(role) if name in roles.bones), None)
        holder = roles.bones[role]
        if following is None or following not in moved or helper in moved:
            continue
        if int(skeleton.parents[helper]) != holder or int(skeleton.parents[following]) != holder:
            continue  # a helper that is a link of the limb itself turns with it already
        along = skeleton.rest_translations[following]
        length = float(np.linalg.norm(along))
        if length < 1e-6:
            continue
        change = multiply(tracks[following].T, conjugate(target.resting_rotations[following]))
        twist = np.unwrap(2.0 * np.arctan2(change[:, :3] @ (along / length), change[:, 3]))
        # A quaternion and its negative are one turn: begin with the short way round.
        twist -= 2.0 * np.pi * np.round(twist[0] / (2.0 * np.pi))
        tracks[helper] = multiply(
            quaternion_from_axis_angle(along, fraction * twist), target.resting_rotations[helper]
        ).T
        turned.append(helper)
    return turned
