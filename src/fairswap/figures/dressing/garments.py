"""What a garment's file holds: the clothes, without a body that came along; and both standing in the common T."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from fnmatch import fnmatchcase
from itertools import product
from pathlib import Path

import numpy as np

from fairswap.bones.assignment import roles_of
from fairswap.errors import FairSwapError, Finding, ImpossibleError, UsageError
from fairswap.figures.dressing.forms import form_of, in_pose, skeleton_in_t
from fairswap.figures.dressing.pairing import roles_in_garment
from fairswap.figures.dressing.worn import worn_by_shape
from fairswap.figures.dressing.wrapping import Form
from fairswap.figures.rigging.weights import few_influences
from fairswap.formats.files import document_of
from fairswap.formats.gltf.bare import bare_figure, stood_up
from fairswap.formats.gltf.container import Container
from fairswap.measure.nearness import Surface
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.model.mesh import Mesh
from fairswap.model.skeleton import Skeleton
from fairswap.model.skinning import inverse_rest_matrices
from fairswap.model.space import OURS, Space, usual_forward
from fairswap.pose.rigged import RiggedFigure, rigged_if_known

# Cloth without bones was made for a body if half of it is within this of the skin, in heights.
_ON_IT = 0.06
# No smaller than this, and no larger, in heights: else it is not in that unit.
_SMALLEST, _LARGEST = 0.08, 1.6
_UNITS = ("m", "cm", "in", "mm")


@dataclass(frozen=True, eq=False)
class Garment:
    """Clothes standing in the common T.

    Attributes
    ----------
    skeleton : Skeleton
        Its bones, resting in the T.
    roles : mapping of role to bone
        As far as they are known.
    meshes : tuple of Mesh
        Bound there.
    form : Form
        The body it was made for, as far as that is known.
    findings : tuple of Finding
    """

    skeleton: Skeleton
    roles: Mapping[str, int]
    meshes: tuple[Mesh, ...]
    form: Form
    findings: tuple[Finding, ...] = ()


def garment_in(
    what: Document | Figure | str | Path, target: RiggedFigure, made_for: RiggedFigure | None, take: Sequence[str]
) -> Garment:
    """The clothes that are in a file, in the T.

    Raises
    ------
    ImpossibleError
        If there are none, or nothing says how they were worn.
    UsageError
        If no mesh is called as one of ``take``.
    """
    document = document_of(what)
    if document.figures:
        figure, wearer = _without_its_body(document, take)
        wearer = made_for or wearer
        roles = roles_in_garment(figure, target, wearer)
    else:
        figure, wearer, roles = _chosen(_bare(document), take), made_for, {}
    if not figure.meshes:
        body = ", ".join(repr(mesh.name) for mesh in document.figure.meshes[:4])
        problem = f"there are no clothes in it, only the body ({body})" if body else "there is no mesh in it"
        raise ImpossibleError(problem, file=document.file, code="no-clothes")
    findings: list[Finding] = []
    if not roles:
        base = wearer or target
        figure = _placed_on(figure, base, wearer is not None, document, findings)
        wearer, roles = base, dict(base.roles.bones)
    like = wearer or _whole(figure)
    if like is not None:
        roles = {role: bone for role, bone in roles.items() if role in like.roles.bones}
    skeleton = skeleton_in_t(figure.skeleton, roles, like)
    meshes = tuple(in_pose(mesh, skeleton) for mesh in figure.meshes)
    joints = {role: skeleton.rest.positions[0, bone] for role, bone in roles.items()}
    form = Form(joints) if wearer is None else form_of(wearer, as_it_moves=wearer is target)
    return Garment(skeleton, roles, meshes, form, tuple(findings))


def _whole(figure: Figure) -> RiggedFigure | None:
    """The garment's own skeleton as a body's, if it is a whole one."""
    try:
        return RiggedFigure(figure, roles_of(figure), part="garment")
    except FairSwapError:
        return None


def _without_its_body(document: Document, take: Sequence[str]) -> tuple[Figure, RiggedFigure | None]:
    """The clothes of a figure; and the figure in its skin, if it came along."""
    figure = document.figure
    rigged = rigged_if_known(document)
    wearing = None if rigged is None else worn_by_shape(figure, rigged.roles)
    head = -1 if rigged is None else rigged.roles.bones["head"]
    body = [
        index for index, mesh in enumerate(figure.meshes)
        if wearing is not None and np.mean(wearing.numbers[index] >= 0) < 0.5
        and (head < 0 or float((mesh.weights * (mesh.joints == head)).sum()) > 0.02 * len(mesh.vertices))
    ]  # fmt: skip
    if take:
        chosen = _chosen(figure, take)
        body = [index for index in body if figure.meshes[index] not in chosen.meshes]
    else:
        # Beside a body all that is not worn (hair, eyes) is its own.
        worn = [mesh for index, mesh in enumerate(figure.meshes)
                if not body or (wearing is not None and np.mean(wearing.numbers[index] >= 0) >= 0.5)]  # fmt: skip
        chosen = replace(figure, meshes=tuple(worn), source=None)
    if rigged is None or not body:
        return chosen, None
    skin = replace(figure, meshes=tuple(figure.meshes[index] for index in body), source=None)
    return chosen, RiggedFigure(skin, rigged.roles, rigged.clip, part="body in the garment's file")


def _chosen(figure: Figure, take: Sequence[str]) -> Figure:
    if not take:
        return figure
    for pattern in take:
        if not any(fnmatchcase(mesh.name, pattern) for mesh in figure.meshes):
            known = ", ".join(repr(mesh.name) for mesh in figure.meshes[:8])
            raise UsageError(f"no mesh of {figure.name!r} is called {pattern!r}", remedy=f"It has {known}")
    meshes = tuple(mesh for mesh in figure.meshes if any(fnmatchcase(mesh.name, pattern) for pattern in take))
    return replace(figure, meshes=meshes, source=None)


def _bare(document: Document) -> Figure:
    found = bare_figure(document.origin) if isinstance(document.origin, Container) else None
    if found is None:
        raise ImpossibleError("there is no mesh in it", file=document.file, remedy="Give a file with clothes in it")
    return found[0]


def _placed_on(
    figure: Figure, base: RiggedFigure, said: bool, document: Document, findings: list[Finding]
) -> Figure:  # fmt: skip
    """Clothes without bones on those of the body they lie on, with its weights.

    Their file's unit and axes are those with which they lie nearest to the skin.
    """
    skin = base.figure
    points = skin.rest_points
    firsts = np.cumsum([0, *(len(mesh.vertices) for mesh in skin.meshes)])
    rows = list(zip(skin.meshes, firsts.tolist(), strict=False))
    surface = Surface(points, np.concatenate([mesh.triangles + first for mesh, first in rows]))
    spaces = [Space(up, usual_forward(up), unit) for unit, up in product(_UNITS, ("+Y", "+Z"))]
    some = figure.rest_points[:: max(1, len(figure.rest_points) // 500)]

    def off(space: Space) -> float:
        at = some @ (space.turn * space.metres).T
        if not _SMALLEST < np.ptp(at, axis=0).max() / skin.height_m < _LARGEST:
            return np.inf
        # As it lies in the file, unless another way is clearly better.
        return float(np.median(np.linalg.norm(surface.nearest(at).place - at, axis=1))) * (
            1.0 if space == OURS else 1.2
        )

    best = min(spaces, key=off)
    if off(best) > _ON_IT * skin.height_m:
        whom = base.title if said else f"{base.title}, and nothing says for whom they were made"
        problem = f"the clothes have no bones that are known, and do not lie on {whom}"
        raise ImpossibleError(problem, file=document.file, code="garment-unknown")
    if best != OURS:
        message = f"it is taken to be in {best.unit}, {best.up} up: so it lies on the body it was made for"
        findings.append(Finding("garment-placed", "note", figure.name, message))
    table = np.zeros((len(points), len(skin.skeleton)))
    for mesh, first in rows:
        np.add.at(table, (first + np.arange(len(mesh.vertices))[:, None], mesh.joints), mesh.weights)
    binds = inverse_rest_matrices(skin.skeleton)
    meshes = []
    for mesh in stood_up(figure, best.turn * best.metres).meshes:
        joints, weights = few_influences(surface.taken(table, surface.nearest(mesh.vertices)))
        meshes.append(replace(mesh, joints=joints, weights=weights, bind_matrices=binds, skinned=True))
    return replace(skin, name=figure.name, meshes=tuple(meshes), source=None, avatar=None)
