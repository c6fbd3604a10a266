"""Meshes: skinned surfaces with their materials and morphs, and their vertices in any pose."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any, Literal

import numpy as np

from fairswap.model.arrays import Floats, Integers, Value, read_only
from fairswap.model.caching import kept_with_its_argument
from fairswap.model.poses import Poses
from fairswap.model.rotation import matrix_from_quaternion, normalized
from fairswap.model.skeleton import WorldTransforms

Blending = Literal["opaque", "mask", "blend"]
# The look of what has no material of its own: a light grey.
_PLAIN = (0.8, 0.8, 0.8)
# Numbers in a table of weights: 64 MB.
_LARGEST_TABLE = 8_000_000


@dataclass(frozen=True, eq=False)
class Material(Value):
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
    blending : ``"opaque"``, ``"mask"`` or ``"blend"``
        Whether what is behind shows through: nowhere; where the opacity is below ``cutoff``; by the opacity, which is
        ``alpha`` times the texture's.
    two_sided : bool
        Whether it is seen from behind, too.
    uv_set : int
        Which texture coordinates its colour picture takes: those of the mesh, or ``TEXCOORD_1`` and so on of its
        ``more``.
    uv_transform : array (2, 3) or None
        What they are multiplied with before, ``(u, v, 1)`` to ``(u, v)``.
    """

    triangles: slice
    color: Floats
    texture: bytes | None = None
    origin: Any = None
    images: Mapping[int, bytes] | None = None
    blending: Blending = "opaque"
    alpha: float = 1.0
    cutoff: float = 0.5
    two_sided: bool = False
    uv_set: int = 0
    uv_transform: Floats | None = None

    def __post_init__(self) -> None:
        self.freeze("color", (3,))
        if self.uv_transform is not None:
            self.freeze("uv_transform", (2, 3))


