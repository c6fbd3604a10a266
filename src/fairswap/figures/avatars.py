"""What is said of a figure as an avatar: who made it and what may be done with it, and which of its bones swing.

Nothing of the terms is made up: what is not said has the standard's own default, which allows the least.
"""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Literal

import msgspec

from fairswap.bones.assignment import roles_of
from fairswap.bones.profile import BoneProfile
from fairswap.bones.roles import RoleMap
from fairswap.errors import Finding, InputError
from fairswap.formats.images import opened_image
from fairswap.formats.own import file_beside, struct_from_file
from fairswap.formats.storage import read_bytes
from fairswap.model.avatar import Avatar, Swinging
from fairswap.model.document import Document
from fairswap.model.figure import Figure

# The licence document of the standard (VRM 1.0, meta: licenseUrl).
LICENCE = "https://vrm.dev/licenses/1.0/"


class _File(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The terms by their names in the standard, written with lines: ``avatar_permission`` is ``avatarPermission``."""

    fairswap: str
    name: str
    authors: list[str]
    license_url: str = LICENCE
    version: str = ""
    copyright_information: str = ""
    contact_information: str = ""
    references: list[str] = []
    third_party_licenses: str = ""
    avatar_permission: Literal["onlyAuthor", "onlySeparatelyLicensedPerson", "everyone"] = "onlyAuthor"
    allow_excessively_violent_usage: bool = False
    allow_excessively_sexual_usage: bool = False
    commercial_usage: Literal["personalNonProfit", "personalProfit", "corporation"] = "personalNonProfit"
    allow_political_or_religious_usage: bool = False
    allow_antisocial_or_hate_usage: bool = False
    credit_notation: Literal["required", "unnecessary"] = "required"
    allow_redistribution: bool = False
    modification: Literal["prohibited", "allowModification", "allowModificationRedistribution"] = "prohibited"
    other_license_url: str = ""
    thumbnail: str = ""


def with_meta(figure: Figure, file: str | Path) -> Figure:
    """The figure with the terms that a file of ours gives it (``fairswap = "meta/1"``).

    Raises
    ------
    InputError
        If the file is not such a one, or says nothing of name and authors.
    """
    path = Path(file)
    said, _ = struct_from_file(path, "meta/1", "what is said of an avatar", _File)
    if not said.name.strip() or not any(author.strip() for author in said.authors):
        raise InputError("it gives no name, or no author", file=path, remedy="Give both")
    picture = None
    if said.thumbnail:
        picture = read_bytes(file_beside(path, said.thumbnail, "thumbnail"))
        with opened_image(picture, "thumbnail"):
            pass  # no picture is an error here, and not for whoever opens the avatar
    asked = {"name", "authors", "license_url"}
    defaults = msgspec.structs.asdict(_File("", said.name, said.authors))
    rows = msgspec.structs.asdict(said)
    del rows["fairswap"], rows["thumbnail"]
    meta = {_camel(key): value for key, value in rows.items() if key in asked or value != defaults[key]}
    old = figure.avatar or Avatar()
    return replace(figure, avatar=replace(old, edition="1.0", meta=meta, thumbnail=picture or old.thumbnail))


def _camel(name: str) -> str:
    first, *others = name.split("_")
    return first + "".join(word.title() for word in others)


# How bones swing that nobody said anything about: springy, without weight, slowed down by the air (VRM 1.0's own
# numbers but for the drag, which there lets hair swing on for long).
_STIFFNESS, _GRAVITY, _DRAG, _RADIUS_M = 1.0, 0.0, 0.4, 0.02


def as_said(document: Document, bones: BoneProfile | None, meta: str | Path | None, springs: bool) -> Document:
    """The document with what the user says of its main figure as an avatar.

    Raises
    ------
    InputError
        If the file of terms is not such a one.
    """
    if meta is None and not springs:
        return document
    old = document.figure
    figure = old if meta is None else with_meta(old, meta)
    findings = document.findings
    if springs:
        figure, rows = with_springs(figure, roles_of(figure, bones))
        named = ", ".join(rows[:6]) + (" …" if len(rows) > 6 else "")
        message = f"{len(rows)} rows of bones swing now: {named}" if rows else "it has no extra bones that could swing"
        findings = (*findings, Finding("springs-made", "note", figure.name, message))
    figures = tuple(figure if one is old else one for one in document.figures)
    return replace(document, figures=figures, findings=findings)


def with_springs(figure: Figure, roles: RoleMap) -> tuple[Figure, tuple[str, ...]]:
    """The figure with its extra bones (skirts, tails, hair) as rows that swing; and the first bone of each row.

    What swings already stays as it is. A row ends where it forks: each branch is a row of its own.
    """
    avatar = figure.avatar or Avatar()
    skeleton = figure.skeleton
    swings = {bone for row in avatar.swinging for bone, _ in row.joints}
    used = {*roles.bones.values(), *roles.helpers} | swings
    held = {bone for role in roles.bones.values() for bone in skeleton.with_ancestors([role])}
    free = [bone not in used and bone not in held for bone in range(len(skeleton))]
    words = {"hitRadius": _RADIUS_M, "stiffness": _STIFFNESS, "gravityPower": _GRAVITY, "gravityDir": [0.0, -1.0, 0.0],
             "dragForce": _DRAG}  # fmt: skip
    rows = []
    for bone, parent in enumerate(skeleton.parents.tolist()):
        siblings = [one for one in skeleton.children[parent] if free[one]] if parent >= 0 else []
        if not free[bone] or (parent >= 0 and free[parent] and len(siblings) == 1):
            continue
        row = [bone]
        while len(after := [one for one in skeleton.children[row[-1]] if free[one]]) == 1:
            row += after
        if len(row) > 1:
            rows.append(Swinging(skeleton.names[bone], tuple((one, words) for one in row)))
    made = replace(avatar, swinging=(*avatar.swinging, *rows))
    return replace(figure, avatar=made), tuple(row.name for row in rows)
