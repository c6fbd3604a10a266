"""A fault at any step of writing, in any command: the old files stand, nothing half is left, and one line says so."""

import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest

import fairswap
from fairswap.formats import storage
from making import TROUPE, act, figure, run

PIP = TROUPE / "pip.glb"
COMMANDS = {
    "convert": ("convert", "walk.bvh", "--onto", PIP, "-o", "out/o.gltf", "--force"),
    "convert into a folder": ("convert", "two.glb", "--onto", PIP, "-o", "out", "--force"),
    "fit": ("fit", "two.glb", "--platform", "fernway", "-o", "out", "--force"),
    "cut": ("clip", "cut", "walk.bvh", "--piece", "a=0..1", "--piece", "b=1..2", "-o", "out", "--force"),
    "draft": ("bones", "draft", PIP, "-o", "out/b.toml", "--force"),
    "pose": ("pose", "set", PIP, "--to", "t", "-o", "out/t.glb", "--force"),
    "draw": ("clip", "draw", "walk.bvh", "--role", "head", "-o", "out/d.png", "--force"),
}
# What may fail, and with what the system says then.
FAULTS = {
    "mkstemp": (storage.tempfile, "mkstemp", PermissionError(13, "Permission denied")),
    "fsync": (storage.os, "fsync", OSError(28, "No space left on device")),
    "chmod": (storage.os, "chmod", OSError(1, "Operation not permitted")),
    "replace": (storage.os, "replace", OSError(5, "Input/output error")),
    "interrupt": (storage.os, "fsync", KeyboardInterrupt()),
}


@pytest.fixture(autouse=True)
def _motions():
    walk = act("walk", "Osric")
    fairswap.save("walk.bvh", figure("Osric"), [walk])
    fairswap.save("two.glb", figure("Osric"), [walk, fairswap.clips.rename([walk], to="second")[0]])


def held(folder):
    return {str(path): path.read_bytes() for path in sorted(Path(folder).rglob("*")) if path.is_file()}


@pytest.mark.parametrize(
    ("command", "fault"),
    # Every command with one fault, and one with every fault.
    [*((command, "replace") for command in COMMANDS), *(("convert", fault) for fault in FAULTS if fault != "replace")],
)
@pytest.mark.long(but=1)
def test_whatever_fails_while_writing_the_old_files_stand(command, fault, monkeypatch):
    assert run(*COMMANDS[command]).returncode in (0, 1)
    before, inputs = held("out"), {path: content for path, content in held(".").items() if not path.startswith("out")}
    whole = fairswap.load("out/o.gltf") if command == "convert" else None
    module, name, error = FAULTS[fault]
    real = getattr(module, name)
    for fails_at in range({"convert": 4, "fit": 1}.get(command, 2)):
        calls = []

        def failing(*words, calls=calls, fails_at=fails_at, **more):
            calls.append(words)
            if len(calls) > fails_at:
                raise error
            return real(*words, **more)

        with monkeypatch.context() as patched:
            patched.setattr(module, name, failing)
            done = run(*COMMANDS[command])
        if len(calls) <= fails_at:
            assert done.returncode in (0, 1)
            break
        assert done.returncode == (130 if fault == "interrupt" else 4), done.stderr
        assert done.stderr.strip().count("\n") == 0
        # The same inputs make the same bytes: what was written before the fault is as it was.
        after = held("out")
        if "out/o.fairswap-between.bin" in after:  # stopped between the two of a pair: the new one is there, and whole
            assert np.array_equal(fairswap.load("out/o.gltf").clips[0].rotations, whole.clips[0].rotations)
        else:
            assert after == before
        assert not list(Path().rglob("*.part"))
    assert {path: content for path, content in held(".").items() if not path.startswith("out")} == inputs


def test_what_a_killed_run_left_is_removed_by_the_next_and_nothing_else(monkeypatch):
    Path("out").mkdir()
    dead = subprocess.Popen([sys.executable, "-c", "pass"])
    dead.wait()
    host = storage._HOST
    left = Path(f"out/.fairswap-{host}-{dead.pid}-x1.part")
    running = Path(f"out/.fairswap-{host}-{os.getppid()}-x1.part")
    elsewhere = Path("out/.fairswap-otherhost-1-x1.part")
    old = Path("out/.fairswap-otherhost-2-x1.part")
    theirs = [Path("out/.hidden.part"), Path("out/mine.part"), running, elsewhere]
    for path in (left, old, *theirs):
        path.write_text("x")
    os.utime(old, (0, 0))
    storage._swept.clear()
    assert run(*COMMANDS["draft"]).returncode == 0
    assert not left.exists()
    assert not old.exists()
    assert all(path.exists() for path in theirs)


