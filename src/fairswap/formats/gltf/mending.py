"""What a document says against the rules of its format, and that can only mean one thing, is put right where it is
written again: normals and rotations of another length than one, weights that do not add up, joints named twice, bind
matrices with a foreign last row, roots of skeletons that are none.

Strangers' exporters write all of these, and platforms refuse such files.
"""

from __future__ import annotations

import copy
from collections.abc import Callable, Iterator
from contextlib import suppress
from typing import Any

import numpy as np

from fairswap.errors import InputError
from fairswap.formats.gltf.accessors import array_from_accessor, view_bytes
from fairswap.formats.gltf.container import Container
from fairswap.formats.gltf.patching import Replacement
from fairswap.formats.gltf.tidying import parents_in, tidy
from fairswap.formats.gltf.weighing import whole_weights, with_joints_once
from fairswap.formats.images import media_type
from fairswap.model.arrays import bounds_of
from fairswap.model.mesh import unit_normals
from fairswap.model.rotation import normalized

_Array = np.ndarray[Any, Any]
# How far a length may be off one: a little less than the official validator lets pass.
_UNIT = 6e-3
_FLOAT = 5126
# What of a document is wrong, by the numbers and the tables that are mended.
_WORDS = {
    "NORMAL": "normals", "TANGENT": "tangents", "WEIGHTS": "skin weights", "JOINTS": "skin weights",
    "inverseBindMatrices": "bind matrices", "output": "turns of clips", "accessors": "bounds", "nodes": "nodes",
    "scenes": "scenes", "scene": "scenes", "meshes": "meshes", "skins": "skins", "animations": "clips",
    "materials": "materials", "textures": "textures", "samplers": "textures", "images": "kinds of pictures",
    "bufferViews": "uses of data", "extensionsUsed": "extensions", "extensionsRequired": "extensions",
}  # fmt: skip


def mended(container: Container, raw: dict[str, Any]) -> list[Replacement]:
    """Put right what ``raw``, a copy of the document, says against the rules; give the numbers to be stored anew."""
    found = _mended(container, raw)
    for row in found:
        row.holder.pop(row.key, None)  # nothing names the old numbers any more
    return found


def flaws(container: Container) -> list[str]:
    """What of a file breaks the rules of its format and would be put right, in words; nothing if it is whole."""
    before = container.raw if container.as_read is None else container.as_read
    raw = copy.deepcopy(before)
    numbers = {row.key.partition("_")[0] for row in _mended(container, raw)}
    tables = {key for key in (*before, *raw) if before.get(key) != raw.get(key)}
    return list(dict.fromkeys(_WORDS.get(key, "empty lists") for key in sorted(numbers | tables)))


def _mended(container: Container, raw: dict[str, Any]) -> list[Replacement]:
    tidy(raw)
    _say_kinds(container, raw)
    mending = _Mending(container)
    found: list[Replacement] = []
    for mesh in raw.get("meshes", ()):
        found += mending.of_directions(mesh["primitives"])
        for primitive in mesh["primitives"]:
            found += mending.of_skin(primitive["attributes"])
    for skin in raw.get("skins", ()):
        found += mending.of_one(skin, "inverseBindMatrices", _binds)
    for sampler in _rotation_samplers(raw):
        found += mending.of_one(sampler, "output", _rotations)
    for node in raw.get("nodes", ()):
        if "rotation" in node and (new := _rotations(np.array([node["rotation"]]))) is not None:
            node["rotation"] = new[0].tolist()
    _drop_wrong_roots(raw)
    _say_bounds(container, raw)
    return found


