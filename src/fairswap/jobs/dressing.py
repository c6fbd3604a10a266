"""Dress a figure: garments made for another body, or for another rest pose, brought over and joined with its bones."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path

from fairswap.clips.proving import body_reel
from fairswap.errors import Finding, ImpossibleError, UsageError
from fairswap.figures.dressing.cutting import SEEN_M, Cutting, cutting_of
from fairswap.figures.dressing.forms import form_of
from fairswap.figures.dressing.garments import Garment, garment_in
from fairswap.figures.dressing.hiding import without_hidden_skin
from fairswap.figures.dressing.own import own_clothes_settled
from fairswap.figures.dressing.rack import Rack
from fairswap.figures.dressing.worn import Wearing, worn_by_shape
from fairswap.formats.files import document_of
from fairswap.measure.instants import Instants, telling_instants
from fairswap.model.clip import Clip
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.pose.rigged import RiggedFigure
from fairswap.wording import counted

_REEL_RATE = 4


@dataclass(frozen=True, eq=False)
class Dressed:
    """A figure with its clothes on.

    >>> import fairswap
    >>> boots, osric = fairswap.demo_file("osric-boots.glb"), fairswap.demo_file("osric.glb")
    >>> idle = fairswap.clips.cut(fairswap.demo_motion("idle", by="Pip").clips[0], ["still=0..1f"])
    >>> fairswap.dress(fairswap.demo_file("pip.glb"), boots, made_for=osric, settle=False, clips=idle.clips)
    <Dressed 'Pip' in boots: 0 bones came along>

    Attributes
    ----------
    figure : Figure
    clips : tuple of Clip
        The figure's own clips, on its bones and those that came along.
    worn : tuple of int
        Which meshes of the figure are the clothes, or hold some.
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
        return f"<Dressed {self.figure.name!r} in {names}: {counted(len(self.added), 'bone')} came along>"


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
        Without any, what the figure wears already is pushed out of its body: pieces by themselves that lie around it.
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
    >>> idle = fairswap.clips.cut(fairswap.demo_motion("idle", by="Pip").clips[0], ["still=0..1f"])
    >>> fairswap.dress(fairswap.demo_file("pip.glb"), boots, made_for=osric, settle=False, clips=idle.clips)
    <Dressed 'Pip' in boots: 0 bones came along>

    Raises
    ------
    ImpossibleError
        If nothing in a file could be worn, or nothing says how it was worn; if the figure has no body; if no garment is
        given and it wears nothing.
    UsageError
        If no mesh is called as asked; if something is said of garments, and none is given.
    """
    document = document_of(what)
    target = RiggedFigure.of(document, part="target")
    if not target.figure.meshes:
        raise ImpossibleError("the figure has no body to put clothes on", file=document.file)
    own = document.clips_of(document.figure)
    if garments:
        wearer = None if made_for is None else RiggedFigure.of(made_for, part="wearer")
        outfit = _hung(target, [garment_in(one, target, wearer, take) for one in garments], (*own, *clips))
    elif made_for is not None or take:
        problem = "garments to take, or whom they were made for, are named, but no garment is given"
        raise UsageError(problem, code="nothing-to-wear")
    else:
        outfit = _worn_already(target, (*own, *clips))
    wearing, findings = outfit.wearing, list(outfit.findings)
    before, worst = _worst(wearing, target, outfit.moving)
    settling = settle and before.deepest_m > 0.0
    if settling:
        wearing = replace(wearing, figure=outfit.settled())
    worn = tuple(index for index, numbers in enumerate(wearing.numbers) if (numbers >= 0).any())
    if hide:
        wearing, hidden = without_hidden_skin(wearing)
        message = f"{hidden} triangles of its skin are under the clothes, and left out"
        findings.append(Finding("skin-hidden", "note", target.figure.name, message))
    cutting = before
    if settling or hide:
        cutting, worst = _worst(wearing, target, outfit.moving)
    # Whoever had it pushed out and the skin hidden need not be told to do so.
    findings += _told(cutting, worst.name, "Look at it there; what is left lies in folds" if settling and hide else "")
    kept = outfit.clips[: len(own)]
    return Dressed(wearing.figure, kept, worn, outfit.added, cutting, before, worst, tuple(findings))


@dataclass(frozen=True, eq=False)
class _Outfit:
    """What is worn before it is settled; the figure with it settled; the clips on all bones, and the instants that are
    looked at."""

    wearing: Wearing
    settled: Callable[[], Figure]
    clips: tuple[Clip, ...]
    moving: list[tuple[Clip, Instants]]
    added: tuple[str, ...] = ()
    findings: tuple[Finding, ...] = ()


def _hung(target: RiggedFigure, garments: Sequence[Garment], clips: Sequence[Clip]) -> _Outfit:
    """Garments put on."""
    rack = Rack(target, form_of(target, as_it_moves=True))
    for garment in garments:
        rack.hang(garment)
    skeleton = rack.skeleton()
    carried = rack.wider_clips(skeleton, clips)
    moving = _looked_at(target, carried or rack.wider_clips(skeleton, _reel(target)))
    bare = rack.figure(skeleton, [row.vertices for row in rack.hung])
    worn = range(len(target.figure.meshes), len(bare.meshes))
    wearing = Wearing.of_meshes(bare, target.roles, worn)
    findings = tuple(finding for garment in garments for finding in garment.findings)

    def settled() -> Figure:
        return rack.figure(skeleton, rack.settled(moving))

    return _Outfit(wearing, settled, carried, moving, rack.added, findings)


def _worn_already(target: RiggedFigure, clips: tuple[Clip, ...]) -> _Outfit:
    """What the figure wears as it is."""
    wearing, moving = worn_by_shape(target.figure, target.roles), _looked_at(target, clips or _reel(target))
    if not wearing.names:
        problem = "it wears nothing that is a piece by itself, and no garment is given"
        raise ImpossibleError(problem, file=target.figure.name, code="nothing-to-wear")
    return _Outfit(wearing, partial(own_clothes_settled, wearing, target, moving), clips, moving)


def _reel(target: RiggedFigure) -> list[Clip]:
    return [body_reel(target, _REEL_RATE)[0]]


def _looked_at(target: RiggedFigure, clips: Sequence[Clip]) -> list[tuple[Clip, Instants]]:
    """Of each clip the instants that are looked at; clips whose poses others show are left out."""
    found = telling_instants(clips, target.roles.bones["hips"], target.figure.height_m)
    return [(clip, instants) for clip, instants in zip(clips, found, strict=True) if len(instants.times_s)]


def _worst(wearing: Wearing, target: RiggedFigure, moving: Sequence[tuple[Clip, Instants]]) -> tuple[Cutting, Clip]:
    """The cutting in the clip where it is worst, and that clip."""
    found = [(cutting_of(wearing, target, clip, instants), clip) for clip, instants in moving]
    return max(found, key=lambda row: row[0].deepest_m)


def _told(cutting: Cutting, clip: str, remedy: str) -> list[Finding]:
    out = []
    for piece in cutting.pieces:
        if piece.worst_m > SEEN_M:
            when = "at rest" if piece.worst_at_s is None else f"at {piece.worst_at_s:.1f} s of {clip!r}"
            message = f"it passes {1000 * piece.worst_m:.0f} mm into the body ({piece.part}) {when}"
            out.append(Finding("clothes-cut", "warning", piece.piece, message, remedy))
    return out
