"""Join clips: each begins where the last one ended, in place and heading, with a blend in which standing feet stand."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from fairswap.clips.features import features_of
from fairswap.clips.placing import Spot, carriers_of, moved_over_ground, spot_of, stand_of
from fairswap.clips.resampling import at_rate
from fairswap.clips.spans import span_of
from fairswap.clips.standing import in_place, standing_of, with_standing_feet
from fairswap.errors import Finding, UsageError
from fairswap.measure.contacts import contacts_of
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.mesh import weights_over_time
from fairswap.model.poses import BesideTrack, MorphTrack, PoseBuilder, Poses
from fairswap.model.rotation import quaternion_from_axis_angle, rotate, slerp
from fairswap.model.signals import eased
from fairswap.model.space import UP
from fairswap.pose.rigged import RiggedFigure


@dataclass(frozen=True)
class JoinedPart:
    """Where one of the clips that were joined lies in the whole, and where it ends on the floor."""

    clip: str
    rate: float
    start_s: float
    stop_s: float
    ends: Spot


@dataclass(frozen=True, eq=False)
class Joined:
    """Clips joined to one, where each of them lies in it, and what is worth telling."""

    clip: Clip
    parts: tuple[JoinedPart, ...]
    findings: tuple[Finding, ...]


def joined(
    rigged: RiggedFigure, clips: Sequence[Clip], blend_s: float = 0.3, *, match: bool = False, name: str = ""
) -> Joined:
    """The clips one after another, at the rate of the first.

    Each is turned and moved so that it begins where the last one ended, and blended in over ``blend_s`` seconds; a foot
    that stands then does not slide. With ``match`` the blend is put where the two fit best (a walk into a run, foot on
    foot), within the last and the first second and a half.

    Raises
    ------
    UsageError
        If there are fewer than two clips, they move other bones, or the blend is longer than one of them.
    """
    if len(clips) < 2:
        raise UsageError("joining takes at least two clips")
    if not np.isfinite(blend_s) or blend_s < 0.0:
        raise UsageError(f"a blend of {blend_s} s is not possible", remedy="Give seconds, 0.3 say")
    whole, starts = clips[0], [0]
    for clip in clips[1:]:
        if clip.skeleton != whole.skeleton:
            raise UsageError(
                f"clip {clip.name!r} moves other bones than {clips[0].name!r}",
                code="moves-other-bones",
            )
    carriers = carriers_of(*clips)
    for clip in clips[1:]:
        other = clip if clip.rate == whole.rate else at_rate(clip, whole.rate)
        count = max(round(blend_s * float(whole.rate)), 0)
        if count >= min(whole.frames, other.frames):
            shortest = min((whole, other), key=lambda c: c.frames)
            raise UsageError(
                f"a blend of {blend_s} s is longer than clip {shortest.name!r}", remedy="Take a shorter one"
            )
        if match:
            whole, other = _matched(whole, other, count, carriers[0])
        starts.append(whole.frames - 1 - count // 2)
        whole = _appended(rigged, whole, other, count, carriers)
    rate, stops = float(whole.rate), [*starts[1:], whole.frames - 1]
    spots = [spot_of(whole, stop, carriers[0]) for stop in stops]
    parts = tuple(
        JoinedPart(clip.name, float(clip.rate), round(start / rate, 4), round(stop / rate, 4), ends)
        for clip, start, stop, ends in zip(clips, starts, stops, spots, strict=True)
    )
    made = replace(whole, name=name or " + ".join(clip.name for clip in clips), origin=None)
    return Joined(made, parts, tuple(mixed_rates(clips)))


def mixed_rates(clips: Sequence[Clip]) -> list[Finding]:
    """What is worth telling of clips of several rates: those that are not of the first one's are resampled."""
    others = [clip for clip in clips[1:] if clip.rate != clips[0].rate]
    if not others:
        return []
    shown = ", ".join(f"{clip.name!r} ({float(clip.rate):g})" for clip in others[:6])
    message = f"{shown} resampled to the {float(clips[0].rate):g} frames per second of {clips[0].name!r}"
    return [Finding("rates-mixed", "note", clips[0].name, message)]


