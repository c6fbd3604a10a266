"""A motion on the figure it was made for is the motion: whatever is odd about figure and clip."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

import fairswap
from fairswap.model.poses import Poses
from fairswap.model.skeleton import Skeleton
from making import act, figure, rigged, swap_between
from test_blocks import blocks
from test_few_parts import BODIES

HANDS_ON_HIPS = {"upper_arm_left": (-60, 0, 20), "upper_arm_right": (-60, 0, -20)}


def document(body, *clips):
    return fairswap.Document("own", "", body.space, (body,), clips)


def turned(clip, body, turns):
    """The clip with joints turned, in degrees about the axes of the figure, before what they do in it."""
    edit, bones = clip.poses.edit(), rigged(body).roles.bones
    for role, angles in turns.items():
        own = Rotation.from_quat(edit.rotation_tracks[bones[role]].T.copy())
        edit.turn(bones[role], (Rotation.from_euler("xyz", angles, degrees=True) * own).as_quat().T)
    return clip.with_poses(edit.poses())


def with_joints_out_of_place(clip, body):
    """Fingers, a forearm and the spine drawn out to and fro, as rigs of games do it."""
    edit, bones = clip.poses.edit(), rigged(body).roles.bones
    there_and_back = np.sin(np.arange(clip.frames) / 9.0)
    for role, share in (("index_intermediate_left", 0.5), ("lower_arm_right", 0.3), ("spine_2", 0.6)):
        rest = body.skeleton.rest_translations[bones[role]]
        edit.translations[bones[role]] = rest[:, None] * (1.0 + share * there_and_back)
    return clip.with_poses(edit.poses())


def bends(body, axis):
    """A clip in which straight elbows bend about an axis of their own, forearm by forearm."""
    frames, bones = 40, rigged(body).roles.bones
    tracks = np.repeat(body.skeleton.rest_rotations[:, :, None], frames, axis=2)
    for side in ("left", "right"):
        bent = Rotation.from_rotvec(np.outer(np.linspace(0.6, 1.4, frames), axis))
        own = Rotation.from_quat(tracks[bones[f"lower_arm_{side}"]].T.copy())
        tracks[bones[f"lower_arm_{side}"]] = (own * bent).as_quat().T
    return fairswap.Clip(f"bends about {axis}", Fraction(30), Poses(body.skeleton, tracks))


def apart(a, b, leave=()):
    """How far bones of two clips are apart at worst: degrees, and metres."""
    kept = [bone for bone in range(len(a.skeleton)) if bone not in leave]
    first, second = a.world(), b.world()
    one, two = (Rotation.from_quat(world.rotations[:, kept].reshape(-1, 4)) for world in (first, second))
    metres = np.linalg.norm(first.positions[:, kept] - second.positions[:, kept], axis=-1).max()
    return float(np.degrees((one.inv() * two).magnitude()).max()), float(metres)


def is_the_same(source, name=None):
    """Convert a document's clip onto its own figure; give the two clips."""
    wanted = fairswap.SourceOptions(clips=(name,) if name else ())
    found = fairswap.convert(source, source.figure, source=wanted, face=fairswap.FaceOptions("none")).done[0]
    assert found.comparison.likeness > 99.9, found.comparison
    return found.original, found.clip


@pytest.mark.parametrize("build", ["six", "six in T", "elbows", "eleven"])
@pytest.mark.long(but=2)
def test_blocks_do_what_they_did(build, tmp_path):
    body = blocks(BODIES[build]).load(tmp_path).figure
    walk = fairswap.convert(
        document(figure("Juniper"), act("walk", "Juniper")), body, face=fairswap.FaceOptions("none")
    ).done[0].clip  # fmt: skip
    # Not as our own results stand: one leg is lame and the trunk lies in the air.
    limping = replace(turned(walk, body, {"upper_leg_left": (25, 0, 0), "hips": (0, 0, 30)}), made=None)
    degrees, metres = apart(*is_the_same(document(body, limping)))
    assert degrees < 1e-4
    assert metres < 1e-6


@pytest.mark.parametrize("who", ["Juniper", "Osric"])
def test_joints_leave_their_places_as_they_did(who):
    body = figure(who)
    clip = with_joints_out_of_place(act("clap", who), body)
    degrees, metres = apart(*is_the_same(document(body, clip)))
    assert degrees < 1e-4
    assert metres < 1e-6


def test_on_another_figure_bones_keep_their_lengths_and_it_is_told():
    clip = with_joints_out_of_place(act("clap", "Juniper"), figure("Juniper"))
    found = swap_between(figure("Juniper"), figure("Osric"), motion=clip).retarget(clip)
    assert "joints-stretched" in [finding.code for finding in found.findings]
    forearm = rigged(figure("Osric")).roles.bones["lower_arm_right"]
    assert np.ptp(found.clip.poses.translation_track(forearm), axis=1).max() < 1e-12


@pytest.mark.parametrize("shown", [0, 1])
def test_elbows_that_another_clip_shows_otherwise_are_not_turned(shown):
    """Arms straight at rest; the file's first clip bends them about one line, the second about another."""
    body = figure("Juniper")
    source = document(body, bends(body, (0.0, 1.0, 0.0)), bends(body, (0.6, -0.8, 0.0)))
    degrees, metres = apart(*is_the_same(source, source.clips[shown].name))
    assert degrees < 1e-4
    assert metres < 1e-6


