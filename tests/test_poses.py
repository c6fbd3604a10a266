"""Reference poses matched, measured, told and baked: any rest onto any other, and there and back."""

from dataclasses import replace
from functools import cache
from pathlib import Path

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

import fairswap
from fairswap.bones.roles import next_roles, part_of
from fairswap.demo.anatomy import body_of
from fairswap.demo.repertoire import turn_and_bow, walk
from fairswap.model.mesh import deformed_vertices
from fairswap.model.rotation import angle_between, conjugate, multiply, normalized, quaternion_from_axis_angle
from fairswap.pose.measuring import measure_pose, verdicts
from fairswap.pose.saved import SavedPose
from making import FREE, TROUPE, act, figure, rigged, run, swap_between
from rests import RESTS, family_file, resting

ACTS = {"walk": walk(), "turn-and-bow": turn_and_bow()}


@cache
def loaded(folder, performer, rest, motion):
    return fairswap.load(family_file(performer, rest, ACTS[motion]))


def off_the_truth(source, target, truth):
    """Degrees: limbs mean and worst, twist of the limbs, fingers; the hips in percent of the leg."""
    swap = swap_between(source.figure, target.figure, motion=source.clips[0], target_motion=target.clips[0])
    result = swap.convert(source.clips[0], FREE).world()
    wanted = truth.clips[0].world()
    roles = swap.target.roles.bones
    limbs, fingers, worst, twists = [], [], [], []
    for role, bone in roles.items():
        onward = [roles[name] for name in next_roles(role) if name in roles]
        if part_of(role) not in ("arms", "legs", "hands") or not onward:
            continue
        ways = [normalized(world.positions[:, onward[0]] - world.positions[:, bone]) for world in (result, wanted)]
        apart = np.degrees(angle_between(*ways))
        worst.append(apart.max())
        in_finger = part_of(role) == "hands" and not role.startswith("hand_")
        (fingers if in_finger else limbs).append(apart.mean())
        if not in_finger:
            twists.append(np.degrees(angle_between(result.rotations[:, bone], wanted.rotations[:, bone])).mean())
    hips = np.linalg.norm(result.positions[:, roles["hips"]] - wanted.positions[:, roles["hips"]], axis=1).max()
    leg = swap.target.reference.leg_m
    return np.mean(limbs), max(worst), max(twists), np.mean(fingers), 100 * hips / leg


@pytest.mark.parametrize("source_rest", list(RESTS))
@pytest.mark.long(but=1)
def test_every_rest_onto_every_other_gives_the_act_as_performed_directly(source_rest, tmp_path_factory):
    folder = tmp_path_factory.getbasetemp()
    for motion, performer, target in (("turn-and-bow", "Juniper", "Osric"), ("walk", "Osric", "Juniper")):
        other = "walk" if motion == "turn-and-bow" else "turn-and-bow"
        # Each pair of rests once; the way back from a few only: it is the same code.
        rests = (
            list(RESTS)[list(RESTS).index(source_rest) :] if motion == "turn-and-bow" else ["arms down 85", "in line"]
        )
        for target_rest in rests:
            found = off_the_truth(
                loaded(folder, performer, source_rest, motion),
                loaded(folder, target, target_rest, other),
                loaded(folder, target, target_rest, motion),
            )
            assert all(np.array(found) <= (0.5, 2.0, 1.0, 2.0, 1.0)), (source_rest, target_rest, found)


def subject_resting(rest, name="Osric"):
    return rigged(fairswap.Figure(name, resting(body_of(name), rest)))


@pytest.mark.parametrize(
    ("rest", "expected"),
    [
        ("A 45", {"upper_arm_left": 45, "upper_arm_right": 45}),
        ("arms down 85", {"upper_arm_left": 85, "upper_arm_right": 85}),
        ("one arm up", {"upper_arm_left": 80}),
        ("bent elbows 30", {"lower_arm_left": 30, "lower_arm_right": 30}),
        ("on its back", {}),
        ("facing -Z", {}),
    ],
)
def test_measuring_finds_what_was_turned_and_nothing_else(rest, expected):
    rows = [row for row in measure_pose(subject_resting(rest), subject_resting("T")) if row.degrees > 0.5]
    assert {row.role: row.swing_degrees for row in rows} == pytest.approx(expected, abs=0.5)
    assert all(row.twist_degrees < 0.5 for row in rows)


