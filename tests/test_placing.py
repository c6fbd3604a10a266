"""Where a figure stands in what is written: where it stood, on the floor, or at the origin."""

from pathlib import Path

import numpy as np
import pytest

import fairswap
from judging import validated
from making import FREE, TROUPE, act, figure, run
from rewrites import Scene, rewritten


def hovering(*ways):
    """A walking Juniper whose scene stands 2 m up and 3 m aside, written in these other ways too."""
    fairswap.save("walk.glb", figure("Juniper"), [act("walk", "Juniper")], force=True)
    scene = Scene(rewritten(Path("walk.glb").read_bytes(), *ways))
    scene.nodes.append({"name": "scene", "translation": [3.0, 2.0, -1.0], "children": list(scene.roots())})
    scene.json["scenes"][0]["nodes"] = [len(scene.nodes) - 1]
    Path("hovering.glb").write_bytes(scene.bytes())
    return "hovering.glb"


def stands(path):
    """Where the soles and the hips are at rest."""
    body = fairswap.load(path).figure
    hips = fairswap.bones.roles_of(body).bones["hips"]
    return body.floor_m, *body.skeleton.rest.positions[0, hips, [0, 2]]


WANTED = {"keep": (2.0, 3.0, -1.0), "floor": (0.0, 3.0, -1.0), "origin": (0.0, 0.0, 0.0)}


@pytest.mark.parametrize("place", WANTED)
@pytest.mark.parametrize("ways", [(), ("under a turned and scaled armature", "a prop a camera and a light")])
@pytest.mark.long(but=1)
def test_every_command_that_writes_puts_a_figure_where_it_is_asked_to(place, ways):
    path = hovering(*ways)
    commands = {
        "t.glb": ("pose", "set", path, "--to", "t"),
        "reel.glb": ("reel", path),
        "onto.glb": ("convert", TROUPE / "osric.glb", "--onto", path),
    }
    fairswap.save("osric-walk.glb", figure("Osric"), [act("walk", "Osric")], force=True)
    commands["onto.glb"] = ("convert", "osric-walk.glb", "--onto", path)
    for out, words in commands.items():
        done = run(*words, "--place", place, "-o", out, "--json")
        assert done.returncode == 0, done.stderr
        assert stands(out) == pytest.approx(WANTED[place], abs=1e-3), out
        assert ("placed" in {row["code"] for row in done.report["findings"]}) == (place != "keep")
    for report in validated(*commands):
        assert report["errors"] == 0, report


def test_a_placed_figure_walks_from_where_it_was_put():
    placed = fairswap.place(hovering(), "origin")
    moved, stood = placed.clips[0].world().positions, fairswap.load("walk.glb").clips[0].world().positions
    names = placed.figure.skeleton.names
    hips = names.index("hip_centre")
    plain = fairswap.load("walk.glb").figure.skeleton.names.index("hip_centre")
    assert np.abs(moved[:, hips] - stood[:, plain]).max() < 5e-4
    fairswap.save("there.glb", placed.figure, placed.clips)
    again = fairswap.load("there.glb").clips[0].world().positions
    assert np.abs(again[:, hips] - moved[:, hips]).max() < 1e-5


def test_motion_files_are_placed_too():
    fairswap.save("walk.bvh", figure("Osric"), [act("walk", "Osric")])
    text = Path("walk.bvh").read_text()
    start = text.index("MOTION")
    lines = text[start:].splitlines()
    rows = [line.split() for line in lines[3:] if line.strip()]
    for row in rows:
        row[1] = str(float(row[1]) + 100.0)  # a metre up, in centimetres or inches: what matters is that it is up
    Path("up.bvh").write_text(text[:start] + "\n".join([*lines[:3], *(" ".join(row) for row in rows)]) + "\n")
    made = fairswap.place("up.bvh", "floor")
    plain = fairswap.load("up.bvh")
    assert made.figure.floor_m == pytest.approx(0.0, abs=1e-6)
    shift = made.clips[0].world().positions - plain.clips[0].world().positions
    assert np.ptp(shift.reshape(-1, 3), axis=0).max() < 1e-9
    assert shift[0, 0, 1] == pytest.approx(-plain.figure.floor_m)


