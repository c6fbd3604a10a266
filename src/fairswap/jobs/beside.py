"""Bones without a role: in a comparison, which are to do the same, and which to rest; and which are lost."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from fairswap.errors import Finding
from fairswap.measure.beside import bones_beside, restless_bones
from fairswap.measure.comparison import Comparison, Motion
from fairswap.model.clip import Clip
from fairswap.pose.pieces import cut_limbs
from fairswap.pose.rigged import RiggedFigure
from fairswap.retarget.extras import extras_lost, lost_extras, moving_extras, pair_extras
from fairswap.retarget.swap import Swap


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
    left_out = (pieces if face else pieces | of_face) | _bare(pair[1])
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


def with_lost_on_head(findings: Sequence[Finding], swap: Swap, clip: Clip) -> list[Finding]:
    """What is worth telling of a clip carried over, with bones of the head in it that move and are not of a face: hair,
    ears, a hat."""
    source, extras = swap.source, swap.extras
    if lost_extras(clip.poses, source, extras) == lost_extras(clip.poses, source, extras, face=()):
        return list(findings)
    lost = lost_extras(clip.poses, source, extras, _face_bones(source))
    return [row for row in findings if row.code != "extras-lost"] + extras_lost(clip.name, lost)


def _bare(rigged: RiggedFigure) -> set[int]:
    """The bones of a figure with meshes that carry none: marks of footsteps, sockets, targets; nobody sees where they
    are."""
    skin = rigged.figure.skin_on_bones
    if skin is None:
        return set()
    return set(range(len(skin))) - set(rigged.skeleton.with_ancestors(np.flatnonzero(skin > 0.0).tolist()))


def _face_bones(rigged: RiggedFigure) -> set[int]:
    """The bones of a face that fill no role."""
    below = set(rigged.skeleton.below(rigged.roles.bones["head"]).tolist()) - set(rigged.role_of_bone)
    if not below:
        return below
    from fairswap.face.neutral import bones_of_face

    return below & set(bones_of_face(rigged.figure, rigged.roles).values())
