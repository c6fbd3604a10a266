"""Second copies of a skeleton in one file: those that clothes hang on, and one that holds the keys of another.

Exporters give each garment the whole skeleton again, or the part of it that it needs, under names with something
before or after them; a garment made for another figure stands a few per cent off. Such skeletons are one body.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from fairswap.formats.bone_names import unlike_names
from fairswap.formats.gltf.accessors import floats_from_accessor, item
from fairswap.formats.gltf.container import Container
from fairswap.formats.gltf.merging import ORIGIN, binds_by_node
from fairswap.formats.gltf.nodes import FigureNodes, Tree, skeletons_of
from fairswap.formats.gltf.schema import Document
from fairswap.formats.naming import bare_name
from fairswap.model.arrays import Floats

# Bones are one bone if they are this near, of the body's size, and called alike; without names, if nearly all have
# partners' partners for parents.
_NEAR, _SAME_PLACE, _ALONG = 0.06, 0.01, 0.9
# A skeleton is a copy if so many of its bones have a partner or hang below one that has; the one with clearly more
# bones is the body's.
_MOSTLY, _CLEARLY_MORE = 0.7, 1.25
_LEAST_UNNAMED = 10
_NOWHERE = np.full(3, np.nan)


@dataclass(frozen=True, eq=False)
class Copy:
    """A skeleton that is a copy of a body's.

    Attributes
    ----------
    body, copy : FigureNodes
    into : dict of int to int
        The node of the body for each node of the copy that has one.
    shift : (3,) array
        How far the body stands from the copy, in the scene: zero but for a skeleton that drives another from aside.
    as_bound : bool
        Whether the two rest otherwise with the same bones, so that skins go over as they were bound.
    """

    body: FigureNodes
    copy: FigureNodes
    into: dict[int, int]
    shift: Floats
    as_bound: bool = False


def copies_in(container: Container, tree: Tree, figures: Sequence[FigureNodes]) -> list[Copy]:
    """The skeletons of a document that are copies of others, each with the body's skeleton that it copies."""
    figures = [skeleton for figure in figures for skeleton in skeletons_of(container.document, tree, figure)]
    if len(figures) < 2:
        return []
    document, moving, bound = container.document, _moving_nodes(container), _bound_places(container)

    def rank(figure: FigureNodes) -> tuple[bool, int]:
        own = sum(node in moving for node in figure.nodes)
        letters = sum(len(document.nodes[node].name) for node in figure.nodes)
        return own >= min(3, len(figure.nodes)), -letters

    found: list[Copy] = []
    left = sorted(figures, key=rank, reverse=True)
    while left:
        # Of the skeletons that are left, one that no other has clearly more bones of is a body.
        body = next(
            one
            for one in left
            if not any(
                len(other.nodes) > _CLEARLY_MORE * len(one.nodes)
                and _partners(document, tree, bound, moving, other, one)
                for other in left
            )
        )
        left.remove(body)
        # A copy of a copy is one of the body, too: clothes on a skeleton that another drives.
        kin: list[tuple[FigureNodes, dict[int, int], Floats]] = [(body, {node: node for node in body.nodes}, ORIGIN)]
        for like, onward, aside in kin:  # grows as copies are found
            for other in list(left):
                driven = _driven(document, tree, moving, like, other)
                if driven and like is body:
                    left.remove(other)
                    found.append(Copy(body, other, driven, ORIGIN, as_bound=True))
                    continue
                match = _partners(document, tree, bound, moving, like, other)
                if match is None:
                    continue
                into = {node: onward[partner] for node, partner in match[0].items() if partner in onward}
                left.remove(other)
                found.append(Copy(body, other, into, match[1] + aside))
                kin.append((other, into, match[1] + aside))
    return found


def _bound_places(container: Container) -> dict[int, Floats]:
    """Where each joint stood when its mesh was bound, in the space of the mesh."""
    binds = {node: bind for node, bind in binds_by_node(container).items() if abs(np.linalg.det(bind)) > 1e-18}
    return {node: np.asarray(np.linalg.inv(bind)[:3, 3], dtype=np.float64) for node, bind in binds.items()}


def _moving_nodes(container: Container) -> set[int]:
    """The nodes that some animation turns or shifts: constant keys, as baking writes them, move nothing."""
    found: set[int] = set()
    varies: dict[int, bool] = {}
    for number, animation in enumerate(container.document.animations):
        for row in animation.channels:
            node = row.target.node
            if node is None or row.target.path not in ("rotation", "translation"):
                continue
            place = f"animations[{number}]"
            output = item(animation.samplers, row.sampler, "sampler", place).output
            if output not in varies:
                values = floats_from_accessor(container, output, place)
                varies[output] = bool(len(values) and np.ptp(values, axis=0).max() > 1e-5)
            if varies[output]:
                found.add(node)
    return found


