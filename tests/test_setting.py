"""A figure's rest pose changed: what stays where it was, and what is turned."""

from dataclasses import replace

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

import fairswap
from fairswap.figures.bones_alone import without_mesh
from fairswap.pose.setting import rest_skeleton, with_rest
from making import TROUPE, act, figure
from rests import family_file
from test_measuring import FORWARD, turned
from test_poses import ACTS


def standing(one):
    """The lowest joint of the feet, and the hips over the ground ``(2,)``."""
    rigged = fairswap.RiggedFigure.of(one)
    places = one.skeleton.rest.positions[0]
    feet = [bone for role, bone in rigged.roles.bones.items() if role.startswith(("foot_", "toes_"))]
    return places[feet, 1].min(), places[rigged.roles.bones["hips"], [0, 2]]


def bones_of(one, to):
    return fairswap.pose.set(fairswap.Document("one.glb", "glTF 2.0", one.space, (one,), ()), to).rested.figure


def with_turned_root(one, turn):
    """The same figure, at the same places, with a root that is turned against the world."""
    skeleton = one.skeleton
    assert skeleton.parents[0] == -1
    assert (skeleton.parents[1:] >= 0).all()
    below = skeleton.parents == 0
    rotations, translations = np.array(skeleton.rest_rotations), np.array(skeleton.rest_translations)
    rotations[0] = (turn * Rotation.from_quat(rotations[0])).as_quat()
    back = (
        Rotation.from_quat(skeleton.rest_rotations[0]).inv()
        * turn.inv()
        * Rotation.from_quat(skeleton.rest_rotations[0])
    )
    rotations[below] = (back * Rotation.from_quat(rotations[below])).as_quat()
    translations[below] = back.apply(translations[below])
    made = replace(one, skeleton=replace(skeleton, rest_rotations=rotations, rest_translations=translations))
    assert np.abs(made.skeleton.rest.positions - skeleton.rest.positions).max() < 1e-9
    return made


@pytest.mark.parametrize(("skin", "kept"), [("auto", False), ("bind", False), ("keep", True)])
def test_meshes_that_stay_bound_as_they_are_are_named(skin, kept):
    juniper = figure("Juniper")
    rigged = fairswap.RiggedFigure.of(juniper)
    rested = with_rest(juniper, (), rest_skeleton(rigged, rigged.reference.rotations), skin=skin)
    skins = tuple(mesh.name for mesh in juniper.meshes if mesh.skinned)
    assert rested.kept_skins == (skins if kept else ())
    assert skins


@pytest.mark.parametrize("root", [Rotation.identity(), Rotation.from_euler("xyz", [40.0, 70.0, -20.0], degrees=True)])
@pytest.mark.parametrize("to", ["t", "a:50"])
def test_legs_that_rest_apart_come_together_over_the_same_ground(root, to):
    astride = turned(turned("Juniper", "upper_leg_left", FORWARD, 25), "upper_leg_right", FORWARD, -25)
    before = standing(astride)
    after = standing(bones_of(with_turned_root(astride, root), to))
    assert after[0] == pytest.approx(before[0], abs=1e-6)
    assert after[1] == pytest.approx(before[1], abs=1e-6)
    # It stands higher than it did with its legs apart.
    rigged = fairswap.RiggedFigure.of(astride)
    hips = rigged.roles.bones["hips"]
    rise = bones_of(astride, to).skeleton.rest.positions[0, hips, 1] - astride.skeleton.rest.positions[0, hips, 1]
    assert rise > 0.05


def test_one_that_rests_with_all_limbs_in_line_stands_on_straight_legs():
    places = []
    for rest in ("in line", "T"):
        made = fairswap.pose.set(fairswap.load(family_file("Osric", rest, ACTS["walk"])), "t")
        joints = made.rested.figure.skeleton.rest.positions[0]
        places.append({role: joints[bone] for role, bone in made.rigged.roles.bones.items()})
    stacked, straight = places
    for role in ("hips", "foot_left", "toes_right", "lower_leg_right", "hand_left", "head"):
        assert np.linalg.norm(stacked[role] - straight[role]) < 0.03, role


