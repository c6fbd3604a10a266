"""The small parts: errors that say everything, rates, spaces, clips and figures as values, files by suffix."""

import re
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest
from scipy.spatial.transform import Rotation, Slerp

import fairswap
import rewrites
from fairswap.bones.assignment import roles_of
from fairswap.bones.hands import fingers_of
from fairswap.bones.rig import Rig
from fairswap.bones.roles import SIDED_ROLES, is_role, next_roles, part_of, role_order, side_of
from fairswap.demo.rigs import odd_rig
from fairswap.formats.vrm.humanoid import role_of_vrm_bone
from fairswap.inspection import inspect, rest_pose_of
from fairswap.jobs.writing import paths_for
from fairswap.model.mesh import deformed_vertices, vertex_normals
from fairswap.model.poses import MorphTrack, PoseBuilder, StretchTrack, check_amount
from fairswap.model.rate import rate_from_interval, rate_from_text, text_from_rate
from fairswap.model.space import AHEAD, LEFT, UP, direction, nearest_direction, usual_forward
from judging import positions
from making import Gltf, act, animate, arm, clip_of, figure, random_poses, random_skeleton


def test_an_error_says_file_place_problem_and_remedy_in_one_line():
    error = fairswap.InputError("it is cut", file="a.glb", place="buffers[0]", remedy="Export it again")
    assert str(error) == "a.glb, buffers[0]: it is cut. Export it again."
    assert str(fairswap.InputError("it is cut").in_file("b.glb")) == "b.glb: it is cut."
    assert str(error.in_file("other.glb")).startswith("a.glb")
    statuses = [fairswap.UsageError, fairswap.InputError, fairswap.ImpossibleError, fairswap.OutputError]
    assert [kind.exit_status for kind in statuses] == [2, 3, 4, 4]


@pytest.mark.parametrize(
    "rate", [24, 25, 30, 48, 50, 60, 72, 90, 100, 120, 240, Fraction(24000, 1001), Fraction(60000, 1001)]
)
def test_rates_come_back_from_rounded_text_and_from_single_precision(rate):
    rate = Fraction(rate)
    assert rate_from_text(f"{float(1 / rate):.7f}") == rate
    assert rate_from_interval(float(np.float32(1 / rate))) == rate
    assert float(text_from_rate(rate)) == pytest.approx(float(rate), abs=0.005)


def test_a_space_turns_its_own_directions_into_ours():
    space = fairswap.Space("+Z", "-Y", "in")
    assert (space.turn @ [0, 0, 1]).tolist() == [0, 1, 0]
    assert (space.turn @ [0, -1, 0]).tolist() == [0, 0, 1]
    assert np.linalg.det(space.turn) == pytest.approx(1.0)
    for wrong in (("north", "+Z", "m"), ("+Y", "-Y", "m"), ("+Y", "+Z", "ell")):
        with pytest.raises(fairswap.UsageError):
            fairswap.Space(*wrong)


def test_units_are_as_long_as_they_are_and_our_axes_point_left_up_and_ahead():
    long = {"m": 1.0, "dm": 0.1, "cm": 0.01, "mm": 0.001, "in": 0.0254, "ft": 0.3048, "hm": 100.0}
    assert {unit: fairswap.Space("+Y", "+Z", unit).metres for unit in long} == long
    assert np.array_equal([LEFT, UP, AHEAD], np.eye(3))
    for name in ("+X", "-X", "+Y", "-Y", "+Z", "-Z"):
        assert nearest_direction(direction(name) + [0.1, -0.2, 0.15]) == name


@pytest.mark.parametrize("up", ["+X", "-X", "+Y", "-Y", "+Z", "-Z"])
def test_the_usual_forward_of_an_up_is_square_to_it(up):
    """Files that are Z-up look along -Y (towards who works at them); all others along +Z."""
    assert usual_forward(up) == {"+Z": "-Y", "-Z": "+Y"}.get(up, "+Z")
    turn = fairswap.Space(up, usual_forward(up)).turn
    assert np.allclose(turn @ turn.T, np.eye(3))
    assert np.linalg.det(turn) == pytest.approx(1.0)
    assert np.allclose(turn @ direction(up), [0.0, 1.0, 0.0])


