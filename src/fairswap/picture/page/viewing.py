"""``view``: what is to be looked at – files, figures, comparisons, conversions – gathered into a page."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from html import escape
from pathlib import Path

from fairswap.errors import FairSwapError, UsageError
from fairswap.formats.files import document_of
from fairswap.formats.outputs import Outputs
from fairswap.jobs.comparing import compare
from fairswap.jobs.conversion import Conversions
from fairswap.measure.comparison import Comparison
from fairswap.model.clip import Clip
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.picture.page.assembling import assemble
from fairswap.picture.page.playable import playable
from fairswap.picture.page.scene import Shown, scene_of
from fairswap.pose.rigged import rigged_if_known
from fairswap.wording import counted

# More on one page is nothing to look at, and a browser has to hold it.
MOST_FIGURES, MOST_CLIPS = 12, 60
Viewed = Document | Figure | Comparison | Conversions | Shown | str | Path


@dataclass(frozen=True, eq=False)
class Page:
    """A page that plays figures and motions in a browser: one file, which needs no network.

    >>> import fairswap
    >>> fairswap.view(fairswap.demo_motion("walk"))
    <Page 'juniper.glb': 1 figure>
    """

    title: str
    shown: tuple[Shown, ...]

    @cached_property
    def html(self) -> str:
        """The whole page.

        Raises
        ------
        UsageError
            If the package that draws is not installed.
        """
        rows, acts = with_acts([scene_of(shown) for shown in self.shown])
        return assemble(self.title, rows, [playable(shown.figure, shown.clips) for shown in self.shown], acts)

    def save(self, out: str | Path, *, force: bool = False) -> str:
        """Write the page; give its name.

        Raises
        ------
        OutputError
            If a file is there already or cannot be written.
        """
        outputs = Outputs([], force)
        return outputs.write(Path(out), [self.html.encode()])

    def __repr__(self) -> str:
        return f"<Page {self.title!r}: {counted(len(self.shown), 'figure')}>"

    def _repr_html_(self) -> str:
        # A frame of its own: the notebook's style and scripts and the page's do not meet.
        style = "width:100%;height:640px;border:1px solid #ccc"
        return f'<iframe sandbox="allow-scripts" style="{style}" srcdoc="{escape(self.html)}"></iframe>'


def view(*what: Viewed, title: str = "", clip: str | None = None) -> Page:
    """Look at it moving: one figure, a source and its results beside each other, or whatever was made.

    >>> import fairswap
    >>> walk = fairswap.demo_motion("walk")
    >>> fairswap.view(fairswap.compare(walk, walk)).title
    'Juniper'

    Parameters
    ----------
    what : files, documents, figures, a comparison, or what :func:`convert` made
        Of several files the first is the source, and others are compared with it where they have a clip in common.
    title : str, optional
    clip : str, optional
        Only clips of this name.

    Raises
    ------
    UsageError
        If there is nothing to see, no clip of that name, or more than twelve figures.
    """
    shown: list[Shown] = []
    for each in what:
        if isinstance(each, Comparison):
            shown += of_comparison(each)
        elif isinstance(each, Conversions):
            shown += of_conversions(each)
        else:
            shown.append(each if isinstance(each, Shown) else of_document(document_of(each), clip))
    if not shown:
        raise UsageError("there is nothing to look at", remedy="Give a file or two")
    if clip is not None and not any(row.clips for row in shown):
        raise UsageError(f"no clip is called {clip!r}", remedy="inspect lists the clips of a file")
    if len(shown) > MOST_FIGURES:
        problem = f"{len(shown)} figures; {MOST_FIGURES} are shown on a page at most"
        raise UsageError(problem, remedy="Look at them in several pages")
    if all(isinstance(each, str | Path | Document) for each in what):
        shown = [shown[0], *(_held_against(shown[0], row) for row in shown[1:])]
    names = list(dict.fromkeys(row.title for row in shown))
    return Page(title or " · ".join(names), tuple(shown))


def of_document(document: Document, clip: str | None = None) -> Shown:
    """A document's main figure with its clips."""
    figure = document.figure
    clips = tuple(row for row in document.clips_of(figure) if clip in (None, row.name))
    return Shown(
        _title(document), figure, clips, rigged_if_known(document, next(iter(clips), None)), tuple(document.findings)
    )


def of_comparison(comparison: Comparison) -> list[Shown]:
    """Both sides of a comparison."""
    sides = comparison.source, comparison.result
    source, result = (Shown(side.rigged.figure.name, side.rigged.figure, (side.clip,), side.rigged) for side in sides)
    return [source, replace(result, against={comparison.result.clip.name: comparison})]


def of_conversions(done: Conversions) -> list[Shown]:
    """The sources of a conversion, and the figure with what was made of them; of very many clips the worst."""
    rows = sorted(done.done, key=lambda row: row.comparison.likeness)[:MOST_CLIPS]
    rows = [row for row in done.done if row in rows]
    sources: dict[Figure, Shown] = {}
    for row in rows:
        rigged = row.swap.source
        old = sources.get(rigged.figure, Shown(_title(row.source), rigged.figure, (), rigged))
        # Clips that were named anew play together all the same.
        sources[rigged.figure] = replace(old, clips=(*old.clips, replace(row.original, name=row.written[0].name)))
    clips = tuple(clip for row in rows for clip in row.written)
    target = rows[0].swap.target if done.fitted is None else rigged_if_known(done.figure, next(iter(clips), None))
    against = {row.written[0].name: row.comparison for row in rows}
    title = f"{done.figure.name}, carried over" + (
        f" ({len(rows)} of {len(done.done)})" if len(rows) < len(done.done) else ""
    )
    return [*sources.values(), Shown(title, done.figure, clips, target, tuple(done.findings), against)]


def with_acts(scenes: list[dict]) -> tuple[list[dict], list[str]]:  # type: ignore[type-arg]
    """Scenes whose clips know in which act they play, and the acts in order.

    Clips of one name play together. A figure that has no name in common with the first plays its clips in that order.
    """
    acts: list[str] = []
    first = [clip["name"] for clip in scenes[0]["clips"]] if scenes else []
    for scene in scenes:
        own = [clip["name"] for clip in scene["clips"]]
        strange = not set(own) & set(first)
        for number, clip in enumerate(scene["clips"]):
            clip["act"] = first[number] if strange and number < len(first) else clip["name"]
            if clip["act"] not in acts:
                acts.append(clip["act"])
    return scenes, acts


def _title(document: Document) -> str:
    return Path(document.file).name if document.file else document.figure.name


def _held_against(source: Shown, result: Shown) -> Shown:
    """The result with how far each of its clips is off that of the source, where that can be told."""
    against = {}
    for pair in _pairs(source, result):
        try:
            against[pair[1].name] = compare((source.figure, pair[0]), (result.figure, pair[1]))
        except FairSwapError:
            continue
    return replace(result, against=against)


def _pairs(source: Shown, result: Shown) -> list[tuple[Clip, Clip]]:
    """Clips of one name, or the only one of each."""
    by_name = {clip.name: clip for clip in source.clips}
    if len(source.clips) == 1 and len(result.clips) == 1:
        return [(source.clips[0], result.clips[0])]
    return [(by_name[clip.name], clip) for clip in result.clips if clip.name in by_name]
