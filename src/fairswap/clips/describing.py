"""What is in a clip: bones keyed and their range, travel, speed, stillness, contacts."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from fairswap.bones.roles import SIDES
from fairswap.clips.features import carrier_world
from fairswap.clips.gait import Gait, gait_of
from fairswap.clips.trimming import moving_frames
from fairswap.measure.contacts import Contacts, contacts_of
from fairswap.model.clip import Clip
from fairswap.model.rotation import angle_between
from fairswap.model.signals import runs_of
from fairswap.pose.rigged import RiggedFigure
from fairswap.wording import counted

if TYPE_CHECKING:
    import pandas


@dataclass(frozen=True)
class BoneFacts:
    """What one bone does in a clip: how far it turns from its first frame and from rest at most, and moves."""

    bone: str
    role: str
    keyed: bool
    range_degrees: float
    from_rest_degrees: float
    range_cm: float


@dataclass(frozen=True)
class Stance:
    """A time in which a part of a foot stands."""

    side: str
    part: str
    start_s: float
    stop_s: float


@dataclass(frozen=True)
class ClipDescription:
    """What is in a clip. ``distance_m`` is along its path over the ground, ``travel_m`` start to end; ``contacts``
    are None where bones are not known, ``gait`` also where nobody walks.

    >>> import fairswap
    >>> described = fairswap.clips.describe(fairswap.demo_motion("walk").clips[0])
    >>> described.frames, round(described.distance_m, 1), round(described.speed_m_s, 1)
    (181, 6.5, 1.1)
    """

    clip: str
    frames: int
    rate: float
    duration_s: float
    travel_m: float
    distance_m: float
    speed_m_s: float
    fastest_m_s: float
    still_fraction: float
    first_motion_s: float | None
    last_motion_s: float | None
    bones: tuple[BoneFacts, ...]
    contacts: tuple[Stance, ...] | None = None
    gait: Gait | None = None

    def __repr__(self) -> str:
        length = f"{counted(self.frames, 'frame')} at {self.rate:g}, {self.duration_s:.2f} s"
        way = f"{self.distance_m:.2f} m over the ground, {self.travel_m:.2f} m from start to end"
        walk = "" if self.gait is None else f", {self.gait}"
        return f"<ClipDescription {self.clip}: {length}, {way}{walk}>"

    def table(self) -> pandas.DataFrame:
        """The bones as a pandas table, a row for each."""
        import pandas

        return pandas.DataFrame(bone_rows([self])).set_index(["clip", "bone"])


def described(clip: Clip, rigged: RiggedFigure | None = None) -> ClipDescription:
    """A clip described; with its rigged figure also the roles of bones, and when feet stand."""
    rate = float(clip.rate)
    _, position = carrier_world(clip.poses)
    steps = np.linalg.norm(np.diff(position[:, [0, 2]], axis=0), axis=1) if clip.frames > 1 else np.zeros(1)
    moves = moving_frames(clip) >= 1.0
    roles = {} if rigged is None else rigged.role_of_bone
    contacts = None if rigged is None else contacts_of(rigged, clip)
    return ClipDescription(
        clip=clip.name,
        frames=clip.frames,
        rate=rate,
        duration_s=clip.duration_s,
        travel_m=round(float(np.linalg.norm((position[-1] - position[0])[[0, 2]])), 4),
        distance_m=round(float(steps.sum()), 4),
        speed_m_s=round(float(steps.mean() * rate), 4),
        fastest_m_s=round(float(steps.max() * rate), 4),
        still_fraction=round(float(1.0 - moves.mean()), 4),
        first_motion_s=round(float(np.argmax(moves)) / rate, 4) if moves.any() else None,
        last_motion_s=round((clip.frames - 1 - float(np.argmax(moves[::-1]))) / rate, 4) if moves.any() else None,
        bones=tuple(_bone(clip, bone, roles.get(bone, "")) for bone in range(len(clip.skeleton))),
        contacts=None if contacts is None else tuple(_stances(contacts, rate)),
        gait=None if contacts is None else gait_of(clip, contacts),
    )


def bone_table(descriptions: Iterable[ClipDescription]) -> str:
    """A CSV table with a row for each clip and bone, for spreadsheets."""
    rows = bone_rows(descriptions)
    text = io.StringIO()
    table = csv.DictWriter(text, list(rows[0]) if rows else ["clip"], lineterminator="\n")
    table.writeheader()
    table.writerows(rows)
    return text.getvalue()


def bone_rows(descriptions: Iterable[ClipDescription]) -> list[dict[str, Any]]:
    """One flat row for each clip and bone."""
    return [{"clip": row.clip, **vars(bone)} for row in descriptions for bone in row.bones]


def _bone(clip: Clip, bone: int, role: str) -> BoneFacts:
    track = clip.poses.rotation_tracks[bone].T
    away = np.degrees(angle_between(track, clip.skeleton.rest_rotations[bone]))
    turned = np.degrees(angle_between(track, track[0]))
    moved = np.ptp(clip.poses.translation_track(bone), axis=1)
    return BoneFacts(
        bone=clip.skeleton.names[bone],
        role=role,
        keyed=bone in clip.keyed,
        range_degrees=round(float(turned.max()), 3),
        from_rest_degrees=round(float(away.max()), 3),
        range_cm=round(100.0 * float(np.linalg.norm(moved)), 3),
    )


def _stances(found: Contacts, rate: float) -> Iterator[Stance]:
    for side in SIDES:
        for part, mask in (("heel", found.heel[side]), ("ball", found.ball[side])):
            for start, stop in runs_of(mask):
                yield Stance(side, part, round(start / rate, 4), round((stop - 1) / rate, 4))
