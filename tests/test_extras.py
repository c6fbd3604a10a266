"""Bones that only some figures have - tails, skirts, ears, faces of one family - go along where both have them."""

from dataclasses import replace

import numpy as np
import pytest

import fairswap
from fairswap.model.poses import PoseBuilder
from fairswap.model.rotation import multiply, quaternion_from_axis_angle, rotate
from making import FREE, act, figure


def document(who, clip):
    return fairswap.Document(f"{who}.glb", "glTF 2.0", who.space, (who,), (clip,))


def stirred(who, bones, degrees=15.0, seed=2):
    """The walk of a figure with some of its bones swinging as well, each about an axis of its own."""
    clip = act("walk", who)
    edit = clip.poses.edit()
    dice = np.random.default_rng(seed)
    swing = np.radians(degrees) * np.sin(np.arange(clip.frames) / 9.0)
    for bone in bones:
        turn = quaternion_from_axis_angle(dice.normal(size=3), swing)
        edit.rotation_tracks[bone] = multiply(edit.rotation_tracks[bone].T, turn).T
    return clip.with_poses(edit.poses(), keyed=frozenset(range(len(clip.skeleton))))


def apart(a, b):
    dots = np.abs(np.einsum("bif,bif->bf", a.poses.rotation_tracks, b.poses.rotation_tracks)).clip(0.0, 1.0)
    return np.degrees(2.0 * np.arccos(dots)).max(axis=1)


@pytest.mark.parametrize("who", ["Juniper", "Osric", "Pip"])
def test_on_the_same_figure_every_bone_does_what_it_did(who):
    body = figure(who)
    roles = fairswap.bones.roles_of(body)
    extra = [b for b in range(len(body.skeleton)) if b not in roles.bones.values() and b not in body.skeleton.ends]
    face = [roles.bones[role] for role in ("jaw", "eye_left", "eye_right") if role in roles.bones]
    clip = stirred(who, extra + face)
    made = fairswap.convert(document(body, clip), body, motion=FREE).clips[0]
    fingers = {bone for role, bone in roles.bones.items() if role.startswith(("index", "middle", "ring", "little"))}
    off = apart(made, clip)
    assert max(off[b] for b in range(len(off)) if b not in fingers) < 0.01
    assert off.max() < 0.5  # the rest of fingers is told by a clip, which the target alone has not


def tailed(who, names, length):
    """A figure with a chain of bones more behind its hips, turned as it likes."""
    body = figure(who)
    old, hips = body.skeleton, fairswap.bones.roles_of(body).bones["hips"]
    count = len(old)
    turn = quaternion_from_axis_angle([0, 1, 0], np.radians(40.0) if who == "Osric" else 0.0)
    behind = rotate(old.rest.rotations[0, hips] * [-1, -1, -1, 1], np.array([0.0, 0.0, -length]))
    skeleton = fairswap.Skeleton(
        (*old.names, *names),
        np.concatenate([old.parents, [hips], np.arange(count, count + len(names) - 1)]),
        np.concatenate([old.rest_rotations, np.tile(turn, (len(names), 1))]),
        np.concatenate([old.rest_translations, np.tile(behind, (len(names), 1))]),
        old.ends,
    )
    return fairswap.Figure(who, skeleton)


def test_a_tail_that_both_have_wags_about_the_same_axes_of_the_world():
    names = [("rig:Tail_1", "rig:Tail_2", "rig:Bone_3"), ("tail_1", "tail_2", "bone_3")]
    juniper, osric = tailed("Juniper", names[0], 0.2), tailed("Osric", names[1], 0.1)
    base = act("walk", "Juniper")
    count = len(figure("Juniper").skeleton)
    # All else stands still: what is seen is the tail's own.
    tracks = np.repeat(juniper.skeleton.rest_rotations[:, :, None], base.frames, axis=2)
    wag = quaternion_from_axis_angle([0, 1, 0], np.radians(30.0) * np.sin(np.arange(base.frames) / 7.0))
    tracks[count:] = wag.T
    moved = {
        **base.poses.translation_by_bone(),
        count: np.array([[0.0], [0.0], [-0.2]]) * np.linspace(1, 2, base.frames),
    }
    clip = fairswap.Clip(
        "wag", base.rate, PoseBuilder(juniper.skeleton, tracks, moved).poses(), frozenset(range(count + 3))
    )
    made = fairswap.convert(document(juniper, clip), osric, motion=FREE)
    first, then = len(osric.skeleton) - 3, len(osric.skeleton) - 2
    worlds = clip.poses.world(), made.clips[0].poses.world()
    turns = [
        multiply(world.rotations[:, bone], world.rotations[:1, bone] * [-1, -1, -1, 1])
        for world, bone in ((worlds[0], count), (worlds[1], first))
    ]
    # Osric's tail rests turned aside by 40 degrees: it wags as far, from there, about the same axis of the world.
    assert np.degrees(2 * np.arccos(np.abs((turns[0] * turns[1]).sum(axis=1)).clip(0, 1))).max() < 0.1
    grown = made.clips[0].poses.translation_track(first)
    assert np.linalg.norm(grown[:, -1]) == pytest.approx(2 * np.linalg.norm(grown[:, 0]), rel=1e-6)
    assert {first, then} <= made.clips[0].keyed
    # A number alone is no name: it rests, and that is told.
    assert last_rests(made, osric)
    assert "extras-lost" in {finding.code for finding in made.done[0].findings}


