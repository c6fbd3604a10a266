"""The whole job for one target figure: motions in, converted clips and their proof out.

Read, rig, pair, retarget (transfer, layers, contacts, feet, hands, root motion), face, judge, fit, write.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from fairswap.clips.renaming import named_after_files
from fairswap.clips.trimming import without_lead_in
from fairswap.errors import Finding, ImpossibleError, UsageError
from fairswap.figures.bones_alone import morphs_left_out, motion_alone, without_mesh
from fairswap.formats.gltf.contents import names_of_targets
from fairswap.formats.outputs import Outputs
from fairswap.jobs.carrying import carried
from fairswap.jobs.faces import Faces, face_alone
from fairswap.jobs.failures import Failure, going_on, none_done, read_all
from fairswap.jobs.options import FaceOptions, SourceOptions, TargetOptions, options_of
from fairswap.jobs.pairs import Pairs
from fairswap.jobs.performer import Performer
from fairswap.jobs.writing import write_clips
from fairswap.measure.comparison import Comparison, Motion, compare_motions
from fairswap.measure.lead_in import lead_in_told
from fairswap.measure.moving_skin import skin_in_motion
from fairswap.measure.verdict import word_for, worst_of
from fairswap.model.cards import html_table
from fairswap.model.clip import Clip
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.model.progress import progress
from fairswap.pose.rigged import RiggedFigure
from fairswap.retarget.layers import layers_named, with_layers
from fairswap.retarget.options import MotionOptions
from fairswap.retarget.pipeline import Retargeted
from fairswap.retarget.record import Record, kept_layers, side_of
from fairswap.retarget.swap import Swap
from fairswap.wording import counted, listed

if TYPE_CHECKING:
    from fairswap.face.transfer import TransferredFace
    from fairswap.platform.preparing import Fitted
    from fairswap.platform.rules import Platform

Motions = str | Path | Document | Iterable[str | Path | Document]


@dataclass(frozen=True, eq=False)
class Conversion:
    """One clip converted, with what it came from and how alike the two are; ``face`` where the source's face moves.

    Where it was made to fit a platform, it is judged as it is then; ``before_fitting`` is how alike they were before,
    and ``parts`` what the clip is there: one, or several if it was too long.
    """

    source: Document
    swap: Swap
    original: Clip
    retargeted: Retargeted
    comparison: Comparison
    judged_before: Callable[[], Comparison] = field(repr=False)
    face: TransferredFace | None = None
    travel_scale: float = 1.0
    before_fitting: Comparison | None = None
    parts: tuple[Clip, ...] = ()
    told_of_fit: tuple[Finding, ...] = ()

    @cached_property
    def as_transferred(self) -> Comparison:
        """How alike they are before feet and hands were treated; as ``comparison`` where nothing was."""
        return self.judged_before()  # as much work as the verdict itself: only for who wants to know

    @property
    def clip(self) -> Clip:
        """The result."""
        return self.retargeted.clip if self.face is None else self.face.clip

    @property
    def written(self) -> tuple[Clip, ...]:
        """The result as it is written: by another name, or in parts, where a platform wants that."""
        return self.parts or (self.clip,)

    @property
    def findings(self) -> list[Finding]:
        """What is worth telling of this clip."""
        found = [*self.retargeted.findings, *(self.face.findings if self.face is not None else ())]
        return [*found, *lead_in_told(self.original), *_left_beside(self.original), *self.told_of_fit]

    def __repr__(self) -> str:
        return f"<Conversion {self.comparison.verdict}>"


@dataclass(frozen=True, eq=False)
class Conversions:
    """What :func:`convert` did: the target figure with the converted clips, and their proof.

    ``fitted`` is there where the result was made to fit a platform.

    >>> import fairswap
    >>> made = fairswap.convert(fairswap.demo_motion("idle"), fairswap.demo_file("pip.glb"))
    >>> made, [clip.name for clip in made.clips]
    (<Conversions onto 'Pip': 1 clip, at worst the same (98 of 100)>, ['Idle'])
    """

    target: Document
    sources: tuple[Document, ...]
    done: tuple[Conversion, ...]
    failures: tuple[Failure, ...]
    kept_clips: tuple[Clip, ...]
    fitted: Fitted | None = None
    motion_only: bool = False

    @property
    def figure(self) -> Figure:
        """The figure that the clips move."""
        return self.target.figure if self.fitted is None else self.fitted.figure

    @property
    def clips(self) -> tuple[Clip, ...]:
        """The figure's own clips that were kept, and the converted ones."""
        if self.fitted is not None:
            return self.fitted.clips
        return (*self.kept_clips, *(row.clip for row in self.done))

    @property
    def comparisons(self) -> tuple[Comparison, ...]:
        """How alike each clip and its source look: with a ``verdict`` to print, and to draw a sheet of."""
        return tuple(row.comparison for row in self.done)

    @property
    def looks_same(self) -> bool:
        """Whether everything was converted and looks like its source."""
        return not self.failures and all(row.comparison.looks_same for row in self.done)

    def _told_of(self, document: Document) -> Iterator[Finding]:
        """What is told of a source; of which, where there are several."""
        name = Path(document.file).name
        for finding in self._of_what_was_done(document):
            of_file = len(self.sources) < 2 or finding.place == name
            yield finding if of_file else replace(finding, place=f"{name}, {finding.place}")

    def _of_what_was_done(self, document: Document) -> list[Finding]:
        """What was told of a file, but for clips that were neither asked for nor kept."""
        clips = [*(row.original for row in self.done), *self.kept_clips]
        names, poses = {clip.name for clip in clips}, {id(clip.poses) for clip in clips}
        left = {clip.name for clip in document.clips if clip.name not in names and id(clip.poses) not in poses}
        return [finding for finding in document.findings if finding.place not in left]

    @property
    def findings(self) -> list[Finding]:
        """Everything worth telling, of files, figures and clips."""
        found = [finding for document in self.sources for finding in self._told_of(document)]
        found += self._of_what_was_done(self.target)
        found += self.target.left_standing()
        found += [finding for row in self.done for finding in row.findings]
        found += [finding for swap in dict.fromkeys(row.swap for row in self.done) for finding in swap.findings]
        if self.motion_only:
            found += [left for clip in self.clips for left in morphs_left_out(clip, "motion alone was asked for")]
        return found + list(self.fitted.findings if self.fitted is not None else ())

    def save(self, out: str | Path, *, force: bool = False) -> list[str]:
        """Write the result: figure and clips into a file, or one file for each clip into a folder; give the names.

        ``.bvh`` and ``.csv`` hold one clip without a figure.

        Raises
        ------
        OutputError
            If a file is there already or cannot be written.
        """
        return self.write(Path(out), Outputs(self.inputs, force))

    @property
    def inputs(self) -> list[str]:
        """All files that were read."""
        return [name for document in (*self.sources, self.target) for name in document.files]

    def write(self, out: Path, outputs: Outputs) -> list[str]:
        """As :meth:`save`, among other outputs of the same run."""
        if self.fitted is not None:
            from fairswap.platform.writing import write_fitted

            return write_fitted(self.fitted, out, outputs)
        converted, kept, figure = [row.clip for row in self.done], list(self.kept_clips), self.figure
        if self.motion_only:
            converted, kept, figure = [*map(motion_alone, converted)], [*map(motion_alone, kept)], without_mesh(figure)
        return write_clips(figure, converted, out, outputs, kept=kept, rigged=self.done[0].swap.target)

    def _repr_html_(self) -> str:
        rows = []
        for row in self.done:
            worst = worst_of(row.comparison.parts)
            rows.append((row.clip.name, f"{worst.score:.0f}", word_for(worst.score), f"{worst.part}: {worst.because}"))
        rows += [(row.clip or row.file, "", "failed", row.error.problem) for row in self.failures]
        return html_table(f"Onto {self.figure.name}", ("clip", "of 100", "", "worst part"), rows)

    def __repr__(self) -> str:
        failed = f", {len(self.failures)} failed" if self.failures else ""
        worst = min((row.comparison.likeness for row in self.done), default=None)
        alike = "" if worst is None else f", at worst {word_for(worst).removeprefix('looks ')} ({worst:.0f} of 100)"
        return f"<Conversions onto {self.figure.name!r}: {counted(len(self.done), 'clip')}{alike}{failed}>"


