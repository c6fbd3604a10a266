"""Meshes of a figure: attributes, skin weights, morph targets and looks, upright and in metres."""

from __future__ import annotations

import re
from dataclasses import replace
from typing import Any

import numpy as np

from fairswap.errors import Finding, InputError
from fairswap.formats.gltf.accessors import array_from_accessor, floats_from_accessor, item, view_bytes
from fairswap.formats.gltf.binding import Bound, bind_spaces
from fairswap.formats.gltf.container import Container, bytes_from_uri
from fairswap.formats.gltf.folding import Fold
from fairswap.formats.gltf.materials import BLENDINGS, MaterialOrigin, coordinates_of, shown_image, undrawn_kind
from fairswap.formats.gltf.nodes import FigureNodes, Tree, shown_nodes
from fairswap.formats.gltf.patching import MeshOrigin
from fairswap.formats.gltf.schema import Primitive
from fairswap.formats.gltf.weighing import whole_weights
from fairswap.formats.limits import mesh_numbers
from fairswap.model.arrays import Floats, Integers, read_only
from fairswap.model.mesh import Material, Mesh, gathered, vertex_normals
from fairswap.model.rotation import normalized
from fairswap.model.skeleton import Skeleton
from fairswap.wording import counted

_AGAIN = "Export the file again"


def weights_width_by_node(container: Container) -> dict[int, int]:
    """The number of morph targets of the mesh on each node that has any."""
    document = container.document
    widths = {}
    for index, node in enumerate(document.nodes):
        if node.mesh is not None:
            mesh = item(document.meshes, node.mesh, "mesh", f"nodes[{index}]")
            if mesh.primitives and mesh.primitives[0].targets:
                widths[index] = len(mesh.primitives[0].targets)
    return widths


def read_meshes(
    container: Container,
    tree: Tree,
    own: FigureNodes,
    bone_of: dict[int, int],
    fold: Fold,
    skeleton: Skeleton,
    to_ours: Floats,
    findings: list[Finding],
) -> tuple[tuple[Mesh, ...], tuple[int, ...]]:
    """The meshes skinned to, or hung on, the bones of a figure; and the node of each."""
    document = container.document
    found: list[tuple[int, MeshParts, int | Bound]] = []
    numbers = 0
    for index in tree.order:
        node = document.nodes[index]
        if node.mesh is None:
            continue
        holder = index
        while holder >= 0 and holder not in bone_of:
            holder = tree.parents[holder]
        if node.skin is not None:
            item(document.skins, node.skin, "skin", f"nodes[{index}]")
            if node.skin not in own.skins:
                continue
        elif holder < 0:
            continue
        numbers = check_numbers(container, index, numbers)
        parts = MeshParts(container, node.mesh, findings)
        if not len(parts.triangles):
            continue
        if node.skin is None:
            found.append((index, parts, bone_of[holder]))
        else:
            parts.check_skin(findings)
            found.append((index, parts, _bound(container, tree, own, index, bone_of, parts)))
    shown = shown_nodes(document, tree)
    seen = [row for row in found if shown[row[0]]] or found
    if len(seen) < len(found):
        names = [document.nodes[index].name or f"nodes[{index}]" for index, _, _ in found if not shown[index]]
        message = f"it hides {counted(len(names), 'mesh', 'meshes')} ({', '.join(names[:3])}); left out"
        findings.append(Finding("hidden-left-out", "note", container.path.name, message))
        found = seen
    skins = [held for _, _, held in found if isinstance(held, Bound)]
    spaces = dict(zip(map(id, skins), bind_spaces(skins), strict=True))
    meshes = []
    for index, parts, held in found:
        binds = np.tile(np.eye(4), (len(skeleton), 1, 1))
        if isinstance(held, Bound):
            matrix, joints, weights = spaces[id(held)], held.bones[parts.joints], parts.weights
            binds[held.bones, :3] = fold.residual[held.bones] @ held.binds[:, :3]
        else:
            matrix = tree.world[index]
            joints = np.full((len(parts.vertices), 1), held, dtype=np.intp)
            weights = np.ones((len(parts.vertices), 1))
            binds[held, :3] = fold.residual[held] @ (np.linalg.inv(tree.world[own.nodes[held]]) @ matrix)[:3]
        upright = np.eye(4)
        upright[:3] = to_ours @ matrix[:3]
        if abs(np.linalg.det(upright[:3, :3])) < 1e-18:
            raise InputError("the mesh is squeezed flat by its node", place=f"nodes[{index}]", remedy=_AGAIN)
        node = document.nodes[index]
        title = node.name or document.meshes[node.mesh or 0].name
        made = parts.mesh(title, upright, joints, weights, binds, isinstance(held, Bound))
        if node.weights is not None and len(node.weights) == parts.targets:
            made = replace(made, morph_weights=np.array(node.weights, dtype=np.float64))
        meshes.append(made)
    return tuple(meshes), tuple(index for index, _, _ in found)


