"""Faces made of bones: which bones they are, what they do in a clip, and poses put on them.

A pose moves and turns each bone away from its rest, as seen from its parent at rest, in the figure's own axes and in
head sizes; so it fits a head whose bones stand elsewhere.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from fairswap.bones.roles import RoleMap
from fairswap.errors import Finding
from fairswap.face.chart import Shape
from fairswap.face.geometry import FaceFrame
from fairswap.face.words import shape_name
from fairswap.model.arrays import Floats
from fairswap.model.figure import Figure
from fairswap.model.poses import PoseBuilder, Poses
from fairswap.model.rotation import (
    conjugate,
    matrix_from_quaternion,
    multiply,
    quaternion_from_axis_angle,
    rotate,
    rotation_vector,
)
from fairswap.model.skeleton import Skeleton
from fairswap.wording import listed

# How much a degree counts against a head size, when poses are told apart.
DEGREE = 0.006
# A bone of a face that is further than this from where its skin is bound to it is not at rest.
_OFF_M, _OFF_DEGREES = 0.003, 4.0
_FACE_WORDS = frozenset(
    ["brow", "lid", "eye", "cheek", "nose", "nostril", "mouth", "lip", "jaw", "chin", "tongue", "corner"]
)


def face_bones(skeleton: Skeleton, roles: RoleMap, frame: FaceFrame) -> dict[str, int]:
    """The bones of a face by name: jaw, eyes, and the bones at the front of the head that have no other role."""
    head = roles.bones.get("head")
    if head is None:
        return {}
    below = {bone for bone in range(len(skeleton)) if bone != head and head in skeleton.with_ancestors([bone])}
    other = {bone for role, bone in roles.bones.items() if role not in ("jaw", "eye_left", "eye_right")}
    places = frame.places(skeleton.rest.positions[0])
    out = {}
    for bone in sorted(below - other - skeleton.tips):
        x, y, z = places[bone].tolist()
        in_front = abs(x) < 0.36 and -0.15 < y < 0.75 and z > 0.12
        if bone in roles.bones.values() or called_of_a_face(skeleton.names[bone]) or in_front:
            out[skeleton.names[bone]] = bone
    return out


def called_of_a_face(name: str) -> bool:
    """Whether a bone's name says that it is of a face."""
    return bool(shape_name(name).notions & _FACE_WORDS)


def unlike_their_binding(figure: Figure, roles: RoleMap, bones: set[str], known: bool) -> list[Finding]:
    """Bones of a face that rest elsewhere, by the head, than their skin is bound to them. If it is ``known`` in what
    pose that was, what they do counts from there."""
    skeleton, head = figure.skeleton, roles.bones["head"]
    rest = _matrices(skeleton.rest.rotations[0], skeleton.rest.positions[0])
    off = {}
    for mesh in figure.meshes:
        for name in bones:
            bone = skeleton.names.index(name)
            if not (mesh.weights[mesh.joints == bone] > 0.0).any():
                continue
            bound = mesh.bind_matrices[head] @ np.linalg.inv(mesh.bind_matrices[bone])
            now = np.linalg.inv(rest[head]) @ rest[bone]
            moved = float(np.linalg.norm(now[:3, 3] - bound[:3, 3]))
            turn = np.clip(0.5 * (np.trace(now[:3, :3] @ np.linalg.inv(bound[:3, :3])) - 1.0), -1.0, 1.0)
            turned = float(np.degrees(np.arccos(turn)))
            if moved > _OFF_M or turned > _OFF_DEGREES:
                off[name] = (moved, turned)
    if not off:
        return []
    rows = listed((f"{name!r} ({100 * moved:.1f} cm, {turned:.0f}°)" for name, (moved, turned) in off.items()), 5)
    message = f"bones of the face rest elsewhere than their skin is bound: {rows}; "
    if known:
        message += "what they do counts from how that was bound"
        return [Finding("face-not-at-rest", "note", figure.name, message)]
    message += "poses count from that rest"
    return [Finding("face-not-at-rest", "warning", figure.name, message, "Export it with its face at rest")]


def _matrices(rotations: Floats, positions: Floats) -> Floats:
    out = np.tile(np.eye(4), (len(positions), 1, 1))
    out[:, :3, :3], out[:, :3, 3] = matrix_from_quaternion(rotations), positions
    return out


