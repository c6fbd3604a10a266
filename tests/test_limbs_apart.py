"""Limbs that hang beside the body in a file: read as one body, moved as one, and written as the file has them."""

from __future__ import annotations

import json
import struct
from dataclasses import replace
from functools import cache
from pathlib import Path

import numpy as np
import pytest

import fairswap
from fairswap.formats.limbs_apart import limbs_apart
from making import FREE, act, figure, run
from rewrites import rewritten

WAYS = ("arms on a control bone", "legs that hang on nothing", "feet on control bones")
WHO = "Osric"


@cache
def plain():
    fairswap.save("plain.glb", figure(WHO), [act("walk", WHO)], force=True)
    return Path("plain.glb").read_bytes()


def apart(*ways):
    Path("apart.glb").write_bytes(rewritten(plain(), *ways))
    return fairswap.load("apart.glb")


def structure(path):
    """Of each node its name, the names of its children, and where it rests."""
    data = Path(path).read_bytes()
    document = json.loads(data[20 : 20 + struct.unpack_from("<I", data, 12)[0]])
    nodes = document["nodes"]
    names = [node.get("name", "") for node in nodes]
    return {
        node.get("name", ""): (
            sorted(names[child] for child in node.get("children", [])),
            np.round([*node.get("translation", [0, 0, 0]), *node.get("rotation", [0, 0, 0, 1])], 4).tolist(),
        )
        for node in nodes
    }


@pytest.mark.parametrize("way", WAYS)
def test_a_file_is_written_with_its_limbs_where_it_had_them(way):
    document = apart(way)
    assert [finding.code for finding in document.findings].count("limbs-apart") == 1
    whole = fairswap.load(plain(), format=".glb")
    assert {*document.figure.skeleton.names} >= {*whole.figure.skeleton.names}
    fairswap.save("again.glb", document.figure, document.clips)
    assert structure("again.glb") == structure("apart.glb")
    walk, again = document.clips[0], fairswap.load("again.glb").clips[0]
    assert np.abs(walk.world().positions - again.world().positions).max() < 1e-6


@pytest.mark.parametrize("way", WAYS)
@pytest.mark.long(but=1)
def test_in_another_motion_they_stay_on_the_body(way):
    """No joint of the body is further from the one above it than in the plain figure, in any frame of the file."""
    bow = fairswap.demo_motion("turn-and-bow", by="Juniper")
    made = fairswap.convert(bow, apart(way), motion=FREE)
    made.save("bow.glb", force=True)
    assert structure("bow.glb") == structure("apart.glb")
    plainly = fairswap.convert(bow, figure(WHO), motion=FREE).clips[0]
    written = fairswap.load("bow.glb").clips[0]
    ours, names = plainly.world().positions, written.skeleton.names
    own = [names.index(name) for name in plainly.skeleton.names]
    assert np.abs(written.world().positions[:, own] - ours).max() < 2e-4


def save(document):
    fairswap.save("out.glb", document.figure, document.clips)


@pytest.mark.parametrize("change", ["root", "place", "size", "keep", "t"])
@pytest.mark.long(but=2)
def test_what_is_done_to_such_a_figure_leaves_it_whole(change):
    document = apart("arms on a control bone", "feet on control bones")
    if change == "root":
        words = ["--onto", "apart.glb", "--travel", "root"]
    elif change == "keep":
        words = ["--onto", "apart.glb", "--keep-clips"]
    else:
        words = []
    if words:
        fairswap.save("walk.bvh", figure("Juniper"), [act("walk", "Juniper")])
        assert run("convert", "walk.bvh", *words, "-o", "out.glb").returncode == 0
    elif change == "place":
        save(fairswap.place(document, "origin"))
    elif change == "size":
        save(fairswap.resize(document, factor=1.3))
    else:
        fairswap.pose.set(document, "t").save("out.glb")
    out = fairswap.load("out.glb")
    roles = fairswap.bones.roles_of(out.figure)
    assert not roles.missing()
    skeleton = out.figure.skeleton
    for side in ("left", "right"):
        arm, foot = roles.bones[f"upper_arm_{side}"], roles.bones[f"foot_{side}"]
        assert roles.bones["spine_1"] in skeleton.with_ancestors([arm])
        assert roles.bones[f"lower_leg_{side}"] in skeleton.with_ancestors([foot])
    walks = [clip for clip in out.clips if clip.frames > 100]
    assert len(walks) == (2 if change == "keep" else 1)
    scale = 1.3 if change == "size" else 1.0
    for clip in walks:
        world = clip.world().positions
        for lower, upper in (("upper_arm", "shoulder"), ("foot", "lower_leg")):
            bone, above = (roles.bones[f"{part}_left"] for part in (lower, upper))
            plainly = figure(WHO).skeleton.rest_translations[figure(WHO).skeleton.names.index(skeleton.names[bone])]
            reach = np.linalg.norm(world[:, bone] - world[:, above], axis=1)
            assert reach == pytest.approx(scale * np.linalg.norm(plainly), abs=2e-4)


