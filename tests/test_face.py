"""Faces: charts drafted, checked and matched; expressions and speech carried between heads that are built unlike."""

import json
import re
from dataclasses import replace
from fractions import Fraction
from functools import cache
from pathlib import Path

import numpy as np
import pytest
from scipy.optimize import nnls

import fairswap
from fairswap.bones.assignment import roles_of
from fairswap.demo.crowd import KINDS, crowd_head
from fairswap.demo.faces import JUNIPER_SHAPES, PIP_SHAPES
from fairswap.demo.spoken import RATE, spoken_line
from fairswap.face.bones import anatomical_poses
from fairswap.face.chart import FaceChart, Shape
from fairswap.face.drafting import draft_face, draft_timeline
from fairswap.face.geometry import head_frame
from fairswap.face.landmarks import landmark_moves
from fairswap.face.solve import bounded_weights
from fairswap.face.speech import Phone, units_from_phones, viseme_of
from fairswap.face.transfer import FaceSwap, Head, perform_units, still_clip
from fairswap.face.units import INDEX, UNITS, mirrored, names, spread, vector
from making import TROUPE, act, figure, run

TROUPE_NAMES = ("Juniper", "Osric", "Pip")


@cache
def head(name):
    own = figure(name)
    return Head(own, roles_of(own))


@cache
def spoken_by(name):
    """The spoken line performed directly, from units."""
    units, _ = spoken_line()
    return perform_units(head(name), units, still_clip(figure(name), "line", RATE, units.shape[1]))


def carried(source, target):
    clip = spoken_by(source).clip
    return FaceSwap(head(source), head(target)).transfer(clip, still_clip(figure(target), "line", RATE, clip.frames))


@pytest.mark.parametrize("source", TROUPE_NAMES)
@pytest.mark.parametrize("target", TROUPE_NAMES)
def test_the_line_carried_over_is_the_line_performed_directly(source, target):
    got, direct = carried(source, target), spoken_by(target)
    _, moves = landmark_moves(head(target), got.clip)
    _, wanted = landmark_moves(head(target), direct.clip)
    # What the source could not show, it does not hand on.
    assert np.linalg.norm(moves - wanted, axis=1).mean() < 0.03
    assert np.linalg.norm(wanted, axis=1).max() > 0.05
    if source == target:  # a head on to itself
        assert np.linalg.norm(moves - wanted, axis=1).max() < 1e-3
        for ours, own in zip(got.clip.poses.morph_tracks, direct.clip.poses.morph_tracks, strict=True):
            assert np.abs(ours.weights - own.weights).max() < 1e-3


def test_shapes_that_mean_the_same_get_the_same_weights():
    units = np.zeros((len(UNITS), 40))
    for number, unit in enumerate(("lip_corner_puller_left", "eye_closure_right", "inner_brow_raiser_left")):
        units[INDEX[unit]] = 0.5 + 0.5 * np.sin(np.arange(40) / (3 + number))
    made = {}
    for name in ("Juniper", "Osric"):
        side = head(name)
        clip = perform_units(side, units, still_clip(side.figure, "made", Fraction(30), 40)).clip
        made[name] = side.units(clip)
    there = FaceSwap(head("Osric"), head("Juniper"))
    clip = perform_units(head("Osric"), units, still_clip(figure("Osric"), "made", Fraction(30), 40)).clip
    got = there.transfer(clip, still_clip(figure("Juniper"), "made", Fraction(30), 40)).clip
    assert np.abs(head("Juniper").units(got) - made["Juniper"]).max() < 0.02


@pytest.mark.parametrize("name", TROUPE_NAMES)
def test_lips_close_at_every_m_b_and_p(name):
    _, phones = spoken_line()
    found, moves = landmark_moves(head(name), spoken_by(name).clip)
    # Where the lips of this head rest, the gap is zero.
    gap = moves[found.index("upper lip"), 1] - moves[found.index("lower lip"), 1]
    closed = [phone for phone in phones if phone.viseme == "viseme_pbm"]
    assert len(closed) >= 5
    assert gap.max() > 0.04
    for phone in closed:
        span = slice(int(phone.start_s * RATE), int(phone.stop_s * RATE) + 2)
        assert gap[span].min() < 0.008, phone


@pytest.mark.parametrize("kind", KINDS)
def test_charts_are_drafted_of_a_crowd_of_heads(kind):
    """A sample of the crowd; docs/faces.md has the table of all."""
    right = total = 0
    for seed in range(2):
        made = crowd_head(7000 + 10 * seed + KINDS.index(kind), kind)
        found = draft_face(made.figure, None)
        for name in made.figure.meshes[0].morph_names:
            guess, total = found.guesses[name], total + 1
            ok = is_right(made, name, guess, found.chart)
            right += ok
            assert ok or guess.confidence <= 0.9, (name, guess)
    assert right / total >= (0.90 if kind == "numbers" else 0.97)


