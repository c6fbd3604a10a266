"""Materials and their pictures merged into one atlas: each picture's used part at its own size, with its surroundings.

Colour, normal, occlusion, roughness and metal, and glow lie at the same place of an atlas of their own. Around each
part lies what the picture shows there (of one that repeats, its other side), so that nothing bleeds over the border.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from io import BytesIO
from pathlib import Path
from typing import Any

import msgspec
import numpy as np

from fairswap.errors import Finding
from fairswap.figures.shelves import laid_out
from fairswap.figures.trimming import of_vertices
from fairswap.formats.gltf.container import Container
from fairswap.formats.gltf.materials import MaterialOrigin, maps_of, see_through, with_images
from fairswap.formats.gltf.schema import Document
from fairswap.formats.images import opened_image
from fairswap.model.arrays import Floats, Integers, bounds_of
from fairswap.model.figure import Figure
from fairswap.model.mesh import Material, Mesh

# Texels around each part; the side of a part without a picture.
_MARGIN, _PLAIN = 4, 8
# A picture that repeats is laid out as often as it is seen, up to this; no atlas is larger than the last.
_MOST_TILES, _LARGEST_PX = 16, 8192
# Extensions of a material that hold for the whole of it: it is merged with others that have them as well.
_WHOLE = frozenset({"KHR_materials_unlit"})
_REPEAT, _CLAMP, _MIRROR = 10497, 33071, 33648
_MAPS = ("normal", "occlusion", "surface", "glow")


@dataclass(frozen=True, eq=False)
class Atlased:
    """A figure with its materials merged: how many it had and has, the atlas's width and height, how much smaller its
    pictures had to become (1: not), and what could not be merged."""

    figure: Figure
    before: int
    after: int
    size_px: tuple[int, int]
    scale: float
    findings: tuple[Finding, ...]


@dataclass(eq=False)
class _Part:
    """What one material shows: its pictures over the part that is used, their place in the atlas."""

    material: Material
    colour: Floats  # (h, w, 4), 0..255
    maps: dict[str, Floats]
    first: tuple[int, int]  # the texel of the picture at the part's first texel
    picture_px: tuple[int, int] | None  # of the whole picture; None if it has none
    at: tuple[int, int] = (0, 0)

    @property
    def size(self) -> tuple[int, int]:
        return self.colour.shape[1], self.colour.shape[0]


def number_of_materials(figure: Figure) -> int:
    """How many materials a figure has; one that several meshes show is one."""
    return len({_key(material) for mesh in figure.meshes for material in mesh.materials})


def _key(material: Material) -> tuple[int, int]:
    origin = material.origin
    return (id(origin.container), origin.index) if isinstance(origin, MaterialOrigin) else (id(material), -1)


def atlased(figure: Figure, most_px: int | None = None) -> Atlased:
    """A figure whose materials are merged as far as can be: those that are seen through alike, and from both sides.

    Parameters
    ----------
    most_px : int, optional
        The longest side of the atlas; pictures become smaller where they would not fit.
    """
    figure = with_images(figure)
    findings: list[Finding] = []
    groups: dict[tuple[Any, ...], list[_Part]] = {}
    part_of: dict[tuple[int, int], _Part] = {}
    for mesh in figure.meshes:
        for material in mesh.materials:
            why = _why_not(material)
            part = None if why else _part(figure, material)
            if part is None:
                message = f"a material stays by itself: {why or 'its picture repeats too often to be laid out'}"
                findings.append(Finding("material-apart", "note", mesh.name, message))
            elif _key(material) not in part_of:
                part_of[_key(material)] = part
                groups.setdefault(_group(material), []).append(part)
    made: dict[int, Material] = {}
    sizes, scales = [(0, 0)], [1.0]
    for key, parts in groups.items():
        if len(parts) < 2:
            continue
        size, scale = _packed(parts, min(most_px or _LARGEST_PX, _LARGEST_PX))
        whole = _material(key, parts, size)
        made.update({id(part): whole for part in parts})
        sizes.append(size)
        scales.append(scale)
    merged = {key: part for key, part in part_of.items() if id(part) in made}
    if not merged:
        return Atlased(figure, number_of_materials(figure), number_of_materials(figure), (0, 0), 1.0, tuple(findings))
    size_of = {id(part): size for size, group in zip(sizes[1:], [g for g in groups.values() if len(g) > 1], strict=True)
               for part in group}  # fmt: skip
    meshes = tuple(_remapped(mesh, merged, made, size_of) for mesh in figure.meshes)
    new = replace(figure, meshes=meshes, source=None)
    return Atlased(new, number_of_materials(figure), number_of_materials(new), max(sizes), min(scales), tuple(findings))


def _row_of(material: Material) -> dict[str, Any]:
    origin = material.origin
    return dict(origin.container.raw["materials"][origin.index]) if isinstance(origin, MaterialOrigin) else {}


def _why_not(material: Material) -> str:
    """Why a material cannot be merged; nothing if it can."""
    row = _row_of(material)
    more = set(row.get("extensions", {})) - _WHOLE
    if more:
        return f"it has {', '.join(sorted(more))}"
    for holder in (row, row.get("pbrMetallicRoughness", {})):
        for name, place in holder.items():
            if name.endswith("Texture") and isinstance(place, dict):
                if place.get("texCoord", 0) != 0:
                    return "it has pictures on second texture coordinates"
                if place.get("extensions"):
                    return "it turns or scales its pictures"
    if material.texture is not None and material.texture.startswith(b"\xabKTX"):
        return "its picture is packed for graphics cards"
    return ""


def _group(material: Material) -> tuple[Any, ...]:
    cutoff = material.cutoff if material.blending == "mask" else 0.0
    return (material.blending, cutoff, material.two_sided, tuple(sorted(_row_of(material).get("extensions", {}))))


def _wraps(material: Material) -> tuple[int, int]:
    """How the colour picture goes on beyond its borders, across and down."""
    row, origin = _row_of(material), material.origin
    place = row.get("pbrMetallicRoughness", {}).get("baseColorTexture")
    if not isinstance(origin, MaterialOrigin) or not isinstance(place, dict):
        return _REPEAT, _REPEAT
    texture = origin.container.raw["textures"][place["index"]]
    samplers = origin.container.raw.get("samplers", [])
    index = texture.get("sampler")
    sampler = samplers[index] if isinstance(index, int) and index < len(samplers) else {}
    return sampler.get("wrapS", _REPEAT), sampler.get("wrapT", _REPEAT)


def _part(figure: Figure, material: Material) -> _Part | None:
    """The part of a material's pictures that is used; None if it repeats too often."""
    maps = maps_of(material)
    pictures = {} if maps is None else {name: _pixels(data) for name, data in maps.pictures.items()}
    colour = None if material.texture is None else _pixels(material.texture)
    largest = max([colour, *pictures.values()], key=lambda p: 0 if p is None else p.size, default=None)
    if largest is None:
        colour, size, first = np.full((_PLAIN, _PLAIN, 4), 255.0), None, (0, 0)
        rows, columns = (np.arange(_PLAIN),) * 2
    else:
        high, wide = largest.shape[:2]
        low, top = _used(figure, material)
        x = np.arange(int(np.floor(low[0] * wide)) - _MARGIN, int(np.ceil(top[0] * wide)) + _MARGIN)
        y = np.arange(int(np.floor(low[1] * high)) - _MARGIN, int(np.ceil(top[1] * high)) + _MARGIN)
        if len(x) * len(y) > _MOST_TILES * wide * high or max(len(x), len(y)) > _LARGEST_PX:
            return None
        across, down = _wraps(material)
        columns, rows = _wrapped(x, wide, across), _wrapped(y, high, down)
        size, first = (wide, high), (int(x[0]), int(y[0]))
        whole = np.full((high, wide, 4), 255.0) if colour is None else _resized(colour, (wide, high))
        colour = whole[np.ix_(rows, columns)]
    factor = np.append(material.color, material.alpha)
    if not np.allclose(factor, 1.0):
        colour = _times(colour, factor)
    shown = {}
    for name in _MAPS:
        if name in pictures and size is not None:
            shown[name] = _resized(pictures[name], size)[np.ix_(rows, columns)]
        elif maps is not None or name == "surface":
            shown[name] = np.full((*colour.shape[:2], 4), 255.0)
    _with_factors(shown, pictures, material)
    return _Part(material, colour, shown, first, size)


