"""Clips as games have them: counted from the saddle, of figures that look backward, on knees, seated, arms at ease."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

import fairswap
from fairswap.bones.assignment import roles_of
from fairswap.measure.capsules import capsules_of
from fairswap.measure.comparison import Motion, compare_motions
from fairswap.measure.contacts import FootTracks, contacts_of, find_belt
from fairswap.measure.palms import palms_of
from fairswap.measure.soles import soles_of
from fairswap.measure.surface import surface_of
from fairswap.measure.touches import on_body
from fairswap.measure.verdict import NEARLY
from fairswap.model.chain_world import ChainWorld
from fairswap.model.rotation import angle_between, multiply, rotate
from fairswap.pose.base import base_pose
from making import TROUPE, act, figure, rigged, run, swap_between
from rewrites import rewritten
from test_motion_quality import X, Y, Z, about, posed

OSRIC, JUNIPER = figure("Osric"), figure("Juniper")


def moved(clip, metres, frames=slice(None)):
    """The hips of Osric, which hang on nothing, moved by ``(3,)`` or ``(3, frames)`` metres."""
    edit, hips = clip.poses.edit(), roles_of(OSRIC).bones["hips"]
    track = np.broadcast_to(edit.translations[hips], (3, clip.frames)).copy()
    track[:, frames] += np.reshape(metres, (3, -1))
    edit.translations[hips] = track
    return clip.with_poses(edit.poses())


def feet_and_hips(made, target):
    roles = roles_of(target).bones
    return made.world().positions[:, [roles[role] for role in ("hips", "foot_left", "foot_right", "hand_left")]]


@pytest.mark.parametrize("deep", [0.6, 1.0, 2.5])
@pytest.mark.long(but=1)
def test_a_clip_that_is_counted_from_the_hips_or_a_saddle_stands_on_the_floor(deep):
    """All of it is far below the floor; the result is as if it were not, and so are hands near the floor."""
    walk = act("walk", "Osric")
    pair = swap_between(OSRIC, JUNIPER, motion=walk)
    plain, low = pair.retarget(walk), pair.retarget(moved(walk, [0.0, -deep, 0.0]))
    (told,) = (finding.message for finding in low.findings if finding.code == "floor-off")
    assert "below the floor, as if counted from the hips or from a saddle" in told
    # Where that floor is is found from feet that roll, within two centimetres.
    np.testing.assert_allclose(feet_and_hips(low.clip, JUNIPER), feet_and_hips(plain.clip, JUNIPER), atol=0.02)
    told = compare_motions(Motion(pair.source, moved(walk, [0.0, -deep, 0.0])), Motion(pair.target, low.clip))
    assert told.likeness > compare_motions(Motion(pair.source, walk), Motion(pair.target, plain.clip)).likeness - 3.0


def wading():
    """Osric's walk, so quick that no foot ever stands."""
    walk = act("walk", "Osric")
    return walk.with_poses(walk.poses.at(np.arange(0, walk.frames, 6)))


def test_where_no_foot_stands_the_lowest_sole_comes_down_to_the_floor():
    riding = moved(wading(), [0.0, -1.2, 0.0])
    pair = swap_between(OSRIC, JUNIPER, motion=riding)
    assert contacts_of(pair.source, riding).count() == 0
    made = pair.retarget(riding).clip
    soles = [sole.track(made.world())[:, :, 1] for sole in soles_of(pair.target).values()]
    assert min(heights.min() for heights in soles) == pytest.approx(pair.target.floor_m, abs=1e-6)


def lowest_soles(known, clip):
    return min(float(sole.track(clip.world())[:, :, 1].min()) for sole in soles_of(known).values()) - known.floor_m


@pytest.mark.parametrize("high", [-0.04, 0.0, 0.3])
def test_who_never_stands_is_as_near_to_the_floor_on_another_figure(high):
    """In it by no more than the source is, and above it by as much: in leg lengths, whatever the feet and the legs."""
    clip = moved(wading(), [0.0, high, 0.0])
    pair = swap_between(OSRIC, figure("Pip"), motion=clip)
    assert contacts_of(pair.source, clip).count() == 0
    was, now = lowest_soles(pair.source, clip), lowest_soles(pair.target, pair.retarget(clip).clip)
    low, top = sorted([0.0, pair.leg_ratio * was])
    assert low - 1e-6 <= now <= top + 1e-6
    if high <= 0.0:  # as it was transferred, it is not
        assert not low - 1e-3 <= lowest_soles(pair.target, pair.transfer(clip)) <= top + 1e-3


