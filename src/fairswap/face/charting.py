"""Charts of heads: drafted, held against a head, and against each other."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from fairswap.bones.profile import BoneProfile
from fairswap.errors import Finding, UsageError
from fairswap.face.chart import FaceChart
from fairswap.face.checking import ShapeMatch, check_chart, match_charts
from fairswap.face.drafting import FaceDraft, draft_face, draft_timeline
from fairswap.face.head import chart_of, roles_if_known
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
    held : path, optional
        A table ``frame, name``: expressions of face bones, each held on its frame of ``clip`` (or the first one).

    Raises
    ------
    UsageError
        If a shape, a clip or a frame is not there, or the bones that ``held`` needs are not known.
    """
    document = document_of(what)
    figure = document.figure
    roles = roles_if_known(figure, bones)
    if held is None:
        return draft_face(figure, roles, document.clips_of(figure), {k: dict(v) for k, v in (say or {}).items()})
    if roles is None:
        raise UsageError("the bones of the figure are not known", remedy="Give a bone profile")
    takes = [each for each in document.clips_of(figure) if clip in (None, each.name)]
    if not takes:
        raise UsageError(f"no clip is called {clip!r}" if clip else "there is no clip", file=document.file)
    return draft_timeline(figure, roles, takes[0], held_frames(held))


def check(chart: FaceChart | str | Path, what: Document | Figure | str | Path) -> list[Finding]:
    """Hold a chart against a head: misspelt, missing, dead, out of range, never keyed; near names are offered.

    >>> import fairswap
    >>> chart = fairswap.face.draft(fairswap.demo_file("pip.glb")).chart
    >>> fairswap.face.check(chart, fairswap.demo_file("pip.glb"))
    []
    """
    document = document_of(what)
    known = chart_of(chart)
    assert known is not None
    return check_chart(known, document.figure, document.clips_of(document.figure))


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
