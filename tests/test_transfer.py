"""The heart: a motion carried over is the motion that the other figure would have performed itself."""

from dataclasses import replace
from fractions import Fraction
from itertools import pairwise

import numpy as np
import pytest

import fairswap
from fairswap.bones.moving import Motion
from fairswap.demo.rigs import odd_rig
from fairswap.measure.comparison import LIMB_PARTS
from fairswap.model.poses import Poses
from fairswap.model.rotation import angle_between, multiply, quaternion_from_axis_angle, rotate
from fairswap.pose.reference import t_pose
from making import FREE, act, figure, swap_between

PAIRS = [("walk", "Osric", "Juniper"), ("turn-and-bow", "Juniper", "Osric")]
ROLES = {name: swap_between(figure(name), figure(name)).source.roles for name in ("Juniper", "Osric")}


def carried(motion, performer, target, as_file):
    """The act on the target, by way of the file that its performer's stage would deliver."""
    clip, source = act(motion, performer), figure(performer)
    if as_file == "bvh":
        fairswap.save("m.bvh", source, [clip], space=fairswap.Space("+Z", "-Y", "in"))
    else:
        fairswap.save("m.glb", source, [clip])
    motion_file = fairswap.load(f"m.{as_file}")
    swap = swap_between(motion_file.figure, figure(target))
    result = swap.convert(motion_file.clips[0], FREE)
    fairswap.save("out.glb", figure(target), [result])
    return motion_file, fairswap.load("out.glb")


@pytest.mark.parametrize(("motion", "performer", "target"), PAIRS)
@pytest.mark.parametrize("as_file", ["bvh", "glb"])
def test_against_the_same_act_performed_directly(motion, performer, target, as_file):
    """Limb directions within 0.5 degrees mean and 2 worst, hips within 1 % of leg, in all frames."""
    _, result = carried(motion, performer, target, as_file)
    truth = act(motion, target)
    clip = result.clips[0]
    assert (clip.rate, clip.frames, clip.duration_s) == (truth.rate, truth.frames, truth.duration_s)
    proof = fairswap.compare((figure(target), truth), (result.figure, clip))
    assert proof.limbs_mean_degrees <= 0.5
    assert proof.limbs_worst_degrees <= 2.0
    assert proof.hips_worst_percent <= 1.0
    # Not only by our own measure: bone by bone in the world, and the ends of the limbs in place.
    off = np.linalg.norm(clip.world().positions - truth.world().positions, axis=2)
    assert off.max() < 0.01 * figure(target).height_m


def test_the_measure_sees_what_is_wrong():
    """Arms 45 degrees too high, a hip that sinks, a foot that slides: each shows in its own number."""
    juniper, clip = figure("Juniper"), act("turn-and-bow", "Juniper")
    same = fairswap.compare((juniper, clip), (juniper, clip))
    assert same.limbs_worst_degrees < 1e-6
    assert same.looks_same
    bone = clip.bone("shoulder_joint_l")
    tracks = clip.poses.rotation_tracks.copy()
    lift = quaternion_from_axis_angle([0, 0, 1], np.radians(45.0))
    parent = clip.world().rotations[:, clip.skeleton.parents[bone]]
    world_lift = multiply(multiply(parent * [-1, -1, -1, 1], lift), parent)
    tracks[bone] = multiply(world_lift, clip.rotations[:, bone]).T
    raised = replace(clip, poses=replace(clip.poses, rotation_tracks=tracks))
    found = fairswap.compare((juniper, clip), (juniper, raised))
    worst = {row.role: row for row in found.roles}
    assert not found.looks_same
    assert 20 < worst["upper_arm_left"].mean_degrees <= 45.0 + 1e-6
    assert worst["upper_arm_right"].worst_degrees < 1e-6
    sunk = replace(
        clip, poses=replace(clip.poses, translation_tracks=clip.poses.translation_tracks - [[[0], [0.1], [0]]])
    )
    found = fairswap.compare((juniper, clip), (juniper, sunk))
    leg = t_pose(juniper.skeleton, ROLES["Juniper"], "").leg_m
    assert found.hips_mean_percent == pytest.approx(100 * 0.1 / leg, rel=1e-6)
    assert found.result_footing.sole_below_cm - found.source_footing.sole_below_cm == pytest.approx(10.0, abs=0.6)
    slide = np.zeros((1, 3, clip.frames))
    slide[0, 0] = np.arange(clip.frames) * 0.2 / float(clip.rate)
    slid = replace(clip, poses=replace(clip.poses, translation_tracks=clip.poses.translation_tracks + slide))
    found = fairswap.compare((juniper, clip), (juniper, slid))
    assert found.result_footing.skate_cm_s == pytest.approx(20.0, abs=2.5)


