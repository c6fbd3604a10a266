"""Second copies of a skeleton, as come with clothes: paired bone by bone by place and name."""

from __future__ import annotations

import numpy as np

from fairswap.bones.words import meaning_of
from fairswap.model.figure import Figure

_NEAR = 0.005  # of the figure's size
_MOSTLY = 0.7


def copies_of(figure: Figure, other: Figure) -> dict[int, int]:
    """The bones of ``other`` that stand where bones of ``figure`` stand and are called alike; empty if it is no copy.

    Names may differ by numbers. A skeleton is a copy if most of its bones have such a partner.
    """
    places, others = figure.skeleton.rest.positions[0], other.skeleton.rest.positions[0]
    size = float(np.ptp(places, axis=0).max()) or 1.0
    found: dict[int, int] = {}
    for bone, place in enumerate(others):
        distance = np.linalg.norm(places - place, axis=1)
        near = np.flatnonzero(distance < _NEAR * size)
        alike = [n for n in near.tolist() if _words(figure, n) == _words(other, bone)]
        if alike:
            found[bone] = min(alike, key=lambda n: float(distance[n]))
    return found if len(found) >= _MOSTLY * len(other.skeleton) else {}


def _words(figure: Figure, bone: int) -> list[str]:
    return [word for word in meaning_of(figure.skeleton.names[bone]).words if not word.isdigit()]
