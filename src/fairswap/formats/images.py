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

# What glTF allows, and its extensions for WebP and AVIF; the image library knows kinds that start other programs.
_KINDS = ("PNG", "JPEG", "WEBP", "AVIF")
# Those that not every program reads.
_NEWER = ("image/webp", "image/avif")
_OTHER_KINDS = {"tga": "TGA", "bmp": "BMP", "tif": "TIFF", "tiff": "TIFF", "gif": "GIF"}
_AGAIN = "Export the figure again with its textures"
# What files begin with, and how media types call them (WebP and AVIF say it a little later).
_MAGICS = (
    (b"\x89PNG", 0, "image/png"), (b"\xff\xd8", 0, "image/jpeg"), (b"WEBP", 8, "image/webp"),
    (b"\xabKTX", 0, "image/ktx2"), (b"ftypavif", 4, "image/avif"),
)  # fmt: skip


def media_type(content: bytes) -> str | None:
    """What a picture is, by its first bytes: ``image/png``; None if it is of no kind that figures hold."""
    return next((kind for magic, at, kind in _MAGICS if content[at : at + len(magic)] == magic), None)


def as_png_or_jpeg(content: bytes) -> bytes:
    """A picture as every program reads it: a WebP or AVIF as PNG, all else (also what cannot be read) as it is."""
    if media_type(content) not in _NEWER:
        return content
    try:
        with opened_image(content, "a picture") as picture:
            return _as_png(picture)
    except InputError:
        return content


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
    if media_type(content) in ("image/png", "image/jpeg", *_NEWER):
        return content
    kind = _OTHER_KINDS.get(name.lower().rpartition(".")[2])
    if kind is None:
        return None
    try:
        with opened_image(content, name, (kind,)) as picture:
            return _as_png(picture)
    except InputError:
        return None


def _as_png(picture: Image) -> bytes:
    out = BytesIO()
    see_through = "A" in picture.getbands() or "transparency" in picture.info
    picture.convert("RGBA" if see_through else "RGB").save(out, "PNG")
    return out.getvalue()
