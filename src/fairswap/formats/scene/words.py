"""Numbers and names as the text formats of scenes have them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence

import numpy as np

from fairswap.formats.naming import distinct
from fairswap.model.arrays import Floats, Integers


def numbers_text(values: Sequence[float] | Floats) -> str:
    """Numbers with a space between them, with what single precision holds and a little more."""
    return " ".join(map("%.9g".__mod__, np.asarray(values, dtype=np.float64).ravel().tolist()))


def whole_text(values: Integers) -> str:
    """Whole numbers with a space between them."""
    return " ".join(map(str, np.asarray(values).ravel().tolist()))


def xml_ids(names: Iterable[str], taken: Iterable[str] = ()) -> list[str]:
    """Names as XML allows them for ids: letters, digits and lines, no digit first; each once."""
    plain = [re.sub(r"[^A-Za-z0-9_-]", "_", name) for name in names]
    named = [name if re.match(r"[A-Za-z_]", name) else f"n{name}" for name in plain]
    return [name.replace(" (", "_").replace(")", "") for name in distinct(named, taken)]
