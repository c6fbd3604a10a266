"""A figure's bones, meshes and tracks in the space that a file is written in: other axes, another unit."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.mesh import Mesh
from fairswap.model.rotation import conjugate, multiply, quaternion_from_matrix, rotate
from fairswap.model.skeleton import Skeleton
from fairswap.model.space import OURS, Space


def rest_in_space(skeleton: Skeleton, space: Space) -> tuple[Floats, Floats]:
    """Local rest rotations ``(bones, 4)`` and translations ``(bones, 3)``, roots in the coordinates of ``space``."""
    rotations, translations = skeleton.rest_rotations.copy(), skeleton.rest_translations / space.metres
    if space != OURS:
        back, roots = _back(space), skeleton.parents < 0
        rotations[roots] = multiply(back, rotations[roots])
        translations[roots] = rotate(back, translations[roots])
    return rotations, translations


def rotation_in_space(clip: Clip, bone: int, space: Space) -> Floats:
    """The local rotations ``(frames, 4)`` of a bone."""
    rotations = clip.poses.rotation_tracks[bone].T
    return multiply(_back(space), rotations) if space != OURS and clip.skeleton.parents[bone] < 0 else rotations


def translation_in_space(clip: Clip, bone: int, space: Space) -> Floats | None:
    """The local places ``(frames, 3)`` of a bone in the unit of ``space``; None if it keeps its place."""
    if bone not in clip.poses.translated_bones:
        return None
    places = clip.poses.translation_track(bone).T / space.metres
    return rotate(_back(space), places) if space != OURS and clip.skeleton.parents[bone] < 0 else places


def mesh_in_space(mesh: Mesh, space: Space) -> Mesh:
    """The mesh with vertices, normals, shifts and binds in the coordinates of ``space``."""
    if space == OURS:
        return mesh
    to_data = np.eye(4)
    to_data[:3, :3] = space.turn.T / space.metres
    linear = to_data[:3, :3].T
    # The frame of a bone scales by the unit; what it leaves over is undone in the binds.
    binds = mesh.bind_matrices.copy()
    binds[:, :3] /= space.metres
    return replace(
        mesh,
        vertices=mesh.vertices @ linear,
        normals=mesh.normals @ space.turn,
        tangents=None if mesh.tangents is None else np.c_[mesh.tangents[:, :3] @ space.turn, mesh.tangents[:, 3]],
        morph_deltas=None if mesh.morph_deltas is None else mesh.morph_deltas @ linear,
        morph_normals=None if mesh.morph_normals is None else mesh.morph_normals @ space.turn,
        bind_matrices=binds @ np.linalg.inv(to_data),
    )


def moved_bones(clip: Clip, skinned: bool) -> list[int]:
    """The bones that a file has keys for: that were keyed, or are not at rest.

    Without a skin it is the keys that tell where a skeleton begins, and which leaves are no end markers.
    """
    skeleton, poses = clip.skeleton, clip.poses
    shown = set(clip.keyed) | set(poses.translated_bones.tolist())
    away = np.abs(poses.rotation_tracks - skeleton.rest_rotations[:, :, None]).max(axis=(1, 2)) > 1e-6
    shown |= set(np.flatnonzero(away).tolist())
    if not skinned:
        outermost = {bone for bone, parent in enumerate(skeleton.parents) if parent < 0 or not skeleton.children[bone]}
        shown |= outermost - skeleton.ends
    # A clip in which nothing moves still has its length.
    return sorted(shown) or ([] if poses.morph_tracks else [0])


def _back(space: Space) -> Floats:
    return conjugate(quaternion_from_matrix(space.turn))
