"""Pictures from strangers' files: only of the kinds that figures hold, never larger than anything that is drawn."""

from __future__ import annotations

import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from io import BytesIO
from typing import TYPE_CHECKING

from fairswap.errors import InputError
from fairswap.formats.limits import LONGEST_SIDE_PX, MOST_PIXELS

if TYPE_CHECKING:
    from PIL.Image import Image

# What glTF allows, and its extension for WebP; the image library knows kinds that start other programs.
_KINDS = ("PNG", "JPEG", "WEBP")
_OTHER_KINDS = {"tga": "TGA", "bmp": "BMP", "tif": "TIFF", "tiff": "TIFF", "gif": "GIF"}
_AGAIN = "Export the figure again with its textures"


@contextmanager
def opened_image(content: bytes, place: str, kinds: tuple[str, ...] = _KINDS) -> Iterator[Image]:
    """A picture, its pixels not yet decoded, but known to be few enough.

    Raises
    ------
    InputError
        If it is no picture of a kind that figures hold, is damaged, or too large; also while it is decoded.
    """
    from PIL import Image

    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        try:
            with Image.open(BytesIO(content), formats=kinds) as picture:
                width, height = picture.size
                if width * height > MOST_PIXELS or max(width, height) > LONGEST_SIDE_PX:
                    problem = f"a texture of {width} by {height} pixels, at most {MOST_PIXELS} pixels are read"
                    raise InputError(problem, place=place, remedy="Make it smaller")
                yield picture
        except Image.DecompressionBombError:
            problem = f"a texture has too many pixels, at most {MOST_PIXELS} are read"
            raise InputError(problem, place=place, remedy="Make it smaller") from None
        except (OSError, ValueError, SyntaxError):
            raise InputError("a texture is not a PNG or JPEG, or is cut", place=place, remedy=_AGAIN) from None


def picture_as_known(content: bytes, name: str) -> bytes | None:
    """A picture of a kind that figures hold: itself, or as PNG if it is a TGA, BMP, TIFF or GIF; else None."""
    if content.startswith((b"\x89PNG", b"\xff\xd8", b"RIFF")):
        return content
    kind = _OTHER_KINDS.get(name.lower().rpartition(".")[2])
    if kind is None:
        return None
    try:
        with opened_image(content, name, (kind,)) as picture:
            out = BytesIO()
            see_through = "A" in picture.getbands() or "transparency" in picture.info
            picture.convert("RGBA" if see_through else "RGB").save(out, "PNG")
            return out.getvalue()
    except InputError:
        return None
