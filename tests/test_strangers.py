"""Files that are like no file of ours: what is in them is found, what is written is whole and valid."""

import json
import struct
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

import fairswap
from fairswap.figures.bones_alone import without_mesh
from fairswap.model.poses import Poses
from making import FREE, RIGS, STICK, TROUPE, act, animate, arm, bvh, figure, rig, run


def json_of(path):
    """The JSON of a ``.glb``, read by hand."""
    data = Path(path).read_bytes()
    return json.loads(data[20 : 20 + struct.unpack_from("<I", data, 12)[0]])


def only(clip, roles, moves):
    """The clip with nothing keyed but the roles for which ``moves`` says so."""
    skeleton = clip.skeleton
    keyed = frozenset(bone for role, bone in roles.bones.items() if moves(role))
    tracks = clip.poses.rotation_tracks.copy()
    for bone in range(len(skeleton)):
        if bone not in keyed:
            tracks[bone] = skeleton.rest_rotations[bone][:, None]
    return replace(clip, poses=Poses(skeleton, tracks), keyed=keyed, origin=None, kept=None)


PARTS = {
    "arms": lambda role: role.startswith(("upper_arm", "lower_arm", "hand_")),
    "all but the hips": lambda role: role not in ("hips", "root"),
    "the head": lambda role: role == "head",
    "legs": lambda role: role.startswith(("upper_leg", "lower_leg")),
    "a left hand": lambda role: role.startswith(("thumb", "index")) and role.endswith("_left"),
}


@pytest.mark.parametrize("part", PARTS)
@pytest.mark.parametrize("root_is_keyed", [True, False], ids=["as we write it", "as others may"])
@pytest.mark.long(but=1)
def test_a_motion_file_in_which_only_a_part_moves_is_one_whole_figure(part, root_is_keyed):
    """Without a skin nothing but keys tells what is a figure: a body of which little moves is still one body."""
    juniper, clip = figure("Juniper"), act("turn-and-bow", "Juniper")
    roles = fairswap.bones.roles_of(juniper)
    moving = only(clip, roles, PARTS[part])
    fairswap.save("part.glb", without_mesh(juniper), [moving])
    if not root_is_keyed:
        without_root_keys("part.glb")
    found = fairswap.load("part.glb")
    assert len(found.figures) == 1
    assert set(fairswap.bones.roles_of(found.figure).bones) >= set(roles.bones) - {"root"}
    made = fairswap.convert(found, TROUPE / "osric.glb", motion=FREE)
    direct = fairswap.convert(
        fairswap.Document("", "", juniper.space, (juniper,), (moving,)), TROUPE / "osric.glb", motion=FREE
    )
    a, b = (c.clips[0].poses.rotation_tracks for c in (made, direct))
    assert np.abs(np.einsum("bif,bif->bf", a, b)).min() > 1 - 1e-6


def without_root_keys(path):
    """The file without the channels of its first bone."""
    data = Path(path).read_bytes()
    size = struct.unpack_from("<I", data, 12)[0]
    document = json.loads(data[20 : 20 + size])
    root = document["nodes"][0]["children"][0]
    for animation in document["animations"]:
        animation["channels"] = [row for row in animation["channels"] if row["target"]["node"] != root]
    text = json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    rest = data[20 + size :]
    Path(path).write_bytes(
        struct.pack("<4sIIII", b"glTF", 2, 20 + len(text) + len(rest), len(text), 0x4E4F534A) + text + rest
    )


