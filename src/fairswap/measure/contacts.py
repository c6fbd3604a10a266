"""When feet stand: heel and ball of each foot, found from height and speed, on a floor that need not be level or at
zero.

A figure may walk on the spot, as on a belt: then the floor runs under it, and a foot stands that goes with it.

A contact begins when a point is low and slow, and lasts while it is not too high or too fast (hysteresis). Positions
are smoothed first, so that noise of a millimetre is not speed. All thresholds are in leg lengths.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from fairswap.bones.roles import SIDES
from fairswap.measure.lead_in import lead_in_frames
from fairswap.measure.soles import ON_ITS_SOLE_DEGREES, Sole, soles_of, tilt_degrees
from fairswap.model.arrays import Floats
from fairswap.model.chain_world import ChainWorld
from fairswap.model.clip import Clip
from fairswap.model.signals import runs_of, smoothed, with_hysteresis, without_short
from fairswap.pose.rigged import RiggedFigure

# Leg lengths, and leg lengths per second.
_BEGINS_HEIGHT, _LASTS_HEIGHT = 0.035, 0.045
_BEGINS_SPEED, _LASTS_SPEED = 0.11, 0.18
_NOISE_SPEED = 0.05
_SMOOTH_S, _SMOOTHEST_S, _SHORTEST_S = 0.035, 0.09, 0.07
# A belt under a figure that walks on the spot, in leg lengths per second: slower ones are none; by what share of it
# the lower foot may differ, less of one who runs, and is in the air for more of the time than one who walks; for what
# share of the time that one is down it must not; how high both feet are lifted, in leg lengths; for what share of the
# time one is down, and each of them goes with the floor; by what share of its speed the hips may go.
_BELT_SLOWEST, _BELT_SPREAD, _BELT_SHARE, _BELT_LIFT, _BELT_SHORTEST_S = 0.25, 0.35, 0.6, 0.03, 0.5
_BELT_RUN_SPREAD, _BELT_WALKS, _BELT_DOWN, _BELT_EACH, _BELT_GONE = 0.2, 0.8, 0.3, 0.1, 0.3
# By what share of its speed a foot may slip on a belt, if less than such a share of the time one stands on it.
_BELT_LOOSE, _BELT_STANDS = 0.15, 0.75
# How far feet must be apart, in leg lengths, to say much about a slope: two that rest apart may rest on a step.
_WAY = 0.3
# A floor nearer to level and to its place than this is taken to be so. Far off feet are on no floor, but where they are
# always as far below it, for that share of the time at one height.
_LEVEL_DEGREES, _PLACE, FAR_OFF, _ALWAYS = 0.5, 0.025, 0.35, 0.8


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
    """The world positions ``(frames, 3)`` of heel and ball of one foot, and when its sole is below it ``(frames,)``:
    one that lies on its back does not stand, and does not say where the floor is."""

    heel: Floats
    ball: Floats
    on_sole: np.ndarray


@dataclass(frozen=True, eq=False)
class Contacts:
    """Whether heel and ball of each foot stand ``(frames,)``, by side; the floor they stand on; how much the feet shake
    from frame to frame, metres; and how fast the floor runs under a figure that walks on the spot, ``(3,)`` metres per
    second, None under one that does not."""

    heel: Mapping[str, np.ndarray]
    ball: Mapping[str, np.ndarray]
    floor: Floor
    noise_m: float = 0.0
    belt_m_s: Floats | None = None

    def standing(self, side: str) -> np.ndarray:
        """Whether any part of a foot stands, ``(frames,)``."""
        return np.asarray(self.heel[side] | self.ball[side])

    def count(self) -> int:
        """How many times a foot is put down."""
        return sum(len(runs_of(self.standing(side))) for side in SIDES)


def foot_tracks(rigged: RiggedFigure, sole: Sole, rotations: Floats, positions: Floats) -> FootTracks:
    """Heel and ball from the foot's world rotations ``(frames, 4)`` and positions ``(frames, 3)``."""
    on_sole = tilt_degrees(rigged, sole.foot, rotations) < ON_ITS_SOLE_DEGREES
    parts = {part: arm + positions for part, arm in sole.rolls_off(rotations).items()}
    return FootTracks(parts["heel"], parts["ball"], on_sole)


def contacts_of(rigged: RiggedFigure, clip: Clip) -> Contacts:
    """When the feet of a figure stand in a clip of it; in a lead-in they do not."""
    return contacts_in(rigged, ChainWorld(clip.poses), float(clip.rate), lead_in_frames(clip))


