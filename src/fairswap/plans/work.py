"""What a worker does: one task from its files to the bytes of its result, and what is to be told of it.

Nothing is written but below a scratch folder; whoever gave the task puts the result in its place.
"""

from __future__ import annotations

import hashlib
import shutil
import time
from collections import OrderedDict
from collections.abc import Callable, Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any, TypeVar

import msgspec

from fairswap.clips import verbs as clip_verbs
from fairswap.errors import REMEDIES, FairSwapError, Finding, OutputError, shortened
from fairswap.figures.leaving import leave_out
from fairswap.figures.placing import place
from fairswap.formats.files import load
from fairswap.formats.outputs import Outputs
from fairswap.formats.storage import read_bytes
from fairswap.jobs.comparing import compare_prepared
from fairswap.jobs.conversion import Conversion, Conversions, convert
from fairswap.jobs.options import FaceOptions, SourceOptions, TargetOptions
from fairswap.jobs.performer import Performer
from fairswap.measure.comparison import Motion
from fairswap.measure.verdict import worst_of
from fairswap.model.clip import Clip
from fairswap.model.document import Document
from fairswap.plans.inputs import Content
from fairswap.plans.made import Made, Measures, Told
from fairswap.plans.recipe import ConvertWords
from fairswap.plans.tasks import Task
from fairswap.platform.rules import Platform, platform_named
from fairswap.pose.verbs import set as with_rest_pose
from fairswap.retarget.options import MotionOptions

PlaceOf = Callable[[Content], Path]
Thing = TypeVar("Thing")
# Sources are used one after another; figures come back for each of them.
KEPT_FIGURES = 12
_KEPT_SOURCES = 2
_MOST_FINDINGS, _LONGEST = 6, 180


