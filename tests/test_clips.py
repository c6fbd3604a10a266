"""Operations on clips: cut, trimmed, looped, joined, mirrored, resampled, thinned, cleaned; the same by command."""

import csv
import json
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import fairswap
import rewrites
from fairswap.clips.cleaning import cleaned, find_faults
from fairswap.clips.cutting import cut_into, piece_from_text, pieces_from_table
from fairswap.clips.describing import described
from fairswap.clips.joining import joined
from fairswap.clips.key_reduction import with_fewest_keys
from fairswap.clips.looping import closed, find_cycles, seam_after
from fairswap.clips.mirroring import mirrored
from fairswap.clips.placing import moved_over_ground, placed, stand_of
from fairswap.clips.renaming import renamed
from fairswap.clips.resampling import at_rate
from fairswap.clips.tempo import at_speed, lasting, reversed_clip
from fairswap.clips.trimming import without_idle_ends
from fairswap.demo.example import act_named, perform_on
from fairswap.demo.repertoire import ACTS
from fairswap.measure.contacts import contacts_of
from fairswap.measure.soles import soles_of
from fairswap.model.clip import Clip
from fairswap.model.poses import MorphTrack, Poses
from fairswap.model.rotation import angle_between, multiply, normalized, quaternion_from_axis_angle
from fairswap.model.words import meaning_of, other_side
from making import STICK, TROUPE, Gltf, act, animate, bvh, figure, rigged, run

OSRIC, JUNIPER = figure("Osric"), figure("Juniper")
WALK, BOW = act("walk", "Osric"), act("turn-and-bow", "Juniper")
RATES = [Fraction(24), Fraction(25), Fraction(30000, 1001), Fraction(30), Fraction(50), Fraction(60), Fraction(120)]


def swinging(rate, seconds=4.0):
    """A known curve: one bone swings as a sine, another turns evenly, the first travels on a circle."""
    frames = round(seconds * float(rate)) + 1
    time = np.arange(frames) / float(rate)
    skeleton = fairswap.Skeleton(
        ("a", "b", "c"),
        np.array([-1, 0, 1]),
        np.tile([0.0, 0, 0, 1], (3, 1)),
        np.array([[0, 1.0, 0], [0, 0.5, 0], [0, 0.5, 0]]),
    )
    tracks = np.empty((3, 4, frames))
    tracks[0] = quaternion_from_axis_angle([0, 1, 0], 0.7 * time).T
    tracks[1] = quaternion_from_axis_angle([1, 0.2, 0], 0.8 * np.sin(2 * np.pi * 0.9 * time)).T
    tracks[2] = quaternion_from_axis_angle([0, 0, 1], 0.5 * np.cos(2 * np.pi * 1.3 * time)).T
    way = np.stack([np.sin(time), 1.0 + 0.1 * np.sin(3 * time), np.cos(time)])
    return Clip("swing", rate, Poses(skeleton, tracks, np.array([0]), way[None]), frozenset({0, 1, 2}))


@pytest.mark.parametrize("rate", RATES)
@pytest.mark.parametrize("other", [Fraction(24), Fraction(30000, 1001), Fraction(60)])
def test_resampling_there_and_back_keeps_the_curve_and_the_duration(rate, other):
    clip = swinging(rate)
    there = at_rate(clip, other, smooth=other > rate)
    assert there.rate == other
    assert abs(there.duration_s - clip.duration_s) <= 0.5 / float(other) + 1e-9
    back = at_rate(there, rate, smooth=rate > other)
    assert abs(back.duration_s - clip.duration_s) <= 0.5 / float(rate) + 0.5 / float(other) + 1e-9
    for frame in (0, -1):
        assert np.degrees(angle_between(there.rotations[frame], clip.rotations[frame])).max() < 1e-5
    times = np.linspace(0.0, 1.0, 200)
    off = angle_between(
        normalized(back.poses.at(times * (back.frames - 1)).rotations),
        clip.poses.at(times * (clip.frames - 1)).rotations,
    )
    assert np.degrees(off).mean() < 0.05 if min(rate, other) >= 29 else np.degrees(off).mean() < 0.12


def test_an_hour_does_not_drift():
    clip = swinging(Fraction(30), 3600.0)
    there = at_rate(clip, Fraction(30000, 1001))
    assert abs(there.duration_s - 3600.0) < 0.5 / 29.9
    assert np.degrees(angle_between(there.rotations[-1], clip.rotations[-1])).max() < 1e-5


def test_step_keys_of_a_file_stay_steps():
    made = Gltf(
        scene=0,
        scenes=[{"nodes": [0]}],
        nodes=[{"name": "a", "children": [1]}, {"name": "b", "translation": [0, 1, 0], "children": [2]}, {"name": "c"}],
    )
    half = [[0, 0, 0, 1], [0, 0, 1, 0], [0, 0, 0, 1]]
    animate(made, 1, "rotation", [0.0, 0.5, 1.0], half, "STEP")
    animate(made, 0, "rotation", [0.0, 0.1, 1.0], half)
    document = made.load(Path())
    faster = at_rate(document.clips[0], Fraction(60))
    turned = np.degrees(angle_between(faster.rotations[:, 1], faster.rotations[0, 1]))
    assert set(np.round(turned).tolist()) == {0.0, 180.0}