def test_measuring_tells_swing_from_twist_and_pose_from_anatomy():
    """Palms turned by 70 degrees, the head by 20: the first is corrected and looked at, the second kept."""
    osric = figure("Osric")
    roles = rigged(osric).roles.bones
    rest = osric.skeleton.rest_rotations.copy()
    along = normalized(osric.skeleton.rest_translations[roles["middle_proximal_left"]])
    rest[roles["hand_left"]] = multiply(rest[roles["hand_left"]], quaternion_from_axis_angle(along, np.radians(70.0)))
    rest[roles["head"]] = multiply(rest[roles["head"]], quaternion_from_axis_angle([0, 0, 1], np.radians(20.0)))
    posed = rigged(replace(osric, skeleton=replace(osric.skeleton, rest_rotations=rest), source=None))
    rows = {row.role: row for row in measure_pose(posed, rigged(osric)) if row.degrees > 0.5}
    assert set(rows) == {"hand_left", "head"}
    assert (rows["hand_left"].twist_degrees, rows["hand_left"].swing_degrees) == pytest.approx((70, 0), abs=0.5)
    assert rows["head"].degrees == pytest.approx(20, abs=0.5)
    states = {part.part: part.state for part in verdicts(rows.values())}
    assert states == {"hands": "look", "head": "kept"}
    swap = swap_between(figure("Juniper"), posed.figure)
    assert any(finding.code == "correction-large" for finding in swap.findings)


@pytest.mark.parametrize(("name", "motion", "to"), [("Juniper", "turn-and-bow", "a"), ("Osric", "walk", "t")])
def test_setting_a_rest_pose_there_and_back(name, motion, to):
    """Bones within 0.01 mm and vertices within 0.05 mm in every clip, the rest of the file as it was."""
    fairswap.save("before.glb", figure(name), [act(motion, name)])
    there = run("pose", "set", "before.glb", "--to", to, "-o", "there.glb")
    assert there.returncode == 0, there.stderr
    measured = run("pose", "measure", "there.glb", "--against", "before.glb").stdout
    assert ("45 degrees" if to == "a" else "72 degrees") in measured
    back = run("pose", "set", "there.glb", "--to", "before.glb", "-o", "back.glb")
    assert back.returncode == 0, back.stderr
    before, after, halfway = (fairswap.load(f"{word}.glb") for word in ("before", "back", "there"))
    worlds = [document.clips[0].world() for document in (before, after, halfway)]
    for other in worlds[1:]:
        assert np.abs(other.positions - worlds[0].positions).max() < 1e-5
    for frame in range(0, worlds[0].positions.shape[0], 40):
        shapes = [
            deformed_vertices(document.figure.meshes[0], world, frame)
            for document, world in zip((before, after), worlds, strict=False)
        ]
        assert np.linalg.norm(shapes[0] - shapes[1], axis=1).max() < 5e-5
    # It is a real rest: the mesh stands in it without any clip, on the ground, normals and all.
    at_rest = halfway.figure.rest_points
    assert at_rest[:, 1].min() == pytest.approx(before.figure.rest_points[:, 1].min(), abs=0.002)
    assert np.ptp(at_rest[:, 0]) != pytest.approx(np.ptp(before.figure.rest_points[:, 0]), abs=0.05)
    assert halfway.figure.source.container.raw["materials"] == before.figure.source.container.raw["materials"]


