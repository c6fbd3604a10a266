"""Sums of expressions and speech, kept within what a face can do."""

from __future__ import annotations

import numpy as np

from fairswap.errors import Finding
from fairswap.face.units import REGIONS, UNITS, region_of
from fairswap.model.arrays import Floats

_TOLD = 0.02


def limited_by_region(units: Floats, rate: float, place: str) -> tuple[Floats, list[Finding]]:
    """Units over time ``(units, frames)`` where none is above 1: a region in which one is, is taken back as a whole, so
    that it keeps its expression; with what was taken back, and where."""
    out, findings = units.copy(), []
    regions = np.array([region_of(unit) for unit in UNITS])
    for region in REGIONS:
        rows = regions == region
        highest = units[rows].max(axis=0)
        out[rows] /= np.maximum(highest, 1.0)
        worst = int(np.argmax(highest))
        if highest[worst] > 1.0 + _TOLD:
            unit = np.array(UNITS)[rows][int(np.argmax(units[rows, worst]))].replace("_", " ")
            most = f"{highest[worst]:.0%} ({unit} at {worst / rate:.2f} s)"
            message = f"{region}: the sum of what is asked for goes to {most}; taken back to what a face can do"
            findings.append(Finding("face-limited", "note", place, message, "Ask for less of what is laid together"))
    return out, findings
