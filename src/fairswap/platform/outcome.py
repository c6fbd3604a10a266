"""Write what was fitted: the figure with its clips in one file, or in a folder the figure and each motion apart."""

from __future__ import annotations

import re
from pathlib import Path

from fairswap.errors import UsageError
from fairswap.files import save
from fairswap.platform.fit import Fitted, without_mesh
from fairswap.platform.rules import Platform


def write_fitted(fitted: Fitted, platform: Platform, out: Path, *, force: bool = False) -> list[str]:
    """Write ``out``: a file holds the figure and all its clips, a folder the figure and each motion without mesh.

    Raises
    ------
    UsageError
        If the platform wants one clip in a file, and ``out`` is one file for several.
    """
    if out.suffix and not out.is_dir():
        if platform.clip.files == "one" and len(fitted.clips) > 1:
            raise UsageError(
                f"{platform.name} wants one clip in a file, there are {len(fitted.clips)}",
                remedy="Give a folder as OUT",
            )
        figure = without_mesh(fitted.figure) if platform.clip.with_mesh == "never" and fitted.clips else fitted.figure
        return save(out, figure, fitted.clips, space=platform.space, force=force)
    suffix = platform.file.formats[0] if platform.file.formats else ".glb"
    written = []
    if fitted.figure.meshes or not fitted.clips:  # a motion without a mesh stays one
        place = out / f"{_stem(fitted.figure.name)}{suffix}"
        written += save(place, fitted.figure, (), space=platform.space, force=force)
    bones = without_mesh(fitted.figure)
    for clip in fitted.clips:
        written += save(out / f"{_stem(clip.name)}{suffix}", bones, [clip], space=platform.space, force=force)
    return written


def _stem(name: str) -> str:
    return re.sub(r"[^\w .()+-]+", "_", name).strip(" .") or "clip"
