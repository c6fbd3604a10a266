"""Files that mean harm, or whose makers did not care: nothing escapes, hangs, or speaks to the terminal."""

import json
import os
import re
import socket
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

import fairswap
from fairswap.formats.images import opened_image
from fairswap.formats.naming import file_stem, visible, visible_in_json
from fairswap.formats.patterns import NamePattern, fits_glob, glob_end
from fairswap.model.rate import rate_from_text_per_second
from making import STICK, TROUPE, act, animate, arm, bvh, figure, run
from patience import within
from rewrites import Scene

PIP, JUNIPER = TROUPE / "pip.glb", TROUPE / "juniper.glb"
EVIL = "a\x1b[31m\x07\u202e\x9b31m\r\x7f\x00[/red]$x^$\n"
OBEYED = re.compile("[\x00-\x09\x0b-\x1f\x7f-\x9f\u200e\u200f\u202a-\u202e\u2066-\u2069]")


@pytest.fixture(autouse=True)
def _a_walk():
    fairswap.save("walk.bvh", figure("Osric"), [act("walk", "Osric")])


def refused(*words, says, status=3, seconds=6.0):
    """A command that is refused in one line, in no time."""
    with within(seconds):
        done = run(*words)
    assert done.returncode == status, done.stderr
    assert re.search(says, done.stderr), done.stderr
    assert done.stderr.count("\n") == 1
    assert len(done.stderr) < 420
    assert "error of ours" not in done.stderr
    return done.stderr


# What is no file


@pytest.mark.parametrize(
    "words",
    [
        ("inspect", "pipe.glb"),
        ("inspect", "pipe.bvh"),
        ("convert", "walk.bvh", "--onto", "pipe.glb", "-o", "o.glb"),
        ("convert", "walk.bvh", "--onto", PIP, "--layer", "pipe.toml", "-o", "o.glb"),
        ("convert", "walk.bvh", "--onto", PIP, "--source-bones", "pipe.toml", "-o", "o.glb"),
        ("clip", "cut", "walk.bvh", "--table", "pipe.csv", "-o", "o.glb"),
        ("inspect", "beside.gltf"),
        ("inspect", "zeros.bvh"),
        ("inspect", "socket.glb"),
    ],
    ids=lambda words: " ".join(map(str, words[:2])),
)
def test_pipes_devices_and_sockets_are_never_waited_for(words):
    for suffix in ("glb", "bvh", "toml", "csv", "bin"):
        os.mkfifo(f"pipe.{suffix}")
    os.symlink("/dev/zero", "zeros.bvh")
    made = arm()
    made.json["buffers"] = [{"byteLength": len(made.binary), "uri": "pipe.bin"}]
    Path("beside.gltf").write_text(json.dumps(made.json))
    with socket.socket(socket.AF_UNIX) as waiting:
        waiting.bind("socket.glb")
        refused(*words, says="a pipe or a device, not an ordinary file")
    assert not Path("o.glb").exists()


def test_a_pipe_is_no_place_for_a_result_and_links_in_a_circle_are_told():
    os.mkfifo("pipe.bvh")
    refused(
        "clip",
        "reverse",
        "walk.bvh",
        "-o",
        "pipe.bvh",
        "--force",
        says="a pipe or a device, not an ordinary file",
        status=4,
    )
    os.symlink("round.glb", "round.glb")
    refused("inspect", "round.glb", says="symbolic links")
    refused("clip", "reverse", "walk.bvh", "-o", "x" * 300 + ".glb", says="too long", status=4)


# What stands outside


@pytest.mark.parametrize("name", ["../pose.toml", "/etc/passwd", "sub/../../pose.toml", "link.toml"])
def test_side_files_outside_of_the_folder_are_never_opened(name):
    assert run("pose", "save", PIP, "-o", "pose.toml").returncode == 0
    Path("inner").mkdir()
    os.symlink("../pose.toml", "inner/link.toml")
    Path("inner/layer.toml").write_text(f'fairswap = "layers/1"\n[[layer]]\npose = "{name}"\n')
    refused("convert", "walk.bvh", "--onto", PIP, "--layer", "inner/layer.toml", "-o", "o.glb", says="outside of its f")
    text = fairswap.platform.template("x")
    Path("inner/x.toml").write_text(text.replace('bones = "quillmoor"', f'bones = "{name}"'))
    refused("check", PIP, "--platform", "inner/x.toml", says="outside of its folder")
    # Beside it is where it belongs.
    Path("inner/pose.toml").write_bytes(Path("pose.toml").read_bytes())
    Path("inner/layer.toml").write_text('fairswap = "layers/1"\n[[layer]]\npose = "pose.toml"\n')
    assert run("convert", "walk.bvh", "--onto", PIP, "--layer", "inner/layer.toml", "-o", "o.glb").returncode in (0, 1)


