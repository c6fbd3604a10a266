"""Bodies of separate blocks, without any skin: parts that hang on each other, as a puppet's do."""

from __future__ import annotations

import numpy as np

from fairswap.formats.gltf.nodes import FigureNodes, Tree
from fairswap.formats.gltf.schema import Document
from fairswap.formats.limits import LARGEST_NUMBER
from fairswap.model.arrays import Floats

# Trunk, head, two arms, two legs; what has more parts than the last is a scene.
_LEAST_PARTS, _MOST_PARTS = 6, 200
# Parts are mirror images of each other if they are no further off than this, of the whole; and apart by as much.
_ALIKE = 0.03


def block_bodies(document: Document, tree: Tree) -> list[FigureNodes]:
    """The bodies of blocks in a document without skins and motion: trees of parts, two pairs of them mirror images.

    Bones are the parts, and what lies between them; a bare node with nothing but a mesh in its place is one with it.
    """
    holding: dict[int, int] = dict.fromkeys(tree.order, 0)
    for node in reversed(tree.order):
        holding[node] += document.nodes[node].mesh is not None
        if tree.parents[node] >= 0:
            holding[tree.parents[node]] += holding[node]
    found = []
    for top in tree.order:
        if tree.parents[top] >= 0 or not _LEAST_PARTS <= holding[top] <= _MOST_PARTS:
            continue
        # What only holds the next one is the node of the scene.
        while document.nodes[top].mesh is None and len(document.nodes[top].children) == 1:
            top = document.nodes[top].children[0]
        nodes = [node for node in _below(document, top) if holding[node] and not _only_a_mesh(document, tree, node)]
        parts = [node for node in nodes if _shape_of(document, node) is not None]
        hung = sum(tree.parents[node] in nodes and node != top for node in parts)
        if len(parts) >= _LEAST_PARTS and hung >= len(parts) - 1 and _is_a_body(_middles(document, tree, parts)):
            found.append(FigureNodes(nodes, [], set()))
    return found


def _below(document: Document, top: int) -> list[int]:
    """A node and all below it, parents first."""
    out, stack = [], [top]
    while stack:
        node = stack.pop()
        out.append(node)
        stack += reversed(document.nodes[node].children)
    return out


def _only_a_mesh(document: Document, tree: Tree, node: int) -> bool:
    """Whether a node is but the mesh of the bare node above it."""
    parent = tree.parents[node]
    row = document.nodes[node]
    return (
        row.mesh is not None and not row.children and parent >= 0 and document.nodes[parent].mesh is None
        and float(np.abs(tree.translation[node]).max()) == 0.0
    )  # fmt: skip


def _shape_of(document: Document, node: int) -> int | None:
    """The mesh of a node, or of the one below it that is nothing else."""
    row = document.nodes[node]
    if row.mesh is not None:
        return row.mesh
    return next((document.nodes[child].mesh for child in row.children if not document.nodes[child].children), None)


def _middles(document: Document, tree: Tree, parts: list[int]) -> Floats:
    """Where the middle of each part is, by the bounds that its accessors tell; else where its node is."""
    out = tree.world[parts][:, :3, 3].copy()
    for row, node in enumerate(parts):
        mesh = document.meshes[_shape_of(document, node) or 0] if document.meshes else None
        boxes = []
        for primitive in mesh.primitives if mesh is not None else ():
            at = primitive.attributes.get("POSITION", -1)
            accessor = document.accessors[at] if 0 <= at < len(document.accessors) else None
            if accessor is not None:
                boxes += [corner for corner in (accessor.min, accessor.max) if _is_point(corner)]
        if boxes:
            values = np.array(boxes, dtype=np.float64)
            middle = 0.5 * (values.min(axis=0) + values.max(axis=0))
            out[row] = tree.world[node][:3, :3] @ middle + tree.world[node][:3, 3]
    return out


def _is_point(corner: object) -> bool:
    numbers = isinstance(corner, list) and len(corner) == 3 and all(isinstance(x, int | float) for x in corner)
    return numbers and bool(np.abs(np.array(corner, dtype=np.float64)).max() < LARGEST_NUMBER)


def _is_a_body(middles: Floats) -> bool:
    """Whether two pairs of parts mirror each other over a plane that two more lie in: arms, legs; trunk, head."""
    size = float(np.ptp(middles, axis=0).max())
    if not size > 0.0:
        return False
    for axis in range(3):
        plane = float(np.median(middles[:, axis]))
        off = middles[:, axis] - plane
        image = middles.copy()
        image[:, axis] = 2.0 * plane - image[:, axis]
        apart = np.linalg.norm(middles[:, None] - image[None], axis=2)
        aside = np.abs(off) > _ALIKE * size
        pairs = int((aside & (apart.min(axis=1) < _ALIKE * size)).sum()) // 2
        if pairs >= 2 and int((~aside).sum()) >= 2 and 2 * pairs == int(aside.sum()):
            return True
    return False