class _Mending:
    """Numbers of a document put right, once for all that share them. What cannot be read stays as it is: nothing here
    has asked for it, or that would have been told."""

    def __init__(self, container: Container) -> None:
        self._container = container
        self._made: dict[tuple[Any, ...], dict[str, _Array]] = {}

    def of_directions(self, primitives: list[dict[str, Any]]) -> Iterator[Replacement]:
        for attributes in (primitive["attributes"] for primitive in primitives):
            place = attributes.get("POSITION")

            def normals(values: _Array, place: int | None = place) -> _Array | None:
                if not _off(values):
                    return None
                return unit_normals(values, *self._faces(primitives, place, len(values)))

            yield from self.of_one(attributes, "NORMAL", normals, place)
            yield from self.of_one(attributes, "TANGENT", _tangents)

    def of_skin(self, attributes: dict[str, Any]) -> Iterator[Replacement]:
        sets = [(f"JOINTS_{number}", f"WEIGHTS_{number}") for number in range(len(attributes))]
        names = [name for pair in sets if attributes.keys() >= set(pair) for name in pair]
        yield from self._replaced(attributes, names, _skin)

    def of_one(
        self, holder: dict[str, Any], key: str, change: Callable[[_Array], _Array | None], *more: Any
    ) -> Iterator[Replacement]:
        def changed(values: dict[str, _Array]) -> dict[str, _Array]:
            # Whole numbers hold what they can; they are off by their steps.
            new = change(values[key].astype(np.float64)) if values[key].dtype.kind == "f" else None
            return {} if new is None else {key: np.ascontiguousarray(new, dtype="<f4")}

        yield from self._replaced(holder, [key] if key in holder else [], changed, *more)

    def _replaced(
        self,
        holder: dict[str, Any],
        names: list[str],
        change: Callable[[dict[str, _Array]], dict[str, _Array]],
        *more: Any,
    ) -> Iterator[Replacement]:
        if not names:
            return
        mark = (*((name, holder[name]) for name in names), *more)
        if mark not in self._made:
            self._made[mark] = {}
            with suppress(InputError):
                read = {name: array_from_accessor(self._container, holder[name], name) for name in names}
                self._made[mark] = change(read)
        for name, values in self._made[mark].items():
            yield Replacement(holder, name, values)

    def _faces(self, primitives: list[dict[str, Any]], place: int | None, count: int) -> tuple[_Array, _Array]:
        """The vertices ``(count, 3)`` at ``place`` and the triangles of those primitives that have them, as far as they
        can be had."""
        if place is None:
            return np.zeros((count, 3)), np.empty((0, 3), dtype=np.intp)
        points = array_from_accessor(self._container, place, "POSITION", 3).astype(np.float64)
        runs = [
            array_from_accessor(self._container, primitive["indices"], "indices", 1)[:, 0].astype(np.intp)
            for primitive in primitives
            if (primitive["attributes"].get("POSITION"), primitive.get("mode", 4)) == (place, 4)
            and "indices" in primitive
        ]
        faces = np.concatenate([np.empty(0, dtype=np.intp), *(run[: len(run) // 3 * 3] for run in runs)]).reshape(-1, 3)
        return np.resize(points, (count, 3)), faces[(faces < min(count, len(points))).all(axis=1)]


def _off(values: _Array) -> bool:
    return bool((np.abs(np.linalg.norm(values, axis=1) - 1.0) > _UNIT).any())


def _tangents(values: _Array) -> _Array | None:
    if values.shape[1] != 4 or not (_off(values[:, :3]) or (np.abs(values[:, 3]) != 1.0).any()):
        return None
    along = normalized(values[:, :3])
    along[~along.any(axis=1)] = (1.0, 0.0, 0.0)
    return np.column_stack([along, np.where(values[:, 3] < 0.0, -1.0, 1.0)])


def _rotations(values: _Array) -> _Array | None:
    if values.shape[1] != 4 or not _off(values):
        return None
    unit = normalized(values)
    unit[~unit.any(axis=1)] = (0.0, 0.0, 0.0, 1.0)
    return unit


def _binds(values: _Array) -> _Array | None:
    last = (0.0, 0.0, 0.0, 1.0)
    if values.shape[1] != 16 or (values[:, 3::4] == last).all():
        return None
    values[:, 3::4] = last
    return values


def _skin(values: dict[str, _Array]) -> dict[str, _Array]:
    of_joints = [name for name in values if name.startswith("JOINTS")]
    of_weights = [name.replace("JOINTS", "WEIGHTS") for name in of_joints]
    if any(array.shape[1] != 4 for array in values.values()) or len({*map(len, values.values())}) != 1:
        return {}
    before = np.concatenate([values[name] for name in of_joints], axis=1)
    whole, scaled, _ = whole_weights(np.concatenate([values[name] for name in of_weights], axis=1), "")
    joints, weights = with_joints_once(before, whole)
    if joints is before and not scaled:
        return {}
    joints = np.where(weights > 0.0, joints, 0).astype(before.dtype)
    blocks = [slice(start, start + 4) for start in range(0, joints.shape[1], 4)]
    out = {name: np.ascontiguousarray(joints[:, block]) for name, block in zip(of_joints, blocks, strict=True)}
    return out | {name: weights[:, block].astype("<f4") for name, block in zip(of_weights, blocks, strict=True)}


def _rotation_samplers(raw: dict[str, Any]) -> Iterator[dict[str, Any]]:
    """Each sampler of rotations, once; but splines: their tangents are no rotations."""
    for animation in raw.get("animations", ()):
        turning = {row["sampler"] for row in animation["channels"] if row["target"].get("path") == "rotation"}
        for number in sorted(turning.intersection(range(len(animation["samplers"])))):
            sampler = animation["samplers"][number]
            if sampler.get("interpolation") != "CUBICSPLINE":
                yield sampler


def _say_kinds(container: Container, raw: dict[str, Any]) -> None:
    """Pictures are what they are, whatever is said of them."""
    for number, image in enumerate(raw.get("images", ())):
        with suppress(InputError):
            if "bufferView" in image and (
                kind := media_type(bytes(view_bytes(container, image["bufferView"], f"images[{number}]")[:16]))
            ):
                image["mimeType"] = kind


def _say_bounds(container: Container, raw: dict[str, Any]) -> None:
    """The bounds of places and times must be said, and those that are said be right."""
    needed = {
        row["POSITION"]
        for mesh in raw.get("meshes", ())
        for primitive in mesh["primitives"]
        for row in (primitive["attributes"], *primitive.get("targets", ()))
        if "POSITION" in row
    }
    needed |= {sampler["input"] for animation in raw.get("animations", ()) for sampler in animation["samplers"]}
    for index, row in enumerate(raw.get("accessors", ())):
        if row["componentType"] != _FLOAT or not (index in needed or "min" in row or "max" in row):
            continue
        with suppress(InputError):
            values = array_from_accessor(container, index, f"accessors[{index}]")
            for key, bound in zip(("min", "max"), bounds_of(values) if len(values) else (), strict=False):
                # Digits beyond single precision say nothing.
                if not _says(row.get(key), bound) and (index in needed or key in row):
                    row[key] = bound.tolist()


def _says(said: Any, bound: _Array) -> bool:
    if not isinstance(said, list) or not all(isinstance(part, int | float) for part in said):
        return False
    with np.errstate(over="ignore"):
        return np.array_equal(np.array(said, dtype=np.float64).astype(np.float32), bound)


def _drop_wrong_roots(raw: dict[str, Any]) -> None:
    """A skin need not say where its skeleton begins; one that names a node above only some of its joints does not."""
    if not any("skeleton" in skin for skin in raw.get("skins", ())):
        return
    parents = parents_in(raw["nodes"])
    for skin in raw["skins"]:
        if "skeleton" in skin and not all(_is_below(joint, skin["skeleton"], parents) for joint in skin["joints"]):
            del skin["skeleton"]


def _is_below(node: int, root: int, parents: dict[int, int]) -> bool:
    while node != root and node in parents:
        node = parents[node]
    return node == root
