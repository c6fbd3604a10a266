"""Plans: what is done, what is not done twice, and what a killed, changed or contradicting job comes to."""

import contextlib
import csv
import hashlib
import json
import os
import random
import re
import shutil
import signal
import subprocess
import sys
import time
from functools import cache, partial
from pathlib import Path

import msgspec
import psutil
import pytest

import fairswap
from deadly import Deadly, die_handing_over, die_of_c
from fairswap.plans.inputs import LEDGER
from fairswap.plans.ledger import Ledger, WrittenFile
from fairswap.plans.made import Made, Measures, Told
from fairswap.plans.pool import Pool, bytes_for, bytes_kept, each_beside, path_of
from fairswap.plans.recipe import Plan
from fairswap.plans.running import RunOptions, carried_out
from fairswap.plans.tasks import clips_in, expand
from fairswap.plans.work import Workshop
from making import TROUPE, act, figure, run

ACTS = ("walk", "clap", "idle")


@cache
def half_a_second(name):
    return fairswap.clips.trim(act(name, "Pip"), start="0", end="0.5")


def street(*names, figures=("pip",), more=""):
    """Motions and figures in this folder, and a plan for them."""
    Path("moves").mkdir(exist_ok=True)
    for name in names or ACTS:
        fairswap.save(f"moves/{name}.bvh", figure("Pip"), [half_a_second(name)], force=True)
    for name in figures:
        shutil.copy(TROUPE / f"{name}.glb", f"{name}.glb")
    listed = ", ".join(f'"{name}.glb"' for name in figures)
    text = f'fairswap = "plan/1"\nsources = ["moves/*"]\nfigures = [{listed}]\n{more}'
    Path("job.toml").write_text(text)
    return Path("job.toml")


class InThisProcess:
    """Workers for tests of what is done and told, not of how many do it: they need not be started."""

    def __init__(self, count, memory, scratch, remedies):
        self.shop = Workshop(path_of, scratch, remedies, "here")

    def done(self, tasks):
        for task in tasks:
            yield task, None
            yield task, self.shop.do(task)

    def clips_of(self, sources):
        for number, (path, options) in enumerate(sources):
            with contextlib.suppress(fairswap.FairSwapError):
                yield number, clips_in(path, options)

    def close(self, *, at_once=False):
        pass


@pytest.fixture
def here(monkeypatch):
    monkeypatch.setattr("fairswap.plans.running.Pool", InThisProcess)


def digests(folder="out"):
    """Every file of a folder but its database, by what is in it."""
    return {
        path.relative_to(folder).as_posix(): hashlib.sha256(path.read_bytes()).hexdigest()
        for path in sorted(Path(folder).rglob("*"))
        if path.is_file() and path.name != LEDGER
    }


def reasons(made):
    return {result.task.result: result.why for result in made.results if result.why}


@pytest.mark.long
def test_a_plan_does_what_convert_does_and_does_nothing_twice():
    street(figures=("pip", "osric"))
    made = fairswap.run_plan("job.toml", "out", workers=2)
    assert made.ok
    assert [result.task.result for result in made.results] == [
        f"{who}/{what}.glb" for what in sorted(ACTS) for who in ("pip", "osric")
    ]
    alone = run("convert", "moves/walk.bvh", "--onto", "osric.glb", "-o", "alone.glb")
    assert alone.returncode == 0, alone.stderr
    assert Path("alone.glb").read_bytes() == Path("out/osric/walk.glb").read_bytes()
    assert re.fullmatch(r"<Result pip/\w+.glb: done; .*looks .*>", repr(made.results[0])), made.results[0]
    # The score is that of the one judge.
    table = made.table.set_index("result")
    judged = run("compare", "moves/walk.bvh", "out/osric/walk.glb", "--json").report
    assert table.loc["osric/walk.glb", "score"] == pytest.approx(judged["likeness"], abs=0.01)
    assert list(made.table["score"]) == sorted(made.table["score"])  # what needs eyes first
    before = {path: path.stat().st_mtime_ns for path in Path("out").rglob("*") if path.name != LEDGER}
    again = fairswap.run_plan("job.toml", "out", workers=2)
    assert (again.made, reasons(again)) == (0, {})
    assert {path: path.stat().st_mtime_ns for path in Path("out").rglob("*") if path.name != LEDGER} == before
    assert not list(Path("out").glob(".*"))
    assert not list(Path("out").glob("*-wal"))


