"""Materials carried into a new document whole: all that their own document says of them, with their textures."""

from __future__ import annotations

import copy
from collections.abc import Collection, Iterator
from contextlib import suppress
from dataclasses import dataclass, replace
from typing import Any

import msgspec
import numpy as np

from fairswap.errors import InputError
from fairswap.formats.gltf.accessors import item, view_bytes
from fairswap.formats.gltf.container import Container, bytes_from_uri
from fairswap.formats.gltf.packing import Packer
from fairswap.formats.gltf.schema import Texture, TextureInfo, TextureTransform
from fairswap.formats.gltf.tidying import extensions_in
from fairswap.formats.images import media_type
from fairswap.model.arrays import Floats
from fairswap.model.figure import Figure
from fairswap.model.mesh import Blending, Material


@dataclass(frozen=True, eq=False)
class MaterialOrigin:
    """Where a material stands in its document, and the image that is its colour (or None)."""

    container: Container
    index: int
    color_image: int | None


BLENDINGS: dict[str, Blending] = {"MASK": "mask", "BLEND": "blend"}
# The extensions that give a texture another picture, and of which kind it is.
_PICTURES = {"EXT_texture_webp": "image/webp", "KHR_texture_basisu": "image/ktx2", "EXT_texture_avif": "image/avif"}
_DRAWN = ("EXT_texture_webp", "EXT_texture_avif")


# A picture is not repeated more often, nor moved further.
_MOST = 1e6


def shown_image(texture: Texture) -> int | None:
    """The number of the image that a texture shows: its own, or else one of an extension; None if there is none that
    can be drawn."""
    if texture.source is not None:
        return texture.source
    extensions = (texture.extensions.get(name) for name in _DRAWN)
    numbers = (extension.get("source") for extension in extensions if isinstance(extension, dict))
    return next((number for number in numbers if isinstance(number, int) and number >= 0), None)


def coordinates_of(info: TextureInfo) -> tuple[int, Floats | None]:
    """Which texture coordinates a material's use of a texture takes, and what they are multiplied with before.

    After the text of ``KHR_texture_transform`` in the glTF registry; what is no such thing counts as nothing.
    """
    try:
        said = msgspec.convert(info.extensions.get("KHR_texture_transform", {}), TextureTransform)
    except msgspec.ValidationError:
        said = TextureTransform()
    number = info.tex_coord if said.tex_coord is None else said.tex_coord
    with np.errstate(all="ignore"):  # what comes out as no number counts as nothing, too
        cosine, sine = np.cos(said.rotation), np.sin(said.rotation)
        matrix = np.column_stack([np.array([[cosine, sine], [-sine, cosine]]) * said.scale, said.offset])
    plain = np.allclose(matrix, np.eye(2, 3)) or not (np.abs(matrix) < _MOST).all()
    return number, None if plain else matrix


def undrawn_kind(texture: Texture) -> str:
    """What a texture's picture is where none can be drawn: ``KTX2``; empty if one can be, or none is there."""
    if shown_image(texture) is not None:
        return ""
    kinds = (kind for name, kind in _PICTURES.items() if name in texture.extensions)
    return next((kind.partition("/")[2].upper() for kind in kinds), "")


def with_images(figure: Figure) -> Figure:
    """The figure with the images of its materials at hand, normal maps and all, so that they can be changed."""
    meshes = []
    for mesh in figure.meshes:
        materials = tuple(
            replace(material, images=_images_of(material.origin))
            if isinstance(material.origin, MaterialOrigin) and material.images is None
            else material
            for material in mesh.materials
        )
        meshes.append(replace(mesh, materials=materials))
    return replace(figure, meshes=tuple(meshes))


