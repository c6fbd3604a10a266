"""What is in a clip: bones keyed and their range, travel, speed, stillness, contacts; as plain data and as a table."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

import numpy as np

from fairswap.body.carried import contacts_of
from fairswap.body.contacts import Contacts
from fairswap.body.soles import soles_of
from fairswap.body.subject import Subject
from fairswap.body.tracks import runs_of
from fairswap.bones.roles import SIDES
from fairswap.clip import Clip
from fairswap.clips.motion import carrier_world
from fairswap.clips.trim import moving_frames
from fairswap.rotation import angle_between

if TYPE_CHECKING:
    import pandas


def described(clip: Clip, subject: Subject | None = None) -> dict[str, Any]:
    """A clip as plain data; with a ``subject`` (its figure, bones known) also its roles and when feet stand."""
    rate = float(clip.rate)
    _, place = carrier_world(clip.poses)
    steps = np.linalg.norm(np.diff(place[:, [0, 2]], axis=0), axis=1) if clip.frames > 1 else np.zeros(1)
    moves = moving_frames(clip) >= 1.0
    roles = {} if subject is None else {bone: role for role, bone in subject.roles.bones.items()}
    out: dict[str, Any] = {
        "clip": clip.name,
        "frames": clip.frames,
        "rate": round(rate, 6),
        "duration_s": round(clip.duration_s, 6),
        "travel_m": round(float(np.linalg.norm((place[-1] - place[0])[[0, 2]])), 4),
        "way_m": round(float(steps.sum()), 4),
        "speed_m_s": round(float(steps.mean() * rate), 4),
        "fastest_m_s": round(float(steps.max() * rate), 4),
        "still_share": round(float(1.0 - moves.mean()), 4),
        "first_motion_s": round(float(np.argmax(moves)) / rate, 4) if moves.any() else None,
        "last_motion_s": round((clip.frames - 1 - float(np.argmax(moves[::-1]))) / rate, 4) if moves.any() else None,
        "bones": [_bone(clip, bone, roles.get(bone, "")) for bone in range(len(clip.skeleton))],
        "contacts": None,
    }
    if subject is not None:
        out["contacts"] = _contacts(contacts_of(subject, clip, soles_of(subject)), rate)
    return out


def bone_rows(descriptions: Iterable[dict[str, Any]]) -> list[dict[str, Any]]:
    """One flat row for each clip and bone, for spreadsheets."""
    return [{"clip": row["clip"], **bone} for row in descriptions for bone in row["bones"]]


def bone_table(descriptions: Iterable[dict[str, Any]]) -> pandas.DataFrame:
    """What :func:`described` says of the bones of clips, as a pandas table with a row for each clip and bone.

    Needs pandas: ``pip install "fairswap[table]"``.
    """
    import pandas

    return pandas.DataFrame(bone_rows(descriptions)).set_index(["clip", "bone"])


def _bone(clip: Clip, bone: int, role: str) -> dict[str, Any]:
    track = clip.poses.rotation_tracks[bone].T
    away = np.degrees(angle_between(track, clip.skeleton.rest_rotations[bone]))
    turned = np.degrees(angle_between(track, track[0]))
    place = clip.poses.translation_track(bone)
    return {
        "bone": clip.skeleton.names[bone],
        "role": role,
        "keyed": bone in clip.keyed,
        "range_degrees": round(float(turned.max()), 3),
        "from_rest_degrees": round(float(away.max()), 3),
        "range_cm": round(100.0 * float(np.linalg.norm(np.ptp(place, axis=1))), 3),
    }


def _contacts(found: Contacts, rate: float) -> list[dict[str, Any]]:
    rows = []
    for side in SIDES:
        for part, mask in (("heel", found.heel[side]), ("ball", found.ball[side])):
            rows += [
                {"side": side, "part": part, "start_s": round(a / rate, 4), "stop_s": round((b - 1) / rate, 4)}
                for a, b in runs_of(mask)
            ]
    return rows
