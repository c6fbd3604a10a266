"""Carry a document over into a new buffer: what is still used, byte for byte, and nothing that is not."""

from __future__ import annotations

from typing import Any

from fairswap.errors import FairSwapError
from fairswap.formats.gltf.accessors import item
from fairswap.formats.gltf.container import Container, bytes_from_uri
from fairswap.formats.gltf.packing import Packer
from fairswap.formats.images import media_type


def repack(container: Container, raw: dict[str, Any], packer: Packer) -> None:
    """Move the buffer views, accessors and image files that ``raw`` (a copy of the document) uses into ``packer``.

    ``raw`` is changed in place to the new indices. If an extension we do not know points into the buffers, everything
    is kept where it is: better some idle bytes than a broken file.
    """
    keep_all = _has_foreign_pointers(raw)
    accessors, views = raw.get("accessors", []), raw.get("bufferViews", [])
    pointers = list(_accessor_pointers(raw))
    used = sorted({holder[key] for holder, key in pointers}) if not keep_all else range(len(accessors))
    new_accessor = {old: new for new, old in enumerate(used)}
    kept = [item(accessors, old, "accessor", "the document") for old in used]
    view_pointers = [(row, "bufferView") for row in kept if row.get("bufferView") is not None]
    for row in kept:
        if row.get("sparse") is not None:
            view_pointers += [(row["sparse"][part], "bufferView") for part in ("indices", "values")]
    view_pointers += [(image, "bufferView") for image in raw.get("images", []) if image.get("bufferView") is not None]
    used_views = sorted({holder[key] for holder, key in view_pointers}) if not keep_all else range(len(views))
    new_view = {}
    for old in used_views:
        row = item(views, old, "buffer view", "the document")
        start = row.get("byteOffset", 0)
        buffer = item(list(container.buffers), row["buffer"], "buffer", f"bufferViews[{old}]")
        data = buffer[start : start + row["byteLength"]]
        new_view[old] = packer.view(data)
        packer.views[-1] = {**row, **packer.views[-1]}
    for holder, key in view_pointers:
        holder[key] = new_view[holder[key]]
    for holder, key in pointers:
        holder[key] = new_accessor[holder[key]]
    packer.accessors += kept
    for index, image in enumerate(raw.get("images", [])):
        _embed(container, image, f"images[{index}]", packer)


def _accessor_pointers(raw: dict[str, Any]) -> Any:
    """Every place (dict, key) that names an accessor."""
    for mesh in raw.get("meshes", []):
        for primitive in mesh["primitives"]:
            if primitive.get("indices") is not None:
                yield primitive, "indices"
            for attributes in (primitive["attributes"], *(primitive.get("targets") or [])):
                for name in attributes:
                    yield attributes, name
    for skin in raw.get("skins", []):
        if skin.get("inverseBindMatrices") is not None:
            yield skin, "inverseBindMatrices"
    for animation in raw.get("animations", []):
        for sampler in animation["samplers"]:
            yield from ((sampler, key) for key in ("input", "output") if key in sampler)


def _has_foreign_pointers(raw: dict[str, Any]) -> bool:
    """Whether any extension, anywhere, holds an index into accessors or buffer views."""
    stack: list[tuple[Any, bool]] = [(raw, False)]
    while stack:
        value, inside = stack.pop()
        if isinstance(value, dict):
            for key, item in value.items():
                if inside and isinstance(item, int) and key.lower().endswith(("accessor", "bufferview", "attributes")):
                    return True
                if inside and key == "attributes":
                    return True
                stack.append((item, inside or key == "extensions"))
        elif isinstance(value, list):
            stack.extend((item, inside) for item in value)
    return False


def _embed(container: Container, image: dict[str, Any], place: str, packer: Packer) -> None:
    """Take an image file beside the document into it, so that the result is whole wherever it goes."""
    uri = image.get("uri")
    if uri is None or uri.startswith("data:"):
        return
    try:
        data = bytes_from_uri(container.path, uri, place)
    except FairSwapError:
        return  # a picture that was missing before is missing still
    kind = media_type(data)
    if kind is not None:
        del image["uri"]
        image |= {"bufferView": packer.view(data), "mimeType": kind}
