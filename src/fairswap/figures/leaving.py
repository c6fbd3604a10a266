"""Leave meshes of a figure out: a level of detail, a second outfit, a weapon."""

from __future__ import annotations

from dataclasses import replace
from fnmatch import fnmatchcase
from pathlib import Path

from fairswap.bones.choice import with_one_person
from fairswap.errors import Finding, UsageError
from fairswap.formats.files import document_of
from fairswap.model.clip import Clip
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.wording import counted, listed


def leave_out(what: Document | str | Path, *names: str) -> Document:
    """The document with its main figure by itself, without the meshes that are called so; told in a finding.

    Bones stay, also those that only such a mesh hung on. What is beside the figure in its file (props, cameras, lights)
    is left out, too; to leave out nothing else, name some of that.

    >>> import fairswap
    >>> body = fairswap.leave_out(fairswap.demo_file("pip.glb"), "*face*")
    >>> [mesh.name for mesh in body.figure.meshes]
    ['Pip body']

    Parameters
    ----------
    names : str
        Of meshes, or of what is beside the figure; ``*`` stands for anything, ``?`` for one letter; capital and small
        letters differ.

    Raises
    ------
    UsageError
        If nothing is called so, or no mesh would be left.
    """
    document = with_one_person(document_of(what))
    figure = document.figure
    meshes, beside = [mesh.name for mesh in figure.meshes], [row.name for row in document.held]
    for pattern in names:
        if not any(fnmatchcase(name, pattern) for name in meshes + beside):
            there = listed(map(repr, dict.fromkeys(meshes + beside)), 12) or "none"
            raise UsageError(f"no mesh is called {pattern!r}", file=document.file, remedy=f"There are {there}")
    if not names:
        return document
    kept = [number for number, name in enumerate(meshes) if not any(fnmatchcase(name, one) for one in names)]
    if meshes and not kept:
        raise UsageError("no mesh would be left", file=document.file, remedy="Keep one; or convert the motion alone")
    number_of = {old: new for new, old in enumerate(kept)}
    gone = [mesh for number, mesh in enumerate(figure.meshes) if number not in number_of]
    clips = tuple(_clip_with_meshes(clip, number_of) for clip in document.clips_of(figure))
    left = [f"{mesh.name!r} ({counted(len(mesh.triangles), 'triangle')})" for mesh in gone] + list(map(repr, beside))
    told = Finding("left-out", "note", figure.name, f"{listed(left, 8)} left out")
    return replace(
        document, figures=(_with_meshes(figure, kept, number_of),), clips=clips, held=(),
        findings=(*document.findings, told),
    )  # fmt: skip


def _with_meshes(figure: Figure, kept: list[int], number_of: dict[int, int]) -> Figure:
    avatar = None if figure.avatar is None else figure.avatar.on_meshes(number_of)
    return replace(figure, meshes=tuple(figure.meshes[number] for number in kept), avatar=avatar, source=None)


def _clip_with_meshes(clip: Clip, number_of: dict[int, int]) -> Clip:
    tracks = tuple(
        replace(track, mesh=number_of[track.mesh]) for track in clip.poses.morph_tracks if track.mesh in number_of
    )
    return clip.with_poses(clip.poses.edit().poses(morph_tracks=tracks), kept=clip.kept)
