"""What the verbs of ``fairswap clip`` share: the file they work on, the clips that are picked, writing and telling."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import click

from fairswap.cli import options
from fairswap.cli.clip_reports import ChangedClip, ClipChangeReport, NewClip, change_lines, clip_facts
from fairswap.cli.output import Output
from fairswap.cli.reports import finding_rows

if TYPE_CHECKING:
    from fairswap.model.clip import Clip
    from fairswap.model.document import Document


def file_argument(function: Callable[..., None]) -> Callable[..., None]:
    """The file that a command works on, and which figure of it."""
    return click.argument("file", type=options.INPUT)(options.figure(function))


out_option = click.option(
    "-o",
    "--out",
    required=True,
    type=options.OUTPUT,
    metavar="OUT",
    help="Write this file; a folder: one file per clip.",
)
maybe_out = click.option("-o", "--out", type=options.OUTPUT, metavar="OUT", help="Write this file.")
clip_option = click.option(
    "--clip", "names", multiple=True, metavar="NAME", help="Only this clip; the others stay as they are."
)


class Change:
    """One verb on the clips of one file: those picked are changed, all are written, each is told before and after."""

    def __init__(self, verb: str, file: Path, names: Sequence[str], out: Path | None, output: Output) -> None:
        self.verb, self.names, self.out, self.output = verb, names, out, output
        self.document = options.loaded(file)

    def each(self, change: Callable[[Clip], Clip]) -> None:
        """Change each clip by itself."""
        self.all_at_once(lambda clips: [change(clip) for clip in clips])

    def all_at_once(self, change: Callable[[Sequence[Clip]], list[Clip]]) -> None:
        """Change the picked clips together, write and report."""
        report_of_all(self.verb, self.output, [self.done(change)])

    @property
    def stem(self) -> str:
        """The name of the file."""
        return Path(self.document.file).stem

    def done(self, change: Callable[[Sequence[Clip]], list[Clip]]) -> ClipChangeReport:
        """Change the picked clips together and write them."""
        before = self.document.clips_of(self.document.figure)
        after = self.picked(change)
        rows = tuple(
            ChangedClip(new.name, clip_facts(old), clip_facts(new)) for old, new in zip(before, after, strict=True)
        )
        assert self.out is not None
        written = write(self.document, after, self.out, self.output)
        told = finding_rows(self.document.findings)
        return ClipChangeReport(self.verb, rows, written, told)

    def picked(self, change: Callable[[Sequence[Clip]], list[Clip]]) -> list[Clip]:
        """All clips of the figure, those that are picked changed."""
        mine = chosen(self.document, self.names)
        changed = dict(zip(map(id, mine), change(mine), strict=True))
        return [changed.get(id(clip), clip) for clip in self.document.clips_of(self.document.figure)]


def report_of_all(verb: str, output: Output, rows: Sequence[ClipChangeReport]) -> None:
    """Tell what was done to the clips of one file or several, as one report."""
    clips, written, findings = (
        tuple(part for row in rows for part in getattr(row, name)) for name in ("clips", "written", "findings")
    )
    output.report(ClipChangeReport(verb, clips, written, findings), change_lines)


def chosen(document: Document, names: Sequence[str]) -> list[Clip]:
    """The clips of the main figure that are named, or all."""
    from fairswap.errors import ImpossibleError

    clips = list(document.clips_of(document.figure))
    if not clips:
        raise ImpossibleError("there is no clip in it", file=document.file)
    return [named_clip(clips, name, document) for name in names] if names else clips


def named_clip(clips: Sequence[Clip], name: str, document: Document) -> Clip:
    found = next((clip for clip in clips if clip.name == name), None)
    return found if found is not None else document.clip(name)


def one_of(document: Document, names: Sequence[str]) -> Clip:
    """The one clip that is meant: named, or the only one, or the longest."""
    return max(chosen(document, names[:1]), key=lambda clip: clip.frames)


def on_figure(document: Document, first: Document) -> list[Clip]:
    """The clips of a document on the bones of the first one's figure, whose names they have to have.

    Raises
    ------
    UsageError
        With the bones that are called otherwise.
    """
    from fairswap.errors import UsageError

    skeleton = first.figure.skeleton
    clips = document.clips_of(document.figure)
    for clip in clips:
        if clip.skeleton.names != skeleton.names:
            known = set(skeleton.names)
            others = [name for name in clip.skeleton.names if name not in known]
            which = f": {', '.join(others[:3])}{' …' if len(others) > 3 else ''}" if others else ""
            problem = f"its clip {clip.name!r} moves other bones than {first.file} has{which}"
            raise UsageError(problem, file=document.file, code="moves-other-bones")
    return [
        clip if clip.skeleton == skeleton else clip.with_poses(replace(clip.poses, skeleton=skeleton)) for clip in clips
    ]


def new_clip(clip: Clip) -> NewClip:
    return NewClip(clip.name, clip.frames, clip.duration_s)


def write(document: Document, clips: Sequence[Clip], out: Path, output: Output) -> tuple[str, ...]:
    from fairswap.jobs.writing import write_clips

    suffix = Path(document.file).suffix
    return tuple(write_clips(document.figure, clips, out, output.files, suffix=suffix))


def write_one(document: Document, clips: Sequence[Clip], out: Path, output: Output) -> tuple[str, ...]:
    """The figure with clips, or without any, as one file."""
    from fairswap.formats.files import save_to

    output.announce(out)
    return tuple(save_to(output.files, out, document.figure, clips))
