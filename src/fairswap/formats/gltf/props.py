"""Where a node that is no bone of a figure stands over time: a prop, a marker."""

from __future__ import annotations

import numpy as np

from fairswap.formats.gltf.animations import keys_of_animation
from fairswap.formats.gltf.meshes import weights_width_by_node
from fairswap.formats.gltf.nodes import tree_from_nodes
from fairswap.formats.gltf.origins import GltfOrigin, GltfSource
from fairswap.model.arrays import Floats


def node_names(source: GltfSource) -> list[str]:
    """The names of all nodes in the document that are no bones of the figure."""
    bones = set(source.nodes)
    return [node.name for index, node in enumerate(source.container.document.nodes) if node.name and index not in bones]


def node_track(source: GltfSource, name: str, origin: GltfOrigin | None, times: Floats) -> Floats:
    """World positions ``(frames, 3)`` of the node ``name`` in our space; it may move by keys of its own.

    ``origin`` tells the animation. What is above the node counts as it rests.
    """
    document = source.container.document
    node = next(index for index, row in enumerate(document.nodes) if row.name == name)
    tree = tree_from_nodes(document)
    places = np.broadcast_to(tree.translation[node], (len(times), 3))
    if origin is not None:
        keys = keys_of_animation(source.container, origin.animation, weights_width_by_node(source.container))
        if (node, "translation") in keys:
            places = keys[node, "translation"].sampled(times, rotation=False)
    above = tree.world[tree.parents[node]] if tree.parents[node] >= 0 else np.eye(4)
    return np.asarray((places @ above[:3, :3].T + above[:3, 3]) @ source.to_ours.T)
