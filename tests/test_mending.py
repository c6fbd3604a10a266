"""What a file says against the rules of its format is put right; what is changed by hand is in the written file."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

import fairswap
from fairswap.clips.resampling import at_rate
from judging import validated
from making import TROUPE, act, figure, run
from rewrites import Scene


def skins_of(scene):
    rows = [primitive["attributes"] for primitive in scene.primitives()]
    return {(row["JOINTS_0"], row["WEIGHTS_0"]) for row in rows if "WEIGHTS_0" in row}


def long_normals(scene):
    for index in {primitive["attributes"]["NORMAL"] for primitive in scene.primitives()}:
        scene.arrays[index] = scene.arrays[index] * np.float32(1.1)
        scene.arrays[index][:3] = 0.0


def odd_tangents(scene):
    made = {}
    for attributes in (primitive["attributes"] for primitive in scene.primitives()):
        normals = scene.arrays[attributes["NORMAL"]]
        if attributes["NORMAL"] not in made:
            tangents = np.column_stack([np.roll(normals, 1, axis=1) * 3.0, np.full(len(normals), -0.5)])
            tangents[0] = 0.0
            made[attributes["NORMAL"]] = scene.add(tangents)
        attributes["TANGENT"] = made[attributes["NORMAL"]]


def long_rotations(scene):
    for node in scene.nodes:
        if "rotation" in node:
            node["rotation"] = [0.98 * part for part in node["rotation"]]


def long_keys(scene):
    for animation in scene.json["animations"]:
        for row in animation["channels"]:
            if row["target"]["path"] == "rotation":
                output = animation["samplers"][row["sampler"]]["output"]
                scene.arrays[output] = scene.arrays[output] * np.float32(1.02)


def foreign_rows(scene):
    for skin in scene.json["skins"]:
        values = scene.arrays[skin["inverseBindMatrices"]].copy()
        values.reshape(-1, 16)[:, 15] = 1.00001
        scene.arrays[skin["inverseBindMatrices"]] = values


def wrong_roots(scene):
    for skin in scene.json["skins"]:
        skin["skeleton"] = skin["joints"][-1]


def little_weight(scene):
    for _, weights in skins_of(scene):
        scene.arrays[weights] = scene.arrays[weights] * np.float32(0.9)


def rounded_weights(scene):
    """As bytes, each rounded for itself: they miss one by a step or two."""
    for _, weights in skins_of(scene):
        scene.arrays[weights] = np.floor(scene.arrays[weights] * 255).astype("u1")
        scene.json["accessors"][weights] |= {"componentType": 5121, "normalized": True}


def weights_below_zero(scene):
    for _, weights in skins_of(scene):
        values = scene.arrays[weights].copy()
        free = np.flatnonzero(values[:, 3] == 0.0)
        values[free, 3], values[free, 0] = -0.25, values[free, 0] + np.float32(0.25)
        scene.arrays[weights] = values


def joints_twice(scene):
    for joints, weights in skins_of(scene):
        names, values = scene.arrays[joints].copy(), scene.arrays[weights].copy()
        free = values[:, 3] == 0.0
        names[free, 3], values[free, 3] = names[free, 0], values[free, 0] / 2
        values[free, 0] /= 2
        scene.arrays[joints], scene.arrays[weights] = names, values


BROKEN = (
    long_normals, odd_tangents, long_rotations, long_keys, foreign_rows, wrong_roots, little_weight, rounded_weights,
    weights_below_zero, joints_twice,
)  # fmt: skip


def broken(change):
    fairswap.save("whole.glb", figure("Pip"), [act("walk", "Pip")])
    scene = Scene(Path("whole.glb").read_bytes())
    change(scene)
    Path("broken.glb").write_bytes(scene.bytes())
    return fairswap.load("broken.glb")


@pytest.mark.parametrize("change", BROKEN, ids=lambda change: change.__name__)
def test_what_breaks_the_rules_of_the_format_is_whole_where_it_is_written_again(change):
    document = broken(change)
    fairswap.save("mended.glb", document.figure, document.clips)
    before, after = validated("broken.glb", "mended.glb")
    assert before["errors"] > 0
    assert (after["errors"], after["warnings"]) == (0, 0)
    # And it is what was judged before: the same skin, the same motion.
    again = fairswap.load("mended.glb")
    clip, other = document.clips[0], again.clips[0]
    for frame in (0, clip.frames // 2):
        one, two = (
            np.concatenate(file.figure.skin(moved.poses.world(), frame, moved.poses))
            for file, moved in ((document, clip), (again, other))
        )
        assert np.abs(one - two).max() < 2e-6
    # Nothing else has changed.
    whole, mended = (Scene(Path(name).read_bytes()) for name in ("whole.glb", "mended.glb"))
    assert mended.json["meshes"][0]["primitives"][0].keys() == whole.json["meshes"][0]["primitives"][0].keys()
    assert mended.json["materials"] == whole.json["materials"]


def test_what_is_whole_already_keeps_its_bytes():
    fairswap.save("whole.glb", figure("Pip"), [act("walk", "Pip")])
    document = fairswap.load("whole.glb")
    fairswap.save("again.glb", document.figure, document.clips)
    assert Path("again.glb").read_bytes() == Path("whole.glb").read_bytes()


def test_a_platform_gets_no_copy_of_what_breaks_the_rules():
    run("fit", TROUPE / "pip.glb", "--platform", "fernway", "-o", "fits.glb")
    run("fit", "fits.glb", "--platform", "fernway", "-o", "same.glb")
    assert Path("same.glb").read_bytes() == Path("fits.glb").read_bytes()
    scene = Scene(Path("fits.glb").read_bytes())
    foreign_rows(scene)
    Path("broken.glb").write_bytes(scene.bytes())
    run("fit", "broken.glb", "--platform", "fernway", "-o", "mended.glb")
    before, after = validated("broken.glb", "mended.glb")
    assert before["errors"]
    assert not after["errors"]


@pytest.mark.parametrize(("change", "said"), [(little_weight, "add up to 0.9, not to 1"), (rounded_weights, None)])
def test_weights_that_other_programs_would_show_as_less_are_told(change, said):
    told = [finding.message for finding in broken(change).findings if finding.code == "weights-scaled"]
    assert len(told) == (len(figure("Pip").meshes) if said else 0)
    assert all(said in message for message in told)


# By hand, from Python.


def mesh_with_morphs():
    juniper = figure("Juniper")
    return next(number for number, mesh in enumerate(juniper.meshes) if mesh.morph_names)


CHANGES = {
    "name": lambda mesh: {"name": "by hand"},
    "vertices": lambda mesh: {"vertices": mesh.vertices * 1.1},
    "weights": lambda mesh: {"weights": np.eye(mesh.weights.shape[1])[np.zeros(len(mesh.weights), dtype=int)]},
    "joints": lambda mesh: {"joints": np.zeros_like(mesh.joints)},
    "triangles": lambda mesh: {"triangles": mesh.triangles[:, ::-1]},
    "uvs": lambda mesh: {"uvs": mesh.uvs * 0.5},
    "morph_names": lambda mesh: {"morph_names": tuple(f"my {name}" for name in mesh.morph_names)},
    "morph_deltas": lambda mesh: {"morph_deltas": mesh.morph_deltas * 0.5},
    "morph_weights": lambda mesh: {"morph_weights": np.full(len(mesh.morph_names), 0.25)},
    "more": lambda mesh: {"more": {"COLOR_0": np.full((len(mesh.vertices), 4), 0.5)}},
}  # fmt: skip


@pytest.mark.parametrize("what", CHANGES)
def test_what_is_changed_of_a_mesh_by_hand_is_in_the_file(what):
    number = mesh_with_morphs()
    juniper = figure("Juniper")
    new = replace(juniper.meshes[number], **CHANGES[what](juniper.meshes[number]))
    meshes = [*juniper.meshes[:number], new, *juniper.meshes[number + 1 :]]
    fairswap.save("by hand.glb", replace(juniper, meshes=tuple(meshes)))
    again = fairswap.load("by hand.glb").figure.meshes[number]
    wanted, found = getattr(new, what), getattr(again, what)
    if what in ("name", "morph_names"):
        assert found == wanted
    elif what == "more":
        assert found["COLOR_0"] == pytest.approx(wanted["COLOR_0"], abs=0.01)
    elif what == "joints":
        assert not found.any()
    elif what == "weights":
        assert (found.max(axis=1) == 1.0).all()
        assert (again.joints[found > 0] == new.joints[:, 0]).all()
    else:
        assert found == pytest.approx(wanted, abs=1e-6)


@pytest.mark.parametrize(
    "look",
    [
        {"color": np.array([0.5, 0.25, 0.125])},
        {"alpha": 0.5, "blending": "blend"},
        {"blending": "mask", "cutoff": 0.25},
        {"two_sided": True},
        {"texture": None},
    ],
    ids=lambda look: " ".join(look),
)
def test_what_is_changed_of_a_look_by_hand_is_in_the_file(look):
    pip = figure("Pip")
    body, *others = pip.meshes
    made = replace(body, materials=tuple(replace(row, **look) for row in body.materials))
    fairswap.save("by hand.glb", replace(pip, meshes=(made, *others)))
    again = fairswap.load("by hand.glb").figure
    for name, wanted in look.items():
        assert all(np.array_equal(getattr(row, name), wanted) for row in again.meshes[0].materials)
        assert not any(np.array_equal(getattr(row, name), wanted) for row in body.materials)
    assert validated("by hand.glb")[0]["errors"] == 0


@pytest.mark.parametrize("suffix", [".glb", ".bvh"])
def test_a_clip_that_is_quickened_by_hand_is_written_and_resampled_so(suffix):
    fairswap.save(f"walk{suffix}", figure("Pip"), [act("walk", "Pip")])
    document = fairswap.load(f"walk{suffix}")
    (walk,) = document.clips
    quick = replace(walk, rate=2 * walk.rate)
    fairswap.save(f"quick{suffix}", document.figure, [quick])
    (again,) = fairswap.load(f"quick{suffix}").clips
    assert (again.rate, again.frames) == (2 * walk.rate, walk.frames)
    assert np.abs(again.poses.world().positions - walk.poses.world().positions).max() < 1e-4
    # Its frames are where they are now: the middle of it is the middle of the walk.
    slow = at_rate(quick, walk.rate)
    middle, frame = slow.frames // 2, 2 * (slow.frames // 2)
    assert np.abs(slow.poses.world().positions[middle] - walk.poses.world().positions[frame]).max() < 1e-4
    assert slow.frames == pytest.approx(walk.frames / 2, abs=1)


def test_when_a_clip_begins_and_what_it_was_made_from_are_written_as_they_are_now():
    fairswap.save("walk.glb", figure("Pip"), [act("walk", "Pip")])
    document = fairswap.load("walk.glb")
    changed = replace(document.clips[0], start_s=1.5, made={"by": "hand"})
    fairswap.save("late.glb", document.figure, [changed])
    (again,) = fairswap.load("late.glb").clips
    assert (again.start_s, again.made) == (1.5, {"by": "hand"})