def both_walk():
    """Two figures without skins in one scene, each with its walk, as ``both.gltf``; and the two motions."""
    a, b = (fairswap.demo_motion("walk", by=name) for name in ("Osric", "Pip"))
    documents = []
    for name, motion in (("a", a), ("b", b)):
        fairswap.save(f"{name}.gltf", without_mesh(motion.figure), motion.clips)
        documents.append(json.loads(Path(f"{name}.gltf").read_text()))
    first, second = documents
    shift = {
        "nodes": len(first["nodes"]),
        "accessors": len(first["accessors"]),
        "bufferViews": len(first["bufferViews"]),
    }
    for node in second["nodes"]:
        node["children"] = [child + shift["nodes"] for child in node.get("children", [])]
        if not node["children"]:
            del node["children"]
    for accessor in second["accessors"]:
        accessor["bufferView"] += shift["bufferViews"]
    for view in second["bufferViews"]:
        view["buffer"] = 1
    for animation in second["animations"]:
        for sampler in animation["samplers"]:
            sampler["input"] += shift["accessors"]
            sampler["output"] += shift["accessors"]
        for channel in animation["channels"]:
            channel["target"]["node"] += shift["nodes"]
    first["nodes"] += [*second["nodes"], {"name": "Scene", "children": [0, shift["nodes"]]}]
    first["scenes"] = [{"nodes": [len(first["nodes"]) - 1]}]
    for key in ("accessors", "bufferViews", "animations", "buffers"):
        first[key] += second[key]
    Path("both.gltf").write_text(json.dumps(first))
    return a, b


def test_two_figures_without_skins_stay_two():
    a, b = both_walk()
    assert sorted(len(f.skeleton) for f in fairswap.load("both.gltf").figures) == sorted(
        len(m.figure.skeleton) for m in (a, b)
    )


@pytest.mark.parametrize("platform", ["quillmoor", "saltglass", "fernway"])
@pytest.mark.parametrize("out", ["out", "out.glb"])
@pytest.mark.long(but=1)
def test_a_spoken_line_is_brought_to_a_platform_in_a_file_and_in_a_folder(platform, out):
    """The clip drives morphs: what is written holds them, where the platform takes any."""
    line = fairswap.demo_motion("spoken line")
    fairswap.save("line.glb", line.figure, line.clips)
    done = run("fit", "line.glb", "--platform", platform, "-o", out, "--json")
    assert done.returncode in (0, 1), done.stderr
    files = [Path(name) for name in done.report["written"]]
    clips = [clip for file in files for clip in fairswap.load(file).clips]
    assert len(clips) == 1
    assert float(clips[0].duration_s) == pytest.approx(float(line.clips[0].duration_s), abs=1 / 20)
    takes_morphs = fairswap.platform.named(platform).figure.morphs != "none"
    moved = [np.ptp(track.weights, axis=1).max() for track in clips[0].poses.morph_tracks]
    assert (max(moved, default=0.0) > 0.1) == takes_morphs


def test_what_morphs_did_is_told_where_a_platform_takes_no_mesh_with_a_motion():
    Path("bare.toml").write_text(
        fairswap.platform.template("bare").replace("# with_mesh", "with_mesh").replace("# [clip]", "[clip]")
    )
    fitted = fairswap.fit(fairswap.demo_motion("spoken line"), "bare.toml")
    assert [f.code for f in fitted.findings].count("morphs-left-out") == 1
    for name in fitted.save("out"):
        assert fairswap.load(name).figures


@pytest.mark.parametrize("name", ["chibi", "crew", "numbers", "rawz", "words", "idle"])
@pytest.mark.long(but=1)
def test_no_rotation_that_is_written_goes_beyond_one(name):
    own = rig(f"{name}.glb")
    for words in (("pose", "set", own, "--to", "t", "-o", "t.glb"),
                  ("fit", own, "--platform", "fernway", "-o", "f.glb"),
                  ("convert", own.with_suffix(".bvh"), "--onto", own, "-o", "c.glb")):  # fmt: skip
        done = run(*words)
        assert done.returncode in (0, 1), done.stderr
        for node in json_of(words[-1])["nodes"]:
            turn = node.get("rotation", [0, 0, 0, 1])
            assert max(map(abs, turn)) <= 1.0
            assert np.linalg.norm(turn) == pytest.approx(1.0, abs=1e-6)


