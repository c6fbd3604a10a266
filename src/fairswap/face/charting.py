"""Charts of heads: drafted, checked against a head, and compared."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path

from fairswap.bones.profile import BoneProfile
from fairswap.errors import Finding, UsageError
from fairswap.face.chart import FaceChart
from fairswap.face.checking import ShapeMatch, check_chart, match_charts
from fairswap.face.drafting import FaceDraft, draft_face, with_said
from fairswap.face.family import on_figure
from fairswap.face.head import chart_of, roles_if_known
from fairswap.face.timeline import draft_timeline, expression_clips
from fairswap.face.tracks import held_frames
from fairswap.formats.files import document_of
from fairswap.model.document import Document
from fairswap.model.figure import Figure


def draft(
    what: Document | Figure | str | Path, *, bones: BoneProfile | str | Path | None = None,
    say: Mapping[str, Mapping[str, float]] | None = None, held: str | Path | None = None, clip: str | None = None,
) -> FaceDraft:  # fmt: skip
    """Find out what every morph of a head (and its face bones) does, by name and by shape.

    >>> import fairswap
    >>> fairswap.face.draft(fairswap.demo_file("pip.glb")).chart
    <FaceChart 'Pip': 11 shapes>

    Parameters
    ----------
    say : mapping of shape to units, optional
        What you know.
    clip : str, optional
        A clip in which expressions are held one after the other, by face bones or morphs: they are drafted from it.
    held : path, optional
        A table ``frame, name``: what is held on which frame of that clip (or the first one); without, it is found.

    Raises
    ------
    UsageError
        If a shape, a clip or a frame is not there, or nothing of the face moves in the clip.
    """
    document = document_of(what)
    figure = document.figure
    roles = roles_if_known(figure, bones)
    clips = document.clips_of(figure)
    if held is None and clip is None:
        drafted = draft_face(figure, roles, clips)
        drafted = replace(drafted, findings=[*drafted.findings, *expression_clips(figure, roles, clips)])
    else:
        takes = [each for each in clips if clip in (None, each.name)]
        if not takes:
            have = ", ".join(repr(each.name) for each in clips)
            problem = f"no clip is called {clip!r}" if clip and clips else "there is no clip"
            remedy = f"It has {have}" if have else "Give a file in which expressions are held one after the other"
            raise UsageError(problem, file=document.file, remedy=remedy)
        drafted = draft_timeline(figure, roles, takes[0], None if held is None else held_frames(held))
    return with_said(drafted, say or {})


def check(chart: FaceChart | str | Path, what: Document | Figure | str | Path) -> list[Finding]:
    """Check a chart against a head: misspelt, missing, dead, out of range, never keyed; near names are offered.

    >>> import fairswap
    >>> chart = fairswap.face.draft(fairswap.demo_file("pip.glb")).chart
    >>> fairswap.face.check(chart, fairswap.demo_file("pip.glb"))
    []
    """
    document = document_of(what)
    known = chart_of(chart)
    assert known is not None
    return check_chart(on_figure(known, document.figure), document.figure, document.clips_of(document.figure))


def match(
    source: FaceChart | Document | Figure | str | Path, target: FaceChart | Document | Figure | str | Path
) -> list[ShapeMatch]:
    """What each shape of one head (or chart) is made of on another, and how much of it is lost.

    >>> import fairswap
    >>> pip = fairswap.face.draft(fairswap.demo_file("pip.glb")).chart
    >>> max(row.lost for row in fairswap.face.match(pip, pip))
    0.0
    """
    return match_charts(_chart_or_drafted(source), _chart_or_drafted(target))


def _chart_or_drafted(what: FaceChart | Document | Figure | str | Path) -> FaceChart:
    if isinstance(what, FaceChart):
        return what
    if isinstance(what, str | Path) and Path(what).suffix.lower() == ".toml":
        return FaceChart.load(what)
    return draft(what).chart
