"""Bones without a role in a comparison: which are to do the same, and which to rest."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from fairswap.measure.beside import bones_beside, restless_bones
from fairswap.measure.comparison import Comparison, Motion
from fairswap.pose.pieces import cut_limbs
from fairswap.pose.rigged import RiggedFigure
from fairswap.retarget.extras import moving_extras, pair_extras


def with_bones_beside(found: Comparison, source: Motion, result: Motion, *, face: bool) -> Comparison:
    """The comparison with the bones in it that fill no role.

    Those of one name on both figures are to do the same, and are judged; those that only the result has are to rest,
    and it is told if they do not. With ``face`` those of a face are judged with them: what moves is judged in units.
    """
    pair, poses, rate = (source.rigged, result.rigged), (source.clip.poses, result.clip.poses), float(source.clip.rate)
    if (source.clip.rate, source.clip.frames) != (result.clip.rate, result.clip.frames):
        poses = poses[0], result.clip.at(np.arange(source.clip.frames) / rate)
    extras = pair_extras(*pair)
    moving = {extra.target for extra in moving_extras(poses[0], pair[0], extras)}
    pieces = {bone for limb in cut_limbs(pair[1]) for bone in limb.between}  # judged by where the limb goes
    of_face = _face_bones(pair[1])
    left_out = pieces if face else pieces | of_face
    shared = [(extra.source, extra.target) for extra in extras if extra.target not in left_out]
    skeleton = pair[1].skeleton
    known = {extra.target for extra in extras} | pieces | of_face | skeleton.ends
    known |= set(skeleton.with_ancestors(pair[1].role_of_bone)) | pair[1].figure.face_controls
    alone = [bone for bone in range(len(skeleton)) if bone not in known]
    return replace(
        found,
        beside=bones_beside(pair, poses, rate, shared, moving),
        restless=tuple(restless_bones(pair[1], poses[1], alone)),
    )


def _face_bones(rigged: RiggedFigure) -> set[int]:
    """The bones of a face that fill no role."""
    below = set(rigged.skeleton.below(rigged.roles.bones["head"]).tolist()) - set(rigged.role_of_bone)
    if not below:
        return below
    from fairswap.face.bones import face_bones
    from fairswap.face.geometry import head_frame

    return below & set(face_bones(rigged.skeleton, rigged.roles, head_frame(rigged.figure, rigged.roles)).values())