def contacts_in(
    rigged: RiggedFigure, chain: ChainWorld, rate: float, first: int = 0, meant_m_s: Floats | None = None
) -> Contacts:
    """When the feet of a figure stand in poses of it, at ``rate`` frames per second, from the frame ``first`` on.

    ``meant_m_s`` ``(3,)`` is how fast the floor should run under one that stays on the spot, where that is not seen.
    """
    feet = {
        side: foot_tracks(rigged, sole, chain.rotation(sole.foot)[first:], chain.position(sole.foot)[first:])
        for side, sole in soles_of(rigged).items()
    }
    hips = chain.position(rigged.roles.bones["hips"])[first:]
    belt = find_belt(feet, hips, rate, rigged.reference.leg_m)
    if belt is None and meant_m_s is not None and _gone_m_s(hips, rate) < _BELT_GONE * np.linalg.norm(meant_m_s):
        belt = meant_m_s
    found = _found_on(belt, feet, rate, rigged)
    if belt is not None:  # more exactly, now that it is known when feet stand
        found = _found_on(_belt_under(feet, found, rate), feet, rate, rigged)
    if not first:
        return found
    heel, ball = ({side: np.pad(row, (first, 0)) for side, row in part.items()} for part in (found.heel, found.ball))
    return replace(found, heel=heel, ball=ball)


def _found_on(belt: Floats | None, feet: Mapping[str, FootTracks], rate: float, rigged: RiggedFigure) -> Contacts:
    """The contacts on a floor that runs, or stands. Few walk on the spot quite evenly: where feet hardly stand on a
    floor that runs, they may slip."""
    leg_m = rigged.reference.leg_m
    if belt is None:
        return find_contacts(feet, rate, leg_m, rigged.floor_m)
    way = -belt * np.arange(len(next(iter(feet.values())).heel))[:, None] / rate
    feet = {side: replace(foot, heel=foot.heel + way, ball=foot.ball + way) for side, foot in feet.items()}
    found = find_contacts(feet, rate, leg_m, rigged.floor_m)
    if np.any([found.standing(side) for side in SIDES], axis=0).mean() < _BELT_STANDS:
        slips = _BELT_LOOSE * float(np.linalg.norm(belt)) / leg_m
        found = find_contacts(feet, rate, leg_m, rigged.floor_m, slips)
    return replace(found, belt_m_s=belt)


def _belt_under(feet: Mapping[str, FootTracks], found: Contacts, rate: float) -> Floats | None:
    """How fast the floor runs, by how far standing heels and balls go in the middle of their stances."""
    ways, seconds = [], 0.0
    for side, foot in feet.items():
        for track, standing in ((foot.heel, found.heel[side]), (foot.ball, found.ball[side])):
            for start, stop in runs_of(standing):
                first, last = start + (stop - start) // 4, stop - 1 - (stop - start) // 4
                ways.append(track[last] - track[first])
                seconds += (last - first) / rate
    return np.asarray(np.sum(ways, axis=0) * [1.0, 0.0, 1.0] / seconds) if seconds > 0.0 else found.belt_m_s


