"""Clips written with their figure: into one file, or into a folder one for each."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from fairswap.errors import Finding
from fairswap.formats.files import files_of, save_to
from fairswap.formats.naming import distinct, file_stem
from fairswap.formats.outputs import Outputs
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.rotation import angle_between
from fairswap.pose.choice import PoseChoice
from fairswap.pose.rest import rest_pose_of
from fairswap.pose.rigged import RiggedFigure, rigged_if_known
from fairswap.pose.setting import skeleton_resting_in, with_rest

# A figure that is judged by the pose it rests in is turned by less than this, radians.
_AS_IT_RESTS = 0.02


def write_clips(
    figure: Figure, clips: Sequence[Clip], out: Path, outputs: Outputs, *, kept: Sequence[Clip] = (), suffix: str = "",
    rigged: RiggedFigure | None = None,
) -> list[str]:  # fmt: skip
    """Write clips into one file, or into a folder one file for each, named after it; all names are reserved first.

    ``out`` is a folder if it is one, or has no suffix; files in it have the suffix ``suffix`` or ``.glb``. ``rigged``
    is the figure with its roles, if they are known.
    """
    if ".bvh" in (out.suffix.lower(), suffix.lower()):
        figure, clips = _without_a_mesh(figure, clips, rigged, outputs)
    rows = [(path, clips if path == out else [clips[i]]) for i, path in enumerate(paths_for(out, clips, suffix))]
    for path, _ in rows:
        outputs.reserve(*files_of(path))
    return [name for path, own in rows for name in save_to(outputs, path, figure, [*kept, *own])]


def _without_a_mesh(
    figure: Figure, clips: Sequence[Clip], rigged: RiggedFigure | None, outputs: Outputs
) -> tuple[Figure, Sequence[Clip]]:
    """A figure for motion alone: one that rests in a stance or in mid-motion rests in a T, for no mesh shows there how
    it stands and where it looks."""
    rigged = rigged or rigged_if_known(figure, next(iter(clips), None))
    if rigged is None or not figure.meshes or rigged.skeleton != figure.skeleton:
        return figure, clips
    turned = angle_between(rigged.base.world.rotations[0], figure.skeleton.rest.rotations[0]).max()
    if turned < _AS_IT_RESTS and rest_pose_of(figure, rigged.roles).stands_even:
        return figure, clips
    message = "it rests in mid-motion, and BVH has no mesh to show how it stands; it rests in a T there"
    outputs.left_out.append(Finding("format-leaves-out", "note", figure.name, message))
    rested = with_rest(figure, clips, skeleton_resting_in(rigged, PoseChoice("t")))
    return rested.figure, rested.clips


def paths_for(out: Path, clips: Sequence[Clip], suffix: str = "") -> list[Path]:
    """``out`` itself, or if it is a folder (or has no suffix) the path for each clip in it."""
    if out.suffix and not out.is_dir():
        return [out]
    stems = distinct([file_stem(clip.name) for clip in clips])
    return [out / f"{stem}{suffix or '.glb'}" for stem in stems]
