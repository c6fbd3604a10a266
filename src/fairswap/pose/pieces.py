"""Limbs whose bone is cut in pieces: what lies between one joint and the next."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fairswap.bones.roles import next_roles
from fairswap.model.arrays import Floats
from fairswap.pose.rigged import RiggedFigure

# Pieces lie in line up to this angle's cosine.
_IN_LINE = np.cos(np.radians(3.0))


@dataclass(frozen=True)
class CutLimb:
    """The bone with the joint, ``holder``, the pieces after it, ``between``, and the bone of the next joint."""

    holder: int
    between: tuple[int, ...]
    following: int

    def shares(self, places: Floats) -> Floats:
        """How far along the limb each of its pieces begins, 0..1, in a pose by its ``places`` ``(bones, 3)``; nothing
        if they do not lie in line there."""
        way = places[self.following] - places[self.holder]
        steps = np.diff(places[[self.holder, *self.between, self.following]], axis=0)
        lengths = np.linalg.norm(steps, axis=1)
        if lengths.min() <= 1e-6 or (steps @ way < _IN_LINE * lengths * np.linalg.norm(way)).any():
            return np.empty(0)
        return np.asarray(np.cumsum(lengths)[:-1] / lengths.sum())


def cut_limbs(rigged: RiggedFigure) -> list[CutLimb]:
    """All limbs, and other bones with a role, whose next joint hangs on further pieces, in line or not."""
    skeleton, bones, found = rigged.skeleton, rigged.roles.bones, []
    for role, holder in bones.items():
        following = next((bones[name] for name in next_roles(role) if name in bones), -1)
        between: list[int] = []
        bone = int(skeleton.parents[following]) if following >= 0 else -1
        while bone >= 0 and bone != holder and bone not in rigged.role_of_bone:
            between.insert(0, bone)
            bone = int(skeleton.parents[bone])
        if bone == holder and between:
            found.append(CutLimb(holder, tuple(between), following))
    return found
