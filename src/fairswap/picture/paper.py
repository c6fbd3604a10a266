"""What all sheets are drawn on and with: paper, ink, letters."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from PIL.ImageFont import FreeTypeFont, ImageFont

PAPER, BAND = (0.965, 0.957, 0.937), (0.925, 0.915, 0.89)
INK, FAINT = (38, 38, 44), (120, 116, 110)


def font(size: int) -> FreeTypeFont | ImageFont:
    """The letters that come with Pillow, at a height in pixels."""
    from PIL import ImageFont

    return ImageFont.load_default(size)


def byte(color: tuple[float, float, float]) -> tuple[int, int, int]:
    """A colour of 0..1 as Pillow takes it."""
    red, green, blue = (round(255 * part) for part in color)
    return red, green, blue
