"""Counts in words."""

from __future__ import annotations


def counted(number: int, thing: str, things: str = "") -> str:
    """How many there are of a thing, for people.

    >>> counted(1, "clip"), counted(3, "clip"), counted(2, "mesh", "meshes")
    ('1 clip', '3 clips', '2 meshes')
    """
    return f"{number} {thing if number == 1 else things or thing + 's'}"
