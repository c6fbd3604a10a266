"""A figure and its clips without meshes: motion alone, as many platforms take it."""

from __future__ import annotations

from dataclasses import replace

from fairswap.errors import Finding
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.wording import counted


def without_mesh(figure: Figure) -> Figure:
    """The bones of a figure alone."""
    return replace(figure, meshes=(), source=None)


def motion_alone(clip: Clip) -> Clip:
    """A clip for a figure without meshes: there is nothing that its morph weights could drive."""
    return clip.with_poses(replace(clip.poses, morph_tracks=()), kept=clip.kept) if clip.poses.morph_tracks else clip


def morphs_left_out(clip: Clip, why: str) -> list[Finding]:
    """A warning where a clip drives morphs, that a motion without a mesh cannot hold."""
    driven = sum(len(track.weights) for track in clip.poses.morph_tracks)
    if not driven:
        return []
    message = f"what {counted(driven, 'morph')} do is left out, since {why}"
    return [Finding("morphs-left-out", "warning", clip.name, message, "Give it a face made of bones")]
