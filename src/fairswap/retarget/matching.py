"""The pairing of two figures' bones for people: which bone, or which fraction between two, moves which."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from fairswap.bones.profile import BoneProfile
from fairswap.bones.roles import role_order
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.pose.rigged import RiggedFigure
from fairswap.retarget.swap import Swap


@dataclass(frozen=True)
class PairedBone:
    """A bone of the target with what moves it, in words."""

    role: str
    source: str
    target: str


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


def paired_bones(swap: Swap) -> list[PairedBone]:
    """Each paired bone of the target, in a person's order of roles."""
    source, target = swap.source.skeleton.names, swap.target.skeleton.names
    rows = []
    for pair in sorted(swap.pairs, key=lambda pair: role_order(pair.role)):
        between = pair.between and pair.fraction < 1.0
        part = f"{pair.fraction:.0%} from {source[pair.first]} to {source[pair.second]}"
        rows.append(PairedBone(pair.role, part if between else source[pair.first], target[pair.target]))
    return rows
