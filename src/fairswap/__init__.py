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
    from fairswap.demo.shipped import demo_file, demo_motion
    from fairswap.errors import FairSwapError, Finding, ImpossibleError, InputError, OutputError, UsageError
    from fairswap.face.chart import FaceChart
    from fairswap.figures.dressing.cutting import Cutting
    from fairswap.figures.dressing.wearing import cutting
    from fairswap.figures.leaving import leave_out
    from fairswap.figures.placing import place
    from fairswap.figures.rigging.landmarks import Landmarks
    from fairswap.figures.rigging.making import Rigged, rig
    from fairswap.figures.sizing import resize
    from fairswap.formats.files import left_out, load, save
    from fairswap.inspection import inspect
    from fairswap.jobs.comparing import compare, compare_fitted
    from fairswap.jobs.conversion import Conversions, convert
    from fairswap.jobs.dressing import Dressed, dress
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
    from fairswap.picture.page.viewing import Page, view
    from fairswap.plans.recipe import Plan
    from fairswap.plans.results import Run
    from fairswap.plans.running import run_plan
    from fairswap.platform.checking import check
    from fairswap.platform.fitting import fit
    from fairswap.platform.rules import Platform
    from fairswap.pose.rigged import RiggedFigure
    from fairswap.retarget.options import MotionOptions
    from fairswap.retarget.swap import Swap

__version__ = "0.1.0"

_HOMES = {
    "": "bones clips face picture platform pose",
    "bones.profile": "BoneProfile",
    "demo.shipped": "demo_file demo_motion",
    "errors": "FairSwapError Finding ImpossibleError InputError OutputError UsageError",
    "face.chart": "FaceChart",
    "figures.dressing.cutting": "Cutting",
    "jobs.dressing": "Dressed dress",
    "figures.dressing.wearing": "cutting",
    "figures.leaving": "leave_out",
    "figures.placing": "place",
    "figures.rigging.landmarks": "Landmarks",
    "figures.rigging.making": "Rigged rig",
    "figures.sizing": "resize",
    "formats.files": "left_out load save",
    "inspection": "inspect",
    "jobs.comparing": "compare compare_fitted",
    "jobs.conversion": "Conversions convert",
    "jobs.options": "FaceOptions SourceOptions TargetOptions",
    "jobs.proving": "reel",
    "measure.comparison": "Comparison Motion",
    "model.clip": "Clip",
    "model.document": "Document",
    "model.figure": "Figure",
    "model.mesh": "Mesh",
    "model.poses": "Poses",
    "model.skeleton": "Skeleton",
    "model.space": "Space",
    "picture.page.viewing": "Page view",
    "platform.checking": "check",
    "platform.fitting": "fit",
    "platform.rules": "Platform",
    "plans.recipe": "Plan",
    "plans.results": "Run",
    "plans.running": "run_plan",
    "pose.rigged": "RiggedFigure",
    "retarget.options": "MotionOptions",
    "retarget.swap": "Swap",
}
__all__ = [
    "BoneProfile", "Clip", "Comparison", "Conversions", "Cutting", "Document", "Dressed", "FaceChart",
    "FaceOptions", "FairSwapError", "Figure", "Finding", "ImpossibleError", "InputError", "Landmarks", "Mesh",
    "Motion", "MotionOptions", "OutputError", "Page", "Plan", "Platform", "Poses", "Rigged", "RiggedFigure", "Run",
    "Skeleton", "SourceOptions", "Space", "Swap", "TargetOptions", "UsageError", "bones", "check", "clips",
    "compare", "compare_fitted", "convert", "cutting", "demo_file", "demo_motion", "dress", "face", "fit", "inspect",
    "leave_out", "left_out", "load", "picture", "place", "platform", "pose", "reel", "resize", "rig", "run_plan",
    "save", "view",
]  # fmt: skip

__getattr__, __dir__ = lazily(__name__, _HOMES)


def load_ipython_extension(shell: object) -> None:
    """``%load_ext fairswap``: figures, clips and results play in the cell that shows them."""
    from fairswap.picture.page.notebook import show_in_notebooks

    show_in_notebooks(shell)
