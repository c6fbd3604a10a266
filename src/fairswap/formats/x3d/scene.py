"""An X3D scene while it is built up as a glTF document: what its parts have to know of each other."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

from fairswap.errors import Finding, InputError
from fairswap.formats.markup import Tag
from fairswap.formats.scene.beside import Pictures
from fairswap.formats.scene.building import SceneBuilder
from fairswap.formats.x3d.motions import Mover
from fairswap.formats.x3d.shapes import Looks
from fairswap.model.arrays import Floats

_AGAIN = "Export the file again"


@dataclass
class Joint:
    """A joint while it is read: where it turns, how its bone rests, its node, and what that makes of moved fields."""

    tag: Tag
    center: Floats
    rest: Floats
    node: int
    mover: Mover


@dataclass
class Humanoid:
    """A humanoid while it is read."""

    tag: Tag
    node: int
    joints: list[Joint] = field(default_factory=list)


@dataclass
class Scene:
    """The scene while it is built up."""

    root: Tag
    path: Path
    file_bytes: int
    findings: list[Finding] = field(default_factory=list)
    by_name: dict[str, Tag] = field(default_factory=dict)
    movers: dict[str, list[tuple[int, Mover]]] = field(default_factory=dict)
    # By the name of a displacer: the meshes that have it as a morph, and which one it is.
    displaced: dict[str, list[tuple[int, int]]] = field(default_factory=dict)
    humanoids: list[Humanoid] = field(default_factory=list)
    # The mesh of a shape, by the shape's identity.
    meshes: dict[int | None, int] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.builder = SceneBuilder(self.file_bytes)
        for tag in self.root.iter():
            if "DEF" in tag.attrib and isinstance(tag, Tag):
                self.by_name.setdefault(tag.attrib["DEF"], tag)
        self.routed = {tag.get("toNode") for tag in self.root.iter("ROUTE")}
        pictures = Pictures(self.path.parent, self.path.name, self.findings)
        self.looks = Looks(self.builder, self.path, self.resolved, pictures)

    def resolved(self, tag: Tag) -> Tag:
        """The element itself, or the one that it stands for by its name."""
        name = tag.get("USE")
        if name is None:
            return tag
        found = self.by_name.get(name)
        if found is None:
            raise InputError(f"it names {name[:80]!r}, which is not there", place=tag.place, remedy=_AGAIN)
        return found
