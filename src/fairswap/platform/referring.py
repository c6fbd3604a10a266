"""The reference pose of a figure that was made to fit: the one it had, bone for bone.

Worked out anew it would be another: straight limbs of a new rest pose no longer show about which line they bend. What a
clip does would be told from elsewhere, and be called a twist that nobody sees.
"""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction

from fairswap.model.clip import Clip
from fairswap.model.poses import PoseBuilder
from fairswap.model.rotation import conjugate, rotate
from fairswap.model.skeleton import Skeleton, local_rotations
from fairswap.platform.skeleton import Rebuilt, moved_to_rebuilt
from fairswap.pose.reference import ReferencePose, leg_length
from fairswap.pose.rigged import Decided, RiggedFigure


def in_its_reference(source: RiggedFigure, rested: Skeleton, made: Rebuilt, target: RiggedFigure) -> RiggedFigure:
    """``target``, the figure that was made of ``source``, in that one's reference pose.

    ``rested`` are the bones of the source in the rest pose that ``made`` was made from.
    """
    hips = source.roles.bones["hips"]
    local = local_rotations(rested, source.reference.rotations)
    edit = PoseBuilder(rested, local[:, :, None].copy())
    place, parent = source.reference.hips, int(rested.parents[hips])
    if parent >= 0:
        above = edit.poses().world()
        place = rotate(conjugate(above.rotations[0, parent]), place - above.positions[0, parent])
    edit.translations[hips] = place[:, None]
    stood = moved_to_rebuilt(Clip("reference pose", Fraction(1), edit.poses()), made).world()
    roles, places = target.roles, stood.positions[0]
    reference = ReferencePose(stood.rotations[0].copy(), places[roles.bones["hips"]], leg_length(roles, places), {})
    return replace(target, decided=Decided(reference, source.floor_m))