def _with_factors(shown: dict[str, Floats], pictures: dict[str, Floats], material: Material) -> None:
    """Roughness, metal and glow with their factors in the pictures; what has no normals is flat."""
    maps = maps_of(material)
    rough, metal = (0.9, 0.0) if maps is None else (maps.roughness, maps.metallic)
    surface = shown["surface"].copy()
    surface[..., 1] *= rough
    surface[..., 2] *= metal
    shown["surface"] = surface
    if "normal" in shown and "normal" not in pictures:
        shown["normal"] = np.broadcast_to([128.0, 128.0, 255.0, 255.0], shown["normal"].shape)
    if "glow" in shown and maps is not None:
        shown["glow"] = _times(shown["glow"], np.append(maps.glow, 1.0))


def _used(figure: Figure, material: Material) -> tuple[Floats, Floats]:
    """The smallest and largest texture coordinates that any mesh shows of a material."""
    found = []
    for mesh in figure.meshes:
        for row in mesh.materials:
            if _key(row) == _key(material) and mesh.uvs is not None:
                found += [mesh.uvs[np.unique(mesh.triangles[row.triangles])]]
    uvs = np.concatenate(found) if found else np.zeros((1, 2))
    return bounds_of(uvs)


def _pixels(data: bytes) -> Floats:
    with opened_image(data, "a material") as picture:
        return np.asarray(picture.convert("RGBA"), dtype=np.float64)


