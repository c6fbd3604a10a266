"""Names of files made from names of clips and figures: safe on any system, and no two alike."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence

_UNSAFE = re.compile(r"[^\w .()+-]+")
_LONGEST = 120


def file_stem(name: str, fallback: str = "clip") -> str:
    """A name as the stem of a file: what a system may not like becomes ``_``.

    >>> file_stem("run/jump: fast"), file_stem("...")
    ('run_jump_ fast', 'clip')
    """
    return _UNSAFE.sub("_", name)[:_LONGEST].strip(" .") or fallback


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
