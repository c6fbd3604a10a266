"""Where the document and its pictures lie: in a folder, or in an archive with a manifest."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path, PurePosixPath
from urllib.parse import unquote

from fairswap.errors import InputError
from fairswap.formats.archives import part_named, parts_from_archive
from fairswap.formats.gltf.container import bytes_from_uri
from fairswap.formats.markup import Tag, tag_from_xml
from fairswap.formats.scene.beside import file_named
from fairswap.formats.storage import read_bytes

_AGAIN = "Export the file again"
_ZIP = b"PK\x03\x04"


def opened_document(content: bytes, path: Path, beside: list[str]) -> tuple[Tag, Callable[[str], bytes | None]]:
    """The outermost element, and what gives the bytes of a file that the document names.

    Files that were opened are put into ``beside``.
    """
    if content[:4] != _ZIP:
        return tag_from_xml(content), _from_folder(path, beside)
    parts = parts_from_archive(content)
    main = _main_part(parts)
    return tag_from_xml(parts[main]), lambda name: part_named(parts, unquote(name).removeprefix("./"), main)


def parts_of(path: Path) -> list[Path]:
    """The pictures that a ``.dae`` names and that lie beside it, without reading more than their names."""
    try:
        if path.suffix.lower() != ".dae" or not path.is_file():
            return []
        names = re.findall(rb"<(?:init_from|ref)[^>]*>\s*([^<\s][^<]*?)\s*<", path.read_bytes())
    except OSError:
        return []
    found = []
    for name in dict.fromkeys(names):
        target = file_named(path.parent, name.decode("utf-8", "replace"))
        found += [] if target is None else [target]
    return found


def _main_part(parts: dict[str, bytes]) -> str:
    """The document of an archive: the one its manifest names, else the only one, or the first."""
    if "manifest.xml" in parts:
        named = next((tag.text or "" for tag in tag_from_xml(parts["manifest.xml"]).iter("dae_root")), "")
        name = unquote(named.strip()).partition("#")[0].removeprefix("./")
        if part_named(parts, name) is not None:
            return str(PurePosixPath(name))
    found = [name for name in parts if name.lower().endswith(".dae")]
    if not found:
        raise InputError("the archive holds no COLLADA document", remedy=_AGAIN)
    return found[0]


def _from_folder(path: Path, beside: list[str]) -> Callable[[str], bytes | None]:
    def opened(name: str) -> bytes | None:
        if name.startswith("data:"):
            return bytes_from_uri(path, name, "library_images")
        target = file_named(path.parent, name)
        if target is None:
            return None
        beside.append(str(target))
        return read_bytes(target)

    return opened
