"""From an X3D scene to figures and clips: its humanoids, shapes and routes built up as nodes, skins and keys."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

from fairswap.errors import Finding, InputError
from fairswap.formats.gltf.reading import document_from_container
from fairswap.formats.markup import Tag, numbers_of, tag_from_xml
from fairswap.formats.scene.beside import Pictures
from fairswap.formats.scene.building import SceneBuilder, Surface
from fairswap.formats.scene.polygons import vertices_from_corners
from fairswap.formats.scene.stance import stance_node
from fairswap.formats.x3d.fields import number, placed, rows, turn, vector, whole
from fairswap.formats.x3d.motions import Mover, clips_of, keys_of_clip
from fairswap.formats.x3d.shapes import Faces, Looks, faces_of
from fairswap.model.arrays import Floats, Integers
from fairswap.model.document import Document
from fairswap.model.rotation import (
    IDENTITY,
    conjugate,
    matrix_from_quaternion,
    multiply,
    rotate,
)

_AGAIN = "Export the file again"
_HOLDERS = (
    "Transform",
    "Group",
    "StaticGroup",
    "Anchor",
    "Billboard",
    "Collision",
    "LOD",
    "Switch",
    "HAnimSite",
    "Layer",
)
_MOST_NODES, _DEEPEST = 200_000, 256


def read(content: bytes, path: Path, *, unit: str | None = None, up: str | None = None) -> Document:
    """Read the content of an ``.x3d``; see :func:`fairswap.load`.

    Raises
    ------
    InputError
        If it is no X3D in XML, damaged, or names what is not there.
    """
    root = tag_from_xml(content)
    scene_tag = next((one for one in root if one.tag == "Scene" and isinstance(one, Tag)), None)
    if root.tag != "X3D" or scene_tag is None:
        raise InputError(f"it is XML, but not X3D: it begins with <{root.tag}>", remedy=_AGAIN + " as X3D in XML")
    scene = _Scene(root, path, len(content))
    scene.build(scene_tag, unit, up)
    beside = tuple(dict.fromkeys(scene.looks.pictures.beside))
    version = root.get("version") or "3.0"
    container = scene.builder.container(path, f"X3D {version}", beside=beside, says_forward=True)
    document = document_from_container(container)
    return replace(document, findings=(*scene.findings, *document.findings))


@dataclass
class _Joint:
    """A joint while it is read: where it turns, how its bone rests, and its node."""

    tag: Tag
    center: Floats
    rest: Floats
    node: int


@dataclass
class _Humanoid:
    """A humanoid while it is read."""

    tag: Tag
    node: int
    joints: list[_Joint] = field(default_factory=list)
    is_skinned: bool = False


@dataclass
class _Scene:
    """The scene while it is built up."""

    root: Tag
    path: Path
    file_bytes: int
    builder: SceneBuilder = field(default_factory=SceneBuilder)
    findings: list[Finding] = field(default_factory=list)
    by_name: dict[str, Tag] = field(default_factory=dict)
    movers: dict[str, list[tuple[int, Mover]]] = field(default_factory=dict)
    # By the name of a displacer: the meshes that have it as a morph, and which one it is.
    displaced: dict[str, list[tuple[int, int]]] = field(default_factory=dict)
    humanoids: list[_Humanoid] = field(default_factory=list)

    def build(self, scene: Tag, unit: str | None, up: str | None) -> None:
        """Everything below the scene, and what the routes move."""
        for tag in self.root.iter():
            if "DEF" in tag.attrib and isinstance(tag, Tag):
                self.by_name.setdefault(tag.attrib["DEF"], tag)
        self.routed = {tag.get("toNode") for tag in self.root.iter("ROUTE")}
        pictures = Pictures(self.path.parent, self.path.name, self.findings)
        self.looks = Looks(self.builder, self.path, self.resolved, pictures)
        self._walk(scene, stance_node(self.builder, unit, up, file_metres=self._metres()))
        for humanoid in self.humanoids:
            self._skin(humanoid)
        rest = {node: self.builder.raw["meshes"][row["mesh"]].get("weights", [])
                for node, row in enumerate(self.builder.raw["nodes"]) if "mesh" in row}  # fmt: skip
        weights = {name: (places, lambda node: np.array(rest[node])) for name, places in self.displaced.items()}
        baked = sum(1 for tag in self.root.iter("HAnimMotion"))
        if baked:
            message = f"{baked} baked motions of its humanoid are not read: only what interpolators move is a clip"
            self.findings.append(Finding("motion-not-read", "warning", self.path.name, message))
        for name, tracks in clips_of(self.root, self.by_name, self.file_bytes):
            keys = keys_of_clip(tracks, self.movers, weights, name, self.findings)
            if keys:
                self.builder.animation(name, keys)

    def resolved(self, tag: Tag) -> Tag:
        """The element itself, or the one that it stands for by its name."""
        name = tag.get("USE")
        if name is None:
            return tag
        found = self.by_name.get(name)
        if found is None:
            raise InputError(f"it names {name[:80]!r}, which is not there", place=tag.place, remedy=_AGAIN)
        return found

    def _metres(self) -> float:
        """The length that the file counts in (X3D 3.3, 7.2.6)."""
        for tag in self.root.iter("unit"):
            if isinstance(tag, Tag) and tag.get("category") == "length" and tag.get("conversionFactor"):
                return float(numbers_of(tag, tag.get("conversionFactor"), 1)[0])
        return 1.0

    def _walk(self, scene: Tag, top: int | None) -> None:
        """Place everything, from above: element, node above, what comes before its own transform, and whose it is."""
        stack: list[tuple[Tag, int | None, Floats, _Humanoid | None, _Joint | None, tuple[int, ...]]]
        stack = [(one, top, np.eye(4), None, None, ()) for one in reversed(scene) if isinstance(one, Tag)]
        while stack:
            given, above, before, humanoid, joint, inside = stack.pop()
            if given.get("containerField") in ("joints", "segments", "sites", "skinCoord", "skinNormal"):
                continue
            # A humanoid lists its joints and segments once more, by their names.
            if given.get("USE") and given.tag in ("HAnimJoint", "HAnimSegment", "HAnimSite"):
                continue
            tag = self.resolved(given)
            if id(tag) in inside or len(inside) > _DEEPEST or len(self.builder.raw["nodes"]) > _MOST_NODES:
                what = "it is inside of itself" if id(tag) in inside else "there are too many copies of nodes in it"
                raise InputError(what, place=given.place, remedy=_AGAIN)
            children = [one for one in tag if isinstance(one, Tag)]
            node: int | None
            below = (*inside, id(tag))
            if tag.tag == "HAnimHumanoid":
                node = self._transform(tag, above, before)
                humanoid, joint = _Humanoid(tag, node), None
                self.humanoids.append(humanoid)
                children = [one for one in children if one.get("containerField") not in ("skin", "viewpoints")]
                onward = np.eye(4)
            elif tag.tag == "HAnimJoint" and humanoid is not None:
                joint = self._joint(tag, humanoid, joint)
                node = joint.node
                # What hangs on a joint is drawn where the humanoid is, not where the joint is.
                onward = np.eye(4)
                back = matrix_from_quaternion(conjugate(joint.rest))
                onward[:3, :3], onward[:3, 3] = back, -back @ joint.center
            elif tag.tag == "HAnimSegment":
                self._segment(tag, above, before)
                children = [one for one in children if one.tag != "Shape"]
                node, onward = above, before
            elif tag.tag in _HOLDERS:
                # What only places something on a joint is no bone.
                if joint is not None and tag.get("DEF") not in self.routed:
                    node, onward = above, before @ _matrix_of(tag)
                else:
                    node, onward = self._transform(tag, above, before), np.eye(4)
                if tag.tag == "Switch":
                    shown = int(number(tag, "whichChoice", -1))
                    children = children[shown : shown + 1] if shown >= 0 else []
                elif tag.tag == "LOD":
                    children = children[:1]
            elif tag.tag == "Shape":
                node = self.builder.node(tag.get("DEF") or "shape", above, before)
                self._hang(node, tag.get("DEF") or "shape", [tag], [])
                continue
            else:
                if tag.tag == "Inline":
                    message = "a part of it is in another file, which is not opened"
                    self.findings.append(Finding("part-elsewhere", "warning", self.path.name, message))
                continue
            stack += [(one, node, onward, humanoid, joint, below) for one in reversed(children)]

    def _transform(self, tag: Tag, above: int | None, before: Floats) -> int:
        """The node of a group with its transform."""
        fields = _fields_of(tag)

        def matrices(moved: Mapping[str, Floats], count: int) -> Floats:
            return before @ _placed(fields, moved, count)

        name = tag.get("name") or tag.get("DEF") or tag.tag.lower()
        node = self.builder.node(name, above, matrices({}, 1)[0])
        apart = not fields["center"].any() and abs(fields["skew"][3]) > 1 - 1e-12 and np.allclose(before, np.eye(4))
        if tag.get("DEF"):
            self.movers.setdefault(tag.attrib["DEF"], []).append((node, Mover(matrices, bool(apart))))
        return node

    def _joint(self, tag: Tag, humanoid: _Humanoid, above: _Joint | None) -> _Joint:
        """The node of a joint, at its centre, turned as its bone rests."""
        center, rest = vector(tag, "center"), _rest_of(tag)
        origin = above.center if above is not None else np.zeros(3)
        back = conjugate(above.rest) if above is not None else IDENTITY
        fields = {"translation": vector(tag, "translation"), "rotation": turn(tag, "rotation"),
                  "scale": vector(tag, "scale", (1.0, 1.0, 1.0))}  # fmt: skip

        def matrices(moved: Mapping[str, Floats], count: int) -> Floats:
            every = {name: np.broadcast_to(value, (count, len(value))) for name, value in fields.items()} | dict(moved)
            out = np.tile(np.eye(4), (count, 1, 1))
            turned = multiply(multiply(back, every["rotation"]), rest)
            out[:, :3, :3] = matrix_from_quaternion(turned) * every["scale"][:, None, :]
            out[:, :3, 3] = rotate(back, center - origin + every["translation"])
            return out

        name = tag.get("name") or tag.get("DEF") or f"joint {len(humanoid.joints) + 1}"
        node = self.builder.node(name, above.node if above is not None else humanoid.node, matrices({}, 1)[0])
        joint = _Joint(tag, center, rest, node)
        humanoid.joints.append(joint)
        if tag.get("DEF"):
            self.movers.setdefault(tag.attrib["DEF"], []).append((node, Mover(matrices, True)))
        return joint

    def _segment(self, tag: Tag, above: int | None, before: Floats) -> None:
        """The shapes of a segment on a node of their own, with its displacers as their morphs."""
        shapes = [self.resolved(one) for one in tag if one.tag == "Shape" and isinstance(one, Tag)]
        displacers = [self.resolved(one) for one in tag if one.tag == "HAnimDisplacer" and isinstance(one, Tag)]
        if shapes:
            name = tag.get("name") or tag.get("DEF") or "segment"
            self._hang(self.builder.node(name, above, before), name, shapes, displacers)

    def _hang(self, node: int, name: str, shapes: list[Tag], displacers: list[Tag]) -> None:
        """Hang shapes on a node as one mesh, or as one for each where they share no points."""
        found = [(shape, faces) for shape in shapes if (faces := self._faces(shape)) is not None]
        groups: dict[int, list[tuple[Tag, Faces]]] = {}
        for shape, faces in found:
            key = id(faces.coordinates) if faces.coordinates is not None else id(shape)
            groups.setdefault(key, []).append((shape, faces))
        for index, own in enumerate(groups.values()):
            surface, points = self._surface(own)
            total = len(own[0][1].tables["positions"][0])
            used = self._displace(surface, displacers, points, total) if displacers else []
            holder = node if not index else self.builder.node(f"{name} {index + 1}", node)
            self.builder.hang(holder, self.builder.mesh(name, surface))
            for at, displacer in enumerate(used):
                self.displaced.setdefault(displacer, []).append((holder, at))

    def _faces(self, shape: Tag) -> Faces | None:
        kinds = ("Appearance", "MetadataString", "MetadataSet")
        geometry = next((one for one in shape if one.tag not in kinds and isinstance(one, Tag)), None)
        faces = None if geometry is None else faces_of(self.resolved(geometry), self.resolved, self.file_bytes)
        return faces if faces is not None and len(faces.tables["positions"][1]) else None

    def _surface(self, own: list[tuple[Tag, Faces]]) -> tuple[Surface, Integers]:
        """One surface of shapes with the same points; and which point each of its vertices is."""
        names = [name for name in own[0][1].tables if all(name in faces.tables for _, faces in own)]
        columns, tables = [], {}
        for name in names:
            table = own[0][1].tables[name][0]
            if all(np.array_equal(faces.tables[name][0], table) for _, faces in own):
                tables[name] = table
                columns.append(np.concatenate([faces.tables[name][1] for _, faces in own]))
                continue
            starts = np.cumsum([0, *(len(faces.tables[name][0]) for _, faces in own)])
            width = min(faces.tables[name][0].shape[1] for _, faces in own)
            tables[name] = np.concatenate([faces.tables[name][0][:, :width] for _, faces in own])
            parts = [faces.tables[name][1] + start for (_, faces), start in zip(own, starts, strict=False)]
            columns.append(np.concatenate(parts))
        picked, vertex = vertices_from_corners(columns)
        surface = Surface(tables["positions"][picked[0]], [])
        for name, rows_of_it in zip(names[1:], picked[1:], strict=True):
            setattr(surface, name, tables[name][rows_of_it])
        start = 0
        for shape, faces in own:
            end = start + len(faces.tables["positions"][1])
            held = next((one for one in shape if one.tag == "Appearance" and isinstance(one, Tag)), None)
            look = self.looks.number(None if held is None else self.resolved(held), not faces.solid)
            surface.runs.append((vertex[start:end].reshape(-1, 3), look))
            start = end
        return surface, picked[0]

    def _displace(self, surface: Surface, displacers: list[Tag], points: Integers, total: int) -> list[str]:
        """Displacers as morphs of a surface, those that move any of its points; gives their names in the file."""
        used: list[str] = []
        weights: list[float] = []
        for displacer in displacers:
            indices, shifts = whole(displacer, "coordIndex"), rows(displacer, "displacements", 3)
            if len(indices) != len(shifts) or (len(indices) and (indices.min() < 0 or indices.max() >= total)):
                problem = f"it moves {len(indices)} points by {len(shifts)} shifts, of {total} points"
                raise InputError(problem, place=displacer.place, remedy=_AGAIN)
            moved = np.zeros((total, 3))
            moved[indices] = shifts
            if not np.isin(points, indices).any():
                continue
            title, count = displacer.get("name") or displacer.get("DEF") or f"displacer {len(used) + 1}", 2
            while title in surface.morphs:
                title, count = f"{displacer.get('name')} ({count})", count + 1
            surface.morphs[title] = moved[points], None
            weights.append(number(displacer, "weight", 0.0))
            used.append(displacer.get("DEF") or title)
        surface.morph_weights = weights
        return used

    def _skin(self, humanoid: _Humanoid) -> None:
        """The skin of a humanoid, bound to its joints; without one, its joints are a skeleton all the same."""
        if not humanoid.joints:
            return
        nodes = [joint.node for joint in humanoid.joints]
        binds = np.tile(np.eye(4), (len(nodes), 1, 1))
        for at, joint in enumerate(humanoid.joints):
            binds[at, :3, :3] = matrix_from_quaternion(joint.rest)
            binds[at, :3, 3] = joint.center
        skin = self.builder.skin(nodes, binds)
        children = [one for one in humanoid.tag if isinstance(one, Tag)]
        coordinates = next((self.resolved(one) for one in children if one.get("containerField") == "skinCoord"), None)
        if coordinates is None:
            return
        total = len(rows(coordinates, "point", 3))
        influences = _influences(humanoid, total)
        displacers = [
            self.resolved(one) for joint in humanoid.joints for one in joint.tag
            if one.tag == "HAnimDisplacer" and isinstance(one, Tag)
        ]  # fmt: skip
        for child in children:
            if child.get("containerField") != "skin":
                continue
            held = self.resolved(child)
            shapes = (
                [held]
                if held.tag == "Shape"
                else [self.resolved(one) for one in held if one.tag == "Shape" and isinstance(one, Tag)]
            )
            found = [(shape, faces) for shape in shapes if (faces := self._faces(shape)) is not None]
            own = [(shape, faces) for shape, faces in found if faces.coordinates is coordinates]
            if not own:
                continue
            surface, points = self._surface(own)
            surface.joints, surface.weights = influences[0][points], influences[1][points]
            used = self._displace(surface, displacers, points, total)
            name = _named(held) or held.get("DEF") or "skin"
            node = self.builder.node(name, None)
            self.builder.hang(node, self.builder.mesh(name, surface), skin)
            for at, displacer in enumerate(used):
                self.displaced.setdefault(displacer, []).append((node, at))


def _fields_of(tag: Tag) -> dict[str, Floats]:
    """The fields that place a group."""
    return {
        "translation": vector(tag, "translation"), "rotation": turn(tag, "rotation"),
        "scale": vector(tag, "scale", (1.0, 1.0, 1.0)), "center": vector(tag, "center"),
        "skew": turn(tag, "scaleOrientation"),
    }  # fmt: skip


def _placed(fields: Mapping[str, Floats], moved: Mapping[str, Floats], count: int) -> Floats:
    every = {name: np.broadcast_to(value, (count, len(value))) for name, value in fields.items()} | dict(moved)
    return placed(every["translation"], every["rotation"], every["scale"], every["center"], every["skew"])


def _matrix_of(tag: Tag) -> Floats:
    return _placed(_fields_of(tag), {}, 1)[0]


def _influences(humanoid: _Humanoid, total: int) -> tuple[Integers, Floats]:
    """Joints and weights ``(points, k)`` of a skin; a point that no joint moves goes with the first."""
    joints, points, weights = [], [], []
    for number_of, joint in enumerate(humanoid.joints):
        indices, own = whole(joint.tag, "skinCoordIndex"), rows(joint.tag, "skinCoordWeight", 1)[:, 0]
        if len(own) == 1 and len(indices) > 1:
            own = np.repeat(own, len(indices))
        if len(indices) != len(own) or (len(indices) and (indices.min() < 0 or indices.max() >= total)):
            problem = f"it holds {len(indices)} points by {len(own)} weights, of {total} points"
            raise InputError(problem, place=joint.tag.place, remedy=_AGAIN)
        joints.append(np.full(len(indices), number_of))
        points.append(indices)
        weights.append(own)
    joint_of, point_of, weight_of = np.concatenate(joints), np.concatenate(points), np.concatenate(weights)
    order = np.argsort(point_of, kind="stable")
    joint_of, point_of, weight_of = joint_of[order], point_of[order], weight_of[order]
    counts = np.bincount(point_of, minlength=total)
    most = max(int(counts.max(initial=0)), 1)
    if most * total > 64_000_000:
        raise InputError(f"{most} joints hold one point", place=humanoid.tag.place, remedy=_AGAIN)
    column = np.arange(len(point_of)) - np.repeat(np.cumsum(counts) - counts, counts)
    out, share = np.zeros((total, most), dtype=np.intp), np.zeros((total, most))
    out[point_of, column], share[point_of, column] = joint_of, weight_of
    share[share.sum(axis=1) <= 0.0, 0] = 1.0
    return out, share


def _rest_of(tag: Tag) -> Floats:
    """How the bone of a joint is turned at rest, xyzw, if the file says so; the format itself knows no such turn."""
    for held in tag:
        if held.tag == "MetadataDouble" and held.get("name") == "bone rotation" and isinstance(held, Tag):
            values = numbers_of(held, held.get("value") or "", 4)
            length = float(np.linalg.norm(values))
            if length > 1e-9:
                return values / length
    return IDENTITY


def _named(tag: Tag) -> str | None:
    """The name that a file of ours keeps with a part, letter by letter."""
    for held in tag:
        if held.tag == "MetadataString" and held.get("name") == "name":
            return (held.get("value") or "").strip().strip('"').replace('\\"', '"').replace("\\\\", "\\") or None
    return None
