"""Names in any script: which font has which letter.

Latin is drawn with the font that comes with Pillow, Greek, Cyrillic and many more with the one that comes with
Matplotlib, Japanese with that of the extra ``letters``; for all else the fonts of this machine are asked.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from functools import lru_cache
from importlib import util
from pathlib import Path
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from PIL.ImageFont import FreeTypeFont, ImageFont

# What no font has is drawn as this one does: a box for a letter, which is the least that can be said.
_ANY_SIZE = 24


@lru_cache(maxsize=64)
def font(size: int, path: str = "") -> FreeTypeFont | ImageFont:
    """A font at a height in pixels: the one that comes with Pillow, or that of a file."""
    from PIL import ImageFont

    return ImageFont.truetype(path, size) if path else ImageFont.load_default(size)


def runs_of(text: str) -> Iterator[tuple[str, str]]:
    """A text as runs of letters of one font each: the letters, and the file of the font (nothing for Pillow's own)."""
    run, path = "", ""
    for letter in text:
        own = path if letter.isspace() else _font_with(letter)
        if own != path and run:
            yield run, path
            run = ""
        path = own
        run += letter
    if run:
        yield run, path


def families_for(texts: Iterable[str]) -> list[str]:
    """The families of fonts with which Matplotlib draws these texts, its own first."""
    from matplotlib.font_manager import FontProperties, fontManager

    families = ["DejaVu Sans"]
    for path in dict.fromkeys(path for text in texts for _, path in runs_of(text) if path):
        fontManager.addfont(path)
        families.append(FontProperties(fname=path).get_name())
    return list(dict.fromkeys(families))


@lru_cache(maxsize=4096)
def _font_with(letter: str) -> str:
    """The file of the first font that has a letter; Pillow's own where it does, or where none has it."""
    if letter.isascii() or _in_pillows_own(letter):
        return ""
    return next((path for path in _fonts() if ord(letter) in _letters_of(path)), "")


def _in_pillows_own(letter: str) -> bool:
    """Whether the font that comes with Pillow has a letter: what it lacks all looks alike."""
    own: Any = font(_ANY_SIZE)
    return bytes(own.getmask(letter)) != bytes(own.getmask("\uffff"))


@lru_cache(maxsize=1)
def _fonts() -> tuple[str, ...]:
    """The fonts to ask, in order: those that packages bring, then those of this machine."""
    import matplotlib
    from matplotlib.font_manager import findSystemFonts

    brought = [Path(str(matplotlib.get_data_path())) / "fonts" / "ttf" / "DejaVuSans.ttf"]
    japanese = util.find_spec("matplotlib_fontja")
    if japanese is not None and japanese.origin is not None:
        brought.append(Path(japanese.origin).parent / "fonts" / "ipaexg.ttf")
    found = sorted(
        map(str, findSystemFonts()), key=lambda path: ("Bold" in path or "Italic" in path or "Mono" in path, path)
    )
    return tuple(path for path in (*map(str, brought), *found) if Path(path).is_file())


@lru_cache(maxsize=256)
def _letters_of(path: str) -> frozenset[int]:
    """The letters that a font has, by their numbers; none of a file that cannot be read."""
    from matplotlib.ft2font import FT2Font

    try:
        return frozenset(FT2Font(path).get_charmap())
    except (RuntimeError, OSError, ValueError):
        return frozenset()
