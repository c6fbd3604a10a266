"""Faces made of bones: which bones they are, what each face unit makes of them, and poses read off and put on.

A pose moves and turns each bone away from its rest, as seen from its parent at rest, in the figure's own axes and in
head sizes; so it fits a head whose bones stand elsewhere.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from fairswap.bones.roles import SIDES, RoleMap
from fairswap.errors import Finding
from fairswap.face.anatomy import GAZE_DEGREES, JAW_DEGREES, FacePoints, displacement, gaze_axis
from fairswap.face.chart import FaceChart, Shape
from fairswap.face.geometry import FaceFrame
from fairswap.face.units import UNITS, base_of, side_of
from fairswap.face.words import shape_name
from fairswap.model.arrays import Floats
from fairswap.model.bounded import bounded_weights
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
_DEGREE = 0.006
# Against what is left over, what the poses move that are to make it; and from how many times the least of that on it is
# in vain: somewhat, and wholly.
_EFFORT, _VAIN = 0.01, (1.5, 2.0)
# A unit is possible if some bone goes this share of the way that the skin would.
_ENOUGH, _LEAST = 0.4, 0.003
# A bone that is further than this behind the skin it holds, in head sizes, turns where others slide.
_DEEP = 0.1
# A bone of a face that is further than this from where its skin is bound to it is not at rest.
_OFF_M, _OFF_DEGREES = 0.003, 4.0
# How far the chin is ahead of the jaw's hinge, in head sizes.
_CHIN_AHEAD = 0.26
# Where a brow of one bone goes, in head sizes; of the left side.
_WHOLE_BROW = {"brow_raiser": (0.0, 0.045, 0.004), "brow_lowerer": (-0.015, -0.035, 0.005)}
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


def anatomical_poses(
    skeleton: Skeleton, roles: RoleMap, frame: FaceFrame, skin: Mapping[str, Floats] | None = None
) -> dict[str, Shape]:
    """What each face unit makes of the bones of a face, as our neutral face would move at their places.

    ``skin`` says where the middle of the skin is that a bone holds, metres: one that is deep below it turns.
    """
    bones = face_bones(skeleton, roles, frame)
    joints = skeleton.rest.positions[0]
    jaw = roles.bones.get("jaw")
    eyes = {side: roles.bones.get(f"eye_{side}") for side in SIDES}
    moving = {name: bone for name, bone in bones.items() if bone != jaw and bone not in eyes.values()}
    levers = {name: place - joints[moving[name]] for name, place in (skin or {}).items() if name in moving}
    levers = {name: lever for name, lever in levers.items() if lever[2] > _DEEP * frame.size}
    held = [joints[bone] + levers.get(name, np.zeros(3)) for name, bone in moving.items()]
    points = FacePoints.on_skin(frame.places(np.array(held))[:, :2]) if held else None
    if points is not None:
        _sides_of_slits(points, list(moving))
    out = {}
    for unit in UNITS:
        action = base_of(unit)
        moves: dict[str, tuple[Floats, Floats]] = {}
        if action.startswith("gaze_"):
            eye = eyes[side_of(unit)]
            if eye is not None:
                moves[skeleton.names[eye]] = (np.zeros(3), gaze_axis(unit) * GAZE_DEGREES)
        elif action.startswith("jaw_") and jaw is not None:
            sideways = {"jaw_left": 0.05, "jaw_right": -0.05}.get(action, 0.0)
            move = np.array([sideways, 0.0, 0.05 if action == "jaw_thrust" else 0.0])
            moves[skeleton.names[jaw]] = (move, np.array([JAW_DEGREES if action == "jaw_drop" else 0.0, 0.0, 0.0]))
        elif points is not None and action != "tongue_show":
            ways = displacement(unit, points)
            size = np.linalg.norm(ways, axis=1)
            if size.max() >= _ENOUGH * _furthest(unit):
                moves = {
                    name: _turned(ways[i], levers[name], frame) if name in levers else (ways[i], np.zeros(3))
                    for i, name in enumerate(moving)
                    if size[i] > max(_LEAST, 0.12 * size.max())
                }
        if moves:
            out[unit] = Shape(unit, {unit: 1.0}, bones=moves)
    return out | _brows_of_one_bone(moving, joints, levers, frame, out)


def _brows_of_one_bone(
    bones: Mapping[str, int], joints: Floats, levers: Mapping[str, Floats], frame: FaceFrame, poses: Mapping[str, Shape]
) -> dict[str, Shape]:
    """The poses of a bone that is all there is of a brow: it goes up and down as a whole."""
    out = {}
    for side in SIDES:
        sign = 1.0 if side == "left" else -1.0
        own = [name for name in bones if "brow" in shape_name(name).notions and sign * joints[bones[name]][0] > 0.0]
        if len(own) != 1 or f"inner_brow_raiser_{side}" in poses or f"outer_brow_raiser_{side}" in poses:
            continue
        for unit, way in _WHOLE_BROW.items():
            if f"{unit}_{side}" not in poses:
                move = np.array(way) * [sign, 1.0, 1.0]
                pose = _turned(move, levers[own[0]], frame) if own[0] in levers else (move, np.zeros(3))
                out[f"{unit}_{side}"] = Shape(f"{unit}_{side}", {f"{unit}_{side}": 1.0}, bones={own[0]: pose})
    return out


def skin_middles(figure: Figure, bones: Mapping[str, int]) -> dict[str, Floats]:
    """Where the middle of the skin is that each bone holds at rest, metres; without those that hold none."""
    out = {}
    for name, bone in bones.items():
        weights = [np.where(mesh.joints == bone, mesh.weights, 0.0).sum(axis=1) ** 2 for mesh in figure.meshes]
        whole = sum(float(weight.sum()) for weight in weights)
        if whole > 0.0:
            parts = (weight @ vertices for weight, vertices in zip(weights, figure.rest_vertices, strict=True))
            out[name] = np.asarray(sum(parts) / whole)
    return out


def _turned(way: Floats, lever: Floats, frame: FaceFrame) -> tuple[Floats, Floats]:
    """A pose in which a bone turns, so that what is at the end of its lever goes a way, in head sizes."""
    metres = way * frame.size * np.array([frame.wide, 1.0, 1.0])
    return np.zeros(3), np.degrees(np.cross(lever, metres) / (lever @ lever))


def unlike_their_binding(figure: Figure, roles: RoleMap, bones: set[str]) -> list[Finding]:
    """Bones of a face that rest elsewhere, by the head, than their skin is bound to them."""
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
    message = f"bones of the face rest elsewhere than their skin is bound: {rows}; poses count from that rest"
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
        rows[number, 3:] = _DEGREE * np.degrees(rotation_vector(multiply(multiply(above, turn), conjugate(above)))).T
        moved = poses.translation_track(bone).T - skeleton.rest_translations[bone]
        rows[number, :3] = frame.directions(rotate(above, moved)).T
    return rows.reshape(-1, poses.frames)


def activations_from_bones(
    chart: FaceChart, poses: Poses, bones: Mapping[str, int], frame: FaceFrame, jaw: int | None = None
) -> tuple[list[int], Floats]:
    """Which ways of a chart are poses of bones, and their shares ``(poses, frames)`` that make what the bones do."""
    numbers, moving = _posed(chart, bones)
    if not numbers:
        return [], np.zeros((0, poses.frames))
    shares, _ = _read(chart, numbers, bone_features(poses, moving, frame), moving, frame, jaw)
    return numbers, shares


def read_in_bones(
    chart: FaceChart, poses: Poses, bones: Mapping[str, int], frame: FaceFrame, jaw: int | None = None
) -> tuple[Floats, Floats]:
    """What bones do, and what of it the poses of a chart do not make: moves in head sizes, then turns in degrees, each
    ``(bones, 6, frames)``."""
    numbers, _ = _posed(chart, bones)
    seen = bone_features(poses, bones, frame)
    _, left = _read(chart, numbers, seen, bones, frame, jaw)
    degrees = np.repeat([1.0, 1.0 / _DEGREE], 3)[:, None]
    does, unread = (degrees * features.reshape(-1, 6, poses.frames) for features in (seen, left))
    return does, unread


def _posed(chart: FaceChart, bones: Mapping[str, int]) -> tuple[list[int], dict[str, int]]:
    """The ways of a chart, by number, that are poses of bones, and those of these bones that they pose."""
    numbers = [i for i, (name, _) in enumerate(chart.columns) if chart.shapes[name].bones]
    posed = {name for i in numbers for name in chart.shapes[chart.columns[i][0]].bones}
    moving = {name: bone for name, bone in bones.items() if name in posed}
    return (numbers if moving else []), moving


def _read(
    chart: FaceChart, numbers: list[int], seen: Floats, bones: Mapping[str, int], frame: FaceFrame, jaw: int | None
) -> tuple[Floats, Floats]:
    """The shares ``(poses, frames)`` of some ways of a chart that make what is ``seen`` of bones, and what is left."""
    at = None if jaw is None or jaw not in bones.values() else list(bones.values()).index(jaw)
    seen = _as_chin_goes(seen, at, frame)
    if not numbers:
        return np.zeros((0, seen.shape[1])), seen
    matrix = np.stack([_features_of(chart.shapes[chart.columns[i][0]], bones) for i in numbers], axis=1)
    matrix = _as_chin_goes(matrix, at, frame)
    shares = _without_vain_effort(matrix, seen, bounded_weights(matrix, seen, np.full(len(numbers), 1.5)))
    return shares, seen - matrix @ shares


def _without_vain_effort(matrix: Floats, seen: Floats, nearest: Floats) -> Floats:
    """Shares of poses ``(poses, frames)``, the ``nearest`` or, where those undo each other, simpler ones.

    A stranger's bones go a little otherwise than our poses. To make that up to the last millimetre, poses are laid over
    each other that take back most of what each does: a smile is read as lips sucked in, pushed out and pulled, all to
    the full. Ridge regression (Hoerl and Kennard 1970) on poses of one size has the simple answer, but comes a little
    short; what moves hardly more than it is the nearest one, as it is.
    """
    size = np.maximum(np.linalg.norm(matrix, axis=0), 1e-9)
    rows = np.concatenate([matrix / size, np.sqrt(_EFFORT) * np.eye(len(size))])
    wanted = np.concatenate([seen, np.zeros((len(size), seen.shape[1]))])
    simple = bounded_weights(rows, wanted, 1.5 * size)
    effort = (np.square(shares).sum(axis=0) for shares in (nearest * size[:, None], simple))
    vain = np.divide(*(each + 1e-9 for each in effort))
    simple /= size[:, None]
    return np.asarray(simple + np.clip((_VAIN[1] - vain) / (_VAIN[1] - _VAIN[0]), 0.0, 1.0) * (nearest - simple))


def _as_chin_goes(features: Floats, jaw: int | None, frame: FaceFrame) -> Floats:
    """Features in which a jaw that swings to a side goes as far as its chin: on some rigs it slides, on others it
    turns."""
    if jaw is None:
        return features
    out = features.copy()
    out[6 * jaw] += _CHIN_AHEAD / frame.wide * np.radians(features[6 * jaw + 4] / _DEGREE)
    out[6 * jaw + 4] = 0.0
    return out


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
        move, turn = row[:3], row[3:] / _DEGREE
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


def _features_of(shape: Shape, bones: Mapping[str, int]) -> Floats:
    zero = (np.zeros(3), np.zeros(3))
    return np.concatenate(
        [np.concatenate([move, _DEGREE * turn]) for move, turn in (shape.bones.get(name, zero) for name in bones)]
    )


def _parent_at_rest(skeleton: Skeleton, bone: int) -> Floats:
    parent = int(skeleton.parents[bone])
    return skeleton.rest.rotations[0, parent] if parent >= 0 else np.array([0.0, 0.0, 0.0, 1.0])


def _furthest(unit: str) -> float:
    """How far a unit takes the landmark it takes furthest."""
    from fairswap.face.anatomy import landmark_displacements

    return float(np.linalg.norm(landmark_displacements()[:, UNITS.index(unit)].reshape(-1, 3), axis=1).max())


def _sides_of_slits(points: FacePoints, names: list[str]) -> None:
    """What a bone's name says of upper and lower lips and lids counts more than its height."""
    for i, name in enumerate(names):
        notions = shape_name(name).notions
        for part, array in (("lip", points.over_mouth), ("mouth", points.over_mouth), ("lid", points.over_eye)):
            if part in notions and "upper" in notions:
                array[i] = 1.0
            elif part in notions and "lower" in notions:
                array[i] = 0.0