def test_thighs_below_hips_without_skin_hang_where_they_did():
    """What holds no skin, but holds trunk and legs as hips do, is no control."""
    body = figure(WHO)
    roles = fairswap.bones.roles_of(body).bones
    hips, spine = roles["hips"], roles["spine_1"]
    meshes = tuple(
        replace(mesh, joints=np.where(mesh.joints == hips, spine, mesh.joints), origin=None) for mesh in body.meshes
    )
    light = fairswap.Figure(WHO, body.skeleton, meshes)
    assert light.skin_on_bones[hips] == 0
    fairswap.save("light.glb", light)
    assert "limbs-apart" not in {finding.code for finding in fairswap.load("light.glb").findings}


@pytest.mark.parametrize("who", ["Juniper", "Osric", "Pip"])
def test_bones_without_skin_here_and_there_move_no_limb(who):
    """A twentieth of the bones gives its skin to the bone above it: all hang where they belong still."""
    body, clips = figure(who), [act("walk", who), act("turn-and-bow", who)]
    parents, dice = body.skeleton.parents.tolist(), np.random.default_rng(3)
    for _ in range(12):
        to = np.arange(len(parents))
        for bone in np.flatnonzero(dice.random(len(parents)) < 0.05).tolist():
            to[bone] = to[parents[bone]] if parents[bone] >= 0 else bone
        meshes = tuple(replace(mesh, joints=to[mesh.joints], origin=None) for mesh in body.meshes)
        assert not limbs_apart(replace(body, meshes=meshes, source=None), clips)


def test_a_platform_gets_them_on_its_own_skeleton():
    """Places of limbs are no motion there: they hang on the body for good."""
    document = apart("arms on a control bone")
    fitted = fairswap.fit(document, "quillmoor")
    files = fitted.save("fitted.glb")
    assert files
    assert all(fairswap.check(path, "quillmoor").fits for path in files)
    assert fairswap.compare(document, files[0]).likeness >= 95


@pytest.mark.parametrize("clips", ["no clip", "a still one"])
@pytest.mark.parametrize("way", ["arms on a control bone", "feet on control bones"])
@pytest.mark.long(but=1)
def test_limbs_are_known_without_a_clip_that_shows_them(way, clips):
    """Hips that hold skin are above the bone that limbs hang on: feet stayed at rest, 0 of 100."""
    walk = act("walk", WHO)
    still = walk.with_poses(walk.poses.at(np.zeros(walk.frames)))
    fairswap.save("figure.glb", figure(WHO), [still] if clips == "a still one" else [], force=True)
    Path("apart.glb").write_bytes(rewritten(Path("figure.glb").read_bytes(), way))
    document = fairswap.load("apart.glb")
    assert "limbs-apart" in {finding.code for finding in document.findings}
    walk = fairswap.demo_motion("walk", by="Juniper")
    made, plainly = (fairswap.convert(walk, one).done[0].comparison for one in (document, figure(WHO)))
    assert made.likeness == pytest.approx(plainly.likeness, abs=0.5)
