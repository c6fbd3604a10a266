"""A USD scene while it is built up as a glTF document: what its parts have to know of each other."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from fairswap.errors import Finding
from fairswap.formats.scene.beside import Pictures
from fairswap.formats.scene.building import SceneBuilder
from fairswap.formats.usd.looks import Looks
from fairswap.model.arrays import Floats


@dataclass
class Bones:
    """A skeleton while it is read: its joints' nodes, their names, and their bind matrices ``(joints, 4, 4)``."""

    joints: list[str]
    nodes: list[int]
    binds: Floats
    rest: Floats
    skinned: bool = False


@dataclass
class Shape:
    """A mesh that was hung: its node, and for each of its morphs the token and how weights of the token move it."""

    node: int
    tokens: list[str]
    curves: list[tuple[list[float], list[float]]]
    rest: Floats


@dataclass
class Scene:
    """The scene so far. ``folder`` is where pictures are looked for; skeletons and hung meshes are known by the paths
    of the skeletons."""

    stage: Any
    folder: Path
    path: Path
    file_bytes: int
    findings: list[Finding] = field(default_factory=list)
    skeletons: dict[str, Bones] = field(default_factory=dict)
    shapes: dict[str, list[Shape]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.builder = SceneBuilder(self.file_bytes)
        self.looks = Looks(self.builder, Pictures(self.folder, self.path.name, self.findings))
