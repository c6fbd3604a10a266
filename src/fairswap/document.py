"""What one file holds, once read: figures, clips, the space it was in, and what was noticed."""

from __future__ import annotations

from dataclasses import dataclass

from fairswap.clip import Clip
from fairswap.errors import Finding, ImpossibleError, UsageError
from fairswap.figure import Figure
from fairswap.space import Space


@dataclass(frozen=True, eq=False)
class Document:
    """A file that was read. Everything in it is in our space already; ``space`` is the one the file was in."""

    file: str
    format: str
    space: Space
    figures: tuple[Figure, ...]
    clips: tuple[Clip, ...]
    findings: tuple[Finding, ...] = ()

    @property
    def figure(self) -> Figure:
        """The one figure in the file; of several, the one with most bones that has a mesh.

        Raises
        ------
        ImpossibleError
            If there is none.
        """
        if not self.figures:
            raise ImpossibleError(
                "there is no figure in it: no skin, and no bones that move",
                file=self.file,
                remedy="Export the figure again with its skeleton and skin weights",
            )
        return max(self.figures, key=lambda figure: (bool(figure.meshes), len(figure.skeleton)))

    def left_standing(self) -> list[Finding]:
        """A warning if there are more figures in the file than the one that will move."""
        others = [figure for figure in self.figures if figure is not self.figure]
        if not others:
            return []
        names = ", ".join(f"{figure.name!r} ({len(figure.skeleton)} bones)" for figure in others)
        message = f"only {self.figure.name!r} moves; there are other figures in the file, which stay: {names}"
        remedy = "If one is a second copy of the skeleton, which came with clothes, join them with 'bones merge'"
        return [Finding("several-figures", "warning", self.file, message, remedy)]

    def clips_of(self, figure: Figure) -> tuple[Clip, ...]:
        """The clips that move ``figure``."""
        return tuple(clip for clip in self.clips if clip.skeleton is figure.skeleton)

    def clip(self, name: str) -> Clip:
        """The clip called ``name``.

        Raises
        ------
        UsageError
            If there is none; the clips that are there are named.
        """
        for clip in self.clips:
            if clip.name == name:
                return clip
        raise UsageError(
            f"no clip is called {name!r}",
            file=self.file,
            remedy="It has " + (", ".join(repr(clip.name) for clip in self.clips) or "no clips"),
        )