def test_a_leg_turned_back_to_front_is_seen_although_it_points_the_right_way():
    juniper, clip = figure("Juniper"), act("walk", "Juniper")
    tracks = clip.poses.rotation_tracks.copy()
    thigh, shin = clip.bone("hip_joint_l"), clip.bone("knee_l")
    half = quaternion_from_axis_angle([0.0, 1.0, 0.0], np.pi)  # about the bone's own length, which is its Y axis
    tracks[thigh] = multiply(clip.rotations[:, thigh], half).T
    tracks[shin] = multiply(half * [-1, -1, -1, 1], clip.rotations[:, shin]).T
    twisted = replace(clip, poses=replace(clip.poses, rotation_tracks=tracks))
    found = fairswap.compare((juniper, clip), (juniper, twisted))
    assert found.limbs_worst_degrees < 1.0
    assert not found.looks_same
    assert "upper_leg_left is twisted (180 degrees)" in found.verdict


@pytest.mark.parametrize("name", ["Juniper", "Osric"])
def test_the_reference_is_a_t_whatever_the_rest(name):
    """Arms level, legs straight down and parallel, toes ahead, soles as they rest."""
    skeleton, roles = figure(name).skeleton, ROLES[name]
    reference = t_pose(skeleton, roles, "the figure")
    rest = skeleton.rest

    def pointing(role, onward):
        a, b = roles.bones[role], roles.bones[onward]
        local = rotate(rest.rotations[0, a] * [-1, -1, -1, 1], rest.positions[0, b] - rest.positions[0, a])
        return rotate(reference.rotations[a], local / np.linalg.norm(local))

    for sign, side in ((1, "left"), (-1, "right")):
        assert np.allclose(pointing(f"upper_arm_{side}", f"lower_arm_{side}"), [sign, 0, 0], atol=1e-6)
        assert np.allclose(pointing(f"lower_arm_{side}", f"hand_{side}"), [sign, 0, 0], atol=1e-6)
        assert np.allclose(pointing(f"upper_leg_{side}", f"lower_leg_{side}"), [0, -1, 0], atol=1e-6)
        foot = pointing(f"foot_{side}", f"toes_{side}")
        assert abs(foot[0]) < 1e-6
        assert foot[2] > 0
        thumb = np.array([0.64 * sign, -0.36, 0.68])  # out, a little down, and ahead, as docs/poses.md has it
        ahead = pointing(f"thumb_proximal_{side}", f"thumb_distal_{side}")
        assert np.allclose(ahead, thumb / np.linalg.norm(thumb), atol=1e-6)
        # The palm looks down: what was the sole side of the hand in the body's own T still is.
    expected = 72.0 if name == "Osric" else 0.0
    assert reference.corrections["upper_arm_left"] == pytest.approx(expected, abs=1e-3)


def test_a_figure_that_rests_otherwise_gives_the_same_result():
    """Bring Osric to another rest (arms 40 degrees lower down his sides, knees bent): the bow on him stays the bow."""
    osric = figure("Osric")
    plain = swap_between(figure("Juniper"), osric).convert(act("turn-and-bow", "Juniper"), FREE)
    skeleton, roles = osric.skeleton, ROLES["Osric"].bones
    rest = skeleton.rest_rotations.copy()
    for role, axis, degrees in (
        ("upper_arm_left", [0, 0, 1], 40.0),
        ("lower_arm_left", [0, 1, 0], -25.0),
        ("lower_arm_right", [0, 1, 0], 35.0),
        ("upper_leg_left", [1, 0, 0], -20.0),
    ):
        bone = roles[role]
        world = skeleton.rest.rotations[0, bone]
        local_axis = rotate(world * [-1, -1, -1, 1], np.array(axis, dtype=float))
        rest[bone] = multiply(rest[bone], quaternion_from_axis_angle(local_axis, np.radians(degrees)))
    other = replace(osric, skeleton=replace(skeleton, rest_rotations=rest), source=None)
    result = swap_between(figure("Juniper"), other).convert(act("turn-and-bow", "Juniper"), FREE)
    limbs = [roles[f"{part}_{side}"] for part in ("lower_arm", "hand", "lower_leg") for side in ("left", "right")]
    a, b = result.world().positions[:, limbs], plain.world().positions[:, limbs]
    assert np.abs(a - b).max() < 0.002