@pytest.mark.long
def test_only_what_changed_is_done_again_and_it_is_told_why(monkeypatch, here):
    street("walk", "idle", figures=("pip", "osric"))
    fairswap.run_plan("job.toml", "out")
    first = digests()
    # A file that is written anew with the same bytes is the same.
    Path("moves/walk.bvh").write_bytes(Path("moves/walk.bvh").read_bytes())
    assert reasons(fairswap.run_plan("job.toml", "out")) == {}
    fairswap.save("moves/walk.bvh", figure("Pip"), [half_a_second("clap")], force=True)
    assert reasons(fairswap.run_plan("job.toml", "out")) == dict.fromkeys(
        ["pip/walk.glb", "osric/walk.glb"], "the motion was changed"
    )
    fairswap.save("moves/walk.bvh", figure("Pip"), [half_a_second("walk")], force=True)
    fairswap.run_plan("job.toml", "out")
    assert digests() == first
    with Path("osric.glb").open("rb") as file:  # a space in its JSON: another file, the same figure
        data = bytearray(file.read())
    at = data.index(b'"asset"')
    Path("osric.glb").write_bytes(bytes(data[:at]) + data[at:].replace(b"Fair Swap", b"Fair swap", 1))
    changed = fairswap.run_plan("job.toml", "out")
    assert set(reasons(changed)) == {"osric/walk.glb", "osric/idle.glb"}
    assert set(reasons(changed).values()) == {"the figure was changed"}
    text = Path("job.toml").read_text()
    Path("job.toml").write_text(text + '[convert]\nfeet = "free"\n[[except]]\nclips = ["walk"]\nclip = {rate = 24}\n')
    why = reasons(fairswap.run_plan("job.toml", "out"))
    assert why["pip/walk.glb"] == "changed: clip.rate, convert.feet"
    assert why["pip/idle.glb"] == "changed: convert.feet"
    Path("out/pip/idle.glb").unlink()
    assert reasons(fairswap.run_plan("job.toml", "out")) == {"pip/idle.glb": "its file is gone"}
    monkeypatch.setattr("fairswap.plans.tasks.__version__", "99.1")
    assert set(reasons(fairswap.run_plan("job.toml", "out")).values()) == {
        f"made by Fair Swap {fairswap.__version__}, this is 99.1"
    }


def test_what_was_changed_by_hand_is_left_until_it_is_forced(here):
    street("walk", "idle")
    fairswap.run_plan("job.toml", "out")
    was = digests()
    Path("out/pip/walk.glb").write_bytes(b"mine")
    os.utime("out/pip/idle.glb")  # touched, and the same
    done = run("plan", "run", "job.toml", "-o", "out", "--json")
    assert done.returncode == 0
    assert {row["result"]: row["state"] for row in done.report["results"]} == {
        "pip/walk.glb": "edited", "pip/idle.glb": "done",
    }  # fmt: skip
    assert Path("out/pip/walk.glb").read_bytes() == b"mine"
    assert next(row for row in done.report["results"] if row["state"] == "edited")["measures"] is None
    said = " ".join(run("plan", "run", "job.toml", "-o", "out").stdout.split())
    assert "1 changed by hand since it was made, left as it is; --force makes it anew: pip/walk.glb" in said
    # Also where the plan would have it otherwise now.
    Path("job.toml").write_text(Path("job.toml").read_text() + '[convert]\nfeet = "free"\n')
    assert reasons(fairswap.run_plan("job.toml", "out")) == {"pip/idle.glb": "changed: convert.feet"}
    assert Path("out/pip/walk.glb").read_bytes() == b"mine"
    assert reasons(fairswap.run_plan("job.toml", "out", force=True)) == {"pip/walk.glb": "changed: convert.feet"}
    assert digests()["pip/walk.glb"] not in (was["pip/walk.glb"], hashlib.sha256(b"mine").hexdigest())
    # A file that was there before the first run is not ours.
    Path("other/pip").mkdir(parents=True)
    Path("other/pip/walk.glb").write_bytes(b"not yours")
    stopped = run("plan", "run", "job.toml", "-o", "other")
    assert stopped.returncode == 1
    assert "another file has this name, left as it is; --force writes over it" in " ".join(stopped.stdout.split())
    assert Path("other/pip/walk.glb").read_bytes() == b"not yours"
    run("plan", "run", "job.toml", "-o", "other", "--force")
    assert Path("other/pip/walk.glb").read_bytes() == Path("out/pip/walk.glb").read_bytes()


def test_exceptions_hold_for_what_they_name(here):
    more = """
[clip]
rate = 20
[[except]]
clips = ["wa*"]
clip = {rate = 24, mirror = true}
convert = {travel = "none"}
[[except]]
files = ["clap.bvh"]
figures = ["osric"]
skip = true
[[except]]
figures = ["osric*"]
convert = {motion-only = true}
"""
    street(figures=("pip", "osric"), more=more)
    made = fairswap.run_plan("job.toml", "out")
    assert made.skipped == 1
    assert not Path("out/osric/clap.glb").exists()
    clips = {result.task.result: fairswap.load(f"out/{result.task.result}") for result in made.results}
    assert {name: float(found.clips[0].rate) for name, found in clips.items()} == {
        name: 24.0 if "walk" in name else 20.0 for name in clips
    }
    assert not clips["osric/idle.glb"].figure.meshes
    assert clips["pip/idle.glb"].figure.meshes
    walked = clips["pip/walk.glb"].clips[0].world().positions[:, 0]
    assert abs(walked[-1] - walked[0])[[0, 2]].max() < 0.05
    source = fairswap.load("moves/walk.bvh")
    mirrored = fairswap.clips.rate(fairswap.clips.mirror(source.clips[0], source.figure), 24)
    options = fairswap.MotionOptions(travel="none")
    alone = fairswap.convert(source.__class__(**{**vars(source), "clips": (mirrored,)}), "pip.glb", motion=options)
    assert abs(alone.clips[0].rotations - clips["pip/walk.glb"].clips[0].rotations).max() < 1e-6


