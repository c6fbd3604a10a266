"""What is told of a result is what its file says when it is read again: fitted to a platform, or in another format."""

import json
import re
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

import fairswap
from fairswap.bones.roles import FINGERS
from fairswap.measure.capsules import capsules_of
from fairswap.model.posture import posture_from_positions
from fairswap.model.skeleton import Skeleton
from fairswap.model.words import sides_of
from fairswap.picture.page.viewing import of_conversions
from making import FREE, TROUPE, act, figure, rig, rigged, run


def some_steps(who):
    """Two seconds of a walk say as much as six."""
    return fairswap.clips.trim(act("walk", who), start="0", end="2")


def scores(found):
    return {row.part: row.score for row in found.parts}


@pytest.mark.parametrize("stage", ["quillmoor", "saltglass"])
@pytest.mark.long(but=1)
def test_what_a_platform_gets_is_judged_as_it_is_written(stage, tmp_path):
    fairswap.save("walk.glb", figure("Osric"), [some_steps("Osric")])
    made = fairswap.convert("walk.glb", TROUPE / "juniper.glb", platform=stage)
    (row,) = made.done
    made.save("out.glb")
    found = fairswap.compare("walk.glb", "out.glb")
    assert row.comparison.likeness == pytest.approx(found.likeness, abs=0.05)
    assert scores(row.comparison) == pytest.approx(scores(found), abs=0.05)
    assert row.before_fitting is not None
    told = run("convert", "walk.glb", "--onto", TROUPE / "juniper.glb", "--platform", stage, "-o", "told.glb", "--json")
    (clip,) = told.report["clips"]
    assert clip["likeness"] == pytest.approx(found.likeness, abs=0.05)
    assert clip["likeness_before_fitting"] == pytest.approx(row.before_fitting.likeness)
    assert (clip["frames"], clip["rate"]) == (made.clips[0].frames, float(made.clips[0].rate))
    said = run("convert", "walk.glb", "--onto", TROUPE / "juniper.glb", "--platform", stage, "-o", "said.glb").stdout
    assert f"before it was made to fit: {row.before_fitting.likeness:.0f} of 100" in said


@pytest.mark.long
def test_fitting_tells_how_much_of_each_clip_is_left():
    stage = "fernway"
    acts = list(fairswap.clips.cut(act("walk", "Osric"), ["a=0..1", "b=1..2", "c=2..3", "d=3..4"]).clips)
    fairswap.save("acts.glb", figure("Osric"), acts)
    told = run("fit", "acts.glb", "--platform", stage, "-o", "out", "--json")
    assert [row["clip"] for row in told.report["clips"]] == [clip.name for clip in acts]
    (found,) = fairswap.compare_fitted(fairswap.fit(figure_with(acts[0]), stage))
    assert told.report["clips"][0]["likeness"] == pytest.approx(found.likeness, abs=0.05)
    lines = run("fit", "acts.glb", "--platform", stage, "-o", "again").stdout.splitlines()
    clips = [line for line in lines if line.startswith("  clip     ")]
    worst = sorted(told.report["clips"], key=lambda row: row["likeness"])
    assert clips == [f"  clip     {row['verdict']}" for row in worst[:3]]
    assert "           and 1 more, none worse; --all lists them" in lines


def figure_with(clip):
    fairswap.save("one.glb", figure("Osric"), [clip], force=True)
    return fairswap.load("one.glb")


def test_a_clip_that_was_cut_to_fit_says_that_its_verdict_is_older():
    Path("short.toml").write_text(
        'fairswap = "platform/2"\nname = "short"\nbones = "quillmoor"\n[clip]\nmax_seconds = 2.5\n'
    )
    fairswap.save("walk.glb", figure("Osric"), [act("walk", "Osric")])
    made = fairswap.convert("walk.glb", TROUPE / "juniper.glb", platform="short.toml")
    assert len(made.clips) == 3
    assert made.done[0].before_fitting is None
    assert "cut into 3 clips" in {row.code: row.message for row in made.findings}["cut-not-judged"]
    assert fairswap.compare_fitted(made.fitted) == ()