def test_values_do_not_change():
    clip = act("walk", "Osric")
    for value, name in ((clip, "name"), (clip.poses, "skeleton"), (figure("Osric"), "name"), (clip.skeleton, "names")):
        with pytest.raises(AttributeError):
            setattr(value, name, None)


def test_a_clip_knows_whether_anything_moves_and_how_far_it_travels():
    skeleton = random_skeleton(6)
    moving = clip_of(random_poses(skeleton, 9))
    assert not moving.still
    resting = replace(moving.poses, rotation_tracks=np.repeat(skeleton.rest_rotations[:, :, None], 9, axis=2))
    resting = replace(resting, translation_tracks=np.repeat(resting.translation_tracks[:, :, :1], 9, axis=2))
    assert clip_of(resting).still
    assert clip_of(resting).travel_m == 0.0
    smiling = replace(resting, morph_tracks=(MorphTrack(0, np.linspace(0, 1, 9)[None]),))
    assert not clip_of(smiling).still
    # A root that is keyed and stays says nothing of how far the hips get.
    kept = {0: np.zeros((3, 1)), 1: np.outer([1.0, 5.0, 2.0], np.arange(9.0))}
    rooted = PoseBuilder(skeleton, resting.rotation_tracks.copy(), kept).poses()
    assert clip_of(rooted).travel_m == pytest.approx(
        np.linalg.norm(np.diff(rooted.world().positions[[0, 8], 1][:, [0, 2]], axis=0))
    )
    assert act("walk", "Juniper").travel_m == pytest.approx(6.0 / 0.56 * 0.66 * 0.92, rel=0.01)
    assert clip_of(resting, rate=24).duration_s == pytest.approx(8 / 24)


def test_a_bone_is_found_by_name_or_its_absence_is_told():
    clip = act("walk", "Osric")
    assert clip.skeleton.names[clip.bone("salt:Port Shin")] == "salt:Port Shin"
    for name, says in (("Shin", "no bone"),):
        with pytest.raises(fairswap.UsageError, match=says):
            clip.bone(name)
    twice = replace(clip.skeleton, names=("x",) * len(clip.skeleton))
    with pytest.raises(fairswap.UsageError, match="85 bones"):
        replace(clip, poses=replace(clip.poses, skeleton=twice)).bone("x")
    assert clip.skeleton.path(clip.bone("salt:Port Thigh")) == "salt:Pelvis/salt:Port Thigh"


def test_a_document_gives_its_clips_by_name_and_figure():
    fairswap.save("two.glb", figure("Juniper"), [act("turn-and-bow", "Juniper"), act("walk", "Juniper")])
    document = fairswap.load("two.glb")
    assert document.clip("Walk").frames == 181
    assert [clip.name for clip in document.clips_of(document.figure)] == ["Turn and bow", "Walk"]
    with pytest.raises(fairswap.UsageError, match="'Turn and bow', 'Walk'"):
        document.clip("Jump")


def test_equally_named_and_nameless_clips_get_names_of_their_own(tmp_path):
    made = arm()
    first = made.json["animations"][0]
    made.json["animations"] = [first, {**first}, {key: value for key, value in first.items() if key != "name"}]
    document = made.load(tmp_path)
    assert [clip.name for clip in document.clips] == ["bend", "bend (2)", "made 3"]
    assert "clip-unnamed" in {finding.code for finding in document.findings}