def test_a_mesh_bound_to_a_new_rest_keeps_its_normals():
    """Arms 72 degrees down: vertices go along, and normals still stand on the faces."""
    from fairswap.model.mesh import vertex_normals

    rested = run_set("juniper.glb", "a:72")
    mesh, old = rested.figure.meshes[0], figure("Juniper").meshes[0]
    assert rested.figure.skeleton.rest_rotations is not figure("Juniper").skeleton.rest_rotations
    moved = np.linalg.norm(mesh.vertices - old.vertices, axis=1) > 0.05
    assert moved.sum() > 500
    true_normals = vertex_normals(mesh.vertices, mesh.triangles)
    off = np.degrees(angle_between(mesh.normals, true_normals))
    assert np.median(off[moved]) < 4.0


def run_set(name, to):
    done = run("pose", "set", TROUPE / name, "--to", to, "-o", "set.glb")
    assert done.returncode == 0, done.stderr
    return fairswap.load("set.glb")


def test_a_motion_file_is_rebased():
    """A BVH whose limbs all rest in a line becomes one that rests in a T, with the same motion."""
    path = family_file("Osric", "in line", ACTS["walk"])
    done = run("pose", "set", path, "--to", "t", "-o", "t.bvh")
    assert done.returncode == 0, done.stderr
    old, new = fairswap.load(path), fairswap.load("t.bvh")
    assert "alike: arms, hands, fingers, legs, feet" in run("pose", "measure", "t.bvh").stdout
    apart = [document.clips[0].world().positions for document in (old, new)]
    assert np.abs(apart[0] - apart[1]).max() < 1e-5


def test_a_frame_is_frozen_as_the_rest():
    fairswap.save("walk.glb", figure("Osric"), [act("walk", "Osric")])
    done = run("pose", "set", "walk.glb", "--to", "frame:40", "--frame-of", "Walk", "-o", "frozen.glb")
    assert done.returncode == 0, done.stderr
    frozen = rigged(fairswap.load("frozen.glb").figure, reference="rest")
    asked = rigged(figure("Osric"), clip=act("walk", "Osric"), reference="frame:40")
    limbs = [row for row in measure_pose(frozen, asked) if row.corrected]
    assert max(row.swing_degrees for row in limbs) < 0.01


def test_a_hand_pose_is_saved_and_used_again():
    """Osric's relaxed fingers, saved, set on Juniper; and given as the reference of the hands."""
    done = run("pose", "save", TROUPE / "osric.glb", "--part", "fingers", "-o", "hands.toml")
    assert done.returncode == 0, done.stderr
    pose = SavedPose.load("hands.toml")
    assert {role.split("_")[0] for role in pose.turns} == {"thumb", "index", "middle", "ring", "little"}
    relaxed = rigged(run_set("juniper.glb", "hands.toml").figure)
    rows = measure_pose(relaxed, rigged(figure("Osric")))
    assert all(row.degrees < 0.1 for row in rows if row.part == "fingers")
    assert any(row.degrees > 70 for row in rows if row.part == "arms")
    # A relaxed hand held still: with 'rest' it stays as each rests, with 'auto' the difference is carried.
    still = fairswap.Clip("still", act("walk", "Osric").rate, act("walk", "Osric").poses.at([0, 0]))
    tracks = still.poses.rotation_tracks.copy()
    roles = rigged(figure("Osric")).roles.bones
    fingers = [bone for role, bone in roles.items() if role in pose.turns]
    tracks[fingers] = figure("Osric").skeleton.rest_rotations[fingers][:, :, None]
    still = replace(still, poses=replace(still.poses, rotation_tracks=tracks))
    juniper = figure("Juniper")
    theirs = rigged(juniper).roles.bones["index_intermediate_left"]
    for hands, degrees in (("auto", 12.0), ("rest", 0.0), ("hands.toml", 24.0)):
        swap = swap_between(figure("Osric"), juniper, hands_reference=hands)
        turned = angle_between(swap.convert(still, FREE).rotations[0, theirs], juniper.skeleton.rest_rotations[theirs])
        assert np.degrees(turned) == pytest.approx(degrees, abs=0.6), hands


