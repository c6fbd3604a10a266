"""Where the joints of a body without bones are, from its shape alone, each with how sure that is.

The limbs are found by the way inside from the belly; what each joint is found by is said with it: a narrowest girth, a
fork, a bend. Where the shape says nothing (a knee in a straight leg, hips under a robe) the usual proportions of the
body do (Drillis and Contini 1966), between the joints that are seen.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from fairswap.bones.roles import SIDES, is_role, role_order
from fairswap.errors import ImpossibleError
from fairswap.figures.rigging.arms import find_arm
from fairswap.figures.rigging.finding import ENDS, Place, PlacesFound
from fairswap.figures.rigging.levels import Levels
from fairswap.figures.rigging.reading import ShapeReading
from fairswap.model.arrays import Floats

# Shares of the body's height, or of the height of its shoulders (Drillis and Contini 1966).
_HIP_OF_SHOULDER, _CROTCH_TO_HIP = 0.648, 0.055
_KNEE_OF_LEG, _BALL_OF_FOOT = 0.5, 0.70
# How far the neck may be aside of the hips, of its height over them.
_MOST_LEAN = 0.45


def find_places(
    reading: ShapeReading, given: Mapping[str, Floats] | None = None, alike: bool = False
) -> dict[str, Place]:
    """The places of hips, spine and neck ends, head, shoulders, arms and legs.

    ``given`` are places that are known, by role; the others follow them. If its two sides are ``alike``, both have what
    was found on both, the surer the more.

    Raises
    ------
    ImpossibleError
        If it is not the shape of a person; it says what is missing.
    """
    found = PlacesFound(reading, given or {})
    limbs = reading.limbs
    missing = [
        f"the {side} {limb}" for limb, part, role in (("arm", limbs.arms, "hand"), ("leg", limbs.legs, "foot"))
        for side in SIDES if side not in part and f"{role}_{side}" not in found.given
    ]  # fmt: skip
    robed = len(limbs.legs) < 2 and _wide_at_the_floor(reading)
    if robed:
        missing = [what for what in missing if not what.endswith("leg")]
    if missing:
        raise ImpossibleError(
            f"it is not the shape of a person: {_and(missing)} cannot be seen", code="limbs-missing"
        )  # fmt: skip
    for side in SIDES:
        find_arm(found, side)
    _head(found)
    _legs(found)
    _trunk(found)
    if alike:
        found.even_out()
    unlike = _unlike_a_person(found)
    if unlike is not None:
        raise ImpossibleError(f"it is not the shape of a person: {unlike}", code="no-body-shape")
    return {role: found.places[role] for role in sorted(found.places, key=_order)}


def _unlike_a_person(found: PlacesFound) -> str | None:
    """What tells that this is an animal or a thing, in words; None for a person."""
    height, limbs = found.height, found.reading.limbs
    trunk = found.at("neck_1") - found.at("hips")
    if np.hypot(trunk[0], trunk[2]) > _MOST_LEAN * abs(trunk[1]):
        return "its trunk does not stand upright"
    own = {id(limb) for limb in (limbs.head, *limbs.arms.values(), *limbs.legs.values())}
    more = [branch for branch in found.reading.branches if id(branch) not in own and branch.length_m > 0.25 * height]
    if len(more) > 2:
        return f"it has {len(own) + len(more)} limbs, where a person has five with the head"
    for side in SIDES:
        leg = found.at(f"toe_tip_{side}") - found.at(f"upper_leg_{side}")
        if -leg[1] < 0.15 * height or abs(leg[2]) > -leg[1]:
            return "its legs do not go down to the floor"
        if np.linalg.norm(found.at(f"hand_tip_{side}") - found.at(f"upper_arm_{side}")) < 0.12 * height:
            return f"its {side} arm is too short for one"
    return None


def _order(name: str) -> tuple[int, int]:
    return role_order(name) if is_role(name) else (9, ENDS.index(name) if name in ENDS else len(ENDS))


def _and(rows: list[str]) -> str:
    return rows[0] if len(rows) == 1 else f"{', '.join(rows[:-1])} and {rows[-1]}"


def _wide_at_the_floor(reading: ShapeReading) -> bool:
    """Whether one thing stands on the floor that may hide two legs: a robe."""
    low = reading.solid.points[reading.solid.points[:, 1] < reading.floor + 0.06 * reading.height]
    return len(low) > 0 and float(np.ptp(low[:, 0])) > 0.10 * reading.height


def _head(found: PlacesFound) -> None:
    """The neck, where the body is narrowest between the shoulders and the head."""
    reading, levels = found.reading, found.reading.by_height
    shoulder = found.both("upper_arm")[1] - found.floor
    crown = found.height
    middle = reading.middle
    sections = []
    for number in range(int(shoulder / levels.width_m), int(levels.level.max()) + 1):
        rows = levels.at(number)
        across = (levels.low[rows, 0] - 0.02 * crown <= middle) & (middle <= levels.high[rows, 0] + 0.02 * crown)
        if across.any():
            best = rows[across][np.argmax(levels.area_m2[rows[across]])]
            sections.append(((number + 0.5) * levels.width_m, levels.area_m2[best], levels.middle[best, 2]))
    height, area, depth = np.array(sections).reshape(-1, 3).T
    upper = np.flatnonzero(height > shoulder + 0.3 * (crown - shoulder))
    top = int(upper[np.argmax(area[upper])]) if len(upper) else 0
    neck = int(np.argmin(area[: top + 1])) if top else 0
    if 0 < neck < top and area[neck] < 0.72 * area[top]:
        fuller = area[neck] + 0.1 * (area[top] - area[neck])
        after = neck + int(np.argmax(area[neck : top + 1] >= fuller))
        at = np.array([middle, found.floor + height[after] - 0.5 * levels.width_m, depth[neck]])
        found.put("head", at, 0.85, "where the neck widens into the head")
    else:
        at = np.array([middle, found.floor + shoulder + 0.30 * (crown - shoulder), found.both("upper_arm")[2]])
        found.put("head", at, 0.4, "usual proportions: no neck is seen")
    head = found.at("head")
    base = found.floor + shoulder + 0.28 * (head[1] - found.floor - shoulder)
    back = 0.5 * (head[2] + found.both("upper_arm")[2])
    found.put("neck_1", np.array([middle, base, back]), 0.7, "between shoulders and head")
    found.put("crown", np.array([middle, found.floor + crown, head[2]]), 0.9, "the top of the head")


def _legs(found: PlacesFound) -> None:
    """Hips, knees, ankles and the balls of the feet."""
    reading, height, floor = found.reading, found.height, found.floor
    shoulder = found.both("upper_arm")[1] - floor
    usual = _HIP_OF_SHOULDER * shoulder
    crotch = _crotch(reading)
    seen = 0.46 * shoulder < crotch < 0.72 * shoulder
    hip_y = 0.6 * (crotch + _CROTCH_TO_HIP * height) + 0.4 * usual if seen else usual
    certainty, how = (
        (0.75, "a little above the fork of the legs") if seen else (0.4, "usual proportions: no fork is seen")
    )
    levels = reading.by_height
    for side in SIDES:
        sign = 1.0 if side == "left" else -1.0
        column = _leg_column(found, levels, side, crotch)
        thigh = column[(column[:, 1] > floor + 0.55 * hip_y) & (column[:, 1] < floor + min(crotch, hip_y))]
        if len(thigh) >= 3:
            x, z = float(thigh[-3:, 0].mean()), float(np.median(thigh[:, 2]))
        else:
            x, z = reading.middle + sign * 0.055 * height, float(found.both("upper_arm")[2])
        found.put(f"upper_leg_{side}", np.array([x, floor + hip_y, z]), certainty, how)
        _foot(found, side, levels, column, hip_y)
        hip, ankle = found.at(f"upper_leg_{side}"), found.at(f"foot_{side}")
        knee = ankle + (1.0 - _KNEE_OF_LEG) * (hip - ankle)
        near = column[np.abs(column[:, 1] - knee[1]) < 1.6 * levels.width_m]
        if len(near):
            knee[[0, 2]] = 0.5 * (knee[[0, 2]] + near[:, [0, 2]].mean(axis=0))
        found.put(f"lower_leg_{side}", knee, 0.6, "half of the leg")


def _crotch(reading: ShapeReading) -> float:
    """How high over the floor the legs part."""
    points = reading.solid.points
    thin = np.abs(points[:, 0] - reading.middle) < 1.2 * reading.solid.cell_m
    y = points[thin, 1] - reading.floor
    levels = np.unique(np.floor(y / reading.solid.cell_m).astype(int))
    # From the belly down without a gap.
    start = int(0.55 * reading.height / reading.solid.cell_m)
    below = levels[levels <= start][::-1]
    gaps = np.flatnonzero(np.diff(below) < -2)
    last = below[gaps[0]] if len(gaps) else below[-1] if len(below) else start
    return float(last * reading.solid.cell_m)


def _leg_column(found: PlacesFound, levels: Levels, side: str, crotch: float) -> Floats:
    """One leg's sections from the floor up, up to the fork: middles, areas, and depths ``(n, 5)``."""
    sign, middle = (1.0 if side == "left" else -1.0), found.reading.middle
    out = []
    for number in range(int(crotch / levels.width_m) + 1):
        rows = levels.at(number)
        inner_edge = np.minimum(sign * (levels.low[rows, 0] - middle), sign * (levels.high[rows, 0] - middle))
        own = rows[
            (sign * (levels.middle[rows, 0] - middle) > 0.01 * found.height) & (inner_edge > -0.02 * found.height)
        ]
        if len(own):
            best = own[np.argmax(levels.area_m2[own])]
            out.append([*levels.middle[best], levels.area_m2[best], levels.high[best, 2] - levels.low[best, 2]])
    return np.array(out).reshape(-1, 5)


