"""What a file moves beside the figure - a prop, a camera, the size of a bone, a second figure - goes along."""

from pathlib import Path

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

import fairswap
from judging import positions, validated
from making import act, figure, run
from rewrites import Scene

WALK_S = 6.0


def take(name="take.glb", clip="walk"):
    """A walk whose one animation also moves a lamp along, turns a camera, and makes the head grow."""
    fairswap.save(name, figure("Juniper"), [act(clip, "Juniper")], force=True)
    scene = Scene(Path(name).read_bytes())
    first = len(scene.nodes)
    scene.json["cameras"] = [{"type": "perspective", "perspective": {"yfov": 0.8, "znear": 0.1}}]
    scene.nodes.extend([{"name": "lamp"}, {"name": "camera", "camera": 0}])
    scene.roots().extend([first, first + 1])
    head = next(i for i, row in enumerate(scene.nodes) if row.get("name") == "skull")
    times = scene.add(np.linspace(0.0, WALK_S, 13)[:, None])
    turns = Rotation.from_rotvec(np.radians(np.linspace(0, 720, 13))[:, None] * [0, 1, 0]).as_quat()
    turns[::2] *= -1  # as they come
    animation = scene.json["animations"][0]
    for node, path, values in (
        (first, "translation", np.linspace([0, 0, 0], [0, 0, WALK_S], 13)),
        (first + 1, "rotation", turns),
        (head, "scale", np.linspace([1, 1, 1], [1.5, 1.5, 1.5], 13)),
    ):
        animation["samplers"].append({"input": times, "output": scene.add(values)})
        target = {"node": node, "path": path}
        animation["channels"].append({"sampler": len(animation["samplers"]) - 1, "target": target})
    Path(name).write_bytes(scene.bytes())
    return name


def tracks(path, animation=0):
    """The keys of lamp, camera and head in a written file: times, values."""
    scene = Scene(Path(path).read_bytes())
    names = {i: row.get("name") for i, row in enumerate(scene.nodes)}
    found = {}
    rows = scene.json["animations"][animation]
    for channel in rows["channels"]:
        name, path_ = names[channel["target"]["node"]], channel["target"]["path"]
        if (name, path_) in (("lamp", "translation"), ("camera", "rotation"), ("skull", "scale")):
            sampler = rows["samplers"][channel["sampler"]]
            found[name] = scene.arrays[sampler["input"]][:, 0], scene.arrays[sampler["output"]]
    return found


def lamp_way(path, animation=0):
    """From where to where the lamp goes, and how long it takes."""
    times, values = tracks(path, animation)["lamp"]
    return values[0, 2], values[-1, 2], times[-1]


@pytest.mark.parametrize(
    ("verb", "options", "wanted"),
    [
        ("cut", ["--piece", "part=1..3"], (1.0, 3.0, 2.0)),
        ("speed", ["--times", "2"], (0.0, 6.0, 3.0)),
        ("reverse", [], (6.0, 0.0, 6.0)),
        ("rate", ["--to", "24"], (0.0, 6.0, 6.0)),
        ("thin", ["--mm", "2"], (0.0, 6.0, 6.0)),
        ("mirror", [], (0.0, 6.0, 6.0)),
    ],
)
@pytest.mark.long(but=2)
def test_every_change_of_a_clip_takes_along_what_moves_beside(verb, options, wanted):
    done = run("clip", verb, take(), *options, "-o", "out.glb")
    assert done.returncode == 0, done.stderr
    assert lamp_way("out.glb") == pytest.approx(wanted, abs=0.02)
    assert set(tracks("out.glb")) == {"lamp", "camera", "skull"}
    turns = Rotation.from_quat(tracks("out.glb")["camera"][1])
    swing = (turns[1:] * turns[:-1].inv()).magnitude().sum()
    assert np.degrees(swing) == pytest.approx(720 * abs(wanted[1] - wanted[0]) / 6, abs=10)
    for report in validated("out.glb"):
        assert report["errors"] == 0, report


