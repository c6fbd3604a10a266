"""Push cloth out of the body by the least smooth change: at rest, and by as much more as motion needs."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from fairswap.figures.dressing.cutting import Cloth
from fairswap.figures.dressing.smoothing import Smoother
from fairswap.measure.nearness import Surface
from fairswap.model.arrays import Floats, Integers

# Cloth is kept this far off the skin, metres: at rest, and in motion.
_OFF_M, _OFF_MOVING_M = 0.003, 0.0005
_ROUNDS, _ALL_AGAIN = 9, 4
# How much stiffness counts against what must be pushed, and how much any change does.
_STIFF, _STILL = 0.1, 2e-3
# A push straight outward is as good as any other if it gets at least so far, of its length.
_HELPS = 0.5
# Nothing is pushed out by more than this, in heights: it would be another garment. In motion by less: skin that folds
# into itself cannot be cleared.
_FURTHEST, _FURTHEST_MOVING, _ENOUGH = 0.06, 0.015, 1.2


@dataclass(frozen=True, eq=False)
class Moment:
    """A pose: the body's skin in it, and where it takes cloth whose vertices ``(n, 3)`` lie so at rest, with the linear
    part ``(n, 3, 3)`` at each."""

    skin: Surface
    carry: Callable[[Floats], tuple[Floats, Floats]]


def settled(
    vertices: Floats, triangles: Integers, skin: Surface, moments: Sequence[Moment], spacing_m: float
) -> Floats:
    """Vertices ``(n, 3)`` of cloth pushed out of the skin at rest, and in every moment."""
    smoother = Smoother(vertices, triangles)
    height = float(np.ptp(skin.vertices[:, 1]))
    cloth = Cloth.of(vertices, triangles, skin, spacing_m)
    now = vertices
    every = [(moment, cloth.under.moved(moment.skin.vertices)) for moment in moments]
    left = every
    # How each place shall be pushed, by a vector at rest: more with every round that finds it short.
    at_rest, moving = (_Push(len(cloth.owner), most * height) for most in (_FURTHEST, _FURTHEST_MOVING))
    outward = cloth.cover.normal
    first = np.zeros(0)
    for number in range(_ROUNDS):
        here = Cloth.of(now, triangles, skin, spacing_m, like=cloth)
        above = here.cover.height_m
        short = np.maximum(np.where(np.isfinite(above), _OFF_M - above, 0.0), 0.0)
        need = short[:, None] * _way(outward, here.cover.normal)
        if number % _ALL_AGAIN == 0:
            left = every
        cutting, more, most = [], np.zeros((len(need), 3)), np.zeros(len(need))
        deepest = np.nan_to_num(np.maximum(-above, 0.0))
        for moment, under in left:
            carried, linear = moment.carry(now)
            depth, low, found = cloth.depths(carried, moment.skin, under)
            deep = depth[low]
            deepest = np.maximum(deepest, depth)
            if deep.max(initial=0.0) > _OFF_MOVING_M:
                cutting.append((moment, under))
            # Of all moments, that counts for a place in which it is deepest.
            worse = np.flatnonzero(deep > most[low])
            own = low[worse]
            most[own] = deep[worse]
            blend = np.einsum("sk,skij->sij", cloth.shares[own], linear[triangles[cloth.owner[own]]])
            way = _way(outward[own], np.einsum("sij,si->sj", blend, found.normal[worse]))
            more[own] = (deep[worse] + _OFF_MOVING_M)[:, None] * way
        if not cutting and not (short > 0.1 * _OFF_M).any():
            break
        left = cutting
        first = deepest if number == 0 else first
        at_rest.add(need)
        moving.add(more)
        pushed = _both(at_rest.total, moving.total)
        # When all moments were looked at for the last time: what is deeper for all the pushing stays where it was.
        held = (deepest > first + _OFF_MOVING_M) & (number == _ROUNDS - 1)
        pushed[held] = 0.0
        rows = np.flatnonzero(pushed.any(axis=1) | held)
        now = vertices + smoother.least_change(_rows(cloth, rows, len(now)), pushed[rows], _STIFF, _STILL)
    return now


class _Push:
    """How each place is pushed in all ``(n, 3)``, ``most`` metres at most."""

    def __init__(self, places: int, most: float) -> None:
        self.total, self._first, self._most = np.zeros((places, 3)), np.zeros(places), most

    def add(self, need: Floats) -> None:
        """As much again as is still needed; but what enough did not clear, more does not either: it folds elsewhere."""
        self._first = np.where(self._first > 0.0, self._first, np.linalg.norm(need, axis=1))
        total = self.total + need
        most = np.minimum(_ENOUGH * self._first + _OFF_M, self._most)
        self.total = total * np.minimum(1.0, most / np.maximum(np.linalg.norm(total, axis=1), 1e-12))[:, None]


def _way(outward: Floats, wanted: Floats) -> Floats:
    """The push ``(n, 3)`` that gets a place one metre further along ``wanted``, where a push of one metre along a unit
    vector gets it as far as their product says.

    It goes straight out of what is covered wherever that helps: half as much as could be, or more. Else, as where skin
    folds, it is the shortest.
    """
    along = np.einsum("ni,ni->n", wanted, outward)
    straight = outward / np.maximum(along, _HELPS)[:, None]
    shortest = wanted / np.maximum(np.einsum("ni,ni->n", wanted, wanted), _HELPS**2)[:, None]
    return np.where((along > _HELPS)[:, None], straight, shortest)


def _both(rest: Floats, moving: Floats) -> Floats:
    """One push for two wants: what motion wants, and of what is wanted at rest that which it does not do."""
    size = np.linalg.norm(rest, axis=1, keepdims=True)
    way = rest / np.maximum(size, 1e-12)
    done = np.einsum("ni,ni->n", moving, way)[:, None]
    return np.asarray(moving + np.maximum(size - np.maximum(done, 0.0), 0.0) * way)


def _rows(cloth: Cloth, wanted: Integers, count: int) -> Any:
    """Each of the wanted places as shares of the vertices: ``(m, count)``, sparse."""
    from scipy.sparse import coo_matrix

    columns = cloth.triangles[cloth.owner[wanted]]
    rows = np.repeat(np.arange(len(wanted)), 3)
    return coo_matrix((cloth.shares[wanted].ravel(), (rows, columns.ravel())), shape=(len(wanted), count)).tocsr()