def test_a_rotation_beyond_one_by_rounding_is_bounded_when_it_is_written():
    juniper = figure("Juniper")
    rotations = juniper.skeleton.rest_rotations.copy()
    rotations[5] = [0.0, 1.0000000000000004, 0.0, 0.0]
    rotations[6] = [0.0, 0.0, 0.0, -1.0000000000000002]
    odd = replace(juniper, skeleton=replace(juniper.skeleton, rest_rotations=rotations))
    for made in (odd, replace(odd, source=None)):
        fairswap.save("odd.glb", made, force=True)
        turns = [node["rotation"] for node in json_of("odd.glb")["nodes"] if "rotation" in node]
        assert max(abs(part) for turn in turns for part in turn) == 1.0


# What is written is what was judged: a figure that lies in its file stands in the one that is written


def world_of(path, animation=None, time=0):
    """World matrices of all nodes, walked by hand: rest, or the ``time``-th key of each rotation and translation."""
    document = fairswap_free_document(path)
    nodes = document["nodes"]
    given = {}
    if animation is not None:
        for channel in document["animations"][animation]["channels"]:
            values = document["read"](document["animations"][animation]["samplers"][channel["sampler"]]["output"])
            given[channel["target"]["node"], channel["target"]["path"]] = values[min(time, len(values) - 1)]
    world = {}

    def walk(index, above):
        node = nodes[index]
        turn = Rotation.from_quat(given.get((index, "rotation"), node.get("rotation", [0, 0, 0, 1]))).as_matrix()
        local = np.eye(4)
        local[:3, :3] = turn * np.array(given.get((index, "scale"), node.get("scale", [1, 1, 1])))
        local[:3, 3] = given.get((index, "translation"), node.get("translation", [0, 0, 0]))
        if "matrix" in node:
            local = np.array(node["matrix"]).reshape(4, 4).T
        world[index] = above @ local
        for child in node.get("children", []):
            walk(child, world[index])

    for root in document["scenes"][document.get("scene", 0)]["nodes"]:
        walk(root, np.eye(4))
    return {nodes[index].get("name", ""): matrix for index, matrix in world.items()}


def fairswap_free_document(path):
    """The JSON of a ``.glb`` with a reader of its float accessors that shares no code with ours."""
    data = Path(path).read_bytes()
    size = struct.unpack_from("<I", data, 12)[0]
    document = json.loads(data[20 : 20 + size])
    binary = data[28 + size :]

    def read(index):
        accessor = document["accessors"][index]
        view = document["bufferViews"][accessor["bufferView"]]
        width = {"SCALAR": 1, "VEC3": 3, "VEC4": 4}[accessor["type"]]
        start = view.get("byteOffset", 0) + accessor.get("byteOffset", 0)
        assert accessor["componentType"] == 5126
        assert view.get("byteStride", 4 * width) == 4 * width
        return np.frombuffer(binary, "<f4", accessor["count"] * width, start).reshape(-1, width)

    return document | {"read": read}


