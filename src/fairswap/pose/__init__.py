"""Reference poses: the pose in which two figures count as alike. Measured, set as a rest pose, saved."""

from __future__ import annotations

from typing import TYPE_CHECKING

from fairswap._lazy import lazily

if TYPE_CHECKING:
    from fairswap.pose.choice import PoseChoice
    from fairswap.pose.choice import pose_named as named
    from fairswap.pose.saved import SavedPose
    from fairswap.pose.verbs import PoseMeasurement, RestedFigure, measure, save, set

_HOMES = {
    "pose.choice": "PoseChoice named=pose_named",
    "pose.saved": "SavedPose",
    "pose.verbs": "PoseMeasurement RestedFigure measure save set",
}
__all__ = [
    "PoseChoice", "PoseMeasurement", "RestedFigure", "SavedPose", "measure", "named", "save", "set",
]  # fmt: skip

__getattr__, __dir__ = lazily(__name__, _HOMES)
