"""The node tree: checked to be a forest, with rest matrices; and which of the nodes are bones of which figure."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass

import msgspec
import numpy as np

from fairswap.errors import InputError
from fairswap.formats.gltf.accessors import item
from fairswap.formats.gltf.schema import Document
from fairswap.model.arrays import Floats
from fairswap.model.rotation import matrix_from_quaternion, normalized, rotation_from_stretched

_AGAIN = "Export the file again"
# Hips, head, both arms and legs, and little else: what has fewer bones in a row is a part, or a prop.
_LEAST_OF_A_BODY = 15


@dataclass(frozen=True, eq=False)
class Tree:
    """Nodes with parents (-1 for roots), an order with parents first, and rest transforms.

    ``linear`` and ``translation`` are local, ``world`` is ``(nodes, 4, 4)``.
    """

    parents: list[int]
    order: list[int]
    rotation: Floats
    scale: Floats
    translation: Floats
    linear: Floats
    world: Floats


@dataclass(frozen=True, eq=False)
class FigureNodes:
    """The nodes that are the bones of one figure, parents first, and the skins that hang on them."""

    nodes: list[int]
    skins: list[int]
    ends: set[int]


def tree_from_nodes(document: Document) -> Tree:
    """Check the node tree and compute rest transforms.

    Raises
    ------
    InputError
        For children out of range, two parents, circles, and numbers that are no transform.
    """
    nodes = document.nodes
    parents = [-1] * len(nodes)
    for index, node in enumerate(nodes):
        for child in node.children:
            item(nodes, child, "node", f"nodes[{index}].children")
            if parents[child] >= 0 or child == index:
                problem = (
                    f"it has two parents, {parents[child]} and {index}" if child != index else "it is its own child"
                )
                raise InputError(problem, place=_place(document, child), remedy=_AGAIN)
            parents[child] = index
    order: list[int] = []
    stack = [index for index in range(len(nodes) - 1, -1, -1) if parents[index] < 0]
    while stack:
        index = stack.pop()
        order.append(index)
        stack.extend(reversed(nodes[index].children))
    if len(order) < len(nodes):
        stuck = min(set(range(len(nodes))) - set(order))
        raise InputError("it is below itself: the nodes form a circle", place=_place(document, stuck), remedy=_AGAIN)
    count = len(nodes)
    rotation, scale, translation, linear = _locals(document)
    world = np.zeros((count, 4, 4))
    world[:, 3, 3] = 1.0
    for index in order:
        parent = parents[index]
        world[index, :3, :3], world[index, :3, 3] = linear[index], translation[index]
        if parent >= 0:
            world[index] = world[parent] @ world[index]
    if not np.isfinite(world).all():
        raise InputError("the transforms of its nodes grow beyond all numbers", place="nodes", remedy=_AGAIN)
    return Tree(parents, order, rotation, scale, translation, linear, world)


def posed_tree(document: Document, tree: Tree, values: Mapping[tuple[int, str], Floats]) -> Tree:
    """The ``tree`` with other local transforms: ``(node, "rotation" | "translation" | "scale")`` to numbers."""
    nodes = list(document.nodes)
    parts = {"rotation": tree.rotation, "translation": tree.translation, "scale": tree.scale}
    for (node, path), value in values.items():
        if nodes[node].matrix is not None:  # it would count before all parts
            own = {part: numbers[node].tolist() for part, numbers in parts.items()}
            nodes[node] = msgspec.structs.replace(nodes[node], matrix=None, **own)
        nodes[node] = msgspec.structs.replace(nodes[node], **{path: value.tolist()})
    return tree_from_nodes(msgspec.structs.replace(document, nodes=nodes))


def figures_from_nodes(document: Document, tree: Tree, named: Collection[int] = ()) -> list[FigureNodes]:
    """Group the nodes into figures: skins whose bones are in one tree belong together.

    Bones are the joints, everything animated above or below them, what lies between, and bare leaf nodes (end markers).
    Without any skin, as in a file with motion only, what hangs on animated nodes counts; or the whole tree,
    if only parts of a body are animated in it. Nodes that the file has ``named`` as those of one figure are so.
    """
    animated = {
        channel.target.node
        for animation in document.animations
        for channel in animation.channels
        if channel.target.node is not None and channel.target.path in ("rotation", "translation", "scale")
    }
    animated = {node for node in (*animated, *named) if 0 <= node < len(document.nodes)}
    for index, skin in enumerate(document.skins):
        for joint in skin.joints:
            item(document.nodes, joint, "node", f"skins[{index}].joints")
        if len(set(skin.joints)) < len(skin.joints):
            raise InputError("it names a joint twice", place=f"skins[{index}]", remedy=_AGAIN)
    joints = {joint for skin in document.skins for joint in skin.joints}
    tops = _tops(tree, joints | animated)
    # Skins whose bones have a top in common are one figure; so are separate tops used by one skin.
    groups: dict[int, set[int]] = {}
    owner: dict[int, int] = {}
    for index, skin in enumerate(document.skins):
        own = {tops[joint] for joint in skin.joints}
        merged = {owner[top] for top in own if top in owner}
        for other in merged:
            own |= groups.pop(other)
        groups[index] = own
        owner.update(dict.fromkeys(own, index))
    # A skeleton that moves without a skin is a figure, too; beside skins only if it is large enough for a body.
    loose = {tops[node] for node in animated if node in tops} - set(owner)
    above = _called_as_joints(document, tree, loose, joints)
    if above:
        animated |= above
        tops = _tops(tree, joints | animated)
        loose = {tops[node] for node in animated if node in tops} - set(owner)
    if document.skins:
        size = _size_below(document, tree)
        loose = {top for top in loose if size[top] >= _LEAST_OF_A_BODY}
    together = {tops[node] for node in named if node in tops} & loose
    if together:
        groups[-1 - len(document.nodes)] = together
    groups |= {-1 - top: {top} for top in _tops_of_motion(document, tree, loose - together)}
    figures = []
    for own in groups.values():
        nodes, ends = _bones(document, tree, own, joints | animated)
        inside = set(nodes)
        skins = [i for i, skin in enumerate(document.skins) if skin.joints and skin.joints[0] in inside]
        # A lone spinning prop is no figure.
        if skins or len(nodes) >= 3:
            figures.append(FigureNodes(nodes, skins, ends))
    return figures


def _called_as_joints(document: Document, tree: Tree, tops: set[int], joints: set[int]) -> set[int]:
    """The nodes above the tops of skeletons without a skin that are called as joints of another: a root that nothing
    moves, on a copy of the bones that drives them."""
    called = {document.nodes[joint].name for joint in joints} - {""}
    found: set[int] = set()
    for top in tops:
        node = tree.parents[top]
        while node >= 0 and node not in joints and _is_bare(document, node) and document.nodes[node].name in called:
            found.add(node)
            node = tree.parents[node]
    return found


def shown_nodes(document: Document, tree: Tree) -> list[bool]:
    """Whether each node is seen at first (``KHR_node_visibility``): a node that is not hides all below it."""
    shown = [True] * len(document.nodes)
    for index in tree.order:
        said = document.nodes[index].extensions.get("KHR_node_visibility")
        above = tree.parents[index]
        shown[index] = not (isinstance(said, dict) and said.get("visible") is False) and (above < 0 or shown[above])
    return shown


def skeletons_of(document: Document, tree: Tree, figure: FigureNodes) -> list[FigureNodes]:
    """The skeletons of a figure: one, or several that have no joint in common and hang side by side on a node that
    moves them all, as clothes on a copy of the bones do."""
    inside = set(figure.nodes)
    joints = {skin: set(document.skins[skin].joints) for skin in figure.skins}
    branches = [node for node in figure.nodes if tree.parents[node] not in inside]
    while len(branches) == 1 and not any(branches[0] in own for own in joints.values()):
        branches = [child for child in document.nodes[branches[0]].children if child in inside]
    branch_of = {branch: branch for branch in branches}
    held: dict[int, set[int]] = {branch: set() for branch in branches}
    for node in figure.nodes:  # parents first
        branch = branch_of.get(node, branch_of.get(tree.parents[node], -1))
        if branch >= 0:
            branch_of[node] = branch
            held[branch].add(node)
    worn: dict[int, list[int]] = {branch: [] for branch in branches}
    for skin, own in joints.items():
        for branch in {branch_of[joint] for joint in own if joint in branch_of}:
            worn[branch].append(skin)
    parts = [(held[branch], worn[branch]) for branch in branches]
    several = [(below, skins) for below, skins in parts if skins or len(below) >= _LEAST_OF_A_BODY]
    if len(several) < 2 or sum(len(skins) for _, skins in parts) > len(figure.skins):  # a skin on two of them
        return [figure]
    return [
        FigureNodes([node for node in figure.nodes if node in below], skins, figure.ends & below)
        for below, skins in several
    ]


def _tops_of_motion(document: Document, tree: Tree, tops: set[int]) -> list[int]:
    """Where the skeletons of a file without skins begin, from the highest animated nodes.

    Usually those are the hips. A clip that moves nothing but the arms, say, has its tops inside one body: then that
    begins where its tree does.
    """
    size = _size_below(document, tree)
    root: dict[int, int] = {}
    for node in tree.order:
        root[node] = root.get(tree.parents[node], node)
    found: list[int] = []
    for tree_top in sorted({root[top] for top in tops}):
        inside = sorted(top for top in tops if root[top] == tree_top)
        bodies = [top for top in inside if size[top] >= _LEAST_OF_A_BODY]
        parts = [top for top in inside if 3 <= size[top] < _LEAST_OF_A_BODY]
        alone = len(inside) == 1 and bodies
        whole = bodies and not parts and sum(size[top] for top in bodies) >= 0.8 * size[tree_top]
        # A tree that is too small for a body is taken as it is: a chain, a prop.
        if alone or whole or size[tree_top] < _LEAST_OF_A_BODY:
            found += inside
            continue
        # What holds nothing but the next one is no bone: the node of the scene, or of the whole figure.
        while tree_top not in tops and len(document.nodes[tree_top].children) == 1:
            tree_top = document.nodes[tree_top].children[0]
        found.append(tree_top)
    return found


def _size_below(document: Document, tree: Tree) -> dict[int, int]:
    """How many bare nodes each holds, itself among them."""
    size = dict.fromkeys(tree.order, 0)
    for node in reversed(tree.order):
        size[node] += _is_bare(document, node)
        if tree.parents[node] >= 0:
            size[tree.parents[node]] += size[node]
    return size


def _is_bare(document: Document, node: int) -> bool:
    """Whether a node holds nothing: no mesh, camera or light."""
    row = document.nodes[node]
    return row.mesh is None and row.camera is None and not row.extensions.get("KHR_lights_punctual")


def _tops(tree: Tree, wanted: set[int]) -> dict[int, int]:
    """For each wanted node the highest wanted node above it (or itself)."""
    above: dict[int, int] = {}
    found: dict[int, int] = {}
    for node in tree.order:
        parent = tree.parents[node]
        top = above.get(parent, -1)
        if top < 0 and node in wanted:
            top = node
        above[node] = top
        if node in wanted:
            found[node] = top
    return found


def _bones(document: Document, tree: Tree, tops: set[int], wanted: set[int]) -> tuple[list[int], set[int]]:
    inside: set[int] = set()
    for node in tree.order:
        if node in tops or tree.parents[node] in inside:
            inside.add(node)
    keep: set[int] = set()
    for node in reversed(tree.order):
        if node not in inside:
            continue
        if node in wanted or _is_bare(document, node) or any(child in keep for child in document.nodes[node].children):
            keep.add(node)
    nodes = [node for node in tree.order if node in keep]
    ends = {
        node
        for node in nodes
        if node not in wanted
        and not any(child in keep for child in document.nodes[node].children)
        # Without a skin, what does not move below what does not move either may be any bone.
        and (document.skins or tree.parents[node] in wanted)
    }
    return nodes, ends


def _locals(document: Document) -> tuple[Floats, Floats, Floats, Floats]:
    """Rotation, scale, translation and linear part of every node."""
    nodes = document.nodes
    rotation = np.array([node.rotation or (0.0, 0.0, 0.0, 1.0) for node in nodes]).reshape(-1, 4)
    scale = np.array([node.scale or (1.0, 1.0, 1.0) for node in nodes]).reshape(-1, 3)
    translation = np.array([node.translation or (0.0, 0.0, 0.0) for node in nodes]).reshape(-1, 3)
    matrices = {
        index: np.array(node.matrix).reshape(4, 4).T for index, node in enumerate(nodes) if node.matrix is not None
    }
    given = np.concatenate([rotation, scale, translation], axis=1)
    for index, matrix in matrices.items():
        given[index, :9] = matrix[:3, :3].ravel()
        translation[index] = matrix[:3, 3]
    bad = ~np.isfinite(given).all(axis=1) | ~np.isfinite(translation).all(axis=1) | (np.abs(given).max(axis=1) > 1e12)
    if bad.any():
        place = _place(document, int(np.flatnonzero(bad)[0]))
        raise InputError("its transform is not a finite number", place=place, remedy=_AGAIN)
    if not rotation.any(axis=1).all():
        place = _place(document, int(np.flatnonzero(~rotation.any(axis=1))[0]))
        raise InputError("its rotation is all zeros", place=place, remedy=_AGAIN)
    rotation = normalized(rotation)
    linear = matrix_from_quaternion(rotation) * scale[:, None, :]
    for index, matrix in matrices.items():
        linear[index] = matrix[:3, :3]
        # The standard wants a matrix to be turn times scale; of any other the nearest turn is taken.
        scale[index] = np.linalg.norm(linear[index], axis=0) * (-1.0 if np.linalg.det(linear[index]) < 0 else 1.0)
        rotation[index] = rotation_from_stretched(linear[index] / np.where(scale[index] == 0.0, 1.0, scale[index]))
    return rotation, scale, translation, linear


def _place(document: Document, index: int) -> str:
    name = document.nodes[index].name
    return f"nodes[{index}] {name!r}" if name else f"nodes[{index}]"
