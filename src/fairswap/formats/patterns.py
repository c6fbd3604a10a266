"""Patterns for names, matched in time that grows with their length and no faster: they come from strangers' files.

Two kinds: globs, in which ``*`` stands for anything, and a small part of regular expressions.
"""

from __future__ import annotations

import re
import warnings
from collections.abc import Iterable, Sequence

from fairswap.errors import UsageError

_LONGEST_NAME, _MOST_ITEMS = 1000, 400
_MOSTLY = 0.4
_ATOM = re.compile(r"\[\^?\]?(?:[^\]\\]|\\.)*\]|\\[dwsDWS]|\\[^a-zA-Z0-9]|[^\\\[\](){}*+?|^$]")
_COUNT = re.compile(r"[*+?]|\{(\d{1,3})(,(\d{1,3})?)?\}")


def glob_end(glob: str, text: str) -> int | None:
    """Where the longest beginning of ``text`` that fits a glob ends; None if there is none.

    >>> glob_end("street*:", "street|rig:hips"), glob_end("*_x", "hips")
    (11, None)
    """
    if "*" not in glob:
        return len(glob) if text.startswith(glob) else None
    first, *rest = glob.split("*")
    if not text.startswith(first):
        return None
    at = len(first)
    for number, part in enumerate(rest, 1):
        # As early as possible, to leave room for what follows; the last as late as possible.
        found = text.find(part, at) if number < len(rest) else text.rfind(part, at)
        if found < 0:
            return None
        at = found + len(part)
    return at


def fits_glob(glob: str, text: str) -> bool:
    """Whether all of ``text`` fits a glob.

    >>> fits_glob("walk*", "walk fast"), fits_glob("walk", "walk fast")
    (True, False)
    """
    return glob_end(glob, text) == len(text)


def fits_any(globs: Iterable[str], text: str) -> bool:
    """Whether all of ``text`` fits one of some globs."""
    return any(fits_glob(glob, text) for glob in globs)


class NamePattern:
    r"""A pattern for whole names: letters, ``.``, ``[a-z_]``, ``\d``, ``\w``, ``\s``, each with ``*``, ``+``, ``?`` or
    ``{2,8}`` behind it where it may repeat; alternatives with ``|``. Groups are left out: they cost unbounded time.

    All ways through the pattern are followed at once, letter by letter (Thompson 1968).

    >>> NamePattern("[a-z0-9-]+").fits("walk-2"), NamePattern("walk|run").fits("walks")
    (True, False)

    Raises
    ------
    UsageError
        If it is no such pattern.
    """

    def __init__(self, text: str) -> None:
        self.text = text
        self._ways = [_items(way, text) for way in re.split(r"(?<!\\)\|", text.removeprefix("^").removesuffix("$"))]
        if sum(map(len, self._ways)) > _MOST_ITEMS:
            raise UsageError(f"{text[:60]!r} … is too long for a pattern", remedy="Write a shorter one")

    def fits(self, name: str) -> bool:
        """Whether the whole name fits; one of more than a thousand letters never does."""
        return len(name) <= _LONGEST_NAME and any(_fits(way, name) for way in self._ways)


# What one letter must match, whether it may be left out, and whether it may come again.
_Item = tuple[re.Pattern[str], bool, bool]


def _items(way: str, whole: str) -> list[_Item]:
    items: list[_Item] = []
    at = 0
    while at < len(way):
        found = _ATOM.match(way, at)
        if found is None:
            problem = f"{whole[:60]!r} is not a pattern for names, because of {way[at]!r}"
            raise UsageError(problem, remedy=r"Write letters, [a-z], \d or ., with *, + or ? behind what repeats")
        try:
            with warnings.catch_warnings():
                warnings.simplefilter("ignore")
                atom = re.compile(found[0], re.DOTALL)
        except re.error as error:
            raise UsageError(f"{whole[:60]!r} is not a pattern ({error})", remedy="Write sets as [a-z0-9_]") from None
        at = found.end()
        count = _COUNT.match(way, at)
        at = count.end() if count else at
        items += _repeated(atom, count)
    return items


def _repeated(atom: re.Pattern[str], count: re.Match[str] | None) -> list[_Item]:
    if count is None:
        return [(atom, False, False)]
    if count[0] in "*+?":
        return [(atom, count[0] != "+", count[0] != "?")]
    least = int(count[1])
    if count[2] and not count[3]:  # {2,}
        return [(atom, False, False)] * least + [(atom, True, True)]
    most = int(count[3]) if count[3] else least
    return [(atom, False, False)] * least + [(atom, True, False)] * (most - least)


def _fits(items: list[_Item], name: str) -> bool:
    def with_left_out(states: set[int]) -> set[int]:
        for state in sorted(states):
            while state < len(items) and items[state][1]:
                state += 1
                states.add(state)
        return states

    states = with_left_out({0})
    for letter in name:
        after = set()
        for state in states:
            if state < len(items) and items[state][0].fullmatch(letter):
                after.add(state + 1)
                if items[state][2]:
                    after.add(state)
        # One that may come again stands before itself once more, with what it needs met already.
        states = with_left_out(after)
        if not states:
            return False
    return len(items) in states


def common_prefix(names: Sequence[str], marks: str = ":|", share: float = _MOSTLY) -> str:
    """What a scene puts before the names, up to one of some marks: ``"rig:"``; nothing if fewer than such
    a share begin with it (things and helpers that came later may lack it), or a name without it is another's.

    >>> names = ["rig:hips", "rig:head", "rig:hand", "sword"]
    >>> common_prefix(names), common_prefix(names, share=1.0)
    ('rig:', '')
    """
    for mark in marks:
        heads = [name.partition(mark)[0] + mark for name in names if name.partition(mark)[2]]
        prefix = max(sorted(set(heads)), key=heads.count, default="")
        alone = len({name.removeprefix(prefix) for name in names}) == len({*names})
        if prefix and heads.count(prefix) >= share * len(names) and alone:
            return prefix
    return ""
