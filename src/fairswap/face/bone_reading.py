"""What the bones of a face do in a clip, read as shares of the poses of a chart."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from fairswap.face.bones import DEGREE, bone_features
from fairswap.face.chart import FaceChart, Shape
from fairswap.face.geometry import FaceFrame
from fairswap.model.arrays import Floats
from fairswap.model.bounded import bounded_weights
from fairswap.model.poses import Poses

# Against what is left over, what the poses move that are to make it; and from how many times the least of that on it is
# in vain: somewhat, and wholly.
_EFFORT, _VAIN = 0.01, (1.5, 2.0)
# Poses that help each other move less, all together, than the bones do.
_DOUBTED = 1.2
# How far the chin is ahead of the jaw's hinge, in head sizes.
_CHIN_AHEAD = 0.26


def activations_from_bones(
    chart: FaceChart, poses: Poses, bones: Mapping[str, int], frame: FaceFrame, jaw: int | None = None
) -> tuple[list[int], Floats]:
    """Which ways of a chart are poses of bones, and their shares ``(poses, frames)`` that make what the bones do."""
    numbers = _poses_in(chart)
    posed = {name for i in numbers for name in chart.shapes[chart.columns[i][0]].bones}
    moving = {name: bone for name, bone in bones.items() if name in posed}
    if not moving:
        return [], np.zeros((0, poses.frames))
    seen, matrix = _seen_and_posed(chart, poses, moving, frame, jaw)
    return numbers, _without_vain_effort(matrix, seen, bounded_weights(matrix, seen, np.full(len(numbers), 1.5)))


def read_in_bones(
    chart: FaceChart, poses: Poses, bones: Mapping[str, int], frame: FaceFrame, shares: Floats, jaw: int | None = None
) -> tuple[Floats, Floats]:
    """What bones do, and what of it the ways of a chart do not make at their ``shares`` ``(ways, frames)``: moves in
    head sizes, then turns in degrees, each ``(bones, 6, frames)``."""
    seen, matrix = _seen_and_posed(chart, poses, bones, frame, jaw)
    left = seen - matrix @ shares[_poses_in(chart)]
    degrees = np.repeat([1.0, 1.0 / DEGREE], 3)[:, None]
    does, unread = (degrees * features.reshape(-1, 6, poses.frames) for features in (seen, left))
    return does, unread


def _poses_in(chart: FaceChart) -> list[int]:
    """The ways of a chart, by number, that are poses of bones."""
    return [i for i, (name, _) in enumerate(chart.columns) if chart.shapes[name].bones]


def _seen_and_posed(
    chart: FaceChart, poses: Poses, bones: Mapping[str, int], frame: FaceFrame, jaw: int | None
) -> tuple[Floats, Floats]:
    """What bones do, and what each pose of a chart makes of them: ``(bones * 6, frames)``, ``(bones * 6, poses)``."""
    at = None if jaw is None or jaw not in bones.values() else list(bones.values()).index(jaw)
    shapes = [chart.shapes[chart.columns[i][0]] for i in _poses_in(chart)]
    matrix = np.array([_features_of(shape, bones) for shape in shapes]).reshape(len(shapes), -1).T
    return _as_chin_goes(bone_features(poses, bones, frame), at, frame), _as_chin_goes(matrix, at, frame)


def _without_vain_effort(matrix: Floats, seen: Floats, nearest: Floats) -> Floats:
    """Shares of poses ``(poses, frames)``, the ``nearest`` or, where those undo each other, simpler ones.

    A stranger's bones go a little otherwise than our poses. To make that up to the last millimetre, poses are laid over
    each other that take back most of what each does: a smile is read as lips sucked in, pushed out and pulled, all to
    the full. Ridge regression (Hoerl and Kennard 1970) on poses of one size has the simple answer, but comes a little
    short; what moves hardly more than it is the nearest one, as it is.
    """
    size = np.maximum(np.linalg.norm(matrix, axis=0), 1e-9)
    effort = np.square(nearest * size[:, None]).sum(axis=0)
    doubted = np.flatnonzero(effort > _DOUBTED * np.square(seen).sum(axis=0))
    if not len(doubted):
        return nearest
    rows = np.concatenate([matrix / size, np.sqrt(_EFFORT) * np.eye(len(size))])
    wanted = np.concatenate([seen[:, doubted], np.zeros((len(size), len(doubted)))])
    simple = bounded_weights(rows, wanted, 1.5 * size)
    vain = (effort[doubted] + 1e-9) / (np.square(simple).sum(axis=0) + 1e-9)
    simple /= size[:, None]
    kept = np.clip((_VAIN[1] - vain) / (_VAIN[1] - _VAIN[0]), 0.0, 1.0)
    out = nearest.copy()
    out[:, doubted] = simple + kept * (nearest[:, doubted] - simple)
    return out


def _as_chin_goes(features: Floats, jaw: int | None, frame: FaceFrame) -> Floats:
    """Features in which a jaw that swings to a side goes as far as its chin: on some rigs it slides, on others it
    turns."""
    if jaw is None:
        return features
    out = features.copy()
    out[6 * jaw] += _CHIN_AHEAD / frame.wide * np.radians(features[6 * jaw + 4] / DEGREE)
    out[6 * jaw + 4] = 0.0
    return out


def _features_of(shape: Shape, bones: Mapping[str, int]) -> Floats:
    zero = (np.zeros(3), np.zeros(3))
    return np.concatenate(
        [np.concatenate([move, DEGREE * turn]) for move, turn in (shape.bones.get(name, zero) for name in bones)]
    )
