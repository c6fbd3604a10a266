"""Blinks and small nods, as people have them who speak: only on request, and the same every time.

Eyes blink at the ends of what is said and every few seconds between; the head goes down a little on loud vowels.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from fairswap.bones.roles import SIDES
from fairswap.face.speech.phones import Phone, is_vowel
from fairswap.face.units import INDEX
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.rotation import conjugate, multiply, quaternion_from_axis_angle

# A blink: how long the lids go down, stay, and come up again.
_DOWN_S, _SHUT_S, _UP_S = 0.08, 0.04, 0.14
_EVERY_S, _NO_SOONER_S = (2.8, 5.2), 1.2
_PAUSE_S = 0.15
# Nods: how far, how long each is felt, and how far apart they are at least.
_NOD_DEGREES, _NOD_S, _NODS_APART_S = 2.5, 0.16, 0.45


def with_blinks(units: Floats, rate: float, phones: Sequence[Phone]) -> Floats:
    """Units over time ``(units, frames)`` with lids that shut now and then."""
    time = np.arange(units.shape[1]) / rate
    shut = np.zeros(len(time))
    for start in _blinks(phones, float(time[-1])):
        # On a frame, and shut for one at least: what falls between frames is not seen.
        down = round((start + _DOWN_S) * rate) / rate
        held = max(_SHUT_S, 0.51 / rate)
        falling, rising = (time - (down - _DOWN_S)) / _DOWN_S, (down + held + _UP_S - time) / _UP_S
        shut = np.maximum(shut, np.clip(np.minimum(falling, rising), 0.0, 1.0))
    out = units.copy()
    for side in SIDES:
        row = out[INDEX[f"eye_closure_{side}"]]
        np.maximum(row, shut, out=row)
    return out


def nod_degrees(times_s: Floats, phones: Sequence[Phone], loudness: Floats) -> Floats:
    """How far the head is down over time, degrees: on vowels, by how loud they are (of each phone)."""
    out, last = np.zeros(len(times_s)), -np.inf
    for phone, loud in zip(phones, loudness, strict=True):
        middle = 0.5 * (phone.start_s + phone.stop_s)
        if is_vowel(phone) and middle - last >= _NODS_APART_S:
            far = _NOD_DEGREES * min(float(loud), 1.2)
            out = np.maximum(out, far * np.exp(-(((times_s - middle) / _NOD_S) ** 2)))
            last = middle
    return out


def with_nods(clip: Clip, head: int, degrees: Floats) -> Clip:
    """A clip whose head goes down so far, about the figure's left."""
    edit, skeleton = clip.poses.edit(), clip.skeleton
    parent = int(skeleton.parents[head])
    above = skeleton.rest.rotations[0, parent] if parent >= 0 else np.array([0.0, 0.0, 0.0, 1.0])
    axis = np.tile([1.0, 0.0, 0.0], (len(degrees), 1))
    turned = quaternion_from_axis_angle(axis, np.radians(degrees))
    about = multiply(multiply(conjugate(above), turned), above)
    edit.rotation_tracks[head] = multiply(about, edit.rotation_tracks[head].T).T
    return clip.with_poses(edit.poses(), keyed=clip.keyed | {head})


def _blinks(phones: Sequence[Phone], until_s: float) -> list[float]:
    """When blinks begin: where a pause does, and where none came for some seconds; from the same dice every time."""
    dice = np.random.default_rng(len(phones))
    pauses = [row.start_s for row in phones if not row.viseme and row.stop_s - row.start_s >= _PAUSE_S]
    out, due = [], float(dice.uniform(0.6, 2.0))
    for pause in [*pauses, np.inf]:
        while due < min(pause, until_s - _DOWN_S - _UP_S):
            if pause - due > _NO_SOONER_S:
                out.append(due)
            due += float(dice.uniform(*_EVERY_S))
        if pause < until_s - _DOWN_S - _UP_S and (not out or pause - out[-1] >= _NO_SOONER_S):
            out.append(pause)
            due = pause + float(dice.uniform(*_EVERY_S))
    return out
