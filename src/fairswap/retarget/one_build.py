"""A motion on the figure it was made for, or on one of the very same bones: it is what it is.

Both may have bones that the other has not, a root or props: what counts is that the body's bones are called alike, rest
alike and fill the same roles.
"""

from __future__ import annotations

from collections import Counter

import numpy as np

from fairswap.model.arrays import Floats
from fairswap.model.poses import Poses
from fairswap.model.rotation import angle_between, multiply
from fairswap.model.skeleton import Skeleton
from fairswap.pose.choice import AUTO
from fairswap.pose.reference import ReferencePose, leg_length
from fairswap.pose.rigged import Decided, RiggedFigure

# Bones rest alike that are nearer to each other than this, in legs, and turned by less. One that does not turn in a
# clip has more than this cosine with its rest; one that does not leave its place is nearer to it, metres.
_ONE_PLACE, _ONE_TURN = 1e-4, np.radians(0.05)
_UNTURNED, _IN_PLACE_M = 1.0 - 1e-9, 1e-6


def same_bones(source: RiggedFigure, target: RiggedFigure) -> dict[int, int]:
    """For each bone of the target that the source has, too, that one; none if they are not of one build.

    Where other reference poses are asked for than what suits, these have to be the same.
    """
    a, b = source.skeleton, target.skeleton
    pairs = _of_one_name(a, b)
    own, other = ({role: bone for role, bone in one.roles.bones.items() if role != "root"} for one in (target, source))
    if {role: pairs.get(bone, -1) for role, bone in own.items()} != other:
        return {}
    near = _ONE_PLACE * leg_length(source.roles, a.rest.positions[0])
    places = [one.rest.positions[0] for one in (b, a)]
    turns = [one.rest.rotations[0] for one in (b, a)]
    mine, theirs = np.array([*pairs]), np.array([*pairs.values()])
    alike = np.linalg.norm(places[0][mine] - places[1][theirs], axis=1) < near
    alike &= angle_between(turns[0][mine], turns[1][theirs]) < _ONE_TURN
    found = {bone: pairs[bone] for bone in mine[alike].tolist()}
    return found if found.keys() >= set(own.values()) and _of_one_pose(source, target, found) else {}


def _of_one_name(a: Skeleton, b: Skeleton) -> dict[int, int]:
    """The bones of ``b`` that are called as one of ``a``; of the same skeletons all, whatever they are called."""
    if a.names == b.names:
        return {bone: bone for bone in range(len(b))}
    counts = [Counter(one.names) for one in (a, b)]
    at = {name: bone for bone, name in enumerate(a.names) if counts[0][name] == 1}
    return {bone: at[name] for bone, name in enumerate(b.names) if name in at and counts[1][name] == 1}


def _of_one_pose(source: RiggedFigure, target: RiggedFigure, same: dict[int, int]) -> bool:
    """Whether what a motion is told from is one pose: where nothing else is asked for, of one body it is."""
    asked = [(one.reference_choice, one.hands_choice) for one in (source, target)]
    if all(choice.kind == AUTO.kind for choices in asked for choice in choices):
        return True
    if source.hands_choice.kind != target.hands_choice.kind:
        return False
    # About which lines limbs bend may be told by the clip: the poses that it starts from say whether it is one.
    told = any(choice.saved is not None for choices in asked for choice in choices)
    poses = [one.reference.rotations if told else one.base.world.rotations[0] for one in (target, source)]
    return bool(angle_between(poses[0][[*same]], poses[1][[*same.values()]]).max() < _ONE_TURN)


def decided_of(source: RiggedFigure, target: RiggedFigure, same: dict[int, int]) -> Decided:
    """What was decided of the source, for the bones of the target: one body has one reference pose, whichever clip
    shows it. Bones that the source has not go along with what they hang on; another skin may stand on thicker soles."""
    skeleton, reference = target.skeleton, source.reference
    rotations = skeleton.rest.rotations[0].copy()
    for bone, parent in enumerate(skeleton.parents.tolist()):
        if bone in same:
            rotations[bone] = reference.rotations[same[bone]]
        elif parent >= 0:
            rotations[bone] = multiply(rotations[parent], skeleton.rest_rotations[bone])
    floor_m = target.floor_m if target.figure.meshes else source.floor_m
    return Decided(ReferencePose(rotations, reference.hips, reference.leg_m, reference.corrections), floor_m)


def kept_as_they_are(source: RiggedFigure, target: RiggedFigure, same: dict[int, int], poses: Poses) -> dict[int, int]:
    """The bones of the target that do what bones of the source do in ``poses``, out of place or not, with those bones.

    They hang on the same, below the hips; others count, too, unless something above the hips moves, which rests in a
    result.
    """
    hips = target.roles.bones["hips"]
    above = target.skeleton.with_ancestors([hips])[:-1]
    kept = {bone: other for bone, other in same.items() if bone != hips and bone not in above
            and _hang_alike(source.skeleton, target.skeleton, bone, other, same)}  # fmt: skip
    holders = source.skeleton.with_ancestors([source.roles.bones["hips"]])[:-1]
    resting = source.resting_rotations[holders]
    turned = np.abs(np.einsum("bc,bcf->bf", resting, poses.rotation_tracks[holders])).min(initial=1.0) < _UNTURNED
    if turned or not off_their_rest(poses).keys().isdisjoint(holders):
        below = set(target.skeleton.below(hips).tolist())
        kept = {bone: other for bone, other in kept.items() if bone in below}
    return kept


def _hang_alike(a: Skeleton, b: Skeleton, bone: int, other: int, same: dict[int, int]) -> bool:
    above, theirs = int(b.parents[bone]), int(a.parents[other])
    return same.get(above) == theirs if above >= 0 and theirs >= 0 else above == theirs


def off_their_rest(poses: Poses) -> dict[int, Floats]:
    """The local position tracks of the bones that leave their places on what they hang on, ``(3, frames)``."""
    rest = poses.skeleton.rest_translations
    return {
        bone: track
        for bone, track in poses.translation_by_bone().items()
        if np.abs(track - rest[bone][:, None]).max() > _IN_PLACE_M
    }