def check_numbers(container: Container, node: int, numbers: int) -> int:
    """About how many numbers the meshes take in memory with that of one more node.

    Raises
    ------
    InputError
        If they are more than a file of its size can mean.
    """
    numbers += _numbers_of(container, container.document.nodes[node].mesh or 0)
    if numbers > mesh_numbers(container.size):
        problem = f"its meshes and morphs share data so often that they make over {numbers} numbers"
        raise InputError(problem, place=f"nodes[{node}]", remedy="Export it with fewer copies or morphs")
    return numbers


def _numbers_of(container: Container, index: int) -> int:
    """About how many numbers a mesh takes in memory; what morphs share counts more, since they may share all."""
    document, numbers, size = container.document, 0, container.size
    for primitive in item(document.meshes, index, "mesh", "nodes").primitives:
        place = f"meshes[{index}]"
        count = item(document.accessors, primitive.attributes.get("POSITION", 0), "accessor", place).count
        if count > size:
            return 0  # more than the file holds: whoever reads it will say so
        shifts = [number for target in primitive.targets for number in target.values()]
        numbers += count * (30 + 3 * len(set(shifts)) + 12 * (len(shifts) - len(set(shifts))))
    return numbers


def _bound(
    container: Container, tree: Tree, own: FigureNodes, index: int, bone_of: dict[int, int], parts: MeshParts
) -> Bound:
    """How the skinned mesh of a node hangs on its bones."""
    node = container.document.nodes[index]
    bones, binds = _skin(container, tree, node.skin or 0, bone_of)
    joints = parts.joints
    if len(joints) and int(joints.max()) >= len(bones):
        problem = f"a vertex names joint {int(joints.max())}, the skin has {len(bones)}"
        raise InputError(problem, place=f"meshes[{node.mesh}]", remedy=_AGAIN)
    heaviest = int(np.argmax(np.bincount(joints.ravel(), parts.weights.ravel(), len(bones))))
    above = tree.parents[own.nodes[0]]
    stands = (tree.world[index], np.eye(4), tree.world[above] if above >= 0 else np.eye(4))
    return Bound(bones, binds, tree.world[[own.nodes[bone] for bone in bones.tolist()]], heaviest, stands)


def _skin(container: Container, tree: Tree, index: int, bone_of: dict[int, int]) -> tuple[Integers, Floats]:
    skin = container.document.skins[index]
    bones = np.array([bone_of[joint] for joint in skin.joints], dtype=np.intp)
    if skin.inverse_bind_matrices is None:
        return bones, np.broadcast_to(np.eye(4), (len(bones), 4, 4))
    place = f"skins[{index}].inverseBindMatrices"
    values = floats_from_accessor(container, skin.inverse_bind_matrices, place, 16)
    if len(values) < len(bones):
        raise InputError(f"{len(values)} matrices for {len(bones)} joints", place=place, remedy=_AGAIN)
    return bones, values[: len(bones)].reshape(-1, 4, 4).transpose(0, 2, 1)


