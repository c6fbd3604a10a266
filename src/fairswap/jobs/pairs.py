"""The figures of a document and the target, paired: once for all clips of each."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from fairswap.errors import FairSwapError
from fairswap.figures.props import with_object_of
from fairswap.jobs.faces import Faces
from fairswap.jobs.options import SourceOptions, TargetOptions
from fairswap.model.clip import Clip
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.pose.choice import AUTO, pose_named
from fairswap.pose.rigged import RiggedFigure
from fairswap.pose.straight import straightened
from fairswap.retarget.options import MotionOptions
from fairswap.retarget.swap import Swap

# So many clips are tried before the one that is wanted is. Poses with rotations less unlike than this are one.
_TRIED, _ALIKE = 4, 1e-4


class Pairs:
    """The swaps between the figures of one document and the target, each made once."""

    def __init__(
        self, document: Document, rigged: RiggedFigure, source: SourceOptions, target: TargetOptions, faces: Faces
    ) -> None:
        self.document, self.target, self.options, self.hands = document, rigged, source, target.hands
        self.faces = faces
        self.swaps: dict[int, Swap] = {}
        self._figures: list[Figure] = []  # kept, so that their identities stay theirs

    def swap_for(self, clip: Clip, motion: MotionOptions) -> tuple[Swap, Clip]:
        """The swap for a clip, and the clip as it is to be retargeted: with the object that hands touch."""
        figure = self.document.figure_of(clip)
        if motion.object is not None:
            figure, clip = with_object_of(self.document, figure, clip, motion.object)
        if id(figure) not in self.swaps:
            self.swaps[id(figure)] = Swap(self._source(figure, clip), self.target)
            self._figures.append(figure)
        return self.swaps[id(figure)], clip

    def _source(self, figure: Figure, clip: Clip) -> RiggedFigure:
        """The source, with the first of its clips that tells what it stands like, whichever of them are wanted: a clip
        comes out the same by itself and among others. A frame that is asked for is one of the ``clip`` that is."""
        if pose_named(self.options.reference).kind != AUTO.kind:
            return self._rigged(figure, clip)
        clips = self.document.clips_of(figure)
        told = self._told(figure, clips[:_TRIED])
        return self._rigged(figure, clip) if told is None else straightened(told, clips)

    def _told(self, figure: Figure, clips: Sequence[Clip]) -> RiggedFigure | None:
        told = next(filter(None, (self._with(figure, first) for first in clips)), None)
        if told is None:
            return None
        if told.clip is not None and told.clip.still:  # it does not tell about which lines limbs bend
            moving = next(filter(None, (self._with(figure, first) for first in clips if not first.still)), None)
            if moving is not None and np.allclose(told.base.world.rotations, moving.base.world.rotations, atol=_ALIKE):
                return moving
        return told

    def _with(self, figure: Figure, clip: Clip) -> RiggedFigure | None:
        try:
            rigged = self._rigged(figure, clip)
            _ = rigged.reference
        except FairSwapError:  # of one who lies dead nobody may say which way he looks
            return None
        return rigged

    def _rigged(self, figure: Figure, clip: Clip) -> RiggedFigure:
        hands = "rest" if getattr(self.hands, "kind", "") == "rest" else "auto"
        return RiggedFigure.of(
            figure, bones=self.options.bones, clip=clip, reference=self.options.reference, hands=hands,
            strict=self.options.strict, part="source",
        )  # fmt: skip
