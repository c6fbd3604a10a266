"""The reports of ``fairswap clip``, as data and for people."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Protocol

import click

from fairswap.cli.reports import FindingRow, Report
from fairswap.cli.text import table, written_lines
from fairswap.wording import counted

if TYPE_CHECKING:
    from fairswap.clips.describing import ClipDescription
    from fairswap.clips.looping import Seam
    from fairswap.clips.placing import Spot
    from fairswap.model.clip import Clip


class ChangedFacts(Report, frozen=True):
    """What changes when a clip is changed."""

    name: str
    frames: int
    rate: float
    seconds: float
    travel_m: float


class ChangedClip(Report, frozen=True):
    """A clip before and after."""

    clip: str
    before: ChangedFacts
    after: ChangedFacts


class ClipChangeReport(Report, frozen=True):
    """What a verb did to each clip of a file."""

    verb: str
    clips: tuple[ChangedClip, ...]
    written: tuple[str, ...]
    findings: tuple[FindingRow, ...]


class NewClip(Report, frozen=True):
    """A clip that was made."""

    clip: str
    frames: int
    seconds: float


class ClipDropReport(Report, frozen=True):
    """Clips taken out of a file, and those that are left."""

    dropped: tuple[str, ...]
    left: tuple[NewClip, ...]
    written: tuple[str, ...]
    findings: tuple[FindingRow, ...]


class ClipCutReport(Report, frozen=True):
    """The pieces of a take."""

    verb: str
    take: str
    clips: tuple[NewClip, ...]
    written: tuple[str, ...]
    findings: tuple[FindingRow, ...]


class JoinedPartRow(Report, frozen=True):
    """Where one of the clips that were joined lies in the whole, and where it ends on the floor."""

    clip: str
    rate: float
    start_s: float
    stop_s: float
    ends: Spot


class PlacedClip(Report, frozen=True):
    """A clip, and where on the floor it begins and ends."""

    clip: str
    frames: int
    seconds: float
    begins: Spot
    ends: Spot


class ClipPlaceReport(Report, frozen=True):
    """Clips put somewhere on the floor."""

    verb: str
    clips: tuple[PlacedClip, ...]
    written: tuple[str, ...]
    findings: tuple[FindingRow, ...]


class ClipBlendReport(Report, frozen=True):
    """Parts of one clip laid over another."""

    verb: str
    base: str
    over: str
    parts: tuple[str, ...]
    clips: tuple[NewClip, ...]
    written: tuple[str, ...]
    findings: tuple[FindingRow, ...]


class ClipJoinReport(Report, frozen=True):
    """Clips joined to one."""

    verb: str
    of: tuple[str, ...]
    parts: tuple[JoinedPartRow, ...]
    clips: tuple[NewClip, ...]
    written: tuple[str, ...]
    findings: tuple[FindingRow, ...]


class CycleRow(Report, frozen=True):
    """A part of a take that repeats, and its seam."""

    start_s: float
    end_s: float
    frames: int
    seam: Seam


class ClipLoopReport(Report, frozen=True):
    """The cycles in a take, best first; ``closed`` is the seam of the one that was made to loop."""

    verb: str
    take: str
    cycles: tuple[CycleRow, ...]
    closed: Seam | None
    pick: int
    written: tuple[str, ...]
    findings: tuple[FindingRow, ...]


class ThinnedClip(Report, frozen=True):
    """How many keys were left of a clip, and how far it is off."""

    clip: str
    keys_before: int
    keys: int
    worst_mm: float
    worst_degrees: float
    feet_mm: float | None


class ClipThinReport(Report, frozen=True):
    """Clips with fewer keys."""

    verb: str
    clips: tuple[ThinnedClip, ...]
    written: tuple[str, ...]
    findings: tuple[FindingRow, ...]


class FaultRow(Report, frozen=True):
    """A fault of a clip: its bone, first and last frame, and size (degrees, or cm)."""

    clip: str
    kind: str
    bone: str
    first: int
    last: int
    size: float


class ClipCleanReport(Report, frozen=True):
    """The faults of clips."""

    verb: str
    faults: tuple[FaultRow, ...]
    written: tuple[str, ...]
    findings: tuple[FindingRow, ...]


class ClipDescribeReport(Report, frozen=True):
    """What is in the clips of a file."""

    file: str
    clips: tuple[ClipDescription, ...]
    written: tuple[str, ...]


class ClipDrawReport(Report, frozen=True):
    """The joints of clips that were drawn."""

    clips: tuple[str, ...]
    roles: tuple[str, ...]
    written: tuple[str, ...]


def clip_facts(clip: Clip) -> ChangedFacts:
    """What may change of a clip."""
    return ChangedFacts(clip.name, clip.frames, float(clip.rate), clip.duration_s, clip.travel_m)


def change_lines(report: ClipChangeReport) -> Iterator[str]:
    """A verb on clips."""
    yield click.style(report.verb, bold=True)
    rows = []
    for row in report.clips:
        a, b = row.before, row.after
        pairs = ((getattr(a, name), getattr(b, name)) for name in ("frames", "rate", "seconds", "travel_m"))
        rows.append((a.name, b.name, *(_told(round(x, 4), round(y, 4)) for x, y in pairs)))
    yield from table(rows, ("clip", "now", "frames", "rate", "seconds", "travels m"))
    yield from _tail(report)


def drop_lines(report: ClipDropReport) -> Iterator[str]:
    """Clips taken out."""
    yield click.style("drop", bold=True)
    yield f"  gone     {', '.join(report.dropped)}"
    yield f"  left     {', '.join(row.clip for row in report.left) or 'no clip: the figure alone'}"
    yield from _tail(report)


def cut_lines(report: ClipCutReport) -> Iterator[str]:
    """A take cut."""
    yield click.style(report.verb, bold=True)
    yield from _new_lines(report.clips)
    yield from _tail(report)


def join_lines(report: ClipJoinReport) -> Iterator[str]:
    """Clips joined."""
    yield click.style(report.verb, bold=True)
    rows = [(row.clip, f"{row.start_s:.2f}", f"{row.stop_s:.2f}", *_spot(row.ends)) for row in report.parts]
    yield from table(rows, ("clip", "from s", "to s", "ends: left m", "ahead m", "facing"))
    yield from _new_lines(report.clips)
    yield from _tail(report)


def blend_lines(report: ClipBlendReport) -> Iterator[str]:
    """Parts laid over a clip."""
    yield click.style(report.verb, bold=True) + f"  {', '.join(report.parts)} of {report.over} over {report.base}"
    yield from _new_lines(report.clips)
    yield from _tail(report)


def place_lines(report: ClipPlaceReport) -> Iterator[str]:
    """Where clips begin and end."""
    yield click.style(report.verb, bold=True)
    rows = [(row.clip, f"{row.seconds:.2f}", *_spot(row.begins), *_spot(row.ends)) for row in report.clips]
    heads = "clip", "seconds", "begins: left m", "ahead m", "facing", "ends: left m", "ahead m", "facing"
    yield from table(rows, heads)
    yield from _tail(report)


def _spot(spot: Spot) -> tuple[str, str, str]:
    return f"{spot.left_m:.2f}", f"{spot.ahead_m:.2f}", f"{spot.facing_degrees:.0f}"


def loop_lines(report: ClipLoopReport) -> Iterator[str]:
    """Cycles found, and the one that was closed."""
    yield click.style(f"cycles in {report.take}", bold=True)
    rows = [
        (str(number), f"{c.start_s:.3f}", f"{c.end_s:.3f}", str(c.frames), f"{c.seam.degrees:.2f}", f"{c.seam.cm:.2f}",
         f"{c.seam.cm_s:.1f}")
        for number, c in enumerate(report.cycles, 1)
    ]  # fmt: skip
    yield from table(rows, ("best", "from s", "to s", "frames", "seam degrees", "cm", "cm/s"))
    if report.closed is not None:
        seam = report.closed
        told = f"{seam.degrees:.3f} degrees, {seam.cm:.3f} cm, {seam.cm_s:.1f} cm/s"
        yield f"  number {report.pick} closed; its seam is now {told}"
    yield from _tail(report)


def thin_lines(report: ClipThinReport) -> Iterator[str]:
    """Keys left, and how far the clips are off."""
    rows = []
    for row in report.clips:
        left = 100 * row.keys / row.keys_before
        feet = "" if row.feet_mm is None else f"{row.feet_mm:.2f}"
        off = f"{row.worst_mm:.2f}", f"{row.worst_degrees:.2f}", feet
        rows.append((row.clip, str(row.keys_before), str(row.keys), f"{left:.1f}", *off))
    yield from table(rows, ("clip", "keys before", "keys", "left %", "worst mm", "degrees", "feet mm"))
    yield from _tail(report)


def clean_lines(report: ClipCleanReport) -> Iterator[str]:
    """Faults found."""
    faults = report.faults
    rows = [(f.clip, f.kind, f.bone, f"{f.first}-{f.last}", f"{f.size:.2f}") for f in faults[:40]]
    if rows:
        yield from table(rows, ("clip", "fault", "bone", "frames", "degrees or cm"))
    yield f"  {len(faults)} faults" + (" (the first 40 shown)" if len(faults) > 40 else "")
    yield from _tail(report)


def describe_lines(report: ClipDescribeReport) -> Iterator[str]:
    """What is in clips."""
    for clip in report.clips:
        facts = f"{counted(clip.frames, 'frame')} at {clip.rate:g}, {clip.duration_s:.2f} s"
        yield click.style(clip.clip, bold=True) + f"  {facts}"
        yield (
            f"  travels {clip.travel_m:.2f} m (path {clip.distance_m:.2f} m, {clip.speed_m_s:.2f} m/s, at most "
            f"{clip.fastest_m_s:.2f}); still {100 * clip.still_fraction:.0f} % of the time"
        )
        if clip.gait is not None:
            walk = clip.gait
            where = "walks on the spot: the ground goes" if walk.on_the_spot else "walks"
            yield (
                f"  {where} {walk.speed_m_s:.2f} m/s, {walk.steps_a_minute:.0f} steps a minute, a stride of "
                f"{walk.stride_m:.2f} m"
            )
        for side in ("left", "right") if clip.contacts is not None else ():
            own = [c for c in clip.contacts or () if c.side == side]
            spans = ", ".join(f"{c.part} {c.start_s:.2f}-{c.stop_s:.2f}" for c in own[:8])
            yield f"  {side} foot stands: {spans}{' …' if len(own) > 8 else ''}"
        rows = [
            (b.bone, b.role, f"{b.range_degrees:.1f}", f"{b.from_rest_degrees:.1f}", f"{b.range_cm:.1f}")
            for b in sorted(clip.bones, key=lambda b: -b.range_degrees)
            if b.keyed
        ]
        yield from table(rows[:30], ("bone", "role", "range", "from rest", "cm"))
    yield from written_lines(report.written)


def draw_lines(report: ClipDrawReport) -> Iterator[str]:
    """What was drawn."""
    yield from written_lines(report.written)


def _told(before: float, after: float) -> str:
    return f"{before:g} > {after:g}" if before != after else f"{before:g}"


def _new_lines(clips: Sequence[NewClip]) -> Iterator[str]:
    rows = [(row.clip, str(row.frames), f"{row.seconds:.2f}") for row in clips]
    return table(rows, ("clip", "frames", "seconds"))


class _Written(Protocol):
    @property
    def written(self) -> tuple[str, ...]: ...

    @property
    def findings(self) -> tuple[FindingRow, ...]: ...


def _tail(report: _Written) -> Iterator[str]:
    yield from written_lines(report.written)
