"""Up, forward and unit: the space a file is in, and the way from there into ours and back.

Ours is metres, right-handed, +Y up; the figure faces +Z and its left is +X (as glTF 2.0 and VRM 1.0).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fairswap.errors import UsageError
from fairswap.model.arrays import Floats

UNITS_M = {"m": 1.0, "dm": 0.1, "cm": 0.01, "mm": 0.001, "in": 0.0254, "ft": 0.3048, "hm": 100.0}
_DIRECTIONS = {f"{sign}{'XYZ'[i]}": (i, 1.0 if sign == "+" else -1.0) for i in range(3) for sign in "+-"}


@dataclass(frozen=True)
class Space:
    """Directions are ``"+X"`` to ``"-Z"``; ``unit`` is one of ``m dm cm mm in ft hm``. The last, a
    hundred metres, is that of specks: figures that were scaled from centimetres to metres twice.

    >>> import fairswap
    >>> fairswap.Space("+Z", "-Y", "cm")
    Space(up='+Z', forward='-Y', unit='cm')
    """

    up: str = "+Y"
    forward: str = "+Z"
    unit: str = "m"

    def __post_init__(self) -> None:
        for name, value in (("up", self.up), ("forward", self.forward)):
            if value not in _DIRECTIONS:
                raise UsageError(f"{name} is {value!r}", remedy="Give one of +X -X +Y -Y +Z -Z")
        if _DIRECTIONS[self.up][0] == _DIRECTIONS[self.forward][0]:
            raise UsageError(
                f"up {self.up} and forward {self.forward} lie on one axis", remedy="Give two of different axes"
            )
        if self.unit not in UNITS_M:
            raise UsageError(f"unit is {self.unit!r}", remedy=f"Give one of {' '.join(UNITS_M)}")

    @property
    def metres(self) -> float:
        """How many metres one unit is."""
        return UNITS_M[self.unit]

    @property
    def turn(self) -> Floats:
        """The rotation matrix ``(3, 3)`` that takes directions of this space into ours."""
        up, forward = direction(self.up), direction(self.forward)
        return np.stack([np.cross(up, forward), up, forward])

    def __str__(self) -> str:
        return f"{self.up} up, facing {self.forward}, {self.unit}"


OURS = Space()


def _axis(*components: float) -> Floats:
    axis = np.array(components)
    axis.setflags(write=False)
    return axis


# The axes of our space, read-only, as unit vectors.
LEFT, UP, AHEAD = _axis(1.0, 0.0, 0.0), _axis(0.0, 1.0, 0.0), _axis(0.0, 0.0, 1.0)


def direction(name: str) -> Floats:
    """The unit vector of ``"+X"`` … ``"-Z"``."""
    index, sign = _DIRECTIONS[name]
    vector = np.zeros(3)
    vector[index] = sign
    return vector


def usual_forward(up: str) -> str:
    """Where figures look in a space of which only the up axis is known.

    >>> usual_forward("+Y"), usual_forward("+Z")
    ('+Z', '-Y')
    """
    return {"+Z": "-Y", "-Z": "+Y"}.get(up, "+Z")


def nearest_direction(vector: Floats) -> str:
    """The name of the axis direction that ``vector`` points along most nearly."""
    index = int(np.argmax(np.abs(vector)))
    return ("+" if vector[index] >= 0 else "-") + "XYZ"[index]
