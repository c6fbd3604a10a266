"""From a figure and clips to X3D 4.0 with an H-Anim 2.0 humanoid: joints, skin, displacers, interpolators."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from urllib.parse import quote
from xml.etree import ElementTree
from xml.etree.ElementTree import Element, SubElement

import numpy as np

from fairswap.errors import Finding
from fairswap.formats.marks import GENERATOR, MARK, RECORD, mark_text
from fairswap.formats.naming import on_one_line
from fairswap.formats.scene.binding import bind_pose, matrices_of
from fairswap.formats.scene.decided import decided_text
from fairswap.formats.scene.losses import losses
from fairswap.formats.scene.pictures import files_of_pictures, look_names, pictures_of
from fairswap.formats.scene.spaces import moved_bones
from fairswap.formats.scene.words import numbers_text, whole_text, xml_ids
from fairswap.formats.storage import Chunk
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.mesh import Material
from fairswap.model.rotation import (
    conjugate,
    multiply,
    quaternion_from_matrix,
    rotate,
    rotation_vector,
    without_sign_jumps,
)
from fairswap.model.skeleton import WorldTransforms
from fairswap.model.skinning import as_bound
from fairswap.model.space import Space

# The joints of level of articulation one (ISO/IEC 19774-1:2019, 4.9), by the names of both editions.
_LEVEL_ONE = (
    {"humanoid_root"}, {"sacroiliac"}, {"vl5"}, {"skullbase"},
    *({f"{side}_{name}" for name in names} for side in "lr"
      for names in (("hip",), ("knee",), ("talocrural", "ankle"), ("shoulder",), ("elbow",), ("radiocarpal", "wrist"))),
)  # fmt: skip


def encode(figure: Figure, clips: Sequence[Clip], name: str, *, space: Space | None) -> dict[str, list[Chunk]]:
    """An ``.x3d`` with its pictures beside it; always in metres, +Y up, facing +Z, as the standard asks.

    See :func:`fairswap.formats.files.encode`.
    """
    pictures = pictures_of(figure.meshes, Path(name).stem)
    files: dict[str, list[Chunk]] = {title: [data] for title, data in files_of_pictures(pictures).items()}
    return files | {name: [_Writer(figure, clips, pictures).text()]}


def left_out(figure: Figure, clips: Sequence[Clip]) -> list[Finding]:
    """What of a figure and its clips this format cannot hold, or we do not write into it."""
    return losses(figure, clips, "X3D", one_bind=True, rigid=True)


class _Writer:
    """One document while it is made."""

    def __init__(self, figure: Figure, clips: Sequence[Clip], pictures: dict[bytes, str]) -> None:
        self.figure, self.clips, self.pictures = figure, clips, pictures
        skeleton = figure.skeleton
        meshes = [mesh.name for mesh in figure.meshes]
        names = xml_ids(["humanoid", "skinCoord", "skinNormal", "skinUV", *skeleton.names, *meshes])
        self.joint_ids, self.mesh_ids = names[4 : 4 + len(skeleton)], names[4 + len(skeleton) :]
        self.taken = list(names)
        # The format's joints are unturned when the skin is bound; at rest they are turned from there.
        local = matrices_of(skeleton.rest_rotations, skeleton.rest_translations)
        self.bound = bind_pose(local, skeleton.parents.tolist(), figure.meshes, rigid=True)
        self.bound_turns = quaternion_from_matrix(self.bound[:, :3, :3])
        self.starts = np.cumsum([0, *(len(mesh.vertices) for mesh in figure.meshes)])
        self.skin = [as_bound(mesh, self.bound) for mesh in figure.meshes]
        self.displacer_ids: dict[tuple[int, int], str] = {}

    def text(self) -> bytes:
        root = Element("X3D", {"profile": "Immersive", "version": "4.0"})
        head = SubElement(root, "head")
        SubElement(head, "component", {"name": "HAnim", "level": "3"})
        SubElement(head, "meta", {"name": "generator", "content": GENERATOR})
        stands = mark_text(self.figure.skeleton.rest.positions[0])
        SubElement(head, "meta", {"name": f"{RECORD}-{MARK}", "content": stands})
        SubElement(head, "meta", {"name": "title", "content": on_one_line(self.figure.name)})
        scene = SubElement(root, "Scene")
        self._view(scene)
        self._humanoid(scene)
        for clip in self.clips:
            self._clip(scene, clip)
        ElementTree.indent(root, " ")
        return b'<?xml version="1.0" encoding="UTF-8"?>\n' + ElementTree.tostring(root, "utf-8") + b"\n"

    def _view(self, scene: Element) -> None:
        """The whole figure in the picture, from the front, whoever opens the file."""
        points = self.figure.rest_points
        middle, tall = points.min(axis=0) / 2.0 + points.max(axis=0) / 2.0, float(np.ptp(points, axis=0).max())
        place = numbers_text(middle + [0.0, 0.0, 1.8 * max(tall, 0.1)])
        look = {"description": "front", "position": place, "centerOfRotation": numbers_text(middle)}
        SubElement(scene, "Viewpoint", look)
        SubElement(scene, "NavigationInfo", {"type": '"EXAMINE" "ANY"'})
        SubElement(scene, "Background", {"skyColor": "0.85 0.85 0.83"})

    def _humanoid(self, scene: Element) -> None:
        skeleton = self.figure.skeleton
        level = 1 if all(names & set(skeleton.names) for names in _LEVEL_ONE) else -1
        humanoid = SubElement(
            scene, "HAnimHumanoid",
            {"DEF": "humanoid", "name": on_one_line(self.figure.name), "version": "2.0", "loa": str(level),
             "skeletalConfiguration": "BASIC"},
        )  # fmt: skip
        held = self._held_by_joints()
        joints: list[Element] = []
        rest = skeleton.rest
        turns = np.stack([self._turns(rest, bone)[0] for bone in range(len(skeleton))])
        places = np.stack([self._places(rest, bone)[0] for bone in range(len(skeleton))])
        for bone, parent in enumerate(skeleton.parents.tolist()):
            holder = joints[parent] if parent >= 0 else humanoid
            joint = SubElement(holder, "HAnimJoint", {
                "DEF": self.joint_ids[bone], "name": skeleton.names[bone],
                "center": numbers_text(self.bound[bone, :3, 3]),
            } | ({"containerField": "skeleton"} if parent < 0 else {}))  # fmt: skip
            holds = held[bone]
            if holds is not None:
                joint.set("skinCoordIndex", whole_text(holds[0]))
                joint.set("skinCoordWeight", numbers_text(holds[1]))
            if np.abs(turns[bone, 3]) < 1.0 - 1e-12:
                joint.set("rotation", numbers_text(_axes(turns[bone : bone + 1])))
            if np.abs(places[bone]).max() > 1e-9:
                joint.set("translation", numbers_text(places[bone]))
            # How the bone itself is turned, which the format does not know, goes along for those who do.
            turned = self.bound_turns[bone]
            if abs(turned[3]) < 1.0 - 1e-12:
                SubElement(joint, "MetadataDouble", {
                    "containerField": "metadata", "name": "bone rotation",
                    "value": " ".join(map(repr, turned.tolist())),
                })  # fmt: skip
            joints.append(joint)
        self._displacers(joints)
        for name in self.joint_ids:
            SubElement(humanoid, "HAnimJoint", {"USE": name, "containerField": "joints"})
        if self.figure.meshes:
            self._skin(humanoid)

    def _held_by_joints(self) -> list[tuple[np.ndarray, Floats] | None]:
        """For each bone the points of the skin that it holds, and how much."""
        pieces: list[list[tuple[np.ndarray, Floats]]] = [[] for _ in self.joint_ids]
        for start, mesh in zip(self.starts, self.figure.meshes, strict=False):
            vertex, column = np.nonzero(mesh.weights > 0.0)
            bone = mesh.joints[vertex, column]
            order = np.argsort(bone, kind="stable")
            cuts = np.searchsorted(bone[order], np.arange(len(pieces) + 1))
            for index in np.unique(bone).tolist():
                rows = order[cuts[index] : cuts[index + 1]]
                pieces[index].append((vertex[rows] + start, mesh.weights[vertex[rows], column[rows]]))
        return [
            (np.concatenate([points for points, _ in own]), np.concatenate([weights for _, weights in own]))
            if own
            else None
            for own in pieces
        ]

    def _displacers(self, joints: list[Element]) -> None:
        """Morphs as displacers, all of a mesh on the joint that holds most of what they move."""
        for index, mesh in enumerate(self.skin):
            deltas = mesh.morph_deltas
            if deltas is None:
                continue
            moved = [np.flatnonzero(np.abs(own).max(axis=1) > 0.0) for own in deltas]
            every = np.concatenate(moved)
            holder = joints[
                int(np.bincount(mesh.joints[every].ravel(), mesh.weights[every].ravel(), len(joints)).argmax())
            ]
            for number, title in enumerate(mesh.morph_names):
                own = xml_ids([f"{self.mesh_ids[index]}_{title}"], self.taken)[0]
                self.taken.append(own)
                self.displacer_ids[index, number] = own
                weight = 0.0 if mesh.morph_weights is None else float(mesh.morph_weights[number])
                SubElement(holder, "HAnimDisplacer", {
                    "DEF": own, "name": title, "coordIndex": whole_text(moved[number] + self.starts[index]),
                    "displacements": numbers_text(deltas[number][moved[number]]), "weight": f"{weight:.9g}",
                    "containerField": "displacers",
                })  # fmt: skip

    def _skin(self, humanoid: Element) -> None:
        """The skin: one table of points for all meshes, a group for each, a shape for each material."""
        points = np.concatenate([mesh.vertices for mesh in self.skin])
        normals = np.concatenate([mesh.normals for mesh in self.skin])
        SubElement(
            humanoid, "Coordinate", {"DEF": "skinCoord", "containerField": "skinCoord", "point": numbers_text(points)}
        )
        SubElement(
            humanoid, "Normal", {"DEF": "skinNormal", "containerField": "skinNormal", "vector": numbers_text(normals)}
        )
        uvs = np.concatenate(
            [np.zeros((len(mesh.vertices), 2)) if mesh.shown_uvs is None else mesh.shown_uvs for mesh in self.skin]
        )
        looks = [material for mesh in self.figure.meshes for material in mesh.materials]
        look_ids = xml_ids(look_names(looks), self.taken)
        first, uv_done = 0, False
        for index, mesh in enumerate(self.figure.meshes):
            group = SubElement(humanoid, "Group", {"DEF": self.mesh_ids[index], "containerField": "skin"})
            _keep_word(group, "name", mesh.name)
            for number, look in enumerate(mesh.materials):
                shape = SubElement(group, "Shape")
                self._appearance(shape, look, look_ids[first + number])
                rows = mesh.triangles[look.triangles] + self.starts[index]
                faces = np.c_[rows, np.full(len(rows), -1)]
                geometry = SubElement(shape, "IndexedFaceSet", {
                    "coordIndex": whole_text(faces), "solid": "false" if look.two_sided else "true",
                    "creaseAngle": "3.14159",
                })  # fmt: skip
                SubElement(geometry, "Coordinate", {"USE": "skinCoord"})
                SubElement(geometry, "Normal", {"USE": "skinNormal"})
                if mesh.shown_uvs is not None:
                    point = {"USE": "skinUV"} if uv_done else {
                        "DEF": "skinUV", "point": numbers_text(uvs * [1.0, -1.0] + [0.0, 1.0]),
                    }  # fmt: skip
                    SubElement(geometry, "TextureCoordinate", point)
                    uv_done = True
            first += len(mesh.materials)

    def _appearance(self, shape: Element, look: Material, name: str) -> None:
        row = {"DEF": name}
        if look.blending != "opaque":
            row["alphaMode"] = look.blending.upper()
        if look.blending == "mask":
            row["alphaCutoff"] = f"{look.cutoff:.9g}"
        appearance = SubElement(shape, "Appearance", row)
        picture = self.pictures.get(look.texture) if look.texture is not None else None
        color = np.ones(3) if picture is not None else look.color
        material = {"diffuseColor": numbers_text(color), "ambientIntensity": "0.2"}
        if look.blending != "opaque" and look.alpha < 1.0:
            material["transparency"] = f"{1.0 - look.alpha:.9g}"
        SubElement(appearance, "Material", material)
        if picture is not None:
            SubElement(appearance, "ImageTexture", {"url": f'"{quote(picture)}"'})

    def _clip(self, scene: Element, clip: Clip) -> None:
        """A clip: a time sensor, an interpolator for each thing that moves, and the routes between."""
        total = max(clip.start_s + clip.duration_s, 1.0 / float(clip.rate))
        own = xml_ids([f"{clip.name}_time"], self.taken)[0]
        self.taken.append(own)
        sensor = {"DEF": own, "description": on_one_line(clip.name), "cycleInterval": f"{total:.12g}", "loop": "true"}
        held = SubElement(scene, "TimeSensor", sensor)
        decided = decided_text(clip)
        if decided:
            _keep_word(held, RECORD, decided)
        fractions = (clip.start_s + np.arange(clip.frames) / float(clip.rate)) / total
        # As far as single precision goes: nobody's clock is finer, and files stay small.
        keys = " ".join(map("%.9g".__mod__, fractions.tolist()))
        world = clip.poses.world()
        routes: list[tuple[str, str, str]] = []
        for bone in moved_bones(clip, True):
            own_id = self.joint_ids[bone]
            turns = _axes(self._turns(world, bone))
            routes.append(
                (self._interpolator(scene, "Orientation", f"{own}_{own_id}", keys, turns), own_id, "rotation")
            )
            if bone in clip.poses.translated_bones:
                name = self._interpolator(scene, "Position", f"{own}_{own_id}_place", keys, self._places(world, bone))
                routes.append((name, own_id, "translation"))
        for track in clip.poses.morph_tracks:
            for number, weights in enumerate(track.weights):
                target = self.displacer_ids[track.mesh, number]
                name = self._interpolator(scene, "Scalar", f"{own}_{target}", keys, weights[:, None])
                routes.append((name, target, "weight"))
        for name, target, field in routes:
            SubElement(scene, "ROUTE", {
                "fromNode": own, "fromField": "fraction_changed", "toNode": name, "toField": "set_fraction",
            })  # fmt: skip
            SubElement(scene, "ROUTE", {
                "fromNode": name, "fromField": "value_changed", "toNode": target, "toField": f"set_{field}",
            })  # fmt: skip

    def _turns(self, world: WorldTransforms, bone: int) -> Floats:
        """The turns ``(frames, 4)`` of a joint against its parent, from how they were bound."""
        turned = self._away(world, bone)
        parent = int(self.figure.skeleton.parents[bone])
        return turned if parent < 0 else multiply(conjugate(self._away(world, parent)), turned)

    def _places(self, world: WorldTransforms, bone: int) -> Floats:
        """How far ``(frames, 3)`` a joint is from where it was bound, seen from its parent."""
        parent = int(self.figure.skeleton.parents[bone])
        if parent < 0:
            return world.positions[:, bone] - self.bound[bone, :3, 3]
        now = world.positions[:, bone] - world.positions[:, parent]
        return rotate(conjugate(self._away(world, parent)), now) - (self.bound[bone, :3, 3] - self.bound[parent, :3, 3])

    def _away(self, world: WorldTransforms, bone: int) -> Floats:
        """How a bone is turned ``(frames, 4)`` against how it was bound, seen from outside."""
        return multiply(world.rotations[:, bone], conjugate(self.bound_turns[bone]))

    def _interpolator(self, scene: Element, kind: str, name: str, keys: str, values: Floats) -> str:
        own = xml_ids([name], self.taken)[0]
        self.taken.append(own)
        SubElement(scene, f"{kind}Interpolator", {"DEF": own, "key": keys, "keyValue": numbers_text(values)})
        return own


def _keep_word(node: Element, name: str, word: str) -> None:
    """Something about a node that the format has no field for."""
    escaped = word.replace("\\", "\\\\").replace('"', '\\"')
    SubElement(node, "MetadataString", {"containerField": "metadata", "name": name, "value": f'"{escaped}"'})


def _axes(rotations: Floats) -> Floats:
    """Axis and angle ``(n, 4)`` of turns ``(n, 4)``."""
    vectors = rotation_vector(without_sign_jumps(rotations.T).T)
    angles = np.linalg.norm(vectors, axis=1)
    still = angles < 1e-12
    axes = np.where(still[:, None], [0.0, 0.0, 1.0], vectors / np.where(still, 1.0, angles)[:, None])
    return np.c_[axes, angles]
