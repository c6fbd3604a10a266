"""What each face unit makes of the bones of a face: its skin goes as that of our neutral face, with bones that slide
in it or, deep below it, turn."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from fairswap.bones.roles import SIDES, RoleMap
from fairswap.face.anatomy import (
    GAZE_DEGREES,
    JAW_DEGREES,
    FacePoints,
    displacement,
    gaze_axis,
    landmark_displacements,
)
from fairswap.face.bones import face_bones
from fairswap.face.chart import Shape
from fairswap.face.geometry import FaceFrame
from fairswap.face.units import UNITS, base_of, side_of
from fairswap.face.words import shape_name
from fairswap.model.arrays import Floats
from fairswap.model.figure import Figure
from fairswap.model.skeleton import Skeleton

# A unit is possible if some bone goes this share of the way that the skin would.
_ENOUGH, _LEAST = 0.4, 0.003
# A bone that is further than this behind the skin it holds, in head sizes, turns where others slide.
_DEEP = 0.1
# Where a brow of one bone goes, in head sizes; of the left side.
_WHOLE_BROW = {"brow_raiser": (0.0, 0.045, 0.004), "brow_lowerer": (-0.015, -0.035, 0.005)}


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


def _furthest(unit: str) -> float:
    """How far a unit takes the landmark it takes furthest."""
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
