"""``fairswap bones draft|check|match|merge|list|show``."""

from __future__ import annotations

from math import isfinite
from pathlib import Path

import click

from fairswap.cli import options
from fairswap.cli.bones_reports import (
    BonesListReport,
    BonesMatchReport,
    BonesMergeReport,
    BonesShowReport,
    JoinedBone,
    ProfileReport,
    ProfileRow,
    SkinBox,
    check_lines,
    check_report,
    draft_lines,
    draft_report,
    figure_lines,
    list_lines,
    match_lines,
    merge_lines,
    profile_lines,
)
from fairswap.cli.output import Output
from fairswap.cli.reports import finding_rows

_say = click.option("--say", multiple=True, metavar="ROLE=BONE", help="Say which bone it is. Repeatable.")


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
    output.report(draft_report(found, written), draft_lines)
    if found.missing:
        output.failed()


@command.command(short_help="Check a profile against a file.")
@click.argument("profile", metavar="P", type=options.name_or_file)
@click.argument("file", type=options.INPUT)
@options.figure
@options.picture
@options.writing
def check(profile: str, file: Path, picture: Path | None, output: Output) -> None:
    """Check the bone profile P (a file or a name) against FILE: matched, guessed, missing, mirrored, near names.

    Exit status 1 if there is a problem.
    """
    from fairswap.bones.checking import check as checked

    output.announce(picture)
    found = checked(profile, options.loaded(file))
    written = []
    if picture is not None:
        from fairswap.picture.verbs import bones as drawn

        written.append(output.write(picture, drawn(found, f"{found.profile.name} on {file.name}")))
    output.report(check_report(found, written), check_lines)
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
    output.report(report, match_lines)


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
    output.report(BonesMergeReport(figure.name, joined, made.kept, tuple(written)), merge_lines)


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
    output.report(BonesListReport(rows, finding_rows(broken_profiles())), list_lines)


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
    names, roles, boxes = found.figure.skeleton.labels, found.roles, found.figure.skin_boxes
    report = BonesShowReport(
        figure=found.figure.name,
        profile=roles.profile,
        roles={role: names[roles.bones[role]] for role in roles.roles()},
        confidences=dict(roles.confidences),
        missing=found.missing,
        other=tuple(found.other),
        ends=tuple(names[bone] for bone in sorted(found.figure.skeleton.ends)),
        boxes=tuple(
            SkinBox(name, *map(tuple, box.tolist()))
            for name, box in zip(names, boxes, strict=True)
            if isfinite(box[0, 0])
        ),
        written=tuple(written),
    )
    output.report(report, figure_lines)


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
    output.report(report, profile_lines)
