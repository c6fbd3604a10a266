"""Hinge axes: about which line an elbow, a knee or a finger bends, from how it rests bent or how it bends in a clip.

A straight limb does not show it. Where the rest pose shows a bend, that is believed; else the clip is asked, in which
joints really turn; where neither says anything, the limb is taken to be unturned about its own length.
"""

from __future__ import annotations

from collections.abc import Iterator

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


def hinge_axes(world: WorldTransforms, roles: RoleMap, clip: Clip | None = None) -> dict[str, Floats]:
    """The axis of the joint at the far end of each bone, in the frame of that bone, by its role; only where it shows.

    Parameters
    ----------
    world : WorldTransforms
        The pose the reference is worked out from; its first frame counts.
    clip : Clip, optional
        A clip of the skeleton, for limbs that are straight in the pose.
    """
    found = {role: axis for role, (axis, _) in _axes_shown(world.rotations[:1], world.positions[:1], roles).items()}
    limbs = [role for role, next_role, tip, _ in hinged_limbs() if {role, next_role, tip} <= set(roles.bones)]
    if clip is not None and any(role not in found for role in limbs):
        frames = frames_across(clip.frames, _FRAMES)
        moving = clip.poses.at(frames).world()
        seen = _axes_shown(moving.rotations, moving.positions, roles)
        steady = [role for role, (_, stays) in seen.items() if stays > _STAYS or _as_other(role, seen, world, roles)]
        found = {role: seen[role][0] for role in steady} | found
    return found


def _as_other(role: str, seen: dict[str, tuple[Floats, float]], world: WorldTransforms, roles: RoleMap) -> bool:
    """Whether the limb of the other side bends about the same axis, mirrored."""
    other = mirrored_role(role)
    if other not in seen:
        return False
    onward = {first: second for first, second, _, _ in hinged_limbs()}
    ways, axes = [], []
    for own in (role, other):
        bone = roles.bones[own]
        ways.append(normalized(world.positions[0, roles.bones[onward[own]]] - world.positions[0, bone]))
        axes.append(rotate(world.rotations[0, bone], seen[own][0]))
    # What turns is mirrored the other way about: along the line across alone it stays.
    way, axis = ways[1] * [-1.0, 1.0, 1.0], axes[1] * [1.0, -1.0, -1.0]
    apart = angle_between(axes[0], rotate(quaternion_between(way, ways[0]), axis))
    return bool(np.degrees(apart) < _ALIKE_DEGREES)


def _axes_shown(rotations: Floats, positions: Floats, roles: RoleMap) -> dict[str, tuple[Floats, float]]:
    """The mean axis over frames, weighed by the bends, where they are enough, and how well it keeps its direction."""
    limbs = [names[:3] for names in hinged_limbs() if set(names[:3]) <= set(roles.bones)]
    if not limbs:
        return {}
    bones, middles, tips = np.array([[roles.bones[role] for role in limb] for limb in limbs]).T
    first = normalized(positions[:, middles] - positions[:, bones])
    second = normalized(positions[:, tips] - positions[:, middles])
    axes = rotate(conjugate(rotations[:, bones]), np.cross(first, second))  # (frames, limbs, 3)
    mean = axes.mean(axis=0)
    sizes, bends = np.linalg.norm(mean, axis=1), np.linalg.norm(axes, axis=2).mean(axis=0)
    found = {}
    for (role, *_), axis, size, bend in zip(limbs, mean, sizes.tolist(), bends.tolist(), strict=True):
        shows = _FINGER_SHOWS_DEGREES if role.startswith(FINGERS) else _SHOWS_DEGREES
        if size > np.sin(np.radians(shows)) and size > _WANDERS * bend:
            found[role] = axis / size, size / bend
    return found
