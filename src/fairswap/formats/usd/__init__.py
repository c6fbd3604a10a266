"""USD (``.usda``, ``.usdc``, ``.usd``, ``.usdz``), by the official library (``pip install "fairswap[usd]"``)."""

from fairswap.formats.usd.packing import parts_of
from fairswap.formats.usd.reading import read
from fairswap.formats.usd.writing import encode, left_out

__all__ = ["encode", "left_out", "parts_of", "read"]
