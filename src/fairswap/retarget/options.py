"""How a motion is transferred, beyond its rotations: each means on its own switch."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from fairswap.errors import UsageError
from fairswap.retarget.layers import Layers, layers_named

TRAVELS, FEET, HANDS = ("hips", "root", "none"), ("planted", "free"), ("meet", "free")


@dataclass(frozen=True)
class MotionOptions:
    """The switches of a transfer.

    >>> import fairswap
    >>> free = fairswap.MotionOptions(feet="free", hands="free")
    >>> free.feet, free.travel
    ('free', 'hips')

    Attributes
    ----------
    travel : str
        ``hips``: ground travel stays on the hips; ``root``: it goes to the root bone; ``none``: it is taken
        out, so that a cycle stays on the spot.
    scale_travel : float or None
        By what travel is multiplied; without, the ratio of the leg lengths.
    root_turns : bool
        With ``travel="root"``: whether the root takes the heading of the hips, too.
    feet : str
        ``planted``: feet that stand on the source stand still on the target; ``free``: as transferred.
    hands : str
        ``meet``: hands that touch each other, the body or an object do so on the target; ``free``: as transferred.
    reach : float
        How much a touch counts against the posture, 0..1.
    object : str or None
        The bone of the source's file that marks an object which hands may touch.
    clear : bool or None
        Whether limbs that would pass through the body or each other are kept apart; without, a conversion does so where
        the result is more like its source for it.
    sway : sequence of str
        Extra bones of the target that swing, by their names (``skirt*``; ``*`` means all); without, they rest.
    layers : sequence of Layers or files
        Corrections to put on, in order; see :mod:`fairswap.retarget.layers`.

    Raises
    ------
    UsageError
        For a value that is none of these.
    """

    travel: str = "hips"
    scale_travel: float | None = None
    root_turns: bool = False
    feet: str = "planted"
    hands: str = "meet"
    reach: float = 1.0
    object: str | None = None
    clear: bool | None = None
    sway: Sequence[str] = ()
    layers: Sequence[Layers | str | Path] = ()

    def __post_init__(self) -> None:
        for name, value, known in (
            ("travel", self.travel, TRAVELS),
            ("feet", self.feet, FEET),
            ("hands", self.hands, HANDS),
        ):
            if value not in known:
                raise UsageError(f"{name} is {value!r}", remedy=f"Give one of {', '.join(known)}")
        if self.scale_travel is not None and not 0.0 <= self.scale_travel < 1e4:
            raise UsageError(f"scale_travel is {self.scale_travel}", remedy="Give a factor, 1 for unchanged")
        object.__setattr__(self, "sway", (self.sway,) if isinstance(self.sway, str) else tuple(self.sway))
        given = (self.layers,) if isinstance(self.layers, str | Path | Layers) else self.layers
        object.__setattr__(self, "layers", tuple(map(layers_named, given)))
        if not 0.0 <= self.reach <= 1.0:
            raise UsageError(f"reach is {self.reach}", remedy="Give a weight from 0 to 1")


AS_TRANSFERRED = MotionOptions(feet="free", hands="free")
"""Nothing but the rotations and the hips' way."""
