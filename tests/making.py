"""Making things for tests: glTF files piece by piece, BVH text, skeletons, clips, and the troupe."""

from __future__ import annotations

import contextlib
import io
import json
import struct
from fractions import Fraction
from functools import cache
from pathlib import Path
from typing import NamedTuple

import jsonschema
import numpy as np
import pytest

import fairswap
from fairswap.cli.main import status_of
from fairswap.demo.acts import perform
from fairswap.demo.anatomy import body_of
from fairswap.demo.example import troupe_figure
from fairswap.demo.repertoire import ACTS
from fairswap.model.clip import Clip
from fairswap.model.poses import Poses
from fairswap.model.rotation import normalized
from fairswap.model.skeleton import Skeleton

TROUPE = Path(fairswap.__file__).parent / "data" / "troupe"
# Figures of another make: they lie beside the project, not everywhere that it is.
RIGS = Path(__file__).parents[2] / "shared" / "rigs"
COMPONENTS = {"i1": 5120, "u1": 5121, "<i2": 5122, "<u2": 5123, "<u4": 5125, "<f4": 5126}
TYPES = {1: "SCALAR", 2: "VEC2", 3: "VEC3", 4: "VEC4", 16: "MAT4"}
# Nothing but what was carried over: no feet planted, no hands brought together.
FREE = fairswap.MotionOptions(feet="free", hands="free")


class Gltf:
    """A glTF document grown by hand: ``json`` is free to be changed, ``add`` puts arrays into the buffer."""

    def __init__(self, **more):
        self.json = {"asset": {"version": "2.0"}, "accessors": [], "bufferViews": [], **more}
        self.binary = bytearray()

    def view(self, data: bytes, **more) -> int:
        self.binary += bytes(-len(self.binary) % 4)
        row = {"buffer": 0, "byteOffset": len(self.binary), "byteLength": len(data), **more}
        self.binary += data
        self.json["bufferViews"].append(row)
        return len(self.json["bufferViews"]) - 1

    def add(self, values, dtype="<f4", bounds=False, **more) -> int:
        array = np.asarray(values, dtype=dtype)
        width = array.shape[1] if array.ndim == 2 else 1
        row = {"bufferView": self.view(array.tobytes()), "componentType": COMPONENTS[dtype], "count": len(array)}
        row |= {"type": TYPES[width], **more}
        if bounds:
            row |= {"min": np.atleast_1d(array.min(axis=0)).tolist(), "max": np.atleast_1d(array.max(axis=0)).tolist()}
        self.json["accessors"].append(row)
        return len(self.json["accessors"]) - 1

    def glb(self) -> bytes:
        document = {key: value for key, value in self.json.items() if value != []}
        if self.binary:
            document.setdefault("buffers", [{"byteLength": len(self.binary)}])
        text = json.dumps(document).encode()
        text += b" " * (-len(text) % 4)
        body = bytes(self.binary) + bytes(-len(self.binary) % 4)
        chunks = struct.pack("<II", len(text), 0x4E4F534A) + text
        if body:
            chunks += struct.pack("<II", len(body), 0x004E4942) + body
        return struct.pack("<4sII", b"glTF", 2, 12 + len(chunks)) + chunks

    def write(self, path: Path) -> Path:
        path.write_bytes(self.glb())
        return path

    def load(self, folder: Path, name: str = "made.glb"):
        return fairswap.load(self.write(folder / name))


def arm(**top) -> Gltf:
    """A skinned strip on three bones in a row, bent by one animation: the least that is a figure."""
    made = Gltf(
        scene=0,
        scenes=[{"nodes": [0, 4]}],
        nodes=[
            {"name": "top", "children": [1], **top},
            {"name": "shoulder", "translation": [0, 1, 0], "children": [2]},
            {"name": "elbow", "translation": [0, 0.5, 0], "children": [3]},
            {"name": "wrist", "translation": [0, 0.4, 0]},
            {"name": "sleeve", "mesh": 0, "skin": 0},
        ],
    )
    places = [[x, 1 + 0.3 * i, 0.0] for i in range(4) for x in (-0.1, 0.1)]
    faces = [[2 * i + a, 2 * i + b, 2 * i + c] for i in range(3) for a, b, c in ((0, 1, 2), (1, 3, 2))]
    joints = [[min(i, 2), 0, 0, 0] for i in range(4) for _ in range(2)]
    attributes = {
        "POSITION": made.add(places, bounds=True),
        "JOINTS_0": made.add(joints, "u1"),
        "WEIGHTS_0": made.add([[1, 0, 0, 0]] * 8),
    }
    made.json["meshes"] = [{"primitives": [{"attributes": attributes, "indices": made.add(np.ravel(faces), "<u2")}]}]
    made.json["skins"] = [{"joints": [1, 2, 3]}]
    bend = [[0, 0, np.sin(a / 2), np.cos(a / 2)] for a in (0.0, 0.6, 1.2)]
    animate(made, 2, "rotation", [0, 0.5, 1.0], bend)
    return made


