"""A prepared pair of figures: whose motion, on whom. Made once, applied to any number of clips.

For a role with the source's world rotation S(t), its world rotation S₀ in the reference pose, and T₀ the same on the
target: D(t) = S(t)·S₀⁻¹ is the motion, and the target's world rotation is D(t)·T₀. Its local rotation follows from its
parent's; bones without a partner keep their rest. The hips travel from their resting place, scaled by the legs
(lower down also by what the floor wants, see :mod:`fairswap.retarget.hips_height`).
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from fairswap.bones.apart import skin_above_hips
from fairswap.bones.roles import role_order
from fairswap.bones.skin import skin_told
from fairswap.errors import Finding, UsageError
from fairswap.measure.contacts import Floor
from fairswap.measure.levels import levels_told
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.poses import PoseBuilder, Poses
from fairswap.model.rotation import conjugate, rotate
from fairswap.model.skeleton import world_rotations
from fairswap.pose.measuring import RoleAngle, measure_pose, pose_findings
from fairswap.pose.rigged import RiggedFigure
from fairswap.pose.straight import bends_told
from fairswap.retarget.extras import Extra, extra_translations, moving_extras, pair_extras
from fairswap.retarget.hips_height import height_change
from fairswap.retarget.one_build import decided_of, kept_as_they_are, off_their_rest, same_bones, same_family
from fairswap.retarget.pairing import Pair, PairedBone, pair_bones
from fairswap.retarget.transfer import TransferPlan, plan_transfer, transfer_rotations
from fairswap.retarget.twist import links_of, share_twist

if TYPE_CHECKING:
    from fairswap.retarget.options import MotionOptions
    from fairswap.retarget.pipeline import Retargeted

# Bounds the memory of a long clip; short enough to stay near the processor.
_FRAMES_AT_ONCE = 4096


@dataclass(frozen=True, eq=False)
class Swap:
    """A prepared pair: bones paired through their roles, both in one reference pose.

    >>> import fairswap
    >>> osric, pip = (fairswap.RiggedFigure.of(fairswap.demo_file(f"{name}.glb")) for name in ("osric", "pip"))
    >>> swap = fairswap.Swap(osric, pip)
    >>> swap, swap.paired_bones[0]
    (<Swap 'Osric' to 'Pip': 30 bones paired>, PairedBone(role='hips', source='salt:Pelvis', target='seat'))

    Raises
    ------
    ImpossibleError
        If a limb has no length, so that it has no reference pose.
    """

    source: RiggedFigure
    target: RiggedFigure

    def __post_init__(self) -> None:
        if self.of_one_family:
            decided = decided_of(self.source, self.target, self._alike, one_length=self.of_one_build)
            object.__setattr__(self, "target", replace(self.target, decided=decided))
        # Say now what is wrong, not at the first clip.
        _ = self.pairs, self.source.reference, self.target.reference

    def __repr__(self) -> str:
        return f"<Swap {self.source.figure.name!r} to {self.target.figure.name!r}: {len(self.pairs)} bones paired>"

    @cached_property
    def pairs(self) -> list[Pair]:
        """Which target bone takes its motion from where, in the order of the target's bones."""
        if not self.of_one_family:
            return pair_bones(self.source, self.target)
        own = ((role, bone) for role, bone in self.target.roles.bones.items() if role != "root")
        pairs = [Pair(role, bone, self._alike[bone], self._alike[bone], 0.0) for role, bone in own]
        return sorted(pairs, key=lambda pair: pair.target)

    @cached_property
    def extras(self) -> list[Extra]:
        """Bones without a role that both have under one name: they do the same."""
        paired = {pair.target for pair in self.pairs}
        return [extra for extra in pair_extras(self.source, self.target) if extra.target not in paired]

    @property
    def paired_bones(self) -> list[PairedBone]:
        """Each paired bone of the target, by names, in a person's order of roles."""
        source, target = self.source.skeleton.labels, self.target.skeleton.labels
        rows = []
        for pair in sorted(self.pairs, key=lambda pair: role_order(pair.role)):
            between = pair.between and pair.fraction < 1.0
            part = f"{pair.fraction:.0%} from {source[pair.first]} to {source[pair.second]}"
            rows.append(PairedBone(pair.role, part if between else source[pair.first], target[pair.target]))
        return rows + [PairedBone("same name", source[extra.source], target[extra.target]) for extra in self.extras]

    @property
    def leg_ratio(self) -> float:
        """The target's leg length over the source's: by what travel is multiplied, unless it is said otherwise."""
        return self.target.reference.leg_m / self.source.reference.leg_m

    @cached_property
    def same_bones(self) -> dict[int, int]:
        """For each bone of the target that the source has, too, that one, if the two are of one build; else none."""
        return same_bones(self.source, self.target)

    @property
    def of_one_build(self) -> bool:
        """Whether both have the very same body, and a motion is what it is."""
        return bool(self.same_bones)

    @cached_property
    def _alike(self) -> dict[int, int]:
        return self.same_bones or same_family(self.source, self.target)

    @property
    def of_one_family(self) -> bool:
        """Whether both have the same bones, which rest alike, however long they are: each joint turns as it did."""
        return bool(self._alike)

    @cached_property
    def resting_bones(self) -> list[str]:
        """The target's bones without a partner, which keep their rest."""
        moved = {pair.target for pair in self.pairs} | {extra.target for extra in self.extras}
        moved |= {*self.target.roles.helpers, *(link for links, _ in links_of(self.target) for link, _ in links)}
        moved |= skin_above_hips(self.target.figure, self.target.roles)
        skeleton = self.target.skeleton
        return [name for bone, name in enumerate(skeleton.labels) if bone not in moved and bone not in skeleton.ends]

    @cached_property
    def findings(self) -> list[Finding]:
        """What is worth telling about the pair: guesses, poses far apart, and what is not transferred."""
        found: list[Finding] = []
        for rigged in (self.source, self.target):
            found += [*rigged.roles.findings, *rigged.guesses, *bends_told(rigged)]
        found += skin_told(self.target.figure, self.target.roles) + levels_told(self.target.figure)
        names = self.source.figure.name, self.target.figure.name
        found += pose_findings(self.pose_angles, " and ".join(names))
        shared = {pair.role for pair in self.pairs}
        lost = [
            role
            for role in self.source.roles.roles()
            if role not in shared and role != "root" and not role.startswith(("spine_", "neck_"))
        ]
        if lost:
            shown = ", ".join(lost[:6]) + (" …" if len(lost) > 6 else "")
            message = f"no bone for {shown}: what they do is not carried over"
            found.append(Finding("roles-lost", "note", names[1], message))
        return found

    @cached_property
    def pose_angles(self) -> list[RoleAngle]:
        """How far apart the two reference poses are, joint by joint."""
        return measure_pose(self.source, self.target)

    @cached_property
    def _plan(self) -> TransferPlan:
        return plan_transfer(self.source, self.target, self.pairs, self.extras)

    def convert(self, clip: Clip, options: MotionOptions | None = None) -> Clip:
        """Carry one clip over, with feet, hands and root motion treated; errors as of :meth:`retarget`."""
        return self.retarget(clip, options).clip

    def retarget(self, clip: Clip, options: MotionOptions | None = None) -> Retargeted:
        """As :meth:`convert`, with what was found and done on the way.

        Raises
        ------
        UsageError
            If the clip does not move the source's skeleton.
        ImpossibleError
            If the target has no bone that the options need.
        """
        from fairswap.retarget.pipeline import retarget

        return retarget(self, clip, options)

    def transfer(self, clip: Clip, scale_travel: float | None = None) -> Clip:
        """Transfer one clip as it is: rotations, and the hips' way; same name, rate and duration.

        Feet, hands and root motion are for :func:`fairswap.retarget.pipeline.retarget`.

        Parameters
        ----------
        scale_travel : float, optional
            What ground travel is multiplied by; by default the ratio of the legs.

        Raises
        ------
        UsageError
            If the clip does not move the source's skeleton.
        """
        edit, keyed = self.transferred_tracks(clip, scale_travel)
        return Clip(clip.name, clip.rate, edit.poses(), keyed, start_s=clip.start_s)

    def transferred_tracks(
        self, clip: Clip, scale_travel: float | None = None, floor: Floor | None = None
    ) -> tuple[PoseBuilder, frozenset[int]]:
        """As :meth:`transfer`: the tracks, to be worked on, and the bones that are keyed. How high the hips are is told
        over a ``floor``, by default the one the source rests on."""
        if clip.skeleton != self.source.skeleton:
            raise UsageError(
                f"clip {clip.name!r} moves another skeleton than {self.source.figure.name!r}",
                remedy="Make a Swap from the figure that the clip came with",
            )
        scale = self.leg_ratio if scale_travel is None else scale_travel
        floor = floor or Floor(self.source.floor_m)
        target = self.target.skeleton
        rotations = np.empty((len(target), 4, clip.frames))
        hips_track = np.empty((3, clip.frames))
        for start in range(0, clip.frames, _FRAMES_AT_ONCE):
            span = slice(start, min(start + _FRAMES_AT_ONCE, clip.frames))
            self._transfer_block(clip.poses, span, rotations[:, :, span], hips_track[:, span], scale, floor)
        extras = moving_extras(clip.poses, self.source, self.extras)
        moved = frozenset(pair.target for pair in self.pairs) | frozenset(extra.target for extra in extras)
        partnered = frozenset(extra.target for extra in self.extras)
        helpers = share_twist(self.target, moved, rotations, partnered)
        places = extra_translations(clip.poses, self.source, self.target, extras, self.leg_ratio)
        places = {**places, self.target.roles.bones["hips"]: hips_track}
        if self.of_one_build:
            kept = kept_as_they_are(self.source, self.target, self.same_bones, clip.poses)
            rotations[[*kept]] = clip.poses.rotation_tracks[[*kept.values()]]
            places = {bone: track for bone, track in places.items() if bone not in kept}
            moves = off_their_rest(clip.poses)
            places |= {bone: moves[other] for bone, other in kept.items() if other in moves}
        return PoseBuilder(target, rotations, places), moved | frozenset(helpers)

    def _transfer_block(
        self, poses: Poses, span: slice, out: Floats, hips_out: Floats, scale: float, floor: Floor
    ) -> None:
        source, target = self.source, self.target
        local = poses.rotation_tracks[:, :, span]
        world = np.empty(local.shape)
        transfer_rotations(self._plan, source, target, local, out, world)
        # The hips' place: from where they rest, scaled, and seen from the target's own parent of the hips.
        path = source.skeleton.with_ancestors([source.roles.bones["hips"]])
        world_rotations(source.skeleton, local, path, world)
        position = np.zeros((3, 1))
        for bone in path:
            parent = int(source.skeleton.parents[bone])
            step = poses.translation_track(bone)
            step = step[:, span] if step.shape[1] > 1 else step
            position = step if parent < 0 else position + rotate(world[parent].T, step.T).T
        # Over the ground by the scale that was asked for; up and down always by the legs.
        moved = (position.T - source.reference.hips) * [scale, self.leg_ratio, scale] + target.reference.hips
        moved[:, 1] += height_change(source, target, position[1] - floor.height(position.T))
        parent = int(target.skeleton.parents[target.roles.bones["hips"]])
        if parent >= 0:
            resting = target.resting_world
            moved = rotate(conjugate(resting.rotations[0, parent]), moved - resting.positions[0, parent])
        hips_out[:] = moved.T
