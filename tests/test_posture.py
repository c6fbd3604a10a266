"""Up and forward from bones alone: on the troupe, on bodies put together otherwise, and where there is no body."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

import fairswap
from fairswap.demo.anatomy import body_of
from fairswap.model.posture import posture_from_positions, unit_from_height
from fairswap.model.space import Space, nearest_direction
from fairswap.model.words import sides_of
from fairswap.pose.rest import can_stand
from making import figure

TURNS = [
    Space(up, forward)
    for up in ("+X", "-Y", "+Y", "+Z", "-Z")
    for forward in ("+X", "-Y", "+Z", "-Z")
    if up[1] != forward[1]
]


@pytest.mark.parametrize("space", TURNS, ids=str)
@pytest.mark.parametrize("name", ["Juniper", "Osric"])
def test_the_troupe_lying_standing_on_its_head_and_facing_anywhere(name, space):
    skeleton = figure(name).skeleton
    found = posture_from_positions(skeleton.rest.positions[0] @ space.turn, skeleton.parents)
    assert (found.up, found.forward) == (space.up, space.forward)


def body(*rows):
    """Bones from (name, parent, x, y, z)."""
    index = {row[0]: i for i, row in enumerate(rows)}
    return np.array([row[2:] for row in rows], dtype=float), np.array([index.get(row[1], -1) for row in rows])


LEG = [("thigh", 0.9), ("shin", 0.5), ("foot", 0.1)]
ARMS = [
    row
    for s, x in (("l", 1), ("r", -1))
    for row in (
        (f"arm{s}", "chest", 0.2 * x, 1.4, 0),
        (f"fore{s}", f"arm{s}", 0.5 * x, 1.4, 0),
        (f"hand{s}", f"fore{s}", 0.7 * x, 1.4, 0),
    )
]


def legs(holder):
    for s, x in (("l", 0.1), ("r", -0.1)):
        above = holder
        for name, height in LEG:
            yield (name + s, above, x, height, 0.0)
            above = name + s
        yield ("toe" + s, above, x, 0.0, 0.15)


def test_legs_that_fork_from_a_bone_of_their_own():
    rows = [("root", "", 0, 0, 0), ("hips", "root", 0, 1, 0), ("pelvis", "hips", 0, 0.95, 0), *legs("pelvis")]
    rows += [("spine", "hips", 0, 1.1, 0), ("chest", "spine", 0, 1.3, 0), ("head", "chest", 0, 1.5, 0), *ARMS]
    found = posture_from_positions(*body(*rows))
    assert (found.up, found.forward) == ("+Y", "+Z")


def test_arms_and_neck_are_not_taken_for_legs():
    rows = [("hips", "", 0, 1, 0), ("spine", "hips", 0, 1.1, 0), ("chest", "spine", 0, 1.3, 0), *ARMS]
    rows += [("neck", "chest", 0, 1.5, 0), ("head", "neck", 0, 1.6, 0), ("hat", "head", 0, 1.8, 0)]
    assert posture_from_positions(*body(*rows)) is None


def test_no_body_at_all():
    chain = [(f"b{i}", f"b{i - 1}", 0, 0.1 * i, 0) for i in range(300)]
    assert posture_from_positions(*body(*chain)) is None


@pytest.mark.parametrize(
    ("height", "unit"),
    [(1.75, "m"), (0.95, "m"), (182.0, "cm"), (95.0, "cm"), (66.0, "in"), (1710.0, "mm"), (5.8, "ft")],
)
def test_units_of_people(height, unit):
    assert unit_from_height(height) == unit


def test_limbs_that_a_rig_has_twice_are_no_pair():
    """Each limb again where it is, as for targets: the pair of legs is a left and a right one still."""
    trunk = [("spine", "hips", 0, 1.1, 0), ("chest", "spine", 0, 1.3, 0), ("head", "chest", 0, 1.5, 0)]
    own = list(legs("hips"))
    names = {row[0] for row in own}
    again = [(f"{name} ik", f"{above} ik" if above in names else above, *place) for name, above, *place in own]
    half = len(own) // 2
    twice = [*own[:half], *again[:half], *own[half:], *again[half:]]
    plain, found = (
        posture_from_positions(*body(("hips", "", 0, 1, 0), *limbs, *trunk, *ARMS)) for limbs in (own, twice)
    )
    assert (found.up, found.forward) == (plain.up, plain.forward) == ("+Y", "+Z")


@pytest.mark.parametrize("sign", [1, -1], ids=["standing", "on its head"])
def test_arms_and_legs_on_one_bone_are_told_apart_by_their_length(sign):
    rows = [("block", "", 0, 1.4, 0), *legs("block")]
    rows += [(name, "block" if above == "chest" else above, *place) for name, above, *place in ARMS]
    rows += [("neck", "block", 0, 1.5, 0), ("head", "neck", 0, 1.6, 0)]
    places, parents = body(*((n, a, x, sign * y, z) for n, a, x, y, z in rows))
    found = posture_from_positions(places, parents)
    assert found.up == ("+Y" if sign > 0 else "-Y")


def test_arms_that_a_control_holds_are_no_legs():
    """They are as long as legs, and the trunk beside them holds more; but they begin far from what they hang on."""
    rows = [("root", "", 0, 0, 0), ("hips", "root", 0, 1, 0), *legs("hips"), ("steers", "root", 0, 0.1, 0)]
    rows += [("spine", "hips", 0, 1.1, 0), ("chest", "spine", 0, 1.3, 0), ("head", "chest", 0, 1.5, 0)]
    rows += [("eye l", "head", 0.03, 1.6, 0.1), ("eye r", "head", -0.03, 1.6, 0.1)]
    rows += [(n, "steers" if a == "chest" else a, *at) for n, a, *at in ARMS]
    found = posture_from_positions(*body(*rows))
    assert (found.up, found.forward) == ("+Y", "+Z")


def test_shins_without_feet_show_no_front():
    rows = [("hips", "", 0, 1, 0), ("spine", "hips", 0, 1.1, 0), ("chest", "spine", 0, 1.3, 0), *ARMS]
    for s, x in (("l", 0.1), ("r", -0.1)):
        rows += [(f"lead{s}", "hips", x, 1, 0), (f"hip{s}", f"lead{s}", x, 0.9, 0)]
        rows += [(f"knee{s}", f"hip{s}", x, 0.5, 0.06), (f"ankle{s}", f"knee{s}", x, 0.1, 0)]
    found = posture_from_positions(*body(*rows, ("head", "chest", 0, 1.5, 0)))
    assert (found.up, found.forward) == ("+Y", "+Z")
    assert "custom" in found.reason


@pytest.mark.parametrize("left", [1, -1])
def test_where_nothing_shows_the_front_names_of_the_sides_do(left):
    rows = [("hips", "", 0, 1, 0), ("spine", "hips", 0, 1.1, 0), ("chest", "spine", 0, 1.3, 0), *ARMS]
    rows += [row for row in legs("hips") if not row[0].startswith("toe")]
    rows += [("head", "chest", 0, 1.5, 0)]
    names = [row[0] for row in rows]
    called = [
        name[:-1] + (".L" if (name[-1] == "l") == (left > 0) else ".R") if name[-1] in "lr" else name for name in names
    ]
    sides = sides_of(called)
    assert set(sides) == {1, 0, -1}
    places, parents = body(*rows)
    for up, turn in (("+Y", np.eye(3)), ("+Z", np.array([[1.0, 0, 0], [0, 0, 1], [0, -1, 0]]))):
        found = posture_from_positions(places @ turn, parents, None, sides)
        front = np.array([0.0, 0.0, left]) @ turn
        assert (found.up, found.forward) == (up, nearest_direction(front))
        assert "names" in found.reason


@pytest.mark.parametrize(("thighs", "shins", "stands"), [
    ({"x": 0.0}, 0.0, True),
    ({"x": -25.0}, 45.0, True),  # knees a little bent
    ({"x": -75.0}, 150.0, False),  # hips over the feet, but the knees bent further than square
    ({"z": 65.0}, 0.0, False),  # straight legs, spread on the floor
    ({"x": -90.0}, 0.0, False),
])  # fmt: skip
def test_who_can_stand_in_a_pose(thighs, shins, stands):
    turns = {}
    for side, sign in (("left", 1.0), ("right", -1.0)):
        ((axis, degrees),) = thighs.items()
        thigh = Rotation.from_euler(axis, degrees * (sign if axis == "z" else 1.0), degrees=True)
        shin = thigh * Rotation.from_euler("x", shins, degrees=True)
        turns |= {f"upper_leg_{side}": thigh.as_quat()[None], f"lower_leg_{side}": shin.as_quat()[None]}
        turns[f"foot_{side}"] = np.array([[0.0, 0.0, 0.0, 1.0]])
    skeleton = body_of("Osric").skeleton(turns)
    roles = fairswap.bones.roles_of(fairswap.Figure("standing", body_of("Osric").skeleton({})))
    assert can_stand(skeleton.rest, roles) == stands