@pytest.mark.parametrize(
    ("rule", "value", "says"),
    [
        ("formats", '["/../../evil.glb"]', "formats"),
        ("formats", '[".exe"]', "formats"),
        ("max_influences", "-3", "1 or more"),
        ("max_seconds", "0", "more than 0"),
        ("max_bones", "99999999999999999999", "beyond"),
        ("max_kib", "nan", "not a finite number"),
        ("names", '"(a+)+"', "not a pattern"),
        ("names", '"[z-a]"', "not a pattern"),
        ("max_bonse", "3", "Do you mean max_bones"),
        ("rates", '["1e99999999"]', "not a frame rate"),
    ],
)
def test_a_platform_that_cannot_be_meant_is_refused_on_reading(rule, value, says):
    text = re.sub(rf"^# {rule} = .*$", f"{rule} = {value}", fairswap.platform.template("x"), flags=re.MULTILINE)
    if f"{rule} = " not in text:
        text = text.replace("[figure]", f"[figure]\n{rule} = {value}")
    Path("x.toml").write_text(text)
    refused("fit", PIP, "--platform", "x.toml", "-o", "out", says=says)
    assert not Path("out").exists()


# Pictures


def picture(kind, size=(64, 64)):
    from io import BytesIO

    from PIL import Image

    out = BytesIO()
    Image.new("RGB", size).save(out, kind)
    return out.getvalue()


def with_texture(content):
    scene = Scene(PIP.read_bytes())
    scene.images[next(iter(scene.images))] = content
    Path("textured.glb").write_bytes(scene.bytes())


@pytest.mark.parametrize(
    "content",
    [
        b"%!PS-Adobe-3.0 EPSF-3.0\n%%BoundingBox: 0 0 9 9\n%%EndComments\nshowpage\n",
        picture("TIFF"), picture("GIF"), b"", b"\0" * 500, picture("PNG")[:40],
        picture("PNG").replace((64).to_bytes(4, "big") * 2, (60000).to_bytes(4, "big") * 2),
    ],
    ids=["eps", "tiff", "gif", "empty", "zeros", "cut", "bomb"],
)  # fmt: skip
@pytest.mark.long(but=3)
def test_only_pictures_that_figures_hold_are_decoded(content):
    with_texture(content)
    assert run("inspect", "textured.glb").returncode == 0
    refused("fit", "textured.glb", "--platform", "quillmoor", "-o", "o.glb", says="texture")
    # What cannot be decoded is drawn plain, and goes along as it stands.
    done = run("convert", "walk.bvh", "--onto", "textured.glb", "-o", "c.glb")
    assert done.returncode in (0, 1)
    assert content in Path("c.glb").read_bytes()


def test_pixels_are_counted_before_they_are_decoded():
    for size in ((20000, 2), (9000, 9000)):
        with pytest.raises(fairswap.InputError, match="pixels"), opened_image(picture("PNG", size), "here"):
            pass
    with opened_image(picture("JPEG"), "here") as opened:
        assert opened.size == (64, 64)


# Names


def evil_figure():
    fairswap.save("plain.glb", figure("Juniper"), [act("walk", "Juniper")])
    scene = Scene(Path("plain.glb").read_bytes())
    for node in scene.nodes[3:8]:
        node["name"] = EVIL + node.get("name", "")
    scene.json["animations"][0]["name"] = EVIL
    for mesh in scene.json["meshes"]:
        mesh["name"] = EVIL
        mesh.get("extras", {})["targetNames"] = [EVIL + name for name in mesh.get("extras", {}).get("targetNames", [])]
    Path("evil.glb").write_bytes(scene.bytes())