def is_right(made, name, guess, chart):
    if name in made.correctives:
        return bool(guess.shape.corrects)
    parts = made.sums.get(name, (name,))
    wanted = sum(vector(made.truth[part]) for part in parts)
    got = vector(chart.units_of(name))
    alike = got @ wanted > 0.94 * np.linalg.norm(got) * np.linalg.norm(wanted) > 0
    return alike or set(guess.shape.total) == set(parts)


def test_the_troupe_is_drafted_right_also_without_names():
    alike = []
    for name, truth in (("Juniper", JUNIPER_SHAPES), ("Pip", PIP_SHAPES)):
        own = figure(name)
        face = own.meshes[1]
        order = np.random.default_rng(3).permutation(len(face.morph_names))
        listed = [face.morph_names[i] for i in order]
        nameless = replace(
            face, morph_names=tuple(f"m{i}" for i in range(len(listed))), morph_deltas=face.morph_deltas[order]
        )
        chart = draft_face(replace(own, meshes=(own.meshes[0], nameless)), head(name).roles).chart
        for i, old in enumerate(listed):
            a, b = vector(chart.units_of(f"m{i}")), vector(truth[old])
            alike.append(a @ b > 0.94 * np.linalg.norm(a) * np.linalg.norm(b) > 0)
    assert np.mean(alike) > 0.9


def test_sides_are_never_swapped_silently():
    own = figure("Juniper")
    face = own.meshes[1]
    swap = {" L": " R", " R": " L"}
    crossed = tuple(name[:-2] + swap.get(name[-2:], name[-2:]) for name in face.morph_names)
    found = draft_face(replace(own, meshes=(own.meshes[0], replace(face, morph_names=crossed))), head("Juniper").roles)
    for name in ("Smile L", "Eye Shut R", "Brow Frown L"):
        assert found.guesses[name].confidence < 0.9
        assert any("its name says" in reason for reason in found.guesses[name].reasons)
    assert {row.code for row in found.findings} >= {"shape-contradicts"}


def test_the_solver_agrees_with_a_standard_one():
    rng = np.random.default_rng(5)
    chart = FaceChart(
        "made", {k: Shape(k, v) for k, v in JUNIPER_SHAPES.items()} | {"glad": Shape("glad", {"joy": 1.0})}
    )
    wanted = np.clip(rng.normal(0.0, 0.5, (len(UNITS), 300)), 0.0, None)
    ours = bounded_weights(chart.matrix, wanted, np.full(len(chart.columns), 1e9))
    theirs = np.stack([nnls(chart.matrix, column)[0] for column in wanted.T], axis=1)
    left = [np.linalg.norm(chart.matrix @ weights - wanted, axis=0) for weights in (ours, theirs)]
    assert (left[0] <= 1.001 * left[1] + 1e-9).all()
    bounded = bounded_weights(chart.matrix, wanted, np.full(len(chart.columns), 0.4))
    assert 0.0 <= bounded.min() <= bounded.max() <= 0.4


def test_ranges_signs_sums_and_correctives():
    chart = FaceChart(
        "made",
        {
            "open": Shape("open", {"jaw_drop": 1.0}, high=100.0),
            "mood": Shape("mood", {"lip_corner_puller": 1.0}, {"lip_corner_depressor": 1.0}, low=-1.0),
            "both": Shape("both", total={"open": 0.5, "mood": 1.0}),
            "mend": Shape("mend", corrects=("open", "mood")),
        },
    )
    units = chart.matrix @ chart.activations({"open": np.array([50.0, 0, 0]), "mood": np.array([0, -0.5, 0.25])})
    assert units[INDEX["jaw_drop"]].tolist() == [0.5, 0.0, 0.0]
    assert units[INDEX["lip_corner_depressor_left"]].tolist() == [0.0, 0.5, 0.0]
    assert chart.units_of("both") == {"jaw_drop": 0.5, "lip_corner_puller": 1.0}
    back = chart.file_weights(np.array([[0.5], [0.2], [0.0], [0.0]]))
    assert (back["open"][0], back["mood"][0], back["mend"][0]) == (50.0, 0.2, pytest.approx(0.1))
    Path("made.toml").write_text(chart.text({"open": "how it is known"}))
    assert np.array_equal(FaceChart.load("made.toml").matrix, chart.matrix)


