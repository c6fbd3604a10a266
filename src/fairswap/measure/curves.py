"""The curve of a joint over time: how it turns away from the neutral T, in degrees about left, up and ahead."""

from __future__ import annotations

import numpy as np

from fairswap.errors import UsageError
from fairswap.model.arrays import Floats
from fairswap.model.chain_world import ChainWorld
from fairswap.model.clip import Clip
from fairswap.model.rotation import conjugate, multiply, rotation_vector, without_sign_jumps
from fairswap.pose.rigged import RiggedFigure


def joint_curve(rigged: RiggedFigure, clip: Clip, role: str) -> Floats:
    """Rotation vectors ``(frames, 3)`` in degrees, seen from the parent, as in saved poses and layers.

    Raises
    ------
    UsageError
        If the figure has no bone for the role.
    """
    if role not in rigged.roles.bones:
        have = ", ".join(rigged.roles.roles()[:12])
        raise UsageError(f"{rigged.title} has no bone for {role!r}", remedy=f"It has {have} …")
    bone = rigged.roles.bones[role]
    chain = ChainWorld(clip.poses)
    turn = multiply(chain.rotation(bone), conjugate(rigged.reference.rotations[bone]))
    parent = int(rigged.skeleton.parents[bone])
    if parent >= 0:
        above = multiply(chain.rotation(parent), conjugate(rigged.reference.rotations[parent]))
        turn = multiply(conjugate(above), turn)
    turn = without_sign_jumps(np.ascontiguousarray(turn.T)).T
    if turn[0, 3] < 0:
        turn = -turn
    # Past a half turn the vector would jump to its other side; it goes on growing instead.
    half = np.linalg.norm(turn[:, :3], axis=1)
    angle = 2.0 * np.arctan2(half, turn[:, 3])
    grown = turn[:, :3] / np.where(half > 1e-12, half, 1.0)[:, None] * angle[:, None]
    return np.degrees(np.where((half > 1e-12)[:, None], grown, rotation_vector(turn)))
