"""Face charts that are kept, found on a timeline, or driven by nodes; and what heads do with too much or too little."""

import json
import os
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest

import fairswap
from fairswap.bones.assignment import roles_of
from fairswap.demo.faces import PIP_SHAPES
from fairswap.face.chart import FaceChart, Shape
from fairswap.face.head import Head
from fairswap.face.transfer import perform_units, still_clip
from fairswap.face.units import INDEX, UNITS
from fairswap.model.mesh import deformed_vertices
from fairswap.model.poses import MorphTrack
from fairswap.model.rotation import angle_between, matrix_from_quaternion, multiply
from making import TROUPE, figure, run

PIP = TROUPE / "pip.glb"


def renamed_pip(names, path):
    """Pip with other names for his shapes, written to a file."""
    pip = figure("Pip")
    meshes = tuple(
        replace(mesh, morph_names=tuple(names.get(name, name) for name in mesh.morph_names)) for mesh in pip.meshes
    )
    fairswap.save(path, replace(pip, meshes=meshes, source=None), [], force=True)
    return path


def codes(report):
    return [row["code"] for row in report["findings"]]


def applied(onto, *arguments):
    done = run("face", "apply", "--text", "papa", "--onto", onto, "-o", "o.glb", "--force", "--json", *arguments)
    assert done.returncode == 0, done.stderr
    return json.loads(done.stdout)


def test_a_chart_kept_for_a_family_is_found_by_itself():
    # The family's names say nothing, and what they mean was put right by hand once.
    names = {name: f"rig:s{number:02}" for number, name in enumerate(PIP_SHAPES)}
    first = renamed_pip(names, "first.glb")
    say = f"{names['say oh']}=viseme_a"
    assert run("face", "draft", first, "--save-as", "lanternkin", "--say", say).returncode == 0
    kept = Path(os.environ["FAIRSWAP_HOME"]) / "faces" / "lanternkin.toml"
    assert FaceChart.load(kept).prefixes == ("rig:", "*:")
    # Another figure of the family, of another scene: with one shape more, and without one.
    other = {name: f"stage|kin:s{number:02}" for number, name in enumerate(PIP_SHAPES)}
    other["say oh"], other["wow"] = "stage|kin:s99", "stage|kin:new"
    second = renamed_pip(other, "second.glb")
    head = Head.of(second)
    assert head.chart.name == "lanternkin"
    assert set(head.chart.shapes) == set(other.values())
    told = applied(second)["findings"]
    said = next(row["message"] for row in told if row["code"] == "face-chart-kept")
    assert "'stage|kin:new'" in said
    assert "'stage|kin:s99'" in said
    # It means there what was said of it once, though its form says otherwise.
    assert Head.of(first).chart.units_of(names["say oh"]) == {"viseme_a": 1.0}
    assert "face-chart-kept" not in codes(applied(PIP))
    assert "face-chart-kept" not in codes(applied(first, "--target-face", kept))
    kept.write_text("not a chart [")
    assert Head.of(first).chart.name != "lanternkin"


def test_a_chart_by_hand_knows_its_prefix_and_refuses_another_head():
    names = {name: f"scene:{name}" for name in PIP_SHAPES}
    path = renamed_pip(names, "scene.glb")
    chart = fairswap.face.draft(PIP).chart
    Path("pip.toml").write_text(replace(chart, prefixes=("scene:",)).text(), encoding="utf-8")
    assert run("face", "check", "pip.toml", path).returncode == 0
    assert applied(path, "--target-face", "pip.toml")["clips"][0]["used"]
    Path("pip.toml").write_text(chart.text(), encoding="utf-8")
    done = run("face", "apply", "--text", "papa", "--onto", path, "-o", "o.glb", "--force", "--target-face", "pip.toml")
    assert done.returncode != 0
    assert "does not have" in done.stderr


