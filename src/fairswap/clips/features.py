"""How a clip moves, in numbers that all bones share: speeds, and the distance between poses wherever they stand."""

from __future__ import annotations

import numpy as np

from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.poses import Poses
from fairswap.model.rotation import conjugate, multiply, quaternion_from_axis_angle, rotate
from fairswap.model.skeleton import Skeleton
from fairswap.model.space import UP

# Of the bones below the one that holds most.
_MOST, _NEARLY_ALL = 0.5, 0.9


def reach_of(skeleton: Skeleton) -> Floats:
    """How far the furthest bone below each is from it at most ``(bones,)``, metres."""
    own = np.linalg.norm(skeleton.rest_translations, axis=1)
    far = np.zeros(len(skeleton))
    for bone in range(len(skeleton) - 1, 0, -1):
        parent = int(skeleton.parents[bone])
        if parent >= 0:
            far[parent] = max(far[parent], own[bone] + far[bone])
    return far


def weights_of(skeleton: Skeleton) -> Floats:
    """How much a turn of each bone is seen ``(bones,)``: by how far what hangs on it reaches, the largest 1."""
    far = reach_of(skeleton)
    return far / max(float(far.max()), 1e-9)


def speed_of(clip: Clip) -> Floats:
    """How fast each bone turns, weighed by how far it is seen, and how fast the clip travels: ``(bones + 1, frames)``,
    radians (and metres) per second."""
    poses = clip.poses
    out = np.zeros((len(clip.skeleton) + 1, clip.frames))
    if clip.frames < 2:
        return out
    tracks = poses.rotation_tracks
    dots = np.abs(np.einsum("bcf,bcf->bf", tracks[:, :, 1:], tracks[:, :, :-1]))
    turned = 2.0 * np.arccos(np.minimum(dots, 1.0)) * weights_of(clip.skeleton)[:, None]
    steps = np.zeros(clip.frames - 1)
    for bone in poses.translated_bones.tolist():
        way = np.diff(np.broadcast_to(poses.translation_track(bone), (3, clip.frames)), axis=1)
        steps = np.maximum(steps, np.linalg.norm(way, axis=0))
    between = np.concatenate([turned, steps[None]]) * float(clip.rate)
    out[:, 1:-1] = np.maximum(between[:, 1:], between[:, :-1])
    out[:, 0], out[:, -1] = between[:, 0], between[:, -1]
    return out


def carrier_of(poses: Poses) -> int:
    """The bone that carries the body over the ground: the first that changes its place and that most others hang on (no
    handle or prop beside the body); where none does, the last that nearly all hang on."""
    held = np.zeros(len(poses.skeleton))
    for bone, parent in reversed(list(enumerate(poses.skeleton.parents.tolist()))):
        if parent >= 0:
            held[parent] += held[bone] + 1
    for bone in poses.translated_bones.tolist():
        goes = np.ptp(np.broadcast_to(poses.translation_track(bone), (3, poses.frames)), axis=1).max() > 1e-6
        if goes and held[bone] >= _MOST * held.max():
            return int(bone)
    return int(np.flatnonzero(held >= _NEARLY_ALL * held.max())[-1])


def carrier_world(poses: Poses, carrier: int | None = None) -> tuple[Floats, Floats]:
    """World rotation ``(frames, 4)`` and position ``(frames, 3)`` of the carrier."""
    return _world_of(poses, poses.skeleton.with_ancestors([carrier_of(poses) if carrier is None else carrier]))


def world_above(poses: Poses, bone: int) -> tuple[Floats, Floats]:
    """World rotation ``(frames, 4)`` and position ``(frames, 3)`` of what a bone hangs on."""
    return _world_of(poses, [other for other in poses.skeleton.with_ancestors([bone]) if other != bone])


def _world_of(poses: Poses, path: list[int]) -> tuple[Floats, Floats]:
    rotation, position = np.tile([0.0, 0.0, 0.0, 1.0], (poses.frames, 1)), np.zeros((poses.frames, 3))
    for bone in path:
        place = np.broadcast_to(poses.translation_track(bone), (3, poses.frames)).T
        position = position + rotate(rotation, place)
        rotation = multiply(rotation, poses.rotation_tracks[bone].T)
    return rotation, position


def heading_of(poses: Poses, rotation: Floats, carrier: int | None = None) -> Floats:
    """The turn about the vertical ``(frames,)``, radians, unwrapped, of the carrier's world rotations ``(frames, 4)``
    away from its rest: their twist about the vertical, which a lean does not change."""
    rest = poses.skeleton.rest.rotations[0, carrier_of(poses) if carrier is None else carrier]
    away = multiply(rotation, conjugate(rest))
    return np.unwrap(2.0 * np.arctan2(away[:, 1], away[:, 3]))


def features_of(poses: Poses, carrier: int) -> Floats:
    """Numbers in which near poses are near, ``(features, frames)``: rotations, weighed by how far they are seen, and
    the height; place and heading over the ground are left out, so that a cycle matches wherever it goes.

    What is compared needs one ``carrier``: a few frames of a clip, or another clip, may have another of their own.
    """
    skeleton = poses.skeleton
    weights = np.sqrt(weights_of(skeleton) + 0.02)
    above = set(skeleton.with_ancestors([carrier])) - {carrier}
    rotation, position = carrier_world(poses, carrier)
    level = multiply(quaternion_from_axis_angle(UP, -heading_of(poses, rotation, carrier)), rotation).T
    rows = []
    for bone in range(len(skeleton)):
        if bone in above:
            continue
        x, y, z, w = level if bone == carrier else poses.rotation_tracks[bone]
        # A quaternion and its negative are one turn: products of its parts are the same for both, and near to the turn.
        rows.append(weights[bone] * np.stack([x * w, y * w, z * w, 0.5 * (x * x - z * z), 0.5 * (y * y - z * z)]))
    rows.append(position[:, 1][None])
    return np.concatenate(rows)