def test_a_correction_by_hand_is_kept_for_a_family():
    """A saved pose as the reference: what it turns counts as the T."""
    Path("higher.toml").write_text('fairswap = "pose/1"\n[turns]\nupper_arm_left = [0.0, 0.0, 10.0]\n')
    osric, juniper = figure("Osric"), figure("Juniper")
    plain = swap_between(osric, juniper)
    other = swap_between(osric, juniper, target_reference="higher.toml")
    bone = plain.target.roles.bones["upper_arm_left"]
    turned = angle_between(*(swap.target.reference.rotations[bone] for swap in (plain, other)))
    assert np.degrees(turned) == pytest.approx(10.0)


def test_left_and_right_swapped_and_mirrored_figures_are_refused():
    osric = figure("Osric")
    roles = rigged(osric).roles
    other = {"left": "right", "right": "left"}
    swapped = {
        f"{role.rpartition('_')[0]}_{other[side]}" if (side := role.rpartition("_")[2]) in other else role: bone
        for role, bone in roles.bones.items()
    }
    names = {role: (osric.skeleton.names[bone],) for role, bone in swapped.items()}
    profile = fairswap.BoneProfile("swapped", names)
    with pytest.raises(fairswap.ImpossibleError, match=r"left and right of the target 'Osric' are swapped.*mirrored"):
        swap_between(figure("Juniper"), osric, target_bones=profile)


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ('fairswap = "pose/1"\n[turns]\nelbow = [0, 0, 1]\n', "'elbow' is not a role"),
        ('fairswap = "pose/1"\n[turns]\nhead = [0, 0]\n', "three numbers"),
        ('fairswap = "pose/1"\n[turns]\nhead = [0, 0, nan]\n', "not a finite number"),
        ('fairswap = "pose/1"\nturn = 1\n[turns]\n', "no field 'turn'"),
        ('fairswap = "bones/1"\n', "not a pose"),
        ("x = = 1", "not TOML"),
    ],
)
def test_a_pose_file_that_is_wrong_says_where(text, says):
    Path("p.toml").write_text(text)
    with pytest.raises(fairswap.InputError, match=says):
        SavedPose.load("p.toml")


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (["--to", "sideways"], "not a pose"),
        (["--to", "frame:999"], "no frame 999"),
        (["--to", "gone.glb"], "no such file"),
        ([], "say which pose"),
        (["--frame-of", "Dance"], "no clip is called 'Dance'"),
    ],
)
def test_setting_a_pose_that_is_not_there_is_told(arguments, says):
    fairswap.save("walk.glb", figure("Osric"), [act("walk", "Osric")])
    done = run("pose", "set", "walk.glb", "-o", "out.glb", *arguments)
    assert done.returncode in (2, 3)
    assert says in done.stderr
    assert not Path("out.glb").exists()


def about_x(degrees):
    return quaternion_from_axis_angle([1, 0, 0], np.radians(degrees))[None]


def rolled_arms(degrees):
    """Osric's bones with arms rolled about themselves in a straight rest, and his walk on them."""
    skeleton = body_of("Osric").skeleton({f"upper_arm_{side}": about_x(degrees) for side in ("left", "right")})
    clip = act("walk", "Osric")
    clip = replace(clip, poses=replace(clip.poses, skeleton=skeleton), origin=None)
    return replace(figure("Osric"), skeleton=skeleton, meshes=(), source=None), clip


def test_straight_limbs_take_their_hinge_from_the_clip():
    """Only how the elbows bend in the clip shows by how much arms are rolled."""
    rolled, clip = rolled_arms(40.0)
    swap = swap_between(rolled, figure("Juniper"), motion=clip)
    found = fairswap.compare((figure("Juniper"), act("walk", "Juniper")), (figure("Juniper"), swap.convert(clip, FREE)))
    turns = {row.role: row.turn_mean_degrees for row in found.roles}
    assert turns["upper_arm_left"] < 1.0
    blind = swap_between(rolled, figure("Juniper")).source.reference.rotations
    bone = swap.source.roles.bones["upper_arm_left"]
    assert np.degrees(angle_between(blind[bone], swap.source.reference.rotations[bone])) == pytest.approx(40, abs=1)


