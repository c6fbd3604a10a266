"""The report of ``fairswap convert``, as data and for people."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

import click
import msgspec

from fairswap.cli.fit import FitReport, fit_lines
from fairswap.cli.reports import ComparisonRow, FindingRow, Report, comparison_row
from fairswap.cli.text import (
    TOLD_CM,
    contact_line,
    footing_line,
    inside_lines,
    parts_line,
    pose_lines,
    some,
    table,
    written_lines,
)
from fairswap.measure.verdict import word_for, worst_of
from fairswap.wording import counted

if TYPE_CHECKING:
    from fairswap.face.transfer import LostUnit
    from fairswap.jobs.conversion import Conversion
    from fairswap.pose.measuring import PartVerdict

# Of more clips there is a line each.
_CLIPS_IN_FULL = 3


class TouchRow(Report, frozen=True):
    """What a hand met, when, and how near the target came to it at worst."""

    hand: str
    what: str
    start_s: float
    stop_s: float
    off_cm: float


class AsTransferred(Report, frozen=True):
    """The result before feet and hands were treated."""

    likeness: float
    limbs_mean_degrees: float
    skate_cm_s: float
    sole_below_cm: float


class LostUnitRow(Report, frozen=True):
    """A face unit that is shown in part or not: how much of it, when, and what was done instead."""

    unit: str
    wanted: float
    lost: float
    at_s: float
    instead: tuple[str, ...]


class FaceRow(Report, frozen=True):
    """A face put on: the shapes that were used, and what could not be shown."""

    used: tuple[str, ...]
    lost: tuple[LostUnitRow, ...]


class ClipRow(ComparisonRow, frozen=True):
    """One clip converted."""

    source: str
    source_figure: str
    source_profile: str
    target_profile: str
    frames: int
    rate: float
    travel_scale: float
    source_reference: str
    target_reference: str
    pose: tuple[PartVerdict, ...]
    resting_bones: tuple[str, ...]
    touches: tuple[TouchRow, ...]
    as_transferred: AsTransferred
    face: FaceRow | None
    likeness_before_fitting: float | None = None


class FailedRow(Report, frozen=True):
    """A clip (or a file) that could not be converted, and why."""

    file: str
    clip: str
    error: str


class WrittenRow(Report, frozen=True):
    """A file that was written."""

    file: str
    bytes: int


class ConvertReport(Report, frozen=True):
    """What a conversion did; ``fit`` is there where it was made to fit a platform."""

    target_file: str
    target_figure: str
    travel: str
    feet: str
    hands: str
    layers: tuple[str, ...]
    clips: tuple[ClipRow, ...]
    failed: tuple[FailedRow, ...]
    kept_clips: tuple[str, ...]
    written: tuple[WrittenRow, ...]
    findings: tuple[FindingRow, ...]
    fit: FitReport | None = None


def clip_row(row: Conversion) -> ClipRow:
    """One conversion, as it is reported."""
    from fairswap.pose.measuring import verdicts

    swap, clip, before = row.swap, row.comparison.result.clip, row.as_transferred
    touches = row.retargeted.touches
    return ClipRow(
        **msgspec.structs.asdict(comparison_row(row.comparison)),
        source=row.source.file,
        source_figure=swap.source.figure.name,
        source_profile=swap.source.roles.profile,
        target_profile=swap.target.roles.profile,
        frames=clip.frames,
        rate=float(clip.rate),
        travel_scale=row.travel_scale,
        source_reference=swap.source.base.said,
        target_reference=swap.target.base.said,
        pose=tuple(verdicts(swap.pose_angles)),
        resting_bones=tuple(swap.resting_bones),
        touches=tuple(TouchRow(t.side, t.what, t.start_s, t.stop_s, 100.0 * t.off_m) for t in touches),
        as_transferred=AsTransferred(
            before.likeness,
            before.limbs_mean_degrees,
            before.result_footing.skate_cm_s,
            before.result_footing.sole_below_cm,
        ),
        face=None if row.face is None else face_row(row.face.used, row.face.lost),
        likeness_before_fitting=None if row.before_fitting is None else row.before_fitting.likeness,
    )


def face_row(used: Sequence[str], lost: Sequence[LostUnit]) -> FaceRow:
    """A face put on, as it is reported."""
    return FaceRow(tuple(used), tuple(LostUnitRow(r.unit, r.wanted, r.lost, r.at_s, tuple(r.instead)) for r in lost))


def convert_lines(report: ConvertReport, whole: bool) -> Iterator[str]:
    """A conversion for people; unless the ``whole`` is wanted, many clips are a table."""
    whole = whole or len(report.clips) <= _CLIPS_IN_FULL
    seen: set[str] = set()
    for clip in report.clips:
        if clip.source not in seen:
            seen.add(clip.source)
            yield from _pair_lines(report, clip)
        if whole:
            yield from _clip_lines(clip)
    if not whole:
        yield from _short_lines(report.clips)
    for row in report.failed:
        name = f"{row.file} {row.clip}".strip()
        said = row.error if row.error.startswith(name) else f"{name}: {row.error}"
        yield f"  {click.style('failed', fg='red')}   {said}"
    if report.failed:
        yield f"  {len(report.clips)} done, {len(report.failed)} failed"
    if report.fit is not None:
        yield from fit_lines(report.fit, whole)
    else:
        yield from written_lines([written.file for written in report.written], sizes=True, whole=whole)


def _short_lines(clips: Sequence[ClipRow]) -> Iterator[str]:
    """Many clips in a line each, the worst first."""
    rows = []
    for clip in sorted(clips, key=lambda row: row.likeness):
        worst = worst_of(clip.parts)
        why = f"{worst.part}: {worst.because} ({worst.value:.3g} {worst.unit})" if round(worst.score) < 100 else ""
        rows.append((clip.clip, f"{clip.likeness:.0f}", word_for(clip.likeness), why))
    yield from table(rows, ("clip", "of 100", "", "worst part"))
    deep = [clip.cleared for clip in clips if clip.inside and clip.inside[0].beyond_cm > TOLD_CM]
    if deep:
        advice = "" if all(deep) else ": --clear keeps them apart"
        yield f"  in {counted(len(deep), 'clip')} limbs go into the body or each other{advice}"
    yield "  --all tells more of each clip"


def _pair_lines(report: ConvertReport, clip: ClipRow) -> Iterator[str]:
    yield click.style(f"{clip.source} onto {report.target_figure}", bold=True)
    yield f"  bones    source: {clip.source_profile}, target: {clip.target_profile}"
    if clip.resting_bones:
        yield f"           {len(clip.resting_bones)} without a partner stay at rest: {some(clip.resting_bones, 4)}"
    yield f"  pose     source: {clip.source_reference}"
    yield f"           target: {clip.target_reference}"
    yield from (f"           {line}" for line in pose_lines(clip.pose))
    yield f"  travel   ground travel x {clip.travel_scale:.3f}"


def _clip_lines(clip: ClipRow) -> Iterator[str]:
    facts = f"{counted(clip.frames, 'frame')} at {clip.rate:g}, {clip.seconds:.2f} s"
    yield f"  clip     {clip.verdict}"
    yield f"           {parts_line(clip.parts)}"
    yield f"           {facts}; hips' path {clip.hips_mean_percent:.2f} % of leg off"
    yield f"           {footing_line(clip)}"
    yield f"           {contact_line(clip)}"
    yield from (f"           {line}" for line in inside_lines(clip))
    if clip.likeness_before_fitting is not None:
        yield f"           before it was made to fit: {clip.likeness_before_fitting:.0f} of 100"
    before = clip.as_transferred
    if round(before.likeness, 2) != round(clip.likeness, 2):
        yield (
            f"           before feet and hands were corrected: {before.likeness:.0f} of 100, standing foot slid "
            f"{before.skate_cm_s:.1f} cm/s"
        )
    yield from (f"           {line}" for line in _touch_lines(clip.touches))
    if clip.face is not None:
        lost = clip.face.lost
        said = f"; {counted(len(lost), 'face unit')} shown in part or not" if lost else ", nothing lost"
        used = (
            f"carried over by {counted(len(clip.face.used), 'shape')}" if clip.face.used else "nothing to show it with"
        )
        yield f"  face     {used}{said}"


def _touch_lines(touches: Sequence[TouchRow]) -> Iterator[str]:
    """What the hands met, in a line for each thing."""
    for what in dict.fromkeys(row.what for row in touches):
        own = [row for row in touches if row.what == what]
        hands = " and ".join(dict.fromkeys(row.hand for row in own))
        name = "each other" if what == "hand" else f"the {what}"
        times = len({(row.start_s, row.stop_s) for row in own})
        yield f"{hands} hand touches {name} {times} times, at most {max(row.off_cm for row in own):.1f} cm off"
