"""``fairswap bones draft|check|match|merge|list|show``."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import click

from fairswap.cli import manners

_say = click.option("--say", multiple=True, metavar="ROLE=BONE", help="What you know; may be given several times.")


@click.group(name="bones")
def command() -> None:
    """Which bone is which: found, checked, shown, and kept in bone profiles."""


@command.command(short_help="Find out which bone is which, and write a profile.")
@click.argument("file", type=click.Path(path_type=Path))
@click.option("-o", "--out", type=click.Path(path_type=Path), metavar="P.toml", help="Write the profile here.")
@click.option("--save-as", "family", metavar="NAME", help="Keep it as a family's profile: found by itself next time.")
@_say
@manners.unit
@manners.up
@manners.writing
def draft(
    file: Path,
    out: Path | None,
    family: str | None,
    say: tuple[str, ...],
    unit: str | None,
    up: str | None,
    as_json: bool,
    quiet: bool,
    force: bool,
) -> None:
    """Find out which bone of FILE is which, and write a profile that can be corrected by hand.

    Exit status 1 if must-have roles are missing.
    """
    from fairswap.bones.draft import draft_as_data, profile_text
    from fairswap.bones.identify import bones_said, identify
    from fairswap.bones.profile import user_folder
    from fairswap.files import load
    from fairswap.formats.storage import write_atomically

    if family is not None and Path(family).name != family:
        raise click.BadParameter("a family's name is one word, not a path", param_hint="--save-as")
    document = load(file, unit=unit, up=up)
    figure = document.figure
    clip = max(document.clips_of(figure), key=lambda clip: clip.frames, default=None)
    found = identify(figure, bones_said(figure, say), clip)
    report = draft_as_data(figure, found)
    written = [path for path in (out, user_folder() / f"{family}.toml" if family else None) if path is not None]
    for path in written:
        manners.never_an_input(path, (file,))
        write_atomically(path, [profile_text(figure, found, family or path.stem).encode()], force)
    report["written"] = [str(path) for path in written]
    manners.emit(report, _draft_lines(report), as_json, quiet)
    if found.missing:
        raise click.exceptions.Exit(1)


@command.command(short_help="Hold a profile against a file.")
@click.argument("profile", metavar="P")
@click.argument("file", type=click.Path(path_type=Path))
@manners.picture
@manners.writing
def check(profile: str, file: Path, picture: Path | None, as_json: bool, quiet: bool, force: bool) -> None:
    """Hold the bone profile P (a file or a name) against FILE: matched, guessed, missing, mirrored, near names.

    Exit status 1 if there is a problem.
    """
    from fairswap.bones.check import check_profile
    from fairswap.bones.profile import profile_named
    from fairswap.files import load

    known, figure = profile_named(profile), load(file).figure
    states, findings = check_profile(known, figure)
    report = _states_report(figure, states, known) | {"findings": [f.as_dict() for f in findings]}
    if picture is not None:
        _draw(picture, figure, states, f"{known.name} on {file.name}", "profile against file", force)
    manners.emit(report, _state_lines(report), as_json, quiet)
    if any(finding.severity == "problem" for finding in findings):
        raise click.exceptions.Exit(1)


@command.command(short_help="Pair the bones of two files.")
@click.argument("a", type=click.Path(path_type=Path))
@click.argument("b", type=click.Path(path_type=Path))
@manners.source_bones
@manners.target_bones
@manners.reporting
def match(a: Path, b: Path, source_bones: str | None, target_bones: str | None, as_json: bool, quiet: bool) -> None:
    """Print which bone of A gives its motion to which bone of B, through the roles."""
    from fairswap.body.swap import Swap
    from fairswap.bones.profile import profile_named
    from fairswap.files import load
    from fairswap.stock import matching_of

    profiles = [profile_named(name) if name else None for name in (source_bones, target_bones)]
    swap = Swap(load(a).figure, load(b).figure, profiles[0], profiles[1])
    report = {"a": str(a), "b": str(b), **matching_of(swap)}
    rows = [(row["role"], row["from"], row["to"]) for row in report["pairs"]]
    lines = [*manners.table(rows, ("role", a.name, b.name))]
    lines.append(f"  of {b.name} {len(report['resting'])} bones rest: {', '.join(report['resting'][:8])} …")
    manners.emit(report, [*lines, *manners.finding_lines(report["findings"])], as_json, quiet)


@command.command(short_help="Join second copies of a skeleton.")
@click.argument("file", type=click.Path(path_type=Path))
@click.option(
    "-o", "--out", required=True, type=click.Path(path_type=Path), metavar="OUT.glb", help="Write the result here."
)
@manners.writing
def merge(file: Path, out: Path, as_json: bool, quiet: bool, force: bool) -> None:
    """Join second copies of the skeleton in FILE, as come with clothes, with its own bones."""
    from fairswap.figures.merge import with_copies_merged
    from fairswap.files import load, save

    manners.never_an_input(out, (file,))
    document, report = with_copies_merged(load(file))
    report["written"] = save(out, document.figure, document.clips_of(document.figure), force=force)
    lines = [f"{report['figure']}: {len(report['merged'])} bones joined with those they are copies of"]
    if report["kept"]:
        lines.append(f"  left as they are, since a skin has both: {', '.join(report['kept'])}")
    manners.emit(report, [*lines, *(f"  wrote    {path}" for path in report["written"])], as_json, quiet)


@command.command(name="list", short_help="List the profiles: built in, and yours.")
@manners.reporting
def list_profiles(as_json: bool, quiet: bool) -> None:
    """List the profiles: built in, and those you saved by family name."""
    from fairswap.bones.profile import built_in_profiles, saved_profiles

    rows = [
        {
            "name": p.name,
            "title": p.title,
            "roles": len(p.roles),
            "rest_pose": p.rest_pose,
            "space": str(p.space),
            "saved": saved,
        }
        for profiles, saved in ((built_in_profiles(), False), (saved_profiles(), True))
        for p in profiles
    ]
    lines = manners.table(
        [
            (
                str(r["name"]),
                str(r["roles"]),
                str(r["rest_pose"]),
                str(r["space"]),
                "yours" if r["saved"] else str(r["title"]),
            )
            for r in rows
        ],
        ("profile", "roles", "rests in", "space", ""),
    )
    manners.emit({"profiles": rows}, lines, as_json, quiet)


@command.command(short_help="Show (and draw) the bones of a file or profile.")
@click.argument("what", metavar="FILE|P")
@click.option("--bones", metavar="P", help="Bone profile for FILE: a file or a name.")
@manners.picture
@manners.writing
def show(what: str, bones: str | None, picture: Path | None, as_json: bool, quiet: bool, force: bool) -> None:
    """Show the roles of a figure or motion FILE, or of a profile P (a name or a .toml file); --picture draws them."""
    from fairswap.bones.check import states_of
    from fairswap.bones.known import roles_of
    from fairswap.bones.profile import profile_named
    from fairswap.files import FORMATS, load
    from fairswap.stock import bones_of

    if Path(what).suffix.lower() not in FORMATS:
        profile = profile_named(what)
        report: dict[str, Any] = {
            "profile": profile.name,
            "title": profile.title,
            "prefix": list(profile.prefixes),
            "ignore": list(profile.ignore),
            "roles": {role: list(names) for role, names in profile.roles.items()},
        }
        rows = [(role, " or ".join(names)) for role, names in profile.roles.items()]
        if picture is not None:
            from fairswap.demo.mannequin import mannequin_of

            body, states = mannequin_of(profile)
            _draw(picture, body, states, profile.title or profile.name, "a profile, shown on our own body", force)
        manners.emit(report, manners.table(rows, ("role", "bone")), as_json, quiet)
        return
    figure = load(what).figure
    known = profile_named(bones) if bones else None
    report = bones_of(figure, known)
    if picture is not None:
        roles = roles_of(figure, known, what=f"figure {figure.name!r}", option="--bones")
        _draw(picture, figure, states_of(roles), figure.name, f"bones {roles.profile}", force)
    manners.emit(report, _figure_lines(report), as_json, quiet)


def _draw(picture: Path, figure: Any, states: Any, title: str, where: str, force: bool) -> None:
    from fairswap.formats.storage import write_atomically
    from fairswap.picture.bones_sheet import bones_sheet

    write_atomically(picture, [bones_sheet(figure, states, title, where)], force)


def _states_report(figure: Any, states: Any, profile: Any) -> dict[str, Any]:
    names = figure.skeleton.names
    used = {state.bone for state in states if state.bone is not None}
    return {
        "figure": figure.name,
        "profile": profile.name,
        "roles": {
            state.role: {
                "state": state.state,
                "bone": names[state.bone] if state.bone is not None else None,
                "near": list(state.near),
                "confidence": state.confidence,
            }
            for state in states
        },
        "left_over": [
            name
            for bone, name in enumerate(names)
            if bone not in used and bone not in figure.skeleton.ends and not profile.accounts_for(name)
        ],
    }


def _state_lines(report: dict[str, Any]) -> Iterator[str]:
    yield click.style(f"{report['profile']} on {report['figure']}", bold=True)
    rows = [(role, row["state"], row["bone"] or "", ", ".join(row["near"])) for role, row in report["roles"].items()]
    yield from manners.table(rows, ("role", "state", "bone", "near names"))
    states = [row["state"] for row in report["roles"].values()]
    yield "  " + ", ".join(f"{states.count(state)} {state}" for state in ("matched", "guessed", "missing"))
    if report["left_over"]:
        yield "  left over: " + ", ".join(report["left_over"])
    yield from manners.finding_lines(report["findings"])


def _draft_lines(report: dict[str, Any]) -> Iterator[str]:
    yield click.style(f"{report['figure']}", bold=True) + f"  {len(report['roles'])} roles found"
    rows = [
        (role, row["bone"], f"{row['confidence']:.2f}", "; ".join(row["reasons"]))
        for role, row in report["roles"].items()
    ]
    yield from manners.table(rows, ("role", "bone", "sure", "why"))
    for key, title in (("extra", "no role fits"), ("end", "end markers"), ("missing", "MISSING")):
        if report[key]:
            yield f"  {title}: " + ", ".join(report[key])
    for bone, row in report["helper"].items():
        yield f"  helper: {bone} follows {row['role']} by {row['share']:.0%}"
    for row in report["duplicates"]:
        yield f"  second copy: {row['bone']} of {row['copy_of']}"
    yield from manners.finding_lines(report["findings"])
    yield from (f"  wrote    {path}" for path in report["written"])


def _figure_lines(report: dict[str, Any]) -> Iterator[str]:
    yield click.style(f"{report['figure']}", bold=True) + f"  bones by {report['profile']!r}"
    confidences = report["confidences"]
    rows = [
        (role, bone, f"{confidences[role]:.2f}" if role in confidences else "")
        for role, bone in report["roles"].items()
    ]
    yield from manners.table(rows, ("role", "bone", "sure" if confidences else ""))
    if report["missing"]:
        yield "  not in this figure: " + ", ".join(report["missing"])
    if report["other"]:
        yield "  bones without a role: " + ", ".join(report["other"])
    if report["ends"]:
        yield "  end markers: " + ", ".join(report["ends"])
