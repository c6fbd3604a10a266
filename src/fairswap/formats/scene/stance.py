"""How a file stands: a node above all that turns it up and scales it to metres, where it is not so already."""

from __future__ import annotations

import numpy as np

from fairswap.errors import InputError
from fairswap.formats.scene.building import SceneBuilder
from fairswap.model.rotation import quaternion_from_matrix
from fairswap.model.space import UNITS_M, Space, usual_forward


def stance_node(
    builder: SceneBuilder, unit: str | None, up: str | None, *, file_metres: float = 1.0, file_up: str = "+Y",
    forward: str | None = None,
) -> int | None:  # fmt: skip
    """The node above all; None if nothing is to be done.

    What the caller says of ``unit`` and ``up`` counts before what the file does.

    Raises
    ------
    InputError
        If the file's unit is none.
    """
    metres = UNITS_M[unit] if unit else file_metres
    if not 1e-6 < metres < 1e6:
        raise InputError(f"its unit is {metres:g} metres", remedy="Give its unit")
    axis = up or file_up
    stated = forward if forward and not up and forward[1] != axis[1] else usual_forward(axis)
    turn = quaternion_from_matrix(Space(axis, stated).turn)
    if abs(turn[3]) > 1 - 1e-12 and np.isclose(metres, 1.0, rtol=1e-12):
        return None
    return builder.node("", None, rotation=turn, scale=[metres] * 3)