def _foot(found: PlacesFound, side: str, levels: Levels, column: Floats, hip_y: float) -> None:
    """Ankle: above the instep, where the leg is slim; ball: a share of the foot's length."""
    floor, height = found.floor, found.height
    sign = 1.0 if side == "left" else -1.0
    shin = column[(column[:, 1] > floor + 0.06 * hip_y) & (column[:, 1] < floor + 0.42 * hip_y)]
    points = found.solid.points
    own = sign * (points[:, 0] - found.reading.middle) > 0
    low = points[own & (points[:, 1] < floor + 0.05 * height)]
    branch = found.reading.limbs.legs.get(side)
    if len(shin) >= 4 and branch is not None:
        slim = shin[np.argmin(shin[:, 3])]
        below = column[column[:, 1] < slim[1]]
        longer = below[below[:, 4] > 1.4 * slim[4]]
        top = float(longer[-1, 1]) - floor if len(longer) else 0.075 * hip_y
        y = float(np.clip(top + levels.width_m * 0.5, 0.05 * hip_y, 0.17 * hip_y))
        ankle = np.array([slim[0], floor + y, slim[2]])
        found.put(f"foot_{side}", ankle, 0.8, "the narrowest girth above the foot")
    else:
        hip = found.at(f"upper_leg_{side}")
        found.put(
            f"foot_{side}",
            np.array([hip[0], floor + 0.08 * hip_y, hip[2]]),
            0.35,
            "usual proportions: no ankle is seen",
        )
    ankle = found.at(f"foot_{side}")
    foot = low[np.abs(low[:, 0] - ankle[0]) < 0.09 * height] if branch is not None else low[:0]
    if len(foot):
        heel, toe = float(foot[:, 2].min()), float(foot[:, 2].max())
        tip = foot[foot[:, 2] > toe - 0.02 * height].mean(axis=0)
        ball_z = heel + _BALL_OF_FOOT * (toe - heel)
        share = np.clip((ball_z - ankle[2]) / max(toe - ankle[2], 1e-6), 0.2, 1.0)
        ball = np.array([ankle[0] + share * (tip[0] - ankle[0]), floor + 0.35 * (ankle[1] - floor), ball_z])
        found.put(f"toes_{side}", ball, 0.6, "a share of the foot's length")
        found.put(
            f"toe_tip_{side}", np.array([tip[0], floor + 0.3 * (ankle[1] - floor), toe]), 0.8, "the end of the foot"
        )
    else:
        found.put(f"toes_{side}", ankle + [0.0, -0.65 * (ankle[1] - floor), 0.08 * height], 0.3, "usual proportions")
        found.put(f"toe_tip_{side}", ankle + [0.0, -0.7 * (ankle[1] - floor), 0.12 * height], 0.3, "usual proportions")


def _trunk(found: PlacesFound) -> None:
    """Hips and the line of the spine, a little behind the middle of the trunk."""
    hip, neck = found.both("upper_leg"), found.at("neck_1")
    hips_y = hip[1] + 0.09 * (neck[1] - hip[1])
    least = min(found.places[f"upper_leg_{side}"].certainty for side in SIDES)
    found.put("hips", np.array([found.reading.middle, hips_y, hip[2]]), least, "between the legs")
    for side in SIDES:
        joint = found.at(f"upper_arm_{side}")
        inner = np.array([found.reading.middle, neck[1], neck[2]])
        share = np.array([0.16, 0.55, 0.3])
        found.put(f"shoulder_{side}", inner + share * (joint - inner), 0.6, "between neck and arm")
