"""A motion on the figure it was made for is the motion: whatever is odd about figure and clip."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

import fairswap
from fairswap.face.transfer import still_clip
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


def test_a_clip_comes_out_the_same_alone_and_among_others():
    """What tells how a figure stands and bends is its file's, not what else is wanted of it."""
    body = figure("Juniper")
    source = document(body, bends(body, (0.0, 1.0, 0.0)), bends(body, (0.6, -0.8, 0.0)), act("clap", "Juniper"))
    names = [clip.name for clip in source.clips]

    def onto_osric(*wanted):
        asked = fairswap.SourceOptions(clips=wanted)
        found = fairswap.convert(source, figure("Osric"), source=asked, face=fairswap.FaceOptions("none"))
        return {row.original.name: row.clip for row in found.done}

    whole = onto_osric()
    alone = {name: onto_osric(name)[name] for name in names}
    for name in names:
        assert max(apart(whole[name], alone[name])) == 0.0
    # Nor does a still clip before it change a thing, as exporters write one with nothing but the rest pose.
    still = still_clip(body, "still", Fraction(30), 20)
    after = fairswap.convert(document(body, still, source.clips[1]), figure("Osric"), face=fairswap.FaceOptions("none"))
    # It does tell something: of a file with that clip alone the arms are held otherwise.
    other = fairswap.convert(document(body, source.clips[1]), figure("Osric"), face=fairswap.FaceOptions("none"))
    assert apart(other.clips[0], whole[names[1]])[0] > 5.0
    assert apart(other.clips[0], after.clips[1])[0] < 1e-6


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


LONGER = {"upper_leg": 0.95, "lower_leg": 1.2, "foot": 1.15, "lower_arm": 0.85, "hand": 0.9, "spine": 1.1, "neck": 1.3}


def cousin(body, factors=LONGER):
    """A figure of the same family: bones, by their roles, so many times as far from what they hang on. No mesh."""
    places, bones = body.skeleton.rest_translations.copy(), rigged(body).roles.bones
    for role, bone in bones.items():
        places[bone] *= next((factor for name, factor in factors.items() if role.startswith(name)), 1.0)
    return replace(body, skeleton=replace(body.skeleton, rest_translations=places), meshes=(), source=None)


def bare(body):
    return replace(body, meshes=(), source=None)


@pytest.mark.parametrize("who", ["Juniper", "Osric", "Pip"])
def test_on_one_of_the_same_family_every_joint_turns_as_it_did(who):
    body, clip = figure(who), act("turn-and-bow", who)
    swap = swap_between(bare(body), cousin(body), motion=clip)
    assert swap.of_one_family
    assert not swap.of_one_build
    assert apart(clip, swap.transfer(clip), leave=swap.target.roles.helpers)[0] < 1e-4


@pytest.mark.parametrize("shown", [0, 1])
def test_of_a_family_whose_elbows_bend_oddly_as_well(shown):
    body = figure("Juniper")
    clips = bends(body, (0.0, 1.0, 0.0)), bends(body, (0.6, -0.8, 0.0))
    swap = swap_between(bare(body), cousin(body), motion=clips[shown])
    assert apart(clips[shown], swap.transfer(clips[shown]), leave=swap.target.roles.helpers)[0] < 1e-4


