"""Clips made to fit a platform: travel, rate, length, keys, names; and the ladder down to a file size."""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from itertools import pairwise

import numpy as np

from fairswap.body.carried import contacts_of
from fairswap.body.finish import AS_CARRIED
from fairswap.body.soles import soles_of
from fairswap.body.subject import Subject
from fairswap.body.swap import Swap
from fairswap.clip import Clip, Poses
from fairswap.clips.loop import Cycle, closed, seam_of
from fairswap.clips.rate import at_rate
from fairswap.clips.spans import span_of
from fairswap.clips.thin import thin
from fairswap.platform.rules import ClipRules
from fairswap.rate import rate_from_text_per_second, text_from_rate

_LADDER_MM = (2.0, 3.0, 4.5, 7.0, 10.0, 15.0)
_LADDER_RATES = (1, 2, 3)
SEAM_DEGREES, _CLOSING_S = 2.0, 0.2


@dataclass(frozen=True)
class Change:
    """One thing that fitting did: the rule, what, and what it cost (degrees, millimetres, bytes; nothing if exact)."""

    rule: str
    what: str
    cost: str = ""

    def as_dict(self) -> dict[str, str]:
        return {"rule": self.rule, "what": self.what, "cost": self.cost}


def fitted_clip(clip: Clip, subject: Subject, rules: ClipRules) -> tuple[list[Clip], list[Change]]:
    """The clip (or its parts, if it is too long) as a platform wants it; keys are thinned later.

    ``subject`` is the figure the clip moves, with its roles.
    """
    changes: list[Change] = []
    travel = travel_of(clip, subject)
    if rules.travel != "any" and travel not in (rules.travel, "still"):
        swap = Swap(subject.figure, subject.figure, motion=clip)
        clip = _moved(clip, swap, rules.travel)
        changes.append(Change("clip.travel", f"{clip.name}: travel from {travel} to {rules.travel}"))
    rate = _nearest_rate(clip.rate, rules)
    if rate != clip.rate:
        before = clip
        clip = at_rate(clip, rate, steady=False)
        off = abs(clip.duration_s - before.duration_s)
        what = f"{clip.name}: {text_from_rate(before.rate)} to {text_from_rate(rate)} frames per second"
        changes.append(Change("clip.rates", what, f"{1000 * off:.1f} ms of its length" if off > 1e-9 else ""))
    if matches_any(clip.name, rules.cycles) and clip.frames > 3:
        seam = seam_of(clip, 0, clip.frames - 1)
        if seam.degrees > SEAM_DEGREES:
            clip = closed(clip, Cycle(0, clip.frames - 1, seam), _CLOSING_S)
            what = f"{clip.name}: its end brought to its start, {seam.degrees:.1f} degrees apart"
            changes.append(Change("clip.cycles", what, f"{_CLOSING_S:g} s blended"))
    if rules.moving == "rotations":
        clip, moved = only_rotations(clip, subject)
        if moved:
            changes.append(Change("clip.moving", f"{clip.name}: places of {moved} bones taken out"))
    parts = [clip]
    if rules.longest_s is not None and clip.duration_s > rules.longest_s + 1e-6:
        parts = _cut_to_length(clip, rules.longest_s)
        what = f"{clip.name}: {clip.duration_s:.2f} s cut into {len(parts)} parts, named {parts[0].name!r} and so on"
        changes.append(Change("clip.longest_s", what))
    named = []
    taken: set[str] = set()
    for part in parts:
        name = fitting_name(part.name, rules, taken)
        taken.add(name)
        if name != part.name:
            changes.append(Change("clip.names", f"{part.name!r} is called {name!r}"))
        named.append(part if name == part.name else replace(part, name=name))
    return named, changes


def travel_of(clip: Clip, subject: Subject) -> str:
    """Where a clip's way over the ground is: on the ``hips``, the ``root``, ``none`` (on the spot), or ``still``."""
    hips = subject.roles.bones["hips"]
    above = int(clip.skeleton.parents[hips])
    world = clip.world().position_tracks[hips][[0, 2]]
    way = float(np.linalg.norm(world[:, -1] - world[:, 0]))
    wide = float(np.ptp(world, axis=1).max())
    if above >= 0:
        root = clip.poses.translation_track(above)
        if root.shape[1] > 1 and np.ptp(root[[0, 2]], axis=1).max() > 0.02:
            return "root"
    if way > 0.25 * subject.reference.leg_m or wide > 0.6 * subject.reference.leg_m:
        return "hips"
    return "still"


def matches_any(name: str, patterns: Sequence[str]) -> bool:
    """Whether a name fits one of some patterns with ``*``, capitals or not."""
    return any(fnmatch.fnmatch(name.lower(), pattern.lower()) for pattern in patterns)


def only_rotations(clip: Clip, subject: Subject) -> tuple[Clip, int]:
    """The clip without places, but for hips and root; and how many bones had one."""
    poses = clip.poses
    allowed = {subject.roles.bones["hips"]}
    allowed |= {int(b) for b in clip.skeleton.with_ancestors(allowed)}
    rest = clip.skeleton.rest_translations
    stay, gone = [], 0
    for row, bone in enumerate(poses.translated_bones.tolist()):
        if bone in allowed:
            stay.append(row)
        elif np.abs(poses.translation_tracks[row] - rest[bone][:, None]).max() > 1e-5:  # type: ignore[index]
            gone += 1
    if len(stay) == len(poses.translated_bones):
        return clip, 0
    tracks = None if poses.translation_tracks is None else poses.translation_tracks[stay]
    return replace(clip, poses=replace(poses, translated_bones=poses.translated_bones[stay], translation_tracks=tracks),
                   origin=None), gone  # fmt: skip