@pytest.mark.long
def test_results_are_named_by_a_template_and_drawn_as_asked(here):
    more = """
platforms = ["fernway"]
[results]
name = "{platform}-{figure} {file}"
pictures = true
pages = true
"""
    street("walk", more=more)
    made = fairswap.run_plan("job.toml", "out")
    assert made.ok
    stem = "fernway-pip walk"
    assert set(digests()) == {
        f"{stem}.glb", f"{stem}.png", f"{stem}.html", f"report/{stem}.png", "report.csv", "report.html",
    }  # fmt: skip
    assert run("check", f"out/{stem}.glb", "--platform", "fernway").returncode == 0
    page = Path("out/report.html").read_text()
    assert 'href="fernway-pip%20walk.html"' in page
    assert 'src="report/fernway-pip%20walk.png"' in page
    Path("job.toml").write_text(Path("job.toml").read_text().replace("pages = true", "pages = false"))
    assert set(reasons(fairswap.run_plan("job.toml", "out")).values()) == {"changed: results.pages"}
    assert f"{stem}.html" not in digests()  # what is not asked for any more is taken away


def test_the_same_bytes_by_another_name_are_another_clip(here):
    street("walk")
    shutil.copy("moves/walk.bvh", "moves/stroll.bvh")
    shutil.copy("pip.glb", "moves/pip.glb")
    fairswap.save("moves/pip.glb", fairswap.load("pip.glb").figure, [half_a_second("idle")], force=True)
    made = fairswap.run_plan("job.toml", "out")
    assert made.ok
    for name in ("walk", "stroll"):
        assert fairswap.load(f"out/pip/{name}.glb").clips[0].name == name
        alone = run("convert", f"moves/{name}.bvh", "--onto", "pip.glb", "-o", f"{name}.glb")
        assert alone.returncode == 0
        assert Path(f"{name}.glb").read_bytes() == Path(f"out/pip/{name}.glb").read_bytes()


def test_a_plan_is_not_fed_with_what_it_has_made(here):
    street("walk", "idle")
    more = 'clips = ["walk*", "idle*"]\n[results]\nname = "{file} {n}"\n'
    Path("job.toml").write_text(f'fairswap = "plan/1"\nsources = ["."]\nfigures = ["pip.glb"]\n{more}')
    for out in (".", "inside"):
        first = fairswap.run_plan("job.toml", out)
        assert len(first.results) == 2
        again = fairswap.run_plan("job.toml", out)
        assert (len(again.results), again.made) == (2, 0)
        for path in ("walk 1.glb", "idle 1.glb"):
            assert Path(out, path).exists()
        if out == ".":
            shutil.rmtree("report")
            for path in Path().glob("* 1.glb"):
                path.unlink()
            Path(LEDGER).unlink()


