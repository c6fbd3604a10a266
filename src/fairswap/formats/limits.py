"""How much is read at most: a stranger's file of a few bytes must not fill the memory or take for ever.

docs/formats.md has the table. What is made from files (frames at another rate) is bounded in :mod:`fairswap.model`.
"""

from __future__ import annotations

LARGEST_FILE_BYTES = 4 << 30
# Of any number in a text: a million kilometres, or turns, are no motion.
LARGEST_NUMBER = 1e9
# Files of ours: letters, and parts of one dotted key.
LARGEST_TEXT, MOST_KEY_PARTS = 4_000_000, 32
# Tables.
MOST_ROWS, MOST_COLUMNS = 500_000, 2_000
# Pictures.
MOST_PIXELS, LONGEST_SIDE_PX = 8192 * 8192, 16384
# XML: levels, elements. Archives: parts, and how many bytes are made of all of them, for each byte and at least.
DEEPEST_XML, MOST_XML_ELEMENTS = 512, 4_000_000
MOST_PARTS, UNPACKED_A_BYTE, UNPACKED_BYTES = 4_096, 200, 64 << 20
# Numbers in the frames of a clip, and in the meshes of a figure: so many, however small the file, and for each byte.
CLIP_NUMBERS, CLIP_NUMBERS_A_BYTE = 12_000_000, 2
MESH_NUMBERS, MESH_NUMBERS_A_BYTE = 48_000_000, 2


def clip_numbers(file_bytes: int) -> int:
    """How many numbers the frames of a clip in a file of this size may have."""
    return CLIP_NUMBERS + CLIP_NUMBERS_A_BYTE * file_bytes


def mesh_numbers(file_bytes: int) -> int:
    """How many numbers the meshes of a figure in a file of this size may have."""
    return MESH_NUMBERS + MESH_NUMBERS_A_BYTE * file_bytes
