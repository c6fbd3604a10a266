"""How a figure stands in a glTF file: which way is up and forward, by its nodes at rest and in its clips."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from fairswap.formats.gltf.animations import keys_of_animation
from fairswap.formats.gltf.container import Container
from fairswap.formats.gltf.meshes import weights_width_by_node
from fairswap.formats.gltf.nodes import FigureNodes, Tree, posed_tree
from fairswap.formats.marks import MARK, RECORD, marked
from fairswap.formats.vrm.humanoid import extension_of
from fairswap.model.arrays import Integers
from fairswap.model.figure import Figure
from fairswap.model.posture import Posture, posture_from_positions, posture_of_file
from fairswap.model.skeleton import parents_first
from fairswap.model.space import OURS
from fairswap.model.words import sides_of

# Of bones of which less than this share holds skin it does not tell the body from what moves it.
_FEW = 0.25
# How far, in heights of the figure, the middle of a foot's skin is from its ankle.
_AHEAD = 0.01


def posture_of_nodes(
    container: Container, tree: Tree, own: FigureNodes, parents: Integers, holding: np.ndarray
) -> Posture | None:
    """The posture of a figure whose bones hang on ``parents`` ``(bones,)``; ``holding`` are those that hold its skin.
    None if no body is seen."""
    sides = sides_of(container.document.nodes[node].name or "" for node in own.nodes)
    posture = _posture_in(tree, own, parents, holding, sides)
    if posture is None or posture.aslant or not _as_asked(posture):
        posture, _ = posture_of_file(posture, _postures_shown(container, tree, own, parents, holding, sides), OURS)
    if posture is not None and extension_of(container.raw, "VRM"):
        posture = replace(posture, forward="-Z", reason="as VRM 0.x has it", feet=())
    return posture


def as_it_was_written(container: Container, tree: Tree, own: FigureNodes, posture: Posture | None) -> Posture | None:
    """The posture of a figure in a file of ours: upright and ahead, if it stands as we wrote it."""
    kept = container.raw["asset"].get("extras")
    ours = kept.get(RECORD) if isinstance(kept, dict) else None
    if posture is None or not isinstance(ours, dict) or extension_of(container.raw, "VRM"):
        return posture
    if not marked(ours.get(MARK), tree.world[own.nodes][:, :3, 3]):
        return posture
    return replace(posture, up=OURS.up, forward=OURS.forward, reason="as it was written", feet=(), stands_written=True)


def _as_asked(posture: Posture | None) -> bool:
    return posture is not None and (posture.up, posture.forward) == (OURS.up, OURS.forward)


def _posture_in(
    tree: Tree, own: FigureNodes, parents: Integers, holding: np.ndarray, sides: Integers
) -> Posture | None:
    """The posture of the bones that hold skin; of all, where few do, or where all stand as the format asks: what else a
    rig has, to be moved by, is no reason to turn it."""
    order = np.array(parents_first(parents.tolist()), dtype=np.intp)
    place_in = np.append(np.argsort(order), -1)
    places, above = tree.world[own.nodes][order, :3, 3], place_in[parents[order]]
    whole = posture_from_positions(places, above, None, sides[order])
    held = None if _as_asked(whole) else posture_from_positions(places, above, holding[order], sides[order])
    few = held is None and holding.mean() < _FEW
    found = whole if few or _as_asked(whole) else held
    return replace(found, feet=tuple(order[list(found.feet)].tolist())) if found is not None and found.feet else found


def turned_by_its_feet(posture: Posture | None, figure: Figure) -> Posture | None:
    """The posture of a ``figure`` that was stood up from it: where only custom told the front, the skin of the feet
    does."""
    if posture is None or not posture.feet:
        return posture
    places, ahead = figure.skeleton.rest.positions[0], []
    for foot in posture.feet:
        held = [
            points[mesh.main_bones == foot, 2]
            for mesh, points in zip(figure.meshes, figure.rest_vertices, strict=True)
        ]  # fmt: skip
        ahead += [float(np.concatenate(held).mean()) - places[foot, 2]] if any(map(len, held)) else []
    if not ahead or np.mean(ahead) > -_AHEAD * figure.height_m:
        return posture
    forward = ("-" if posture.forward[0] == "+" else "+") + posture.forward[1]
    reason = f"the trunk is above the legs along {posture.up}, the skin of the feet points to {forward}"
    return replace(posture, forward=forward, reason=reason, feet=())


def _postures_shown(
    container: Container, tree: Tree, own: FigureNodes, parents: Integers, holding: np.ndarray, sides: Integers
) -> list[Posture]:
    """The postures of a figure in the first frame of each animation that moves it, by the bones that hold its skin."""
    found, bones = [], set(own.nodes)
    for index in range(len(container.document.animations)):
        keys = keys_of_animation(container, index, weights_width_by_node(container))
        first = {
            (node, path): track.values[0]
            for (node, path), track in keys.items()
            if node in bones and path != "weights" and np.isfinite(track.values[0]).all() and track.values[0].any()
        }
        if first:
            posture = _posture_in(posed_tree(container.document, tree, first), own, parents, holding, sides)
            found += [posture] if posture else []
    return found
