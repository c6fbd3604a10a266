"""A figure made ready for carrying over or comparing: its roles and its reference pose, worked out once."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path

import numpy as np

from fairswap.bones.known import roles_of
from fairswap.bones.profile import BoneProfile
from fairswap.bones.roles import RoleMap
from fairswap.clip import Clip
from fairswap.errors import FairSwapError, UsageError
from fairswap.figure import Figure, deformed_vertices
from fairswap.kernels import Floats
from fairswap.pose.base import BasePose, base_pose, can_stand
from fairswap.pose.reference import Reference, is_finger, t_pose, turned_rotations
from fairswap.pose.saved import SavedPose
from fairswap.skeleton import Skeleton, WorldTransforms, local_rotations, world_from_local


@dataclass(frozen=True, eq=False)
class Subject:
    """A figure in its part (``source``, ``target`` or ``result``).

    Its bones are known by the profile given, or as :func:`fairswap.bones.known.roles_of` finds them; ``strict`` refuses
    guesses, and a ``clip`` of the figure helps to find them. ``reference_choice`` is as for
    :func:`fairswap.pose.base.base_pose`; ``hands_choice`` is ``auto`` (fingers straight), ``rest`` (as they rest) or a
    saved pose.
    """

    part: str
    figure: Figure
    profile: BoneProfile | None = None
    strict: bool = False
    clip: Clip | None = None
    reference_choice: str = "auto"
    hands_choice: str = "auto"

    @property
    def skeleton(self) -> Skeleton:
        return self.figure.skeleton

    @property
    def title(self) -> str:
        """For errors: ``the source 'Osric'``."""
        return f"the {self.part} {self.figure.name!r}"

    @cached_property
    def roles(self) -> RoleMap:
        option = "--source-bones" if self.part == "source" else "--target-bones"
        return roles_of(self.figure, self.profile, what=self.title, option=option, strict=self.strict, clip=self.clip)

    @cached_property
    def base(self) -> BasePose:
        """The pose that the reference is worked out from."""
        try:
            return base_pose(self.figure, self.roles, self.reference_choice, self.clip)
        except FairSwapError as error:
            error.place = error.place or f"--{'source' if self.part == 'source' else 'target'}-reference"
            raise

    @cached_property
    def resting(self) -> Floats:
        """Local rotations ``(bones, 4)`` of bones without motion: those of the rest pose, if that says anything."""
        return self.skeleton.rest_rotations if self.base.resting is None else self.base.resting

    @cached_property
    def resting_world(self) -> WorldTransforms:
        """World transforms of all bones when nothing moves: one frame."""
        if self.base.resting is None:
            return self.skeleton.rest
        nothing = np.empty(0, dtype=np.intp)
        return world_from_local(self.skeleton, self.resting[:, :, None], nothing, np.empty((0, 3, 1)))

    @cached_property
    def t_world(self) -> WorldTransforms:
        """World transforms of all bones in the reference pose, with the hips where they rest: one frame."""
        local = local_rotations(self.skeleton, self.reference.rotations)
        nothing = np.empty(0, dtype=np.intp)
        world = world_from_local(self.skeleton, local[:, :, None], nothing, np.empty((0, 3, 1)))
        shift = self.reference.hips - world.positions[0, self.roles.bones["hips"]]
        return WorldTransforms(world.rotation_tracks, world.position_tracks + shift[None, :, None])

    @cached_property
    def floor_m(self) -> float:
        """The height of the ground it stands on: that of its soles at rest, or in the T if it rests otherwise."""
        if can_stand(self.skeleton.rest, self.roles):
            return self.figure.floor_m
        if not self.figure.meshes:
            return 0.0
        return float(min(deformed_vertices(mesh, self.t_world, 0)[:, 1].min() for mesh in self.figure.meshes))

    @cached_property
    def reference(self) -> Reference:
        at_rest = self.hands_choice == "rest"
        found = t_pose(self.skeleton, self.roles, self.title, self.base, self.clip, at_rest)
        saved = Path(self.reference_choice).suffix == ".toml", Path(self.hands_choice).suffix == ".toml"
        if not (any(saved) or self.hands_choice in ("auto", "rest")):
            problem, remedy = (
                f"{self.hands_choice!r} is no reference for hands",
                "Give auto, rest, or a saved pose (.toml)",
            )
            raise UsageError(problem, place="--hands-reference", remedy=remedy)
        turns = SavedPose.load(self.reference_choice).rotations() if saved[0] else {}
        if saved[1]:
            hands = SavedPose.load(self.hands_choice).rotations()
            turns |= {role: turn for role, turn in hands.items() if is_finger(role)}
        if not turns:
            return found
        return replace(found, rotations=turned_rotations(self.skeleton, self.roles, found.rotations, turns))
