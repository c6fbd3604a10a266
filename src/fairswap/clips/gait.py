"""How a figure walks in a clip: its speed, stride and cadence, over the floor or on the spot."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fairswap.bones.roles import SIDES
from fairswap.clips.features import carrier_world
from fairswap.measure.contacts import Contacts
from fairswap.model.clip import Clip
from fairswap.model.signals import runs_of

# Slower than this, in metres per second, a figure only shifts its feet.
_SLOWEST_M_S = 0.1


@dataclass(frozen=True)
class Gait:
    """How a figure walks or runs. On the spot, ``speed_m_s`` is how fast the ground has to go under it: as fast as the
    figure has to be moved. A stride is two steps, left and right."""

    on_the_spot: bool
    speed_m_s: float
    stride_m: float
    steps_a_minute: float

    def __str__(self) -> str:
        where = " on the spot" if self.on_the_spot else ""
        return f"{self.steps_a_minute:.0f} steps a minute{where}, a stride of {self.stride_m:.2f} m"


def gait_of(clip: Clip, contacts: Contacts) -> Gait | None:
    """How the figure of a clip walks, by when its feet stand; None if it does not."""
    rate = float(clip.rate)
    stances = [runs_of(contacts.standing(side)) for side in SIDES]
    downs = np.sort([start for runs in stances for start, _ in runs if start > 0])
    if not all(stances):
        return None
    first, last, steps = 0, clip.frames - 1, len(downs) - 1
    if len(downs) > 2:
        first, last = int(downs[0]), int(downs[-1])
    else:  # one cycle, in which a stance may go on from the last frame to the first
        wraps = [runs[0][0] == 0 and runs[-1][1] == clip.frames and len(runs) > 1 for runs in stances]
        steps = sum(map(len, stances)) - sum(wraps)
    seconds = (last - first) / rate
    if steps < 2 or seconds <= 0.0:
        return None
    if contacts.belt_m_s is not None:
        speed = float(np.linalg.norm(contacts.belt_m_s))
    else:
        _, position = carrier_world(clip.poses)
        speed = float(np.linalg.norm((position[last] - position[first])[[0, 2]])) / seconds
    if speed < _SLOWEST_M_S:
        return None
    cadence = 60.0 * steps / seconds
    return Gait(contacts.belt_m_s is not None, round(speed, 3), round(120.0 * speed / cadence, 3), round(cadence, 1))