def convert(
    motions: Motions,
    onto: str | Path | Document | Figure | Performer,
    *,
    source: SourceOptions | None = None,
    target: TargetOptions | None = None,
    motion: MotionOptions | None = None,
    face: FaceOptions | None = None,
    platform: Platform | str | Path | None = None,
    step: Callable[[str], None] | None = None,
) -> Conversions:
    """Carry motions over to a figure, and compare each with its source.

    >>> import fairswap
    >>> made = fairswap.convert(fairswap.demo_file("juniper.glb"), fairswap.demo_file("pip.glb"))
    Traceback (most recent call last):
    ...
    fairswap.errors.ImpossibleError: ...juniper.glb: there is no clip in it. Export it with its animation.

    Parameters
    ----------
    motions : path, Document, or several of them
        Whose clips. Of several, one that fails does not stop the others: it is among the ``failures``.
    onto : path, Document or Figure
        The figure to animate; or a :class:`Performer`, made ready once for many motions (with its own target options).
    source, target, motion, face : options, optional
        See :class:`SourceOptions`, :class:`TargetOptions`, :class:`fairswap.MotionOptions`, :class:`FaceOptions`.
    platform : Platform, name or file, optional
        Make the result fit this platform.
    step : callable
        Told the name of each clip when it is done.

    Raises
    ------
    UsageError
        If no motion is given, none has a clip of a name that was asked for, or options are of another kind.
    ImpossibleError
        If there is no clip, or bones are not known.
    """
    source, target = options_of(SourceOptions, source, "source"), options_of(TargetOptions, target, "target")
    motion, face = options_of(MotionOptions, motion, "motion"), options_of(FaceOptions, face, "face")
    given = [motions] if isinstance(motions, str) or not isinstance(motions, Iterable) else list(motions)
    if not given:
        raise UsageError("no motion is given", remedy="Give at least one file")
    failures: list[Failure] = []
    sources = read_all(given, failures)
    ready = Performer.of(onto, target, with_root=motion.travel == "root", strict=source.strict)
    clips = [(document, clip) for document in sources for clip in document.clips]
    several = len(given) > 1 or len(clips) > 1
    _check_names(source.clips, clips)
    faces = Faces(face, ready.own_clips)
    done: list[Conversion] = []
    kept = ready.own_clips if target.keep_clips else ()
    names = _names([row for row in clips if not source.clips or row[1].name in source.clips], kept)
    # Who gives a step of its own shows it in its own way.
    with progress(len(names) if step is None else 0, "carrying over") as told:
        for document in sources:
            with going_on(failures if several else None, document.file, ""):
                if not document.clips:
                    remedy = "Export it with its animation"
                    if ready.own_clips:
                        remedy += f"; or is it the other way round? {ready.rigged.figure.name} has clips"
                    raise ImpossibleError("there is no clip in it", file=document.file, remedy=remedy)
            pairs = Pairs(document, ready.rigged, source, target, faces)
            for clip in document.clips:
                if id(clip) not in names:
                    continue
                with going_on(failures if several else None, document.file, clip.name):
                    swap, shown = pairs.swap_for(clip, motion)
                    shown = replace(shown, name=names[id(clip)])
                    done.append(_converted(pairs, swap, shown, motion, face, source.lead_in == "drop"))
                (step or told)(clip.name)
    if failures and not done:
        raise none_done(failures)
    found = Conversions(
        ready.document, tuple(sources), tuple(done), tuple(failures), kept, motion_only=target.motion_only
    )
    if platform is None:
        return found
    from fairswap.jobs.fitted import as_fitted

    return as_fitted(found, ready, platform)


