"""Soles: a few points under each foot that tell how it stands, slides and sinks."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fairswap.body.subject import Subject
from fairswap.bones.roles import SIDES
from fairswap.figure import Figure
from fairswap.kernels import Floats, Integers
from fairswap.rotation import conjugate, rotate
from fairswap.skeleton import WorldTransforms

# A foot stands while its lowest point is this near to the floor and this slow, per metre of leg.
_STANDING_HEIGHT, _STANDING_SPEED = 0.045, 0.35
_DIRECTIONS = np.stack([np.cos(np.arange(8) * np.pi / 4), np.zeros(8), np.sin(np.arange(8) * np.pi / 4)], axis=1)


@dataclass(frozen=True, eq=False)
class Sole:
    """Points under one foot: the bone each hangs on, and where in that bone's frame ``(points, 3)``."""

    bones: Integers
    places: Floats

    def track(self, world: WorldTransforms) -> Floats:
        """World positions ``(points, frames, 3)``."""
        return np.stack(
            [
                rotate(world.rotation_tracks[bone].T, place) + world.position_tracks[bone].T
                for bone, place in zip(self.bones.tolist(), self.places, strict=True)
            ]
        )


def soles_of(subject: Subject) -> dict[str, Sole]:
    """The soles ``left`` and ``right``: from the lowest vertices of the feet, without meshes from the joints."""
    figure, roles = subject.figure, subject.roles
    found = {}
    for side in SIDES:
        feet = [roles.bones[role] for role in (f"foot_{side}", f"toes_{side}") if role in roles.bones]
        bones, points = _low_vertices(figure, feet) if figure.meshes else (np.empty(0, dtype=np.intp), np.empty((0, 3)))
        if not len(points):
            bones, points = _under_joints(figure, feet)
        rest = figure.skeleton.rest
        local = rotate(conjugate(rest.rotations[0, bones]), points - rest.positions[0, bones])
        found[side] = Sole(bones, local)
    return found


def standing(height_m: Floats, speed_m_s: Floats, leg_m: float) -> np.ndarray:
    """Whether a foot stands, by the height of its lowest point above the floor and the speed of that point."""
    return (height_m < _STANDING_HEIGHT * leg_m) & (speed_m_s < _STANDING_SPEED * leg_m)


def lowest_and_speed(tracks: Floats, rate: float) -> tuple[Floats, Floats]:
    """Per frame the height of the lowest point (metres) and its speed over the floor (metres per second)."""
    frames = tracks.shape[1]
    index = np.argmin(tracks[:, :, 1], axis=0)
    lowest = tracks[index, np.arange(frames), 1]
    if frames < 2:
        return lowest, np.zeros(frames)
    velocity = np.gradient(tracks[:, :, [0, 2]], axis=1) * rate
    return lowest, np.linalg.norm(velocity[index, np.arange(frames)], axis=-1)


def _low_vertices(figure: Figure, feet: list[int]) -> tuple[Integers, Floats]:
    """The outermost of the lowest vertices, for each bone of the foot."""
    of_foot = np.zeros(len(figure.skeleton), dtype=bool)
    of_foot[feet] = True
    owners, places = [], []
    for mesh, vertices in zip(figure.meshes, figure.rest_vertices, strict=True):
        owner = mesh.joints[np.arange(len(mesh.joints)), np.argmax(mesh.weights, axis=1)]
        mine = of_foot[owner]
        if mine.any():
            owners.append(owner[mine])
            places.append(vertices[mine])
    if not owners:
        return np.empty(0, dtype=np.intp), np.empty((0, 3))
    owner, place = np.concatenate(owners), np.concatenate(places)
    low = place[:, 1] < place[:, 1].min() + 0.008 * figure.height_m
    owner, place = owner[low], place[low]
    chosen: list[int] = []
    for foot in feet:
        mine = np.flatnonzero(owner == foot)
        if len(mine):
            chosen += sorted(set(mine[np.argmax(place[mine] @ _DIRECTIONS.T, axis=0)].tolist()))
    return owner[chosen], place[chosen]


def _under_joints(figure: Figure, feet: list[int]) -> tuple[Integers, Floats]:
    """The points on the floor below the ankle, the ball and the tip of the toes."""
    skeleton = figure.skeleton
    tips = [child for foot in feet for child in skeleton.children[foot] if child not in feet]
    owner = np.array(feet + [int(skeleton.parents[tip]) for tip in tips], dtype=np.intp)
    place = skeleton.rest.positions[0, feet + tips].copy()
    place[:, 1] = figure.floor_m
    return owner, place
