"""Two figures paired, whatever holds them."""

from __future__ import annotations

from pathlib import Path

from fairswap.bones.profile import BoneProfile
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.pose.rigged import RiggedFigure
from fairswap.retarget.swap import Swap


def match(
    source: RiggedFigure | Figure | Document | str | Path,
    target: RiggedFigure | Figure | Document | str | Path,
    *,
    source_bones: BoneProfile | str | Path | None = None,
    target_bones: BoneProfile | str | Path | None = None,
) -> Swap:
    """Pair the bones of two figures through their roles.

    >>> import fairswap
    >>> swap = fairswap.bones.match(fairswap.demo_file("juniper.glb"), fairswap.demo_file("pip.glb"))
    >>> len(swap.pairs), swap.resting_bones
    (30, [])

    Raises
    ------
    ImpossibleError
        If the bones of one are not known.
    """
    a = RiggedFigure.of(source, bones=source_bones, part="source")
    return Swap(a, RiggedFigure.of(target, bones=target_bones, part="target"))
