"""Poses measured: a joint that is turned by known degrees is told as that, by part, and with what comes of it."""

from dataclasses import replace

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

import fairswap
from fairswap.figures.bones_alone import without_mesh
from making import figure

SIDEWAYS, UPRIGHT, FORWARD = (1.0, 0.0, 0.0), (0.0, 1.0, 0.0), (0.0, 0.0, 1.0)


def turned(who, role, about, degrees):
    """The bones of a figure, or of one of the troupe, with one joint turned at rest: about an axis of the world, or the
    line from another joint."""
    bones = without_mesh(figure(who)) if isinstance(who, str) else who
    rigged = fairswap.RiggedFigure.of(bones)
    skeleton, bone = bones.skeleton, rigged.roles.bones[role]
    places, world = skeleton.rest.positions[0], Rotation.from_quat(skeleton.rest.rotations[0])
    axis = places[bone] - places[rigged.roles.bones[about]] if isinstance(about, str) else np.array(about)
    turn = Rotation.from_rotvec(np.radians(degrees) * axis / np.linalg.norm(axis))
    rotations = np.array(skeleton.rest_rotations)
    rotations[bone] = (world[int(skeleton.parents[bone])].inv() * turn * world[bone]).as_quat()
    return replace(bones, skeleton=replace(skeleton, rest_rotations=rotations), source=None)


TURNS = [
    ("hand_left", "lower_arm_left", 40, "hands", "corrected", "palms turned 40 degrees (hand_left), corrected"),
    ("hand_right", "lower_arm_right", -70, "hands", "look",
     "palms turned 70 degrees (hand_right), corrected; please look"),
    ("foot_left", SIDEWAYS, 20, "feet", "kept", "soles tilted 20 degrees (foot_left), kept, as anatomy or shoe"),
    ("foot_left", UPRIGHT, 25, "feet", "corrected", "25 degrees apart (foot_left), corrected"),
    ("foot_right", UPRIGHT, -60, "feet", "look", "60 degrees apart (foot_right), corrected; please look"),
    ("head", UPRIGHT, 15, "head", "kept", "15 degrees apart (head), kept, as anatomy"),
    ("head", SIDEWAYS, 40, "head", "look", "40 degrees apart (head), kept, as anatomy; please look"),
    ("upper_arm_left", FORWARD, -70, "arms", "corrected", "70 degrees apart (upper_arm_left), corrected"),
    ("upper_arm_right", FORWARD, 2, "arms", "corrected", "2 degrees apart (upper_arm_right), corrected"),
    ("lower_leg_right", SIDEWAYS, 12, "legs", "corrected", "12 degrees apart (lower_leg_right), corrected"),
    ("lower_leg_left", SIDEWAYS, 55, "legs", "look", "55 degrees apart (lower_leg_left), corrected; please look"),
]  # fmt: skip


@pytest.mark.parametrize("who", ["Juniper", "Osric"])
@pytest.mark.parametrize(("role", "about", "degrees", "part", "state", "verdict"), TURNS)
def test_one_joint_that_is_turned_is_told_as_it_was_turned(who, role, about, degrees, part, state, verdict):
    measured = fairswap.pose.measure(turned(who, role, about, degrees), against=without_mesh(figure(who)))
    assert [row.part for row in measured.parts] == ["arms", "hands", "fingers", "legs", "feet", "trunk", "head"]
    other = [row for row in measured.parts if row.state != "same"]
    assert [(row.part, row.state, row.role, row.verdict) for row in other] == [(part, state, role, verdict)]
    assert other[0].degrees == pytest.approx(abs(degrees), abs=0.2)
    # The rows are sorted, the largest first, and the others of the joint's own are none.
    assert measured.angles[0].role == role
    assert [row.degrees for row in measured.angles] == sorted((row.degrees for row in measured.angles), reverse=True)
    # The root that a figure stands on is no joint of a pose.
    assert "root" not in {row.role for row in measured.angles}
    told = [(row.code, row.message) for row in measured.findings]
    wrong = f"{role} is {abs(degrees)} degrees off, more than a pose should be"
    assert told == ([("correction-large", wrong)] if state == "look" else [])


