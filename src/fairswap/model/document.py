"""What one file holds, once read: figures, clips, the space it was in, and what was noticed."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from fairswap.errors import Finding, ImpossibleError, UsageError
from fairswap.model.arrays import Value
from fairswap.model.cards import html_card
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.space import Space
from fairswap.wording import counted


@dataclass(frozen=True)
class Held:
    """What a file holds beside its figures: a ``scene`` (of several), ``camera``, ``light`` or ``prop``; ``moved_by``
    are the clips that move it, ``triangles`` how large a mesh it is."""

    kind: str
    name: str
    moved_by: tuple[str, ...] = ()
    triangles: int = 0


@dataclass(frozen=True, eq=False)
class Document(Value):
    """A file that was read. Everything in it is in our space already; ``space`` is the one the file was in;
    ``files`` are the file with all that it consists of, as buffers and images beside it. ``chosen`` says that somebody
    chose the first figure; ``joined`` are bones of second copies of a skeleton, as come with clothes, each with the
    bone that it was read as one with. ``held`` is what else is in it; ``origin`` is set by the reader: what it was read
    from.

    >>> import fairswap
    >>> pip = fairswap.load(fairswap.demo_file("pip.glb"))
    >>> pip.figure, pip.clips, pip.format
    (<Figure 'Pip': 1.23 m, 30 bones, 8891 vertices>, (), 'glTF 2.0')
    """

    file: str
    format: str
    space: Space
    figures: tuple[Figure, ...]
    clips: tuple[Clip, ...]
    findings: tuple[Finding, ...] = ()
    files: tuple[str, ...] = ()
    chosen: bool = False
    joined: tuple[tuple[str, str], ...] = ()
    held: tuple[Held, ...] = ()
    origin: Any = None

    def __post_init__(self) -> None:
        object.__setattr__(self, "files", self.files or (self.file,))

    def __repr__(self) -> str:
        held = f"{counted(len(self.figures), 'figure')}, {counted(len(self.clips), 'clip')}"
        return f"<Document {Path(self.file).name!r}: {held}, {self.format}>"

    def _repr_html_(self) -> str:
        rows = [("format", self.format), ("space", str(self.space))]
        rows += [(f"figure {figure.name}", figure.in_short) for figure in self.figures]
        rows += [(f"clip {clip.name}", clip.in_short) for clip in self.clips]
        rows += [(finding.severity, finding.message) for finding in self.findings]
        return html_card("File", Path(self.file).name, rows)

    @property
    def figure(self) -> Figure:
        """The one figure in the file; of several, the one that was chosen, else that with most bones that has a mesh.

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
        if self.chosen:
            return self.figures[0]
        return max(self.figures, key=lambda figure: (bool(figure.meshes), len(figure.skeleton)))

    def left_standing(self) -> list[Finding]:
        """A warning if there are more figures in the file than the one that will move."""
        others = [figure for figure in self.figures if figure is not self.figure]
        if not others or self.chosen:
            return []
        names = ", ".join(f"{figure.name!r} ({len(figure.skeleton)} bones)" for figure in others)
        message = f"only {self.figure.name!r} moves; there are other figures in the file, which stay: {names}"
        return [Finding("several-figures", "warning", self.file, message)]

    def choosing(self, name: str) -> Document:
        """The document with the figure called ``name`` as the one that counts, and with its clips alone.

        Raises
        ------
        UsageError
            If none or several are called so; those that are there are named.
        """
        found = [figure for figure in self.figures if figure.name == name]
        if len(found) != 1:
            known = ", ".join(f"{figure.name!r} ({len(figure.skeleton)} bones)" for figure in self.figures)
            count = "no figure is" if not found else f"{len(found)} figures are"
            raise UsageError(f"{count} called {name!r}", file=self.file, remedy=f"It has {known or 'none'}")
        others = tuple(figure for figure in self.figures if figure is not found[0])
        return replace(self, figures=(found[0], *others), clips=self.clips_of(found[0]), chosen=True)

    def clips_of(self, figure: Figure) -> tuple[Clip, ...]:
        """The clips that move ``figure``."""
        return tuple(clip for clip in self.clips if self.figure_of(clip).skeleton is figure.skeleton)

    def figure_of(self, clip: Clip) -> Figure:
        """The figure that a clip of this document moves.

        Raises
        ------
        UsageError
            If it moves none of them.
        """
        # Two figures may have equal bones, as clothes with a skeleton of their own: the very one counts first.
        for same in (lambda a, b: a is b, lambda a, b: a == b):
            for figure in self.figures:
                if same(clip.skeleton, figure.skeleton):
                    return figure
        raise UsageError(f"clip {clip.name!r} moves no figure of it", file=self.file)

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