@pytest.mark.parametrize(
    ("mode", "run", "faces"), [(4, [0, 1, 2, 1, 3, 2], 2), (5, [0, 1, 2, 3], 2), (6, [0, 1, 3, 2], 2)]
)
def test_triangles_strips_and_fans_show_the_same_two_faces(mode, run, faces, tmp_path):
    made = arm()
    primitive = made.json["meshes"][0]["primitives"][0]
    primitive |= {"mode": mode, "indices": made.add(run, "<u4")}
    mesh = made.load(tmp_path).figure.meshes[0]
    assert len(mesh.triangles) == faces
    normals = vertex_normals(mesh.vertices, mesh.triangles)[:4]
    assert np.allclose(np.abs(normals[:, 2]), 1.0)
    assert len(set(np.sign(normals[:, 2]))) == 1  # all wind the same way


@pytest.mark.parametrize("seed", range(4))
def test_what_hangs_on_a_bone_is_what_a_walk_up_the_tree_comes_by(seed):
    skeleton = random_skeleton(12, seed)

    def above(bone):
        while bone >= 0:
            yield bone
            bone = int(skeleton.parents[bone])

    ways = [list(above(bone)) for bone in range(12)]
    for bone in range(12):
        assert skeleton.below(bone).tolist() == [other for other in range(12) if bone in ways[other][1:]]
        assert list(skeleton.children[bone]) == [other for other in range(12) if ways[other][1:2] == [bone]]
        assert bone in skeleton.levels[len(ways[bone]) - 1].tolist()
        assert skeleton.with_ancestors([bone]) == sorted(ways[bone])
    assert sum(map(len, skeleton.levels)) == 12


def test_a_figure_with_more_than_256_bones_is_written_and_read_again():
    count = 300
    skeleton = random_skeleton(count)
    tracks = np.repeat(skeleton.rest_rotations[:, :, None], 2, axis=2)
    mesh = figure("Osric").meshes[0]
    few = slice(0, 600)
    mesh = replace(
        mesh,
        vertices=mesh.vertices[few],
        normals=mesh.normals[few],
        uvs=None,
        triangles=np.array([[0, 1, 2], [3, 4, 599]]),
        joints=np.tile([299, 257, 1, 0], (600, 1)),
        weights=np.tile([0.4, 0.3, 0.2, 0.1], (600, 1)),
        bind_matrices=np.tile(np.eye(4), (count, 1, 1)),
        materials=(fairswap.model.mesh.Material(slice(0, 2), np.array([0.2, 0.4, 0.6])),),
    )
    made = fairswap.Figure("many", skeleton, (mesh,))
    fairswap.save("many.glb", made, [clip_of(fairswap.model.poses.Poses(skeleton, tracks))])
    back = fairswap.load("many.glb").figure
    names = [back.skeleton.names[bone] for bone in back.meshes[0].joints[0]]
    assert names == ["bone 299", "bone 257", "bone 1", "bone 0"]
    assert np.allclose(back.meshes[0].materials[0].color, [0.2, 0.4, 0.6])


def test_animated_scale_is_told_kept_and_followed_by_the_skin(tmp_path):
    """In the picture and in the numbers, as a real client shows it; also under a turned and scaled node."""
    for names in ([], ["under a turned and scaled armature"], ["mirrored below a mirroring node"]):
        fairswap.save("plain.glb", figure("Pip"), [act("walk", "Pip")], force=True)
        scene = rewrites.Scene(Path("plain.glb").read_bytes())
        animation, _, sampler = next(scene.channels())
        times = scene.arrays[sampler["input"]][:, 0]
        grown = 1.0 + 0.5 * np.sin(3 * times)[:, None] * [1.0, 0.6, 0.2]
        for number in range(len(scene.nodes)):
            if scene.nodes[number].get("name") in ("back", "arm-near", "wing-far"):
                row = {"input": sampler["input"], "output": scene.add(grown), "interpolation": "LINEAR"}
                animation["samplers"].append(row)
                target = {"node": number, "path": "scale"}
                animation["channels"].append({"sampler": len(animation["samplers"]) - 1, "target": target})
        Path("grown.glb").write_bytes(rewrites.rewritten(scene.bytes(), *names))
        document = fairswap.load("grown.glb")
        clip, mesh = document.clips[0], document.figure.meshes[0]
        seconds = [0.0, 0.5, 1.0]
        poses = clip.at(seconds)
        theirs = positions("grown.glb", seconds)
        for bone, node in enumerate(document.figure.source.nodes):
            np.testing.assert_allclose(poses.world().positions[:, bone], theirs[str(node)], atol=2e-4)
        still = deformed_vertices(mesh, fairswap.load("plain.glb").clips[0].at(seconds).world(), 1)
        assert np.ptp(deformed_vertices(mesh, poses.world(), 1)) > 1.05 * np.ptp(still)