def test_down_sampling_can_be_steadied_against_flicker():
    clip = swinging(Fraction(120))
    shake = np.where(np.arange(clip.frames) % 2, 1.0, -1.0) * np.radians(3.0)
    tracks = clip.poses.rotation_tracks.copy()
    tracks[2] = multiply(quaternion_from_axis_angle([0, 0, 1], shake), tracks[2].T).T
    noisy = replace(clip, poses=replace(clip.poses, rotation_tracks=tracks))
    true = at_rate(clip, Fraction(24))
    off = [
        np.degrees(
            angle_between(at_rate(noisy, Fraction(24), steady=steady).rotations[2:-2, 2], true.rotations[2:-2, 2])
        ).mean()
        for steady in (False, True)
    ]
    assert off[1] < 0.3 * off[0]


BUDGETS = [("Osric", {"millimetres": 3.0}), ("Juniper", {"degrees": 0.5})]


@pytest.mark.parametrize(("name", "who", "budget"), [(name, *BUDGETS[at % 2]) for at, name in enumerate(ACTS)])
@pytest.mark.long(but=1)
def test_thinning_keeps_its_promise(name, who, budget):
    clip = act(name, who)
    side = rigged(figure(who))
    soles = soles_of(side)
    contacts = contacts_of(side, clip)
    feet = {name: sole.foot for name, sole in soles.items()}
    done = with_fewest_keys(clip, **budget, contacts=contacts, feet=feet)
    fairswap.save("thin.glb", figure(who), [done.clip])
    read = fairswap.load("thin.glb").clips[0]
    times = np.arange(clip.frames) / float(clip.rate)
    world = read.at(times).world()
    off = np.linalg.norm(world.positions - clip.world().positions, axis=2) * 1000
    if "millimetres" in budget:
        assert off.max() <= 3.02
    else:
        turned = np.degrees(angle_between(read.at(times).rotations, clip.rotations))
        assert turned.max() <= 0.51
    for name, foot in feet.items():
        standing = contacts.standing(name)
        assert off[standing][:, foot].max() < 1.02
    assert done.keys < 0.3 * clip.frames * len(clip.skeleton)
    assert read.duration_s == pytest.approx(clip.duration_s)


def test_a_clip_is_described_as_a_table():
    said = described(WALK, rigged(OSRIC))
    table = said.table()
    bone = rigged(OSRIC).roles.bones["lower_leg_left"]
    row = table.loc[(WALK.name, OSRIC.skeleton.names[bone])]
    track = WALK.rotations[:, bone]
    assert row.role == "lower_leg_left"
    assert row.range_degrees == pytest.approx(np.degrees(angle_between(track, track[0])).max(), abs=1e-3)
    fairswap.save("walk.glb", OSRIC, [WALK])
    assert run("clip", "describe", "walk.glb", "--csv", "walk.csv").returncode == 0
    with open("walk.csv", newline="") as file:
        assert [line["bone"] for line in csv.DictReader(file)] == list(OSRIC.skeleton.names)


def test_a_clip_of_constants_keeps_its_length_and_hardly_a_key():
    still = replace(WALK, poses=WALK.poses.at(np.zeros(61)))
    done = with_fewest_keys(still, degrees=0.1)
    fairswap.save("still.glb", OSRIC, [done.clip])
    assert fairswap.load("still.glb").clips[0].duration_s == pytest.approx(2.0)
    assert done.keys <= len(WALK.skeleton) + 1


def cycling(seed, rate=30, cycles=5.3):
    """A cycle with noise, drift and a changing tempo; and its period in frames."""
    rng = np.random.default_rng(seed)
    period = float(rng.uniform(22, 50))
    frames = round(cycles * period)
    phase = np.cumsum(1.0 + 0.01 * np.sin(np.arange(frames) / 17.0 + seed)) / period
    skeleton = fairswap.Skeleton(
        tuple("abcdef"), np.arange(6) - 1, np.tile([0.0, 0, 0, 1], (6, 1)), np.tile([0.0, 0.3, 0.0], (6, 1))
    )
    tracks = np.empty((6, 4, frames))
    for bone in range(6):
        swing = rng.normal(size=(3, 2)) * 0.35
        angle = sum(swing[:, k, None] * np.sin(2 * np.pi * (k + 1) * phase + rng.uniform(0, 6)) for k in range(2))
        angle = angle + rng.normal(size=angle.shape) * 0.008
        size = np.linalg.norm(angle, axis=0)
        tracks[bone] = quaternion_from_axis_angle(angle.T + 1e-9, size).T
    way = np.stack([0.1 * np.sin(4 * np.pi * phase), 1.0 + 0.02 * np.sin(4 * np.pi * phase), 0.02 * np.arange(frames)])
    return Clip("cycle", Fraction(rate), Poses(skeleton, tracks, np.array([0]), way[None])), period