class MeshParts:
    """The primitives of one mesh, joined."""

    def __init__(self, container: Container, index: int, findings: list[Finding]) -> None:
        self.container, self.index = container, index
        mesh = item(container.document.meshes, index, "mesh", "nodes")
        self.rest_weights = mesh.weights
        names = mesh.extras.get("targetNames") if isinstance(mesh.extras, dict) else None
        self.targets = max((len(primitive.targets) for primitive in mesh.primitives), default=0)
        self.target_names = [str(name) for name in names][: self.targets] if isinstance(names, list) else []
        columns: dict[str, list[Any]] = {
            key: []
            for key in (
                "vertices",
                "normals",
                "uvs",
                "joints",
                "weights",
                "morphs",
                "tangents",
                "morph_normals",
                "more",
            )
        }
        triangles: list[Integers] = []
        self.materials: list[Material] = []
        start, rows = 0, 0
        self.runs: list[tuple[int, int, int]] = []
        seen: dict[str, int] = {}
        for number, primitive in enumerate(mesh.primitives):
            if primitive.mode not in (4, 5, 6) or "POSITION" not in primitive.attributes:
                continue
            place = f"meshes[{index}].primitives[{number}]"
            # Primitives that share their vertices are stored once.
            key = repr((sorted(primitive.attributes.items()), primitive.targets))
            if key not in seen:
                seen[key] = start
                start += self._read_vertices(primitive, place, columns)
            count = start - seen[key]
            self.runs.append((number, seen[key], count))
            faces = self._triangles(primitive, place, count) + seen[key]
            triangles.append(faces)
            self.materials.append(
                _material(container, primitive.material, slice(rows, rows + len(faces)), place, findings)
            )
            rows += len(faces)
        self.triangles = np.concatenate(triangles) if triangles else np.empty((0, 3), dtype=np.intp)
        if not len(self.triangles):
            return
        self.vertices = np.concatenate(columns["vertices"])
        self.normals = np.concatenate(columns["normals"])
        self.uvs = np.concatenate(columns["uvs"])
        width = max(block.shape[1] for block in columns["joints"])
        self.joints = np.concatenate([_widened(block, width) for block in columns["joints"]]).astype(np.intp)
        self.weights = np.concatenate([_widened(block, width) for block in columns["weights"]])
        self.morph_deltas = np.concatenate(columns["morphs"], axis=1) if self.targets else None
        with_normals = any("NORMAL" in target for part in mesh.primitives for target in part.targets)
        self.morph_normals = np.concatenate(columns["morph_normals"], axis=1) if with_normals else None
        self.tangents = np.concatenate(columns["tangents"])
        self.more = _joined(columns["more"], [len(part) for part in columns["vertices"]])

    def _read_vertices(self, primitive: Primitive, place: str, columns: dict[str, list[Any]]) -> int:
        container, attributes = self.container, primitive.attributes
        vertices = floats_from_accessor(container, attributes["POSITION"], f"{place}.POSITION", 3)
        count = len(vertices)

        def other(name: str, width: int | None) -> Floats | None:
            if name not in attributes:
                return None
            values = floats_from_accessor(container, attributes[name], f"{place}.{name}", width)
            if len(values) != count:
                raise InputError(f"{name} has {len(values)} entries for {count} vertices", place=place, remedy=_AGAIN)
            return values

        normals = other("NORMAL", 3)
        uvs = other("TEXCOORD_0", 2)
        joints, weights = [], []
        for number in range(64):
            more, how_much = other(f"JOINTS_{number}", 4), other(f"WEIGHTS_{number}", 4)
            if more is None or how_much is None:
                break
            joints.append(more)
            weights.append(how_much)
        columns["vertices"].append(vertices)
        columns["normals"].append(np.full((count, 3), np.nan) if normals is None else normals)
        columns["uvs"].append(np.zeros((count, 2)) if uvs is None else uvs)
        columns["joints"].append(np.concatenate(joints, axis=1) if joints else np.zeros((count, 1)))
        columns["weights"].append(np.concatenate(weights, axis=1) if weights else np.zeros((count, 1)))
        tangents = other("TANGENT", 4)
        columns["tangents"].append(np.zeros((count, 4)) if tangents is None else tangents)
        further = [name for name in attributes if re.fullmatch(r"COLOR_\d+|TEXCOORD_[1-9]\d*|_.*", name)]
        found = {name: other(name, None) for name in further}
        columns["more"].append({name: values for name, values in found.items() if values is not None})
        for name, column in (("POSITION", "morphs"), ("NORMAL", "morph_normals")):
            deltas = np.zeros((self.targets, count, 3))
            for target, names in enumerate(primitive.targets):
                if name in names:
                    values = floats_from_accessor(container, names[name], f"{place}.targets[{target}]", 3)
                    if len(values) != count:
                        problem = f"{len(values)} shifts for {count} vertices"
                        raise InputError(problem, place=f"{place}.targets[{target}]", remedy=_AGAIN)
                    deltas[target] = values
            columns[column].append(deltas)
        return count

    def _triangles(self, primitive: Primitive, place: str, count: int) -> Integers:
        if primitive.indices is None:
            run = np.arange(count, dtype=np.intp)
        else:
            values = array_from_accessor(self.container, primitive.indices, f"{place}.indices", 1)
            if values.dtype.kind != "u":
                raise InputError("its indices are not unsigned integers", place=f"{place}.indices", remedy=_AGAIN)
            run = values[:, 0].astype(np.intp)
            if len(run) and int(run.max()) >= count:
                problem = f"it names vertex {int(run.max())} of {count}"
                raise InputError(problem, place=f"{place}.indices", remedy=_AGAIN)
        if primitive.mode == 4:
            return run[: len(run) // 3 * 3].reshape(-1, 3)
        if len(run) < 3:
            return np.empty((0, 3), dtype=np.intp)
        if primitive.mode == 6:
            return np.stack([np.full(len(run) - 2, run[0]), run[1:-1], run[2:]], axis=1)
        strip = np.stack([run[:-2], run[1:-1], run[2:]], axis=1)
        strip[1::2] = strip[1::2, [1, 0, 2]]  # every other one winds the other way
        return strip

    def check_skin(self, findings: list[Finding]) -> None:
        name = self.container.document.meshes[self.index].name or f"mesh {self.index}"
        self.weights, _, told = whole_weights(self.weights, name)
        findings += told

    def mesh(
        self, name: str, upright: Floats, joints: Integers, weights: Floats, bind_matrices: Floats, skinned: bool
    ) -> Mesh:
        linear = upright[:3, :3]
        vertices = self.vertices @ linear.T + upright[:3, 3]
        triangles = self.triangles if np.linalg.det(linear) > 0 else self.triangles[:, ::-1]
        normals = normalized(self.normals @ np.linalg.inv(linear))
        missing = np.isnan(normals).any(axis=1)
        if missing.any():
            normals[missing] = vertex_normals(vertices, triangles)[missing]
        rest = np.array(self.rest_weights or [0.0] * self.targets, dtype=np.float64)
        made = Mesh(
            name=name,
            vertices=vertices,
            normals=normals,
            triangles=triangles,
            joints=joints,
            weights=weights,
            bind_matrices=bind_matrices @ np.linalg.inv(upright),
            uvs=self.uvs,
            materials=tuple(self.materials),
            morph_names=tuple(
                self.target_names + [f"morph {i}" for i in range(self.targets)][len(self.target_names) :]
            ),
            morph_deltas=self.morph_deltas @ linear.T if self.morph_deltas is not None else None,
            morph_weights=np.resize(rest, self.targets) if self.targets else None,
            tangents=self._turned_tangents(linear),
            morph_normals=self.morph_normals @ np.linalg.inv(linear) if self.morph_normals is not None else None,
            more=self.more,
            skinned=skinned,
            origin=MeshOrigin(self.index, read_only(upright), tuple(self.runs)),
        )
        return gathered(made)

    def _turned_tangents(self, linear: Floats) -> Floats | None:
        if not self.tangents.any():
            return None
        return np.concatenate([normalized(self.tangents[:, :3] @ linear.T), self.tangents[:, 3:]], axis=1)


def _joined(parts: list[dict[str, Floats]], counts: list[int]) -> dict[str, Floats]:
    """What the parts of a mesh say of their vertices besides, one after another; of one name the widest counts."""
    widths: dict[str, int] = {}
    for name, values in (row for part in parts for row in part.items()):
        widths[name] = max(widths.get(name, 0), values.shape[1])
    return {
        name: np.concatenate([_filled(part.get(name), n, name, width) for part, n in zip(parts, counts, strict=True)])
        for name, width in widths.items()
    }


def _filled(values: Floats | None, count: int, name: str, width: int) -> Floats:
    """What a part of a mesh says of its vertices, or says nothing of: white, or zero."""
    if values is not None and values.shape[1] == width:
        return values
    if values is not None and name.startswith("COLOR"):  # with and without opacity, in one mesh
        return np.ones((count, width)) if width < 3 else np.concatenate([values, np.ones((count, width))], 1)[:, :width]
    return np.full((count, width), 1.0 if name.startswith("COLOR") else 0.0)


def _widened(block: Floats, width: int) -> Floats:
    return np.pad(block, ((0, 0), (0, width - block.shape[1])))


def _material(container: Container, index: int | None, rows: slice, place: str, findings: list[Finding]) -> Material:
    document = container.document
    if index is None:
        return Material(rows, np.ones(3))
    material = item(document.materials, index, "material", place)
    shading = material.pbr_metallic_roughness
    *color, alpha = (*shading.base_color_factor, 1.0, 1.0, 1.0, 1.0)[:4]
    plain = Material(
        rows, np.array(color), origin=MaterialOrigin(container, index, None),
        blending=BLENDINGS.get(material.alpha_mode, "opaque"), alpha=alpha, cutoff=material.alpha_cutoff,
        two_sided=material.double_sided,
    )  # fmt: skip
    if shading.base_color_texture is None:
        return plain
    texture = item(document.textures, shading.base_color_texture.index, "texture", f"materials[{index}]")
    source, place = shown_image(texture), f"textures[{shading.base_color_texture.index}]"
    if source is None:
        if kind := undrawn_kind(texture):
            message = f"its picture is {kind}, which is not drawn here; glTF files keep it, others lose it"
            findings.append(Finding("picture-not-drawn", "warning", place, message))
        return plain
    image = item(document.images, source, "image", place)
    where = f"images[{source}]"
    uv_set, uv_transform = coordinates_of(shading.base_color_texture)
    origin = MaterialOrigin(container, index, source)
    textured = replace(plain, origin=origin, uv_set=uv_set, uv_transform=uv_transform)
    if image.buffer_view is not None:
        return replace(textured, texture=bytes(view_bytes(container, image.buffer_view, where)))
    if image.uri is not None:
        try:
            return replace(textured, texture=bytes_from_uri(container.path, image.uri, where))
        except InputError as error:  # a figure without one of its pictures is a figure still
            findings.append(Finding("picture-missing", "warning", where, error.problem, error.remedy or ""))
    return plain