def test_animated_scale_is_told_and_not_carried(tmp_path):
    made = arm()
    animate(made, 2, "scale", [0, 1], [[1, 1, 1], [2, 2, 2]])
    document = made.load(tmp_path)
    assert "animated-scale" in {finding.code for finding in document.findings}
    fairswap.save("again.glb", document.figure, document.clips)
    again = Gltf()
    again.json = fairswap.load("again.glb").figure.source.container.raw
    assert {c["target"]["path"] for c in again.json["animations"][0]["channels"]} == {"rotation", "scale"}


@pytest.mark.parametrize(("rest", "kind"), [("T", "T"), ("A", "A"), ("down", "arms down"), ("one up", "uneven")])
def test_the_rest_pose_is_named(rest, kind):
    rig = next(r for r in (odd_rig(seed, "anatomy", upright=True) for seed in range(200)) if r.kind["rest"] == rest)
    assert rest_pose_of(rig.figure, roles_of(rig.figure)).kind == kind


def test_inspect_a_file_without_a_figure_is_a_problem(tmp_path):
    made = Gltf(scene=0, scenes=[{"nodes": [0]}], nodes=[{"name": "stool"}])
    report = inspect(made.load(tmp_path))
    assert report.figures == ()
    assert [finding.code for finding in report.findings] == ["no-figure"]


def test_every_role_has_a_part_an_order_and_a_way_on():
    assert len(SIDED_ROLES) == len(set(SIDED_ROLES)) == 2 * (8 + 3 + 16)
    for role in (*SIDED_ROLES, "hips", "spine_7", "neck_2", "head", "jaw"):
        assert is_role(role)
        assert part_of(role) in ("trunk", "face", "arms", "hands", "legs", "feet")
        assert all(is_role(onward) and side_of(onward) == side_of(role) for onward in next_roles(role))
    assert not any(map(is_role, ("spine", "spine_0", "hand", "left_hand", "")))
    assert sorted(["foot_left", "head", "spine_10", "hips", "spine_2"], key=role_order) == [
        "hips", "spine_2", "spine_10", "head", "foot_left",
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("name", "role"),
    [("hips", "hips"), ("upperChest", "spine_3"), ("leftThumbProximal", "thumb_proximal_left"), ("jaw", "jaw"),
     ("leftLittleIntermediate", "little_intermediate_left"), ("rightUpperLeg", "upper_leg_right")],
)  # fmt: skip
def test_names_of_vrm_bones_are_roles(name, role):
    assert role_of_vrm_bone(name) == role
    assert is_role(role)


@pytest.mark.parametrize("digits", [2, 3, 4, 5])
@pytest.mark.parametrize("naming", ["anatomy", "numbers"])
def test_fingers_of_hands_with_two_to_five(digits, naming):
    rig = next(r for r in (odd_rig(seed, naming) for seed in range(300, 600)) if r.kind["digits"] == digits)
    found = fingers_of(Rig(rig.figure), rig.truth["hand_left"])
    assert len(found) == digits
    for finger in found:
        for part, bone in finger.bones:
            assert rig.truth.get(f"{part}_left") in (bone, None)


def test_clips_into_one_file_or_one_for_each_with_names_that_files_may_have():
    clips = [
        clip_of(random_poses(random_skeleton(3), 2, moved=(0,)), name) for name in ("a/b:c", "A_b_c", "..", "Walk")
    ]
    assert paths_for(Path("x.glb"), clips) == [Path("x.glb")]
    names = [path.name for path in paths_for(Path("folder"), clips)]
    assert names == ["a_b_c.glb", "A_b_c (2).glb", "clip.glb", "Walk.glb"]


