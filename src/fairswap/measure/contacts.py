"""When feet stand: heel and ball of each foot, found from height and speed, on a floor that need not be level or at
zero.

A contact begins when a point is low and slow, and lasts while it is not too high or too fast (hysteresis). Positions
are smoothed first, so that noise of a millimetre is not speed. All thresholds are in leg lengths.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from fairswap.bones.roles import SIDES
from fairswap.measure.soles import Sole, soles_of
from fairswap.model.arrays import Floats
from fairswap.model.chain_world import ChainWorld
from fairswap.model.clip import Clip
from fairswap.model.rotation import rotate
from fairswap.model.signals import runs_of, smoothed, with_hysteresis, without_short
from fairswap.pose.rigged import RiggedFigure

# Leg lengths, and leg lengths per second.
_BEGINS_HEIGHT, _LASTS_HEIGHT = 0.035, 0.045
_BEGINS_SPEED, _LASTS_SPEED = 0.11, 0.18
_NOISE_SPEED = 0.05
_SMOOTH_S, _SMOOTHEST_S, _SHORTEST_S = 0.035, 0.09, 0.07
# A floor nearer to level and to its place than this is taken to be so.
_LEVEL_DEGREES, _PLACE, _FAR = 0.5, 0.025, 0.35


@dataclass(frozen=True)
class Floor:
    """A plane ``height = at + slope_x * x + slope_z * z`` in metres."""

    at: float
    slope_x: float = 0.0
    slope_z: float = 0.0

    def height(self, positions: Floats) -> Floats:
        """The floor's height ``(...)`` below (or above) positions ``(..., 3)``."""
        return np.asarray(self.at + self.slope_x * positions[..., 0] + self.slope_z * positions[..., 2])

    @property
    def tilt_degrees(self) -> float:
        return float(np.degrees(np.arctan(np.hypot(self.slope_x, self.slope_z))))


@dataclass(frozen=True, eq=False)
class FootTracks:
    """The world positions ``(frames, 3)`` of heel and ball of one foot."""

    heel: Floats
    ball: Floats


@dataclass(frozen=True, eq=False)
class Contacts:
    """Whether heel and ball of each foot stand ``(frames,)``, by side; the floor they stand on; and how much the feet
    shake from frame to frame, metres."""

    heel: Mapping[str, np.ndarray]
    ball: Mapping[str, np.ndarray]
    floor: Floor
    noise_m: float = 0.0

    def standing(self, side: str) -> np.ndarray:
        """Whether any part of a foot stands, ``(frames,)``."""
        return np.asarray(self.heel[side] | self.ball[side])

    def count(self) -> int:
        """How many times a foot is put down."""
        return sum(len(runs_of(self.standing(side))) for side in SIDES)


def foot_tracks(sole: Sole, rotations: Floats, positions: Floats) -> FootTracks:
    """Heel and ball from the foot's world rotations ``(frames, 4)`` and positions ``(frames, 3)``."""
    return FootTracks(rotate(rotations, sole.heel) + positions, rotate(rotations, sole.ball) + positions)


def contacts_of(rigged: RiggedFigure, clip: Clip) -> Contacts:
    """When the feet of a figure stand in a clip of it."""
    return contacts_in(rigged, ChainWorld(clip.poses), float(clip.rate))


def contacts_in(rigged: RiggedFigure, chain: ChainWorld, rate: float) -> Contacts:
    """When the feet of a figure stand in poses of it, at ``rate`` frames per second."""
    feet = {
        side: foot_tracks(sole, chain.rotation(sole.foot), chain.position(sole.foot))
        for side, sole in soles_of(rigged).items()
    }
    return find_contacts(feet, rate, rigged.reference.leg_m, rigged.floor_m)