def test_a_drafted_chart_is_read_back_and_fits_its_head():
    for name in ("juniper", "osric"):
        assert run("face", "draft", TROUPE / f"{name}.glb", "-o", f"{name}.toml").returncode == 0
        assert run("face", "check", f"{name}.toml", TROUPE / f"{name}.glb").returncode == 0
        again = FaceChart.load(f"{name}.toml")
        assert np.allclose(again.matrix, head(name.capitalize()).chart.matrix)
    text = Path("juniper.toml").read_text().replace('"Smile L"', '"Simle L"')
    Path("wrong.toml").write_text(text)
    done = run("face", "check", "wrong.toml", TROUPE / "juniper.glb")
    assert done.returncode == 1
    assert "Near names: 'Smile L'" in done.stdout


def test_what_the_user_says_of_a_shape_is_taken_and_a_slip_is_told():
    done = run("face", "draft", TROUPE / "pip.glb", "--say", "wow=jaw_drop", "--json")
    assert json.loads(done.stdout)["morphs"]["wow"]["units"] == {"jaw_drop": 1.0}
    done = run("face", "draft", TROUPE / "pip.glb", "--say", "wouw=jaw_drop")
    assert done.returncode == 2
    assert "Do you mean 'wow'?" in done.stderr


def test_poses_held_on_frames_become_a_chart():
    side = head("Osric")
    shown = ("jaw_drop", "inner_brow_raiser", "lip_corner_puller", "eye_closure")
    units = np.zeros((len(UNITS), 10 * (len(shown) + 1)))
    for number, unit in enumerate(shown, 1):
        units[:, 10 * number : 10 * number + 10] = vector({unit: 1.0})[:, None]
    clip = perform_units(side, units, still_clip(side.figure, "held", Fraction(30), units.shape[1])).clip
    held = [(5, "rest"), *((10 * number + 5, f"pose {number}") for number in range(1, len(shown) + 1))]
    found = draft_timeline(side.figure, side.roles, clip, held)
    assert set(found.chart.shapes) == {f"pose {number}" for number in range(1, len(shown) + 1)}
    for number, unit in enumerate(shown, 1):
        got, wanted = vector(found.chart.units_of(f"pose {number}")), vector({unit: 1.0})
        assert got @ wanted > 0.9 * np.linalg.norm(got) * np.linalg.norm(wanted), (
            unit,
            found.guesses[f"pose {number}"],
        )
    again = Head(side.figure, side.roles, found.chart)
    assert np.allclose(again.activations(clip)[:, [15, 25, 35, 45]], np.eye(4), atol=0.02)


def test_bone_poses_fit_a_head_whose_bones_stand_elsewhere():
    side = head("Osric")
    bigger = replace(side.figure.skeleton, rest_translations=side.figure.skeleton.rest_translations * 1.5)
    large = replace(side.figure, skeleton=bigger, meshes=())
    other = Head(large, side.roles, side.chart)
    units, _ = spoken_line()
    clip = perform_units(other, units, still_clip(large, "line", RATE, units.shape[1])).clip
    assert np.allclose(other.units(clip), side.units(spoken_by("Osric").clip), atol=0.02)
    assert set(anatomical_poses(bigger, side.roles, head_frame(large, side.roles))) >= {"jaw_drop", "gaze_up_left"}


def test_convert_carries_the_face_with_the_body():
    fairswap.save("spoken.glb", figure("Juniper"), [spoken_by("Juniper").clip])
    report = json.loads(run("convert", "spoken.glb", "--onto", TROUPE / "osric.glb", "-o", "o.glb", "--json").stdout)
    assert len(report["clips"][0]["face"]["used"]) > 10
    got = head("Osric").units(fairswap.load("o.glb").clips[0])
    assert np.abs(got - head("Osric").units(spoken_by("Osric").clip)).mean() < 0.01
    bare = json.loads(
        run("convert", "spoken.glb", "--onto", TROUPE / "pip.glb", "-o", "p.glb", "--face", "none", "--json").stdout
    )
    assert bare["clips"][0]["face"] is None
    assert not fairswap.load("p.glb").clips[0].poses.morph_tracks


def test_speech_and_tracks_are_put_on_any_head():
    Path("say.csv").write_text(
        "start;end;phone\n0,1;0,3;m\n0,3;0,6;ɑː\n0,6;0,75;B\n0,75;0,9;IY1\n", encoding="utf-8-sig"
    )
    assert run("face", "apply", "say.csv", "--onto", TROUPE / "pip.glb", "-o", "say.glb").returncode == 0
    clip = fairswap.load("say.glb").clips[0]
    face = dict(zip(figure("Pip").meshes[1].morph_names, clip.poses.morph_tracks[0].weights, strict=True))
    at = {time: round(time * float(clip.rate)) for time in (0.2, 0.45, 0.675, 0.83)}
    assert face["say mm"][at[0.2]] > 0.8 > 0.2 > face["say ah"][at[0.2]]
    assert face["say ah"][at[0.45]] > 0.6
    assert face["say mm"][at[0.675]] > 0.8 > 0.2 > face["say ah"][at[0.675]]
    assert face["say ee"][at[0.83]] > 0.4


