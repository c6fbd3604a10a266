"""Poses by the words an artist gives: ``t``, ``a:60``, ``frame:12``, a saved pose, another file."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from fairswap.bones.known import roles_of
from fairswap.bones.roles import RoleMap
from fairswap.clip import Clip
from fairswap.errors import UsageError
from fairswap.figure import Figure
from fairswap.files import load
from fairswap.kernels import Floats
from fairswap.pose.base import BasePose, base_pose
from fairswap.pose.measure import Standing, joint_turns
from fairswap.pose.reference import Reference, t_pose
from fairswap.pose.saved import SavedPose
from fairswap.pose.setting import posed_rotations, rest_skeleton, turns_of_a
from fairswap.skeleton import Skeleton

_A = re.compile(r"a(?::(-?\d+(?:\.\d+)?))?")
_USUAL_A_DEGREES = 45.0


@dataclass(frozen=True, eq=False)
class Stance:
    """A figure in some pose, seen from the T that was worked out of its usual one."""

    figure: Figure
    roles: RoleMap
    base: BasePose
    reference: Reference


def pose_of(side: Standing, choice: str, clip: Clip | None = None) -> dict[str, Floats]:
    """How each joint is turned away from the neutral T in the pose ``choice``, by role.

    ``choice`` is as for :func:`fairswap.pose.base.base_pose`.
    """
    base = base_pose(side.figure, side.roles, choice, clip)
    return joint_turns(Stance(side.figure, side.roles, base, side.reference))


def skeleton_for(side: Standing, to: str, clip: Clip | None = None) -> Skeleton:
    """The skeleton of a figure resting in the pose ``to``.

    Parameters
    ----------
    to : str
        ``t``; ``a`` or ``a:DEGREES`` (arms below level); ``rest``; ``zero``; ``frame:N`` and ``time:S`` of ``clip``; a
        saved pose (``.toml``), of which only the roles it names are set; or a figure or motion file, whose pose is
        taken over role by role, of whatever family it is.

    Raises
    ------
    UsageError
        For a pose we do not know, and frames that are not there.
    """
    a = _A.fullmatch(to)
    if to == "rest":
        return replace(side.figure.skeleton)
    if to == "t":
        return rest_skeleton(side, side.reference.rotations)
    if a:
        turns = turns_of_a(float(a[1]) if a[1] else _USUAL_A_DEGREES)
        return rest_skeleton(side, posed_rotations(side, turns))
    if to == "zero" or to.startswith(("frame:", "time:")):
        base = base_pose(side.figure, side.roles, to, clip)
        return rest_skeleton(side, np.ascontiguousarray(base.world.rotations[0]))
    suffix = Path(to).suffix.lower()
    if suffix == ".toml":
        turns = SavedPose.load(to).rotations()
        return rest_skeleton(side, posed_rotations(side, turns, onto_rest=True))
    if suffix:
        return rest_skeleton(side, posed_rotations(side, _turns_in_file(to), onto_rest=True))
    raise UsageError(
        f"{to!r} is no pose",
        place="--to",
        remedy="Give t, a, a:DEGREES, rest, zero, frame:N, time:S, a saved pose (.toml), or a file",
    )


def _turns_in_file(path: str) -> dict[str, Floats]:
    """The pose that the figure in a file rests in; kept parts (spine, shoulders, head) are anatomy and stay."""
    document = load(path)
    figure = document.figure
    clip = next(iter(document.clips_of(figure)), None)
    roles = roles_of(figure, what=f"the pose file {figure.name!r}", option="a profile", clip=clip)
    base = base_pose(figure, roles, "auto", clip)
    return joint_turns(Stance(figure, roles, base, t_pose(figure.skeleton, roles, figure.name, base, clip)))
