"""The first part of a BVH file: joints, offsets, channels."""

from __future__ import annotations

from dataclasses import dataclass, field

from fairswap.errors import InputError

_MOST_NESTED = 1000
_AGAIN = "Export the clip again"


@dataclass
class Joint:
    """One joint as it stands in the file. ``channels`` are pairs of kind (P, R) and axis (X, Y, Z)."""

    name: str
    parent: int
    end: bool = False
    named: bool = True
    offset: tuple[float, float, float] | None = None
    channels: list[tuple[str, str]] = field(default_factory=list)


def parse_hierarchy(text: str) -> list[Joint]:
    """Joints in file order, parents first.

    Raises
    ------
    InputError
        With the line, for anything that is not a hierarchy.
    """
    joints: list[Joint] = []
    open_joints: list[int] = []
    pending = False  # a joint was named, its brace is still to come
    started = False
    for number, raw_line in enumerate(text.splitlines(), 1):
        line = raw_line.strip()
        place = f"line {number}"
        while line:
            word, _, rest = line.partition(" ") if "\t" not in line else line.replace("\t", " ").partition(" ")
            key, rest = word.upper(), rest.strip()
            if key[0] in "{}":
                line = line[1:].strip()
                if key[0] == "{":
                    if not pending:
                        raise InputError("a brace opens without a joint", place=place, remedy=_AGAIN)
                    open_joints.append(len(joints) - 1)
                    pending = False
                    if len(open_joints) > _MOST_NESTED:
                        raise InputError(f"joints are nested more than {_MOST_NESTED} deep", place=place, remedy=_AGAIN)
                elif not open_joints or pending:
                    raise InputError("a brace closes that was not opened", place=place, remedy=_AGAIN)
                else:
                    _check_complete(joints[open_joints.pop()], place)
                continue
            if key == "HIERARCHY":
                started = True
            elif key in ("ROOT", "JOINT", "END"):
                opens = rest.endswith("{")
                name = rest.rstrip("{").strip()
                if key == "END":
                    name = name[4:].strip() if name[:4].upper() == "SITE" else name
                if pending:
                    raise InputError(f"a brace is missing after {joints[-1].name!r}", place=place, remedy=_AGAIN)
                if key == "ROOT" and open_joints:
                    raise InputError("a root stands inside another joint", place=place, remedy=_AGAIN)
                if key != "ROOT" and not open_joints:
                    raise InputError(f"{word} {name} stands outside of any root", place=place, remedy=_AGAIN)
                if open_joints and joints[open_joints[-1]].end:
                    raise InputError("an end site has a joint below it", place=place, remedy=_AGAIN)
                parent = open_joints[-1] if open_joints else -1
                named = bool(name)
                if not named:
                    name = f"{joints[parent].name}_end" if key == "END" else f"joint {len(joints)}"
                joints.append(Joint(name, parent, key == "END", named))
                pending = True
                line = "{" if opens else ""
                continue
            elif key in ("OFFSET", "CHANNELS") and pending:
                raise InputError(f"a brace is missing after {joints[-1].name!r}", place=place, remedy=_AGAIN)
            elif key == "OFFSET":
                joint = _current(joints, open_joints, place)
                joint.offset = _three_numbers(rest.split(), place)
            elif key == "CHANNELS":
                joint = _current(joints, open_joints, place)
                joint.channels = _channels(rest.split(), joint, place)
            else:
                raise InputError(f"{word[:40]!r} is not a word of this format", place=place, remedy=_AGAIN)
            break
    if not started or not joints:
        raise InputError("it does not begin with HIERARCHY and a ROOT", place="line 1", remedy="Is it a BVH file?")
    if open_joints or pending:
        name = joints[open_joints[-1]].name if open_joints else joints[-1].name
        raise InputError(f"the brace of {name!r} is never closed", place="before MOTION", remedy=_AGAIN)
    return joints


def _current(joints: list[Joint], open_joints: list[int], place: str) -> Joint:
    if not open_joints:
        raise InputError("it stands outside of any joint", place=place, remedy=_AGAIN)
    return joints[open_joints[-1]]


def _check_complete(joint: Joint, place: str) -> None:
    if joint.offset is None:
        raise InputError(f"{joint.name!r} has no OFFSET", place=place, remedy=_AGAIN)


def _three_numbers(words: list[str], place: str) -> tuple[float, float, float]:
    try:
        x, y, z = map(float, words)
    except ValueError:
        raise InputError(
            f"OFFSET wants three numbers, not {' '.join(words)[:60]!r}", place=place, remedy=_AGAIN
        ) from None
    if not all(abs(value) < 1e12 for value in (x, y, z)):
        raise InputError("OFFSET is not a finite number", place=place, remedy=_AGAIN)
    return x, y, z


def _channels(words: list[str], joint: Joint, place: str) -> list[tuple[str, str]]:
    if joint.channels or joint.end:
        problem = "an end site has channels" if joint.end else "its channels are given twice"
        raise InputError(problem, place=place, remedy=_AGAIN)
    try:
        count = int(words[0])
    except (ValueError, IndexError):
        raise InputError("CHANNELS wants a count first", place=place, remedy=_AGAIN) from None
    names = [word.lower() for word in words[1:]]
    if count != len(names) or count > 6:
        raise InputError(f"{words[0]} channels are declared, {len(names)} are named", place=place, remedy=_AGAIN)
    channels = []
    for word, name in zip(words[1:], names, strict=True):
        if name[1:] not in ("position", "rotation") or name[0] not in "xyz":
            raise InputError(f"{word[:40]!r} is not a channel", place=place, remedy=_AGAIN)
        channels.append(("P" if name[1:] == "position" else "R", name[0].upper()))
    if len(set(channels)) < len([c for c in channels if c[0] == "P"]) + len({c for c in channels if c[0] == "R"}):
        raise InputError("a position channel is named twice", place=place, remedy=_AGAIN)
    return channels
