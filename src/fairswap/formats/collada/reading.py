"""From a COLLADA document to figures and clips: its scene built up as nodes, skins and keys."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

from fairswap.errors import Finding, InputError
from fairswap.formats.collada.animations import clips_of, keys_of_clip
from fairswap.formats.collada.controllers import bound_shape
from fairswap.formats.collada.geometry import Shape, shape_of
from fairswap.formats.collada.library import Library, below, child, children, is_two_sided
from fairswap.formats.collada.looks import Looks
from fairswap.formats.collada.nodes import Placed, placed_nodes
from fairswap.formats.collada.packing import opened_document
from fairswap.formats.gltf.reading import document_from_container
from fairswap.formats.marks import GENERATOR, mark_from
from fairswap.formats.markup import Tag, numbers_of
from fairswap.formats.scene.beside import Pictures
from fairswap.formats.scene.building import SceneBuilder
from fairswap.formats.scene.stance import stance_node
from fairswap.model.arrays import Floats, Integers
from fairswap.model.document import Document

_AGAIN = "Export the file again"
# Fewer joints than this are no skeleton.
_FEWEST = 3
_UPS = {"X_UP": "+X", "Y_UP": "+Y", "Z_UP": "+Z"}


def read(content: bytes, path: Path, *, unit: str | None = None, up: str | None = None) -> Document:
    """Read the content of a ``.dae`` or ``.zae``; see :func:`fairswap.load`.

    Raises
    ------
    InputError
        If it is no COLLADA, damaged, or names what is not there.
    """
    beside: list[str] = []
    root, opened = opened_document(content, path, beside)
    if root.tag != "COLLADA":
        raise InputError(f"it is XML, but not COLLADA: it begins with <{root.tag}>", remedy=f"{_AGAIN} as COLLADA")
    version = root.get("version") or "1.4.1"
    if not version.startswith(("1.4", "1.5")):
        raise InputError(f"it is COLLADA {version}, we read 1.4 and 1.5", place=root.place, remedy=_AGAIN + " as 1.4.1")
    _write_points(root)
    library = Library(root, path.name, opened)
    scene = _Scene(library, SceneBuilder(len(content)))
    metres, axis = _stance(library)
    # What comes out of the picture, where figures look, is +Z for X and Y up, -Y for Z up (COLLADA 1.4.1, up_axis).
    forward = "+Z" if axis == "+X" else None
    said = _said_by_us(library)
    if said is not None:
        forward = said[1]
        scene.builder.written_by_us(mark_from(said[2]))
    top = stance_node(scene.builder, unit, up, file_metres=metres, file_up=axis, forward=forward)
    scene.build(top, len(content))
    container = scene.builder.container(path, f"COLLADA {version}", beside=tuple(dict.fromkeys(beside)))
    document = document_from_container(container)
    return replace(document, findings=(*library.findings, *document.findings))


def _write_points(root: Tag) -> None:
    """Some write the comma of their country in all numbers; the unit's one number shows it."""
    length = child(child(root, "asset"), "unit")
    if length is not None and re.fullmatch(r"\s*\d+,\d+(e[+-]?\d+)?\s*", length.get("meter", ""), re.IGNORECASE):
        for tag in root.iter():
            tag.text = (tag.text or "").replace(",", ".")
        length.set("meter", length.get("meter", "").replace(",", "."))


def _said_by_us(library: Library) -> re.Match[str] | None:
    """Where a figure looks, and how it stands, as a file of ours says."""
    for held in children(child(library.root, "asset"), "contributor"):
        tool, said = child(held, "authoring_tool"), child(held, "comments")
        if tool is not None and said is not None and (tool.text or "").strip() == GENERATOR:
            return re.fullmatch(r"facing ([+-][XYZ]), stands ([^,]{1,80})", (said.text or "").strip())
    return None


def _stance(library: Library) -> tuple[float, str]:
    """The metres of the document's unit, and its up axis."""
    asset = child(library.root, "asset")
    held, length = child(asset, "up_axis"), child(asset, "unit")
    axis = _UPS.get((held.text or "").strip().upper() if held is not None else "Y_UP", "+Y")
    if length is None or not length.get("meter"):
        return 1.0, axis
    return float(numbers_of(length, length.get("meter"), 1)[0]), axis


