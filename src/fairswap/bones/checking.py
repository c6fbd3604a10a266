"""Check a profile against a figure: what it names, what it lacks, what seems wrong."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from difflib import get_close_matches
from pathlib import Path

from fairswap.bones.assignment import named_by, roles_of
from fairswap.bones.identification import Identification, identify
from fairswap.bones.profile import BoneProfile, built_in_profiles, profile_named, saved_profiles
from fairswap.bones.roles import MUST_HAVE, RoleMap, mirrored_role, role_order, side_of
from fairswap.errors import Finding
from fairswap.formats.files import document_of
from fairswap.model.document import Document
from fairswap.model.figure import Figure

MATCHED, GUESSED, MISSING = "matched", "guessed", "missing"


@dataclass(frozen=True)
class RoleState:
    """A role's state: ``matched`` by the profile, ``guessed`` from names and shape, or ``missing``."""

    role: str
    state: str
    bone: int | None
    near: tuple[str, ...] = ()
    confidence: float | None = None


@dataclass(frozen=True, eq=False)
class ProfileCheck:
    """A profile checked against a figure: the state of each role, bones that are left over, and what seems wrong.

    >>> import fairswap
    >>> found = fairswap.bones.check("fernway", fairswap.demo_file("osric.glb"))
    >>> found.states[0].role, found.states[0].state
    ('hips', 'guessed')
    """

    profile: BoneProfile
    figure: Figure
    states: tuple[RoleState, ...]
    findings: tuple[Finding, ...]

    @property
    def left_over(self) -> list[str]:
        """Names of bones that the profile does not account for."""
        used = {state.bone for state in self.states if state.bone is not None}
        skeleton = self.figure.skeleton
        return [
            name
            for bone, name in enumerate(skeleton.names)
            if bone not in used and bone not in skeleton.ends and not self.profile.accounts_for(name)
        ]

    @property
    def ok(self) -> bool:
        """Whether there is no problem."""
        return all(finding.severity != "problem" for finding in self.findings)

    def __repr__(self) -> str:
        counts = Counter(state.state for state in self.states)
        said = ", ".join(f"{counts[state]} {state}" for state in (MATCHED, GUESSED, MISSING))
        return f"<ProfileCheck of {self.profile.name!r} on {self.figure.name!r}: {said}>"


def check(profile: BoneProfile | str | Path, what: Figure | Document | str | Path) -> ProfileCheck:
    """Check a profile against a figure: matched, guessed, missing, mirrored, near names.

    >>> import fairswap
    >>> fairswap.bones.check("fernway", fairswap.demo_file("pip.glb"))
    <ProfileCheck of 'fernway' on 'Pip': 30 matched, 0 guessed, 0 missing>

    Raises
    ------
    InputError
        If there is no such profile, or a file cannot be read.
    """
    known, figure = profile_named(profile), document_of(what).figure
    given = named_by(known, figure)
    found = identify(figure)
    roles = sorted({*known.roles, *MUST_HAVE, *given.bones}, key=role_order)
    states = [_state(role, known, given, found, figure) for role in roles]
    findings = [*known.findings, *_findings(known, given, found, figure, states)]
    return ProfileCheck(known, figure, tuple(states), tuple(findings))


@dataclass(frozen=True, eq=False)
class RoleListing:
    """Which bone of a figure fills which role, which roles of its profile it lacks, and which bones are left over.

    >>> import fairswap
    >>> fairswap.bones.show(fairswap.demo_file("pip.glb"))
    <RoleListing of 'Pip': 30 roles, bones fernway>
    """

    figure: Figure
    roles: RoleMap
    missing: tuple[str, ...]

    @property
    def other(self) -> list[str]:
        """Names of bones without a role, end markers left out."""
        used, skeleton = set(self.roles.bones.values()), self.figure.skeleton
        return [name for bone, name in enumerate(skeleton.names) if bone not in used and bone not in skeleton.ends]

    @property
    def states(self) -> list[RoleState]:
        """The state of each role, for pictures."""
        return states_of(self.roles)

    def __repr__(self) -> str:
        return f"<RoleListing of {self.figure.name!r}: {len(self.roles.bones)} roles, bones {self.roles.profile}>"


