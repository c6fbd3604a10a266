"""Static scales and turns folded into the bones on reading, and unfolded on writing.

A node's world matrix may scale, mirror and shear; a bone of ours is rigid. For each bone we keep how the two relate:

- ``above``: from the coordinates of the node's parent to the frame of the parent bone (for a root: to our space);
- ``residual``: what of the node's world matrix its rigid frame leaves over, ``world = rigid @ residual``.

Where scales are even (also mirrored: a mirroring is a half turn and a negative scale) this is exact for every pose.
Where they are uneven the rest pose is exact, and a bone turned under an uneven scale takes the nearest rotation.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fairswap.formats.gltf.nodes import Tree
from fairswap.kernels import Floats, Integers
from fairswap.rotation import (
    conjugate,
    matrix_from_quaternion,
    multiply,
    quaternion_from_matrix,
    rotation_from_stretched,
)


@dataclass(frozen=True, eq=False)
class Fold:
    """The relation between nodes and bones, one row per bone; and the rest pose that comes out of it."""

    above: Floats  # (bones, 4, 4)
    scale: Floats  # (bones, 3): the node's own static scale
    residual: Floats  # (bones, 3, 3)
    even: np.ndarray  # (bones,) whether the relation is exact for every pose
    before: Floats  # (bones, 4) and
    after: Floats  # (bones, 4): rotation of bone = before * rotation of node * after, where even
    rest_rotations: Floats
    rest_translations: Floats

    def bone_rotations(self, bone: int, node_rotations: Floats) -> Floats:
        """Local rotations ``(frames, 4)`` of a bone from those of its node."""
        if self.even[bone]:
            return multiply(multiply(self.before[bone], node_rotations), self.after[bone])
        stretched = self.above[bone, :3, :3] @ (matrix_from_quaternion(node_rotations) * self.scale[bone])
        return rotation_from_stretched(stretched @ np.linalg.inv(self.residual[bone]))

    def bone_translations(self, bone: int, node_translations: Floats) -> Floats:
        """Local positions ``(frames, 3)`` of a bone, metres, from those of its node."""
        return node_translations @ self.above[bone, :3, :3].T + self.above[bone, :3, 3]

    def node_rotations(self, bone: int, bone_rotations: Floats) -> Floats:
        """The way back of :meth:`bone_rotations`."""
        if self.even[bone]:
            return multiply(multiply(conjugate(self.before[bone]), bone_rotations), conjugate(self.after[bone]))
        stretched = np.linalg.inv(self.above[bone, :3, :3]) @ matrix_from_quaternion(bone_rotations)
        return rotation_from_stretched(stretched @ self.residual[bone] @ np.diag(1.0 / self.scale[bone]))

    def node_translations(self, bone: int, bone_translations: Floats) -> Floats:
        """The way back of :meth:`bone_translations`."""
        return (bone_translations - self.above[bone, :3, 3]) @ np.linalg.inv(self.above[bone, :3, :3]).T


def fold_nodes(tree: Tree, nodes: list[int], parents: Integers, to_ours: Floats) -> Fold:
    """Fold the nodes that are the bones of one figure; ``to_ours`` ``(3, 3)`` turns and scales the file into our space."""
    count = len(nodes)
    above, residual = np.zeros((count, 4, 4)), np.empty((count, 3, 3))
    above[:, 3, 3] = 1.0
    before, after = np.zeros((count, 4)), np.zeros((count, 4))
    before[:, 3] = after[:, 3] = 1.0
    rotations, translations = np.empty((count, 4)), np.empty((count, 3))
    even = np.ones(count, dtype=bool)
    for bone, node in enumerate(nodes):
        parent = int(parents[bone])
        between = tree.world[tree.parents[node]] if tree.parents[node] >= 0 else np.eye(4)
        if parent < 0:
            above[bone, :3] = to_ours @ between[:3]
        else:
            parent_node = nodes[parent]
            if tree.parents[node] != parent_node:
                between = np.linalg.inv(tree.world[parent_node]) @ between
                above[bone, :3] = residual[parent] @ between[:3]
            else:
                above[bone, :3, :3] = residual[parent]
        linear = above[bone, :3, :3] @ tree.linear[node]
        stretch, turned = _even_stretch(linear)
        upper_stretch, upper = _even_stretch(above[bone, :3, :3])
        even[bone] = stretch is not None and upper_stretch is not None
        if stretch is not None and upper_stretch is not None:
            residual[bone] = stretch * np.eye(3)
            rotations[bone] = quaternion_from_matrix(turned)
            before[bone] = quaternion_from_matrix(upper)
            own = matrix_from_quaternion(tree.rotation[node])
            after[bone] = quaternion_from_matrix((upper @ own).T @ turned)
        else:
            rotations[bone] = rotation_from_stretched(linear if np.linalg.det(linear) >= 0 else -linear)
            residual[bone] = matrix_from_quaternion(rotations[bone]).T @ linear
        translations[bone] = above[bone, :3, :3] @ tree.translation[node] + above[bone, :3, 3]
    return Fold(above, tree.scale[nodes], residual, even, before, after, rotations, translations)


def _even_stretch(matrix: Floats) -> tuple[float | None, Floats]:
    """``matrix = stretch * rotation`` with a stretch that may be negative; None if it is uneven."""
    stretch = float(np.cbrt(np.linalg.det(matrix)))
    if stretch == 0.0:
        return None, matrix
    rotation = matrix / stretch
    return (stretch, rotation) if np.allclose(rotation @ rotation.T, np.eye(3), atol=1e-5) else (None, matrix)
