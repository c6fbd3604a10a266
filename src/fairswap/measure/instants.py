"""The instants of clips that show all their poses: few, however long the clips are and however many."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.rotation import conjugate, rotate

# Looked for among so many frames, evenly; two poses are one where no joint is further apart than this, in heights.
_FRAMES = 6000
_APART = 0.05
_MOST = 120


@dataclass(frozen=True, eq=False)
class Instants:
    """Instants of a clip ``times_s`` ``(n,)``, and the share of the clip ``(n,)`` that looks as each of them does."""

    times_s: Floats
    shares: Floats


def telling_instants(clips: Sequence[Clip], hips: int, height_m: float) -> list[Instants]:
    """The instants of each clip that show all poses of all of them; none where another clip shows all of one.

    Each next one is that in which some joint, seen from the hips, is furthest from where it is in all those taken so
    far (Gonzalez 1985, *Clustering to minimize the maximum intercluster distance*), until all others look as one of
    them does.
    """
    # Frames as they are: between two of them a turn is never at its furthest.
    step = -(-sum(clip.frames for clip in clips) // _FRAMES)
    times = [np.arange(0, clip.frames, step) / float(clip.rate) for clip in clips]
    joints = np.concatenate([_from_hips(clip, at, hips) for clip, at in zip(clips, times, strict=True)])
    taken, apart = [0], _apart(joints, joints[0])
    while len(taken) < _MOST and apart.max() > _APART * height_m:
        taken.append(int(np.argmax(apart)))
        apart = np.minimum(apart, _apart(joints, joints[taken[-1]]))
    found, start = [], 0
    for at in times:
        own = np.array(sorted(row - start for row in taken if start <= row < start + len(at)), dtype=np.intp)
        here = joints[start : start + len(at)]
        nearest = np.argmin([_apart(here, here[row]) for row in own], axis=0) if len(own) else own
        found.append(Instants(at[own], np.bincount(nearest, minlength=len(own)) / len(at)))
        start += len(at)
    return found


def _from_hips(clip: Clip, times_s: Floats, hips: int) -> Floats:
    """Where the joints are, seen from the hips ``(n, bones, 3)``."""
    world = clip.at(times_s).world()
    about = world.positions - world.positions[:, [hips]]
    return rotate(conjugate(world.rotations[:, [hips]]), about)


def _apart(joints: Floats, pose: Floats) -> Floats:
    """How far the joint that is furthest off is from where it is in a pose ``(bones, 3)``, in each of many, metres."""
    return np.asarray(np.sqrt(((joints - pose) ** 2).sum(axis=2).max(axis=1)))
