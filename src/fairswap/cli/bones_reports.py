"""What the commands of ``fairswap bones`` report, and how people read it."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import click

from fairswap.cli.reports import FindingRow, Report, finding_rows
from fairswap.cli.text import some, table, written_lines
from fairswap.wording import counted

if TYPE_CHECKING:
    from fairswap.bones.checking import ProfileCheck
    from fairswap.bones.drafting import BoneDraft
    from fairswap.retarget.pairing import PairedBone

_say = click.option("--say", multiple=True, metavar="ROLE=BONE", help="What you know. Repeatable.")


class FoundBone(Report, frozen=True):
    """The bone found for a role, how sure, why, and which other one it might be."""

    bone: str
    confidence: float
    reasons: tuple[str, ...]
    other: str | None


class HelperBone(Report, frozen=True):
    """A bone that shares the twist of another: that of which role, and how much."""

    role: str
    fraction: float


class CopiedBone(Report, frozen=True):
    """A bone of a second skeleton, and the one it is a copy of."""

    bone: str
    copy_of: str


class BonesDraftReport(Report, frozen=True):
    """What was found of a figure's bones."""

    figure: str
    roles: dict[str, FoundBone]
    extra: tuple[str, ...]
    helper: dict[str, HelperBone]
    end: tuple[str, ...]
    missing: tuple[str, ...]
    duplicates: tuple[CopiedBone, ...]
    written: tuple[str, ...]
    findings: tuple[FindingRow, ...]


class StateRow(Report, frozen=True):
    """A role's state by a profile: ``matched``, ``guessed`` or ``missing``; its bone, and near names."""

    state: str
    bone: str | None
    near: tuple[str, ...]
    confidence: float | None


class BonesCheckReport(Report, frozen=True):
    """A profile checked against a figure."""

    figure: str
    profile: str
    roles: dict[str, StateRow]
    left_over: tuple[str, ...]
    written: tuple[str, ...]
    findings: tuple[FindingRow, ...]


class BonesMatchReport(Report, frozen=True):
    """Which bone of one file moves which of another."""

    source: str
    target: str
    source_profile: str
    target_profile: str
    pairs: tuple[PairedBone, ...]
    resting: tuple[str, ...]
    findings: tuple[FindingRow, ...]


class JoinedBone(Report, frozen=True):
    """A bone of a copy, and the one it was joined with."""

    bone: str
    into: str


class BonesMergeReport(Report, frozen=True):
    """Bones of copies that were joined, and those that stay since a skin has both."""

    figure: str
    merged: tuple[JoinedBone, ...]
    kept: tuple[str, ...]
    written: tuple[str, ...]


class ProfileRow(Report, frozen=True):
    """A bone profile, built in or saved."""

    name: str
    title: str
    roles: int
    rest_pose: str
    space: str
    saved: bool


class BonesListReport(Report, frozen=True):
    """All bone profiles."""

    profiles: tuple[ProfileRow, ...]
    findings: tuple[FindingRow, ...] = ()


class SkinBox(Report, frozen=True):
    """The bounds of the skin of one bone, in the bone's own axes, metres."""

    bone: str
    least_m: tuple[float, float, float]
    most_m: tuple[float, float, float]


class BonesShowReport(Report, frozen=True):
    """Which bone of a figure fills which role, and the bounds of the skin of each bone."""

    figure: str
    profile: str
    roles: dict[str, str]
    confidences: dict[str, float]
    missing: tuple[str, ...]
    other: tuple[str, ...]
    ends: tuple[str, ...]
    boxes: tuple[SkinBox, ...]
    written: tuple[str, ...]


class ProfileReport(Report, frozen=True):
    """The roles of a bone profile, each with the names of its editions."""

    profile: str
    title: str
    prefix: tuple[str, ...]
    ignore: tuple[str, ...]
    roles: dict[str, tuple[str, ...]]
    written: tuple[str, ...]
    findings: tuple[FindingRow, ...]


def draft_report(drafted: BoneDraft, written: list[str]) -> BonesDraftReport:
    found, name = drafted.found, drafted.name_of
    roles = {
        role: FoundBone(
            name(answer.bone), answer.confidence, tuple(answer.reasons),
            None if answer.other is None else name(answer.other),
        )
        for role, answer in found.answers.items()
    }  # fmt: skip
    return BonesDraftReport(
        figure=drafted.figure.name,
        roles=roles,
        extra=tuple(name(bone) for bone in found.extra),
        helper={name(bone): HelperBone(*row) for bone, row in found.helper.items()},
        end=tuple(name(bone) for bone in found.end),
        missing=tuple(found.missing),
        duplicates=tuple(CopiedBone(name(bone), name(other)) for bone, other in found.duplicates),
        written=tuple(written),
        findings=finding_rows(found.findings),
    )


