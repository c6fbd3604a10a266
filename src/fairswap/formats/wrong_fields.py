"""What is wrong with a field of a file of ours, in words for who wrote it."""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterator

import msgspec

_KINDS = {
    "int": "a whole number", "float": "a number", "str": "a text in quotes", "bool": "true or false",
    "array": "a list in brackets", "object": "a table", "null": "nothing",
}  # fmt: skip
_SHOWN = 60  # letters of a name that is not ours


def said_of(error: msgspec.ValidationError, struct: type[msgspec.Struct], what: str) -> tuple[str, str, str]:
    """What is wrong, where, and what to do, with a table that is no such ``struct``; ``what`` it should be: ``a pose``.

    >>> class Pose(msgspec.Struct):
    ...     degrees: float
    >>> try:
    ...     msgspec.convert({"degrees": "many"}, Pose)
    ... except msgspec.ValidationError as error:
    ...     said_of(error, Pose, "a pose")
    ('it is a text in quotes, not a number', 'degrees', 'Correct that field')
    """
    problem, _, place = str(error).partition(" - at `$")
    place = place.strip("`.")
    if found := re.search(r"unknown field `(.*)`", problem, re.DOTALL):
        near = difflib.get_close_matches(found[1][:_SHOWN], sorted(_fields_of(struct)), 1)
        remedy = f"Do you mean {near[0]}?" if near else "Take it out"
        return f"there is no field {found[1][:_SHOWN]!r} in {what}", place, remedy
    if found := re.fullmatch(r"Object missing required field `(.*)`", problem):
        return f"the field {found[1]!r} is missing", place, "Write it in"
    if found := re.fullmatch(r"Invalid enum value (.*)", problem, re.DOTALL):
        allowed = ", ".join(map(str, _allowed_at(place, struct)))
        remedy = f"Give one of {allowed}" if allowed else "Correct that field"
        return f"{found[1][:_SHOWN]} is not a word for this field", place, remedy
    if found := re.fullmatch(r"Expected `(.*)`, got `(.*)`", problem):
        return f"it is {_kinds(found[2])}, not {_kinds(found[1])}", place, "Correct that field"
    if found := re.fullmatch(r"Expected `(int|float)` (>=|>|<=|<) (.*)", problem):
        limit = {">=": "{} or more", ">": "more than {}", "<=": "{} at most", "<": "less than {}"}[found[2]]
        number = f"{float(found[3]):g}"
        return f"it is not {_KINDS[found[1]]} that is {limit.format(number)}", place, "Correct that number"
    if found := re.fullmatch(r"Expected `array` of (at least |at most )?length (\d+), got (\d+)", problem):
        entries = "1 entry" if found[3] == "1" else f"{found[3]} entries"
        return f"its list has {entries}, not {found[1] or ''}{found[2]}", place, "Correct that list"
    return problem, place, "Correct that field"


def _kinds(names: str) -> str:
    return " or ".join(_KINDS.get(name, name) for name in names.split(" | ") if name != "null" or names == "null")


def _allowed_at(place: str, struct: type[msgspec.Struct]) -> list[str | int]:
    """The words that a field may be, by its place (``figure.extra``, ``file.formats[0]``)."""
    kinds: list[msgspec.inspect.Type] = [msgspec.inspect.type_info(struct)]
    for step in re.findall(r"\[[^\]]*\]|[^.\[\]]+", place):
        kinds = [below for kind in kinds for below in _below(kind, step)]
    return [value for kind in kinds for row in _alternatives(kind) for value in getattr(row, "values", ())]


def _alternatives(kind: msgspec.inspect.Type) -> Iterator[msgspec.inspect.Type]:
    if isinstance(kind, msgspec.inspect.UnionType):
        yield from kind.types
    else:
        yield kind


def _below(kind: msgspec.inspect.Type, step: str) -> Iterator[msgspec.inspect.Type]:
    for one in _alternatives(kind):
        if isinstance(one, msgspec.inspect.StructType):
            yield from (field.type for field in one.fields if field.encode_name == step)
        elif isinstance(one, msgspec.inspect.DictType):
            yield one.value_type
        elif isinstance(one, msgspec.inspect.TupleType):
            yield from one.item_types
        elif isinstance(one, msgspec.inspect.ListType | msgspec.inspect.VarTupleType):
            yield one.item_type


def _fields_of(struct: type[msgspec.Struct]) -> set[str]:
    """The names of all fields of a struct, and of the structs in it."""
    found: set[str] = set()
    rest: list[msgspec.inspect.Type] = [msgspec.inspect.type_info(struct)]
    while rest:
        for kind in _alternatives(rest.pop()):
            if isinstance(kind, msgspec.inspect.StructType):
                found |= {field.encode_name for field in kind.fields}
                rest += [field.type for field in kind.fields]
            else:
                rest += _below(kind, "[0]")
    return found
