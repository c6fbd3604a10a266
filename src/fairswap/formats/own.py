"""Our own files: TOML whose first line says what it is, decoded into structs, with the wrong field in the error."""

from __future__ import annotations

import tomllib
from pathlib import Path
from typing import Any, TypeVar

import msgspec

from fairswap.errors import InputError
from fairswap.formats.storage import read_bytes

_Struct = TypeVar("_Struct", bound=msgspec.Struct)


def struct_from_file(path: str | Path, kind: str, what: str, struct: type[_Struct]) -> _Struct:
    """Read a file of ours; ``kind`` is what its first line says (``pose/1``), ``what`` names it in errors (``a pose``).

    Raises
    ------
    InputError
        With the field that is wrong.
    """
    try:
        text = read_bytes(Path(path)).decode("utf-8-sig")
    except UnicodeDecodeError:
        raise InputError("it is not UTF-8 text", file=path) from None
    return struct_from_text(text, str(path), kind, what, struct)


def struct_from_text(text: str, file: str, kind: str, what: str, struct: type[_Struct]) -> _Struct:
    """As :func:`struct_from_file`, of a text that was read already."""
    try:
        raw: dict[str, Any] = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise InputError(f"it is not TOML ({error})", file=file) from None
    if raw.get("fairswap") != kind:
        raise InputError(f"it is not {what}", file=file, remedy=f'Its first line must be fairswap = "{kind}"')
    try:
        return msgspec.convert(raw, struct)
    except msgspec.ValidationError as error:
        problem, _, place = str(error).partition(" - at `$.")
        raise InputError(problem, file=file, place=place.rstrip("`") or None) from None
