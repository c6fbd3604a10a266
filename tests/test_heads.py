"""Face charts of heads that nothing was fitted on: another way of sculpting, many ways of naming."""

from dataclasses import replace
from fractions import Fraction

import numpy as np
import pytest

import fairswap
import heads
from fairswap.face.chart import FaceChart, Shape
from fairswap.face.checking import region_coverage
from fairswap.face.drafting import draft_face
from fairswap.face.head import Head
from fairswap.face.organs import organs_of, shells_of
from fairswap.face.speech.liveliness import with_blinks
from fairswap.face.speech.mouth import units_from_phones
from fairswap.face.speech.timing import phones_in_time
from fairswap.face.speech.words import Pronunciation
from fairswap.face.transfer import FaceSwap, still_clip
from fairswap.face.units import UNITS, vector
from fairswap.model.mesh import Mesh
from fairswap.model.poses import MorphTrack
from fairswap.model.skeleton import Skeleton


def is_right(chart, name, unit):
    got, wanted = vector(chart.units_of(name)), vector({unit: 1.0})
    return got @ wanted > 0.94 * np.linalg.norm(got) * np.linalg.norm(wanted) > 0


@pytest.mark.parametrize("convention", list(heads.CONVENTIONS))
@pytest.mark.long(but=6)
def test_shapes_are_told_on_heads_of_another_make(convention):
    """Two heads of each; docs/faces.md has the table of ten."""
    right = total = 0
    for seed in (3, 8):
        made = heads.made_head(2000 + 31 * seed + len(convention), convention)
        found = draft_face(made.figure, None)
        for name, unit in made.truth.items():
            good, guess = is_right(found.chart, name, unit), found.guesses[name]
            right, total = right + good, total + 1
            assert good or guess.confidence < 0.9, (name, unit, guess)
    assert right / total >= 0.98


def test_eyeballs_that_turn_are_gaze_whatever_the_shape_is_called():
    made = heads.made_head(5, "plain")
    mesh = made.figure.meshes[0]
    names = tuple(
        {"look up Left": "blink Left", "blink Left": "look up Left"}.get(name, name) for name in mesh.morph_names
    )
    found = draft_face(replace(made.figure, meshes=(replace(mesh, morph_names=names),)), None)
    turning = found.guesses["blink Left"]
    assert turning.shape.units == {"gaze_up_left": 1.0}
    assert turning.confidence < 0.9
    assert any("its name says eye_closure" in reason for reason in turning.reasons)
    assert "gaze" not in " ".join(found.guesses["look up Left"].shape.units)


def test_one_shape_may_turn_both_eyes():
    made = heads.made_head(6, "numbers")
    mesh = made.figure.meshes[0]
    at = {unit: mesh.morph_names.index(name) for name, unit in made.truth.items()}
    deltas = mesh.morph_deltas.copy()
    deltas[at["gaze_out_left"]] += deltas[at["gaze_in_right"]]
    found = draft_face(replace(made.figure, meshes=(replace(mesh, morph_deltas=deltas),)), None)
    units = found.chart.units_of(mesh.morph_names[at["gaze_out_left"]])
    assert units == {"gaze_out_left": 1.0, "gaze_in_right": 1.0}


def test_a_head_without_eyeballs_that_turn_has_no_gaze():
    made = heads.made_head(7, "numbers")
    mesh = made.figure.meshes[0]
    kept = [number for number, name in enumerate(mesh.morph_names) if "gaze" not in made.truth[name]]
    without = replace(
        mesh, morph_names=tuple(mesh.morph_names[i] for i in kept), morph_deltas=mesh.morph_deltas[kept],
        morph_weights=np.zeros(len(kept)),
    )  # fmt: skip
    found = draft_face(replace(made.figure, meshes=(without,)), None)
    sure = [name for name, guess in found.guesses.items()
            if guess.confidence >= 0.9 and any("gaze" in unit for unit in guess.shape.units)]  # fmt: skip
    assert not sure


def test_shells_hang_together_by_triangles_and_by_places():
    points = np.array(
        [[0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 1, 0], [1, 0, 0], [1, 1, 0], [5, 5, 5], [6, 5, 5], [5, 6, 5]], dtype=float
    )
    shells = shells_of(np.array([[0, 1, 2], [3, 4, 5], [6, 7, 8]]), 9, points)
    assert len(set(shells[:6].tolist())) == 1
    assert len(set(shells[6:].tolist())) == 1
    assert shells[0] != shells[6]


