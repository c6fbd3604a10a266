"""What follows the carrying over: feet that stand, hands that meet, travel, layers; and the reel."""

import json
from dataclasses import replace
from fractions import Fraction
from functools import cache
from pathlib import Path

import numpy as np
import pytest

import fairswap
from fairswap import Motion
from fairswap.bones.assignment import roles_of
from fairswap.clips.proving import body_reel
from fairswap.demo.acts import lamp_place
from fairswap.demo.anatomy import BODIES, body_of
from fairswap.demo.example import OBJECT, act_named, perform_on, with_object
from fairswap.demo.repertoire import ACTS
from fairswap.figures.root import document_with_root
from fairswap.measure.comparison import compare_motions
from fairswap.measure.intersection import seconds_inside
from fairswap.measure.palms import palms_of
from fairswap.measure.surface import surface_of
from fairswap.model.chain_world import ChainWorld
from fairswap.model.poses import Poses
from fairswap.model.rotation import angle_between, multiply, normalized, quaternion_from_axis_angle, rotate
from fairswap.model.signals import bridged, nearness, runs_of, smoothed, with_hysteresis, without_short
from fairswap.retarget.hands import push_hand
from fairswap.retarget.layers import Layers
from making import FREE, TROUPE, figure, rigged, run, swap_between

NAMES = tuple(BODIES)


@cache
def played(act, name):
    """An act on a member of the troupe, with the lamp in it where there is one: figure and clip."""
    body, clip = figure(name), perform_on(act_named(act), name, figure(name))
    place = lamp_place(act_named(act), body_of(name))
    if place is None:
        return body, clip
    # With its mesh, which tells where its soles are.
    bones, with_lamp = with_object(body, clip, OBJECT, place)
    count = len(bones.skeleton)
    meshes = tuple(
        replace(mesh, bind_matrices=np.concatenate([mesh.bind_matrices, np.eye(4)[None]])) for mesh in body.meshes
    )
    assert count == len(body.skeleton) + 1
    return replace(bones, meshes=meshes), with_lamp


@cache
def swap(source, target, act="walk"):
    body, clip = played(act, source)
    return swap_between(body, figure(target), motion=clip)


@pytest.mark.parametrize(
    ("act", "source"), [(act, NAMES[(at + turn) % 3]) for at, act in enumerate(ACTS) for turn in (0, 1)]
)
@pytest.mark.long(but=3)
def test_every_act_from_everyone_to_everyone_else(act, source):
    """Feet stand and never sink, contacts are kept, hands meet, limbs point nearly as they did."""
    _, clip = played(act, source)
    finish = fairswap.MotionOptions(object=OBJECT if act == "lamp" else None)
    for target in NAMES:
        if target == source:
            continue
        pair = swap(source, target, act)
        carried = pair.retarget(clip, finish)
        free = compare_motions(Motion(pair.source, clip), Motion(pair.target, carried.transferred))
        assert free.limbs_mean_degrees <= 0.5
        proof = compare_motions(Motion(pair.source, clip), Motion(pair.target, carried.clip))
        told = (act, source, target, proof)
        assert proof.result_footing.skate_cm_s < 0.5, told
        assert proof.result_footing.sole_below_cm < 0.2, told
        assert proof.contacts.kept_share >= 0.98, told
        assert proof.limbs_mean_degrees < 6.0, told
        assert proof.looks_same, told
        if act in ("lamp", "clap"):
            assert carried.touches, told
            assert max(touch.off_m for touch in carried.touches) < 0.01, told
        else:
            assert not carried.touches, told


def shaken(clip, rng, metres=0.002, degrees=1.0):
    tracks = clip.poses.rotation_tracks.transpose(0, 2, 1)
    axes = normalized(rng.normal(size=(*tracks.shape[:2], 3)))
    shakes = quaternion_from_axis_angle(axes, np.radians(degrees) * rng.normal(size=tracks.shape[:2]))
    places = clip.poses.translation_tracks + metres * rng.normal(size=clip.poses.translation_tracks.shape)
    noisy = np.ascontiguousarray(multiply(tracks, shakes).transpose(0, 2, 1))
    return replace(clip, poses=replace(clip.poses, rotation_tracks=noisy, translation_tracks=places))


