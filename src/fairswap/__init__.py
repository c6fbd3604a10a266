"""Fair Swap: move humanoid figures and their motions between creator ecosystems, and prove that they look the same.

>>> import fairswap
>>> made = fairswap.convert("walk.bvh", "juniper.glb")     # doctest: +SKIP
>>> made.looks_same, made.save("juniper-walk.glb")         # doctest: +SKIP

Beside these verbs there is a topic module for each station of the work: ``fairswap.bones``, ``pose``, ``clips``,
``face``, ``platform`` and ``picture``.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from fairswap._lazy import lazily

if TYPE_CHECKING:
    from fairswap import bones, clips, face, picture, platform, pose
    from fairswap.bones.profile import BoneProfile
    from fairswap.demo.shipped import demo_file
    from fairswap.errors import FairSwapError, Finding, ImpossibleError, InputError, OutputError, UsageError
    from fairswap.face.chart import FaceChart
    from fairswap.formats.files import load, save
    from fairswap.inspection import inspect
    from fairswap.jobs.comparing import compare
    from fairswap.jobs.conversion import Conversions, convert
    from fairswap.jobs.options import FaceOptions, SourceOptions, TargetOptions
    from fairswap.jobs.proving import reel
    from fairswap.measure.comparison import Comparison, Motion
    from fairswap.model.clip import Clip
    from fairswap.model.document import Document
    from fairswap.model.figure import Figure
    from fairswap.model.mesh import Mesh
    from fairswap.model.poses import Poses
    from fairswap.model.skeleton import Skeleton
    from fairswap.model.space import Space
    from fairswap.platform.checking import check
    from fairswap.platform.fitting import fit
    from fairswap.platform.rules import Platform
    from fairswap.pose.rigged import RiggedFigure
    from fairswap.retarget.options import MotionOptions
    from fairswap.retarget.swap import Swap

__version__ = "0.1.0"

# Each name with the module it lives in: nothing is imported before it is asked for.
_HOMES = {
    "BoneProfile": "fairswap.bones.profile",
    "Clip": "fairswap.model.clip",
    "Comparison": "fairswap.measure.comparison",
    "Conversions": "fairswap.jobs.conversion",
    "Document": "fairswap.model.document",
    "FaceChart": "fairswap.face.chart",
    "FaceOptions": "fairswap.jobs.options",
    "FairSwapError": "fairswap.errors",
    "Figure": "fairswap.model.figure",
    "Finding": "fairswap.errors",
    "ImpossibleError": "fairswap.errors",
    "InputError": "fairswap.errors",
    "Mesh": "fairswap.model.mesh",
    "Motion": "fairswap.measure.comparison",
    "MotionOptions": "fairswap.retarget.options",
    "OutputError": "fairswap.errors",
    "Platform": "fairswap.platform.rules",
    "Poses": "fairswap.model.poses",
    "RiggedFigure": "fairswap.pose.rigged",
    "Skeleton": "fairswap.model.skeleton",
    "SourceOptions": "fairswap.jobs.options",
    "Space": "fairswap.model.space",
    "Swap": "fairswap.retarget.swap",
    "TargetOptions": "fairswap.jobs.options",
    "UsageError": "fairswap.errors",
    "check": "fairswap.platform.checking",
    "compare": "fairswap.jobs.comparing",
    "convert": "fairswap.jobs.conversion",
    "demo_file": "fairswap.demo.shipped",
    "fit": "fairswap.platform.fitting",
    "inspect": "fairswap.inspection",
    "load": "fairswap.formats.files",
    "reel": "fairswap.jobs.proving",
    "save": "fairswap.formats.files",
    **{topic: f"fairswap.{topic}:" for topic in ("bones", "clips", "face", "picture", "platform", "pose")},
}
__all__ = [
    "BoneProfile",
    "Clip",
    "Comparison",
    "Conversions",
    "Document",
    "FaceChart",
    "FaceOptions",
    "FairSwapError",
    "Figure",
    "Finding",
    "ImpossibleError",
    "InputError",
    "Mesh",
    "Motion",
    "MotionOptions",
    "OutputError",
    "Platform",
    "Poses",
    "RiggedFigure",
    "Skeleton",
    "SourceOptions",
    "Space",
    "Swap",
    "TargetOptions",
    "UsageError",
    "bones",
    "check",
    "clips",
    "compare",
    "convert",
    "demo_file",
    "face",
    "fit",
    "inspect",
    "load",
    "picture",
    "platform",
    "pose",
    "reel",
    "save",
]

__getattr__, __dir__ = lazily(__name__, _HOMES)
