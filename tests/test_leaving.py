"""Meshes that do not belong: levels of detail are told, and any mesh can be left out."""

import json
import re
from dataclasses import replace
from pathlib import Path

import fast_simplification
import numpy as np
import pytest
from scipy.spatial import cKDTree

import fairswap
from making import FREE, RIGS, TROUPE, act, figure, run
from rewrites import REWRITES, Scene
from scenes import small_avatar


def coarser(mesh, share, name):
    """A mesh with so much less triangles, made by another program; weights and all go along from the nearest vertex."""
    points, faces = fast_simplification.simplify(mesh.vertices.copy(), mesh.triangles.copy(), 1.0 - share)
    near = cKDTree(mesh.vertices).query(points)[1]
    rows = {key: getattr(mesh, key)[near] for key in ("normals", "joints", "weights")}
    rows |= {key: None if getattr(mesh, key) is None else getattr(mesh, key)[near] for key in ("uvs", "tangents")}
    look = replace(mesh.materials[0], triangles=slice(0, len(faces)))
    return replace(
        mesh, name=name, vertices=points.astype(float), triangles=faces.astype(np.intp), materials=(look,), origin=None,
        morph_names=(), morph_deltas=None, morph_weights=None, morph_normals=None, more={}, **rows,
    )  # fmt: skip


def with_levels(name, names=("{}_LOD1", "{}_LOD2"), shares=(0.4, 0.1)):
    """A figure with coarser copies of its body in the file."""
    whole = figure(name)
    body = whole.meshes[0]
    more = [coarser(body, share, called.format(body.name)) for called, share in zip(names, shares, strict=True)]
    fairswap.save("levels.glb", replace(whole, meshes=(*whole.meshes, *more), source=None), [act("walk", name)])
    return fairswap.load("levels.glb")


def told(findings, code="levels-of-detail"):
    return [finding.message for finding in findings if finding.code == code]


@pytest.mark.parametrize("names", [("{}_LOD1", "{}_LOD2"), ("far away", "low")])
@pytest.mark.parametrize("name", ["Osric", "Juniper"])
@pytest.mark.long(but=1)
def test_levels_of_detail_are_told_whatever_they_are_called(name, names):
    document = with_levels(name, names)
    (message,) = told(fairswap.inspect(document).findings)
    body = figure(name).meshes[0].name
    assert f"are coarser copies of {body!r}" in message
    for called in names:
        assert repr(called.format(body)) in message
    # So is who converts onto it, and who fits it to a stage.
    assert len(told(fairswap.convert(fairswap.demo_motion("walk", by="Pip"), document, motion=FREE).findings)) == 1
    assert len(told(fairswap.fit(document, "quillmoor").findings)) == 1


@pytest.mark.long
def test_what_is_no_copy_is_none():
    """Bodies and heads, clothes on a body, eyes, some strangers: nothing is there twice."""
    files = [*TROUPE.glob("*.glb"), *sorted(RIGS.glob("*.glb"))[::3]]
    scene = Scene((TROUPE / "pip.glb").read_bytes())
    REWRITES["a cloak on a copy of the skeleton"](scene)
    Path("cloak.glb").write_bytes(scene.bytes())
    dressed = fairswap.dress(TROUPE / "juniper.glb", TROUPE / "osric-coat.glb", settle=False)
    fairswap.save("dressed.glb", dressed.figure)
    for file in [*files, "cloak.glb", "dressed.glb"]:
        assert told(fairswap.inspect(file).findings) == [], file


@pytest.mark.parametrize(
    ("off_m", "size", "called", "is_one"),
    [(0.004, 1.0, "spare", True), (0.06, 1.0, "spare", False), (0.06, 1.0, "{}_LOD1", True),
     (0.0, 1.2, "{}_LOD1", False)],
)  # fmt: skip
def test_a_copy_lies_on_the_finer_one_or_is_called_so_and_is_as_large(off_m, size, called, is_one):
    """A suit over the body is none; nor is what is called a level, and is of something smaller."""
    whole = figure("Juniper")
    body = whole.meshes[0]
    copy = coarser(body, 0.4, called.format(body.name))
    low, high = copy.vertices.min(axis=0), copy.vertices.max(axis=0)
    inside = (np.minimum(copy.vertices - low, high - copy.vertices) > 0.09).all(axis=1)
    moved = (copy.vertices + off_m * inside[:, None] * copy.normals) * size
    both = replace(whole, meshes=(*whole.meshes, replace(copy, vertices=moved)), source=None)
    fairswap.save("both.glb", both)
    assert bool(told(fairswap.inspect("both.glb").findings)) == is_one


def test_a_mesh_is_left_out_and_all_else_stays_as_it_is():
    document = with_levels("Juniper")
    names = [mesh.name for mesh in document.figure.meshes]
    left = fairswap.leave_out(document, "*_LOD?")
    assert [mesh.name for mesh in left.figure.meshes] == names[:2]
    assert "_LOD2' (1698 triangles) left out" in told(left.findings, "left-out")[0]
    fairswap.save("left.glb", left.figure, left.clips)
    again, whole = fairswap.load("left.glb"), figure("Juniper")
    assert again.figure.skeleton.names == whole.skeleton.names
    for mesh, first in zip(again.figure.meshes, whole.meshes, strict=True):
        assert len(mesh.triangles) == len(first.triangles)
        assert mesh.morph_names == first.morph_names
        assert len(mesh.materials) == len(first.materials)
    assert told(fairswap.inspect("left.glb").findings) == []
    assert np.abs(again.clips[0].world().positions - act("walk", "Juniper").world().positions).max() < 1e-5
    # Nothing of them is left in the file.
    assert Path("left.glb").stat().st_size < Path("levels.glb").stat().st_size - 200_000
    assert len(Scene(Path("left.glb").read_bytes()).json["meshes"]) == 2


