"""``fairswap bones draft|check|match|merge|list|show``."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import click

from fairswap.cli import options
from fairswap.cli.output import Output
from fairswap.cli.reports import FindingRow, Report, finding_rows
from fairswap.cli.text import finding_lines, some, table, written_lines
from fairswap.retarget.pairing import PairedBone

if TYPE_CHECKING:
    from fairswap.bones.checking import ProfileCheck
    from fairswap.bones.drafting import BoneDraft

_say = click.option("--say", multiple=True, metavar="ROLE=BONE", help="What you know; may be given several times.")


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
    """A profile held against a figure."""

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


class BonesShowReport(Report, frozen=True):
    """Which bone of a figure fills which role."""

    figure: str
    profile: str
    roles: dict[str, str]
    confidences: dict[str, float]
    missing: tuple[str, ...]
    other: tuple[str, ...]
    ends: tuple[str, ...]
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


@click.group(name="bones")
def command() -> None:
    """Which bone is which: found, checked, shown, and kept in bone profiles."""


@command.command(short_help="Find out which bone is which, and write a profile.")
@click.argument("file", type=options.INPUT)
@click.option("-o", "--out", type=options.OUTPUT, metavar="P.toml", help="Write the profile here.")
@options.save_as
@_say
@options.reading
@options.writing
def draft(
    file: Path, out: Path | None, family: str | None, say: tuple[str, ...], reading: options.Reading, output: Output
) -> None:
    """Find out which bone of FILE is which, and write a profile that can be corrected by hand.

    Exit status 1 if must-have roles are missing.
    """
    from fairswap.bones.drafting import draft as drafted

    document = reading.load(file)
    paths = options.kept_in("bones", out, family)
    output.announce(*paths)
    found = drafted(document, say=dict(options.pairs(say, "--say", "ROLE=BONE")))
    written = [output.write(path, found.text(family or path.stem).encode()) for path in paths]
    output.report(_draft_report(found, written), _draft_lines)
    if found.missing:
        output.failed()


@command.command(short_help="Hold a profile against a file.")
@click.argument("profile", metavar="P", type=options.name_or_file)
@click.argument("file", type=options.INPUT)
@options.figure
@options.picture
@options.writing
def check(profile: str, file: Path, picture: Path | None, output: Output) -> None:
    """Hold the bone profile P (a file or a name) against FILE: matched, guessed, missing, mirrored, near names.

    Exit status 1 if there is a problem.
    """
    from fairswap.bones.checking import check as checked

    output.announce(picture)
    found = checked(profile, options.loaded(file))
    written = []
    if picture is not None:
        from fairswap.picture.verbs import bones as drawn

        written.append(output.write(picture, drawn(found, f"{found.profile.name} on {file.name}")))
    output.report(_check_report(found, written), _check_lines)
    if not found.ok:
        output.failed()


@command.command(short_help="Pair the bones of two files.")
@click.argument("a", type=options.INPUT)
@click.argument("b", type=options.INPUT)
@options.source_bones
@options.target_bones
@options.source_figure
@options.figure
@options.reporting
def match(a: Path, b: Path, source_bones: str | None, target_bones: str | None, output: Output) -> None:
    """Print which bone of A gives its motion to which bone of B, through the roles."""
    from fairswap.retarget.matching import match as matched

    first, second = options.loaded(a, "source_figure_name"), options.loaded(b)
    swap = matched(first, second, source_bones=source_bones, target_bones=target_bones)
    report = BonesMatchReport(
        source=str(a),
        target=str(b),
        source_profile=swap.source.roles.profile,
        target_profile=swap.target.roles.profile,
        pairs=tuple(swap.paired_bones),
        resting=tuple(swap.resting_bones),
        findings=finding_rows(swap.findings),
    )
    output.report(report, _match_lines)


@command.command(short_help="Join second copies of a skeleton.")
@click.argument("file", type=options.INPUT)
@click.option("-o", "--out", required=True, type=options.OUTPUT, metavar="OUT.glb", help="Write the result here.")
@options.figure
@options.writing
def merge(file: Path, out: Path, output: Output) -> None:
    """Join second copies of the skeleton in FILE, as come with clothes, with its own bones."""
    from fairswap.figures.merging import merge as merged
    from fairswap.formats.files import save_to

    document = options.loaded(file)
    output.announce(out)
    made = merged(document)
    figure = made.document.figure
    written = save_to(output.files, out, figure, made.document.clips_of(figure))
    joined = tuple(JoinedBone(*row) for row in made.joined)
    output.report(BonesMergeReport(figure.name, joined, made.kept, tuple(written)), _merge_lines)


@command.command(name="list", short_help="List the profiles: built in, and yours.")
@options.reporting
def list_(output: Output) -> None:
    """List the profiles: built in, and those you saved by family name."""
    from fairswap.bones.profile import broken_profiles, built_in_profiles, saved_profiles

    rows = tuple(
        ProfileRow(p.name, p.title, len(p.roles), p.rest_pose, str(p.space), saved)
        for profiles, saved in ((built_in_profiles(), False), (saved_profiles(), True))
        for p in profiles
    )
    output.report(BonesListReport(rows, finding_rows(broken_profiles())), _list_lines)


@command.command(short_help="Show (and draw) the bones of a file or profile.")
@click.argument("what", metavar="FILE|P", type=options.name_or_file)
@options.bones
@options.figure
@options.picture
@options.writing
def show(what: str, bones: str | None, picture: Path | None, output: Output) -> None:
    """Show the roles of a figure or motion FILE, or of a profile P (a name or a .toml file); --picture draws them."""
    from fairswap.formats.files import FORMATS

    output.announce(picture)
    if Path(what).suffix.lower() in FORMATS:
        _show_file(what, bones, picture, output)
    else:
        _show_profile(what, picture, output)


def _show_file(what: str, bones: str | None, picture: Path | None, output: Output) -> None:
    from fairswap.bones.checking import show as shown

    found = shown(options.loaded(Path(what)), bones=bones)
    written = []
    if picture is not None:
        from fairswap.picture.verbs import bones as drawn

        written.append(output.write(picture, drawn(found)))
    names, roles = found.figure.skeleton.labels, found.roles
    report = BonesShowReport(
        figure=found.figure.name,
        profile=roles.profile,
        roles={role: names[roles.bones[role]] for role in roles.roles()},
        confidences=dict(roles.confidences),
        missing=found.missing,
        other=tuple(found.other),
        ends=tuple(names[bone] for bone in sorted(found.figure.skeleton.ends)),
        written=tuple(written),
    )
    output.report(report, _figure_lines)


def _show_profile(name: str, picture: Path | None, output: Output) -> None:
    from fairswap.bones.profile import profile_named

    profile = profile_named(name)
    written = []
    if picture is not None:
        from fairswap.demo.mannequin import mannequin_of
        from fairswap.picture.bones_sheet import bones_sheet

        title = profile.title or profile.name
        image = bones_sheet(*mannequin_of(profile), title, "a profile, shown on our own body")
        written.append(output.write(picture, image))
    report = ProfileReport(
        profile.name, profile.title, profile.prefixes, profile.ignore,
        {role: tuple(names) for role, names in profile.roles.items()}, tuple(written), finding_rows(profile.findings),
    )  # fmt: skip
    output.report(report, _profile_lines)


def _draft_report(drafted: BoneDraft, written: list[str]) -> BonesDraftReport:
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


def _check_report(found: ProfileCheck, written: list[str]) -> BonesCheckReport:
    names = found.figure.skeleton.names
    roles = {
        row.role: StateRow(row.state, None if row.bone is None else names[row.bone], tuple(row.near), row.confidence)
        for row in found.states
    }
    left, told = tuple(found.left_over), finding_rows(found.findings)
    return BonesCheckReport(found.figure.name, found.profile.name, roles, left, tuple(written), told)


def _draft_lines(report: BonesDraftReport) -> Iterator[str]:
    yield click.style(f"{report.figure}", bold=True) + f"  {len(report.roles)} roles found"
    rows = [(role, row.bone, f"{row.confidence:.2f}", "; ".join(row.reasons)) for role, row in report.roles.items()]
    yield from table(rows, ("role", "bone", "sure", "why"))
    for names, title in ((report.extra, "no role fits"), (report.end, "end markers"), (report.missing, "MISSING")):
        if names:
            yield f"  {title}: " + ", ".join(names)
    for bone, helper in report.helper.items():
        yield f"  helper: {bone} follows {helper.role} by {helper.fraction:.0%}"
    for copy in report.duplicates:
        yield f"  second copy: {copy.bone} of {copy.copy_of}"
    yield from finding_lines(report.findings)
    yield from written_lines(report.written)


def _check_lines(report: BonesCheckReport) -> Iterator[str]:
    yield click.style(f"{report.profile} on {report.figure}", bold=True)
    rows = [(role, row.state, row.bone or "", ", ".join(row.near)) for role, row in report.roles.items()]
    yield from table(rows, ("role", "state", "bone", "near names"))
    states = [row.state for row in report.roles.values()]
    yield "  " + ", ".join(f"{states.count(state)} {state}" for state in ("matched", "guessed", "missing"))
    if report.left_over:
        yield "  left over: " + ", ".join(report.left_over)
    yield from written_lines(report.written)
    yield from finding_lines(report.findings)


def _match_lines(report: BonesMatchReport) -> Iterator[str]:
    target = Path(report.target).name
    rows = [(row.role, row.source, row.target) for row in report.pairs]
    yield from table(rows, ("role", Path(report.source).name, target))
    yield f"  of {target} {len(report.resting)} bones rest: {some(report.resting, 8)}"
    yield from finding_lines(report.findings)


def _merge_lines(report: BonesMergeReport) -> Iterator[str]:
    yield f"{report.figure}: {len(report.merged)} bones joined with those they are copies of"
    if report.kept:
        yield f"  left as they are, since a skin has both: {', '.join(report.kept)}"
    yield from written_lines(report.written)


def _list_lines(report: BonesListReport) -> Iterator[str]:
    rows = [(r.name, str(r.roles), r.rest_pose, r.space, "yours" if r.saved else r.title) for r in report.profiles]
    yield from table(rows, ("profile", "roles", "rests in", "space", ""))
    yield from finding_lines(report.findings)


def _figure_lines(report: BonesShowReport) -> Iterator[str]:
    yield click.style(f"{report.figure}", bold=True) + f"  bones by {report.profile!r}"
    sure = report.confidences
    rows = [(role, bone, f"{sure[role]:.2f}" if role in sure else "") for role, bone in report.roles.items()]
    yield from table(rows, ("role", "bone", "sure" if sure else ""))
    if report.missing:
        yield "  not in this figure: " + ", ".join(report.missing)
    if report.other:
        yield "  bones without a role: " + ", ".join(report.other)
    if report.ends:
        yield "  end markers: " + ", ".join(report.ends)
    yield from written_lines(report.written)


def _profile_lines(report: ProfileReport) -> Iterator[str]:
    yield from table([(role, " or ".join(names)) for role, names in report.roles.items()], ("role", "bone"))
    yield from written_lines(report.written)
    yield from finding_lines(report.findings)