def test_bones_of_the_same_names_that_rest_in_another_pose_are_no_family():
    """All joints turned alike, as some programs write them, arms at rest by the side here, out to the side there."""
    body = figure("Juniper")
    world, identity = body.skeleton.rest, np.tile([0.0, 0.0, 0.0, 1.0], (len(body.skeleton), 1))
    steps = [place - (world.positions[0, parent] if parent >= 0 else 0.0)
             for place, parent in zip(world.positions[0], body.skeleton.parents.tolist(), strict=True)]  # fmt: skip
    plain = replace(body.skeleton, rest_rotations=identity, rest_translations=np.array(steps))
    out = replace(bare(body), skeleton=plain)
    hanging, roles = np.array(steps), rigged(body).roles.bones
    for side, angle in (("left", -1.2), ("right", 1.2)):
        for bone in body.skeleton.below(roles[f"upper_arm_{side}"]).tolist():
            if bone != roles[f"upper_arm_{side}"]:
                hanging[bone] = Rotation.from_rotvec([0.0, 0.0, angle]).apply(hanging[bone])
    down = replace(out, skeleton=replace(plain, rest_translations=hanging))
    clip = fairswap.clips.trim(swap_between(bare(body), out).transfer(act("clap", "Juniper")), start="0", end="1")
    swap = swap_between(out, down, motion=clip)
    assert not swap.of_one_family
    found = swap.transfer(clip).world().positions
    wanted = clip.world().positions
    elbow = [roles["upper_arm_left"], roles["lower_arm_left"]]
    arms = [np.diff(one[:, elbow], axis=1)[:, 0] for one in (found, wanted)]
    one, two = (arm / np.linalg.norm(arm, axis=1)[:, None] for arm in arms)
    assert np.degrees(np.arccos(np.clip(np.einsum("fi,fi->f", one, two), -1, 1))).max() < 2.0


def with_links(body):
    """A bone more in each shin, as animals and some rigs have it: it bends, too."""
    old, roles = body.skeleton, rigged(body).roles.bones
    shins = {roles[f"foot_{side}"]: f"link {side}" for side in ("left", "right")}
    names, parents, rotations, places, at = [], [], [], [], {-1: -1}
    for bone, parent in enumerate(old.parents.tolist()):
        place = old.rest_translations[bone]
        if bone in shins:
            names.append(shins[bone])
            parents.append(at[parent])
            rotations.append([0.0, 0.0, 0.0, 1.0])
            places.append(0.6 * place)
            parent, place = -2, 0.4 * place
            at[parent] = len(names) - 1
        names.append(old.names[bone])
        parents.append(at[parent])
        rotations.append(old.rest_rotations[bone])
        places.append(place)
        at[bone] = len(names) - 1
    return fairswap.Figure("links", Skeleton(tuple(names), parents, np.array(rotations), np.array(places)))


def on_its_links(body):
    """Two seconds in which the shins bend in their middle, and the hips give way, so that both feet stay."""
    skeleton, roles, frames = body.skeleton, rigged(body).roles.bones, 60
    edit = Poses(skeleton, np.repeat(skeleton.rest_rotations[:, :, None], frames, axis=2)).edit()
    bend = np.outer(0.7 * np.sin(np.linspace(0.0, 6.0, frames)) ** 2, [1.0, 0.0, 0.0])
    rest = skeleton.rest
    for side in ("left", "right"):
        link, foot = skeleton.names.index(f"link {side}"), roles[f"foot_{side}"]
        for bone, way in ((link, 1.0), (foot, -1.0)):  # the foot stays level
            above = Rotation.from_quat(rest.rotations[0, int(skeleton.parents[bone])])
            own = Rotation.from_quat(skeleton.rest_rotations[bone])
            edit.turn(bone, (above.inv() * Rotation.from_rotvec(way * bend) * above * own).as_quat().T)
    moved = edit.poses().world().positions[:, roles["foot_left"]]
    hips = roles["hips"]
    above = Rotation.from_quat(rest.rotations[0, int(skeleton.parents[hips])])
    edit.translations[hips] = skeleton.rest_translations[hips][:, None] - above.inv().apply(moved - moved[0]).T
    return fairswap.Clip("on its links", Fraction(30), edit.poses())


def test_feet_stand_on_legs_that_bend_between_knee_and_ankle():
    """From knee to ankle it is not as far in one frame as in another."""
    body = with_links(figure("Juniper"))
    clip, roles = on_its_links(body), rigged(body).roles.bones
    feet = [roles["foot_left"], roles["foot_right"]]
    standing = clip.world().positions[:, feet]
    assert np.ptp(standing, axis=0).max() < 1e-6
    assert np.ptp(clip.world().positions[:, roles["hips"]], axis=0).max() > 0.02
    found = swap_between(body, cousin(body, {"lower_leg": 0.8, "foot": 0.9}), motion=clip).convert(clip)
    assert np.ptp(found.world().positions[:, feet], axis=0).max() < 2e-3


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
