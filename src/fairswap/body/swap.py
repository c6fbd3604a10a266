"""Carry motions from one figure to another: prepared once, applied to any number of clips.

For a role with the source's world rotation S(t), its world rotation S₀ in the reference pose, and T₀ the same on the
target: D(t) = S(t)·S₀⁻¹ is the motion, and the target's world rotation is D(t)·T₀. Its local rotation follows from its
parent's; bones without a partner keep their rest. The hips travel from their resting place, scaled by the legs.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from fairswap.body.carried import Carried, finished
from fairswap.body.carry import CarryPlan, carry_rotations, plan_carrying
from fairswap.body.finish import Finish
from fairswap.body.helpers import share_twist
from fairswap.body.pairing import Pair, pair_bones
from fairswap.body.soles import Sole, soles_of
from fairswap.body.subject import Subject
from fairswap.bones.known import SURE
from fairswap.bones.profile import BoneProfile
from fairswap.clip import Clip, Poses
from fairswap.errors import Finding, UsageError
from fairswap.figure import Figure
from fairswap.kernels import Floats
from fairswap.pose.measure import RoleAngle, measure_pose, pose_findings
from fairswap.rotation import conjugate, rotate
from fairswap.skeleton import world_rotations

# Bounds the memory of a long clip; short enough to stay near the processor.
_FRAMES_AT_ONCE = 4096


@dataclass(frozen=True, eq=False)
class Swap:
    """A prepared pair of figures.

    Parameters
    ----------
    source, target : Figure
        Whose motion, and who shall move.
    source_bones, target_bones : BoneProfile, optional
        Which bone is which; without them the saved or built-in profile that fits is taken, else bones are found from
        names and shape.
    strict : bool
        Refuse guesses that are less than 0.9 sure.
    motion : Clip, optional
        A clip of the source: it helps to find the source's bones, and may show its reference pose.
    source_reference, target_reference : str
        The pose in which each counts as standing in the common T: ``auto``, ``rest``, ``zero``, ``frame:N``, ``time:S``
        (of ``motion`` and ``target_motion``), or a file; see :func:`fairswap.pose.base.base_pose`.
    target_motion : Clip, optional
        A clip of the target, for its reference pose.
    hands_reference : str
        What counts as alike for fingers: ``auto`` (straight on both), ``rest`` (as each rests), or a saved pose
        (``.toml``) of the target's hands.

    Raises
    ------
    ImpossibleError
        If no profile fits, or a limb has no length.
    """

    source: Figure
    target: Figure
    source_bones: BoneProfile | None = None
    target_bones: BoneProfile | None = None
    strict: bool = False
    motion: Clip | None = None
    source_reference: str = "auto"
    target_reference: str = "auto"
    target_motion: Clip | None = None
    hands_reference: str = "auto"

    def __post_init__(self) -> None:
        # Say now what is wrong, not at the first clip.
        _ = self.pairs, self.source_side.reference, self.target_side.reference

    @cached_property
    def source_side(self) -> Subject:
        """The source with its roles and reference pose."""
        hands = "rest" if self.hands_reference == "rest" else "auto"
        chosen = self.source_reference
        return Subject("source", self.source, self.source_bones, self.strict, self.motion, chosen, hands)

    @cached_property
    def target_side(self) -> Subject:
        """The target with its roles and reference pose."""
        chosen, hands = self.target_reference, self.hands_reference
        return Subject("target", self.target, self.target_bones, self.strict, self.target_motion, chosen, hands)

    @cached_property
    def pairs(self) -> list[Pair]:
        """Which target bone takes its motion from where, in the order of the target's bones."""
        return pair_bones(self.source_side, self.target_side)

    @property
    def travel_scale(self) -> float:
        """By what travel is multiplied: the target's leg length over the source's."""
        return self.target_side.reference.leg_m / self.source_side.reference.leg_m

    @cached_property
    def resting(self) -> list[str]:
        """The target's bones that get no motion and keep their rest."""
        moved = {pair.target for pair in self.pairs} | set(self.target_side.roles.helpers)
        skeleton = self.target.skeleton
        return [name for bone, name in enumerate(skeleton.names) if bone not in moved and bone not in skeleton.ends]

    @cached_property
    def findings(self) -> list[Finding]:
        """What is worth telling about the pair: what is not carried over."""
        shared = {pair.role for pair in self.pairs}
        lost = [
            role
            for role in self.source_side.roles.roles()
            if role not in shared and role != "root" and not role.startswith(("spine_", "neck_"))
        ]
        found: list[Finding] = []
        for side in (self.source_side, self.target_side):
            found += side.roles.findings
            unsure = [f"{role} ({c:.2f})" for role, c in side.roles.confidences.items() if c < SURE]
            if unsure:
                message = f"bones that are guesses: {', '.join(unsure[:6])}{' …' if len(unsure) > 6 else ''}"
                remedy = "Look at them with 'fairswap bones show', correct them in a profile ('bones draft')"
                found.append(Finding("bones-guessed", "warning", side.figure.name, message, remedy))
        found += pose_findings(self.pose_angles, f"{self.source.name} and {self.target.name}")
        if lost:
            names = ", ".join(lost[:6]) + (" …" if len(lost) > 6 else "")
            message = f"no bone for {names}: what they do is not carried over"
            found.append(Finding("roles-lost", "note", self.target.name, message))
        return found

    @cached_property
    def pose_angles(self) -> list[RoleAngle]:
        """How far apart the two reference poses are, joint by joint."""
        return measure_pose(self.source_side, self.target_side)

    def convert(self, clip: Clip, finish: Finish | None = None) -> Clip:
        """Carry one clip over: same name, rate and duration, on the target's skeleton.

        ``finish`` says how feet, hands and travel are finished; by default feet are planted.

        Raises
        ------
        UsageError
            If the clip does not move the source's skeleton.
        """
        return self.carry(clip, finish).clip

    def carry(self, clip: Clip, finish: Finish | None = None) -> Carried:
        """As :meth:`convert`, with what was found and done on the way."""
        finish = finish or Finish()
        return self.finish(clip, self.carry_plain(clip, finish), finish)

    def finish(self, clip: Clip, plain: Clip, finish: Finish) -> Carried:
        """Finish what :meth:`carry_plain` made of ``clip``: layers, feet, hands, travel. ``plain`` is used up by it."""
        return finished(self.source_side, self.target_side, clip, plain, finish, self.scale(finish), self.soles)

    @cached_property
    def soles(self) -> tuple[dict[str, Sole], dict[str, Sole]]:
        """The soles of source and target."""
        return soles_of(self.source_side), soles_of(self.target_side)

    def scale(self, finish: Finish) -> float:
        """By what travel is multiplied with this finish."""
        return self.travel_scale if finish.scale_travel is None else finish.scale_travel

    def carry_plain(self, clip: Clip, finish: Finish) -> Clip:
        """Carry one clip over as it is: rotations, and the hips' way by the scale of ``finish``; nothing is finished.

        Raises
        ------
        UsageError
            If the clip does not move the source's skeleton.
        """
        if clip.skeleton is not self.source.skeleton:
            raise UsageError(
                f"clip {clip.name!r} moves another skeleton than {self.source.name!r}",
                remedy="Make a Swap from the figure that the clip came with",
            )
        target = self.target.skeleton
        rotations = np.empty((len(target), 4, clip.frames))
        hips_place = np.empty((3, clip.frames))
        for start in range(0, clip.frames, _FRAMES_AT_ONCE):
            span = slice(start, min(start + _FRAMES_AT_ONCE, clip.frames))
            self._convert_block(clip.poses, span, rotations[:, :, span], hips_place[:, span], self.scale(finish))
        moved = frozenset(pair.target for pair in self.pairs)
        helpers = share_twist(self.target_side, moved, rotations)
        hips = np.array([self.target_side.roles.bones["hips"]], dtype=np.intp)
        poses = Poses(target, rotations, hips, hips_place[None])
        return Clip(clip.name, clip.rate, poses, moved | frozenset(helpers))

    @cached_property
    def _plan(self) -> CarryPlan:
        return plan_carrying(self.source_side, self.target_side, self.pairs)

    def _convert_block(self, poses: Poses, span: slice, out: Floats, hips_out: Floats, scale: float) -> None:
        source, target = self.source_side, self.target_side
        local = poses.rotation_tracks[:, :, span]
        world = np.empty(local.shape)
        carry_rotations(self._plan, source, target, local, out, world)
        # The hips' place: from where they rest, scaled, and seen from the target's own parent of the hips.
        path = source.skeleton.with_ancestors([source.roles.bones["hips"]])
        world_rotations(source.skeleton, local, path, world)
        place = np.zeros((3, 1))
        for bone in path:
            parent = int(source.skeleton.parents[bone])
            step = poses.translation_track(bone)
            step = step[:, span] if step.shape[1] > 1 else step
            place = step if parent < 0 else place + rotate(world[parent].T, step.T).T
        # Over the ground by the scale that was asked for; up and down always by the legs.
        moved = (place.T - source.reference.hips) * [scale, self.travel_scale, scale] + target.reference.hips
        parent = int(target.skeleton.parents[target.roles.bones["hips"]])
        if parent >= 0:
            resting = target.resting_world
            moved = rotate(conjugate(resting.rotations[0, parent]), moved - resting.positions[0, parent])
        hips_out[:] = moved.T
