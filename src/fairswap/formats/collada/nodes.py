"""The visual scene: nodes with stacks of transforms, each turned into one matrix, also over time."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

from fairswap.errors import InputError
from fairswap.formats.collada.library import Library, child, children
from fairswap.formats.limits import DEEPEST_XML
from fairswap.formats.markup import Tag, numbers_of
from fairswap.model.arrays import Floats
from fairswap.model.rotation import matrix_from_quaternion, quaternion_from_axis_angle

_AGAIN = "Export the file again"
_WIDTHS = {"matrix": 16, "translate": 3, "rotate": 4, "scale": 3, "lookat": 9, "skew": 7}
# Copies of copies of nodes must not fill the memory.
_MOST_NODES = 200_000


@dataclass
class Placed:
    """One node of the scene: its element, the placed node above it, and its number in what is built."""

    tag: Tag
    parent: int
    number: int = -1
    steps: list[tuple[str | None, str, Floats]] = field(default_factory=list)

    @property
    def name(self) -> str:
        """What people call it."""
        return self.tag.get("name") or self.tag.get("id") or self.tag.get("sid") or "node"

    def step_of(self, sid: str, width: int) -> int | None:
        """Which of its steps is called so; where none is, its only matrix if a whole one is meant: some programs call
        the step otherwise than what moves it."""
        named = next((index for index, (own, _, _) in enumerate(self.steps) if own and own == sid), None)
        matrices = [index for index, (_, kind, _) in enumerate(self.steps) if kind == "matrix"]
        return named if named is not None or width != _WIDTHS["matrix"] or len(matrices) != 1 else matrices[0]

    def matrices(self, changed: Mapping[int, Floats] | None = None, count: int = 1) -> Floats:
        """Its local matrices ``(count, 4, 4)``; ``changed`` has the values ``(count, width)`` of some steps."""
        out = np.tile(np.eye(4), (count, 1, 1))
        for index, (_, kind, values) in enumerate(self.steps):
            rows = (changed or {}).get(index)
            out = out @ _matrices_of_step(kind, np.broadcast_to(values, (count, len(values))) if rows is None else rows)
        return out


def placed_nodes(library: Library) -> list[Placed]:
    """The nodes of the scene, parents first; nodes that are used several times are there as often.

    Raises
    ------
    InputError
        For nodes inside of themselves, and transforms that are none.
    """
    scene = _scene(library)
    out: list[Placed] = []
    stack: list[tuple[Tag, int, tuple[int, ...]]] = [(tag, -1, ()) for tag in reversed(children(scene, "node"))]
    while stack:
        tag, parent, inside = stack.pop()
        if id(tag) in inside or len(inside) > DEEPEST_XML or len(out) >= _MOST_NODES:
            what = "it is inside of itself" if id(tag) in inside else "there are too many copies of nodes in it"
            raise InputError(what, place=tag.place, remedy=_AGAIN)
        placed = Placed(tag, parent)
        for step in tag:
            if step.tag in _WIDTHS and isinstance(step, Tag):
                placed.steps.append((step.get("sid"), step.tag, _values(step)))
        out.append(placed)
        below = list(children(tag, "node"))
        below += [
            library.at(one, one.get("url"), "node", "visual_scene")
            for one in children(tag, "instance_node")
            if (one.get("url") or "").startswith("#")
        ]
        stack += [(one, len(out) - 1, (*inside, id(tag))) for one in reversed(below)]
    return out


def _scene(library: Library) -> Tag | None:
    """The scene that the document shows; without one, the first that is there."""
    held = child(child(library.root, "scene"), "instance_visual_scene")
    if held is not None:
        return library.at(held, held.get("url"), "visual_scene")
    return child(child(library.root, "library_visual_scenes"), "visual_scene")


def _values(step: Tag) -> Floats:
    values = numbers_of(step)
    width = _WIDTHS[step.tag]
    if step.tag == "scale" and len(values) == 1:
        values = np.repeat(values, 3)
    if len(values) != width:
        raise InputError(f"it has {len(values)} numbers, {width} are needed", place=step.place, remedy=_AGAIN)
    return values


def _matrices_of_step(kind: str, values: Floats) -> Floats:
    """Matrices ``(n, 4, 4)`` of one step of a node's transform, from its numbers ``(n, width)``."""
    if kind == "matrix":
        return values.reshape(-1, 4, 4)
    out = np.tile(np.eye(4), (len(values), 1, 1))
    if kind == "translate":
        out[:, :3, 3] = values
    elif kind == "scale":
        out[:, [0, 1, 2], [0, 1, 2]] = values
    elif kind == "rotate":
        length = np.linalg.norm(values[:, :3], axis=1, keepdims=True)
        axes = values[:, :3] / np.where(length > 0.0, length, 1.0)
        out[:, :3, :3] = matrix_from_quaternion(quaternion_from_axis_angle(axes, np.radians(values[:, 3])))
    elif kind == "lookat":
        eye, aim, up = values[:, 0:3], values[:, 3:6], values[:, 6:9]
        back = _unit(eye - aim)
        right = _unit(np.cross(up, back))
        out[:, :3, :3] = np.stack([right, np.cross(back, right), back], axis=2)
        out[:, :3, 3] = eye
    elif kind == "skew":
        # Angle, the axis that turns, and the axis it turns about (RenderMan's definition, as the standard says).
        turned, about = _unit(values[:, 1:4]), _unit(values[:, 4:7])
        out[:, :3, :3] += np.tan(np.radians(values[:, :1]))[:, :, None] * about[:, :, None] * turned[:, None, :]
    return out


def _unit(vectors: Floats) -> Floats:
    length = np.linalg.norm(vectors, axis=1, keepdims=True)
    return vectors / np.where(length > 0.0, length, 1.0)