def _resized(pixels: Floats, size: tuple[int, int]) -> Floats:
    from PIL import Image

    if pixels.shape[1::-1] == size:
        return pixels
    image = Image.fromarray(pixels.round().astype(np.uint8)).resize(size, Image.Resampling.BICUBIC)
    return np.asarray(image, dtype=np.float64)


def _wrapped(at: Integers, count: int, how: int) -> Integers:
    if how == _CLAMP:
        return np.clip(at, 0, count - 1)
    if how == _MIRROR:
        folded = at % (2 * count)
        return np.minimum(folded, 2 * count - 1 - folded)
    return at % count


def _times(pixels: Floats, factor: Floats) -> Floats:
    """Colours as pictures hold them, times a linear factor (IEC 61966-2-1); opacity as it is."""
    out = pixels.copy()
    share = pixels[..., :3] / 255.0
    linear = np.where(share <= 0.04045, share / 12.92, ((share + 0.055) / 1.055) ** 2.4) * factor[:3]
    linear = np.clip(linear, 0.0, 1.0)
    out[..., :3] = 255.0 * np.where(linear <= 0.0031308, 12.92 * linear, 1.055 * linear ** (1 / 2.4) - 0.055)
    out[..., 3] = pixels[..., 3] * factor[3]
    return out


def _packed(parts: Sequence[_Part], most_px: int) -> tuple[tuple[int, int], float]:
    """Give each part its place; the size of the atlas, powers of two, and how much smaller pictures had to become."""
    scale = 1.0
    while True:
        sizes = [part.size for part in parts]
        found = laid_out(sizes, most_px)
        if found is not None:
            size, places = found
            for part, place in zip(parts, places, strict=True):
                part.at = place
            return size, scale
        if max(max(size) for size in sizes) <= _PLAIN + 2 * _MARGIN:
            raise AssertionError("parts of no size fit any atlas")
        scale *= 0.75
        for part in parts:
            _shrink(part, 0.75)


def _shrink(part: _Part, factor: float) -> None:
    """Make the pictures of a part smaller."""
    if part.picture_px is None:
        return
    wide, high = part.picture_px
    new = max(int(wide * factor), 1), max(int(high * factor), 1)
    fx, fy = new[0] / wide, new[1] / high
    size = max(round(part.size[0] * fx), 1), max(round(part.size[1] * fy), 1)
    part.colour = _resized(part.colour, size)
    part.maps = {name: _resized(np.asarray(pixels), size) for name, pixels in part.maps.items()}
    part.picture_px, part.first = new, (round(part.first[0] * fx), round(part.first[1] * fy))


