"""Counts and rows in words."""

from __future__ import annotations

from collections.abc import Iterable


def counted(number: int, thing: str, things: str = "") -> str:
    """How many there are of a thing, for people.

    >>> counted(1, "clip"), counted(3, "clip"), counted(2, "mesh", "meshes")
    ('1 clip', '3 clips', '2 meshes')
    """
    return f"{number} {thing if number == 1 else things or thing + 's'}"


def listed(things: Iterable[str], most: int = 6) -> str:
    """Some things in a row, and how many more there are.

    >>> listed(["hips", "chest"]), listed(map(repr, ("a", "b", "c")), 2)
    ('hips, chest', "'a', 'b' and 1 more")
    """
    all_of_them = list(things)
    more = len(all_of_them) - most
    return ", ".join(all_of_them[:most]) + (f" and {more} more" if more > 0 else "")
