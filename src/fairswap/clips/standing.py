"""Feet that stand where two clips go over into each other: planted there, and left alone elsewhere."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from fairswap.bones.roles import SIDES
from fairswap.measure.contacts import Contacts
from fairswap.model.chain_world import ChainWorld
from fairswap.model.clip import Clip
from fairswap.model.rotation import slerp
from fairswap.model.signals import nearness, runs_of
from fairswap.pose.rigged import RiggedFigure
from fairswap.retarget.feet import plant_feet

_EASE_S = 0.25


def in_place(found: Contacts, at: int, frames: int) -> Contacts:
    """The contacts of a clip that begins at frame ``at`` of one of ``frames``."""
    heel, ball = ({side: _padded(row, at, frames) for side, row in part.items()} for part in (found.heel, found.ball))
    return replace(found, heel=heel, ball=ball)


def _padded(row: np.ndarray, at: int, frames: int) -> np.ndarray:
    out = np.zeros(frames, dtype=bool)
    out[at : at + len(row)] = row[: max(frames - at, 0)]
    return out


def standing_of(first: Contacts, second: Contacts, later: np.ndarray) -> Contacts:
    """The contacts of ``second`` in the frames ``later``, of ``first`` in the others."""
    heel, ball = (
        {side: np.where(later, b[side], a[side]) for side in SIDES}
        for a, b in ((first.heel, second.heel), (first.ball, second.ball))
    )
    belts = [found.belt_m_s for found in (first, second) if found.belt_m_s is not None]
    return replace(first, heel=heel, ball=ball, belt_m_s=np.mean(belts, axis=0) if len(belts) == 2 else None)


def with_standing_feet(rigged: RiggedFigure, clip: Clip, contacts: Contacts, inside: np.ndarray) -> Clip:
    """The clip with feet planted as ``contacts`` say in the frames ``inside``; elsewhere nothing changes.

    A stance that reaches out of them is planted as a whole: its place may differ from where the foot was before.
    """
    edit = clip.poses.edit()
    plant_feet(rigged, contacts, float(clip.rate), ChainWorld(edit))
    planted = inside.copy()
    for side in SIDES:
        for start, stop in runs_of(contacts.standing(side)):
            planted[start:stop] |= inside[start:stop].any()
    fraction = nearness(planted, _EASE_S * float(clip.rate))
    before = clip.poses
    mixed = slerp(before.rotation_tracks.transpose(0, 2, 1), edit.rotation_tracks.transpose(0, 2, 1), fraction)
    edit.rotation_tracks = np.ascontiguousarray(mixed.transpose(0, 2, 1))
    for bone, track in before.translation_by_bone().items():
        edit.translations[bone] = track * (1.0 - fraction) + edit.translations[bone] * fraction
    return clip.with_poses(edit.poses())
