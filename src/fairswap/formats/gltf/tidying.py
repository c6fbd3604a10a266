"""What the JSON of a document says against the rules of its format, put right where it can only mean one thing: lists
without anything in them, extensions that nobody declared, numbers out of their range, nodes that stand in two ways."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from fairswap.formats.gltf.accessors import item
from fairswap.formats.gltf.patching import split_matrix

# What an object cannot be without, empty or not.
_REQUIRED = ("channels", "primitives", "joints", "attributes")
_TRS = ("translation", "rotation", "scale")
_FILTERS = (9728, 9729)
_OF_SAMPLERS = {
    "magFilter": _FILTERS, "minFilter": (*_FILTERS, 9984, 9985, 9986, 9987),
    "wrapS": (10497, 33071, 33648), "wrapT": (10497, 33071, 33648),
}  # fmt: skip


def tidy(raw: dict[str, Any]) -> None:
    """Put right what ``raw`` says against the rules, in place."""
    if "animations" in raw:
        raw["animations"] = [animation for animation in raw["animations"] if animation["channels"]]
    _drop_empty(raw)
    for material in raw.get("materials", ()):
        _tidy_material(material)
    _tidy_samplers(raw)
    _tidy_nodes(raw)
    _tidy_weights(raw)
    _tidy_targets(raw)
    _declare_extensions(raw)


def _declare_extensions(raw: dict[str, Any]) -> None:
    used, required = (_names(raw.get(key)) for key in ("extensionsUsed", "extensionsRequired"))
    used += sorted({*extensions_in(raw), *required}.difference(used))
    for key, names in (("extensionsUsed", used), ("extensionsRequired", required)):
        if names:
            raw[key] = names  # where it stands already
        else:
            raw.pop(key, None)


def _names(value: Any) -> list[str]:
    names = value if isinstance(value, list) else []
    return list(dict.fromkeys(name for name in names if isinstance(name, str)))


def extensions_in(row: Any) -> Iterator[str]:
    """The names of the extensions that anything in a row of a document uses."""
    if isinstance(row, dict):
        for key, value in row.items():
            if key == "extensions" and isinstance(value, dict):
                yield from value
            if isinstance(value, dict | list) and key != "extras":
                yield from extensions_in(value)
    elif isinstance(row, list) and row and isinstance(row[0], dict | list):
        for value in row:
            yield from extensions_in(value)


def _drop_empty(row: Any) -> None:
    """The format knows no null and no empty list; what extensions and programs say for themselves is theirs."""
    if isinstance(row, dict):
        for key, value in list(row.items()):
            if value is None or (value == [] and key not in _REQUIRED) or (key == "extensions" and value == {}):
                del row[key]
            elif isinstance(value, dict | list) and key not in ("extensions", "extras"):
                _drop_empty(value)
    elif isinstance(row, list) and row and isinstance(row[0], dict | list):
        for value in row:
            _drop_empty(value)


def _tidy_material(material: dict[str, Any]) -> None:
    if material.get("alphaMode", "OPAQUE") not in ("OPAQUE", "MASK", "BLEND"):
        del material["alphaMode"]
    if material.get("alphaMode") != "MASK":
        material.pop("alphaCutoff", None)
    shading = material.get("pbrMetallicRoughness", {})
    for key in ("metallicFactor", "roughnessFactor"):
        if key in shading and not _is_share(shading[key]):
            shading[key] = _nearest_share(shading[key])
    color = shading.get("baseColorFactor", ())
    if not all(map(_is_share, color)):
        shading["baseColorFactor"] = list(map(_nearest_share, color))
    if not isinstance(material.get("emissiveFactor", []), list):
        del material["emissiveFactor"]
    glow = [part if isinstance(part, int | float) else 0.0 for part in material.get("emissiveFactor", ())]
    if not all(map(_is_share, glow)):
        # Light beyond one is said by an extension.
        brightest = max(glow)
        material["emissiveFactor"] = [_nearest_share(part / max(brightest, 1.0)) for part in glow]
        if brightest > 1.0:
            held = material.setdefault("extensions", {}).setdefault("KHR_materials_emissive_strength", {})
            held["emissiveStrength"] = brightest * held.get("emissiveStrength", 1.0)


def _is_share(value: Any) -> bool:
    return isinstance(value, int | float) and 0.0 <= value <= 1.0


def _nearest_share(value: Any) -> float:
    return min(max(value, 0.0), 1.0) if isinstance(value, int | float) else 1.0


def _tidy_samplers(raw: dict[str, Any]) -> None:
    samplers = raw.get("samplers", [])
    if not isinstance(samplers, list) or not all(isinstance(sampler, dict) for sampler in samplers):
        del raw["samplers"]
        for texture in raw.get("textures", ()):
            texture.pop("sampler", None)
        return
    for sampler in samplers:
        for key, known in _OF_SAMPLERS.items():
            if sampler.get(key, known[0]) not in known:
                del sampler[key]


def _tidy_nodes(raw: dict[str, Any]) -> None:
    """A matrix counts, whatever else a node says; one that is animated has parts instead. A scene begins with roots."""
    nodes = raw.get("nodes", [])
    moved = {row["target"].get("node") for animation in raw.get("animations", ()) for row in animation["channels"]}
    for index, node in enumerate(nodes):
        if "matrix" not in node:
            continue
        for key in _TRS:
            node.pop(key, None)
        if index in moved:
            split_matrix(node)
    if raw.get("scene") not in range(len(raw.get("scenes", ()))):
        raw.pop("scene", None)
    parents = parents_in(nodes)
    for scene in raw.get("scenes", ()):
        named = dict.fromkeys(scene.get("nodes", ()))
        roots = [index for index in named if index < len(nodes) and index not in parents]
        if roots:
            scene["nodes"] = roots


def parents_in(nodes: list[dict[str, Any]]) -> dict[int, int]:
    """The node above each node that has one."""
    return {child: index for index, node in enumerate(nodes) for child in node.get("children", ())}


def _tidy_weights(raw: dict[str, Any]) -> None:
    """As many weights as morphs, or none said."""
    meshes = raw.get("meshes", [])
    for row in (*meshes, *(node for node in raw.get("nodes", ()) if "mesh" in node)):
        mesh = item(meshes, row["mesh"], "mesh", "nodes") if "mesh" in row else row
        targets = max((len(primitive.get("targets") or ()) for primitive in mesh["primitives"]), default=0)
        if "weights" in row and len(row["weights"]) != targets:
            del row["weights"]


def _tidy_targets(raw: dict[str, Any]) -> None:
    """A buffer view need not say what it is for; one that says something else than it is does not."""
    accessors, views = raw.get("accessors", []), raw.get("bufferViews", [])
    uses: dict[int, set[int]] = {}
    for primitive in (primitive for mesh in raw.get("meshes", ()) for primitive in mesh["primitives"]):
        rows = (primitive["attributes"], *primitive.get("targets", ()))
        held = [(index, 34962) for row in rows for index in row.values()]
        held += [(primitive["indices"], 34963)] if "indices" in primitive else []
        for accessor, target in held:
            view = item(accessors, accessor, "accessor", "meshes").get("bufferView")
            if view is not None:
                uses.setdefault(view, set()).add(target)
    for number, row in enumerate(views):
        if "target" in row and [*uses.get(number, ())] != [row["target"]]:
            del row["target"]
