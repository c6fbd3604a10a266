"""Wavefront OBJ meshes with their materials (``.obj`` with ``.mtl``): read."""

from fairswap.formats.obj.reading import parts_of, read

__all__ = ["parts_of", "read"]
