"""Curves over time: panels below each other, a colour and line style for each clip, and when feet stand."""

from __future__ import annotations

import warnings
from collections.abc import Sequence
from dataclasses import dataclass
from io import BytesIO
from typing import Any

import numpy as np

from fairswap.formats.naming import visible
from fairswap.model.arrays import Floats
from fairswap.picture.letters import families_for

_COLORS, _STYLES = ("#1f4f6b", "#c4631a", "#3b7d4f", "#7a4a8c"), ("-", "--", "-.", ":")


@dataclass(frozen=True, eq=False)
class Curve:
    """One line: its label, times in seconds ``(n,)`` and values ``(n,)``."""

    label: str
    times: Floats
    values: Floats


@dataclass(frozen=True, eq=False)
class Panel:
    """Lines over one another, with what they measure; ``least`` is the smallest range shown."""

    title: str
    unit: str
    curves: Sequence[Curve]
    least: float = 10.0


@dataclass(frozen=True, eq=False)
class Strip:
    """When something is so: a row of bars, ``spans`` in seconds."""

    label: str
    spans: Sequence[tuple[float, float]]
    color: str = "#55524c"


def curves_image(title: str, panels: Sequence[Panel], strips: Sequence[Strip] = ()) -> bytes:
    """A PNG, 1600 pixels wide."""
    from matplotlib import rc_context

    texts = [title, *(panel.title for panel in panels), *(curve.label for panel in panels for curve in panel.curves)]
    letters: Any = {"text.parse_math": False, "font.family": families_for(map(visible, texts))}
    with rc_context(letters), warnings.catch_warnings():
        warnings.filterwarnings("ignore", "Glyph .* missing")  # drawn as a box
        return _drawn(title, panels, strips)


def _drawn(title: str, panels: Sequence[Panel], strips: Sequence[Strip]) -> bytes:
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    heights = [3.0] * len(panels) + ([0.5 + 0.28 * len(strips)] if strips else [])
    sheet = Figure(figsize=(16, 1.1 + 0.62 * sum(heights)), dpi=100, facecolor="#f6f4ef")
    FigureCanvasAgg(sheet)
    axes = np.atleast_1d(sheet.subplots(len(heights), 1, sharex=True, height_ratios=heights))
    for axis, panel in zip(axes, panels, strict=False):
        for number, curve in enumerate(panel.curves):
            style = {"color": _COLORS[number % 4], "linestyle": _STYLES[number % 4]}
            axis.plot(curve.times, curve.values, linewidth=2.0, label=visible(curve.label), **style)
        low = min(float(curve.values.min()) for curve in panel.curves)
        high = max(float(curve.values.max()) for curve in panel.curves)
        if high - low < panel.least:  # so that nothing does not look like something
            axis.set_ylim(0.5 * (low + high - panel.least), 0.5 * (low + high + panel.least))
        axis.set_ylabel(panel.unit)
        axis.set_title(visible(panel.title), loc="left", fontsize=12)
        axis.grid(color="#dcd8cf")
        axis.set_facecolor("#fbfaf7")
        if len(panel.curves) > 1:
            axis.legend(loc="upper right", frameon=False)
    if strips:
        axis = axes[-1]
        for row, strip in enumerate(strips):
            bars = [(start, max(stop - start, 1e-3)) for start, stop in strip.spans]
            axis.broken_barh(bars, (-row - 0.4, 0.8), facecolor=strip.color)
        axis.set_yticks(range(0, -len(strips), -1), [visible(strip.label) for strip in strips])
        axis.set_facecolor("#fbfaf7")
    axes[-1].set_xlabel("seconds")
    sheet.suptitle(visible(title), x=0.01, ha="left", fontsize=17)
    sheet.tight_layout(rect=(0, 0, 1, 0.99))
    out = BytesIO()
    # No dates and versions in the file: the same curves give the same bytes.
    sheet.savefig(out, format="png", metadata={"Software": None})
    return out.getvalue()
