"""Banded systems solved for all rows at once, by cyclic reduction of their blocks (Golub; Heller 1976).

Every second block is expressed by its neighbours and put into them, until one is left; then back. That is more work
than going along the band, and none of it is a loop over rows. SciPy's solver would do; to load it takes longer than
most clips take.
"""

from __future__ import annotations

import numpy as np

from fairswap.model.arrays import Floats


def solve_blocks(diagonal: Floats, below: Floats, right: Floats) -> Floats:
    """Solve a symmetric, positive definite, block tridiagonal system.

    Parameters
    ----------
    diagonal : (blocks, size, size) array
    below : (blocks, size, size) array
        What stands to the left of each diagonal block; that of the first is not looked at.
    right : (blocks, size, columns) array

    Returns
    -------
    (blocks, size, columns) array
    """
    size = diagonal.shape[1]
    left = below.copy()
    left[0] = 0.0
    onward = np.zeros_like(left)
    onward[:-1] = below[1:].transpose(0, 2, 1)
    return _reduced(left, diagonal, onward, right, size)


def _reduced(left: Floats, diagonal: Floats, onward: Floats, right: Floats, size: int) -> Floats:
    if len(diagonal) == 1:
        return np.asarray(np.linalg.solve(diagonal, right))
    odd, even = slice(1, None, 2), slice(0, None, 2)
    known = np.linalg.solve(diagonal[odd], np.concatenate([left[odd], onward[odd], right[odd]], axis=2))
    by_left, by_onward, by_right = known[:, :, :size], known[:, :, size : 2 * size], known[:, :, 2 * size :]
    new_left, new_diagonal = np.zeros_like(left[even]), diagonal[even].copy()
    new_onward, new_right = np.zeros_like(new_left), right[even].copy()
    # The odd block before an even one, where there is one, and the one after it.
    before, after = len(new_right) - 1, len(known)
    coupling = left[even][1:]
    new_left[1:] = -coupling @ by_left[:before]
    new_diagonal[1:] -= coupling @ by_onward[:before]
    new_right[1:] -= coupling @ by_right[:before]
    coupling = onward[even][:after]
    new_onward[:after] = -coupling @ by_onward
    new_diagonal[:after] -= coupling @ by_left
    new_right[:after] -= coupling @ by_right
    out = np.empty_like(right)
    out[even] = _reduced(new_left, new_diagonal, new_onward, new_right, size)
    out[odd] = by_right - by_left @ out[even][:after]
    out[odd][:before] -= by_onward[:before] @ out[even][1:]
    return out
