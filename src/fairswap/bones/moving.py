"""What a clip says about bones: which move, which turn like a hinge, and which way knees bend."""

from __future__ import annotations

import numpy as np

from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.rotation import conjugate, multiply, rotate, rotation_vector
from fairswap.model.signals import frames_across
from fairswap.model.skeleton import WorldTransforms

_FRAMES = 60
_MOVES_DEGREES = 3.0


class Motion:
    """A few frames of a clip, and what they tell of each bone.

    ``moves`` ``(bones,)`` says whether a bone turns at all; ``hinge`` ``(bones,)`` is the share of its turning that is
    about one axis (1 a perfect hinge, a third no axis at all).
    """

    def __init__(self, clip: Clip) -> None:
        poses = clip.poses.at(frames_across(clip.frames, _FRAMES))
        self.world: WorldTransforms = poses.world()
        self.rest = clip.skeleton.rest
        turns = rotation_vector(multiply(poses.rotations, conjugate(poses.rotations[:1])))
        spread = turns - turns.mean(axis=0)
        covariance = np.einsum("fbi,fbj->bij", spread, spread)
        strength = np.linalg.eigvalsh(covariance)
        total = strength.sum(axis=1)
        self.moves = np.degrees(np.linalg.norm(turns, axis=2).max(axis=0)) > _MOVES_DEGREES
        self.hinge = np.where(self.moves, strength[:, 2] / np.where(total > 0, total, 1.0), 1.0 / 3.0)

    def knees_ahead(self, hips: int, legs: list[tuple[int, int, int]]) -> Floats:
        """The way the knees stand out from the line of hip and ankle, seen from the resting hips; longer for more bend.

        ``legs`` are (thigh, shin, foot); the length is in shares of the leg, mean over both legs and all frames.
        """
        turned = multiply(self.world.rotations[:, hips], conjugate(self.rest.rotations[0, hips]))
        directions = []
        for thigh, shin, foot in legs:
            top, knee, ankle = (self.world.positions[:, bone] for bone in (thigh, shin, foot))
            line = ankle - top
            fraction = np.einsum("fi,fi->f", knee - top, line) / np.maximum(np.einsum("fi,fi->f", line, line), 1e-12)
            out = knee - top - fraction[:, None] * line
            directions.append(rotate(conjugate(turned), out) / np.maximum(np.linalg.norm(line, axis=1), 1e-12)[:, None])
        return np.asarray(np.mean(directions, axis=(0, 1)))