def _left_beside(clip: Clip) -> list[Finding]:
    """What the source's clip moves beside the figure, which stays behind."""
    beside = [track for track in clip.poses.beside if track.target[1] != "scale"]
    if not beside:
        return []
    names = names_of_targets(beside[0].owner, [track.target for track in beside])
    message = f"{listed(names)} move in it too, beside the figure: not carried over"
    return [Finding("beside-left", "note", clip.name, message)]


def _names(clips: Sequence[tuple[Document, Clip]], kept: Sequence[Clip]) -> dict[int, str]:
    """What each clip that is wanted, by its id, is called in the result."""
    rows = [(Path(document.file).stem, clip) for document, clip in clips]
    names = named_after_files(rows, [clip.name for clip in kept])
    return {id(clip): name for (_, clip), name in zip(clips, names, strict=True)}


def _converted(
    pairs: Pairs, swap: Swap, clip: Clip, motion: MotionOptions, face: FaceOptions, drop_lead_in: bool
) -> Conversion:
    """Retarget, judge, face."""
    whole = clip
    clip = without_lead_in(whole)[0] if drop_lead_in else whole
    layers = tuple(map(layers_named, motion.layers))
    asked = Motion(swap.source, with_layers(swap.source, clip, layers, by_name=False))
    record = Record(
        side_of(swap.source), side_of(swap.target), clip.duration_s, travel_scale=motion.scale_travel,
        layers=kept_layers(layers), lead_in_dropped=whole.frames - clip.frames, body=face.which != "only",
        face=face.which != "none" and face.source_chart is face.target_chart is face.taken_from is None,
    )  # fmt: skip
    found = carried(swap, clip, asked, motion, record)
    held = skin_in_motion(swap.target.figure, swap.target.roles, found.made.clip)
    made = replace(found.made, findings=(*found.made.findings, *held))
    if layers:
        made = replace(made, findings=(*made.findings, _effect_of_layers(clip, asked, swap.source)))
    scale = swap.leg_ratio if motion.scale_travel is None else motion.scale_travel
    row = Conversion(pairs.document, swap, clip, made, found.comparison, found.before, travel_scale=scale)
    return _with_face(row, pairs.faces) if pairs.faces.wanted_for(clip, swap.source) else row