def _material(key: tuple[Any, ...], parts: Sequence[_Part], size: tuple[int, int]) -> Material:
    """One material for all parts, in a document of its own."""
    blending, cutoff, two_sided, extensions = key
    names = [name for name in _MAPS if any(_says(part, name) for part in parts)]
    pictures = [_png(_filled(parts, size, None), blending != "opaque")]
    pictures += [_png(_filled(parts, size, name), False) for name in names]
    row: dict[str, Any] = {"pbrMetallicRoughness": {"baseColorTexture": {"index": 0}}}
    for index, name in enumerate(names, 1):
        place = {"index": index}
        if name == "surface":
            row["pbrMetallicRoughness"]["metallicRoughnessTexture"] = place
        else:
            row[{"normal": "normalTexture", "occlusion": "occlusionTexture", "glow": "emissiveTexture"}[name]] = place
    if "glow" in names:
        row["emissiveFactor"] = [1.0, 1.0, 1.0]
    if "surface" not in names:
        rough, metal = parts[0].maps["surface"][0, 0, 1:3] / 255.0
        row["pbrMetallicRoughness"] |= {"roughnessFactor": float(rough), "metallicFactor": float(metal)}
    row |= see_through(blending, cutoff, two_sided)
    if extensions:
        row["extensions"] = {name: {} for name in extensions}
    views, start = [], 0
    for picture in pictures:
        views.append({"buffer": 0, "byteOffset": start, "byteLength": len(picture)})
        start += len(picture)
    raw = {
        "asset": {"version": "2.0"}, "materials": [row], "buffers": [{"byteLength": start}], "bufferViews": views,
        "images": [{"bufferView": index, "mimeType": "image/png"} for index in range(len(pictures))],
        "textures": [{"source": index} for index in range(len(pictures))],
    }  # fmt: skip
    container = Container(Path("atlas"), raw, msgspec.convert(raw, Document), (memoryview(b"".join(pictures)),))
    return Material(
        slice(0, 0), np.ones(3), pictures[0], MaterialOrigin(container, 0, 0), dict(enumerate(pictures)),
        blending, 1.0, cutoff if blending == "mask" else 0.5, two_sided,
    )  # fmt: skip


def _says(part: _Part, name: str) -> bool:
    """Whether a part's map says anything that one number for the whole material could not."""
    pixels = part.maps.get(name)
    if pixels is None:
        return False
    plain = {"normal": (128.0, 128.0, 255.0), "occlusion": (255.0,) * 3, "glow": (0.0,) * 3}
    return name == "surface" or bool(np.abs(pixels[..., :3] - np.array(plain[name])).max() > 0.5)


def _filled(parts: Sequence[_Part], size: tuple[int, int], name: str | None) -> Floats:
    empty = {"normal": (128, 128, 255, 255), "glow": (0, 0, 0, 255)}.get(name or "", (255, 255, 255, 255))
    out = np.empty((size[1], size[0], 4))
    out[:] = empty
    for part in parts:
        pixels = part.colour if name is None else part.maps.get(name)
        if pixels is not None:
            x, y = part.at
            out[y : y + part.size[1], x : x + part.size[0]] = pixels
    return out


def _png(pixels: Floats, opacity: bool) -> bytes:
    from PIL import Image

    image = Image.fromarray(np.clip(pixels.round(), 0, 255).astype(np.uint8))
    out = BytesIO()
    (image if opacity else image.convert("RGB")).save(out, "PNG", optimize=True)
    return out.getvalue()


def _remapped(
    mesh: Mesh, merged: dict[tuple[int, int], _Part], made: dict[int, Material], size_of: dict[int, tuple[int, int]]
) -> Mesh:  # fmt: skip
    """A mesh with its texture coordinates in the atlas; vertices that two materials share stand twice."""
    number = np.zeros(len(mesh.triangles), dtype=np.int64)
    for index, material in enumerate(mesh.materials):
        number[material.triangles] = index
    keys = mesh.triangles.astype(np.int64) * len(mesh.materials) + number[:, None]
    unique, corners = np.unique(keys, return_inverse=True)
    rows, own = (unique // len(mesh.materials)).astype(np.intp), unique % len(mesh.materials)
    uvs = np.zeros((len(rows), 2)) if mesh.uvs is None else mesh.uvs[rows].copy()
    shown: list[Material] = []
    order = np.zeros(len(mesh.materials), dtype=np.intp)
    for index, material in enumerate(mesh.materials):
        part = merged.get(_key(material))
        look = material if part is None else made[id(part)]
        known = [i for i, other in enumerate(shown) if other is look]
        order[index] = known[0] if known else len(shown)
        if not known:
            shown.append(look)
        if part is not None:
            wide, high = size_of[id(part)]
            mine = own == index
            if part.picture_px is None:
                uvs[mine] = (np.array(part.at) + 0.5 * np.array(part.size)) / [wide, high]
            else:
                texel = uvs[mine] * part.picture_px - part.first + part.at
                uvs[mine] = texel / [wide, high]
    group = order[number]
    sorted_rows = np.argsort(group, kind="stable")
    counts = np.bincount(group, minlength=len(shown))
    stops = np.cumsum(counts)
    materials = tuple(
        replace(look, triangles=slice(int(stop - count), int(stop)))
        for look, stop, count in zip(shown, stops, counts, strict=True)
    )
    values = {**of_vertices(mesh, rows), "uvs": uvs}
    triangles = corners.reshape(mesh.triangles.shape)[sorted_rows]
    return replace(mesh, triangles=triangles, materials=materials, origin=None, **values)