def test_of_another_figures_rest_only_what_it_has_is_taken():
    """Pip has no little finger: that of the figure stays bent as it rests; its arms come down as Pip's."""
    bent = turned("Juniper", "little_proximal_left", FORWARD, -35)
    made = bones_of(bent, TROUPE / "pip.glb")
    finger = fairswap.RiggedFigure.of(bent).roles.bones["little_proximal_left"]
    assert "little_proximal_left" not in fairswap.RiggedFigure.of(figure("Pip")).roles.bones
    assert np.abs(made.skeleton.rest_rotations[finger] - bent.skeleton.rest_rotations[finger]).max() < 1e-6
    measured = fairswap.pose.measure(made, against=without_mesh(figure("Pip")))
    arms = [row.degrees for row in measured.angles if row.role.startswith(("upper_arm", "lower_arm"))]
    assert max(arms, default=0.0) < 1.0
    assert fairswap.pose.measure(bent, against=without_mesh(figure("Pip"))).angles[0].degrees > 30.0


def recorded_with_rolled_arms(degrees):
    """A walk as bones alone that rest in a T, straight arms rolled about themselves: ``rolled.bvh``."""
    one = without_mesh(bones_of(figure("Osric"), "t"))
    walking = fairswap.Document("w.glb", "glTF 2.0", one.space, (figure("Osric"),), (act("walk", "Osric"),))
    clips = fairswap.pose.set(walking, "t").rested.clips
    known = fairswap.RiggedFigure.of(one)
    world = np.array(known.skeleton.rest.rotations[0])
    for side, sign in (("left", 1.0), ("right", -1.0)):
        arm = known.roles.bones[f"upper_arm_{side}"]
        rows = [arm, *known.skeleton.below(arm).tolist()]
        world[rows] = (
            Rotation.from_rotvec([np.radians(sign * degrees), 0, 0]) * Rotation.from_quat(world[rows])
        ).as_quat()
    rested = with_rest(one, clips, rest_skeleton(known, world))
    fairswap.save("rolled.bvh", rested.figure, rested.clips)


def test_recorded_bones_set_in_the_t_are_the_same_motion_to_whoever_looks():
    """Bones alone show by their motion about which axes straight arms bend; a twist of the result is still told."""
    recorded_with_rolled_arms(30.0)
    fairswap.pose.set("rolled.bvh", "t").save("t.bvh")
    walk, same = fairswap.load("rolled.bvh"), fairswap.load("t.bvh")
    assert np.abs(walk.clips[0].world().positions - same.clips[0].world().positions).max() < 1e-4
    assert fairswap.compare("rolled.bvh", "t.bvh").likeness > 95.0
    first, second = (fairswap.convert(file, TROUPE / "juniper.glb").clips[0] for file in ("rolled.bvh", "t.bvh"))
    assert np.linalg.norm(first.world().positions - second.world().positions, axis=2).max() < 0.02
    arm = fairswap.RiggedFigure.of(same).roles.bones["lower_arm_left"]
    along = same.figure.skeleton.rest_translations[fairswap.RiggedFigure.of(same).roles.bones["hand_left"]]
    twist = Rotation.from_rotvec(np.radians(50.0) * along / np.linalg.norm(along))
    tracks = same.clips[0].poses.rotation_tracks.copy()
    tracks[arm] = (Rotation.from_quat(tracks[arm].T) * twist).as_quat().T
    bad = replace(same.clips[0], poses=replace(same.clips[0].poses, rotation_tracks=tracks))
    found = fairswap.compare(walk, (same.figure, bad))
    assert found.likeness < 75.0
    assert "arm" in found.parts[0].because or "hand" in found.parts[0].because