@pytest.mark.parametrize(("on_the_right", "believed"), [(40.0, True), (0.0, False)])
def test_an_elbow_that_wanders_is_believed_if_the_other_one_says_the_same(on_the_right, believed):
    """A clip that turns an upper arm and turns its forearm back shows another axis from frame to frame."""
    osric, clip = rolled_arms(0.0)
    tracks = clip.poses.rotation_tracks.copy()
    wave = np.sin(np.linspace(0.0, 40.0, clip.frames))
    for side, sign, middle in (("left", 1.0, 40.0), ("right", -1.0, on_the_right)):
        upper, lower = (rigged(osric).roles.bones[f"{part}_arm_{side}"] for part in ("upper", "lower"))
        along = normalized(osric.skeleton.rest_translations[lower])
        turn = quaternion_from_axis_angle(along, sign * np.radians(middle + 25.0 * wave))
        tracks[upper] = multiply(tracks[upper].T, turn).T
        tracks[lower] = multiply(conjugate(turn), tracks[lower].T).T
    wandering = replace(clip, poses=replace(clip.poses, rotation_tracks=tracks), origin=None)
    plain, told = (rigged(osric, clip=one).reference.rotations for one in (None, wandering))
    turned = [np.degrees(angle_between(plain[bone], told[bone])).item()
              for bone in (rigged(osric).roles.bones[f"upper_arm_{side}"] for side in ("left", "right"))]  # fmt: skip
    assert turned == pytest.approx([40.0, 40.0] if believed else [0.0, 0.0], abs=8.0)


@pytest.mark.parametrize(("degrees", "believed"), [(90.0, True), (-110.0, True), (180.0, False), (-160.0, False)])
def test_no_clip_says_that_an_arm_is_turned_inside_out(degrees, believed):
    """Palms ahead, or behind, are ways to rest; elbows that bend backward are a clip gone wrong."""
    rolled, clip = rolled_arms(degrees)
    plain, told = (rigged(rolled, clip=one).reference.rotations for one in (None, clip))
    bone = rigged(rolled).roles.bones["upper_arm_left"]
    turned = np.degrees(angle_between(plain[bone], told[bone]))
    assert turned == pytest.approx(abs(degrees) if believed else 0.0, abs=2.0)


def test_arms_that_a_clip_shows_rolled_are_fitted_as_they_are():
    """The rest pose of a platform takes the roll out; the clips show what they showed, and are told to."""
    rolled, clip = rolled_arms(70.0)
    fitted = fairswap.fit(fairswap.Document("rolled", "", rolled.space, (rolled,), (clip,)), "quillmoor")
    found = fairswap.compare_fitted(fitted)[0]
    assert {part.part: part.score for part in found.parts}["arms"] > 97.0


def leaning(limb, degrees, about):
    """Osric's bones in a straight rest, but for elbows or knees that are bent there, about an axis of the room."""
    turns = {}
    for side, sign in (("left", 1.0), ("right", -1.0)):
        mirrored = np.multiply(about, [1.0, sign, sign])
        turns[f"lower_{limb}_{side}"] = quaternion_from_axis_angle(mirrored, np.radians(degrees))[None]
    skeleton = body_of("Osric").skeleton(turns)
    clip = act("walk", "Osric")
    clip = replace(clip, poses=replace(clip.poses, skeleton=skeleton), origin=None)
    return replace(figure("Osric"), skeleton=skeleton, meshes=(), source=None), clip