@pytest.mark.parametrize("seed", range(20))
def test_the_period_of_a_cycle_is_found(seed):
    clip, period = cycling(seed)
    best = find_cycles(clip)[0]
    assert best.last - best.first == pytest.approx(period, abs=1.5)


@pytest.mark.parametrize("travel", ["kept", "removed", "whole"])
def test_a_walk_is_looped_and_its_seam_closed(travel):
    cycle = find_cycles(WALK)[0]
    assert (cycle.last - cycle.first) == pytest.approx(1.12 * 30, abs=1.0)
    result = closed(WALK, cycle, 0.2, travel)
    seam = seam_after(result, WALK, cycle)
    assert seam.degrees < 0.2
    assert seam.cm < 0.1
    speed = 100 * np.linalg.norm(np.diff(WALK.world().positions, axis=0), axis=2).max() * 30
    assert seam.cm_s < 0.05 * speed
    way = stand_of(result, result.frames - 1)[1] - stand_of(result, 0)[1]
    if travel == "removed":
        assert np.linalg.norm(way) < 1e-6
    else:
        assert np.linalg.norm(way) == pytest.approx(0.82, abs=0.06)
        assert abs(way[0]) < (0.01 if travel == "whole" else 0.05)


def test_an_idle_that_ends_as_it_began_is_one_cycle():
    clip = perform_on(act_named("idle"), "Juniper", JUNIPER)
    best = find_cycles(clip)[0]
    assert (best.first, best.last) == (0, clip.frames - 1)


def test_idle_heads_and_tails_are_trimmed_against_noise():
    still = WALK.poses.at(np.zeros(45))
    parts = [still, WALK.poses, WALK.poses.at(np.full(30, WALK.frames - 1))]
    tracks = np.concatenate([p.rotation_tracks for p in parts], axis=2)
    places = np.concatenate([p.translation_tracks for p in parts], axis=2)
    shake = 0.0004 * np.random.default_rng(0).normal(size=tracks.shape)
    noisy = normalized((tracks + shake).transpose(0, 2, 1)).transpose(0, 2, 1)
    take = replace(
        WALK, poses=replace(WALK.poses, rotation_tracks=np.ascontiguousarray(noisy), translation_tracks=places)
    )
    result, head, tail = without_idle_ends(take, 0.1)
    assert head == pytest.approx(1.5 - 0.1, abs=0.15)
    assert tail == pytest.approx(1.0 - 0.1, abs=0.15)
    assert result.duration_s == pytest.approx(take.duration_s - head - tail)
    nothing = replace(WALK, poses=still)
    assert without_idle_ends(nothing)[0] is nothing


def test_pieces_come_from_a_spreadsheet():
    Path("t.csv").write_bytes('\ufeffName;Start;End\r\n"step one";0,5;1,6\r\n"two";45f;0:02,5\r\n'.encode())
    made = cut_into(WALK, pieces_from_table("t.csv"))
    clips, findings = made.clips, made.findings
    assert [(clip.name, clip.frames) for clip in clips] == [("step one", 34), ("two", 31)]
    assert {finding.code for finding in findings} == {"pieces-overlap", "pieces-gap"}
    assert np.array_equal(clips[0].rotations, WALK.rotations[15:49])


def test_joined_clips_go_on_where_the_last_one_ended_and_feet_stand():
    side = rigged(JUNIPER)
    walk, lamp = (perform_on(act_named(name), "Juniper", JUNIPER) for name in ("walk", "lamp"))
    turned = moved_over_ground(lamp, 2.0, [3.0, 0.0, -4.0])
    result = joined(side, [walk, turned], 0.3, match=True).clip
    places = result.world().positions
    steps = np.linalg.norm(np.diff(places, axis=0), axis=2)
    assert steps.max() < 1.5 * max(
        np.linalg.norm(np.diff(c.world().positions, axis=0), axis=2).max() for c in (walk, lamp)
    )
    heading = [stand_of(result, frame)[0] for frame in (0, result.frames - 1)]
    assert heading[1] == pytest.approx(heading[0], abs=0.25)
    soles = soles_of(side)
    plain = joined(side, [walk, lamp], 0.0).clip
    assert plain.frames == walk.frames + lamp.frames - 1
    # In the blend a foot that stands stays within 5 mm, although the two clips stand differently.
    clapping, leaping = (perform_on(act_named(name), "Juniper", JUNIPER) for name in ("clap", "leap"))
    both = joined(side, [clapping, leaping], 0.3).clip
    at, world = both.frames - leaping.frames, both.world().positions
    standing = contacts_of(side, both)
    for name, sole in soles.items():
        blend = np.arange(at, at + 19)
        assert standing.standing(name)[blend].all()
        assert np.ptp(world[blend, sole.foot], axis=0).max() < 0.005