def test_no_more_numbers_are_made_than_there_is_memory_for():
    """By frames times bones: a few bones may last long, many may not; the message says how long."""
    with pytest.raises(fairswap.ImpossibleError) as told:
        check_amount(2_000_000, 1_000)
    most = int(re.search(r"at most (\d+) are made", str(told.value))[1])
    check_amount(most, 1_000)
    check_amount(100 * most, 10)
    for frames, bones in ((most + 1, 1_000), (100 * most + 100, 10)):
        with pytest.raises(fairswap.ImpossibleError, match="lower rate"):
            check_amount(frames, bones)


def test_between_frames_every_bone_turns_evenly_and_the_short_way():
    """However far two frames are apart: against SciPy, bone by bone, up to a hair from half a turn."""
    poses = random_poses(random_skeleton(6), 40)
    tracks = poses.rotation_tracks.copy()
    # Neighbours a little less and a little more than half a turn apart, as quaternions of both signs.
    for frame, degrees in enumerate((150.0, 170.0, 175.0, 179.0, 181.0, 185.0, 190.0)):
        axis = Rotation.from_rotvec(np.radians(degrees) * np.array([0.6, 0.0, 0.8]))
        tracks[2, :, 2 * frame + 1] = (Rotation.from_quat(tracks[2, :, 2 * frame]) * axis).as_quat()
    tracks[3, :, 1::3] *= -1.0
    poses = replace(poses, rotation_tracks=tracks)
    at = np.sort(np.random.default_rng(5).uniform(-0.5, 39.5, 300))
    made = poses.at(at)
    for bone in range(6):
        wanted = Slerp(np.arange(40), Rotation.from_quat(tracks[bone].T))(at.clip(0, 39))
        off = wanted.inv() * Rotation.from_quat(made.rotation_tracks[bone].T)
        assert np.degrees(off.magnitude()).max() < 1e-4
    before, share = at.clip(0, 39).astype(int).clip(max=38), at.clip(0, 39) - at.clip(0, 39).astype(int).clip(max=38)
    straight = poses.translation_tracks[..., before] * (1 - share) + poses.translation_tracks[..., before + 1] * share
    assert np.abs(made.translation_tracks - straight).max() < 1e-12


def test_what_grows_takes_along_all_that_hangs_on_it():
    """Against matrices of four by four, multiplied from the root, one frame and one bone at a time."""
    skeleton = random_skeleton(9, seed=4)
    grown = {1: 5, 3: 6}  # the bone, and the seed of what it does to itself
    plain = random_poses(skeleton, 5, moved=(0, 3))
    rng = {bone: np.random.default_rng(seed).uniform(0.5, 1.6, (3, 3, 5)) for bone, seed in grown.items()}
    poses = replace(plain, stretches=tuple(StretchTrack(bone, matrices) for bone, matrices in rng.items()))
    world = poses.world()
    for frame in range(5):
        whole = []
        for bone, parent in enumerate(skeleton.parents):
            local = np.eye(4)
            local[:3, :3] = Rotation.from_quat(plain.rotation_tracks[bone, :, frame]).as_matrix()
            if bone in rng:
                local[:3, :3] = local[:3, :3] @ rng[bone][:, :, frame]
            local[:3, 3] = plain.translations[frame, bone]
            whole.append(local if parent < 0 else whole[parent] @ local)
            assert np.abs(world.positions[frame, bone] - whole[bone][:3, 3]).max() < 1e-9
            above = [bone]
            while above[-1] >= 0:
                above.append(int(skeleton.parents[above[-1]]))
            if grown.keys() & set(above):
                assert np.abs(world.stretched[bone][:, :, frame] - whole[bone][:3, :3]).max() < 1e-9
            else:
                assert bone not in world.stretched