def show(what: Figure | Document | str | Path, *, bones: BoneProfile | str | Path | None = None) -> RoleListing:
    """Which bone fills which role.

    >>> import fairswap
    >>> fairswap.bones.show(fairswap.demo_file("osric.glb")).roles.profile
    'saltglass'

    Raises
    ------
    ImpossibleError
        If the bones are not known.
    """
    figure = document_of(what).figure
    profile = None if bones is None else profile_named(bones)
    roles = roles_of(figure, profile)
    known = profile or next((p for p in (*saved_profiles(), *built_in_profiles()) if p.name == roles.profile), None)
    missing = tuple(role for role in (known.roles if known else ()) if role not in roles.bones)
    return RoleListing(figure, roles, missing)


def states_of(roles: RoleMap) -> list[RoleState]:
    """The states of roles that are known already: sure ones count as matched."""
    states = [
        RoleState(
            role, MATCHED if roles.confidences.get(role, 1.0) >= 0.9 else GUESSED, bone, (), roles.confidences.get(role)
        )
        for role, bone in roles.bones.items()
    ]
    states += [RoleState(role, MISSING, None) for role in roles.missing()]
    return sorted(states, key=lambda state: role_order(state.role))


def _state(role: str, profile: BoneProfile, given: RoleMap, found: Identification, figure: Figure) -> RoleState:
    if role in given.bones:
        return RoleState(role, MATCHED, given.bones[role])
    free = [name for bone, name in enumerate(figure.skeleton.names) if bone not in given.bones.values()]
    near = [match for name in profile.roles.get(role, ()) for match in get_close_matches(name, free, 2, 0.75)]
    answer = found.answers.get(role)
    if answer is not None and answer.bone not in given.bones.values() and answer.confidence >= 0.5:
        return RoleState(role, GUESSED, answer.bone, tuple(near), answer.confidence)
    return RoleState(role, MISSING, None, tuple(near))


def _findings(
    profile: BoneProfile, given: RoleMap, found: Identification, figure: Figure, states: list[RoleState]
) -> list[Finding]:
    names, out = figure.skeleton.names, []
    if not given.bones:
        message = f"not one of its {len(profile.roles)} roles names a bone of {figure.name}"
        return [Finding("profile-foreign", "problem", profile.name, message, "Is it the profile of this family?")]
    mirrored = [
        role
        for role, bone in given.bones.items()
        if side_of(role)
        and (other := found.answers.get(mirrored_role(role)))
        and other.bone == bone
        and other.confidence > 0.9
    ]
    if mirrored:
        message = f"left and right look swapped: {', '.join(mirrored[:4])}{' …' if len(mirrored) > 4 else ''}"
        out.append(Finding("mirrored", "problem", profile.name, message, "Swap the sides, or turn the figure around"))
    elif any(side_of(role) for role in given.bones):
        out += [finding for finding in found.findings if finding.code == "sides-disagree"]
    for role, bone in given.bones.items():
        answer = found.answers.get(role)
        wrong = answer is not None and answer.bone != bone and answer.confidence > 0.95 and role not in mirrored
        if answer is not None and wrong and not role.startswith(("spine_", "neck_")):
            message = f"{role} is ‹{names[bone]}›, but looks like ‹{names[answer.bone]}› ({'; '.join(answer.reasons)})"
            out.append(Finding("role-doubtful", "warning", profile.name, message, "Look at both bones"))
    lacking = [state for state in states if state.state != MATCHED and state.role in profile.roles]
    renamed = [state for state in lacking if state.near]
    if renamed and len(renamed) <= 3:
        pairs = ", ".join(f"{s.role}: {' or '.join(profile.roles[s.role])} is perhaps ‹{s.near[0]}›" for s in renamed)
        message = f"an edition of the family that differs by {len(renamed)} name(s): {pairs}"
        out.append(Finding("edition", "note", profile.name, message, "Add the name to the role's list"))
    idle = profile.idle_patterns(names)
    if idle:
        message = f"patterns that match no bone: {', '.join(idle)}"
        out.append(Finding("pattern-idle", "note", profile.name, message, "Correct them, or take them out"))
    for state in states:
        if state.state == MISSING and state.role in MUST_HAVE:
            near = f"; near names: {', '.join(state.near)}" if state.near else ""
            message = f"{state.role} has no bone{near}"
            out.append(Finding("role-missing", "problem", profile.name, message, "Name a bone for it"))
    return out
