"""What a document holds beside its figures: scenes, cameras, lights and props, and which clips move them."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from fairswap.formats.gltf.animations import POINTER
from fairswap.formats.gltf.container import Container
from fairswap.formats.gltf.nodes import FigureNodes, Tree
from fairswap.model.document import Held


def held_beside(container: Container, tree: Tree, figures: Sequence[FigureNodes], clips: Sequence[str]) -> list[Held]:
    """Everything in a document that is no figure, in its order; ``clips`` are the names of its animations."""
    document = container.document
    own = {node for figure in figures for node in figure.nodes}
    skins = {skin for figure in figures for skin in figure.skins}
    moved: dict[int, list[str]] = {}
    for clip, animation in zip(clips, document.animations, strict=True):
        for target in dict.fromkeys(row.target.node for row in animation.channels):
            if target is not None:
                moved.setdefault(target, []).append(clip)
    out = []
    if len(document.scenes) > 1:
        out += [Held("scene", scene.name or f"scene {number}") for number, scene in enumerate(document.scenes)]
    # Down the tree, parents first: what hangs on a bone, and what is moved by what is above it.
    hung: dict[int, bool] = {-1: False}
    driven: dict[int, tuple[str, ...]] = {-1: ()}
    for index in tree.order:
        node, parent = document.nodes[index], tree.parents[index]
        name = node.name or f"node {index}"
        hung[index] = hung[parent] or parent in own
        mine = () if index in own else moved.get(index, ())
        driven[index] = tuple(dict.fromkeys([*mine, *driven[parent]])) if mine else driven[parent]
        clips_of_it = driven[index]
        if node.camera is not None:
            out.append(Held("camera", name, clips_of_it))
        if node.extensions.get("KHR_lights_punctual"):
            out.append(Held("light", name, clips_of_it))
        is_shape = node.mesh is not None and index not in own and (node.skin is None or node.skin not in skins)
        # What moves and holds nothing is a prop of somebody, too: a target, a point to hang things on.
        is_point = index in moved and index not in own and not node.children and node.mesh is None
        if (is_shape and not hung[index]) or (is_point and node.camera is None):
            out.append(Held("prop", name, clips_of_it, _triangles(container, node.mesh)))
    return out


def _triangles(container: Container, mesh: int | None) -> int:
    """How many triangles a mesh says that it has."""
    document, count = container.document, 0
    for row in document.meshes[mesh].primitives if mesh is not None and mesh < len(document.meshes) else ():
        accessor = row.indices if row.indices is not None else row.attributes.get("POSITION", -1)
        if row.mode == 4 and 0 <= accessor < len(document.accessors):
            count += document.accessors[accessor].count // 3
    return count


def names_of_targets(container: Container, targets: Iterable[tuple[int, str]]) -> list[str]:
    """The names of the nodes that are moved, and pointers to what is no node, each once."""
    nodes = container.document.nodes
    found = (
        path.removeprefix(POINTER) if node < 0 else nodes[node].name or f"node {node}"
        for node, path in targets
        if node < len(nodes)
    )  # fmt: skip
    return list(dict.fromkeys(found))
