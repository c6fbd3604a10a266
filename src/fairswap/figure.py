"""Figures: a skeleton with the meshes that hang on it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from fairswap.clip import Poses, html_card
from fairswap.kernels import Floats, Integers
from fairswap.rotation import matrix_from_quaternion, normalized
from fairswap.skeleton import Skeleton, WorldTransforms
from fairswap.space import OURS, Space

if TYPE_CHECKING:
    import pandas


@dataclass(frozen=True, eq=False)
class Material:
    """The look of a run of triangles, as far as pictures need it.

    Attributes
    ----------
    triangles : slice
        Which rows of the mesh's triangles have it.
    color : (3,) array
        Base colour, linear; multiplies the texture.
    texture : bytes or None
        The colour image as it stands in the file.
    origin : object
        Set by the reader: where in its document the whole material stands.
    images : mapping of int to bytes, or None
        The images of the whole material by their numbers, once they were asked for.
    """

    triangles: slice
    color: Floats
    texture: bytes | None = None
    origin: Any = None
    images: Mapping[int, bytes] | None = None


@dataclass(frozen=True, eq=False)
class Mesh:
    """A skinned mesh, in metres and upright, in the pose it was bound in.

    Attributes
    ----------
    vertices, normals : (n, 3) arrays
    triangles : (m, 3) integers
    joints, weights : (n, k) integers and array
        The bones of the figure's skeleton that move each vertex, and how much; each row of weights sums to 1.
    bind_matrices : (bones, 4, 4) array
        From bind pose to the frame of each bone of the skeleton (what glTF calls inverse bind matrices).
    uvs : (n, 2) array or None
    materials : tuple of Material
    morph_names : tuple of str
    morph_deltas : (morphs, n, 3) array
    morph_weights : (morphs,) array
        Weights at rest.
    tangents : (n, 4) array or None
    morph_normals : (morphs, n, 3) array or None
        Shifts of the normals.
    skinned : bool
        Whether it has weights of its own, or hangs on one bone as a whole.
    origin : object
        Set by the reader: where in its document it stands.
    """

    name: str
    vertices: Floats
    normals: Floats
    triangles: Integers
    joints: Integers
    weights: Floats
    bind_matrices: Floats
    uvs: Floats | None = None
    materials: tuple[Material, ...] = ()
    morph_names: tuple[str, ...] = ()
    morph_deltas: Floats | None = None
    morph_weights: Floats | None = None
    tangents: Floats | None = None
    morph_normals: Floats | None = None
    skinned: bool = True
    origin: Any = None


@dataclass(frozen=True, eq=False)
class Figure:
    """A skeleton with its meshes, and the document it came in (opaque; the writer of that format knows it).

    ``known_roles`` are the roles that the file itself gives to bones, as VRM 1.0 does.
    """

    name: str
    skeleton: Skeleton
    meshes: tuple[Mesh, ...] = ()
    space: Space = OURS
    source: Any = None
    known_roles: Mapping[str, int] = field(default_factory=dict)

    @cached_property
    def height_m(self) -> float:
        """From sole to crown at rest: of the meshes if there are any, else of the bones."""
        return float(np.ptp(self.rest_points[:, 1]))

    @cached_property
    def floor_m(self) -> float:
        """The height this figure stands on at rest: its lowest vertex.

        Without meshes, the ground at 0 if the lowest bone is just above it (bones end above the sole), else that bone.
        """
        lowest = float(self.rest_points[:, 1].min())
        return 0.0 if not self.meshes and 0.0 <= lowest < 0.1 * self.height_m else lowest

    @cached_property
    def rest_vertices(self) -> tuple[Floats, ...]:
        """The vertices ``(n, 3)`` of each mesh at rest, in metres."""
        return tuple(deformed_vertices(mesh, self.skeleton.rest, 0) for mesh in self.meshes)

    @cached_property
    def rest_points(self) -> Floats:
        """Every vertex (or, without meshes, every bone) at rest, ``(n, 3)`` in metres."""
        return np.concatenate(self.rest_vertices) if self.meshes else self.skeleton.rest.positions[0]

    @property
    def influences_max(self) -> int:
        """The most bones that move one vertex."""
        return max((int((mesh.weights > 0).sum(axis=1).max(initial=0)) for mesh in self.meshes), default=0)

    def table(self) -> pandas.DataFrame:
        """The bones as a pandas table: parent, depth and rest position in metres.

        Needs pandas: ``pip install "fairswap[table]"``.
        """
        import pandas

        parents = [self.skeleton.names[p] if p >= 0 else "" for p in self.skeleton.parents.tolist()]
        positions = self.skeleton.rest.positions[0]
        return pandas.DataFrame(
            {
                "bone": self.skeleton.names,
                "parent": parents,
                **{axis: positions[:, i] for i, axis in enumerate("xyz")},
                "end": [bone in self.skeleton.ends for bone in range(len(self.skeleton))],
            }
        )

    def __repr__(self) -> str:
        vertices = sum(len(mesh.vertices) for mesh in self.meshes)
        return f"<Figure {self.name!r}: {self.height_m:.2f} m, {len(self.skeleton)} bones, {vertices} vertices>"

    def _repr_html_(self) -> str:
        facts = {
            "height": f"{self.height_m:.2f} m",
            "bones": len(self.skeleton),
            "meshes": len(self.meshes),
            "vertices": sum(len(mesh.vertices) for mesh in self.meshes),
            "morphs": sum(len(mesh.morph_names) for mesh in self.meshes),
            "space": str(self.space),
        }
        return html_card("Figure", self.name, facts)


def skin_matrices(mesh: Mesh, world: WorldTransforms, frame: int) -> Floats:
    """What each bone does to the vertices bound to it in one frame: ``(bones, 3, 4)``."""
    turn = matrix_from_quaternion(world.rotation_tracks[:, :, frame])
    out = turn @ mesh.bind_matrices[:, :3]
    out[:, :, 3] += world.position_tracks[:, :, frame]
    return out


def deformed_vertices(
    mesh: Mesh, world: WorldTransforms, frame: int, poses: Poses | None = None, mesh_index: int = 0
) -> Floats:
    """Vertices ``(n, 3)`` of a mesh in one frame: morph targets first, then linear blend skinning.

    Morph weights come from the morph track of ``poses`` for mesh ``mesh_index``, else from the rest weights.
    """
    vertices = mesh.vertices
    if mesh.morph_deltas is not None and len(mesh.morph_names):
        weights = mesh.morph_weights if mesh.morph_weights is not None else np.zeros(len(mesh.morph_names))
        for track in poses.morph_tracks if poses is not None else ():
            if track.mesh == mesh_index:
                weights = track.weights[:, frame]
        if np.any(weights):
            vertices = vertices + np.einsum("m,mnc->nc", weights, mesh.morph_deltas)
    matrices = skin_matrices(mesh, world, frame)
    out = np.zeros_like(vertices)
    for joint, weight in zip(mesh.joints.T, mesh.weights.T, strict=True):
        used = np.flatnonzero(weight)
        per_vertex = matrices[joint[used]]
        moved = np.einsum("nij,nj->ni", per_vertex[:, :, :3], vertices[used]) + per_vertex[:, :, 3]
        out[used] += weight[used, None] * moved
    return out


def vertex_normals(vertices: Floats, triangles: Integers) -> Floats:
    """Unit normals ``(n, 3)``, the mean of the faces around each vertex by their area."""
    a, b, c = vertices[triangles.T]
    face = np.cross(b - a, c - a)
    out = np.zeros_like(vertices)
    for corner in triangles.T:
        for axis in range(3):
            out[:, axis] += np.bincount(corner, face[:, axis], len(vertices))
    return normalized(out)