@pytest.mark.parametrize("who", ["Juniper", "Osric"])
@pytest.mark.long(but=1)
def test_feet_stand_where_a_platform_takes_their_toes(who):
    walk = act("walk", who)
    fairswap.save("walk.glb", figure(who), [walk])
    made = fairswap.fit("walk.glb", "fernway")
    (found,) = fairswap.compare_fitted(made)
    assert not [role for role in found.result.rigged.roles.bones if role.startswith("toes")]
    assert found.result_footing.skate_cm_s < found.source_footing.skate_cm_s + 3.0
    assert found.result_footing.sole_below_cm < 1.0
    assert scores(found)["feet"] > 85.0


@pytest.mark.parametrize(("who", "stage"), [("Osric", "saltglass"), ("Pip", "fernway")])
def test_fingertips_point_where_they_did_when_what_told_their_ends_is_gone(who, stage):
    idle = act("idle", who)
    fairswap.save("idle.glb", figure(who), [idle])
    made = fairswap.fit("idle.glb", stage)
    (found,) = fairswap.compare_fitted(made)
    fingers = [row for row in found.roles if row.role.startswith((*FINGERS, "thumb"))]
    assert len(fingers) >= 10
    assert max(row.worst_degrees for row in fingers) < 4.0
    # Where it had ends, the last bones lie along the way to them.
    old, new, roles = figure(who).skeleton, made.figure.skeleton, found.source.rigged.roles.bones
    ends = {int(old.parents[end]): old.rest.positions[0, end] for end in old.ends}
    tips = {role: ends[bone] - old.rest.positions[0, bone] for role, bone in roles.items() if "distal" in role and ends}
    for role, way in tips.items():
        turn = new.rest.rotations[0, found.result.rigged.roles.bones[role]]
        assert Rotation.from_quat(turn.copy()).inv().apply(way).max() > 0.999 * np.linalg.norm(way)  # along an axis


@pytest.mark.parametrize(("name", "rate", "shaken_m"), [("clap", 20, 0.01), ("walk", 20, 0.01), ("leap", 15, 0.03)])
@pytest.mark.long(but=2)
def test_a_lower_rate_is_no_jerk_and_shaking_at_that_rate_is(name, rate, shaken_m):
    clip, osric = act(name, "Osric"), figure("Osric")
    slower = fairswap.clips.rate(clip, str(rate))
    assert scores(fairswap.compare((osric, clip), (osric, slower)))["smoothness"] > 97.0
    edit = slower.poses.edit()
    shaking = np.random.default_rng(3).normal(size=(3, slower.frames)) * shaken_m
    edit.translations = {bone: track + shaking for bone, track in edit.translations.items()}
    assert scores(fairswap.compare((osric, clip), (osric, slower.with_poses(edit.poses()))))["smoothness"] < 90.0


ASKED = {
    "limbs kept apart": {"clear": True},
    "on the spot": {"travel": "none"},
    "half the way": {"scale_travel": 0.5},
    "hips turned": {"layers": ("hips.toml",)},
}


@pytest.mark.parametrize("suffix", [".glb", ".dae", ".usdz"])
@pytest.mark.long(but=1)
def test_what_was_decided_goes_along_in_every_format_that_holds_a_figure(suffix):
    Path("hips.toml").write_text('fairswap = "layers/1"\n[[layer]]\nrole = "hips"\noffset = [0, -0.05, 0]\n')
    fairswap.save("walk.glb", figure("Osric"), [some_steps("Osric")])
    for name, asked in ASKED.items():
        made = fairswap.convert("walk.glb", rig("chibi.glb"), motion=fairswap.MotionOptions(**asked))
        made.save(f"made{suffix}", force=True)
        found = fairswap.compare("walk.glb", f"made{suffix}")
        assert found.likeness == pytest.approx(made.comparisons[0].likeness, abs=0.01), name
        assert found.cleared == made.comparisons[0].cleared
        assert found.result.rigged.decided is not None
    # It goes on, too, when the file is written in another format again.
    run("clip", "rename", f"made{suffix}", "--to", "{name}", "-o", "again.dae")
    assert fairswap.compare("walk.glb", "again.dae").likeness == pytest.approx(found.likeness, abs=0.01)


