"""Values that cannot lie: checked and frozen when they are made, equal by content, changed only into new ones."""

import copy
import pickle
from dataclasses import FrozenInstanceError, replace
from fractions import Fraction

import numpy as np
import pytest

import fairswap
from fairswap.model.mesh import Material
from making import TROUPE, act, arm, clip_of, figure, random_poses, random_skeleton


def walk():
    return act("walk", "Juniper")


def arrays_of(value, path=""):
    """Every array within a value, with where it is."""
    for name, inner in vars(value).items():
        if isinstance(inner, np.ndarray):
            yield f"{path}.{name}", inner
        elif isinstance(inner, tuple):
            for part in inner:
                if hasattr(part, "__dataclass_fields__"):
                    yield from arrays_of(part, f"{path}.{name}")
        elif hasattr(inner, "__dataclass_fields__"):
            yield from arrays_of(inner, f"{path}.{name}")


@pytest.mark.parametrize("made", [lambda: walk().poses, walk, lambda: figure("Osric"), lambda: figure("Pip").meshes[0]])
def test_no_array_of_a_value_can_be_written_to(made):
    found = dict(arrays_of(made()))
    assert found
    for where, array in found.items():
        assert not array.flags.writeable, where
        with pytest.raises(ValueError, match="read-only"):
            array[...] = 0
    with pytest.raises(FrozenInstanceError):
        made().name = "another"


def test_a_view_that_somebody_may_still_write_to_is_copied():
    base = np.zeros((5, 3))
    base[:, 1] = np.arange(5)
    skeleton = fairswap.Skeleton(tuple("abcd"), np.array([-1, 0, 1, 2]), np.tile([0, 0, 0, 1.0], (4, 1)), base[:4])
    base[:] = 7.0
    assert skeleton.rest_translations[:, 1].tolist() == [0, 1, 2, 3]


@pytest.mark.parametrize(
    ("field", "spoil", "says"),
    [
        ("rest_translations", lambda a: a * np.nan, "not finite"),
        ("rest_translations", lambda a: a + np.inf, "not finite"),
        ("rest_translations", lambda a: a[:-1], "shape"),
        ("rest_translations", lambda a: a[:, :2], "shape"),
        ("rest_rotations", lambda a: a * 1.1, "unit length"),
        ("rest_rotations", lambda a: a * 0.0, "unit length"),
        ("parents", lambda a: a[::-1].copy(), "parent"),
        ("parents", lambda a: np.arange(len(a)), "parent"),
        ("parents", lambda a: a - 2, "parent"),
        ("ends", lambda a: {9}, "end"),
        ("ends", lambda a: {-1}, "end"),
    ],
)
def test_a_skeleton_that_could_not_be_is_refused_with_the_reason(field, spoil, says):
    skeleton = random_skeleton(9)
    with pytest.raises(fairswap.UsageError, match=says):
        replace(skeleton, **{field: spoil(getattr(skeleton, field))})


@pytest.mark.parametrize(
    ("field", "spoil", "says"),
    [
        ("rotation_tracks", lambda a: np.where(np.arange(a.shape[2]) == 3, np.nan, a), "not finite"),
        ("rotation_tracks", lambda a: a * 1.01, "unit length"),
        ("rotation_tracks", lambda a: a[:-1], "shape"),
        ("rotation_tracks", lambda a: a.transpose(0, 2, 1), "shape"),
        ("translation_tracks", lambda a: a * np.inf, "not finite"),
        ("translation_tracks", lambda a: a[:, :, :-1], "shape"),
        ("translated_bones", lambda a: a + 100, "bone"),
        ("translated_bones", lambda a: a[[0, 0]], "twice"),
    ],
)
def test_poses_that_could_not_be_are_refused_with_the_reason(field, spoil, says):
    poses = random_poses(random_skeleton(9), 12)
    with np.errstate(invalid="ignore"), pytest.raises(fairswap.UsageError, match=says):
        replace(poses, **{field: spoil(getattr(poses, field))})


