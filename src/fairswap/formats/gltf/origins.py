"""Where figures and clips came from: what stands in a glTF document, to write back as it was what is unchanged."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

from fairswap.formats.gltf.container import Container
from fairswap.formats.gltf.folding import Fold
from fairswap.model.arrays import Floats, read_only
from fairswap.model.avatar import Avatar
from fairswap.model.clip import Clip
from fairswap.model.mesh import Mesh
from fairswap.model.poses import Poses
from fairswap.model.skeleton import Skeleton

# What begins so early begins at once.
AT_ONCE_S = 1e-4


@dataclass(frozen=True, eq=False)
class GltfSource:
    """Where a figure came from: its document, which node each bone is, which node each mesh, and the
    matrix ``(3, 3)`` that brings the file into our space.

    ``skeleton`` and ``meshes`` are what was read: a figure that has others is no longer what stands in the document.
    """

    container: Container
    skeleton: Skeleton
    meshes: tuple[Mesh, ...]
    nodes: tuple[int, ...]
    fold: Fold
    mesh_nodes: tuple[int, ...]
    to_ours: Floats
    avatar: Avatar | None = None

    def __post_init__(self) -> None:
        read_only(self.to_ours)


@dataclass(frozen=True, eq=False)
class GltfOrigin:
    """Where an unchanged clip stands. ``poses`` and ``rate`` tell whether it is: operations give new poses. ``start_s``
    is the time of its first frame in the file; ``mended``, that its keys cannot be written back as they were."""

    container: Container
    animation: int
    poses: Poses
    source: GltfSource
    rate: Fraction
    start_s: float
    mended: bool = False

    def holds(self, clip: Clip) -> bool:
        same_time = clip.rate == self.rate and abs(clip.start_s - self.start_s) <= AT_ONCE_S
        return clip.poses is self.poses and same_time