@dataclass(frozen=True, eq=False)
class Mesh(Value):
    """A skinned mesh, in metres and upright, in the pose it was bound in.

    >>> import fairswap
    >>> mesh = fairswap.load(fairswap.demo_file("pip.glb")).figure.meshes[0]
    >>> mesh.vertices.shape, mesh.triangles.shape
    ((7258, 3), (11000, 3))

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
    more : mapping of str to (n, k) array
        What else the file says of each vertex, by the names of the format: colours, further texture coordinates, data
        of other programs. Nothing here looks at it; it goes along.
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
    more: Mapping[str, Floats] = field(default_factory=dict)
    skinned: bool = True
    origin: Any = None

    def __post_init__(self) -> None:
        self.freeze("vertices", ("vertices", 3))
        count = len(self.vertices)
        self.freeze("normals", (count, 3))
        self.freeze("triangles", ("triangles", 3), integers=True)
        self.freeze("bind_matrices", ("bones", 4, 4))
        self.freeze("joints", (count, "influences"), integers=True)
        self.freeze("weights", self.joints.shape)
        for name, shape in (
            ("uvs", (count, 2)),
            ("tangents", (count, 4)),
            ("morph_deltas", (len(self.morph_names), count, 3)),
            ("morph_normals", (len(self.morph_names), count, 3)),
            ("morph_weights", (len(self.morph_names),)),
        ):
            if getattr(self, name) is not None:
                self.freeze(name, shape)
        if any(len(values) != count for values in self.more.values()):
            raise self.wrong("there is more said of other vertices than it has")
        if self.morph_names and self.morph_deltas is None:
            raise self.wrong("its morphs have names but no deltas")
        if self.triangles.size and not (self.triangles.min() >= 0 and self.triangles.max() < count):
            raise self.wrong("a triangle names a vertex that is not there")
        if self.joints.size and not (self.joints.min() >= 0 and self.joints.max() < len(self.bind_matrices)):
            raise self.wrong("joints name a bone that is not there")
        if count and np.abs(self.weights.sum(axis=1) - 1.0).max() > 1e-3:
            raise self.wrong("the weights of a vertex do not sum to 1")
        if not self.materials and len(self.triangles):
            plain = Material(slice(0, len(self.triangles)), np.array(_PLAIN))
            object.__setattr__(self, "materials", (plain,))

    @cached_property
    def shown_uvs(self) -> Floats | None:
        """Texture coordinates ``(n, 2)`` as the colour pictures of the materials take them."""
        if all(row.uv_set == 0 and row.uv_transform is None for row in self.materials):
            return self.uvs
        out = np.zeros((len(self.vertices), 2)) if self.uvs is None else self.uvs.copy()
        for row in self.materials:
            own = self.more.get(f"TEXCOORD_{row.uv_set}") if row.uv_set else self.uvs
            vertices = np.unique(self.triangles[row.triangles])
            if own is not None:
                out[vertices] = own[vertices, :2]
            if row.uv_transform is not None:
                out[vertices] = out[vertices] @ row.uv_transform[:, :2].T + row.uv_transform[:, 2]
        return read_only(out)

    @property
    def resting_weights(self) -> Floats:
        """How much of each morph is shown where nothing moves it, ``(morphs,)``."""
        return np.zeros(len(self.morph_names)) if self.morph_weights is None else self.morph_weights

    @property
    def main_bones(self) -> Integers:
        """The bone that holds each vertex more than others do, ``(n,)``."""
        return self.joints[np.arange(len(self.joints)), np.argmax(self.weights, axis=1)]

    def __repr__(self) -> str:
        morphs = f", {len(self.morph_names)} morphs" if self.morph_names else ""
        return f"<Mesh {self.name!r}: {len(self.vertices)} vertices, {len(self.triangles)} triangles{morphs}>"


def gathered(mesh: Mesh) -> Mesh:
    """The mesh with the vertices that no triangle shows put to one that is shown: left where they are, they would count
    in its height, or as the sole of a foot."""
    corners = mesh.triangles
    shown = np.zeros(len(mesh.vertices), dtype=bool)
    drawn = (corners != np.roll(corners, 1, axis=1)).all(axis=1)
    shown[corners[drawn]] = True
    if shown.all() or not shown.any():
        return mesh
    taken = np.where(shown, np.arange(len(shown)), int(np.argmax(shown)))
    deltas = None if mesh.morph_deltas is None else mesh.morph_deltas[:, taken]
    return replace(
        mesh, vertices=mesh.vertices[taken], joints=mesh.joints[taken], weights=mesh.weights[taken], morph_deltas=deltas
    )


def skin_matrices(mesh: Mesh, world: WorldTransforms, frame: int) -> Floats:
    """What each bone does to the vertices bound to it in one frame: ``(bones, 3, 4)``."""
    return all_skin_matrices(mesh, world, slice(frame, frame + 1))[0]


def all_skin_matrices(mesh: Mesh, world: WorldTransforms, frames: slice = slice(None)) -> Floats:
    """What each bone does to the vertices bound to it in many frames: ``(frames, bones, 3, 4)``."""
    turn = matrix_from_quaternion(world.rotation_tracks[:, :, frames].transpose(2, 0, 1))
    for bone, matrices in world.stretched.items():
        turn[:, bone] = matrices[:, :, frames].transpose(2, 0, 1)
    out = turn @ mesh.bind_matrices[:, :3]
    out[..., 3] += world.position_tracks[:, :, frames].transpose(2, 0, 1)
    return out


def weight_on_bones(mesh: Mesh, bones: int) -> Floats:
    """How much of a mesh hangs on each bone ``(bones,)``, in vertices."""
    return np.bincount(mesh.joints.ravel(), mesh.weights.ravel(), bones).astype(np.float64)


def strongest(joints: Integers, weights: Floats, most: int | None = None) -> tuple[Integers, Floats]:
    """The ``most`` largest weights of each vertex with their bones, the largest first; without, as many as any has."""
    if most is None:
        most = int(np.count_nonzero(weights, axis=1).max(initial=1))
    order = np.argsort(-weights, axis=1, kind="stable")[:, :most]
    return np.take_along_axis(joints, order, axis=1), np.take_along_axis(weights, order, axis=1)


def weights_over_time(mesh: Mesh, number: int, poses: Poses) -> Floats:
    """How much each morph of mesh ``number`` is shown, ``(morphs, frames)``: as its track says, else as it rests."""
    track = poses.morph_track(number)
    return np.repeat(mesh.resting_weights[:, None], poses.frames, axis=1) if track is None else track


def with_weights(mesh: Mesh, number: int, poses: Poses, shown: Mapping[str, Floats]) -> Floats:
    """Weights over time ``(morphs, frames)``, but of some morphs, by name, those that are given ``(frames,)``."""
    out = weights_over_time(mesh, number, poses).copy()
    for row, name in enumerate(mesh.morph_names):
        if name in shown:
            out[row] = shown[name]
    return out


def deformed_vertices(
    mesh: Mesh, world: WorldTransforms, frame: int, poses: Poses | None = None, mesh_index: int = 0
) -> Floats:
    """Vertices ``(n, 3)`` of a mesh in one frame: morph targets first, then linear blend skinning.

    Morph weights come from the morph track of ``poses`` for mesh ``mesh_index``, else from the rest weights.
    """
    vertices = mesh.vertices
    if mesh.morph_deltas is not None and len(mesh.morph_names):
        track = None if poses is None else poses.morph_track(mesh_index)
        weights = mesh.resting_weights if track is None else track[:, frame]
        active = np.flatnonzero(weights)
        if len(active):
            vertices = vertices + sum(weights[morph] * mesh.morph_deltas[morph] for morph in active)
    matrices = skin_matrices(mesh, world, frame).reshape(-1, 12)
    bones, table = _weight_table(mesh)
    if table is not None:
        blended = matrices[bones].T @ table
    else:  # so many that a table of all would fill the memory
        blended = np.zeros((12, len(vertices)))
        for joint, weight in zip(mesh.joints.T, mesh.weights.T, strict=True):
            blended += weight * matrices[joint].T
    # Components first, so that each line runs over all vertices as they lie in memory.
    rows = blended.reshape(3, 4, -1)
    out = rows[:, 3]
    for axis, along in enumerate(np.ascontiguousarray(vertices.T)):
        out += rows[:, axis] * along
    return np.ascontiguousarray(out.T)


@kept_with_its_argument
def _weight_table(mesh: Mesh) -> tuple[Integers, Floats | None]:
    """The bones that move a mesh, and how much each of them moves each vertex ``(bones, n)``; None where that is too
    much to keep."""
    bones, column = np.unique(mesh.joints, return_inverse=True)
    if len(mesh.vertices) * len(bones) > _LARGEST_TABLE:
        return bones, None
    table = np.zeros((len(bones), len(mesh.vertices)))
    vertices = np.arange(len(mesh.vertices))
    for bone, weight in zip(column.reshape(mesh.joints.shape).T, mesh.weights.T, strict=True):
        table[bone, vertices] += weight
    return bones, table


def shaped_at_rest(mesh: Mesh, names: Collection[str] | None = None) -> Mesh:
    """A mesh that has of itself the shape which morphs (some, by name) give it at rest: then those rest at nothing."""
    taken = np.array([names is None or name in names for name in mesh.morph_names], dtype=bool)
    shares = np.where(taken, mesh.resting_weights, 0.0)
    if mesh.morph_deltas is None or not shares.any():
        return mesh
    vertices, normals = mesh.vertices + np.tensordot(shares, mesh.morph_deltas, 1), mesh.normals
    if mesh.morph_normals is not None:
        normals = unit_normals(normals + np.tensordot(shares, mesh.morph_normals, 1), vertices, mesh.triangles)
    return replace(mesh, vertices=vertices, normals=normals, morph_weights=np.where(taken, 0.0, mesh.resting_weights))


def vertex_normals(vertices: Floats, triangles: Integers) -> Floats:
    """Unit normals ``(n, 3)``, the mean of the faces around each vertex by their area."""
    a, b, c = vertices[triangles.T]
    face = np.cross(b - a, c - a)
    out = np.zeros_like(vertices)
    for corner in triangles.T:
        for axis in range(3):
            out[:, axis] += np.bincount(corner, face[:, axis], len(vertices))
    return normalized(out)


def unit_normals(normals: Floats, vertices: Floats, triangles: Integers) -> Floats:
    """Normals ``(n, 3)`` at unit length. Where they say nothing, those of the faces around count, or else upward: files
    are not allowed to hold others."""
    out = normalized(np.nan_to_num(normals, posinf=0.0, neginf=0.0))
    silent = ~out.any(axis=1)
    if silent.any():
        out[silent] = vertex_normals(vertices, triangles)[silent]
        out[~out.any(axis=1)] = (0.0, 1.0, 0.0)
    return out
