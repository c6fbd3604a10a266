"""A limb of two bones brought to where its end should be, for all frames at once, by the law of cosines.

The limb keeps its plane: the elbow or knee stays on the side it was on.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fairswap.kernels import Floats
from fairswap.rotation import multiply, normalized, quaternion_between, quaternion_from_axis_angle, rotate
from fairswap.skeleton import Skeleton

# A limb is never stretched quite straight: there the knee snaps.
LONGEST = 0.9985
# How much a limb that is nearly straight trusts its hinge instead of the plane it hardly shows.
_HINGE_TRUST = 0.03


@dataclass(frozen=True, eq=False)
class Limb:
    """World places ``(frames, 3)`` of the joints of a limb, and world rotations ``(frames, 4)`` of its two bones."""

    root: Floats
    middle: Floats
    end: Floats
    upper: Floats
    lower: Floats

    @property
    def length(self) -> float:
        """Both bones, stretched, in metres."""
        return float(sum(self.lengths))

    @property
    def lengths(self) -> tuple[float, float]:
        """Of the two bones, metres."""
        first = np.linalg.norm(self.middle[0] - self.root[0])
        return float(first), float(np.linalg.norm(self.end[0] - self.middle[0]))


def solve_limb(limb: Limb, root: Floats, end: Floats, hinge: Floats) -> tuple[Floats, Floats, Floats]:
    """New world rotations of both bones, and where the end gets to.

    Parameters
    ----------
    root, end : (frames, 3) arrays
        Where the limb begins now, and where its end should be; what is out of reach is approached.
    hinge : (frames, 3) array
        The axis the joint bends about by its anatomy, for frames in which the limb is straight.
    """
    first, second = limb.lengths
    old, _ = _unit(limb.end - limb.root)
    new, wanted = _unit(end - root)
    length = np.clip(wanted, abs(first - second) + 1e-6, (first + second) * LONGEST)
    align = quaternion_between(old, new)
    normal = np.cross(limb.middle - limb.root, limb.end - limb.root) / (first * (first + second))
    normal = normal + _HINGE_TRUST * hinge
    normal = normal - np.einsum("fi,fi->f", normal, old)[:, None] * old
    axis = rotate(align, normalized(normal))
    # The limb's own bend, told along the same axis, so that one slightly bent the other way comes out right, too.
    upper_old = _angle(old, limb.middle - limb.root, normalized(normal))
    lower_old = _angle(old, limb.end - limb.middle, normalized(normal))
    cosine = (first**2 + length**2 - second**2) / (2.0 * first * length)
    upper_new = -np.arccos(np.clip(cosine, -1.0, 1.0))
    cosine = (second**2 + length**2 - first**2) / (2.0 * second * length)
    lower_new = np.arccos(np.clip(cosine, -1.0, 1.0))
    upper = multiply(multiply(quaternion_from_axis_angle(axis, upper_new - upper_old), align), limb.upper)
    lower = multiply(multiply(quaternion_from_axis_angle(axis, lower_new - lower_old), align), limb.lower)
    return upper, lower, root + new * length[:, None]


def _angle(start: Floats, end: Floats, axis: Floats) -> Floats:
    """The turn about ``axis`` from ``start`` to the part of ``end`` square to it, radians ``(frames,)``."""
    return np.arctan2(np.einsum("fi,fi->f", np.cross(start, end), axis), np.einsum("fi,fi->f", start, end))


def _unit(vectors: Floats) -> tuple[Floats, Floats]:
    length = np.linalg.norm(vectors, axis=1)
    return vectors / np.maximum(length, 1e-12)[:, None], length


class ChainWorld:
    """World transforms of a few bones and all above them, from local tracks, kept up to date as bones are turned.

    ``tracks`` ``(bones, 4, frames)`` are changed in place by :meth:`turn`; ``places`` gives the local position track
    ``(3, frames)`` or ``(3, 1)`` of a bone.
    """

    def __init__(self, skeleton: Skeleton, tracks: Floats, places: dict[int, Floats]) -> None:
        self.skeleton, self.tracks, self.places = skeleton, tracks, places
        self.rotations: dict[int, Floats] = {}
        self.positions: dict[int, Floats] = {}

    def rotation(self, bone: int) -> Floats:
        """World rotations ``(frames, 4)``."""
        if bone not in self.rotations:
            parent, local = int(self.skeleton.parents[bone]), self.tracks[bone].T
            self.rotations[bone] = local if parent < 0 else multiply(self.rotation(parent), local)
        return self.rotations[bone]

    def position(self, bone: int) -> Floats:
        """World positions ``(frames, 3)``."""
        if bone not in self.positions:
            parent = int(self.skeleton.parents[bone])
            place = self.places.get(bone)
            local = self.skeleton.rest_translations[bone] if place is None else place.T
            if parent < 0:
                frames = self.tracks.shape[2]
                self.positions[bone] = np.broadcast_to(local, (frames, 3))
            else:
                self.positions[bone] = rotate(self.rotation(parent), local) + self.position(parent)
        return self.positions[bone]

    def limb(self, upper: int, lower: int, end: int) -> Limb:
        """The limb of three bones, as it is."""
        joints = [self.position(bone) for bone in (upper, lower, end)]
        return Limb(joints[0], joints[1], joints[2], self.rotation(upper), self.rotation(lower))

    def turn(self, bone: int, world: Floats) -> None:
        """Give a bone a new world rotation ``(frames, 4)``; what hangs on it is worked out again when asked for."""
        parent = int(self.skeleton.parents[bone])
        above = None if parent < 0 else self.rotation(parent) * [-1.0, -1.0, -1.0, 1.0]
        self.tracks[bone] = (world if above is None else multiply(above, world)).T
        self.forget(bone)

    def forget(self, bone: int) -> None:
        """Drop what is known of a bone's rotation and of all below it."""
        for other in [*self.rotations, *self.positions]:
            above = other
            while above >= 0 and above != bone:
                above = int(self.skeleton.parents[above])
            if above == bone:
                self.rotations.pop(other, None)
                if other != bone:
                    self.positions.pop(other, None)

    def move(self, bone: int, place: Floats) -> None:
        """Give a bone a new local position track ``(3, frames)``."""
        self.places[bone] = place
        for other in list(self.positions):
            above = other
            while above >= 0 and above != bone:
                above = int(self.skeleton.parents[above])
            if above == bone:
                del self.positions[other]
