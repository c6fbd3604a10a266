"""The full example, run once, and what the README promises of it."""

import hashlib
import json
import re
import shlex
import shutil
from dataclasses import replace
from pathlib import Path

import click
import jsonschema
import msgspec
import numpy as np
import pytest
from PIL import Image

import fairswap
from fairswap.cli.demo import DemoReport, lines
from fairswap.cli.examples import EXAMPLES
from fairswap.cli.main import command
from fairswap.cli.schemas import REPORTS, reports_schema
from making import act, figure, keeps_to_schema, published_schema, run
from test_documents import lines_of

pytestmark = pytest.mark.long

README = Path(__file__).parent.parent / "README.md"


@pytest.fixture(scope="module")
def street(tmp_path_factory):
    """The full example, run once by its command."""
    folder = tmp_path_factory.mktemp("street") / "lantern-street"
    done = run("demo", folder, "--no-pictures", "--json")
    assert done.returncode == 0, done.stderr
    return folder, json.loads(done.stdout)


def test_the_demo_carries_both_ways_and_proves_it(street):
    folder, report = street
    names = {path.name for path in folder.iterdir()}
    assert {"juniper.glb", "osric.glb", "osric-walk.bvh", "juniper-turn-and-bow.glb"} <= names
    for row in report["conversions"]:
        assert row["result"] in names
        assert row["picture"] == ""  # all of them are drawn by `make demo`
        against = ["as_transferred", "as_transferred_against_performed_directly"]
        # Arms that meet something are solved for each body, also when it performs directly; and Pip has few fingers.
        if row["act"] in ("lamp", "clap") or row["motion"].startswith("pip"):
            del against[1]
        for other in against:
            assert row[other]["limbs_mean_degrees"] <= 0.5
            assert row[other]["limbs_worst_degrees"] <= 2.0
        assert row["against_source"]["result_footing"]["skate_cm_s"] < 0.5
        assert row["touch_off_cm"] < 1.0


# What a reader of the recipes brings along.
BROUGHT = {"statue.obj", "line.wav", "meta.toml", "takes/*.bvh", "results"}
FILE_WORD = re.compile(r"[\w./*-]+\.(?:glb|bvh|toml|csv|vrm|vrma|obj|wav|png|html|svg)")


@pytest.mark.parametrize("page", [*sorted((README.parent / "docs" / "do").glob("*.md")), README], ids=lambda p: p.stem)
def test_a_recipe_reads_what_is_there_and_writes_over_nothing(page, street):
    """From the first line of the page to the last, in the folder of the demo."""
    there = {path.name for path in street[0].iterdir()} | BROUGHT
    for line in lines_of(page):
        words = shlex.split(line.replace("lantern-street/", ""), comments=True)[1:]
        made = {
            words[i + 1] for i, word in enumerate(words[:-1]) if word in ("-o", "--picture", "--view", "--write-plan")
        }
        read = {word for word in words if FILE_WORD.fullmatch(word)} - made
        if "…" in line or {word for word in words if word.isupper() and len(word) > 3}:
            continue  # the form of a command, not a command
        assert read <= there, f"{line}: {read - there}"
        assert "--force" in words or not made & (there - {"results"}), line
        there |= made


