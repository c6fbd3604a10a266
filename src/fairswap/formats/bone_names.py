"""Names of one bone in two skeletons: with something before or after them, or numbered."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence

import numpy as np

_COUNTER = re.compile(r"[._ -]?\d+$")


def unlike_names(body: Sequence[str], other: Sequence[str], near: np.ndarray) -> np.ndarray:
    """How little names mean one bone ``(others, bodies)``: 0 if equal, but for what all names of one skeleton have
    before or after them; 1 if they are without their numbers; else infinite.

    ``near`` ``(others, bodies)`` says which pairs may tell what is before and after.
    """
    votes: Counter[tuple[str, str, bool]] = Counter()
    for row, name in enumerate(other):
        for column in np.flatnonzero(near[row]).tolist():
            for longer, shorter, ours in ((name, body[column], False), (body[column], name, True)):
                if shorter and shorter in longer:
                    before, _, after = longer.partition(shorter)
                    votes[before, after, ours] += 1
    alike = np.zeros(near.shape, dtype=bool)
    for before, after, ours in [("", "", False), *[affix for affix, _ in votes.most_common(2)]]:
        ones = np.array([name if ours else before + name + after for name in body])
        twos = np.array([before + name + after if ours else name for name in other])
        alike |= (ones[None] == twos[:, None]) & (twos[:, None] != before + after)
    bare = [np.array([_COUNTER.sub("", name) for name in names]) for names in (body, other)]
    nearly = (bare[0][None] == bare[1][:, None]) & (bare[0][None] != "")
    return np.where(alike, 0.0, np.where(nearly, 1.0, np.inf))
