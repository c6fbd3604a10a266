"""Textures made to fit: no larger than allowed, in formats that are known."""

from __future__ import annotations

import struct
from collections.abc import Sequence
from dataclasses import dataclass, replace
from io import BytesIO

from fairswap.formats.gltf.materials import with_images
from fairswap.formats.images import media_type, opened_image
from fairswap.model.figure import Figure

# Where a picture for graphics cards says how large it is (KTX 2.0, 3.1: pixelWidth, pixelHeight).
_CARDS_SIZE = struct.Struct("<20x2I")


@dataclass(frozen=True)
class TextureFacts:
    """Format, width and height of a texture, and its bytes."""

    format: str
    width: int
    height: int
    bytes: int


def facts_of(texture: bytes, place: str) -> TextureFacts:
    """What a texture is.

    Raises
    ------
    InputError
        If it is no image, or larger than anything that is drawn.
    """
    if _for_cards(texture):
        width, height = _CARDS_SIZE.unpack_from(texture)
        return TextureFacts("ktx2", width, height, len(texture))
    with opened_image(texture, place) as picture:
        return TextureFacts((picture.format or "").lower(), picture.width, picture.height, len(texture))


def _for_cards(picture: bytes) -> bool:
    return media_type(picture) == "image/ktx2" and len(picture) >= _CARDS_SIZE.size


def pictures_of(figure: Figure) -> dict[bytes, str]:
    """Every picture of a figure's materials, normal maps and all, with the mesh it was seen on; once each."""
    out: dict[bytes, str] = {}
    for mesh in with_images(figure).meshes:
        for material in mesh.materials:
            for picture in (material.texture, *(material.images or {}).values()):
                if picture is not None:
                    out.setdefault(picture, mesh.name)
    return out


def fitted_textures(
    figure: Figure, pixels: int | None, formats: Sequence[str]
) -> tuple[Figure, list[tuple[TextureFacts, TextureFacts]]]:
    """The figure with textures of at most ``pixels`` on a side, in one of ``formats``; and each that changed.

    Pictures for graphics cards (KTX2) stay: nothing here can read them.
    """
    figure = with_images(figure)
    done: dict[bytes, bytes] = {}
    rows = []
    meshes = []
    for mesh in figure.meshes:
        materials = []
        for material in mesh.materials:
            # Normal maps and the like are made smaller, too.
            more = {
                number: _fitted(image, facts_of(image, f"mesh {mesh.name}"), pixels, formats)
                for number, image in (material.images or {}).items()
                if image != material.texture
            }
            if any(image is not more[number] for number, image in (material.images or {}).items() if number in more):
                material = replace(material, images={**(material.images or {}), **more})
            texture = material.texture
            if texture is None:
                materials.append(material)
                continue
            if texture not in done:
                before = facts_of(texture, f"mesh {mesh.name}")
                done[texture] = _fitted(texture, before, pixels, formats)
                if done[texture] is not texture:
                    rows.append((before, facts_of(done[texture], f"mesh {mesh.name}")))
            if done[texture] is not texture:
                material = replace(material, texture=done[texture])
            materials.append(material)
        same = all(a is b for a, b in zip(materials, mesh.materials, strict=True))
        meshes.append(mesh if same else replace(mesh, materials=tuple(materials)))
    same = all(a is b for a, b in zip(meshes, figure.meshes, strict=True))
    return (figure if same else replace(figure, meshes=tuple(meshes))), rows


def _fitted(texture: bytes, facts: TextureFacts, pixels: int | None, formats: Sequence[str]) -> bytes:
    from PIL import Image

    large = pixels is not None and max(facts.width, facts.height) > pixels
    if _for_cards(texture) or (not large and (not formats or facts.format in formats)):
        return texture
    with opened_image(texture, "a material") as picture:
        image = picture.convert("RGBA" if "A" in picture.getbands() or "transparency" in picture.info else "RGB")
        if large and pixels is not None:
            fraction = pixels / max(image.size)
            size = (max(round(image.width * fraction), 1), max(round(image.height * fraction), 1))
            image = image.resize(size, Image.Resampling.LANCZOS)
        wanted = facts.format if not formats or facts.format in formats else formats[0]
        out = BytesIO()
        if wanted == "jpeg":
            image.convert("RGB").save(out, "JPEG", quality=90)
        elif wanted in ("webp", "avif"):
            image.save(out, wanted.upper(), quality=90)
        elif image.mode == "RGB" and picture.mode == "P":
            # Few colours, as it was: its own, or flat parts would not stay flat.
            image.quantize(palette=picture, dither=Image.Dither.NONE).save(out, "PNG", optimize=True)
        else:
            image.save(out, "PNG", optimize=True)
    return out.getvalue()