def test_a_pair_that_is_replaced_is_a_pair_at_every_moment(monkeypatch):
    """Whenever it is stopped, what stands there can be read, old or new; the next run makes it whole."""
    first, second = act("walk", "Pip"), act("leap", "Pip")
    fairswap.save("p.gltf", figure("Pip"), [first])
    fairswap.save("new.gltf", figure("Pip"), [second])
    wanted = Path("new.gltf").read_bytes().replace(b"new.bin", b"p.bin"), Path("new.bin").read_bytes()
    real, seen = os.replace, []

    def watched(a, b):
        real(a, b)
        seen.append(fairswap.load("p.gltf").clips[0].frames)

    monkeypatch.setattr(storage.os, "replace", watched)
    fairswap.save("p.gltf", figure("Pip"), [second], force=True)
    assert set(seen) == {first.frames, second.frames}
    assert (Path("p.gltf").read_bytes(), Path("p.bin").read_bytes()) == wanted
    assert not list(Path().glob("*between*"))


def test_a_replaced_file_hands_on_its_rights_and_a_link_to_nothing_is_not_replaced():
    Path("o.glb").write_text("old")
    os.chmod("o.glb", 0o640)
    if os.geteuid() == 0:
        os.chown("o.glb", 1234, 2345)
    walk = ("convert", "walk.bvh", "--onto", PIP)
    assert run(*walk, "-o", "o.glb", "--force").returncode == 0
    found = os.stat("o.glb")
    assert found.st_mode & 0o777 == 0o640
    if os.geteuid() == 0:
        assert (found.st_uid, found.st_gid) == (1234, 2345)
    os.symlink("nowhere.glb", "link.glb")
    done = run(*walk, "-o", "link.glb")
    assert done.returncode == 4
    assert "--force" in done.stderr
    assert os.readlink("link.glb") == "nowhere.glb"
    assert run(*walk, "-o", "link.glb", "--force").returncode == 0
    assert fairswap.load("link.glb").clips


@pytest.mark.parametrize("name", ["WALK.BVH", "Walk.bvh", "hard.bvh", "./sub/../walk.bvh"])
def test_an_input_by_another_name_is_an_input(name):
    os.link("walk.bvh", "hard.bvh")
    Path("sub").mkdir()
    before = Path("walk.bvh").read_bytes()
    for words in (("clip", "reverse", "walk.bvh", "-o", name), ("convert", "walk.bvh", "--onto", PIP, "-o", name)):
        done = run(*words, "--force")
        assert done.returncode == 4
        assert "it is an input" in done.stderr
    assert Path("walk.bvh").read_bytes() == before


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM, signal.SIGHUP])
@pytest.mark.long(but=1)
def test_a_stopped_run_says_so_in_one_line_and_leaves_nothing(number):
    words = [str(word) for word in ("convert", "walk.bvh", "--onto", PIP, "-o", "o.glb", "--picture", "o.png")]
    started = subprocess.Popen([sys.executable, "-m", "fairswap", *words], stderr=subprocess.PIPE, text=True)
    time.sleep(0.5)
    started.send_signal(number)
    _, said = started.communicate(timeout=30)
    assert started.returncode in (128 + number, 0)  # a fast machine is done by then
    if started.returncode:
        assert said in (
            "fairswap: stopped; nothing was left half written.\n",
            "fairswap: stopped; nothing was begun.\n",  # a slow one is still loading
        )
    assert not list(Path().glob(".fairswap*"))


def test_ctrl_c_while_modules_are_loaded_is_one_line():
    code = """
import os, signal, sys
class Interrupting:
    def find_spec(self, name, *_):
        if name == "click":
            os.kill(os.getpid(), signal.SIGINT)
sys.meta_path.insert(0, Interrupting())
from fairswap.__main__ import run
run()
"""
    done = subprocess.run([sys.executable, "-c", code, "bones", "list"], capture_output=True, text=True)
    assert done.returncode == 130
    assert done.stderr == "fairswap: stopped; nothing was begun.\n"