@pytest.mark.parametrize("text", ["", "[" * 100_000, '"word"', '{"source": 3}', '{"version": 1e400}', "x" * 5_000_000])
@pytest.mark.long(but=1)
def test_a_word_of_a_stranger_in_its_place_is_left_aside(text):
    fairswap.save("walk.glb", figure("Osric"), [act("walk", "Osric")])
    fairswap.convert("walk.glb", rig("chibi.glb"), motion=FREE).save("made.dae")
    written = Path("made.dae").read_text()
    place = re.compile(r'(<technique profile="fairswap">)[^<]*(</technique>)')
    assert json.loads(place.search(written)[0].split(">")[1].split("<")[0])["source"]["roles"]
    Path("bare.dae").write_text(re.sub(r'<extra><technique profile="fairswap">.*?</extra>', "", written))
    Path("other.dae").write_text(place.sub(lambda found: found[1] + text + found[2], written))
    bare, other = (fairswap.compare("walk.glb", f"{name}.dae") for name in ("bare", "other"))
    assert other.likeness == pytest.approx(bare.likeness, abs=1e-6)
    assert other.result.rigged.decided is None


@pytest.mark.parametrize("suffix", [".dae", ".usda", ".glb"])
@pytest.mark.parametrize("degrees", [50.0, 75.0])
@pytest.mark.long(but=1)
def test_a_figure_that_rests_in_a_stance_looks_where_its_clip_does(suffix, degrees):
    """It rests turned aside, on its toes' tips, so that only names tell its front: the file says nothing of that."""
    osric, idle = figure("Osric"), act("idle", "Osric")
    turn = Rotation.from_euler("y", degrees, degrees=True)
    skeleton = osric.skeleton
    top = int(np.flatnonzero(skeleton.parents < 0)[0])
    turns, steps = skeleton.rest_rotations.copy(), skeleton.rest_translations.copy()
    turns[top] = (turn * Rotation.from_quat(turns[top])).as_quat()
    steps[top] = turn.apply(steps[top])
    for bone, role in fairswap.RiggedFigure.of(osric).role_of_bone.items():
        if role.startswith("foot"):  # toes straight down
            turns[bone] = (Rotation.from_quat(turns[bone]) * Rotation.from_euler("x", 80.0, degrees=True)).as_quat()
    resting = Skeleton(skeleton.names, skeleton.parents, turns, steps, skeleton.ends)
    meshes = tuple(replace(mesh, bind_matrices=mesh.bind_matrices) for mesh in osric.meshes)
    poses = replace(idle.poses, skeleton=resting)
    fairswap.save(f"made{suffix}", replace(osric, skeleton=resting, meshes=meshes), [replace(idle, poses=poses)])
    read = fairswap.load(f"made{suffix}")
    assert np.abs(read.clips[0].world().positions - idle.world().positions).max() < 1e-4


def lying_in_a_stance():
    """Somebody who rests turned aside by 75 degrees, and lies in the only clip: nothing shows where the front is."""
    osric, idle = figure("Osric"), act("idle", "Osric")
    skeleton = osric.skeleton
    top = int(np.flatnonzero(skeleton.parents < 0)[0])
    aside, back = (Rotation.from_euler(axis, turn, degrees=True) for axis, turn in (("y", 75.0), ("x", -90.0)))
    turns, steps = skeleton.rest_rotations.copy(), skeleton.rest_translations.copy()
    turns[top], steps[top] = (aside * Rotation.from_quat(turns[top])).as_quat(), aside.apply(steps[top])
    resting = Skeleton(skeleton.names, skeleton.parents, turns, steps, skeleton.ends)
    edit = idle.poses.edit()
    edit.rotation_tracks[top] = (back * Rotation.from_quat(edit.rotation_tracks[top].T.copy())).as_quat().T
    edit.translations[top] = back.apply(edit.translation_track(top).T.copy()).T + [[0.0], [0.3], [0.0]]
    poses = replace(edit.poses(), skeleton=resting)
    return replace(osric, skeleton=resting), replace(idle, poses=poses, origin=None)


@pytest.mark.parametrize("suffix", [".glb", ".dae", ".x3d", ".usda"])
def test_what_we_wrote_stands_as_we_wrote_it(suffix):
    body, clip = lying_in_a_stance()
    fairswap.save(f"made{suffix}", body, [clip])
    read = fairswap.load(f"made{suffix}")
    assert np.abs(read.figure.skeleton.rest.positions - body.skeleton.rest.positions).max() < 1e-4
    assert np.abs(read.clips[0].world().positions - clip.world().positions).max() < 1e-4


