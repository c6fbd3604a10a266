"""A face that does nothing is as its skin was bound: a file that was saved in mid motion may rest otherwise."""

from __future__ import annotations

from dataclasses import replace

from fairswap.bones.roles import RoleMap
from fairswap.face.bones import face_bones
from fairswap.face.geometry import head_frame
from fairswap.model.figure import Figure
from fairswap.model.poses import Poses
from fairswap.model.rotation import conjugate, rotate
from fairswap.model.skeleton import local_rotations
from fairswap.model.skinning import binding, bound_as_it_rests


def at_ease(figure: Figure, roles: RoleMap | None) -> Figure:
    """A figure that rests as its meshes were bound, its head upright and its face at ease; itself if those rest so."""
    skeleton, bound = figure.skeleton, binding(figure)
    head = None if roles is None else roles.bones.get("head")
    if head is None or bound is None or bound_as_it_rests(figure, [head, *skeleton.below(head).tolist()]):
        return figure
    turns, places, below = bound.rotations[0], bound.positions[0], skeleton.parents >= 0
    above = skeleton.parents[below]
    translations = places.copy()
    translations[below] = rotate(conjugate(turns[above]), places[below] - places[above])
    rested = replace(skeleton, rest_rotations=local_rotations(skeleton, turns), rest_translations=translations)
    return replace(figure, skeleton=rested)


def seen_on(figure: Figure, poses: Poses) -> Poses:
    """Poses of a figure that may rest otherwise, as those of ``figure``, which rests as it was bound."""
    return poses if poses.skeleton is figure.skeleton else replace(poses, skeleton=figure.skeleton)


def bones_of_face(figure: Figure, roles: RoleMap) -> dict[str, int]:
    """The bones of a face by name; see :func:`fairswap.face.bones.face_bones`."""
    neutral = at_ease(figure, roles)
    return face_bones(neutral.skeleton, roles, head_frame(neutral, roles))
