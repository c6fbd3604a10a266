"""Faces in a conversion: put on with the body, from the same file or another, and judged in units."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from fairswap.errors import Finding, ImpossibleError
from fairswap.formats.files import document_of
from fairswap.measure.comparison import Comparison, Motion, compare_motions
from fairswap.measure.differences import rms
from fairswap.model.arrays import Floats
from fairswap.model.bounded import bounded_weights
from fairswap.model.clip import Clip
from fairswap.model.document import Document
from fairswap.pose.rigged import RiggedFigure
from fairswap.wording import listed

if TYPE_CHECKING:
    from fairswap.face.chart import FaceChart
    from fairswap.face.head import Head
    from fairswap.face.transfer import FaceSwap, TransferredFace
    from fairswap.jobs.options import FaceOptions
    from fairswap.retarget.swap import Swap

# The modules of faces are imported where one may move: most motions have none.

# A face that moves its places by less than this (of a face's size, root mean square) does nothing to speak of.
_NOTHING = 0.003
# A region of it counts from half of that on, if shapes that are of it for so large a part can do so much of it.
_REGION_MOVES, _HAS = 0.0015, 0.3
# What is missed of one by more than this is looked at: whether the result's face could do it.
_EXCUSED = 0.1
# And a shape that is shown by less than this, of all of it.
_MOVES = 1e-3


class Faces:
    """The faces of one conversion: heads are made ready once for each pair of figures.

    ``own_clips`` are those of the target: they tell the range of its weights.
    """

    def __init__(self, options: FaceOptions, own_clips: tuple[Clip, ...]) -> None:
        self.options, self.own_clips = options, own_clips
        self._swaps: dict[Swap, FaceSwap] = {}
        self._other: tuple[Document, Head, Head] | None = None

    def wanted_for(self, clip: Clip, source: RiggedFigure) -> bool:
        """Whether there may be a face to put on."""
        return self.options.which == "only" or self.options.taken_from is not None or may_move(clip, source)

    def resting(self, swap: Swap, body: Clip) -> Clip:
        """A body that rests, as long as another."""
        from fairswap.face.transfer import still_clip

        return replace(still_clip(swap.target.figure, body.name, body.rate, body.frames), made=body.made)

    def put_on(self, swap: Swap, clip: Clip, body: Clip, clips: tuple[Clip, ...] = ()) -> TransferredFace | None:
        """The face of a source's clip on a body; None if it does nothing, or there is no face to put it on.

        ``clips`` are all of the source's: what one of them shows of its face is so in all.

        Raises
        ------
        ImpossibleError
            If a face is what was asked for, and there is none on one of the two, or it does not move.
        """
        from fairswap.face.transfer import FaceSwap, carried_in_face, needs_face

        if self.options.which == "none":
            return None
        if self.options.taken_from is not None:
            return self._of_another(swap, clip, body)
        carried = carried_in_face(swap) if self.options.which == "all" else {}
        if not needs_face(swap.source.figure, clip, swap.source.roles, carried):
            if self.options.which == "only":
                raise ImpossibleError("the face does not move in it", code="no-face-moves")
            return None
        if swap not in self._swaps:
            self._swaps[swap] = FaceSwap(self._source_head(swap, clips or (clip,)), self._target_head(swap), carried)
        heads = self._swaps[swap]
        if self.options.which == "only":
            heads.target.check_has_face()
        return heads.transfer(clip, body) if heads.target.chart.columns else None

    def without_a_face(self, swap: Swap, clip: Clip, body: Clip) -> tuple[Clip, list[Finding]]:
        """A body without the face of a source's clip, but with its other shapes; and what is worth telling of a face
        that was not put on: that it moves, and there is none to put it on."""
        from fairswap.face.beside import with_shapes_beside

        heads = self._swaps.get(swap)
        if heads is None or heads.target.chart.columns:
            return body, []  # it does nothing, or what it does goes with the body
        shapes = np.flatnonzero(np.ptp(heads.source.activations(clip), axis=1) > _MOVES)
        names = list(dict.fromkeys(heads.source.chart.columns[row][0] for row in shapes))
        body, beside = with_shapes_beside(heads.source, heads.target, clip, body)
        if not names:
            return body, beside
        some = ", ".join(map(repr, names[:4])) + (" …" if len(names) > 4 else "")
        message = f"{swap.target.figure.name!r} has no face: what the source's does ({some}) is not carried over"
        return body, [Finding("face-none", "warning", clip.name, message), *beside]

    def judged(self, found: Comparison, swap: Swap, source: Clip, result: Clip) -> Comparison:
        """The comparison with the face in it, if it was carried over with the body."""
        heads = self._swaps.get(swap)
        return found if heads is None else with_face_judged(found, heads, source, result)

    def _of_another(self, swap: Swap, clip: Clip, body: Clip) -> TransferredFace:
        """The face of another file: of its clip of the same name, or its longest."""
        from fairswap.face.head import Head
        from fairswap.face.transfer import lay_units

        assert self.options.taken_from is not None
        if self._other is None:
            document = document_of(self.options.taken_from)
            self._other = document, Head.of(document, chart=self._chart("source_chart")), self._target_head(swap)
        document, source, target = self._other
        target.check_has_face()
        moving = [one for one in document.clips_of(source.figure) if source.moves(one)]
        if not moving:
            raise ImpossibleError("no clip in it moves a face", file=document.file, code="no-face-moves")
        longest = max(moving, key=lambda one: one.duration_s)
        taken = next((one for one in moving if one.name == clip.name), longest)
        return lay_units(target, source.units(taken), float(taken.rate), body)

    def _source_head(self, swap: Swap, clips: tuple[Clip, ...]) -> Head:
        from fairswap.face.head import Head

        return Head(swap.source.figure, swap.source.roles, self._chart("source_chart"), clips)

    def _target_head(self, swap: Swap) -> Head:
        from fairswap.face.head import Head

        return Head(swap.target.figure, swap.target.roles, self._chart("target_chart"), self.own_clips)

    def _chart(self, which: str) -> FaceChart | None:
        from fairswap.face.chart import FaceChart

        chart = getattr(self.options, which)
        return chart if isinstance(chart, FaceChart) else None


def may_move(clip: Clip, rigged: RiggedFigure) -> bool:
    """Whether anything may move in a face, or be held: morphs, or bones below the head."""
    poses = clip.poses
    if poses.morph_tracks:
        return True
    if rigged.figure.face_controls & set(poses.translated_bones.tolist()):
        return True
    below = poses.skeleton.below(rigged.roles.bones["head"])
    if np.isin(poses.translated_bones, below).any():
        return True
    turns = poses.rotation_tracks[below]
    still = poses.skeleton.rest_rotations[below] if rigged.figure.meshes else turns[:, :, 0]
    return any(np.abs(most - still).max(initial=0.0) > 1e-4 for most in (turns.min(axis=2), turns.max(axis=2)))


def face_alone(source: Motion, result: Motion) -> Comparison:
    """The comparison of a result that is to do with its face what the source does, and with its body nothing: the body
    is held against its own rest."""
    from fairswap.face.transfer import still_clip

    still = still_clip(result.rigged.figure, result.clip.name, result.clip.rate, result.clip.frames)
    return replace(compare_motions(Motion(result.rigged, still), result), source=source)


def with_face_judged(found: Comparison, heads: FaceSwap, source: Clip, result: Clip) -> Comparison:
    """The comparison with the face in it: what share of the motion of its places is missed, or done too much."""
    from fairswap.face.anatomy import landmark_displacements
    from fairswap.face.transfer import unsaid_expressions
    from fairswap.face.units import REGIONS, UNITS, region_of

    unsaid = unsaid_expressions(heads.target, heads.source, result)
    if unsaid:
        names = listed(map(repr, unsaid), 3)
        return replace(found, face_lacking=f"the face: only its avatar says what the expressions {names} look like")
    if result.frames != source.frames or result.rate != source.rate:
        result = result.with_poses(result.at(np.arange(source.frames) / float(source.rate)), rate=source.rate)
    places = landmark_displacements()
    # As with fingers that are not there: eyes that cannot turn, or a face that has nothing but eyes, are told, and what
    # they lack is not judged.
    regions, chart = np.array([region_of(unit) for unit in UNITS]), heads.target.chart.matrix
    does, shown = heads.source.units(source), heads.target.units(result)
    lacking = ""
    for name, part in (("the gaze", regions == "gaze"), ("the face but for its eyes", regions != "gaze")):
        if not chart[part].any():
            lacking = lacking_of(name) if rms(places[:, part] @ does[part]) > _NOTHING else lacking
            places = np.where(part, 0.0, places)
    # What is lost of a small region is little of the whole: lids that never close, a gaze that never wanders.
    missed = {}
    for region in REGIONS:
        own = regions == region
        wanted, done = places[:, own] @ does[own], places[:, own] @ shown[own]
        if rms(wanted) <= _REGION_MOVES:
            continue
        off = rms(wanted - done) / rms(wanted)
        able = _within_reach(places, heads.target, own, does) if off > _EXCUSED else wanted
        if rms(able) > _HAS * rms(wanted):
            missed[region] = min(off, rms(able - done) / rms(able))
    worst = max(missed.items(), key=lambda row: row[1], default=None)
    wanted = places @ does
    of_all = rms(wanted - places @ shown) / max(rms(wanted), _NOTHING)
    return replace(found, face_missed=of_all, face_region=worst, face_lacking=lacking)


def _within_reach(places: Floats, head: Head, own: Floats, does: Floats) -> Floats:
    """What the shapes of a head that are of one region for a good part, of units ``own``, can do at best of what a face
    does there: ways of its places ``(places, frames)``. A brow of one piece goes up as a whole."""
    chart = head.chart.matrix
    able = np.linalg.norm(chart[own], axis=0) > _HAS * np.linalg.norm(chart, axis=0)
    ways = places[:, own] @ chart[own][:, able]
    return np.asarray(ways @ bounded_weights(ways, places[:, own] @ does[own], head.most[able]))


def lacking_of(what: str) -> str:
    """Why something of a face is not judged: the result has none."""
    return f"{what}, which moves in the source: the result has nothing to show it with"


def with_still_face_judged(found: Comparison, source: Motion, result: Motion) -> Comparison:
    """The comparison with the face in it of a source whose face stands still: what the result's does all the same."""
    from fairswap.face.anatomy import landmark_displacements
    from fairswap.face.units import INDEX

    beyond = 0.0
    if face_moves(result):
        heads, places = heads_of(source, result), landmark_displacements()
        if heads.source.chart.columns:
            does, shown = heads.source.units(source.clip)[:, :1], heads.target.units(result.clip)
            beyond = rms(places @ (shown - does)) / rms(places[:, INDEX["jaw_drop"]])
    return replace(found, face_beyond=beyond)


def face_moves(motion: Motion) -> bool:
    """Whether a clip does something with the face of its figure."""
    from fairswap.face.transfer import needs_face

    clip, rigged = motion.clip, motion.rigged
    return may_move(clip, rigged) and needs_face(rigged.figure, clip, rigged.roles, {})


def heads_of(source: Motion, result: Motion) -> FaceSwap:
    """The heads of two figures made ready."""
    from fairswap.face.head import Head
    from fairswap.face.transfer import FaceSwap, as_shown_by

    does, shows = (Head(side.rigged.figure, side.rigged.roles, None, (side.clip,)) for side in (source, result))
    return FaceSwap(does, as_shown_by(shows, does))