def find_contacts(feet: Mapping[str, FootTracks], rate: float, leg_m: float, floor_m: float) -> Contacts:
    """The contacts of both feet.

    Parameters
    ----------
    floor_m : float
        Where the floor should be: the soles' height when the figure rests. Where the feet stand elsewhere for most of
        the clip, or on a slope, the floor found is taken.
    """
    frames = len(next(iter(feet.values())).heel)
    raw = [
        (side, part, track) for side, foot in feet.items() for part, track in (("heel", foot.heel), ("ball", foot.ball))
    ]
    noise = float(np.median([noise_of(track) for _, _, track in raw]))
    # Smoothed until what noise is left is a speed nobody takes for a step; what is left then is allowed for. For white
    # noise s, a Gaussian of w frames leaves 0.376 s w^-1.5 of speed per frame and 0.531 s w^-0.5 of place.
    width = np.clip(
        (0.376 * noise * rate / (_NOISE_SPEED * leg_m)) ** (2.0 / 3.0), _SMOOTH_S * rate, _SMOOTHEST_S * rate
    )
    left_speed = 2.5 * 0.376 * noise * rate / max(width, 0.3) ** 1.5 / leg_m
    left_height = 1.5 * 0.531 * noise / max(width, 0.3) ** 0.5 / leg_m
    tracks, speeds = {}, {}
    for side, part, track in raw:
        even = smoothed(track, float(width))
        tracks[side, part] = even
        moved = np.gradient(even, axis=0) * rate if frames > 1 else np.zeros_like(even)
        speeds[side, part] = np.linalg.norm(moved, axis=1)
    floor = _floor(tracks, speeds, (_BEGINS_SPEED + left_speed) * leg_m, leg_m, floor_m)
    shortest = max(round(_SHORTEST_S * rate), 1)
    found: dict[str, dict[str, np.ndarray]] = {"heel": {}, "ball": {}}
    for (side, part), track in tracks.items():
        height = (track[:, 1] - floor.height(track)) / leg_m - left_height
        speed = speeds[side, part] / leg_m - left_speed
        sure = (height < _BEGINS_HEIGHT) & (speed < _BEGINS_SPEED)
        still = (height < _LASTS_HEIGHT) & (speed < _LASTS_SPEED)
        found[part][side] = without_short(with_hysteresis(sure, still), shortest)
    return Contacts(found["heel"], found["ball"], floor, noise)


def noise_of(track: Floats) -> float:
    """The standard deviation of white noise in a track, metres: by third differences, in which motion hardly shows."""
    if len(track) < 8:
        return 0.0
    return float(np.median(np.abs(np.diff(track, 3, axis=0)))) / (0.6745 * np.sqrt(20.0))


def _floor(
    tracks: Mapping[tuple[str, str], Floats],
    speeds: Mapping[tuple[str, str], Floats],
    slow_m_s: float,
    leg_m: float,
    floor_m: float,
) -> Floor:
    """The plane under the points that hardly move: a fit that what is above it does not pull up."""
    slow = [track[speeds[key] < slow_m_s] for key, track in tracks.items()]
    points = np.concatenate(slow)
    if len(points) < 8:
        return Floor(floor_m)
    low = np.percentile(points[:, 1] - floor_m, 20) + floor_m
    plane = np.array([low, 0.0, 0.0])
    design = np.column_stack([np.ones(len(points)), points[:, 0], points[:, 2]])
    for reach in (0.25, 0.12, 0.06, 0.03, 0.03):
        above = points[:, 1] - design @ plane
        near = np.abs(above) < reach * leg_m
        if near.sum() < 8:
            break
        rows, heights = design[near], points[near, 1]
        middle = rows.mean(axis=0)
        centred = rows[:, 1:] - middle[1:]
        # A slope is only believed over a way: on one spot feet say little about it.
        stiff = len(rows) * (0.15 * leg_m) ** 2 * np.eye(2)
        slope = np.linalg.solve(centred.T @ centred + stiff, centred.T @ (heights - heights.mean()))
        plane = np.array([heights.mean() - slope @ middle[1:], *slope])
    floor = Floor(*map(float, plane))
    if abs(float(floor.height(points.mean(axis=0))) - floor_m) > _FAR * leg_m:
        return Floor(floor_m)  # feet that rest high up (a handstand, a chair) are on no floor
    lying = points[np.abs(points[:, 1] - design @ plane) < 0.03 * leg_m]
    # A slope must explain much that a level floor does not: feet that hover here and there are none.
    off_level = float(np.std(lying[:, 1])) if len(lying) else 0.0
    off_slope = float(np.std(lying[:, 1] - floor.height(lying))) if len(lying) else 0.0
    if floor.tilt_degrees > _LEVEL_DEGREES and off_level > max(2.0 * off_slope, 0.01 * leg_m):
        return floor
    at = float(np.median(lying[:, 1])) if len(lying) else low
    return Floor(floor_m if abs(at - floor_m) < _PLACE * leg_m else at)
