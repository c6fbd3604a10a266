"""Clips written with their figure: into one file, or into a folder one for each."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from fairswap.formats.files import files_of, save_to
from fairswap.formats.naming import distinct, file_stem
from fairswap.formats.outputs import Outputs
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure


def write_clips(
    figure: Figure, clips: Sequence[Clip], out: Path, outputs: Outputs, *, kept: Sequence[Clip] = (), suffix: str = ""
) -> list[str]:
    """Write clips into one file, or into a folder one file for each, named after it; all names are reserved first.

    ``out`` is a folder if it is one, or has no suffix; files in it have the suffix ``suffix`` or ``.glb``.
    """
    rows = [(path, clips if path == out else [clips[i]]) for i, path in enumerate(paths_for(out, clips, suffix))]
    for path, _ in rows:
        outputs.reserve(*files_of(path))
    return [name for path, own in rows for name in save_to(outputs, path, figure, [*kept, *own])]


def paths_for(out: Path, clips: Sequence[Clip], suffix: str = "") -> list[Path]:
    """``out`` itself, or if it is a folder (or has no suffix) the path for each clip in it."""
    if out.suffix and not out.is_dir():
        return [out]
    stems = distinct([file_stem(clip.name) for clip in clips])
    return [out / f"{stem}{suffix or '.glb'}" for stem in stems]
