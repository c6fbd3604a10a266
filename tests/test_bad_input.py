"""Bad input: each with one clear message, the right exit status, nothing written, in no time."""

import json
import random
import struct
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import fairswap
from making import STICK, TROUPE, Gltf, animate, arm, bvh, run, swap_between
from patience import within
from rewrites import with_json

ROW = [0, 90, 0, 10, 20, 30, -5, 15, 25]


def _glb(change):
    made = arm()
    change(made)
    return made.glb()


def _set(path, value):
    """A change to the JSON: ``nodes.2.children`` and the like."""

    def change(made):
        *way, last = path.split(".")
        place = made.json
        for step in way:
            place = place[int(step) if step.isdigit() else step]
        place[int(last) if last.isdigit() else last] = value

    return change


def _nan_keys(made):
    made.json["animations"] = []
    made.json.pop("animations")
    animate(made, 2, "rotation", [0, 1], [[0, 0, np.nan, 1]] * 2)


def _nested_json():
    text = b'{"asset":{"version":"2.0"},"x":' + b"[" * 100_000 + b"]" * 100_000 + b"}"
    text += b" " * (-len(text) % 4)
    return struct.pack("<4sIIII", b"glTF", 2, 20 + len(text), len(text), 0x4E4F534A) + text


def _deep_bvh():
    inner = "".join(f"JOINT j{i}\n{{\nOFFSET 0 1 0\nCHANNELS 3 Xrotation Yrotation Zrotation\n" for i in range(20_000))
    return f"HIERARCHY\nROOT r\n{{\nOFFSET 0 0 0\n{inner}" + "}\n" * 20_001 + "MOTION\nFrames: 1\nFrame Time: 0.04\n0\n"


