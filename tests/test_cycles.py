"""Clips that start over: carried over, fitted and judged as what they are."""

from __future__ import annotations

from dataclasses import replace
from functools import cache

import numpy as np
import pytest

import fairswap
from fairswap.clips.placing import moved_over_ground
from fairswap.measure.cycles import continued, cycle_of
from making import TROUPE, clip_of, figure, random_poses, rig, rigged, run

TROUPE_NAMES = ("Juniper", "Osric", "Pip")


@cache
def walk(who, travel="kept", *, open_ended=False):
    """One round of a walk, with the figure. Open-ended its last frame comes before its first one."""
    take = fairswap.demo_motion("walk", by=who)
    clip = fairswap.clips.loop(take.clips[0], travel=travel).clip
    if open_ended:
        clip = clip.with_poses(clip.poses.picked(slice(0, clip.frames - 1)))
    return replace(take, clips=(clip,))


def in_a_circle(document, degrees):
    """The round of a walk, led around a circle: it starts over so far around."""
    (clip,) = document.clips
    turn = np.radians(np.linspace(0.0, degrees, clip.frames))
    return replace(document, clips=(moved_over_ground(clip, turn, np.zeros(3)),))


def seen_from_the_hips(path):
    """Where the joints of a file's figure are in each frame, seen from its hips ``(frames, n, 3)``."""
    document = fairswap.load(path)
    world = document.clips[0].world()
    hips = fairswap.RiggedFigure.of(document.figure).roles.bones["hips"]
    x, y, z, w = world.rotations[:, hips].T
    rows = [[1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
            [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
            [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)]]  # fmt: skip
    turned = np.moveaxis(np.array(rows), 2, 0)
    below = document.figure.skeleton.below(hips)
    return np.einsum("fji,fbj->fbi", turned, world.positions[:, below] - world.positions[:, hips : hips + 1])


@pytest.mark.parametrize("travel", ["kept", "removed"])
@pytest.mark.parametrize("who", TROUPE_NAMES)
@pytest.mark.long(but=1)
def test_what_starts_over_does_so_on_another_figure(who, travel):
    for target in (TROUPE / "pip.glb" if who != "Pip" else TROUPE / "juniper.glb", rig("words.glb")):
        made = fairswap.convert(walk(who, travel), target)
        made.save("round.glb", force=True)
        seen = seen_from_the_hips("round.glb")
        # Planted as a clip with two ends, knees jumped by 4 to 11 degrees.
        assert np.linalg.norm(seen[0] - seen[-1], axis=1).max() < 1e-4
        assert made.comparisons[0].starts_over.beyond_degrees < 0.01


@pytest.mark.parametrize("who", TROUPE_NAMES)
def test_a_last_frame_that_comes_before_the_first_one_goes_on_to_it(who):
    """From there to the first frame no joint goes further than a little more than from frame to frame elsewhere."""
    fairswap.convert(walk(who, open_ended=True), rig("words.glb")).save("round.glb")
    seen = seen_from_the_hips("round.glb")
    steps = np.linalg.norm(np.diff(seen, axis=0), axis=2)
    across = np.linalg.norm(seen[0] - seen[-1], axis=1)
    assert (across < 1.15 * steps.max(axis=0) + 1e-3).all()


@pytest.mark.parametrize("stage", ["quillmoor", "saltglass", "fernway"])
@pytest.mark.long(but=1)
def test_what_starts_over_does_so_on_a_stage(stage):
    """On Fernway feet lose their toes and are planted anew; the rate is another."""
    source = walk("Pip", "removed")
    fairswap.save("source.glb", source.figure, source.clips)
    fairswap.convert("source.glb", rig("words.glb"), platform=stage).save("fitted.glb")
    seen = seen_from_the_hips("fitted.glb")
    assert np.linalg.norm(seen[0] - seen[-1], axis=1).max() < 1e-3
    assert fairswap.compare("source.glb", "fitted.glb").starts_over.beyond_degrees < 0.5


@pytest.mark.parametrize("travel", ["hips", "root", "none"])
def test_wherever_its_travel_goes_it_starts_over_with_what_sways(travel):
    options = fairswap.MotionOptions(sway=["*"], travel=travel)
    clip = fairswap.convert(walk("Osric"), TROUPE / "juniper.glb", motion=options).clips[0]
    world = clip.world().positions
    coat = [bone for bone, name in enumerate(clip.skeleton.names) if name.startswith("coat")]
    hips = rigged(figure("Juniper")).roles.bones["hips"]
    seen = world[:, coat] - world[:, [hips]]
    assert np.ptp(seen, axis=0).max() > 0.02
    assert np.linalg.norm(seen[0] - seen[-1], axis=1).max() < 0.006


def test_a_joint_that_jumps_where_it_starts_over_is_told():
    source = walk("Juniper")
    fairswap.save("source.glb", source.figure, source.clips)
    fairswap.convert("source.glb", rig("words.glb")).save("good.glb")
    good = fairswap.load("good.glb")
    known = fairswap.RiggedFigure.of(good.figure)
    edit = good.clips[0].poses.edit()
    knee = known.roles.bones["lower_leg_left"]
    for back, degrees in enumerate((15.0, 10.0, 5.0)):
        half = np.radians(degrees) / 2.0
        x, y, z, w = edit.rotation_tracks[knee, :, -1 - back]
        s, c = np.sin(half), np.cos(half)  # bent further, about its own x
        edit.rotation_tracks[knee, :, -1 - back] = [w * s + x * c, y * c + z * s, z * c - y * s, w * c - x * s]
    fairswap.save("bad.glb", good.figure, [good.clips[0].with_poses(edit.poses())])
    proofs = [fairswap.compare("source.glb", file) for file in ("good.glb", "bad.glb")]
    assert proofs[0].likeness > 90.0
    assert proofs[1].starts_over.role in ("lower_leg_left", "foot_left", "toes_left")
    assert proofs[1].starts_over.beyond_degrees == pytest.approx(15.0, abs=0.1)
    assert proofs[1].likeness < 65.0
    said = run("compare", "source.glb", "bad.glb")
    assert said.returncode == 1
    assert "jumps where it starts over (15 degrees)" in said.stdout.splitlines()[0]
    assert "jump where it starts over, °    0.00  15.0" in said.stdout


@pytest.mark.parametrize("degrees", [-120.0, 0.0, 75.0])
@pytest.mark.parametrize("open_ended", [False, True])
def test_a_cycle_goes_on_as_it_went(degrees, open_ended):
    """Around a circle, too: what is put before and after it is what a second round would be."""
    document = in_a_circle(walk("Osric", open_ended=open_ended), degrees)
    (clip,) = document.clips
    known = fairswap.RiggedFigure.of(document.figure)
    cycle = cycle_of(known, clip)
    assert cycle.frames == clip.frames - (not open_ended)
    longer, before = continued(known, clip, cycle)
    assert longer.frames == clip.frames + 2 * before
    world, own = longer.world().positions, clip.world().positions
    np.testing.assert_array_equal(world[before : before + clip.frames], own)
    # In every round all goes the same way, turned about one point by the same.
    first, second = world[: -cycle.frames], world[cycle.frames :]
    np.testing.assert_allclose(first[..., 1], second[..., 1], atol=2e-3 if open_ended else 1e-9)
    flat = [place[..., 0] + 1j * place[..., 2] for place in (first, second)]
    turn = np.exp(-1j * cycle.turn)  # seen from above, with z down the page
    left = flat[1] - turn * flat[0]
    assert np.abs(left - left.mean()).max() < (0.02 if open_ended else 1e-6)
    assert cycle.turn == pytest.approx(np.radians(degrees * (cycle.frames / (clip.frames - 1))), abs=0.02)
    steps = np.linalg.norm(np.diff(world, axis=0), axis=2).max(axis=1)
    assert steps.max() < 1.1 * steps[before : before + clip.frames - 1].max()


def test_what_does_not_start_over_is_no_cycle():
    known = rigged(figure("Juniper"))
    take = fairswap.demo_motion("walk").clips[0]
    (round_,) = walk("Juniper").clips
    rests = known.figure.skeleton.rest_rotations[:, :, None]
    still = round_.with_poses(round_.poses.picked(np.zeros(40, dtype=int)))
    five_rounds = np.arange(5 * (round_.frames - 1)) % (round_.frames - 1)
    lead_in = round_.poses.picked(np.concatenate([[0], five_rounds, [0]])).edit()
    lead_in.rotation_tracks[:, :, [0, -1]] = rests
    lead_in.rotation_tracks[known.roles.bones["upper_arm_left"], :, [0, -1]] = [
        0.0,
        0.0,
        0.7071067811865476,
        0.7071067811865476,
    ]
    nearly = round_.poses.edit()
    arm = known.roles.bones["lower_arm_left"]
    nearly.rotation_tracks[arm] = np.roll(nearly.rotation_tracks[arm], 9, axis=1)
    nearly.rotation_tracks[arm, :, -1] = nearly.rotation_tracks[arm, :, -4]
    for clip in (take, round_.with_poses(round_.poses.picked(slice(0, -4))), still, round_.with_poses(lead_in.poses()),
                 round_.with_poses(nearly.poses()), clip_of(random_poses(known.figure.skeleton, 30))):  # fmt: skip
        assert cycle_of(known, clip) is None
    assert cycle_of(known, round_) is not None


def test_a_layer_over_time_counts_from_the_start_of_the_round():
    """Rounds that go before the clip do not put it off."""
    layer = (
        'fairswap = "layers/1"\n[[layer]]\nrole = "upper_arm_left"\noutward = 40.0\nfrom = 0.4\nto = 0.7\nease = 0.1\n'
    )
    with open("lift.toml", "w") as file:
        file.write(layer)
    options = [fairswap.MotionOptions(layers=layers, hands="free") for layers in ((), ("lift.toml",))]
    plain, lifted = (fairswap.convert(walk("Juniper"), TROUPE / "osric.glb", motion=each).clips[0] for each in options)
    arm = rigged(figure("Osric")).roles.bones["upper_arm_left"]
    dots = np.abs(np.sum(plain.poses.rotation_tracks[arm] * lifted.poses.rotation_tracks[arm], axis=0))
    off = np.degrees(2.0 * np.arccos(np.minimum(dots, 1.0)))
    times = np.arange(plain.frames) / float(plain.rate)
    inside, outside = (times > 0.41) & (times < 0.69), (times < 0.29) | (times > 0.81)
    np.testing.assert_allclose(off[inside], 40.0, atol=0.5)
    assert off[outside].max() < 0.1


@pytest.mark.parametrize("frames", [1, 2, 20])
def test_a_result_that_does_not_start_over_is_judged_all_the_same(frames):
    source = walk("Osric")
    (clip,) = source.clips
    cut = replace(source, clips=(clip.with_poses(clip.poses.picked(slice(0, frames))),))
    found = fairswap.compare(source, cut)
    assert not found.looks_same
    assert found.starts_over.source_degrees < 0.01
    assert found.starts_over.degrees > 5.0 or frames == 1
