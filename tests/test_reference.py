"""Reference poses: rest, zero, a frame, a time, a file, or found; the hips' resting height is never motion."""

from dataclasses import replace

import numpy as np
import pytest

import fairswap
from fairswap.bones.assignment import roles_of
from fairswap.demo.acts import Act, perform
from fairswap.demo.anatomy import body_of
from fairswap.model.poses import Poses
from fairswap.model.rotation import multiply, quaternion_from_axis_angle, rotate
from fairswap.model.skinning import rebound_mesh
from fairswap.pose.base import base_pose
from fairswap.pose.choice import pose_named
from fairswap.pose.rest import can_stand, rest_pose_of
from making import FREE, TROUPE, act, figure, run, swap_between

OSRIC, JUNIPER = figure("Osric"), figure("Juniper")
ROLES = roles_of(OSRIC)
QUARTER = quaternion_from_axis_angle([0, 1, 0], np.pi / 2)


def t_then_walk():
    """A take that begins with the T, a metre aside, 20 cm higher and turned by a quarter; then Osric walks."""
    identity = {role: np.array([[0.0, 0, 0, 1]]) for role in ("hips", "chest", "head")}
    still = perform(Act("T", 30, identity, np.zeros((1, 3))), body_of("Osric"), OSRIC.skeleton)
    walk = act("walk", "Osric")
    tracks = np.concatenate([still.poses.rotation_tracks, walk.poses.rotation_tracks], axis=2)
    tracks[0, :, 0] = multiply(QUARTER, tracks[0, :, 0])
    place = np.concatenate([still.poses.translation_tracks, walk.poses.translation_tracks], axis=2)
    place[0, :, 0] = [1.0, place[0, 1, 0] + 0.2, 0.0]
    return fairswap.Clip("walk", walk.rate, Poses(OSRIC.skeleton, tracks, walk.poses.translated_bones, place))


def t_file():
    """A still file of the family that rests in the T."""
    fairswap.save("t.glb", replace(OSRIC, skeleton=body_of("Osric").skeleton({}), source=None))
    return "t.glb"


def as_the_truth(source, clip, reference, start):
    """The walk on Juniper by this reference pose, from frame ``start``, against her own walk."""
    swap = swap_between(source, JUNIPER, motion=clip, source_reference=reference)
    result = swap.convert(clip, FREE)
    cut = replace(
        result.poses,
        rotation_tracks=result.poses.rotation_tracks[:, :, start:],
        translation_tracks=result.poses.translation_tracks[:, :, start:],
    )
    proof = fairswap.compare((JUNIPER, act("walk", "Juniper")), (JUNIPER, fairswap.Clip("walk", clip.rate, cut)))
    assert proof.limbs_mean_degrees <= 0.5, swap.source.base.said
    assert proof.limbs_worst_degrees <= 2.0
    assert proof.hips_worst_percent <= 1.0
    return swap


@pytest.mark.parametrize("reference", ["auto", "rest", "frame:0", "time:0", "file"])
def test_every_reference_of_a_figure_that_rests_arms_down_gives_the_same_walk(reference):
    as_the_truth(OSRIC, t_then_walk(), t_file() if reference == "file" else reference, 1)


def test_zero_is_the_rest_of_a_motion_file():
    fairswap.save("walk.bvh", OSRIC, [act("walk", "Osric")], space=fairswap.Space("+Z", "-Y", "in"))
    document = fairswap.load("walk.bvh")
    as_the_truth(document.figure, document.clips[0], "zero", 0)


def resting_otherwise(turns, **more):
    """Osric with some bones turned at rest: by role the axis, in the world, and the radians. His meshes stay as they
    are bound, and the walk, after a T, stays the same."""
    rest = OSRIC.skeleton.rest_rotations.copy()
    for role, (axis, angle) in turns.items():
        bone = ROLES.bones[role]
        local = rotate(OSRIC.skeleton.rest.rotations[0, bone] * [-1, -1, -1, 1], np.array(axis, dtype=float))
        rest[bone] = multiply(rest[bone], quaternion_from_axis_angle(local, angle))
    odd = replace(OSRIC, skeleton=replace(OSRIC.skeleton, rest_rotations=rest), source=None, **more)
    clip = t_then_walk()
    return odd, replace(clip, poses=replace(clip.poses, skeleton=odd.skeleton))


