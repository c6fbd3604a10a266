"""Find the cycle in a take, and close it: the best repeat by period and phase, its seam measured, then blended away."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from fairswap.clips.features import carrier_of, carrier_world, features_of, heading_of
from fairswap.clips.placing import moved_over_ground, stand_of
from fairswap.clips.spans import span_of
from fairswap.errors import ImpossibleError, UsageError
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.poses import MorphTrack, Poses
from fairswap.model.rotation import angle_between, conjugate, multiply, quaternion_from_axis_angle, rotate, slerp
from fairswap.model.signals import eased
from fairswap.model.space import UP
from fairswap.wording import counted

_SHORTEST_S = 0.3
_SEARCH_RATE, _MOST_FRAMES, _MOST_FEATURES = 30.0, 6000, 40
# How far ahead a speed is counted as a difference of place, in seconds.
_SPEED_S = 0.08
TRAVELS = ("kept", "removed", "whole")


@dataclass(frozen=True)
class Seam:
    """How well the end of a cycle fits its start: worst joint, worst bone seen from the body, worst speed of one."""

    degrees: float
    cm: float
    cm_s: float


@dataclass(frozen=True)
class Cycle:
    """A part of a take that repeats: frames ``first`` to ``last``, which is the first one again; and its seam.

    >>> import fairswap
    >>> best = fairswap.clips.cycles(fairswap.demo_motion("walk").clips[0])[0]
    >>> best.first, best.last, round(best.seam.degrees, 1)
    (0, 34, 2.4)
    """

    first: int
    last: int
    seam: Seam


@dataclass(frozen=True)
class Loop:
    """A clip that loops; the cycles that were found, best first, and how good the seam is now."""

    clip: Clip
    cycles: tuple[Cycle, ...]
    seam: Seam

    def __repr__(self) -> str:
        return f"<Loop: {self.clip!r}, {len(self.cycles)} cycles found>"


def find_cycles(clip: Clip, count: int = 3) -> list[Cycle]:
    """The best cycles of a take, best first; of unlike lengths or places.

    Raises
    ------
    ImpossibleError
        If nothing in it repeats.
    """
    rate = float(clip.rate)
    shortest = max(round(_SHORTEST_S * rate), 2)
    if clip.frames < shortest + 2:
        raise ImpossibleError(
            f"clip {clip.name!r} is too short for a cycle", remedy=f"It has {counted(clip.frames, 'frame')}"
        )
    step = max(round(rate / _SEARCH_RATE), -(-clip.frames // _MOST_FRAMES), 1)
    coarse = np.arange(0, clip.frames, step)
    features = _fewer(features_of(_at_frames(clip.poses, coarse), carrier_of(clip.poses)))
    if float((features**2).sum(axis=0).max()) < 1e-6:
        raise ImpossibleError(f"nothing moves in clip {clip.name!r}, so nothing repeats")
    found = []
    # The most likely period first: twice it may fit a little better, frame on frame, and is not the cycle.
    for period in _periods(features, max(shortest // step, 2)):
        for first, last in _phases(features, rate / step, period, max(shortest // step, 2)):
            found.append(_refined(clip, first * step, last * step, step))
    cycles: list[Cycle] = []
    for first, last in found:
        apart = all(abs(first - c.first) + abs(last - c.last) > 0.15 * (c.last - c.first) for c in cycles)
        if apart:
            cycles.append(Cycle(first, last, seam_of(clip, first, last)))
        if len(cycles) == count:
            break
    if not cycles:
        raise ImpossibleError(f"no part of clip {clip.name!r} repeats", code="no-cycle")
    return cycles


def _at_frames(poses: Poses, frames: np.ndarray) -> Poses:
    tracks = poses.rotation_tracks[:, :, frames]
    return Poses(poses.skeleton, tracks, poses.translated_bones, poses.translation_tracks[:, :, frames])


def _fewer(features: Floats) -> Floats:
    """The features in the few directions in which they vary, distances kept (principal components)."""
    features = features - features.mean(axis=1, keepdims=True)
    strength, directions = np.linalg.eigh(features @ features.T)
    keep = strength > 1e-5 * max(float(strength[-1]), 1e-12)
    return np.asarray(directions[:, keep][:, -_MOST_FEATURES:].T @ features)


def _periods(features: Floats, shortest: int) -> list[int]:
    """Frames after which the whole take comes back to itself, most likely first: the shortest of those that do so well.

    The mean squared distance of a take from itself, moved on, for all ways on at once, by its spectrum (Wiener and
    Khinchin).
    """
    n = features.shape[1]
    size = 1 << int(np.ceil(np.log2(2 * n)))
    spectrum = np.fft.rfft(features, size, axis=1)
    together = np.fft.irfft((np.abs(spectrum) ** 2).sum(axis=0), size)[:n]
    energy = np.concatenate([[0.0], np.cumsum((features**2).sum(axis=0))])
    lags = np.arange(n)
    overlap = np.maximum(n - lags, 1)
    distance = (energy[n - lags] + energy[n] - energy[lags] - 2.0 * together) / overlap
    usual = 2.0 * energy[n] / n
    inside = np.arange(shortest, max(n - max(n // 8, 3), shortest + 1))
    inside = inside[(inside < n - 1) & (inside > 0)]
    minima = [k for k in inside.tolist() if distance[k] <= distance[k - 1] and distance[k] <= distance[k + 1]]
    good = [k for k in minima if distance[k] < 0.25 * usual]
    # A take that ends as it began may be one cycle as a whole.
    whole = n - 1
    ends_meet = float(((features[:, whole] - features[:, 0]) ** 2).sum()) < 0.02 * usual
    if not good:
        rest = sorted(minima, key=lambda k: distance[k])[:3]
        return [whole, *rest] if ends_meet else rest or [whole]
    best = min(distance[k] for k in good)
    # Two cycles fit as well as one; the shortest that fits nearly as well is the cycle.
    first = next(k for k in good if distance[k] <= best + 0.08 * usual)
    return [first, *sorted((k for k in good if k != first), key=lambda k: distance[k])[:3]]


def _phases(features: Floats, rate: float, period: int, shortest: int) -> list[tuple[int, int]]:
    """The best first and last frames for cycles of about a period."""
    longest = features.shape[1] - 1
    state = np.concatenate([features, np.gradient(features, axis=1) * rate * _SPEED_S])
    reach = max(round(0.08 * period), 2)
    rows = []
    for length in range(max(min(period, longest) - reach, shortest), min(period + reach, longest) + 1):
        apart = ((state[:, length:] - state[:, : state.shape[1] - length]) ** 2).sum(axis=0)
        best = int(np.argmin(apart))
        rows.append((float(apart[best]), best, best + length))
    return [(first, last) for _, first, last in sorted(rows)[:3]]


def _refined(clip: Clip, first: int, last: int, step: int) -> tuple[int, int]:
    """The best pair of frames near two that were found on every ``step``-th frame."""
    if step == 1:
        return first, last
    last = min(last, clip.frames - 1)
    near = [np.arange(max(at - step, 0), min(at + step, clip.frames - 1) + 1) for at in (first, last)]
    states = []
    for frames in near:
        around = np.clip(np.arange(frames[0] - 1, frames[-1] + 2), 0, clip.frames - 1)
        features = features_of(_at_frames(clip.poses, around), carrier_of(clip.poses))
        speed = np.gradient(features, axis=1) * float(clip.rate) * _SPEED_S
        states.append(np.concatenate([features, speed])[:, 1:-1])
    apart = ((states[0][:, :, None] - states[1][:, None, :]) ** 2).sum(axis=0)
    i, j = np.unravel_index(int(np.argmin(apart)), apart.shape)
    return int(near[0][i]), int(near[1][j])


def seam_of(clip: Clip, first: int, last: int) -> Seam:
    """How the pose (and its speed) in frame ``last`` differs from that in ``first``, seen from the body."""
    poses, carrier = clip.poses, carrier_of(clip.poses)
    above = set(poses.skeleton.with_ancestors([carrier]))
    inner = [bone for bone in range(len(poses.skeleton)) if bone not in above]
    a, b = poses.rotation_tracks[inner, :, first], poses.rotation_tracks[inner, :, last]
    degrees = float(np.degrees(angle_between(a, b)).max(initial=0.0))
    places = [_seen(clip, frame) for frame in (first, last)]
    apart = 100.0 * float(np.linalg.norm(places[0][0] - places[1][0], axis=1).max())
    faster = 100.0 * float(np.linalg.norm(places[0][1] - places[1][1], axis=1).max())
    return Seam(degrees, apart, faster)


def _seen(clip: Clip, frame: int) -> tuple[Floats, Floats]:
    """Places ``(bones, 3)`` seen from the ground below the body, facing as it does, and their speeds in metres."""
    # At an end the speed is that of the parabola through three frames.
    last = clip.frames - 1
    around = [frame - 1, frame, frame + 1]
    slope = np.array([-0.5, 0.0, 0.5])
    if frame == 0 and last >= 2:
        around, slope = [0, 1, 2], np.array([-1.5, 2.0, -0.5])
    elif frame == last and last >= 2:
        around, slope = [last - 2, last - 1, last], np.array([0.5, -2.0, 1.5])
    world = clip.poses.at(np.array(around, dtype=np.float64)).world()
    heading, spot = stand_of(clip, frame)
    turn = quaternion_from_axis_angle(UP, -heading)
    seen = rotate(turn, world.positions - spot)
    place = seen[around.index(frame)] if frame in around else seen[1]
    return place[_carried(clip)], (np.tensordot(slope, seen, axes=1) * float(clip.rate))[_carried(clip)]


def _carried(clip: Clip) -> list[int]:
    """The bones that go with the body: not a root that stays behind."""
    carrier = carrier_of(clip.poses)
    above = set(clip.skeleton.with_ancestors([carrier])) - {carrier}
    return [bone for bone in range(len(clip.skeleton)) if bone not in above]


def seam_after(result: Clip, take: Clip, cycle: Cycle) -> Seam:
    """The seam of a closed cycle: first against last pose; and how much more its speed changes there, from the frame
    before to the frame after, than it does in the take at that moment."""
    pose = seam_of(result, 0, result.frames - 1)
    if result.frames < 3:
        return pose
    bend = _bend(result, result.frames - 1, 1)
    middle = cycle.first if cycle.first > 0 else min(cycle.last, take.frames - 2)
    usual = _bend(take, middle, middle + 1) if 0 < middle < take.frames - 1 else np.zeros_like(bend)
    return replace(pose, cm_s=100.0 * float(np.linalg.norm(bend - usual, axis=1).max()))


def _bend(clip: Clip, frame: int, after: int) -> Floats:
    """Change of speed ``(bones, 3)``, metres a second, at a frame that ``after`` follows, seen from the body."""
    start = after - 1
    world = clip.poses.at(np.array([frame - 1, frame, start, after], dtype=np.float64)).world().positions
    seen = []
    for index, at in ((0, frame), (1, frame), (2, start), (3, start)):
        heading, spot = stand_of(clip, at)
        seen.append(rotate(quaternion_from_axis_angle(UP, -heading), world[index] - spot))
    return ((seen[3] - seen[2]) - (seen[1] - seen[0]))[_carried(clip)] * float(clip.rate)


def closed(clip: Clip, cycle: Cycle, blend_s: float = 0.2, travel: str = "kept") -> Clip:
    """The cycle as a clip whose last pose and speed are those of its first.

    The last ``blend_s`` seconds go over into the frames before the start (or the first into those after the end, where
    there are more), moved to where the body is then. ``travel``: ``kept``; ``removed``, so that it stays on the spot;
    ``whole``, straight ahead without turning or drifting aside from cycle to cycle.

    Raises
    ------
    UsageError
        If the blend is longer than the cycle, or travel is none of these.
    """
    if travel not in TRAVELS:
        raise UsageError(f"travel is {travel!r}", remedy=f"Give one of {', '.join(TRAVELS)}")
    first, last, rate = cycle.first, cycle.last, float(clip.rate)
    window = min(round(blend_s * rate), last - first - 1)
    if not np.isfinite(blend_s) or blend_s < 0.0:
        raise UsageError(f"a blend of {blend_s} s is not possible")
    # A part that stands still may be carried by another bone than the take.
    part, carrier = span_of(clip, first, last), carrier_of(clip.poses)
    before, after = min(window, first), min(window, clip.frames - 1 - last)
    if before >= after and before > 1:
        part = _over_into(part, span_of(clip, first - before, first), carrier, at_end=True)
    elif after > 1:
        part = _over_into(part, span_of(clip, last, last + after), carrier, at_end=False)
    part = _ends_met(part, max(window, 1), carrier)
    if travel != "kept":
        part = _straightened(part, travel == "removed", carrier)
    return part


def _over_into(part: Clip, other: Clip, carrier: int, at_end: bool) -> Clip:
    """Blend the end (or the start) of a cycle with the same phase a cycle earlier (or later), at the body's place."""
    count = other.frames
    frames = np.arange(part.frames - count, part.frames) if at_end else np.arange(count)
    ends = (part.frames - 1, count - 1) if at_end else (0, 0)
    here, there = stand_of(part, ends[0], carrier), stand_of(other, ends[1], carrier)
    turn = here[0] - there[0]
    about = quaternion_from_axis_angle(UP, turn)
    other = moved_over_ground(other, turn, here[1] - rotate(about, there[1]), carrier)
    fraction = eased(np.linspace(0.0, 1.0, count)) if at_end else eased(np.linspace(1.0, 0.0, count))
    return _blended(part, other, frames, fraction)