def test_any_bone_may_be_an_end():
    skeleton = random_skeleton(4)
    assert replace(skeleton, ends={0, 3}).ends == {0, 3}


def test_a_clip_needs_a_rate_and_frames():
    poses = random_poses(random_skeleton(4), 5, moved=())
    for rate in (Fraction(0), Fraction(-30)):
        with pytest.raises(fairswap.UsageError):
            fairswap.Clip("bad", rate, poses)
    for start_s in (-0.1, np.inf, np.nan):
        with pytest.raises(fairswap.UsageError, match="start"):
            fairswap.Clip("bad", Fraction(30), poses, start_s=start_s)


@pytest.mark.parametrize(
    "spoil",
    [
        {"vertices": np.full((7258, 3), np.nan)},
        {"normals": np.zeros((3, 3))},
        {"triangles": np.array([[0, 1, 7258]])},
        {"triangles": np.array([[0, 1, -1]])},
        {"joints": np.full((7258, 4), 30)},
        {"weights": np.zeros((7258, 1))},
        {"uvs": np.zeros((7258, 3))},
        {"morph_names": ("one",)},
    ],
)
def test_a_mesh_that_could_not_be_is_refused(spoil):
    with pytest.raises(fairswap.UsageError):
        replace(figure("Pip").meshes[0], **spoil)


def test_skeletons_are_the_same_by_content():
    path = fairswap.demo_file("pip.glb")
    a, b = fairswap.load(path).figure.skeleton, fairswap.load(path).figure.skeleton
    assert a is not b
    assert a == b
    assert hash(a) == hash(b)
    moved = a.rest_translations.copy()
    moved[3, 1] += 1e-6
    assert replace(a, rest_translations=moved) != a
    assert replace(a, names=(*a.names[:-1], "other")) != a
    assert len({a, b, copy.deepcopy(a), pickle.loads(pickle.dumps(a))}) == 1


def test_a_clip_of_one_load_is_saved_onto_the_figure_of_another():
    path = fairswap.demo_file("pip.glb")
    clip = act("idle", "Pip")
    for other in (fairswap.load(path).figure, copy.deepcopy(figure("Pip")), pickle.loads(pickle.dumps(figure("Pip")))):
        fairswap.save("out.glb", other, [clip], force=True)
        assert fairswap.load("out.glb").clips[0].frames == clip.frames
    with pytest.raises(fairswap.UsageError, match="another skeleton"):
        fairswap.save("other.glb", figure("Osric"), [clip])


def test_what_was_edited_is_what_is_written():
    """Nothing is decided by identity: an edit through the builder reaches the file, in both formats."""
    document = fairswap.demo_motion("turn-and-bow")
    clip = document.clips[0]
    bone = document.figure.skeleton.names.index("skull")
    edit = clip.poses.edit()
    turned = np.tile(np.array([[0.0], [0.0], [np.sin(0.4)], [np.cos(0.4)]]), (1, clip.frames))
    edit.turn(bone, turned)
    new = clip.with_poses(edit.poses())
    assert not np.allclose(clip.poses.rotation_tracks[bone], turned)  # the old clip is what it was
    for name in ("edited.glb", "edited.bvh"):
        fairswap.save(name, document.figure, [new])
        again = fairswap.load(name).clips[0]
        at = again.skeleton.names.index("skull")
        dots = np.abs(np.einsum("if,if->f", again.poses.rotation_tracks[at], turned))
        assert dots.min() > 1 - 1e-6 if name.endswith(".glb") else dots.min() > 0.9


def test_a_mesh_made_larger_is_written_larger():
    pip = figure("Pip")
    mesh = pip.meshes[0]
    larger = replace(pip, meshes=(replace(mesh, vertices=mesh.vertices * 1.5), *pip.meshes[1:]))
    fairswap.save("larger.glb", larger, [])
    again = fairswap.load("larger.glb").figure.meshes[0]
    assert np.ptp(again.vertices, axis=0) == pytest.approx(1.5 * np.ptp(mesh.vertices, axis=0), rel=1e-5)


