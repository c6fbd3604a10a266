"""X3D with H-Anim humanoids, in XML (``.x3d``)."""

from fairswap.formats.x3d.reading import read
from fairswap.formats.x3d.shapes import parts_of
from fairswap.formats.x3d.writing import encode, left_out

__all__ = ["encode", "left_out", "parts_of", "read"]
