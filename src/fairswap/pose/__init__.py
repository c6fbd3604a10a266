"""Reference poses: the pose in which two figures count as alike. Measured, set as a rest pose, saved."""

from __future__ import annotations

from typing import TYPE_CHECKING

from fairswap._lazy import lazily

if TYPE_CHECKING:
    from fairswap.pose.choice import PoseChoice
    from fairswap.pose.choice import pose_named as named
    from fairswap.pose.saved import SavedPose
    from fairswap.pose.verbs import PoseMeasurement, RestedFigure, measure, save, set

# Each name with the module it lives in: nothing is imported before it is asked for.
_HOMES = {
    "PoseChoice": "fairswap.pose.choice",
    "PoseMeasurement": "fairswap.pose.verbs",
    "RestedFigure": "fairswap.pose.verbs",
    "SavedPose": "fairswap.pose.saved",
    "measure": "fairswap.pose.verbs",
    "named": "fairswap.pose.choice:pose_named",
    "save": "fairswap.pose.verbs",
    "set": "fairswap.pose.verbs",
}
__all__ = [
    "PoseChoice",
    "PoseMeasurement",
    "RestedFigure",
    "SavedPose",
    "measure",
    "named",
    "save",
    "set",
]

__getattr__, __dir__ = lazily(__name__, _HOMES)