def on_the_spot(unevenly):
    """Osric's walk with its travel taken out, quicker and slower by turns in each step."""
    walk = swap_between(OSRIC, OSRIC).convert(act("walk", "Osric"), fairswap.MotionOptions(travel="none"))
    frames = np.arange(walk.frames)
    gait = fairswap.clips.describe(walk, rigged(OSRIC)).gait
    step = 60.0 / gait.steps_a_minute * float(walk.rate)
    warped = frames + unevenly * step / (2 * np.pi) * np.sin(2 * np.pi * frames / step)
    return walk.with_poses(walk.poses.at(warped.clip(0, walk.frames - 1)))


def test_who_walks_unevenly_on_the_spot_stands_on_the_floor_that_runs():
    even, uneven = on_the_spot(0.0), on_the_spot(0.1)
    known = rigged(OSRIC)
    steps = contacts_of(known, even)
    found = contacts_of(known, uneven)
    assert found.belt_m_s is not None
    shares = [np.mean([row.standing(side) for side in ("left", "right")]) for row in (steps, found)]
    assert shares[1] > 0.75 * shares[0]
    pair = swap_between(OSRIC, JUNIPER, motion=uneven)
    made = pair.retarget(uneven)
    told = compare_motions(Motion(pair.source, uneven), Motion(pair.target, made.clip))
    assert told.likeness >= NEARLY
    assert told.contacts.kept_share > 0.8
    # The floor that is meant is the source's: a result that stands still on the spot keeps no contact with it.
    still = made.clip.with_poses(made.clip.poses.picked(np.zeros(made.clip.frames, dtype=np.intp)))
    stopped = compare_motions(Motion(pair.source, uneven), Motion(pair.target, still))
    assert stopped.contacts.kept_share < 0.2
    assert stopped.likeness < 50.0


def test_a_result_that_goes_its_way_keeps_the_steps_of_a_source_on_the_spot():
    """One file has the travel, the other has it taken out: the floor that runs is not put under the one that goes."""
    known, walk = rigged(OSRIC), act("walk", "Osric")
    found = compare_motions(Motion(known, on_the_spot(0.0)), Motion(known, walk))
    assert found.contacts.kept_share > 0.9


@pytest.mark.parametrize("steps", [True, False])
def test_a_floor_runs_under_two_feet(steps):
    """The one foot scrapes the ground, back and forth, while the other never comes down: nobody walks."""
    frames, rate = 60, 30.0
    phase = np.arange(frames) / 20.0

    def track(phase, low):
        part = phase % 1.0
        back = np.where(part < 0.6, 0.3 - part, -0.3 + 1.5 * (part - 0.6))
        up = np.where(part < 0.6, 0.0, 0.1 * np.sin(np.pi * (part - 0.6) / 0.4))
        return np.stack([np.zeros(frames), up + low, back], axis=1)

    def foot(where):
        return FootTracks(where, where + [0.0, 0.0, 0.15], np.ones(frames, dtype=bool))

    feet = {"left": foot(track(phase, 0.0)), "right": foot(track(phase + 0.5, 0.0 if steps else 0.2))}
    belt = find_belt(feet, np.tile([0.0, 1.0, 0.0], (frames, 1)), rate, 0.9)
    assert (belt is not None) == steps
    if steps:
        np.testing.assert_allclose(belt, [0.0, 0.0, -1.5], atol=0.1)