def test_the_report_tells_what_counts_as_failure_and_holds_no_markup_of_strangers(here):
    street("walk", "idle", more="[failure]\nbelow = 100\n")
    shutil.copy("moves/walk.bvh", "moves/<b>=x.bvh")
    Path("moves/broken.bvh").write_text("HIERARCHY nothing")
    done = run("plan", "run", "job.toml", "-o", "out")
    assert done.returncode == 1
    assert "of 100, 100 are wanted" in done.stdout
    assert "broken.bvh" in done.stdout  # and the others went on
    page = Path("out/report.html").read_text()
    assert "<b>=x" not in page
    assert "&lt;b&gt;=x" in page
    with Path("out/report.csv").open(encoding="utf-8") as file:
        rows = list(csv.DictReader(file))
    assert [row["state"] for row in rows] == ["missing", "done", "done", "done"]
    assert all(not cell.startswith(("=", "+", "@")) for row in rows for cell in row.values())
    assert [float(row["score"]) for row in rows[1:]] == sorted(float(row["score"]) for row in rows[1:])
    # What counts as failure is asked of what is known: nothing is done again.
    Path("job.toml").write_text(Path("job.toml").read_text().replace("below = 100", "below = 10"))
    Path("moves/broken.bvh").unlink()
    again = fairswap.run_plan("job.toml", "out")
    assert again.ok
    assert again.made == 0


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ('sources = ["nix*.bvh"]\nfigures = ["pip.glb"]', "nothing fits this pattern: 'nix*.bvh'"),
        ('sources = ["nix.bvh"]\nfigures = ["pip.glb"]', "there is no file 'nix.bvh'"),
        ('sources = []\nfigures = ["pip.glb"]', "sources: nothing is named"),
        ('sources = ["empty"]\nfigures = ["pip.glb"]', "there is nothing to read in this folder"),
        ('sources = ["moves"]\nfigures = ["pip.glb"]\n[convert]\nfeets = "free"', "there is no field 'feets'"),
        ('sources = ["moves"]\nfigures = ["pip.glb"]\n[convert]\nfeet = "flat"', "'flat' is not a word for"),
        ('sources = ["moves"]\nfigures = ["pip.glb"]\n[convert]\nlayer = ["no.toml"]', "there is no file 'no.toml'"),
        ('sources = ["moves"]\nfigures = ["pip.glb"]\n[results]\nname = "../{clip}"', "leads out of the folder"),
        ('sources = ["moves"]\nfigures = ["pip.glb"]\n[results]\nname = "/{clip}"', "leads out of the folder"),
        ('sources = ["moves"]\nfigures = ["pip.glb"]\n[results]\nname = "{who}"', "the name holds {who}"),
        ('sources = ["moves"]\nfigures = ["pip.glb"]\n[results]\nname = "x"', "two results would be called 'x.glb'"),
        ('sources = ["moves"]\nfigures = ["pip.glb"]\n[results]\nname = "report/{clip}"', "is where the report is"),
        ('sources = ["moves"]\nfigures = ["pip.glb"]\n[[except]]\nskip = true', "it is for nothing"),
        ('sources = ["moves"]\nfigures = ["pip.glb"]\n[[except]]\nclips = ["a"]\nskip = true\nclip = {rate = 9}',
         "it skips them and says how"),
        ('sources = ["moves"]\nfigures = ["pip.glb"]\nplatforms = ["atlantis"]', "atlantis"),
        ('sources = ["moves"]\nfigures = ["pip.glb"]\nplatforms = ["fernway"]\n[results]\nformat = ".bvh"',
         "holds no figure"),
        ('sources = ["moves"]\nfigures = ["pip.glb"]\n[convert]\ntravel = "none"\nroot-turns = true',
         "the root turns while travel is 'none'"),
        ('sources = ["moves"]\nfigures = ["pip.glb"]\n[clip]\nrate = -5', "rate"),
        ('sources = ["moves"]\nfigures = ["pip.glb"]\nplatforms = ["fernway"]\n[clip]\nthin = 1.0',
         "says itself how keys are thinned"),
    ],
)  # fmt: skip
def test_a_plan_that_cannot_be_is_one_clear_message(text, told, here):
    street("walk", "idle")
    Path("empty").mkdir()
    Path("job.toml").write_text(f'fairswap = "plan/1"\n{text}\n')
    for words in (["check", "job.toml"], ["run", "job.toml", "-o", "out"]):
        done = run("plan", *words)
        assert done.returncode in (2, 3), done.stdout
        assert told in " ".join(done.stderr.split())
        assert "job.toml" in done.stderr or "atlantis" in told
        assert "go on" not in done.stderr  # nothing was begun
    assert not list(Path("out").rglob("*.glb"))


@pytest.mark.long
def test_one_figure_among_ten_that_cannot_be_read_does_not_stop_the_others(here):
    names = [f"f{number}" for number in range(9)]
    street("walk")
    for name in names:
        shutil.copy("pip.glb", f"{name}.glb")
    Path("f9.glb").write_bytes(b"glTF, they said")
    listed = ", ".join(f'"{name}.glb"' for name in [*names, "f9"])
    Path("job.toml").write_text(f'fairswap = "plan/1"\nsources = ["moves"]\nfigures = [{listed}]\n')
    done = run("plan", "run", "job.toml", "-o", "out", "--json")
    assert done.returncode == 1
    assert [row["state"] for row in done.report["results"]] == ["done"] * 9
    assert [Path(row["file"]).name for row in done.report["missing"]] == ["f9.glb"]
    checked = run("plan", "check", "job.toml", "-o", "out", "--json")
    assert (checked.returncode, checked.report["due"], len(checked.report["tasks"])) == (1, 0, 9)


def test_a_folder_that_cannot_be_used_is_refused_before_the_work(here):
    street("walk")
    Path("file").write_text("")
    assert "it is a file" in run("plan", "run", "job.toml", "-o", "file").stderr
    fairswap.run_plan("job.toml", "out")
    ledger = Ledger(Path("out"))
    ledger.base.execute("update about set value = 'run/7' where name = 'kind'")
    ledger.close()
    newer = run("plan", "run", "job.toml", "-o", "out")
    assert newer.returncode == 3
    assert "it is of another edition (run/7)" in " ".join(newer.stderr.split())
    Path("damaged").mkdir()
    Path("damaged", LEDGER).write_bytes(b"SQLite format 3\0" + b"?" * 5000)
    assert "it is damaged" in run("plan", "run", "job.toml", "-o", "damaged").stderr
    nothing = run("plan", "status", "empty")
    assert nothing.returncode == 3
    assert "Run a plan into it first" in " ".join(nothing.stderr.split())
    assert not Path("empty").exists()