class Workshop:
    """Where tasks are done: it keeps the figures and the last sources that it has read."""

    def __init__(
        self, place_of: PlaceOf, scratch: Path, remedies: Mapping[str, str] = REMEDIES, worker: str = ""
    ) -> None:
        self.place_of, self.scratch, self.remedies, self.worker = place_of, scratch, remedies, worker
        self._sources: OrderedDict[object, Document] = OrderedDict()
        self._figures: OrderedDict[object, Performer] = OrderedDict()
        self._platforms: OrderedDict[object, Platform] = OrderedDict()

    def do(self, task: Task) -> Made:
        """Do one task; what goes wrong with it is in what it gives, and never raised."""
        began = time.perf_counter()
        folder = self.scratch / hashlib.sha256(task.result.encode()).hexdigest()[:16]
        try:
            made = self._done(task, folder)
        except FairSwapError as error:
            # What cannot be written (here: put together) is for want of room or rights, and not the task's fault.
            made = Made(task.result, error=error.worded(self.remedies), lost=isinstance(error, OutputError))
        except MemoryError:
            made = Made(task.result, error="this machine has too little memory for it", lost=True)
        except Exception as error:  # whatever nobody foresaw: the others go on
            said = f"{type(error).__name__}: {error}".splitlines()[0][:160]
            made = Made(task.result, error=f"this is an error of ours, not of your file ({said})")
        finally:
            shutil.rmtree(folder, ignore_errors=True)
        took = time.perf_counter() - began
        return msgspec.structs.replace(made, took_s=took, worker=self.worker, peak_mb=_peak_mb())

    def _done(self, task: Task, folder: Path) -> Made:
        words = task.convert
        document = self._source(task.source, words)
        clip = document.clips[task.number]
        clip = self._prepared(clip, document, task)
        found = convert(
            replace(document, clips=(clip,)), self._performer(task),
            source=SourceOptions(self._named(task, words.source_bones), self._reference(task, words.source_reference),
                                 strict=bool(words.strict), lead_in=words.lead_in or "keep"),
            target=self._target(task),
            motion=self._motion(task),
            face=FaceOptions(words.face or "all", self._named(task, words.source_face),
                             self._named(task, words.target_face), self._named(task, words.face_from)),
            platform=self._platform(task),
        )  # fmt: skip
        if task.steps.thin is not None:
            found = _thinned(found, task.steps.thin)
        return self._written(task, found, folder)

    def _written(self, task: Task, found: Conversions, folder: Path) -> Made:
        row = found.done[0]
        out = folder / Path(task.result).name
        parent = Path(task.result).parent
        outputs = Outputs(force=True)
        names = found.write(out, outputs)
        measures = _measures(row)
        if found.fitted is not None:
            from fairswap.platform.writing import check_written

            checks = check_written(names, found.fitted.platform)
            broken = tuple(dict.fromkeys(rule.rule for check in checks for rule in check.broken))
            fits = all(check.fits for check in checks)
            measures = msgspec.structs.replace(measures, fits=fits, broken_rules=broken)
        files = {str((parent / Path(name).name).as_posix()): read_bytes(Path(name)) for name in names}
        stem = str((parent / out.stem).as_posix())
        files |= dict(_drawn(task, stem, found, row))
        digests = {name: hashlib.sha256(content).hexdigest() for name, content in files.items()}
        return Made(task.result, files, digests, measures, _told([*found.findings, *outputs.left_out]))

    def _source(self, content: Content, words: ConvertWords) -> Document:
        # With its name: what has none of its own is called after its file.
        key = content.digest, Path(content.path).name, words.unit, words.up, words.source_figure
        path = self.place_of(content)
        return _kept(self._sources, key, _KEPT_SOURCES, lambda: load(
            path, unit=words.unit, up=words.up, figure=words.source_figure))  # fmt: skip

    def _performer(self, task: Task) -> Performer:
        """The figure made ready: once for all motions that it is asked for alike."""
        words, pose = task.convert, task.pose
        named = words.target_bones, words.target_reference, words.hands_reference, words.meta
        files = tuple(task.files[name].digest for name in named if name in task.files)
        with_root, strict = words.travel == "root", bool(words.strict)
        key = (
            task.figure.digest, Path(task.figure.path).name, words.figure, words.place, words.without, pose.to,
            named, files, words.keep_clips, words.motion_only, words.springs, with_root, strict,
        )  # fmt: skip

        def made() -> Performer:
            document = leave_out(load(self.place_of(task.figure), figure=words.figure), *words.without)
            document = place(document, words.place or "keep")
            if pose.to is not None:
                rested = with_rest_pose(document, pose.to, bones=self._named(task, words.target_bones)).rested
                document = replace(document, figures=(rested.figure,), clips=tuple(rested.clips), chosen=True)
            return Performer.of(document, self._target(task), with_root=with_root, strict=strict)

        return _kept(self._figures, key, KEPT_FIGURES, made)

    def _target(self, task: Task) -> TargetOptions:
        words = task.convert
        return TargetOptions(
            self._named(task, words.target_bones), self._reference(task, words.target_reference),
            self._reference(task, words.hands_reference), bool(words.keep_clips), bool(words.motion_only),
            self._named(task, words.meta), bool(words.springs),
        )  # fmt: skip

    def _prepared(self, clip: Clip, document: Document, task: Task) -> Clip:
        """The steps that come before a clip is carried over, in their order."""
        steps = task.steps
        if steps.clean:
            clip = clip_verbs.clean(clip).clip
        if steps.trim:
            clip = clip_verbs.trim(clip)
        if steps.speed is not None:
            clip = clip_verbs.speed(clip, steps.speed)
        if steps.reverse:
            clip = clip_verbs.reverse(clip)
        if steps.mirror:
            bones = self._named(task, task.convert.source_bones)
            clip = clip_verbs.mirror(clip, document.figure_of(clip), bones=bones)
        if steps.loop:
            clip = clip_verbs.loop(clip).clip
        if steps.rate is not None:
            clip = clip_verbs.rate(clip, str(steps.rate))
        return clip

    def _motion(self, task: Task) -> MotionOptions:
        words = task.convert
        given: dict[str, Any] = {
            name: value
            for name in ("travel", "scale_travel", "root_turns", "feet", "hands", "reach", "object", "clear")
            if (value := getattr(words, name)) is not None
        }
        return MotionOptions(sway=words.sway, layers=[self._file(task, name) for name in words.layer], **given)

    def _platform(self, task: Task) -> Platform | None:
        if not task.platform:
            return None
        content = task.platform_file
        return _kept(self._platforms, (task.platform, content and content.digest), KEPT_FIGURES,
                     lambda: platform_named(task.platform if content is None else self.place_of(content)))  # fmt: skip

    def _named(self, task: Task, text: str | None) -> Any:
        """What an option names: a file, or something built in."""
        return self._file(task, text) if text in task.files else text

    def _reference(self, task: Task, text: str | None) -> Any:
        return "auto" if text is None else str(self._named(task, text))

    def _file(self, task: Task, text: str | None) -> Path:
        assert text is not None
        return self.place_of(task.files[text])


