"""Fewest keys for a stated budget: in degrees for each bone, or in millimetres at the ends of the limbs.

Each track is split where it is furthest from a straight (slerped) way between its keys, until all frames are near
enough (Douglas and Peucker 1973, for all tracks and segments at once); then keys that are not needed are taken out
again. With a budget in millimetres the bones get shares of it by how far they reach, and the whole is checked in the
world, in all frames.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from fairswap.body.contacts import Contacts
from fairswap.bones.roles import SIDES
from fairswap.clip import Clip, KeptKeys, Poses
from fairswap.errors import UsageError
from fairswap.kernels import Floats, Integers
from fairswap.rotation import slerp, without_sign_jumps
from fairswap.skeleton import Skeleton

_FEET_MM = 1.0
_SAME = 1e-6


@dataclass(frozen=True, eq=False)
class Thinned:
    """Which frames of which tracks are kept as keys, and how far the result is off.

    ``clip.kept`` gives the frames of each bone's keys. ``worst_mm`` is over all bones and frames in the
    world, ``feet_mm`` over standing feet (None without contacts), ``worst_degrees`` over all bones' own turns.
    """

    clip: Clip
    worst_degrees: float
    worst_mm: float
    feet_mm: float | None

    @property
    def keys(self) -> int:
        """How many keys are left."""
        kept = self.clip.kept
        return 0 if kept is None else sum(map(len, (*kept.rotations.values(), *kept.places.values())))


def thin(
    clip: Clip,
    *,
    degrees: float | None = None,
    millimetres: float | None = None,
    contacts: Contacts | None = None,
    feet: Mapping[str, int] | None = None,
) -> Thinned:
    """Keep the fewest keys within a budget; the clip given back is what they show, frame by frame.

    Parameters
    ----------
    degrees : float
        The most that any bone's own turn may be off; or
    millimetres : float
        the most that any bone may be off in the world. Exactly one of them.
    contacts, feet : optional
        When feet stand, and the foot bones by side: standing feet stay within a millimetre (and the budget).

    Raises
    ------
    UsageError
        If there is no budget, or two.
    """
    given = [value for value in (degrees, millimetres) if value is not None]
    if len(given) != 1 or not np.isfinite(given[0]) or given[0] <= 0.0:
        raise UsageError("thinning takes one budget above zero", remedy="Give degrees, or millimetres")
    skeleton = clip.skeleton
    reach = _reach(skeleton)
    world = clip.world().position_tracks
    if degrees is not None:
        turn_budget, place_budget = np.full(len(skeleton), np.radians(degrees)), 0.001
    else:
        assert millimetres is not None
        # A bone's turn moves all beyond it, and errors add up along the limb.
        deep = _depth(skeleton)
        turn_budget = 0.001 * millimetres / (np.maximum(reach, 0.02) * np.sqrt(np.maximum(deep, 1.0)))
        place_budget = 0.25 * 0.001 * millimetres
    legs = _leg_bones(skeleton, feet)
    stricter = np.ones(len(skeleton))
    for _ in range(12):
        result = _thinned(clip, turn_budget * stricter, place_budget * float(stricter.min()), world, contacts, feet)
        too_far = millimetres is not None and result.worst_mm > millimetres
        slipping = result.feet_mm is not None and result.feet_mm > min(_FEET_MM, millimetres or _FEET_MM)
        if not too_far and not slipping:
            break
        if too_far:
            assert millimetres is not None
            stricter *= max(0.5, 0.9 * millimetres / result.worst_mm)
        elif result.feet_mm is not None:
            stricter[legs] *= max(0.4, 0.9 * _FEET_MM / result.feet_mm)
    return result


def _thinned(
    clip: Clip, turns: Floats, place: float, world: Floats, contacts: Contacts | None, feet: Mapping[str, int] | None
) -> Thinned:
    poses, frames = clip.poses, clip.frames
    tracks = np.stack([without_sign_jumps(track) for track in poses.rotation_tracks])
    kept = _keys(tracks, turns, rotation=True)
    shown = np.ascontiguousarray(_shown(tracks, kept, rotation=True))
    moved = poses.translated_bones.tolist()
    places = poses.translation_tracks if poses.translation_tracks is not None else np.empty((0, 3, frames))
    kept_places = _keys(places, np.full(len(moved), place), rotation=False)
    shown_places = _shown(places, kept_places, rotation=False)
    new = Poses(poses.skeleton, shown, poses.translated_bones, shown_places, poses.morph_tracks)
    off = np.linalg.norm(new.world().position_tracks - world, axis=1)
    dots = np.minimum(np.abs(np.einsum("bcf,bcf->bf", shown, tracks)), 1.0)
    feet_mm = None
    if contacts is not None and feet is not None:
        standing = [off[feet[side]][contacts.stands(side)] for side in SIDES if side in feet]
        feet_mm = 1000.0 * max((float(row.max()) for row in standing if len(row)), default=0.0)
    turns_at = {bone: np.flatnonzero(row) for bone, row in enumerate(kept)}
    places_at = {bone: np.flatnonzero(row) for bone, row in zip(moved, kept_places, strict=True)}
    return Thinned(
        replace(clip, poses=new, origin=None, kept=KeptKeys(turns_at, places_at)),
        float(np.degrees(2.0 * np.arccos(dots.min(initial=1.0)))),
        1000.0 * float(off.max(initial=0.0)),
        feet_mm,
    )


def _keys(tracks: Floats, budgets: Floats, rotation: bool) -> np.ndarray:
    """Which frames to keep ``(tracks, frames)``, so that what is between is within the budgets."""
    count, _, frames = tracks.shape
    kept = np.zeros((count, frames), dtype=bool)
    if not count:
        return kept
    kept[:, 0] = kept[:, -1] = True
    constant = np.ptp(tracks, axis=2).max(axis=1) < _SAME
    open_rows = np.flatnonzero(~constant)
    while len(open_rows):
        off = _off(tracks[open_rows], kept[open_rows], rotation)
        ratio = off / budgets[open_rows, None]
        worst = _worst_between(kept[open_rows], ratio)
        rows, at = np.nonzero(worst & (ratio > 1.0))
        kept[open_rows[rows], at] = True
        open_rows = open_rows[np.unique(rows)]
    busy = np.flatnonzero(~constant)
    for parity in (0, 1, 0, 1, 0, 1):
        busy = _without_needless(tracks, budgets, kept, busy, parity, rotation)
    kept[constant, 1:] = False
    return kept


def _without_needless(
    tracks: Floats, budgets: Floats, kept: np.ndarray, rows: Integers, parity: int, rotation: bool
) -> Integers:
    """Take out every other key without which its two neighbours still hold the budget."""
    trial = kept.copy()
    order = np.cumsum(kept, axis=1)
    inner = kept.copy()
    inner[:, [0, -1]] = False
    candidates = inner & (order % 2 == parity)
    trial &= ~candidates
    off = _off(tracks[rows], trial[rows], rotation) / budgets[rows, None]
    # Of each stretch between the keys of the trial the worst frame decides whether its candidate may go.
    stretch = np.cumsum(trial[rows], axis=1)
    for number, row in enumerate(rows.tolist()):
        worst = np.zeros(int(stretch[number, -1]) + 1)
        np.maximum.at(worst, stretch[number], off[number])
        gone = candidates[row] & (worst[stretch[number]] <= 1.0)
        kept[row] &= ~gone
    return rows


def _brackets(kept: np.ndarray) -> tuple[Integers, Integers]:
    """The key at or before, and the one at or after, each frame."""
    frames = np.arange(kept.shape[1])
    before = np.maximum.accumulate(np.where(kept, frames, 0), axis=1)
    after = np.minimum.accumulate(np.where(kept, frames, kept.shape[1] - 1)[:, ::-1], axis=1)[:, ::-1]
    return before, after


def _shown(tracks: Floats, kept: np.ndarray, rotation: bool) -> Floats:
    """What the keys show in every frame."""
    if not len(tracks):
        return tracks
    before, after = _brackets(kept)
    frames = np.arange(kept.shape[1])
    share = (frames - before) / np.maximum(after - before, 1)
    rows = np.arange(len(tracks))[:, None]
    last = kept.sum(axis=1) == 1
    after = np.where(last[:, None], before, after)
    a, b = tracks[rows, :, before], tracks[rows, :, after]  # (tracks, frames, n)
    out = slerp(a, b, share) if rotation else a + (b - a) * share[..., None]
    return out.transpose(0, 2, 1)


def _off(tracks: Floats, kept: np.ndarray, rotation: bool) -> Floats:
    """How far what the keys show is off ``(tracks, frames)``: radians, or metres."""
    shown = _shown(tracks, kept, rotation)
    if not rotation:
        return np.asarray(np.linalg.norm(shown - tracks, axis=1))
    # By the chord: the angle is four times its half, for small ones; never too small for large ones.
    chord = np.linalg.norm(shown - tracks, axis=1)
    return np.asarray(4.0 * np.arcsin(np.minimum(0.5 * chord, 1.0)))


def _worst_between(kept: np.ndarray, ratio: Floats) -> np.ndarray:
    """The worst frame of each stretch between keys."""
    before, _ = _brackets(kept)
    flat = (np.arange(len(kept))[:, None] * kept.shape[1] + before).ravel()
    order = np.lexsort((-ratio.ravel(), flat))
    first = np.ones(len(order), dtype=bool)
    first[1:] = flat[order][1:] != flat[order][:-1]
    out = np.zeros(ratio.size, dtype=bool)
    out[order[first]] = True
    return out.reshape(ratio.shape)


def _reach(skeleton: Skeleton) -> Floats:
    """How far the furthest bone below each is from it at most, metres."""
    own = np.linalg.norm(skeleton.rest_translations, axis=1)
    far = np.zeros(len(skeleton))
    for bone in range(len(skeleton) - 1, 0, -1):
        parent = int(skeleton.parents[bone])
        if parent >= 0:
            far[parent] = max(far[parent], own[bone] + far[bone])
    return far


def _depth(skeleton: Skeleton) -> Floats:
    """The most bones there are on a way from a root through each bone to an end."""
    up = np.ones(len(skeleton))
    for bone, parent in enumerate(skeleton.parents.tolist()):
        if parent >= 0:
            up[bone] = up[parent] + 1
    deepest = up.copy()
    for bone in range(len(skeleton) - 1, 0, -1):
        parent = int(skeleton.parents[bone])
        if parent >= 0:
            deepest[parent] = max(deepest[parent], deepest[bone])
    return deepest


def _leg_bones(skeleton: Skeleton, feet: Mapping[str, int] | None) -> list[int]:
    return skeleton.with_ancestors(feet.values()) if feet else []