def test_two_runs_do_not_work_in_one_folder(here):
    street("walk")
    fairswap.run_plan("job.toml", "out")
    ledger = Ledger(Path("out"))
    other = subprocess.Popen([sys.executable, "-c", "input()"], stdin=subprocess.PIPE, text=True)
    host, _, _ = ledger._mine.rpartition(":")
    ledger.base.execute("update about set value = ? where name = 'running'", (f"{host}:{other.pid}",))
    ledger.base.close()
    refused = run("plan", "run", "job.toml", "-o", "out")
    assert refused.returncode == 4
    assert "another run is at work in this folder" in refused.stderr
    assert run("plan", "status", "out").returncode == 0  # looking is allowed
    other.communicate("\n")
    assert run("plan", "run", "job.toml", "-o", "out").returncode == 0


def test_results_that_cannot_be_written_are_told_and_done_by_the_next_run(monkeypatch, here):
    street("walk", "idle")
    from fairswap.formats.outputs import Outputs

    own = Outputs.write

    def full(self, path, chunks):
        if path.name == "idle.glb" and "out" in path.parts:
            raise fairswap.OutputError("it cannot be written (No space left on device)", file=path)
        return own(self, path, chunks)

    with monkeypatch.context() as patch:
        patch.setattr(Outputs, "write", full)
        done = run("plan", "run", "job.toml", "-o", "out", "--workers", "1")
    assert done.returncode == 1
    assert "No space left" in done.stderr
    assert Path("out/pip/walk.glb").exists()
    assert not Path("out/pip/idle.glb").exists()
    again = fairswap.run_plan("job.toml", "out")
    assert again.ok
    assert reasons(again) == {"pip/idle.glb": "it failed"}


def test_what_cannot_be_done_is_not_tried_again_until_something_changes(here):
    street("walk", "idle")
    lone = half_a_second("idle")
    stick = fairswap.save("moves/stick.csv", figure("Pip"), [lone])
    text = Path(stick[0]).read_text()
    Path(stick[0]).write_text(re.sub(r"\b(LeftLeg|leg)\w*", "thing", text))
    Path("job.toml").write_text(Path("job.toml").read_text() + '[convert]\nsource-bones = "saltglass"\n')
    first = fairswap.run_plan("job.toml", "out")
    failed = [result for result in first.results if result.state == "failed"]
    assert failed
    assert all(result.record.error for result in failed)
    second = fairswap.run_plan("job.toml", "out")
    assert second.made == 0
    assert [result.state for result in second.results] == [result.state for result in first.results]
    assert not second.ok


def test_what_a_result_had_is_not_forgotten_by_a_run_that_is_killed(here):
    street("walk", more="[results]\npages = true\n")
    fairswap.run_plan("job.toml", "out")
    assert "pip/walk.html" in digests()
    Path("job.toml").write_text(Path("job.toml").read_text().replace("pages = true", "pages = false"))

    def killed(what, text):
        if what == "begun":
            raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        carried_out(Plan.load("job.toml"), Path("out"), RunOptions(), killed)
    assert reasons(fairswap.run_plan("job.toml", "out")) == {"pip/walk.glb": "it was not finished"}
    assert "pip/walk.html" not in digests()


def test_an_error_of_ours_in_one_task_does_not_stop_the_others(here, monkeypatch):
    street("walk", "idle")
    own = Workshop._prepared

    def broken(self, clip, document, task):
        if task.clip == "idle":
            raise KeyError("nobody foresaw this")
        return own(self, clip, document, task)

    with monkeypatch.context() as patch:
        patch.setattr(Workshop, "_prepared", broken)
        done = run("plan", "run", "job.toml", "-o", "out")
    assert done.returncode == 1
    assert "an error of ours, not of your file (KeyError" in " ".join(done.stdout.split())
    assert Path("out/pip/walk.glb").exists()
    assert reasons(fairswap.run_plan("job.toml", "out", force=True)) == {"pip/idle.glb": "it failed"}


KILLED = """
import sys
from fairswap.plans.running import run_plan
run_plan("job.toml", sys.argv[1], workers=2)
"""


@pytest.mark.long
def test_a_run_killed_at_any_moment_goes_on_to_the_same_bytes():
    street(*ACTS, figures=("pip", "osric"))
    fairswap.run_plan("job.toml", "whole", workers=2)
    expected = digests("whole")
    dice = random.Random(5)
    for _ in range(4):
        process = subprocess.Popen([sys.executable, "-c", KILLED, "out"], start_new_session=True)
        try:
            process.wait(dice.uniform(0.6, 3.0))
        except subprocess.TimeoutExpired:
            os.killpg(process.pid, signal.SIGKILL)
            process.wait()
        # A killed run leaves whole files only.
        for name, digest in digests("out").items():
            if not name.startswith("."):
                assert expected.get(name, digest) == digest or name.startswith("report.")
    made = fairswap.run_plan("job.toml", "out", workers=2)
    assert made.ok
    assert digests("out") == expected
    assert not [
        path for path in Path("out").rglob("*") if path.name.startswith(".") or path.suffix in (".part", "-wal")
    ]


