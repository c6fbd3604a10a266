"""World transforms of a few bones and all above them, kept up to date as bones are turned and moved."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fairswap.model.arrays import Floats
from fairswap.model.poses import EarlierPoses, PoseBuilder, Poses
from fairswap.model.rotation import multiply, rotate


@dataclass(frozen=True, eq=False)
class Limb:
    """World places ``(frames, 3)`` of the joints of a limb, and world rotations ``(frames, 4)`` of its two bones."""

    root: Floats
    middle: Floats
    end: Floats
    upper: Floats
    lower: Floats

    @property
    def length(self) -> Floats:
        """Both bones, stretched, in metres ``(frames,)``."""
        first, second = self.lengths
        return first + second

    @property
    def lengths(self) -> tuple[Floats, Floats]:
        """From joint to joint, metres ``(frames,)``: that changes where a bone between them bends."""
        return np.linalg.norm(self.middle - self.root, axis=1), np.linalg.norm(self.end - self.middle, axis=1)


class ChainWorld:
    """World transforms of a few bones and all above them, worked out when asked for.

    Of poses they are read; of a builder bones can be given new ones, by :meth:`turn` and :meth:`move`.
    """

    def __init__(self, poses: Poses | EarlierPoses | PoseBuilder) -> None:
        self.skeleton, self._poses = poses.skeleton, poses
        self.translations = poses.translation_by_bone()
        self._rotations: dict[int, Floats] = {}
        self._positions: dict[int, Floats] = {}

    @property
    def frames(self) -> int:
        """How many there are."""
        return int(self._poses.rotation_track(0).shape[1])

    def local(self, bone: int) -> Floats:
        """Local rotations ``(frames, 4)``."""
        return self._poses.rotation_track(bone).T

    def rotation(self, bone: int) -> Floats:
        """World rotations ``(frames, 4)``."""
        if bone not in self._rotations:
            parent, local = int(self.skeleton.parents[bone]), self.local(bone)
            self._rotations[bone] = local if parent < 0 else multiply(self.rotation(parent), local)
        return self._rotations[bone]

    def position(self, bone: int) -> Floats:
        """World positions ``(frames, 3)``."""
        if bone not in self._positions:
            parent = int(self.skeleton.parents[bone])
            track = self.translations.get(bone)
            local = self.skeleton.rest_translations[bone] if track is None else track.T
            if parent < 0:
                self._positions[bone] = np.broadcast_to(local, (self.frames, 3))
            else:
                self._positions[bone] = rotate(self.rotation(parent), local) + self.position(parent)
        return self._positions[bone]

    def limb(self, upper: int, lower: int, end: int) -> Limb:
        """The limb of three bones, as it is."""
        joints = [self.position(bone) for bone in (upper, lower, end)]
        return Limb(joints[0], joints[1], joints[2], self.rotation(upper), self.rotation(lower))

    def turn(self, bone: int, world: Floats) -> None:
        """Give a bone a new world rotation ``(frames, 4)``; what hangs on it is worked out again when asked for."""
        parent = int(self.skeleton.parents[bone])
        above = None if parent < 0 else self.rotation(parent) * [-1.0, -1.0, -1.0, 1.0]
        self.turn_local(bone, world if above is None else multiply(above, world))

    def turn_local(self, bone: int, local: Floats) -> None:
        """Give a bone a new local rotation ``(frames, 4)``."""
        if not isinstance(self._poses, PoseBuilder):
            raise TypeError("poses are frozen: make the chain of a builder to turn bones")
        self._poses.turn(bone, local.T)
        self.forget(bone)

    def move(self, bone: int, translation: Floats) -> None:
        """Give a bone a new local position track ``(3, frames)``."""
        self.translations[bone] = translation
        for other in self._hanging_on(bone, self._positions):
            del self._positions[other]

    def forget(self, bone: int) -> None:
        """Drop what is known of a bone's rotation and of all below it."""
        for other in self._hanging_on(bone, self._rotations):
            del self._rotations[other]
        for other in self._hanging_on(bone, self._positions):
            if other != bone:
                del self._positions[other]

    def _hanging_on(self, bone: int, known: dict[int, Floats]) -> list[int]:
        """Which of the bones that are known are ``bone`` or below it."""
        found = []
        for other in known:
            above = other
            while above > bone:  # parents come before children
                above = int(self.skeleton.parents[above])
            if above == bone:
                found.append(other)
        return found
