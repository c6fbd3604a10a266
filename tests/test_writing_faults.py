"""Whatever goes wrong while writing: the input is whole, there is no half file, and the message says so."""

import os
import subprocess
import sys
import tomllib
from dataclasses import replace
from pathlib import Path

import pytest

import fairswap
from fairswap.formats import storage
from making import TROUPE, act, figure, run

WALK = "walk.bvh"


@pytest.fixture(autouse=True)
def _a_walk():
    fairswap.save(WALK, figure("Osric"), [act("walk", "Osric")])


def test_an_input_is_never_written_to_not_even_by_force_or_through_a_link():
    before = Path(WALK).read_bytes()
    os.symlink(WALK, "link.bvh")
    for out in (WALK, "link.bvh", f"../{Path.cwd().name}/{WALK}"):
        done = run("convert", WALK, "--onto", TROUPE / "juniper.glb", "-o", out, "--force")
        assert done.returncode == 4
        assert "it is an input" in done.stderr
    assert Path(WALK).read_bytes() == before


def test_a_file_that_is_there_stays_without_force():
    Path("out.glb").write_text("precious")
    done = run("convert", WALK, "--onto", TROUPE / "juniper.glb", "-o", "out.glb")
    assert (done.returncode, Path("out.glb").read_text()) == (4, "precious")
    assert "--force" in done.stderr
    assert run("convert", WALK, "--onto", TROUPE / "juniper.glb", "-o", "out.glb", "--force").returncode == 0
    assert Path("out.glb").read_bytes()[:4] == b"glTF"


@pytest.mark.parametrize("fails_after", range(6))
def test_a_disk_that_is_full_at_any_write_leaves_the_old_file_and_nothing_else(fails_after, monkeypatch):
    Path("out.glb").write_text("old")
    left = [fails_after]
    real = os.fdopen

    class Full:
        def __init__(self, handle, mode):
            self.file = real(handle, mode)

        def __enter__(self):
            return self

        def __exit__(self, *_):
            self.file.close()

        def write(self, data):
            if left[0] == 0:
                raise OSError(28, "No space left on device")
            left[0] -= 1
            self.file.write(data)

    monkeypatch.setattr(storage.os, "fdopen", Full)
    with pytest.raises(fairswap.OutputError, match="No space left on device"):
        fairswap.save("out.glb", figure("Osric"), [act("walk", "Osric")], force=True)
    assert Path("out.glb").read_text() == "old"
    assert sorted(os.listdir()) == ["out.glb", WALK]


@pytest.mark.skipif(not Path("/dev/full").exists(), reason="needs /dev/full")
def test_a_report_to_a_full_disk_is_no_success():
    with open("/dev/full", "w") as full:
        done = subprocess.run(
            [sys.executable, "-m", "fairswap", "bones", "list"], stdout=full, stderr=subprocess.PIPE, text=True
        )
    assert done.returncode != 0
    assert "Traceback" not in done.stderr


def test_a_folder_without_rights_is_told(monkeypatch):
    # Tests may run as root, whom no rights stop: the system's answer is played instead.
    def refused(*_, **__):
        raise PermissionError(13, "Permission denied")

    monkeypatch.setattr(storage.tempfile, "mkstemp", refused)
    with pytest.raises(fairswap.OutputError, match=r"Permission denied.*rights of its folder"):
        fairswap.save("out.glb", figure("Osric"))
    assert sorted(os.listdir()) == [WALK]


def test_a_gltf_that_cannot_have_its_buffer_is_not_written_either():
    Path("out.bin").write_text("somebody's")
    with pytest.raises(fairswap.OutputError, match=r"out\.bin"):
        fairswap.save("out.gltf", figure("Osric"))
    assert Path("out.bin").read_text() == "somebody's"
    assert not Path("out.gltf").exists()


def test_rights_of_a_written_file_are_the_usual_ones():
    fairswap.save("out.glb", figure("Osric"))
    umask = os.umask(0)
    os.umask(umask)
    assert Path("out.glb").stat().st_mode & 0o777 == 0o666 & ~umask


# What a run is going to write is known and reserved before it writes


def a_pair(name="a.gltf", buffer="data.bin"):
    """A figure with its clip as a ``.gltf`` whose buffer has a name of its own."""
    fairswap.save("made.gltf", figure("Osric"), [act("walk", "Osric")])
    Path("made.bin").rename(buffer)
    text = Path("made.gltf").read_text().replace("made.bin", buffer.replace("%", "%25").replace(" ", "%20"))
    Path("made.gltf").unlink()
    Path(name).write_text(text)
    return {path: Path(path).read_bytes() for path in (name, buffer)}


