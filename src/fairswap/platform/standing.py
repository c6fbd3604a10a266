"""Feet that lost their toes to a platform: they stand where they stood, and roll off as they can."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from fairswap.bones.roles import SIDES
from fairswap.measure.contacts import contacts_of
from fairswap.measure.cycles import continued, cycle_of
from fairswap.measure.soles import soles_of, tilt_degrees
from fairswap.model.chain_world import ChainWorld
from fairswap.model.clip import Clip
from fairswap.pose.rigged import RiggedFigure
from fairswap.retarget.feet import plant_feet
from fairswap.retarget.few_parts import lacks_feet

# A foot on its ball that is tilted by more has its heel in the air, however low and slow that still is.
_HEEL_OFF_DEGREES = 5.0


def planted_without_toes(clip: Clip, before: RiggedFigure, fitted: Clip, after: RiggedFigure) -> Clip:
    """A clip of a figure as it was ``before``, ``fitted`` to the bones that it has ``after``: its feet are planted anew
    if those have no toes any more, which bent while it rolled off."""
    had, has = before.roles.bones, after.roles.bones
    lost = any(f"toes_{side}" in had and f"toes_{side}" not in has for side in SIDES)
    # Without a mesh nothing says where the soles of such feet are.
    if not lost or not after.figure.meshes or lacks_feet(after):
        return fitted
    span, cycles = slice(None), (cycle_of(before, clip), cycle_of(after, fitted))
    if cycles[0] is not None and cycles[1] is not None:
        clip, first = continued(before, clip, cycles[0])
        span = slice(first, first + fitted.frames)
        fitted, _ = continued(after, fitted, cycles[1])
    contacts, chain = contacts_of(before, clip), ChainWorld(clip.poses)
    if not contacts.count():
        return fitted.with_poses(fitted.poses.picked(span))
    soles, heel, floats = soles_of(before), {}, []
    for side in SIDES:
        low = np.min([track[:, 1] for track in soles[side].track_in(chain)], axis=0)
        floats.append(low[contacts.standing(side)] - before.floor_m)
        tilt = tilt_degrees(before, soles[side].foot, chain.rotation(soles[side].foot))
        heel[side] = contacts.heel[side] & ~(contacts.ball[side] & (tilt > _HEEL_OFF_DEGREES))
    edit = fitted.poses.edit()
    # As high as they stood: a clip may float a little, which is not for a platform to mend; and the body stays, too.
    floor_m = after.floor_m + max(float(np.median(np.concatenate(floats))), 0.0)
    plant_feet(after, replace(contacts, heel=heel), float(clip.rate), ChainWorld(edit), hips_stay=True, floor_m=floor_m)
    return fitted.with_poses(edit.poses().picked(span))
