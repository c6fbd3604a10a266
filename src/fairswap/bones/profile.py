"""Bone profiles: TOML files that say which bone of an ecosystem fills which role."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cache
from pathlib import Path
from typing import Annotated, Any

import msgspec

from fairswap.bones.roles import RoleMap, is_role, role_order
from fairswap.errors import Finding, InputError, UsageError
from fairswap.formats.own import renamed, struct_from_text, text_of_file
from fairswap.formats.patterns import fits_any, glob_end
from fairswap.formats.saved import saved_files
from fairswap.model.skeleton import Skeleton
from fairswap.model.space import OURS, Space

_FOLDER = Path(__file__).parent.parent / "data" / "profiles"


class _Space(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    up: str = "+Y"
    forward: str = "+Z"
    unit: str = "m"


class _Helper(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    role: str
    fraction: Annotated[float, msgspec.Meta(ge=0.0, le=1.0)] = 0.5


class _File(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    fairswap: str
    name: str
    roles: dict[str, str | list[str]]
    title: str = ""
    rest_pose: str = ""
    prefix: str | list[str] = []
    ignore: list[str] = []
    extra: list[str] = []
    helper: dict[str, _Helper] = {}
    space: _Space = _Space()


@dataclass(frozen=True)
class BoneProfile:
    """The roles of one ecosystem's bones.

    >>> import fairswap
    >>> fairswap.bones.named("fernway").roles["head"]
    ('noggin',)

    Attributes
    ----------
    name, title : str
    roles : mapping of role to tuple of bone names
        Several names are editions of a family: the first that is there counts. A name with ``/`` is the end of a path.
    prefixes : tuple of str
        What may stand before every bone's name; ``*`` stands for anything.
    ignore : tuple of str
        Bones to leave out of account, ``*`` for anything.
    extras : tuple of str
        Bones that are known to have no role.
    helpers : mapping of bone name to (role, fraction)
        Bones that share the twist of the bone of a role, that far along it.
    space : Space
        What the ecosystem stores bones in, for reports.
    findings : tuple of Finding
        What is worth telling about its file.
    """

    name: str
    roles: Mapping[str, tuple[str, ...]]
    title: str = ""
    rest_pose: str = ""
    prefixes: tuple[str, ...] = ()
    ignore: tuple[str, ...] = ()
    extras: tuple[str, ...] = ()
    helpers: Mapping[str, tuple[str, float]] = field(default_factory=dict)
    space: Space = OURS
    findings: tuple[Finding, ...] = ()

    def __repr__(self) -> str:
        return f"<BoneProfile {self.name!r}: {len(self.roles)} roles>"

    @classmethod
    def load(cls, path: str | Path) -> BoneProfile:
        """Read a profile file.

        Raises
        ------
        InputError
            With the field that is wrong.
        """
        return _profile_from_text(text_of_file(path), str(path))

    def accounts_for(self, name: str) -> bool:
        """Whether a bone without a role is one that the profile knows of."""
        bare = self._with_and_without_prefix(name)
        return bool(bare & {*self.extras, *self.helpers}) or any(
            fits(glob, other) for glob in self.ignore for other in bare
        )

    def idle_patterns(self, names: Sequence[str]) -> list[str]:
        """The ``prefix`` and ``ignore`` patterns that match none of the names, each with the field it stands in."""
        bare = {other for name in names for other in self._with_and_without_prefix(name)}
        idle = [f"prefix {glob!r}" for glob in self.prefixes if not any(fits(glob, name) for name in names)]
        return idle + [f"ignore {glob!r}" for glob in self.ignore if not any(fits(glob, other) for other in bare)]

    def _with_and_without_prefix(self, name: str) -> set[str]:
        ends = [end for glob in self.prefixes if (end := glob_end(glob, name)) is not None]
        return {name, *(name[end:] for end in ends)}

    def _without_prefix(self, name: str) -> str:
        for glob in self.prefixes:
            end = glob_end(glob, name)
            if end is not None:
                return name[end:]
        return name

    def assign(self, skeleton: Skeleton) -> RoleMap:
        """The roles that bones of ``skeleton`` fill by this profile. Each bone fills one role at most."""
        by_name: dict[str, int] = {}
        for bone, full in enumerate(skeleton.names):
            name = self._without_prefix(full) if self.prefixes else full
            if self.ignore and fits_any(self.ignore, name):
                continue
            by_name.setdefault(name, bone)
            by_name.setdefault(full, bone)
        found: dict[str, int] = {}
        for role, names in self.roles.items():
            filling = next((by_name[name] for name in names if name in by_name), None)
            if filling is None:
                filling = next((_by_path(skeleton, name) for name in names if "/" in name), None)
            if filling is not None and filling not in found.values():
                found[role] = filling
        helpers = {by_name[name]: row for name, row in self.helpers.items() if name in by_name and row[0] in found}
        return RoleMap(_renumbered(found), self.name, helpers=helpers)


def fits(glob: str, name: str) -> bool:
    """Whether a name begins as a pattern says; ``*`` stands for anything."""
    return glob_end(glob, name) is not None


def built_in_profiles() -> tuple[BoneProfile, ...]:
    """The profiles of our own stages and of open standards, in the order of their names.

    >>> import fairswap
    >>> [profile.name for profile in fairswap.bones.profiles()]
    ['fernway', 'h-anim', 'quillmoor', 'saltglass', 'vrm-1']
    """
    return tuple(_built_in(path) for path in sorted(_FOLDER.glob("*.toml")))


def saved_profiles() -> tuple[BoneProfile, ...]:
    """The profiles that the user saved by family name; one that cannot be read is left out.

    >>> import fairswap
    >>> all(isinstance(profile, fairswap.BoneProfile) for profile in fairswap.bones.saved())
    True
    """
    return tuple(row for row in _saved() if isinstance(row, BoneProfile))


def broken_profiles() -> list[Finding]:
    """The saved profiles that cannot be read, and why."""
    return [
        Finding("profile-broken", "warning", str(row.file), f"this saved profile is left out: {row.problem}")
        for row in _saved()
        if isinstance(row, InputError)
    ]


def _saved() -> list[BoneProfile | InputError]:
    return saved_files("bones", BoneProfile.load)


def profile_named(name: str | Path | BoneProfile) -> BoneProfile:
    """A saved or built-in profile by its name, or one from a file.

    >>> profile_named("fernway").title
    'Fernway, the pocket stage'

    Raises
    ------
    InputError
        If there is none.
    """
    if isinstance(name, BoneProfile):
        return name
    path = Path(name)
    if path.suffix == ".toml" and path.exists():
        return BoneProfile.load(path)
    for profile in (*saved_profiles(), *built_in_profiles()):
        if profile.name == str(name):
            return profile
    if not path.is_file():
        known = ", ".join(profile.name for profile in (*saved_profiles(), *built_in_profiles()))
        raise InputError("there is no such profile", file=name, remedy=f"Give a file, or one of {known}")
    return BoneProfile.load(path)


@cache
def _built_in(path: Path) -> BoneProfile:
    return _profile_from_text(path.read_text(encoding="utf-8"), path.name)


def _profile_from_text(text: str, file: str) -> BoneProfile:
    read, findings = struct_from_text(text, file, "bones/2", "a bone profile", _File, {"bones/1": _from_first_edition})
    taken: dict[str, str] = {}
    roles: dict[str, tuple[str, ...]] = {}
    for role, names in read.roles.items():
        if not is_role(role):
            raise InputError(f"{role!r} is not a role", file=file, place=f"roles.{role}", remedy="See docs/roles.md")
        roles[role] = (names,) if isinstance(names, str) else tuple(names)
        for name in roles[role]:
            if taken.setdefault(name, role) != role:
                problem = f"bone {name!r} has two roles, {taken[name]} and {role}"
                raise InputError(problem, file=file, place=f"roles.{role}", remedy="Take one of them out")
    for name, helper in read.helper.items():
        if not is_role(helper.role):
            place = f"helper.{name}"
            raise InputError(f"{helper.role!r} is not a role", file=file, place=place, remedy="See docs/roles.md")
    helpers = {name: (helper.role, helper.fraction) for name, helper in read.helper.items()}
    prefixes = (read.prefix,) if isinstance(read.prefix, str) else tuple(read.prefix)
    try:
        space = Space(read.space.up, read.space.forward, read.space.unit)
    except UsageError as error:
        raise InputError(error.problem, file=file, place="space", remedy=error.remedy) from None
    return BoneProfile(
        read.name,
        roles,
        read.title,
        read.rest_pose,
        prefixes,
        tuple(read.ignore),
        tuple(read.extra),
        helpers,
        space,
        tuple(findings),
    )


def _from_first_edition(raw: dict[str, Any]) -> dict[str, Any]:
    helpers = raw.get("helper")
    if isinstance(helpers, dict):
        rows = {
            name: renamed(row, {"share": "fraction"}) if isinstance(row, dict) else row for name, row in helpers.items()
        }
        raw = raw | {"helper": rows}
    return raw


def _renumbered(found: dict[str, int]) -> dict[str, int]:
    """Spine and neck counted from 1 without gaps, when a figure has only some of a profile's."""
    out = {role: bone for role, bone in found.items() if not role.startswith(("spine_", "neck_"))}
    for kind in ("spine", "neck"):
        chain = sorted((role for role in found if role.startswith(f"{kind}_")), key=role_order)
        out |= {f"{kind}_{i + 1}": found[role] for i, role in enumerate(chain)}
    return {role: out[role] for role in sorted(out, key=role_order)}


def _by_path(skeleton: Skeleton, name: str) -> int | None:
    for bone in range(len(skeleton)):
        if skeleton.path(bone).endswith(name):
            return bone
    return None
