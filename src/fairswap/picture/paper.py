"""What all sheets are drawn on and with: paper, ink, letters."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from fairswap.formats.naming import visible

if TYPE_CHECKING:
    from PIL.Image import Image
    from PIL.ImageDraw import ImageDraw
    from PIL.ImageFont import FreeTypeFont, ImageFont

PAPER, BAND = (0.965, 0.957, 0.937), (0.925, 0.915, 0.89)
INK, FAINT = (38, 38, 44), (120, 116, 110)


def font(size: int) -> FreeTypeFont | ImageFont:
    """The letters that come with Pillow, at a height in pixels."""
    from PIL import ImageFont

    return ImageFont.load_default(size)


def pen(image: Image) -> ImageDraw:
    """What draws on an image; names of strangers' files are written in it as they are spelled."""
    from PIL import ImageDraw

    class Pen(ImageDraw.ImageDraw):
        def text(self, xy: Any, text: Any, *more: Any, **options: Any) -> None:
            super().text(xy, visible(text), *more, **options)

        def textlength(self, text: Any, *more: Any, **options: Any) -> float:
            return super().textlength(visible(text), *more, **options)

    return Pen(image)


def byte(color: tuple[float, float, float]) -> tuple[int, int, int]:
    """A colour of 0..1 as Pillow takes it."""
    red, green, blue = (round(255 * part) for part in color)
    return red, green, blue