def _partners(
    document: Document, tree: Tree, bound: Mapping[int, Floats], moving: set[int],
    body: FigureNodes, other: FigureNodes,
) -> tuple[dict[int, int], Floats] | None:  # fmt: skip
    """The partner in ``body`` of each node of ``other`` that has one, and how far the body is aside; None if they are
    no copies of each other."""
    from scipy.optimize import linear_sum_assignment

    places, others = (tree.world[figure.nodes][:, :3, 3] for figure in (body, other))
    size = float(np.ptp(places, axis=0).max())
    if size <= 0:
        return None
    shift: Floats = ORIGIN
    if bool(body.skins) != bool(other.skins):  # a skeleton that drives another may stand aside
        shift = _aside(document, body, other, places, others)
    apart = np.linalg.norm(places[None] - (others + shift)[:, None], axis=2) / size
    if _left_at_rest(tree, moving, body, other):
        apart = np.fmin(apart, _apart_when_bound(bound, body, other))
    if not (apart < _NEAR).any():  # another person of a crowd, mostly
        return None
    names = [[bare_name(document.nodes[node].name) for node in figure.nodes] for figure in (body, other)]
    named = any(names[0]) and any(names[1])
    unlike = unlike_names(names[0], names[1], apart < _NEAR) if named else np.zeros(apart.shape)
    near = _NEAR
    if not np.isfinite(unlike).any():  # names that have nothing in common: by their places, if these are the very same
        named, near, unlike = False, _SAME_PLACE, np.zeros(apart.shape)
    cost = np.where(apart < near, apart + unlike, np.inf)
    # One to one, the best all together: of bones in a row with numbers alone, too.
    never = 100.0
    pairs = np.stack(linear_sum_assignment(np.minimum(cost, never)), axis=1)
    into = {other.nodes[row]: body.nodes[column] for row, column in pairs.tolist() if cost[row, column] < never}
    if not named:
        along = [node for node in into if into.get(tree.parents[node], -1) == tree.parents[into[node]]]
        if len(into) < _LEAST_UNNAMED or len(along) < _ALONG * len(into) - 1:
            return None
    if not into:
        return None
    # What hangs below a partner is the garment's own (the tails of a coat) and goes along; so are ends.
    inside = set(into)
    for node in other.nodes:
        if tree.parents[node] in inside:
            inside.add(node)
    first = next(node for node in other.nodes if node in into or node in other.ends or _is_joint(document, other, node))
    if len(inside) < _MOSTLY * len(other.nodes) or first not in into:
        return None
    return into, shift


def _apart_when_bound(bound: Mapping[int, Floats], body: FigureNodes, other: FigureNodes) -> Floats:
    """How far the joints were from each other ``(others, bodies)`` when they were bound, of the body's size: a skeleton
    that is left at rest, while its body is saved in a motion, is a copy still if it was bound alike."""
    homes = [np.array([bound.get(node, _NOWHERE) for node in figure.nodes]) for figure in (body, other)]
    known = homes[0][np.isfinite(homes[0]).all(axis=1)]
    extent = float(np.ptp(known, axis=0).max()) if len(known) else 0.0
    between = np.linalg.norm(homes[0][None] - homes[1][:, None], axis=2)
    return np.asarray(between / extent if extent > 0 else np.full(between.shape, np.nan))


def _driven(
    document: Document, tree: Tree, moving: set[int], body: FigureNodes, other: FigureNodes
) -> dict[int, int] | None:
    """The partners of a skeleton with a skin that nothing moves in one without, that moves, and has the very same bones
    by name and length in another rest pose; None if they are no such two."""
    if body.skins or not other.skins or moving.intersection(other.nodes) or not moving.intersection(body.nodes):
        return None
    named = {document.nodes[node].name: node for node in body.nodes}
    into = {node: named[document.nodes[node].name] for node in other.nodes if document.nodes[node].name in named}
    if len(named) < len(body.nodes) or len(into) < max(_LEAST_UNNAMED, _ALONG * len(other.nodes)):
        return None
    inner = [node for node in into if into.get(tree.parents[node], -1) == tree.parents[into[node]]]
    steps = tree.translation[inner], tree.translation[[into[node] for node in inner]]
    alike = np.linalg.norm(steps[0] - steps[1], axis=1) < 0.02 * np.linalg.norm(steps[0], axis=1) + 1e-6
    turned = np.abs(np.einsum("bk,bk->b", tree.rotation[inner], tree.rotation[[into[node] for node in inner]]))
    as_they_rest = len(inner) and turned.min() > 1.0 - 1e-5
    return into if not as_they_rest and alike.sum() >= _ALONG * len(into) - 1 else None


def _left_at_rest(tree: Tree, moving: set[int], body: FigureNodes, other: FigureNodes) -> bool:
    """Whether nothing moves a skeleton, and it hangs where the other one does."""
    holders = [tree.parents[figure.nodes[0]] for figure in (body, other)]
    worlds = [tree.world[holder] if holder >= 0 else np.eye(4) for holder in holders]
    return not moving.intersection(other.nodes) and bool(np.allclose(worlds[0], worlds[1], rtol=1e-4, atol=1e-6))


def _is_joint(document: Document, figure: FigureNodes, node: int) -> bool:
    return any(node in document.skins[skin].joints for skin in figure.skins)


def _aside(document: Document, body: FigureNodes, other: FigureNodes, places: Floats, others: Floats) -> Floats:
    """How far a body stands from a copy: the middle of the ways between bones of one name, or of one number."""
    if len(places) == len(others):
        return np.asarray(np.median(places - others, axis=0))
    at = {document.nodes[node].name: place for node, place in zip(body.nodes, places, strict=True)}
    names = [document.nodes[node].name for node in other.nodes]
    ways = [at[name] - place for name, place in zip(names, others, strict=True) if name in at]
    return np.asarray(np.median(ways, axis=0)) if len(ways) >= _LEAST_UNNAMED else ORIGIN
