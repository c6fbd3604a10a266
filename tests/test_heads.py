"""Face charts of heads that nothing was fitted on: another way of sculpting, many ways of naming."""

from dataclasses import replace
from fractions import Fraction

import numpy as np
import pytest

import fairswap
import heads
from fairswap.face.drafting import draft_face
from fairswap.face.head import Head
from fairswap.face.organs import organs_of, shells_of
from fairswap.face.transfer import FaceSwap, still_clip
from fairswap.face.units import vector
from fairswap.model.poses import MorphTrack


def is_right(chart, name, unit):
    got, wanted = vector(chart.units_of(name)), vector({unit: 1.0})
    return got @ wanted > 0.94 * np.linalg.norm(got) * np.linalg.norm(wanted) > 0


@pytest.mark.parametrize("convention", list(heads.CONVENTIONS))
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