def told(found):
    return {row.part: row for row in found.parts}["trunk"]


def test_a_tail_that_hangs_otherwise_or_no_longer_wags_is_told_by_its_name():
    """Held against the motion of the same figure, with a tail that is off a little, much, and that stays at rest."""
    juniper = figure("Juniper")
    tail = [bone for bone, name in enumerate(juniper.skeleton.names) if name.startswith("coat_tail")]
    wags = stirred("Juniper", tail, degrees=30.0)

    def off(degrees):
        edit = wags.poses.edit()
        turn = quaternion_from_axis_angle([1, 0, 0], np.radians(degrees))
        edit.rotation_tracks[tail[0]] = multiply(edit.rotation_tracks[tail[0]].T, turn).T
        return fairswap.compare((juniper, wags), (juniper, wags.with_poses(edit.poses())))

    assert told(off(0.0)).score == pytest.approx(100.0, abs=0.01)
    assert told(off(3.0)).score > 90.0
    found = off(25.0)
    assert told(found).because == f"{juniper.skeleton.names[tail[0]]} is off"
    assert told(found).value == pytest.approx(25.0, abs=0.1)
    assert not found.looks_same
    lost = fairswap.compare((juniper, wags), (juniper, act("walk", "Juniper")))
    assert told(lost).score < 80.0
    assert told(lost).because.startswith("coat_tail")


def test_hair_that_swings_and_has_no_partner_is_told_and_a_brow_is_not():
    """All that hangs on the head was held for a face, of which its own part tells: a ponytail was lost in silence."""
    juniper, walk = figure("Juniper"), act("walk", "Juniper")
    bones, head = len(juniper.skeleton), juniper.skeleton.names.index("skull")
    skeleton = fairswap.Skeleton(
        (*juniper.skeleton.names, "ponytail", "brow_l"), [*juniper.skeleton.parents, head, head],
        [*juniper.skeleton.rest_rotations, [0, 0, 0, 1], [0, 0, 0, 1]],
        [*juniper.skeleton.rest_translations, [0.0, 0.1, -0.12], [0.03, 0.12, 0.09]],
    )  # fmt: skip
    haired = replace(juniper, skeleton=skeleton, meshes=(), source=None)
    edit = PoseBuilder(skeleton, np.repeat(skeleton.rest_rotations[:, :, None], walk.frames, axis=2), {})
    edit.rotation_tracks[:bones] = walk.poses.rotation_tracks
    edit.translations.update(walk.poses.translation_by_bone())
    swing = np.radians(20.0) * np.sin(np.arange(walk.frames) / 5.0)
    for bone in (bones, bones + 1):
        edit.rotation_tracks[bone] = quaternion_from_axis_angle(np.tile([1.0, 0.0, 0.0], (walk.frames, 1)), swing).T
    motion = document(haired, fairswap.Clip("walk", walk.rate, edit.poses()))
    findings = fairswap.convert(motion, figure("Osric")).done[0].findings
    (message,) = [row.message for row in findings if row.code == "extras-lost"]
    assert "ponytail moves too" in message


def slid(clip, bone, metres):
    """A clip in which a bone slides up by so much and back, once."""
    edit = clip.poses.edit()
    up = np.sin(np.linspace(0.0, np.pi, clip.frames)) * metres
    edit.translations[bone] = edit.translation_track(bone) + np.array([[0.0], [1.0], [0.0]]) * up
    return clip.with_poses(edit.poses())


@pytest.mark.parametrize("size", [0.6, 1.0])
@pytest.mark.long(but=1)
def test_a_tail_that_slides_goes_along_and_is_told_by_its_name_where_it_does_not(size):
    """By size: on a smaller body of the same make it slides less far, and that is right."""
    juniper, walk = figure("Juniper"), act("walk", "Juniper")
    tail = walk.bone("coat_tail_1_l")
    skeleton = replace(juniper.skeleton, rest_translations=size * juniper.skeleton.rest_translations)
    small = replace(juniper, name="small", skeleton=skeleton, meshes=(), source=None)
    made = fairswap.convert(document(juniper, slid(walk, tail, 0.15)), small).clips[0]
    moved = made.poses.translation_track(tail) - skeleton.rest_translations[tail][:, None]
    assert np.linalg.norm(moved, axis=0).max() == pytest.approx(0.15 * size, rel=0.01)
    source = (juniper, slid(walk, tail, 0.15))
    as_made = fairswap.compare(source, (small, made))
    assert not as_made.beside
    edit = made.poses.edit()
    edit.translations[tail] = np.repeat(skeleton.rest_translations[tail][:, None], made.frames, axis=1)
    found = fairswap.compare(source, (small, made.with_poses(edit.poses())))
    assert told(found).because == "coat_tail_1_l is elsewhere"
    assert found.beside[0].worst_cm == pytest.approx(15.0 * size, rel=0.01)
    assert found.likeness < 70.0