def bone_features(poses: Poses, bones: Mapping[str, int], frame: FaceFrame) -> Floats:
    """How far each bone is moved and turned away from rest: ``(bones * 6, frames)``."""
    skeleton = poses.skeleton
    rows = np.zeros((len(bones), 6, poses.frames))
    for number, bone in enumerate(bones.values()):
        above = _parent_at_rest(skeleton, bone)
        turn = multiply(poses.rotation_tracks[bone].T, conjugate(skeleton.rest_rotations[bone]))
        rows[number, 3:] = DEGREE * np.degrees(rotation_vector(multiply(multiply(above, turn), conjugate(above)))).T
        moved = poses.translation_track(bone).T - skeleton.rest_translations[bone]
        rows[number, :3] = frame.directions(rotate(above, moved)).T
    return rows.reshape(-1, poses.frames)


def put_on_bones(
    shapes: Sequence[Shape], shares: Floats, skeleton: Skeleton, bones: Mapping[str, int], frame: FaceFrame
) -> dict[int, tuple[Floats, Floats]]:
    """Local rotations ``(4, frames)`` and positions ``(3, frames)`` of bones in the sum of poses, by bone."""
    used = [name for name in bones if any(name in shape.bones for shape in shapes)]
    out = {}
    size = frame.size * np.array([frame.wide, 1.0, 1.0])
    for name in used:
        bone = bones[name]
        above = _parent_at_rest(skeleton, bone)
        zero = (np.zeros(3), np.zeros(3))
        move = sum(
            np.outer(fraction, shape.bones.get(name, zero)[0]) for shape, fraction in zip(shapes, shares, strict=True)
        )
        turn = sum(
            np.outer(fraction, shape.bones.get(name, zero)[1]) for shape, fraction in zip(shapes, shares, strict=True)
        )
        degrees = np.linalg.norm(turn, axis=1)
        axis = np.where(degrees[:, None] > 0.0, turn, [1.0, 0.0, 0.0])
        turned = quaternion_from_axis_angle(axis, np.radians(degrees))
        local = multiply(multiply(conjugate(above), turned), multiply(above, skeleton.rest_rotations[bone]))
        place = skeleton.rest_translations[bone] + rotate(conjugate(above), np.asarray(move) * size)
        out[bone] = (local.T, place.T)
    return out


def control_moves(poses: Poses, bone: int, axis: int) -> Floats:
    """How far a node is from rest along left, up or ahead ``(frames,)``, metres, as seen from its parent at rest."""
    moved = poses.translation_track(bone).T - poses.skeleton.rest_translations[bone]
    return np.asarray(rotate(_parent_at_rest(poses.skeleton, bone), moved)[:, axis])


def moved_controls(skeleton: Skeleton, bone: int, metres: Floats) -> Floats:
    """The local places ``(3, frames)`` of a node so far ``(frames, 3)`` from its rest."""
    return (skeleton.rest_translations[bone] + rotate(conjugate(_parent_at_rest(skeleton, bone)), metres)).T


def pose_from_frame(
    poses: Poses, frame_number: int, bones: Mapping[str, int], frame: FaceFrame
) -> dict[str, tuple[Floats, Floats]]:
    """What the bones of a face do in one frame: moves in head sizes and turns in degrees, of those that do anything."""
    rows = bone_features(poses.at([frame_number]), bones, frame)[:, 0].reshape(-1, 6)
    out = {}
    for name, row in zip(bones, rows, strict=True):
        move, turn = row[:3], row[3:] / DEGREE
        if np.abs(move).max() > 5e-4 or np.abs(turn).max() > 0.1:
            out[name] = (move, turn)
    return out


def face_alone(poses: Poses, face: set[int]) -> Poses:
    """Poses in which only the bones of the face do what they do, and all others rest."""
    skeleton = poses.skeleton
    rotations = np.repeat(skeleton.rest_rotations[:, :, None], poses.frames, axis=2)
    for bone in face:
        rotations[bone] = poses.rotation_tracks[bone]
    translations = {bone: track for bone, track in poses.translation_by_bone().items() if bone in face}
    return PoseBuilder(skeleton, rotations, translations).poses()


def _parent_at_rest(skeleton: Skeleton, bone: int) -> Floats:
    parent = int(skeleton.parents[bone])
    return skeleton.rest.rotations[0, parent] if parent >= 0 else np.array([0.0, 0.0, 0.0, 1.0])