def test_what_moves_with_the_head_as_a_whole_turns_no_eye():
    made = heads.made_head(9, "plain")
    mesh = made.figure.meshes[0]
    shells = shells_of(mesh.triangles, len(mesh.vertices), mesh.vertices)
    nod = np.cross([0.2, 0.0, 0.0], mesh.vertices - mesh.vertices.mean(axis=0))[None]
    found = organs_of(mesh.vertices, shells, nod)
    assert found.gazes == [{}]
    assert not found.tongue.any()


@pytest.mark.parametrize("convention", ["codes", "numbers", "japanese"])
def test_one_to_one_stays_one_to_one(convention):
    """Each shape alone, then all at once: the same weight on the shape that does the same."""
    source, target = heads.made_head(1, "plain"), heads.made_head(12, convention)
    names = list(source.figure.meshes[0].morph_names)
    frames = 2 * len(names)
    rng = np.random.default_rng(0)
    weights = np.where(np.arange(frames)[None] // 2 == np.arange(len(names))[:, None], [[0.5, 1.0] * len(names)], 0.0)
    weights = np.concatenate([weights, rng.uniform(0.0, 1.0, (len(names), 40)) ** 3], axis=1)
    still = still_clip(source.figure, "x", Fraction(30), weights.shape[1])
    clip = still.with_poses(still.poses.edit().poses(morph_tracks=(MorphTrack(0, weights),)))
    swap = FaceSwap(Head.of(source.figure), Head.of(target.figure))
    made = swap.transfer(clip, still_clip(target.figure, "x", Fraction(30), weights.shape[1]))
    shown, listed = made.clip.poses.morph_tracks[0].weights, list(target.figure.meshes[0].morph_names)
    called = {unit: name for name, unit in target.truth.items()}
    for row, name in enumerate(names):
        np.testing.assert_allclose(shown[listed.index(called[source.truth[name]])], weights[row], atol=0.01)
    assert not made.lost


def test_the_same_head_is_drafted_alike_in_any_order_and_size():
    made = heads.made_head(4, "numbers")
    mesh = made.figure.meshes[0]
    order = np.random.default_rng(1).permutation(len(mesh.morph_names))
    other = replace(
        mesh, vertices=mesh.vertices * 3.0, morph_names=tuple(mesh.morph_names[i] for i in order),
        morph_deltas=mesh.morph_deltas[order] * 3.0,
    )  # fmt: skip
    first, second = (draft_face(fairswap.Figure("x", made.figure.skeleton, (one,)), None) for one in (mesh, other))
    same = [first.chart.units_of(name) == second.chart.units_of(name) for name in mesh.morph_names]
    assert np.mean(same) == 1.0


def coarse_face(named):
    """A mask of one shell, 17 by 17 vertices; lips part, push ahead and pull as single hills."""
    x, y = (axis.ravel() for axis in np.meshgrid(np.linspace(-0.07, 0.07, 17), np.linspace(-0.1, 0.1, 17)))
    z = 0.09 * np.sqrt(1.0 - (x / 0.13) ** 2 - (y / 0.14) ** 2)
    cells = [(i, i + 1, i + 17) for i in range(16 * 17) if i % 17 < 16]
    triangles = np.array(cells + [(b, c + 1, c) for _, b, c in cells])

    def hill(at, wide, high=0.012):
        return np.exp(-(((x - at[0]) / wide) ** 2) - ((y - at[1]) / high) ** 2)

    mouth = hill((0.0, -0.045), 0.018, 0.018)
    chin = np.clip((-0.042 - y) / 0.006, 0.0, 1.0)
    zero = 0.0 * x
    shapes = {
        "eye_closure_left": (zero, -0.01 * hill((0.03, 0.024), 0.016, 0.01), zero),
        "eye_closure_right": (zero, -0.01 * hill((-0.03, 0.024), 0.016, 0.01), zero),
        "jaw_drop": (zero, -0.025 * chin, -0.006 * chin),
        "jaw_thrust": (zero, zero, 0.012 * chin),
        "lip_corner_puller_left": tuple(way * hill((0.024, -0.045), 0.012) for way in (0.008, 0.008, -0.003)),
        "lip_corner_puller_right": tuple(way * hill((-0.024, -0.045), 0.012) for way in (-0.008, 0.008, -0.003)),
        "lip_pucker": (-0.3 * x * hill((0.0, -0.045), 0.03, 0.018), zero, 0.013 * mouth),
        "lip_funneler": (-0.05 * x * mouth, 0.012 * np.clip((y + 0.045) / 0.012, -1.0, 1.0) * mouth, 0.016 * mouth),
    }
    truth = dict(zip(named or [f"m_{i}" for i in range(len(shapes))], shapes, strict=True))
    mesh = Mesh(
        "mask", np.stack([x, y + 1.5, z], axis=1), np.tile([0.0, 0.0, 1.0], (len(x), 1)), triangles,
        np.zeros((len(x), 1), dtype=int), np.ones((len(x), 1)), np.eye(4)[None], morph_names=tuple(truth),
        morph_deltas=np.array(list(shapes.values())).transpose(0, 2, 1), morph_weights=np.zeros(len(shapes)),
    )  # fmt: skip
    return fairswap.Figure("mask", Skeleton(("head",), [-1], [[0.0, 0.0, 0.0, 1.0]], [[0.0, 0.0, 0.0]]), (mesh,)), truth


@pytest.mark.parametrize(
    "named",
    [None, ["shut L", "shut R", "open", "jaw out", "smile L", "smile R", "kiss", "round mouth"]],
)
def test_a_round_mouth_is_no_jaw_also_on_a_coarse_mask(named):
    own, truth = coarse_face(named)
    found = draft_face(own, None)
    wrong = {name: found.guesses[name] for name, unit in truth.items() if not is_right(found.chart, name, unit)}
    assert not wrong


def test_a_shape_that_moves_both_brows_counts_for_brows_in_part():
    chart = FaceChart("x", {"up": Shape("up", {"brow_raiser": 1.0}), "joy": Shape("joy", {"joy": 1.0})})
    covered = {row.region: row for row in region_coverage(chart)}
    assert covered["brows"].verdict == "in part"
    assert "inner_brow_raiser_left" not in covered["brows"].missing
    assert "brow_lowerer_left" in covered["brows"].missing
    assert covered["lids"].verdict == "none"


PAIRS = [
    ("plain", "numbers"),
    ("codes", "german"),
    ("numbers", "short"),
    ("japanese", "camel"),
    ("misspelt", "russian"),
]


def performance(head, units):
    """A head that performs units by the truth of its shapes, as weights ``(morphs, frames)``."""
    names = head.figure.meshes[0].morph_names
    return np.clip([units[UNITS.index(head.truth[name])] for name in names], 0.0, 1.0)


def as_clip(head, weights):
    still = still_clip(head.figure, "line", Fraction(60), weights.shape[1])
    return still.with_poses(still.poses.edit().poses(morph_tracks=(MorphTrack(0, weights),)))


@pytest.mark.parametrize("pair", PAIRS)
@pytest.mark.long(but=2)
def test_a_line_with_blinks_goes_from_head_to_head(pair):
    """Places of the face against the target's own performance; lips at m, b, p; lids at every blink."""
    words = Pronunciation().words("Maybe people buy bread, and my mother makes jam before supper.")
    phones = phones_in_time(words)
    units = with_blinks(units_from_phones(phones, Fraction(60)), 60.0, phones)
    smile = 0.6 * np.sin(np.linspace(0.0, np.pi, units.shape[1]))
    for side in ("left", "right"):
        units[UNITS.index(f"lip_corner_puller_{side}")] = smile
        units[UNITS.index(f"inner_brow_raiser_{side}")] = 0.5 * smile
    source, target = (heads.made_head(900 + 31 * number, convention) for number, convention in enumerate(pair))
    swap = FaceSwap(Head(source.figure, None), Head(target.figure, None))
    still = still_clip(target.figure, "line", Fraction(60), units.shape[1])
    got = swap.transfer(as_clip(source, performance(source, units)), still).clip.poses.morph_tracks[0].weights
    own = performance(target, units)
    mesh = target.figure.meshes[0]
    # Where each shape moves the skin most: as many places as there are shapes.
    places = np.argmax(np.linalg.norm(mesh.morph_deltas, axis=2), axis=1)
    moves = np.einsum("mf,mpc->fpc", own, mesh.morph_deltas[:, places])
    off = np.linalg.norm(np.einsum("mf,mpc->fpc", got - own, mesh.morph_deltas[:, places]), axis=2)
    size = np.linalg.norm(moves, axis=2)
    height = np.ptp(mesh.vertices[:, 1])
    moving = size > 0.002 * height
    assert np.median(off[moving] / size[moving]) < 0.06
    assert off.max() < 0.01 * height
    names = {unit: row for row, unit in enumerate(target.truth[name] for name in mesh.morph_names)}
    shut = units[UNITS.index("eye_closure_left")] > 0.99
    assert shut.any()
    assert min(got[names[f"eye_closure_{side}"]][shut].min() for side in ("left", "right")) > 0.97
    closures = [phone for phone in phones if phone.viseme == "viseme_pbm"]
    assert len(closures) == 12
    open_ = got[names["jaw_drop"]] + got[names["lip_funneler"]]
    for phone in closures:
        frames = slice(round(60 * phone.start_s), round(60 * phone.stop_s) + 1)
        assert open_[frames].min() < 0.05, phone
