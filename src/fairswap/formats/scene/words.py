"""Numbers and names as the text formats of scenes have them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence

import msgspec
import numpy as np

from fairswap.formats.naming import distinct
from fairswap.model.arrays import Floats, Integers

_DIGITS = 9


def numbers_text(values: Sequence[float] | Floats) -> str:
    """Numbers with a space between them, of nine digits each: what single precision holds and a little more.

    Rounded so, the shortest text of a number has no more digits; and that is written by a compiled encoder.
    """
    flat = np.asarray(values, dtype=np.float64).ravel()
    size = np.abs(flat)
    tens = np.floor(np.log10(np.where(size > 0.0, size, 1.0)))
    # Powers of ten are exact up to 22: numbers between are rounded to nine digits, smaller ones are nothing.
    scale = 10.0 ** np.clip(_DIGITS - 1 - tens, 0, 22)
    rounded = np.where(size < 1e-14, 0.0, np.round(flat * scale) / scale)
    return msgspec.json.encode(rounded.tolist())[1:-1].decode().replace(",", " ")


def whole_text(values: Integers) -> str:
    """Whole numbers with a space between them."""
    return " ".join(map(str, np.asarray(values).ravel().tolist()))


def xml_ids(names: Iterable[str], taken: Iterable[str] = ()) -> list[str]:
    """Names as XML allows them for ids: letters, digits and lines, no digit first; each once."""
    plain = [re.sub(r"[^A-Za-z0-9_-]", "_", name) for name in names]
    named = [name if re.match(r"[A-Za-z_]", name) else f"n{name}" for name in plain]
    return [name.replace(" (", "_").replace(")", "") for name in distinct(named, taken)]
