"""The front door: what the command line can do, Python can in a line or two, by names, files, bytes."""

import ast
import doctest
import importlib
import inspect as python_inspect
import io
import json
import pkgutil
import re
import runpy
import subprocess
import sys
from dataclasses import replace
from pathlib import Path

import click
import numpy as np
import pytest

import fairswap
from fairswap.cli import remedies
from fairswap.cli.main import COMMANDS, status_of
from fairswap.errors import REMEDIES
from making import TROUPE, act, figure, random_poses, run

ROOT = Path(__file__).parents[1]
SOURCE = Path(fairswap.__file__).parent
TOPICS = ("bones", "clips", "face", "picture", "platform", "pose")
EXAMPLES = sorted((ROOT / "examples").glob("*.py"))


def public():
    """Every public function and class, by its full name."""
    for home in (fairswap, *(getattr(fairswap, topic) for topic in TOPICS)):
        for name in home.__all__:
            thing = getattr(home, name)
            if not python_inspect.ismodule(thing):
                yield f"{home.__name__}.{name}", thing


def test_every_public_name_says_what_it_is_and_shows_an_example_that_runs():
    missing = [name for name, thing in public() if not (thing.__doc__ or "").strip() or ">>>" not in thing.__doc__]
    assert not missing
    skipped = [name for name, thing in public() if "+SKIP" in thing.__doc__]
    assert not skipped


def test_every_public_function_explains_its_options_or_has_none_to_explain():
    for name, function in public():
        if not python_inspect.isfunction(function):
            continue
        signature = python_inspect.signature(function)
        assert signature.return_annotation is not python_inspect.Signature.empty, name
        needs = [p.name for p in signature.parameters.values() if p.kind == p.KEYWORD_ONLY and p.annotation == "bool"]
        for option in needs:
            assert option in function.__doc__, f"{name}: {option}"


def _made_once(verb):
    made = {}

    def asked(*what, **more):
        words = f"{what} {more}"
        if words not in made:
            made[words] = verb(*what, **more)
        return made[words]

    return asked


@pytest.mark.long
def test_examples_in_docstrings_run(monkeypatch):
    for slow in ("rig", "dress", "reel"):  # what several examples make alike is made once
        monkeypatch.setattr(fairswap, slow, _made_once(getattr(fairswap, slow)))
    tried = 0
    for module in pkgutil.walk_packages(fairswap.__path__, "fairswap."):
        if not module.name.endswith("__main__"):
            result = doctest.testmod(importlib.import_module(module.name), optionflags=doctest.ELLIPSIS)
            assert result.failed == 0, module.name
            tried += result.attempted
    assert tried > 200


def test_the_doors_name_what_is_there_and_nothing_else():
    for home in (fairswap, *(getattr(fairswap, topic) for topic in TOPICS)):
        assert list(home.__all__) == sorted(home.__all__, key=lambda n: (not n[0].isupper(), n)) or home is fairswap
        assert set(home.__all__) <= set(dir(home))
        for name in home.__all__:
            assert getattr(home, name) is getattr(home, name)
        with pytest.raises(AttributeError, match="nonsense"):
            home.nonsense  # noqa: B018


@pytest.mark.parametrize("path", EXAMPLES, ids=lambda path: path.stem)
@pytest.mark.long(but=1)
def test_an_example_runs_within_thirty_lines(path, capsys, monkeypatch):
    monkeypatch.setattr(sys, "argv", [str(path)])
    assert len(path.read_text().splitlines()) <= 30
    assert ast.get_docstring(ast.parse(path.read_text()))
    # Through the front door: nothing from inside.
    assert set(re.findall(r"^(?:from|import) (\w+[\w.]*)", path.read_text(), re.M)) <= {"fairswap", "sys", "pathlib"}
    runpy.run_path(str(path), run_name="__main__")
    said = capsys.readouterr().out
    assert said.strip()
    assert "look again" not in said
    for picture in Path().glob("*.png"):
        assert picture.read_bytes()[:8] == b"\x89PNG\r\n\x1a\n"


def test_there_is_an_example_for_each_station_of_the_work_and_the_readme_leads_to_them():
    assert [int(path.name[:2]) for path in EXAMPLES] == list(range(1, 13))
    assert "(examples)" in (ROOT / "README.md").read_text()


@pytest.mark.parametrize("suffix", [".glb", ".bvh", ".csv"])
def test_bytes_and_open_files_are_read_and_written_like_paths(suffix):
    pip, clip = figure("Pip"), act("idle", "Pip")
    fairswap.save(f"path{suffix}", pip, [clip])
    content = Path(f"path{suffix}").read_bytes()
    memory = io.BytesIO()
    fairswap.save(memory, pip, [clip], format=suffix)
    assert memory.getvalue() == content
    with open(f"open{suffix}", "wb") as file:
        fairswap.save(file, pip, [clip], format=suffix)
    assert Path(f"open{suffix}").read_bytes() == content
    with open(f"path{suffix}", "rb") as file:
        ways = [fairswap.load(f"path{suffix}"), fairswap.load(content, format=suffix), fairswap.load(file)]
    memory.seek(0)
    ways.append(fairswap.load(memory, format=suffix))
    for document in ways:
        assert document.clips[0].frames == clip.frames
        assert np.array_equal(document.clips[0].poses.rotation_tracks, ways[0].clips[0].poses.rotation_tracks)