@pytest.mark.parametrize("suffix", [".glb", ".dae", ".x3d"])
@pytest.mark.parametrize("tall_m", [0.12, 9.0])
@pytest.mark.long(but=2)
def test_giants_and_dwarfs_that_we_made_keep_their_size(suffix, tall_m):
    fairswap.save(f"made{suffix}", fairswap.resize(figure_with(act("idle", "Osric")), height_m=tall_m))
    read = fairswap.load(f"made{suffix}")
    assert read.figure.height_m == pytest.approx(tall_m, rel=1e-4)
    assert not {"space-corrected", "space-found"} & {row.code for row in read.findings}


def gltf(*changes):
    """The places of all bones over time in a file of ours that others have changed."""
    document = json.loads(Path("made.gltf").read_text())
    for change in changes:
        change(document)
    Path("other.gltf").write_text(json.dumps(document))
    return fairswap.load("other.gltf").clips[0].world().positions


def turned(document):
    scene, nodes = document["scenes"][0], document["nodes"]
    nodes.append({"name": "turn", "rotation": [0.0, 0.5**0.5, 0.0, 0.5**0.5], "children": scene["nodes"]})
    scene["nodes"] = [len(nodes) - 1]


def unmarked(document):
    del document["asset"]["extras"]


def test_what_a_stranger_turned_since_is_judged_anew():
    body, clip = lying_in_a_stance()
    fairswap.save("made.gltf", body, [clip])
    assert np.abs(gltf() - clip.world().positions).max() < 1e-4
    np.testing.assert_allclose(gltf(turned), gltf(turned, unmarked), atol=1e-9)
    # Without the mark it would have been turned: that is what it is for.
    assert np.abs(gltf(unmarked) - clip.world().positions).max() > 0.1


@pytest.mark.parametrize("mark", [None, [], [1.0], "stands", {"x": 1}, [None] * 3, [1e308, 0.0, 0.0], ["0", "1", "2"]])
@pytest.mark.long(but=3)
def test_a_mark_that_is_none_is_left_aside(mark):
    body, clip = lying_in_a_stance()
    fairswap.save("made.gltf", body, [clip])
    found = gltf(lambda document: document["asset"]["extras"]["fairswap"].update(stands=mark))
    np.testing.assert_allclose(found, gltf(unmarked), atol=1e-9)


@pytest.mark.parametrize(
    ("degrees", "forward"), [(0, "+Z"), (40, "+Z"), (55, "+Z"), (70, "+X"), (90, "+X"), (-70, "-X")]
)
def test_whoever_stands_half_aside_is_not_turned(degrees, forward):
    osric = figure("Osric")
    places = Rotation.from_euler("y", degrees, degrees=True).apply(osric.skeleton.rest.positions[0].copy())
    found = posture_from_positions(places, osric.skeleton.parents, None, sides_of(osric.skeleton.names))
    assert (found.up, found.forward) == ("+Y", forward)


@pytest.mark.parametrize("down_m", [0.0, 0.64])
def test_bones_that_rest_below_the_floor_they_came_with_stay_with_their_clip(down_m):
    clip = act("walk", "Osric")
    edit = clip.poses.edit()
    edit.translations = {bone: track - [[0], [down_m], [0]] for bone, track in edit.translations.items()}
    skeleton = clip.skeleton
    steps = skeleton.rest_translations - np.where(skeleton.parents[:, None] < 0, [0, down_m, 0], 0.0)
    lower = Skeleton(skeleton.names, skeleton.parents, skeleton.rest_rotations, steps, skeleton.ends)
    poses = replace(edit.poses(), skeleton=lower)
    fairswap.save("low.bvh", fairswap.Figure("Osric", lower), [replace(clip, poses=poses, origin=None)])
    read = fairswap.load("low.bvh")
    assert "rest-height" not in {row.code for row in read.findings}
    assert read.figure.skeleton.rest.positions[..., 1].min() == pytest.approx(
        lower.rest.positions[..., 1].min(), abs=1e-4
    )
    assert fairswap.compare((figure("Osric"), clip), "low.bvh").likeness > 85.0


