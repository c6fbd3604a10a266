"""Rotations of one figure transferred to another, for a block of frames.

The target's local rotation is T_parent⁻¹·T_bone, with T = S·C for a source bone's world rotation S and a constant
C = S₀⁻¹·T₀. Where the two source bones are parent and child themselves, as nearly always, S_parent⁻¹·S_bone is simply
the source's local rotation, and the whole is one constant linear map of it: no world rotation is needed at all.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from fairswap.bones.roles import part_of
from fairswap.model.arrays import Floats
from fairswap.model.kernels import conjugate_multiply_into, linear_into, multiply_into
from fairswap.model.rotation import IDENTITY, conjugate, multiply, quaternion_between, rotate
from fairswap.model.skeleton import world_rotations
from fairswap.pose.pieces import CutLimb, cut_limbs
from fairswap.pose.rigged import RiggedFigure
from fairswap.retarget.extras import Extra, map_of
from fairswap.retarget.pairing import Pair


@dataclass(frozen=True, eq=False)
class TransferPlan:
    """How each target bone gets its local rotation: ``linear`` from the source's local one, ``worldly`` by way of world
    rotations; all others keep their rest. ``needed`` are the source bones whose world rotations that takes, with all
    above them; of ``linear``, ``extras`` are the bones without a role. ``bent`` are the limbs of the source, by their
    bone, whose pieces may bend."""

    linear: dict[int, tuple[int, list[list[float]]]]
    worldly: frozenset[int]
    pairs: dict[int, Pair]
    needed: list[int]
    extras: frozenset[int] = frozenset()
    bent: dict[int, CutLimb] = field(default_factory=dict)


def plan_transfer(
    source: RiggedFigure, target: RiggedFigure, pairs: list[Pair], extras: list[Extra] | None = None
) -> TransferPlan:
    """Sort the pairs, and work out the constants; ``extras`` are told against their parents, always."""
    by_bone = {pair.target: pair for pair in pairs}
    moved = frozenset(extra.target for extra in extras or ())
    constants = {
        bone: multiply(conjugate(source.reference.rotations[pair.first]), target.reference.rotations[bone])
        for bone, pair in by_bone.items()
    }
    partners = {extra.source for extra in extras or ()}
    bent = {limb.holder: limb for limb in cut_limbs(source) if partners.isdisjoint(limb.between)
            and part_of(source.role_of_bone[limb.holder]) in ("arms", "legs")}  # fmt: skip
    linear: dict[int, tuple[int, list[list[float]]]] = {}
    for bone, pair in by_bone.items():
        # The next bone above with motion; those between keep their rest, and only add a constant turn.
        above, held = int(target.skeleton.parents[bone]), IDENTITY
        while above >= 0 and above not in by_bone and above not in moved:
            held = multiply(target.resting_rotations[above], held)
            above = int(target.skeleton.parents[above])
        if above < 0 or above in moved or pair.between or by_bone[above].between:
            continue
        if pair.first in bent or by_bone[above].first in bent:
            continue
        if int(source.skeleton.parents[pair.first]) == by_bone[above].first:
            linear[bone] = pair.first, _map_between(multiply(constants[above], held), constants[bone])
    worldly = frozenset(by_bone) - frozenset(linear)
    for extra in extras or ():
        linear[extra.target] = extra.source, _map_between(*map_of(source, target, extra))
    used: set[int] = set()
    for bone in worldly:
        ancestor = bone
        while ancestor >= 0:  # the world rotation of its parent is asked for too, and so on up
            if ancestor in by_bone:
                used |= {by_bone[ancestor].first, by_bone[ancestor].second}
            ancestor = int(target.skeleton.parents[ancestor])
    used |= {bone for limb in bent.values() if limb.holder in used for bone in limb.between}
    return TransferPlan(linear, worldly, by_bone, source.skeleton.with_ancestors(used), moved, bent)


def transfer_rotations(
    plan: TransferPlan,
    source: RiggedFigure,
    target: RiggedFigure,
    source_local: Floats,
    out: Floats,
    source_world: Floats,
) -> None:
    """Local rotations of the target ``(bones, 4, frames)`` from those of the source, into ``out``.

    ``source_world`` ``(source bones, 4, frames)`` is work space; afterwards it holds the rows of ``plan.needed``.
    """
    skeleton, frames = target.skeleton, out.shape[2]
    world_rotations(source.skeleton, source_local, plan.needed, source_world)
    scratch = np.empty(frames)
    worlds = _TargetWorlds(plan, source, target, source_world, out)
    for bone, parent in enumerate(skeleton.parents.tolist()):
        if bone in plan.linear:
            first, matrix = plan.linear[bone]
            linear_into(out[bone], matrix, source_local[first], scratch)
        elif bone not in plan.worldly:
            out[bone] = target.resting_rotations[bone][:, None]
        elif parent < 0:
            out[bone] = worlds.of(bone)
        else:
            conjugate_multiply_into(out[bone], worlds.of(parent), worlds.of(bone), scratch)


class _TargetWorlds:
    """World rotations of the target's bones in one block of frames, each worked out once, when asked for."""

    def __init__(
        self, plan: TransferPlan, source: RiggedFigure, target: RiggedFigure, source_world: Floats, local: Floats
    ) -> None:
        self.plan, self.source, self.target, self.source_world, self.local = plan, source, target, source_world, local
        self.scratch = np.empty(local.shape[2])
        self.done: dict[int, Floats] = {}
        self.motions: dict[int, Floats] = {}
        self.arcs: dict[tuple[int, int], tuple[Floats, Floats, Floats]] = {}

    def of(self, bone: int) -> Floats:
        """``(4, frames)``, or one column ``(4, 1)`` where nothing moves."""
        if bone not in self.done:
            pair, parent = self.plan.pairs.get(bone), int(self.target.skeleton.parents[bone])
            reference, rest = self.target.reference.rotations[bone], self.target.resting_rotations[bone]
            if pair is not None:
                motion = self._between(pair) if pair.between else self._motion(pair.first)
                self.done[bone] = _times(motion, reference)
            elif bone in self.plan.extras:  # between two bones of a limb: its own turn is done, parents come first
                above = self.of(parent) if parent >= 0 else IDENTITY[:, None]
                self.done[bone] = multiply_into(np.empty_like(self.local[bone]), above, self.local[bone], self.scratch)
            else:
                self.done[bone] = rest[:, None] if parent < 0 else _times(self.of(parent), rest)
        return self.done[bone]

    def _motion(self, source_bone: int) -> Floats:
        """How far a bone of the source has turned from its reference pose."""
        if source_bone not in self.motions:
            undo = conjugate(self.source.reference.rotations[source_bone])
            self.motions[source_bone] = _times(self.source_world[source_bone], undo)
            if source_bone in self.plan.bent:
                self.motions[source_bone] = self._bent(self.plan.bent[source_bone], self.motions[source_bone])
        return self.motions[source_bone]

    def _bent(self, limb: CutLimb, motion: Floats) -> Floats:
        """The motion of a limb in pieces as if it were one bone: it points from its joint to the next."""
        world, steps = self.source_world, self.source.skeleton.rest_translations
        held = self.source.reference.rotations
        chain = [limb.holder, *limb.between]
        onward = [*limb.between, limb.following]
        now = np.sum([rotate(world[bone].T, steps[child]) for bone, child in zip(chain, onward, strict=True)], axis=0)
        then = np.sum([rotate(held[bone], steps[child]) for bone, child in zip(chain, onward, strict=True)], axis=0)
        swing = quaternion_between(rotate(motion.T, then), now)
        return np.ascontiguousarray(multiply(swing, motion.T).T)

    def _between(self, pair: Pair) -> Floats:
        """Part of the way between the motions of two bones, evenly (slerp); the arc is shared by a chain's bones."""
        key = (pair.first, pair.second)
        first = self._motion(pair.first)
        if key not in self.arcs:
            second = self._motion(pair.second)
            cosine = np.einsum("cf,cf->f", first, second)
            second = np.where(cosine < 0.0, -second, second)
            angle = np.arccos(np.minimum(np.abs(cosine), 1.0))
            self.arcs[key] = second, angle, np.sin(angle)
        second, angle, sine = self.arcs[key]
        near = sine < 1e-6  # the arc is a line there
        safe = np.where(near, 1.0, sine)
        weight_first = np.where(near, 1.0 - pair.fraction, np.sin((1.0 - pair.fraction) * angle) / safe)
        weight_second = np.where(near, pair.fraction, np.sin(pair.fraction * angle) / safe)
        return weight_first * first + weight_second * second


def _times(rotations: Floats, constant: Floats) -> Floats:
    """``rotations * constant``, component first; what is nearly zero in the constant is made zero and costs nothing."""
    matrix = _cleaned(np.stack([multiply(unit, constant) for unit in np.eye(4)], axis=1))
    return linear_into(np.empty(rotations.shape), matrix, rotations, np.empty(rotations.shape[1]))


def _map_between(above: Floats, constant: Floats) -> list[list[float]]:
    """The matrix of ``q -> above⁻¹ * q * constant``."""
    columns = [multiply(multiply(conjugate(above), unit), constant) for unit in np.eye(4)]
    return _cleaned(np.stack(columns, axis=1))


def _cleaned(matrix: Floats) -> list[list[float]]:
    rows: list[list[float]] = np.where(np.abs(matrix) < 1e-15, 0.0, matrix).tolist()
    return rows
