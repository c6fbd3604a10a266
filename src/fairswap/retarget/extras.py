"""Bones without a role that both figures have under one name: tails, skirts, ears, twist and face bones of one family.

What such a bone does is told against its parent, and done against the partner's parent: it says nothing about bodies,
so that it fits figures whose trunks have other counts of bones.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Container, Mapping
from dataclasses import dataclass

import numpy as np

from fairswap.errors import Finding
from fairswap.formats.naming import bare_name
from fairswap.model.arrays import Floats
from fairswap.model.poses import Poses
from fairswap.model.rotation import conjugate, multiply, rotate
from fairswap.pose.rigged import RiggedFigure
from fairswap.wording import listed

# Names that mean nothing, but for their number: two figures may have them by chance.
_MEANINGLESS = frozenset(["bone", "joint", "jnt", "node", "object", "dummy", "null", "empty", "helper", "bip", "def"])
# What moves less than this in a clip stays at rest.
_STILL, _STILL_M = 1e-4, 1e-5
# What turns by more than some four degrees is seen to be missing.
_SEEN = 0.025
# A joint is out of its place from this share of its bone on; bones count as no shorter than this, in leg lengths.
_STRETCHED, _SHORTEST = 0.1, 0.05


@dataclass(frozen=True)
class Extra:
    """A bone of the target and the one of the source that it does the same as."""

    target: int
    source: int


def stretched_joints(poses: Poses, source: RiggedFigure) -> list[tuple[str, float, int]]:
    """Joints of the source that come off where they rest on their parents, by more than a tenth of that bone: role, by
    how much of it, and the worst frame. Other figures keep their bones' lengths: it is not carried over."""
    skeleton, found = source.skeleton, []
    for bone, track in poses.translation_by_bone().items():
        role = source.role_of_bone.get(bone, "")
        if role in ("", "hips", "root") or track.shape[1] == 1:
            continue
        rest = skeleton.rest_translations[bone]
        size = max(float(np.linalg.norm(rest)), _SHORTEST * source.reference.leg_m)
        off = np.linalg.norm(track.T - rest, axis=1) / size
        worst = int(np.argmax(off))
        if off[worst] > _STRETCHED:
            found.append((role, float(off[worst]), worst))
    return sorted(found, key=lambda row: -row[1])


def pair_extras(source: RiggedFigure, target: RiggedFigure) -> list[Extra]:
    """Bones without a role of one name, on the same part of the body; in the order of the target's bones.

    Of figures with the same bones all are pairs, whatever they are called. What holds the hips is none: where they go,
    and how they are turned, is told in the world.
    """
    free = []
    for rigged in (source, target):
        taken = {*rigged.role_of_bone, *rigged.skeleton.ends}
        taken |= set(rigged.skeleton.with_ancestors([rigged.roles.bones["hips"]]))
        free.append([bone for bone in range(len(rigged.skeleton)) if bone not in taken])
    same = source.skeleton.names == target.skeleton.names
    names = [
        {bone: str(bone) if same else bare_name(rigged.skeleton.names[bone]) for bone in bones}
        for rigged, bones in zip((source, target), free, strict=True)
    ]
    counts = [Counter(found.values()) for found in names]
    by_name = {name: bone for bone, name in names[0].items() if counts[0][name] == 1}
    out = []
    for bone, name in names[1].items():
        other = by_name.get(name)
        if other is None or counts[1][name] > 1 or not (same or _means_something(name)):
            continue
        if _held_by(source, other) == _held_by(target, bone):
            out.append(Extra(bone, other))
    return out


def map_of(source: RiggedFigure, target: RiggedFigure, extra: Extra) -> tuple[Floats, Floats]:
    """The quaternions ``above`` and ``constant``: the target's local rotation is above⁻¹ · the source's · constant."""
    turn = _between_parents(source, target, extra)
    rests = source.resting_rotations[extra.source], target.resting_rotations[extra.target]
    return conjugate(turn), multiply(multiply(conjugate(rests[0]), conjugate(turn)), rests[1])


