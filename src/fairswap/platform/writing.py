"""Write what was fitted: the figure with its clips in one file, or in a folder the figure and each motion apart."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from fairswap.errors import UsageError
from fairswap.figures.bones_alone import motion_alone, without_mesh
from fairswap.formats.files import FORMATS, files_of, load, save_to
from fairswap.formats.gltf.container import Container
from fairswap.formats.gltf.mending import flaws
from fairswap.formats.naming import distinct, file_stem
from fairswap.formats.outputs import Outputs
from fairswap.formats.storage import read_bytes
from fairswap.model.clip import Clip
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.platform.checking import Check, check
from fairswap.platform.preparing import Fitted
from fairswap.platform.rules import Platform

Row = tuple[Path, Figure, Sequence[Clip]]


def write_fitted(fitted: Fitted, out: Path, outputs: Outputs) -> list[str]:
    """Write ``out``: a file holds the figure and all its clips, a folder the figure and each motion without mesh
    (but for motions that drive morphs).

    All names are reserved before the first file is written.

    Raises
    ------
    UsageError
        If the platform wants one clip in a file, and ``out`` is one file for several.
    """
    platform = fitted.platform
    rows = [_one_file(fitted, platform, out)] if out.suffix and not out.is_dir() else _folder(fitted, platform, out)
    for path, _, _ in rows:
        outputs.reserve(*files_of(path))
    return [
        name for path, figure, clips in rows for name in save_to(outputs, path, figure, clips, space=platform.space)
    ]


def _one_file(fitted: Fitted, platform: Platform, out: Path) -> Row:
    if platform.clip.files == "one" and len(fitted.clips) > 1:
        raise UsageError(
            f"{platform.name} wants one clip in a file, there are {len(fitted.clips)}", remedy="Give a folder as OUT"
        )
    without = platform.clip.with_mesh == "never" and fitted.clips
    if without:
        return out, without_mesh(fitted.figure), [motion_alone(clip) for clip in fitted.clips]
    return out, fitted.figure, fitted.clips


def _folder(fitted: Fitted, platform: Platform, out: Path) -> list[Row]:
    suffix = platform.file.formats[0] if platform.file.formats else ".glb"
    figure = file_stem(fitted.figure.name, "figure")
    with_figure = bool(fitted.figure.meshes or not fitted.clips)  # a motion without a mesh stays one
    stems = distinct([file_stem(clip.name) for clip in fitted.clips], [figure] if with_figure else [])
    rows: list[Row] = [(out / f"{figure}{suffix}", fitted.figure, ())] if with_figure else []
    bones = without_mesh(fitted.figure)
    alone = platform.file.motion_format or suffix
    for stem, clip in zip(stems, fitted.clips, strict=True):
        # Morphs are part of the mesh: a clip that drives them comes with it, if the platform takes that.
        # A format of its own for motions holds faces without a mesh.
        with_mesh = clip.poses.morph_tracks and platform.clip.with_mesh != "never" and alone != ".vrma"
        if alone == ".vrma":
            row: tuple[Figure, Sequence[Clip]] = (fitted.figure, [clip])
        else:
            row = (fitted.figure, [clip]) if with_mesh else (bones, [motion_alone(clip)])
        rows.append((out / f"{stem}{suffix if with_mesh else alone}", *row))
    return rows


def check_written(written: Sequence[str], platform: Platform) -> list[Check]:
    """The files that were written, read again and checked against the platform."""
    return [check(load(name), platform) for name in written if Path(name).suffix.lower() in FORMATS]


def copied_if_it_fits(document: Document, platform: Platform, out: Path, outputs: Outputs) -> bool:
    """Copy a file that fits already, byte for byte, where that makes a file of the same format; say whether.

    What is compressed is not copied: no platform is known to unpack it. Nor is what breaks the rules of its format, or
    holds more than the figure.
    """
    source, origin = Path(document.file), document.origin
    if document.held or (isinstance(origin, Container) and (origin.packed or flaws(origin))):
        return False
    if out.suffix.lower() != source.suffix.lower() or check(document, platform).broken:
        return False
    outputs.reserve(out)
    outputs.write(out, [read_bytes(source)])
    return True
