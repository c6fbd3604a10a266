"""How the clothes that a figure already wears pass through its body: the verb :func:`fairswap.cutting`."""

from __future__ import annotations

from pathlib import Path

from fairswap.figures.dressing.cutting import Cutting, cutting_of
from fairswap.figures.dressing.worn import worn_by_shape
from fairswap.formats.files import document_of
from fairswap.model.clip import Clip
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.pose.rigged import RiggedFigure


def cutting(what: RiggedFigure | Document | Figure | str | Path, clip: Clip | None = None) -> Cutting:
    """Where the clothes of a figure and its body pass through each other: at rest, and in a clip.

    Clothes are pieces by themselves that lie around the body; hair and what else is on the head is left aside.

    >>> import fairswap
    >>> walk = fairswap.demo_motion("walk", "Pip")
    >>> fairswap.cutting(walk, walk.clips[0]).pieces
    ()

    Parameters
    ----------
    clip : Clip, optional
        A motion of it; looked at in the frames that show all its poses, 120 at most.

    Raises
    ------
    ImpossibleError
        If the bones are not known.
    """
    rigged = what if isinstance(what, RiggedFigure) else RiggedFigure.of(document_of(what))
    return cutting_of(worn_by_shape(rigged.figure, rigged.roles), rigged, clip)
