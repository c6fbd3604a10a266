"""The whole job for one target figure: motions in, converted clips and their proof out, files written.

What ``fairswap convert`` does, for use from Python.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from fairswap.body.carried import Carried
from fairswap.body.compare import Comparison, compare_subjects
from fairswap.body.finish import AS_CARRIED, Finish
from fairswap.body.swap import Swap
from fairswap.bones.profile import BoneProfile
from fairswap.clip import Clip
from fairswap.document import Document
from fairswap.errors import FairSwapError, ImpossibleError, UsageError
from fairswap.figure import Figure
from fairswap.figures.props import with_object_of
from fairswap.files import save

if TYPE_CHECKING:
    from fairswap.face.carry import CarriedFace, FaceSwap
    from fairswap.face.chart import FaceChart


@dataclass(frozen=True, eq=False)
class Converted:
    """One clip carried over, with what it came from and how alike the two are.

    ``plain`` compares it before feet and hands were finished; it is ``comparison`` itself where nothing was. ``face``
    is there where the source's face moves.
    """

    source: Document
    swap: Swap
    original: Clip
    carried: Carried
    comparison: Comparison
    plain: Comparison
    scale: float
    face: CarriedFace | None = None

    @property
    def clip(self) -> Clip:
        """The result."""
        return self.carried.clip if self.face is None else self.face.clip


@dataclass(frozen=True, eq=False)
class Faces:
    """Whether faces are carried over: ``all`` (with the body), ``only`` (without it) or ``none``; and their charts.

    Without a chart one is drafted.
    """

    which: str = "all"
    source: FaceChart | None = None
    target: FaceChart | None = None


@dataclass(frozen=True)
class Failure:
    """A clip (or a whole file, then ``clip`` is empty) that could not be carried over, and why."""

    file: str
    clip: str
    error: FairSwapError


def convert_clips(
    sources: Sequence[Document],
    target: Figure,
    *,
    names: Sequence[str] = (),
    source_bones: BoneProfile | None = None,
    target_bones: BoneProfile | None = None,
    strict: bool = False,
    source_reference: str = "auto",
    target_reference: str = "auto",
    target_clip: Clip | None = None,
    hands_reference: str = "auto",
    finish: Finish | None = None,
    faces: Faces | None = None,
    failures: list[Failure] | None = None,
    step: Callable[[str], None] = lambda _: None,
) -> list[Converted]:
    """Carry the clips of several documents over to ``target``, and compare each with its source.

    Parameters
    ----------
    names : sequence of str
        Only clips of these names; without, all.
    strict : bool
        Refuse bones that are guesses.
    source_reference, target_reference, hands_reference : str
        See :class:`fairswap.Swap`; frames and times are of each document's first clip, and of ``target_clip``.
    finish : Finish, optional
        How feet, hands and travel are finished.
    faces : Faces, optional
        Whether faces are carried over, and by which charts.
    failures : list, optional
        Takes up what could not be done; then one failing clip does not stop the others. Without, it is raised.
    step : callable
        Told the name of each clip when it is done.

    Raises
    ------
    UsageError
        If no document has a clip of a name that was given.
    ImpossibleError
        If a document has no clip, or bones are not known.
    """
    known = {clip.name for document in sources for clip in document.clips}
    for name in names:
        if name not in known:
            have = ", ".join(repr(other) for other in sorted(known)) or "no clips"
            raise UsageError(f"no clip is called {name!r}", remedy=f"There are {have}")
    done: list[Converted] = []
    for document in sources:
        swaps: dict[Figure, Swap] = {}
        heads: dict[Swap, FaceSwap] = {}
        with _kept_going(failures, document.file, ""):
            if not document.clips:
                remedy = "Export it with its animation"
                raise ImpossibleError("there is no clip in it", file=document.file, remedy=remedy)
        for figure, clip in _clips(document):
            if names and clip.name not in names:
                continue
            with _kept_going(failures, document.file, clip.name):
                performing, shown = figure, clip
                if finish is not None and finish.object is not None:
                    performing, shown = with_object_of(document, figure, clip, finish.object)
                if performing not in swaps:
                    swaps[performing] = Swap(
                        performing,
                        target,
                        source_bones,
                        target_bones,
                        strict,
                        shown,
                        source_reference,
                        target_reference,
                        target_clip,
                        hands_reference,
                    )
                row = _converted(document, swaps[performing], shown, finish or Finish())
                face = faces or Faces()
                done.append(_with_face(row, face, heads) if face.which == "only" or _head_moves(row) else row)
            step(clip.name)
    return done


def _head_moves(row: Converted) -> bool:
    """Whether anything may move in the source's face: morphs, or bones below its head."""
    clip, head = row.original, row.swap.source_side.roles.bones["head"]
    if clip.poses.morph_tracks:
        return True
    skeleton = clip.skeleton
    below = np.zeros(len(skeleton), dtype=bool)
    for bone in range(head + 1, len(skeleton)):
        parent = int(skeleton.parents[bone])
        below[bone] = parent == head or (parent >= 0 and below[parent])
    moved = [bone for bone in clip.poses.translated_bones.tolist() if below[bone]]
    return bool(moved) or bool(np.ptp(clip.poses.rotation_tracks[below], axis=2).max(initial=0.0) > 1e-4)


