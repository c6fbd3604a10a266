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
from fairswap.model.arrays import Floats, Integers, read_only
from fairswap.model.rotation import (
    IDENTITY,
    angle_between,
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
    plain: np.ndarray  # (bones,) whether bone and node turn alike
    before: Floats  # (bones, 4) and
    after: Floats  # (bones, 4): rotation of bone = before * rotation of node * after, where even
    rest_rotations: Floats
    rest_translations: Floats

    def __post_init__(self) -> None:
        for array in vars(self).values():
            read_only(array)

    def bone_rotations(self, bone: int, node_rotations: Floats) -> Floats:
        """Local rotations ``(frames, 4)`` of a bone from those of its node."""
        if self.plain[bone]:
            return node_rotations
        if self.even[bone]:
            return multiply(multiply(self.before[bone], node_rotations), self.after[bone])
        stretched = self.above[bone, :3, :3] @ (matrix_from_quaternion(node_rotations) * self.scale[bone])
        return rotation_from_stretched(stretched @ np.linalg.inv(self.residual[bone]))

    def bone_translations(self, bone: int, node_translations: Floats) -> Floats:
        """Local positions ``(frames, 3)`` of a bone, metres, from those of its node."""
        return node_translations @ self.above[bone, :3, :3].T + self.above[bone, :3, 3]

    def bone_stretches(self, bone: int, node_scales: Floats) -> Floats:
        """How the size of a bone changes against rest ``(3, 3, frames)``, in its own axes, by its node's scales."""
        factors = node_scales / self.scale[bone]
        residual = self.residual[bone]
        return np.einsum("ij,fj,jk->ikf", residual, factors, np.linalg.inv(residual))

    def node_rotations(self, bone: int, bone_rotations: Floats) -> Floats:
        """The way back of :meth:`bone_rotations`."""
        if self.plain[bone]:
            return bone_rotations
        if self.even[bone]:
            return multiply(multiply(conjugate(self.before[bone]), bone_rotations), conjugate(self.after[bone]))
        stretched = np.linalg.inv(self.above[bone, :3, :3]) @ matrix_from_quaternion(bone_rotations)
        return rotation_from_stretched(stretched @ self.residual[bone] @ np.diag(1.0 / self.scale[bone]))

    def node_translations(self, bone: int, bone_translations: Floats) -> Floats:
        """The way back of :meth:`bone_translations`."""
        return (bone_translations - self.above[bone, :3, 3]) @ np.linalg.inv(self.above[bone, :3, :3]).T


def fold_nodes(tree: Tree, nodes: list[int], parents: Integers, to_ours: Floats) -> Fold:
    """Fold the nodes that are the bones of one figure; ``to_ours`` ``(3, 3)`` brings the file into our space."""
    count = len(nodes)
    world = np.zeros((len(tree.world) + 1, 4, 4))  # one more, at -1: what is above the roots
    world[:-1, :3], world[-1, :3] = to_ours @ tree.world[:, :3], to_ours @ np.eye(4)[:3]
    own, above_node = world[nodes], world[[tree.parents[node] for node in nodes]]
    stretch, turned = _rotation_and_stretch(own[:, :3, :3])
    # The frame that each bone hangs in: of its parent bone, or ours.
    frame, origin = np.tile(np.eye(3), (count, 1, 1)), np.zeros((count, 3))
    inner = parents >= 0
    frame[inner], origin[inner] = turned[parents[inner]].transpose(0, 2, 1), own[parents[inner], :3, 3]
    above = np.zeros((count, 4, 4))
    above[:, 3, 3] = 1.0
    above[:, :3, :3] = frame @ above_node[:, :3, :3]
    above[:, :3, 3] = np.einsum("bij,bj->bi", frame, above_node[:, :3, 3] - origin)
    upper_stretch, upper = _rotation_and_stretch(above[:, :3, :3])
    even = np.isfinite(stretch) & np.isfinite(upper_stretch)
    local = frame @ turned
    node_turn = upper @ matrix_from_quaternion(tree.rotation[nodes])
    before, after = np.tile(IDENTITY, (count, 1)), np.tile(IDENTITY, (count, 1))
    before[even] = quaternion_from_matrix(upper[even])
    after[even] = quaternion_from_matrix(node_turn[even].transpose(0, 2, 1) @ local[even])
    return Fold(
        above=above,
        scale=tree.scale[nodes],
        residual=turned.transpose(0, 2, 1) @ own[:, :3, :3],
        even=even,
        plain=even & (angle_between(before, IDENTITY) < 1e-9) & (angle_between(after, IDENTITY) < 1e-9),
        before=before,
        after=after,
        rest_rotations=quaternion_from_matrix(local),
        rest_translations=np.einsum("bij,bj->bi", above[:, :3, :3], tree.translation[nodes]) + above[:, :3, 3],
    )


def _rotation_and_stretch(matrices: Floats) -> tuple[Floats, Floats]:
    """``matrix = stretch * rotation`` with a stretch that may be negative, or the nearest rotation and a NaN."""
    determinant = np.linalg.det(matrices)
    stretch = np.cbrt(determinant)
    safe = np.where(stretch == 0.0, 1.0, stretch)
    rotation = matrices / safe[:, None, None]
    off = np.abs(rotation @ rotation.transpose(0, 2, 1) - np.eye(3)).max(axis=(1, 2))
    uneven = (off > 1e-5) | (stretch == 0.0)
    if uneven.any():
        upright = matrices[uneven] * np.where(determinant[uneven] < 0, -1.0, 1.0)[:, None, None]
        rotation[uneven] = matrix_from_quaternion(rotation_from_stretched(upright))
    return np.where(uneven, np.nan, stretch), rotation
