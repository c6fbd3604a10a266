"""A motion on the figure it was made for, or on one of the very same bones: it is what it is. On one of the same
family, whose bones are longer or shorter, every joint turns as it did.

Both may have bones that the other has not, a root or props: what counts is that the body's bones are called alike, rest
alike and fill the same roles.
"""

from __future__ import annotations

from collections import Counter
from dataclasses import replace

import numpy as np

from fairswap.model.arrays import Floats
from fairswap.model.poses import Poses
from fairswap.model.rotation import angle_between, multiply
from fairswap.model.skeleton import Skeleton
from fairswap.pose.choice import AUTO
from fairswap.pose.reference import leg_length
from fairswap.pose.rigged import Decided, RiggedFigure

# Bones rest alike that are nearer to each other than this, in legs, and turned by less. One that does not turn in a
# clip has more than this cosine with its rest; one that does not leave its place is nearer to it, metres.
_ONE_PLACE, _ONE_TURN = 1e-4, np.radians(0.05)
# Of one family, they point the same way to within this cosine, a degree.
_ONE_WAY = np.cos(np.radians(1.0))
_UNTURNED, _IN_PLACE_M = 1.0 - 1e-9, 1e-6


def same_bones(source: RiggedFigure, target: RiggedFigure) -> dict[int, int]:
    """For each bone of the target that the source has, too, that one; none if they are not of one build.

    Where other reference poses are asked for than what suits, these have to be the same.
    """
    a, b = source.skeleton, target.skeleton
    pairs = _of_one_name(a, b)
    own = _body(target)
    if not _of_one_body(source, target, pairs):
        return {}
    near = _ONE_PLACE * leg_length(source.roles, a.rest.positions[0])
    places = [one.rest.positions[0] for one in (b, a)]
    turns = [one.rest.rotations[0] for one in (b, a)]
    mine, theirs = np.array([*pairs]), np.array([*pairs.values()])
    alike = np.linalg.norm(places[0][mine] - places[1][theirs], axis=1) < near
    alike &= angle_between(turns[0][mine], turns[1][theirs]) < _ONE_TURN
    found = {bone: pairs[bone] for bone in mine[alike].tolist()}
    return found if found.keys() >= set(own.values()) and _of_one_pose(source, target, found) else {}


def same_family(source: RiggedFigure, target: RiggedFigure) -> dict[int, int]:
    """As :func:`same_bones`, of the body's bones alone, however long they are: they rest turned alike, and point from
    where they hang to the same side."""
    a, b = source.skeleton, target.skeleton
    pairs = _of_one_name(a, b)
    if not _of_one_body(source, target, pairs):
        return {}
    found = {bone: pairs[bone] for bone in _body(target).values()}
    hips = target.roles.bones["hips"]
    if not all(_hang_alike(a, b, bone, other, pairs) for bone, other in found.items() if bone != hips):
        return {}
    mine, theirs = np.array([*found]), np.array([*found.values()])
    turned = angle_between(b.rest.rotations[0][mine], a.rest.rotations[0][theirs]).max()
    steps = [_steps(b)[mine], _steps(a)[theirs]]
    lengths = [np.linalg.norm(one, axis=1) for one in steps]
    told = (np.minimum(*lengths) > _ONE_PLACE * leg_length(source.roles, a.rest.positions[0])) & (mine != hips)
    cosines = np.einsum("bc,bc->b", *steps)[told] / (lengths[0] * lengths[1])[told]
    alike = turned < _ONE_TURN and cosines.min(initial=1.0) > _ONE_WAY
    return found if alike and _of_one_pose(source, target, found) else {}


def _steps(skeleton: Skeleton) -> Floats:
    """From what each bone hangs on to it, at rest, in the world ``(bones, 3)``."""
    places = skeleton.rest.positions[0]
    return places - np.where(skeleton.parents[:, None] >= 0, places[skeleton.parents], 0.0)


def _body(rigged: RiggedFigure) -> dict[str, int]:
    return {role: bone for role, bone in rigged.roles.bones.items() if role != "root"}


def _of_one_body(source: RiggedFigure, target: RiggedFigure, pairs: dict[int, int]) -> bool:
    return {role: pairs.get(bone, -1) for role, bone in _body(target).items()} == _body(source)


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


def decided_of(source: RiggedFigure, target: RiggedFigure, same: dict[int, int], *, one_length: bool) -> Decided:
    """What was decided of the source, for the bones of the target: one body has one reference pose, whichever clip
    shows it. Bones that the source has not go along with what they hang on; another skin may stand on thicker soles.

    Where not all of them are of one length, its legs are as long as they are, and its hips over them.
    """
    skeleton, reference = target.skeleton, source.reference
    rotations = skeleton.rest.rotations[0].copy()
    for bone, parent in enumerate(skeleton.parents.tolist()):
        if bone in same:
            rotations[bone] = reference.rotations[same[bone]]
        elif parent >= 0:
            rotations[bone] = multiply(rotations[parent], skeleton.rest_rotations[bone])
    if one_length:
        floor_m = target.floor_m if target.figure.meshes else source.floor_m
        return Decided(replace(reference, rotations=rotations), floor_m)
    own = target.reference
    return Decided(target.stood_up(replace(own, rotations=rotations)), target.floor_m)


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