def check_report(found: ProfileCheck, written: list[str]) -> BonesCheckReport:
    names = found.figure.skeleton.names
    roles = {
        row.role: StateRow(row.state, None if row.bone is None else names[row.bone], tuple(row.near), row.confidence)
        for row in found.states
    }
    left, told = tuple(found.left_over), finding_rows(found.findings)
    return BonesCheckReport(found.figure.name, found.profile.name, roles, left, tuple(written), told)


def draft_lines(report: BonesDraftReport) -> Iterator[str]:
    yield click.style(f"{report.figure}", bold=True) + f"  {counted(len(report.roles), 'role')} found"
    rows = [(role, row.bone, f"{row.confidence:.2f}", "; ".join(row.reasons)) for role, row in report.roles.items()]
    yield from table(rows, ("role", "bone", "sure", "why"))
    for names, title in ((report.extra, "no role fits"), (report.end, "end markers"), (report.missing, "MISSING")):
        if names:
            yield f"  {title}: " + ", ".join(names)
    for bone, helper in report.helper.items():
        yield f"  helper: {bone} follows {helper.role} by {helper.fraction:.0%}"
    for copy in report.duplicates:
        yield f"  second copy: {copy.bone} of {copy.copy_of}"
    yield from written_lines(report.written)


def check_lines(report: BonesCheckReport) -> Iterator[str]:
    yield click.style(f"{report.profile} on {report.figure}", bold=True)
    rows = [(role, row.state, row.bone or "", ", ".join(row.near)) for role, row in report.roles.items()]
    yield from table(rows, ("role", "state", "bone", "near names"))
    states = [row.state for row in report.roles.values()]
    yield "  " + ", ".join(f"{states.count(state)} {state}" for state in ("matched", "guessed", "missing"))
    if report.left_over:
        yield "  left over: " + ", ".join(report.left_over)
    yield from written_lines(report.written)


def match_lines(report: BonesMatchReport) -> Iterator[str]:
    target = Path(report.target).name
    rows = [(row.role, row.source, row.target) for row in report.pairs]
    yield from table(rows, ("role", Path(report.source).name, target))
    if report.resting:
        yield f"  of {target} {counted(len(report.resting), 'bone')} rest: {some(report.resting, 8)}"
    else:
        yield f"  every bone of {target} has a partner"


def merge_lines(report: BonesMergeReport) -> Iterator[str]:
    yield f"{report.figure}: {counted(len(report.merged), 'bone')} joined with those they are copies of"
    if report.kept:
        yield f"  left as they are, since a skin has both: {', '.join(report.kept)}"
    yield from written_lines(report.written)


def list_lines(report: BonesListReport) -> Iterator[str]:
    rows = [(r.name, str(r.roles), r.rest_pose, r.space, "yours" if r.saved else r.title) for r in report.profiles]
    yield from table(rows, ("profile", "roles", "rests in", "space", ""))


def figure_lines(report: BonesShowReport) -> Iterator[str]:
    yield click.style(f"{report.figure}", bold=True) + f"  bones by {report.profile!r}"
    sure = report.confidences
    sizes = {row.bone: " x ".join(f"{100 * (b - a):.0f}" for a, b in zip(row.least_m, row.most_m, strict=True))
             for row in report.boxes}  # fmt: skip
    rows = [(role, bone, f"{sure[role]:.2f}" if role in sure else "", sizes.get(bone, ""))
            for role, bone in report.roles.items()]  # fmt: skip
    yield from table(rows, ("role", "bone", "sure" if sure else "", "its skin, cm" if sizes else ""))
    if report.missing:
        yield "  not in this figure: " + ", ".join(report.missing)
    if report.other:
        yield "  bones without a role: " + ", ".join(report.other)
    if report.ends:
        yield "  end markers: " + ", ".join(report.ends)
    yield from written_lines(report.written)


def profile_lines(report: ProfileReport) -> Iterator[str]:
    yield from table([(role, " or ".join(names)) for role, names in report.roles.items()], ("role", "bone"))
    yield from written_lines(report.written)
