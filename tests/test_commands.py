"""The command line as a user meets it, and the README's promises."""

import json
import os
import re
import subprocess
import sys
import time
from dataclasses import replace
from pathlib import Path

import jsonschema
import msgspec
import numpy as np
import pytest
from PIL import Image

import fairswap
from fairswap.cli.demo import DemoReport, lines
from fairswap.cli.schemas import REPORTS, reports_schema
from making import FREE, TROUPE, act, figure, run, swap_between

README = Path(__file__).parent.parent / "README.md"


@pytest.fixture(scope="session")
def street(tmp_path_factory, worker_id):
    """The full example, run once by its command; workers that come later wait for it."""
    base = tmp_path_factory.getbasetemp()
    shared = (base if worker_id == "master" else base.parent) / "street"
    folder, report = shared / "lantern-street", shared / "report.json"
    try:
        shared.mkdir()
    except FileExistsError:
        for _ in range(3000):
            if report.exists():
                break
            time.sleep(0.1)
    else:
        done = run("demo", folder, "--json")
        assert done.returncode == 0, done.stderr
        report.with_suffix(".part").write_text(done.stdout)
        report.with_suffix(".part").rename(report)
    return folder, json.loads(report.read_text())


def test_the_demo_carries_both_ways_and_proves_it(street):
    folder, report = street
    names = {path.name for path in folder.iterdir()}
    assert {"juniper.glb", "osric.glb", "osric-walk.bvh", "juniper-turn-and-bow.glb"} <= names
    for row in report["conversions"]:
        assert {row["result"], row["picture"]} <= names
        against = ["as_transferred", "as_transferred_against_performed_directly"]
        # Arms that meet something are solved for each body, also when it performs directly; and Pip has few fingers.
        if row["act"] in ("lamp", "clap") or row["motion"].startswith("pip"):
            del against[1]
        for other in against:
            assert row[other]["limbs_mean_degrees"] <= 0.5
            assert row[other]["limbs_worst_degrees"] <= 2.0
        assert row["against_source"]["result_footing"]["skate_cm_s"] < 0.5
        assert row["touch_off_cm"] < 1.0


def test_reports_keep_to_their_published_schema(street):
    folder, report = street
    motion, figure_file, result = folder / "osric-walk.bvh", folder / "juniper.glb", folder / "juniper-walk.glb"
    Path("tracks.csv").write_text("time_s,jaw_drop\n0,0\n0.5,1\n1,0\n")
    fairswap.save("doubled.glb", *_with_a_copied_skeleton())
    Path("turned.toml").write_text('fairswap = "layers/1"\n[[layer]]\nrole = "head"\nturn = [0, 9, 0]\n')
    commands = {
        "inspect": [folder / "osric.glb"],
        "convert": [motion, "--onto", figure_file, "-o", "o.glb"],
        "compare": [motion, result, "--picture", "c.png", "--curves", "cc.png"],
        "bones list": [],
        "bones draft": [folder / "osric.glb", "-o", "p.toml"],
        "bones check": ["p.toml", folder / "osric.glb"],
        "bones match": [motion, figure_file],
        "bones show FILE": [figure_file, "--picture", "b.png"],
        "bones show P": ["saltglass"],
        "bones merge": ["doubled.glb", "-o", "merged.glb"],
        "pose measure": [folder / "osric.glb", "--against", figure_file],
        "pose set": [figure_file, "--to", "a", "-o", "a.glb"],
        "pose save": [figure_file, "-o", "pose.toml"],
        "reel": [figure_file, "-o", "reel.glb"],
        "check": [figure_file, "--platform", "quillmoor"],
        "fit": [folder / "pip.glb", "--platform", "saltglass", "-o", "fit.glb"],
        "platform new": ["ours", "-o", "ours.toml"],
        "platform list": [],
        "platform show": ["fernway"],
        "face draft": [figure_file, "-o", "face.toml"],
        "face check": ["face.toml", figure_file],
        "face match": ["face.toml", folder / "pip.glb"],
        "face show": [folder / "pip.glb", "-o", "f.png"],
        "face apply": ["tracks.csv", "--onto", figure_file, "-o", "fa.glb", "--picture", "fa.png"],
        "clip cut": [motion, "--piece", "a=0..2", "-o", "cut.bvh"],
        "clip drop": [result, "--all", "-o", "drop.glb"],
        "clip rename": [motion, "--to", "x", "-o", "rename.bvh"],
        "clip trim": [motion, "--from", "1", "-o", "trim.bvh"],
        "clip join": [motion, motion, "-o", "j.bvh"],
        "clip join --separate": [result, result, "-o", "separate.glb"],
        "clip blend": [motion, motion, "--part", "arms", "-o", "blend.bvh"],
        "clip loop": [motion, "-o", "l.bvh"],
        "clip layer": [result, "--layer", "turned.toml", "-o", "layered.glb"],
        "clip mirror": [result, "-o", "m.glb"],
        "clip speed": [motion, "--times", "2", "-o", "speed.bvh"],
        "clip reverse": [motion, "-o", "reverse.bvh"],
        "clip place": [motion, "-o", "place.bvh"],
        "clip rate": [motion, "--to", "24", "-o", "rate.bvh"],
        "clip thin": [result, "--mm", "5", "-o", "t.glb"],
        "clip thin --every-frame": [result, "-o", "every.glb"],
        "clip clean": [motion, "-o", "cl.bvh"],
        "clip describe": [motion],
        "clip draw": [motion, "--role", "head", "-o", "d.png"],
    }
    assert {*commands, "demo"} == set(REPORTS)
    published = json.loads((README.parent / "docs" / "reports.schema.json").read_text())
    assert published == json.loads(json.dumps(reports_schema())), (
        "write it again: python -m fairswap.cli.schemas > docs/reports.schema.json"
    )
    validator = jsonschema.Draft202012Validator
    validator.check_schema(published)
    for name, words in commands.items():
        done = run(*name.removesuffix(" FILE").removesuffix(" P").split(), *words, "--json")
        assert done.returncode in (0, 1), (name, done.stderr)
        validator(published["properties"][name] | {"$defs": published["$defs"]}).validate(done.report)
    validator(published["properties"]["demo"] | {"$defs": published["$defs"]}).validate(report)


