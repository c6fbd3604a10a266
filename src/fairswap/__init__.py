"""Fair Swap: move humanoid figures and their motions between creator ecosystems, and prove that they look the same.

>>> import fairswap
>>> motion, figure = fairswap.load("walk.bvh"), fairswap.load("juniper.glb").figure     # doctest: +SKIP
>>> swap = fairswap.Swap(motion.figure, figure)                                          # doctest: +SKIP
>>> fairswap.save("out.glb", figure, [swap.convert(clip) for clip in motion.clips])      # doctest: +SKIP
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from fairswap.body.compare import compare
    from fairswap.body.finish import Finish
    from fairswap.body.swap import Swap
    from fairswap.bones.profile import BoneProfile
    from fairswap.clip import Clip
    from fairswap.document import Document
    from fairswap.errors import FairSwapError, Finding, ImpossibleError, InputError, OutputError, UsageError
    from fairswap.face.chart import FaceChart
    from fairswap.figure import Figure, Mesh
    from fairswap.files import load, save
    from fairswap.platform.check import check
    from fairswap.platform.fit import fit
    from fairswap.platform.rules import Platform
    from fairswap.skeleton import Skeleton
    from fairswap.space import Space

__version__ = "0.1.0"

# Each name with the module it lives in: nothing is imported before it is asked for.
_HOMES = {
    "BoneProfile": "bones.profile",
    "Clip": "clip",
    "Document": "document",
    "FaceChart": "face.chart",
    "FairSwapError": "errors",
    "Figure": "figure",
    "Finding": "errors",
    "Finish": "body.finish",
    "ImpossibleError": "errors",
    "InputError": "errors",
    "Mesh": "figure",
    "OutputError": "errors",
    "Platform": "platform.rules",
    "Skeleton": "skeleton",
    "Space": "space",
    "Swap": "body.swap",
    "UsageError": "errors",
    "check": "platform.check",
    "compare": "body.compare",
    "fit": "platform.fit",
    "load": "files",
    "save": "files",
}
__all__ = [
    "BoneProfile",
    "Clip",
    "Document",
    "FaceChart",
    "FairSwapError",
    "Figure",
    "Finding",
    "Finish",
    "ImpossibleError",
    "InputError",
    "Mesh",
    "OutputError",
    "Platform",
    "Skeleton",
    "Space",
    "Swap",
    "UsageError",
    "check",
    "compare",
    "fit",
    "load",
    "save",
]


def __getattr__(name: str) -> Any:
    if name not in _HOMES:
        raise AttributeError(f"module 'fairswap' has no attribute {name!r}")
    value = getattr(import_module(f"fairswap.{_HOMES[name]}"), name)
    globals()[name] = value
    return value


def __dir__() -> list[str]:
    return sorted({*globals(), *_HOMES})