def test_a_motion_of_the_root_goes_to_the_hips_and_nothing_below_them_changes():
    body = figure("Juniper")
    root = rigged(body).roles.bones["root"]
    edit = with_joints_out_of_place(act("walk", "Juniper"), body).poses.edit()
    heading = Rotation.from_rotvec(np.outer(np.linspace(0.0, 2.4, edit.frames), [0.0, 1.0, 0.0]))
    edit.turn(root, heading.as_quat().T)
    clip = act("walk", "Juniper").with_poses(edit.poses())
    before, after = is_the_same(document(body, clip))
    degrees, metres = apart(before, after, leave=(root,))
    assert degrees < 1e-4
    assert metres < 1e-6
    assert np.ptp(after.poses.rotation_tracks[root], axis=1).max() < 1e-12


def with_more_and_less(body):
    """The body under a root of its own, with a thing in its hand, and without its end markers."""
    old, hand = body.skeleton, rigged(body).roles.bones["hand_right"]
    kept = [bone for bone in range(len(old)) if bone not in old.ends]
    at = {bone: index + 1 for index, bone in enumerate(kept)}
    above = [at[parent] if parent >= 0 else 0 for parent in (int(old.parents[bone]) for bone in kept)]
    identity = [0.0, 0.0, 0.0, 1.0]
    skeleton = Skeleton(
        ("carrier", *(old.names[bone] for bone in kept), "lantern"), [-1, *above, at[hand]],
        np.concatenate([[identity], old.rest_rotations[kept], [identity]]),
        np.concatenate([np.zeros((1, 3)), old.rest_translations[kept], [[0.0, -0.1, 0.0]]]),
    )  # fmt: skip
    return fairswap.Figure("more and less", skeleton)


@pytest.mark.parametrize("motion", [{}, {"travel": "root"}, {"travel": "none"}, {"clear": True}])
@pytest.mark.long(but=1)
def test_a_body_with_a_root_and_things_beside_is_the_same_body(motion):
    who, clip = figure("Osric"), with_joints_out_of_place(act("walk", "Osric"), figure("Osric"))
    body = with_more_and_less(who)
    found = fairswap.convert(
        document(who, clip), body, motion=fairswap.MotionOptions(**motion), face=fairswap.FaceOptions("none")
    ).done[0]
    assert found.comparison.likeness > 97.0  # its soles are guessed: it has no mesh
    before, after = clip.world().positions, found.clip.world().positions
    at = {name: bone for bone, name in enumerate(body.skeleton.names)}
    shared = [(bone, at[name]) for bone, name in enumerate(who.skeleton.names) if name in at]
    hips = rigged(who).roles.bones["hips"]
    aside = (before[:, hips] - after[:, at[who.skeleton.names[hips]]])[:, None]
    assert np.abs(aside).max() < (1e-6 if motion.get("travel") != "none" else 10.0)
    assert np.abs(before[:, [a for a, _ in shared]] - aside - after[:, [b for _, b in shared]]).max() < 1e-6


def test_another_skin_on_the_same_bones_stands_on_its_own_soles():
    """Boots on the feet of the same bones: feet roll over them, on a ground 4 cm lower; all else is as it was."""
    who, clip = figure("Osric"), act("walk", "Osric")
    meshes = []
    for mesh in who.meshes:
        vertices = mesh.vertices.copy()
        vertices[vertices[:, 1] < 0.02, 1] -= 0.04
        meshes.append(replace(mesh, vertices=vertices))
    booted = replace(who, meshes=tuple(meshes), source=None)
    assert booted.floor_m == pytest.approx(who.floor_m - 0.04, abs=1e-3)
    found = fairswap.convert(document(who, clip), booted, face=fairswap.FaceOptions("none")).done[0]
    assert found.comparison.likeness > 95.0, found.comparison
    legs = {bone for role, bone in rigged(who).roles.bones.items() if role.startswith(("upper_leg", "lower_leg"))}
    turned = {bone for leg in legs for bone in (leg, *who.skeleton.below(leg).tolist())}
    assert apart(clip, found.clip, leave=turned)[0] < 1e-4


def test_a_body_with_one_longer_shin_is_another():
    who = figure("Osric")
    places = who.skeleton.rest_translations.copy()
    places[rigged(who).roles.bones["foot_left"]] *= 1.1
    other = replace(who, skeleton=replace(who.skeleton, rest_translations=places), meshes=(), source=None)
    assert swap_between(who, who).of_one_build
    assert not swap_between(who, other).of_one_build


def test_a_reference_pose_that_is_asked_for_counts():
    """The rest of one's own figure, said to be another pose: the motion is told from there."""
    body, clip = figure("Osric"), act("lamp", "Osric")
    told = swap_between(body, body, motion=clip, source_reference="frame:20", target_reference="rest")
    assert not told.of_one_build
    assert apart(clip, told.transfer(clip))[0] > 5.0
    for choice in ("rest", "auto"):
        alike = swap_between(body, body, motion=clip, source_reference=choice, target_reference="rest")
        assert alike.of_one_build
        assert max(apart(clip, alike.transfer(clip))) < 1e-4


def test_hands_stay_where_they_are_on_a_body_of_the_same_bones():
    """Whatever would bring hands to what they touch has nothing to do."""
    body = figure("Pip")
    clip = turned(act("clap", "Pip"), body, HANDS_ON_HIPS)
    degrees, metres = apart(*is_the_same(document(body, clip)))
    assert degrees < 1e-4
    assert metres < 1e-6
