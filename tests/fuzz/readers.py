"""Everything that reads a file: what it reads well, how it is made bad, and how it is asked."""

from __future__ import annotations

import struct
from collections.abc import Callable
from functools import cache
from pathlib import Path
from random import Random
from tempfile import TemporaryDirectory
from typing import NamedTuple

import numpy as np

import fairswap
from fairswap.clips.cutting import cut_into, pieces_from_table
from fairswap.face.speech.mouth import units_from_phones
from fairswap.face.speech.phones import read_phones
from fairswap.face.tracks import held_frames, read_tracks
from fairswap.pose.saved import SavedPose
from fairswap.retarget.layers import Layers
from fuzz.mangling import mangled
from judging import JUDGES, judge
from making import STICK, act, arm, bvh, clip_of, figure, random_poses, random_skeleton
from scenes import baked, small_avatar, small_avatar_motion, small_scene

COMPRESSORS = JUDGES / "node_modules" / "meshoptimizer"
_ROWS = [[0, 90, 0, 10, 20, 30, -5, 15, 25]] * 5


class Reader(NamedTuple):
    """One reader: its name, the suffix of its files, good contents, their kind, and what is done with a file."""

    name: str
    suffix: str
    kind: str
    contents: Callable[[], tuple[bytes, ...]]
    use: Callable[[Path], None]

    def case(self, seed: int, number: int) -> bytes:
        """The ``number``-th bad file of a ``seed``."""
        chance = Random(f"{seed} {self.name} {number}")
        return mangled(chance.choice(self.contents()), chance, self.kind)


def _use_document(path: Path) -> None:
    """Read, taken stock of, and written: what was accepted is finite, and can be written and read again."""
    document = fairswap.load(path)
    fairswap.inspect(document)
    for one in document.figures:
        assert np.isfinite(one.rest_points).all()
    for clip in document.clips:
        assert np.isfinite(clip.world().positions).all()
    if document.figures:
        out = path.with_name("again.glb")
        fairswap.save(out, document.figure, document.clips_of(document.figure), force=True)
        fairswap.load(out)


@cache
def _compressed_figures() -> tuple[bytes, ...]:
    """Small figures as other programs pack them, where there is Node to do it; as they are where not."""
    if not COMPRESSORS.exists():
        return _small_figures()
    ways = [{"how": "draco"}] + [
        {"how": "meshopt", "extension": f"{kind}_meshopt_compression", "filters": kind == "KHR"}
        for kind in ("EXT", "KHR")
    ]
    out = []
    with TemporaryDirectory() as folder:
        plain, made = Path(folder, "plain.glb"), Path(folder, "packed.glb")
        for content in _small_figures():
            plain.write_bytes(content)
            for way in ways:
                judge("pack", plain, made, way)
                out.append(made.read_bytes())
    return tuple(out)


@cache
def _small_figures() -> tuple[bytes, ...]:
    morphed = arm()
    position = morphed.json["meshes"][0]["primitives"][0]["attributes"]["POSITION"]
    morphed.json["meshes"][0]["primitives"][0]["targets"] = [{"POSITION": position}]
    morphed.json["meshes"][0]["extras"] = {"targetNames": ["smile"]}
    morphed.json["extensions"] = {
        "VRMC_vrm": {"specVersion": "1.0", "humanoid": {"humanBones": {"hips": {"node": 1}, "spine": {"node": 2}}}}
    }
    morphed.json["extensionsUsed"] = ["VRMC_vrm"]
    return arm().glb(), morphed.glb()


@cache
def _tables() -> tuple[bytes, ...]:
    folder = Path("fuzz-good")
    folder.mkdir(exist_ok=True)
    skeleton = random_skeleton(4)
    made = fairswap.Figure("made", skeleton, ())
    fairswap.save(folder / "made.csv", made, [clip_of(random_poses(skeleton, 6))], force=True)
    return ((folder / "made.csv").read_bytes(),)


def _scene(suffix: str) -> Callable[[], tuple[bytes, ...]]:
    """A small figure with a skin, a morph, a picture and a clip, in another format."""

    @cache
    def made() -> tuple[bytes, ...]:
        folder = Path("fuzz-good")
        folder.mkdir(exist_ok=True)
        scene = small_scene()
        fairswap.save(folder / f"made{suffix}", scene.figure, scene.clips, force=True)
        return ((folder / f"made{suffix}").read_bytes(),)

    return made


def _baked() -> tuple[bytes, ...]:
    """The same with its motion as a table."""
    return tuple(baked(made.decode(), 2).encode() for made in _scene(".x3d")())


def _mesh() -> tuple[bytes, ...]:
    return (
        b"mtllib a.mtl\no body\nv 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0.5\nvt 0 0\nvt 1 0\nvt 1 1\nvt 0 1\nvn 0 0 1\n"
        b"usemtl skin\nf 1/1/1 2/2/1 3/3/1 4/4/1\nf -4 -3 -2\n",
    )