def add_whole_material(
    raw: dict[str, Any], material: Material, packer: Packer, done: dict[bytes, int], sets: Collection[int]
) -> int:
    """Append a material of another document to ``raw`` with its textures; give its index.

    ``done`` are the images that were stored already. Textures on coordinates that are none of the ``sets`` that the
    mesh has are left out.
    """
    origin = material.origin
    row = copy.deepcopy(origin.container.raw["materials"][origin.index])
    _say_look(row, material)
    images = material.images if material.images is not None else _images_of(origin)
    for holder, key in list(_texture_uses(row)):
        if holder[key].get("texCoord", 0) not in tuple(sets):
            del holder[key]
            continue
        texture = copy.deepcopy(_texture(origin.container, holder[key]["index"]))
        places = _places_of_pictures(texture)
        if any(place["source"] not in images for place in places):  # its picture is missing
            del holder[key]
            continue
        for place in places:
            own = place["source"] == origin.color_image
            data = material.texture if own and material.texture is not None else images[place["source"]]
            place["source"] = _stored(raw, data, packer, done)
        _keep_kinds(raw, texture)
        if "sampler" in texture:
            samplers = origin.container.raw.get("samplers", [])
            sampler = item(samplers, texture["sampler"], "sampler", f"materials[{origin.index}]")
            raw.setdefault("samplers", []).append(copy.deepcopy(sampler))
            texture["sampler"] = len(raw["samplers"]) - 1
        raw.setdefault("textures", []).append(texture)
        holder[key]["index"] = len(raw["textures"]) - 1
    used = {name for part in (row, *raw.get("textures", [])) for name in extensions_in(part)}
    if used:
        raw["extensionsUsed"] = sorted({*raw.get("extensionsUsed", []), *used})
    raw.setdefault("materials", []).append(row)
    return len(raw["materials"]) - 1


def _say_look(row: dict[str, Any], material: Material) -> None:
    """Where the look of a material is not what its document says, it is now."""
    shading = row.get("pbrMetallicRoughness", {})
    if material.texture is None and material.origin.color_image is not None:
        shading.pop("baseColorTexture", None)
    factor = (*map(float, material.color), material.alpha)
    if not np.allclose(shading.get("baseColorFactor", (1.0,) * 4), factor, atol=1e-6):
        row["pbrMetallicRoughness"] = shading | {"baseColorFactor": list(factor)}
    mode = BLENDINGS.get(row.get("alphaMode", ""), "opaque")
    before = see_through(mode, row.get("alphaCutoff", 0.5), row.get("doubleSided", False))
    said = see_through(material.blending, material.cutoff, material.two_sided)
    if said != before:
        for key in ("alphaMode", "alphaCutoff", "doubleSided"):
            row.pop(key, None)
        row |= said


def see_through(blending: str, cutoff: float, two_sided: bool) -> dict[str, Any]:
    """The fields of a material that say how it is seen through, and from which side; none where it is as usual."""
    row: dict[str, Any] = {}
    if blending != "opaque":
        row["alphaMode"] = blending.upper()
    if blending == "mask":
        row["alphaCutoff"] = cutoff
    if two_sided:
        row["doubleSided"] = True
    return row


def _places_of_pictures(texture: dict[str, Any]) -> list[dict[str, Any]]:
    """The texture itself and its extensions, as far as they name an image."""
    held = (texture, *texture.get("extensions", {}).values())
    return [place for place in held if isinstance(place, dict) and isinstance(place.get("source"), int)]


def _keep_kinds(raw: dict[str, Any], texture: dict[str, Any]) -> None:
    """A picture that was made anew as PNG or JPEG is the texture's own one, and no longer one of an extension."""
    extensions = texture.get("extensions", {})
    for name in [name for name in _PICTURES if isinstance(extensions.get(name), dict)]:
        source = extensions[name].get("source")
        if isinstance(source, int) and raw["images"][source]["mimeType"] != _PICTURES[name]:
            texture["source"] = source
            del extensions[name]
        elif "source" not in texture:  # programs without the extension show nothing
            raw["extensionsRequired"] = sorted({*raw.get("extensionsRequired", []), name})
    if not extensions:
        texture.pop("extensions", None)


