"""From a USD stage to figures and clips: its skeletons, meshes and animations built up as nodes, skins and keys."""

from __future__ import annotations

import re
from dataclasses import replace
from pathlib import Path
from typing import Any

from fairswap.errors import Finding, InputError
from fairswap.formats.gltf.container import Container
from fairswap.formats.gltf.reading import document_from_container
from fairswap.formats.marks import GENERATOR, MARK, mark_from
from fairswap.formats.scene.stance import stance_node
from fairswap.formats.usd.apart import done_apart
from fairswap.formats.usd.meshes import hang_mesh
from fairswap.formats.usd.motions import add_clips
from fairswap.formats.usd.packing import library, opened_stage
from fairswap.formats.usd.scene import Scene
from fairswap.formats.usd.skeletons import bones_of
from fairswap.formats.usd.values import matrix_of, name_of
from fairswap.model.document import Document
from fairswap.wording import counted

_AGAIN = "Export the file again"
_MOST_PRIMS = 200_000


def read(content: bytes, path: Path, *, unit: str | None = None, up: str | None = None) -> Document:
    """Read the content of a USD file; see :func:`fairswap.load`.

    Raises
    ------
    ImpossibleError
        If the official library is not installed.
    InputError
        If it is no USD, damaged, or names what is not there.
    """
    library()  # says so if it is not there
    container, findings = done_apart(_container, len(content), content, path, unit, up)
    document = document_from_container(container)
    return replace(document, findings=(*findings, *document.findings))


def _container(content: bytes, path: Path, unit: str | None, up: str | None) -> tuple[Container, list[Finding]]:
    """The stage as a glTF document, and what was noticed."""
    with opened_stage(content, path) as (stage, folder, beside):
        scene = Scene(stage, folder, path, len(content))
        _build(scene, unit, up)
        pictures = scene.looks.pictures.beside if folder == path.parent else []
        files = tuple(dict.fromkeys([*beside, *pictures]))
        return scene.builder.container(path, "USD", beside=files), scene.findings


def _build(scene: Scene, unit: str | None, up: str | None) -> None:
    """Nodes, skeletons, meshes; then what moves them."""
    from pxr import Usd, UsdGeom, UsdSkel

    metres, axis = float(UsdGeom.GetStageMetersPerUnit(scene.stage)), f"+{UsdGeom.GetStageUpAxis(scene.stage)}"
    said = scene.stage.GetRootLayer().customLayerData
    facing = str(said.get("facing", "")) if said.get("creator") == GENERATOR else ""
    forward = facing if re.fullmatch("[+-][XYZ]", facing) else None
    if forward:
        scene.builder.written_by_us(mark_from(str(said.get(MARK, ""))))
    top = stance_node(scene.builder, unit, up, file_metres=metres, file_up=axis, forward=forward)
    nodes: dict[str, int] = {}
    meshes, animations, moving = [], [], []
    for count, prim in enumerate(scene.stage.Traverse(Usd.TraverseInstanceProxies())):
        if count > _MOST_PRIMS:
            raise InputError(f"it holds over {_MOST_PRIMS} things", remedy=_AGAIN + " with the figure alone")
        if prim.IsA(UsdSkel.Animation):
            animations.append(UsdSkel.Animation(prim))
        if not prim.IsA(UsdGeom.Xformable):
            continue
        xform = UsdGeom.Xformable(prim)
        above = next((nodes[str(at)] for at in _above(prim.GetPath()) if str(at) in nodes), top)
        matrix = matrix_of(xform.GetLocalTransformation(_when_it_rests(xform)))
        # A skeleton is called after what it is the skeleton of, unless it has a name to show.
        named = prim.GetParent() if prim.IsA(UsdSkel.Skeleton) and not prim.GetDisplayName() else prim
        number = scene.builder.node(name_of(named), above, matrix)
        nodes[str(prim.GetPath())] = number
        if xform.TransformMightBeTimeVarying():
            moving.append((xform, number))
        if prim.IsA(UsdSkel.Skeleton):
            scene.skeletons[str(prim.GetPath())] = bones_of(scene, UsdSkel.Skeleton(prim), number)
        elif prim.IsA(UsdGeom.Mesh):
            meshes.append((UsdGeom.Mesh(prim), number))
    for mesh, number in _shown(scene, meshes):
        hang_mesh(scene, mesh, number)
    for bones in scene.skeletons.values():
        if not bones.skinned and bones.nodes:
            scene.builder.skin(bones.nodes, bones.binds)
    add_clips(scene, animations, moving)


def _when_it_rests(xform: Any) -> Any:
    """The time code at which all that places it says something: none, or the first of its keys."""
    from pxr import Usd

    plain = all(op.GetAttr().Get() is not None for op in xform.GetOrderedXformOps())
    return Usd.TimeCode.Default() if plain else Usd.TimeCode.EarliestTime()


def _shown(scene: Scene, meshes: list[tuple[Any, int]]) -> list[tuple[Any, int]]:
    """The meshes that are to be seen: not those that guide, stand in for others while one works, or are hidden."""
    from pxr import Usd, UsdGeom

    first, tokens = Usd.TimeCode.EarliestTime(), UsdGeom.Tokens
    hidden = {
        mesh.GetPath(): mesh.ComputePurpose() in (tokens.guide, tokens.proxy)
        or mesh.ComputeVisibility(first) == tokens.invisible
        for mesh, _ in meshes
    }
    shown = [(mesh, number) for mesh, number in meshes if not hidden[mesh.GetPath()]] or meshes
    if len(shown) < len(meshes):
        names = [name_of(mesh.GetPrim()) for mesh, _ in meshes if hidden[mesh.GetPath()]]
        many = counted(len(names), "mesh", "meshes")
        message = f"it hides {many}, or keeps them for other uses ({', '.join(names[:3])}); left out"
        scene.findings.append(Finding("hidden-left-out", "note", scene.path.name, message))
    keyed = [name_of(mesh.GetPrim()) for mesh, _ in shown if mesh.GetPointsAttr().GetNumTimeSamples() > 1]
    if keyed:
        message = f"the points of {len(keyed)} meshes are keyed one by one ({', '.join(keyed[:3])}), which is not read"
        scene.findings.append(Finding("motion-not-read", "warning", scene.path.name, message))
    return shown


def _above(path: Any) -> list[Any]:
    """The paths above one, from below."""
    out = []
    at = path.GetParentPath()
    while at and at.IsPrimPath():
        out.append(at)
        at = at.GetParentPath()
    return out
