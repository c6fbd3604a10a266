"""What is known of a figure's bones, from the surest source: a profile given, the file itself, a profile that fits, or
what is found in names and shape."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from fairswap.bones.persons import why_no_person
from fairswap.bones.profile import BoneProfile, built_in_profiles, saved_profiles
from fairswap.bones.roles import MUST_HAVE, THE_FILE_ITSELF, RoleMap
from fairswap.errors import ImpossibleError
from fairswap.formats.patterns import common_prefix
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.stand_ins import instead_of
from fairswap.wording import listed

if TYPE_CHECKING:
    from fairswap.bones.identification import Identification

# Guesses below the first are left out; --strict refuses what is below the second.
LEAST, SURE = 0.5, 0.9
# An edition of a family differs by so many must-have names at most.
_RENAMED = 3


def roles_of(
    figure: Figure,
    profile: BoneProfile | None = None,
    *,
    part: str = "figure",
    strict: bool = False,
    clip: Clip | None = None,
) -> RoleMap:
    """The roles of a figure's bones.

    By the ``profile`` given; else as the file itself says (VRM 1.0); else by the saved or built-in profile that names
    all must-have roles and most others; else found from names, tree and lengths (and a ``clip`` of the figure, where
    there is one), as far as that is at least half sure.

    ``part`` is what the figure is to the one who reads an error: ``source``, ``target``, ``figure``.

    >>> import fairswap
    >>> fairswap.bones.roles_of(fairswap.load(fairswap.demo_file("osric.glb")).figure)
    <RoleMap: 56 roles, bones saltglass>

    Raises
    ------
    ImpossibleError
        If must-have roles are missing; it names them. If it stands on four legs, unless a profile is given. With
        ``strict`` also if a guess is less than 0.9 sure.
    """
    what = f"the {part} {figure.name!r}"
    if profile is not None:
        given = named_by(profile, figure)
        if given.missing():
            problem = f"profile {profile.name!r} does not name {listed(given.missing())} of {what}"
            raise ImpossibleError(problem, code="profile-incomplete", part=part)
        return given
    known = profile_that_fits(figure)
    if known is not None:
        return _of_a_person(figure, known, what, part)
    from fairswap.bones.identification import identify  # only where no profile fits

    found = identify(figure, _named_by_an_edition(figure), clip)
    roles = found.role_map(LEAST)
    if roles.missing():
        guessed = found.role_map(0.0)
        if not guessed.missing():
            _of_a_person(figure, guessed, what, part)
        raise ImpossibleError(_why_not(found, roles, what), code="bones-unknown", part=part)
    unsure = {role: c for role, c in roles.confidences.items() if c < SURE}
    if strict and unsure:
        shown = ", ".join(f"{role} ({confidence:.2f})" for role, confidence in list(unsure.items())[:6])
        raise ImpossibleError(f"bones of {what} are guesses below {SURE}: {shown}", code="bones-unsure", part=part)
    return _of_a_person(figure, roles, what, part)


def _of_a_person(figure: Figure, roles: RoleMap, what: str, part: str) -> RoleMap:
    """The roles, if it is a person who has them; only a profile that is given makes one of an animal."""
    unlike = why_no_person(figure.skeleton, roles)
    if unlike is not None:
        raise ImpossibleError(f"{what} is not a person: {unlike}", code="no-person", part=part)
    return roles


def named_by(profile: BoneProfile, figure: Figure) -> RoleMap:
    """The roles that a profile names; where it does not name all must-have ones, by the names without what their scene
    puts before them."""
    skeleton = figure.skeleton
    roles = profile.assign(skeleton)
    prefix = common_prefix(skeleton.names)
    if prefix and roles.missing():
        bare = replace(skeleton, names=tuple(name.removeprefix(prefix) for name in skeleton.names))
        roles = max(roles, profile.assign(bare), key=lambda found: len(found.bones))
    return with_stand_ins(roles, figure)


def with_stand_ins(roles: RoleMap, figure: Figure) -> RoleMap:
    """The roles with what stands in for a bone, and does all that it does, in that bone's place."""
    instead = instead_of(figure)
    if not instead:
        return roles
    return replace(roles, bones={role: instead.get(bone, bone) for role, bone in roles.bones.items()})


def profile_that_fits(figure: Figure) -> RoleMap | None:
    """The roles as the file itself says, or by the saved or built-in profile that fits best; None if none fits."""
    if figure.known_roles and not RoleMap(figure.known_roles, "").missing():
        return RoleMap(dict(figure.known_roles), THE_FILE_ITSELF)
    candidates = [named_by(profile, figure) for profile in (*saved_profiles(), *built_in_profiles())]
    fitting = [roles for roles in candidates if not roles.missing()]
    return max(fitting, key=lambda roles: len(roles.bones)) if fitting else None


def _named_by_an_edition(figure: Figure) -> dict[str, int]:
    """The roles that a profile names which fits but for a bone or two, as another edition of its family would."""
    best: dict[str, int] = {}
    for profile in (*saved_profiles(), *built_in_profiles()):
        named = named_by(profile, figure)
        if len(named.missing()) <= _RENAMED and len(named.bones) > len(best):
            best = dict(named.bones)
    return best


def _why_not(found: Identification, roles: RoleMap, what: str) -> str:
    if not found.answers:
        return f"the bones of {what} are not known: {found.findings[0].message}"
    missing = roles.missing()
    have = len(MUST_HAVE) - len(missing)
    return f"of {what} only {have} of {len(MUST_HAVE)} must-have roles were found; missing: {listed(missing, 8)}"
