"""How much of the face a chart can show, by region."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from fairswap.face.chart import FaceChart
from fairswap.face.units import EXPRESSIONS, REGIONS, UNITS, VISEMES, region_of, vector
from fairswap.model.arrays import Floats
from fairswap.model.bounded import bounded_weights

# What a unit counts that only moves with others of its region.
_WITH_OTHERS = 0.9


def coverage(chart: FaceChart) -> dict[str, dict[str, float]]:
    """By region, how much of each unit (or viseme, or expression) the chart can show, 0 to 1."""
    wanted = (*UNITS, *VISEMES, *EXPRESSIONS)
    goals = np.stack([vector({name: 1.0}) for name in wanted], axis=1)
    shares = bounded_weights(chart.matrix, goals, np.ones(len(chart.columns)))
    left = np.linalg.norm(goals - chart.matrix @ shares, axis=0) / np.linalg.norm(goals, axis=0)
    out: dict[str, dict[str, float]] = {region: {} for region in (*REGIONS, "expressions", "speech")}
    shown = np.maximum(1.0 - left, 0.0)
    shown[: len(UNITS)] = np.maximum(shown[: len(UNITS)], _shown_with_others(chart.matrix))
    for name, value in zip(wanted, shown.tolist(), strict=True):
        out[region_of(name)][name] = round(value, 3)
    return out


def _shown_with_others(matrix: Floats) -> Floats:
    """How much of each unit is in a shape that moves others of its region, too, as both brows at once ``(units,)``."""
    regions = np.array([region_of(unit) for unit in UNITS])
    size = np.linalg.norm(matrix, axis=0)
    within = [len(set(regions[np.abs(column) > 0.02].tolist())) == 1 for column in matrix.T]
    shares = np.maximum(matrix, 0.0) / np.maximum(size, 1e-12)
    return np.asarray(_WITH_OTHERS * shares[:, within].max(axis=1, initial=0.0))


def verdict_of(row: Mapping[str, float]) -> str:
    """``full``, ``in part`` or ``none`` for one region of :func:`coverage`."""
    values = np.array(list(row.values()))
    if (values > 0.8).all():
        return "full"
    return "in part" if (values > 0.4).any() else "none"
