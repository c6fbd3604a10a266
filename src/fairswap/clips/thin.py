"""Fewest keys for a stated budget: in degrees for each bone, or in millimetres at the ends of the limbs.

From each key the next is the furthest one that a straight (slerped) way reaches within the budget. With a budget in
millimetres the bones get shares of it by how far they reach, and the whole is checked in the world, in all frames.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from fairswap.body.contacts import Contacts
from fairswap.bones.roles import SIDES
from fairswap.clip import Clip, KeptKeys, Poses
from fairswap.clips.motion import reach_of
from fairswap.errors import UsageError
from fairswap.kernels import Floats, Integers
from fairswap.rotation import slerp, without_sign_jumps
from fairswap.skeleton import Skeleton

_FEET_MM = 1.0
_BLOCK = 1500
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
    kept = keys_within(tracks, turns, rotation=True)
    kept[np.ptp(tracks, axis=2).max(axis=1) < _SAME, 1:] = False
    shown = np.ascontiguousarray(_shown(tracks, kept, rotation=True))
    moved = poses.translated_bones.tolist()
    places = poses.translation_tracks if poses.translation_tracks is not None else np.empty((0, 3, frames))
    kept_places = keys_within(places, np.full(len(moved), place), rotation=False)
    kept_places[np.ptp(places, axis=2).max(axis=1, initial=0.0) < _SAME, 1:] = False
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


def keys_within(tracks: Floats, budgets: Floats, rotation: bool) -> np.ndarray:
    """Which frames to keep ``(tracks, frames)``: from each key the longest way on that holds the budget, and so on.

    All tracks, in blocks of time, go on side by side; how far each gets is found by doubling and halving.
    """
    count, _, frames = tracks.shape
    kept = np.zeros((count, frames), dtype=bool)
    if not count or frames < 2:
        kept[:] = True
        return kept
    kept[:, 0] = kept[:, -1] = True
    busy = np.flatnonzero(np.ptp(tracks, axis=2).max(axis=1) >= _SAME)
    starts = np.arange(0, frames - 1, _BLOCK)
    rows = np.repeat(busy, len(starts))
    at = np.tile(starts, len(busy))
    ends = np.minimum(at + _BLOCK, frames - 1)
    kept[rows, at] = True
    reach = np.minimum(8, ends - at)  # how far the last step got: a good guess for the next
    while len(rows):
        low, high = np.ones(len(rows), dtype=np.intp), np.zeros(len(rows), dtype=np.intp)
        left = ends - at
        trial = np.clip(reach, 1, left)
        open_ = np.arange(len(rows))
        while len(open_):
            holds = _holds(tracks, rows[open_], at[open_], trial[open_], budgets, rotation)
            low[open_] = np.where(holds, trial[open_], low[open_])
            high[open_] = np.where(holds, high[open_], trial[open_])
            done = (low == left) | ((high > 0) & (high - low <= 1)) | ((low == 1) & (high == 1))
            open_ = open_[~done[open_]]
            trial = np.where(high == 0, np.minimum(2 * low, left), (low + high) // 2)
        at = at + low
        reach = low
        kept[rows, at] = True
        going = at < ends
        rows, at, ends, reach = rows[going], at[going], ends[going], reach[going]
    return kept


def _holds(
    tracks: Floats, rows: Integers, start: Integers, length: Integers, budgets: Floats, rotation: bool
) -> np.ndarray:
    """Whether the straight way over ``length`` frames from ``start`` holds the budget, for many tracks at once."""
    out = np.ones(len(rows), dtype=bool)
    size = np.ceil(np.log2(np.maximum(length, 2))).astype(np.intp)
    for power in np.unique(size[length > 1]).tolist():
        mine = np.flatnonzero((size == power) & (length > 1))
        steps = np.arange(1, int(length[mine].max()))
        share = np.minimum(steps / length[mine, None], 1.0)
        row, first = rows[mine], start[mine]
        a, b = tracks[row, :, first], tracks[row, :, first + length[mine]]
        between = tracks[row[:, None], :, np.minimum(first[:, None] + steps, (first + length[mine])[:, None])]
        if rotation:
            angle = np.arccos(np.clip(np.einsum("rc,rc->r", a, b), -1.0, 1.0))[:, None]
            sine = np.sin(angle)
            flat = sine < 1e-6
            safe = np.where(flat, 1.0, sine)
            weight_a = np.where(flat, 1.0 - share, np.sin((1.0 - share) * angle) / safe)
            weight_b = np.where(flat, share, np.sin(share * angle) / safe)
            cosine = weight_a * np.einsum("rc,rsc->rs", a, between) + weight_b * np.einsum("rc,rsc->rs", b, between)
            off = 2.0 * np.arccos(np.clip(cosine, -1.0, 1.0))
        else:
            off = np.linalg.norm(a[:, None] + (b - a)[:, None] * share[..., None] - between, axis=2)
        out[mine] = (off <= budgets[row, None]).all(axis=1)
    return out


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
