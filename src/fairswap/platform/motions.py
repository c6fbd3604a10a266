"""Clips made to fit a platform: travel, rate, length, keys, names; and the ladder down to a file size."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from fractions import Fraction
from itertools import pairwise
from string import ascii_lowercase

import numpy as np

from fairswap.clips.key_reduction import with_fewest_keys
from fairswap.clips.looping import Cycle, closed, seam_of
from fairswap.clips.resampling import at_rate
from fairswap.clips.spans import span_of
from fairswap.formats.patterns import NamePattern, fits_any
from fairswap.measure.contacts import contacts_of
from fairswap.measure.soles import soles_of
from fairswap.model.clip import Clip
from fairswap.model.rate import rate_from_text_per_second, text_from_rate
from fairswap.platform.changes import Change
from fairswap.platform.rules import ClipRules
from fairswap.pose.rigged import RiggedFigure
from fairswap.retarget.options import AS_TRANSFERRED
from fairswap.retarget.pipeline import retarget
from fairswap.retarget.record import without_its_way
from fairswap.retarget.swap import Swap

_LADDER_MM = (2.0, 3.0, 4.5, 7.0, 10.0, 15.0)
_LADDER_RATES = (1, 2, 3)
SEAM_DEGREES, _CLOSING_S = 2.0, 0.2


def fitted_clip(clip: Clip, rigged: RiggedFigure, rules: ClipRules) -> tuple[list[Clip], list[Change]]:
    """The clip (or its parts, if it is too long) as a platform wants it; keys are thinned later.

    ``rigged`` is the figure the clip moves, with its roles.
    """
    changes: list[Change] = []
    if clip.start_s > 0.0:
        changes.append(Change("clip.start", f"{clip.name}: starts at once, not after {clip.start_s:.2f} s"))
        clip = replace(clip, start_s=0.0)
    travel = travel_of(clip, rigged)
    if rules.travel != "any" and travel not in (rules.travel, "still"):
        same = RiggedFigure.of(rigged.figure, clip=clip)
        swap = Swap(same, same)
        clip = _moved(clip, swap, rules.travel)
        changes.append(Change("clip.travel", f"{clip.name}: travel from {travel} to {rules.travel}"))
    rate = _nearest_rate(clip.rate, rules)
    if rate != clip.rate:
        before = clip
        clip = at_rate(clip, rate, steady=False)
        off = abs(clip.duration_s - before.duration_s)
        what = f"{clip.name}: {text_from_rate(before.rate)} to {text_from_rate(rate)} frames per second"
        cost = f"{1000 * off:.1f} ms of its length" if off > 1e-9 else ""
        changes.append(Change("clip.rates", what, cost, off))
    if matches_any(clip.name, rules.cycles) and clip.frames > 3:
        seam = seam_of(clip, 0, clip.frames - 1)
        if seam.degrees > SEAM_DEGREES:
            clip = closed(clip, Cycle(0, clip.frames - 1, seam), _CLOSING_S)
            what = f"{clip.name}: its end brought to its start, {seam.degrees:.1f} degrees apart"
            changes.append(Change("clip.cycles", what, f"{_CLOSING_S:g} s blended", seam.degrees))
    if rules.moving == "rotations":
        clip, moved = only_rotations(clip, rigged)
        if moved:
            changes.append(Change("clip.moving", f"{clip.name}: places of {moved} bones taken out"))
    parts = [clip]
    if rules.max_seconds is not None and clip.duration_s > rules.max_seconds + 1e-6:
        parts = _cut_to_length(clip, rules.max_seconds)
        what = f"{clip.name}: {clip.duration_s:.2f} s cut into {len(parts)} parts, named {parts[0].name!r} and so on"
        changes.append(Change("clip.max_seconds", what))
    named = []
    taken: set[str] = set()
    for part in parts:
        name = fitting_name(part.name, rules, taken)
        taken.add(name)
        if name != part.name:
            changes.append(Change("clip.names", f"{part.name!r} is called {name!r}"))
        named.append(part if name == part.name else replace(part, name=name))
    return named, changes


def travel_of(clip: Clip, rigged: RiggedFigure) -> str:
    """Where a clip's ground travel is: on the ``hips``, the ``root``, ``none`` (on the spot), or ``still``."""
    hips = rigged.roles.bones["hips"]
    world = clip.world().position_tracks[hips][[0, 2]]
    way = float(np.linalg.norm(world[:, -1] - world[:, 0]))
    wide = float(np.ptp(world, axis=1).max())
    for above in clip.skeleton.with_ancestors([hips]):
        root = clip.poses.translation_track(above)
        if above != hips and root.shape[1] > 1 and np.ptp(root[[0, 2]], axis=1).max() > 0.02:
            return "root"
    if way > 0.25 * rigged.reference.leg_m or wide > 0.6 * rigged.reference.leg_m:
        return "hips"
    return "still"


def matches_any(name: str, patterns: Sequence[str]) -> bool:
    """Whether a name fits one of some patterns with ``*``, capitals or not."""
    return fits_any([pattern.lower() for pattern in patterns], name.lower())