def fitting_name(name: str, rules: ClipRules, taken: set[str]) -> str:
    """The name, or the nearest to it that the platform allows and nobody has."""
    out = name
    if rules.names and not re.fullmatch(rules.names, out):
        allowed = "".join(c if re.fullmatch(rules.names, c) else "-" for c in out)
        out = re.sub("-+", "-", allowed).strip("-") or "clip"
        if not re.fullmatch(rules.names, out):
            out = out.lower()
        if not re.fullmatch(rules.names, out):
            out = "clip" if re.fullmatch(rules.names, "clip") else name
    if rules.name_longest is not None:
        out = out[: rules.name_longest].rstrip(" -_")
    bare, number = out, 2
    while out in taken:
        tail = f" {number}" if not rules.names or re.fullmatch(rules.names, f"{bare} {number}") else f"-{number}"
        out = (bare[: rules.name_longest - len(tail)] if rules.name_longest else bare) + tail
        number += 1
    return out


def thinned_clip(clip: Clip, subject: Subject, millimetres: float) -> tuple[Clip, float]:
    """The clip with keys thinned to a budget, standing feet within a millimetre; and how far it is off at most (mm)."""
    soles = soles_of(subject)
    done = thin(
        clip, millimetres=millimetres, contacts=contacts_of(subject, clip, soles),
        feet={side: sole.foot for side, sole in soles.items()},
    )  # fmt: skip
    return done.clip, done.worst_mm


def down_to_size(
    clip: Clip,
    subject: Subject,
    rules: ClipRules,
    limit_kib: float,
    most_loss_mm: float,
    size_of: Callable[[Clip], int],
) -> tuple[Clip, list[Change], bool]:
    """Keys thinned further and further, then the rate halved (if the platform allows), until the file is small enough.

    Never past ``most_loss_mm``. Gives the smallest clip, what was done, and whether it fits.
    """
    allowed = [rate_from_text_per_second(str(rate)) for rate in rules.rates]
    size = size_of(clip)
    best, changes = clip, []
    if size <= limit_kib * 1024:
        return clip, [], True
    for divisor in _LADDER_RATES:
        rate = clip.rate / divisor
        if divisor > 1 and allowed and rate not in allowed:
            continue
        slower = clip if divisor == 1 else at_rate(replace(clip, kept=None), rate)
        for budget in _LADDER_MM:
            if budget > most_loss_mm:
                break
            trial, off = thinned_clip(replace(slower, kept=None), subject, budget)
            best, after = trial, size_of(trial)
            what = f"{clip.name}: keys thinned to {budget:g} mm"
            what += f" at {text_from_rate(rate)} frames per second" if divisor > 1 else ""
            changes = [
                Change(
                    "file.motion_largest_kib", f"{what}, {size / 1024:.0f} to {after / 1024:.0f} KiB", f"{off:.2f} mm"
                )
            ]
            if after <= limit_kib * 1024:
                return best, changes, True
    return best, changes, False


def _moved(clip: Clip, swap: Swap, travel: str) -> Clip:
    """The same motion with its travel elsewhere; the rest of it, face and extras too, as it was."""
    new = swap.convert(clip, replace(AS_CARRIED, travel=travel))
    poses = clip.poses
    own = new.poses.translation_tracks
    assert own is not None  # the hips have a place
    changed = dict(zip(new.poses.translated_bones.tolist(), own, strict=True))
    carriers = clip.skeleton.with_ancestors([swap.target_side.roles.bones["hips"]])
    places = {b: poses.translation_track(b) for b in poses.translated_bones.tolist() if b not in carriers} | changed
    bones = sorted(places)
    tracks = np.stack([np.broadcast_to(places[bone], (3, clip.frames)) for bone in bones])
    rotations = poses.rotation_tracks.copy()
    for bone in carriers:
        rotations[bone] = new.poses.rotation_tracks[bone]
    made = Poses(poses.skeleton, rotations, np.array(bones, dtype=np.intp), tracks, poses.morph_tracks)
    return replace(clip, poses=made, keyed=clip.keyed | frozenset(changed), origin=None, kept=None)


def _nearest_rate(rate: Fraction, rules: ClipRules) -> Fraction:
    allowed = [rate_from_text_per_second(str(other)) for other in rules.rates]
    return rate if not allowed or rate in allowed else min(allowed, key=lambda other: abs(other - rate))


def _cut_to_length(clip: Clip, longest_s: float) -> list[Clip]:
    """Equal parts, none longer than allowed; each ends on the frame the next begins with."""
    parts = int(np.ceil((clip.duration_s - 1e-9) / longest_s))
    ends = np.linspace(0, clip.frames - 1, parts + 1).round().astype(int).tolist()
    return [span_of(clip, a, b, f"{clip.name} {number}") for number, (a, b) in enumerate(pairwise(ends), 1)]