@pytest.mark.parametrize("degrees", [90.0, -60.0, 180.0])
def test_hands_that_rest_with_their_palms_turned_end_as_if_they_did_not(degrees):
    """Palms to the front, to the back, up: a difference of pose, which the knuckles show."""
    osric, roles = figure("Osric"), ROLES["Osric"].bones
    rest = osric.skeleton.rest_rotations.copy()
    for sign, side in ((1.0, "left"), (-1.0, "right")):
        hand, knuckle = roles[f"hand_{side}"], roles[f"middle_proximal_{side}"]
        along = osric.skeleton.rest_translations[knuckle] / np.linalg.norm(osric.skeleton.rest_translations[knuckle])
        rest[hand] = multiply(rest[hand], quaternion_from_axis_angle(along, sign * np.radians(degrees)))
    turned = replace(osric, skeleton=replace(osric.skeleton, rest_rotations=rest), source=None)
    swap = swap_between(figure("Juniper"), turned)
    tips = [roles[f"{finger}_distal_{side}"] for finger in ("index", "little") for side in ("left", "right")]
    a = swap.convert(act("turn-and-bow", "Juniper"), FREE).world().positions[:, tips]
    b = act("turn-and-bow", "Osric").world().positions[:, tips]
    assert np.linalg.norm(a - b, axis=2).max() < 0.004
    assert swap.target.reference.corrections["hand_left"] > 45.0


def test_hips_travel_by_legs_and_their_resting_height_is_no_motion():
    """A clip that only stands, on a figure of another size: the hips stay exactly where they rest."""
    osric, juniper = figure("Osric"), figure("Juniper")
    tracks = np.repeat(osric.skeleton.rest_rotations[:, :, None], 5, axis=2)
    hips = ROLES["Osric"].bones["hips"]
    place = np.repeat(osric.skeleton.rest_translations[[hips]][:, :, None], 5, axis=2)
    place[0, 2, 1:] += 0.5
    poses = Poses(osric.skeleton, tracks, np.array([hips]), place)
    swap = swap_between(osric, juniper)
    result = swap.convert(fairswap.Clip("stand", Fraction(30), poses), FREE)
    found = result.world().positions[:, ROLES["Juniper"].bones["hips"]]
    rest = juniper.skeleton.rest.positions[0, ROLES["Juniper"].bones["hips"]]
    assert np.allclose(found[0], rest, atol=1e-9)
    assert np.allclose(found[4] - rest, [0, 0, 0.5 * swap.leg_ratio], atol=1e-9)


def test_a_spine_of_other_count_bends_the_same_and_its_ends_are_exact():
    """Six bones from four: both ends turn exactly as the source's, and the way between is even."""
    swap = swap_between(figure("Osric"), figure("Juniper"))
    clip = act("turn-and-bow", "Osric")
    result = swap.convert(clip, FREE)
    sides = ((swap.source, clip.world()), (swap.target, result.world()))

    def turn(which, role):
        side, world = sides[which]
        bone = side.roles.bones[role]
        return multiply(world.rotations[:, bone], side.reference.rotations[bone] * [-1, -1, -1, 1])

    for a, b in (("hips", "hips"), ("spine_4", "spine_6"), ("head", "head")):
        assert np.degrees(angle_between(turn(0, a), turn(1, b))).max() < 1e-6
    chain = ["hips", *(f"spine_{i + 1}" for i in range(6))]
    steps = [np.degrees(angle_between(turn(1, a), turn(1, b))).max() for a, b in pairwise(chain)]
    assert max(steps) < 2.5 * np.mean(steps)


def test_bones_without_a_partner_keep_their_rest():
    swap = swap_between(figure("Osric"), figure("Juniper"))
    result = swap.convert(act("walk", "Osric"), FREE)
    assert "coat_tail_1_l" in swap.resting_bones
    for name in swap.resting_bones:
        bone = result.bone(name)
        assert np.abs(result.rotations[:, bone] - result.skeleton.rest_rotations[bone]).max() < 1e-12
        assert bone not in result.keyed


