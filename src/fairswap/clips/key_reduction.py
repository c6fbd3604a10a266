"""Fewest keys for a stated budget: in degrees for each bone, or in millimetres at the ends of the limbs.

From each key the next is the furthest one that a straight (slerped) way reaches within the budget. With a budget in
millimetres the bones get shares of it by how far they reach, and the whole is checked in the world, in all frames.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from fairswap.bones.roles import SIDES
from fairswap.clips.features import reach_of
from fairswap.errors import UsageError
from fairswap.measure.contacts import Contacts
from fairswap.model.arrays import Floats, Integers
from fairswap.model.clip import Clip, KeptKeys
from fairswap.model.poses import Poses
from fairswap.model.rotation import slerp, without_sign_jumps
from fairswap.model.skeleton import Skeleton

_FEET_MM = 1.0
_APART = 300  # frames between walkers
_FURTHEST = 2000  # frames: a way longer than that is cut
_TRIES = 12
_AT_ONCE = 1_000_000  # frames looked at in one go, which bounds memory
_SAME = 1e-6


@dataclass(frozen=True, eq=False)
class Thinned:
    """Which frames of which tracks are kept as keys, and how far the result is off.

    ``clip.kept`` gives the frames of each bone's keys. ``worst_mm`` is over all bones and frames in the
    world, ``feet_mm`` over standing feet (None without contacts), ``worst_degrees`` over all bones' own turns.

    >>> import fairswap
    >>> thinned = fairswap.clips.thin(fairswap.demo_motion("walk").clips[0], degrees=0.1)
    >>> round(thinned.worst_degrees, 3) <= 0.1
    True
    """

    clip: Clip
    worst_degrees: float
    worst_mm: float
    feet_mm: float | None

    @property
    def keys(self) -> int:
        """How many keys are left."""
        kept = self.clip.kept
        return 0 if kept is None else sum(map(len, (*kept.rotations.values(), *kept.translations.values())))


def with_fewest_keys(
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
    reach = reach_of(skeleton)
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
    for _ in range(_TRIES):
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
    else:  # a promise is a promise: every frame stays a key
        result = _thinned(clip, np.zeros(len(skeleton)), 0.0, world, contacts, feet)
    return result


def _thinned(
    clip: Clip, turns: Floats, place: float, world: Floats, contacts: Contacts | None, feet: Mapping[str, int] | None
) -> Thinned:
    poses = clip.poses
    tracks = np.stack([without_sign_jumps(track) for track in poses.rotation_tracks])
    kept = keys_within(tracks, turns, rotation=True)
    kept[np.ptp(tracks, axis=2).max(axis=1) < _SAME, 1:] = False
    shown = np.ascontiguousarray(_shown(tracks, kept, rotation=True))
    moved = poses.translated_bones.tolist()
    places = poses.translation_tracks
    kept_places = keys_within(places, np.full(len(moved), place), rotation=False)
    kept_places[np.ptp(places, axis=2).max(axis=1, initial=0.0) < _SAME, 1:] = False
    shown_places = _shown(places, kept_places, rotation=False)
    new = Poses(poses.skeleton, shown, poses.translated_bones, shown_places, poses.morph_tracks, poses.beside)
    off = np.linalg.norm(new.world().position_tracks - world, axis=1)
    dots = np.minimum(np.abs(np.einsum("bcf,bcf->bf", shown, tracks)), 1.0)
    feet_mm = None
    if contacts is not None and feet is not None:
        standing = [off[feet[side]][contacts.standing(side)] for side in SIDES if side in feet]
        feet_mm = 1000.0 * max((float(row.max()) for row in standing if len(row)), default=0.0)
    turns_at = {bone: np.flatnonzero(row) for bone, row in enumerate(kept)}
    places_at = {bone: np.flatnonzero(row) for bone, row in zip(moved, kept_places, strict=True)}
    return Thinned(
        clip.with_poses(new, kept=KeptKeys(turns_at, places_at)),
        float(np.degrees(2.0 * np.arccos(dots.min(initial=1.0)))),
        1000.0 * float(off.max(initial=0.0)),
        feet_mm,
    )


def keys_within(tracks: Floats, budgets: Floats, rotation: bool) -> np.ndarray:
    """Which frames to keep ``(tracks, frames)``: from each key the longest way on that holds the budget, and so on.

    The way on from a frame does not depend on how one came there. So many walkers start along each track and go on
    side by side; one that comes to where another has been stops, and the chain of keys is read off at the end.
    """
    count, _, frames = tracks.shape
    kept = np.zeros((count, frames), dtype=bool)
    if not count or frames < 2:
        kept[:] = True
        return kept
    kept[:, 0] = kept[:, -1] = True
    busy = np.flatnonzero(np.ptp(tracks, axis=2).max(axis=1) >= _SAME)
    parts = [np.ascontiguousarray(part) for part in tracks[busy].swapaxes(0, 1)]
    onward = np.zeros((len(busy), frames), dtype=np.int32)  # how far the longest way from each frame goes
    starts = np.arange(0, frames - 1, _APART)
    rows, at = np.repeat(np.arange(len(busy)), len(starts)), np.tile(starts, len(busy))
    guess = np.full(len(rows), 8)
    while len(rows):
        reached = _ways_on(parts, rows, at, guess, budgets[busy[rows]], rotation)
        onward[rows, at] = reached
        at = at + reached
        going = at < frames - 1
        going[going] = onward[rows[going], at[going]] == 0
        going[going] = _first_of_each(rows[going] * frames + at[going])
        rows, at, guess = rows[going], at[going], reached[going]
    rows, at = np.arange(len(busy)), np.zeros(len(busy), dtype=np.intp)
    while len(rows):
        at = at + onward[rows, at]
        kept[busy[rows], at] = True
        rows, at = rows[at < frames - 1], at[at < frames - 1]
    return kept


def _first_of_each(values: Integers) -> np.ndarray:
    """A mask of the first of equal values each."""
    out = np.zeros(len(values), dtype=bool)
    out[np.unique(values, return_index=True)[1]] = True
    return out


def _ways_on(
    parts: list[Floats], rows: Integers, at: Integers, guess: Integers, budgets: Floats, rotation: bool
) -> Integers:
    """How many frames the longest way on from ``at`` goes, on which no frame is off by more than its budget.

    What lies ahead is unrolled into the plane of its rotation vectors (the logarithm at the key), where the evenly
    turned way is a straight line. Rotations are never further apart than their vectors, so a budget that holds for
    these holds; over the short ways between keys hardly a key is lost by it.
    """
    frames = parts[0].shape[1]
    left = np.minimum(frames - 1 - at, _FURTHEST)
    reached = np.ones(len(rows), dtype=np.intp)
    power = np.ceil(np.log2(1.5 * guess + 1.0)).astype(np.intp)
    open_ = np.arange(len(rows))
    while len(open_):  # those that got to the end of their window look on, twice as far
        for size in np.unique(power[open_]).tolist():
            group = open_[power[open_] == size]
            for some in np.array_split(group, len(group) * 2**size // _AT_ONCE + 1):
                window = np.minimum(2**size, left[some])
                ahead = _unrolled(parts, rows[some], at[some], window, rotation)
                reached[some] = _furthest(ahead, window, guess[some], budgets[some])
        open_ = open_[(reached[open_] >= 2 ** power[open_]) & (reached[open_] < left[open_])]
        power[open_] += 1
    return reached


def _unrolled(parts: list[Floats], rows: Integers, at: Integers, window: Integers, rotation: bool) -> Floats:
    """What lies 1, 2, … ``window`` frames ahead of ``at``, as seen from there: ``(walkers, 3, frames)``."""
    steps = np.arange(1, int(window.max()) + 1)
    first = rows * parts[0].shape[1] + at
    index = first[:, None] + np.minimum(steps, window[:, None])
    here = [part.ravel()[first][:, None] for part in parts]
    there = [part.ravel()[index] for part in parts]
    out = np.empty((len(first), 3, len(steps)))
    if not rotation:
        for axis in range(3):
            np.subtract(there[axis], here[axis], out=out[:, axis])
        return out
    (x, y, z, w), (a, b, c, d) = here, there
    out[:, 0] = w * a - x * d - y * c + z * b
    out[:, 1] = w * b - y * d - z * a + x * c
    out[:, 2] = w * c - z * d - x * b + y * a
    cosine = w * d + x * a + y * b + z * c
    sine = np.sqrt(np.einsum("wcf,wcf->wf", out, out))
    tiny = sine < 1e-9
    out *= np.where(tiny, 2.0, 2.0 * np.arctan2(sine, cosine) / np.where(tiny, 1.0, sine))[:, None]
    return out


def _furthest(ahead: Floats, window: Integers, guess: Integers, budgets: Floats) -> Integers:
    """The longest straight way in each window on which no frame is off by more than its budget.

    From the guess by doubling, then by halving, for all walkers at once.
    """
    steps = np.arange(1, ahead.shape[2] + 1)
    squares = np.einsum("wcf,wcf->wf", ahead, ahead)
    allowed = np.square(budgets)
    low, high = np.ones(len(ahead), dtype=np.intp), window + 1
    trial = np.clip(guess, 1, window)
    open_ = np.flatnonzero(window > 1)
    while len(open_):
        length = trial[open_]
        here = np.arange(len(open_))
        mine, square = (ahead, squares) if len(open_) == len(ahead) else (ahead[open_], squares[open_])
        fraction = steps / length[:, None]
        along = np.einsum("wc,wcf->wf", mine[here, :, length - 1], mine)
        off = fraction * (fraction * square[here, length - 1][:, None] - 2.0 * along) + square
        holds = (np.where(fraction < 1.0, off, 0.0).max(axis=1) <= allowed[open_]) | (length == 1)
        low[open_] = np.where(holds, length, low[open_])
        high[open_] = np.where(holds, high[open_], length)
        open_ = open_[high[open_] - low[open_] > 1]
        no_end = high == window + 1
        trial = np.where(no_end, np.minimum(2 * low, window), (low + high) // 2)
    return low


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
    single = kept.sum(axis=1) == 1
    out = np.repeat(tracks[..., :1], kept.shape[1], axis=2)
    tracks, kept = tracks[~single], kept[~single]
    before, after = _brackets(kept)
    fraction = (np.arange(kept.shape[1]) - before) / np.maximum(after - before, 1)
    rows = np.arange(len(tracks))[:, None]
    a, b = tracks[rows, :, before], tracks[rows, :, after]  # (tracks, frames, n)
    shown = slerp(a, b, fraction) if rotation else a + (b - a) * fraction[..., None]
    out[~single] = shown.transpose(0, 2, 1)
    return out


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
