"""Faults of recorded motion, found and told, then mended on request: a rest pose before it, spikes, jitter, flips."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from fairswap.clips.spans import span_of
from fairswap.measure.lead_in import lead_in_frames
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.rotation import angle_between, normalized, slerp, without_sign_jumps
from fairswap.model.signals import runs_of, smoothed

# A spike turns away and back within this many frames, by this much, and this much more than the bone usually turns.
_SPIKE_FRAMES, _SPIKE_DEGREES, _SPIKE_TIMES = 3, 8.0, 3.0
_SPIKE_M = 0.04
_JITTER_DEGREES = 0.15


@dataclass(frozen=True)
class Fault:
    """One fault: ``lead-in``, ``spike``, ``flip`` or ``jitter``; the bone, first and last frame, and how large.

    The size is in degrees, of a place in cm.

    >>> import fairswap
    >>> fault = fairswap.clips.faults(fairswap.demo_motion("walk").clips[0])[0]
    >>> fault.kind, fault.bone
    ('jitter', 'ankle_r')
    """

    kind: str
    bone: str
    first: int
    last: int
    size: float


@dataclass(frozen=True)
class Cleaned:
    """A clip with its faults mended, and all faults that were found."""

    clip: Clip
    faults: tuple[Fault, ...]


def find_faults(clip: Clip) -> list[Fault]:
    """All faults of a clip, by bone and frame."""
    lead_in = lead_in_frames(clip)
    if not lead_in:
        return list(_faults(clip, 0))
    leaps = np.degrees(angle_between(clip.rotations[lead_in], clip.rotations[lead_in - 1]))
    bone = int(np.argmax(leaps))
    first = Fault("lead-in", clip.skeleton.names[bone], 0, lead_in - 1, round(float(leaps[bone]), 2))
    return [first, *_faults(span_of(clip, lead_in, clip.frames - 1), lead_in)]


def _faults(clip: Clip, before: int) -> Iterator[Fault]:
    """The faults of a clip that begins ``before`` frames after what they are counted from."""
    for fault in _own_faults(clip):
        yield replace(fault, first=fault.first + before, last=fault.last + before)


def _own_faults(clip: Clip) -> list[Fault]:
    found = []
    for bone, name in enumerate(clip.skeleton.names):
        track = clip.poses.rotation_tracks[bone]
        spikes = _spikes(track.T, _turns, _SPIKE_DEGREES)
        found += [Fault("spike", name, first, last, round(degrees, 2)) for first, last, degrees in spikes]
        for frame in np.flatnonzero(np.einsum("cf,cf->f", track[:, 1:], track[:, :-1]) < 0.0).tolist():
            found.append(Fault("flip", name, frame, frame + 1, 360.0))
        shake = _jitter_degrees(track)
        if shake > _JITTER_DEGREES:
            found.append(Fault("jitter", name, 0, clip.frames - 1, round(shake, 3)))
    for bone in clip.poses.translated_bones.tolist():
        places = clip.poses.translation_track(bone)
        if places.shape[1] == clip.frames:
            title = f"{clip.skeleton.names[bone]} (place)"
            spikes = _spikes(places.T, _ways, _SPIKE_M)
            found += [Fault("spike", title, first, last, round(100.0 * metres, 2)) for first, last, metres in spikes]
    return found


def cleaned(clip: Clip, faults: list[Fault], *, jitter_s: float = 0.03) -> Clip:
    """The clip with these faults mended: spikes bridged from their neighbours, flips of sign taken out, jitter smoothed
    over ``jitter_s`` seconds, a lead-in taken off."""
    lead_in = sum(fault.last + 1 for fault in faults if fault.kind == "lead-in")
    if lead_in:
        clip = span_of(clip, lead_in, clip.frames - 1)
        rest = [fault for fault in faults if fault.kind != "lead-in"]
        faults = [replace(fault, first=fault.first - lead_in, last=fault.last - lead_in) for fault in rest]
    tracks = clip.poses.rotation_tracks.copy()
    positions = clip.poses.translation_tracks.copy()
    names = list(clip.skeleton.names)
    for fault in faults:
        if fault.bone.endswith(" (place)"):
            bone = names.index(fault.bone.removesuffix(" (place)"))
            row = int(np.flatnonzero(clip.poses.translated_bones == bone)[0])
            fraction = _fractions(fault)
            a, b = positions[row, :, fault.first - 1], positions[row, :, fault.last + 1]
            positions[row, :, fault.first : fault.last + 1] = a[:, None] * (1.0 - fraction) + b[:, None] * fraction
            continue
        bone = names.index(fault.bone)
        if fault.kind == "spike":
            a, b = tracks[bone, :, fault.first - 1], tracks[bone, :, fault.last + 1]
            tracks[bone, :, fault.first : fault.last + 1] = slerp(a, b, _fractions(fault)).T
        elif fault.kind == "flip":
            tracks[bone] = without_sign_jumps(tracks[bone])
    for fault in faults:
        if fault.kind == "jitter":
            bone = names.index(fault.bone)
            even = smoothed(without_sign_jumps(tracks[bone]).T, jitter_s * float(clip.rate))
            tracks[bone] = normalized(even).T
    return clip.with_poses(replace(clip.poses, rotation_tracks=tracks, translation_tracks=positions))


def _fractions(fault: Fault) -> Floats:
    count = fault.last - fault.first + 1
    return np.arange(1, count + 1) / (count + 1)


def _turns(a: Floats, b: Floats) -> Floats:
    return np.degrees(angle_between(a, b))


def _ways(a: Floats, b: Floats) -> Floats:
    return np.asarray(np.linalg.norm(a - b, axis=1))


def _spikes(track: Floats, apart, least: float) -> list[tuple[int, int, float]]:  # type: ignore[no-untyped-def]
    """Runs of at most a few frames that lie far from a smooth way between their neighbours: first, last, how far."""
    frames = len(track)
    if frames < 5:
        return []
    steps = apart(track[1:], track[:-1])
    # In so few steps nothing comes further than so many of the largest: most bones need no closer look.
    furthest = _SPIKE_FRAMES * float(steps.max())
    if furthest <= least:
        return []
    usual = float(np.percentile(steps, 90))
    limit = max(least, _SPIKE_TIMES * usual)
    if furthest <= limit:
        return []
    out = np.zeros(frames, dtype=bool)
    size = np.zeros(frames)
    for width in range(1, _SPIKE_FRAMES + 1):
        before, after = track[: frames - width - 1], track[width + 1 :]
        over = apart(before, after)
        for inner in range(1, width + 1):
            middle = track[inner : frames - width - 1 + inner]
            far = np.minimum(apart(before, middle), apart(after, middle))
            # Away and back: far from both neighbours, which are near to each other.
            spike = (far > limit) & (over < 0.4 * far)
            at = np.flatnonzero(spike) + inner
            out[at] = True
            size[at] = np.maximum(size[at], far[spike])
    return [(a, b - 1, float(size[a:b].max())) for a, b in runs_of(out) if b - a <= _SPIKE_FRAMES]


def _jitter_degrees(track: Floats) -> float:
    """How much a rotation shakes from frame to frame, by third differences."""
    if track.shape[1] < 8:
        return 0.0
    even = without_sign_jumps(track)
    return float(np.degrees(2.0 * np.median(np.linalg.norm(np.diff(even, 3, axis=1), axis=0)) / np.sqrt(20.0) / 1.5))
