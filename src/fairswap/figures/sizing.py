"""Make a figure taller or smaller, with all that is in its file and with its clips: every length by one factor."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np

from fairswap.bones.choice import with_one_person
from fairswap.errors import Finding, ImpossibleError, UsageError
from fairswap.formats.files import document_of
from fairswap.formats.gltf.growing import container_with_move
from fairswap.formats.gltf.reading import document_from_container
from fairswap.formats.gltf.writing import still_as_read
from fairswap.formats.reckoned import as_reckoned
from fairswap.model.clip import Clip
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.model.mesh import Mesh

# Nearer to 1 than this it has that size already; beyond these it is a mistake.
_SAME, _LEAST, _MOST = 1e-6, 1e-3, 1e3


def resize(what: Document | str | Path, *, height_m: float | None = None, factor: float | None = None) -> Document:
    """The document with its main figure of another size, about the origin, told in a finding; undone by the inverse.

    >>> import fairswap
    >>> round(fairswap.resize(fairswap.demo_file("pip.glb"), height_m=1.7).figure.height_m, 3)
    1.7

    Parameters
    ----------
    height_m : float, optional
        Its height at rest, from sole to crown.
    factor : float, optional
        What all lengths are multiplied by.

    Raises
    ------
    UsageError
        If not one of both is given, or the factor is none to size a figure by.
    ImpossibleError
        If there is no figure, or it has no height.
    """
    if (height_m is None) == (factor is None):
        raise UsageError("a figure is sized by its height or by a factor", remedy="Give one of them")
    document = with_one_person(document_of(what))
    figure = document.figure
    if height_m is not None:
        if figure.height_m <= 0.0:
            raise ImpossibleError("it has no height", file=document.file)
        factor = height_m / figure.height_m
    scale = float(factor or 0.0)
    if not _LEAST <= scale <= _MOST:
        raise UsageError(
            f"{scale:g} is not a factor to size a figure by", remedy=f"Give one from {_LEAST:g} to {_MOST:g}"
        )
    if abs(scale - 1.0) < _SAME:
        return document
    message = f"it was {figure.height_m:.3f} m tall; all its lengths are {scale:.6g} times what they were"
    told = Finding("resized", "note", figure.name, message)
    made = _in_its_document(document, scale) or _by_itself(document, scale)
    return replace(made, findings=(*document.findings, told), joined=document.joined, file=document.file)


def _in_its_document(document: Document, scale: float) -> Document | None:
    """With one node above each scene that scales; None if it is not read from there as it was meant."""
    figure = document.figure
    if not still_as_read(figure, document.clips_of(figure)):
        return None
    made = as_reckoned(document_from_container(container_with_move(figure.source.container, np.zeros(3), scale)))
    if document.chosen:
        made = made.choosing(figure.name)
    # Who is no taller than a hand is taken to be in another unit.
    off = made.figure.skeleton.rest.positions[0] - scale * figure.skeleton.rest.positions[0]
    return made if np.abs(off).max() < 1e-5 * scale * max(figure.height_m, 1e-6) else None


def _by_itself(document: Document, scale: float) -> Document:
    figures = {id(figure): _scaled(figure, scale) for figure in document.figures}
    clips = tuple(_clip_scaled(clip, figures[id(document.figure_of(clip))], scale) for clip in document.clips)
    return replace(document, figures=tuple(figures.values()), clips=clips)


def _scaled(figure: Figure, scale: float) -> Figure:
    skeleton = replace(figure.skeleton, rest_translations=figure.skeleton.rest_translations * scale)
    meshes = tuple(_mesh_scaled(mesh, scale) for mesh in figure.meshes)
    return replace(figure, skeleton=skeleton, meshes=meshes, source=None)


def _mesh_scaled(mesh: Mesh, scale: float) -> Mesh:
    binds = mesh.bind_matrices.copy()
    binds[:, :3, 3] *= scale
    deltas = None if mesh.morph_deltas is None else mesh.morph_deltas * scale
    return replace(mesh, vertices=mesh.vertices * scale, bind_matrices=binds, morph_deltas=deltas, origin=None)


def _clip_scaled(clip: Clip, figure: Figure, scale: float) -> Clip:
    edit = clip.poses.edit()
    edit.skeleton = figure.skeleton
    edit.translations = {bone: track * scale for bone, track in clip.poses.translation_by_bone().items()}
    return clip.with_poses(edit.poses(), kept=clip.kept)