@pytest.mark.parametrize(
    "words",
    [
        ("inspect", "evil.glb"),
        ("inspect", "evil.glb", "--json"),
        ("bones", "show", "evil.glb"),
        ("bones", "draft", "evil.glb", "-o", "b.toml"),
        ("convert", "evil.glb", "--onto", PIP, "-o", "folder"),
        ("convert", "walk.bvh", "--onto", "evil.glb", "-o", "\x1b[31m.glb"),
        ("check", "evil.glb", "--platform", "fernway"),
        ("clip", "describe", "evil.glb"),
        ("clip", "describe", "evil.glb", "--json"),
        ("clip", "draw", "evil.glb", "--role", "head", "-o", "d.png"),
        ("clip", "cut", "evil.glb", "--clip", "none", "--piece", "a=0..1", "-o", "c.glb"),
        ("clip", "loop", "evil.glb", "-o", "l.glb"),
        ("pose", "measure", "evil.glb"),
        ("compare", "evil.glb", "evil.glb"),
        ("inspect", "\x1b[31m.glb"),
        ("\x1b[31m",),
    ],
    ids=lambda words: " ".join(map(visible, map(str, words[:2]))) + (" data" if "--json" in words else ""),
)
@pytest.mark.long(but=6)
def test_no_name_speaks_to_the_terminal(words):
    evil_figure()
    done = run(*words)
    assert not OBEYED.search(done.stdout), repr(OBEYED.search(done.stdout))
    assert not OBEYED.search(done.stderr)
    assert done.returncode != 70, done.stderr
    if "--json" in words:
        assert EVIL in [clip.get("name", clip.get("clip")) for clip in done.report["clips"]]


@pytest.mark.parametrize("name", ["x\0y", "new\nline", "\ud800half", "\u2028", "\x85", "{", "a{b", "JOINT", "😀"])
@pytest.mark.parametrize("suffix", ["glb", "gltf", "bvh", "csv"])
@pytest.mark.long(but=12)
def test_what_is_written_can_be_read_back_whatever_it_is_called(name, suffix):
    osric, walk = figure("Osric"), act("walk", "Osric")
    skeleton = replace(osric.skeleton, names=(osric.skeleton.names[0], name, *osric.skeleton.names[2:]))
    clip = walk.with_poses(replace(walk.poses, skeleton=skeleton), name=name)
    path = f"named.{suffix}"
    fairswap.save(path, replace(osric, skeleton=skeleton, source=None, meshes=()), [clip])
    back = fairswap.load(path)
    assert len(back.clips[0].skeleton) >= len(skeleton)  # in BVH every limb gets an end
    assert back.clips[0].frames == walk.frames
    if suffix != "bvh" and "\ud800" not in name:
        assert back.clips[0].skeleton.names[1] == name
        assert back.clips[0].name == name
    assert not re.search("[\ud800-\udfff]", back.clips[0].skeleton.names[1])


@pytest.mark.parametrize(
    "name", ["a%20b", "a:b", "a#b?", "a b", "ü ñ", "x" * 250, "-dash", os.fsdecode(b"o\xff"), "e\u0301", "a&b;c"]
)
def test_pairs_of_any_name_find_each_other(name):
    fairswap.save(f"{name}.gltf", figure("Pip"), [act("walk", "Pip")])
    assert Path(f"{name}.bin").exists()
    assert len(fairswap.load(f"{name}.gltf").clips) == 1
    assert run("inspect", f"./{name}.gltf").returncode == 0


def test_names_of_clips_become_names_of_files_and_nothing_else():
    for name in ("../../evil", "/etc/passwd", "a/b", "con\0", "..", "C:\\x", "~root", "x" * 400, "\u202egnp.exe"):
        stem = file_stem(name)
        assert len(Path(f"{stem}.glb").parts) == 1
        assert 0 < len(stem) <= 120
        assert not OBEYED.search(stem)


def test_what_is_spelled_out_means_the_same_as_data():
    text = json.dumps({EVIL: [EVIL]}, ensure_ascii=False)
    spelled = visible_in_json(text)
    assert json.loads(spelled) == {EVIL: [EVIL]}
    assert not OBEYED.search(spelled)
    assert visible("Ärmel 左 é") == "Ärmel 左 é"


# Patterns


def test_globs_mean_what_they_mean_elsewhere():
    """Against the regular expressions that they stand for, on all short names."""
    import itertools

    names = ["".join(letters) for n in range(5) for letters in itertools.product("ab", repeat=n)]
    for glob in ("", "*", "a", "a*", "*a", "a*b", "*a*", "a*b*", "**", "ab*ab", "*b*a"):
        pattern = re.compile(re.escape(glob).replace(r"\*", ".*"))
        for name in names:
            assert fits_glob(glob, name) == bool(pattern.fullmatch(name)), (glob, name)
            longest = max((end for end in range(len(name) + 1) if pattern.fullmatch(name[:end])), default=None)
            assert glob_end(glob, name) == longest, (glob, name)


