"""glTF 2.0 (ISO/IEC 12113), as ``.glb`` and ``.gltf``; VRM 1.0 files are glTF too."""

from fairswap.formats.gltf.container import parts_of
from fairswap.formats.gltf.reading import read
from fairswap.formats.gltf.writing import encode

__all__ = ["encode", "parts_of", "read"]
