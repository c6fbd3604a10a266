"""Left for right: the same motion in a mirror, on the same figure."""

from __future__ import annotations

import numpy as np

from fairswap.model.chain_world import ChainWorld
from fairswap.model.clip import Clip
from fairswap.model.poses import PoseBuilder
from fairswap.model.rotation import conjugate, multiply, rotate
from fairswap.pose.rigged import RiggedFigure

_OTHER = {"left": "right", "right": "left"}
# What the mirror does to the parts of a rotation, and to a position.
_TURN, _POSITION = np.array([1.0, -1.0, -1.0, 1.0]), np.array([-1.0, 1.0, 1.0])


def mirrored(rigged: RiggedFigure, clip: Clip) -> Clip:
    """The clip mirrored left to right about the middle of the figure; bones without a role keep their rest.

    Each role's motion, counted from the reference pose, is mirrored and given to the same role of the other side.
    """
    skeleton, bones = rigged.skeleton, rigged.roles.bones
    seen, reference = ChainWorld(clip.poses), rigged.reference.rotations
    tracks = np.empty_like(clip.poses.rotation_tracks)
    tracks[:] = rigged.resting_rotations[:, :, None]
    edit = PoseBuilder(skeleton, tracks, morph_tracks=clip.poses.morph_tracks, beside=clip.poses.beside)
    out = ChainWorld(edit)
    for bone in sorted(rigged.role_of_bone):
        partner = bones.get(_other_role(rigged.role_of_bone[bone]), bone)
        turn = multiply(seen.rotation(partner), conjugate(reference[partner])) * _TURN
        out.turn(bone, multiply(turn, reference[bone]))
    hips = bones["hips"]
    middle = rigged.reference.hips * [1.0, 0.0, 0.0]
    position = (seen.position(hips) - middle) * _POSITION + middle
    parent = int(skeleton.parents[hips])
    if parent >= 0:
        position = rotate(conjugate(out.rotation(parent)), position - out.position(parent))
    edit.translations[hips] = position.T
    return clip.with_poses(edit.poses(), keyed=clip.keyed | frozenset(bones.values()))


def _other_role(role: str) -> str:
    base, _, side = role.rpartition("_")
    return f"{base}_{_OTHER[side]}" if side in _OTHER else role
