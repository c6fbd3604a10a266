"""Dress a figure: garments made for another body, or for another rest pose, brought over and joined with its bones."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from fairswap.clips.proving import body_reel
from fairswap.errors import Finding, ImpossibleError
from fairswap.figures.dressing.cutting import SEEN_M, Cutting, cutting_of
from fairswap.figures.dressing.forms import form_of
from fairswap.figures.dressing.garments import garment_in
from fairswap.figures.dressing.hiding import without_hidden_skin
from fairswap.figures.dressing.rack import Rack
from fairswap.figures.dressing.worn import Wearing
from fairswap.formats.files import document_of
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.pose.rigged import RiggedFigure

_REEL_RATE, _INSTANTS = 4, 24


@dataclass(frozen=True, eq=False)
class Dressed:
    """A figure with its clothes on.

    >>> import fairswap
    >>> boots, osric = fairswap.demo_file("osric-boots.glb"), fairswap.demo_file("osric.glb")
    >>> fairswap.dress(fairswap.demo_file("pip.glb"), boots, made_for=osric, settle=False)
    <Dressed 'Pip' in boots: 0 bones came along>

    Attributes
    ----------
    figure : Figure
    clips : tuple of Clip
        The figure's own clips, on its bones and those that came along.
    worn : tuple of int
        Which meshes of the figure are the new clothes.
    added : tuple of str
        The bones that came along: a skirt's, a hood's.
    cutting, before : Cutting
        How clothes and body pass through each other in the motion where that is worst, and how they did before they
        were settled.
    clip : Clip
        That motion.
    findings : tuple of Finding
    """

    figure: Figure
    clips: tuple[Clip, ...]
    worn: tuple[int, ...]
    added: tuple[str, ...]
    cutting: Cutting
    before: Cutting
    clip: Clip
    findings: tuple[Finding, ...]

    def __repr__(self) -> str:
        names = ", ".join(self.figure.meshes[index].name for index in self.worn)
        return f"<Dressed {self.figure.name!r} in {names}: {len(self.added)} bones came along>"


def dress(
    what: Document | Figure | str | Path,
    *garments: Document | Figure | str | Path,
    made_for: Document | Figure | str | Path | None = None,
    take: Sequence[str] = (),
    settle: bool = True,
    hide: bool = False,
    clips: Sequence[Clip] = (),
) -> Dressed:
    """Put garments on a figure, joined with its bones.

    Parameters
    ----------
    what : path, Document or Figure
        Who is dressed.
    garments : path, Document or Figure
        Clothes, each with or without bones of its own. Where a body is in the file as well, only the clothes are taken.
    made_for : path, Document or Figure, optional
        The body that the garments were made for: they are laid on this one as they lay on that.
    take : sequence of str
        Only these meshes, by name or pattern.
    settle : bool
        Push the cloth out of the body, at rest and as far as the figure's own clips and ``clips`` need (without any,
        the reel).
    hide : bool
        Leave out the skin that is not seen any more: what is not there cannot come through.
    clips : sequence of Clip
        More motions of the figure in which the cloth is kept out of the body.

    >>> import fairswap
    >>> boots, osric = fairswap.demo_file("osric-boots.glb"), fairswap.demo_file("osric.glb")
    >>> fairswap.dress(fairswap.demo_file("pip.glb"), boots, made_for=osric, settle=False)
    <Dressed 'Pip' in boots: 0 bones came along>

    Raises
    ------
    ImpossibleError
        If nothing in a file could be worn, or nothing says how it was worn; if the figure has no body.
    UsageError
        If no mesh is called as asked.
    """
    document = document_of(what)
    target = RiggedFigure.of(document, part="target")
    if not target.figure.meshes:
        raise ImpossibleError("the figure has no body to put clothes on", file=document.file)
    wearer = None if made_for is None else RiggedFigure.of(made_for, part="wearer")
    rack = Rack(target, form_of(target, as_it_moves=True))
    findings: list[Finding] = []
    for one in garments:
        garment = garment_in(one, target, wearer, take)
        findings += garment.findings
        rack.hang(garment)
    skeleton = rack.skeleton()
    own = document.clips_of(document.figure)
    carried = rack.wider_clips(skeleton, (*own, *clips))
    shown = carried or rack.wider_clips(skeleton, [body_reel(target, _REEL_RATE)[0]])
    moving = [(clip, _instants(clip)) for clip in shown]
    bare = rack.figure(skeleton, [row.vertices for row in rack.hung])
    worn = tuple(range(len(target.figure.meshes), len(bare.meshes)))
    before, worst = _worst(Wearing.of_meshes(bare, target.roles, worn), target, moving)
    figure, cutting = bare, before
    if settle and before.deepest_m > 0.0:
        figure = rack.figure(skeleton, rack.settled(moving))
        cutting, worst = _worst(Wearing.of_meshes(figure, target.roles, worn), target, moving)
    if hide:
        figure, hidden = without_hidden_skin(Wearing.of_meshes(figure, target.roles, worn))
        cutting, worst = _worst(Wearing.of_meshes(figure, target.roles, worn), target, moving)
        message = f"{hidden} triangles of its skin are under the clothes, and left out"
        findings.append(Finding("skin-hidden", "note", target.figure.name, message))
    findings += _told(cutting, worst.name)
    return Dressed(figure, carried[: len(own)], worn, rack.added, cutting, before, worst, tuple(findings))


def _instants(clip: Clip) -> Floats:
    """The instants of a clip that are looked at: of a long one two each second, else as many as show every pose."""
    count = max(_INSTANTS, int(2.0 * clip.duration_s))
    return np.linspace(0.0, clip.duration_s, max(min(count, clip.frames), 1))


def _worst(wearing: Wearing, target: RiggedFigure, moving: Sequence[tuple[Clip, Floats]]) -> tuple[Cutting, Clip]:
    """The cutting in the clip where it is worst, and that clip."""
    found = [(cutting_of(wearing, target, clip, times), clip) for clip, times in moving]
    return max(found, key=lambda row: row[0].deepest_m)


def _told(cutting: Cutting, clip: str) -> list[Finding]:
    out = []
    for piece in cutting.pieces:
        if piece.worst_m > SEEN_M:
            when = "at rest" if piece.worst_at_s is None else f"at {piece.worst_at_s:.1f} s of {clip!r}"
            message = f"it passes {1000 * piece.worst_m:.0f} mm into the body ({piece.part}) {when}"
            out.append(Finding("clothes-cut", "warning", piece.piece, message))
    return out
