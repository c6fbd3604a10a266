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


def leave_out(what: Document | str | Path, *meshes: str) -> Document:
    """The document with its main figure alone, without the meshes that are called so; told in a finding.

    Bones stay, also those that only such a mesh hung on.

    >>> import fairswap
    >>> body = fairswap.leave_out(fairswap.demo_file("pip.glb"), "*head*")
    >>> [mesh.name for mesh in body.figure.meshes]
    ['Pip body']

    Parameters
    ----------
    meshes : str
        Names, or patterns with ``*`` and ``?``; capital letters and small ones differ.

    Raises
    ------
    UsageError
        If no mesh is called so, or none would be left.
    """
    document = with_one_person(document_of(what))
    figure = document.figure
    names = [mesh.name for mesh in figure.meshes]
    for pattern in meshes:
        if not any(fnmatchcase(name, pattern) for name in names):
            there = listed(map(repr, names), 12) or "none"
            raise UsageError(f"no mesh is called {pattern!r}", file=document.file, remedy=f"There are {there}")
    kept = [number for number, name in enumerate(names) if not any(fnmatchcase(name, one) for one in meshes)]
    if len(kept) == len(names):
        return document
    if not kept:
        raise UsageError("no mesh would be left", file=document.file, remedy="Keep one; or convert the motion alone")
    number_of = {old: new for new, old in enumerate(kept)}
    lighter = _with_meshes(figure, kept, number_of)
    clips = tuple(_clip_with_meshes(clip, number_of) for clip in document.clips_of(figure))
    gone = [number for number in range(len(names)) if number not in number_of]
    triangles = sum(len(figure.meshes[number].triangles) for number in gone)
    message = f"{listed((repr(names[number]) for number in gone), 6)} left out, {counted(triangles, 'triangle')}"
    told = Finding("mesh-left-out", "note", figure.name, message)
    return replace(document, figures=(lighter,), clips=clips, findings=(*document.findings, told))


def _with_meshes(figure: Figure, kept: list[int], number_of: dict[int, int]) -> Figure:
    avatar = None if figure.avatar is None else figure.avatar.on_meshes(number_of)
    return replace(figure, meshes=tuple(figure.meshes[number] for number in kept), avatar=avatar, source=None)


def _clip_with_meshes(clip: Clip, number_of: dict[int, int]) -> Clip:
    tracks = tuple(
        replace(track, mesh=number_of[track.mesh]) for track in clip.poses.morph_tracks if track.mesh in number_of
    )
    return clip.with_poses(clip.poses.edit().poses(morph_tracks=tracks), kept=clip.kept)