def find_contacts(
    feet: Mapping[str, FootTracks], rate: float, leg_m: float, floor_m: float, loose: float = 0.0
) -> Contacts:
    """The contacts of both feet.

    Parameters
    ----------
    floor_m : float
        Where the floor should be: the soles' height when the figure rests. Where the feet stand elsewhere for most of
        the clip, or on a slope, the floor found is taken.
    loose : float
        How much faster than usual a foot may be that stands, leg lengths per second.
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
    left_speed = loose + 2.5 * 0.376 * noise * rate / max(width, 0.3) ** 1.5 / leg_m
    left_height = 1.5 * 0.531 * noise / max(width, 0.3) ** 0.5 / leg_m
    tracks, speeds = {}, {}
    for side, part, track in raw:
        even = smoothed(track, float(width))
        tracks[side, part] = even
        moved = np.gradient(even, axis=0) * rate if frames > 1 else np.zeros_like(even)
        speeds[side, part] = np.linalg.norm(moved, axis=1)
    rests = {key: feet[key[0]].on_sole & (speeds[key] < (_BEGINS_SPEED + left_speed) * leg_m) for key in tracks}
    floor = _floor(tracks, rests, leg_m, floor_m)
    shortest = max(round(_SHORTEST_S * rate), 1)
    found: dict[str, dict[str, np.ndarray]] = {"heel": {}, "ball": {}}
    for (side, part), track in tracks.items():
        height = (track[:, 1] - floor.height(track)) / leg_m - left_height
        speed = speeds[side, part] / leg_m - left_speed
        may = feet[side].on_sole & (height > -FAR_OFF)
        sure = may & (height < _BEGINS_HEIGHT) & (speed < _BEGINS_SPEED)
        still = may & (height < _LASTS_HEIGHT) & (speed < _LASTS_SPEED)
        found[part][side] = without_short(with_hysteresis(sure, still), shortest)
    return Contacts(found["heel"], found["ball"], floor, noise)


def find_belt(feet: Mapping[str, FootTracks], hips: Floats, rate: float, leg_m: float) -> Floats | None:
    """How fast the floor runs under a figure that walks on the spot, ``(3,)`` metres per second; None if it does not.

    Then a low foot goes backward at one speed for most of the time, and the ``hips`` ``(frames, 3)`` hardly go
    anywhere; of one that walks over the floor a low foot stands.
    """
    if len(hips) < max(_BELT_SHORTEST_S * rate, 4.0):
        return None
    tracks = np.stack([smoothed(track, _SMOOTH_S * rate) for foot in feet.values() for track in (foot.heel, foot.ball)])
    heights, frames = tracks[:, :, 1], np.arange(len(hips))
    speeds = (np.gradient(tracks, axis=1) * rate)[:, :, [0, 2]] / leg_m
    low = heights < np.percentile(heights, 5) + _LASTS_HEIGHT * leg_m
    down = low.any(axis=0)  # one who runs is in the air between
    speed = np.median(speeds[np.argmin(heights, axis=0), frames][down], axis=0)
    fast = float(np.linalg.norm(speed))
    # Of all that is low something goes with the floor; the tip of the other foot may come by as low.
    spread = _BELT_SPREAD if down.mean() > _BELT_WALKS else _BELT_RUN_SPREAD
    going = low & (np.linalg.norm(speeds - speed, axis=2) < spread * fast)
    gone = _gone_m_s(hips, rate) / leg_m
    if fast < _BELT_SLOWEST or gone > _BELT_GONE * fast or down.mean() < _BELT_DOWN:
        return None
    if going.any(axis=0)[down].mean() < _BELT_SHARE or going.reshape(2, -1).mean(axis=1).min() < _BELT_EACH:
        return None
    # Both feet must step: a figure that is dragged over the floor with one foot down does not walk.
    swings = [np.ptp(0.5 * (foot.heel + foot.ball)[:, 1]) / leg_m for foot in feet.values()]
    if min(swings) < _BELT_LIFT:
        return None
    mean = speeds[going].mean(axis=0) * leg_m
    return np.array([mean[0], 0.0, mean[1]])


def _gone_m_s(hips: Floats, rate: float) -> float:
    """How fast the hips ``(frames, 3)`` go over the ground from the first frame to the last."""
    return float(np.linalg.norm((hips[-1] - hips[0])[[0, 2]])) * rate / len(hips)


def noise_of(track: Floats) -> float:
    """The standard deviation of white noise in a track, metres: by third differences, in which motion hardly shows.

    Up and down, and over the ground whatever the way there: what shakes less tells it, for motion only adds.
    """
    if len(track) < 8:
        return 0.0
    jumps = np.diff(track, 3, axis=0)
    upright, level = np.median(np.abs(jumps[:, 1])), np.median(np.linalg.norm(jumps[:, [0, 2]], axis=1))
    # The middle of the absolute value of a normal number, and of the length of two.
    return float(min(upright / 0.6745, level / np.sqrt(2.0 * np.log(2.0)))) / np.sqrt(20.0)


def _floor(
    tracks: Mapping[tuple[str, str], Floats],
    rests: Mapping[tuple[str, str], np.ndarray],
    leg_m: float,
    floor_m: float,
) -> Floor:
    """The plane under the points where they rest on the sole: a fit that what is above it does not pull up."""
    points = np.concatenate([track[rests[key]] for key, track in tracks.items()])
    lowest = np.min([track[:, 1] for track in tracks.values()], axis=0)
    # Nobody is always far below the floor: such a clip is counted from the hips, or from the saddle.
    under = bool(lowest.max() < floor_m - FAR_OFF * leg_m)
    if len(points) < 8:
        return Floor(float(lowest.min()) if under else floor_m)
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
        stiff = len(rows) * (_WAY * leg_m) ** 2 * np.eye(2)
        slope = np.linalg.solve(centred.T @ centred + stiff, centred.T @ (heights - heights.mean()))
        plane = np.array([heights.mean() - slope @ middle[1:], *slope])
    floor = Floor(*map(float, plane))
    off = float(floor.height(points.mean(axis=0))) - floor_m
    alike = float((np.abs(points[:, 1] - np.median(points[:, 1])) < _LASTS_HEIGHT * leg_m).mean())
    if under and alike < _ALWAYS:
        return Floor(float(lowest.min()))  # feet that rest here and there tell no floor, but that it is below them
    # Feet that rest high up (a handstand, a chair) are on no floor, nor are those that go far down stairs.
    if abs(off) > FAR_OFF * leg_m and not under:
        return Floor(floor_m)
    lying = points[np.abs(points[:, 1] - design @ plane) < 0.03 * leg_m]
    # A slope must explain much that a level floor does not: feet that hover here and there are none.
    off_level = float(np.std(lying[:, 1])) if len(lying) else 0.0
    off_slope = float(np.std(lying[:, 1] - floor.height(lying))) if len(lying) else 0.0
    if floor.tilt_degrees > _LEVEL_DEGREES and off_level > max(2.0 * off_slope, 0.01 * leg_m):
        return floor
    at = float(np.median(lying[:, 1])) if len(lying) else low
    return Floor(floor_m if abs(at - floor_m) < _PLACE * leg_m else at)