def only_rotations(clip: Clip, rigged: RiggedFigure) -> tuple[Clip, int]:
    """The clip without places, but for hips and root; and how many bones had one."""
    edit = clip.poses.edit()
    allowed = set(clip.skeleton.with_ancestors([rigged.roles.bones["hips"]]))
    rest = clip.skeleton.rest_translations
    taken = {bone: track for bone, track in edit.translations.items() if bone not in allowed}
    if not taken:
        return clip, 0
    edit.translations = {bone: track for bone, track in edit.translations.items() if bone in allowed}
    gone = sum(bool(np.abs(track - rest[bone][:, None]).max() > 1e-5) for bone, track in taken.items())
    return clip.with_poses(edit.poses(), kept=clip.kept), gone


def fitting_name(name: str, rules: ClipRules, taken: set[str]) -> str:
    """The name, or the nearest to it that the platform allows and nobody has; where none is found, one nobody has."""
    pattern = NamePattern(rules.names or ".*")
    most = rules.max_name_length

    def cut(text: str, room: int = 0) -> str:
        return text if most is None or len(text) + room <= most else text[: max(most - room, 0)].rstrip(" -_")

    spelled = [cut(text) for text in _spellings(name, pattern)]
    bare = next((text for text in spelled if text and pattern.fits(text)), spelled[0])
    if bare not in taken:
        return bare
    numbers = range(2, len(taken) + 3)
    tails = [f"{mark}{number}" for mark in (" ", "-", "_", "") for number in numbers]
    trials = [(cut(bare, len(tail)) + tail).strip() for tail in (*tails, *ascii_lowercase)]
    free = [text for text in trials if text not in taken and (most is None or len(text) <= most)]
    return next((text for text in free if pattern.fits(text)), free[0] if free else trials[-1])


def _spellings(name: str, pattern: NamePattern) -> Iterator[str]:
    """A name, and others for it: letters that are not allowed made small or large, else a dash, a line or nothing."""
    yield name
    for other in ("-", "_", ""):
        ways = ((letter, letter.lower(), letter.upper()) for letter in name)
        text = "".join(next((way for way in three if pattern.fits(way)), other) for three in ways)
        text = re.sub(f"{other}+", other, text).strip(other) if other else text
        if text:
            yield text
    yield "clip"


def thinned_clip(clip: Clip, rigged: RiggedFigure, millimetres: float) -> tuple[Clip, float]:
    """The clip with keys thinned to a budget, standing feet within a millimetre; and how far it is off at most (mm)."""
    soles = soles_of(rigged)
    done = with_fewest_keys(
        clip, millimetres=millimetres, contacts=contacts_of(rigged, clip),
        feet={side: sole.foot for side, sole in soles.items()},
    )  # fmt: skip
    return done.clip, done.worst_mm


def down_to_size(
    clip: Clip,
    rigged: RiggedFigure,
    rules: ClipRules,
    limit_kib: float,
    max_loss_mm: float,
    size_of: Callable[[Clip], int],
) -> tuple[Clip, list[Change], bool]:
    """Keys thinned further and further, then the rate halved (if the platform allows), until the file is small enough.

    Never past ``max_loss_mm``. Gives the smallest clip, what was done, and whether it fits.
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
            if budget > max_loss_mm:
                break
            trial, off = thinned_clip(replace(slower, kept=None), rigged, budget)
            best, after = trial, size_of(trial)
            what = f"{clip.name}: keys thinned to {budget:g} mm"
            what += f" at {text_from_rate(rate)} frames per second" if divisor > 1 else ""
            what += f", {size / 1024:.0f} to {after / 1024:.0f} KiB"
            changes = [Change("file.max_motion_kib", what, f"{off:.2f} mm", off)]
            if after <= limit_kib * 1024:
                return best, changes, True
    return best, changes, False


def _moved(clip: Clip, swap: Swap, travel: str) -> Clip:
    """The same motion with its travel elsewhere; the rest of it, face and extras too, as it was."""
    found = retarget(swap, clip, replace(AS_TRANSFERRED, travel=travel))
    new = found.clip.poses
    carriers = clip.skeleton.with_ancestors([swap.target.roles.bones["hips"]])
    edit = clip.poses.edit()
    changed = new.translation_by_bone()
    edit.translations = {b: track for b, track in edit.translations.items() if b not in carriers} | changed
    for bone in carriers:
        edit.rotation_tracks[bone] = new.rotation_tracks[bone]
    made = clip.made if found.travel_taken is None else without_its_way(clip, found.travel_taken)
    return clip.with_poses(edit.poses(), keyed=clip.keyed | frozenset(changed), made=made)


def _nearest_rate(rate: Fraction, rules: ClipRules) -> Fraction:
    allowed = [rate_from_text_per_second(str(other)) for other in rules.rates]
    return rate if not allowed or rate in allowed else min(allowed, key=lambda other: abs(other - rate))


def _cut_to_length(clip: Clip, max_seconds: float) -> list[Clip]:
    """Equal parts, none longer than allowed; each ends on the frame the next begins with."""
    parts = int(np.ceil((clip.duration_s - 1e-9) / max_seconds))
    ends = np.linspace(0, clip.frames - 1, parts + 1).round().astype(int).tolist()
    return [span_of(clip, a, b, f"{clip.name} {number}") for number, (a, b) in enumerate(pairwise(ends), 1)]
