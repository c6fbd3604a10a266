"""Rotations against SciPy, which knows nothing of ours."""

from dataclasses import replace

import numpy as np
import pytest
from scipy.spatial.transform import Rotation, Slerp

from fairswap.model import rotation as r
from fairswap.model.skeleton import WorldTransforms, world_from_local
from making import random_poses, random_skeleton

RNG = np.random.default_rng(7)
Q, P = (r.normalized(RNG.normal(size=(200, 4))) for _ in range(2))
V = RNG.normal(size=(200, 3))


def same(a, b, within=1e-12):
    assert np.degrees(r.angle_between(a, b)).max() < within * 57.3 + 1e-9


def test_products_and_turned_vectors_are_scipys():
    same(r.multiply(Q, P), (Rotation.from_quat(Q) * Rotation.from_quat(P)).as_quat())
    assert np.abs(r.rotate(Q, V) - Rotation.from_quat(Q).apply(V)).max() < 1e-12
    same(r.multiply(Q[0], P[0]), (Rotation.from_quat(Q[0]) * Rotation.from_quat(P[0])).as_quat())


def test_products_broadcast_over_any_axes():
    product = r.multiply(Q[:6].reshape(6, 1, 4), P[:5])
    assert product.shape == (6, 5, 4)
    same(product[3, 2], r.multiply(Q[3], P[2]))


def test_matrices_go_there_and_back_also_for_half_turns():
    half_turns = np.array([[1, 0, 0, 0], [0, 1, 0, 0], [0, 0, 1, 0], [0.6, 0.8, 0, 0]], dtype=float)
    for q in (Q, half_turns):
        assert np.abs(r.matrix_from_quaternion(q) - Rotation.from_quat(q).as_matrix()).max() < 1e-12
        same(r.quaternion_from_matrix(r.matrix_from_quaternion(q)), q)
        assert (r.quaternion_from_matrix(r.matrix_from_quaternion(q))[:, 3] >= 0.0).all()


@pytest.mark.parametrize("order", ["XYZ", "XZY", "YXZ", "YZX", "ZXY", "ZYX"])
def test_euler_angles_are_scipys_and_come_back(order):
    angles = RNG.uniform(-np.pi, np.pi, size=(200, 3))
    same(r.quaternion_from_euler(angles, order), Rotation.from_euler(order, angles).as_quat())
    same(r.quaternion_from_euler(r.euler_from_quaternion(Q, order), order), Q)
    locked = r.quaternion_from_euler(np.array([[0.3, np.pi / 2, 0.7], [0.3, -np.pi / 2, 0.2]]), order)
    same(r.quaternion_from_euler(r.euler_from_quaternion(locked, order), order), locked, 1e-7)


def test_slerp_is_scipys_and_takes_the_short_way():
    for a, b in zip(Q[:20], -P[:20], strict=True):
        times = np.linspace(0, 1, 7)
        same(r.slerp(a, b, times), Slerp([0, 1], Rotation.from_quat([a, b]))(times).as_quat(), 1e-9)


def test_the_shortest_turn_brings_one_direction_to_the_other_also_the_opposite():
    a, b = r.normalized(V), r.normalized(RNG.normal(size=V.shape))
    b[:3] = -a[:3]
    a[3:6], b[3:6] = np.eye(3), -np.eye(3)
    turn = r.quaternion_between(a, b)
    assert np.abs(r.rotate(turn, a) - b).max() < 1e-12
    for one, other in zip(a, b, strict=True):
        assert np.abs(r.rotate(r.quaternion_between(one, other), one) - other).max() < 1e-12
    assert np.abs(np.linalg.norm(turn, axis=1) - 1.0).max() < 1e-12


@pytest.mark.parametrize("size", [1e-9, 1.0, 1e9])
def test_how_long_directions_are_does_not_matter_to_the_turn_between_them(size):
    for a, b in zip(V[:20], np.roll(V, 1, axis=0)[:20], strict=True):
        one = r.quaternion_between(size * a, b / size)
        same(r.quaternion_between(size * a[None], b[None] / size)[0], one, 1e-9)
        assert np.abs(r.rotate(one, r.normalized(a)) - r.normalized(b)).max() < 1e-9
        same(r.quaternion_between(size * a, size * b), one, 1e-9)


def test_the_nearest_rotation_to_a_stretched_one():
    matrix = r.matrix_from_quaternion(Q) @ np.diag([1.0, 2.0, 0.5])
    symmetric = r.matrix_from_quaternion(P) @ np.diag([1.0, 2.0, 0.5]) @ r.matrix_from_quaternion(P).transpose(0, 2, 1)
    same(r.rotation_from_stretched(matrix), Q)
    same(r.rotation_from_stretched(r.matrix_from_quaternion(Q) @ symmetric), Q)


@pytest.mark.parametrize("frames", [1, 37, 1500])
def test_world_transforms_are_those_of_a_bone_by_bone_walk_with_scipy(frames):
    skeleton = random_skeleton(23)
    places = skeleton.rest_translations.copy()
    places[5:12] = 0.3 * np.concatenate([np.eye(3), -np.eye(3), np.zeros((1, 3))])  # along an axis, and of no length
    skeleton = replace(skeleton, rest_translations=places)
    poses = random_poses(skeleton, frames)
    rotations, positions = [], []
    for bone, parent in enumerate(skeleton.parents.tolist()):
        local = Rotation.from_quat(poses.rotations[:, bone])
        place = poses.translations[:, bone]
        if parent < 0:
            rotations.append(local)
            positions.append(place)
        else:
            positions.append(rotations[parent].apply(place) + positions[parent])
            rotations.append(rotations[parent] * local)
    out = WorldTransforms.empty(len(skeleton), frames)
    world = poses.world(out=out)
    assert world is out
    assert np.abs(world.positions - np.stack(positions, axis=1)).max() < 1e-10
    for bone, rotation in enumerate(rotations):
        same(world.rotations[:, bone], rotation.as_quat())


def test_short_and_long_clips_take_different_ways_to_the_same_place():
    skeleton = random_skeleton(40)
    poses = random_poses(skeleton, 1200)
    whole = poses.world()
    for start in (0, 1100):
        part = poses.world(start, start + 100)
        assert np.abs(part.positions - whole.positions[start : start + 100]).max() < 1e-12
    single = world_from_local(skeleton, poses.rotation_tracks, poses.translated_bones, poses.translation_tracks)
    assert np.array_equal(single.positions, whole.positions)


def test_a_clip_is_sampled_between_its_frames_and_held_at_its_ends():
    poses = random_poses(random_skeleton(5), 4)
    at = poses.at([-3.0, 1.0, 1.25, 9.0])
    same(at.rotations[0], poses.rotations[0])
    assert np.array_equal(at.rotations[1], poses.rotations[1])
    same(at.rotations[2], r.slerp(poses.rotations[1], poses.rotations[2], np.full(5, 0.25)), 1e-9)
    same(at.rotations[3], poses.rotations[3])
    expected = 0.75 * poses.translations[1] + 0.25 * poses.translations[2]
    assert np.abs(at.translations[2] - expected).max() < 1e-12