def _with_a_copied_skeleton():
    """Osric with every bone twice, one beside the other, as clothes bring them."""
    osric = figure("Osric")
    old = osric.skeleton
    count = len(old)
    parents = np.concatenate([old.parents, np.where(old.parents < 0, -1, old.parents + count)])
    twice = fairswap.Skeleton(
        (*old.names, *(f"{name}.001" for name in old.names)), parents, np.tile(old.rest_rotations, (2, 1)),
        np.tile(old.rest_translations, (2, 1)),
    )  # fmt: skip
    meshes = [replace(m, bind_matrices=np.tile(m.bind_matrices, (2, 1, 1)), origin=None) for m in osric.meshes]
    worn = [replace(m, name="worn", joints=m.joints + count) for m in meshes]
    return replace(osric, skeleton=twice, meshes=(*meshes, *worn), source=None), []


def test_the_demo_says_what_it_did_and_what_to_do_next(street):

    folder, report = street
    told = "\n".join(lines(msgspec.convert(report, DemoReport)))
    assert all(row["result"] in told for row in report["conversions"])
    commands = re.findall(r"^    fairswap (.*)$", told, re.MULTILINE)
    assert len(commands) == 3
    for line in commands:
        assert run(*line.split()).returncode == 0, line
    assert run("demo", folder).returncode == 4  # nothing is overwritten unasked


def test_the_same_command_twice_writes_the_same_bytes(street):
    folder, _ = street
    for name in ("a", "b"):
        done = run(
            "convert",
            folder / "osric-walk.bvh",
            "--onto",
            folder / "juniper.glb",
            "-o",
            f"{name}.glb",
            "--picture",
            f"{name}.png",
        )
        assert done.returncode == 0, done.stderr
    assert Path("a.glb").read_bytes() == Path("b.glb").read_bytes() == (folder / "juniper-walk.glb").read_bytes()
    assert Path("a.png").read_bytes() == Path("b.png").read_bytes()


def test_inspect_takes_stock(street):
    folder, _ = street
    report = json.loads(run("inspect", folder / "osric-walk.bvh", "--json").stdout)
    assert set(report) >= {"file", "format", "space", "figures", "clips", "findings"}
    assert report["space"] == {"up": "+Z", "forward": "-Y", "unit": "in", "height_m": report["space"]["height_m"]}
    assert 1.3 < report["space"]["height_m"] < 1.6
    found = report["figures"][0]
    assert set(found) >= {"name", "bones", "roles", "meshes", "vertices", "max_influences", "morphs", "rest_pose"}
    assert found["rest_pose"] == {"kind": "arms down", "arm_degrees": 72.0}
    clip = report["clips"][0]
    assert clip | {"travel_m": 0, "keyed_bones": 0} == {
        "name": "osric-walk", "frames": 181, "rate": 30.0, "rate_fraction": "30", "duration_s": 6.0, "keyed_bones": 0,
        "travel_m": 0, "still": False,
    }  # fmt: skip
    # Eleven steps of a leg's two thirds.
    assert clip["travel_m"] == pytest.approx(6.0 / 0.56 * 0.66 * 0.62, rel=0.02)
    text = run("inspect", folder / "juniper.glb").stdout
    for word in ("1.8", "79 bones", "quillmoor", "rests in T", "46 morphs", "clips    none"):
        assert word in text


def test_compare_reports_each_role_and_tells_unlike_from_alike(street):
    folder, _ = street
    report = json.loads(run("compare", folder / "osric-walk.bvh", folder / "juniper-walk.glb", "--json").stdout)
    roles = {row["role"]: row for row in report["roles"]}
    assert {"hips", "head", "upper_arm_left", "lower_leg_right", "index_proximal_left", "foot_left"} <= set(roles)
    assert (
        set(report["source_footing"])
        == set(report["result_footing"])
        == {"skate_cm_s", "lowest_cm_s", "sole_below_cm", "float_cm", "standing_share"}
    )
    wrong = run("compare", folder / "osric-walk.bvh", folder / "osric-turn-and-bow.glb", "--picture", "wrong.png")
    assert wrong.returncode == 1
    assert "does NOT look the same" in wrong.stdout
    with Image.open("wrong.png") as picture:
        assert picture.width == 1800


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
    from fairswap.formats.gltf.container import open_container

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


def test_the_five_lines_of_the_readme_do_a_conversion(street, monkeypatch):
    folder, _ = street
    monkeypatch.chdir(folder)
    code = re.search(r"```python\n(.*?)```", README.read_text(), re.DOTALL)
    assert code is not None
    lines = [line for line in code[1].splitlines() if line.strip() and not line.startswith(("#", "import"))]
    assert len(lines) <= 5
    names: dict = {}
    exec(code[1], names)
    assert names["proof"].looks_same
    assert Path("my-walk.glb").exists()


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
    code = code.replace("['fairswap', '--help']", f"['fairswap', 'inspect', {str(TROUPE / 'osric.glb')!r}]")
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=60)
    assert done.stderr.strip() == "['numpy', 'msgspec']"


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
