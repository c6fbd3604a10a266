"""Soles: points under each foot that tell how it stands, slides and sinks; found once, in the T."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from fairswap.bones.roles import SIDES
from fairswap.model.arrays import Floats, Integers
from fairswap.model.caching import kept_with_its_argument
from fairswap.model.chain_world import ChainWorld
from fairswap.model.mesh import Mesh, deformed_vertices
from fairswap.model.rotation import angle_between, conjugate, multiply, rotate
from fairswap.model.skeleton import WorldTransforms
from fairswap.model.space import UP
from fairswap.model.stand_ins import carrier_of
from fairswap.pose.rigged import RiggedFigure

_DIRECTIONS = np.stack([np.cos(np.arange(8) * np.pi / 4), np.zeros(8), np.sin(np.arange(8) * np.pi / 4)], axis=1)
# The rear and the front of a sole, as shares of its length, whose middles are heel and tip.
_END_SHARE = 0.12
# Toes are as low as the foot that are higher by less than this share of how high their joint is.
_AS_LOW = 0.25
# A foot whose sole begins further ahead of its ankle than this share of how far it goes has no heel.
_NO_HEEL = 0.1
# One whose ankle is higher than this share of it stands on its toes.
_ON_ITS_TOES = 0.7
# Points touch the floor that are no higher over the lowest than this share of the sole's length.
_TOUCHES = 0.03
# Up to what tilt a foot stands on its sole: one who kneels or lies rests it on its back or side.
ON_ITS_SOLE_DEGREES = 45.0


@dataclass(frozen=True, eq=False)
class Sole:
    """Points under one foot, as places in the frames of its bones.

    Attributes
    ----------
    bones, places : (points,) integers and (points, 3) array
        The bone each point hangs on, and where in that bone's frame, metres.
    heel, ball : (3,) arrays
        Where the foot rolls off, in the frame of the foot bone; of feet without toes the ball is at the tip.
    ball_height_m : float
        How high the ball is over what bears it: a foot rolls about the joint of its toes, where these are seen to lie
        on the floor meanwhile; a boot, whose own sole is lower, about a point of that, which is 0 high.
    foot, toes : int
        The bones; ``toes`` is -1 where there are none.
    """

    bones: Integers
    places: Floats
    heel: Floats
    ball: Floats
    ball_height_m: float
    foot: int
    toes: int

    def rolls_off(self, rotation: Floats) -> dict[str, Floats]:
        """From the ankle to where heel and ball are on the floor ``(frames, 3)``, of a foot turned to ``rotation``."""
        return {"heel": rotate(rotation, self.heel), "ball": rotate(rotation, self.ball) - self.ball_height_m * UP}

    def track(self, world: WorldTransforms) -> Floats:
        """World positions ``(points, frames, 3)``."""
        return self._track(lambda bone: world.rotation_tracks[bone].T, lambda bone: world.position_tracks[bone].T)

    def track_in(self, chain: ChainWorld) -> Floats:
        """As :meth:`track`, of a motion that is worked on."""
        return self._track(chain.rotation, chain.position)

    def _track(self, rotation: Callable[[int], Floats], position: Callable[[int], Floats]) -> Floats:
        rows = zip(self.bones.tolist(), self.places, strict=True)
        return np.stack([rotate(rotation(bone), place) + position(bone) for bone, place in rows])


def tilt_degrees(rigged: RiggedFigure, foot: int, rotation: Floats) -> Floats:
    """How far a foot that has turned to ``rotation`` ``(frames, 4)`` is from lying on its sole, ``(frames,)``."""
    up = rotate(multiply(rotation, conjugate(rigged.reference.rotations[foot])), UP)
    return np.asarray(np.degrees(angle_between(up, np.broadcast_to(UP, up.shape))))


@kept_with_its_argument
def soles_of(rigged: RiggedFigure) -> dict[str, Sole]:
    """The soles ``left`` and ``right``: from the lowest vertices of the feet, without meshes from the joints."""
    return _soles(rigged, [(mesh, deformed_vertices(mesh, rigged.reference_world, 0)) for mesh in rigged.figure.meshes])


@kept_with_its_argument
def bare_soles_of(rigged: RiggedFigure) -> dict[str, Sole]:
    """The soles from the joints alone, whether there is a mesh or not."""
    return _soles(rigged, [])


def _soles(rigged: RiggedFigure, shown: list[tuple[Mesh, Floats]]) -> dict[str, Sole]:
    roles, world = rigged.roles, rigged.reference_world
    rotations, positions = world.rotations[0], world.positions[0]
    found = {}
    for side in SIDES:
        feet = [roles.bones[role] for role in (f"foot_{side}", f"toes_{side}") if role in roles.bones]
        bones, points = _low_vertices(rigged, shown, [carrier_of(rigged.figure, foot) for foot in feet])
        seen = len(points) > 0
        if not seen:
            bones, points = _under_joints(rigged, feet)
        foot, toes = feet[0], feet[1] if len(feet) > 1 else -1
        if seen:
            bones, points = _with_a_heel(rigged, foot, bones, points)
        along = points[:, 2]
        length = max(float(np.ptp(along)), 1e-6)
        heel = points[along <= along.min() + _END_SHARE * length].mean(axis=0)
        ball = points[along >= along.max() - _END_SHARE * length].mean(axis=0)
        height = 0.0
        if toes >= 0:
            ball, height = positions[toes], float(positions[toes, 1] - points[:, 1].min())
            if not (seen and _toes_bear(points[:, 1], bones == carrier_of(rigged.figure, toes), height)):
                ball, height = ball - height * UP, 0.0
        undo = conjugate(rotations[foot])
        found[side] = Sole(
            bones,
            rotate(conjugate(rotations[bones]), points - positions[bones]),
            rotate(undo, heel - positions[foot]),
            rotate(undo, ball - positions[foot]),
            height,
            foot,
            toes,
        )
    return found


def _with_a_heel(rigged: RiggedFigure, foot: int, bones: Integers, points: Floats) -> tuple[Integers, Floats]:
    """The points of a sole, and one below the ankle where it only begins ahead of that: a foot rolls over a heel.

    What walks on its toes, the ankle high above them, has none.
    """
    ankle, floor_m = rigged.reference_world.positions[0, foot], points[:, 1].min()
    reach = points[:, 2].max() - ankle[2]
    if points[:, 2].min() - ankle[2] < _NO_HEEL * reach or ankle[1] - floor_m > _ON_ITS_TOES * reach:
        return bones, points
    heel = np.array([ankle[0], floor_m, ankle[2]])
    return np.append(bones, foot), np.vstack([points, heel])


def _toes_bear(heights: Floats, of_toes: np.ndarray, joint_height: float) -> bool:
    """Whether toes are as low as the rest of the sole, of points ``(points,)``, or nearly so."""
    if not of_toes.any() or of_toes.all():
        return bool(of_toes.any())
    return bool(heights[of_toes].min() <= heights[~of_toes].min() + _AS_LOW * joint_height)


def lowest_and_speed(tracks: Floats, rate: float, belt_m_s: Floats | None = None) -> tuple[Floats, Floats]:
    """Per frame the height of the lowest point (metres) and how fast the sole goes over the floor (metres per second).

    It goes as fast as the slowest of the points that touch: of a foot that rolls or turns one rests, others do not.
    ``belt_m_s`` ``(3,)`` is how fast the floor runs itself, under a figure that walks on the spot.
    """
    frames = tracks.shape[1]
    lowest = tracks[:, :, 1].min(axis=0)
    if frames < 2:
        return lowest, np.zeros(frames)
    velocity = np.gradient(tracks[:, :, [0, 2]], axis=1) * rate
    if belt_m_s is not None:
        velocity = velocity - belt_m_s[[0, 2]]
    length = float(np.linalg.norm(np.ptp(tracks[:, 0], axis=0)))
    touching = tracks[:, :, 1] <= lowest + _TOUCHES * length
    return lowest, np.min(np.linalg.norm(velocity, axis=-1), axis=0, where=touching, initial=np.inf)


def _low_vertices(rigged: RiggedFigure, shown: list[tuple[Mesh, Floats]], feet: list[int]) -> tuple[Integers, Floats]:
    """The outermost of the lowest vertices, for each bone of the foot."""
    figure = rigged.figure
    of_foot = np.zeros(len(figure.skeleton), dtype=bool)
    of_foot[feet] = True
    owners, places = [], []
    for mesh, vertices in shown:
        owner = mesh.main_bones
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


def _under_joints(rigged: RiggedFigure, feet: list[int]) -> tuple[Integers, Floats]:
    """The points on the floor below the ankle and the ball, which are the foot's, and below the tip of the toes."""
    skeleton = rigged.skeleton
    tips = [child for foot in feet for child in skeleton.children[foot] if child not in feet]
    owner = np.array([feet[0]] * len(feet) + [int(skeleton.parents[tip]) for tip in tips], dtype=np.intp)
    place = rigged.reference_world.positions[0, feet + tips].copy()
    place[:, 1] = rigged.floor_m
    return owner, place