GLB = arm().glb()
CASES = {
    "empty.glb": (b"", "the file is empty"),
    "empty.bvh": (b"", "the file is empty"),
    "text.glb": (b"hello, this is no figure", "not a glTF file"),
    "one.glb": (GLB[:4] + struct.pack("<I", 1) + GLB[8:], "it is glTF 1"),
    "old.gltf": (b'{"asset": {"version": "1.0"}}', "it is glTF 1.0"),
    "list.gltf": (b"[1, 2]", "not glTF"),
    "cut.glb": (GLB[:200], "the file is cut"),
    "wrong-length.glb": (GLB[:12] + struct.pack("<I", 10**9) + GLB[16:], "longer than the file"),
    "broken-json.gltf": (b'{"asset": {"version": "2.0"}, ', "JSON is damaged"),
    "nested.glb": (_nested_json(), "nested too deeply"),
    "circle.glb": (_glb(_set("nodes.3.children", [1])), "circle|two parents"),
    "own-child.glb": (_glb(_set("nodes.3.children", [3])), "its own child"),
    "two-parents.glb": (_glb(_set("nodes.1.children", [2, 3])), "two parents"),
    "child.glb": (_glb(_set("nodes.3.children", [99])), "node 99"),
    "joint.glb": (_glb(_set("skins.0.joints", [1, 99])), "node 99"),
    "mesh.glb": (_glb(_set("nodes.4.mesh", 7)), "mesh 7"),
    "accessor.glb": (_glb(_set("meshes.0.primitives.0.indices", 77)), "accessor 77"),
    "view.glb": (_glb(_set("accessors.0.bufferView", 44)), "buffer view 44"),
    "count.glb": (_glb(_set("accessors.0.count", 10**12)), "more than the file holds"),
    "past.glb": (_glb(_set("accessors.0.count", 9)), "past the end"),
    "zeros.glb": (_glb(_set("accessors.0", {"componentType": 5126, "count": 10**9, "type": "VEC3"})), "more than the file"),
    "type.glb": (_glb(_set("accessors.0.type", "VEC9")), "VEC9"),
    "component.glb": (_glb(_set("accessors.0.componentType", 1)), "component type"),
    "word.glb": (_glb(_set("nodes.1.translation", "up")), "translation: it is a text in quotes, not a list in brackets"),
    "flat.glb": (_glb(_set("nodes.1.rotation", [0, 0, 0, 0])), "all zeros"),
    "infinite.glb": (_glb(_set("nodes.1.translation", [1e300, 0, 0])), "not a finite number"),
    "nan.glb": (_glb(_nan_keys), "none of its keys has a value"),
    "outside.gltf": (json.dumps({**arm().json, "buffers": [{"byteLength": 4, "uri": "../secret.bin"}]}).encode(), "outside its folder"),
    "net.gltf": (json.dumps({**arm().json, "buffers": [{"byteLength": 4, "uri": "http://127.0.0.1/x"}]}).encode(), "outside its folder"),
    "gone.gltf": (json.dumps({**arm().json, "buffers": [{"byteLength": 4, "uri": "gone.bin"}]}).encode(), "no such file"),
    "short.gltf": (json.dumps({**arm().json, "buffers": [{"byteLength": 99, "uri": "data:;base64,AAAA"}]}).encode(), "99 bytes"),
    "words.bvh": (b"hello\nMOTION\n", "not a word of this format"),
    "no-motion.bvh": (bvh(STICK, [ROW]).replace("MOTION", "").encode(), "no line MOTION"),
    "open.bvh": (bvh(STICK[:-1], [ROW]).encode(), "never closed"),
    "closed.bvh": (bvh(STICK + "\n}", [ROW]).encode(), "closes that was not opened"),
    "brace.bvh": (bvh(STICK.replace("JOINT b\n {", "JOINT b\n"), [ROW]).encode(), "line 8: a brace is missing after 'b'"),
    "deep.bvh": (_deep_bvh().encode(), "more than 1000 deep"),
    "minus.bvh": (bvh(STICK, [ROW], frames=-5).encode(), "Frames is '-5'"),
    "huge.bvh": (bvh(STICK, [ROW], frames=10**15).encode(), "Frames is '1000000000000000'"),
    "zero-time.bvh": (bvh(STICK, [ROW], "0.0").encode(), "above zero"),
    "nan-time.bvh": (bvh(STICK, [ROW], "nan").encode(), "above zero"),
    "word.bvh": (bvh(STICK, [ROW, [*ROW[:4], "left", *ROW[5:]], ROW]).encode(), "line 20: 'left' stands where a number"),
    "nan.bvh": (bvh(STICK, [ROW, [*ROW[:4], "nan", *ROW[5:]], ROW]).encode(), "'nan' stands where a number"),
    "uneven.bvh": (bvh(STICK, [ROW, ROW[:-1], ROW]).encode(), "line 20: frame 2 has 8 numbers, 9 were declared"),
    "no-frame.bvh": (bvh(STICK, [ROW[:3]]).encode(), "no whole frame"),
    "channels.bvh": (bvh(STICK.replace("3 Zrot", "4 Zrot"), [ROW]).encode(), "4 channels are declared, 3 are named"),
    "offset.bvh": (bvh(STICK.replace("0 50 0", "0 fifty 0"), [ROW]).encode(), "OFFSET wants three numbers"),
}  # fmt: skip


@pytest.mark.parametrize("name", CASES)
def test_one_clear_message_with_file_and_what_to_do(name, monkeypatch):
    content, message = CASES[name]
    Path(name).write_bytes(content)
    opened = []
    monkeypatch.setattr("socket.socket.connect", lambda *a: opened.append(a))
    with within(2.0), pytest.raises(fairswap.InputError, match=message) as caught:
        fairswap.load(name)
    assert str(caught.value).startswith(name)
    assert str(caught.value).count("\n") == 0
    assert not opened


@pytest.mark.parametrize("name", ["deep.bvh", "nested.glb", "huge.bvh", "zeros.glb"])
def test_memory_stays_within_ten_times_the_file(name):
    import tracemalloc

    content, _ = CASES[name]
    Path(name).write_bytes(content)
    with pytest.raises(fairswap.InputError):
        fairswap.load(name)  # modules are loaded now
    tracemalloc.start()
    with pytest.raises(fairswap.InputError):
        fairswap.load(name)
    _, peak = tracemalloc.get_traced_memory()
    tracemalloc.stop()
    assert peak < 10 * len(content) + 1_000_000