def test_there_and_back_again_is_where_it_was():
    there, back = swap_between(figure("Juniper"), figure("Osric")), swap_between(figure("Osric"), figure("Juniper"))
    clip = act("turn-and-bow", "Juniper")
    proof = fairswap.compare(
        (figure("Juniper"), clip), (figure("Juniper"), back.convert(there.convert(clip, FREE), FREE))
    )
    assert proof.limbs_mean_degrees < 0.3
    assert proof.hips_worst_percent < 1e-6


def test_a_long_clip_is_carried_in_blocks_to_the_same_result(monkeypatch):
    from fairswap.retarget import swap as module

    swap = swap_between(figure("Juniper"), figure("Osric"))
    whole = swap.convert(act("turn-and-bow", "Juniper"), FREE)
    monkeypatch.setattr(module, "_FRAMES_AT_ONCE", 17)
    blocks = swap.convert(act("turn-and-bow", "Juniper"), FREE)
    assert np.array_equal(whole.rotations, blocks.rotations)
    assert np.array_equal(whole.translations, blocks.translations)


def test_a_limb_without_length_is_told_by_its_bone():
    juniper = figure("Juniper")
    offsets = juniper.skeleton.rest_translations.copy()
    offsets[juniper.skeleton.names.index("elbow_l")] = 0.0
    broken = replace(juniper, skeleton=replace(juniper.skeleton, rest_translations=offsets))
    with pytest.raises(fairswap.ImpossibleError, match=r"bone 'shoulder_joint_l'.*no length"):
        swap_between(figure("Osric"), broken)


def test_a_clip_of_another_figure_is_refused():
    with pytest.raises(fairswap.UsageError, match="moves another skeleton"):
        swap_between(figure("Juniper"), figure("Osric")).convert(act("walk", "Osric"), FREE)


@pytest.mark.parametrize("performer", ["Juniper", "Osric"])
@pytest.mark.parametrize("motion", ["walk", "turn-and-bow"])
def test_the_acts_look_like_a_person_could_do_them(motion, performer):
    """Feet near the floor and never far below it, one always stands, joints turn no faster than people do."""
    clip, who = act(motion, performer), figure(performer)
    proof = fairswap.compare((who, clip), (who, clip))
    assert proof.source_footing.sole_below_cm < 3.0
    assert proof.source_footing.standing_share > 0.8
    assert proof.source_footing.skate_cm_s < 8.0
    q = clip.rotations
    speed = np.degrees(angle_between(q[1:], q[:-1])) * float(clip.rate)
    assert speed.max() < 450.0
    assert {row.part for row in proof.roles} >= set(LIMB_PARTS)
    # Knees bend to the front, elbows too: seen from the resting hips, in every frame.
    roles, motion = ROLES[performer].bones, Motion(clip)
    legs = [tuple(roles[f"{part}_{side}"] for part in ("upper_leg", "lower_leg", "foot")) for side in ("left", "right")]
    assert motion.knees_ahead(roles["hips"], legs)[2] > 0.03
    hips = multiply(motion.world.rotations[:, roles["hips"]], motion.rest.rotations[0, roles["hips"]] * [-1, -1, -1, 1])
    for thigh, shin, foot in legs:
        top, knee, ankle = (motion.world.positions[:, bone] for bone in (thigh, shin, foot))
        seen = rotate(hips * [-1, -1, -1, 1], knee - 0.5 * (top + ankle))
        assert seen[:, 2].min() > -0.01


@pytest.mark.parametrize("seed", range(100, 130, 4))
@pytest.mark.long(but=1)
def test_the_bow_on_odd_rigs_that_nobody_described(seed):
    """Other names, rests, counts, axes and sizes: bones are found, the motion is the same, and it comes back."""
    rig, juniper, clip = odd_rig(seed, upright=True).figure, figure("Juniper"), act("turn-and-bow", "Juniper")
    there = swap_between(juniper, rig)
    result = there.convert(clip, FREE)
    proof = fairswap.compare((juniper, clip), (rig, result))
    assert proof.limbs_mean_degrees <= 0.5
    assert proof.limbs_worst_degrees <= 2.0
    assert proof.hips_worst_percent <= 1.0
    back = fairswap.compare((juniper, clip), (juniper, swap_between(rig, juniper).convert(result, FREE)))
    worst = {row.role: row.worst_degrees for row in back.roles if row.part in ("arms", "legs")}
    assert max(worst.values()) <= 2.0