def _with_face(row: Converted, faces: Faces, heads: dict[Swap, FaceSwap]) -> Converted:
    """The face put on, if the source's moves; heads are made ready once for each pair of figures."""
    # Faces are imported where one may move: most motions have none.
    from fairswap.face.carry import FaceSide, FaceSwap, needs_face

    swap, clip = row.swap, row.original
    sides = swap.source_side.roles, swap.target_side.roles
    if faces.which == "none" or not needs_face(swap.source, clip, *sides):
        return row if faces.which != "only" else replace(row, carried=replace(row.carried, clip=_still(row)))
    if swap not in heads:
        heads[swap] = FaceSwap(
            FaceSide(swap.source, sides[0], faces.source, (clip,)), FaceSide(swap.target, sides[1], faces.target)
        )
    if not heads[swap].target.chart.ways:
        return row  # no face to put it on: the report says that none was carried over
    return replace(row, face=heads[swap].carry(clip, _still(row) if faces.which == "only" else row.carried.clip))


def _still(row: Converted) -> Clip:
    from fairswap.face.carry import still_clip

    clip = row.carried.clip
    return still_clip(row.swap.target, clip.name, clip.rate, clip.frames)


def _converted(document: Document, swap: Swap, clip: Clip, finish: Finish) -> Converted:
    sides = swap.source_side, swap.target_side
    plain_clip = swap.carry_plain(clip, finish)
    before: Comparison | None = None
    if finish != replace(AS_CARRIED, travel=finish.travel, scale_travel=finish.scale_travel):
        before = compare_subjects(sides[0], clip, sides[1], plain_clip, inside=False)
    carried = swap.finish(clip, plain_clip, finish)
    if finish.travel == "none":
        # On the spot nothing can be held against the source's way: what was planted is compared before it is taken out.
        comparison = compare_subjects(sides[0], clip, sides[1], swap.convert(clip, replace(finish, travel="hips")))
    else:
        comparison = compare_subjects(sides[0], clip, sides[1], carried.clip)
    return Converted(document, swap, clip, carried, comparison, before or comparison, swap.scale(finish))


@contextmanager
def _kept_going(failures: list[Failure] | None, file: str, clip: str) -> Iterator[None]:
    """Put an error on the list, where there is one."""
    try:
        yield
    except FairSwapError as error:
        if failures is None:
            raise
        failures.append(Failure(file, clip, error))


def matching_clips(source: Document, result: Document, name: str | None = None) -> tuple[Clip, Clip]:
    """The clip of the result and the one it came from: of one name, or the only one in each.

    Raises
    ------
    UsageError
        If there is no such pair.
    """
    if name is not None:
        return source.clip(name), result.clip(name)
    for clip in result.clips_of(result.figure):
        for other in source.clips_of(source.figure):
            if other.name == clip.name or (len(source.clips) == 1 and len(result.clips) == 1):
                return other, clip
    have = [", ".join(repr(clip.name) for clip in document.clips) or "no clips" for document in (source, result)]
    raise UsageError(
        "the two files have no clip in common",
        remedy=f"{source.file} has {have[0]}, {result.file} has {have[1]}",
    )


def _clips(document: Document) -> Iterator[tuple[Figure, Clip]]:
    for clip in document.clips:
        figure = next(figure for figure in document.figures if figure.skeleton is clip.skeleton)
        yield figure, clip


def outputs_for(out: Path, clips: Sequence[Clip], suffix: str = ".glb") -> list[tuple[Path, list[Clip]]]:
    """Which clips go into which file: all into one, or one for each if ``out`` is a folder.

    ``out`` is a folder if it is one, or has no suffix.
    """
    if out.suffix and not out.is_dir():
        return [(out, list(clips))]
    used: dict[str, int] = {}
    rows = []
    for clip in clips:
        stem = re.sub(r"[^\w .()+-]+", "_", clip.name).strip(" .") or "clip"
        used[stem.lower()] = used.get(stem.lower(), 0) + 1
        if used[stem.lower()] > 1:
            stem = f"{stem} ({used[stem.lower()]})"
        rows.append((out / f"{stem}{suffix}", [clip]))
    return rows


def write_outputs(
    rows: Sequence[tuple[Path, list[Clip]]], target: Figure, kept: Sequence[Clip] = (), *, force: bool = False
) -> Iterator[str]:
    """Write each file; ``kept`` are clips of the target's own that go along."""
    for path, clips in rows:
        yield from save(path, target, [*kept, *clips], force=force)