@pytest.mark.parametrize("limb", ["arm", "leg"])
@pytest.mark.parametrize(("degrees", "believed"), [(13.0, False), (-13.0, False), (40.0, True)])
def test_legs_like_an_x_and_forearms_that_lean_aside_are_no_sign_of_a_roll(limb, degrees, believed):
    """A slight bend square to how a limb bends is how it is drawn; a large one is how it bends."""
    aside = [0.0, 0.0, 1.0]
    straight, leans = (rigged(leaning(limb, bend, aside)[0]) for bend in (0.0, degrees))
    bone = straight.roles.bones[f"upper_{limb}_left"]
    turned = np.degrees(angle_between(straight.reference.rotations[bone], leans.reference.rotations[bone]))
    assert turned == pytest.approx(90.0 if believed else 0.0, abs=0.01)


def test_a_slight_bend_at_rest_gives_way_to_a_clip_that_swings_the_joint():
    """An elbow drawn bent by 13 degrees, 50 beside the axis it then bends about; in a still clip it is believed."""
    beside = [0.0, -np.cos(np.radians(50.0)), np.sin(np.radians(50.0))]
    leans, clip = leaning("arm", 13.0, beside)
    straight = rigged(leaning("arm", 0.0, beside)[0], clip=clip)
    bone = straight.roles.bones["upper_arm_left"]
    still = replace(clip, poses=clip.poses.at([0, 0]), origin=None)
    for shown, off in ((clip, 0.0), (still, 50.0), (None, 50.0)):
        told = rigged(leans, clip=shown).reference.rotations[bone]
        assert np.degrees(angle_between(straight.reference.rotations[bone], told)) == pytest.approx(off, abs=3.0)


def test_twist_is_shared_over_helpers():
    """A wrist turned by 60 degrees turns the helper in the middle of the forearm by 30."""
    juniper, osric = figure("Juniper"), figure("Osric")
    still = act("walk", "Osric").poses.at([0, 0])
    swap = swap_between(osric, juniper)
    roles = swap.source.roles.bones
    hand = roles["hand_left"]
    tracks = still.rotation_tracks.copy()
    along = normalized(osric.skeleton.rest_translations[hand])
    tracks[hand, :, 1] = multiply(quaternion_from_axis_angle(along, np.radians(60.0)), tracks[hand, :, 1])
    clip = fairswap.Clip("wrist", act("walk", "Osric").rate, replace(still, rotation_tracks=tracks))
    result = swap.convert(clip, FREE)
    helper = result.bone("elbow_twist_l")
    turned = np.degrees(angle_between(result.rotations[0, helper], result.rotations[1, helper]))
    assert turned == pytest.approx(30.0, abs=0.5)
    assert helper in result.keyed


@pytest.mark.parametrize("degrees", [60.0, 90.0, 180.0])
def test_a_skeleton_that_rests_leaning_or_lying_is_stood_up_over_its_hips(degrees):
    """As its clips move it: they stand, so the hips are as high as they are standing."""
    body = figure("Osric")
    known = rigged(body).roles.bones
    turn = Rotation.from_euler("x", degrees, degrees=True)
    rotations, places = body.skeleton.rest_rotations.copy(), body.skeleton.rest_translations.copy()
    (top,) = np.flatnonzero(body.skeleton.parents < 0)
    rotations[top] = (turn * Rotation.from_quat(rotations[top])).as_quat()
    places[top] = turn.apply(places[top]) + [0.4, 0.0, 0.0]
    lying = replace(body.skeleton, rest_rotations=rotations, rest_translations=places)
    bare = replace(body, skeleton=lying, meshes=(), source=None)
    clip = act("walk", "Osric")
    stood = rigged(bare, clip=replace(clip, poses=replace(clip.poses, skeleton=lying)), reference="rest")
    base, positions = stood.base, stood.base.world.positions[0]
    assert stood.reference.hips[[0, 2]] == pytest.approx(base.hips[[0, 2]], abs=1e-9)
    assert abs(base.hips[0] - 0.4) < 0.01
    assert positions[known["hips"]] == pytest.approx(base.hips, abs=1e-9)
    assert positions[known["hips"], 1] == pytest.approx(body.skeleton.rest.positions[0, known["hips"], 1], abs=0.05)
    assert positions[known["head"], 1] > positions[known["hips"], 1] + 0.3