def test_a_tail_that_slides_where_no_source_has_one_is_told_in_centimetres():
    osric, juniper = figure("Osric"), figure("Juniper")
    made = fairswap.convert(document(osric, act("clap", "Osric")), juniper).clips[0]
    found = fairswap.compare((osric, act("clap", "Osric")), (juniper, slid(made, made.bone("coat_tail_2_r"), 0.08)))
    (message,) = [finding.message for finding in found.findings if finding.code == "extras-restless"]
    assert "coat_tail_2_r (8 cm)" in message


def test_what_only_the_result_has_is_told_if_it_does_not_rest_but_for_a_share_of_a_twist():
    """No source says what a coat's tail is to do: it is told, and not judged. A twist that a helper shares is meant."""
    osric, juniper = figure("Osric"), figure("Juniper")
    made = fairswap.convert(document(osric, act("clap", "Osric")), juniper)
    clip = made.clips[0]
    source = (osric, act("clap", "Osric"))
    as_made = fairswap.compare(source, (juniper, clip))
    assert apart(clip, clip.with_poses(clip.poses.at(np.zeros(clip.frames))))[clip.bone("elbow_twist_l")] > 5.0
    assert "extras-restless" not in {finding.code for finding in as_made.findings}
    edit = clip.poses.edit()
    turn = quaternion_from_axis_angle([1, 0, 0], np.radians(25.0))
    edit.rotation_tracks[clip.bone("coat_tail_2_r")] = multiply(
        edit.rotation_tracks[clip.bone("coat_tail_2_r")].T, turn
    ).T
    found = fairswap.compare(source, (juniper, clip.with_poses(edit.poses())))
    (message,) = [finding.message for finding in found.findings if finding.code == "extras-restless"]
    assert "coat_tail_2_r (25 degrees)" in message
    assert found.likeness == pytest.approx(as_made.likeness, abs=0.01)


def last_rests(made, osric):
    last = len(osric.skeleton) - 1
    return last not in made.clips[0].keyed and np.ptp(made.clips[0].poses.rotation_tracks[last], axis=1).max() < 1e-9


def test_what_rests_in_the_clip_gets_no_keys():
    juniper = figure("Juniper")
    made = fairswap.convert(document(juniper, act("walk", "Juniper")), juniper, motion=FREE)
    coat = [i for i, name in enumerate(juniper.skeleton.names) if name.startswith("coat_tail")]
    assert coat
    assert not made.clips[0].keyed & set(coat)


def test_eyes_look_where_they_looked_on_a_face_of_another_make():
    """Eyes of bones on both sides turn as far about the same axes, whatever the head's shapes could show."""
    source, target = figure("Juniper"), figure("Osric")
    roles = [fairswap.bones.roles_of(each).bones for each in (source, target)]
    clip = act("walk", "Juniper")
    edit = clip.poses.edit()
    gaze = quaternion_from_axis_angle([0, 1, 0], np.radians(38.0) * np.sin(np.arange(clip.frames) / 9.0))
    for side in ("left", "right"):
        eye = roles[0][f"eye_{side}"]
        edit.rotation_tracks[eye] = multiply(edit.rotation_tracks[eye].T, gaze).T
    clip = clip.with_poses(edit.poses(), keyed=frozenset(range(len(clip.skeleton))))
    made = fairswap.convert(document(source, clip), target, motion=FREE).clips[0]
    turns = []
    for figure_, moved, found in ((source, clip, roles[0]), (target, made, roles[1])):
        eye, head = found["eye_left"], found["head"]
        world, rest = moved.poses.world(), figure_.skeleton.rest
        motions = [
            multiply(world.rotations[:, bone], rest.rotations[0, bone] * [-1, -1, -1, 1]) for bone in (head, eye)
        ]
        turns.append(multiply(motions[0] * [-1, -1, -1, 1], motions[1]))
    assert np.degrees(2 * np.arccos(np.abs((turns[0] * turns[1]).sum(axis=1)).clip(0, 1))).max() < 0.1


def test_a_face_that_is_made_of_shapes_opens_a_jaw_of_bones_as_before():
    """Only what moves on the source is left alone on the target: a mouth of morphs still moves bones."""
    spoken = fairswap.demo_motion("spoken line", by="Juniper")
    made = fairswap.convert(spoken, figure("Osric"), motion=FREE)
    jaw = fairswap.bones.roles_of(figure("Osric")).bones["jaw"]
    assert np.degrees(2 * np.arccos(np.abs(made.clips[0].poses.rotation_tracks[jaw][3]).min())) > 2.0
    assert made.done[0].face is not None
