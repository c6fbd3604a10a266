"""The command line as a user meets it, and the README's promises."""

import json
import os
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

import fairswap
from making import FREE, TROUPE, act, figure, run, swap_between
from rewrites import rewritten

README = Path(__file__).parent.parent / "README.md"


@pytest.mark.long
def test_clips_are_picked_kept_and_spread_over_files():
    fairswap.save("two.glb", figure("Juniper"), [act("turn-and-bow", "Juniper"), act("walk", "Juniper")])
    fairswap.save("osric.glb", figure("Osric"), [act("walk", "Osric")])
    done = run("convert", "two.glb", "--onto", "osric.glb", "-o", "all", "--json")
    assert done.returncode == 0, done.stderr
    assert sorted(path.name for path in Path("all").iterdir()) == ["Turn and bow.glb", "Walk.glb"]
    for flag, expected in (((), ["Walk"]), (("--keep-clips",), ["Walk", "Walk"])):
        run("convert", "two.glb", "--onto", "osric.glb", "-o", "one.glb", "--clip", "Walk", "--force", *flag)
        assert [clip.name.removesuffix(" (2)") for clip in fairswap.load("one.glb").clips] == expected
    run("convert", "two.glb", "--onto", "osric.glb", "-o", "bow.bvh", "--clip", "Turn and bow")
    assert fairswap.load("bow.bvh").clips[0].frames == act("turn-and-bow", "Juniper").frames
    assert run("convert", "two.glb", "--onto", "osric.glb", "-o", "both.bvh").returncode == 2
    missing = run("convert", "two.glb", "--onto", "osric.glb", "-o", "x.glb", "--clip", "Jump")
    assert (missing.returncode, "'Turn and bow'" in missing.stderr) == (2, True)