def test_a_place_that_is_none_is_refused():
    with pytest.raises(fairswap.UsageError, match="not a place"):
        fairswap.place(figure("Pip"), "moon")
    assert run("reel", TROUPE / "pip.glb", "--place", "moon", "-o", "x.glb").returncode == 2
    same = fairswap.load(TROUPE / "pip.glb")
    assert fairswap.place(same, "keep") is same
    assert fairswap.convert(fairswap.demo_motion("idle"), fairswap.place(same, "origin"), motion=FREE).looks_same


@pytest.mark.parametrize("ways", [(), ("under a turned and scaled armature", "a prop a camera and a light")])
def test_a_figure_of_another_size_walks_as_it_did(ways):
    path = hovering(*ways)
    document = fairswap.load(path)
    large = fairswap.resize(document, height_m=2.5)
    assert large.figure.height_m == pytest.approx(2.5, rel=1e-6)
    factor = 2.5 / document.figure.height_m
    assert factor in (pytest.approx(float(large.findings[-1].message.split("are ")[1].split()[0]), rel=1e-4),)
    before, after = document.clips[0].world().positions, large.clips[0].world().positions
    np.testing.assert_allclose(after, factor * before, atol=1e-5)
    for mesh, other in zip(document.figure.rest_vertices, large.figure.rest_vertices, strict=True):
        np.testing.assert_allclose(other, factor * mesh, atol=1e-5)
    back = fairswap.resize(large, factor=1.0 / factor)
    np.testing.assert_allclose(back.clips[0].world().positions, before, atol=1e-6)
    # Far from what people measure, too, and where there is no document to go back to.
    speck = fairswap.resize(document, factor=0.02)
    np.testing.assert_allclose(speck.clips[0].world().positions, 0.02 * before, atol=1e-6)
    fairswap.save("speck.bvh", speck.figure, speck.clips[:1])
    motion = fairswap.load("walk.glb")
    fairswap.save("own.bvh", motion.figure, motion.clips[:1])
    alone = fairswap.load("own.bvh")
    twice = fairswap.resize(alone, factor=2.0)
    np.testing.assert_allclose(twice.clips[0].world().positions, 2 * alone.clips[0].world().positions, atol=1e-9)


def test_fitting_sizes_a_figure_if_asked():
    fairswap.save("walk.glb", figure("Juniper"), [act("walk", "Juniper")])
    done = run("fit", "walk.glb", "--platform", "quillmoor", "--height", "1.7", "-o", "small.glb", "--json")
    assert done.returncode == 0, done.stderr
    assert "resized" in {row["code"] for row in done.report["findings"]}
    small = fairswap.load("small.glb")
    assert small.figure.height_m == pytest.approx(1.7, rel=1e-4)
    walk = fairswap.load("walk.glb").clips[0]
    share = 1.7 / figure("Juniper").height_m
    assert small.clips[0].travel_m == pytest.approx(share * walk.travel_m, rel=0.02)
    scaled = run("fit", "walk.glb", "--platform", "quillmoor", "--scale", "0.5", "-o", "half.glb")
    assert scaled.returncode == 0
    assert fairswap.load("half.glb").figure.height_m == pytest.approx(0.5 * figure("Juniper").height_m, rel=1e-4)
    both = run("fit", "walk.glb", "--platform", "quillmoor", "--scale", "0.5", "--height", "2", "-o", "x.glb")
    assert both.returncode == 2
    with pytest.raises(fairswap.UsageError, match="not a factor"):
        fairswap.resize("walk.glb", factor=-1.0)
    with pytest.raises(fairswap.UsageError, match="height or by a factor"):
        fairswap.resize("walk.glb")