def test_morphs_run_one_after_the_other_get_their_names_from_a_table():
    names = {name: f"target_{number}" for number, name in enumerate(PIP_SHAPES)}
    path = renamed_pip(names, "bare.glb")
    own = fairswap.load(path).figure
    number = next(i for i, mesh in enumerate(own.meshes) if mesh.morph_names)
    weights = np.zeros((len(PIP_SHAPES), 10 * len(PIP_SHAPES) + 1))
    for row in range(len(PIP_SHAPES)):
        weights[row, 10 * row : 10 * row + 11] = np.concatenate([np.linspace(0, 1, 6), np.linspace(0.8, 0, 5)])
    still = still_clip(own, "all shapes", Fraction(30), weights.shape[1])
    clip = still.with_poses(still.poses.edit().poses(morph_tracks=(MorphTrack(number, weights),)))
    fairswap.save("all.glb", own, [clip])
    rows = [f"{10 * row + 5},{name}" for row, name in enumerate(PIP_SHAPES)]
    Path("held.csv").write_text("\n".join(["frame,name", *rows]) + "\n", encoding="utf-8")
    done = run("face", "draft", "all.glb", "--clip", "all shapes", "--held", "held.csv", "-o", "f.toml", "--json")
    assert done.returncode == 0, done.stderr
    found, named = FaceChart.load("f.toml"), fairswap.face.draft(PIP).chart
    for name, other in names.items():
        assert found.units_of(other) == pytest.approx(named.units_of(name), abs=0.02), name
    assert "called 'say oh' in the table" in done.stdout


def test_expressions_held_by_bones_are_recognised():
    side = Head.of(TROUPE / "osric.glb")
    shown = ["eye_closure_left", "jaw_drop", "lip_corner_puller_left", "inner_brow_raiser_right", "gaze_up_left"]
    units = np.zeros((len(UNITS), 20 * len(shown) + 10))
    for number, unit in enumerate(shown):
        ramp = np.clip(np.minimum(np.arange(20), 19 - np.arange(20)) / 5, 0.0, 1.0)
        units[INDEX[unit], 20 * number : 20 * number + 20] = ramp
    clip = perform_units(side, units, still_clip(side.figure, "faces", Fraction(30), units.shape[1])).clip
    talk = fairswap.face.apply(None, side.figure, speech=fairswap.face.SpeechOptions("Lamps!", rate=30)).clips[0]
    fairswap.save("faces.glb", side.figure, [talk, clip])
    report = json.loads(run("face", "draft", "faces.glb", "--json").stdout)
    told = [row for row in report["findings"] if row["code"] == "expressions-held"]
    assert [row["place"] for row in told] == ["faces"]
    found = fairswap.face.draft("faces.glb", clip="faces")
    assert len(found.chart.shapes) == len(shown)
    # Read by that chart, the clip is each expression in turn.
    again = Head(side.figure, side.roles, found.chart)
    middles = again.activations(clip)[:, [20 * number + 10 for number in range(len(shown))]]
    assert np.allclose(middles, np.eye(len(shown)), atol=0.05)
    # What is known of one of them goes before what was found.
    first = next(iter(found.chart.shapes))
    said = fairswap.face.draft("faces.glb", clip="faces", say={first: {"viseme_o": 1.0}})
    assert said.chart.units_of(first) == {"viseme_o": 1.0}
    assert said.chart.shapes[first].bones.keys() == found.chart.shapes[first].bones.keys()
    fairswap.save("still.glb", side.figure, [still_clip(side.figure, "still", Fraction(30), 30)])
    with pytest.raises(fairswap.UsageError, match="nothing of the face moves"):
        fairswap.face.draft("still.glb", clip="still")


CONTROLS = """fairswap = "face/1"
name = "desk"

[controls."smile.up"]
units = {lip_corner_puller = 1.0}
negative = {lip_corner_depressor = 1.0}
range = [-0.05, 0.1]

[controls."smile.left"]
units = {lip_stretcher = 1.0}
range = [0, 0.1]

[controls."jaw.ahead"]
units = {jaw_drop = 1.0}
range = [0, 0.2]
"""
DESK = """HIERARCHY
ROOT desk
{
 OFFSET 0 0 0
 CHANNELS 3 Xposition Yposition Zposition
 JOINT smile
 {
  OFFSET 0 1 0
  CHANNELS 3 Xposition Yposition Zposition
  End Site
  {
   OFFSET 0 0.1 0
  }
 }
 JOINT jaw
 {
  OFFSET 0 0.5 0
  CHANNELS 3 Xposition Yposition Zposition
  End Site
  {
   OFFSET 0 0.1 0
  }
 }
}
MOTION
Frames: 4
Frame Time: 0.04
0 0 0 0 1 0 0 0.5 0
0 0 0 0 1.1 0 0 0.5 0
0 0 0 0.05 0.975 0 0 0.5 0
0 0 0 0 1 0 0 0.5 0.2
"""