def test_reports_keep_to_their_published_schema(street):
    """All that examples do not print: those that are not run as examples, and other forms of a report."""
    folder, report = street
    motion, figure_file, result = folder / "osric-walk.bvh", folder / "juniper.glb", folder / "juniper-walk.glb"
    fairswap.save("doubled.glb", *_with_a_copied_skeleton())
    fairswap.save("moves/idle.bvh", figure("Pip"), [act("idle", "Pip")])
    commands = {
        "bones merge": ["doubled.glb", "-o", "merged.glb"],
        "bones show FILE": [figure_file, "--picture", "b.png"],
        "reel": [figure_file, "-o", "reel.glb"],
        "fit": [folder / "pip.glb", "--platform", "saltglass", "-o", "fit.glb"],
        "clip join --separate": [result, result, "-o", "separate.glb"],
        "clip mirror FOLDER": ["moves", "-o", "mirrored"],
        "plan new": [motion, "--onto", folder / "pip.glb", "-o", "job.toml"],
        "plan run": ["job.toml", "-o", "results"],
        "plan status": ["results"],
        "convert --onto --onto": [motion, "--onto", folder / "pip.glb", "--onto", figure_file, "-o", "both"],
    }
    by_example = {name for name in EXAMPLES if name not in _LONG} | {"bones show P", "clip thin --every-frame"}
    # Those that take long are held against it where they are tested.
    assert {*commands, *by_example, "demo", "rig", "dress"} - {"bones show"} == set(REPORTS)
    published = published_schema()
    assert published == json.loads(json.dumps(reports_schema())), (
        "write it again: python -m fairswap.cli.schemas > docs/reports.schema.json"
    )
    jsonschema.Draft202012Validator.check_schema(published)
    for name, words in commands.items():
        plain = re.sub(r" (FILE|P|FOLDER|--onto --onto)$", "", name)
        done = run(*plain.split(), *words, "--json")
        assert done.returncode in (0, 1), (name, done.stderr)
        keeps_to_schema(name, done.report)
    keeps_to_schema("demo", report)


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
    motions, pictures = (
        {hashlib.sha256(Path(path).read_bytes()).hexdigest() for path in paths}
        for paths in (("a.glb", "b.glb", folder / "juniper-walk.glb"), ("a.png", "b.png"))
    )
    assert len(motions) == 1
    assert len(pictures) == 1


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
        == {"skate_cm_s", "lowest_cm_s", "sole_below_cm", "float_cm", "off_floor_cm", "standing_share"}
    )
    wrong = run("compare", folder / "osric-walk.bvh", folder / "osric-turn-and-bow.glb", "--picture", "wrong.png")
    assert wrong.returncode == 1
    assert "does NOT look the same" in wrong.stdout
    with Image.open("wrong.png") as picture:
        assert picture.width == 1800


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


# Those that take long, or files of strangers, are tested by themselves.
_LONG = {"demo", "rig", "dress", "fit", "reel", "plan run", "plan status", "bones merge"}
# What prints another report than its command does otherwise.
_REPORT_OF = {
    "bones show quillmoor --picture quillmoor.png": "bones show P",
    "clip thin juniper-walk.glb --every-frame -o even.glb": "clip thin --every-frame",
}


def test_every_command_shows_two_examples_that_run_in_the_demo_s_folder(street, monkeypatch, tmp_path):
    folder, _ = street
    shutil.copytree(folder, "street")
    monkeypatch.chdir("street")
    for module in ("framing", "face_sheet"):  # drawn coarsely: how it looks is asked elsewhere
        monkeypatch.setattr(f"fairswap.picture.{module}._FINE", 1)
    Path("nod.toml").write_text('fairswap = "layers/1"\n[[layer]]\nrole = "head"\nforward = 9\n')
    known = set(commands_of(command, ""))
    assert set(EXAMPLES) == known
    # What others need is made first.
    for name in sorted(EXAMPLES, key=lambda name: name not in ("plan new", "face draft")):
        assert len(EXAMPLES[name]) == 2
        shown = run(*name.split(), "--help").stdout
        for number, words in enumerate(EXAMPLES[name]):
            assert f"fairswap {words}" in shown
            told = shlex.split(words)
            assert told[: len(name.split())] == name.split()
            if name in _LONG:
                continue
            for_programs = number == 1 or "--json" in told
            if for_programs and "--json" not in told:
                told.append("--json")
            done = run(*[one for word in told for one in spread(word)])
            fine = (0, 1) if name in ("check", "compare") else (0,)
            assert done.returncode in fine or (name == "plan status" and done.returncode == 3), (words, done.stderr)
            if for_programs:
                keeps_to_schema(_REPORT_OF.get(words.removesuffix(" --json"), name), done.report)


def commands_of(one, name):
    """The names of all commands below a group."""
    if not isinstance(one, click.Group):
        yield name
        return
    for below in one.list_commands(click.Context(one)):
        yield from commands_of(one.get_command(click.Context(one), below), f"{name} {below}".strip())


def spread(word):
    """A pattern as a shell hands it on."""
    return sorted(str(path) for path in Path().glob(word)) if "*" in word else [word]
