"""Landmarks: a small TOML file with the places of joints, found by the program and corrected by hand."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

import msgspec
import numpy as np

from fairswap.bones.roles import is_role
from fairswap.errors import InputError, UsageError
from fairswap.figures.rigging.finding import ENDS
from fairswap.formats.limits import LARGEST_NUMBER
from fairswap.formats.own import OwnFile, commented, new_file, struct_from_file
from fairswap.model.arrays import Floats

_KIND = "landmarks/1"
_MEANING = (
    "Where the joints of a mesh are, by role (docs/roles.md): x, y, z as the mesh's own file has them.",
    "Places that are here are taken as they are; take out the lines to be found anew from the shape.",
    "With mirror = true a place of the left side stands for the right side as well, where that has none.",
)


class _File(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    fairswap: str
    places: dict[str, list[float]] = {}
    mesh: str = ""
    mirror: bool = True


@dataclass(frozen=True)
class Landmarks(OwnFile):
    """Places by role ``(3,)``, in the coordinates and the unit of the mesh's file; ``remarks`` are written beside them.

    >>> import fairswap
    >>> fairswap.Landmarks("statue", {"hand_left": [0.6, 1.2, 0.0]})
    <Landmarks of 'statue': 1 places>
    """

    mesh: str
    places: Mapping[str, Floats]
    mirror: bool = True
    remarks: Mapping[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        checked = {}
        for role, at in self.places.items():
            if not is_role(role) and role not in ENDS and not _is_finger_tip(role):
                ends = ", ".join(ENDS)
                raise UsageError(f"{role!r} is not a joint", remedy=f"docs/roles.md lists the roles; ends are {ends}")
            numbers = np.asarray(at, dtype=np.float64)
            if numbers.shape != (3,) or not (np.abs(numbers) <= LARGEST_NUMBER).all():
                raise UsageError(f"the place of {role} is not three numbers", remedy="Write for example 0.62,1.31,0.02")
            checked[role] = numbers
        object.__setattr__(self, "places", checked)

    @classmethod
    def load(cls, path: str | Path) -> Landmarks:
        """Read a landmarks file.

        Raises
        ------
        InputError
            With the field that is wrong.
        """
        read, _ = struct_from_file(path, _KIND, "landmarks", _File)
        for role, at in read.places.items():
            try:
                cls("", {role: np.array(at)})
            except UsageError as error:
                raise InputError(error.problem, file=path, place=f"places.{role}", remedy=error.remedy) from None
        return cls(read.mesh, {role: np.array(at) for role, at in read.places.items()}, read.mirror)

    def text(self) -> str:
        """The file, with what it means."""
        import tomlkit

        document = new_file(_KIND, _MEANING)
        document.add("mesh", tomlkit.item(self.mesh))
        document.add("mirror", tomlkit.item(self.mirror))
        table = tomlkit.table()
        for role, at in self.places.items():
            numbers = [float(f"{x:.5g}") for x in at.tolist()]
            remark = self.remarks.get(role)
            table.add(role, numbers if remark is None else commented(numbers, remark, 38))
        document.add("places", table)
        return tomlkit.dumps(document)

    def __repr__(self) -> str:
        return f"<Landmarks of {self.mesh!r}: {len(self.places)} places>"


def _is_finger_tip(role: str) -> bool:
    finger, _, side = role.partition("_tip_")
    return finger in ("thumb", "index", "middle", "ring", "little") and side in ("left", "right")


def in_our_space(landmarks: Landmarks, to_ours: Floats) -> dict[str, Floats]:
    """The places as they are in our space, into which ``to_ours`` ``(3, 3)`` brings those of the file."""
    return {role: to_ours @ at for role, at in landmarks.places.items()}


def in_the_files_space(places: Mapping[str, Floats], to_ours: Floats) -> dict[str, Floats]:
    """Places of our space as the file has them; the way back."""
    if np.array_equal(to_ours, np.eye(3)):
        return dict(places)
    return {role: np.asarray(np.linalg.solve(to_ours, at)) for role, at in places.items()}
