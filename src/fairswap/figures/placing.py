"""Put a figure on the floor, or on the floor at the origin, with all that is in its file and with its clips."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Literal

import numpy as np

from fairswap.bones.assignment import roles_of
from fairswap.bones.choice import with_one_person
from fairswap.errors import Finding, ImpossibleError, UsageError
from fairswap.formats.files import document_of
from fairswap.formats.gltf.growing import container_with_move
from fairswap.formats.gltf.origins import GltfSource
from fairswap.formats.gltf.reading import document_from_container
from fairswap.formats.gltf.writing import still_as_read
from fairswap.formats.reckoned import as_reckoned
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.model.mesh import Mesh
from fairswap.model.skeleton import Skeleton

Place = Literal["keep", "floor", "origin"]
PLACES: tuple[Place, ...] = ("keep", "floor", "origin")
# Nearer than this it stands there already.
_THERE_M = 1e-3


def place(what: Document | str | Path, where: Place = "floor") -> Document:
    """The document with its main figure put in its place, told in a finding.

    >>> import fairswap
    >>> fairswap.place(fairswap.demo_file("pip.glb"), "origin").findings
    ()

    Parameters
    ----------
    where : str
        ``keep`` where it stands; ``floor``, with its soles at the height 0; ``origin``, also with its hips above the
        origin, as it rests.

    Raises
    ------
    UsageError
        If ``where`` is none of these; of several people in it, if none is chosen.
    ImpossibleError
        If there is no figure.
    """
    if where not in PLACES:
        raise UsageError(f"{where!r} is not a place for a figure", remedy=f"Give one of: {', '.join(PLACES)}")
    document = with_one_person(document_of(what))
    if where == "keep":
        return document
    figure = document.figure
    shift = np.array([0.0, -figure.floor_m, 0.0])
    if where == "origin":
        shift[[0, 2]] = -_middle(figure, document)[[0, 2]]
    if np.abs(shift).max() < _THERE_M:
        return document
    sideways = float(np.hypot(shift[0], shift[2]))
    aside = f" and {sideways:.3f} m aside" if sideways > _THERE_M else ""
    there = "on it" if where == "floor" else "on it at the origin"
    message = f"it stood {-shift[1]:+.3f} m off the floor{aside}; put {there}"
    told = Finding("placed", "note", figure.name, message)
    if still_as_read(figure, document.clips_of(figure)):
        container = container_with_move(figure.source.container, _in_file(figure.source, shift))
        moved = as_reckoned(document_from_container(container))
        placed = replace(moved, findings=document.findings, joined=document.joined, file=document.file)
        if document.chosen:
            placed = placed.choosing(figure.name)
    else:
        figures = {id(other): _shifted(other, shift) for other in document.figures}
        clips = tuple(_clip_shifted(clip, figures[id(document.figure_of(clip))], shift) for clip in document.clips)
        placed = replace(document, figures=tuple(figures.values()), clips=clips)
    return replace(placed, findings=(*placed.findings, told))


def _middle(figure: Figure, document: Document) -> Floats:
    """What shall be above the origin: the hips, or the middle of a body whose bones are not known."""
    try:
        hips = roles_of(figure, clip=next(iter(document.clips_of(figure)), None)).bones["hips"]
    except ImpossibleError:
        return np.asarray(0.5 * (figure.rest_points.min(axis=0) + figure.rest_points.max(axis=0)))
    return np.asarray(figure.skeleton.rest.positions[0, hips])


def _in_file(source: GltfSource, shift: Floats) -> Floats:
    return np.asarray(np.linalg.solve(source.to_ours, shift))


def _shifted(figure: Figure, shift: Floats) -> Figure:
    skeleton = figure.skeleton
    roots = (skeleton.parents < 0)[:, None]
    moved: Skeleton = replace(skeleton, rest_translations=skeleton.rest_translations + roots * shift)
    return replace(figure, skeleton=moved, meshes=tuple(_mesh_shifted(mesh, shift) for mesh in figure.meshes))


def _mesh_shifted(mesh: Mesh, shift: Floats) -> Mesh:
    back = np.eye(4)
    back[:3, 3] = -shift
    return replace(mesh, vertices=mesh.vertices + shift, bind_matrices=mesh.bind_matrices @ back, origin=None)


def _clip_shifted(clip: Clip, figure: Figure, shift: Floats) -> Clip:
    poses = clip.poses
    tracks = {
        bone: track + shift[:, None] if figure.skeleton.parents[bone] < 0 else track
        for bone, track in poses.translation_by_bone().items()
    }
    edit = poses.edit()
    edit.skeleton, edit.translations = figure.skeleton, tracks
    return clip.with_poses(edit.poses(), kept=clip.kept)
