"""Rotations as arrays of quaternions: one function works on one rotation or on a million.

Quaternions are unit, **xyzw**, active and right-handed; the last axis of every array is the component, all other axes
broadcast. Angles are radians unless a name says degrees.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import ArrayLike

from fairswap.model.arrays import Floats
from fairswap.model.kernels import multiply_into, rotate_into, turn_about_axis

IDENTITY: Floats = np.array([0.0, 0.0, 0.0, 1.0])
_AXES = {"X": 0, "Y": 1, "Z": 2}


def multiply(a: ArrayLike, b: ArrayLike) -> Floats:
    """The product ``a * b``: first turn by ``b``, then by ``a``. Shapes ``(..., 4)`` broadcast.

    >>> quarter = quaternion_from_axis_angle([0, 0, 1], np.pi / 2)
    >>> multiply(quarter, quarter).round(6).tolist()
    [0.0, 0.0, 1.0, 0.0]
    """
    first, second = np.asarray(a, dtype=np.float64), np.asarray(b, dtype=np.float64)
    if first.ndim == second.ndim == 1:
        return _single_product(first, second)
    shape = np.broadcast_shapes(first.shape[:-1], second.shape[:-1])
    out = multiply_into(np.empty((4, *shape)), _rows(first, shape), _rows(second, shape), np.empty(shape))
    return _last(out)


def conjugate(rotation: ArrayLike) -> Floats:
    """The inverse of unit quaternions, shape ``(..., 4)``."""
    return np.asarray(rotation, dtype=np.float64) * np.array([-1.0, -1.0, -1.0, 1.0])


def rotate(rotation: ArrayLike, vector: ArrayLike) -> Floats:
    """Turn vectors ``(..., 3)`` by rotations ``(..., 4)``.

    >>> rotate(quaternion_from_axis_angle([0, 1, 0], np.pi / 2), [1, 0, 0]).round(6).tolist()
    [0.0, 0.0, -1.0]
    """
    first, second = np.asarray(rotation, dtype=np.float64), np.asarray(vector, dtype=np.float64)
    if first.ndim == second.ndim == 1:
        return _single_rotated(first, second)
    shape = np.broadcast_shapes(first.shape[:-1], second.shape[:-1])
    return _last(rotate_into(np.empty((3, *shape)), _rows(first, shape), _rows(second, shape), np.empty((4, *shape))))


def normalized(rotation: ArrayLike) -> Floats:
    """Unit quaternions (or unit vectors) of the same direction; zeros stay zeros."""
    values = np.asarray(rotation, dtype=np.float64)
    length = np.sqrt(np.einsum("...i,...i->...", values, values))[..., None]
    return values / np.where(length > 0.0, length, 1.0)


def quaternion_from_axis_angle(axis: ArrayLike, angle: ArrayLike) -> Floats:
    """Turn by ``angle`` (radians, shape ``(...)``) about ``axis`` (``(..., 3)``, any length but zero)."""
    unit = normalized(axis)
    half = np.asarray(angle, dtype=np.float64)[..., None] * 0.5
    vector = np.sin(half) * unit
    return np.concatenate([vector, np.broadcast_to(np.cos(half), (*vector.shape[:-1], 1))], axis=-1)


def quaternion_between(start: ArrayLike, end: ArrayLike) -> Floats:
    """The shortest turn that brings the direction ``start`` to ``end``, shapes ``(..., 3)``.

    For opposite directions, where it is not defined, a half turn about an axis square to ``start``.
    """
    if np.ndim(start) == np.ndim(end) == 1:
        return _single_between(np.asarray(start, dtype=np.float64), np.asarray(end, dtype=np.float64))
    a, b = np.broadcast_arrays(normalized(start), normalized(end))
    vector = np.stack([a[..., i - 2] * b[..., i - 1] - a[..., i - 1] * b[..., i - 2] for i in range(3)], axis=-1)
    scalar = 1.0 + np.einsum("...i,...i->...", a, b)[..., None]
    other = np.where(np.abs(a[..., :1]) < 0.9, [1.0, 0.0, 0.0], [0.0, 1.0, 0.0])
    opposite = scalar < 1e-12
    vector = np.where(opposite, normalized(np.cross(a, other)), vector)
    return normalized(np.concatenate([vector, np.where(opposite, 0.0, scalar)], axis=-1))


def quaternion_from_matrix(matrix: ArrayLike) -> Floats:
    """Quaternions of rotation matrices ``(..., 3, 3)``; each must be orthogonal with determinant 1.

    The largest of the four components is found first, so that nothing is divided by a small number (Shepperd 1978).
    """
    m = np.asarray(matrix, dtype=np.float64)
    diagonal = np.stack([m[..., 0, 0], m[..., 1, 1], m[..., 2, 2]], axis=-1)
    trace = diagonal.sum(axis=-1)
    # Row k of this symmetric matrix is 4 q_k q: any row, made unit, is the quaternion.
    outer = np.empty((*m.shape[:-2], 4, 4))
    for i in range(3):
        j, k = (i + 1) % 3, (i + 2) % 3
        outer[..., i, i] = 1.0 + 2.0 * diagonal[..., i] - trace
        outer[..., i, j] = outer[..., j, i] = m[..., j, i] + m[..., i, j]
        outer[..., i, 3] = outer[..., 3, i] = m[..., k, j] - m[..., j, k]
    outer[..., 3, 3] = 1.0 + trace
    best = np.argmax(np.diagonal(outer, axis1=-2, axis2=-1), axis=-1)
    row = np.take_along_axis(outer, best[..., None, None], axis=-2)[..., 0, :]
    return normalized(np.where(row[..., 3:] < 0.0, -row, row))


def matrix_from_quaternion(rotation: ArrayLike) -> Floats:
    """Rotation matrices ``(..., 3, 3)`` of unit quaternions ``(..., 4)``."""
    q = np.asarray(rotation, dtype=np.float64)
    x, y, z, w = np.moveaxis(q, -1, 0)
    x2, y2, z2 = 2.0 * x, 2.0 * y, 2.0 * z
    out = np.empty((*q.shape[:-1], 3, 3))
    for i, a, b, c, b2, c2 in ((0, x, y, z, y2, z2), (1, y, z, x, z2, x2), (2, z, x, y, x2, y2)):
        j = (i + 1) % 3
        across, along = a * b2, w * c2
        out[..., i, i] = 1.0 - b * b2 - c * c2
        out[..., j, i] = across + along
        out[..., i, j] = across - along
    return out


def rotation_from_stretched(matrix: ArrayLike) -> Floats:
    """The rotation nearest to a matrix ``(..., 3, 3)`` that also stretches (polar decomposition, Higham 1986)."""
    u, _, vt = np.linalg.svd(np.asarray(matrix, dtype=np.float64))
    u[..., :, 2] *= np.sign(np.linalg.det(u @ vt))[..., None]
    return quaternion_from_matrix(u @ vt)


def angle_between(a: ArrayLike, b: ArrayLike) -> Floats:
    """The angle in radians between rotations, or between unit vectors; shapes ``(..., n)``.

    By the chord, so that small angles keep their digits.
    """
    first, second = np.asarray(a, dtype=np.float64), np.asarray(b, dtype=np.float64)
    difference = np.linalg.norm(first - second, axis=-1)
    total = np.linalg.norm(first + second, axis=-1)
    if first.shape[-1] == 4:  # q and -q are the same turn
        return 4.0 * np.arctan2(np.minimum(difference, total), np.maximum(difference, total))
    return 2.0 * np.arctan2(difference, total)


def rotation_vector(rotation: ArrayLike) -> Floats:
    """Axis times angle in radians ``(..., 3)``, the short way round, of rotations ``(..., 4)``."""
    q = np.asarray(rotation, dtype=np.float64)
    upright = np.where(q[..., 3:] < 0, -q, q)
    length = np.linalg.norm(upright[..., :3], axis=-1, keepdims=True)
    angle = 2.0 * np.arctan2(length, upright[..., 3:])
    return upright[..., :3] / np.where(length > 0, length, 1.0) * angle


def quaternion_from_rotation_vector(vector: ArrayLike) -> Floats:
    """The rotation ``(..., 4)`` of axis times angle ``(..., 3)``, radians."""
    vectors = np.asarray(vector, dtype=float)
    angle = np.linalg.norm(vectors, axis=-1)
    return quaternion_from_axis_angle(vectors / np.maximum(angle, 1e-12)[..., None], angle)


def swing_twist(rotation: ArrayLike, axis: ArrayLike) -> tuple[Floats, Floats]:
    """Split ``rotation = swing * twist`` ``(..., 4)``: the twist is about the unit ``axis`` ``(3,)``, the swing square.

    ``axis`` is in the frame the rotation acts on. The twist is no turn where the axis is turned by exactly 180 degrees,
    where it is not defined.
    """
    whole, unit = np.asarray(rotation, dtype=np.float64), np.asarray(axis, dtype=np.float64)
    # Project the vector part on the axis: what is left is a turn about the axis alone.
    along = np.einsum("...i,i->...", whole[..., :3], unit)[..., None]
    twist = normalized(np.concatenate([along * unit, whole[..., 3:]], axis=-1))
    twist = np.where(np.abs(twist).sum(axis=-1, keepdims=True) == 0.0, IDENTITY, twist)
    return multiply(whole, conjugate(twist)), twist


def slerp(start: ArrayLike, end: ArrayLike, fraction: ArrayLike) -> Floats:
    """Turn evenly from ``start`` (share 0) to ``end`` (share 1), the short way (Shoemake 1985)."""
    a, b = np.asarray(start, dtype=np.float64), np.asarray(end, dtype=np.float64)
    s = np.asarray(fraction, dtype=np.float64)[..., None]
    cosine = np.einsum("...i,...i->...", a, b)[..., None]
    b = np.where(cosine < 0.0, -b, b)
    angle = np.arccos(np.minimum(np.abs(cosine), 1.0))
    sine = np.sin(angle)
    near = sine < 1e-6  # the arc is a line there, and its sine no divisor
    safe = np.where(near, 1.0, sine)
    weight_a = np.where(near, 1.0 - s, np.sin((1.0 - s) * angle) / safe)
    weight_b = np.where(near, s, np.sin(s * angle) / safe)
    return normalized(weight_a * a + weight_b * b)


def quaternion_from_euler(angles: ArrayLike, order: str) -> Floats:
    """Compose turns about the axes of ``order`` ("ZXY": ``Rz * Rx * Ry``), angles in radians ``(..., len(order))``.

    The turns are intrinsic, as in motion files: each is about the axes that the ones before it have turned. Any number
    of letters is allowed, also none.
    """
    values = np.asarray(angles, dtype=np.float64)
    if values.ndim == 1:
        return quaternion_from_euler(values[None], order)[0]
    out = np.zeros((4, *values.shape[:-1]))
    out[3] = 1.0
    sines, cosines = _of_half_angles(values)
    if len(set(order)) == len(order) == 3:
        _three_turns_into(out, order, [sines[..., i] for i in range(3)], [cosines[..., i] for i in range(3)])
        return _last(out)
    for index, letter in enumerate(order):
        out = turn_about_axis(out, _AXES[letter], sines[..., index], cosines[..., index])
    return _last(out)


def _of_half_angles(angles: Floats) -> tuple[Floats, Floats]:
    """Sine and cosine of half of each angle, by the tangent of a quarter: one costly function instead of two."""
    tangent = np.tan(angles * 0.25)
    square = tangent * tangent
    cosine = 1.0 - square
    square += 1.0
    np.divide(1.0, square, out=square)
    cosine *= square
    square *= 2.0
    tangent *= square
    return tangent, cosine


def _three_turns_into(out: Floats, order: str, sines: list[Floats], cosines: list[Floats]) -> None:
    """The product of turns about three different axes, written out: half of its terms are shared."""
    i, j, k = (_AXES[letter] for letter in order)
    sign = 1.0 if (j - i) % 3 == 1 else -1.0
    (s1, s2, s3), (c1, c2, c3) = sines, cosines
    s3 = s3 * sign
    cc, ss, sc, cs = c2 * c3, s2 * s3, s2 * c3, c2 * s3
    scratch = np.empty_like(cc)
    for row, a, b, p, q, combine in (
        (i, s1, c1, cc, ss, np.add),
        (j, c1, s1, sc, cs, np.subtract),
        (k, c1, s1, cs, sc, np.add),
        (3, c1, s1, cc, ss, np.subtract),
    ):
        np.multiply(a, p, out=out[row])
        combine(out[row], np.multiply(b, q, out=scratch), out=out[row])
    if sign < 0:  # the one component in which the sign of the third sine stands alone
        out[k] *= -1.0


def euler_from_quaternion(rotation: ArrayLike, order: str) -> Floats:
    """Angles in radians ``(..., 3)`` so that ``quaternion_from_euler(angles, order)`` is ``rotation``.

    ``order`` names three different axes. Where the middle angle is at ±90 degrees (gimbal lock), the last is zero.
    """
    i, j, k = (_AXES[letter] for letter in order)
    sign = 1.0 if (j - i) % 3 == 1 else -1.0
    m = matrix_from_quaternion(rotation)
    sine = np.clip(sign * m[..., i, k], -1.0, 1.0)
    cosine = np.sqrt(m[..., i, i] ** 2 + m[..., i, j] ** 2)  # the entries are no larger than one: quicker than hypot
    locked = cosine < 1e-9
    first = np.where(
        locked, np.arctan2(sign * m[..., k, j], m[..., j, j]), np.arctan2(-sign * m[..., j, k], m[..., k, k])
    )
    last = np.where(locked, 0.0, np.arctan2(-sign * m[..., i, j], m[..., i, i]))
    return np.stack([first, np.arctan2(sine, cosine), last], axis=-1)


def without_sign_jumps(rotation: Floats) -> Floats:
    """The same rotations ``(..., frames)`` with component axis -2, signs chosen so that neighbours are near."""
    dots = np.einsum("...cf,...cf->...f", rotation[..., 1:], rotation[..., :-1])
    flips = np.cumprod(np.where(dots < 0.0, -1.0, 1.0), axis=-1)
    out = rotation.copy()
    out[..., 1:] *= flips[..., None, :]
    return out


def _single_product(a: Floats, b: Floats) -> Floats:
    """One product in plain floats: many times faster than arrays of one."""
    ax, ay, az, aw = a.tolist()
    bx, by, bz, bw = b.tolist()
    return np.array(
        [
            aw * bx + ax * bw + ay * bz - az * by,
            aw * by + ay * bw + az * bx - ax * bz,
            aw * bz + az * bw + ax * by - ay * bx,
            aw * bw - ax * bx - ay * by - az * bz,
        ]
    )


def _single_rotated(rotation: Floats, vector: Floats) -> Floats:
    """One vector turned, in plain floats."""
    x, y, z, w = rotation.tolist()
    a, b, c = vector.tolist()
    # v + 2w (u x v) + 2 u x (u x v)
    p, q, r = 2.0 * (y * c - z * b), 2.0 * (z * a - x * c), 2.0 * (x * b - y * a)
    return np.array([a + w * p + y * r - z * q, b + w * q + z * p - x * r, c + w * r + x * q - y * p])


def _single_between(start: Floats, end: Floats) -> Floats:
    """One shortest turn, in plain floats."""
    a, b = start.tolist(), end.tolist()
    lengths = math.hypot(*a) * math.hypot(*b)
    if lengths == 0.0:
        return IDENTITY.copy()
    scalar = lengths + a[0] * b[0] + a[1] * b[1] + a[2] * b[2]
    vector = [a[i - 2] * b[i - 1] - a[i - 1] * b[i - 2] for i in range(3)]
    if scalar < 1e-12 * lengths:  # opposite
        other = [1.0, 0.0, 0.0] if abs(a[0]) < 0.9 * math.hypot(*a) else [0.0, 1.0, 0.0]
        scalar, vector = 0.0, [a[i - 2] * other[i - 1] - a[i - 1] * other[i - 2] for i in range(3)]
    size = math.hypot(*vector, scalar)
    return np.array([*vector, scalar]) / size


def _rows(values: Floats, shape: tuple[int, ...]) -> Floats:
    """The component first, then axes of length one, so that the rest broadcasts against ``shape``."""
    padded = values.reshape(*(1,) * (len(shape) + 1 - values.ndim), *values.shape)
    return padded.transpose(padded.ndim - 1, *range(padded.ndim - 1))


def _last(values: Floats) -> Floats:
    """The component last again."""
    return values.transpose(*range(1, values.ndim), 0)
