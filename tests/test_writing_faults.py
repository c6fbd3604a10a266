"""Whatever goes wrong while writing: the input is whole, there is no half file, and the message says so."""

import os
import subprocess
import sys
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
