"""Dressed figures: clothes on skeletons of their own go along with the body, whatever is done."""

from pathlib import Path

import numpy as np
import pytest

import fairswap
from fairswap.model.mesh import deformed_vertices
from judging import positions, validated
from making import FREE, TROUPE, act, figure, run
from rewrites import Scene, copied_skeleton, garment, rewritten

CLOAKS = [
    "a cloak on a copy of the skeleton",
    "a cloak on a few bones without keys",
    "a cloak two per cent too large",
]


def walking(who="Juniper"):
    fairswap.save("walk.glb", figure(who), [act("walk", who)], force=True)
    return Path("walk.glb").read_bytes()


def dressed(cloak):
    Path("dressed.glb").write_bytes(rewritten(walking(), cloak))
    return "dressed.glb"


def how_far(path):
    """How far a cloak gets from the body whose shape it has, metres: over the frames of the first clip."""
    document = fairswap.load(path)
    assert len(document.figures) == 1
    meshes = document.figure.meshes
    cloak = next(i for i, mesh in enumerate(meshes) if mesh.name == "cloak")
    body = next(i for i, mesh in enumerate(meshes) if len(mesh.vertices) == len(meshes[cloak].vertices))
    assert body != cloak
    # A few bones hold only what hangs on them as the body does.
    same = np.ones(len(meshes[body].vertices), dtype=bool)
    names = document.figure.skeleton.names
    for row in range(len(same)):
        a, b = (
            {names[bone] for bone, weight in zip(mesh.joints[row], mesh.weights[row], strict=True) if weight > 0}
            for mesh in (meshes[body], meshes[cloak])
        )
        same[row] = a == b
    assert same.mean() > 0.2
    far = []
    for share in (0.0, 0.4, 0.9):
        world = document.clips[0].at([share * document.clips[0].duration_s]).world() if document.clips else None
        frames = [deformed_vertices(meshes[i], world or document.figure.skeleton.rest, 0)[same] for i in (body, cloak)]
        far.append(np.linalg.norm(frames[0] - frames[1], axis=1).max())
    return max(far)


@pytest.mark.parametrize("cloak", CLOAKS)
@pytest.mark.long(but=1)
def test_clothes_go_along(cloak):
    path = dressed(cloak)
    most = 0.06 if "too large" in cloak else 1e-4
    told = fairswap.inspect(path)
    assert "skeletons-joined" in {finding.code for finding in told.findings}
    onto = fairswap.convert(fairswap.demo_motion("turn-and-bow", by="Osric"), path, motion=FREE)
    onto.save("onto.glb")
    fairswap.pose.set(path, "t").save("t.glb")
    for verb in (
        ("fit", path, "--platform", "quillmoor", "-o", "fitted"),
        ("clip", "cut", path, "--piece", "step=0.2..1.0", "-o", "cut.glb"),
        ("bones", "merge", path, "-o", "merged.glb"),
    ):
        done = run(*verb)
        assert done.returncode == 0, done.stderr
    assert fairswap.load("cut.glb").clips[0].duration_s == pytest.approx(0.8, abs=0.05)
    worn = ["onto.glb", "t.glb", "cut.glb", "merged.glb"]
    for name in worn:
        assert how_far(name) < most, name
    for report in validated(*worn, *Path("fitted").glob("*.glb")):
        assert report["errors"] == 0, report


def test_the_tails_of_a_coat_hang_on_the_body_from_then_on():
    """A bone that only the garment has, keyed and skinned, below a bone that both have."""
    scene = Scene(walking())
    garment(scene, lambda name: f"coat {name}", keys=False)
    hips = next(i for i, row in enumerate(scene.nodes) if row.get("name") == "coat hip_centre")
    scene.nodes.append({"name": "coat tail", "translation": [0.0, -0.1, -0.2]})
    tail = len(scene.nodes) - 1
    scene.nodes[hips]["children"].append(tail)
    skin = scene.json["skins"][-1]
    skin["joints"].append(tail)
    binds = scene.arrays[skin["inverseBindMatrices"]]
    skin["inverseBindMatrices"] = scene.add(np.concatenate([binds, binds[:1]]))
    animation = scene.json["animations"][0]
    swing = scene.add([[0.0, 0.0, 0.0, 1.0], [np.sin(0.2), 0.0, 0.0, np.cos(0.2)]])
    animation["samplers"].append({"input": scene.add([[0.0], [1.0]]), "output": swing})
    animation["channels"].append(
        {"sampler": len(animation["samplers"]) - 1, "target": {"node": tail, "path": "rotation"}}
    )
    Path("coat.glb").write_bytes(scene.bytes())
    document = fairswap.load("coat.glb")
    names = document.figure.skeleton.names
    assert len(document.figures) == 1
    assert "coat tail" in names
    assert not [name for name in names if name.startswith("coat ") and name not in ("coat tail", "coat hip_centre")]
    assert document.figure.skeleton.names.index("coat tail") in document.clips[0].keyed
    fairswap.convert(fairswap.demo_motion("walk", by="Pip"), document, motion=FREE).save("worn.glb")
    times = [0.0, 0.5, 1.0]
    places = positions("worn.glb", times)
    nodes = {row.get("name"): str(i) for i, row in enumerate(Scene(Path("worn.glb").read_bytes()).nodes)}
    ways = np.array(places[nodes["coat tail"]]) - np.array(places[nodes["hip_centre"]])
    assert np.linalg.norm(ways, axis=1) == pytest.approx(np.hypot(0.1, 0.2), abs=1e-4)
    assert np.ptp(np.array(places[nodes["hip_centre"]])[:, 2]) > 0.3


