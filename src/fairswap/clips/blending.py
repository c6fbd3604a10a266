"""Lay a part of one clip over another: the arms of this one, the legs of that one, the face of a third."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from fairswap.bones.roles import SIDES, part_of, side_of
from fairswap.clips.placing import carriers_of, moved_over_ground, stand_of
from fairswap.clips.resampling import at_rate
from fairswap.clips.standing import in_place, standing_of, with_standing_feet
from fairswap.errors import UsageError
from fairswap.measure.contacts import contacts_of
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.mesh import weights_over_time
from fairswap.model.poses import MorphTrack
from fairswap.model.rotation import quaternion_from_axis_angle, rotate, slerp
from fairswap.model.signals import eased
from fairswap.model.space import UP
from fairswap.pose.rigged import RiggedFigure

PARTS = ("upper", "lower", "trunk", "head", "face", "arms", "hands", "legs")
# What each takes of what bones:part_of tells apart; legs go with the hips, and with ground travel.
_MEANS = {
    "upper": ("trunk", "head", "face", "arms", "hands"), "lower": ("legs",), "trunk": ("trunk",),
    "head": ("head", "face"), "face": ("face",), "arms": ("arms", "hands"), "hands": ("hands",), "legs": ("legs",),
}  # fmt: skip


def blended(
    rigged: RiggedFigure, base: Clip, over: Clip, parts: Sequence[str], start_s: float = 0.0,
    stop_s: float | None = None, ease_s: float = 0.25,
) -> Clip:  # fmt: skip
    """``base`` with ``parts`` of ``over`` laid over it from ``start_s`` to ``stop_s``, coming and going in ``ease_s``.

    ``over`` begins at its own start. With the legs its ground travel comes, too: it goes on from where the base
    is, and the base then goes on from where it ends; feet that stand stay where they stand.

    Raises
    ------
    UsageError
        For a part that is none, for clips of other bones, for times that are not in the clips.
    """
    wanted = _wanted(parts)
    if base.skeleton != over.skeleton:
        problem = f"clip {over.name!r} moves other bones than {base.name!r}"
        raise UsageError(problem, code="moves-other-bones")
    rate = float(base.rate)
    over = over if over.rate == base.rate else at_rate(over, base.rate)
    stop_s = min(start_s + over.duration_s, base.duration_s) if stop_s is None else stop_s
    first, last = round(start_s * rate), round(stop_s * rate)
    if not 0 <= first < last <= base.frames - 1:
        problem = f"from {start_s:g} to {stop_s:g} s is not in {base.name!r}, which lasts {base.duration_s:.2f} s"
        raise UsageError(problem, remedy="Give times that are in it")
    if last - first > over.frames - 1:
        problem = f"{over.name!r} lasts {over.duration_s:.2f} s, and from {start_s:g} to {stop_s:g} s is longer"
        raise UsageError(problem, remedy=f"Give {start_s + over.duration_s:.2f} at most as the end")
    if not np.isfinite(ease_s) or ease_s < 0.0:
        raise UsageError(f"an ease of {ease_s} s is not possible", remedy="Give seconds, 0.25 say")
    ease = min(ease_s * rate, 0.5 * (last - first))
    weight = _window(base.frames, first, last, ease)
    with_legs = any(part == "legs" for part, _ in wanted)
    over = _at(over, first, last, base.frames)
    contacts = contacts_of(rigged, base), contacts_of(rigged, over)
    if with_legs:
        half = int(0.5 * ease)
        base, over = _going_on(base, over, first + half * (first > 0), last - half * (last < base.frames - 1))
    mine = [bone for bone, owner in enumerate(_owners(rigged)) if _takes(wanted, owner)]
    made = _mixed(rigged, base, over, mine, weight, morphs=any(part == "face" for part, _ in wanted))
    if not with_legs:
        return made
    standing = standing_of(contacts[0], in_place(contacts[1], 0, base.frames), weight >= 0.5)
    going_over = (weight > 0.0) & (weight < 1.0)
    return with_standing_feet(rigged, made, standing, going_over) if going_over.any() else made


def _wanted(parts: Sequence[str]) -> set[tuple[str, str]]:
    """The parts that bones are told apart by, each with its side, or both."""
    found = set()
    for text in parts:
        name, _, side = text.partition(":")
        if name not in PARTS or side not in ("", *SIDES):
            known = ", ".join(PARTS)
            raise UsageError(f"{text!r} is not a part of the body", remedy=f"Give {known}; arms:left is one side alone")
        found |= {(part, side) for part in _MEANS[name]}
    if not found:
        raise UsageError("no part of the body is named", remedy=f"Give one of {', '.join(PARTS)}")
    return found


def _takes(wanted: set[tuple[str, str]], owner: tuple[str, str]) -> bool:
    return (owner[0], "") in wanted or owner in wanted


def _owners(rigged: RiggedFigure) -> list[tuple[str, str]]:
    """The part and side that each bone belongs to; one without a role goes with what it hangs on."""
    found: list[tuple[str, str]] = []
    for bone, parent in enumerate(rigged.skeleton.parents.tolist()):
        role = rigged.role_of_bone.get(bone)
        if role is None:
            found.append(found[parent] if parent >= 0 else ("legs", ""))
            continue
        part = part_of(role)
        if role in ("hips", "root") or part == "feet":
            part = "legs"
        elif role.startswith(("neck_", "head")):
            part = "head"
        elif role.startswith("shoulder_"):
            part = "arms"
        found.append((part, side_of(role)))
    return found


def _window(frames: int, first: int, last: int, ease: float) -> Floats:
    """How much of the clip on top shows in each frame; at an end of the base it does so at once."""
    at = np.arange(frames)
    ease = max(ease, 1e-6)
    coming = np.ones(frames) if first == 0 else eased((at - first) / ease)
    going = np.ones(frames) if last == frames - 1 else eased((last - at) / ease)
    return np.where((at >= first) & (at <= last), coming * going, 0.0)


def _at(over: Clip, first: int, last: int, frames: int) -> Clip:
    """The clip on top, on the frames of the base; before and after its part it is held."""
    return over.with_poses(over.poses.picked(np.clip(np.arange(frames) - first, 0, last - first)))


def _going_on(base: Clip, over: Clip, first: int, last: int) -> tuple[Clip, Clip]:
    """The clip on top moved to where the base is when they go over; the rest of the base to where it then is."""
    told_by, moved_by = carriers_of(base, over)
    over = _moved_to(over, first, stand_of(base, first, told_by), (told_by, moved_by))
    after = _moved_to(base, last, stand_of(over, last, told_by), (told_by, moved_by))
    later = np.arange(base.frames) >= (first + last) // 2
    poses, rest = base.poses.edit(), after.poses
    above = base.skeleton.with_ancestors([moved_by])
    for bone in above:
        poses.turn(bone, np.where(later, rest.rotation_track(bone), poses.rotation_track(bone)))
    for bone in {moved_by, *poses.translations} & set(above):
        poses.translations[bone] = np.where(later, rest.translation_track(bone), poses.translation_track(bone))
    return base.with_poses(poses.poses(), keyed=base.keyed | {moved_by}), over


def _moved_to(clip: Clip, frame: int, stand: tuple[float, Floats], carriers: tuple[int, int]) -> Clip:
    """The clip moved over the ground so that it stands there in that frame."""
    heading, spot = stand_of(clip, frame, carriers[0])
    turn = stand[0] - heading
    shift = stand[1] - rotate(quaternion_from_axis_angle(UP, turn), spot)
    return moved_over_ground(clip, turn, shift, carriers[1])


def _mixed(rigged: RiggedFigure, base: Clip, over: Clip, bones: Sequence[int], weight: Floats, morphs: bool) -> Clip:
    edit, top = base.poses.edit(), over.poses
    for bone in bones:
        edit.turn(bone, slerp(edit.rotation_track(bone).T, top.rotation_track(bone).T, weight).T)
        if bone in edit.translations or bone in top.translation_by_bone():
            a, b = edit.translation_track(bone), top.translation_track(bone)
            edit.translations[bone] = a * (1.0 - weight) + np.broadcast_to(b, a.shape) * weight
    tracks = edit.morph_tracks
    if morphs:
        moved = {track.mesh for track in (*tracks, *top.morph_tracks)}
        shown = {mesh: [weights_over_time(rigged.figure.meshes[mesh], mesh, one) for one in (base.poses, top)]
                 for mesh in sorted(moved)}  # fmt: skip
        tracks = tuple(MorphTrack(mesh, a * (1.0 - weight) + b * weight) for mesh, (a, b) in shown.items())
    return base.with_poses(edit.poses(morph_tracks=tracks), keyed=base.keyed | (over.keyed & set(bones)))