@pytest.mark.parametrize("name", ["rawz", "idle"])
@pytest.mark.parametrize(
    "words",
    [
        ("convert", RIGS / "words.bvh", "--onto", "RIG"),
        ("pose", "set", "RIG", "--to", "t"),
        ("reel", "RIG"),
        ("clip", "rate", "RIG", "--to", "24"),
        ("fit", "RIG", "--platform", "quillmoor"),
    ],
    ids=lambda words: words[0],
)
@pytest.mark.long(but=1)
def test_a_figure_that_lies_or_faces_backwards_stands_in_the_file_that_is_written(name, words):
    own = rig(f"{name}.glb")
    truth = json.loads(rig(f"{name}.truth.json").read_text())["bones"]
    of_role = {role: bone for bone, role in truth.items() if role}
    assert run("check", own, "--platform", "vrm-1", "--json").stdout.count("space.standard") == 1

    done = run(*(own if word == "RIG" else word for word in words), "-o", "out.glb")
    assert done.returncode in (0, 1), done.stderr
    profile = fairswap.bones.named("quillmoor") if words[0] == "fit" else None
    names = {
        role: (profile.roles[role][0] if profile else of_role[role])
        for role in ("hips", "head", "hand_left", "foot_left")
    }
    world = world_of("out.glb")
    place = {role: world[bone][:3, 3] for role, bone in names.items()}
    height = place["head"][1] - place["foot_left"][1]
    assert 1.0 < height < 2.0  # metres, upright
    assert abs(place["head"] - place["hips"])[[0, 2]].max() < 0.2
    assert place["hand_left"][0] > 0.05  # facing +Z its left is at +X
    # Nothing is left to be corrected, and what the file says is what our reader sees.
    again = fairswap.load("out.glb")
    assert "space-corrected" not in {finding.code for finding in again.findings}
    index = again.figure.skeleton.names.index(names["head"])
    assert again.figure.skeleton.rest.positions[0, index] == pytest.approx(place["head"], abs=1e-5)
    assert run("check", "out.glb", "--platform", "vrm-1", "--json").stdout.count("space.standard") == 0


def test_a_corrected_file_moves_as_it_was_judged():
    made = fairswap.convert(rig("words.bvh"), rig("rawz.glb"), motion=FREE)
    made.save("out.glb")
    clip = made.clips[0]
    for frame in (0, 40, clip.frames - 1):
        world = world_of("out.glb", 0, frame)
        for name in ("hips", "head", "hand_left"):
            bone = fairswap.bones.roles_of(made.figure).bones[name]
            parents = clip.skeleton.parents
            place = ours(clip, bone, frame, parents)
            assert world[clip.skeleton.names[bone]][:3, 3] == pytest.approx(place, abs=1e-4)


def ours(clip, bone, frame, parents):
    """The place of a bone in a frame, from the clip's own tracks."""
    chain = []
    while bone >= 0:
        chain.append(bone)
        bone = int(parents[bone])
    turn, place = Rotation.identity(), np.zeros(3)
    for bone in reversed(chain):
        track = clip.poses.translation_track(bone)
        place = place + turn.apply(track[:, min(frame, track.shape[1] - 1)].copy())
        turn = turn * Rotation.from_quat(clip.poses.rotation_tracks[bone, :, frame].copy())
    return place


@pytest.mark.parametrize(
    ("text", "rate"),
    [
        ("0.0167", 60), ("0.016667", 60), ("0.017", 60), ("0.0417", 24), ("0.041667", 24), ("0.0333", 30),
        ("0.033", 30), ("0.0334", Fraction(30000, 1001)), ("0.041708", Fraction(24000, 1001)), ("0.008", 125),
        ("0.0083333", 120), ("0.04", 25), ("0.0123", Fraction(10000, 123)),
    ],
)  # fmt: skip
def test_a_written_frame_time_means_the_rate_that_was_rounded(text, rate):
    Path("a.bvh").write_text(bvh(STICK, [[0] * 9] * 3, frame_time=text))
    assert fairswap.load("a.bvh").clips[0].rate == rate


def test_a_rate_may_be_written_with_a_comma():
    clip = act("walk", "Juniper")
    assert fairswap.clips.rate(clip, "29,97").rate == fairswap.clips.rate(clip, "29.97").rate == Fraction(30000, 1001)


@pytest.mark.parametrize("up", ["+X", "-X", "+Y", "-Y", "+Z", "-Z"])
@pytest.mark.parametrize("suffix", [".glb", ".bvh"])
def test_any_axis_can_be_said_to_be_up(up, suffix):
    fairswap.save(f"walk{suffix}", figure("Juniper"), [act("walk", "Juniper")])
    found = fairswap.load(f"walk{suffix}", up=up)
    assert found.space.up == up or suffix == ".glb"
    assert run("inspect", f"walk{suffix}", "--up", up).returncode in (0, 1)