def test_nodes_that_control_a_face_are_read_by_their_chart():
    Path("desk.bvh").write_text(DESK)
    Path("desk.toml").write_text(CONTROLS)
    desk = Head.of(fairswap.load("desk.bvh", unit="m", up="+Y"), chart="desk.toml")
    units = desk.units(desk.clips[0])
    wanted = np.zeros((len(UNITS), 4))
    for side in ("left", "right"):
        wanted[INDEX[f"lip_corner_puller_{side}"], 1] = 1.0
        wanted[INDEX[f"lip_corner_depressor_{side}"], 2] = 0.5
        wanted[INDEX[f"lip_stretcher_{side}"], 2] = 0.5
    wanted[INDEX["jaw_drop"], 3] = 1.0
    assert np.allclose(units, wanted, atol=1e-5)
    # And the other way: units put on the nodes are what was read off them.
    back = perform_units(desk, units, still_clip(desk.figure, "back", Fraction(25), 4)).clip
    assert np.allclose(back.poses.world().positions, desk.clips[0].poses.world().positions, atol=1e-3)
    assert FaceChart.load(written("again.toml", desk.chart.text())).text() == desk.chart.text()
    onto = fairswap.face.apply(fairswap.load("desk.bvh", unit="m", up="+Y"), PIP, source_chart="desk.toml")
    assert {"happy", "say ah"} & set(onto.faces[0].used)
    for wrong, says in (
        (CONTROLS.replace("smile.left", "smile.sideways"), "not a node and a direction"),
        (CONTROLS.replace("[-0.05, 0.1]", "[0, 0.1]"), "does not go below 0"),
        (CONTROLS.replace("range = [0, 0.2]", ""), "range"),
        (CONTROLS.replace('"jaw.ahead"', '"chin.ahead"'), "does not have"),
    ):
        with pytest.raises(fairswap.FairSwapError, match=says):
            Head.of(fairswap.load("desk.bvh", unit="m", up="+Y"), chart=written("wrong.toml", wrong))


def written(path, text):
    Path(path).write_text(text, encoding="utf-8")
    return path


def test_expression_and_speech_together_stay_within_the_face():
    Path("both.csv").write_text("time_s,joy,lip_corner_puller,jaw_drop\n0,0,0,0.5\n0.5,1,1,0.5\n1,0,0.4,0.5\n")
    done = fairswap.face.apply("both.csv", TROUPE / "juniper.glb")
    told = [row for row in done.findings if row.code == "face-limited"]
    assert len(told) == 1
    assert told[0].message.startswith("lips: the sum of what is asked for goes to 190%")
    units = done.head.units(done.clips[0])
    assert units.max() < 1.02
    assert np.allclose(units[INDEX["jaw_drop"]], 0.5, atol=0.05)  # other regions are left alone


def head_of(*shapes):
    chart = FaceChart("head", {shape.name: shape for shape in shapes})
    juniper = figure("Juniper")
    deltas = np.zeros((len(shapes), len(juniper.meshes[0].vertices), 3))
    plain = replace(juniper.meshes[0], morph_names=tuple(chart.shapes), morph_deltas=deltas, morph_weights=None)
    return Head(replace(juniper, meshes=(plain,)), None, chart)


def closed(head, name):
    """How far a shape goes when both lids shut and open again."""
    units = np.zeros((len(UNITS), 21))
    for side in ("left", "right"):
        units[INDEX[f"eye_closure_{side}"]] = 1.0 - np.abs(np.arange(21) - 10) / 10
    clip = perform_units(head, units, still_clip(head.figure, "blink", Fraction(30), 21)).clip
    return clip.poses.morph_tracks[0].weights[list(head.chart.shapes).index(name)]


def test_a_blink_is_never_lost_where_anything_shuts_the_lids():
    sleepy = Shape("sleepy", {"eye_closure": 1.0, "brow_lowerer": 0.6, "lip_corner_depressor": 0.5})
    for head, name in (
        (head_of(sleepy), "sleepy"),
        (head_of(Shape("squint", {"lid_tightener": 1.0})), "squint"),
        (head_of(Shape("shut", {"eye_closure": 1.0}), sleepy), "shut"),
    ):
        weights = closed(head, name)
        assert weights[10] > 0.98
        assert weights[0] < 0.01
        assert np.abs(np.diff(weights)).max() < 0.35  # no jump
    assert closed(head_of(Shape("sad", {"sadness": 1.0})), "sad").max() < 0.5  # that is another expression
    assert (
        closed(head_of(Shape("shut", {"eye_closure": 1.0}), Shape("squint", {"lid_tightener": 1.0})), "squint").max()
        < 0.02
    )


