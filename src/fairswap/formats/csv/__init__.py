"""A plain table of world places and rotations, for spreadsheets and notebooks. Columns: docs/formats.md."""

from fairswap.formats.csv.reading import read
from fairswap.formats.csv.writing import encode, left_out

__all__ = ["encode", "left_out", "read"]