def on_a_slope(clip, lift_m, degrees, hips):
    turn = quaternion_from_axis_angle([1, 0, 0], np.radians(degrees))
    tracks, places = clip.poses.rotation_tracks.copy(), clip.poses.translation_tracks.copy()
    tracks[hips] = multiply(turn, tracks[hips].T).T
    places[0] = (rotate(turn, places[0].T) + [0, lift_m, 0]).T
    return replace(clip, poses=replace(clip.poses, rotation_tracks=tracks, translation_tracks=places))


@pytest.mark.parametrize(
    ("act", "source", "target"), [("walk", "Osric", "Juniper"), ("turn-and-bow", "Juniper", "Pip")]
)
def test_noise_does_not_make_feet_slide(act, source, target):
    _, clip = played(act, source)
    pair, noisy = swap(source, target, act), shaken(clip, np.random.default_rng(3))
    carried = pair.retarget(noisy)
    proof = compare_motions(Motion(pair.source, noisy), Motion(pair.target, carried.clip))
    assert proof.result_footing.skate_cm_s < 0.5
    assert proof.result_footing.sole_below_cm < 0.2
    # Nearly the same stances are found as without noise.
    clean = pair.retarget(clip).contacts
    same = [(clean.standing(side) == carried.contacts.standing(side)).mean() for side in ("left", "right")]
    assert min(same) > 0.75


@pytest.mark.parametrize(("lift_m", "degrees"), [(0.05, 0.0), (0.05, 2.0), (-0.04, -2.0)])
def test_a_floor_that_is_off_and_tilted_is_found_and_taken_out(lift_m, degrees):
    _, clip = played("walk", "Osric")
    pair = swap("Osric", "Juniper")
    tilted = on_a_slope(clip, lift_m, degrees, pair.source.roles.bones["hips"])
    carried = pair.retarget(tilted)
    assert any(finding.code == "floor-off" for finding in carried.findings)
    assert carried.contacts.floor.tilt_degrees == pytest.approx(abs(degrees), abs=0.3)
    proof = compare_motions(Motion(pair.source, tilted), Motion(pair.target, carried.clip))
    assert proof.result_footing.skate_cm_s < 0.5
    assert proof.result_footing.sole_below_cm < 0.2
    assert proof.contacts.kept_share >= 0.97


def test_there_and_back_with_planted_feet_is_nearly_where_it_was():
    _, clip = played("turn-and-bow", "Juniper")
    there, back = swap("Juniper", "Osric", "turn-and-bow"), swap_between(figure("Osric"), figure("Juniper"))
    result = back.convert(there.convert(clip))
    assert fairswap.compare((figure("Juniper"), clip), (figure("Juniper"), result)).limbs_mean_degrees < 1.5


def test_travel_on_the_root_is_the_same_motion():
    _, clip = played("walk", "Osric")
    pair = swap("Osric", "Juniper")
    hips, root = pair.convert(clip), None
    for turns in (False, True):
        root = pair.convert(clip, fairswap.MotionOptions(travel="root", root_turns=turns))
        places = [c.world().positions[:, 1:] for c in (hips, root)]
        assert np.abs(places[0] - places[1]).max() < 1e-9
    bone = pair.target.roles.bones["root"]
    travelled = root.world().positions[:, bone]
    assert np.abs(travelled[:, 1]).max() < 1e-6
    assert travelled[-1, 2] - travelled[0, 2] > 5.0
    # What is left on the hips is sway, and nothing sudden.
    assert np.abs(root.translations[:, pair.target.roles.bones["hips"], 2]).max() < 0.1


def test_travel_taken_out_leaves_a_walk_on_the_spot_with_its_sway():
    _, clip = played("walk", "Osric")
    pair = swap("Osric", "Juniper")
    spot, way = pair.convert(clip, fairswap.MotionOptions(travel="none")), pair.convert(clip)
    bone = pair.target.roles.bones["hips"]
    here, there = spot.world().positions[:, bone], way.world().positions[:, bone]
    assert np.abs(here[:, [0, 2]]).max() < 0.08
    assert here[:, 1] == pytest.approx(there[:, 1])
    assert np.ptp(here[:, 0]) > 0.5 * np.ptp(there[:, 0] - np.linspace(there[0, 0], there[-1, 0], len(there)))


