"""Extra bones that swing: tails, skirts, hair, ears, that no source moves, follow the body like damped pendulums.

The far end of a bone is drawn to where it would rest on its parent, and hangs as it rested; it lags, swings on and
comes to rest. That is a linear system, so its motion is the way of the parent folded with one response (a damped
oscillation), for all frames at once, at a rate of its own: the same at any frame rate. A chain is gone down bone by
bone. What would be inside the trunk or the thighs is put on their surface.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from fairswap.errors import UsageError
from fairswap.formats.patterns import fits_any
from fairswap.measure.surface import BodyPart, surface_of
from fairswap.model.arrays import Floats
from fairswap.model.chain_world import ChainWorld
from fairswap.model.poses import PoseBuilder
from fairswap.model.rotation import (
    conjugate,
    multiply,
    normalized,
    quaternion_between,
    quaternion_from_axis_angle,
    rotate,
)
from fairswap.model.signals import smoothed, widest
from fairswap.model.space import AHEAD, UP
from fairswap.pose.rigged import RiggedFigure

# Swings a second, and how much of one is damped away; by how much the rest direction is that under gravity.
_SWINGS_HZ, _DAMPING, _HANGS = 1.4, 0.4, 0.5
# By how much of an acceleration it lags (the air takes the rest), and how far at most, in its own length.
_YIELDS, _FURTHEST = 0.5, 0.8
# The rate of its own, and how long a swing is followed.
_OWN_HZ, _LONGEST_S, _SMOOTH_S = 240.0, 3.0, 0.04
_MOST_DEGREES, _CLEAR_M, _EVEN_S = 75.0, 0.004, 0.12


def swinging_bones(target: RiggedFigure, names: Sequence[str], moved: frozenset[int]) -> list[int]:
    """The bones without a role that are meant by names (``skirt*``; ``*`` is all), parents first.

    Raises
    ------
    UsageError
        If a name means none.
    """
    skeleton = target.skeleton
    # Pieces of limbs that are cut in two, and all else that a part of the body hangs on, do not swing.
    taken = set(skeleton.with_ancestors(target.role_of_bone)) | set(target.roles.helpers) | set(skeleton.ends) | moved
    free = [bone for bone in range(len(skeleton)) if bone not in taken and _hangs_on_body(target, bone)]
    for name in names:
        if not any(fits_any([name], skeleton.names[bone]) for bone in free):
            have = ", ".join(skeleton.names[bone] for bone in free[:12]) or "none"
            problem = f"no extra bone of {target.title} that rests is called {name!r}"
            raise UsageError(problem, remedy=f"It has {have}; * means all")
    return [bone for bone in free if fits_any(names, skeleton.names[bone])]


def _hangs_on_body(target: RiggedFigure, bone: int) -> bool:
    return any(above in target.role_of_bone for above in target.skeleton.with_ancestors([bone])[:-1])


def sway(target: RiggedFigure, bones: Sequence[int], rate: float, chain: ChainWorld) -> None:
    """Let these bones of ``chain`` swing, in place."""
    parts = surface_of(target) if target.figure.meshes else []
    rest = target.resting_world
    for bone in bones:
        far = _far_end(target, bone)
        length = float(np.linalg.norm(far))
        if length < 1e-6:
            continue
        parent = int(target.skeleton.parents[bone])
        above, local = chain.rotation(parent), target.resting_rotations[bone]
        carried = rotate(multiply(above, local), far / length)
        # As it rests under gravity: leaning and bending do not take it along, turning does.
        turned = multiply(above, conjugate(rest.rotations[0, parent]))
        heading = rotate(turned, AHEAD)
        facing = quaternion_from_axis_angle(UP, np.arctan2(heading[:, 0], heading[:, 2]))
        hanging = rotate(facing, rotate(rest.rotations[0, bone], far / length))
        drawn = normalized((1.0 - _HANGS) * carried + _HANGS * hanging)
        swung = _swung(length * drawn, chain.position(bone), rate)
        swung = _within(normalized(swung), carried)
        tip = _kept_out(target, parts, chain.position(bone) + length * swung, bone, far, rate, chain)
        swung = normalized(tip - chain.position(bone))
        chain.turn(bone, multiply(quaternion_between(carried, swung), multiply(above, local)))


def _far_end(target: RiggedFigure, bone: int) -> Floats:
    """Where a bone ends, in its own frame: at its child, or as far on as its parent is long."""
    skeleton = target.skeleton
    children = list(skeleton.children[bone])
    if children:
        return np.asarray(skeleton.rest_translations[children].mean(axis=0))
    back = rotate(conjugate(target.resting_rotations[bone]), skeleton.rest_translations[bone])
    return np.asarray(back)


def _swung(drawn: Floats, joint: Floats, rate: float) -> Floats:
    """Where the far end is against its joint ``(frames, 3)``, when it is ``drawn`` there and the ``joint`` moves.

    ``r'' = -w² (r - drawn) - 2 z w r' - joint''``: the response of a damped oscillator to ``drawn - joint'' / w²``.
    """
    frames = len(drawn)
    if frames < 2:
        return drawn
    times = np.arange(int((frames - 1) / rate * _OWN_HZ) + 1) / _OWN_HZ
    at = times * rate
    index = np.minimum(at.astype(np.intp), frames - 2)
    part = (at - index)[:, None]
    fine_drawn, fine_joint = (track[index] * (1.0 - part) + track[index + 1] * part for track in (drawn, joint))
    # A straight line between frames has no acceleration but in jerks.
    fine_drawn, fine_joint = (smoothed(track, _SMOOTH_S * _OWN_HZ) for track in (fine_drawn, fine_joint))
    pushed = np.zeros_like(fine_joint)
    pushed[1:-1] = (fine_joint[2:] - 2.0 * fine_joint[1:-1] + fine_joint[:-2]) * _OWN_HZ**2
    swing = 2.0 * np.pi * _SWINGS_HZ
    # However hard it is pulled, it does not go further than it is long.
    push = -_YIELDS * pushed / swing**2
    most = _FURTHEST * np.linalg.norm(drawn[0])
    far = np.linalg.norm(push, axis=1)[:, None]
    asked = fine_drawn + push * (most * np.tanh(far / most) / np.maximum(far, 1e-9))
    # Before the first frame it hung where it is drawn then.
    response = _response(swing)
    ahead = np.repeat(asked[:1], len(response), axis=0)
    padded = np.concatenate([ahead, asked])
    size = 1 << int(np.ceil(np.log2(len(padded) + len(response))))
    folded = np.fft.irfft(np.fft.rfft(padded, size, axis=0) * np.fft.rfft(response, size)[:, None], size, axis=0)
    found = folded[len(response) : len(response) + len(asked)]
    back = np.minimum(np.arange(frames) / rate * _OWN_HZ, len(found) - 1.0)
    first = np.minimum(back.astype(np.intp), len(found) - 2)
    share = (back - first)[:, None]
    return np.asarray(found[first] * (1.0 - share) + found[first + 1] * share)


def _response(swing: float) -> Floats:
    """What a damped oscillator of ``swing`` radians a second does in each step after a push: sums to one."""
    times = np.arange(int(_LONGEST_S * _OWN_HZ) + 1) / _OWN_HZ
    damped = swing * np.sqrt(1.0 - _DAMPING**2)
    fade = np.exp(-_DAMPING * swing * times)
    step = 1.0 - fade * (np.cos(damped * times) + _DAMPING * swing / damped * np.sin(damped * times))
    steps = np.diff(step)
    return np.asarray(steps / steps.sum())


def _within(direction: Floats, carried: Floats) -> Floats:
    """A direction no further from that on its parent than a bone may swing, all ``(frames, 3)``."""
    cosine = np.clip(np.einsum("fi,fi->f", direction, carried), -1.0, 1.0)
    most = np.radians(_MOST_DEGREES)
    share = np.minimum(most / np.maximum(np.arccos(cosine), 1e-6), 1.0)
    axis = normalized(np.cross(carried, direction))
    return rotate(quaternion_from_axis_angle(axis, share * np.arccos(cosine)), carried)


def _kept_out(
    target: RiggedFigure, parts: Sequence[BodyPart], tip: Floats, bone: int, far: Floats, rate: float, chain: ChainWorld
) -> Floats:
    """The far end ``(frames, 3)``, on the surface of the body where it would be in it, and above the floor; what rests
    inside may be."""
    still = ChainWorld(PoseBuilder(target.skeleton, target.resting_rotations[:, :, None].copy()))
    rests = rotate(still.rotation(bone), far) + still.position(bone)
    for part in parts:
        room = min(_CLEAR_M, float(part.coordinates(rests, still)[2][0]))
        height, direction, distance = part.coordinates(tip, chain)
        deep = np.where((height > 0.0) & (height < 1.0), np.maximum(room - distance, 0.0), 0.0)
        if deep.max() > 0.0:
            width = max(round(_EVEN_S * rate), 1)
            even = smoothed(widest(deep, width), width / 3.0)
            out = part.points(height, direction, distance + even, chain)
            tip = np.where(even[:, None] > 1e-5, out, tip)
    # Over the floor, or as low as it rests.
    tip = tip.copy()
    tip[:, 1] = np.maximum(tip[:, 1], min(target.floor_m + _CLEAR_M, float(rests[0, 1])))
    return tip