@pytest.mark.parametrize(
    "pattern",
    ["[a-z0-9-]+", "a?b*c{2,3}", "walk|run", r"\d{2,}", "[^ab]x", "a{3}", ".*z", r"\w+\.\w+", "", "^ab$", "a+a"],
)
def test_name_patterns_mean_what_regular_expressions_do(pattern):
    names = [
        "",
        "a",
        "aa",
        "aaa",
        "abc",
        "abcc",
        "abccc",
        "bcc",
        "walk",
        "walks",
        "run",
        "12",
        "1",
        "cx",
        "ax",
        "xyz",
        "a.b",
    ]
    for name in names:
        assert NamePattern(pattern).fits(name) == bool(re.fullmatch(pattern, name)), name


def test_what_takes_too_long_is_told():
    with pytest.raises(AssertionError, match="it took"), within(1e-3):
        sum(number * number for number in range(3_000_000))


def test_no_pattern_takes_long():
    with within(1.0):
        assert not fits_glob("*a" * 40 + "b", "a" * 20_000)
        assert not NamePattern("a*a*a*a*a*a*a*a*b").fits("a" * 1000)
        assert not any(fits_glob(f"*x{number}*y", "x" * 200) for number in range(10_000))
    for wrong in ("(a+)+", "a**", "[a", r"\1", "a{9999}", "(?=a)", "a|(b)"):
        with pytest.raises(fairswap.UsageError, match="not a pattern"):
            NamePattern(wrong)


# Amounts


BOMBS = {
    "brackets": "x = " + "[" * 3000 + "]" * 3000,
    "tables": "x = " + "{a=" * 3000 + "1" + "}" * 3000,
    "digits": "x = " + "1" * 5000,
    "dotted": "a." * 20_000 + "b = 1",
    "header": "[" + "a." * 20_000 + "b]",
    "keys": "\n".join(f"k{number} = 1" for number in range(20_000)),
    "letters": "# " + "x" * 5_000_000,
    "huge": "version = 1e300",
}


@pytest.mark.parametrize("bomb", BOMBS)
@pytest.mark.long(but=3)
def test_toml_that_would_take_for_ever_is_refused(bomb):
    for kind, words in {
        "bones/2": ("bones", "check", "x.toml", PIP),
        "face/1": ("face", "check", "x.toml", PIP),
        "pose/1": ("pose", "set", PIP, "--to", "x.toml", "-o", "o.glb"),
        "platform/2": ("check", PIP, "--platform", "x.toml"),
    }.items():
        Path("x.toml").write_text(f'fairswap = "{kind}"\n{BOMBS[bomb]}\n')
        refused(*words, says=r"x\.toml")


def test_a_broken_saved_profile_stops_nothing_and_is_told(monkeypatch):
    folder = Path(os.environ["FAIRSWAP_HOME"]) / "bones"
    folder.mkdir(parents=True)
    (folder / "broken.toml").write_text(f'fairswap = "bones/2"\n{BOMBS["brackets"]}')
    done = run("inspect", PIP)
    assert done.returncode == 0
    assert "broken.toml: this saved profile is left out" in " ".join(done.stdout.split())
    assert run("bones", "list").returncode == 0

    def nobody():
        raise RuntimeError("Could not determine home directory.")

    monkeypatch.delenv("FAIRSWAP_HOME")
    monkeypatch.delenv("XDG_CONFIG_HOME", raising=False)
    monkeypatch.setattr(Path, "home", nobody)
    assert run("inspect", PIP).returncode == 0
    assert run("convert", "walk.bvh", "--onto", PIP, "-o", "o.glb").returncode in (0, 1)


@pytest.mark.parametrize("rate", ["1e99999999", "nan", "inf", "-5", "0", "1/0", "1e300", "100000", "9" * 6000, "1" * 9])
def test_a_rate_beyond_reason_is_refused_at_once(rate):
    with within(0.1), pytest.raises(fairswap.UsageError, match="not a frame rate"):
        rate_from_text_per_second(rate)


