"""Names of clips: by pattern, meaningful, and no two alike."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import replace

from fairswap.errors import UsageError
from fairswap.model.clip import Clip

# What exporters call clips when nobody named them.
_MEANINGLESS = re.compile(
    r"(?i)(take|clip|anim(ation)?|action|track|unnamed|untitled|default|motion|scene|layer)?[\s_.|-]*\d*"
)


def renamed(
    clips: Sequence[Clip], *, to: str | None = None, swaps: Sequence[tuple[str, str]] = (), stem: str = "clip"
) -> list[Clip]:
    """The clips with new names, unique without regard to case.

    Parameters
    ----------
    to : str, optional
        A pattern: ``{name}`` is the old name, ``{n}`` the number from 1, ``{seconds}`` the duration.
    swaps : sequence of (old, new)
        Parts of names exchanged, in order.
    stem : str
        What nameless clips are called after, with a number.
    """
    used: dict[str, int] = {}
    out = []
    for number, clip in enumerate(clips, 1):
        name = clip.name
        if _MEANINGLESS.fullmatch(name.strip()):
            name = stem if len(clips) == 1 else f"{stem} {number}"
        for old, new in swaps:
            name = name.replace(old, new)
        if to is not None:
            try:
                name = to.format(name=name, n=number, seconds=f"{clip.duration_s:.2f}")
            except (KeyError, IndexError, ValueError):
                remedy = "Use {name}, {n} and {seconds}"
                raise UsageError(f"{to!r} is no pattern for names", remedy=remedy) from None
        name = name.strip() or f"{stem} {number}"
        used[name.lower()] = used.get(name.lower(), 0) + 1
        if used[name.lower()] > 1:
            name = f"{name} {used[name.lower()]}"
        out.append(replace(clip, name=name))
    return out
