"""Our own files: TOML whose first line says what it is, decoded into structs, with the wrong field in the error."""

from __future__ import annotations

import tomllib
from collections.abc import Callable, Iterable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import msgspec

from fairswap.errors import Finding, InputError
from fairswap.formats.outputs import Outputs
from fairswap.formats.storage import read_bytes

if TYPE_CHECKING:
    from tomlkit import TOMLDocument

_Struct = TypeVar("_Struct", bound=msgspec.Struct)
# For each kind its older editions, each with what brings its table up to date.
Older = Mapping[str, Callable[[dict[str, Any]], dict[str, Any]]]


def struct_from_file(
    path: str | Path, kind: str, what: str, struct: type[_Struct], older: Older | None = None
) -> tuple[_Struct, list[Finding]]:
    """Read a file of ours; ``kind`` is what its first line says (``pose/1``), ``what`` names it in errors (``a pose``).

    Older editions are brought up to date; a note says so.

    Raises
    ------
    InputError
        With the field that is wrong.
    """
    return struct_from_text(text_of_file(path), str(path), kind, what, struct, older)


def struct_from_text(
    text: str, file: str, kind: str, what: str, struct: type[_Struct], older: Older | None = None
) -> tuple[_Struct, list[Finding]]:
    """As :func:`struct_from_file`, of a text that was read already."""
    try:
        raw: dict[str, Any] = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise InputError(f"it is not TOML ({error})", file=file, remedy="Correct that line") from None
    findings: list[Finding] = []
    found = raw.get("fairswap")
    if older and isinstance(found, str) and found in older:
        raw = older[found](raw) | {"fairswap": kind}
        message = f"it is of the older kind {found}; read as {kind}"
        findings.append(Finding("older-kind", "note", file, message, f'Write fairswap = "{kind}" and the new names'))
    elif found != kind:
        raise InputError(f"it is not {what}", file=file, remedy=f'Its first line must be fairswap = "{kind}"')
    try:
        return msgspec.convert(raw, struct), findings
    except msgspec.ValidationError as error:
        problem, _, place = str(error).partition(" - at `$.")
        raise InputError(problem, file=file, place=place.rstrip("`") or None) from None


class OwnFile:
    """The base of what is kept in a file of ours."""

    def text(self) -> str:
        """The file, with what it means."""
        raise NotImplementedError

    def save(self, path: str | Path, *, force: bool = False) -> str:
        """Write the file; give its name.

        Raises
        ------
        OutputError
            If it is there already, or cannot be written.
        """
        return Outputs(force=force).write(Path(path), [self.text().encode()])


def parts_of(path: Path) -> list[Path]:
    """The files beside a file of ours that it names, as poses and charts; none of one that cannot be read."""
    try:
        raw: Any = tomllib.loads(path.read_text("utf-8-sig"))
    except (OSError, ValueError):  # whoever reads it will say what is wrong
        return []
    named: list[Path] = []
    rest = [raw]
    while rest:
        value = rest.pop()
        if isinstance(value, str) and 0 < len(value) < 1000 and "\0" not in value:
            named.append(path.parent / value)
        elif isinstance(value, dict | list):
            rest += value.values() if isinstance(value, dict) else value
    return [name for name in named if _is_file(name)]


def _is_file(path: Path) -> bool:
    try:
        return path.is_file()
    except OSError:  # no name of a file at all
        return False


def text_of_file(path: str | Path) -> str:
    """The text of a file of ours.

    Raises
    ------
    InputError
        If it cannot be read, or is no UTF-8.
    """
    try:
        return read_bytes(Path(path)).decode("utf-8-sig")
    except UnicodeDecodeError:
        raise InputError("it is not UTF-8 text", file=path, remedy="Save it as UTF-8") from None


def renamed(table: Mapping[str, Any], names: Mapping[str, str]) -> dict[str, Any]:
    """A table with some keys under other names: what brings an older edition up to date."""
    return {names.get(key, key): value for key, value in table.items()}


def new_file(kind: str, comments: Iterable[str] = ()) -> TOMLDocument:
    """A new file of ours to be filled in, its first line and some comments written."""
    import tomlkit

    document = tomlkit.document()
    document.add("fairswap", tomlkit.item(kind))
    for line in comments:
        document.add(tomlkit.comment(line) if line else tomlkit.nl())
    return document


def commented(value: Any, comment: str, column: int = 0) -> Any:
    """A value with a comment behind it, ``column`` characters after the value's start at least."""
    import tomlkit

    item = tomlkit.item(value)
    item.comment(comment)
    item.trivia.comment_ws = " " * max(1, column - len(item.as_string()))
    return item


def inline(values: Mapping[str, Any]) -> Any:
    """A table within one line."""
    import tomlkit

    table = tomlkit.inline_table()
    table.update(values)
    return table
