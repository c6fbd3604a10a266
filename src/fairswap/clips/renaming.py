"""Names of clips: by pattern, meaningful, and no two alike."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import replace
from string import Formatter

from fairswap.errors import UsageError
from fairswap.formats.naming import distinct
from fairswap.model.clip import Clip

# What exporters call clips when nobody named them.
_PADDING = re.compile(r"0?\d?d?")
_MEANINGLESS = re.compile(
    r"(?i)(take|clip|anim(ation)?|action|track|unnamed|untitled|default|motion|scene|layer)?[\s_.|-]*\d*"
)


def named_after_files(rows: Sequence[tuple[str, Clip]], taken: Sequence[str] = ()) -> list[str]:
    """Names for clips of several files, each given with the stem of its file; no two alike, nor like those ``taken``.

    What an exporter called, and what is called alike in two files, is named after its file.

    >>> import fairswap
    >>> clip = fairswap.demo_motion("walk").clips[0]
    >>> named_after_files([("street", clip), ("stairs", clip)])
    ['street', 'stairs']
    """
    clips_in = Counter(stem for stem, _ in rows)
    files_with = Counter(name for _, name in {(stem, clip.name) for stem, clip in rows})
    names = []
    for stem, clip in rows:
        name = clip.name.strip()
        if len(clips_in) > 1 and (files_with[clip.name] > 1 or _MEANINGLESS.fullmatch(name)):
            name = stem if clips_in[stem] == 1 else f"{stem} {name}".strip()
        names.append(name)
    return distinct(names, taken)


def renamed(
    clips: Sequence[Clip], *, to: str | None = None, swaps: Sequence[tuple[str, str]] = (), stem: str = "clip"
) -> list[Clip]:
    """The clips with new names, unique without regard to case.

    Parameters
    ----------
    to : str, optional
        A pattern: ``{name}`` is the old name, ``{n}`` the number from 1, ``{seconds}`` the duration, ``{file}`` the
        ``stem``.
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
            name = _filled(to, name=name, n=number, seconds=f"{clip.duration_s:.2f}", file=stem)
        name = name.strip() or f"{stem} {number}"
        used[name.lower()] = used.get(name.lower(), 0) + 1
        if used[name.lower()] > 1:
            name = f"{name} {used[name.lower()]}"
        out.append(replace(clip, name=name))
    return out


def _filled(pattern: str, **values: str | int) -> str:
    """A pattern with its fields filled in; numbers may be padded (``{n:02}``)."""
    try:
        fields = [(field, spec, way) for _, field, spec, way in Formatter().parse(pattern) if field is not None]
        if all(field in values and not way and _PADDING.fullmatch(spec or "") for field, spec, way in fields):
            return pattern.format(**values)
    except ValueError:  # braces that are not closed, or padding of what is not a number
        pass
    raise UsageError(
        f"{pattern[:60]!r} is not a pattern for names", remedy="Use {name}, {n}, {n:02}, {seconds} and {file}"
    )
