"""Hands inside the own body: for how long."""

from __future__ import annotations

import numpy as np

from fairswap.bones.roles import SIDES
from fairswap.measure.palms import palms_of
from fairswap.measure.surface import surface_of
from fairswap.model.chain_world import ChainWorld
from fairswap.model.clip import Clip
from fairswap.pose.rigged import RiggedFigure

_DEEP_M = 0.01


def seconds_inside(rigged: RiggedFigure, clip: Clip) -> float | None:
    """How long a palm is more than a centimetre inside the own body, seconds; None without a mesh that tells."""
    if not rigged.figure.meshes:
        return None
    chain = ChainWorld(clip.poses)
    inside = np.zeros(clip.frames, dtype=bool)
    palms = palms_of(rigged)
    for side in SIDES:
        point = palms[side].track(chain)
        for part in surface_of(rigged):
            height, _, distance = part.coordinates(point, chain)
            inside |= (height > 0.0) & (height < 1.0) & (distance < -_DEEP_M)
    return float(inside.mean()) * clip.frames / float(clip.rate)