def _kept(kept: OrderedDict[object, Thing], key: object, most: int, made: Callable[[], Thing]) -> Thing:
    """What is kept under a key, or made; of what was not used for longest, room is made."""
    if key not in kept:
        found = made()
        while len(kept) >= most:
            kept.popitem(last=False)
        kept[key] = found
    kept.move_to_end(key)
    return kept[key]


def _thinned(found: Conversions, millimetres: float) -> Conversions:
    """The results with fewest keys, compared with their sources once more: what is written is judged."""
    rows = []
    for row in found.done:
        clip = clip_verbs.thin(row.clip, mm=millimetres, on=found.figure).clip
        judged = compare_prepared(Motion(row.swap.source, row.original), Motion(row.swap.target, clip))
        rows.append(
            replace(row, retargeted=replace(row.retargeted, clip=clip), comparison=judged) if row.face is None
            else replace(row, face=replace(row.face, clip=clip), comparison=judged)
        )  # fmt: skip
    return replace(found, done=tuple(rows))


def _drawn(task: Task, stem: str, found: Conversions, row: Conversion) -> list[tuple[str, bytes]]:
    """The pictures and pages of a result, each with its name."""
    out = []
    if task.thumbnail:
        from fairswap.picture.thumbnail import thumbnail

        out.append((f"report/{stem}.png", thumbnail(row.comparison)))
    if task.picture:
        from fairswap.picture.verbs import sheet

        title = f"{Path(task.source.path).name}  onto  {row.swap.target.figure.name}"
        out.append((f"{stem}.png", sheet(row.comparison, title)))
    if task.page:
        from fairswap.picture.page.viewing import view

        out.append((f"{stem}.html", view(found).html.encode()))
    return out


def _measures(row: Conversion) -> Measures:
    found, worst = row.comparison, worst_of(row.comparison.parts)
    return Measures(
        likeness=round(found.likeness, 2), verdict=found.verdict, looks_same=found.looks_same,
        worst_part=worst.part, because=f"{worst.because} ({worst.value:.1f} {worst.unit})" if worst.because else "",
        seconds=found.seconds, limbs_mean_degrees=round(found.limbs_mean_degrees, 3),
        hips_mean_percent=round(found.hips_mean_percent, 3), slide_cm_s=round(found.result_footing.skate_cm_s, 3),
        sole_below_cm=round(found.result_footing.sole_below_cm, 3), jerk_ratio=round(found.jerk_ratio, 3),
    )  # fmt: skip


def _told(findings: list[Finding]) -> tuple[Told, ...]:
    """What is worth telling, the gravest first."""
    order = {"problem": 0, "warning": 1, "note": 2}
    rows = sorted(findings, key=lambda finding: order[finding.severity])
    return tuple(Told(row.code, row.severity, shortened(row.message, _LONGEST)) for row in rows[:_MOST_FINDINGS])


def _peak_mb() -> float:
    """The most memory that this process has had, in megabytes; 0 where the system does not say."""
    try:
        import resource
    except ImportError:  # not there on every system
        return 0.0
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024.0
