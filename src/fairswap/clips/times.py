"""Times as artists write them: seconds (``1.5``), frames (``120f``), or minutes and seconds (``1:02.5``)."""

from __future__ import annotations

import re

from fairswap.errors import UsageError
from fairswap.model.clip import Clip

_FRAMES = re.compile(r"(-?\d{1,12}(?:\.\d+)?)f")
_CLOCK = re.compile(r"(\d{1,9}):(\d{1,2}(?:[.,]\d+)?)")
_SECONDS = re.compile(r"-?\d{1,12}(?:[.,]\d+)?s?")


def seconds_from_text(text: str, rate: float) -> float:
    """The seconds that ``text`` stands for, at ``rate`` frames per second.

    >>> seconds_from_text("45f", 30), seconds_from_text("1:02.5", 30), seconds_from_text("0,5", 30)
    (1.5, 62.5, 0.5)

    Raises
    ------
    UsageError
        If it is no time.
    """
    word = text.strip().lower()
    if match := _FRAMES.fullmatch(word):
        return float(match[1]) / rate
    if match := _CLOCK.fullmatch(word):
        return 60.0 * int(match[1]) + float(match[2].replace(",", "."))
    if _SECONDS.fullmatch(word):
        return float(word.removesuffix("s").replace(",", "."))
    raise UsageError(
        f"{text[:40]!r} is not a time", remedy="Write seconds (1.5), frames (45f) or minutes and seconds (1:02.5)"
    )


def frame_at(clip: Clip, text: str, what: str) -> int:
    """The frame of a clip that a time stands for, the nearest one.

    Raises
    ------
    UsageError
        If the clip does not have it.
    """
    seconds = seconds_from_text(text, float(clip.rate))
    frame = round(seconds * float(clip.rate))
    if not 0 <= frame <= clip.frames - 1:
        problem = f"{what} {text} is outside of clip {clip.name!r}"
        raise UsageError(problem, remedy=f"It lasts {clip.duration_s:.3f} s, {clip.frames} frames")
    return frame
