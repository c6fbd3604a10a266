"""A mark by which a file of ours says that its figure stands as it was judged, whatever its rest pose looks like.

Who rests in a stance, turned aside, and lies in the only clip of the file, shows nowhere where its front is: whoever
reads the file would judge anew, and otherwise. The mark holds only for bones that stand where they stood.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from fairswap.model.arrays import Floats

#: Who made a file, in files of ours.
GENERATOR = "Fair Swap"
#: What is ours is called so, wherever a format asks for a name.
RECORD = "fairswap"
#: What the mark is called beside what else is ours.
MARK = "stands"
# How far it may be off, in heights of the figure: formats round.
_NEAR = 1e-4


def mark_of(positions: Floats) -> list[float]:
    """The mark of bones at rest ``(bones, 3)``, upright, in metres: their mean, later ones counting more, so that it
    moves when they are turned, moved, resized or listed otherwise."""
    share = np.arange(1, len(positions) + 1) / len(positions)
    return [float(f"{value:.9g}") for value in (share[:, None] * positions).mean(axis=0)]


def marked(mark: Any, positions: Floats) -> bool:
    """Whether a mark is that of these bones."""
    try:
        given = np.array(mark, dtype=np.float64)
    except (ValueError, TypeError, OverflowError):
        return False
    if given.shape != (3,) or not len(positions):
        return False
    off = np.abs(given - mark_of(positions)).max()
    return bool(off <= _NEAR * np.ptp(positions[:, 1]))


def mark_text(positions: Floats) -> str:
    """The mark, where a format has room for words alone."""
    return " ".join(map(str, mark_of(positions)))


def mark_from(text: str) -> list[float] | None:
    """The mark that a text says; None if it says none."""
    try:
        found = [float(word) for word in text.split()]
    except ValueError:
        return None
    return found if len(found) == 3 else None