def test_a_mirror_shows_left_for_right_and_twice_is_the_same():
    side = rigged(OSRIC)
    once = mirrored(side, WALK)
    twice = mirrored(side, once)
    assert np.abs(twice.world().positions - WALK.world().positions).max() < 1e-9
    bones = side.roles.bones
    a, b = WALK.world().positions, once.world().positions
    flip = np.array([-1.0, 1.0, 1.0])
    for part in ("hand", "foot", "lower_leg", "index_distal"):
        assert np.abs(b[:, bones[f"{part}_left"]] - a[:, bones[f"{part}_right"]] * flip).max() < 1e-6


def test_a_mirror_takes_face_tails_and_travel_along():
    """Morphs change sides, bones without a role too, and a root that travels goes the mirrored way."""
    body = figure("Juniper")
    side, clip = rigged(body), perform_on(act_named("walk"), "Juniper", JUNIPER)
    skeleton, roles = body.skeleton, side.roles.bones
    mesh = next(i for i, mesh in enumerate(body.meshes) if mesh.morph_names)
    names = list(body.meshes[mesh].morph_names)
    lefts = [name for name in names if other_side(name, names) and meaning_of(name).side == "left"]
    assert len(lefts) > 5
    weights = np.zeros((len(names), clip.frames))
    weights[names.index(lefts[0])] = np.linspace(0, 1, clip.frames)
    edit = clip.poses.edit()
    edit.morph_tracks = (MorphTrack(mesh, weights),)
    swing = np.sin(np.arange(clip.frames) / 8.0)
    tail = skeleton.names.index("coat_tail_1_l"), skeleton.names.index("coat_tail_1_r")
    for bone, axis in ((tail[0], [0.0, 0, 1]), (roles["eye_left"], [0.0, 1, 0]), (roles["jaw"], [1.0, 0, 0])):
        turn = quaternion_from_axis_angle(axis, 0.3 * swing)
        edit.rotation_tracks[bone] = multiply(edit.rotation_tracks[bone].T, turn).T
    edit.translations[roles["root"]] = np.stack([0.4 * swing, 0 * swing, 0 * swing])
    clip = clip.with_poses(edit.poses(), keyed=frozenset(range(len(skeleton))))
    once = mirrored(side, clip)
    assert once.poses.morph_tracks[0].weights[names.index(other_side(lefts[0], names))] == pytest.approx(
        np.linspace(0, 1, clip.frames)
    )
    assert not once.poses.morph_tracks[0].weights[names.index(lefts[0])].any()
    flip = np.array([-1.0, 1.0, 1.0])
    a, b = clip.world().positions, once.world().positions
    assert np.abs(b[:, roles["root"]] - a[:, roles["root"]] * flip).max() < 1e-9
    assert np.abs(b[:, roles["hips"]] - a[:, roles["hips"]] * flip).max() < 1e-9
    for left, right in ((tail[0] + 1, tail[1] + 1), (roles["eye_left"], roles["eye_right"])):
        assert np.abs(b[:, right] - a[:, left] * flip).max() < 1e-6
        assert np.abs(b[:, left] - a[:, right] * flip).max() < 1e-6
    jaw = roles["jaw"]
    assert np.abs(np.abs((once.rotations[:, jaw] * clip.rotations[:, jaw]).sum(axis=1)) - 1).max() < 1e-9
    twice = mirrored(side, once)
    assert np.abs(twice.world().positions - a).max() < 1e-9
    assert np.array_equal(twice.poses.morph_tracks[0].weights, weights)


def test_speed_reverse_and_place():
    assert at_speed(WALK, 2.0).duration_s == pytest.approx(3.0)
    assert lasting(WALK, 4.5).duration_s == pytest.approx(4.5, abs=0.02)
    assert np.array_equal(reversed_clip(reversed_clip(WALK)).rotations, WALK.rotations)
    moved = moved_over_ground(WALK, 1.1, [2.0, 0.0, 3.0])
    back = placed(moved, (0.0, 0.0), 0.0)
    heading, spot = stand_of(back, 0)
    assert heading == pytest.approx(0.0, abs=1e-9)
    assert np.abs(spot).max() < 1e-9
    # The motion itself is untouched: seen from the hips everything is where it was.
    hips = rigged(OSRIC).roles.bones["hips"]
    a, b = (c.world().positions for c in (WALK, moved))
    lengths = [np.linalg.norm(p - p[:, [hips]], axis=2) for p in (a, b)]
    assert np.abs(lengths[0] - lengths[1]).max() < 1e-9


