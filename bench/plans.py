"""Plans, measured: results a second by one worker and by two, memory over a run, a second run, growth, kills.

``python bench/plans.py street [CLIPS]``: clips made from the acts, on three figures, for three platforms.
``python bench/plans.py growth [MOST]``: 100, 1,000 and 10,000 tiny clips on one figure.
``python bench/plans.py kills [TIMES]``: a run killed at random moments; the bytes in the end must be the same.
"""

from __future__ import annotations

import hashlib
import os
import random
import resource
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from fractions import Fraction
from pathlib import Path

import numpy as np

import fairswap
from fairswap.demo.repertoire import ACTS
from fairswap.model.clip import Clip
from fairswap.plans.inputs import LEDGER
from fairswap.plans.recipe import Plan
from fairswap.plans.running import RunOptions, carried_out

FIGURES = ("pip", "osric", "juniper")
PLATFORMS = ("fernway", "quillmoor", "saltglass")
RUN = "import sys; from fairswap.plans.running import run_plan; run_plan('job.toml', sys.argv[1], workers=2)"


def street(clips: int, platforms: tuple[str, ...] = PLATFORMS) -> None:
    """Motions, figures and a plan in this folder."""
    Path("moves").mkdir()
    made = {(who, name): fairswap.demo_motion(name, by=who) for who in ("Juniper", "Osric") for name in ACTS}
    dice = np.random.default_rng(1)
    keys = sorted(made)
    for number in range(clips):
        document = made[keys[number % len(keys)]]
        clip = fairswap.clips.speed(document.clips[0], float(dice.uniform(0.8, 1.25)))
        start = dice.uniform(0.0, max(clip.duration_s - 1.6, 0.0))
        clip = fairswap.clips.trim(clip, start=f"{start:.3f}", end=f"{min(start + 1.5, clip.duration_s):.3f}")
        if number % 2:
            clip = fairswap.clips.mirror(clip, document)
        fairswap.save(f"moves/{number:05}.bvh", document.figure, [clip])
    for name in FIGURES:
        shutil.copy(fairswap.demo_file(f"{name}.glb"), f"{name}.glb")
    listed = ", ".join(f'"{name}.glb"' for name in FIGURES)
    wanted = ", ".join(f'"{name}"' for name in platforms)
    Path("job.toml").write_text(
        f'fairswap = "plan/1"\nsources = ["moves"]\nfigures = [{listed}]\nplatforms = [{wanted}]\n'
    )


def timed(out: str, workers: int, *, told: list[tuple[float, float]] | None = None) -> tuple[float, int, float]:
    """A run: seconds, how many results it made, and the most memory a worker had."""
    began = time.perf_counter()

    def tell(what: str, text: str) -> None:
        if what == "made" and told is not None:
            told.append((time.perf_counter() - began, _children_mb()))

    made = carried_out(Plan.load("job.toml"), Path(out), RunOptions(workers=workers), tell)
    assert all(result.state == "done" for result in made.results), [r.record and r.record.error for r in made.results]
    return time.perf_counter() - began, made.made, made.peak_mb


def _children_mb() -> float:
    """The memory of this process's workers."""
    import psutil

    return sum(child.memory_info().rss for child in psutil.Process().children(recursive=True)) / 1e6


def measure_street(clips: int) -> None:
    few = min(clips, 24)
    street(few)
    one, count, _ = timed("one", 1)
    two, _, _ = timed("two", 2)
    print(f"{count} results: {count / one:.2f} a second by one worker, {count / two:.2f} by two: {one / two:.2f} times")
    shutil.rmtree("moves")
    for name in ("job.toml",):
        Path(name).unlink()
    street(clips)
    told: list[tuple[float, float]] = []
    whole, count, peak = timed("all", 2, told=told)
    quarter = max(len(told) // 4, 1)
    early, late = (float(np.median([mb for _, mb in part])) for part in (told[quarter : 2 * quarter], told[-quarter:]))
    print(f"{count} results by two workers: {whole:.0f} s, {count / whole:.2f} a second; both {early:.0f} MB in the "
          f"second quarter, {late:.0f} MB in the last, one {peak:.0f} MB at most")  # fmt: skip
    again, made, _ = timed("all", 2)
    print(f"again, with nothing changed: {again:.2f} s, {made} made")


def measure_growth(most: int) -> None:
    pip = fairswap.load(fairswap.demo_file("pip.glb")).figure
    clip = Clip("tiny", Fraction(30), fairswap.reel(pip).clip.poses.at([0.0, 1.0, 2.0, 3.0]))
    for count in [each for each in (100, 1_000, 10_000) if each <= most]:
        shutil.rmtree("moves", ignore_errors=True)
        Path("moves").mkdir()
        fairswap.save("moves/first.bvh", pip, [clip])
        text = Path("moves/first.bvh").read_text()
        for number in range(count - 1):
            Path(f"moves/{number:05}.bvh").write_text(text + "\n" * (number % 7) + " " * (number // 7))
        shutil.copy(fairswap.demo_file("pip.glb"), "pip.glb")
        Path("job.toml").write_text(
            'fairswap = "plan/1"\nsources = ["moves"]\nfigures = ["pip.glb"]\n'
            '[results]\nformat = ".bvh"\nthumbnails = false\n'
        )
        out = f"out-{count}"
        seconds, _, peak = timed(out, 2)
        again, _, _ = timed(out, 2)
        size = Path(out, LEDGER).stat().st_size
        mine = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        each = 1000 * seconds / count
        print(f"{count} clips: {seconds:.1f} s ({each:.0f} ms each), again {again:.2f} s; this process {mine:.0f} MB, "
              f"a worker {peak:.0f} MB; the database {size / count:.0f} bytes a result")  # fmt: skip


def measure_kills(times: int) -> None:
    street(6, ("fernway",))
    subprocess.run([sys.executable, "-c", RUN, "whole"], check=True)
    expected, dice, undone = _digests("whole"), random.Random(1), 0
    for _ in range(times):
        process = subprocess.Popen([sys.executable, "-c", RUN, "out"], start_new_session=True)
        try:
            process.wait(dice.uniform(0.3, 5.0))
        except subprocess.TimeoutExpired:
            os.killpg(process.pid, signal.SIGKILL)
            process.wait()
            undone += 1
        if _digests("out") == expected:
            shutil.rmtree("out")  # from the start again
    subprocess.run([sys.executable, "-c", RUN, "out"], check=True)
    left = [path.name for path in Path("out").rglob("*") if path.name.startswith(".") or path.name.endswith("-wal")]
    print(f"{undone} of {times} killed at work; the same bytes in the end: {_digests('out') == expected}; left: {left}")


def _digests(folder: str) -> dict[str, str]:
    return {
        str(path.relative_to(folder)): hashlib.sha256(path.read_bytes()).hexdigest()
        for path in sorted(Path(folder).rglob("*"))
        if path.is_file() and LEDGER not in path.name
    }


def main(words: list[str]) -> None:
    what, number = words[0] if words else "street", int(words[1]) if len(words) > 1 else 0
    with tempfile.TemporaryDirectory() as folder:
        os.chdir(folder)
        if what == "growth":
            measure_growth(number or 10_000)
        elif what == "kills":
            measure_kills(number or 200)
        else:
            measure_street(number or 400)
        os.chdir("/")


if __name__ == "__main__":
    main(sys.argv[1:])
