"""BVH: a skeleton and one clip as text. Unit and up axis are not in the file; they are found or given."""

from fairswap.formats.bvh.reading import read
from fairswap.formats.bvh.writing import encode, left_out

__all__ = ["encode", "left_out", "read"]