@pytest.mark.parametrize(
    ("role", "about", "most"),
    [
        ("upper_arm_left", FORWARD, -110), ("hand_left", FORWARD, 60), ("hand_left", "lower_arm_left", 60),
        ("index_proximal_right", FORWARD, 110), ("upper_leg_left", SIDEWAYS, -50), ("foot_left", SIDEWAYS, 50),
        ("foot_left", UPRIGHT, 50), ("spine_2", SIDEWAYS, 35), ("spine_2", UPRIGHT, 35), ("head", UPRIGHT, 35),
    ],
)  # fmt: skip
def test_what_is_turned_further_than_a_pose_should_be_is_to_be_looked_at(role, about, most):
    """What each part may be turned by, and not by four degrees more (docs/poses.md)."""
    for degrees, told in ((most - np.sign(most) * 4, False), (most + np.sign(most) * 4, True)):
        measured = fairswap.pose.measure(
            turned("Juniper", role, about, degrees), against=without_mesh(figure("Juniper"))
        )
        (row,) = [row for row in measured.angles if row.role == role]
        assert row.degrees == pytest.approx(abs(degrees), abs=0.3)
        assert row.suspicious == told
        assert [finding.code for finding in measured.findings] == ["correction-large"] * told


@pytest.mark.parametrize(
    ("left", "right", "kind"),
    [
        (0, 0, "T"), (14, 14, "T"), (-14, -14, "T"), (16, 16, "A"), (61, 61, "A"), (63, 63, "arms down"),
        (-16, -16, "arms up"), (50, 31, "A"), (50, 29, "uneven"), (-40, 20, "uneven"),
    ],
)  # fmt: skip
def test_how_far_below_level_the_arms_rest_says_what_pose_it_is(left, right, kind):
    both = turned(turned("Juniper", "upper_arm_left", FORWARD, -left), "upper_arm_right", FORWARD, right)
    found = fairswap.inspect(fairswap.Document("arms.glb", "glTF 2.0", both.space, (both,), ())).figures[0].rest_pose
    assert (found.kind, found.arm_degrees) == (kind, pytest.approx(0.5 * (left + right), abs=0.3))


def test_of_several_joints_the_one_that_is_furthest_off_is_told():
    bent = turned("Juniper", "neck_1", UPRIGHT, 36)
    more = turned("Juniper", "head", UPRIGHT, 44)
    number = fairswap.RiggedFigure.of(bent).roles.bones["head"]
    rotations = np.array(bent.skeleton.rest_rotations)
    rotations[number] = more.skeleton.rest_rotations[number]
    both = replace(bent, skeleton=replace(bent.skeleton, rest_rotations=rotations))
    measured = fairswap.pose.measure(both, against=without_mesh(figure("Juniper")))
    (told,) = measured.findings
    assert told.message.startswith("head is 44 degrees off")
    (head,) = [row for row in measured.parts if row.part == "head"]
    assert (head.role, head.state) == ("head", "look")


def test_alone_a_figure_is_measured_against_the_t():
    """Osric rests with his arms down: both by the same, and what has no direction of its own is not measured."""
    measured = fairswap.pose.measure(figure("Osric"))
    degrees = {row.role: row.degrees for row in measured.angles}
    rest = without_mesh(figure("Osric")).skeleton.rest.positions[0]
    bones = fairswap.RiggedFigure.of(figure("Osric")).roles.bones
    for side in ("left", "right"):
        way = rest[bones[f"lower_arm_{side}"]] - rest[bones[f"upper_arm_{side}"]]
        below = np.degrees(np.arctan2(-way[1], np.hypot(way[0], way[2])))
        assert degrees[f"upper_arm_{side}"] == pytest.approx(below, abs=0.5)
    assert {row.part for row in measured.parts} == {"arms", "hands", "fingers", "legs", "feet"}
    assert {row.part: row.state for row in measured.parts}["legs"] == "same"
    assert all(row.corrected for row in measured.angles if row.part != "feet")
