"""Left for right: the same motion in a mirror, on the same figure."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from fairswap.body.limb import ChainWorld
from fairswap.body.subject import Subject
from fairswap.clip import Clip, Poses
from fairswap.rotation import conjugate, multiply, rotate

_OTHER = {"left": "right", "right": "left"}
# What the mirror does to the parts of a rotation, and to a place.
_TURN, _PLACE = np.array([1.0, -1.0, -1.0, 1.0]), np.array([-1.0, 1.0, 1.0])


def mirror(subject: Subject, clip: Clip) -> Clip:
    """The clip mirrored left to right about the middle of the figure; bones without a role keep their rest.

    Each role's motion, counted from the reference pose, is mirrored and given to the same role of the other side.
    """
    skeleton, poses, bones = subject.skeleton, clip.poses, subject.roles.bones
    places = {bone: poses.translation_track(bone) for bone in poses.translated_bones.tolist()}
    seen = ChainWorld(skeleton, poses.rotation_tracks, places)
    reference = subject.reference.rotations
    tracks = np.empty_like(poses.rotation_tracks)
    tracks[:] = subject.resting[:, :, None]
    hips = bones["hips"]
    out = ChainWorld(skeleton, tracks, {})
    role_of = {bone: role for role, bone in bones.items()}
    for bone in range(len(skeleton)):
        role = role_of.get(bone)
        if role is None:
            continue
        partner = bones.get(_other_role(role), bone)
        turn = multiply(seen.rotation(partner), conjugate(reference[partner])) * _TURN
        out.turn(bone, multiply(turn, reference[bone]))
    middle = subject.reference.hips * [1.0, 0.0, 0.0]
    place = (seen.position(hips) - middle) * _PLACE + middle
    parent = int(skeleton.parents[hips])
    if parent >= 0:
        resting = ChainWorld(skeleton, tracks, {})
        place = rotate(conjugate(resting.rotation(parent)), place - resting.position(parent))
    moved = np.array([hips], dtype=np.intp)
    new = Poses(skeleton, tracks, moved, np.ascontiguousarray(place.T)[None], poses.morph_tracks)
    return replace(clip, poses=new, keyed=clip.keyed | frozenset(bones.values()), origin=None)


def _other_role(role: str) -> str:
    base, _, side = role.rpartition("_")
    return f"{base}_{_OTHER[side]}" if side in _OTHER else role
