"""Poses kept in small TOML files, by role: how far each joint is turned away from the neutral T.

A turn is a line about which to turn and how far, written as three numbers, degrees about the figure's left, up and
ahead (a rotation vector); it is seen from the parent in the T, so that a lifted arm carries its hand along. Roles that
a file does not name stay as they are. So a file can hold a whole pose, or the hands alone.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

import msgspec
import numpy as np

from fairswap.bones.roles import is_role, role_order
from fairswap.errors import InputError
from fairswap.formats.own import OwnFile, new_file, struct_from_file
from fairswap.model.arrays import Floats
from fairswap.model.rotation import quaternion_from_axis_angle, rotation_vector

_MEANING = (
    "How far each joint is turned away from the neutral T (arms level, palms down, legs straight): degrees",
    "about the figure's left, up and ahead; seen from its parent. Roles that are not named stay as they are.",
    "Lowered by 45 degrees, the left arm has [0.0, 0.0, -45.0], the right one [0.0, 0.0, 45.0].",
)
# Turns smaller than this are no part of a pose.
_NOTHING_DEGREES = 0.05


class _File(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    fairswap: str
    turns: dict[str, list[float]]
    name: str = ""


@dataclass(frozen=True)
class SavedPose(OwnFile):
    """A pose by role: ``turns`` are rotation vectors ``(3,)`` in degrees, about left, up and ahead.

    >>> import fairswap
    >>> fairswap.pose.save(fairswap.demo_file("pip.glb"))
    <SavedPose 'Pip': 16 joints turned away from the T>
    """

    name: str
    turns: Mapping[str, Floats]

    def rotations(self) -> dict[str, Floats]:
        """The turns as quaternions ``(4,)``, by role."""
        return {role: quaternion_from_turn(vector) for role, vector in self.turns.items()}

    @classmethod
    def from_rotations(cls, name: str, rotations: Mapping[str, Floats]) -> SavedPose:
        """From the turns of joints as quaternions; those that hardly turn are left out."""
        vectors = {role: np.degrees(rotation_vector(q)) for role, q in rotations.items()}
        kept = {role: v for role, v in vectors.items() if np.linalg.norm(v) > _NOTHING_DEGREES}
        return cls(name, {role: kept[role] for role in sorted(kept, key=role_order)})

    @classmethod
    def load(cls, path: str | Path) -> SavedPose:
        """Read a pose file.

        Raises
        ------
        InputError
            With the field that is wrong.
        """
        read, _ = struct_from_file(path, "pose/1", "a pose", _File)
        for role, turn in read.turns.items():
            place = f"turns.{role}"
            if not is_role(role):
                raise InputError(f"{role!r} is not a role", file=path, place=place, remedy="See docs/roles.md")
            if len(turn) != 3 or not np.isfinite(turn).all():
                problem = f"a turn is three numbers, degrees about left, up and ahead, not {turn}"
                raise InputError(problem, file=path, place=place, remedy="Write for example [0.0, 0.0, -45.0]")
        return cls(read.name or Path(path).stem, {role: np.array(turn) for role, turn in read.turns.items()})

    def text(self) -> str:
        """The file, with what it means."""
        import tomlkit

        document = new_file("pose/1")
        document.add("name", tomlkit.item(self.name))
        document.add(tomlkit.nl())
        for line in _MEANING:
            document.add(tomlkit.comment(line))
        turns = tomlkit.table()
        for role, vector in self.turns.items():
            turns.add(role, [round(x, 4) for x in vector.tolist()])
        document.add("turns", turns)
        return tomlkit.dumps(document)

    def __repr__(self) -> str:
        return f"<SavedPose {self.name!r}: {len(self.turns)} joints turned away from the T>"


def quaternion_from_turn(vector: Floats) -> Floats:
    """The rotation of a rotation vector ``(3,)`` in degrees."""
    degrees = float(np.linalg.norm(vector))
    return quaternion_from_axis_angle(vector if degrees > 0 else np.array([1.0, 0.0, 0.0]), np.radians(degrees))