def test_bytes_that_do_not_say_what_they_are_or_lie_are_refused():
    with pytest.raises(fairswap.UsageError, match="suffix"):
        fairswap.load(b"glTF")
    with pytest.raises(fairswap.InputError, match="not a glTF"):
        fairswap.load(b"HIERARCHY", format=".glb")
    with pytest.raises(fairswap.InputError):
        fairswap.load(b"", format=".bvh")
    with pytest.raises(fairswap.UsageError, match="several files"):
        fairswap.save(io.BytesIO(), figure("Pip"), [], format=".gltf")


def test_a_string_will_do_wherever_a_thing_of_ours_is_meant():
    walk, pip = fairswap.demo_motion("idle"), fairswap.demo_file("pip.glb")
    fairswap.bones.draft(pip).save("family.toml")
    fairswap.face.draft(pip).chart.save("face.toml")
    fairswap.pose.save(fairswap.demo_file("juniper.glb"), parts=["fingers"]).save("hand.toml")
    Path("layer.toml").write_text('fairswap = "layers/1"\n[[layer]]\nrole = "head"\nturn = [5, 0, 0]\n')
    Path("mine.toml").write_text(fairswap.platform.template("mine"))
    made = fairswap.convert(
        walk,
        pip,
        source=fairswap.SourceOptions(bones="quillmoor", reference="frame:0", clips="Idle"),
        target=fairswap.TargetOptions(bones="family.toml", reference="rest", hands="hand.toml"),
        motion=fairswap.MotionOptions(layers="layer.toml"),
        face=fairswap.FaceOptions(target_chart="face.toml"),
        platform="mine.toml",
    )
    assert [clip.name for clip in made.clips] == ["Idle"]
    assert made.fitted.platform.name == "mine"
    for wrong, says in (
        (lambda: fairswap.SourceOptions(bones="nobody"), "nobody"),
        (lambda: fairswap.TargetOptions(reference="frame:x"), "frame:x"),
        (lambda: fairswap.MotionOptions(layers="no.toml"), r"no\.toml"),
        (lambda: fairswap.MotionOptions(feet="glued"), "planted, free"),
        (lambda: fairswap.FaceOptions(which="half"), "all, only, none"),
        (lambda: fairswap.check(pip, "nowhere"), "nowhere"),
    ):
        with pytest.raises(fairswap.FairSwapError, match=says):
            wrong()


def test_python_and_the_command_line_give_the_same_bytes_and_numbers():
    fairswap.save("walk.glb", figure("Juniper"), [act("walk", "Juniper")])
    ran = run("convert", "walk.glb", "--onto", TROUPE / "pip.glb", "-o", "by-command.glb", "--json")
    made = fairswap.convert("walk.glb", TROUPE / "pip.glb")
    made.save("by-python.glb")
    assert Path("by-python.glb").read_bytes() == Path("by-command.glb").read_bytes()
    assert ran.report["clips"][0]["likeness"] == pytest.approx(made.done[0].comparison.likeness)
    again = fairswap.compare("walk.glb", "by-python.glb")
    assert again.limbs_mean_degrees == pytest.approx(made.done[0].comparison.limbs_mean_degrees, abs=0.01)


def test_several_motions_go_on_when_one_fails():
    fairswap.save("good.bvh", figure("Osric"), [act("walk", "Osric")])
    Path("bad.bvh").write_text("HIERARCHY nothing")
    made = fairswap.convert(["good.bvh", "bad.bvh"], TROUPE / "pip.glb")
    assert len(made.done) == 1
    assert [failure.file for failure in made.failures] == ["bad.bvh"]
    assert not made.looks_same
    with pytest.raises(fairswap.InputError, match=r"bad\.bvh"):
        fairswap.convert("bad.bvh", TROUPE / "pip.glb")


def test_where_no_motion_can_be_carried_over_nothing_is_written():
    """A figure without the motion looks like a result."""
    for name in ("one.bvh", "two.bvh"):
        Path(name).write_text("HIERARCHY nothing")
    with pytest.raises(fairswap.InputError, match=r"one\.bvh: none of 2 motions"):
        fairswap.convert(["one.bvh", "two.bvh"], TROUPE / "pip.glb")
    ran = run("convert", "one.bvh", "two.bvh", "--onto", TROUPE / "pip.glb", "-o", "out.glb")
    assert ran.returncode == 3
    assert "none of 2 motions could be carried over" in ran.stderr
    assert not Path("out.glb").exists()
    # Of one file whose figure is no body, too.
    skeleton = fairswap.Skeleton(("a", "b"), [-1, 0], [[0, 0, 0, 1]] * 2, [[0, 0, 0], [0, 1, 0]])
    clips = [fairswap.Clip(name, 30, random_poses(skeleton, 3, moved=(0,))) for name in ("up", "down")]
    fairswap.save("stick.glb", fairswap.Figure("stick", skeleton), clips)
    ran = run("convert", "stick.glb", "--onto", TROUPE / "pip.glb", "-o", "out.glb")
    assert ran.returncode == 4
    assert ran.stderr.count("stick.glb") == 1
    assert not Path("out.glb").exists()


