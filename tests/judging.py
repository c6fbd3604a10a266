"""Ask the independent judges of ``tests/judges``: one Node process answers all questions of a test process."""

import atexit
import json
import shutil
import subprocess
from functools import cache
from pathlib import Path

import numpy as np

from conftest import need

JUDGES = Path(__file__).parent / "judges"


def judge(name, *arguments):
    """What a judge says of files (paths), with whatever else it wants to know."""
    server = _server()
    asked = [str(given.resolve()) if isinstance(given, Path) else given for given in arguments]
    server.stdin.write(json.dumps({"judge": name, "arguments": asked}) + "\n")
    server.stdin.flush()
    line = server.stdout.readline()
    assert line, f"the judge {name} went away"
    answer = json.loads(line)
    assert "said" in answer, answer.get("error")
    return answer["said"]


def validated(*files):
    """What the official validator says of glTF files, a report for each."""
    return judge("validate", *map(Path, files))


def positions(file, times):
    """Where a real client puts each node of a glTF file in its first animation: ``{node: [[x, y, z] per time]}``."""
    return judge("positions", Path(file), [float(time) for time in times])


def skins(file, times, step=7):
    """Where a real client puts every so many-th vertex of a glTF file in its first animation: ``(times, n, 3)``."""
    return np.array(judge("skins", Path(file), [float(time) for time in times], step))


@cache
def _server():
    node = shutil.which("node")
    there = node is not None and (JUDGES / "node_modules" / "three").exists()
    need("Node with the packages of tests/judges (npm ci)", there)
    pipes = {"stdin": subprocess.PIPE, "stdout": subprocess.PIPE, "stderr": subprocess.DEVNULL}
    server = subprocess.Popen([node, JUDGES / "serve.mjs"], **pipes, text=True)

    def stop():
        server.stdin.close()
        server.stdout.close()
        server.wait()

    atexit.register(stop)
    return server