def _points() -> tuple[bytes, ...]:
    head = (
        "element vertex 4\nproperty float x\nproperty float y\nproperty float z\nproperty uchar red\n"
        "property uchar green\nproperty uchar blue\nelement face 2\nproperty list uchar int vertex_indices\n"
        "end_header\n"
    )
    rows = [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0.5)]
    text = "\n".join(f"{x} {y} {z} 255 0 9" for x, y, z in rows) + "\n3 0 1 2\n4 0 1 2 3\n"
    binary = b"".join(struct.pack("<3f3B", *row, 255, 0, 9) for row in rows)
    faces = struct.pack("<B3i", 3, 0, 1, 2) + struct.pack("<B4i", 4, 0, 1, 2, 3)
    return (
        f"ply\nformat ascii 1.0\n{head}{text}".encode(),
        f"ply\nformat binary_little_endian 1.0\n{head}".encode() + binary + faces,
    )


def _text(*contents: str) -> Callable[[], tuple[bytes, ...]]:
    return lambda: tuple(content.encode() for content in contents)


def _drafted_profile() -> tuple[bytes, ...]:
    return (fairswap.bones.draft(figure("Pip")).text("drafted").encode(),)


@cache
def _walk():
    return act("walk", "Osric")


def _use_phones(path: Path) -> None:
    phones = read_phones(path)
    assert np.isfinite(units_from_phones(phones, _walk().rate)).all()


def _use_profile(path: Path) -> None:
    fairswap.bones.named(path).assign(figure("Pip").skeleton)


def _use_pieces(path: Path) -> None:
    cut_into(_walk(), pieces_from_table(path))


READERS = (
    Reader("glb", ".glb", "glb", _small_figures, _use_document),
    Reader("glb compressed", ".glb", "glb", _compressed_figures, _use_document),
    Reader("vrm", ".vrm", "glb", lambda: (small_avatar(),), _use_document),
    Reader("vrma", ".vrma", "glb", lambda: (small_avatar_motion(),), _use_document),
    Reader("collada", ".dae", "text", _scene(".dae"), _use_document),
    Reader("collada packed", ".zae", "bytes", _scene(".zae"), _use_document),
    Reader("usd text", ".usda", "text", _scene(".usda"), _use_document),
    Reader("usd binary", ".usdc", "bytes", _scene(".usdc"), _use_document),
    Reader("usd packed", ".usdz", "bytes", _scene(".usdz"), _use_document),
    Reader("x3d", ".x3d", "text", _scene(".x3d"), _use_document),
    Reader("x3d baked", ".x3d", "text", _baked, _use_document),
    Reader("obj", ".obj", "text", _mesh, _use_document),
    Reader("ply", ".ply", "bytes", _points, _use_document),
    Reader("bvh", ".bvh", "text", _text(bvh(STICK, _ROWS)), _use_document),
    Reader("motion table", ".csv", "text", _tables, _use_document),
    Reader("bone profile", ".toml", "text", cache(_drafted_profile), _use_profile),
    Reader(
        "face chart", ".toml", "text",
        _text('fairswap = "face/1"\nname = "x"\n[morphs.Smile]\nunits = {lip_corner_puller_left = 1.0}\n'
              'range = [0, 100]\n[morphs.Both]\nsum = {Smile = 0.5, Frown = 1.0}\n[morphs.Frown]\n'
              'units = {brow_lowerer_left = 0.5}\n'),
        lambda path: fairswap.FaceChart.load(path) and None,
    ),
    Reader(
        "platform", ".toml", "text",
        lambda: (fairswap.platform.template("x").replace("\n# ", "\n").encode(),
                 fairswap.platform.template("x").encode()),
        lambda path: fairswap.platform.named(path) and None,
    ),
    Reader(
        "pose", ".toml", "text",
        _text('fairswap = "pose/1"\nname = "x"\n[turns]\nhead = [0, 10, -4.5]\nupper_arm_left = [1, 2, 3]\n'),
        lambda path: SavedPose.load(path) and None,
    ),
    Reader(
        "layers", ".toml", "text",
        _text('fairswap = "layers/1"\n[[layer]]\nname = "a"\nrole = "head"\nturn = [0, 1, 2]\nfrom = 1.0\nto = 2.0\n'
              '[[layer]]\nrole = "hand_left"\nkeys = [{time = 0.0, turn = [0, 0, 1]}, {time = 1.0}]\n'),
        lambda path: Layers.load(path) and None,
    ),
    Reader("table of pieces", ".csv", "text",
           _text("name,start,end\nwalk,0,1.5\nturn,45f,0:03\n", 'name;start;end\n"a b";0,5;1,5\n'), _use_pieces),
    Reader("table of phones", ".csv", "text", _text("start,end,phone\n0,0.2,m\n0.2,0.5,a\n0.5,0.8,sil\n"), _use_phones),
    Reader("table of weights", ".csv", "text",
           _text("time_s,smile,frown\n0,0,1\n0.0333,0.5,0.5\n0.0667,1,0\n"), lambda path: read_tracks(path) and None),
    Reader("table of expressions", ".csv", "text", _text("frame,name\n0,smile\n10,frown\n"),
           lambda path: held_frames(path) and None),
)  # fmt: skip