def test_a_face_moves_its_own_mesh_when_one_before_it_is_left_out():
    """Morph tracks are kept by the number of their mesh."""
    line = fairswap.load(TROUPE / "juniper.glb")
    head = next(number for number, mesh in enumerate(line.figure.meshes) if mesh.morph_names)
    assert head > 0
    reel = fairswap.reel(line)
    fairswap.save("reel.glb", reel.rigged.figure, [reel.clip])
    whole = fairswap.load("reel.glb")
    body = whole.figure.meshes[0].name
    left = fairswap.leave_out(whole, body)
    fairswap.save("head.glb", left.figure, left.clips)
    again = fairswap.load("head.glb")
    for clip, first in zip(again.clips, whole.clips, strict=True):
        weights, wanted = clip.poses.morph_track(head - 1), first.poses.morph_track(head)
        assert (weights is None) == (wanted is None)
        if weights is not None:
            assert np.abs(weights - wanted).max() < 1e-5


def test_an_avatar_keeps_what_is_said_of_the_meshes_that_stay():
    Path("one.vrm").write_bytes(small_avatar())
    document = fairswap.load("one.vrm")
    avatar = document.figure.avatar
    mesh = document.figure.meshes[0]
    more = replace(mesh, name="spare", morph_names=(), morph_deltas=None, morph_weights=None, morph_normals=None)
    moved = avatar.on_meshes({number: number + 1 for number in range(len(document.figure.meshes))})
    twice = replace(document.figure, meshes=(more, *document.figure.meshes), avatar=moved, source=None)
    back = fairswap.leave_out(replace(document, figures=(twice,), clips=()), "spare").figure.avatar
    assert back.expressions == avatar.expressions
    assert back.first_person == avatar.first_person
    none = fairswap.leave_out(replace(document, figures=(twice,), clips=()), mesh.name).figure.avatar
    assert all(not one.morphs for one in none.expressions.values())


def test_clutter_goes_with_what_is_left_out_or_by_itself():
    fairswap.save("plain.glb", figure("Pip"), [act("walk", "Pip")])
    scene = Scene(Path("plain.glb").read_bytes())
    REWRITES["a prop a camera and a light"](scene)
    Path("cluttered.glb").write_bytes(scene.bytes())
    document = fairswap.load("cluttered.glb")
    beside = [row.name for row in document.held]
    assert len(beside) > 2
    left = fairswap.leave_out(document, beside[0])
    assert all(repr(name) in told(left.findings, "left-out")[0] for name in beside)
    fairswap.save("clean.glb", left.figure, left.clips)
    clean = fairswap.load("clean.glb")
    assert (len(clean.held), len(clean.figure.meshes)) == (0, len(figure("Pip").meshes))
    assert not {"cameras", "extensions"} & {*Scene(Path("clean.glb").read_bytes()).json}
    assert np.abs(clean.clips[0].world().positions - act("walk", "Pip").world().positions).max() < 1e-5
    assert run("inspect", "cluttered.glb").returncode == 0
    with pytest.raises(fairswap.UsageError, match=re.escape(repr(beside[0]))):  # what is there is named
        fairswap.leave_out(document, "no such thing")


@pytest.mark.parametrize(
    ("names", "words"), [(["hat"], "no mesh is called 'hat'.*There are '"), (["*"], "no mesh would be left")]
)
def test_names_that_fit_nothing_or_everything_are_refused(names, words):
    with pytest.raises(fairswap.UsageError, match=words):
        fairswap.leave_out(TROUPE / "pip.glb", *names)


@pytest.mark.long
def test_commands_and_plans_leave_meshes_out():
    with_levels("Osric")
    fairswap.save("walk.glb", figure("Pip"), [act("walk", "Pip")])
    shown = run("inspect", "levels.glb").stdout
    body = figure("Osric").meshes[0]
    assert f"triangles: {body.name} {len(body.triangles)}, " in " ".join(shown.split())
    assert "--without" in shown
    for words in (
        ["convert", "walk.glb", "--onto", "levels.glb", "-o", "on.glb", "--feet", "free"],
        ["fit", "levels.glb", "--platform", "saltglass", "-o", "on.glb"],
        ["convert", "walk.glb", "--onto", "levels.glb", "-o", "many", "--workers", "1", "--write-plan", "p.toml"],
    ):
        done = run(*words, "--without", "*_LOD*", "--force")
        assert done.returncode in (0, 1), done  # a walk that is carried over freely slides
        (made,) = [Path("on.glb")] if "on.glb" in words else Path("many").rglob("*.glb")
        assert len(fairswap.load(made).figure.meshes) == len(figure("Osric").meshes)
        assert "levels-of-detail" not in done.stdout + done.stderr
    assert 'without = ["*_LOD*"]' in Path("p.toml").read_text()
    report = run("fit", "levels.glb", "--platform", "saltglass", "-o", "on.glb", "--without", "hat", "--json")
    assert (report.returncode, "no mesh is called 'hat'" in report.stderr) == (2, True)
    facts = json.loads(run("inspect", "levels.glb", "--json").stdout)["figures"][0]["each_mesh"]
    assert [row["triangles"] for row in facts] == [
        len(mesh.triangles) for mesh in fairswap.load("levels.glb").figure.meshes
    ]
