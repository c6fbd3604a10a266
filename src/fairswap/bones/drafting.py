"""Write down what was found of a figure's bones: as data, and as a profile that an artist can correct by hand."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any

from fairswap.bones.identification import Identification, bones_said, identify
from fairswap.bones.roles import MUST_HAVE, part_of, role_order, side_of
from fairswap.formats.files import document_of
from fairswap.formats.outputs import Outputs
from fairswap.formats.own import commented, new_file
from fairswap.formats.patterns import common_prefix
from fairswap.model.clip import Clip
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.model.space import OURS
from fairswap.wording import counted

_TITLES = {"trunk": "Trunk and head", "face": "face", "arm": "arm", "fingers": "fingers", "leg": "leg"}


@dataclass(frozen=True, eq=False)
class BoneDraft:
    """What was found of a figure's bones, to be looked at, and written as a profile that can be corrected by hand.

    >>> import fairswap
    >>> fairswap.bones.draft(fairswap.demo_file("pip.glb"))
    <BoneDraft of 'Pip': 28 roles found>
    """

    figure: Figure
    found: Identification

    @property
    def missing(self) -> list[str]:
        """Must-have roles that no bone fills."""
        return self.found.missing

    def name_of(self, bone: int) -> str:
        """The name of a bone; of bones with equal names the path."""
        names = self.figure.skeleton.names
        return names[bone] if self._counts[names[bone]] == 1 else self.figure.skeleton.path(bone)

    @cached_property
    def _counts(self) -> Counter[str]:
        return Counter(self.figure.skeleton.names)

    def text(self, name: str) -> str:
        """A bone profile (TOML) with a comment behind every bone: how sure, and why."""
        return _profile_text(self, name)

    def save(self, path: str | Path, *, name: str = "", force: bool = False) -> str:
        """Write the profile; give its name.

        Raises
        ------
        OutputError
            If it is there already, or cannot be written.
        """
        return Outputs(force=force).write(Path(path), [self.text(name or Path(path).stem).encode()])

    def __repr__(self) -> str:
        missing = f", missing {', '.join(self.missing)}" if self.missing else ""
        return f"<BoneDraft of {self.figure.name!r}: {counted(len(self.found.answers), 'role')} found{missing}>"


def draft(
    what: Figure | Document | str | Path, *, say: Mapping[str, str] | None = None, clip: Clip | None = None
) -> BoneDraft:
    """Find out which bone is which, with reasons.

    >>> import fairswap
    >>> fairswap.bones.draft(fairswap.demo_file("pip.glb"))
    <BoneDraft of 'Pip': 28 roles found>

    Parameters
    ----------
    what : path, Document or Figure
    say : mapping of role to bone, optional
        What you know.
    clip : Clip, optional
        A clip of the figure, which helps; of a document or file the longest is taken.

    Raises
    ------
    UsageError
        If ``say`` names a role or a bone that is not there.
    """
    document = document_of(what)
    figure = document.figure
    moving = clip or max(document.clips_of(figure), key=lambda each: each.frames, default=None)
    said = bones_said(figure, say or {})
    return BoneDraft(figure, identify(figure, said, moving))


def _profile_text(drafted: BoneDraft, name: str) -> str:
    import tomlkit

    figure, found = drafted.figure, drafted.found
    prefix = common_prefix(figure.skeleton.names)

    def called(bone: int) -> str:
        return drafted.name_of(bone).removeprefix(prefix)

    document = new_file(
        "bones/2",
        [
            f"Drafted from the figure {_one_line(figure.name)!r}. Behind each bone: how sure it is (0 to 1), and why.",
            "Correct what is wrong; a role may also have a list of bones, for editions of the family.",
        ],
    )
    document.add("name", tomlkit.item(name))
    if prefix:
        document.add(tomlkit.comment("What stands before every name; in another scene it may be anything."))
        document.add("prefix", tomlkit.item([prefix, "*" + prefix[-1]]))
    if found.extra:
        document.add(tomlkit.comment("Bones that no role fits: they keep their rest."))
        document.add("extra", tomlkit.item([called(bone) for bone in found.extra]))
    if found.end:
        document.add(tomlkit.comment("Bones that only mark an end."))
        document.add("ignore", tomlkit.item([called(bone) for bone in found.end]))
    space = figure.space
    if space != OURS:
        table = tomlkit.table()
        table.update({"up": space.up, "forward": space.forward, "unit": space.unit})
        document.add("space", table)
    document.add("roles", _roles_table(found, called))
    if found.helper:
        helpers = tomlkit.table(is_super_table=True)
        for bone, (role, fraction) in found.helper.items():
            row = tomlkit.table()
            row.update({"role": role, "fraction": fraction})
            helpers.add(called(bone), row)
        document.add("helper", helpers)
    return tomlkit.dumps(document)


def _roles_table(found: Identification, called: Callable[[int], str]) -> Any:
    import tomlkit

    roles = tomlkit.table()
    part = ""
    for role in sorted(found.answers, key=role_order):
        answer = found.answers[role]
        heading = " ".join(filter(None, (side_of(role).capitalize(), _TITLES[_section(role)])))
        if heading != part:
            part = heading
            roles.add(tomlkit.comment(heading))
        sure = "" if answer.confidence >= 0.9 else "PLEASE LOOK: " if answer.confidence < 0.5 else "a guess: "
        rival = f"; or ‹{called(answer.other)}›" if answer.other is not None else ""
        why = _one_line(f"{sure}{answer.confidence:.2f} {'; '.join(answer.reasons)}{rival}")
        roles.add(role, commented(called(answer.bone), why, 55 - len(role)))
    for role in MUST_HAVE:
        if role not in found.answers:
            roles.add(tomlkit.comment(f'{role} = ""  # must have, not found'))
    return roles


def _one_line(text: str) -> str:
    """A text without what would end a comment."""
    return "".join(letter if letter.isprintable() else " " for letter in text)


def _section(role: str) -> str:
    part = part_of(role)
    if role.startswith(("shoulder_", "hand_")) or part == "arms":
        return "arm"
    return {"legs": "leg", "feet": "leg", "hands": "fingers"}.get(part, part)
