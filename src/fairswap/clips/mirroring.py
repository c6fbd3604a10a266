"""Left for right: the same motion in a mirror, on the same figure."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from fairswap.model.arrays import Floats
from fairswap.model.chain_world import ChainWorld
from fairswap.model.clip import Clip
from fairswap.model.mesh import Mesh
from fairswap.model.poses import MorphTrack, PoseBuilder
from fairswap.model.rotation import conjugate, multiply, rotate
from fairswap.model.words import other_side
from fairswap.pose.rigged import RiggedFigure

_OTHER = {"left": "right", "right": "left"}
# What the mirror does to the parts of a rotation, and to a position.
_TURN, _POSITION = np.array([1.0, -1.0, -1.0, 1.0]), np.array([-1.0, 1.0, 1.0])
# Bones without a role are each other's image if one stands this near to where the other is seen, of the body's height.
_NEAR = 0.03


def mirrored(rigged: RiggedFigure, clip: Clip) -> Clip:
    """The clip mirrored left to right about the middle of the figure, travel, face and all.

    Each role's motion, counted from the reference pose, is mirrored and given to the same role of the other side. Bones
    without a role have their partner by name or place; those in the middle, or without one, are their own. Morphs are
    exchanged by the sides in their names.
    """
    skeleton = rigged.skeleton
    seen, reference = ChainWorld(clip.poses), rigged.reference.rotations
    tracks = np.empty_like(clip.poses.rotation_tracks)
    tracks[:] = rigged.resting_rotations[:, :, None]
    morphs = tuple(_exchanged(track, rigged.figure.meshes[track.mesh]) for track in clip.poses.morph_tracks)
    edit = PoseBuilder(skeleton, tracks, morph_tracks=morphs, beside=clip.poses.beside)
    out = ChainWorld(edit)
    partners = _partners(rigged)
    for bone, partner in enumerate(partners):
        turn = multiply(seen.rotation(partner), conjugate(reference[partner])) * _TURN
        out.turn(bone, multiply(turn, reference[bone]))
    moved = {bone: partner for bone, partner in enumerate(partners) if partner in seen.translations}
    carrying = set(skeleton.with_ancestors([rigged.roles.bones["hips"]]))
    middle = rigged.reference.hips * [1.0, 0.0, 0.0]
    for bone, partner in moved.items():
        parent = int(skeleton.parents[bone])
        if bone in carrying:  # ground travel, seen in the mirror
            place = (seen.position(partner) - middle) * _POSITION + middle
            if parent >= 0:
                place = rotate(conjugate(out.rotation(parent)), place - out.position(parent))
            out.move(bone, np.ascontiguousarray(place.T))
        else:
            out.move(bone, _shifted(seen.translations[partner], bone, partner, rigged, reference))
    edit.translations.update(out.translations)
    everyone = clip.keyed | {bone for bone, partner in enumerate(partners) if partner in clip.keyed}
    return clip.with_poses(edit.poses(), keyed=frozenset(everyone) | frozenset(rigged.role_of_bone))


def _shifted(track: Floats, bone: int, partner: int, rigged: RiggedFigure, reference: Floats) -> Floats:
    """The local position track ``(3, frames)`` that is in the mirror what ``track`` is for the partner."""
    skeleton = rigged.skeleton
    parents = [int(skeleton.parents[one]) for one in (partner, bone)]
    away = rotate(reference[parents[0]], (track - skeleton.rest_translations[partner][:, None]).T) * _POSITION
    local = skeleton.rest_translations[bone] + rotate(conjugate(reference[parents[1]]), away)
    return np.ascontiguousarray(local.T)


def _partners(rigged: RiggedFigure) -> list[int]:
    """The bone of the other side for each bone; itself in the middle."""
    skeleton, roles = rigged.skeleton, rigged.role_of_bone
    free = [bone for bone in range(len(skeleton)) if bone not in roles]
    names = {skeleton.names[bone]: bone for bone in free}
    places = rigged.reference_world.positions[0]
    seen = (places - rigged.reference.hips * [1.0, 0.0, 0.0]) * _POSITION + rigged.reference.hips * [1.0, 0.0, 0.0]
    near = _NEAR * float(np.ptp(places[:, 1]))
    out = []
    for bone in range(len(skeleton)):
        if bone in roles:
            out.append(rigged.roles.bones.get(_other_role(roles[bone]), bone))
            continue
        named = other_side(skeleton.names[bone], names)
        if named is not None:
            out.append(names[named])
            continue
        distance = np.linalg.norm(places[free] - seen[bone], axis=1)
        best = int(np.argmin(distance))
        # Of bones in one place, itself first.
        itself = float(distance[free.index(bone)])
        out.append(bone if itself <= float(distance[best]) + 1e-6 or distance[best] > near else free[best])
    return out


def _exchanged(track: MorphTrack, mesh: Mesh) -> MorphTrack:
    """Weights of left morphs for those of right ones."""
    names: Sequence[str] = mesh.morph_names
    rows = [names.index(other_side(name, names) or name) for name in names]
    return MorphTrack(track.mesh, np.ascontiguousarray(track.weights[rows]))


def _other_role(role: str) -> str:
    base, _, side = role.rpartition("_")
    return f"{base}_{_OTHER[side]}" if side in _OTHER else role
