"""Quaternion arithmetic written straight into given arrays.

Everything here takes arrays with the *component first*, ``(4, ...)`` or ``(3, ...)``, so that each line of NumPy runs
over contiguous frames. ``out`` must not overlap the inputs. Quaternions are xyzw, unit, active. The public, allocating
forms with the component last are in :mod:`fairswap.model.rotation`.
"""

from __future__ import annotations

import numpy as np

from fairswap.model.arrays import Floats


def multiply_into(out: Floats, a: Floats, b: Floats, scratch: Floats) -> Floats:
    """Write the Hamilton product ``a * b`` ("first b, then a") into ``out``; ``scratch`` is one component."""
    ax, ay, az, aw = a
    bx, by, bz, bw = b
    for row, first, plus, minus in (
        (out[0], (aw, bx), ((ax, bw), (ay, bz)), (az, by)),
        (out[1], (aw, by), ((ay, bw), (az, bx)), (ax, bz)),
        (out[2], (aw, bz), ((az, bw), (ax, by)), (ay, bx)),
    ):
        np.multiply(*first, out=row)
        for pair in plus:
            row += np.multiply(*pair, out=scratch)
        row -= np.multiply(*minus, out=scratch)
    row = out[3]
    np.multiply(aw, bw, out=row)
    for pair in ((ax, bx), (ay, by), (az, bz)):
        row -= np.multiply(*pair, out=scratch)
    return out


def conjugate_multiply_into(out: Floats, a: Floats, b: Floats, scratch: Floats) -> Floats:
    """Write ``conjugate(a) * b`` into ``out``: the rotation ``b`` seen from the frame ``a``."""
    ax, ay, az, aw = a
    bx, by, bz, bw = b
    for row, first, plus, minus in (
        (out[0], (aw, bx), (az, by), ((ax, bw), (ay, bz))),
        (out[1], (aw, by), (ax, bz), ((ay, bw), (az, bx))),
        (out[2], (aw, bz), (ay, bx), ((az, bw), (ax, by))),
    ):
        np.multiply(*first, out=row)
        row += np.multiply(*plus, out=scratch)
        for pair in minus:
            row -= np.multiply(*pair, out=scratch)
    row = out[3]
    np.multiply(aw, bw, out=row)
    for pair in ((ax, bx), (ay, by), (az, bz)):
        row += np.multiply(*pair, out=scratch)
    return out


def rotate_into(out: Floats, rotation: Floats, vector: Floats, scratch: Floats) -> Floats:
    """Write ``rotation`` applied to ``vector`` into ``out``; ``scratch`` has four components.

    ``v + w c + q × c`` with ``c = q × 2v`` (Euler-Rodrigues), which needs no matrix.
    """
    x, y, z, w = rotation
    vx, vy, vz = vector
    cx, cy, cz, spare = scratch
    for c, (a, va), (b, vb) in (
        (cx, (y, vz), (z, vy)),
        (cy, (z, vx), (x, vz)),
        (cz, (x, vy), (y, vx)),
    ):
        np.multiply(a, 2.0 * va, out=c)
        c -= np.multiply(b, 2.0 * vb, out=spare)
    for row, v, c, (a, ca), (b, cb) in (
        (out[0], vx, cx, (y, cz), (z, cy)),
        (out[1], vy, cy, (z, cx), (x, cz)),
        (out[2], vz, cz, (x, cy), (y, cx)),
    ):
        np.multiply(w, c, out=row)
        row += v
        row += np.multiply(a, ca, out=spare)
        row -= np.multiply(b, cb, out=spare)
    return out


def dot(a: Floats, b: Floats | tuple[Floats, Floats, Floats]) -> Floats:
    """Of vectors, ``(3, …)`` each, components first."""
    return np.asarray(a[0] * b[0] + a[1] * b[1] + a[2] * b[2])


def turn_about_axis(rotation: Floats, axis: int, sine: Floats, cosine: Floats) -> Floats:
    """``rotation * (turn about axis 0, 1 or 2 by twice the angle of sine and cosine)``: half the work of a product."""
    i, j, k = axis, (axis + 1) % 3, (axis + 2) % 3
    out = np.empty_like(rotation)
    scratch = np.empty_like(rotation[3])
    for row, (a, b, sign) in ((i, (i, 3, 1.0)), (j, (j, k, 1.0)), (k, (k, j, -1.0)), (3, (3, i, -1.0))):
        np.multiply(rotation[a], cosine, out=out[row])
        np.multiply(rotation[b], sine, out=scratch)
        if sign > 0:
            out[row] += scratch
        else:
            out[row] -= scratch
    return out


def place_constant_into(out: Floats, base: Floats, rotation: Floats, vector: list[float], scratch: Floats) -> Floats:
    """Write ``base + rotation applied to vector`` into ``out``, as :func:`rotate_into` for one vector over all frames.

    Components of the vector that are zero, as most are in a rig whose bones lie along their axes, cost nothing.
    """
    spare = scratch[3]
    crossed: list[Floats | None] = []
    for i in range(3):
        j, k = (i + 1) % 3, (i + 2) % 3
        crossed.append(_difference_into(scratch[i], rotation[j], 2.0 * vector[k], rotation[k], 2.0 * vector[j], spare))
    for i in range(3):
        j, k = (i + 1) % 3, (i + 2) % 3
        row = out[i]
        np.add(base[i], vector[i], out=row)
        for factor, part, combine in (
            (rotation[3], crossed[i], np.add),
            (rotation[j], crossed[k], np.add),
            (rotation[k], crossed[j], np.subtract),
        ):
            if part is not None:
                combine(row, np.multiply(factor, part, out=spare), out=row)
    return out


def linear_into(out: Floats, matrix: list[list[float]], values: Floats, scratch: Floats) -> Floats:
    """Write ``matrix @ values`` into ``out`` ``(4, frames)``; zeros in the constant matrix cost nothing."""
    for row, factors in zip(out, matrix, strict=True):
        first = True
        for factor, column in zip(factors, values, strict=True):
            if factor == 0.0:
                continue
            if first:
                np.multiply(column, factor, out=row)
                first = False
            else:
                row += np.multiply(column, factor, out=scratch)
        if first:
            row[:] = 0.0
    return out


def _difference_into(out: Floats, a: Floats, u: float, b: Floats, v: float, spare: Floats) -> Floats | None:
    """``a * u - b * v``; None if both factors are zero."""
    if u == 0.0 and v == 0.0:
        return None
    if v == 0.0:
        return np.multiply(a, u, out=out)
    if u == 0.0:
        return np.multiply(b, -v, out=out)
    np.multiply(a, u, out=out)
    out -= np.multiply(b, v, out=spare)
    return out
