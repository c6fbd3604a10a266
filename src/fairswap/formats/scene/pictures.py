"""The pictures of a figure's materials, each to be written once, under a name of its own."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from hashlib import sha256

from fairswap.formats.gltf.materials import maps_of
from fairswap.formats.images import as_png_or_jpeg, media_type
from fairswap.formats.naming import distinct, file_stem
from fairswap.model.mesh import Material, Mesh


def pictures_of(meshes: Sequence[Mesh], stem: str, *, maps: bool = False) -> dict[bytes, str]:
    """The colour pictures of all materials (and their other ``maps``), and the file name of each: after the figure's
    file and what is in it, so that files of one name in several formats share them, and never spoil each other's."""
    looks = [row for mesh in meshes for row in mesh.materials]
    found = dict.fromkeys(row.texture for row in looks if row.texture is not None)
    if maps:
        found |= dict.fromkeys(one for row in looks if (held := maps_of(row)) for one in held.pictures.values())
    safe = file_stem(stem, "figure").replace(" ", "_")
    suffixes = {data: ".jpg" if media_type(data) == "image/jpeg" else ".png" for data in found}
    return {data: f"{safe}-{sha256(data).hexdigest()[:8]}{suffix}" for data, suffix in suffixes.items()}


def files_of_pictures(pictures: Mapping[bytes, str]) -> dict[str, bytes]:
    """What to write under the names that :func:`pictures_of` gave: PNG and JPEG, which all programs read."""
    return {name: as_png_or_jpeg(data) for data, name in pictures.items()}


def look_names(materials: Sequence[Material]) -> list[str]:
    """A name for each of several materials: their own, made distinct."""
    return distinct([name_of_look(row, f"material {number}") for number, row in enumerate(materials, 1)])


def name_of_look(material: Material, otherwise: str) -> str:
    """What its document calls a material."""
    origin = material.origin
    rows = origin.container.raw.get("materials", []) if origin is not None else []
    name = rows[origin.index].get("name") if origin is not None and origin.index < len(rows) else None
    return name if isinstance(name, str) and name else otherwise