def test_the_command_line_says_it_in_one_line_with_status_3_and_writes_nothing():
    Path("bad.bvh").write_bytes(CASES["word.bvh"][0])
    done = run("convert", "bad.bvh", "--onto", TROUPE / "juniper.glb", "-o", "out.glb", "--picture", "out.png")
    assert done.returncode == 3
    assert done.stdout == ""
    assert done.stderr.count("\n") == 1
    assert done.stderr.startswith("fairswap: bad.bvh, line 20:")
    assert sorted(path.name for path in Path().iterdir()) == ["bad.bvh"]


@pytest.mark.parametrize(
    ("scene", "problem"),
    [
        ({"nodes": [{"name": "chair", "mesh": 0}]}, "no figure in it"),
        (None, "the bones of the target .* are not known: no humanoid: no two legs .*--target-bones"),
    ],
)
def test_readable_but_impossible_is_status_4(scene, problem):
    import re

    made = arm() if scene is None else Gltf(**scene, meshes=arm().json["meshes"], scenes=[{"nodes": [0]}])
    if scene is not None:
        made.json["accessors"], made.json["bufferViews"], made.binary = (
            lambda a: (a.json["accessors"], a.json["bufferViews"], a.binary)
        )(arm())
    made.write(Path("target.glb"))
    from making import act, figure

    fairswap.save("walk.bvh", figure("Osric"), [act("walk", "Osric")])
    done = run("convert", "walk.bvh", "--onto", "target.glb", "-o", "out.glb")
    assert done.returncode == 4, done.stderr
    assert re.search(problem, done.stderr)
    assert not Path("out.glb").exists()


def test_a_figure_that_misses_roles_is_told_which():
    from dataclasses import replace

    from making import figure

    skeleton = figure("Juniper").skeleton
    renamed = replace(skeleton, names=tuple(name.replace("elbow_l", "mystery") for name in skeleton.names))
    profile = fairswap.bones.profile.profile_named("quillmoor")
    with pytest.raises(fairswap.ImpossibleError, match=r"'quillmoor' does not name lower_arm_left of the source"):
        swap_between(replace(figure("Juniper"), skeleton=renamed), figure("Osric"), source_bones=profile)


def _mangled(content: bytes, random_numbers: random.Random) -> bytes:
    """A good file with some bytes changed, taken out, or cut off; or some of its JSON replaced."""
    data = bytearray(content)
    way = random_numbers.randrange(4)
    if way == 0:
        return bytes(data[: random_numbers.randrange(len(data))])
    if way == 1:
        for _ in range(random_numbers.randrange(1, 12)):
            data[random_numbers.randrange(min(len(data), 6000))] = random_numbers.randrange(256)
        return bytes(data)
    if way == 2 or not content.startswith(b"glTF"):
        at = random_numbers.randrange(len(data))
        del data[at : at + random_numbers.randrange(1, 400)]
        return bytes(data)

    def change(document):
        for _ in range(random_numbers.randrange(1, 4)):
            place = document
            while isinstance(place, dict | list) and place:
                key = (
                    random_numbers.choice(list(place))
                    if isinstance(place, dict)
                    else random_numbers.randrange(len(place))
                )
                if isinstance(place[key], dict | list) and place[key] and random_numbers.random() < 0.85:
                    place = place[key]
                    continue
                place[key] = random_numbers.choice(
                    [-1, 0, 3, 10**9, 10**20, 1e308, -5.5, None, "x", [], {}, True, 5126]
                )
                break

    return with_json(content, change)


@settings(max_examples=300, deadline=2000, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(seed=st.integers(0, 2**32), kind=st.sampled_from(["glb", "bvh"]))
def test_mangled_files_are_read_or_refused_but_never_break_us(seed, kind, tmp_path):
    content = {"glb": GLB, "bvh": bvh(STICK, [ROW] * 5).encode()}[kind]
    path = tmp_path / f"mangled.{kind}"
    path.write_bytes(_mangled(content, random.Random(seed)))
    try:
        document = fairswap.load(path)
    except fairswap.FairSwapError as error:
        assert str(path) in str(error)
        return
    for figure in document.figures:
        assert np.isfinite(figure.rest_points).all()
    for clip in document.clips:
        assert np.isfinite(clip.world().positions).all()
