"""Our own files: TOML whose first line says what it is, decoded into structs, with the wrong field in the error."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Callable, Iterable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import msgspec

from fairswap.errors import Finding, InputError
from fairswap.formats.limits import LARGEST_NUMBER, LARGEST_TEXT, MOST_KEY_PARTS
from fairswap.formats.outputs import Outputs
from fairswap.formats.storage import read_bytes
from fairswap.formats.wrong_fields import said_of

if TYPE_CHECKING:
    from tomlkit import TOMLDocument

_Struct = TypeVar("_Struct", bound=msgspec.Struct)
_MANY_PARTS = re.compile(rf"^\s*\[{{0,2}}(?:[^\n=#\"'\[.]*\.){{{MOST_KEY_PARTS},}}", re.MULTILINE)
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
    raw = _table_from_text(text, file)
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
        problem, place, remedy = said_of(error, struct, what)
        raise InputError(problem, file=file, place=place or None, remedy=remedy) from None


def _table_from_text(text: str, file: str) -> dict[str, Any]:
    """The table that a TOML text is; what would take long, or holds numbers beyond reason, is refused."""
    if len(text) > LARGEST_TEXT:
        problem = f"it has {len(text)} letters, at most {LARGEST_TEXT} are read"
        raise InputError(problem, file=file, remedy="Leave out what it does not need")
    dotted = _MANY_PARTS.search(text)
    if dotted:
        place = f"line {text.count(chr(10), 0, dotted.start()) + 1}"
        raise InputError(
            f"a key has more than {MOST_KEY_PARTS} parts", file=file, place=place, remedy="Correct that line"
        )
    try:
        raw = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        problem, _, place = str(error).rpartition(" (at ")
        raise InputError(
            f"it is not TOML ({problem})", file=file, place=place.rstrip(")"), remedy="Correct that line"
        ) from None
    except RecursionError:
        raise InputError("it is nested too deeply", file=file, remedy="Write it flat, as the docs show") from None
    except ValueError:  # digits without end, a date that is none
        raise InputError("it holds a number that cannot be read", file=file, remedy="Correct that number") from None
    _check_numbers(raw, file)
    return raw


def _check_numbers(raw: dict[str, Any], file: str) -> None:
    rest: list[tuple[str, Any]] = [("", raw)]
    while rest:
        place, value = rest.pop()
        if isinstance(value, dict):
            rest += [(f"{place}.{key}".lstrip("."), one) for key, one in value.items()]
        elif isinstance(value, list):
            rest += [(f"{place}[{number}]", one) for number, one in enumerate(value)]
        elif isinstance(value, int | float) and not abs(value) <= LARGEST_NUMBER:
            what = "not a finite number" if isinstance(value, float) else f"beyond {LARGEST_NUMBER:g}"
            raise InputError(f"it is {what}", file=file, place=place, remedy="Correct that number")


def file_beside(path: str | Path, name: str, place: str) -> Path:
    """A file that another one of ours names: in the same folder or below it, and nowhere else.

    Raises
    ------
    InputError
        If it is elsewhere.
    """
    folder = Path(path).parent
    try:
        inside = "\0" not in name and (folder / name).resolve().is_relative_to(folder.resolve())
    except (OSError, RuntimeError):  # too long for a name, or links in a circle
        inside = False
    if not inside:
        problem = f"it names {name[:80]!r}, which is outside of its folder and never opened"
        raise InputError(problem, file=path, place=place, remedy="Put that file beside it")
    return folder / name


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
        raw: Any = _table_from_text(text_of_file(path), str(path))
    except InputError:  # whoever reads it will say what is wrong
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