def test_travel_scale_is_what_is_asked_for():
    _, clip = played("walk", "Osric")
    pair = swap("Osric", "Juniper")
    ends = []
    for scale in (None, 1.0):
        bone = pair.target.roles.bones["hips"]
        result = pair.convert(clip, fairswap.MotionOptions(feet="free", scale_travel=scale))
        ends.append(np.ptp(result.world().positions[:, bone, 2]))
    assert ends[1] == pytest.approx(ends[0] / pair.leg_ratio, rel=1e-6)


def test_a_root_is_added_where_there_is_none(tmp_path):
    """Nothing moves, the file is valid, and convert puts the travel on it."""
    osric = fairswap.load(TROUPE / "osric.glb")
    grown = document_with_root(osric, roles_of(osric.figure))
    assert grown.figure.skeleton.names[0] == "root"
    assert np.abs(grown.figure.rest_points - osric.figure.rest_points).max() < 1e-6
    fairswap.save("bow.glb", *(lambda body, clip: (body, [clip]))(*played("turn-and-bow", "Juniper")))
    done = run(
        "convert", "bow.glb", "--onto", TROUPE / "osric.glb", "--travel", "root", "--root-turns", "-o", "out.glb"
    )
    assert done.returncode == 0, done.stderr
    result = fairswap.load("out.glb")
    root = result.clips[0].bone("root")
    turned = np.degrees(angle_between(result.clips[0].rotations[:, root], result.clips[0].rotations[0, root]))
    assert turned.max() > 150.0


def test_a_hand_on_the_hip_stays_on_the_hip():
    """Osric's hand laid on the side of his belly lies on Juniper's, although she is much thinner."""
    osric, side = figure("Osric"), rigged(figure("Osric"))
    frames, palm = 60, palms_of(side)["left"]
    edit = Poses(osric.skeleton, np.repeat(osric.skeleton.rest_rotations[:, :, None], frames, axis=2)).edit()
    hips = side.roles.bones["hips"]
    edit.translations[hips] = edit.translation_track(hips)
    chain = ChainWorld(edit)
    belly = next(part for part in surface_of(side) if part.part == "pelvis")
    there = belly.points(*(np.full(frames, value) for value in (0.55, np.pi / 2, 0.004)), chain)
    weight = nearness(np.arange(frames) >= 20, 12.0)[:, None]
    push_hand(side, "left", chain, weight * (there - palm.track(chain)))
    clip = fairswap.Clip("akimbo", Fraction(30), edit.poses())
    pair = swap_between(osric, figure("Juniper"))
    touches = {}
    for hands in ("meet", "free"):
        carried = pair.retarget(clip, fairswap.MotionOptions(hands=hands))
        target = ChainWorld(carried.clip.poses)
        theirs = next(part for part in surface_of(pair.target) if part.part == "pelvis")
        touches[hands] = theirs.coordinates(palms_of(pair.target)["left"].track(target), target)[2][-5:]
        if hands == "meet":
            assert [(touch.side, touch.what) for touch in carried.touches] == [("left", "pelvis")]
            assert carried.touches[0].off_m < 0.01
    assert np.abs(touches["meet"]).max() < 0.01
    assert np.abs(touches["free"]).min() > 0.02


def test_clear_pushes_a_hand_out_of_the_body():
    """Osric's arms, crossed before Pip's belly, go into it; cleared they do not."""
    pair = swap("Juniper", "Osric")
    _, clip = played("clap", "Juniper")

    def share(finish):
        result = pair.convert(clip, finish)
        return seconds_inside(pair.target, result) / result.duration_s

    Path("in.toml").write_text('fairswap = "layers/1"\n[[layer]]\nrole = "upper_arm_left"\nturn = [0.0, -70.0, 0.0]\n')
    layers = (Layers.load("in.toml"),)
    free = share(fairswap.MotionOptions(hands="free", feet="free", layers=layers))
    cleared = share(fairswap.MotionOptions(hands="free", feet="free", layers=layers, clear=True))
    assert free > 0.15
    assert cleared < 0.25 * free


