"""From a figure and clips to COLLADA 1.4.1: joints, skins, morphs, materials, and each clip by itself."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from urllib.parse import quote
from xml.etree import ElementTree
from xml.etree.ElementTree import Element, SubElement

import numpy as np

from fairswap.errors import Finding
from fairswap.formats.archives import archive_of
from fairswap.formats.marks import GENERATOR, RECORD, mark_text
from fairswap.formats.naming import on_one_line
from fairswap.formats.scene.decided import decided_text
from fairswap.formats.scene.losses import losses
from fairswap.formats.scene.pictures import files_of_pictures, look_names, pictures_of
from fairswap.formats.scene.spaces import (
    mesh_in_space,
    moved_bones,
    rest_in_space,
    rotation_in_space,
    translation_in_space,
)
from fairswap.formats.scene.words import numbers_text, whole_text, xml_ids
from fairswap.formats.storage import Chunk
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.mesh import Material, Mesh
from fairswap.model.rotation import matrix_from_quaternion
from fairswap.model.space import OURS, Space

_UPS = {"+X": "X_UP", "+Y": "Y_UP", "+Z": "Z_UP"}
_UNITS = {
    "m": "meter",
    "dm": "decimeter",
    "cm": "centimeter",
    "mm": "millimeter",
    "in": "inch",
    "ft": "foot",
    "hm": "hm",
}
_NAMESPACE = "http://www.collada.org/2005/11/COLLADASchema"


def encode(figure: Figure, clips: Sequence[Clip], name: str, *, space: Space | None) -> dict[str, list[Chunk]]:
    """A ``.dae`` with its pictures beside it, or a ``.zae`` with all inside.

    See :func:`fairswap.formats.files.encode`.
    """
    path = Path(name)
    packed = path.suffix.lower() == ".zae"
    pictures = pictures_of(figure.meshes, path.stem)
    text = _Writer(figure, clips, space, pictures).text()
    held = files_of_pictures(pictures)
    files: dict[str, list[Chunk]] = {title: [data] for title, data in held.items()}
    if not packed:
        return files | {name: [text]}
    main = "figure.dae"
    manifest = f'<?xml version="1.0" encoding="utf-8"?>\n<dae_root>./{main}</dae_root>\n'.encode()
    parts = [("manifest.xml", manifest), (main, text), *held.items()]
    return {name: [archive_of(parts)]}


def left_out(figure: Figure, clips: Sequence[Clip]) -> list[Finding]:
    """What of a figure and its clips this format cannot hold, or we do not write into it."""
    return losses(figure, clips, "COLLADA", colors=True)


class _Writer:
    """One document while it is made."""

    def __init__(self, figure: Figure, clips: Sequence[Clip], space: Space | None, pictures: dict[bytes, str]) -> None:
        wanted = space or figure.space
        self.space = wanted if wanted.up in _UPS else OURS
        self.figure, self.clips, self.pictures = figure, clips, pictures
        self.meshes = [mesh_in_space(mesh, self.space) for mesh in figure.meshes]
        self.bone_ids = xml_ids(figure.skeleton.names)
        self.mesh_ids = xml_ids([mesh.name for mesh in self.meshes], self.bone_ids)
        self.looks = [material for mesh in self.meshes for material in mesh.materials]
        self.look_ids = xml_ids(look_names(self.looks), [*self.bone_ids, *self.mesh_ids])

    def text(self) -> bytes:
        root = Element("COLLADA", {"xmlns": _NAMESPACE, "version": "1.4.1"})
        self._asset(root)
        self._images(root)
        self._materials(root)
        geometries = SubElement(root, "library_geometries") if self.meshes else root
        controllers = SubElement(root, "library_controllers") if self.meshes else root
        start = 0
        for index, mesh in enumerate(self.meshes):
            symbols = self.look_ids[start : start + len(mesh.materials)]
            start += len(mesh.materials)
            self._geometry(geometries, index, mesh, symbols)
            self._controller(controllers, index, mesh)
        self._animations(root)
        self._scene(root)
        ElementTree.indent(root, " ")
        return b'<?xml version="1.0" encoding="utf-8"?>\n' + ElementTree.tostring(root, "utf-8") + b"\n"

    def _asset(self, root: Element) -> None:
        asset = SubElement(root, "asset")
        contributor = SubElement(asset, "contributor")
        SubElement(contributor, "authoring_tool").text = GENERATOR
        SubElement(
            contributor, "comments"
        ).text = f"facing {self.space.forward}, stands {mark_text(self.figure.skeleton.rest.positions[0])}"
        # The format asks for dates; the same work makes the same bytes, so they are none of today's.
        for name in ("created", "modified"):
            SubElement(asset, name).text = "1980-01-01T00:00:00Z"
        SubElement(asset, "unit", {"name": _UNITS[self.space.unit], "meter": f"{self.space.metres:g}"})
        SubElement(asset, "up_axis").text = _UPS[self.space.up]

    def _images(self, root: Element) -> None:
        if not self.pictures:
            return
        library = SubElement(root, "library_images")
        for title in self.pictures.values():
            image = SubElement(library, "image", {"id": _image_id(title), "name": title})
            SubElement(image, "init_from").text = quote(title)

    def _materials(self, root: Element) -> None:
        if not self.looks:
            return
        effects, materials = SubElement(root, "library_effects"), SubElement(root, "library_materials")
        for name, look, title in zip(self.look_ids, self.looks, look_names(self.looks), strict=True):
            self._effect(SubElement(effects, "effect", {"id": f"{name}-effect"}), look)
            material = SubElement(materials, "material", {"id": name, "name": on_one_line(title)})
            SubElement(material, "instance_effect", {"url": f"#{name}-effect"})

    def _effect(self, effect: Element, look: Material) -> None:
        profile = SubElement(effect, "profile_COMMON")
        picture = self.pictures.get(look.texture) if look.texture is not None else None
        if picture is not None:
            surface = SubElement(SubElement(profile, "newparam", {"sid": "surface"}), "surface", {"type": "2D"})
            SubElement(surface, "init_from").text = _image_id(picture)
            sampler = SubElement(SubElement(profile, "newparam", {"sid": "sampler"}), "sampler2D")
            SubElement(sampler, "source").text = "surface"
        shading = SubElement(SubElement(profile, "technique", {"sid": "common"}), "lambert")
        diffuse = SubElement(shading, "diffuse")
        if picture is not None:
            SubElement(diffuse, "texture", {"texture": "sampler", "texcoord": "UV"})
        else:
            SubElement(diffuse, "color").text = numbers_text([*look.color, 1.0])
        if look.blending != "opaque":
            transparent = SubElement(shading, "transparent", {"opaque": "A_ONE"})
            if picture is not None:
                SubElement(transparent, "texture", {"texture": "sampler", "texcoord": "UV"})
            else:
                SubElement(transparent, "color").text = "1 1 1 1"
            SubElement(SubElement(shading, "transparency"), "float").text = numbers_text([look.alpha])
        if look.two_sided or look.blending == "mask":
            technique = SubElement(SubElement(profile, "extra"), "technique", {"profile": "common"})
            if look.two_sided:
                SubElement(technique, "double_sided").text = "1"
            if look.blending == "mask":
                SubElement(technique, "alpha_cutoff").text = numbers_text([look.cutoff])

    def _geometry(self, library: Element, index: int, mesh: Mesh, symbols: Sequence[str]) -> None:
        own = f"{self.mesh_ids[index]}-geometry"
        held = SubElement(SubElement(library, "geometry", {"id": own, "name": mesh.name}), "mesh")
        _source(held, f"{own}-places", mesh.vertices, "XYZ")
        _source(held, f"{own}-normals", mesh.normals, "XYZ")
        extra: list[tuple[str, str, dict[str, str]]] = [("NORMAL", f"{own}-normals", {})]
        if mesh.shown_uvs is not None:
            _source(held, f"{own}-uv", mesh.shown_uvs * [1.0, -1.0] + [0.0, 1.0], "ST")
            extra.append(("TEXCOORD", f"{own}-uv", {"set": "0"}))
        colors = mesh.more.get("COLOR_0")
        if colors is not None and colors.shape[1] in (3, 4):
            _source(held, f"{own}-colors", colors, "RGBA"[: colors.shape[1]])
            extra.append(("COLOR", f"{own}-colors", {"set": "0"}))
        vertices = SubElement(held, "vertices", {"id": f"{own}-vertices"})
        SubElement(vertices, "input", {"semantic": "POSITION", "source": f"#{own}-places"})
        runs = [(material.triangles, symbol) for material, symbol in zip(mesh.materials, symbols, strict=True)]
        for rows, symbol in runs or [(slice(None), "")]:
            faces = mesh.triangles[rows]
            count = {"count": str(len(faces))} | ({"material": symbol} if symbol else {})
            triangles = SubElement(held, "triangles", count)
            for semantic, source, more in [("VERTEX", f"{own}-vertices", {}), *extra]:
                SubElement(triangles, "input", {"semantic": semantic, "source": f"#{source}", "offset": "0", **more})
            SubElement(triangles, "p").text = whole_text(faces)
        for number, title in enumerate(mesh.morph_names):
            target = SubElement(library, "geometry", {"id": f"{own}-morph-{number}", "name": title})
            self._target(SubElement(target, "mesh"), f"{own}-morph-{number}", mesh, number)

    def _target(self, held: Element, own: str, mesh: Mesh, number: int) -> None:
        """A morph as a shape of its own, as the format wants it."""
        deltas = mesh.morph_deltas
        assert deltas is not None
        _source(held, f"{own}-places", mesh.vertices + deltas[number], "XYZ")
        normals = mesh.normals if mesh.morph_normals is None else mesh.normals + mesh.morph_normals[number]
        _source(held, f"{own}-normals", normals, "XYZ")
        vertices = SubElement(held, "vertices", {"id": f"{own}-vertices"})
        SubElement(vertices, "input", {"semantic": "POSITION", "source": f"#{own}-places"})
        SubElement(vertices, "input", {"semantic": "NORMAL", "source": f"#{own}-normals"})
        triangles = SubElement(held, "triangles", {"count": str(len(mesh.triangles))})
        SubElement(triangles, "input", {"semantic": "VERTEX", "source": f"#{own}-vertices", "offset": "0"})
        SubElement(triangles, "p").text = whole_text(mesh.triangles)

    def _controller(self, library: Element, index: int, mesh: Mesh) -> None:
        own = self.mesh_ids[index]
        shape = f"{own}-geometry"
        if mesh.morph_names:
            held = SubElement(library, "controller", {"id": f"{own}-morphs", "name": mesh.name})
            morph = SubElement(held, "morph", {"source": f"#{shape}", "method": "NORMALIZED"})
            targets = [f"{shape}-morph-{number}" for number in range(len(mesh.morph_names))]
            _names(morph, f"{own}-morphs-targets", targets, "IDREF_array", "MORPH_TARGET", "IDREF")
            weights = mesh.morph_weights if mesh.morph_weights is not None else np.zeros(len(targets))
            _source(morph, f"{own}-weights", weights[:, None], ["MORPH_WEIGHT"])
            inputs = SubElement(morph, "targets")
            SubElement(inputs, "input", {"semantic": "MORPH_TARGET", "source": f"#{own}-morphs-targets"})
            SubElement(inputs, "input", {"semantic": "MORPH_WEIGHT", "source": f"#{own}-weights"})
            shape = f"{own}-morphs"
        skeleton = self.figure.skeleton
        joints = [bone for bone in range(len(skeleton)) if bone not in skeleton.ends]
        number = np.zeros(len(skeleton), dtype=np.intp)
        number[joints] = np.arange(len(joints))
        held = SubElement(library, "controller", {"id": f"{own}-skin", "name": mesh.name})
        skin = SubElement(held, "skin", {"source": f"#{shape}"})
        SubElement(skin, "bind_shape_matrix").text = numbers_text(np.eye(4).ravel())
        _names(skin, f"{own}-joints", [self.bone_ids[bone] for bone in joints], "Name_array", "JOINT", "Name")
        _source(skin, f"{own}-binds", mesh.bind_matrices[joints].reshape(-1, 16), ["TRANSFORM"])
        used = mesh.weights > 0.0
        table, weight = np.unique(mesh.weights[used].astype(np.float32), return_inverse=True)
        _source(skin, f"{own}-influences", table.astype(np.float64)[:, None], ["WEIGHT"])
        inputs = SubElement(skin, "joints")
        SubElement(inputs, "input", {"semantic": "JOINT", "source": f"#{own}-joints"})
        SubElement(inputs, "input", {"semantic": "INV_BIND_MATRIX", "source": f"#{own}-binds"})
        rows = SubElement(skin, "vertex_weights", {"count": str(len(mesh.vertices))})
        SubElement(rows, "input", {"semantic": "JOINT", "source": f"#{own}-joints", "offset": "0"})
        SubElement(rows, "input", {"semantic": "WEIGHT", "source": f"#{own}-influences", "offset": "1"})
        SubElement(rows, "vcount").text = whole_text(used.sum(axis=1))
        SubElement(rows, "v").text = whole_text(np.stack([number[mesh.joints[used]], weight], axis=1))

    def _animations(self, root: Element) -> None:
        if not self.clips:
            return
        library = SubElement(root, "library_animations")
        named = SubElement(root, "library_animation_clips")
        taken = {*self.bone_ids, *self.mesh_ids, *self.look_ids}
        for own, clip in zip(xml_ids([clip.name for clip in self.clips], taken), self.clips, strict=True):
            animation = SubElement(library, "animation", {"id": own, "name": on_one_line(clip.name)})
            times = clip.start_s + np.arange(clip.frames) / float(clip.rate)
            for bone in moved_bones(clip, bool(self.meshes)):
                target = f"{self.bone_ids[bone]}/transform"
                _keys(animation, f"{own}-{self.bone_ids[bone]}", target, times, self._matrices(clip, bone), "TRANSFORM")
            for track in clip.poses.morph_tracks:
                source = f"{self.mesh_ids[track.mesh]}-weights"
                for number, weights in enumerate(track.weights):
                    _keys(
                        animation, f"{own}-{source}-{number}", f"{source}({number})", times, weights[:, None], "WEIGHT"
                    )
            end = clip.start_s + clip.duration_s
            span = {"start": "0", "end": numbers_text([end])}
            row = SubElement(named, "animation_clip", {"id": f"{own}-clip", "name": on_one_line(clip.name), **span})
            # Some readers know the innermost animations alone.
            for channel in animation:
                SubElement(row, "instance_animation", {"url": f"#{channel.get('id')}"})
            decided = decided_text(clip)
            if decided:
                SubElement(SubElement(row, "extra"), "technique", {"profile": RECORD}).text = decided

    def _matrices(self, clip: Clip, bone: int) -> Floats:
        """The local matrices ``(frames, 16)`` of a bone, row by row."""
        out = np.tile(np.eye(4), (clip.frames, 1, 1))
        out[:, :3, :3] = matrix_from_quaternion(rotation_in_space(clip, bone, self.space))
        places = translation_in_space(clip, bone, self.space)
        out[:, :3, 3] = self._rest()[1][bone] if places is None else places
        return out.reshape(-1, 16)

    def _rest(self) -> tuple[Floats, Floats]:
        return rest_in_space(self.figure.skeleton, self.space)

    def _scene(self, root: Element) -> None:
        skeleton = self.figure.skeleton
        scene = SubElement(SubElement(root, "library_visual_scenes"), "visual_scene", {"id": "scene", "name": "scene"})
        top = SubElement(scene, "node", {"id": "figure-node", "name": self.figure.name, "type": "NODE"})
        rotations, translations = self._rest()
        matrices = np.tile(np.eye(4), (len(skeleton), 1, 1))
        matrices[:, :3, :3], matrices[:, :3, 3] = matrix_from_quaternion(rotations), translations
        nodes: list[Element] = []
        for bone, parent in enumerate(skeleton.parents.tolist()):
            own = self.bone_ids[bone]
            holder = nodes[parent] if parent >= 0 else top
            node = SubElement(holder, "node", {"id": own, "sid": own, "name": skeleton.names[bone], "type": "JOINT"})
            SubElement(node, "matrix", {"sid": "transform"}).text = numbers_text(matrices[bone].ravel())
            nodes.append(node)
        roots = [self.bone_ids[bone] for bone in np.flatnonzero(skeleton.parents < 0).tolist()]
        start = 0
        for index, mesh in enumerate(self.meshes):
            own = self.mesh_ids[index]
            node = SubElement(scene, "node", {"id": own, "name": mesh.name, "type": "NODE"})
            instance = SubElement(node, "instance_controller", {"url": f"#{own}-skin"})
            for name in roots:
                SubElement(instance, "skeleton").text = f"#{name}"
            symbols = self.look_ids[start : start + len(mesh.materials)]
            start += len(mesh.materials)
            if symbols:
                common = SubElement(SubElement(instance, "bind_material"), "technique_common")
            for symbol in symbols:
                row = SubElement(common, "instance_material", {"symbol": symbol, "target": f"#{symbol}"})
                SubElement(row, "bind_vertex_input", {"semantic": "UV", "input_semantic": "TEXCOORD", "input_set": "0"})
        SubElement(SubElement(root, "scene"), "instance_visual_scene", {"url": "#scene"})


def _image_id(title: str) -> str:
    return xml_ids([title])[0]


def _source(parent: Element, name: str, values: Floats, params: Sequence[str]) -> None:
    """A source of numbers, rows of ``values``; a row of sixteen is one matrix."""
    source = SubElement(parent, "source", {"id": name})
    SubElement(source, "float_array", {"id": f"{name}-array", "count": str(values.size)}).text = numbers_text(
        values.ravel()
    )
    _accessor(source, name, len(values), values.shape[1], params, "float4x4" if values.shape[1] == 16 else "float")


def _names(parent: Element, name: str, words: Sequence[str], kind: str, param: str, type_: str) -> None:
    source = SubElement(parent, "source", {"id": name})
    SubElement(source, kind, {"id": f"{name}-array", "count": str(len(words))}).text = " ".join(words)
    _accessor(source, name, len(words), 1, [param], type_)


def _accessor(source: Element, name: str, count: int, stride: int, params: Sequence[str], type_: str) -> None:
    row = {"source": f"#{name}-array", "count": str(count), "stride": str(stride)}
    accessor = SubElement(SubElement(source, "technique_common"), "accessor", row)
    for param in params:
        SubElement(accessor, "param", {"name": param, "type": type_})


def _keys(animation: Element, own: str, target: str, times: Floats, values: Floats, param: str) -> None:
    """A channel with its sampler, a key for every frame, straight between them."""
    held = SubElement(animation, "animation", {"id": own})
    _source(held, f"{own}-times", times[:, None], ["TIME"])
    _source(held, f"{own}-values", values, [param])
    _names(held, f"{own}-ways", ["LINEAR"] * len(times), "Name_array", "INTERPOLATION", "Name")
    sampler = SubElement(held, "sampler", {"id": f"{own}-sampler"})
    for semantic, what in (("INPUT", "times"), ("OUTPUT", "values"), ("INTERPOLATION", "ways")):
        SubElement(sampler, "input", {"semantic": semantic, "source": f"#{own}-{what}"})
    SubElement(held, "channel", {"source": f"#{own}-sampler", "target": target})
