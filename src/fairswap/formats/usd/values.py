"""Values of the library as arrays: checked to be finite, matrices turned to our side."""

from __future__ import annotations

from typing import Any

import numpy as np

from fairswap.errors import InputError
from fairswap.model.arrays import Floats, Integers

_AGAIN = "Export the file again"


def value_of(attribute: Any) -> Any:
    """What an attribute says once and for all; of one that is keyed only, what it says first. Some programs key all."""
    from pxr import Usd

    found = attribute.Get()
    return attribute.Get(Usd.TimeCode.EarliestTime()) if found is None else found


def flat_values(primvar: Any) -> Any:
    """What a primvar says once and for all, or first, its indices followed."""
    from pxr import Usd

    found = primvar.ComputeFlattened()
    return found if found is not None and len(found) else primvar.ComputeFlattened(Usd.TimeCode.EarliestTime())


def floats_of(values: Any, width: int, place: str) -> Floats:
    """An array of the library as rows of ``width`` numbers, finite."""
    rows = np.array(values if values is not None else (), dtype=np.float64).reshape(-1, width)
    if not np.isfinite(rows).all():
        raise InputError("a number of it is not finite", place=place, remedy=_AGAIN)
    return rows


def spread_over(values: Any, points: Integers, count: int, place: str) -> Floats:
    """Shifts ``(count, 3)`` of all points, from those of some."""
    rows = floats_of(values, 3, place)
    if not len(points):
        if len(rows) not in (0, count):
            raise InputError(f"it has {len(rows)} shifts for {count} points", place=place, remedy=_AGAIN)
        return rows if len(rows) else np.zeros((count, 3))
    if len(rows) != len(points):
        raise InputError(f"it has {len(rows)} shifts for {len(points)} points", place=place, remedy=_AGAIN)
    out = np.zeros((count, 3))
    out[points] = rows
    return out


def matrix_of(value: Any) -> Floats:
    """A matrix of the library, in which points are rows, as ours."""
    matrix = np.array(value, dtype=np.float64).T
    if not np.isfinite(matrix).all():
        raise InputError("a transform is not finite", remedy=_AGAIN)
    return matrix


def matrices_of_joints(values: Any, count: int, place: str) -> Floats | None:
    """As many matrices as there are joints, each with an inverse; None if there are none."""
    if values is None or len(values) != count:
        return None
    matrices = np.array(values, dtype=np.float64).reshape(-1, 4, 4).transpose(0, 2, 1)
    if not np.isfinite(matrices).all() or (np.abs(np.linalg.det(matrices)) < 1e-18).any():
        raise InputError("a transform of its joints is not valid", place=place, remedy=_AGAIN)
    return np.array(matrices)


def name_of(prim: Any) -> str:
    return str(prim.GetDisplayName() or prim.GetName())