def moving_extras(poses: Poses, source: RiggedFigure, extras: list[Extra]) -> list[Extra]:
    """Those that leave their rest in some frame."""
    return [extra for extra in extras if _moves(poses, source, extra.source)]


def lost_extras(
    poses: Poses, source: RiggedFigure, extras: list[Extra], face: Container[int] | None = None
) -> list[str]:
    """The bones of the source without a role and without a partner that move, by name; not counted are helpers, which
    share out what others do, what is above a role, which goes along with it all, and bones of the ``face``: without,
    all on the head."""
    skeleton = source.skeleton
    done = {extra.source for extra in extras} | set(source.roles.helpers) | skeleton.ends
    done |= set(skeleton.with_ancestors(source.role_of_bone)) | source.figure.face_controls
    left = [bone for bone in range(len(skeleton)) if bone not in done and _moves(poses, source, bone, _SEEN)]
    if face is None:
        face = set(skeleton.below(source.roles.bones["head"]).tolist())
    return [skeleton.labels[bone] for bone in left if bone not in face]


def extras_lost(clip: str, lost: list[str]) -> list[Finding]:
    """What is told of bones that move, and have no partner."""
    if not lost:
        return []
    does, called = ("moves", "bone of this name") if len(lost) == 1 else ("move", "bones of these names")
    message = f"{listed(lost)} {does} too, and the target has no {called}: not carried over"
    return [Finding("extras-lost", "note", clip, message)]


def _moves(poses: Poses, source: RiggedFigure, bone: int, least: float = _STILL) -> bool:
    turned = np.abs(source.resting_rotations[bone] @ poses.rotation_tracks[bone]).min() < 1.0 - least**2
    place = source.skeleton.rest_translations[bone][:, None]
    return bool(turned or np.abs(poses.translation_track(bone) - place).max() > _STILL_M)


def extra_translations(
    poses: Poses, source: RiggedFigure, target: RiggedFigure, extras: list[Extra], scale: float
) -> Mapping[int, Floats]:
    """Local position tracks ``(3, frames)`` of the target's extras whose partners leave their place: as far against
    the length of the bone, or ``scale`` where it has none."""
    moved = poses.translation_by_bone()
    out = {}
    for extra in extras:
        track = moved.get(extra.source)
        rests = source.skeleton.rest_translations[extra.source], target.skeleton.rest_translations[extra.target]
        if track is None or np.abs(track - rests[0][:, None]).max() <= _STILL_M:
            continue
        lengths = [float(np.linalg.norm(rest)) for rest in rests]
        size = lengths[1] / lengths[0] if min(lengths) > 0.01 * source.reference.leg_m else scale
        away = rotate(_between_parents(source, target, extra), (track - rests[0][:, None]).T)
        out[extra.target] = np.ascontiguousarray((rests[1] + size * away).T)
    return out


def _between_parents(source: RiggedFigure, target: RiggedFigure, extra: Extra) -> Floats:
    """The turn from the frame of the source's parent to that of the target's parent, both in their reference poses."""
    worlds = []
    for rigged, bone in ((target, extra.target), (source, extra.source)):
        parent = int(rigged.skeleton.parents[bone])
        worlds.append(rigged.reference.rotations[parent] if parent >= 0 else np.array([0.0, 0.0, 0.0, 1.0]))
    return multiply(conjugate(worlds[0]), worlds[1])


def _means_something(name: str) -> bool:
    return any(len(word) > 2 and word not in _MEANINGLESS for word in re.findall(r"[^\W\d_]+", name))


def _held_by(rigged: RiggedFigure, bone: int) -> str:
    """The role above a bone, without its number: which part of the body it hangs on."""
    while bone >= 0:
        role = rigged.role_of_bone.get(bone)
        if role is not None:
            return role.rstrip("0123456789")
        bone = int(rigged.skeleton.parents[bone])
    return ""
