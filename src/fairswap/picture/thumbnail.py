"""A small picture of a result where it is furthest off: enough to know it by, and to see whether it is broken."""

from __future__ import annotations

from io import BytesIO

import numpy as np

from fairswap.measure.comparison import Comparison
from fairswap.picture.framing import SHOTS, Frame, Staged
from fairswap.picture.paper import PAPER

_WIDTH, _HEIGHT = 112, 140


def thumbnail(found: Comparison) -> bytes:
    """A PNG of the result from the front, at its worst moment."""
    side = found.result
    worst = float(found.times_s[int(np.argmax(found.per_frame_degrees))]) if len(found.times_s) else 0.0
    time = min(worst, side.clip.duration_s)
    staged = Staged.of(side.rigged.figure, side.clip, np.array([time]), side.rigged)
    panel = SHOTS["full"][0]
    out = BytesIO()
    Frame.around([staged], [panel], _WIDTH, _HEIGHT).picture(staged, 0, panel, PAPER).save(out, "PNG")
    return out.getvalue()
