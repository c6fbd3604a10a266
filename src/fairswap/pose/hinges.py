"""Hinge axes: about which line an elbow, a knee or a finger bends, from how it rests bent or how it bends in a clip.

A straight limb does not show it. Where the rest pose shows a bend, that is believed, unless it is a slight one that may
be how the limb is drawn: legs like an X, a forearm that leans out from a hanging arm. Else the clip is asked, in which
joints really turn; where neither says anything, the limb is taken to be unturned about its own length.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from fairswap.bones.roles import FINGERS, SIDES, RoleMap, mirrored_role
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.rotation import angle_between, conjugate, normalized, quaternion_between, rotate
from fairswap.model.signals import frames_across
from fairswap.model.skeleton import WorldTransforms

# From this bend on a limb shows its axis; fingers lie less exactly.
_SHOWS_DEGREES, _FINGER_SHOWS_DEGREES = 10.0, 15.0
# An axis that wanders is none. One that nearly stays (the length of its mean, of 1) is that of a hinge; between the two
# the other side has its word: limbs are built alike, and what a clip turns by itself it hardly turns alike on both.
_WANDERS, _STAYS, _ALIKE_DEGREES = 0.9, 0.99, 25.0
_FRAMES = 61
# A bend at rest beyond this is plainly meant. A lesser one is not believed if its axis is further than this from that
# of a limb unturned, nor if a clip that swings the joint by this much shows another (as unlike as two sides may be).
_PLAIN_DEGREES, _UNLIKELY_DEGREES, _SWINGS_DEGREES = 30.0, 60.0, 15.0
# A clip is not believed that would turn a limb by more than this about its own length.
_INSIDE_OUT_DEGREES = 135.0


def hinged_limbs() -> Iterator[tuple[str, str, str, Floats]]:
    """``(role, next role, the one after, axis in the neutral T)`` for each joint that bends about one axis.

    Bending turns from the direction of the first bone to that of the second, by the right hand about the axis: elbows
    bend forward, knees backward, fingers to the palm.
    """
    for side, sign in zip(SIDES, (1.0, -1.0), strict=True):
        yield f"upper_arm_{side}", f"lower_arm_{side}", f"hand_{side}", np.array([0.0, -sign, 0.0])
        yield f"upper_leg_{side}", f"lower_leg_{side}", f"foot_{side}", np.array([1.0, 0.0, 0.0])
        for finger in FINGERS:
            first, second, third = (f"{finger}_{part}_{side}" for part in ("proximal", "intermediate", "distal"))
            yield first, second, third, np.array([0.0, 0.0, -sign])


@dataclass(frozen=True, eq=False)
class Hinge:
    """The axis of the joint at the far end of a bone, as a pose or a clip shows it.

    Attributes
    ----------
    axis : (3,) array
        In the frame of the bone, unit length.
    stays : float
        How well it keeps its direction over the frames: the length of its mean, 1 for that of a hinge.
    bend_degrees, swing_degrees : float
        How far the joint is bent, in the mean, and how far apart its least and its largest bend are.
    """

    axis: Floats
    stays: float
    bend_degrees: float
    swing_degrees: float


def hinges_at_rest(world: WorldTransforms, roles: RoleMap) -> dict[str, Hinge]:
    """What the first frame of a pose shows, by the role of the first bone; only limbs that are bent enough."""
    return _shown(world.rotations[:1], world.positions[:1], roles)


def hinges_in_clip(clip: Clip, world: WorldTransforms, roles: RoleMap) -> dict[str, Hinge]:
    """What a clip shows, where an axis keeps its direction; ``world`` is the pose of :func:`hinges_at_rest`."""
    moving = clip.poses.at(frames_across(clip.frames, _FRAMES)).world()
    seen = _shown(moving.rotations, moving.positions, roles)
    return {role: hinge for role, hinge in seen.items() if hinge.stays > _STAYS or _as_other(role, seen, world, roles)}


def believed_axis(role: str, turn: Floats, neutral: Floats, rest: Hinge | None, moving: Hinge | None) -> Floats | None:
    """The axis to go by, of the one that a limb shows at rest and the one that a clip shows; None if neither is likely.

    Parameters
    ----------
    turn : (4,) array
        From the frame of the bone to the neutral T, the limb unturned about its own length.
    neutral : (3,) array
        The axis in the neutral T.

    Returns
    -------
    (3,) array or None
        Turned by ``turn``.
    """
    at_rest, in_clip = (None if hinge is None else rotate(turn, hinge.axis) for hinge in (rest, moving))
    # No clip excuses a limb that would be turned inside out: it bends the wrong way there.
    if in_clip is not None and _apart_degrees(in_clip, neutral) > _INSIDE_OUT_DEGREES:
        in_clip = None
    if rest is None or at_rest is None:
        return in_clip
    if role.startswith(FINGERS) or rest.bend_degrees > _PLAIN_DEGREES:
        return at_rest
    if _apart_degrees(at_rest, neutral) > _UNLIKELY_DEGREES:
        return in_clip
    if moving is None or in_clip is None or moving.swing_degrees < _SWINGS_DEGREES:
        return at_rest
    return in_clip if _apart_degrees(at_rest, in_clip) > _ALIKE_DEGREES else at_rest


def _apart_degrees(one: Floats, other: Floats) -> float:
    return float(np.degrees(angle_between(one, other)))


def _as_other(role: str, seen: dict[str, Hinge], world: WorldTransforms, roles: RoleMap) -> bool:
    """Whether the limb of the other side bends about the same axis, mirrored."""
    other = mirrored_role(role)
    if other not in seen:
        return False
    onward = {first: second for first, second, _, _ in hinged_limbs()}
    ways, axes = [], []
    for own in (role, other):
        bone = roles.bones[own]
        ways.append(normalized(world.positions[0, roles.bones[onward[own]]] - world.positions[0, bone]))
        axes.append(rotate(world.rotations[0, bone], seen[own].axis))
    # What turns is mirrored the other way about: along the line across alone it stays.
    way, axis = ways[1] * [-1.0, 1.0, 1.0], axes[1] * [1.0, -1.0, -1.0]
    apart = angle_between(axes[0], rotate(quaternion_between(way, ways[0]), axis))
    return bool(np.degrees(apart) < _ALIKE_DEGREES)


def _shown(rotations: Floats, positions: Floats, roles: RoleMap) -> dict[str, Hinge]:
    """The mean axis over frames, weighed by the bends, where they are enough and it does not wander."""
    limbs = [names[:3] for names in hinged_limbs() if set(names[:3]) <= set(roles.bones)]
    if not limbs:
        return {}
    bones, middles, tips = np.array([[roles.bones[role] for role in limb] for limb in limbs]).T
    first = normalized(positions[:, middles] - positions[:, bones])
    second = normalized(positions[:, tips] - positions[:, middles])
    axes = rotate(conjugate(rotations[:, bones]), np.cross(first, second))  # (frames, limbs, 3)
    mean, bends = axes.mean(axis=0), np.degrees(angle_between(first, second))
    sizes, lengths = np.linalg.norm(mean, axis=1), np.linalg.norm(axes, axis=2).mean(axis=0)
    found = {}
    for limb, (role, *_) in enumerate(limbs):
        shows = _FINGER_SHOWS_DEGREES if role.startswith(FINGERS) else _SHOWS_DEGREES
        stays = sizes[limb] / max(lengths[limb], 1e-12)
        if sizes[limb] > np.sin(np.radians(shows)) and stays > _WANDERS:
            found[role] = Hinge(
                mean[limb] / sizes[limb], float(stays), float(bends[:, limb].mean()), float(np.ptp(bends[:, limb]))
            )
    return found