@pytest.mark.parametrize("who", ["Osric", "Pip"])
def test_a_slower_clip_moves_as_evenly_as_it_did(who):
    """Of every second frame is made what was there: between straight ways it would jerk twice as much."""
    clip = act("walk", who)
    clip = clip.with_poses(clip.poses.picked(slice(0, 2 * ((clip.frames - 1) // 2) + 1)))
    half = clip.with_poses(clip.poses.picked(slice(0, None, 2)))
    slow = at_speed(half, 0.5)
    assert slow.frames == clip.frames
    assert angle_between(slow.rotations[::2], half.rotations).max() < 1e-6
    found = fairswap.compare((figure(who), clip), (figure(who), slow))
    assert found.likeness > 95.0
    assert found.jerk_ratio < 1.15
    straight = half.with_poses(half.poses.at(np.arange(clip.frames) / 2.0))
    assert fairswap.compare((figure(who), clip), (figure(who), straight)).jerk_ratio > 1.3


@settings(deadline=None, max_examples=40)
@given(st.lists(st.floats(0.0, 1.0), min_size=3, max_size=12), st.floats(0.1, 0.9))
def test_a_slower_face_is_shown_no_more_and_no_less(weights, factor):
    """Blinks and mouth shapes that come within a frame stay between what is keyed before and after."""
    who = figure("Juniper")
    number = next(k for k, mesh in enumerate(who.meshes) if mesh.morph_names)
    track = np.zeros((len(who.meshes[number].morph_names), len(weights)))
    track[0] = weights
    still = np.tile(np.array([0.0, 0.0, 0.0, 1.0])[:, None], (len(who.skeleton), 1, len(weights)))
    poses = replace(act("walk", "Juniper").poses, rotation_tracks=still, translation_tracks=np.zeros(
        (*act("walk", "Juniper").poses.translation_tracks.shape[:-1], len(weights))),
        morph_tracks=(MorphTrack(number, track),))  # fmt: skip
    slow = at_speed(replace(act("walk", "Juniper"), poses=poses), factor)
    shown = slow.poses.morph_tracks[0].weights[0]
    at = np.linspace(0.0, len(weights) - 1, slow.frames)
    around = np.array([np.array(weights)[np.floor(at).astype(int)], np.array(weights)[np.ceil(at).astype(int)]])
    assert (shown >= around.min(axis=0) - 1e-9).all()
    assert (shown <= around.max(axis=0) + 1e-9).all()


def test_faults_are_found_told_and_mended():
    tracks, places = WALK.poses.rotation_tracks.copy(), WALK.poses.translation_tracks.copy()
    elbow, knee = (rigged(OSRIC).roles.bones[role] for role in ("lower_arm_left", "lower_leg_right"))
    tracks[elbow, :, 60] = multiply(quaternion_from_axis_angle([0, 0, 1], 1.2), tracks[elbow, :, 60])
    tracks[knee, :, 100:102] = multiply(quaternion_from_axis_angle([1, 0, 0], 1.5), tracks[knee, :, 100:102].T).T
    tracks[elbow, :, 90:] *= -1.0
    places[0, 1, 30] += 0.5
    broken = replace(WALK, poses=replace(WALK.poses, rotation_tracks=tracks, translation_tracks=places))
    names = WALK.skeleton.names
    faults = {(f.kind, f.bone, f.first, f.last) for f in find_faults(broken)}
    wanted = {
        ("spike", names[elbow], 60, 60),
        ("spike", names[knee], 100, 101),
        ("flip", names[elbow], 89, 90),
        ("spike", f"{names[rigged(OSRIC).roles.bones['hips']]} (place)", 30, 30),
    }
    assert wanted <= faults
    assert len(faults - wanted) <= 2
    mended = cleaned(broken, find_faults(broken))
    off = np.degrees(angle_between(mended.rotations, WALK.rotations))
    assert off[:, [elbow, knee]].max() < 4.0


def test_names_become_meaningful_and_unique():
    clips = [replace(WALK, name=name) for name in ("Take 001", "", "walk", "Walk", "anim")]
    names = [clip.name for clip in renamed(clips, stem="osric")]
    assert names == ["osric 1", "osric 2", "walk", "Walk 2", "osric 5"]
    assert [c.name for c in renamed(clips[2:4], to="{name}-{n}", swaps=[("alk", "ander")])] == ["wander-1", "Wander-2"]


def test_a_table_of_motion_is_read_back_without_loss_and_gaps_are_filled():
    fairswap.save("w.csv", replace(OSRIC, meshes=(), source=None), [WALK])
    back = fairswap.load("w.csv")
    clip = back.clips[0]
    assert (clip.name, clip.rate, clip.skeleton.names) == (WALK.name, WALK.rate, WALK.skeleton.names)
    assert np.abs(clip.world().positions - WALK.world().positions).max() < 1e-12
    lines = Path("w.csv").read_text().splitlines()
    cells = lines[-50].split(",")
    cells[8] = ""
    lines[-50] = ",".join(cells)
    Path("gap.csv").write_text("\n".join(lines) + "\n")
    assert [finding.code for finding in fairswap.load("gap.csv").findings] == ["gaps-filled"]


VERBS = [
    (["cut", "--piece", "a=0..2", "--piece", "b=2..6"], 2),
    (["rename", "--to", "stroll"], 1),
    (["trim", "--from", "30f", "--to", "0:04"], 1),
    (["loop"], 1),
    (["mirror"], 1),
    (["speed", "--times", "0.5"], 1),
    (["reverse"], 1),
    (["place", "--facing", "90"], 1),
    (["rate", "--to", "24"], 1),
    (["thin", "--mm", "4"], 1),
    (["clean"], 1),
]


@pytest.mark.parametrize(("words", "clips"), VERBS)
@pytest.mark.long(but=3)
def test_every_verb_writes_a_file_with_all_else_in_it(words, clips):
    fairswap.save("walk.glb", OSRIC, [WALK])
    done = run("clip", words[0], "walk.glb", *words[1:], "-o", "out.glb", "--json")
    assert done.returncode == 0, done.stderr
    assert json.loads(done.stdout)["verb"] == words[0]
    result, before = fairswap.load("out.glb"), fairswap.load("walk.glb")
    assert len(result.clips) == clips
    raw = [document.figure.source.container.raw for document in (before, result)]
    assert raw[0]["materials"] == raw[1]["materials"]
    assert result.figure.rest_points == pytest.approx(before.figure.rest_points)


def test_clips_are_described_and_drawn():
    fairswap.save("walk.glb", OSRIC, [WALK])
    done = run("clip", "describe", "walk.glb", "--csv", "d.csv", "--json")
    row = json.loads(done.stdout)["clips"][0]
    assert row["travel_m"] == pytest.approx(WALK.travel_m, abs=1e-3)
    assert len(row["contacts"]) > 15
    assert Path("d.csv").read_text().count("\n") == len(WALK.skeleton) + 1
    done = run("clip", "draw", "walk.glb", "--role", "lower_leg_left", "-o", "d.png")
    assert done.returncode == 0, done.stderr
    assert Path("d.png").read_bytes().startswith(b"\x89PNG")
    assert run("clip", "loop", "walk.glb", "--find").stdout.count("\n") >= 4
    assert run("clip", "join", "walk.glb", "walk.glb", "-o", "two.glb").returncode == 0
    assert fairswap.load("two.glb").clips[0].duration_s == pytest.approx(2 * 6.0 - 0.3, abs=0.05)


@pytest.mark.parametrize(
    ("words", "status", "says"),
    [
        (["cut", "--piece", "a=3..2"], 2, "ends (2) before it begins (3)"),
        (["cut", "--piece", "a=0..99"], 2, "outside of clip"),
        (["cut", "--piece", "a"], 2, "not a piece"),
        (["cut", "--table", "no-end.csv"], 3, "no column 'end'"),
        (["cut", "--table", "twice.csv"], 3, "two pieces are called 'a'"),
        (["rate", "--to", "0"], 2, "not a frame rate"),
        (["rate", "--to", "-5"], 2, "not a frame rate"),
        (["rate", "--to", "fast"], 2, "not a frame rate"),
        (["speed", "--times", "0"], 2, "a speed of 0.0 is not possible"),
        (["speed", "--lasts", "soon"], 2, "is not a time"),
        (["thin", "--mm", "-1"], 2, "budget above zero"),
        (["trim", "--from", "5", "--to", "2"], 2, "before"),
        (["mirror", "--clip", "Dance"], 2, "no clip is called 'Dance'"),
    ],
)
def test_what_cannot_be_done_is_told_in_one_line(words, status, says):
    Path("no-end.csv").write_text("name,start\na,0\n")
    Path("twice.csv").write_text("name,start,end\na,0,1\na,1,2\n")
    fairswap.save("walk.glb", OSRIC, [WALK])
    done = run("clip", words[0], "walk.glb", *words[1:], "-o", "out.glb")
    assert (done.returncode, says in done.stderr) == (status, True), done.stderr
    assert done.stderr.count("\n") == 1
    assert not Path("out.glb").exists()


def test_clips_without_common_bones_and_of_one_frame_are_told():
    fairswap.save("walk.glb", OSRIC, [WALK])
    Path("stick.bvh").write_text(bvh(STICK, [[0, 90, 0, 0, 0, 0, 0, 0, 0]] * 3))
    done = run("clip", "join", "walk.glb", "stick.bvh", "-o", "out.glb")
    assert done.returncode == 2
    assert "stick.bvh: its clip 'stick' moves other bones than walk.glb has: a, b" in done.stderr
    one = replace(WALK, poses=WALK.poses.at([0.0]))
    assert at_rate(one, Fraction(60)).frames == 1
    with pytest.raises(fairswap.ImpossibleError, match="too short for a cycle"):
        find_cycles(one)
    with pytest.raises(fairswap.UsageError, match="one frame"):
        lasting(one, 2.0)
    assert piece_from_text("a=0..1").name == "a"


@pytest.mark.long
def test_clips_of_one_name_from_several_files_are_called_after_their_files():
    """Exporters call every clip alike: each keeps a name of its own, by its file, in one file and in a folder."""
    names = {}
    for stem, clip in (("street", act("walk", "Osric")), ("stairs", act("leap", "Osric"))):
        fairswap.save(f"{stem}.glb", OSRIC, [replace(clip, name="Take 001")])
        names[stem] = clip.duration_s
    done = run("convert", "street.glb", "stairs.glb", "--onto", TROUPE / "pip.glb", "-o", "both.glb")
    assert done.returncode in (0, 1), done.stderr
    assert {clip.name: round(clip.duration_s, 3) for clip in fairswap.load("both.glb").clips} == pytest.approx(names)
    done = run("convert", "street.glb", "stairs.glb", "--onto", TROUPE / "pip.glb", "-o", "folder")
    assert {path.name for path in Path("folder").iterdir()} == {"street.glb", "stairs.glb"}
    # Names that say something, and differ, stay; what the figure has of its own is never overwritten.
    fairswap.save("own.glb", figure("Pip"), [replace(act("idle", "Pip"), name="Walk")])
    fairswap.save("named.glb", OSRIC, [act("walk", "Osric")])
    run("convert", "named.glb", "stairs.glb", "--onto", "own.glb", "--keep-clips", "-o", "kept.glb")
    assert [clip.name for clip in fairswap.load("kept.glb").clips] == ["Walk", "Walk (2)", "stairs"]


def test_many_files_are_renamed_into_a_folder():
    for stem in ("street", "stairs"):
        fairswap.save(f"{stem}.glb", OSRIC, [replace(act("walk", "Osric"), name="Take 001")])
    done = run("clip", "rename", "street.glb", "stairs.glb", "--to", "{file} at 30", "-o", "named", "--json")
    assert done.returncode == 0, done.stderr
    assert [clip["after"]["name"] for clip in done.report["clips"]] == ["street at 30", "stairs at 30"]
    for stem in ("street", "stairs"):
        assert fairswap.load(f"named/{stem}.glb").clips[0].name == f"{stem} at 30"
    again = run("clip", "rename", "street.glb", "stairs.glb", "-o", "named")
    assert again.returncode == 4
    assert run("clip", "rename", "street.glb", "stairs.glb", "-o", "one.glb").returncode == 2


def test_clips_are_dropped_and_the_figure_stays():
    fairswap.save("two.glb", OSRIC, [act("walk", "Osric"), act("leap", "Osric")])
    done = run("clip", "drop", "two.glb", "--clip", "Walk", "-o", "one.glb")
    assert done.returncode == 0, done.stderr
    assert [clip.name for clip in fairswap.load("one.glb").clips] == ["Leap"]
    done = run("clip", "drop", "two.glb", "--all", "-o", "none.glb")
    assert done.returncode == 0, done.stderr
    bare = fairswap.load("none.glb")
    assert not bare.clips
    assert len(bare.figure.meshes) == len(OSRIC.meshes)
    assert Path("none.glb").stat().st_size < Path("one.glb").stat().st_size
    assert run("clip", "drop", "two.glb", "-o", "x.glb").returncode == 2
    assert run("clip", "drop", "two.glb", "--clip", "Dance", "-o", "x.glb").returncode == 2


def test_a_face_is_put_beside_the_clips_that_a_figure_has():
    fairswap.save("leaping.glb", JUNIPER, [act("leap", "Juniper")])
    fairswap.save("line.glb", *spoken())
    done = run("face", "apply", "line.glb", "--onto", "leaping.glb", "-o", "both.glb")
    assert done.returncode == 0, done.stderr
    names = [clip.name for clip in fairswap.load("both.glb").clips]
    assert names == ["Leap", "spoken line"]


def spoken():
    document = fairswap.demo_motion("spoken line", by="Juniper")
    return document.figure, document.clips


def table(change):
    """A walk as a table, its rows changed by ``change``."""
    done = run("clip", "rate", walk_file(), "--to", "30", "-o", "walk.csv", "--force")
    assert done.returncode == 0, done.stderr
    lines = Path("walk.csv").read_text().splitlines()
    start = next(i for i, line in enumerate(lines) if line.startswith('"time_s"')) + 1
    rows = [line.split(",") for line in lines[start:] if line]
    Path("changed.csv").write_text("\n".join([*lines[:start], *(",".join(row) for row in change(rows))]) + "\n")
    return fairswap.load("walk.csv").clips[0].world(), "changed.csv"


def walk_file():
    if not Path("walk.bvh").exists():
        fairswap.save("walk.bvh", OSRIC, [WALK])
    return "walk.bvh"


def test_rows_deleted_from_a_table_are_told_and_the_rest_keeps_its_time():
    whole, path = table(lambda rows: rows[:40] + rows[44:90] + rows[91:])
    document = fairswap.load(path)
    told = [finding.message for finding in document.findings if finding.code == "gaps-filled"]
    assert told
    assert "5 rows are missing" in told[0]
    found = document.clips[0].world()
    assert len(found.positions) == len(whole.positions)
    kept = [*range(40), *range(44, 90), *range(91, len(whole.positions))]
    assert np.abs(found.positions[kept] - whole.positions[kept]).max() < 1e-6
    # Turns between rows are turns: bones keep their lengths.
    hips, knee = (rigged(OSRIC).roles.bones[role] for role in ("upper_leg_left", "lower_leg_left"))
    lengths = np.linalg.norm(found.positions[:, knee] - found.positions[:, hips], axis=1)
    assert np.ptp(lengths) < 1e-3


def test_an_empty_cell_in_a_rotation_is_filled_by_a_turn():
    def spoiled(rows):
        rows[50][4] = rows[50][11] = ""
        return rows

    whole, path = table(spoiled)
    found = fairswap.load(path).clips[0].world()
    assert np.degrees(angle_between(found.rotations[50], whole.rotations[50])).max() < 1.0
    others = [i for i in range(len(whole.positions)) if i != 50]
    assert np.abs(found.positions[others] - whole.positions[others]).max() < 1e-6


def test_times_of_a_table_are_held_against_its_rate():
    def late(rows):
        return [[repr(float(row[0]) * 1.03), *row[1:]] for row in rows]

    whole, path = table(late)
    document = fairswap.load(path)
    assert "uneven-keys" in {finding.code for finding in document.findings}
    assert document.clips[0].duration_s == pytest.approx(whole.positions.shape[0] / 30 * 1.03, abs=0.06)
    _, path = table(lambda rows: [*rows[:20], rows[30], *rows[20:30], *rows[31:]])
    with pytest.raises(fairswap.InputError, match="not after the one before it"):
        fairswap.load(path)


@pytest.mark.long
def test_a_rest_frame_before_the_motion_is_told_not_judged_and_comes_off():
    fairswap.save("plain.glb", figure("Juniper"), [act("walk", "Juniper")])
    scene = rewrites.Scene(Path("plain.glb").read_bytes())
    rewrites.a_rest_frame_before_the_motion(scene)
    Path("framed.glb").write_bytes(scene.bytes())
    assert "lead-in" not in {row.code for row in fairswap.inspect("plain.glb").findings}
    told = next(row for row in fairswap.inspect("framed.glb").findings if row.code == "lead-in")
    assert "80 degrees away from the next one" in told.message
    result = run("convert", "framed.glb", "--onto", TROUPE / "osric.glb", "-o", "out.glb")
    assert "rest pose before the motion" in " ".join(result.stdout.split())
    plain = fairswap.load("plain.glb").clips[0]
    # The leap is neither planted nor judged, kept or not; compare is told which by the file.
    usual = fairswap.convert("plain.glb", TROUPE / "osric.glb").done[0].comparison
    for how, frames in (("keep", plain.frames + 1), ("drop", plain.frames)):
        source = fairswap.SourceOptions(lead_in=how)
        made = fairswap.convert("framed.glb", TROUPE / "osric.glb", source=source)
        made.save(f"{how}.glb")
        assert made.clips[0].frames == frames
        judged = made.done[0].comparison
        assert judged.jerk_ratio == pytest.approx(usual.jerk_ratio, abs=0.05)
        assert judged.likeness == pytest.approx(usual.likeness, abs=0.5)
        assert judged.contacts.source_count == usual.contacts.source_count
        assert fairswap.compare("framed.glb", f"{how}.glb").likeness == pytest.approx(judged.likeness, abs=0.05)
    with pytest.raises(fairswap.UsageError, match="lead_in is 'leave'"):
        fairswap.SourceOptions(lead_in="leave")
    for verb in (["cut", "--piece", "Walk=1f.."], ["trim", "--margin", "10"], ["clean"]):
        run("clip", verb[0], "framed.glb", *verb[1:], "-o", f"{verb[0]}.glb")
        found = fairswap.load(f"{verb[0]}.glb").clips[0]
        assert found.frames == plain.frames
        if verb[0] != "clean":
            np.testing.assert_allclose(found.world().positions, plain.world().positions, atol=1e-4)


def test_layers_are_put_on_a_clip_that_goes_nowhere():
    """As convert puts them on the same figure; other clips stay, and a role that is not there is told."""
    fairswap.save("own.glb", OSRIC, [WALK, act("idle", "Osric")])
    Path("l.toml").write_text('fairswap = "layers/1"\n[[layer]]\nrole = "head"\nturn = [0, 30, 0]\n')
    done = run("clip", "layer", "own.glb", "--layer", "l.toml", "--clip", "Walk", "-o", "layered.glb")
    assert done.returncode == 0, done.stderr
    run("convert", "own.glb", "--onto", "own.glb", "--clip", "Walk", "--layer", "l.toml", "-o", "converted.glb")
    layered, converted, own = (fairswap.load(name) for name in ("layered.glb", "converted.glb", "own.glb"))
    apart = angle_between(layered.clip("Walk").rotations, converted.clip("Walk").rotations)
    assert np.degrees(apart).max() < 0.06
    head = rigged(OSRIC).roles.bones["head"]
    turned = angle_between(layered.clip("Walk").rotations[:, head], own.clip("Walk").rotations[:, head])
    np.testing.assert_allclose(np.degrees(turned), 30.0, atol=0.1)
    assert np.array_equal(layered.clip("Idle").rotations, own.clip("Idle").rotations)
    Path("toes.toml").write_text('fairswap = "layers/1"\n[[layer]]\nrole = "toes_left"\nturn = [0, 30, 0]\n')
    refused = run("clip", "layer", TROUPE / "pip.glb", "--layer", "toes.toml", "-o", "x.glb")
    assert refused.returncode == 4
    assert not Path("x.glb").exists()
