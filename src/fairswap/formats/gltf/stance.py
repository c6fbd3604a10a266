"""How a figure stands in a glTF file: which way is up and forward, by its nodes at rest and in its clips."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from fairswap.formats.gltf.animations import keys_of_animation
from fairswap.formats.gltf.container import Container
from fairswap.formats.gltf.meshes import weights_width_by_node
from fairswap.formats.gltf.nodes import FigureNodes, Tree, posed_tree
from fairswap.formats.vrm.humanoid import extension_of
from fairswap.model.arrays import Integers
from fairswap.model.posture import Posture, posture_from_positions, posture_of_file
from fairswap.model.skeleton import parents_first
from fairswap.model.space import OURS

# Of bones of which less than this share holds skin it does not tell the body from what moves it.
_FEW = 0.25


def posture_of_nodes(
    container: Container, tree: Tree, own: FigureNodes, parents: Integers, holding: np.ndarray
) -> Posture | None:
    """The posture of a figure whose bones hang on ``parents`` ``(bones,)``; ``holding`` are those that hold its skin.
    None if no body is seen."""
    posture = _posture_in(tree, own, parents, holding)
    if not _as_asked(posture):
        posture, _ = posture_of_file(posture, _postures_shown(container, own, parents, holding), OURS)
    if posture is not None and extension_of(container.raw, "VRM"):
        posture = replace(posture, forward="-Z", reason="as VRM 0.x has it")
    return posture


def _as_asked(posture: Posture | None) -> bool:
    return posture is not None and (posture.up, posture.forward) == (OURS.up, OURS.forward)


def _posture_in(tree: Tree, own: FigureNodes, parents: Integers, holding: np.ndarray) -> Posture | None:
    """The posture of the bones that hold skin; of all, where few do, or where all stand as the format asks: what else a
    rig has, to be moved by, is no reason to turn it."""
    order = np.array(parents_first(parents.tolist()), dtype=np.intp)
    place_in = np.append(np.argsort(order), -1)
    places, above = tree.world[own.nodes][order, :3, 3], place_in[parents[order]]
    whole = posture_from_positions(places, above)
    held = None if _as_asked(whole) else posture_from_positions(places, above, holding[order])
    few = held is None and holding.mean() < _FEW
    return whole if few or _as_asked(whole) else held


def _postures_shown(container: Container, own: FigureNodes, parents: Integers, holding: np.ndarray) -> list[Posture]:
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
            posture = _posture_in(posed_tree(container.document, first), own, parents, holding)
            found += [posture] if posture else []
    return found
