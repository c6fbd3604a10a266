"""Bodies of separate blocks, without a skin: read, moved, and written in their own structure."""

from __future__ import annotations

import json

import numpy as np
import pytest

import fairswap
from fairswap.demo.repertoire import ACTS
from making import FREE, Gltf, act, figure

BOX = np.array([[x, y, z] for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)], dtype=float)
FACES = np.array([[0, 1, 3], [0, 3, 2], [4, 6, 7], [4, 7, 5], [0, 4, 5], [0, 5, 1], [2, 3, 7], [2, 7, 6],
                  [0, 2, 6], [0, 6, 4], [1, 5, 7], [1, 7, 3]])  # fmt: skip
# Name, above, where its joint is, the middle of its block from there, half of its size.
FIFTEEN = [
    ("seat", "", (0, 0.95, 0), (0, 0.06, 0), (0.16, 0.09, 0.09)),
    ("barrel", "seat", (0, 1.10, 0), (0, 0.18, 0), (0.18, 0.19, 0.10)),
    ("pate", "barrel", (0, 1.50, 0), (0, 0.13, 0), (0.11, 0.13, 0.12)),
    *((f"{name}.{side}", f"{above}.{side}" if dotted else above, (sign * x, y, z), (sign * dx, dy, dz), half)
      for sign, side in ((1, "L"), (-1, "R"))
      for name, above, dotted, (x, y, z), (dx, dy, dz), half in (
          ("wing", "barrel", False, (0.20, 1.42, 0), (0.14, 0, 0), (0.14, 0.05, 0.05)),
          ("wingend", "wing", True, (0.48, 1.42, 0), (0.13, 0, 0), (0.13, 0.045, 0.045)),
          ("paw", "wingend", True, (0.74, 1.42, 0), (0.08, 0, 0), (0.08, 0.03, 0.05)),
          ("stilt", "seat", False, (0.10, 0.92, 0), (0, -0.21, 0), (0.07, 0.21, 0.07)),
          ("stiltend", "stilt", True, (0.10, 0.50, 0), (0, -0.2, 0), (0.06, 0.2, 0.06)),
          ("clog", "stiltend", True, (0.10, 0.09, 0), (0, -0.045, 0.06), (0.05, 0.045, 0.13)),
      )),
]  # fmt: skip


def blocks(parts, nested=False, turn=None):
    """A glTF of boxes that hang on each other; ``nested``: joints are bare nodes, each block a node below its joint."""
    made = Gltf(nodes=[], meshes=[], scenes=[{"nodes": [0]}], scene=0)
    index, places = {}, {}
    for name, above, place, middle, half in parts:
        vertices = np.array(middle) + BOX * half
        indices = made.add(FACES.ravel(), "<u4")
        mesh = {"primitives": [{"attributes": {"POSITION": made.add(vertices, bounds=True)}, "indices": indices}]}
        made.json["meshes"].append(mesh)
        offset = np.array(place) - places.get(above, np.zeros(3))
        node = {"name": name, "translation": offset.tolist()}
        index[name], places[name] = len(made.json["nodes"]), np.array(place)
        made.json["nodes"].append(node)
        if above:
            made.json["nodes"][index[above]].setdefault("children", []).append(index[name])
        if nested:
            made.json["nodes"].append({"name": f"{name} block", "mesh": len(made.json["meshes"]) - 1})
            node.setdefault("children", []).append(len(made.json["nodes"]) - 1)
        else:
            node["mesh"] = len(made.json["meshes"]) - 1
    if turn is not None:
        made.json["nodes"][0]["rotation"] = turn
    return made


@pytest.mark.parametrize("nested", [False, True])
def test_a_body_of_fifteen_blocks_is_a_figure(nested, tmp_path):
    document = blocks(FIFTEEN, nested).load(tmp_path)
    assert len(document.figures) == 1
    assert len(document.figure.skeleton) == 15
    assert len(document.figure.meshes) == 15
    assert not document.held
    rigged = fairswap.RiggedFigure.of(document)
    names = {role: rigged.skeleton.names[bone] for role, bone in rigged.roles.bones.items()}
    assert names["hips"] == "seat"
    assert names["spine_1"] == "barrel"
    assert names["lower_arm_left"] == "wingend.L"
    assert names["foot_right"] == "clog.R"


@pytest.mark.parametrize("name", sorted(ACTS))
@pytest.mark.long(but=2)
def test_all_acts_go_to_blocks_and_back(name, tmp_path):
    target = blocks(FIFTEEN).load(tmp_path)
    source = fairswap.Document("act", "", figure("Juniper").space, (figure("Juniper"),), (act(name, "Juniper"),))
    made = fairswap.convert(source, target, face=fairswap.FaceOptions("none"))
    made.save(tmp_path / "moved.glb")
    written = fairswap.load(tmp_path / "moved.glb")
    # In its own structure: the same nodes with the same meshes on them, no skin.
    before, after = json_of(tmp_path / "made.glb"), json_of(tmp_path / "moved.glb")
    assert [node.get("mesh") for node in after["nodes"]][:15] == [node.get("mesh") for node in before["nodes"]]
    assert "skins" not in after
    clip = written.clips[0]
    assert_same_turns(source.clips[0], source.figure, clip, written.figure)
    # Each block stands as its bone does: read again by no code of ours but the matrices.
    back = fairswap.convert(written, figure("Osric"), motion=FREE, face=fairswap.FaceOptions("none"))
    assert back.done[0].clip.frames == clip.frames
    assert_same_turns(clip, written.figure, back.done[0].clip, figure("Osric"))


def assert_same_turns(a, figure_a, b, figure_b):
    """Upper arms and legs point the same way in both, in all frames."""
    ways = []
    for clip, whose in ((a, figure_a), (b, figure_b)):
        roles, places = fairswap.RiggedFigure.of(whose).roles.bones, clip.poses.world().positions
        ways.append([
            unit(places[:, roles[f"{end}_{side}"]] - places[:, roles[f"{start}_{side}"]])
            for start, end in (("lower_arm", "hand"), ("lower_leg", "foot")) for side in ("left", "right")
        ])  # fmt: skip
    for first, second in zip(*ways, strict=True):
        angles = np.degrees(np.arccos(np.clip((first * second).sum(axis=1), -1, 1)))
        assert np.median(angles) < 12.0


def unit(vectors):
    return vectors / np.linalg.norm(vectors, axis=1, keepdims=True)


def json_of(path):
    data = path.read_bytes()
    length = int.from_bytes(data[12:16], "little")
    return json.loads(data[20 : 20 + length])


def test_scenery_is_no_body(tmp_path):
    room = [("floor", "", (0, 0, 0), (0, 0, 0), (3, 0.1, 3)),
            *((f"chair {i}", "floor", (0.7 * i - 2, 0.4, 0.3 * i * i - 1), (0, 0, 0), (0.2, 0.4, 0.2))
              for i in range(8))]  # fmt: skip
    document = blocks(room).load(tmp_path)
    assert not document.figures
    assert [row.kind for row in document.held].count("prop") == 9