def _effect_of_layers(clip: Clip, asked: Motion, source: RiggedFigure) -> Finding:
    """What the layers change, apart from how well the rest was carried over."""
    effect = compare_motions(Motion(source, clip), asked)
    most = sorted(effect.roles, key=lambda role: -role.turn_rms_degrees)[:4]
    said = ", ".join(f"{role.role} {role.turn_mean_degrees:.0f}" for role in most if role.turn_rms_degrees > 0.5)
    message = f"the layers turn {said or 'nothing'}{' degrees on average' if said else ''}; the verdict is of the rest"
    return Finding("layers-effect", "note", clip.name, message)


def _with_face(row: Conversion, faces: Faces) -> Conversion:
    """The face put on, and judged with the body; by itself if it is all that is wanted."""
    swap, clip, body = row.swap, row.original, row.retargeted.clip
    if faces.options.which == "only":
        body = faces.resting(swap, body)
        alone = face_alone(Motion(swap.source, clip), Motion(swap.target, body))
        made = replace(row.retargeted, clip=body)
        row = replace(row, retargeted=made, comparison=alone, judged_before=lambda: alone)
    face = faces.put_on(swap, clip, body, row.source.clips_of(swap.source.figure))
    if face is None:
        body, told = faces.without_a_face(swap, clip, body)
        made = replace(row.retargeted, clip=body, findings=(*row.retargeted.findings, *told))
        return replace(row, retargeted=made)
    return replace(row, face=face, comparison=faces.judged(row.comparison, swap, clip, face.clip))


def _check_names(names: Sequence[str], clips: Sequence[tuple[Document, Clip]]) -> None:
    known = {clip.name for _, clip in clips}
    for name in names:
        if name not in known:
            have = ", ".join(repr(other) for other in sorted(known)) or "no clips"
            raise UsageError(f"no clip is called {name!r}", remedy=f"There are {have}")
