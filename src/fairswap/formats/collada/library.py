"""A COLLADA document as a library: elements found by their ids, sources of numbers, files it points to."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from urllib.parse import unquote

import numpy as np

from fairswap.errors import Finding, InputError
from fairswap.formats.markup import Tag, integers_of, numbers_of
from fairswap.model.arrays import Floats

_AGAIN = "Export the file again"
_ARRAYS = ("float_array", "int_array", "Name_array", "IDREF_array", "SIDREF_array", "bool_array")


@dataclass
class Library:
    """The elements of a document by id, and what was noticed while it was read.

    ``opened`` gives the bytes of a file that the document names, None if it is not there; it raises
    :class:`~fairswap.errors.InputError` for one that may not be opened.
    """

    root: Tag
    name: str
    opened: Callable[[str], bytes | None]
    findings: list[Finding] = field(default_factory=list)
    by_id: dict[str, Tag] = field(default_factory=dict)
    _sources: dict[int, Floats] = field(default_factory=dict)
    _columns: dict[tuple[int, str], Floats] = field(default_factory=dict)

    def __post_init__(self) -> None:
        for tag in self.root.iter():
            if "id" in tag.attrib:
                self.by_id.setdefault(tag.attrib["id"], tag)  # type: ignore[arg-type]  # all are tags

    def at(self, tag: Tag, url: str | None, *kinds: str) -> Tag:
        """The element that ``url`` (``#id``) names in ``tag``.

        Raises
        ------
        InputError
            If it is not there, is in another file, or none of ``kinds``.
        """
        found = self.by_id.get(unquote((url or "").strip().removeprefix("#")))
        if found is None or (kinds and found.tag not in kinds):
            what = f"{url!r}, which is not there" if found is None else f"{url!r}, which is a {found.tag}"
            raise InputError(f"it names {what}", place=tag.place, remedy=_AGAIN)
        return found

    def inputs(self, tag: Tag) -> list[Input]:
        """The ``<input>`` elements below ``tag``; each has its offset, or one after the other."""
        rows = []
        for index, one in enumerate(children(tag, "input")):
            offset = one.get("offset")
            number = int(integers_of(one, offset)[0]) if offset and offset.split() else index
            if not 0 <= number < 256:
                raise InputError(f"its offset is {number}", place=one.place, remedy=_AGAIN)
            group = one.get("set") or "0"
            rows.append(Input(one, (one.get("semantic") or "").upper(), one.get("source") or "", number, group))
        return rows

    def numbers(self, source: Tag) -> Floats:
        """The rows ``(count, width)`` of a source of numbers, by its accessor."""
        if id(source) not in self._sources:
            self._sources[id(source)] = self._read_numbers(source)
        return self._sources[id(source)]

    def columns(self, one: Input, width: int) -> Floats:
        """The rows of an input's source with ``width`` numbers each; colours have all of theirs. The same array for all
        who ask, so that runs of triangles with one source are known to share it."""
        source = self.at(one.tag, one.source, "source")
        key = id(source), one.semantic
        if key not in self._columns:
            rows = self.numbers(source)
            # Flat drawings have two numbers to a place.
            rows = np.pad(rows, ((0, 0), (0, max(width - rows.shape[1], 0))))
            self._columns[key] = rows[:, :4] if one.semantic == "COLOR" else rows[:, :width]
        return self._columns[key]

    def words(self, source: Tag) -> list[str]:
        """The words of a source of names."""
        held = next((tag for tag in source if tag.tag in _ARRAYS), None)
        return held.words if isinstance(held, Tag) else []

    def _read_numbers(self, source: Tag) -> Floats:
        held = next((tag for tag in source if tag.tag in _ARRAYS), None)
        accessor = child(child(source, "technique_common"), "accessor")
        if not isinstance(held, Tag):
            if accessor is None:
                raise InputError("the source has no numbers", place=source.place, remedy=_AGAIN)
            held = self.at(accessor, accessor.get("source"), *_ARRAYS)
        flat = numbers_of(held)
        if accessor is None:
            return flat[:, None]
        row = {key: int(integers_of(accessor, accessor.get(key) or "0")[0]) for key in ("count", "offset", "stride")}
        width = max(row["stride"], 1)
        # Parameters without a name are skipped (COLLADA 1.4.1, accessor).
        params = children(accessor, "param")
        named = [at for at, one in enumerate(params) if one.get("name")] or list(range(len(params)))
        needed = row["offset"] + row["count"] * width
        if min(row.values()) < 0 or needed > len(flat):
            problem = f"it counts {row['count']} rows of {width}, there are {len(flat)} numbers"
            raise InputError(problem, place=accessor.place, remedy=_AGAIN)
        rows = flat[row["offset"] : needed].reshape(-1, width)
        columns = [at for at in named if at < width]
        # One parameter for a row of many is a matrix, whatever it is called.
        return rows[:, columns] if 1 < len(columns) < width else rows


@dataclass(frozen=True)
class Input:
    """One ``<input>``: what it means, where it points, and which of the interleaved indices is its."""

    tag: Tag
    semantic: str
    source: str
    offset: int
    group: str


def children(tag: Tag | None, name: str) -> list[Tag]:
    """The children of an element that are called so."""
    return [] if tag is None else [one for one in tag if one.tag == name and isinstance(one, Tag)]


def child(tag: Tag | None, name: str) -> Tag | None:
    """The first child called so."""
    return next(iter(children(tag, name)), None)


def below(tag: Tag | None, *path: str) -> Tag | None:
    """The first element down a path of names."""
    for name in path:
        tag = child(tag, name)
    return tag


def all_below(tag: Tag | None, name: str) -> Iterator[Tag]:
    """Every element called so, however deep."""
    for one in () if tag is None else tag.iter(name):
        if isinstance(one, Tag):
            yield one


def is_two_sided(tag: Tag) -> bool:
    """Whether an element says, as programs do in their own parts of it, that its surface is seen from behind, too."""
    return any((one.text or "").strip() in ("1", "true") for one in tag.iter("double_sided"))


def matrix_of(tag: Tag) -> Floats:
    """A matrix ``(4, 4)``, written row by row."""
    return numbers_of(tag, count=16).reshape(4, 4)


def rows_of(values: Floats, indices: np.ndarray, tag: Tag) -> Floats:
    """``values[indices]``, or a clear error."""
    if len(indices) and (indices.min() < 0 or indices.max() >= len(values)):
        worst = int(indices.max() if indices.max() >= len(values) else indices.min())
        raise InputError(f"it names row {worst} of {len(values)}", place=tag.place, remedy=_AGAIN)
    return values[indices]