def test_a_mesh_with_plain_materials_keeps_its_geometry(tmp_path):
    """Made by hand, from no file: a figure of three bones and a strip."""
    made = arm().load(tmp_path)
    mesh = made.figure.meshes[0]
    count = len(mesh.triangles)
    for materials in (
        (),
        (Material(slice(0, count), np.ones(3)),),
        (Material(slice(0, 2), np.ones(3)), Material(slice(2, count), np.zeros(3))),
    ):
        plain = fairswap.Figure(
            "plain", made.figure.skeleton, (replace(mesh, materials=materials, origin=None),), made.space
        )
        fairswap.save("plain.glb", plain, [], force=True)
        again = fairswap.load("plain.glb").figure.meshes
        assert sum(len(m.triangles) for m in again) == count
        assert np.ptp(np.concatenate([m.vertices for m in again]), axis=0) == pytest.approx(
            np.ptp(mesh.vertices, axis=0)
        )


def test_heights_follow_the_mesh():
    pip = figure("Pip")
    assert pip.height_m == pytest.approx(1.23, abs=0.01)
    taller = replace(pip, meshes=tuple(replace(mesh, vertices=mesh.vertices * 2) for mesh in pip.meshes))
    assert taller.height_m > 1.9 * pip.height_m


def test_every_value_prints_as_a_short_sentence():
    walking = fairswap.demo_motion("walk")
    rigged = fairswap.RiggedFigure.of(walking)
    motion = fairswap.Motion(rigged, walking.clips[0])
    proof = fairswap.compare(walking, walking)
    head = fairswap.face.Head.of(walking)
    values = [
        walking, walking.figure, walking.figure.meshes[0], walking.figure.skeleton, walking.clips[0],
        walking.clips[0].poses, rigged, rigged.roles, rigged.reference, motion, proof, head, head.chart, head.drafted,
        fairswap.inspect(walking), fairswap.platform.named("quillmoor"), fairswap.bones.named("fernway"),
        fairswap.check(walking, "fernway"), fairswap.reel(walking), fairswap.pose.measure(walking),
        fairswap.pose.named("frame:3"), fairswap.clips.describe(walking.clips[0]),
        fairswap.clips.loop(walking.clips[0]), fairswap.bones.draft(walking), clip_of(walking.clips[0].poses),
    ]  # fmt: skip
    too_long = {type(value).__name__: len(repr(value)) for value in values if len(repr(value)) > 300}
    assert not too_long
    shown = [value for value in values if hasattr(value, "_repr_html_")]
    assert len(shown) >= 5
    assert all(value._repr_html_().startswith("<") for value in shown)


def test_what_a_verb_gives_prints_as_a_line_that_says_how_it_fared():
    idle, pip = fairswap.demo_motion("idle", by="Pip"), fairswap.demo_file("pip.glb")
    made = fairswap.convert(idle, fairswap.demo_file("osric.glb"))
    walk = fairswap.demo_motion("walk", by="Pip")
    printed = {
        repr(made): "at worst the same",
        repr(made.done[0]): "looks the same",
        repr(fairswap.inspect(pip)): "1 figure,",
        repr(fairswap.inspect(pip).figures[0]): "rests in A",
        repr(fairswap.clips.describe(walk.clips[0], walk)): "steps a minute",
        repr(fairswap.cutting(pip)): "nothing cuts",
        repr(fairswap.check(pip, "fernway")): "max_texture_px",
        repr(fairswap.pose.measure(pip)): "arms 45",
        repr(fairswap.bones.match(pip, fairswap.demo_file("osric.glb"))): "paired",
    }
    for line, said in printed.items():
        assert said in line
        assert len(line) < 160
        assert "\n" not in line