def test_two_who_stand_side_by_side_are_two():
    scene = Scene(walking())
    first = len(scene.nodes)
    garment(scene, lambda name: name)
    tops = [node for node in scene.roots() if node >= first and scene.nodes[node].get("name") != "cloak"]
    scene.roots()[:] = [node for node in scene.roots() if node not in tops]
    for row in scene.nodes:
        row["children"] = [node for node in row.get("children", []) if node < first or scene.nodes.index(row) >= first]
        if not row["children"]:
            del row["children"]
    held = {child for row in scene.nodes for child in row.get("children", [])}
    tops = [i for i in range(first, len(scene.nodes)) if i not in held and scene.nodes[i].get("name") != "cloak"]
    scene.nodes.append({"name": "the other", "translation": [1.5, 0.0, 0.0], "children": tops})
    scene.roots().append(len(scene.nodes) - 1)
    Path("two.glb").write_bytes(scene.bytes())
    document = fairswap.load("two.glb")
    assert len(document.figures) == 2
    assert not document.joined


def test_a_driving_skeleton_is_followed_and_drawn_with_its_skin():
    Path("driven.glb").write_bytes(rewritten(walking(), "keys on a driving skeleton"))
    done = run("convert", "driven.glb", "--onto", TROUPE / "osric.glb", "-o", "made.glb", "--json")
    assert done.returncode == 0, done.stderr
    straight = run("convert", "walk.glb", "--onto", TROUPE / "osric.glb", "-o", "straight.glb", "--json")
    a, b = (fairswap.load(name).clips[0].world().positions for name in ("made.glb", "straight.glb"))
    assert np.abs(a - b).max() < 0.002
    assert straight.returncode == 0
    assert "skeletons-joined" in done.stdout


def test_a_driving_skeleton_whose_root_stands_still_is_followed_too():
    """What nothing moves above its hips was no bone of it, and the skin's skeleton no copy: its motion was lost."""
    walk, scene = act("walk", "Juniper"), Scene(walking())
    root = next(node for node, row in enumerate(scene.nodes) if row.get("name") == "stage_root")
    for animation in scene.json["animations"]:
        animation["channels"] = [row for row in animation["channels"] if row["target"]["node"] != root]
    Path("driven.glb").write_bytes(rewritten(scene.bytes(), "keys on a driving skeleton"))
    document = fairswap.load("driven.glb")
    assert len(document.figures) == 1
    clip = document.clips[0]
    assert clip.skeleton is document.figure.skeleton
    own, wanted = (one.world().positions[:, one.bone("wrist_l")] for one in (clip, walk))
    assert np.abs(own - wanted - [1.0, 0.0, 0.0]).max() < 0.002


def test_a_clip_of_another_figure_is_not_compared_as_of_this_one():
    """It was an IndexError, or a pose of strange bones; without its name both files were said to have it."""
    pip, osric = figure("Pip"), figure("Osric")
    both = fairswap.Document("both.glb", "glTF 2.0", osric.space, (osric, pip), (act("walk", "Pip"),))
    walk = (osric, act("walk", "Osric"))
    assert both.figure is osric
    with pytest.raises(fairswap.UsageError, match=r"clip 'Walk' moves 'Pip', and not 'Osric'\. Choose"):
        fairswap.compare(walk, both, clip="Walk")
    with pytest.raises(fairswap.UsageError, match=r"no clips of 'Osric' \('Walk' of 'Pip'\)"):
        fairswap.compare(walk, both)


def test_a_copy_of_a_skeleton_alone_is_left_where_it_is():
    """A copy that nothing hangs on and nothing moves is no figure, and no part of one."""
    scene = Scene(walking())
    copied_skeleton(scene, lambda name: f"{name} guide", keys=False)
    Path("guide.glb").write_bytes(scene.bytes())
    document = fairswap.load("guide.glb")
    assert len(document.figures) == 1
    assert not document.joined
