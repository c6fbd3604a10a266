"""Controllers: skins that bind a geometry to joints, and morphs of it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from fairswap.errors import Finding, InputError
from fairswap.formats.collada.geometry import Shape, positions_of, shape_of
from fairswap.formats.collada.library import Library, child, matrix_of
from fairswap.formats.markup import Tag, integers_of
from fairswap.model.arrays import Floats, Integers

_AGAIN = "Export the file again"
# Influences of one vertex: any more are a mistake of the file.
_MOST_INFLUENCES = 256


@dataclass(frozen=True)
class Bound:
    """A shape with its skin, if it has one; ``weights_source`` is the id of the source of its morphs' weights."""

    shape: Shape
    joint_names: list[str]
    binds: Floats
    weights_source: str | None


def bound_shape(library: Library, controller: Tag, material: Callable[[str | None], int | None]) -> Bound | None:
    """What a ``<controller>`` makes of its geometry: bound to joints, morphed, or both in any order.

    Raises
    ------
    InputError
        For circles of controllers, sources that are missing, and tables that do not add up.
    """
    chain: list[Tag] = []
    at = controller
    while at.tag == "controller":
        inner = next((one for one in at if one.tag in ("skin", "morph") and isinstance(one, Tag)), None)
        if inner is None or at in chain or len(chain) > 8:
            raise InputError("it is neither a skin nor a morph of a geometry", place=at.place, remedy=_AGAIN)
        chain.append(at)
        at = library.at(inner, inner.get("source"), "geometry", "controller")
    shape = shape_of(library, at, material)
    if shape is None:
        return None
    names: list[str] = []
    binds, weights_source = np.empty((0, 4, 4)), None
    for one in reversed(chain):
        inner = next(tag for tag in one if tag.tag in ("skin", "morph") and isinstance(tag, Tag))
        if inner.tag == "morph":
            weights_source = _add_morphs(library, inner, shape, weights_source)
        else:
            names, binds = _add_skin(library, inner, shape)
    return Bound(shape, names, binds, weights_source)


def _add_skin(library: Library, skin: Tag, shape: Shape) -> tuple[list[str], Floats]:
    """Put joints and weights on the vertices; give the names of the joints and their binds."""
    inputs = {one.semantic: one for one in library.inputs(_needed(skin, "joints"))}
    if "JOINT" not in inputs:
        raise InputError("the skin names no joints", place=skin.place, remedy=_AGAIN)
    source = library.at(inputs["JOINT"].tag, inputs["JOINT"].source, "source")
    names = library.words(source)
    binds = np.tile(np.eye(4), (len(names), 1, 1))
    if "INV_BIND_MATRIX" in inputs:
        rows = library.numbers(library.at(skin, inputs["INV_BIND_MATRIX"].source, "source"))
        if rows.size < len(names) * 16:
            problem = f"it has {rows.size // 16} bind matrices for {len(names)} joints"
            raise InputError(problem, place=skin.place, remedy=_AGAIN)
        binds = rows.reshape(-1)[: len(names) * 16].reshape(-1, 4, 4)
        if (np.abs(np.linalg.det(binds)) < 1e-18).any():
            raise InputError("a bind matrix is squeezed flat", place=skin.place, remedy=_AGAIN)
    held = child(skin, "bind_shape_matrix")
    to_bind = np.eye(4) if held is None or not (held.text or "").strip() else matrix_of(held)
    surface = shape.surface
    surface.positions = surface.positions @ to_bind[:3, :3].T + to_bind[:3, 3]
    turn = _for_normals(to_bind[:3, :3])
    if surface.normals is not None:
        surface.normals = surface.normals @ turn.T
    surface.morphs = {
        name: (shifts @ to_bind[:3, :3].T, None if turns is None else turns @ turn.T)
        for name, (shifts, turns) in surface.morphs.items()
    }
    joints, weights = _influences(library, _needed(skin, "vertex_weights"), shape, len(names))
    surface.joints, surface.weights = joints[shape.rows], weights[shape.rows]
    return names, binds


