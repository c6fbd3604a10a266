"""Give a material its picture by hand, where the file has lost it or never had one."""

from __future__ import annotations

import copy
from dataclasses import replace
from fnmatch import fnmatchcase
from pathlib import Path

import numpy as np

from fairswap.errors import UsageError
from fairswap.formats.gltf.materials import MaterialOrigin
from fairswap.formats.images import as_png_or_jpeg, media_type, opened_image
from fairswap.formats.storage import read_bytes
from fairswap.model.document import Document
from fairswap.model.mesh import Material


def with_texture(document: Document, material: str, picture: str | Path) -> Document:
    """The document with a picture as the colour of all materials of its main figure that are called so.

    Materials are called what the file calls them, or ``mesh:number``; ``*`` stands for anything.

    Raises
    ------
    UsageError
        If no material is called so; those that are there are named.
    InputError
        If the file is no picture that figures hold.
    """
    data = read_bytes(Path(picture))
    with opened_image(data, str(picture)):
        data = as_png_or_jpeg(data)
    figure, found = document.figure, False
    known: list[str] = []
    meshes = []
    for mesh in figure.meshes:
        rows = []
        for number, row in enumerate(mesh.materials):
            names = [name for name in (_name_of(row), f"{mesh.name}:{number}") if name]
            known.append(names[0])
            meant = any(fnmatchcase(name, material) for name in names)
            found |= meant
            rows.append(_painted(row, data) if meant else row)
        meshes.append(replace(mesh, materials=tuple(rows), origin=None))
    if not found:
        there = ", ".join(map(repr, dict.fromkeys(known[:12]))) or "none"
        raise UsageError(f"no material is called {material!r}", file=document.file, remedy=f"There are {there}")
    new = replace(figure, meshes=tuple(meshes), source=None)
    return replace(document, figures=(new,), clips=tuple(document.clips_of(figure)))


def _name_of(material: Material) -> str:
    origin = material.origin
    if not isinstance(origin, MaterialOrigin):
        return ""
    return str(origin.container.raw["materials"][origin.index].get("name", ""))


def _painted(material: Material, data: bytes) -> Material:
    """The material with a picture; what its document says of it beside that stays. Its colour gives way to white."""
    white = np.ones(3)
    origin = material.origin
    if not isinstance(origin, MaterialOrigin):
        return replace(material, texture=data, color=white)
    container = origin.container
    raw = copy.deepcopy(container.raw)
    raw.setdefault("buffers", []).append({"byteLength": len(data)})
    raw.setdefault("bufferViews", []).append({"buffer": len(container.buffers), "byteLength": len(data)})
    raw.setdefault("images", []).append({"bufferView": len(raw["bufferViews"]) - 1, "mimeType": media_type(data)})
    raw.setdefault("textures", []).append({"source": len(raw["images"]) - 1})
    shading = raw["materials"][origin.index].setdefault("pbrMetallicRoughness", {})
    shading["baseColorTexture"] = {"index": len(raw["textures"]) - 1}
    alpha = shading.pop("baseColorFactor", [1.0] * 4)[3]
    if alpha != 1.0:
        shading["baseColorFactor"] = [1.0, 1.0, 1.0, alpha]
    changed = container.changed(raw, [*container.buffers, memoryview(data)])
    new = MaterialOrigin(changed, origin.index, len(raw["images"]) - 1)
    return replace(material, texture=data, color=white, origin=new, images=None, uv_set=0, uv_transform=None)