LAYERS = """fairswap = "layers/1"
[[layer]]
name = "chin up"
role = "head"
turn = [-10.0, 0.0, 0.0]

[[layer]]
role = "hips"
offset = [0.0, 0.05, 0.0]
from = 2.0
to = 4.0
ease = 0.5

[[layer]]
role = "lower_arm_left"
mode = "replace"
keys = [
  { time = 0.0, turn = [0.0, -90.0, 0.0] }, { time = 3.0, turn = [0.0, -30.0, 0.0] },
  { time = 6.0, turn = [0.0, -60.0, 0.0] },
]

[[layer]]
pose = "fist.toml"
from = 1.0
to = 3.0
"""


def test_layers_turn_shift_replace_and_paste():
    Path("fist.toml").write_text('fairswap = "pose/1"\n[turns]\nindex_proximal_left = [0.0, 0.0, -80.0]\n')
    Path("l.toml").write_text(LAYERS)
    _, clip = played("walk", "Osric")
    pair = swap("Osric", "Juniper")
    plain = pair.convert(clip, FREE)
    layered = pair.convert(clip, replace(FREE, layers=(Layers.load("l.toml"),)))
    bones = pair.target.roles.bones
    a, b = plain.world(), layered.world()
    head = np.degrees(angle_between(a.rotations[:, bones["head"]], b.rotations[:, bones["head"]]))
    assert head == pytest.approx(10.0)
    lift = (b.positions - a.positions)[:, bones["hips"]]
    assert lift[[0, 90, 180], 1] == pytest.approx([0.0, 0.05, 0.0], abs=1e-9)
    finger = bones["index_proximal_left"]
    moved = np.degrees(angle_between(plain.rotations[:, finger], layered.rotations[:, finger]))
    assert moved[60] > 30.0
    assert moved[0] == pytest.approx(0.0, abs=1e-6)
    shoulder, elbow, wrist = (b.positions[[0, 45, 90, 135, 180], bones[f"{part}_left"]]
                              for part in ("upper_arm", "lower_arm", "hand"))  # fmt: skip
    angles = np.degrees(angle_between(normalized(wrist - elbow), normalized(elbow - shoulder)))
    assert angles == pytest.approx([90.0, 60.0, 30.0, 45.0, 60.0], abs=0.5)


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ('[[layer]]\nrole = "elbow"\n', "'elbow' is not a role"),
        ("[[layer]]\nweight = 0.5\n", "a role, a bone or a pose"),
        ('[[layer]]\nrole = "head"\nweight = 2.0\n', "weight"),
        ('[[layer]]\nrole = "head"\nturn = [1.0]\n', "turn"),
        ('[[layer]]\nrole = "head"\nfrom = 2.0\nto = 1.0\n', "ends before it begins"),
        ('[[layer]]\nrole = "head"\nturn = [nan, 0.0, 0.0]\n', r"turn\[0\]: it is not a finite number"),
        ('[[layer]]\nrole = "head"\nkeys = [{ time = 1.0 }, { time = 0.5 }]\n', "order of time"),
        ('[[layer]]\nrole = "head"\nspin = 1\n', "no field 'spin'"),
    ],
)
def test_a_layer_that_is_wrong_says_where(text, says):
    Path("l.toml").write_text('fairswap = "layers/1"\n' + text)
    with pytest.raises(fairswap.InputError, match=says):
        Layers.load("l.toml")


def test_a_layer_for_a_bone_that_is_not_there_is_told():
    Path("l.toml").write_text('fairswap = "layers/1"\n[[layer]]\nrole = "toes_left"\nturn = [5.0, 0.0, 0.0]\n')
    fairswap.save("walk.glb", figure("Osric"), [played("walk", "Osric")[1]])
    done = run("convert", "walk.glb", "--onto", TROUPE / "pip.glb", "--layer", "l.toml", "-o", "out.glb")
    assert done.returncode == 4
    assert "toes_left" in done.stderr
    assert not Path("out.glb").exists()


@pytest.mark.parametrize("name", NAMES)
def test_the_reel_goes_through_every_joint_and_is_carried_over(name):
    side = rigged(figure(name))
    clip, moves = body_reel(side)
    moved = {move.role for move in moves}
    still = {role for role in side.roles.bones if role not in moved}
    assert all(role == "root" or role.endswith(tuple(f"metacarpal_{s}" for s in ("left", "right"))) for role in still)
    for move in moves:
        bone = side.roles.bones[move.role]
        middle = round((move.start_s + 0.22) * float(clip.rate))
        turned = angle_between(clip.rotations[middle, bone], clip.rotations[0, bone])
        assert np.degrees(turned) > 5.0, move
    other = next(other for other in NAMES if other != name)
    pair = swap_between(figure(name), figure(other))
    proof = compare_motions(Motion(pair.source, clip), Motion(pair.target, pair.convert(clip, FREE)))
    assert proof.limbs_worst_degrees < 0.5