def test_how_fast_feet_go_is_nobody_s_concern_while_they_are_in_the_air():
    idle = act("idle", "Osric")
    frames = idle.frames
    up = np.zeros((frames, 3))
    up[frames // 5 :, 1] = 0.5
    swaying = up + np.sin(np.arange(frames) / 3.0)[:, None] * [0.2, 0.0, 0.0] * (up[:, 1:2] > 0.0)
    found = compare_motions(*(Motion(rigged(OSRIC), moved(idle, way.T)) for way in (up, swaying)))
    assert found.result_footing.lowest_cm_s < found.source_footing.lowest_cm_s + 1.0


def test_who_goes_down_stairs_is_left_on_them():
    """Below the floor at the end, but not always: no floor is made of that."""
    idle = act("idle", "Osric")
    down = moved(idle, [0.0, -1.0, 0.0], slice(idle.frames // 2, None))
    found = contacts_of(rigged(OSRIC), down)
    assert found.floor.at == pytest.approx(rigged(OSRIC).floor_m, abs=0.03)
    for side in ("left", "right"):  # who is a metre below the floor does not stand on it
        assert found.standing(side)[: idle.frames // 2 - 5].all()
        assert not found.standing(side)[idle.frames // 2 + 5 :].any()


def test_one_who_floats_is_told_though_no_foot_ever_stands():
    """Hips in their place above the floor the one time, and high above it the other: a source whose feet never rest."""
    known, clip = rigged(OSRIC), wading()
    assert contacts_of(known, clip).count() == 0
    ranked = [
        compare_motions(Motion(known, clip), Motion(known, moved(clip, [0.0, high, 0.0]))) for high in (0, 0.1, 0.6)
    ]
    assert ranked[0].likeness == 100.0
    assert all(np.diff([found.likeness for found in ranked]) < -10.0)
    worst = min(ranked[2].parts, key=lambda row: row.score)
    assert worst.score < 5.0
    assert {row.because for row in ranked[2].parts} >= {"no sole comes down to the floor"}


def looking_backward(body, clip):
    """A figure and its clip turned about, all but where its file says that it is."""
    back = about(Y, 180.0)
    root = int(np.flatnonzero(body.skeleton.parents < 0)[0])
    rotations, places = body.skeleton.rest_rotations.copy(), body.skeleton.rest_translations.copy()
    rotations[root], places[root] = multiply(back, rotations[root]), rotate(back, places[root])
    skeleton = replace(body.skeleton, rest_rotations=rotations, rest_translations=places)
    tracks, moves = clip.poses.rotation_tracks.copy(), clip.poses.translation_tracks.copy()
    tracks[root] = multiply(back, tracks[root].T).T
    row = list(clip.poses.translated_bones).index(root)
    moves[row] = rotate(back, moves[row].T).T
    turned = replace(clip.poses, skeleton=skeleton, rotation_tracks=tracks, translation_tracks=moves)
    return skeleton, fairswap.Clip(clip.name, clip.rate, turned)


def test_one_who_looks_backward_is_turned_ahead_and_keeps_its_height_whatever_the_first_clip():
    """A clip that is counted from the saddle says nothing of where the hips rest."""
    skeleton, walk = looking_backward(OSRIC, act("walk", "Osric"))
    body = fairswap.Figure("Osric", skeleton)
    riding = moved(walk, [0.0, -1.2, 0.0])
    for clip in (walk, riding, None):
        found = base_pose(body, roles_of(OSRIC), clip=clip)
        assert found.said == "the rest pose; turned ahead"
        np.testing.assert_allclose(found.hips, skeleton.rest.positions[0, roles_of(OSRIC).bones["hips"]], atol=1e-9)
    # A lean is kept, wherever it looks.
    roles = roles_of(OSRIC).bones
    leaning = skeleton.rest_rotations.copy()
    leaning[roles["hips"]] = multiply(about(Y, 180.0), multiply(about(X, 20.0), OSRIC.skeleton.rest_rotations[0]))
    found = base_pose(fairswap.Figure("Osric", replace(skeleton, rest_rotations=leaning)), roles_of(OSRIC))
    up = found.world.positions[0, roles["head"]] - found.world.positions[0, roles["hips"]]
    assert np.degrees(angle_between(up / np.linalg.norm(up), Y)) == pytest.approx(20.0, abs=4.0)


def test_a_file_that_looks_backward_is_turned_by_the_skin_of_its_feet():
    """Pip has no toes, and names that say no side to us: the skin of his shoes shows the front."""
    data = Path(TROUPE / "pip.glb").read_bytes()
    backward = rewritten(data, "facing backwards")
    found = fairswap.load(backward, format=".glb")
    assert [f.code for f in found.findings] == ["space-corrected"]
    assert "skin of the feet points to -Z" in found.findings[0].message
    assert "turned to face +Z" in found.findings[0].message
    np.testing.assert_allclose(
        found.figures[0].skeleton.rest.positions, fairswap.load(data, format=".glb").figures[0].skeleton.rest.positions,
        atol=1e-6,
    )  # fmt: skip


KNEELING = {
    "upper_leg_left": about(X, -90.0), "lower_leg_left": about(X, 90.0), "lower_leg_right": about(X, 78.0),
    "foot_right": about(X, 80.0),
}  # fmt: skip


@pytest.mark.parametrize("target", ["Osric", "Pip"])
def test_a_foot_that_lies_on_its_back_is_not_stood_on_its_sole(target):
    """Who kneels on one knee rests the other foot on its back: laid on its sole it would be turned by half a circle."""
    known = rigged(JUNIPER)
    place, bones = known.reference_world.positions[0], known.roles.bones
    clip = posed("Juniper", KNEELING, place[bones["lower_leg_left"], 1] + 0.03)
    found = contacts_of(known, clip)
    assert found.standing("left").all()
    assert not found.standing("right").any()  # though its heel and its ball are as low
    pair = swap_between(JUNIPER, figure(target), motion=clip)
    made = pair.retarget(clip)
    told = compare_motions(Motion(pair.source, clip), Motion(pair.target, made.clip))
    off = {row.role: row.mean_degrees for row in told.roles}
    assert off["foot_right"] < 20.0
    assert off["foot_left"] < 15.0
    assert {row.part: row.score for row in told.parts}["feet"] > NEARLY


def test_two_feet_at_rest_on_two_heights_are_no_slope():
    """Who sits with one foot up on something is not sat askew."""
    known = rigged(JUNIPER)
    turns = {
        "upper_leg_left": about(X, -90.0), "lower_leg_left": about(X, 60.0), "foot_left": about(X, 10.0),
        "upper_leg_right": about(X, -90.0), "lower_leg_right": about(X, 90.0),
    }  # fmt: skip
    place, bones = known.reference_world.positions[0], known.roles.bones
    shin = place[bones["lower_leg_left"]][1] - known.floor_m
    found = contacts_of(known, posed("Juniper", turns, known.floor_m + shin + 0.02, breathing_m=0.0))
    assert found.floor.tilt_degrees == 0.0
    assert abs(found.floor.at - known.floor_m) < 0.06


def test_arms_that_hang_at_the_sides_rest_on_nothing_and_hands_on_thighs_do():
    """A wide coat comes as near to a hanging hand as a thigh does to one that is put there."""
    known = rigged(JUNIPER)
    thighs = [part for part in surface_of(known) if part.part == "thigh"]
    down = {f"upper_arm_{side}": about(Z, -sign * 80.0) for side, sign in (("left", 1.0), ("right", -1.0))}
    # One who sits has the hands on the thighs with the arms bent.
    sits = down | {f"upper_leg_{side}": about(X, -90.0) for side in ("left", "right")}
    sits |= {f"lower_arm_{side}": about(Y, -sign * 50.0) for side, sign in (("left", 1.0), ("right", -1.0))}
    for turns, rests in ((down, False), (sits, True)):
        chain = ChainWorld(posed("Juniper", turns, known.reference.hips[1], breathing_m=0.0).poses)
        palm = palms_of(known)["left"].track(chain)
        # As wide as it must be for the hand to lie on it.
        away = {part.bone: part.coordinates(palm, chain)[2] for part in thighs}
        nearest = min(thighs, key=lambda part: abs(away[part.bone]).max())
        wide = replace(nearest, radius=nearest.radius + away[nearest.bone].mean())
        when, _ = on_body("left", palm, wide, known, chain, 30.0)
        assert (when.all(), when.any()) == (rests, rests)


def test_a_skirt_is_no_leg():
    """How far cloth is from the shins that it hangs on says nothing of how thick they are."""
    known = rigged(JUNIPER)
    plain, place = capsules_of(known), known.reference_world.positions[0]
    changed = []
    for mesh in JUNIPER.meshes:
        points = mesh.vertices.copy()
        for sign, side in ((1.0, "left"), (-1.0, "right")):
            bone = known.roles.bones[f"lower_leg_{side}"]
            shin = mesh.main_bones == bone
            points[shin, 0] = place[bone, 0] + sign * (0.3 + np.abs(points[shin, 0] - place[bone, 0]))
        changed.append(replace(mesh, vertices=points))
    skirted = rigged(replace(JUNIPER, meshes=tuple(changed), source=None))
    for side in ("left", "right"):
        own, length = plain[f"lower_leg_{side}"].radii, np.linalg.norm(plain[f"lower_leg_{side}"].end)
        assert max(own) < 0.2 * length
        assert max(capsules_of(skirted)[f"lower_leg_{side}"].radii) < 0.2 * length  # 0.3 m more, once
        assert capsules_of(skirted)[f"lower_arm_{side}"].radii == plain[f"lower_arm_{side}"].radii


@pytest.mark.long
def test_of_many_notes_alike_a_few_are_told():
    """Six clips, each on a floor of its own: the report says so of three and counts the rest, but for --all."""
    clips = [replace(moved(act("idle", "Osric"), [0.0, 0.1 + 0.02 * k, 0.0]), name=f"idle {k}") for k in range(6)]
    fairswap.save("six.glb", OSRIC, clips)
    words = ("convert", "six.glb", "--onto", TROUPE / "juniper.glb", "-o", "made.glb", "--force")
    short, whole = run(*words).stdout, run(*words, "--all").stdout
    assert [text.count("[floor-off]") for text in (short, whole)] == [3, 6]
    assert "and 3 more like it; --all tells them" in short
    assert "like it" not in whole
