"""Give a figure a root bone above its hips, for targets that want the travel there."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from fairswap.bones.roles import RoleMap
from fairswap.formats.gltf.growing import container_with_root
from fairswap.formats.gltf.origins import GltfSource
from fairswap.formats.gltf.reading import document_from_container
from fairswap.formats.reckoned import as_reckoned
from fairswap.model.clip import Clip
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.model.poses import PoseBuilder
from fairswap.model.rotation import IDENTITY
from fairswap.model.skeleton import Skeleton
from fairswap.model.stand_ins import bone_in_file

_NAME = "root"


def has_root(figure: Figure, roles: RoleMap) -> bool:
    """Whether some bone is above the hips, that can take the travel."""
    return int(figure.skeleton.parents[roles.bones["hips"]]) >= 0


def document_with_root(document: Document, roles: RoleMap) -> Document:
    """The document with a bone ``root`` above the hips of its figure, at the ground; nothing else moves.

    ``roles`` are those of the document's figure.
    """
    figure = document.figure
    hips = roles.bones["hips"]
    if isinstance(figure.source, GltfSource):
        name = _NAME if _NAME not in figure.skeleton.names else "travel root"
        node = figure.source.nodes[bone_in_file(figure, hips)]
        return as_reckoned(document_from_container(container_with_root(figure.source.container, node, name)))
    grown = _grown(figure)
    figures = tuple(grown if other is figure else other for other in document.figures)
    clips = tuple(_clip_grown(c, grown) if c.skeleton is figure.skeleton else c for c in document.clips)
    return replace(document, figures=figures, clips=clips)


def _clip_grown(clip: Clip, grown: Figure) -> Clip:
    """The same motion below the new root, which rests."""
    poses = clip.poses
    still = np.repeat(IDENTITY[None, :, None], poses.frames, axis=2)
    moved = {bone + 1: track for bone, track in poses.translation_by_bone().items()}
    tracks = np.concatenate([still, poses.rotation_tracks])
    built = PoseBuilder(grown.skeleton, tracks, moved, poses.morph_tracks, poses.beside).poses()
    return clip.with_poses(built, keyed=frozenset(bone + 1 for bone in clip.keyed))


def _grown(figure: Figure) -> Figure:
    old = figure.skeleton
    skeleton = Skeleton(
        (_NAME, *old.names),
        np.concatenate([[-1], np.where(old.parents < 0, 0, old.parents + 1)]).astype(np.intp),
        np.concatenate([IDENTITY[None], old.rest_rotations]),
        np.concatenate([np.zeros((1, 3)), old.rest_translations]),
        frozenset(bone + 1 for bone in old.ends),
    )
    meshes = tuple(
        replace(mesh, joints=mesh.joints + 1, bind_matrices=np.concatenate([np.eye(4)[None], mesh.bind_matrices]))
        for mesh in figure.meshes
    )
    known = {role: bone + 1 for role, bone in figure.known_roles.items()}
    avatar = figure.avatar and figure.avatar.on_bones({bone: bone + 1 for bone in range(len(old))})
    return replace(figure, skeleton=skeleton, meshes=meshes, source=None, known_roles=known, avatar=avatar)