@dataclass
class _Scene:
    """The scene while it is built up."""

    library: Library
    builder: SceneBuilder
    placed: list[Placed] = field(default_factory=list)
    by_id: dict[str, list[tuple[int, Placed]]] = field(default_factory=dict)
    morphs: dict[str, tuple[int, Floats]] = field(default_factory=dict)
    meshes: dict[tuple[int, tuple[tuple[str, int], ...]], int | None] = field(default_factory=dict)

    def build(self, top: int | None, file_bytes: int) -> None:
        """Nodes, then what hangs on them, then what moves them."""
        self.placed = placed_nodes(self.library)
        clips = clips_of(self.library)
        moved = {row.owner for clip in clips for row in clip.rows}
        for placed in self.placed:
            above = self.placed[placed.parent].number if placed.parent >= 0 else top
            placed.number = self.builder.node(placed.name, above, placed.matrices()[0])
            for key in {placed.tag.get("id"), placed.tag.get("sid")} & moved:
                self.by_id.setdefault(key or "", []).append((placed.number, placed))
        looks = Looks(self.library, self.builder, Pictures(Path(), self.library.name, self.library.findings))
        for placed in self.placed:
            self._hang(placed, looks)
        if "skins" not in self.builder.raw:
            self._bare_skeleton()
        for index, clip in enumerate(clips):
            title = clip.name or (f"{Path(self.library.name).stem} {index + 1}" if len(clips) > 1 else "")
            keys = keys_of_clip(self.library, title, clip.rows, self.by_id, self.morphs, file_bytes)
            if keys:
                self.builder.animation(title, keys, clip.made)

    def _bare_skeleton(self) -> None:
        """Joints that no skin names, as those of a body of blocks or of bones alone, are a skeleton all the same."""
        world: list[Floats] = []
        for placed in self.placed:
            above = world[placed.parent] if placed.parent >= 0 else np.eye(4)
            world.append(above @ placed.matrices()[0])
        joints = [at for at, placed in enumerate(self.placed) if placed.tag.get("type") == "JOINT"]
        joints = [at for at in joints if abs(np.linalg.det(world[at])) > 1e-18]
        if len(joints) >= _FEWEST:
            self.builder.skin([self.placed[at].number for at in joints], np.stack([world[at] for at in joints]))

    def _hang(self, placed: Placed, looks: Looks) -> None:
        """Put geometries and skins on a node; of several, each gets a node of its own."""
        kinds = ("instance_geometry", "instance_controller")
        instances = [one for one in placed.tag if one.tag in kinds and isinstance(one, Tag)]
        for index, instance in enumerate(instances):
            if not (instance.get("url") or "").startswith("#"):
                message = f"a part of it is in another file ({(instance.get('url') or '')[:60]!r}), which is not opened"
                self.library.findings.append(Finding("part-elsewhere", "warning", self.library.name, message))
                continue
            target = self.library.at(instance, instance.get("url"), "geometry", "controller")
            node = placed.number
            if index:
                node = self.builder.node(target.get("name") or target.get("id") or placed.name, placed.number)
            bound = looks.bound_in(instance)
            self._shape(node, target, instance, bound, self._materials(target, bound, looks))

    def _shape(
        self,
        node: int,
        target: Tag,
        instance: Tag,
        bound: dict[str, Tag],
        material: Callable[[str | None], int | None],
    ) -> None:
        name = target.get("name") or target.get("id") or "mesh"
        if target.tag == "geometry":
            # One geometry may be there often, in other looks.
            key = id(target), tuple(sorted((symbol, id(look)) for symbol, look in bound.items()))
            if key not in self.meshes:
                shape: Shape | None = shape_of(self.library, target, material)
                self.meshes[key] = None if shape is None else self.builder.mesh(name, shape.surface)
            mesh = self.meshes[key]
            if mesh is not None:
                self.builder.hang(node, mesh)
            return
        made = bound_shape(self.library, target, material)
        if made is None:
            return
        skin = None
        if made.joint_names:
            joints, number = self._joints(instance, made.joint_names, target)
            firsts = [int(np.argmax(number == joint)) for joint in range(len(joints))]
            placed = np.linalg.inv(made.binds[firsts]).astype(np.float64)
            surface = made.shape.surface
            if len(joints) < len(made.joint_names) and surface.joints is not None and surface.weights is not None:
                surface.weights = np.where(number[surface.joints] >= 0, surface.weights, 0.0)
                surface.joints = np.maximum(number[surface.joints], 0)
            skin = self.builder.skin(joints, placed)
        self.builder.hang(node, self.builder.mesh(name, made.shape.surface), skin)
        if made.weights_source and made.shape.surface.morphs:
            rest = np.array([*made.shape.surface.morph_weights], dtype=np.float64)
            self.morphs[made.weights_source] = node, rest
            self.morphs.setdefault(target.get("id") or "", (node, rest))

    def _joints(self, instance: Tag, names: list[str], controller: Tag) -> tuple[list[int], Integers]:
        """The nodes of a skin's joints: by their sids below its skeletons, then anywhere, then by id and by name; and
        for each name which of them it is, -1 for none."""
        roots = {(tag.text or "").strip().removeprefix("#") for tag in children(instance, "skeleton")}
        inside: set[int] = set()
        for at, placed in enumerate(self.placed):
            if placed.tag.get("id") in roots or placed.parent in inside:
                inside.add(at)
        found: dict[str, int] = {}
        for within in (True, False):
            for key in ("sid", "id", "name"):
                for at, placed in enumerate(self.placed):
                    if (at in inside) or not within:
                        found.setdefault(placed.tag.get(key) or "", placed.number)
        missing = [name for name in names if name not in found]
        numbers = list(dict.fromkeys(found[name] for name in names if name in found))
        row = {number: at for at, number in enumerate(numbers)}
        of_each = np.array([row[found[name]] if name in found else -1 for name in names], dtype=np.intp)
        if not numbers:
            problem = f"none of its {len(names)} joints is a node of the scene (the first is {names[0]!r})"
            raise InputError(problem, place=controller.place, remedy=_AGAIN)
        if missing:
            message = f"{len(missing)} joints of a skin are no nodes of the scene: {', '.join(missing[:3])}"
            self.library.findings.append(Finding("joints-missing", "warning", self.library.name, message))
        return numbers, of_each

    def _materials(self, target: Tag, bound: dict[str, Tag], looks: Looks) -> Callable[[str | None], int | None]:
        """What gives the material of a symbol; one that is not bound is that of the same id, as some programs have."""
        two_sided = is_two_sided(self._geometry(target))

        def number(symbol: str | None) -> int | None:
            named = self.library.by_id.get(symbol or "")
            found = bound.get(symbol or "") if symbol in bound else named
            return looks.number(found if found is not None and found.tag == "material" else None, two_sided)

        return number

    def _geometry(self, target: Tag) -> Tag:
        """The geometry at the end of a row of controllers."""
        for _ in range(8):
            inner = next((below(target, kind) for kind in ("skin", "morph") if child(target, kind) is not None), None)
            found = self.library.by_id.get((inner.get("source") or "").removeprefix("#")) if inner is not None else None
            if found is None:
                break
            target = found
        return target
