"""glTF 2.0 (ISO/IEC 12113), as ``.glb`` and ``.gltf``."""

from fairswap.formats.gltf.container import parts_of
from fairswap.formats.gltf.reading import read
from fairswap.formats.gltf.writing import encode, left_out

__all__ = ["encode", "left_out", "parts_of", "read"]