@pytest.mark.parametrize(
    ("words", "says"),
    [
        (("clip", "trim", "walk.bvh", "--margin", "nan"), "beyond all measure"),
        (("clip", "speed", "walk.bvh", "--times", "inf"), "beyond all measure"),
        (("clip", "place", "walk.bvh", "--at", "nan", "0"), "beyond all measure"),
        (("clip", "thin", "walk.bvh", "--degrees", "nan"), "beyond all measure"),
        (("clip", "cut", "walk.bvh", "--piece", "a=0..1e400f"), "not a time"),
        (("clip", "rename", "walk.bvh", "--to", "{file.__class__}"), "not a pattern for names"),
        (("clip", "rename", "walk.bvh", "--to", "{n:99999999}"), "not a pattern for names"),
        (("clip", "rename", "walk.bvh", "--to", "{name!r}"), "not a pattern for names"),
        (("clip", "speed", "walk.bvh", "--times", "1e-9"), "at most"),
    ],
)
def test_options_beyond_reason_are_refused(words, says):
    done = run(*words, "-o", "o.glb")
    assert done.returncode in (2, 4)
    assert says in done.stderr
    assert not Path("o.glb").exists()


def late_key(seconds):
    def change(made):
        made.json.pop("animations")
        animate(made, 2, "rotation", [0, 1 / 30, seconds], [[0, 0, 0, 1]] * 3)

    return change


def many_morphs(made):
    primitive = made.json["meshes"][0]["primitives"][0]
    count = 200_000  # eight vertices' worth of data, read as zeros without any
    for name, width in (("POSITION", "VEC3"), ("JOINTS_0", "VEC4"), ("WEIGHTS_0", "VEC4")):
        kind = 5121 if name == "JOINTS_0" else 5126
        made.json["accessors"].append({"componentType": kind, "count": count, "type": width})
        primitive["attributes"][name] = len(made.json["accessors"]) - 1
    primitive["targets"] = [{"POSITION": primitive["attributes"]["POSITION"]}] * 3000
    made.binary += bytes(200_000)


def many_meshes(made):
    first = len(made.json["nodes"])
    made.json["nodes"] += [{"mesh": 0, "skin": 0} for _ in range(1000)]
    made.json["scenes"][0]["nodes"] += range(first, first + 1000)


@pytest.mark.parametrize(
    ("change", "says"),
    [
        (late_key(60_000.0), "1800001 frames"),
        (late_key(1e30), "a key lies 1e+30 s"),
        (many_morphs, "numbers"),
        (many_meshes, ""),
    ],
    ids=["late key", "later key", "shared morphs", "shared meshes"],
)
def test_a_small_file_does_not_become_large(change, says):
    import resource

    made = arm()
    change(made)
    made.write(Path("x.glb"))
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    with within(8.0):
        done = run("inspect", "x.glb")
    assert resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before < 150 * 1024
    assert done.returncode == (3 if says else 0)
    assert says in done.stderr


def turned_rest(made, value):
    made.json["nodes"][2]["scale"] = value


GLTF = {
    "a bone of no size": lambda made: turned_rest(made, [0, 0, 0]),
    "a top of no size": lambda made: made.json["nodes"][0].update(scale=[0, 0, 0]),
    "required by a number": lambda made: made.json.update(extensionsRequired=5),
    "a bone nobody knows": lambda made: made.json.update(
        extensions={"VRMC_vrm": {"humanoid": {"humanBones": {"wing": {"node": 1}, "hips": {"node": 99}}}}}
    ),
    "names without shapes": lambda made: made.json["meshes"][0].update(extras={"targetNames": ["a", "b"]}),
    "samplers as an object": lambda made: made.json["animations"][0].update(samplers={"a": 1}),
    "an unused mesh out of range": lambda made: made.json["meshes"].append(
        {"primitives": [{"attributes": {"POSITION": 999}}]}
    ),
    "a spline through nothing": lambda made: animate(
        made, 3, "rotation", [0, 1], [[0, 0, 0, 0]] * 6, interpolation="CUBICSPLINE"
    ),
    "keys before the beginning": lambda made: animate(made, 3, "rotation", [-1, 1], [[0, 0, 0, 1]] * 2),
}