def with_a_prop(tmp_path):
    """The strip on three bones; beside it a door that opens and a camera that turns, by animations of their own."""
    made = arm()
    made.json["nodes"] += [{"name": "door"}, {"name": "eye", "camera": 0}]
    made.json["cameras"] = [{"type": "perspective", "perspective": {"yfov": 0.8, "znear": 0.1}}]
    made.json["scenes"][0]["nodes"] += [5, 6]
    half = np.sqrt(0.5)
    for name, node in (("opens", 5), ("looks", 6)):
        first = made.json.pop("animations")
        animate(made, node, "rotation", [0, 1.0], [[0, 0, 0, 1], [0, half, 0, half]])
        made.json["animations"] = [*first, made.json["animations"][0] | {"name": name}]
    return made.write(tmp_path / "door.glb")


@pytest.mark.parametrize("verb", ["save", "clip", "pose", "other clips"])
def test_animations_of_props_and_cameras_go_on(verb, tmp_path):
    document = fairswap.load(with_a_prop(tmp_path))
    figure_, clip = document.figure, document.clips[0]
    if verb == "save":
        fairswap.save("out.glb", figure_, [clip])
    elif verb == "clip":
        fairswap.save("out.glb", figure_, [fairswap.clips.rate(clip, 12)])
    elif verb == "pose":
        turned = figure_.skeleton.rest_rotations.copy()
        turned[-1] = [0, 0, np.sin(0.2), np.cos(0.2)]
        fairswap.save("out.glb", replace(figure_, skeleton=replace(figure_.skeleton, rest_rotations=turned)), [])
    else:
        fairswap.save("out.glb", figure_, [replace(fairswap.clips.reverse(clip), name="back")])
    made = fairswap_free_document("out.glb")
    turns = {row["name"]: row for row in made["animations"]}
    for name, node in (("opens", "door"), ("looks", "eye")):
        (channel,) = turns[name]["channels"]
        assert made["nodes"][channel["target"]["node"]]["name"] == node
        values = made["read"](turns[name]["samplers"][channel["sampler"]]["output"])
        assert values[-1] == pytest.approx([0, np.sqrt(0.5), 0, np.sqrt(0.5)], abs=1e-6)
    assert len(made["animations"]) == 2 + (verb != "pose")


@pytest.mark.long
def test_of_several_figures_any_can_be_chosen_as_source_and_as_target():
    """Osric and Pip in one file: each moves with its own clip, none but the one that was named."""
    a, b = both_walk()
    names = [f.name for f in fairswap.load("both.gltf").figures]
    for motion, name in zip((a, b), names, strict=True):
        chosen = fairswap.load("both.gltf", figure=name)
        assert len(chosen.figure.skeleton) == len(motion.figure.skeleton)
        assert len(chosen.clips) == 1
        made = fairswap.convert(chosen, TROUPE / "juniper.glb", motion=FREE)
        direct = fairswap.convert(motion, TROUPE / "juniper.glb", motion=FREE)
        dots = np.einsum("bif,bif->bf", made.clips[0].poses.rotation_tracks, direct.clips[0].poses.rotation_tracks)
        assert np.abs(dots).min() > 1 - 1e-5
        done = run(
            "convert", "both.gltf", "--source-figure", name, "--onto", TROUPE / "pip.glb", "-o", "o.glb", "--force"
        )
        assert done.returncode in (0, 1), done.stderr
        assert "other figures" not in done.stdout
        told = run("inspect", "both.gltf", "--figure", name, "--json").report
        assert told["figures"][0]["name"] == name
        onto = run(
            "convert",
            "both.gltf",
            "--source-figure",
            name,
            "--onto",
            "both.gltf",
            "--figure",
            name,
            "-o",
            "t.glb",
            "--force",
        )
        assert onto.returncode in (0, 1), onto.stderr
        told = run("clip", "describe", "both.gltf", "--figure", name, "--json").report
        assert [len(row["bones"]) > 0 for row in told["clips"]] == [True]
        changed = run("clip", "rate", "both.gltf", "--figure", name, "--to", "24", "-o", "r.glb", "--force")
        assert changed.returncode == 0, changed.stderr
        rates = {figure_.name: clip.rate for figure_ in fairswap.load("r.glb").figures
                 for clip in fairswap.load("r.glb", figure=figure_.name).clips}  # fmt: skip
        assert sorted(map(float, rates.values())) == [24.0, 30.0]
        assert rates[name] == 24
    wrong = run("inspect", "both.gltf", "--figure", "Nobody")
    assert wrong.returncode == 2
    assert all(name in wrong.stderr for name in names)
    both = run("convert", TROUPE / "juniper.glb", "--onto", "both.gltf", "-o", "o2.glb")
    assert both.returncode in (1, 4)


