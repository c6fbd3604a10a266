"""The first part of a BVH file: joints, offsets, channels."""

from __future__ import annotations

from dataclasses import dataclass, field

from fairswap.errors import InputError
from fairswap.formats.limits import LARGEST_NUMBER

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
    reader = _Hierarchy()
    for number, line in enumerate(text.splitlines(), 1):
        reader.place = f"line {number}"
        rest = line.strip()
        while rest:
            rest = reader.taken(rest)
    return reader.finished()


class _Hierarchy:
    """What is read so far: the joints, which of them are open, and what is still to come."""

    def __init__(self) -> None:
        self.joints: list[Joint] = []
        self.open_joints: list[int] = []
        self.pending = False  # a joint was named, its brace is still to come
        self.started = False
        self.place = ""

    def taken(self, line: str) -> str:
        """What is left of a line after its first statement."""
        word, _, rest = line.replace("\t", " ").partition(" ")
        key, rest = word.upper(), rest.strip()
        if key[0] in "{}":
            self._brace(key[0])
            return line[1:].strip()
        if key == "HIERARCHY":
            self.started = True
        elif key in ("ROOT", "JOINT", "END"):
            self._open(key, word, rest.rstrip("{").strip())
            return "{" if rest.endswith("{") else ""
        elif key in ("OFFSET", "CHANNELS"):
            if self.pending:
                raise self._error(f"a brace is missing after {self.joints[-1].name!r}")
            joint = _current(self.joints, self.open_joints, self.place)
            if key == "OFFSET":
                joint.offset = _three_numbers(rest.split(), self.place)
            else:
                joint.channels = _channels(rest.split(), joint, self.place)
        else:
            raise self._error(f"{word[:40]!r} is not a word of this format")
        return ""

    def finished(self) -> list[Joint]:
        """The joints, once all is closed."""
        joints, open_joints = self.joints, self.open_joints
        if not self.started or not joints:
            raise InputError("it does not begin with HIERARCHY and a ROOT", place="line 1", remedy="Is it a BVH file?")
        if open_joints or self.pending:
            name = joints[open_joints[-1]].name if open_joints else joints[-1].name
            raise InputError(f"the brace of {name!r} is never closed", place="before MOTION", remedy=_AGAIN)
        return joints

    def _error(self, problem: str) -> InputError:
        return InputError(problem, place=self.place, remedy=_AGAIN)

    def _brace(self, brace: str) -> None:
        if brace == "{":
            if not self.pending:
                raise self._error("a brace opens without a joint")
            self.open_joints.append(len(self.joints) - 1)
            self.pending = False
            if len(self.open_joints) > _MOST_NESTED:
                raise self._error(f"joints are nested more than {_MOST_NESTED} deep")
        elif not self.open_joints or self.pending:
            raise self._error("a brace closes that was not opened")
        else:
            _check_complete(self.joints[self.open_joints.pop()], self.place)

    def _open(self, key: str, word: str, name: str) -> None:
        """A new joint, below the one that is open."""
        joints, open_joints = self.joints, self.open_joints
        if key == "END":
            name = name[4:].strip() if name[:4].upper() == "SITE" else name
        if self.pending:
            raise self._error(f"a brace is missing after {joints[-1].name!r}")
        if key == "ROOT" and open_joints:
            raise self._error("a root stands inside another joint")
        if key != "ROOT" and not open_joints:
            raise self._error(f"{word} {name} stands outside of any root")
        if open_joints and joints[open_joints[-1]].end:
            raise self._error("an end site has a joint below it")
        parent = open_joints[-1] if open_joints else -1
        fallback = f"{joints[parent].name}_end" if key == "END" else f"joint {len(joints)}"
        joints.append(Joint(name or fallback, parent, key == "END", bool(name)))
        self.pending = True


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
    if not all(abs(value) <= LARGEST_NUMBER for value in (x, y, z)):
        raise InputError("OFFSET is beyond any place", place=place, remedy=_AGAIN)
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