def _influences(library: Library, tag: Tag, shape: Shape, joint_count: int) -> tuple[Integers, Floats]:
    """Joints and weights ``(rows, k)`` of all rows of the positions."""
    inputs = library.inputs(tag)
    offsets = {one.semantic: one.offset for one in inputs}
    weights_input = next((one for one in inputs if one.semantic == "WEIGHT"), None)
    if "JOINT" not in offsets or weights_input is None:
        raise InputError("the skin has no weights", place=tag.place, remedy=_AGAIN)
    table = library.numbers(library.at(tag, weights_input.source, "source"))[:, 0]
    sizes, flat = child(tag, "vcount"), child(tag, "v")
    counts = np.empty(0, np.intp) if sizes is None else integers_of(sizes)
    width = max(offsets.values()) + 1
    pairs = np.empty(0, np.intp) if flat is None else integers_of(flat)
    if (counts < 0).any() or len(pairs) != counts.sum() * width:
        problem = f"its vertices have {int(counts.sum())} influences, {len(pairs) // width} are there"
        raise InputError(problem, place=tag.place, remedy=_AGAIN)
    if len(counts) != shape.count:
        message = f"a skin has weights for {len(counts)} of {shape.count} vertices"
        library.findings.append(Finding("weights-count", "warning", library.name, message))
    most = int(counts.max(initial=1))
    if most > _MOST_INFLUENCES:
        raise InputError(f"{most} joints move one vertex", place=tag.place, remedy="Export it with fewer influences")
    pairs = pairs.reshape(-1, width)
    joints = np.zeros((max(shape.count, len(counts)), max(most, 1)), dtype=np.intp)
    weights = np.zeros(joints.shape)
    row = np.repeat(np.arange(len(counts)), counts)
    column = np.arange(len(pairs)) - np.repeat(np.cumsum(counts) - counts, counts)
    own = pairs[:, offsets["JOINT"]]
    number = pairs[:, weights_input.offset]
    if len(own) and (own.max() >= joint_count or own.min() < -1 or number.min() < 0 or number.max() >= len(table)):
        raise InputError("an influence names a joint or weight that is not there", place=tag.place, remedy=_AGAIN)
    # Joint -1 is the shape where it was bound (COLLADA 1.4.1, vertex_weights); nothing moves it.
    joints[row, column] = np.maximum(own, 0)
    weights[row, column] = np.where(own >= 0, table[number], 0.0)
    return joints[: shape.count], weights[: shape.count]


def _add_morphs(library: Library, morph: Tag, shape: Shape, before: str | None) -> str | None:
    """Put the morphs on the surface; give the id of the source of their weights."""
    inputs = {one.semantic: one for one in library.inputs(_needed(morph, "targets"))}
    if "MORPH_TARGET" not in inputs:
        raise InputError("the morph names no targets", place=morph.place, remedy=_AGAIN)
    names = library.words(library.at(morph, inputs["MORPH_TARGET"].source, "source"))
    relative = (morph.get("method") or "NORMALIZED").upper() == "RELATIVE"
    surface = shape.surface
    for name in names:
        geometry = library.at(morph, name, "geometry")
        positions, normals = positions_of(library, geometry)
        if len(positions) != shape.count:
            problem = f"its target {name!r} has {len(positions)} vertices, the shape has {shape.count}"
            raise InputError(problem, place=morph.place, remedy=_AGAIN)
        shifts = positions[shape.rows]
        turns = None if normals is None or surface.normals is None else normals[shape.rows]
        if not relative:
            shifts = shifts - surface.positions
            turns = None if turns is None or surface.normals is None else turns - surface.normals
        title, number = geometry.get("name") or name, 2
        while title in surface.morphs:
            title, number = f"{geometry.get('name') or name} ({number})", number + 1
        surface.morphs[title] = shifts, turns
    if "MORPH_WEIGHT" not in inputs:
        return before
    source = library.at(morph, inputs["MORPH_WEIGHT"].source, "source")
    weights = library.numbers(source)[:, 0]
    surface.morph_weights = [*weights[: len(names)].tolist(), *[0.0] * max(len(names) - len(weights), 0)]
    return source.get("id")


def _needed(tag: Tag, name: str) -> Tag:
    found = child(tag, name)
    if found is None:
        raise InputError(f"it has no <{name}>", place=tag.place, remedy=_AGAIN)
    return found


def _for_normals(linear: Floats) -> Floats:
    """How normals go along with a matrix: by its inverse, transposed; as they are if it has none."""
    if abs(np.linalg.det(linear)) <= 1e-18:
        return np.eye(3)
    return np.asarray(np.linalg.inv(linear).T, dtype=np.float64)
