"""Face units: the neutral middle that facial motion goes through.

One unit is one action of the face after the Facial Action Coding System (Ekman and Friesen 1978), by its published
name, with a side where it has sides, and weighed 0 (not at all) to 1 (as far as it goes); the turns of each eye are
units, too. The mouth shapes of speech and the basic expressions are those that ISO/IEC 14496-2 lists (its facial
animation parameters 1 and 2); they are written down here as sums of units.

FACS's mouth stretch (AU 27) is more of the jaw drop (AU 26), its blink and wink (AU 45, 46) are eye closures (AU 43).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from fairswap.bones.roles import SIDES
from fairswap.model.arrays import Floats

REGIONS = ("brows", "lids", "gaze", "nose", "cheeks", "lips", "jaw", "tongue")


@dataclass(frozen=True)
class Action:
    """One action: its name, its FACS number (0: none), region, and whether each side has its own."""

    name: str
    code: int
    region: str
    sided: bool


_ROWS = """
inner_brow_raiser 1 brows s | outer_brow_raiser 2 brows s | brow_lowerer 4 brows s | upper_lid_raiser 5 lids s
lid_tightener 7 lids s | eye_closure 43 lids s | gaze_up 63 gaze s | gaze_down 64 gaze s | gaze_in 0 gaze s
gaze_out 0 gaze s | nose_wrinkler 9 nose s | nostril_dilator 38 nose s | nostril_compressor 39 nose s
cheek_raiser 6 cheeks s | cheek_puff 34 cheeks s | cheek_suck 35 cheeks s | upper_lip_raiser 10 lips s
nasolabial_deepener 11 lips s | lip_corner_puller 12 lips s | sharp_lip_puller 13 lips s | dimpler 14 lips s
lip_corner_depressor 15 lips s | lower_lip_depressor 16 lips s | lip_stretcher 20 lips s | chin_raiser 17 lips -
lip_pucker 18 lips - | lip_funneler 22 lips - | lip_tightener 23 lips - | lip_pressor 24 lips - | lips_part 25 lips -
lip_suck 28 lips - | jaw_drop 26 jaw - | jaw_thrust 29 jaw - | jaw_left 30 jaw - | jaw_right 30 jaw -
tongue_show 19 tongue -
"""


def _actions() -> tuple[Action, ...]:
    rows = [row.split() for line in _ROWS.strip().splitlines() for row in line.split(" | ")]
    return tuple(Action(name, int(code), region, sided == "s") for name, code, region, sided in rows)


ACTIONS = _actions()
UNITS: tuple[str, ...] = tuple(
    name
    for action in ACTIONS
    for name in ([f"{action.name}_{side}" for side in SIDES] if action.sided else [action.name])
)
INDEX: Mapping[str, int] = {name: i for i, name in enumerate(UNITS)}
_BY_NAME = {action.name: action for action in ACTIONS}

# What many heads have as one shape, of actions with sides; it has sides as they do.
TOGETHER = {"brow_raiser": ("inner_brow_raiser", "outer_brow_raiser")}

# What each mouth shape and expression is made of; an action with sides counts for both.
_VISEMES = {
    "viseme_pbm": "lip_pressor .7",
    "viseme_fv": "lip_suck .4 upper_lip_raiser .25 lips_part .15",
    "viseme_th": "jaw_drop .22 tongue_show .8 lips_part .4",
    "viseme_td": "jaw_drop .18 lips_part .5 tongue_show .25",
    "viseme_kg": "jaw_drop .32 lips_part .45",
    "viseme_ch": "lip_funneler .75 jaw_drop .15 lips_part .3",
    "viseme_sz": "lip_stretcher .35 lips_part .45 jaw_drop .08",
    "viseme_nl": "jaw_drop .25 lips_part .35 tongue_show .4",
    "viseme_r": "lip_funneler .45 lip_pucker .2 jaw_drop .15",
    "viseme_a": "jaw_drop .8 lips_part .4",
    "viseme_e": "jaw_drop .4 lip_stretcher .45 lips_part .5",
    "viseme_i": "jaw_drop .18 lip_corner_puller .25 lip_stretcher .5 lips_part .5",
    "viseme_o": "jaw_drop .5 lip_funneler .6 lip_pucker .2",
    "viseme_u": "jaw_drop .18 lip_pucker .85",
}
_EXPRESSIONS = {
    "joy": "cheek_raiser .6 lip_corner_puller .9 lid_tightener .2",
    "sadness": "inner_brow_raiser .8 brow_lowerer .35 lip_corner_depressor .75 chin_raiser .25 eye_closure .15",
    "anger": "brow_lowerer 1 lid_tightener .6 upper_lid_raiser .3 lip_tightener .6 nose_wrinkler .2",
    "fear": "inner_brow_raiser .8 outer_brow_raiser .5 brow_lowerer .3 upper_lid_raiser .8 lip_stretcher .6 "
    "jaw_drop .25 lips_part .4",
    "disgust": "nose_wrinkler .9 upper_lip_raiser .65 lip_corner_depressor .3 brow_lowerer .3",
    "surprise": "inner_brow_raiser 1 outer_brow_raiser 1 upper_lid_raiser .7 jaw_drop .6 lips_part .3",
}
VISEMES, EXPRESSIONS = tuple(_VISEMES), tuple(_EXPRESSIONS)


def spread(name: str) -> dict[str, float] | None:
    """What a name stands for, in units: a unit, an action (both sides), a viseme or an expression; None if nothing.

    >>> spread("lip_corner_puller")
    {'lip_corner_puller_left': 1.0, 'lip_corner_puller_right': 1.0}
    """
    if name in INDEX:
        return {name: 1.0}
    if name in _BY_NAME:
        return {f"{name}_{side}": 1.0 for side in SIDES}
    head, _, side = name.rpartition("_")
    for whole, parts in TOGETHER.items():
        if name == whole:
            return {f"{part}_{end}": 1.0 for part in parts for end in SIDES}
        if head == whole and side in SIDES:
            return {f"{part}_{side}": 1.0 for part in parts}
    recipe = _VISEMES.get(name) or _EXPRESSIONS.get(name)
    if recipe is None:
        return None
    words = recipe.split()
    out: dict[str, float] = {}
    for part, weight in zip(words[::2], words[1::2], strict=True):
        out |= {unit: fraction * float(weight) for unit, fraction in (spread(part) or {}).items()}
    return out


def vector(units: Mapping[str, float]) -> Floats:
    """Weights by name (see :func:`spread`) as an array over all units."""
    out = np.zeros(len(UNITS))
    for name, weight in units.items():
        for unit, fraction in (spread(name) or {}).items():
            out[INDEX[unit]] += weight * fraction
    return out


def names() -> tuple[str, ...]:
    """Every name that :func:`spread` knows, single units first."""
    pairs = tuple(action.name for action in ACTIONS if action.sided)
    together = tuple(name for whole in TOGETHER for name in (*(f"{whole}_{side}" for side in SIDES), whole))
    return (*UNITS, *pairs, *together, *VISEMES, *EXPRESSIONS)


def base_of(unit: str) -> str:
    """The action of a unit, without its side."""
    head, _, side = unit.rpartition("_")
    return head if side in SIDES and (head in _BY_NAME or head in TOGETHER) else unit


def side_of(unit: str) -> str:
    """``left``, ``right`` or nothing."""
    return unit.rpartition("_")[2] if base_of(unit) != unit else ""


def mirrored(unit: str) -> str:
    """The same action on the other side."""
    swap = {"left": "right", "right": "left"}
    head, _, side = unit.rpartition("_")
    return f"{head}_{swap[side]}" if side in swap else unit


def region_of(name: str) -> str:
    """Where on the face: one of :data:`REGIONS`, ``speech`` or ``expressions``."""
    if name in _VISEMES:
        return "speech"
    base = base_of(name)
    return "expressions" if name in _EXPRESSIONS else _BY_NAME[TOGETHER.get(base, (base,))[0]].region


def title(name: str) -> str:
    """A unit in words, with its FACS number."""
    action = _BY_NAME.get(base_of(name))
    words = name.replace("_", " ")
    return f"{words} (AU {action.code})" if action is not None and action.code else words
