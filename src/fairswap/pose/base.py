"""The pose that a reference is worked out from: the rest pose, a frame of a clip, all rotations zero, or another file.

Whatever is chosen, the hips keep their resting place and the figure faces ahead: neither is motion.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from fairswap.bones.known import roles_of
from fairswap.bones.roles import RoleMap
from fairswap.clip import Clip
from fairswap.errors import ImpossibleError, UsageError
from fairswap.figure import Figure
from fairswap.files import load
from fairswap.kernels import Floats
from fairswap.rotation import IDENTITY, conjugate, multiply, quaternion_from_axis_angle, rotate
from fairswap.skeleton import Skeleton, WorldTransforms, world_from_local

_CHOICE = re.compile(r"(frame|time):(\d+(?:\.\d+)?)s?")
_NOTHING = np.empty(0, dtype=np.intp)


@dataclass(frozen=True, eq=False)
class BasePose:
    """World transforms of one frame, and which pose that is and why, in words."""

    world: WorldTransforms
    said: str


def base_pose(figure: Figure, roles: RoleMap, choice: str = "auto", clip: Clip | None = None) -> BasePose:
    """The pose named by ``choice``.

    Parameters
    ----------
    choice : str
        ``auto`` (the rest pose if a person can stand so, else a still first or last frame of ``clip``, else any first
        frame in which a person stands), ``rest``, ``zero``, ``frame:N`` (counted from 0), ``time:S``, or a file of the
        same family, whose rest pose is taken bone by bone through the roles.

    Raises
    ------
    UsageError
        For a frame or time that the clip does not have, or an unknown choice.
    ImpossibleError
        If the other file is of another family.
    """
    skeleton = figure.skeleton
    if choice == "auto":
        return _automatic(skeleton, roles, clip)
    if choice == "rest":
        return BasePose(skeleton.rest, "the rest pose, as asked")
    if choice == "zero":
        return BasePose(_posed(skeleton, roles, np.tile(IDENTITY, (len(skeleton), 1))), "all rotations zero, as asked")
    match = _CHOICE.fullmatch(choice)
    if match:
        return _from_clip(roles, clip, match[1], float(match[2]), figure.name)
    if Path(choice).suffix:
        return _from_file(figure, roles, choice)
    raise UsageError(
        f"{choice!r} is no reference pose",
        remedy="Give auto, rest, zero, frame:N, time:S, or a file of the same family",
    )


def can_stand(world: WorldTransforms, roles: RoleMap, frame: int = 0) -> bool:
    """Whether a person can stand in a pose: head above hips above feet, legs mostly down, feet near one height."""
    place = world.position_tracks[:, :, frame]
    head, hips = place[roles.bones["head"]], place[roles.bones["hips"]]
    feet = [place[roles.bones[f"foot_{side}"]] for side in ("left", "right")]
    thighs = [place[roles.bones[f"upper_leg_{side}"]] for side in ("left", "right")]
    legs = [foot - thigh for foot, thigh in zip(feet, thighs, strict=True)]
    length = max(float(np.linalg.norm(leg)) for leg in legs)
    if length <= 0 or not head[1] > hips[1] > max(foot[1] for foot in feet):
        return False
    down = all(-leg[1] > 0.6 * np.linalg.norm(leg) for leg in legs)
    apart = float(np.linalg.norm((feet[0] - feet[1])[[0, 2]]))
    return bool(down and abs(feet[0][1] - feet[1][1]) < 0.15 * length and apart > 1e-4 * length)


def _automatic(skeleton: Skeleton, roles: RoleMap, clip: Clip | None) -> BasePose:
    if can_stand(skeleton.rest, roles):
        return BasePose(skeleton.rest, "the rest pose, a person can stand so")
    if clip is not None:
        for frame, name in ((0, "first"), (clip.frames - 1, "last")):
            world = _stood(clip.poses.world(frame, frame + 1), skeleton, roles)
            if can_stand(world, roles):
                return BasePose(world, f"the {name} frame of {clip.name!r}; nobody can stand in the rest pose")
    return BasePose(skeleton.rest, "the rest pose, although nobody can stand so; no clip shows a better one")


def _from_clip(roles: RoleMap, clip: Clip | None, kind: str, value: float, name: str) -> BasePose:
    if clip is None:
        raise UsageError(f"{name} has no clip to take a {kind} from", remedy="Give rest, zero, or a file")
    frame = value if kind == "frame" else value * float(clip.rate)
    if frame > clip.frames - 1 + 1e-6 or (kind == "frame" and frame != int(frame)):
        last = f"{clip.frames - 1}" if kind == "frame" else f"{clip.duration_s:.3f} s"
        raise UsageError(f"clip {clip.name!r} has no {kind} {value:g}", remedy=f"Its last is {last}")
    world = _stood(clip.poses.at([frame]).world(), clip.skeleton, roles)
    return BasePose(world, f"{kind} {value:g} of {clip.name!r}, as asked")


def _from_file(figure: Figure, roles: RoleMap, path: str) -> BasePose:
    other = load(path).figure
    theirs = roles_of(other, what=f"the reference {other.name!r}", option="a profile")
    lacking = [role for role in roles.roles() if role not in theirs.bones and role in roles.bones]
    if len(lacking) > 0.3 * len(roles.bones):
        shown = ", ".join(lacking[:8]) + (" …" if len(lacking) > 8 else "")
        raise ImpossibleError(f"the reference is of another family; it has no {shown}", file=path)
    rotations = figure.skeleton.rest_rotations.copy()
    for role, bone in roles.bones.items():
        if role in theirs.bones:
            rotations[bone] = other.skeleton.rest_rotations[theirs.bones[role]]
    return BasePose(_posed(figure.skeleton, roles, rotations), f"the rest pose of {Path(path).name}, as asked")


def _posed(skeleton: Skeleton, roles: RoleMap, rotations: Floats) -> WorldTransforms:
    world = world_from_local(skeleton, rotations[:, :, None], _NOTHING, np.empty((0, 3, 1)))
    return _stood(world, skeleton, roles, turn=False)


def _stood(world: WorldTransforms, skeleton: Skeleton, roles: RoleMap, turn: bool = True) -> WorldTransforms:
    """The pose with the hips where they rest, and the figure turned to face ahead."""
    hips = roles.bones["hips"]
    rotations, positions = world.rotation_tracks[:, :, 0], world.position_tracks[:, :, 0]
    about = IDENTITY
    if turn:
        turned = multiply(rotations[hips], conjugate(skeleton.rest.rotations[0, hips]))
        ahead = rotate(turned, np.array([0.0, 0.0, 1.0]))
        about = quaternion_from_axis_angle(np.array([0.0, 1.0, 0.0]), -np.arctan2(ahead[0], ahead[2]))
    places = rotate(about, positions - positions[hips]) + skeleton.rest.positions[0, hips]
    return WorldTransforms(multiply(about, rotations)[:, :, None], places[:, :, None])