def test_the_reel_runs_every_shape_of_a_face():
    report = json.loads(run("reel", TROUPE / "pip.glb", "-o", "reel.glb", "--picture", "reel.png", "--json").stdout)
    assert [row["name"] for row in report["shapes"]] == list(PIP_SHAPES)
    weights = fairswap.load("reel.glb").clips[0].poses.morph_tracks[0].weights
    assert np.allclose(weights.max(axis=1), 1.0, atol=1e-3)
    assert Path("reel.png").stat().st_size > 10_000


def test_units_have_mirror_images_and_phones_their_visemes():
    assert all(mirrored(mirrored(unit)) == unit for unit in UNITS)
    assert all(spread(name) for name in names())
    for ours, phones in {"viseme_pbm": "m P b", "viseme_a": "AH0 aɪ", "viseme_ch": "tʃ SH", "": "sil"}.items():
        assert {viseme_of(phone) for phone in phones.split()} == {ours}
    units = units_from_phones([Phone("m", "viseme_pbm", 0.0, 0.1), Phone("a", "viseme_a", 0.1, 0.4)], Fraction(60))
    assert units[INDEX["lips_part"], 3] < 0.05


@pytest.mark.parametrize(
    ("table", "says"),
    [
        ("start,end,phone\n0,0.1,qq7\n", "no phone we know"),
        ("start,end,phone\n0.2,0.1,m\n", "before it starts"),
        ("start,end,phone\n0,0.4,m\n0.2,0.5,a\n", "times go backwards"),
        ("start,phone\n0,m\n", "no column end"),
        ("time_s,jaw_drop\n0,0\n0,1\n", "times go backwards"),
        ("time_s,jaw_drop,jaw_drop\n0,0,0\n", "twice"),
        ("time_s,jaw_drop\n0,nan\n", "not finite"),
        ("time_s,jaw_drop\n0,1000000\n", "Weights go to 1"),
        ("seconds,zzz\n0,1\n", "none of its tracks is known"),
        ("frame,zzz\n0,1\n", "no column time_s"),
        ("time_s,jaw_drop\n0,open\n", "is no number"),
    ],
)
def test_a_table_that_is_wrong_says_where(table, says):
    Path("bad.csv").write_text(table)
    done = run("face", "apply", "bad.csv", "--onto", TROUPE / "pip.glb", "-o", "out.glb")
    assert done.returncode in (3, 4)
    assert says in done.stderr
    assert "Traceback" not in done.stderr
    assert not Path("out.glb").exists()


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("[morphs.a]\nunits = { jaw_drip = 1 }\n", "Do you mean jaw_drop?"),
        ("[morphs.a]\nsum = { b = 1 }\n[morphs.b]\nsum = { a = 1 }\n", "a circle: a → b → a"),
        ("[morphs.a]\nsum = { bb = 1 }\n[morphs.b]\nunits = { joy = 1 }\n", "no shape 'bb'"),
        ("[morphs.a]\nunits = { joy = nan }\n", "units.joy: it is not a finite number"),
        ("[morphs.a]\nunits = { joy = 1 }\nrange = [1, 0]\n", "a range is two numbers"),
        ("[morphs.a]\nunits = { joy = 1 }\nnegative = { fear = 1 }\n", "does not go below 0"),
        ("[morphs.a]\nunit = { joy = 1 }\n", "unit"),
    ],
)
def test_a_chart_that_is_wrong_says_where(text, says):
    Path("bad.toml").write_text(f'fairswap = "face/1"\n{text}')
    with pytest.raises(fairswap.InputError, match=re.escape(says)):
        FaceChart.load("bad.toml")


def test_dead_equal_and_nameless_shapes_are_told():
    own = figure("Pip")
    face = own.meshes[1]
    deltas = face.morph_deltas.copy()
    deltas[0] = 0.0
    named = ("dead", "", "twice", "twice", *face.morph_names[4:])
    found = draft_face(
        replace(own, meshes=(own.meshes[0], replace(face, morph_names=named, morph_deltas=deltas))), None
    )
    assert {row.code for row in found.findings} >= {"shape-dead", "morphs-nameless", "morphs-equal-names"}


def test_a_figure_without_a_face_is_told_so():
    fairswap.save("stick.bvh", fairswap.Figure("Stick", figure("Pip").skeleton), [act("walk", "Pip")])
    spoken = fairswap.demo_motion("spoken line", by="Juniper")
    fairswap.save("line.glb", spoken.figure, spoken.clips)
    done = run("face", "apply", "line.glb", "--onto", "stick.bvh", "-o", "x.glb")
    assert done.returncode == 4
    assert "no face that could move" in done.stderr