SITS = {f"upper_leg_{side}": ([1, 0, 0], -2.4) for side in ("left", "right")}
IN_MID_MOTION = {
    "leans": {"spine_1": ([1, 0, 0], 0.6)},
    "waves": {"upper_arm_left": ([0, 0, 1], 1.9)},
    "steps": {"upper_leg_left": ([1, 0, 0], -0.5), "upper_leg_right": ([1, 0, 0], 0.5)},
}


@pytest.mark.parametrize(("meshes", "says"), [((), "first frame"), (OSRIC.meshes, "meshes were bound")])
def test_a_rest_pose_in_which_nobody_can_stand_gives_way_to_a_better_one(meshes, says):
    odd, clip = resting_otherwise(SITS, meshes=meshes)
    assert not can_stand(odd.skeleton.rest, ROLES)
    swap = as_the_truth(odd, clip, "auto", 1)
    assert says in swap.source.base.said
    without_clip = base_pose(odd, ROLES, pose_named("auto")).said
    assert "meshes were bound" in without_clip if meshes else "nobody stands" in without_clip


@pytest.mark.parametrize("way", IN_MID_MOTION)
def test_a_rest_pose_in_mid_motion_gives_way_to_how_the_meshes_were_bound(way):
    """A lean of 34 degrees at rest would come out as a lean in every frame, or be taken out of it."""
    odd, clip = resting_otherwise(IN_MID_MOTION[way])
    assert can_stand(odd.skeleton.rest, ROLES)
    swap = as_the_truth(odd, clip, "auto", 1)
    assert "mid-motion" in swap.source.base.said
    walk = fairswap.demo_motion("walk", by="Juniper")
    back, plain = fairswap.convert(walk, odd, motion=FREE), fairswap.convert(walk, OSRIC, motion=FREE)
    apart = np.abs(back.clips[0].poses.world().positions - plain.clips[0].poses.world().positions)
    moved = [bone for role, bone in ROLES.bones.items() if "eye" not in role and role != "jaw"]
    assert apart[:, moved].max() < 0.02


def test_a_rest_pose_that_is_a_frame_of_the_clip_gives_way_if_the_meshes_were_bound_straighter():
    """Both elbows bent alike may be how a figure rests; not if a clip goes through that very pose."""
    odd, clip = resting_otherwise({f"lower_arm_{side}": ([1, 0, 0], -0.9) for side in ("left", "right")})
    edit = clip.poses.edit()
    edit.rotation_tracks[:, :, 40] = odd.skeleton.rest_rotations
    passing = clip.with_poses(edit.poses())
    for shown, says in ((None, "the rest pose"), (clip, "the rest pose"), (passing, "mid-motion")):
        assert says in base_pose(odd, ROLES, pose_named("auto"), shown).said
    assert "mid-motion" not in base_pose(OSRIC, ROLES, pose_named("auto"), passing).said


def test_a_rest_pose_straighter_than_how_meshes_were_bound_is_kept():
    odd, _ = resting_otherwise({})
    leaning, _ = resting_otherwise(IN_MID_MOTION["leans"])
    bound = tuple(rebound_mesh(mesh, leaning.skeleton) for mesh in odd.meshes)
    assert base_pose(replace(odd, meshes=bound), ROLES, pose_named("auto")).said == "the rest pose"


@pytest.mark.parametrize("platform", ["quillmoor", "saltglass"])
def test_what_rests_in_mid_motion_is_fitted_to_rest_as_it_was_bound(platform):
    """The pose in which the meshes were bound is not lost with the skin that is bound anew."""
    odd, clip = resting_otherwise(IN_MID_MOTION["leans"])
    document = fairswap.Document("leaning.glb", "glTF 2.0", odd.space, (odd,), (clip,))
    found = rest_pose_of(odd, ROLES)
    assert (found.kind, found.stands_even) == ("mid-motion", False)
    fitted = fairswap.fit(document, platform)
    assert any(change.rule == "figure.rest_pose" for change in fitted.changes)
    fitted.save("fitted.glb")
    rests = fairswap.inspect("fitted.glb").figures[0].rest_pose
    assert rests.kind == {"quillmoor": "T", "saltglass": "arms down"}[platform]
    assert fairswap.compare(document, "fitted.glb").likeness >= 95


