"""Objects in a motion file: what marks where something stands that hands touch, brought to the figure's bones."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from fairswap.errors import UsageError
from fairswap.formats.gltf.origins import GltfOrigin, GltfSource
from fairswap.formats.gltf.props import node_names, node_track
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.model.poses import PoseBuilder
from fairswap.model.rotation import IDENTITY
from fairswap.model.skeleton import Skeleton


def with_object(figure: Figure, clip: Clip, name: str, place: Floats) -> tuple[Figure, Clip]:
    """The figure with one bone more that marks an object; and the clip on it, its face with it.

    ``place`` is ``(3,)``, or ``(frames, 3)`` for an object that moves; metres, in the world.
    """
    old = figure.skeleton
    track = np.broadcast_to(np.asarray(place, dtype=np.float64), (clip.frames, 3))
    skeleton = Skeleton(
        (*old.names, name),
        np.append(old.parents, -1),
        np.concatenate([old.rest_rotations, IDENTITY[None]]),
        np.concatenate([old.rest_translations, track[:1]]),
        old.ends,
    )
    poses, number = clip.poses, len(old)
    tracks = np.concatenate([poses.rotation_tracks, np.tile(IDENTITY[None, :, None], (1, 1, clip.frames))])
    places = poses.translation_by_bone() | {number: track.T}
    moved = PoseBuilder(skeleton, tracks, places, poses.morph_tracks, poses.beside).poses()
    meshes = tuple(
        replace(mesh, bind_matrices=np.concatenate([mesh.bind_matrices, np.eye(4)[None]]), origin=None)
        for mesh in figure.meshes
    )
    grown = Figure(figure.name, skeleton, meshes, figure.space, None, dict(figure.known_roles))
    return grown, clip.with_poses(moved, keyed=clip.keyed | {number})


def with_object_of(document: Document, figure: Figure, clip: Clip, name: str) -> tuple[Figure, Clip]:
    """The figure and its clip with the object ``name`` of the same document: itself, if the object is one of its bones.

    Raises
    ------
    UsageError
        If nothing in the document is called so; what is there is named.
    """
    if name in figure.skeleton.names:
        return figure, clip
    times = np.arange(clip.frames) / float(clip.rate)
    if isinstance(figure.source, GltfSource) and name in node_names(figure.source):
        origin = clip.origin if isinstance(clip.origin, GltfOrigin) else None
        return with_object(figure, clip, name, node_track(figure.source, name, origin, times))
    for other in document.figures:
        if name not in other.skeleton.names:
            continue
        bone = other.skeleton.names.index(name)
        moving = next((c for c in document.clips_of(other) if c.name == clip.name), None)
        place = other.skeleton.rest.positions[0, bone]
        if moving is not None:
            place = moving.at(times).world().positions[:, bone]
        return with_object(figure, clip, name, place)
    loose = [other.skeleton.names[0] for other in document.figures if other is not figure]
    if isinstance(figure.source, GltfSource):
        loose += node_names(figure.source)
    there = ", ".join(dict.fromkeys(loose[:8])) or "nothing beside the figure's own bones"
    raise UsageError(f"there is no {name!r} in it to mark an object", file=document.file, remedy=f"It has {there}")
