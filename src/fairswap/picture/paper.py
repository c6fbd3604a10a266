"""What all sheets are drawn on and with: paper, ink, letters."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from fairswap.formats.naming import visible
from fairswap.picture.letters import font, runs_of

if TYPE_CHECKING:
    from PIL.Image import Image
    from PIL.ImageDraw import ImageDraw

PAPER, BAND = (0.965, 0.957, 0.937), (0.925, 0.915, 0.89)
INK, FAINT = (38, 38, 44), (120, 116, 110)
__all__ = ["BAND", "FAINT", "INK", "PAPER", "byte", "font", "pen"]


def pen(image: Image) -> ImageDraw:
    """What draws on an image; names of strangers' files are written in it as they are spelled."""
    from PIL import ImageDraw

    class Pen(ImageDraw.ImageDraw):
        def text(self, xy: Any, text: Any, *more: Any, **options: Any) -> None:
            runs, own = list(runs_of(visible(text))), options.get("font")
            if own is None or all(not path for _, path in runs):
                super().text(xy, visible(text), *more, **options)
                return
            # One line below all runs, whatever their fonts; anchors here are at the height of the ascenders.
            back = {"l": 0.0, "m": 0.5, "r": 1.0}[options.pop("anchor", "la")[0]]
            left, base = xy[0] - back * self.textlength(text, font=own), xy[1] + own.getmetrics()[0]
            for run, path in runs:
                face = font(round(own.size), path) if path else own
                super().text((left, base), run, *more, **options | {"font": face, "anchor": "ls"})
                left += super().textlength(run, font=face)

        def textlength(self, text: Any, *more: Any, **options: Any) -> float:
            own = options.get("font") or (more[0] if more else None)
            if own is None:
                return super().textlength(visible(text), *more, **options)
            runs = runs_of(visible(text))
            return sum(
                super(Pen, self).textlength(run, font(round(own.size), path) if path else own) for run, path in runs
            )

    return Pen(image)


def byte(color: tuple[float, float, float]) -> tuple[int, int, int]:
    """A colour of 0..1 as Pillow takes it."""
    red, green, blue = (round(255 * part) for part in color)
    return red, green, blue