def _blended(part: Clip, other: Clip, frames: np.ndarray, fraction: Floats) -> Clip:
    poses, more = part.poses.edit(), other.poses.edit()
    tracks = poses.rotation_tracks
    a, b = tracks[:, :, frames].transpose(0, 2, 1), more.rotation_tracks.transpose(0, 2, 1)
    tracks[:, :, frames] = slerp(a, b, fraction).transpose(0, 2, 1)
    for bone in {*poses.translations, *more.translations}:
        track = poses.translation_track(bone).copy()
        track[:, frames] = track[:, frames] * (1.0 - fraction) + more.translation_track(bone) * fraction
        poses.translations[bone] = track
    morphs = []
    for morph in poses.morph_tracks:
        weights = morph.weights.copy()
        goals = next((other.weights for other in more.morph_tracks if other.mesh == morph.mesh), None)
        if goals is not None:
            weights[:, frames] = weights[:, frames] * (1.0 - fraction) + goals * fraction
        morphs.append(MorphTrack(morph.mesh, weights))
    return part.with_poses(poses.poses(morph_tracks=tuple(morphs)))


def _ends_met(part: Clip, window: int, carrier: int) -> Clip:
    """Take what is left between last and first pose out over the last frames, so that they are one pose."""
    poses = part.poses
    above = set(poses.skeleton.with_ancestors([carrier]))
    count = min(window + 1, part.frames)
    fraction = eased(np.linspace(0.0, 1.0, count))
    tracks = poses.rotation_tracks.copy()
    for bone in range(len(poses.skeleton)):
        if bone not in above:
            first, last = tracks[bone, :, 0], tracks[bone, :, -1]
            ending = tracks[bone, :, -count:].T
            goal = multiply(ending, multiply(conjugate(last), first))
            tracks[bone, :, -count:] = slerp(ending, goal, fraction).T
    return part.with_poses(replace(poses, rotation_tracks=tracks))


def _straightened(part: Clip, remove: bool, carrier: int) -> Clip:
    """Take turning and sideways drift (and, to stay on the spot, all travel) out evenly over the cycle."""
    (h0, p0), (h1, p1) = (stand_of(part, frame, carrier) for frame in (0, part.frames - 1))
    fraction = np.linspace(0.0, 1.0, part.frames)
    turn = -(h1 - h0) * fraction
    # Ahead is where the body faces on the whole: a step sways it from side to side.
    rotation, _ = carrier_world(part.poses, carrier)
    ahead = float(np.mean(heading_of(part.poses, rotation, carrier) + turn))
    far = 0.0 if remove else float(np.linalg.norm(p1 - p0))
    wanted = far * np.array([np.sin(ahead), 0.0, np.cos(ahead)])
    spots = p0 + fraction[:, None] * (p1 - p0)
    goals = p0 + fraction[:, None] * wanted
    about = quaternion_from_axis_angle(UP, turn)
    return moved_over_ground(part, turn, goals - rotate(about, spots), carrier)