def test_verbs_take_what_is_at_hand_whichever_way_it_is_held(tmp_path):
    """A path, a document, a figure with its clip, files from a pattern: they give the same."""
    idle, osric = fairswap.demo_motion("idle", by="Pip"), fairswap.load(fairswap.demo_file("osric.glb"))
    made = fairswap.convert([idle], osric)
    (proof,) = made.comparisons
    assert proof is made.done[0].comparison
    result = tmp_path / "result.glb"
    made.save(result)
    pair = (fairswap.load(result).figure, fairswap.load(result).clips[0])
    for source in (idle, (idle.figure, idle.clips[0])):
        for held in (result, str(result), fairswap.load(result), pair):
            assert fairswap.compare(source, held).likeness == pytest.approx(proof.likeness, abs=0.01)
    fairswap.save(tmp_path / "again.dae", fairswap.load(result))
    again = fairswap.load(tmp_path / "again.dae")
    assert [clip.name for clip in again.clips] == [clip.name for clip in made.clips]
    fairswap.save(tmp_path / "one.bvh", idle)
    found = fairswap.convert(tmp_path.glob("*.bvh"), osric)
    assert [row.source.file for row in found.done] == [str(tmp_path / "one.bvh")]


@pytest.mark.parametrize("wrong", [None, 7, {}, fairswap.UsageError], ids=lambda wrong: type(wrong).__name__)
def test_what_is_no_file_is_said_to_be_none(wrong):
    pip = fairswap.demo_file("pip.glb")
    for verb in (
        fairswap.load, fairswap.inspect, fairswap.leave_out, fairswap.place, fairswap.bones.draft, fairswap.view,
        lambda what: fairswap.convert([what], pip), lambda what: fairswap.convert(pip, what),
        lambda what: fairswap.compare(pip, what), lambda what: fairswap.check(what, "fernway"),
        lambda what: fairswap.fit(what, "fernway"), lambda what: fairswap.face.draft(what),
    ):  # fmt: skip
        with pytest.raises(fairswap.UsageError, match=f"not a value of type {type(wrong).__name__}"):
            verb(wrong)


def test_no_motion_at_all_is_no_success(tmp_path):
    with pytest.raises(fairswap.UsageError, match="no motion is given"):
        fairswap.convert(tmp_path.glob("*.bvh"), fairswap.demo_file("pip.glb"))


def test_a_card_has_a_row_for_each_thing_that_was_found():
    """Findings of one severity, and figures of one name, do not take each other's row."""
    walk = fairswap.demo_motion("walk")
    notes = tuple(fairswap.Finding("clip-still", "note", "walk", f"number {count}") for count in range(3))
    told = replace(walk, findings=notes, figures=(walk.figure, walk.figure))
    for card in (told._repr_html_(), fairswap.inspect(told)._repr_html_()):
        assert all(finding.message in card for finding in notes)
        assert card.count("figure Juniper") == 2
        assert "clip Walk" in card


@pytest.mark.parametrize("verb", [name for name in fairswap.clips.__all__ if name[0].islower()])
@pytest.mark.parametrize("given", ["walk.bvh", None, ["walk.bvh"], fairswap.Document])
def test_verbs_of_clips_say_what_they_want(verb, given):
    what = fairswap.demo_motion() if given is fairswap.Document else given
    with pytest.raises(fairswap.UsageError, match=rf"{verb} wants a clip, not a value of type \w+\. Give one of"):
        getattr(fairswap.clips, verb)(what)


def test_options_of_another_kind_are_refused():
    walk, pip = fairswap.demo_motion("walk", "Pip"), TROUPE / "pip.glb"
    for name, wanted in (("motion", "MotionOptions"), ("source", "SourceOptions"), ("face", "FaceOptions")):
        with pytest.raises(fairswap.UsageError, match=rf"{name} wants {wanted}, not a value of type dict"):
            fairswap.convert(walk, pip, **{name: {"feet": "free"}})
    with pytest.raises(fairswap.UsageError, match="result_options wants TargetOptions"):
        fairswap.compare(walk, walk, result_options=fairswap.SourceOptions())
