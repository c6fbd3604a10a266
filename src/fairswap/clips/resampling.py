"""Another frame rate, the same duration: first and last pose kept, keys of a file evaluated as they were meant."""

from __future__ import annotations

from fractions import Fraction

import numpy as np

from fairswap.errors import UsageError
from fairswap.formats.gltf.origins import GltfOrigin
from fairswap.formats.gltf.reading import poses_from_origin
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.poses import Poses, check_amount
from fairswap.model.rate import HIGHEST_RATE
from fairswap.model.rotation import normalized, without_sign_jumps
from fairswap.model.signals import smoothed


def at_rate(clip: Clip, rate: Fraction, *, smooth: bool = False, steady: bool = False) -> Clip:
    """The clip at ``rate`` frames per second.

    The duration is that of the clip to within half a new frame; first and last pose are kept. A glTF clip that nobody
    changed is evaluated from its own keys (linear, step or cubic); others turn evenly between frames (slerp).

    Parameters
    ----------
    smooth : bool
        Going up: curves through the frames instead of straight ways (cubic Hermite, Catmull and Rom 1974).
    steady : bool
        Going down: what changes faster than the new rate can show is smoothed away first, so that it does not flicker.

    Raises
    ------
    UsageError
        If the rate is not above zero.
    """
    if not 0 < rate <= HIGHEST_RATE:
        remedy = f"Give frames per second above zero, up to {HIGHEST_RATE}: 30 or 30000/1001"
        raise UsageError(f"a rate of {float(rate):g} is not possible", remedy=remedy)
    if clip.frames < 2:
        return clip.with_poses(clip.poses, rate=rate)
    frames = max(round(Fraction(clip.frames - 1) / clip.rate * rate), 1) + 1
    check_amount(frames, len(clip.skeleton))
    at = np.linspace(0.0, clip.frames - 1, frames)
    poses = clip.poses
    if steady and rate < clip.rate:
        poses = _low_passed(poses, 0.35 * float(clip.rate / rate))
    elif isinstance(clip.origin, GltfOrigin) and clip.origin.holds(clip) and not smooth:
        return clip.with_poses(poses_from_origin(clip, at / float(clip.rate)), rate=rate)
    new = curved(poses, at) if smooth and rate > clip.rate else poses.at(at)
    return clip.with_poses(new, rate=rate)


def _low_passed(poses: Poses, width: float) -> Poses:
    """Smoothed by a Gaussian of ``width`` frames; the ends stay."""
    tracks = np.stack([_ends_kept(without_sign_jumps(track).T, width).T for track in poses.rotation_tracks])
    tracks = np.ascontiguousarray(normalized(tracks.transpose(0, 2, 1)).transpose(0, 2, 1))
    return poses.with_tracks(tracks, lambda straight: _each_smoothed(straight, width))


def _each_smoothed(tracks: Floats, width: float) -> Floats:
    """Tracks ``(…, frames)``, each smoothed."""
    if not tracks.size:
        return tracks
    columns = tracks.reshape(-1, tracks.shape[-1]).T
    return _ends_kept(np.ascontiguousarray(columns), width).T.reshape(tracks.shape)


def _ends_kept(track: Floats, width: float) -> Floats:
    out = smoothed(track, width)
    out[0], out[-1] = track[0], track[-1]
    return out


def curved(poses: Poses, at: Floats) -> Poses:
    """The poses between frames on cubic curves through all of them, quaternions made unit again.

    Morphs are never shown more, nor less, than in the frames around.
    """
    before = np.minimum(at.astype(np.intp), poses.frames - 2)
    t = at - before

    def curve(track: Floats, slope: Floats | None = None) -> Floats:  # (n, frames)
        slope = np.gradient(track, axis=-1) if slope is None else slope
        a, b = track[..., before], track[..., before + 1]
        u, v = slope[..., before], slope[..., before + 1]
        return np.asarray(
            (2 * t**3 - 3 * t**2 + 1) * a + (t**3 - 2 * t**2 + t) * u + (3 * t**2 - 2 * t**3) * b + (t**3 - t**2) * v
        )

    tracks = np.stack([curve(without_sign_jumps(track)) for track in poses.rotation_tracks])
    tracks = np.ascontiguousarray(normalized(tracks.transpose(0, 2, 1)).transpose(0, 2, 1))
    return poses.with_tracks(tracks, curve, lambda weights: curve(weights, _slopes_within(weights)))


def _slopes_within(track: Floats) -> Floats:
    """Slopes with which a curve stays between each two frames: none where it turns, and none too steep.

    (Fritsch and Carlson 1980.)
    """
    steps = np.diff(track, axis=-1)
    before, after = steps[..., :-1], steps[..., 1:]
    slope = np.zeros_like(track)
    least = 3.0 * np.minimum(np.abs(before), np.abs(after))
    slope[..., 1:-1] = np.where(before * after > 0.0, np.clip(0.5 * (before + after), -least, least), 0.0)
    return slope