PIP = TROUPE / "pip.glb"


@pytest.mark.parametrize(
    "words",
    [
        ("convert", "a.gltf", "--onto", PIP, "-o", "data.gltf"),
        ("convert", WALK, "--onto", "a.gltf", "-o", "data.gltf"),
        ("convert", WALK, "--onto", PIP, "-o", "out.glb", "--source-reference", "a.gltf", "--picture", "data.bin"),
        ("convert", WALK, "--onto", PIP, "-o", "out.glb", "--layer", "layer.toml", "--picture", "pose.toml"),
        ("convert", WALK, "--onto", PIP, "-o", "out.glb", "--hands-reference", "pose.toml", "--picture", "pose.toml"),
        ("fit", "a.gltf", "--platform", "fernway", "-o", "data.gltf"),
        ("reel", "a.gltf", "-o", "data.gltf"),
        ("reel", "a.gltf", "-o", "out.glb", "--picture", "data.bin"),
        ("clip", "loop", "a.gltf", "-o", "data.gltf"),
        ("clip", "join", "a.gltf", "a.gltf", "-o", "data.gltf"),
        ("clip", "cut", "a.gltf", "--piece", "x=0..1", "-o", "data.gltf"),
        ("clip", "draw", "a.gltf", "--role", "head", "-o", "data.bin"),
        ("clip", "describe", "a.gltf", "--csv", "data.bin"),
        ("pose", "measure", "a.gltf", "--picture", "data.bin"),
        ("pose", "set", "a.gltf", "--to", "t", "-o", "data.gltf"),
        ("pose", "save", "a.gltf", "-o", "data.bin"),
        ("bones", "show", "a.gltf", "--picture", "data.bin"),
        ("bones", "check", "saltglass", "a.gltf", "--picture", "data.bin"),
        ("bones", "draft", "a.gltf", "-o", "data.bin"),
        ("face", "draft", "a.gltf", "-o", "data.bin"),
        ("face", "show", "a.gltf", "-o", "data.bin"),
        ("compare", "a.gltf", "a.gltf", "--curves", "data.bin"),
    ],
    ids=lambda words: " ".join(str(word).split("/")[-1] for word in words[:2] + words[-1:]),
)
@pytest.mark.long(but=3)
def test_no_command_writes_to_what_an_input_pulls_in(words):
    """The buffer of a figure, the pose that a layer names: neither is named on the command line, both are inputs."""
    before = a_pair()
    fairswap.pose.save(PIP).save("pose.toml")
    Path("layer.toml").write_text('fairswap = "layers/1"\n[[layer]]\npose = "pose.toml"\n')
    before["pose.toml"] = Path("pose.toml").read_bytes()
    there = sorted(os.listdir())
    done = run(*words, "--force")
    assert done.returncode == 4, done.stderr
    assert "it is an input" in done.stderr
    assert {path: Path(path).read_bytes() for path in before} == before
    assert sorted(os.listdir()) == there


def test_python_keeps_the_buffer_of_an_input_too():
    before = a_pair()
    document = fairswap.load("a.gltf")
    for verb in (
        lambda: fairswap.save("data.gltf", document.figure, document.clips, force=True),
        lambda: fairswap.convert(document, TROUPE / "pip.glb").save("data.gltf", force=True),
        lambda: fairswap.pose.set(document, "t").save("data.gltf", force=True),
    ):
        with pytest.raises(fairswap.OutputError, match=r"data\.bin"):
            verb()
    assert {path: Path(path).read_bytes() for path in before} == before


@pytest.mark.parametrize("buffer", ["with space.bin", "50%.bin", "ä#?.bin"])
def test_buffers_of_any_name_are_found_and_written_with_their_names_encoded(buffer):
    stem = buffer.removesuffix(".bin")
    document = fairswap.Document("", "", figure("Osric").space, (figure("Osric"),), (act("walk", "Osric"),))
    fairswap.save(f"{stem}.gltf", document.figure, document.clips)
    assert Path(buffer).is_file()
    text = Path(f"{stem}.gltf").read_text()
    assert f'"{buffer}"' not in text  # a URI: percent-encoded
    again = fairswap.load(f"{stem}.gltf")
    assert buffer in {Path(name).name for name in again.files}
    assert again.clips[0].frames == act("walk", "Osric").frames


def named(*names):
    clip = act("walk", "Osric")
    return [replace(clip, name=name) for name in names]