def test_one_clip_that_fails_does_not_stop_the_others():
    fairswap.save("walk.glb", figure("Osric"), [played("walk", "Osric")[1]])
    Path("broken.bvh").write_text("HIERARCHY\nROOT")
    fairswap.save("still.glb", figure("Pip"))
    done = run(
        "convert", "walk.glb", "broken.bvh", "still.glb", "--onto", TROUPE / "juniper.glb", "-o", "out", "--json"
    )
    report = json.loads(done.stdout)
    assert done.returncode == 1
    assert [row["clip"] for row in report["clips"]] == ["Walk"]
    assert [row["file"] for row in report["failed"]] == ["broken.bvh", "still.glb"]
    assert Path("out/Walk.glb").exists()


def test_what_no_foot_stands_in_is_told_and_left_alone():
    """A flight, a single frame, and feet in the air for good."""
    _, clip = played("leap", "Osric")
    pair = swap("Osric", "Juniper")
    flight = replace(clip, poses=clip.poses.at(np.arange(109, 124)))
    carried = pair.retarget(flight)
    assert [finding.code for finding in carried.findings] == ["no-contact"]
    one = pair.retarget(replace(clip, poses=clip.poses.at([0.0])))
    assert one.clip.frames == 1
    assert np.isfinite(one.clip.rotations).all()
    # Upside down: standing on the hands, feet still and high. No floor is up there.
    hips = pair.source.roles.bones["hips"]
    _, idle = played("idle", "Osric")
    tracks, places = idle.poses.rotation_tracks.copy(), idle.poses.translation_tracks.copy()
    tracks[hips] = multiply(quaternion_from_axis_angle([1, 0, 0], np.pi), tracks[hips].T).T
    over = replace(idle, poses=replace(idle.poses, rotation_tracks=tracks, translation_tracks=places))
    upside = pair.retarget(over)
    assert "no-contact" in [finding.code for finding in upside.findings]
    assert upside.contacts.floor.at == pytest.approx(figure("Osric").floor_m)


def test_an_object_that_is_not_there_is_told_by_what_is():
    fairswap.save("walk.glb", figure("Osric"), [played("walk", "Osric")[1]])
    done = run("convert", "walk.glb", "--onto", TROUPE / "pip.glb", "--object", "lamp", "-o", "out.glb")
    assert done.returncode == 2
    assert "no 'lamp' in it" in done.stderr


@pytest.mark.parametrize(
    "wrong", [{"travel": "up"}, {"feet": "glued"}, {"hands": "up"}, {"reach": 2.0}, {"scale_travel": -1.0}]
)
def test_a_finish_that_is_none_is_refused(wrong):
    with pytest.raises(fairswap.UsageError, match=next(iter(wrong))):
        fairswap.MotionOptions(**wrong)


def test_tracks_are_held_bridged_and_smoothed_as_they_say():
    sure = np.array([0, 0, 1, 0, 0, 0, 0, 0, 0], dtype=bool)
    still = np.array([0, 1, 1, 1, 0, 0, 1, 1, 0], dtype=bool)
    assert runs_of(with_hysteresis(sure, still)) == [(1, 4)]
    assert runs_of(without_short(np.array([1, 1, 1, 0, 1, 1, 1, 0, 0, 0, 1, 0, 0, 0], dtype=bool), 3)) == [(0, 7)]
    line = np.arange(40.0)[:, None] * 0.3
    assert np.abs(smoothed(line, 3.0) - line).max() < 1e-9
    known = np.zeros(60, dtype=bool)
    known[:20] = known[40:] = True
    values = np.where(np.arange(60) < 30, 1.0 + 0.01 * np.arange(60), -0.5)[:, None]
    bridge = bridged(values, known, 30)
    assert np.array_equal(bridge[known], values[known])
    assert np.abs(np.diff(bridge, 2, axis=0)).max() < 0.03
