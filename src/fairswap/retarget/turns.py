"""Turns in words: ``forward``, ``outward``, ``in`` say the same of a left and of a right limb, and of any figure.

Ways are those of the body, seen from what a bone hangs on. Degrees; less than nothing is the other way.
"""

from __future__ import annotations

import msgspec
import numpy as np

from fairswap.bones.roles import FINGERS, side_of
from fairswap.model.arrays import Floats
from fairswap.model.rotation import normalized
from fairswap.model.space import AHEAD, LEFT, UP

_OF_LIMBS, _OF_THE_MIDDLE, _OF_FINGERS = {"forward", "outward", "inward"}, {"forward", "left", "around"}, {"curl"}
_IN_FILES = {"inward": "in"}


class Words(msgspec.Struct, frozen=True, forbid_unknown_fields=True, kw_only=True, rename={"inward": "in"}):
    """A turn in words, in degrees.

    Attributes
    ----------
    forward : float
        The far end goes ahead: a leg swings forward, an arm comes to the front, the trunk leans forward, toes go up.
    outward : float
        Of limbs: the far end goes away from the body: a leg spreads, an arm is raised sideward, toes point out.
    inward : float
        ``in`` in files. Of limbs: about their own length, the front turns to the middle (of an arm held out: down).
    left, around : float
        Of trunk, neck and head: leans to the left; turns to the left about its own length.
    curl : float
        Of fingers: bends to the palm.
    """

    forward: float = 0.0
    outward: float = 0.0
    inward: float = 0.0
    left: float = 0.0
    around: float = 0.0
    curl: float = 0.0

    def said(self) -> set[str]:
        """The words that are used."""
        return {name for name in _ALL if getattr(self, name)}


_ALL = ("forward", "outward", "inward", "left", "around", "curl")


def wrong_words(words: Words, role: str) -> str:
    """What is wrong with the words for a role; nothing if nothing is."""
    kind = _kind(role)
    strange = sorted(_IN_FILES.get(name, name) for name in words.said() - kind)
    if not strange:
        return ""
    known = ", ".join(sorted(_IN_FILES.get(name, name) for name in kind))
    return f"{strange[0]!r} says nothing of {role}: {known} do"


def points_along(role: str) -> Floats:
    """Where the bone of a role points in the T, ``(3,)``, roughly."""
    side = side_of(role)
    if role.startswith(("foot_", "toes_")):
        return AHEAD
    if not side:
        return UP
    return -UP if role.startswith(("upper_leg", "lower_leg")) else _out(role)


def turn_in_words(words: Words, role: str, along: Floats) -> Floats:
    """The turn ``(frames, 3)`` in degrees about left, up and ahead that the words mean for a role.

    ``along`` ``(frames, 3)`` is where its bone points then, seen from its parent: a hanging arm and one that is held
    out both come forward, each in its own way. What points there already goes on: an arm that is held ahead goes up.
    """
    kind, out = _kind(role), _out(role)
    if kind is _OF_THE_MIDDLE:
        axes = {"forward": _towards(along, AHEAD, -UP), "left": _towards(along, LEFT, -UP), "around": along}
    elif kind is _OF_FINGERS:
        axes = {"curl": _towards(along, -UP, -out)}
    else:
        axes = {
            "forward": _towards(along, AHEAD, UP), "outward": _towards(along, out, UP), "inward": out[0] * along,
        }  # fmt: skip
    return np.asarray(np.sum([getattr(words, name) * axis for name, axis in axes.items()], axis=0))


def _towards(along: Floats, way: Floats, then: Floats) -> Floats:
    """The unit axes ``(frames, 3)`` about which what points ``along`` turns that way, and ``then`` on that way."""
    there = np.maximum(along @ way, 0.0)[:, None]
    return normalized(np.cross(along, way * (1.0 - there) + then * there))


def _out(role: str) -> Floats:
    return LEFT if side_of(role) == "left" else -LEFT


def _kind(role: str) -> set[str]:
    if not side_of(role):
        return _OF_THE_MIDDLE
    return _OF_FINGERS if role.startswith((*FINGERS, "thumb")) else _OF_LIMBS