def test_a_new_rest_pose_and_a_profile_change_nothing_beside():
    fairswap.pose.set(take(), "a:45").save("a.glb")
    assert lamp_way("a.glb") == pytest.approx((0.0, 6.0, 6.0), abs=1e-4)
    places = positions("a.glb", [0.0, 2.5, 6.0])
    lamp = next(i for i, row in enumerate(Scene(Path("a.glb").read_bytes()).nodes) if row.get("name") == "lamp")
    assert [place[2] for place in places[str(lamp)]] == pytest.approx([0.0, 2.5, 6.0], abs=1e-4)


def test_joined_takes_move_the_lamp_one_after_the_other():
    scene = Scene(Path(take()).read_bytes())
    again = {**scene.json["animations"][0], "name": "Again"}
    scene.json["animations"].append(again)
    Path("two.glb").write_bytes(scene.bytes())
    done = run("clip", "join", "two.glb", "--clip", "Walk", "--clip", "Again", "--blend", "0", "-o", "joined.glb")
    assert done.returncode == 0, done.stderr
    count = len(Scene(Path("joined.glb").read_bytes()).json["animations"])
    ways = [lamp_way("joined.glb", number) for number in range(count)]
    assert any(end == pytest.approx(12.0, abs=0.1) for _, _, end in ways)


def test_a_motion_that_is_carried_over_leaves_the_lamp_of_the_source_behind():
    """What is beside belongs to its own file; the target's nodes are others."""
    source = take()
    fairswap.convert(source, figure("Osric")).save("carried.glb")
    assert not tracks("carried.glb")


def test_what_a_file_holds_beside_its_figures_is_listed_with_what_moves_it():
    found = fairswap.inspect(take())
    assert [(row.kind, row.name, row.moved_by) for row in found.beside] == [
        ("prop", "lamp", ("Walk",)), ("camera", "camera", ("Walk",)),
    ]  # fmt: skip
    text = run("inspect", "take.glb").stdout
    assert "lamp (moved by Walk)" in text
    scene = Scene(Path("take.glb").read_bytes())
    scene.json["scenes"].append({"name": "empty stage", "nodes": []})
    mesh = {"primitives": [{"attributes": {"POSITION": scene.add(np.eye(3))}}], "name": "box"}
    scene.json["meshes"].append(mesh)
    scene.nodes.append({"name": "box", "mesh": len(scene.json["meshes"]) - 1})
    scene.roots().append(len(scene.nodes) - 1)
    Path("more.glb").write_bytes(scene.bytes())
    kinds = {(row.kind, row.name, bool(row.moved_by)) for row in fairswap.inspect("more.glb").beside}
    assert kinds >= {("prop", "box", False), ("scene", "empty stage", False), ("prop", "lamp", True)}
    assert not fairswap.inspect(fairswap.demo_file("juniper.glb")).beside


def test_what_moved_beside_a_source_is_told_to_stay_behind():
    done = run("convert", take(), "--onto", fairswap.demo_file("pip.glb"), "-o", "onto.glb", "--json")
    told = [row["message"] for row in done.report["findings"] if row["code"] == "beside-left"]
    assert told
    assert "lamp" in told[0]
    assert "camera" in told[0]


def test_a_root_that_is_added_to_a_motion_file_keeps_its_clips():
    from fairswap.bones.assignment import roles_of
    from fairswap.figures.root import document_with_root

    fairswap.save("walk.bvh", figure("Osric"), [act("walk", "Osric")])
    document = fairswap.load("walk.bvh")
    grown = document_with_root(document, roles_of(document.figure, clip=document.clips[0]))
    assert len(grown.clips) == 1
    before, after = document.clips[0].world().positions, grown.clips[0].world().positions
    assert np.abs(after[:, 1:] - before).max() < 1e-9