def test_a_shin_whose_foot_hangs_beside_its_second_piece_is_as_thick_as_its_first():
    """As a platform has it that knows one bone for a shin: knee and foot are its joints, the hock behind is beside."""
    body = figure("Osric")
    known = rigged(body)
    shin, foot = (known.roles.bones[f"{part}_left"] for part in ("lower_leg", "foot"))
    places, usual = known.reference_world.positions[0], capsules_of(known)["lower_leg_left"]
    behind = np.array([0.0, 0.0, -0.2])
    knee, way = body.skeleton.rest.positions[0, shin], places[foot] - places[shin]
    old = body.skeleton
    count = len(old)
    hock = knee + 0.5 * way + behind
    matrix = np.eye(4)
    matrix[:3, 3] = -hock
    back = Rotation.from_quat(old.rest.rotations[0, shin]).inv()
    skeleton = Skeleton(
        (*old.names, "hock left"), np.append(old.parents, shin),
        np.append(old.rest_rotations, [back.as_quat()], axis=0),
        np.append(old.rest_translations, [back.apply(hock - knee)], axis=0), old.ends,
    )  # fmt: skip
    meshes = []
    for mesh in body.meshes:
        share = (mesh.vertices - knee) @ way / (way @ way)
        own = mesh.main_bones == shin
        bent = np.where(share < 0.5, 2.0 * share, 2.0 - 2.0 * share)
        vertices = mesh.vertices + np.where(own[:, None], np.clip(bent, 0.0, 1.0)[:, None] * behind, 0.0)
        joints = np.where((own & (share >= 0.5))[:, None] & (mesh.joints == shin), count, mesh.joints)
        binds = np.append(mesh.bind_matrices, [matrix], axis=0)
        meshes.append(replace(mesh, vertices=vertices, joints=joints, bind_matrices=binds))
    found = capsules_of(rigged(replace(body, skeleton=skeleton, meshes=tuple(meshes))))["lower_leg_left"]
    assert np.linalg.norm(found.end) == pytest.approx(np.linalg.norm(hock - knee), rel=1e-3)
    assert max(found.radii) < 1.5 * max(usual.radii)


def test_a_page_shows_what_is_written_also_if_it_is_called_otherwise():
    Path("plain.toml").write_text(
        'fairswap = "platform/2"\nname = "plain"\nbones = "quillmoor"\n[clip]\nnames = "[a-z_]+"\nrates = [20]\n'
    )
    bow = fairswap.demo_motion("turn-and-bow", by="Osric")
    made = fairswap.convert(bow, TROUPE / "juniper.glb", platform="plain.toml")
    source, result = of_conversions(made)
    (clip,) = result.clips
    assert (clip.name, clip.rate) == ("turn_and_bow", 20)
    assert [shown.name for shown in source.clips] == [clip.name]  # they play together
    assert result.against == {clip.name: made.comparisons[0]}
    assert made.comparisons[0].result.clip.frames == clip.frames


@pytest.mark.parametrize("platform", ["", 'platforms = ["fernway"]'])
@pytest.mark.long
def test_a_plan_scores_what_it_writes(platform):
    fairswap.save("walk.bvh", figure("Osric"), [act("walk", "Osric")])
    steps = "" if platform else "[clip]\nthin = 12.0\n"
    figures = json.dumps([str(TROUPE / "juniper.glb")])
    Path("job.toml").write_text(
        f'fairswap = "plan/1"\nsources = ["walk.bvh"]\nfigures = {figures}\n{platform}\n{steps}'
    )
    made = fairswap.run_plan("job.toml", "out", workers=1)
    (row,) = made.table.to_dict("records")
    found = fairswap.compare("walk.bvh", f"out/{row['result']}")
    assert row["score"] == pytest.approx(found.likeness, abs=0.05)
    plain = fairswap.convert("walk.bvh", TROUPE / "juniper.glb").comparisons[0].likeness
    assert row["score"] < plain - 1.0


@pytest.mark.parametrize("bent", [{"spine_2": 60.0}, {"spine_1": 60.0, "spine_2": -60.0}], ids=str)
@pytest.mark.long(but=1)
def test_a_spine_of_another_count_ends_where_it_did(bent):
    """Four bones for six, bent otherwise: neck and hands are near where they were."""
    own, idle = rigged(figure("Juniper")), act("idle", "Juniper")
    edit = idle.poses.edit()
    for role, degrees in bent.items():
        bone = own.roles.bones[role]
        track = Rotation.from_quat(edit.rotation_tracks[bone].T.copy())
        edit.rotation_tracks[bone] = (track * Rotation.from_euler("x", degrees, degrees=True)).as_quat().T
    clip = idle.with_poses(edit.poses())
    fairswap.save("bent.glb", figure("Juniper"), [clip])
    made = fairswap.fit("bent.glb", "saltglass")
    new = fairswap.bones.roles_of(made.figure)
    assert (len(own.roles.chain("spine")), len(new.chain("spine"))) == (6, 4)
    before, after = (moving.world().positions[0] for moving in (clip, made.clips[0]))
    for role in ("neck_1", "head", "hand_left", "hand_right"):
        assert np.linalg.norm(before[own.roles.bones[role]] - after[new.bones[role]]) < 0.028, role


