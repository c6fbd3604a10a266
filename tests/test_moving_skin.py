"""Skin goes where the hips go, whichever bone above them holds it; and what is held back is told, in centimetres."""

from dataclasses import replace

import numpy as np
import pytest

import fairswap
from fairswap.bones.assignment import roles_of
from fairswap.model.mesh import deformed_vertices
from making import FREE, act, figure, run

HIPS, ROOT = "hip_centre", "stage_root"


def reweighed(found, change):
    """A figure whose skin hangs on other bones: ``change`` gets each mesh, and the number of each bone by its name."""
    number = {name: bone for bone, name in enumerate(found.skeleton.names)}
    return replace(found, meshes=tuple(replace(mesh, joints=change(mesh, number)) for mesh in found.meshes))


def held_by_the_root(mesh, number):
    return np.where(mesh.joints == number[HIPS], number[ROOT], mesh.joints)


def a_finger_held_by_a_foot(mesh, number):
    foot = roles_of(figure("Juniper")).bones["foot_left"]
    tip = roles_of(figure("Juniper")).bones["index_distal_left"]
    joints = mesh.joints.copy()
    joints[np.flatnonzero(mesh.main_bones == tip)[:3]] = foot
    return joints


def shown(found, clip):
    """All vertices of a figure in some frames of a clip, each counted from the hips' way: ``(frames, vertices, 3)``."""
    world = clip.poses.world()
    frames = np.linspace(0, clip.frames - 1, 6).round().astype(int)
    meshes = list(enumerate(found.meshes))
    return np.stack([
        np.concatenate([deformed_vertices(mesh, world, frame, clip.poses, at) for at, mesh in meshes])
        for frame in frames.tolist()
    ])  # fmt: skip


def told(found):
    return {row.code: row for row in found if row.code in ("skin-left-behind", "skin-torn", "skin-above-hips")}


@pytest.mark.parametrize("suffix", [".glb", ".x3d"])
@pytest.mark.parametrize("travel", ["hips", "none"])
@pytest.mark.long(but=1)
def test_skin_of_a_bone_above_the_hips_goes_with_them(suffix, travel, tmp_path):
    bow, juniper = fairswap.demo_motion("turn-and-bow", by="Osric"), figure("Juniper")
    motion = replace(FREE, travel=travel)
    wanted = fairswap.convert(bow, juniper, motion=motion)
    made = fairswap.convert(bow, reweighed(juniper, held_by_the_root), motion=motion)
    assert told(made.findings).keys() == {"skin-above-hips"}
    assert made.comparisons[0].likeness == pytest.approx(wanted.comparisons[0].likeness, abs=1e-6)
    saved = tmp_path / f"made{suffix}"
    made.save(saved)
    again = fairswap.load(saved)
    clip, other = again.clips[0], wanted.clips[0]
    moved = shown(juniper, other)
    assert np.abs(shown(again.figure, clip) - moved).max() < 1e-4
    assert np.ptp(moved.mean(axis=1), axis=0).max() > 0.02  # they do move
    # No bone that anything is judged by is elsewhere, and the root keeps its place among them.
    assert np.abs(clip.poses.world().positions - other.poses.world().positions)[:, 1:].max() < 1e-4


def test_what_takes_the_travel_stays_with_that_and_is_told(tmp_path):
    walk = fairswap.demo_motion("walk", by="Osric")
    made = fairswap.convert(walk, reweighed(figure("Juniper"), held_by_the_root), motion=replace(FREE, travel="root"))
    root = made.clips[0].poses.world().positions[:, figure("Juniper").skeleton.names.index(ROOT)]
    assert np.ptp(root[:, 1]) < 1e-9  # on the floor, as a root that travels is
    assert "skin-above-hips" not in told(made.findings)


def test_skin_that_stays_behind_is_told_with_how_far_and_by_the_command(tmp_path):
    walk = fairswap.demo_motion("walk", by="Osric")
    whole = fairswap.convert(walk, figure("Juniper"), motion=FREE)
    spoilt = reweighed(figure("Juniper"), held_by_the_root)
    path = tmp_path / "spoilt.glb"
    fairswap.save(path, spoilt, whole.clips)
    found = fairswap.compare(walk, path)
    assert not told(fairswap.compare(walk, (figure("Juniper"), whole.clips[0])).findings)
    message = told(found.findings)["skin-left-behind"].message
    hips = whole.clips[0].poses.world().positions[:, figure("Juniper").skeleton.names.index(HIPS)]
    away_cm = 100 * np.linalg.norm(hips - hips[0], axis=1).max()
    assert f"on {ROOT}" in message
    assert float(message.split(" cm from")[0].split()[-1]) == pytest.approx(away_cm, rel=0.05)
    fairswap.save(tmp_path / "walk.glb", walk)
    told_there = run("compare", tmp_path / "walk.glb", path).stdout
    assert told_there.index("[skin-left-behind]") < told_there.index("of 100  why")


def test_a_few_vertices_held_back_by_another_limb_are_told():
    lamp = fairswap.demo_motion("lamp", by="Osric")
    made = fairswap.convert(lamp, reweighed(figure("Juniper"), a_finger_held_by_a_foot), motion=FREE)
    message = told(made.findings)["skin-torn"].message
    assert all(bone_name(role) in message for role in ("index_distal_left", "foot_left"))
    assert float(message.split(" m (at")[0].split()[-1]) > 0.3
    assert told(made.comparisons[0].findings).keys() == {"skin-torn"}


def bone_name(role):
    return figure("Juniper").skeleton.names[roles_of(figure("Juniper")).bones[role]]


@pytest.mark.parametrize("name", ["leap", "walk", "clap"])
@pytest.mark.parametrize("whom", ["Juniper", "Pip"])
@pytest.mark.long(but=1)
def test_of_sound_skin_nothing_is_told(name, whom):
    assert not told(fairswap.convert(fairswap.demo_motion(name, by="Osric"), figure(whom)).findings)
    clip = act(name, whom)
    assert not told(fairswap.compare((figure(whom), clip), (figure(whom), clip)).findings)


def test_what_lies_on_the_floor_under_a_figure_is_no_skin_of_it():
    """A pedestal on the root stays where it is, level, and nothing is said of it."""
    juniper = figure("Juniper")
    disc = np.array([[np.sin(a), 0.0, np.cos(a)] for a in np.arange(12) * np.pi / 6.0]) * 0.5 + [0.0, 0.05, 0.0]
    fan = np.stack([np.zeros(10, dtype=int), np.arange(1, 11), np.arange(2, 12)], axis=1)
    pedestal = replace(
        juniper.meshes[0], name="pedestal", vertices=disc, normals=np.tile([0.0, 1.0, 0.0], (12, 1)), triangles=fan,
        joints=np.full((12, 1), juniper.skeleton.names.index(ROOT)), weights=np.ones((12, 1)), uvs=None, materials=(),
        morph_names=(), morph_deltas=None, morph_weights=None, morph_normals=None, tangents=None, more={}, origin=None,
    )  # fmt: skip
    walk = fairswap.demo_motion("walk", by="Osric")
    made = fairswap.convert(walk, replace(juniper, meshes=(*juniper.meshes, pedestal)), motion=FREE)
    assert not told(made.findings)
    assert np.ptp(made.clips[0].poses.world().positions[:, juniper.skeleton.names.index(ROOT)], axis=0).max() < 1e-9