def _images_of(origin: MaterialOrigin) -> dict[int, bytes]:
    """The images that a material's textures show, by their numbers."""
    container = origin.container
    out = {}
    for holder, key in _texture_uses(container.raw["materials"][origin.index]):
        texture = _texture(container, holder[key]["index"])
        for place in _places_of_pictures(texture):
            number = place["source"]
            if number in out:
                continue
            where = f"images[{number}]"
            image = item(container.document.images, number, "image", f"materials[{origin.index}]")
            if image.buffer_view is not None:
                out[number] = bytes(view_bytes(container, image.buffer_view, where))
            elif image.uri is not None:
                with suppress(InputError):  # told when the file was read: a figure without a picture is one still
                    out[number] = bytes_from_uri(container.path, image.uri, where)
    return out


@dataclass(frozen=True)
class Maps:
    """What a material's document says of it beside its colour: pictures by what they show, and factors.

    ``pictures`` are ``normal``, ``glow``, ``occlusion``, and ``surface`` (roughness in green, metal in blue).
    """

    pictures: dict[str, bytes]
    roughness: float = 1.0
    metallic: float = 1.0
    glow: tuple[float, float, float] = (0.0, 0.0, 0.0)
    more: bool = False  # whether extensions say still more


_MAPS = {"normalTexture": "normal", "emissiveTexture": "glow", "occlusionTexture": "occlusion"}


def maps_of(material: Material) -> Maps | None:
    """What the document of a material says beside its colour; None of one without a document."""
    origin = material.origin
    if not isinstance(origin, MaterialOrigin):
        return None
    row = origin.container.raw["materials"][origin.index]
    shading = row.get("pbrMetallicRoughness", {})
    held = {name: row[key] for key, name in _MAPS.items() if isinstance(row.get(key), dict)}
    if isinstance(shading.get("metallicRoughnessTexture"), dict):
        held["surface"] = shading["metallicRoughnessTexture"]
    textures = origin.container.document.textures
    pictures = {}
    for name, place in held.items():
        index = place.get("index")
        source = shown_image(textures[index]) if isinstance(index, int) and 0 <= index < len(textures) else None
        found = (material.images or {}).get(-1 if source is None else source) or picture_of_image(
            origin.container, source
        )
        if found is not None and place.get("texCoord", 0) == 0:
            pictures[name] = found
    glow = [float(part) for part in row.get("emissiveFactor", (0.0, 0.0, 0.0))]
    return Maps(
        pictures, float(shading.get("roughnessFactor", 1.0)), float(shading.get("metallicFactor", 1.0)),
        (glow[0], glow[1], glow[2]), bool(row.get("extensions")),
    )  # fmt: skip


def picture_of_image(container: Container, number: Any) -> bytes | None:
    """The bytes of an image by its number; None if it is not there."""
    images = container.document.images
    if not isinstance(number, int) or not 0 <= number < len(images):
        return None
    image, where = images[number], f"images[{number}]"
    with suppress(InputError):  # told when the file was read: a figure without a picture is one still
        if image.buffer_view is not None:
            return bytes(view_bytes(container, image.buffer_view, where))
        if image.uri is not None:
            return bytes_from_uri(container.path, image.uri, where)
    return None


def _texture(container: Container, index: int) -> dict[str, Any]:
    texture: dict[str, Any] = item(container.raw.get("textures", []), index, "texture", "materials")
    return texture


def _texture_uses(row: Any) -> Iterator[tuple[dict[str, Any], str]]:
    """Every place in a material that names a texture: the holder and its key."""
    if not isinstance(row, dict):
        return
    for key, value in row.items():
        if isinstance(value, dict):
            if key.endswith("Texture") and isinstance(value.get("index"), int):
                yield row, key
            yield from _texture_uses(value)


def _stored(raw: dict[str, Any], data: bytes, packer: Packer, done: dict[bytes, int]) -> int:
    """The number of an image in the new document."""
    if data not in done:
        kind = media_type(data) or "image/jpeg"
        raw.setdefault("images", []).append({"bufferView": packer.view(data), "mimeType": kind})
        done[data] = len(raw["images"]) - 1
    return done[data]