def test_a_target_may_have_a_reference_of_its_own():
    swap = swap_between(JUNIPER, OSRIC, target_reference=t_file())
    result = swap.convert(act("turn-and-bow", "Juniper"), FREE)
    proof = fairswap.compare((OSRIC, act("turn-and-bow", "Osric")), (OSRIC, result))
    assert proof.limbs_worst_degrees <= 2.0
    assert swap.target.reference.corrections["upper_arm_left"] < 1e-3


@pytest.mark.parametrize(
    ("reference", "kind", "says"),
    [
        ("frame:999", fairswap.UsageError, r"has no frame 999.*last is 180"),
        ("frame:1.5", fairswap.UsageError, "has no frame 1.5"),
        ("time:60", fairswap.UsageError, r"has no time 60.*6\.000 s"),
        ("sideways", fairswap.UsageError, "is not a pose.*frame:N"),
        ("gone.glb", fairswap.InputError, "no such file"),
    ],
)
def test_a_reference_that_is_not_there_is_told(reference, kind, says):
    with pytest.raises(kind, match=says):
        base_pose(OSRIC, ROLES, pose_named(reference), act("walk", "Osric"))
    with pytest.raises(fairswap.UsageError, match="no clip"):
        base_pose(OSRIC, ROLES, pose_named("frame:0"), None)


def test_the_last_frame_of_a_clip_can_be_a_reference():
    walk = act("walk", "Osric")
    by_frame, by_time = (base_pose(OSRIC, ROLES, pose_named(said), walk) for said in ("frame:180", "time:6"))
    last = walk.poses.at([180]).world()
    bone = ROLES.bones["lower_leg_left"]
    knee = [world.positions[0, ROLES.bones["foot_left"]] - world.positions[0, bone]
            for world in (by_frame.world, by_time.world, last)]  # fmt: skip
    assert np.allclose(knee[0], knee[1])
    assert np.linalg.norm(knee[0]) == pytest.approx(np.linalg.norm(knee[2]))
    assert knee[0][1] == pytest.approx(knee[2][1])


@pytest.mark.parametrize(
    ("said", "meant"),
    [
        ("T", "t"),
        ("T-pose", "t"),
        ("tpose", "t"),
        ("A-Pose", "a"),
        ("A:30", "a:30"),
        ("Rest", "rest"),
        ("Frame:3", "frame:3"),
    ],
)
def test_poses_are_called_as_artists_call_them(said, meant):
    found, plain = pose_named(said), pose_named(meant)
    assert (found.kind, found.value, found.text) == (plain.kind, plain.value, meant)


def test_a_reference_of_another_family_is_told_by_the_roles_it_lacks():
    fingers = ("Point", "Long", "Ring", "Least", "Thumb")
    few = [bone for bone, name in enumerate(OSRIC.skeleton.names) if not any(word in name for word in fingers)]
    number = {bone: i for i, bone in enumerate(few)}
    s = OSRIC.skeleton
    parents = np.array([number.get(int(s.parents[b]), -1) for b in few])
    bare = fairswap.Skeleton(tuple(s.names[b] for b in few), parents, s.rest_rotations[few], s.rest_translations[few])
    still = Poses(bare, np.repeat(bare.rest_rotations[:, :, None], 2, axis=2))
    fairswap.save("bare.bvh", fairswap.Figure("bare", bare), [fairswap.Clip("still", act("walk", "Osric").rate, still)])
    with pytest.raises(fairswap.ImpossibleError, match=r"another family; it has no thumb_metacarpal_left"):
        base_pose(OSRIC, ROLES, pose_named("bare.bvh"))


def test_convert_takes_references_and_says_which():
    fairswap.save("take.glb", OSRIC, [t_then_walk()])
    done = run(
        "convert", "take.glb", "--onto", TROUPE / "juniper.glb", "-o", "out.glb", "--source-reference", "frame:0"
    )
    assert done.returncode == 0, done.stderr
    assert "frame 0 of 'walk', as asked" in done.stdout
    wrong = run(
        "convert", "take.glb", "--onto", TROUPE / "juniper.glb", "-o", "no.glb", "--target-reference", "frame:0"
    )
    assert (wrong.returncode, "reference pose of the target" in wrong.stderr) == (2, True)
