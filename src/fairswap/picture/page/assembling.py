"""One self-contained HTML file: the player's own source files, the package that draws, and what is shown, compressed.

Whatever comes from files stands in it as compressed data. The player puts names on the page as text, and the page's
content security policy lets nothing run but the player itself, and nothing be fetched from outside.
"""

from __future__ import annotations

import base64
import gzip
import hashlib
import re
from collections.abc import Mapping, Sequence
from functools import lru_cache
from html import escape
from importlib import metadata, util
from importlib.resources import files
from pathlib import Path
from typing import Any

import msgspec

from fairswap.errors import UsageError
from fairswap.formats.naming import all_in_unicode

# In the order in which each needs those before it.
MODULES = (
    "look.js",
    "soft.js",
    "figure.js",
    "bones.js",
    "camera.js",
    "stage.js",
    "timeline.js",
    "sidebar.js",
    "main.js",
)
# The package that ships three.js with its glTF loader and orbit controls, as one module.
_PACKAGE, _BUNDLE = "nicegui", "elements/scene/dist/index.js"
_REMEDY = "Install it: pip install 'fairswap[view]'"


def assemble(title: str, scenes: Sequence[Mapping[str, Any]], figures: Sequence[bytes], acts: Sequence[str]) -> str:
    """The page as text.

    Parameters
    ----------
    scenes : sequence of mapping
        Each figure as data, from :func:`fairswap.picture.page.scene.scene_of`.
    figures : sequence of bytes
        The same figures as GLB.
    acts : sequence of str
        What can be chosen to be played.

    Raises
    ------
    UsageError
        If the package that draws is not installed.
    """
    three, licences = drawing_package()
    scene = msgspec.json.encode(all_in_unicode({"title": title, "acts": list(acts), "figures": list(scenes)}))
    parts = {
        "data-three": _packed_once(three),
        "data-modules": packed(msgspec.json.encode({name: _own(name) for name in MODULES})),
        "data-scene": packed(scene),
        **{f"data-figure-{number}": packed(figure) for number, figure in enumerate(figures)},
        "data-licences": packed(licences.encode()),
    }
    data = "\n".join(f'<script type="application/gzip" id="{key}">{value}</script>' for key, value in parts.items())
    style, boot = _own("page.css"), _own("boot.js")
    policy = (
        f"default-src 'none'; script-src '{_hash(boot)}' blob:; style-src '{_hash(style)}'; img-src blob: data:; "
        "connect-src blob: data:; base-uri 'none'; form-action 'none'"
    )
    filled = {"policy": policy, "title": escape(_printable(title)), "style": style, "data": data, "boot": boot}
    # All at once: what is filled in is not looked through again.
    return re.sub(r"\{\{(\w+)\}\}", lambda found: filled[found[1]], _own("page.html"))


def packed(content: bytes) -> str:
    """Bytes compressed, as text; the same bytes give the same text."""
    # Beyond this level figures take three times as long and get no smaller.
    return base64.b64encode(gzip.compress(content, 7, mtime=0)).decode()


_packed_once = lru_cache(1)(packed)


def drawing_package() -> tuple[bytes, str]:
    """The module that draws, and the licences that it comes under.

    Raises
    ------
    UsageError
        If it is not installed.
    """
    found = util.find_spec(_PACKAGE)
    path = Path(found.origin).parent / _BUNDLE if found is not None and found.origin else None
    if path is None or not path.is_file():
        raise UsageError("a page needs a package that is not installed", remedy=_REMEDY)
    module = path.read_bytes()
    own = "\n".join(
        file.read_text() for file in metadata.files(_PACKAGE) or () if file.name.upper().startswith("LICENSE")
    )
    header = re.match(rb"/\*\*?.*?\*/", module, re.DOTALL)
    return module, f"{header[0].decode() if header else ''}\n\n{_PACKAGE} {metadata.version(_PACKAGE)}\n{own}"


def _own(name: str) -> str:
    return (files("fairswap") / "data" / "player" / name).read_text(encoding="utf-8")


def _hash(text: str) -> str:
    return f"sha256-{base64.b64encode(hashlib.sha256(text.encode()).digest()).decode()}"


def _printable(title: str) -> str:
    return "".join(letter if letter.isprintable() else " " for letter in title)