def _matched(a: Clip, b: Clip, count: int, carrier: int) -> tuple[Clip, Clip]:
    """The end of ``a`` and the start of ``b`` taken off so that they fit best over the blend."""
    reach = round(1.5 * float(a.rate))
    room_a, room_b = min(reach, a.frames - count - 2), min(reach, b.frames - count - 2)
    if room_a < 1 or room_b < 1:
        return a, b
    features = [features_of(clip.poses, carrier) for clip in (a, b)]
    ends = features[0][:, a.frames - 1 - room_a :]
    starts = features[1][:, : room_b + 1]
    moving = [np.gradient(part, axis=1) * float(a.rate) * 0.1 for part in (ends, starts)]
    states = [np.concatenate([part, speed]) for part, speed in zip((ends, starts), moving, strict=True)]
    apart = (states[0] ** 2).sum(axis=0)[:, None] + (states[1] ** 2).sum(axis=0)[None] - 2.0 * states[0].T @ states[1]
    # The best pair, and of those as good the one that keeps most.
    kept = (np.arange(room_a + 1)[:, None] - np.arange(room_b + 1)[None]) / (room_a + room_b)
    i, j = np.unravel_index(int(np.argmin(apart - 1e-3 * kept * apart.mean())), apart.shape)
    # The blend is around that moment: half of it before, half after.
    half = count // 2
    last = min(a.frames - 1 - room_a + int(i) + half, a.frames - 1)
    first = max(int(j) - half, 0)
    return span_of(a, 0, last), span_of(b, first, b.frames - 1)


def _appended(rigged: RiggedFigure, a: Clip, b: Clip, count: int, carriers: tuple[int, int]) -> Clip:
    """``b`` after ``a``, the last ``count`` frames of ``a`` going over into the first of ``b``."""
    at = a.frames - 1 - count
    told_by, moved_by = carriers
    heading, spot = stand_of(a, at + count // 2, told_by)
    own_heading, own_spot = stand_of(b, count // 2, told_by)
    turn = heading - own_heading
    about = quaternion_from_axis_angle(UP, turn)
    b = moved_over_ground(b, turn, spot - rotate(about, own_spot), moved_by)
    fraction = eased(np.linspace(0.0, 1.0, count + 1)) if count else np.ones(1)
    poses_a, poses_b = a.poses, b.poses
    over = slice(at, at + count + 1)
    tracks = np.concatenate([poses_a.rotation_tracks[:, :, :at], poses_b.rotation_tracks], axis=2)
    first = poses_a.rotation_tracks[:, :, at:].transpose(0, 2, 1)
    second = poses_b.rotation_tracks[:, :, : count + 1].transpose(0, 2, 1)
    tracks[:, :, over] = slerp(first, second, fraction).transpose(0, 2, 1)
    ends = poses_a.edit(), poses_b.edit()
    translations = {
        bone: _crossed(ends[0].translation_track(bone), ends[1].translation_track(bone), at, count, fraction)
        for bone in {*ends[0].translations, *ends[1].translations}
    }
    meshes = {track.mesh for track in (*poses_a.morph_tracks, *poses_b.morph_tracks)}
    shown = {mesh: [weights_over_time(rigged.figure.meshes[mesh], mesh, one) for one in (poses_a, poses_b)]
             for mesh in sorted(meshes)}  # fmt: skip
    morphs = tuple(MorphTrack(mesh, _crossed(x, y, at, count, fraction)) for mesh, (x, y) in shown.items())
    beside = _beside(poses_a, poses_b, at, count, fraction)
    built = PoseBuilder(poses_a.skeleton, np.ascontiguousarray(tracks), translations, morphs, beside).poses()
    joined = a.with_poses(built, keyed=a.keyed | b.keyed)
    if count < 2:
        return joined
    return _with_standing_feet(rigged, joined, a, b, at, count)


def _crossed(a: Floats, b: Floats, at: int, count: int, fraction: Floats) -> Floats:
    out = np.concatenate([a[:, :at], b], axis=1)
    out[:, at : at + count + 1] = a[:, at:] * (1.0 - fraction) + b[:, : count + 1] * fraction
    return out


def _beside(a: Poses, b: Poses, at: int, count: int, fraction: Floats) -> tuple[BesideTrack, ...]:
    """Props and all else that moves beside: as in the one clip, then as in the other; what only one moves is held."""
    rows = [{(id(track.owner), track.target): track for track in poses.beside} for poses in (a, b)]
    out = []
    for key in {**rows[0], **rows[1]}:
        first, second = rows[0].get(key), rows[1].get(key)
        track = first or second
        assert track is not None
        before = np.repeat(track.values[:, :1], a.frames, axis=1) if first is None else first.values
        after = np.repeat(track.values[:, -1:], b.frames, axis=1) if second is None else second.values
        out.append(replace(track, values=_crossed(before, after, at, count, fraction)))
    return tuple(out)


def _with_standing_feet(rigged: RiggedFigure, joined: Clip, a: Clip, b: Clip, at: int, count: int) -> Clip:
    """Feet that stand at the blend, in the one clip or the other, planted there; elsewhere nothing changes."""
    own = contacts_of(rigged, a), contacts_of(rigged, b)
    # In the blend a foot stands if it does so in the clip that counts more.
    middle = at + count // 2
    second = np.arange(joined.frames) >= middle
    inside = np.zeros(joined.frames, dtype=bool)
    inside[at : at + count + 1] = True
    padded = in_place(own[0], 0, joined.frames), in_place(own[1], at, joined.frames)
    return with_standing_feet(rigged, joined, standing_of(padded[0], padded[1], second), inside)