def test_what_is_the_same_of_several_clips_is_said_once_and_only_of_those_carried_over():
    late = [replace(act(name, "Juniper"), start_s=0.5) for name in ("walk", "idle", "clap")]
    fairswap.save("late.glb", figure("Juniper"), late)
    told = run("inspect", "late.glb").stdout
    assert told.count("[clip-starts-late]") == 1
    assert "Walk, Idle, Clap: its first key" in told
    told = run("convert", "late.glb", "--onto", TROUPE / "pip.glb", "--clip", "Idle", "-o", "idle.glb").stdout
    assert "Idle: its first key" in told
    assert "Walk" not in told


# Errors and what to do about them, worded by each interface


def codes_in_source():
    """Every code that an error or a finding of the library is given."""
    for path in SOURCE.rglob("*.py"):
        if "cli" not in path.relative_to(SOURCE).parts:
            text = path.read_text()
            yield from re.findall(r'code(?:: str )?=\s?"([a-z-]+)"', text)
            yield from re.findall(r'Finding\(\s*"([a-z-]+)"', text)


def test_both_interfaces_word_the_same_codes_and_no_other():
    assert set(REMEDIES) == set(remedies.REMEDIES)
    assert set(REMEDIES) <= set(codes_in_source())


@pytest.mark.long
def test_the_library_never_speaks_of_flags():
    """Nothing below the command line names an option of it: errors carry a code and facts."""
    for path in SOURCE.rglob("*.py"):
        if "cli" in path.relative_to(SOURCE).parts:
            continue
        tree = ast.parse(path.read_text())
        docstrings = {
            id(node.body[0].value)
            for node in ast.walk(tree)
            if isinstance(node, ast.Module | ast.ClassDef | ast.FunctionDef)
            and node.body
            and isinstance(node.body[0], ast.Expr)
        }
        for node in ast.walk(tree):
            if isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in docstrings:
                assert not re.search(r"(^|\s)--[a-z]", node.value), f"{path}: {node.value}"


def test_python_and_the_command_line_word_a_remedy_each_in_its_own_way():
    fairswap.save("there.glb", figure("Pip"))
    with pytest.raises(fairswap.OutputError, match="force=True"):
        fairswap.save("there.glb", figure("Pip"))
    ran = run("reel", TROUPE / "pip.glb", "-o", "there.glb")
    assert ran.returncode == 4
    assert "--force" in ran.stderr
    assert "force=True" not in ran.stderr
    for name in remedies.REMEDIES:
        facts = {"platform": "P", "option": "--bones", "part": "source"}
        assert fairswap.FairSwapError("x", code=name, **facts).worded(REMEDIES)


def test_an_error_nobody_foresaw_is_ours_and_says_how_to_send_it(monkeypatch, capsys):
    def broken(*_, **__):
        raise ZeroDivisionError("division by zero")

    monkeypatch.setattr("fairswap.inspection.inspect", broken)
    assert status_of(["inspect", str(TROUPE / "pip.glb")]) == 70
    out, err = capsys.readouterr()
    assert out == ""
    assert len(err.strip().splitlines()) == 1
    for word in ("an error of ours", "ZeroDivisionError", "pip.glb", "--debug"):
        assert word in err
    assert status_of(["--debug", "inspect", str(TROUPE / "pip.glb")]) == 70
    assert "Traceback" in capsys.readouterr().err


# Reports


def test_the_published_schema_is_what_the_commands_are_typed_by():
    made = subprocess.run([sys.executable, "-m", "fairswap.cli.schemas"], capture_output=True, text=True, timeout=120)
    assert json.loads(made.stdout) == json.loads((ROOT / "docs" / "reports.schema.json").read_text())
    untold = [name for name, row in json.loads(made.stdout)["$defs"].items() if not row.get("description")]
    assert not untold


@pytest.mark.parametrize("name", COMMANDS)
def test_every_command_explains_itself(name):
    ran = run(name, "--help")
    assert ran.returncode == 0
    assert "Usage: fairswap" in ran.stdout
    command = importlib.import_module(COMMANDS[name][0]).command
    for each in getattr(command, "commands", {name: command}).values():
        assert each.help, each.name
        assert "<=" not in each.get_help(click.Context(each)), each.name  # ranges are said in words
        untold = [option.name for option in each.params if isinstance(option, click.Option) and not option.help]
        assert not untold, each.name
