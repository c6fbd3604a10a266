"""A scene of another format, built up as a glTF document in memory, for the one reader of nodes, skins and keys."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import msgspec
import numpy as np

from fairswap.errors import InputError
from fairswap.formats.gltf.container import Container
from fairswap.formats.gltf.materials import see_through
from fairswap.formats.gltf.packing import ELEMENT_ARRAY_BUFFER, Packer
from fairswap.formats.gltf.schema import Document
from fairswap.formats.images import as_png_or_jpeg, media_type
from fairswap.formats.limits import LARGEST_NUMBER, mesh_numbers
from fairswap.formats.marks import MARK, RECORD
from fairswap.formats.naming import all_in_unicode
from fairswap.model.arrays import Floats, Integers
from fairswap.model.mesh import Blending, unit_normals
from fairswap.model.rotation import matrix_from_quaternion, rotation_from_stretched, without_sign_jumps


@dataclass
class Surface:
    """Vertices with all that is said of them, and runs of triangles that have one material each.

    ``positions`` and ``normals`` are ``(n, 3)``; ``uvs`` ``(n, 2)`` count from the upper edge of the picture;
    ``colors`` are ``(n, 3)`` or ``(n, 4)``, linear; ``joints`` and ``weights`` are ``(n, k)``; ``morphs`` are shifts
    ``(n, 3)`` by name, each with shifts of the normals or None.
    """

    positions: Floats
    runs: list[tuple[Integers, int | None]]
    normals: Floats | None = None
    uvs: Floats | None = None
    colors: Floats | None = None
    joints: Integers | None = None
    weights: Floats | None = None
    morphs: dict[str, tuple[Floats, Floats | None]] = field(default_factory=dict)
    morph_weights: Sequence[float] = ()


@dataclass(frozen=True)
class Look:
    """A material as formats of scenes have it: a colour with opacity, or the picture of it; how it blends."""

    name: str
    color: tuple[float, float, float] = (0.8, 0.8, 0.8)
    alpha: float = 1.0
    picture: bytes | None = None
    blending: Blending = "opaque"
    cutoff: float = 0.5
    two_sided: bool = False
    glow: tuple[float, float, float] = (0.0, 0.0, 0.0)
    normal_picture: bytes | None = None
    roughness: float = 0.9
    metallic: float = 0.0
    maps: Mapping[str, bytes] = field(default_factory=dict)  # glow, occlusion, surface: as of the glTF materials' Maps


class SceneBuilder:
    """Grows a glTF document by nodes, meshes, skins and animations; each call gives the number of what it made.

    What is shared in a file may be there very often: of one of ``file_bytes`` only so many numbers are made.
    """

    def __init__(self, file_bytes: int) -> None:
        self._room = mesh_numbers(file_bytes)
        self.raw: dict[str, Any] = {"asset": {"version": "2.0"}, "scene": 0, "scenes": [{"nodes": []}], "nodes": []}
        self.packer = Packer()
        self._pictures: dict[bytes, int] = {}

    def written_by_us(self, mark: list[float] | None) -> None:
        """The document says so, and how its figure stands."""
        self.raw["asset"]["extras"] = {RECORD: {MARK: mark}}

    def node(self, name: str, parent: int | None = None, matrix: Floats | None = None, **more: Any) -> int:
        """A node below ``parent``, with its local ``matrix`` ``(4, 4)`` or ``translation``, ``rotation``, ``scale``."""
        row: dict[str, Any] = {"name": name}
        if matrix is not None and not np.allclose(matrix, np.eye(4), rtol=0.0, atol=1e-15):
            row["matrix"] = matrix.T.ravel().tolist()
        row |= {key: np.asarray(value, dtype=np.float64).tolist() for key, value in more.items()}
        nodes: list[dict[str, Any]] = self.raw["nodes"]
        nodes.append(row)
        number = len(nodes) - 1
        if parent is None:
            self.raw["scenes"][0]["nodes"].append(number)
        else:
            nodes[parent].setdefault("children", []).append(number)
        return number

    def look(self, look: Look) -> int:
        """A material."""
        shading: dict[str, Any] = {"metallicFactor": look.metallic, "roughnessFactor": look.roughness}
        row: dict[str, Any] = {"name": look.name, "pbrMetallicRoughness": shading}
        shading["baseColorFactor"] = [*look.color, look.alpha]
        if look.picture is not None:
            shading["baseColorTexture"] = {"index": self._texture(look.picture)}
        if look.normal_picture is not None:
            row["normalTexture"] = {"index": self._texture(look.normal_picture)}
        for name, key in (("glow", "emissiveTexture"), ("occlusion", "occlusionTexture")):
            if name in look.maps:
                row[key] = {"index": self._texture(look.maps[name])}
        if "surface" in look.maps:
            shading["metallicRoughnessTexture"] = {"index": self._texture(look.maps["surface"])}
            shading |= {"metallicFactor": 1.0, "roughnessFactor": 1.0}
        if any(look.glow):
            row["emissiveFactor"] = list(look.glow)
        return self._row("materials", row | see_through(look.blending, look.cutoff, look.two_sided))

    def mesh(self, name: str, surface: Surface) -> int:
        """A mesh of one surface.

        Raises
        ------
        InputError
            If its meshes are more, all together, than those of such a file can be.
        """
        count = len(surface.positions)
        self._room -= count * (12 + 6 * len(surface.morphs)) + 3 * sum(len(rows) for rows, _ in surface.runs)
        if self._room < 0:
            problem = "its meshes are there so often that they would fill the memory"
            raise InputError(problem, remedy="Export it with fewer copies or morphs")
        attributes = {"POSITION": self.packer.attribute(_f4(surface.positions), bounds=True)}
        if surface.normals is not None:
            faces = np.concatenate([triangles for triangles, _ in surface.runs])
            attributes["NORMAL"] = self.packer.attribute(_f4(unit_normals(surface.normals, surface.positions, faces)))
        if surface.uvs is not None:
            attributes["TEXCOORD_0"] = self.packer.attribute(_f4(surface.uvs))
        if surface.colors is not None:
            attributes["COLOR_0"] = self.packer.attribute(_f4(surface.colors))
        if surface.joints is not None and surface.weights is not None:
            attributes |= self.packer.skin(surface.joints.astype("<u2"), surface.weights)
        targets = []
        for shifts, turns in surface.morphs.values():
            targets.append({"POSITION": self.packer.attribute(_f4(shifts), bounds=True)})
            if turns is not None:
                targets[-1]["NORMAL"] = self.packer.attribute(_f4(turns))
        row: dict[str, Any] = {"name": name, "primitives": []}
        for triangles, material in surface.runs:
            faces = triangles.reshape(-1, 1).astype("<u2" if count < 65535 else "<u4")
            primitive: dict[str, Any] = {
                "attributes": dict(attributes),
                "indices": self.packer.attribute(faces, ELEMENT_ARRAY_BUFFER),
            }
            if material is not None:
                primitive["material"] = material
            if targets:
                primitive["targets"] = targets
            row["primitives"].append(primitive)
        if targets:
            row["extras"] = {"targetNames": list(surface.morphs)}
            row["weights"] = list(map(float, surface.morph_weights)) or [0.0] * len(targets)
        return self._row("meshes", row)

    def skin(self, joints: Sequence[int], bound: Floats) -> int:
        """A skin: nodes, and the matrices ``(joints, 4, 4)`` in which each of them stood when the mesh was bound."""
        binds = np.linalg.inv(bound).astype(np.float64)
        matrices = self.packer.attribute(_f4(binds.transpose(0, 2, 1).reshape(-1, 16)), target=None)
        return self._row("skins", {"joints": list(joints), "inverseBindMatrices": matrices})

    def hang(self, node: int, mesh: int, skin: int | None = None) -> None:
        """Put a mesh on a node, bound by a skin or as a whole."""
        self.raw["nodes"][node] |= {"mesh": mesh} | ({} if skin is None else {"skin": skin})

    def animation(
        self,
        name: str,
        channels: Sequence[tuple[int, str, Floats, Floats, str]],
        made: Mapping[str, Any] | None = None,
    ) -> int:
        """Keys: node, path (``rotation``, ``translation``, ``scale``, ``weights``), times, values, interpolation; and
        what the clip brings along about how it was made."""
        row: dict[str, Any] = {"name": name, "channels": [], "samplers": []} | ({"extras": made} if made else {})
        times_done: dict[bytes, int] = {}
        for node, path, times, values, interpolation in channels:
            seconds = _f4(times)
            key = seconds.tobytes()
            if key not in times_done:
                times_done[key] = self.packer.attribute(seconds.reshape(-1, 1), target=None, bounds=True)
            data = _f4(values).reshape(-1, 1) if path == "weights" else _f4(values)
            output = self.packer.attribute(data, target=None)
            row["samplers"].append({"input": times_done[key], "output": output, "interpolation": interpolation})
            row["channels"].append({"sampler": len(row["samplers"]) - 1, "target": {"node": node, "path": path}})
        return self._row("animations", row)

    def container(
        self, path: Path, format: str, *, beside: Sequence[str] = (), says_forward: bool = False
    ) -> Container:
        """The document, as if it had been read from ``path``."""
        raw = all_in_unicode(self.raw)
        raw |= {"accessors": self.packer.accessors, "bufferViews": self.packer.views}
        raw["buffers"] = [{"byteLength": self.packer.length}]
        data = (memoryview(b"".join(self.packer.chunks)),)
        return Container(path, raw, msgspec.convert(raw, Document), data, format, tuple(beside), says_forward)

    def _texture(self, picture: bytes) -> int:
        if picture not in self._pictures:
            data = as_png_or_jpeg(picture)
            kind = media_type(data) or "image/jpeg"
            image = self._row("images", {"bufferView": self.packer.view(data), "mimeType": kind})
            self._pictures[picture] = self._row("textures", {"source": image})
        return self._pictures[picture]

    def _row(self, table: str, row: dict[str, Any]) -> int:
        rows: list[dict[str, Any]] = self.raw.setdefault(table, [])
        rows.append(row)
        return len(rows) - 1


def trs_from_matrices(matrices: Floats) -> tuple[Floats, Floats, Floats]:
    """Translations ``(n, 3)``, rotations ``(n, 4)`` and scales ``(n, 3)`` of matrices ``(n, 4, 4)``.

    The rotation is the nearest one; that of a mirrored matrix has a scale that is negative along all axes.
    """
    linear = matrices[:, :3, :3]
    turns = rotation_from_stretched(linear * np.where(np.linalg.det(linear) < 0.0, -1.0, 1.0)[:, None, None])
    scales = np.einsum("nji,nji->ni", matrix_from_quaternion(turns), linear)
    return matrices[:, :3, 3].copy(), without_sign_jumps(turns.T).T, scales


def _f4(values: Floats) -> np.ndarray[Any, Any]:
    """Numbers as they are stored; what single precision, or any scene, cannot hold is refused."""
    if values.size and not np.abs(values).max() <= LARGEST_NUMBER:  # NaN is not, either
        raise InputError("a number of it is not finite, or beyond all sizes", remedy="Export the file again")
    return np.ascontiguousarray(values, dtype="<f4")
