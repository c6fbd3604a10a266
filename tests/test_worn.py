"""What is worn or carried, and holds no bones of its own, is not the body: that moves as without it."""

from dataclasses import replace
from functools import cache

import numpy as np
import pytest

import fairswap
from fairswap.model.rotation import angle_between
from making import figure
from scenes import box_of, tube


def wearing(who, points, faces, bone):
    """A figure with one more mesh, all of which hangs on one bone."""
    plain = figure(who)
    other = plain.meshes[0]
    joints = np.zeros((len(points), other.joints.shape[1]), dtype=other.joints.dtype)
    weights = np.zeros((len(points), other.weights.shape[1]))
    joints[:, 0], weights[:, 0] = bone, 1.0
    normals = np.tile([0.0, 1.0, 0.0], (len(points), 1))
    worn = fairswap.Mesh("worn", points, normals, faces, joints, weights, other.bind_matrices)
    return replace(plain, meshes=(*plain.meshes, worn), source=None)


def places(who):
    plain = figure(who)
    roles = fairswap.bones.roles_of(plain)
    bones = roles.bones | {"chest": roles.bones[roles.chain("spine")[-1]]}
    return bones, plain.skeleton.rest.positions[0], plain.height_m


def with_wings(who):
    bones, at, tall = places(who)
    high = at[bones["upper_arm_left"], 1]
    points, faces = box_of([0.25 * tall, high, -0.12 * tall], [0.22 * tall, 0.2 * tall, 0.01 * tall])
    both = np.concatenate([points, points * [-1, 1, 1]])
    return wearing(who, both, np.concatenate([faces, faces[:, ::-1] + len(points)]), bones["chest"])


def with_a_cape(who):
    bones, at, tall = places(who)
    shoulder = at[bones["upper_arm_left"]]
    ends = (shoulder[1] + 0.02 * tall, 0.9 * shoulder[0]), (at[bones["lower_leg_left"], 1], 0.28 * tall)
    return wearing(who, *tube(*ends), bones["chest"])


def with_a_train(who):
    bones, at, tall = places(who)
    waist = at[bones["upper_leg_left"], 1] + 0.06 * tall
    return wearing(who, *tube((waist, 0.1 * tall), (-0.04 * tall, 0.3 * tall)), bones["hips"])


def on_a_pedestal(who):
    bones, _, tall = places(who)
    return wearing(who, *tube((0.0, 0.3 * tall), (-0.06 * tall, 0.3 * tall)), bones.get("root", bones["hips"]))


def with_a_blade(who):
    """It hangs from a hand, and reaches below the soles of short legs."""
    bones, at, tall = places(who)
    hand = at[bones["hand_right"]]
    points, faces = box_of(hand - [0.05 * tall, 0.6 * hand[1], 0.0], [0.01 * tall, 0.6 * hand[1], 0.02 * tall])
    return wearing(who, points, faces, bones["hand_right"])


WORN = [with_wings, with_a_train, with_a_cape, on_a_pedestal, with_a_blade]


@cache
def plain_result(who):
    motion = fairswap.demo_motion("walk", by="Osric")
    few = replace(motion, clips=(fairswap.clips.trim(motion.clips[0], start="0", end="2"),))
    return few, fairswap.convert(few, figure(who)).done[0]


@pytest.mark.parametrize("who", ["Juniper", "Pip"])
@pytest.mark.parametrize("worn", WORN)
@pytest.mark.long(but=3)
def test_a_body_moves_alike_whatever_it_wears(worn, who):
    """Wings: arms were held off them, 22 of 100. A train: the figure stood on it, its feet in the air."""
    motion, plain = plain_result(who)
    done = fairswap.convert(motion, worn(who)).done[0]
    assert done.comparison.likeness > plain.comparison.likeness - 1.0
    turned = np.degrees(angle_between(done.clip.rotations, plain.clip.rotations))
    assert turned.max() < 3.0  # of Pip's knees: what counts as a sole goes by the height of all
    hips = fairswap.bones.roles_of(figure(who)).bones["hips"]
    off = done.clip.poses.translation_track(hips) - plain.clip.poses.translation_track(hips)
    assert np.abs(off).max() < 0.005


@pytest.mark.parametrize("worn", [on_a_pedestal, with_a_blade])
def test_a_motion_is_read_alike_whatever_its_figure_wears(worn):
    motion = fairswap.demo_motion("leap", by="Osric")
    plain, done = (
        fairswap.convert(replace(motion, figures=(who,)), figure("Pip")).done[0]
        for who in (motion.figure, replace(worn("Osric"), skeleton=motion.figure.skeleton))
    )
    assert done.comparison.likeness == pytest.approx(plain.comparison.likeness, abs=0.5)
    assert np.degrees(angle_between(done.clip.rotations, plain.clip.rotations)).max() < 0.5


def test_boots_that_hang_on_the_shins_are_stood_on():
    """Stiff boots are often bound to the shin alone: their soles are the figure's."""
    bones, at, tall = places("Juniper")
    foot = at[bones["foot_left"]]
    points, faces = box_of([foot[0], foot[1] / 2 - 0.015, 0.02 * tall], [0.05 * tall, foot[1] / 2 + 0.015, 0.1 * tall])
    left = wearing("Juniper", points, faces, bones["lower_leg_left"])
    right = wearing("Juniper", points * [-1, 1, 1], faces[:, ::-1], bones["lower_leg_right"])
    booted = replace(left, meshes=(*left.meshes, right.meshes[-1]))
    assert fairswap.RiggedFigure.of(booted).floor_m == pytest.approx(-0.03, abs=1e-6)


def test_arms_that_go_into_armour_are_still_told():
    """Armour that fits closely is the body."""
    bones, at, tall = places("Osric")
    ends = (at[bones["upper_arm_left"], 1] + 0.03 * tall, 0.14 * tall), (at[bones["upper_leg_left"], 1], 0.15 * tall)
    plain, armoured = (
        fairswap.convert(fairswap.demo_motion("idle", by="Juniper"), who).done[0].comparison
        for who in (figure("Osric"), wearing("Osric", *tube(*ends), bones["chest"]))
    )
    arms = next(part for part in armoured.parts if part.part == "arms")
    assert "goes into the" in arms.because
    assert arms.score < next(part for part in plain.parts if part.part == "arms").score - 3.0


@pytest.mark.parametrize("corners", [(), (-1, -1, -1)])
def test_vertices_that_no_triangle_shows_are_nowhere(corners):
    """Left over far below: the figure was told 52 m tall, or stood on them."""
    plain = figure("Juniper")
    mesh, foot = plain.meshes[0], fairswap.bones.roles_of(plain).bones["foot_left"]
    one = np.eye(mesh.joints.shape[1])[:1]
    last = len(mesh.vertices)
    added = {
        "vertices": [[0.1, -50.0, 0.0]], "normals": [[0.0, 1.0, 0.0]], "weights": one,
        "joints": (one * foot).astype(int), "triangles": np.full((len(corners) // 3, 3), last),
    }  # fmt: skip
    more = {name: np.append(getattr(mesh, name), rows, axis=0) for name, rows in added.items()}
    loose = replace(mesh, uvs=None, tangents=None, more={}, origin=None, **more)
    fairswap.save("loose.glb", replace(plain, meshes=(loose, *plain.meshes[1:]), source=None))
    read = fairswap.load("loose.glb").figure
    assert read.height_m == pytest.approx(plain.height_m, abs=1e-5)
    assert fairswap.RiggedFigure.of(read).floor_m == pytest.approx(fairswap.RiggedFigure.of(plain).floor_m, abs=1e-5)
