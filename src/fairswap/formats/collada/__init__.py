"""COLLADA 1.4.1 and 1.5 (``.dae``), also packed (``.zae``)."""

from fairswap.formats.collada.packing import parts_of
from fairswap.formats.collada.reading import read
from fairswap.formats.collada.writing import encode, left_out

__all__ = ["encode", "left_out", "parts_of", "read"]