@pytest.mark.parametrize("name", GLTF)
@pytest.mark.long(but=4)
def test_odd_documents_end_in_a_result_or_in_one_line(name):
    made = arm()
    GLTF[name](made)
    made.write(Path("odd.glb"))
    for words in (("inspect", "odd.glb"), ("clip", "reverse", "odd.glb", "-o", "o.glb", "--force")):
        done = run(*words)
        assert done.returncode in (0, 3), done.stderr
        assert done.stderr.count("\n") <= 1
    # One that cannot be read fails alone.
    done = run("convert", "walk.bvh", "odd.glb", "--onto", PIP, "-o", "batch", "--force")
    assert Path("batch/walk.glb").exists()
    assert done.returncode in (1, 3, 4)


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("\x01\x02" * 500, "MOTION"),
        (bvh(STICK, [[1e300] * 9]), "line 19: '1e\\+300' is beyond"),
        (bvh(STICK.replace("0 50 0", "0 1e30 0"), [[0] * 9]), "beyond any place"),
        (bvh(STICK.replace("0 50 0", "9" * 5000 + " 0 0"), [[0] * 9]), "OFFSET"),
        (bvh(STICK, [[0] * 9], frames="9" * 5000), "Frame"),
        (bvh(STICK.replace("JOINT b", "JOINT " + "x" * 200_000), [[0] * 8]), "8 numbers|no whole frame"),
    ],
    ids=["control", "huge turn", "huge offset", "digits", "frames", "long name"],
)
def test_odd_motion_files_end_in_one_line(text, says):
    Path("odd.bvh").write_text(text)
    refused("inspect", "odd.bvh", says=says)


HEAD = "name,start,end\n"


@pytest.mark.parametrize(
    "table",
    [
        HEAD + "a," + "9" * 5000 + ",1\n",
        HEAD + "x" * 131_073 + ",0,1\n",
        "x" * 131_073 + ",start,end\nb,0,1\n",
        ",".join(f"h{number}" for number in range(40_000)) + "\nx,y",
        HEAD + "a,0,1e400\n",
        HEAD + "a,0,1\n" * 30_000,
    ],
    ids=["digits", "long cell", "long head", "columns", "infinite", "rows"],
)
def test_odd_tables_end_in_one_line(table):
    Path("t.csv").write_text(table)
    done = run("clip", "cut", "walk.bvh", "--table", "t.csv", "-o", "o.glb")
    assert done.returncode in (2, 3)
    assert done.stderr.count("\n") == 1
    assert len(done.stderr) < 420
    Path("t.csv").write_bytes((HEAD + "a,0,1\nb,1,2\n").replace("\n", "\r").encode())
    assert run("clip", "cut", "walk.bvh", "--table", "t.csv", "-o", "o.glb").returncode == 0


@pytest.mark.long
def test_a_skeleton_of_many_bones_is_inspected_in_no_time():
    joints = "".join(f"JOINT j{number}\n{{\nOFFSET 0 1 0\n}}\n" for number in range(20_000))
    hierarchy = "ROOT r\n{\nOFFSET 0 0 0\nCHANNELS 3 Xrotation Yrotation Zrotation\n" + joints + "}"
    Path("many.bvh").write_text(bvh(hierarchy, [[0, 0, 0]] * 3))
    with within(10.0):
        assert run("inspect", "many.bvh").returncode == 0
    assert np.isfinite(fairswap.load("many.bvh").figure.height_m)


def test_sums_of_sums_are_read_and_bounded():
    def chart(shapes):
        rows = [f"[morphs.m{n}]\nsum = {{m{n - 1} = 0.5, m{n - 2} = 0.5}}" for n in range(2, shapes)]
        plain = ["[morphs.m0]\nunits = {brow_lowerer_left = 0.5}", "[morphs.m1]\nunits = {brow_lowerer_left = 0.5}"]
        Path("f.toml").write_text("\n".join(['fairswap = "face/1"', 'name = "x"', *plain, *rows]) + "\n")

    chart(26)
    with within(0.5):
        assert np.allclose(fairswap.FaceChart.load("f.toml").matrix.max(axis=0)[:2], 0.5)
    chart(3000)
    refused("face", "check", "f.toml", JUNIPER, says="more than 32 deep")


def test_a_space_that_is_none_is_told_with_its_file():
    Path("p.toml").write_text('fairswap = "bones/2"\nname = "x"\n[space]\nup = "sideways"\n[roles]\nhips = "a"\n')
    refused("bones", "check", "p.toml", PIP, says=r"p\.toml, space: up is 'sideways'")