def test_a_neck_of_another_count_is_the_same_neck_in_equal_pieces():
    before, made = rigged(figure("Osric")), fairswap.fit(TROUPE / "osric.glb", "quillmoor")
    roles = fairswap.bones.roles_of(made.figure)
    assert (len(before.roles.chain("neck")), len(roles.chain("neck"))) == (1, 3)
    old, new = before.skeleton.rest.positions[0], made.figure.skeleton.rest.positions[0]
    low, high = (new[roles.bones[role]] for role in ("neck_1", "head"))
    for number in (1, 2):
        assert new[roles.bones[f"neck_{number + 1}"]] == pytest.approx(low + number / 3 * (high - low), abs=1e-6)
    length = np.linalg.norm(old[before.roles.bones["head"]] - old[before.roles.bones["neck_1"]])
    assert np.linalg.norm(high - low) == pytest.approx(length, abs=1e-6)


def test_what_fit_tells_is_what_the_files_tell(tmp_path):
    """The reference pose goes along to the new bones, and into the file: arms that only a clip shows rolled."""
    who, clip = figure("Osric"), act("lamp", "Osric")
    local, bones = who.skeleton.rest_rotations.copy(), rigged(who).roles.bones
    for arm in (bones["upper_arm_left"], bones["upper_arm_right"]):
        local[arm] = (Rotation.from_quat(local[arm]) * Rotation.from_rotvec([0.5, 0.0, 0.0])).as_quat()
    rolled = replace(who, skeleton=replace(who.skeleton, rest_rotations=local), source=None)
    moved = replace(clip, poses=replace(clip.poses, skeleton=rolled.skeleton), origin=None)
    fairswap.save(tmp_path / "rolled.glb", rolled, [moved])
    fitted = fairswap.fit(tmp_path / "rolled.glb", "quillmoor")
    fitted.save(tmp_path / "fitted.glb")
    told = fairswap.compare_fitted(fitted)[0]
    read = fairswap.compare(tmp_path / "rolled.glb", tmp_path / "fitted.glb")
    assert told.likeness > 95.0
    assert read.likeness == pytest.approx(told.likeness, abs=0.1)
    # And a worse one is told by the file as well.
    document = fairswap.load(tmp_path / "fitted.glb")
    worse = document.clips[0].poses.edit()
    arm = rigged(document.figure).roles.bones["upper_arm_left"]
    twisted = Rotation.from_quat(worse.rotation_tracks[arm].T.copy()) * Rotation.from_rotvec([0.0, 0.6, 0.0])
    worse.turn(arm, twisted.as_quat().T)
    fairswap.save(tmp_path / "worse.glb", document.figure, [document.clips[0].with_poses(worse.poses())])
    assert fairswap.compare(tmp_path / "rolled.glb", tmp_path / "worse.glb").likeness < told.likeness - 20.0


@pytest.mark.long
def test_two_results_of_one_motion_are_compared_by_what_each_brings(tmp_path):
    """Carried over, and carried over and fitted: neither is the other's source."""
    walk = fairswap.demo_motion("walk", by="Juniper")
    made = fairswap.convert(walk, figure("Osric"))
    made.save(tmp_path / "plain.glb")
    fitted = fairswap.fit(tmp_path / "plain.glb", "saltglass")
    fitted.save(tmp_path / "fitted.glb")
    told = fairswap.compare_fitted(fitted)[0].likeness
    assert fairswap.compare(tmp_path / "plain.glb", tmp_path / "fitted.glb").likeness == pytest.approx(told, abs=1.0)
    assert fairswap.compare(walk, tmp_path / "fitted.glb").likeness > made.done[0].comparison.likeness - 5.0
