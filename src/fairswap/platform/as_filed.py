"""Check a file as a file: its kind and size, what is wrong with it by its own standard, and whether the figure is alone
in it, and one."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from fairswap.errors import Finding
from fairswap.formats.gltf.container import Container
from fairswap.formats.gltf.mending import flaws
from fairswap.formats.gltf.origins import GltfSource
from fairswap.formats.vrm.rules import broken_rules
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.model.space import OURS
from fairswap.platform.rules import Platform
from fairswap.wording import counted, listed


def check_file(document: Document, figure: Figure, platform: Platform, add: Any) -> None:
    """Its kind, its size, and what of it is not as its standard has it."""
    rules, path = platform.file, Path(document.file)
    if rules.formats:
        add(
            "file.formats",
            path.name,
            ", ".join(rules.formats),
            path.suffix.lower(),
            path.suffix.lower() in rules.formats,
        )
    for finding in document.findings:
        if finding.code == "space-corrected":
            add("space.standard", finding.place, str(OURS), str(figure.space), False)
    origin = document.origin
    if isinstance(origin, Container) and origin.is_gltf and not origin.packed and (wrong := flaws(origin)):
        add("file.standard", path.name, "as glTF has it", f"not so: {', '.join(wrong[:4])}", False)
    for name, problem in _broken_by_standard(figure):
        add("file.standard", name, "as the standard has it", problem, False, "Export it again, or fit it")
    kib = path.stat().st_size / 1024 if path.exists() else 0.0
    if rules.max_kib is not None and figure.meshes:
        add("file.max_kib", path.name, f"{rules.max_kib:g} KiB", f"{kib:.0f} KiB", kib <= rules.max_kib,
            "Smaller textures or fewer vertices, where the figure was made")  # fmt: skip
    if rules.max_motion_kib is not None and not figure.meshes:
        limit = rules.max_motion_kib
        add("file.max_motion_kib", path.name, f"{limit:g} KiB", f"{kib:.0f} KiB", kib <= limit)


def _broken_by_standard(figure: Figure) -> list[tuple[str, str]]:
    """The rules of an avatar standard that the file breaks, if it says that it is of it."""
    if not isinstance(figure.source, GltfSource):
        return []
    container = figure.source.container
    return broken_rules(container.raw if container.as_read is None else container.as_read)


def check_one_skeleton(document: Document, figure: Figure, add: Any) -> None:
    """What is read as one skeleton is one in the file, too: nobody else puts together clothes on a copy of the bones, a
    skeleton that another drives, and legs that hang on nothing."""
    if document.joined:
        measured = f"{counted(len(document.joined), 'bone')} of a second one ({document.joined[0][0]!r} …)"
        add("figure.one_skeleton", figure.name, "one skeleton", measured, False)
    hung = figure.stand_ins.hung if figure.stand_ins is not None and not figure.stand_ins.carriers else {}
    if hung:
        names = list(map(repr, hung))
        add("figure.one_skeleton", figure.name, "one skeleton", f"{listed(names, 3)} hang elsewhere", False)


def clutter(document: Document) -> list[Finding]:
    """What else the file holds: a platform may show it, or refuse it."""
    rows = [f"{thing.kind} {thing.name!r}" for thing in document.held]
    if not rows:
        return []
    return [Finding("clutter", "warning", document.file, f"the file holds more than the figure: {listed(rows, 4)}")]
