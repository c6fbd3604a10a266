"""What a file says against the rules of its format is put right; what is changed by hand is in the written file."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

import fairswap
from fairswap.clips.resampling import at_rate
from judging import validated
from making import TROUPE, act, figure, run
from rewrites import Scene, rewritten, with_json


def skins_of(scene):
    rows = [primitive["attributes"] for primitive in scene.primitives()]
    return {(row["JOINTS_0"], row["WEIGHTS_0"]) for row in rows if "WEIGHTS_0" in row}


def long_normals(scene):
    for index in {primitive["attributes"]["NORMAL"] for primitive in scene.primitives()}:
        scene.arrays[index] = scene.arrays[index] * np.float32(1.007)


def silent_normals(scene):
    for index in {primitive["attributes"]["NORMAL"] for primitive in scene.primitives()}:
        scene.arrays[index] = scene.arrays[index].copy()
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
            node["rotation"] = [0.992 * part for part in node["rotation"]]


def long_keys(scene):
    for animation in scene.json["animations"]:
        for row in animation["channels"]:
            if row["target"]["path"] == "rotation":
                output = animation["samplers"][row["sampler"]]["output"]
                scene.arrays[output] = scene.arrays[output] * np.float32(1.008)


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


def hardly_too_much_weight(scene):
    """Less than anybody sees, and more than single precision rounds."""
    for _, weights in skins_of(scene):
        scene.arrays[weights] = scene.arrays[weights] * np.float32(1.000005)


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


def some_on_no_bone(scene):
    for _, weights in skins_of(scene):
        scene.arrays[weights] = scene.arrays[weights].copy()
        scene.arrays[weights][5:9] = 0.0


def joints_twice(scene):
    for joints, weights in skins_of(scene):
        names, values = scene.arrays[joints].copy(), scene.arrays[weights].copy()
        free = values[:, 3] == 0.0
        names[free, 3], values[free, 3] = names[free, 0], values[free, 0] / 2
        values[free, 0] /= 2
        scene.arrays[joints], scene.arrays[weights] = names, values


BROKEN = (
    long_normals, silent_normals, odd_tangents, long_rotations, long_keys, foreign_rows, wrong_roots, little_weight,
    hardly_too_much_weight, rounded_weights, weights_below_zero, joints_twice,
    some_on_no_bone,
)  # fmt: skip


def broken(change):
    fairswap.save("whole.glb", figure("Pip"), [act("walk", "Pip")], force=True)
    scene = Scene(Path("whole.glb").read_bytes())
    change(scene)
    Path("broken.glb").write_bytes(scene.bytes())
    return fairswap.load("broken.glb")


@pytest.mark.parametrize("change", BROKEN, ids=lambda change: change.__name__)
@pytest.mark.long(but=4)
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


# What the JSON says.


def said_of_each(table, **said):
    def change(raw):
        for row in raw[table]:
            row |= said

    return change


def bounds_of(values, *names):
    def change(raw):
        used = {primitive["attributes"]["POSITION"] for mesh in raw["meshes"] for primitive in mesh["primitives"]}
        used |= {sampler["input"] for animation in raw["animations"] for sampler in animation["samplers"]}
        for row in (raw["accessors"][index] for index in used):
            for name in names:
                row.pop(name)
                if values is not None:
                    row[name] = [values] * (3 if row["type"] == "VEC3" else 1)

    return change


def as_matrix_and_parts(raw):
    for node in raw["nodes"][1:4]:
        node["matrix"] = [1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, *node.get("translation", (0, 0, 0)), 1]


def for_indices(raw):
    for view in raw["bufferViews"]:
        view["target"] = 34963


def in_scene_twice(raw):
    (scene,) = raw["scenes"]
    scene["nodes"] = [*scene["nodes"], *scene["nodes"], 3]


def with_foreign_looks(raw):
    for row in raw["materials"]:
        row["pbrMetallicRoughness"] |= {"roughnessFactor": -0.5, "baseColorFactor": [1.5, 1, 1, 1]}
        row["emissiveFactor"] = [0.0, 2.0, 1.0]


SAID = {
    "no bounds": bounds_of(None, "min", "max"),
    "wrong bounds": bounds_of(9.0, "max"),
    "pictures called something else": said_of_each("images", mimeType="image/jpeg"),
    "a matrix and parts": as_matrix_and_parts,
    "empty lists": lambda raw: raw.update(cameras=[], extensionsUsed=[]) or raw["nodes"][-1].update(children=[]),
    "weights without morphs": said_of_each("meshes", weights=[0.5]),
    "unknown ways to repeat": lambda raw: raw["textures"][0].update(sampler=0) or raw.update(samplers=[{"wrapS": 0}]),
    "a limit for no mask": said_of_each("materials", alphaCutoff=0.25),
    "an extension that nobody declared": said_of_each("materials", extensions={"KHR_materials_unlit": {}}),
    "an unknown way to blend": said_of_each("materials", alphaMode="Blend"),
    "vertices said to be indices": for_indices,
    "roots twice": in_scene_twice,
    "no such scene": lambda raw: raw.update(scene=7),
    "factors out of range": with_foreign_looks,
    # Of another kind than the format knows.
    "samplers": lambda raw: raw.update(samplers=[3]) or raw["textures"][0].update(sampler=0),
    "light": said_of_each("materials", emissiveFactor=1.5),
    "roughness": lambda raw: raw["materials"][0]["pbrMetallicRoughness"].update(roughnessFactor="rough"),
    "names of extensions": lambda raw: raw.update(extensionsUsed=[3, ["a"]], extensionsRequired=[{}]),
    "targets": lambda raw: raw["bufferViews"][0].update(target=[34962]),
    "the scene": lambda raw: raw.update(scene="first"),
    "an animation of nothing": lambda raw: raw["animations"].append({"channels": [], "samplers": []}),
}


@pytest.mark.parametrize("name", SAID)
@pytest.mark.long(but=4)
def test_what_is_said_against_the_rules_of_the_format_is_put_right(name):
    fairswap.save("whole.glb", figure("Pip"), [act("walk", "Pip")])
    Path("broken.glb").write_bytes(with_json(Path("whole.glb").read_bytes(), SAID[name]))
    document = fairswap.load("broken.glb")
    fairswap.save("mended.glb", document.figure, document.clips)
    fairswap.save("still.glb", document.figure)
    before, after, still = validated("broken.glb", "mended.glb", "still.glb")
    assert before["errors"] + before["warnings"] > 0
    assert (after["errors"], after["warnings"]) == (still["errors"], still["warnings"]) == (0, 0)
    again = fairswap.load("mended.glb")
    off = document.clips[0].poses.world().positions - again.clips[0].poses.world().positions
    assert np.abs(off).max() < 1e-6
    # Light beyond one is still as bright.
    glow = Scene(Path("mended.glb").read_bytes()).json["materials"][0]
    if name == "factors out of range":
        assert glow["emissiveFactor"] == [0.0, 1.0, 0.5]
        assert glow["extensions"]["KHR_materials_emissive_strength"]["emissiveStrength"] == 2.0
        assert glow["pbrMetallicRoughness"]["roughnessFactor"] == 0.0


def test_what_extensions_and_programs_say_for_themselves_is_theirs():
    theirs = {"list": [], "nothing": None, "deep": {"extensions": {}}}

    def change(raw):
        raw["extensionsUsed"] = ["ACME_own"]
        raw["nodes"][2] |= {"extras": theirs, "extensions": {"ACME_own": theirs}}

    fairswap.save("whole.glb", figure("Pip"), [act("walk", "Pip")])
    Path("theirs.glb").write_bytes(with_json(Path("whole.glb").read_bytes(), change))
    document = fairswap.load("theirs.glb")
    fairswap.save("again.glb", document.figure, document.clips)
    node = Scene(Path("again.glb").read_bytes()).json["nodes"][2]
    assert node["extras"] == node["extensions"]["ACME_own"] == theirs


def test_weights_below_zero_count_as_none_and_what_is_on_no_bone_goes_with_the_first():
    document = broken(weights_below_zero)
    fairswap.save("mended.glb", document.figure, document.clips)
    whole, made = (Scene(Path(name).read_bytes()) for name in ("whole.glb", "mended.glb"))
    (_, number), *_ = sorted(skins_of(whole))
    plain = whole.arrays[number].astype(float)
    (mine,) = [made.arrays[index] for _, index in skins_of(made) if len(made.arrays[index]) == len(plain)]
    free = plain[:, 3] == 0.0
    wanted = plain + np.where(free[:, None], [0.25, 0.0, 0.0, 0.0], 0.0)
    assert free.any()
    assert mine == pytest.approx(wanted / wanted.sum(axis=1, keepdims=True), abs=1e-6)
    scene = Scene(Path("whole.glb").read_bytes())
    some_on_no_bone(scene)
    Path("loose.glb").write_bytes(scene.bytes())
    document = fairswap.load("loose.glb")
    assert "unweighted-vertices" in {finding.code for finding in document.findings}
    fairswap.save("held.glb", document.figure)
    made = Scene(Path("held.glb").read_bytes())
    for _, index in skins_of(made):
        assert made.arrays[index][5:9] == pytest.approx(np.tile([1.0, 0.0, 0.0, 0.0], (4, 1)))


def test_what_is_whole_already_keeps_its_bytes():
    fairswap.save("whole.glb", figure("Pip"), [act("walk", "Pip")])
    document = fairswap.load("whole.glb")
    fairswap.save("again.glb", document.figure, document.clips)
    assert Path("again.glb").read_bytes() == Path("whole.glb").read_bytes()


@pytest.mark.parametrize(
    ("change", "said"),
    [(long_normals, "normals"), (little_weight, "skin weights"), (foreign_rows, "bind matrices"),
     (long_keys, "turns of clips"), (long_rotations, "nodes")],
)  # fmt: skip
@pytest.mark.long(but=2)
def test_a_check_names_what_breaks_the_rules_of_the_format(change, said):
    broken(change)
    rows = {row.rule: row for row in fairswap.check("broken.glb", "fernway").broken}
    assert said in rows["file.standard"].measured
    fairswap.save("mended.glb", fairswap.load("broken.glb").figure)
    for name in ("whole.glb", "mended.glb"):
        assert "file.standard" not in {row.rule for row in fairswap.check(name, "fernway").broken}


def test_splines_are_no_rotations_and_the_hand_of_tangents_stays():
    fairswap.save("whole.glb", figure("Pip"), [act("walk", "Pip")])
    Path("splines.glb").write_bytes(rewritten(Path("whole.glb").read_bytes(), "cubic splines"))
    document = fairswap.load("splines.glb")
    fairswap.save("again.glb", document.figure, document.clips)
    before, after = (Scene(Path(name).read_bytes()) for name in ("splines.glb", "again.glb"))
    for (_, _, one), (_, _, two) in zip(before.channels(), after.channels(), strict=True):
        assert np.array_equal(before.arrays[one["output"]], after.arrays[two["output"]])
    document = broken(odd_tangents)
    fairswap.save("mended.glb", document.figure)
    scene = Scene(Path("mended.glb").read_bytes())
    for index in {primitive["attributes"]["TANGENT"] for primitive in scene.primitives()}:
        assert (scene.arrays[index][1:, 3] == -1.0).all()


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
@pytest.mark.long(but=4)
def test_what_is_changed_of_a_mesh_by_hand_is_in_the_file(what):
    # Juniper's face has morphs, Pip's body a picture.
    whole, number = (figure("Pip"), 0) if what == "uvs" else (figure("Juniper"), mesh_with_morphs())
    new = replace(whole.meshes[number], **CHANGES[what](whole.meshes[number]))
    meshes = [*whole.meshes[:number], new, *whole.meshes[number + 1 :]]
    fairswap.save("by hand.glb", replace(whole, meshes=tuple(meshes)))
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
@pytest.mark.long(but=2)
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
