"""Bone boxes: the bounds of each bone's skin, which some platforms want stated in the file.

glTF has no field for them. They stand in the ``extras`` of the bone's node, as the standard provides for what it does
not know: ``"bone_box": {"low_m": [x, y, z], "high_m": [x, y, z]}``, metres in the axes of the node.
"""

from __future__ import annotations

from typing import Any

import msgspec
import numpy as np

from fairswap.formats.gltf.nodes import tree_from_nodes
from fairswap.formats.gltf.schema import BoneBox, Document
from fairswap.model.arrays import Floats
from fairswap.model.figure import Figure
from fairswap.model.rotation import matrix_from_quaternion, rotation_from_stretched

_KEY = "bone_box"


def state_boxes(raw: dict[str, Any], nodes: list[int], figure: Figure) -> None:
    """State in a document that holds a figure the boxes of its bones, as they are now; take out those of before."""
    world = tree_from_nodes(msgspec.convert(raw, Document)).world
    axes = matrix_from_quaternion(rotation_from_stretched(world[nodes, :3, :3]))
    for bone, (node, box) in enumerate(zip(nodes, figure.skin_boxes_in(axes, world[nodes, :3, 3]), strict=True)):
        row = raw["nodes"][node]
        extras = row.get("extras")
        kept = {key: value for key, value in extras.items() if key != _KEY} if isinstance(extras, dict) else {}
        if bone not in figure.skeleton.ends and np.isfinite(box).all():
            kept[_KEY] = {"low_m": box[0].tolist(), "high_m": box[1].tolist()}
        if kept:
            row["extras"] = kept
        elif isinstance(extras, dict):
            del row["extras"]


def stated_boxes(document: Document, nodes: list[int]) -> Floats | None:
    """The boxes that a document states, ``(bones, 2, 3)`` with NaN for bones without; None if it states none.

    What is no box is no statement: other programs may use the word for something else.
    """
    out = np.full((len(nodes), 2, 3), np.nan)
    for bone, node in enumerate(nodes):
        extras = document.nodes[node].extras
        if isinstance(extras, dict) and _KEY in extras:
            try:
                box = msgspec.convert(extras[_KEY], BoneBox)
            except msgspec.ValidationError:
                continue
            out[bone] = box.low_m, box.high_m
    return out if np.isfinite(out).any() else None