@pytest.mark.long
def test_clips_of_like_names_and_one_called_like_the_figure_each_have_their_own_file():
    fairswap.save("all.glb", figure("Osric"), named("walk", "walk", "walk (2)", "WALK", "Osric", "a/b", "a:b"))
    for words in (("convert", "all.glb", "--onto", TROUPE / "pip.glb"), ("fit", "all.glb", "--platform", "quillmoor")):
        done = run(*words, "-o", words[0], "--json")
        assert done.returncode in (0, 1), done.stderr
        files = sorted(Path(words[0]).iterdir())
        assert len(files) == 7 + (words[0] == "fit")
        assert len({path.name.casefold() for path in files}) == len(files)
        # Every file is whole; and in the one the figure is called after stands the figure.
        clips = [fairswap.load(path).clips for path in files]
        assert sum(map(len, clips)) == 7
    assert fairswap.load("fit/Osric.glb").figure.meshes


def test_a_result_that_is_there_stops_the_run_before_the_first_is_written():
    fairswap.save("all.glb", figure("Osric"), named("one", "two", "three"))
    Path("out").mkdir()
    Path("out/three.glb").write_text("precious")
    done = run("convert", "all.glb", "--onto", TROUPE / "pip.glb", "-o", "out")
    assert done.returncode == 4
    assert "three.glb" in done.stderr
    assert [path.name for path in Path("out").iterdir()] == ["three.glb"]
    assert Path("out/three.glb").read_text() == "precious"


@pytest.mark.parametrize("picture", ["out.glb", "OUT.GLB", "walk.bvh"])
def test_a_picture_is_never_drawn_over_a_result_or_an_input(picture):
    before = Path(WALK).read_bytes()
    done = run("convert", WALK, "--onto", TROUPE / "pip.glb", "-o", "out.glb", "--picture", picture, "--force")
    assert done.returncode in (2, 4)
    assert Path(WALK).read_bytes() == before
    assert not Path("out.glb").exists()


# Files of our own


def test_files_of_the_older_kind_are_read_with_a_note():
    drafted = fairswap.bones.draft(TROUPE / "juniper.glb")
    drafted.save("new.toml")
    old = Path("new.toml").read_text().replace('"bones/2"', '"bones/1"').replace("fraction =", "share =")
    assert "share =" in old
    Path("old.toml").write_text(old)
    new, older = fairswap.bones.named("new.toml"), fairswap.bones.named("old.toml")
    assert new.roles == older.roles
    assert new.helpers == older.helpers
    assert not new.findings
    assert [finding.code for finding in older.findings] == ["older-kind"]
    assert run("bones", "check", "old.toml", TROUPE / "juniper.glb").stdout.count("bones/1") == 1

    text = fairswap.platform.template("mine").replace('"platform/2"', '"platform/1"')
    text = text.replace("# max_bones = 75", "bones_most = 75")
    Path("mine.toml").write_text(text)
    mine = fairswap.platform.named("mine.toml")
    assert mine.figure.max_bones == 75
    assert [finding.code for finding in mine.findings] == ["older-kind"]
    Path("mine.toml").write_text(text.replace('"platform/1"', '"platform/2"'))
    with pytest.raises(fairswap.InputError, match="bones_most"):
        fairswap.platform.named("mine.toml")


@pytest.mark.parametrize(
    "name", ['quo"te', "new\nline", "tab\there", "\x1b[31mred", "back\\slash", "é𝄞", "'''", "# no", "a.b", " "]
)
def test_any_name_survives_the_files_we_write(name):
    """Names of bones and shapes go through TOML and come back; no comment breaks out of its line."""
    pip = figure("Pip")
    skeleton = replace(pip.skeleton, names=(name, *pip.skeleton.names[1:]))
    mesh = next(mesh for mesh in pip.meshes if mesh.morph_names)
    shaped = replace(mesh, morph_names=(name, *mesh.morph_names[1:]))
    named_so = replace(pip, skeleton=skeleton, meshes=tuple(shaped if m is mesh else m for m in pip.meshes))

    fairswap.bones.draft(named_so).save("bones.toml", name="odd")
    read = fairswap.bones.named("bones.toml")
    assert read.assign(skeleton).bones.get("hips") == 0

    fairswap.face.draft(named_so).chart.save("face.toml")
    assert name in fairswap.FaceChart.load("face.toml").shapes
    for path in ("bones.toml", "face.toml"):
        text = Path(path).read_text()
        assert not any(ord(letter) < 32 and letter != "\n" for letter in text)
        tomllib.loads(text)
