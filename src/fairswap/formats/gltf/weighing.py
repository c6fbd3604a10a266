"""Skin weights as the format asks for them: none below zero, and those of a vertex adding up to one."""

from __future__ import annotations

from typing import Any

import numpy as np

from fairswap.errors import Finding
from fairswap.model.arrays import Floats

_Numbers = np.ndarray[Any, Any]

# How far those of a vertex may be off one, for each of them: the rounding of single precision, as the official
# validator has it. What is off by more than four weights in bytes can be is seen, and told.
_ROUNDING, _SEEN = 2e-7, 0.016


def whole_weights(weights: Floats, name: str) -> tuple[Floats, bool, list[Finding]]:
    """Weights ``(n, k)`` of the mesh ``name`` made whole; whether they were not; and what is to be told of it."""
    findings = []
    positive = np.maximum(weights, 0.0)
    total = positive.sum(axis=1)
    loose = total <= 0
    if loose.any():
        message = f"{int(loose.sum())} of {len(loose)} vertices hang on no bone; they follow the first"
        findings.append(Finding("unweighted-vertices", "warning", name, message, "Weight them before exporting"))
    seen = (np.abs(total - 1.0) > _SEEN) & ~loose
    if seen.any():
        least, most = total[seen].min(), total[seen].max()
        sums = f"{least:.3g}" if most - least < _SEEN else f"{least:.3g} to {most:.3g}"
        message = (
            f"the weights of {int(seen.sum())} of {len(seen)} vertices add up to {sums}, not to 1; they are scaled"
        )
        findings.append(Finding("weights-scaled", "warning", name, message))
    rounding = _ROUNDING * np.count_nonzero(weights, axis=1)
    if (np.abs(total - 1.0) <= rounding).all() and (positive == weights).all():
        return weights, False, findings
    positive[loose, 0] = 1.0
    return positive / positive.sum(axis=1, keepdims=True), True, findings


def with_joints_once(joints: _Numbers, weights: Floats) -> tuple[_Numbers, Floats]:
    """Joints and weights ``(n, k)`` with no joint twice at a vertex: the first has the weight of all. The same
    arrays if none is. A joint without weight does not count."""
    columns = np.arange(joints.shape[1])
    weighing = np.where(weights != 0.0, joints.astype(np.int64), -1 - columns)
    if (np.diff(np.sort(weighing, axis=1), axis=1) != 0).all():
        return joints, weights
    weights = weights.astype(np.float64)
    for column in columns[1:]:
        for first in range(column):
            same = (weighing[:, column] == weighing[:, first]) & (weights[:, column] != 0.0)
            weights[:, first] += np.where(same, weights[:, column], 0.0)
            weights[same, column] = 0.0
    return joints.copy(), weights
