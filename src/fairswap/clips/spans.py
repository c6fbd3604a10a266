"""Parts of a clip by frames: the plain tool that cutting, trimming and looping share."""

from __future__ import annotations

from fairswap.model.clip import Clip


def span_of(clip: Clip, first: int, last: int, name: str | None = None) -> Clip:
    """Frames ``first`` to ``last`` (both there) of a clip, as a clip of its own."""
    return clip.with_poses(clip.poses.picked(slice(first, last + 1)), name=name or clip.name, start_s=0.0)
