"""PLY meshes (``.ply``), as text and binary: read."""

from fairswap.formats.ply.reading import read

__all__ = ["read"]