def test_bones_that_do_not_move_are_no_end_markers_in_a_motion_file():
    """A spoken line alone: the fingers rest, and yet their last bones are bones."""
    line = fairswap.demo_motion("spoken line", by="Osric")
    bare = replace(line.clips[0], poses=replace(line.clips[0].poses, morph_tracks=()), origin=None, kept=None)
    fairswap.save("line.glb", without_mesh(line.figure), [bare])
    found = fairswap.load("line.glb").figure.skeleton
    tips = [name for name in line.figure.skeleton.names if "Point C" in name]
    assert tips
    assert not {found.names[bone] for bone in found.ends} & set(tips)


def test_motion_alone_is_written_without_a_platform():
    """Bones and clip, no mesh; what morphs did is told to be left out; it moves as the figure does."""
    fairswap.save("line.glb", *spoken())
    done = run("convert", "line.glb", "--onto", TROUPE / "juniper.glb", "--motion-only", "-o", "alone.glb", "--json")
    assert done.returncode == 0, done.stderr
    document = json_of("alone.glb")
    assert "meshes" not in document
    assert "skins" not in document
    assert "morphs-left-out" in {row["code"] for row in done.report["findings"]}
    run("convert", "line.glb", "--onto", TROUPE / "juniper.glb", "-o", "whole.glb")
    a, b = (fairswap.load(name).clips[0].world().positions for name in ("alone.glb", "whole.glb"))
    assert np.abs(a - b).max() < 1e-6
    done = run("convert", "line.glb", "--onto", TROUPE / "pip.glb", "--motion-only", "--platform", "fernway", "-o", "x")
    assert done.returncode == 2


def spoken():
    document = fairswap.demo_motion("spoken line", by="Juniper")
    return document.figure, document.clips


@pytest.mark.parametrize(
    ("stage", "rigs"),
    [("quillmoor", ("crew", "suffix")), ("saltglass", ("cloth", "suffix")), ("fernway", ("cloth", "crew"))],
)
@pytest.mark.long(but=1)
def test_a_file_and_a_folder_get_the_same_motion_and_both_pass(stage, rigs):
    """Bones of the figure that nothing moves are bones in the motion alone, too; axes, unit and travel are one."""
    for name in rigs:
        source = rig(f"{name}.glb")
        done = run("fit", source, "--platform", stage, "-o", f"{name}.glb", "--json")
        parted = run("fit", source, "--platform", stage, "-o", name, "--json")
        assert done.report["fits"], done.stdout
        assert parted.report["fits"], parted.stdout
        whole = fairswap.load(f"{name}.glb")
        alone = next(each for path in Path(name).iterdir() if (each := fairswap.load(path)).clips)
        assert whole.figure.space == alone.figure.space
        assert whole.figure.skeleton.names == alone.figure.skeleton.names
        assert whole.figure.skeleton.ends == alone.figure.skeleton.ends
        a, b = whole.clips[0].world().positions, alone.clips[0].world().positions
        assert np.abs(a - b).max() < 1e-5
