"""Compare a result with its source: whatever holds a motion with whatever holds another."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from fairswap.clips.spans import span_of
from fairswap.errors import UsageError
from fairswap.formats.files import document_of
from fairswap.jobs.beside import with_bones_beside
from fairswap.jobs.faces import (
    face_alone,
    face_moves,
    heads_of,
    lacking_of,
    with_face_judged,
    with_still_face_judged,
)
from fairswap.jobs.options import SourceOptions, TargetOptions, options_of
from fairswap.measure.comparison import Comparison, Motion, compare_motions
from fairswap.measure.contacts import contacts_of
from fairswap.model.clip import Clip
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.pose.rigged import RiggedFigure
from fairswap.pose.straight import straightened
from fairswap.retarget.layers import with_layers
from fairswap.retarget.record import Record, layers_of, record_in, rigged_as, with_travel
from fairswap.wording import listed

if TYPE_CHECKING:
    from fairswap.platform.preparing import Fitted

# A clip that is longer or shorter than it was made by more than this was cut or joined since.
_CUT_S = 0.05
Compared = str | Path | Document | tuple[Figure, Clip]


def compare(
    source: Compared,
    result: Compared,
    *,
    clip: str | None = None,
    source_options: SourceOptions | None = None,
    result_options: TargetOptions | None = None,
) -> Comparison:
    """How alike a result and its source look.

    >>> import fairswap
    >>> juniper = fairswap.load(fairswap.demo_file("juniper.glb")).figure
    >>> reel = fairswap.reel(juniper).clip
    >>> fairswap.compare((juniper, reel), (juniper, reel)).limbs_worst_degrees
    0.0

    Parameters
    ----------
    source, result : path, Document, or (figure, clip)
        What is compared. A result of :func:`convert` brings what was decided when it was made: which bone is which,
        both reference poses, and what was asked for; it is judged by that, unless options say otherwise.
    clip : str, optional
        The clip of this name in both; without, the first name they have in common, or the only one of each.

    Raises
    ------
    UsageError
        If the two have no clip in common.
    ImpossibleError
        If the bones of one of them are not known, or they share no limb.
    """
    given = options_of(SourceOptions, source_options, "source_options")
    wanted = options_of(TargetOptions, result_options, "result_options")
    first, second = map(_document_with, (source, result))
    figure_a, figure_b = first.figure, second.figure
    clip_a, clip_b = matching_clips(first, second, clip)
    as_found = (given, wanted) == (SourceOptions(), TargetOptions())
    record = record_in(clip_b, figure_a, figure_b, clip_a) if as_found else None
    if record is not None:
        return _as_decided(record, Motion(rigged_as(record.source, figure_a, "source"), clip_a),
                           Motion(rigged_as(record.target, figure_b, "result"), clip_b))  # fmt: skip
    # About which axes straight limbs bend, and how feet stand, bones alone show by their motion. What has a skin shows
    # it by its rest: there a twist is seen, and no motion excuses it.
    shown_b = None if figure_b.meshes else clip_b
    shown_a = None if figure_a.meshes and shown_b is None else clip_a
    a = RiggedFigure.of(
        figure_a, bones=given.bones, clip=shown_a, reference=given.reference, strict=given.strict, part="source"
    )
    b = RiggedFigure.of(figure_b, bones=wanted.bones, clip=shown_b, reference=wanted.reference, part="result")
    a, b = (straightened(one, file.clips_of(file.figure)) for one, file in ((a, first), (b, second)))
    source_motion, result_motion = Motion(a, clip_a), Motion(b, clip_b)
    return _judged(compare_motions(source_motion, result_motion), source_motion, result_motion)


def compare_fitted(fitted: Fitted) -> tuple[Comparison, ...]:
    """How alike the clips that were made to fit a platform and what they were look, on the figure as it was.

    A clip that was cut, being too long, is left out: no part of it is the whole.

    >>> import fairswap
    >>> idle = fairswap.demo_motion("idle", by="Pip")
    >>> fairswap.compare_fitted(fairswap.fit(idle, "quillmoor"))[0].looks_same
    True
    """
    return tuple(
        compare_prepared(Motion(origin.rigged, origin.clip), Motion(fitted.rigged, origin.parts[0]))
        for origin in fitted.origins if len(origin.parts) == 1
    )  # fmt: skip


def compare_prepared(source: Motion, result: Motion) -> Comparison:
    """As :func:`compare`, of figures whose bones are known, with what the result brings along; no lead-in is left."""
    record = record_in(result.clip, source.rigged.figure, result.rigged.figure)
    if record is None:
        return _judged(compare_motions(source, result), source, result)
    return _as_decided(msgspec.structs.replace(record, lead_in_dropped=0), source, result)


def _as_decided(record: Record, source: Motion, result: Motion) -> Comparison:
    """The comparison that the one who made the result made: of the same bones and poses, with what was asked for."""
    if 0 < record.lead_in_dropped < source.clip.frames:
        source = replace(source, clip=span_of(source.clip, record.lead_in_dropped, source.clip.frames - 1))
    contacts = contacts_of(source.rigged, source.clip)
    factor = 1.0
    if record.travel_scale is not None:
        factor = record.travel_scale * source.rigged.reference.leg_m / result.rigged.reference.leg_m
    if not record.body:
        return _with_face(face_alone(source, result), source, result, moves=face_moves(source))
    asked = replace(source, clip=with_layers(source.rigged, source.clip, layers_of(record), by_name=False))
    cut = abs(result.clip.duration_s - record.seconds) > _CUT_S
    whole = with_travel(result, [] if cut else record.travel_taken)
    found = compare_motions(asked, whole, source_contacts=contacts, travel_factor=factor, cleared=record.cleared)
    return _judged(found, source, result, face=record.face, laid_on=record.face_laid_on)


def _judged(
    found: Comparison, source: Motion, result: Motion, *, face: bool = True, laid_on: bool = False
) -> Comparison:
    """The comparison with bones that fill no role in it, and the ``face``; one ``laid_on`` a still one is meant."""
    moves = face_moves(source)
    judged = face and (moves or not laid_on)
    found = with_bones_beside(found, source, result, face=judged and not moves)
    return _with_face(found, source, result, moves=moves) if judged else found


def _with_face(found: Comparison, source: Motion, result: Motion, *, moves: bool) -> Comparison:
    if not moves:
        return with_still_face_judged(found, source, result)
    heads = heads_of(source, result)
    if not heads.target.chart.columns:
        return replace(found, face_lacking=lacking_of("the face"))
    return with_face_judged(found, heads, source.clip, result.clip)


def _document_with(what: Compared) -> Document:
    match what:
        case (Figure() as figure, Clip() as clip):
            return Document(figure.name, "", figure.space, (figure,), (clip,))
        case _:
            return document_of(what)


def matching_clips(source: Document, result: Document, name: str | None = None) -> tuple[Clip, Clip]:
    """The clip of the result and the one it came from: of one name, or the only one in each.

    Raises
    ------
    UsageError
        If there is no such pair.
    """
    if name is not None:
        return _clip_called(name, source), _clip_called(name, result)
    for clip in result.clips_of(result.figure):
        for other in source.clips_of(source.figure):
            if other.name == clip.name or (len(source.clips) == 1 and len(result.clips) == 1):
                return other, clip
    raise UsageError(
        "the two files have no clip in common",
        remedy=f"{source.file} has {_clips_in(source)}, {result.file} has {_clips_in(result)}",
    )


def _clip_called(name: str, document: Document) -> Clip:
    for clip in document.clips_of(document.figure):
        if clip.name == name:
            return clip
    other = document.figure_of(document.clip(name))
    problem = f"clip {name!r} moves {other.name!r}, and not {document.figure.name!r}"
    raise UsageError(problem, file=document.file, remedy=f"Choose the figure {other.name!r} of the file")


def _clips_in(document: Document) -> str:
    """The clips of a document's figure, in words; where it has none, whose the others are."""
    own = document.clips_of(document.figure)
    if own or not document.clips:
        return ", ".join(repr(clip.name) for clip in own) or "no clips"
    others = listed((f"{clip.name!r} of {document.figure_of(clip).name!r}" for clip in document.clips), 4)
    return f"no clips of {document.figure.name!r} ({others})"
