"""BVH: a skeleton and one clip as text. Unit and up axis are not in the file; they are found or given."""

from fairswap.formats.bvh.reading import read
from fairswap.formats.bvh.writing import by_bones_alone, encode, left_out

__all__ = ["by_bones_alone", "encode", "left_out", "read"]
