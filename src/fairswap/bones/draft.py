"""Write down what was found of a figure's bones: as data, and as a profile that an artist can correct by hand."""

from __future__ import annotations

import json
from typing import Any

from fairswap.bones.identify import Identification
from fairswap.bones.roles import MUST_HAVE, part_of, role_order, side_of
from fairswap.figure import Figure
from fairswap.space import OURS

_TITLES = {"trunk": "Trunk and head", "face": "face", "arm": "arm", "fingers": "fingers", "leg": "leg"}


def draft_as_data(figure: Figure, found: Identification) -> dict[str, Any]:
    """Roles with bone, confidence and reasons; extra, helper and end bones; what is missing; copies; findings."""
    name = _namer(figure)
    return {
        "figure": figure.name,
        "roles": {
            role: {
                "bone": name(answer.bone),
                "confidence": answer.confidence,
                "reasons": list(answer.reasons),
                **({"or": name(answer.other)} if answer.other is not None else {}),
            }
            for role, answer in found.answers.items()
        },
        "extra": [name(bone) for bone in found.extra],
        "helper": {name(bone): {"role": role, "share": share} for bone, (role, share) in found.helper.items()},
        "end": [name(bone) for bone in found.end],
        "missing": found.missing,
        "duplicates": [{"bone": name(bone), "copy_of": name(other)} for bone, other in found.duplicates],
        "findings": [finding.as_dict() for finding in found.findings],
    }


def profile_text(figure: Figure, found: Identification, name: str) -> str:
    """A bone profile (TOML) with a comment behind every bone: how sure, and why."""
    whole, prefix = _namer(figure), _common_prefix(figure.skeleton.names)
    space = figure.space

    def called(bone: int) -> str:
        return str(whole(bone)).removeprefix(prefix)

    lines = [
        'fairswap = "bones/1"',
        f"# Drafted from the figure {figure.name!r}. Behind each bone: how sure it is (0 to 1), and why.",
        "# Correct what is wrong; a role may also have a list of bones, for editions of the family.",
        f"name = {_quoted(name)}",
    ]
    if prefix:
        lines += [
            "# What stands before every name; in another scene it may be anything.",
            f"prefix = {_list([prefix, '*' + prefix[-1]])}",
        ]
    if found.extra:
        lines += ["# Bones that no role fits: they keep their rest.", f"extra = {_list(map(called, found.extra))}"]
    if found.end:
        lines += ["# Bones that only mark an end.", f"ignore = {_list(map(called, found.end))}"]
    if space != OURS:
        lines += ["", "[space]", f'up = "{space.up}"', f'forward = "{space.forward}"', f'unit = "{space.unit}"']
    lines += ["", "[roles]"]
    part = ""
    for role in sorted(found.answers, key=role_order):
        answer = found.answers[role]
        heading = " ".join(filter(None, (side_of(role).capitalize(), _TITLES[_section(role)])))
        if heading != part:
            part = heading
            lines.append(f"# {heading}")
        entry = f"{role} = {_quoted(called(answer.bone))}"
        sure = "" if answer.confidence >= 0.9 else " PLEASE LOOK:" if answer.confidence < 0.5 else " a guess:"
        rival = f"; or ‹{called(answer.other)}›" if answer.other is not None else ""
        lines.append(f"{entry:58} #{sure} {answer.confidence:.2f} {'; '.join(answer.reasons)}{rival}")
    missing = [role for role in MUST_HAVE if role not in found.answers]
    lines += [f'# {role} = ""  # must have, not found' for role in missing]
    for bone, (role, share) in found.helper.items():
        lines += ["", f"[helper.{_quoted(called(bone))}]", f'role = "{role}"', f"share = {share}"]
    return "\n".join(lines) + "\n"


def _common_prefix(names: tuple[str, ...]) -> str:
    """What a scene puts before every name: ``"rig:"``; nothing if one name lacks it."""
    for mark in ":|":
        prefix = names[0].partition(mark)[0] + mark
        if all(name.startswith(prefix) and len(name) > len(prefix) for name in names):
            return prefix
    return ""


def _section(role: str) -> str:
    part = part_of(role)
    if role.startswith(("shoulder_", "hand_")) or part == "arms":
        return "arm"
    return {"legs": "leg", "feet": "leg", "hands": "fingers"}.get(part, part)


def _namer(figure: Figure) -> Any:
    """The name of a bone; of bones with equal names the path."""
    names = figure.skeleton.names
    seen: dict[str, int] = {}
    for name in names:
        seen[name] = seen.get(name, 0) + 1
    return lambda bone: names[bone] if seen[names[bone]] == 1 else figure.skeleton.path(bone)


def _quoted(text: str) -> str:
    # A TOML basic string is a JSON string, but for one letter that JSON leaves as it is.
    return json.dumps(text, ensure_ascii=False).replace("\x7f", "\\u007f")


def _list(names: Any) -> str:
    return "[" + ", ".join(_quoted(name) for name in names) + "]"
