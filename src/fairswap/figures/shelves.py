"""Rectangles laid out on shelves, in the smallest room that holds them."""

from __future__ import annotations

from collections.abc import Sequence

Size = tuple[int, int]
_SMALLEST = 16


def laid_out(sizes: Sequence[Size], most: int) -> tuple[Size, list[Size]] | None:
    """The smallest room of powers of two, square or twice as wide, with the place of each rectangle in it; None if
    they fit in none whose sides are ``most`` at most."""
    side = _SMALLEST
    while side <= most:
        for room in ((side, side), (2 * side, side)):
            places = _shelved(sizes, room) if max(room) <= most else None
            if places is not None:
                return room, places
        side *= 2
    return None


def _shelved(sizes: Sequence[Size], room: Size) -> list[Size] | None:
    """Places on shelves, the highest first; None if they do not fit."""
    places: dict[int, Size] = {}
    x = y = shelf = 0
    for index in sorted(range(len(sizes)), key=lambda i: (-sizes[i][1], -sizes[i][0], i)):
        wide, high = sizes[index]
        if x + wide > room[0]:
            x, y, shelf = 0, y + shelf, 0
        if wide > room[0] or y + high > room[1]:
            return None
        places[index] = (x, y)
        x, shelf = x + wide, max(shelf, high)
    return [places[index] for index in range(len(sizes))]
