"""Names of files made from names of clips and figures: safe on any system, and no two alike."""

from __future__ import annotations

import json
import re
import unicodedata
from collections.abc import Iterable, Sequence
from typing import Any

_UNSAFE = re.compile(r"[^\w .()+-]+")
_LONGEST = 120


def file_stem(name: str, fallback: str = "clip") -> str:
    """A name as the stem of a file: what a system may not like becomes ``_``.

    >>> file_stem("run/jump: fast"), file_stem("...")
    ('run_jump_ fast', 'clip')
    """
    return _UNSAFE.sub("_", name)[:_LONGEST].strip(" .") or fallback


_UNSEEN = re.compile(
    "[\x00-\x1f\x7f-\x9f\u061c\u200b\u200e\u200f\u2028-\u202e\u2060-\u2069\ufeff\ufff9-\ufffb\ud800-\udfff\U000e0000-\U000e007f]"
)


def as_one_name(name: str) -> str:
    """A name without regard to case, or to how accents are put together: on some systems those are one name.

    >>> as_one_name("Walk") == as_one_name("walk")
    True
    """
    return unicodedata.normalize("NFC", name).casefold()


def visible(text: str) -> str:
    r"""A text in which what a terminal would obey or hide (control, escape, direction characters) is spelled out.

    >>> print(visible("red\x1b[31m\n"))
    red\x1b[31m\n
    """
    return _UNSEEN.sub(lambda found: found[0].encode("unicode_escape").decode(), text)


def visible_in_json(text: str) -> str:
    """The text of a JSON document in which the same stands as escapes, which mean the same; its own lines stay."""
    return _UNSEEN.sub(lambda found: found[0] if found[0] == "\n" else json.dumps(found[0])[1:-1], text)


def on_one_line(text: str) -> str:
    """A name for formats in which a line ends what it says: without control characters, space only between words."""
    return " ".join(_UNSEEN.sub(" ", in_unicode(text)).split())


def in_unicode(text: str) -> str:
    """A text that can be written as UTF-8: halves of letters (lone surrogates) become the mark for an unknown one."""
    return text.encode("utf-16", "surrogatepass").decode("utf-16", "replace")


def all_in_unicode(value: Any) -> Any:
    """The same for every text in a tree of dictionaries and lists."""
    if isinstance(value, str):
        return in_unicode(value)
    if isinstance(value, dict):
        return {in_unicode(key): all_in_unicode(one) for key, one in value.items()}
    if isinstance(value, list | tuple):
        return [all_in_unicode(one) for one in value]
    return value


def bare_name(name: str) -> str:
    """The name of a bone without the scene and rig that programs put before it, and without its case.

    >>> bare_name("street|rig:Tail_1")
    'tail_1'
    """
    return re.split(r"[:|]", name)[-1].casefold()


def distinct(names: Sequence[str], taken: Iterable[str] = ()) -> list[str]:
    """The names, each its own without regard to case; later ones of a kind get a number.

    >>> distinct(["walk", "walk", "walk (2)"], taken=["Pip"])
    ['walk', 'walk (2)', 'walk (2) (2)']
    """
    used = {name.casefold() for name in taken}
    out = []
    for name in names:
        new, number = name, 2
        while new.casefold() in used:
            new, number = f"{name} ({number})", number + 1
        used.add(new.casefold())
        out.append(new)
    return out
