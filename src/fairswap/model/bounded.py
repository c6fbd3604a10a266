"""Bounded least squares for many right-hand sides at once: the weights of shapes over all frames of a clip.

For each frame the weights ``w`` within ``0 … most`` that bring ``A w`` nearest to the wanted ``b``: coordinate descent
on the normal equations (Franc, Hlaváč and Navara 2005), all frames side by side. Face shapes touch few others, so most
of the products are zero and cost nothing. Frames that have come to rest drop out.
"""

from __future__ import annotations

import numpy as np

from fairswap.model.arrays import Floats, Integers

_SWEEPS, _LOOK = 400, 4
_RELAX = 1.5
# So few frames cost less than the calls do: then one call for all shapes that another touches.
_FEW = 512
# Shapes as opposite as this (a cosine) do nothing together.
_OPPOSITE = 1.0 - 1e-4
# A small pull towards the preferred weights makes the answer the only one, and so a smooth one over time.
_PULL = 1e-5


def bounded_weights(
    matrix: Floats, wanted: Floats, most: Floats, prefer: Floats | None = None, tolerance: float = 1e-3
) -> Floats:
    """The weights ``(shapes, frames)`` within 0 and ``most`` that bring ``matrix @ weights`` nearest to ``wanted``.

    Parameters
    ----------
    matrix : (rows, shapes) array
        What each shape does.
    wanted : (rows, frames) array
    most : (shapes,) or (shapes, frames) array
        The largest weight of each shape.
    prefer : (shapes, frames) array, optional
        Which weights to be near to, where more than one answer is as good; without, small ones.
    tolerance : float
        A frame is done when no weight moves by more than this in a sweep.
    """
    shapes, frames = matrix.shape[1], wanted.shape[1]
    scale = float(np.einsum("rs,rs->s", matrix, matrix).max(initial=0.0)) or 1.0
    gram = matrix.T @ matrix
    gram[np.abs(gram) < 1e-12 * scale] = 0.0
    pull = _PULL * scale
    gram[np.diag_indices(shapes)] += pull
    goal = matrix.T @ wanted
    if prefer is not None:
        goal += pull * prefer
    # The answer without bounds is a good beginning, and the end where it keeps to them.
    weights = np.linalg.inv(gram) @ goal if prefer is None else prefer
    bounds = most = np.broadcast_to(most.T, (frames, shapes)).T
    weights = np.clip(weights, 0.0, most)
    # Single precision from here: half of the memory to go through, and weights need no more than five digits.
    slope = (gram @ weights - goal).astype(np.float32)
    weights, most, gram = weights.astype(np.float32), most.astype(np.float32), gram.astype(np.float32)
    pairs = [np.flatnonzero(row) for row in gram]
    moving = [shape for shape in range(shapes) if most[shape].any()]
    out = np.empty((shapes, frames))
    open_ = np.arange(frames)
    for sweep in range(_SWEEPS):
        moved = np.zeros(len(open_), dtype=np.float32) if sweep % _LOOK == _LOOK - 1 else None
        _sweep(moving, pairs, gram, weights, slope, most, moved)
        if moved is None:
            continue
        busy = moved > tolerance
        if 2 * np.count_nonzero(busy) < len(open_):
            out[:, open_[~busy]] = weights[:, ~busy]
            open_ = open_[busy]
            # A mask alone would leave the frames of a shape far from each other in memory.
            weights = np.ascontiguousarray(weights[:, busy])
            slope, most = np.ascontiguousarray(slope[:, busy]), np.ascontiguousarray(most[:, busy])
            if not len(open_):
                break
        if sweep == _LOOK - 1:  # what touches no other shape has its weight for good
            moving = [shape for shape in moving if len(pairs[shape]) > 1]
            if not moving:
                break
    out[:, open_] = weights
    out = np.minimum(out, bounds)
    _cancel_opposites(matrix, out, prefer)
    return out


def _cancel_opposites(matrix: Floats, weights: Floats, prefer: Floats | None) -> None:
    """Take from shapes that do the very opposite of each other (a look to the left, one to the right) what both have
    above the preferred weights: it shows nothing."""
    long = np.linalg.norm(matrix, axis=0)
    alike = (matrix.T @ matrix) / np.maximum(np.outer(long, long), 1e-300)
    for a, b in np.argwhere(np.triu(alike < -_OPPOSITE)).tolist():
        pair, size = [a, b], long[[a, b], None]
        above = weights[pair] if prefer is None else np.maximum(weights[pair] - prefer[pair], 0.0)
        weights[pair] -= (above * size).min(axis=0) / size


def _sweep(
    moving: list[int], pairs: list[Integers], gram: np.ndarray,
    weights: np.ndarray, slope: np.ndarray, most: np.ndarray, moved: np.ndarray | None,
) -> None:  # fmt: skip
    """Each shape in turn takes its best weight; ``moved``: the farthest step of each frame so far."""
    new, spare = np.empty((2, weights.shape[1]), dtype=np.float32)
    few = weights.shape[1] < _FEW
    for shape in moving:
        np.multiply(slope[shape], -_RELAX / gram[shape, shape], out=new)
        new += weights[shape]
        np.maximum(new, 0.0, out=new)
        np.minimum(new, most[shape], out=new)
        step = new - weights[shape]
        weights[shape] = new
        others = pairs[shape]
        if few:
            slope[others] += np.multiply.outer(gram[shape, others], step)
        else:
            for other in others.tolist():
                slope[other] += np.multiply(step, gram[shape, other], out=spare)
        if moved is not None:
            np.maximum(moved, np.abs(step, out=spare), out=moved)


def nonnegative_weights(gram: Floats, goal: Floats, allowed: np.ndarray, most: int) -> Floats:
    """The weights from 0 on, of no more than ``most`` columns that are ``allowed``, that come nearest to a goal: by the
    products of the columns with each other ``(n, n)`` and with the goal ``(n,)`` (Lawson and Hanson 1974)."""
    weights, used = np.zeros(len(goal)), np.zeros(len(goal), dtype=bool)
    least = 1e-9 * max(float(np.abs(goal).max(initial=0.0)), 1e-300)
    for _ in range(3 * most):
        pull = np.where(allowed & ~used, goal - gram @ weights, -np.inf)
        best = int(np.argmax(pull))
        if pull[best] <= least or used.sum() >= most:
            break
        used[best] = True
        while used.any():
            at = np.flatnonzero(used)
            wanted = np.linalg.lstsq(gram[np.ix_(at, at)], goal[at], rcond=None)[0]
            if wanted.min() > 0.0:
                weights[:] = 0.0
                weights[at] = wanted
                break
            # As far that way as none goes below 0; that one is out.
            down = wanted <= 0.0
            share = np.min(weights[at][down] / np.maximum(weights[at][down] - wanted[down], 1e-300))
            weights[at] += share * (wanted - weights[at])
            used[at[(weights[at] <= 1e-12) & down]] = False
            weights[~used] = 0.0
    return weights