def animate(made: Gltf, node: int, path: str, times, values, interpolation="LINEAR", dtype="<f4", **more) -> None:
    """Add a channel to the first animation."""
    animation = made.json.setdefault("animations", [{"name": "bend", "channels": [], "samplers": []}])[0]
    row = {
        "input": made.add(times, bounds=True),
        "output": made.add(values, dtype, **more),
        "interpolation": interpolation,
    }
    animation["samplers"].append(row)
    animation["channels"].append({"sampler": len(animation["samplers"]) - 1, "target": {"node": node, "path": path}})


def random_skeleton(bones: int, seed: int = 0) -> Skeleton:
    rng = np.random.default_rng(seed)
    parents = np.array([-1] + [int(rng.integers(max(0, i - 4), i)) for i in range(1, bones)], dtype=np.intp)
    names = tuple(f"bone {i}" for i in range(bones))
    return Skeleton(names, parents, normalized(rng.normal(size=(bones, 4))), rng.normal(size=(bones, 3)) * 0.2)


def random_poses(skeleton: Skeleton, frames: int, seed: int = 1, moved=(0, 3)) -> Poses:
    rng = np.random.default_rng(seed)
    rotations = np.ascontiguousarray(normalized(rng.normal(size=(len(skeleton), frames, 4))).transpose(0, 2, 1))
    return Poses(skeleton, rotations, np.array(moved), rng.normal(size=(len(moved), 3, frames)))


def bvh(hierarchy: str, rows, frame_time="0.0333333", frames=None) -> str:
    body = "\n".join(" ".join(map(str, row)) for row in rows)
    count = len(rows) if frames is None else frames
    return f"HIERARCHY\n{hierarchy}\nMOTION\nFrames: {count}\nFrame Time: {frame_time}\n{body}\n"


STICK = """ROOT a
{
 OFFSET 0 90 0
 CHANNELS 6 Xposition Yposition Zposition Zrotation Xrotation Yrotation
 JOINT b
 {
  OFFSET 0 50 0
  CHANNELS 3 Zrotation Xrotation Yrotation
  End Site
  {
   OFFSET 0 30 0
  }
 }
}"""


def rig(name: str) -> Path:
    """A file of the figures of another make; where they are not, the test is skipped."""
    path = RIGS / name
    if not path.is_file():
        pytest.skip("the rigs of another make are not here")
    return path


@cache
def figure(name: str):
    return troupe_figure(name)


@cache
def act(name: str, performer: str) -> Clip:
    made = ACTS[name]()
    return perform(made, body_of(performer), figure(performer).skeleton)


def clip_of(poses: Poses, name: str = "made", rate: int = 30) -> Clip:
    return Clip(name, Fraction(rate), poses)


def swap_between(source, target, *, source_bones=None, target_bones=None, motion=None, target_motion=None, **more):
    """A swap between two figures; ``more`` are ``strict`` and reference poses."""
    shared = {"strict": more.pop("strict", False)}
    hands = more.pop("hands_reference", "auto")
    references = more.pop("source_reference", "auto"), more.pop("target_reference", "auto")
    assert not more
    at_rest = "rest" if hands == "rest" else "auto"
    a = rigged(source, bones=source_bones, clip=motion, reference=references[0], hands=at_rest, part="source", **shared)
    b = rigged(target, bones=target_bones, clip=target_motion, reference=references[1], hands=hands, part="target")
    return fairswap.Swap(a, b)


def rigged(figure, **options):
    return fairswap.RiggedFigure.of(figure, **options)


def run(*words):
    """The command line, in this process: status, stdout and stderr."""
    out, err = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        status = status_of([str(word) for word in words])
    return Ran(status, out.getvalue(), err.getvalue())


@cache
def published_schema():
    """What reports look like, as it is published."""
    return json.loads((Path(__file__).parents[1] / "docs" / "reports.schema.json").read_text())


def keeps_to_schema(command, report):
    """Fail where a report is not what is published for it."""
    schema = published_schema()
    jsonschema.Draft202012Validator(schema["properties"][command] | {"$defs": schema["$defs"]}).validate(report)


class Ran(NamedTuple):
    """What a command did."""

    returncode: int
    stdout: str
    stderr: str

    @property
    def report(self):
        """What ``--json`` printed."""
        return json.loads(self.stdout)
