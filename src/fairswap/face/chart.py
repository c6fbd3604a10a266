"""Face charts: what each shape of one head – a morph, or a pose of face bones – does, in face units.

A chart is a TOML file (``fairswap = "face/1"``), made by ``fairswap face draft`` or by hand.
"""

from __future__ import annotations

import difflib
from collections.abc import Container, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import Any

import msgspec
import numpy as np

from fairswap.errors import InputError
from fairswap.face.units import UNITS, names, spread, vector
from fairswap.formats.own import OwnFile, inline, new_file, struct_from_file
from fairswap.formats.patterns import glob_end
from fairswap.model.arrays import Floats
from fairswap.wording import counted


class _Morph(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    units: dict[str, float] = {}
    negative: dict[str, float] = {}
    range: tuple[float, float] = (0.0, 1.0)
    sum: dict[str, float] = {}
    corrects: list[str] = []
    region: str = ""


class _BoneMove(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    move: tuple[float, float, float] = (0.0, 0.0, 0.0)
    turn: tuple[float, float, float] = (0.0, 0.0, 0.0)


class _Pose(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    units: dict[str, float]
    bones: dict[str, _BoneMove]
    region: str = ""


class _Control(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    units: dict[str, float]
    range: tuple[float, float]
    negative: dict[str, float] = {}


class _File(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    fairswap: str
    name: str = ""
    prefix: str | list[str] = []
    morphs: dict[str, _Morph] = {}
    poses: dict[str, _Pose] = {}
    controls: dict[str, _Control] = {}


@dataclass(frozen=True, eq=False)
class Shape:
    """One shape of a head.

    Attributes
    ----------
    units, negative : mapping of unit to weight
        What it does at its full, and (of a signed one) at its full the other way.
    low, high : float
        The range of its weight in the file: 0 to 1, 0 to 100, -1 to 1.
    total : mapping of shape to weight
        The shapes it is the sum of, where it is one.
    corrects : tuple of str
        The shapes that it comes in with, where it is a corrective.
    bones : mapping of bone to (move, turn)
        Of a pose: how each bone moves, in head sizes, and turns, a rotation vector in degrees; about left, up, ahead,
        away from rest.
    control : (bone, axis), optional
        The node whose place drives it, along left (0), up (1) or ahead (2); its range is in metres away from rest.
    """

    name: str
    units: Mapping[str, float] = field(default_factory=dict)
    negative: Mapping[str, float] = field(default_factory=dict)
    low: float = 0.0
    high: float = 1.0
    total: Mapping[str, float] = field(default_factory=dict)
    corrects: tuple[str, ...] = ()
    bones: Mapping[str, tuple[Floats, Floats]] = field(default_factory=dict)
    region: str = ""
    control: tuple[str, int] | None = None

    @property
    def does_something(self) -> bool:
        """Whether it is a shape of a face, of which it is known what it does."""
        return bool(self.units or self.negative or self.total or self.corrects)

    @property
    def signed(self) -> bool:
        """Whether it also goes the other way."""
        return self.low < 0.0


# The directions of a control, as seen from its parent at rest, in the figure's own axes.
AXES = ("left", "up", "ahead")
# Weights above this are percent.
PERCENT_FROM = 1.5
# Sums of sums: as deep as anybody would write by hand.
_DEEPEST = 32
_MEANING = (
    "What each shape of this head does, in face units (docs/faces.md lists them), weighed 0 to 1.",
    "range: what its weight goes from and to; negative: what it does below 0;",
    "sum: the shapes it is the sum of; corrects: the shapes it comes in with.",
)


@dataclass(frozen=True, eq=False)
class FaceChart(OwnFile):
    """The shapes of one head, in face units.

    >>> chart = FaceChart("Pip", {"happy": Shape("happy", {"joy": 1.0})})
    >>> chart.matrix.shape == (len(UNITS), 1)
    True

    ``prefixes`` are what may stand before the name of every shape in a file; ``*`` stands for anything.
    """

    name: str
    shapes: Mapping[str, Shape]
    prefixes: tuple[str, ...] = ()

    @cached_property
    def columns(self) -> tuple[tuple[str, int], ...]:
        """Each column of :attr:`matrix`: a shape and the way it goes, 1 or (of signed ones also) -1."""
        return tuple(
            (name, sign)
            for name, shape in self.shapes.items()
            if not shape.corrects
            for sign in ((1, -1) if shape.signed else (1,))
        )

    @cached_property
    def matrix(self) -> Floats:
        """What each way of each shape does: ``(units, ways)``."""
        columns = [vector(self.units_of(name, sign)) for name, sign in self.columns]
        return np.stack(columns, axis=1) if columns else np.zeros((len(UNITS), 0))

    def units_of(self, name: str, sign: int = 1) -> dict[str, float]:
        """What a shape does, its sums written out."""
        return dict(self._written_out(name) if sign > 0 else self.shapes[name].negative)

    @cached_property
    def _known(self) -> dict[str, dict[str, float]]:
        return {}

    def _written_out(self, name: str) -> dict[str, float]:
        # Kept: many shapes may be sums of the same ones.
        if name not in self._known:
            out = dict(self.shapes[name].units)
            for part, weight in self.shapes[name].total.items():
                for unit, fraction in self._written_out(part).items():
                    out[unit] = out.get(unit, 0.0) + weight * fraction
            self._known[name] = out
        return self._known[name]

    def activations(self, weights: Mapping[str, Floats]) -> Floats:
        """Weights as they stand in a file, by shape, as shares ``(ways, frames)`` of 0 to 1."""
        frames = len(next(iter(weights.values()))) if weights else 0
        out = np.zeros((len(self.columns), frames))
        for row, (name, sign) in enumerate(self.columns):
            if name in weights:
                shape = self.shapes[name]
                full = shape.high if sign > 0 else -shape.low
                out[row] = np.maximum(sign * weights[name], 0.0) / full
        return out

    def file_weights(self, shares: Floats) -> dict[str, Floats]:
        """Shares ``(ways, frames)`` as weights for a file, by shape; correctives come in with what they correct."""
        out: dict[str, Floats] = {}
        for row, (name, sign) in enumerate(self.columns):
            shape = self.shapes[name]
            out[name] = out.get(name, 0.0) + sign * shares[row] * (shape.high if sign > 0 else -shape.low)
        for name, shape in self.shapes.items():
            if shape.corrects:
                parts = [
                    np.clip(out[part] / self.shapes[part].high, 0.0, 1.0) for part in shape.corrects if part in out
                ]
                out[name] = np.prod(parts, axis=0) * shape.high if parts else np.zeros(shares.shape[1])
        return out

    @classmethod
    def load(cls, path: str | Path) -> FaceChart:
        """Read a chart.

        Raises
        ------
        InputError
            With the field that is wrong.
        """
        read, _ = struct_from_file(path, "face/1", "a face chart", _File)
        shapes: dict[str, Shape] = {}
        for name, row in read.morphs.items():
            _check_way(row, path, f"morphs.{name}")
            shapes[name] = Shape(
                name, row.units, row.negative, row.range[0], row.range[1], row.sum, tuple(row.corrects), {}, row.region
            )
        for name, control in read.controls.items():
            _check_way(control, path, f"controls.{name}")
            node, _, axis = name.rpartition(".")
            if not node or axis not in AXES:
                problem = f"{name!r} is not a node and a direction"
                remedy = f"Write NODE.{', NODE.'.join(AXES)}"
                raise InputError(problem, file=path, place=f"controls.{name}", remedy=remedy)
            if name in shapes:
                raise InputError("a morph and a control have one name", file=path, place=f"controls.{name}")
            shapes[name] = Shape(
                name, control.units, control.negative, *control.range, control=(node, AXES.index(axis))
            )
        for name, pose in read.poses.items():
            place = f"poses.{name}"
            _check_units(pose.units, path, f"{place}.units")
            if name in shapes:
                raise InputError("a morph and a pose have one name", file=path, place=place, remedy="Rename the pose")
            bones = {}
            for bone, move in pose.bones.items():
                if not all(np.isfinite(v).all() for v in (move.move, move.turn)):
                    where = f"{place}.bones.{bone}"
                    raise InputError(
                        "a move or turn that is not finite", file=path, place=where, remedy="Write left, up, ahead"
                    )
                bones[bone] = (np.array(move.move), np.array(move.turn))
            shapes[name] = Shape(name, pose.units, bones=bones, region=pose.region)
        _check_parts(shapes, path)
        prefixes = (read.prefix,) if isinstance(read.prefix, str) else tuple(read.prefix)
        return cls(read.name or Path(path).stem, shapes, prefixes)

    def bare(self, name: str) -> str:
        """The name of a shape in a file, as the chart has it: without what may stand before it."""
        if name in self.shapes:
            return name
        ends = (end for glob in self.prefixes if (end := glob_end(glob, name)) is not None)
        return next((name[end:] for end in ends), name)

    def renamed(self, names: Mapping[str, str]) -> FaceChart:
        """The chart with some of its shapes under other names."""

        def new(name: str) -> str:
            return names.get(name, name)

        shapes = {
            new(name): replace(
                shape, name=new(name), total={new(part): weight for part, weight in shape.total.items()},
                corrects=tuple(map(new, shape.corrects)),
            )
            for name, shape in self.shapes.items()
        }  # fmt: skip
        return replace(self, shapes=shapes)

    def only(self, names: Container[str]) -> FaceChart:
        """The chart with some of its shapes alone; what those are made of goes with what is left out."""
        shapes = {
            name: replace(
                shape, total={part: weight for part, weight in shape.total.items() if part in names},
                corrects=tuple(part for part in shape.corrects if part in names),
            )
            for name, shape in self.shapes.items() if name in names
        }  # fmt: skip
        return replace(self, shapes=shapes)

    def text(self, comments: Mapping[str, str] | None = None) -> str:
        """The file; ``comments`` are put above the shapes they belong to."""
        import tomlkit

        document = new_file("face/1")
        document.add("name", tomlkit.item(self.name))
        if self.prefixes:
            document.add("prefix", tomlkit.item(list(self.prefixes)))
        document.add(tomlkit.nl())
        for line in _MEANING:
            document.add(tomlkit.comment(line))
        tables = {key: tomlkit.table(is_super_table=True) for key in ("morphs", "poses", "controls")}
        for name, shape in self.shapes.items():
            row = tomlkit.table()
            if comments and name in comments:
                row.add(tomlkit.comment("".join(c if c.isprintable() else " " for c in comments[name])))
            for key, value in _row_of(shape).items():
                row.add(key, inline(value) if isinstance(value, dict) and key != "bones" else value)
            tables["poses" if shape.bones else "controls" if shape.control else "morphs"].add(name, row)
        for key, table in tables.items():
            if len(table):
                document.add(key, table)
        return tomlkit.dumps(document)

    def __repr__(self) -> str:
        return f"<FaceChart {self.name!r}: {counted(len(self.shapes), 'shape')}>"


def _check_way(row: _Morph | _Control, path: str | Path, place: str) -> None:
    """Refuse units that are none, and ranges that do not hold what a shape does."""
    _check_units(row.units, path, f"{place}.units")
    _check_units(row.negative, path, f"{place}.negative")
    if not np.isfinite(row.range).all() or not row.range[0] <= 0.0 < row.range[1]:
        problem = f"a range is two numbers, the first 0 or below and the second above 0, not {row.range}"
        raise InputError(problem, file=path, place=f"{place}.range", remedy="Write [0, 1], [0, 100] or [-1, 1]")
    if row.negative and row.range[0] == 0.0:
        problem = "it has a negative meaning, but its range does not go below 0"
        raise InputError(problem, file=path, place=place, remedy="Give it a range like [-1, 1]")


def _check_units(table: Mapping[str, float], path: str | Path, place: str) -> None:
    for unit, weight in table.items():
        if spread(unit) is None:
            near = difflib.get_close_matches(unit, names(), 1)
            remedy = f"Do you mean {near[0]}?" if near else "docs/faces.md lists them"
            raise InputError(f"{unit!r} is not a face unit", file=path, place=place, remedy=remedy)
        if not np.isfinite(weight) or abs(weight) > 10.0:
            raise InputError(
                f"a weight of {weight}", file=path, place=f"{place}.{unit}", remedy="Weights go from 0 to 1"
            )


def _check_parts(shapes: Mapping[str, Shape], path: str | Path) -> None:
    """Sums and correctives must name shapes that are there, and no sum may contain itself."""
    for name, shape in shapes.items():
        for part in (*shape.total, *shape.corrects):
            if part not in shapes:
                near = difflib.get_close_matches(part, shapes, 1)
                remedy = f"Do you mean {near[0]!r}?" if near else "Name one of this chart"
                raise InputError(f"there is no shape {part!r}", file=path, place=f"morphs.{name}", remedy=remedy)
    depth: dict[str, int] = {}

    def visit(name: str, above: tuple[str, ...]) -> int:
        if name in above:
            circle = " → ".join((*above[above.index(name) :], name))
            raise InputError(f"sums go in a circle: {circle}", file=path, remedy="Take one of them out")
        if name not in depth:
            parts = (*shapes[name].total, *shapes[name].corrects)
            below = [visit(part, (*above, name)) for part in parts] if len(above) <= _DEEPEST else [_DEEPEST]
            depth[name] = 1 + max(below, default=0)
            if depth[name] > _DEEPEST:
                problem = f"shapes are sums of sums more than {_DEEPEST} deep"
                raise InputError(problem, file=path, place=f"morphs.{name}", remedy="Make sums of plain shapes")
        return depth[name]

    for name in shapes:
        visit(name, ())


def _row_of(shape: Shape) -> dict[str, Any]:
    """A shape as it stands in a file."""
    row: dict[str, Any] = {}
    if shape.units or not (shape.total or shape.corrects):
        row["units"] = {unit: float(f"{weight:.4g}") for unit, weight in shape.units.items()}
    if shape.bones:
        return row | {"bones": {name: inline(_move(*moves)) for name, moves in shape.bones.items()}}
    if shape.negative:
        row["negative"] = {unit: float(f"{weight:.4g}") for unit, weight in shape.negative.items()}
    if shape.control or (shape.low, shape.high) != (0.0, 1.0):
        row["range"] = [shape.low, shape.high]
    if shape.total:
        row["sum"] = {name: float(f"{weight:.4g}") for name, weight in shape.total.items()}
    if shape.corrects:
        row["corrects"] = list(shape.corrects)
    return row


def _move(move: Floats, turn: Floats) -> dict[str, list[float]]:
    parts = {"move": (move, 5), "turn": (turn, 3)}
    return {
        key: [round(x, digits) for x in values.tolist()] for key, (values, digits) in parts.items() if np.any(values)
    }