def turned_about_the_eye(osric, share=1.0):
    """Osric with lids whose bones stand in the middle of the eye, and hold their skin by a share only."""
    skeleton = osric.skeleton
    moved = {}
    for bone, name in enumerate(skeleton.names):
        if "Lid" in name:
            eye = "eye_left" if "Port" in name else "eye_right"
            moved[bone] = skeleton.rest.positions[0, roles_of(osric).bones[eye]] - skeleton.rest.positions[0, bone]
    local = skeleton.rest_translations.copy()
    meshes = []
    for bone, way in moved.items():
        turn = matrix_from_quaternion(skeleton.rest.rotations[0, int(skeleton.parents[bone])])
        local[bone] += turn.T @ way
    for mesh in osric.meshes:
        binds, weights = mesh.bind_matrices.copy(), mesh.weights.copy()
        for bone, way in moved.items():
            back = np.linalg.inv(binds[bone])
            back[:3, 3] += way
            binds[bone] = np.linalg.inv(back)
            # What a lid holds less of its skin, the head holds more.
            own = (mesh.joints == bone) * weights * (1.0 - share)
            weights -= own
        weights[:, 0] += 1.0 - weights.sum(axis=1)
        meshes.append(replace(mesh, bind_matrices=binds, weights=weights))
    return replace(osric, skeleton=replace(skeleton, rest_translations=local), meshes=tuple(meshes), source=None)


@pytest.mark.parametrize("kind", ["as they are", "in the middle of the eye"])
def test_lids_of_bones_shut_whatever_their_bones_are_like(kind):
    osric = figure("Osric")
    own = osric if kind == "as they are" else turned_about_the_eye(osric)
    side = Head.of(own)
    units = np.zeros((len(UNITS), 2))
    for way in ("left", "right"):
        units[INDEX[f"eye_closure_{way}"], 1] = 1.0
    clip = perform_units(side, units, still_clip(own, "blink", Fraction(30), 2)).clip
    names, world = list(own.skeleton.names), clip.poses.world()
    for word in ("Port", "Starboard"):
        open_, shut = [], []
        for frame, into in ((0, open_), (1, shut)):
            edges = []
            for which, pick in (("Upper", np.min), ("Lower", np.max)):
                bone = names.index(f"salt:{word} Lid {which}")
                points = []
                for mesh in own.meshes:
                    held = np.where(mesh.joints == bone, mesh.weights, 0.0).sum(axis=1)
                    points.append(deformed_vertices(mesh, world, frame)[held > 0.55])
                edges.append(pick(np.concatenate(points)[:, 1]))
            into.append(edges[0] - edges[1])
        assert open_[0] > 0.008  # metres
        assert shut[0] < 0.2 * open_[0]  # shut, but for what a rim is not one line
        assert shut[0] > -0.6 * open_[0]  # and not far over each other


def test_a_face_that_does_not_rest_as_it_is_bound_is_told():
    osric = figure("Osric")
    assert "face-not-at-rest" not in [row.code for row in fairswap.face.draft(osric).findings]
    bone = next(number for number, name in enumerate(osric.skeleton.names) if "Lid Upper" in name)
    turns = osric.skeleton.rest_rotations.copy()
    turns[bone] = multiply(turns[bone], [np.sin(0.15), 0.0, 0.0, np.cos(0.15)])
    odd = replace(osric, skeleton=replace(osric.skeleton, rest_rotations=turns), source=None)
    told = next(row for row in fairswap.face.draft(odd).findings if row.code == "face-not-at-rest")
    assert osric.skeleton.names[bone] in told.message
    assert "17°" in told.message
    assert told.severity == "note"
    # What it does counts from how its skin was bound: lids that do nothing are turned back.
    still = perform_units(Head.of(odd), np.zeros((len(UNITS), 1)), still_clip(odd, "still", Fraction(30), 1)).clip
    assert angle_between(still.rotations[0, bone], osric.skeleton.rest_rotations[bone]) < 1e-6
