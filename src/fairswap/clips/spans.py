"""Parts of a clip by frames: the plain tool that cutting, trimming and looping share."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from fairswap.clip import Clip, MorphTrack, Poses
from fairswap.kernels import Floats


def span_of(clip: Clip, first: int, last: int, name: str | None = None) -> Clip:
    """Frames ``first`` to ``last`` (both there) of a clip, as a clip of its own."""
    span = slice(first, last + 1)
    poses = clip.poses
    tracks = None if poses.translation_tracks is None else np.ascontiguousarray(poses.translation_tracks[:, :, span])
    new = Poses(
        poses.skeleton,
        np.ascontiguousarray(poses.rotation_tracks[:, :, span]),
        poses.translated_bones,
        tracks,
        tuple(MorphTrack(track.mesh, np.ascontiguousarray(track.weights[:, span])) for track in poses.morph_tracks),
    )
    return replace(clip, name=name or clip.name, poses=new, origin=None, kept=None)


def with_poses(clip: Clip, poses: Poses, **more: object) -> Clip:
    """The clip with other poses; it is no longer what stands in its file."""
    return replace(clip, poses=poses, origin=None, kept=None, **more)  # type: ignore[arg-type]


def local_places(poses: Poses, bone: int) -> Floats:
    """Local positions ``(3, frames)`` of a bone, also of one that rests."""
    return np.broadcast_to(poses.translation_track(bone), (3, poses.frames))