@pytest.mark.long
def test_ctrl_c_stops_cleanly_and_says_how_to_go_on():
    street(*ACTS, figures=("pip", "osric"))
    words = [sys.executable, "-m", "fairswap", "plan", "run", "job.toml", "-o", "out", "--workers", "2"]
    process = subprocess.Popen(words, stderr=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
    deadline = time.monotonic() + 60
    while time.monotonic() < deadline and not list(Path("out").rglob("*.glb")):
        time.sleep(0.02)
    process.send_signal(signal.SIGINT)
    _, said = process.communicate(timeout=30)
    assert process.returncode in (130, 0)
    if process.returncode:
        assert "run it again to go on" in said
        assert "Traceback" not in said
        assert "still begun" not in run("plan", "status", "out").stdout
    assert not [path for path in Path("out").glob(".fairswap*") if path.is_dir()]
    assert fairswap.run_plan("job.toml", "out").ok


@pytest.mark.long
def test_a_worker_that_dies_costs_only_its_task():
    street(*ACTS, figures=("pip", "osric"))
    killed = []
    others = psutil.Process().children(recursive=True)  # such as the one that reads USD for this process

    def tell(what, text):
        if what == "made" and not killed:
            for child in set(psutil.Process().children(recursive=True)).difference(others):
                if "loky" in " ".join(child.cmdline()) and not killed and "tracker" not in " ".join(child.cmdline()):
                    child.kill()
                    killed.append(child.pid)

    made = carried_out(Plan.load("job.toml"), Path("out"), RunOptions(workers=2), tell)
    assert killed
    assert made.ok
    assert made.made == 6


@pytest.mark.long
def test_a_worker_that_dies_handing_over_keeps_nobody_waiting():
    street(*ACTS, figures=("pip",))
    tasks = expand(Plan.load("job.toml")).tasks
    hard = msgspec.structs.replace(tasks[0], pose=Deadly("died", tasks[0].pose))
    pool = Pool(2, 1 << 33, Path("scratch"), {})
    made = [row for _, row in pool.done([hard, *tasks[1:]]) if row is not None]
    pool.close()
    assert Path("died").exists()
    assert {row.result: row.error for row in made} == {task.result: "" for task in tasks}


@pytest.mark.long
def test_one_of_many_files_that_kills_its_process_costs_no_other():
    once = list(each_beside(partial(die_handing_over, "died"), [*map(Path, "abcdef")]))
    assert once == [*map(Path, "abcdef")]
    done = []
    with pytest.raises(fairswap.ImpossibleError, match="worked on c died twice"):
        done.extend(each_beside(die_of_c, [*map(Path, "abcdef")]))


@pytest.mark.long
def test_never_more_at_once_than_the_memory_holds():
    street("walk", "idle", figures=("pip", "osric"))
    tasks = expand(Plan.load("job.toml")).tasks
    sizes = sorted(map(bytes_for, tasks))
    for workers, room, at_once in ((2, 0.9 * sum(sizes[:2]), 1), (2, 1.1 * sum(sizes[-2:]), 2), (1, 0.0, 1)):
        pool = Pool(2, int(workers * bytes_kept(tasks) + room), Path("scratch"), {})
        begun, peak = set(), 0
        for task, made in pool.done(tasks):
            begun.add(task.result) if made is None else begun.discard(task.result)
            held = sum(bytes_for(each) for each in tasks if each.result in begun)
            assert len(begun) == 1 or held <= room
            peak = max(peak, len(begun))
        assert pool.count == workers
        pool.close()
        assert (peak == 1) == (at_once == 1)


def test_the_database_is_under_a_kilobyte_a_result():
    street("walk")
    task = expand(Plan.load("job.toml")).tasks[0]
    ledger = Ledger(Path("out"))
    recipe = task.recipe()
    measures = Measures(97.53, "walk: looks the same (98 of 100)", True, "legs", "upper_leg_left is off (2.5 degrees)",
                        12.3, 1.234, 2.345, 0.123, 0.0, 1.045, True, ())  # fmt: skip
    told = (Told("bones-missing", "note", "Pip: no bone for jaw, eye_left: what they do is not carried over"),) * 3
    count = 2000
    for number in range(count):
        name = f"fernway/pip/a walk of some length {number:05}.glb"
        own = msgspec.structs.replace(task, result=name)
        digest = hashlib.sha256(name.encode()).hexdigest()
        files = [WrittenFile(each, digest, 10**6 + number, 10**18 + number) for each in (name, f"report/{name}.png")]
        made = Made(name, measures=measures, findings=told, took_s=0.3, worker="process 12345")
        ledger.finish(own, recipe._replace(source=digest, clip=f"0 clip {number}"), made, files)
    known = ledger.records()
    ledger.close()
    assert len(known) == count
    assert known["fernway/pip/a walk of some length 00007.glb"].measures == measures
    assert Path("out", LEDGER).stat().st_size / count < 1024


def test_a_new_plan_explains_itself_and_does_what_the_command_did(here):
    street("walk", "idle")
    Path("nod.toml").write_text('fairswap = "layers/1"\n[[layer]]\nrole = "head"\nforward = 9\n')
    made = run("plan", "new", "moves/*.bvh", "--onto", "pip.glb", "--platform", "fernway", "-o", "new.toml", "--json")
    assert (made.returncode, made.report["results"], made.report["sources"]) == (0, 2, 2)
    text = Path("new.toml").read_text()
    # Every line that could be there is a plan, too.
    for line in re.findall(r"^# ([a-z-]+ = .*?)  +.*$", text, re.MULTILINE):
        assert line.partition(" ")[0] in (
            "clips", "travel", "clear", "face", "clean", "trim", "speed", "reverse", "mirror", "loop", "rate", "thin",
            "to", "findings", "platforms",
        )  # fmt: skip
    said = "convert moves/walk.bvh --onto pip.glb -o a/walk.glb --layer nod.toml --feet free --scale-travel 0.5"
    done = run(*said.split(), "--write-plan", "recipe.toml", "--json")
    assert done.returncode in (0, 1), done.stderr
    assert "recipe.toml" in [row["file"] for row in done.report["written"]]
    plan = Plan.load("recipe.toml")
    assert plan.words.convert.given() == {"layer": ("nod.toml",), "feet": "free", "scale-travel": 0.5}
    fairswap.run_plan(plan, "b")
    assert Path("b/pip/walk.glb").read_bytes() == Path("a/walk.glb").read_bytes()


@pytest.mark.long
def test_convert_carries_every_motion_onto_every_figure():
    street("walk", "idle", figures=("pip", "osric"))
    done = run("convert", "moves", "--onto", "pip.glb", "--onto", "osric.glb", "-o", "out", "--json")
    assert done.returncode == 0, done.stderr
    assert {row["result"] for row in done.report["results"]} == {
        f"{who}/{what}.glb" for who in ("pip", "osric") for what in ("walk", "idle")
    }
    alone = run("convert", "moves/*.bvh", "--onto", "pip.glb", "-o", "alone")
    assert alone.returncode == 0, alone.stderr
    assert sorted(path.name for path in Path("alone").iterdir()) == ["idle.glb", "walk.glb"]
    sheet = run(
        "convert", "moves", "--onto", "pip.glb", "--workers", "1", "-o", "x", "--picture", "s.png", "--at", "0.1"
    )
    assert sheet.returncode == 2  # never silently otherwise than asked
    refused = run("convert", "moves", "--onto", "pip.glb", "--onto", "osric.glb", "-o", "one.glb")
    assert refused.returncode == 2
    assert "the result is a folder" in " ".join(refused.stderr.split())


@pytest.mark.long
def test_commands_take_folders_and_patterns():
    street(*ACTS, figures=("pip", "osric"))
    shutil.copytree("moves", "moves/more")
    Path("moves/broken.bvh").write_text("nothing")
    done = run("clip", "rate", "moves", "--to", "12", "-o", "slow", "--json")
    assert done.returncode == 3
    rows = {row["file"]: row for row in done.report["files"]}
    assert len(rows) == 7
    assert rows["moves/broken.bvh"]["report"] is None
    assert "broken.bvh" in rows["moves/broken.bvh"]["error"]
    for name in ("walk.bvh", "more/walk.bvh"):
        assert rows[f"moves/{name}"]["status"] == 0
        assert float(fairswap.load(f"slow/{name}").clips[0].rate) == 12.0
        alone = run("clip", "rate", f"moves/{name}", "--to", "12", "-o", "alone.bvh", "--force")
        assert alone.returncode == 0
        assert Path("alone.bvh").read_bytes() == Path(f"slow/{name}").read_bytes()
    for out in ("-otight", "--out=wide"):
        placed = run("clip", "place", "moves/more", "--at", "1", "2", "--facing", "90", out)
        assert placed.returncode == 0, placed.stderr
    assert sorted(path.name for path in Path("tight").iterdir()) == [f"{name}.bvh" for name in sorted(ACTS)]
    assert Path("tight/walk.bvh").read_bytes() == Path("wide/walk.bvh").read_bytes()
    assert run("clip", "rename", "moves/more", "--to", "{file} new", "-o", "new").returncode == 0
    assert fairswap.load("new/walk.bvh").clips[0].duration_s == pytest.approx(0.5, abs=0.02)
    told = run("compare", "moves/walk.bvh", "moves/*l*.bvh", "--picture", "sheets.png")
    assert told.returncode == 1  # a clap is no walk
    assert {path.name for path in Path("sheets").iterdir()} == {"walk.png", "clap.png", "idle.png"}
    assert "looks the same (100 of 100)" in told.stdout
    fitted = run("fit", "*.glb", "--platform", "fernway", "-o", "fitted", "--json")
    assert fitted.returncode == 0, fitted.stderr
    checked = run("check", "fitted", "--platform", "fernway", "--json")
    assert checked.returncode == 0
    assert [Path(row["file"]).name for row in checked.report["files"]] == ["osric.glb", "pip.glb"]
    for words in (["clip", "rate", "moves", "--to", "12", "-o", "one.bvh"], ["fit", "*.nix", "--platform", "fernway",
                                                                           "-o", "x"]):  # fmt: skip
        assert run(*words).returncode == 2
    assert not Path("one.bvh").exists()


@pytest.fixture
def cluster():
    """A scheduler and three workers, processes of this machine; gives its address and the workers."""
    environment = {**os.environ, "OPENBLAS_NUM_THREADS": "1"}
    started = []

    def start(name, *words):
        # What they say goes to a file: a pipe that nobody empties would stop them once it is full.
        with Path(f"{name}.log").open("w") as log:
            process = subprocess.Popen([sys.executable, "-m", *words], env=environment, stderr=log)
        started.append(process)
        return process

    def said(name, pattern):
        deadline = time.monotonic() + 60
        while time.monotonic() < deadline:
            if found := re.search(pattern, Path(f"{name}.log").read_text()):
                return found[0]
            time.sleep(0.05)
        raise AssertionError(f"{name} did not start: {Path(f'{name}.log').read_text()}")

    try:
        start("scheduler", "distributed.cli.dask_scheduler", "--port", "0", "--no-dashboard", "--host", "127.0.0.1")
        address = said("scheduler", r"tcp://127\.0\.0\.1:\d+")
        names = [f"worker-{number}" for number in range(3)]
        workers = [
            start(name, "distributed.cli.dask_worker", address, "--nthreads", "1", "--no-nanny", "--no-dashboard",
                  "--local-directory", str(Path.cwd() / name))
            for name in names
        ]  # fmt: skip
        for name in names:
            said(name, "Registered to")
        yield address, workers
    finally:
        for process in reversed(started):
            process.kill()
            process.wait()


@pytest.mark.filterwarnings("ignore")
@pytest.mark.long
def test_a_cluster_gives_the_same_bytes_also_if_a_worker_is_lost(cluster):
    address, workers = cluster
    layered = '[convert]\nlayer = ["nod.toml"]\n'
    Path("nod.toml").write_text('fairswap = "layers/1"\n[[layer]]\nrole = "head"\nforward = 9\n')
    street(*ACTS, figures=("pip", "osric"), more=layered)
    shutil.copy("moves/walk.bvh", "moves/walk again.bvh")  # the same bytes by another name
    done = []

    def tell(what, text):
        if what == "made":
            done.append(text)
            if len(done) == 2:
                workers[0].kill()

    made = carried_out(Plan.load("job.toml"), Path("far"), RunOptions(cluster=address), tell)
    assert made.ok, [result.record.error for result in made.results]
    fairswap.run_plan("job.toml", "near", workers=2)
    assert digests("far") == digests("near")
    # The files were sent: the workers have them under their own folders, each once.
    held = [path.name for path in Path("worker-1").rglob("pip.glb")]
    assert len(held) <= 1
    assert run("plan", "run", "job.toml", "-o", "far", "--cluster", address, "--json").report["made"] == 0
    near = run("plan", "run", "job.toml", "-o", "seen", "--cluster", address, "--shared", "--json")
    assert near.report["made"] == 8
    assert digests("seen") == digests("near")
    wrong = run("plan", "run", "job.toml", "-o", "x", "--cluster", "tcp://127.0.0.1:9")
    assert wrong.returncode == 4
    assert "there is no scheduler" in " ".join(wrong.stderr.split())
    other = "fairswap.plans.cluster.__version__"
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(other, "99.1")
        refused = run("plan", "run", "job.toml", "-o", "x", "--cluster", address)
    assert refused.returncode == 4
    assert "this is 99.1" in " ".join(refused.stderr.split())


def test_status_is_told_of_a_run(here):
    street("walk", "idle")
    fairswap.run_plan("job.toml", "out")
    report = json.loads(run("plan", "status", "out", "--json").stdout)
    assert (report["done"], report["failed"], report["begun"]) == (2, 0, 0)
    assert report["bytes"] == sum(
        path.stat().st_size for path in Path("out").rglob("*") if path.suffix in (".glb", ".png")
    )


@pytest.mark.long
def test_a_plan_makes_avatars_and_says_what_a_format_cannot_hold():
    fairswap.save("walk.bvh", figure("Osric"), [act("walk", "Osric")])
    fairswap.save("pip.glb", figure("Pip"))
    Path("meta.toml").write_text('fairswap = "meta/1"\nname = "Pip"\nauthors = ["the troupe"]\n')
    Path("plan.toml").write_text(
        'fairswap = "plan/1"\nsources = ["walk.bvh"]\nfigures = ["pip.glb"]\nplatforms = ["vrm-1"]\n'
        '[convert]\nmeta = "meta.toml"\nsprings = true\n[results]\nformat = ".vrm"\nthumbnails = false\n'
    )
    made = fairswap.run_plan("plan.toml", "avatars")
    (name,) = Path("avatars").rglob("*.vrm")
    assert fairswap.load(name).figure.avatar.meta["name"] == "Pip"
    assert len(made.table) == 1
    Path("plan.toml").write_text(
        'fairswap = "plan/1"\nsources = ["walk.bvh"]\nfigures = ["pip.glb"]\n'
        '[results]\nformat = ".csv"\nthumbnails = false\n'
    )
    made = fairswap.run_plan("plan.toml", "tables")
    (row,) = made.results
    assert "format-leaves-out" in [told.code for told in row.record.findings]
