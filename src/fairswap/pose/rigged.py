"""Rigged figures: a figure, which bone fills which role, and its reference pose. What all transfer works on."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path

from fairswap.bones.assignment import SURE, roles_of
from fairswap.bones.profile import BoneProfile, profile_named
from fairswap.bones.roles import RoleMap
from fairswap.errors import FairSwapError, Finding
from fairswap.formats.files import document_of
from fairswap.model.arrays import Floats, Value
from fairswap.model.clip import Clip
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.model.skeleton import Skeleton, WorldTransforms, local_rotations, world_of_pose
from fairswap.model.space import UP
from fairswap.pose.base import BasePose, base_pose
from fairswap.pose.choice import AUTO, REST, PoseChoice, pose_named
from fairswap.pose.ground import lowest_sole
from fairswap.pose.reference import ReferencePose, is_finger, t_pose, turned_rotations
from fairswap.pose.rest import can_stand
from fairswap.pose.standing import recorded, with_feet_as_they_stand

# How thick a sole is that no mesh shows, in leg lengths.
_SOLE = 0.04


@dataclass(frozen=True, eq=False)
class Decided:
    """What was decided about a figure before: its reference pose, and the height of its floor in metres."""

    reference: ReferencePose
    floor_m: float


@dataclass(frozen=True, eq=False)
class RiggedFigure(Value):
    """A figure with its roles and its reference pose; :meth:`of` makes one of whatever holds a figure.

    >>> import fairswap
    >>> rigged = fairswap.RiggedFigure.of(fairswap.demo_file("osric.glb"))
    >>> rigged, rigged.roles.bones["hips"]
    (<RiggedFigure 'Osric': 56 roles, bones saltglass>, 0)

    Attributes
    ----------
    roles : RoleMap
        Which bone fills which role.
    clip : Clip or None
        A clip of the figure: it shows about which axes limbs bend, and frames for its reference pose.
    reference_choice, hands_choice : PoseChoice
        What the reference pose is taken from; and the fingers, if from something else.
    part : str
        What it is to the one who reads an error: ``source``, ``target``, ``result`` or ``figure``.
    decided : Decided or None
        What was decided when a result was made, which is not worked out again.
    """

    figure: Figure
    roles: RoleMap
    clip: Clip | None = None
    reference_choice: PoseChoice = AUTO
    hands_choice: PoseChoice = AUTO
    part: str = "figure"
    decided: Decided | None = None

    @classmethod
    def of(
        cls,
        what: RiggedFigure | Figure | Document | str | Path,
        *,
        bones: BoneProfile | str | Path | None = None,
        clip: Clip | None = None,
        reference: PoseChoice | str = AUTO,
        hands: PoseChoice | str = AUTO,
        strict: bool = False,
        part: str = "figure",
    ) -> RiggedFigure:
        """The rigged figure of a figure, of a document's main figure, or of a file.

        Parameters
        ----------
        bones : BoneProfile, name or file, optional
            Which bone is which; without, see :func:`fairswap.bones.assignment.roles_of`.
        clip : Clip, optional
            A clip of the figure that helps; of a document or file the first one, if none is given.
        reference, hands : PoseChoice or str
            See :func:`fairswap.pose.base.base_pose`; for fingers ``auto`` (straight), ``rest``, or a saved pose.
        strict : bool
            Refuse guesses that are less than 0.9 sure.

        Raises
        ------
        ImpossibleError
            If the bones are not known.
        """
        if isinstance(what, RiggedFigure):
            return what
        document = document_of(what)
        figure = document.figure
        clip = clip or next(iter(document.clips_of(figure)), None)
        profile = profile_named(bones) if bones is not None else None
        roles = roles_of(figure, profile, part=part, strict=strict, clip=clip)
        chosen = pose_named(hands).one_of("auto", "rest", "saved", what="reference for hands")
        return cls(figure, roles, clip, pose_named(reference), chosen, part)

    @property
    def skeleton(self) -> Skeleton:
        """The bones of the figure."""
        return self.figure.skeleton

    @property
    def title(self) -> str:
        """For errors: ``the source 'Osric'``."""
        return f"the {self.part} {self.figure.name!r}"

    @cached_property
    def without_skin(self) -> RiggedFigure:
        """The bones alone."""
        return replace(self, figure=replace(self.figure, meshes=())) if self.figure.meshes else self

    @property
    def guesses(self) -> list[Finding]:
        """A warning of bones that are not surely what they are taken for."""
        unsure = [f"{role} ({sure:.2f})" for role, sure in self.roles.confidences.items() if sure < SURE]
        if not unsure:
            return []
        message = f"bones that are guesses: {', '.join(unsure[:6])}{' …' if len(unsure) > 6 else ''}"
        return [Finding("bones-guessed", "warning", self.figure.name, message)]

    def __repr__(self) -> str:
        return f"<RiggedFigure {self.figure.name!r}: {len(self.roles.bones)} roles, bones {self.roles.profile}>"

    @cached_property
    def base(self) -> BasePose:
        """The pose that the reference is worked out from."""
        try:
            return base_pose(self.figure, self.roles, self.reference_choice, self.clip)
        except FairSwapError as error:
            error.place = error.place or f"reference pose of {self.title}"
            raise

    @cached_property
    def reference(self) -> ReferencePose:
        """The pose in which it counts as standing in the common T."""
        if self.decided is not None:
            return self.decided.reference
        at_rest = self.hands_choice.kind == REST.kind
        found = t_pose(self.skeleton, self.roles, self.title, self.base, self.clip, at_rest)
        found = self.stood_up(found)
        if self.clip is not None and self.reference_choice.kind == AUTO.kind and recorded(self.figure):
            found = with_feet_as_they_stand(found, self.roles, self.clip)
        turns = {} if self.reference_choice.saved is None else self.reference_choice.saved.rotations()
        if self.hands_choice.saved is not None:
            hands = self.hands_choice.saved.rotations()
            turns |= {role: turn for role, turn in hands.items() if is_finger(role)}
        if not turns:
            return found
        return replace(found, rotations=turned_rotations(self.skeleton, self.roles, found.rotations, turns))

    def stood_up(self, found: ReferencePose) -> ReferencePose:
        """A reference pose, with the hips as high over the floor as its legs are long if it rests lower, or lying."""
        if self.base.stands:
            return found
        world = world_of_pose(self.skeleton, local_rotations(self.skeleton, found.rotations))
        hips = float(world.positions[0, self.roles.bones["hips"], 1])
        if self.figure.meshes:
            sole = lowest_sole(self.figure, self.roles, world)
        else:
            feet = [bone for role, bone in self.roles.bones.items() if role.startswith(("foot_", "toes_"))]
            sole = world.positions[0, feet, 1].min() - _SOLE * found.leg_m
        return replace(found, hips=found.hips * [1.0, 0.0, 1.0] + UP * (self.figure.floor_m + hips - float(sole)))

    @cached_property
    def reference_world(self) -> WorldTransforms:
        """World transforms of all bones in the reference pose, with the hips where they rest: one frame."""
        world = world_of_pose(self.skeleton, local_rotations(self.skeleton, self.reference.rotations))
        shift = self.reference.hips - world.positions[0, self.roles.bones["hips"]]
        return WorldTransforms(world.rotation_tracks, world.position_tracks + shift[None, :, None]).read_only()

    @cached_property
    def resting_rotations(self) -> Floats:
        """Local rotations ``(bones, 4)`` of bones without motion: those of the rest pose, if that says anything."""
        return self.skeleton.rest_rotations if self.base.resting is None else self.base.resting

    @cached_property
    def resting_world(self) -> WorldTransforms:
        """World transforms of all bones when nothing moves: one frame."""
        if self.base.resting is None:
            return self.skeleton.rest
        return world_of_pose(self.skeleton, self.resting_rotations).read_only()

    @cached_property
    def floor_m(self) -> float:
        """The height of the ground it stands on: that of its soles at rest, or in the T if it rests otherwise."""
        if self.decided is not None:
            return self.decided.floor_m
        as_it_rests = not self.base.stands or (self.base.resting is None and can_stand(self.skeleton.rest, self.roles))
        if not self.figure.meshes:
            return self.figure.floor_m if as_it_rests else 0.0
        if not self.base.stands:
            return self.figure.floor_m
        return lowest_sole(self.figure, self.roles, self.skeleton.rest if as_it_rests else self.reference_world)

    @cached_property
    def role_of_bone(self) -> dict[int, str]:
        """The role of each bone that has one."""
        return {bone: role for role, bone in self.roles.bones.items()}


def rigged_if_known(
    what: RiggedFigure | Document | Figure | str | Path, clip: Clip | None = None,
    bones: BoneProfile | str | Path | None = None,
) -> RiggedFigure | None:  # fmt: skip
    """A figure with its roles and its reference; None where its bones are not known, which is no reason not to go on.

    Raises
    ------
    FairSwapError
        If a bone profile is given and does not fit.
    """
    try:
        rigged = RiggedFigure.of(what, bones=bones, clip=clip)
        return rigged if rigged.reference.leg_m > 0.0 else None
    except FairSwapError:
        if bones is not None:
            raise
        return None