def test_a_target_with_a_second_figure_says_which_one_moves():
    from fairswap.formats.gltf.opening import open_container

    made = open_container(TROUPE / "osric.glb")
    raw = json.loads(json.dumps(made.raw))
    count, joints = len(raw["nodes"]), raw["skins"][0]["joints"]
    raw["nodes"] += [{"name": f"copy {i}", "children": [count + i + 1]} for i in range(3)] + [{"name": "copy 3"}]
    raw["scenes"][0]["nodes"] += [count, len(raw["nodes"])]
    raw["nodes"].append({"name": "cloak", "mesh": 0, "skin": 1})
    four = [count + i for i in range(4)]
    raw["skins"].append({"joints": (four * (len(joints) // 4 + 1))[:4]})
    raw["meshes"].append(raw["meshes"][0])
    import base64

    data = base64.b64encode(bytes(made.buffers[0])).decode()
    raw["buffers"] = [{"byteLength": len(made.buffers[0]), "uri": f"data:;base64,{data}"}]
    raw["nodes"][-1]["mesh"] = 1
    raw["meshes"][1] = {"primitives": [{**raw["meshes"][0]["primitives"][0]}]}
    attributes = dict(raw["meshes"][1]["primitives"][0]["attributes"])
    attributes.pop("JOINTS_0"), attributes.pop("WEIGHTS_0")
    raw["meshes"][1]["primitives"][0]["attributes"] = attributes
    Path("two.gltf").write_text(json.dumps(raw))
    fairswap.save("walk.bvh", figure("Osric"), [act("walk", "Osric")])
    done = run("convert", "walk.bvh", "--onto", "two.gltf", "-o", "out.glb", "--json")
    assert done.returncode == 0, done.stderr
    findings = json.loads(done.stdout)["findings"]
    assert [f["severity"] for f in findings if f["code"] == "several-figures"] == ["warning"]


def test_bones_lists_and_shows():
    listed = json.loads(run("bones", "list", "--json").stdout)["profiles"]
    assert [row["name"] for row in listed] == ["fernway", "h-anim", "quillmoor", "saltglass", "vrm-1"]
    shown = json.loads(run("bones", "show", TROUPE / "osric.glb", "--json").stdout)
    assert shown["roles"]["lower_arm_left"] == "salt:Port Cuff"
    assert shown["missing"] == []
    assert "salt:Port Brow Inner" in shown["other"]
    assert "lower_arm_left" in run("bones", "show", "quillmoor").stdout


@pytest.mark.parametrize(
    ("words", "status", "says"),
    [
        (["convert"], 2, "Missing"),
        (["dance"], 2, "dance"),
        (["inspect", "nothing.glb"], 3, "there is no such file"),
        (["inspect", "figure.xyz"], 2, "suffix '.xyz'"),
        (["bones", "show", "nowhere"], 3, "no such profile"),
    ],
)
def test_wrong_usage_and_missing_files_end_with_their_status(words, status, says):
    done = run(*words)
    assert done.returncode == status
    assert says in done.stderr
    assert "Traceback" not in done.stderr


def test_a_closed_pipe_is_no_error():
    reader, writer = os.pipe()
    os.close(reader)
    done = subprocess.run(
        [sys.executable, "-m", "fairswap", "bones", "show", "quillmoor"],
        stdout=writer,
        stderr=subprocess.PIPE,
        timeout=60,
    )
    os.close(writer)
    assert b"Traceback" not in done.stderr


def test_an_empty_clip_of_one_frame_and_unlike_rates_can_be_compared():
    clip = act("walk", "Osric")
    one = fairswap.Clip("one", clip.rate, clip.at([0.5]))
    swap = swap_between(figure("Osric"), figure("Juniper"))
    found = fairswap.compare((figure("Osric"), one), (figure("Juniper"), swap.convert(one, FREE)))
    assert found.looks_same
    coarse = fairswap.Clip("coarse", clip.rate / 2, clip.at(np.arange(91) / 15))
    found = fairswap.compare((figure("Osric"), clip), (figure("Osric"), coarse))
    assert found.duration_difference_s == 0.0
    assert 0.0 < found.limbs_mean_degrees < 1.0


def test_figures_and_clips_show_themselves_and_give_tables():
    clip, juniper = act("walk", "Juniper"), figure("Juniper")
    assert "181 frames" in repr(clip)
    assert "79 bones" in repr(juniper)
    assert "<table>" in clip._repr_html_()
    assert "1.8" in juniper._repr_html_()
    assert clip.table().shape == (181, 79 * 3)
    assert juniper.table().set_index("bone").loc["skull", "y"] == pytest.approx(1.62)
    assert len(fairswap.compare((juniper, clip), (juniper, clip)).table()) > 40


def test_public_names_are_all_there_and_nothing_heavy_is_loaded_for_help():
    assert all(getattr(fairswap, name) is not None for name in fairswap.__all__)
    code = """
import sys
sys.argv = ['fairswap', '--help']
try:
    from fairswap.cli.main import run; run()
except SystemExit: pass
print([m for m in ('numpy', 'scipy', 'rich', 'PIL', 'msgspec', 'pandas') if m in sys.modules], file=sys.stderr)
"""
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=60)
    assert done.stderr.strip() == "[]"
    each = code.replace("import sys", "import sys; from importlib import import_module").replace(
        "from fairswap.cli.main import run; run()",
        "from fairswap.cli.main import COMMANDS; [import_module(module) for module, _ in COMMANDS.values()]",
    )
    done = subprocess.run([sys.executable, "-c", each], capture_output=True, text=True, timeout=60)
    assert done.stderr.strip() == "['msgspec']"
    code = code.replace("['fairswap', '--help']", f"['fairswap', 'inspect', {str(TROUPE / 'osric.glb')!r}]")
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=60)
    assert done.stderr.strip() == "['numpy', 'msgspec']"


@pytest.mark.long
def test_ten_minutes_at_sixty_frames_are_carried_within_400_megabytes():
    """The whole command, from text to GLB, on figures of some 75 bones; memory as the system counts it."""
    clip = act("walk", "Osric")
    times = np.arange(36_000) / 60.0
    there_and_back = np.abs((times * 30) % (2 * (clip.frames - 1)) - (clip.frames - 1))
    long = fairswap.Clip("long", fairswap.model.rate.Fraction(60), clip.poses.at(there_and_back))
    fairswap.save("long.bvh", figure("Osric"), [long])
    code = (
        "import resource, subprocess, sys\n"
        "subprocess.run([sys.executable, '-m', 'fairswap', *sys.argv[1:]], check=True)\n"
        "print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)"
    )
    words = ["convert", "long.bvh", "--onto", TROUPE / "juniper.glb", "-o", "out.glb", "--quiet"]
    done = subprocess.run(
        [sys.executable, "-c", code, *map(str, words)], capture_output=True, text=True, check=True, timeout=120
    )
    assert int(done.stdout) / 1024 < 400
    assert fairswap.load("out.glb").clips[0].frames == 36_000


def test_what_was_meant_is_guessed_at():
    fairswap.save("walk.bvh", figure("Osric"), [act("walk", "Osric")])
    said = run("convert", TROUPE / "pip.glb", "--onto", "walk.bvh", "-o", "out.glb").stderr
    assert "is it the other way round? walk has clips" in said
    Path("moves").mkdir()
    assert "it is a folder. Name a file in it" in run("inspect", "moves").stderr
    said = run("convert", "walk.bvh", "--onto", TROUPE / "pip.glb", "-o", "out.ply2").stderr
    assert ".usdz" in said
    assert ".ply," not in said


def test_of_several_motions_it_is_told_which_one_is_odd():
    fairswap.save("walk.glb", figure("Pip"), [act("walk", "Pip")])
    lying = rewritten(Path("walk.glb").read_bytes(), "lying on its back")
    Path("lying.glb").write_bytes(lying)
    made = fairswap.convert(["walk.glb", "lying.glb"], TROUPE / "juniper.glb")
    (told,) = [finding for finding in made.findings if finding.code == "space-corrected"]
    assert told.place.startswith("lying.glb, ")
    alone = fairswap.convert("lying.glb", TROUPE / "juniper.glb")
    (told,) = [finding for finding in alone.findings if finding.code == "space-corrected"]
    assert "lying.glb" not in told.place
