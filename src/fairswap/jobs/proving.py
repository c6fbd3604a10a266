"""The reel: a proving clip through every joint, expression and mouth shape of a figure."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from fairswap.bones.profile import BoneProfile
from fairswap.clips.proving import Move, body_reel
from fairswap.face.head import Head
from fairswap.face.proving import FaceMove, with_face_reel
from fairswap.model.clip import Clip
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.pose.rigged import RiggedFigure
from fairswap.wording import counted


@dataclass(frozen=True, eq=False)
class Reel:
    """A proving clip: first the moves of the body, then the shapes of the face, with the time of each."""

    rigged: RiggedFigure
    head: Head
    clip: Clip
    moves: tuple[Move, ...]
    shapes: tuple[FaceMove, ...]

    def __repr__(self) -> str:
        return f"<Reel of {self.rigged.figure.name!r}: {len(self.moves)} moves, {counted(len(self.shapes), 'shape')}>"


def reel(
    what: RiggedFigure | Figure | Document | str | Path,
    *,
    bones: BoneProfile | str | Path | None = None,
    rate: int = 30,
) -> Reel:
    """Every joint of a figure through its range, then every shape of its face, one by one.

    >>> import fairswap
    >>> fairswap.reel(fairswap.demo_file("pip.glb"), rate=10)
    <Reel of 'Pip': 54 moves, 11 shapes>

    Parameters
    ----------
    what : path, Document, Figure or RiggedFigure
        The figure to animate.
    bones : BoneProfile, name or file, optional
        Which bone is which.
    rate : int
        Frames per second.

    Raises
    ------
    ImpossibleError
        If the bones are not known.
    """
    rigged = RiggedFigure.of(what, bones=bones)
    body, moves = body_reel(rigged, rate)
    head = Head(rigged.figure, rigged.roles)
    clip, shapes = with_face_reel(head, body)
    return Reel(rigged, head, clip, tuple(moves), tuple(shapes))
