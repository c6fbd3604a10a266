"""Extra bones that swing with the body: at rest where it rests, behind it where it starts, the same at any rate."""

import numpy as np
import pytest

import fairswap
from fairswap.measure.surface import surface_of
from fairswap.model.chain_world import ChainWorld
from fairswap.model.rotation import angle_between
from making import TROUPE, act, figure, run, swap_between

TAILS = [f"coat_tail_{number}_{side}" for side in "lr" for number in (1, 2, 3)]


def swaying(clip, names=("coat*",)):
    """The clip of Osric on Juniper, whose coat swings."""
    pair = swap_between(figure("Osric"), figure("Juniper"), motion=clip)
    return pair, pair.convert(clip, fairswap.MotionOptions(sway=names))


def turned(pair, clip):
    """Degrees ``(frames, tails)`` that the tails of the coat are away from their rest."""
    bones = [pair.target.skeleton.names.index(name) for name in TAILS]
    return np.degrees(angle_between(clip.rotations[:, bones], pair.target.resting_rotations[bones]))


def moving(distance_m, seconds=1.0, at_s=1.0, rate=60):
    """Osric standing, then moved ahead by a distance, then standing."""
    still = act("idle", "Osric")
    frames = int(4 * rate) + 1
    clip = still.with_poses(still.poses.picked(np.zeros(frames, dtype=np.intp)), rate=rate)
    edit = clip.poses.edit()
    hips = fairswap.bones.roles_of(figure("Osric")).bones["hips"]
    share = np.clip((np.arange(frames) / rate - at_s) / seconds, 0.0, 1.0)
    way = distance_m * share**2 * (3.0 - 2.0 * share)
    edit.translations[hips] = edit.translation_track(hips) + np.array([[0.0], [0.0], [1.0]]) * way
    return clip.with_poses(edit.poses())


def test_what_stands_still_hangs_still():
    pair, made = swaying(moving(0.0))
    away = turned(pair, made)
    assert np.ptp(away, axis=0).max() < 1e-6
    assert away.max() < 3.0  # the idle leans a little
    # Without being asked for, it rests.
    plain = pair.convert(moving(0.0))
    assert turned(pair, plain).max() < 1e-6


def test_a_coat_stays_behind_swings_on_and_comes_to_rest():
    pair, made = swaying(moving(1.5))
    world = made.world().positions
    first = pair.target.skeleton.names.index(TAILS[0])
    end = pair.target.skeleton.names.index(TAILS[2])
    behind = world[:, end, 2] - world[:, first, 2]
    rate = 60
    assert behind[: rate - 5] == pytest.approx(behind[0], abs=1e-3)
    assert behind[rate : 2 * rate].min() < behind[0] - 0.02  # it lags
    assert behind[round(1.5 * rate) : 3 * rate].max() > behind[0] + 0.005  # and swings on
    assert behind[-1] == pytest.approx(behind[0], abs=0.005)


@pytest.mark.parametrize("name", ["walk", "leap"])
def test_the_same_at_any_frame_rate(name):
    clips = [swaying(fairswap.clips.rate(act(name, "Osric"), rate)) for rate in (24, 60)]
    times = np.arange(0.0, clips[0][1].duration_s, 0.1)
    bones = [clips[0][0].target.skeleton.names.index(tail) for tail in TAILS]
    apart = np.degrees(angle_between(*(made.at(times).rotations[:, bones] for _, made in clips)))
    assert apart.mean() < 1.0
    assert np.quantile(apart, 0.95) < 2.5


def test_tails_stay_out_of_the_legs():
    """Where a tail would be in a thigh it lies on it: as deep as it rests at most."""
    pair, made = swaying(act("walk", "Osric"))
    chain, still = ChainWorld(made.poses), ChainWorld(swaying(moving(0.0))[1].poses)
    for part in surface_of(pair.target):
        for name in (TAILS[1], TAILS[4]):
            tail = pair.target.skeleton.names.index(name)
            rests = part.coordinates(still.position(tail), still)[2].min()
            height, _, distance = part.coordinates(chain.position(tail), chain)
            inside = (height > 0.0) & (height < 1.0)
            assert not inside.any() or distance[inside].min() > min(rests, 0.0) - 0.01


def test_only_bones_that_nothing_moves_are_meant_and_names_are_checked():
    clip = act("walk", "Osric")
    _, made = swaying(clip, ("coat_tail_*_l",))
    pair, plain = swaying(clip, ())
    apart = np.degrees(angle_between(made.rotations, plain.rotations)).max(axis=0)
    changed = {pair.target.skeleton.names[bone] for bone in np.flatnonzero(apart > 1e-6)}
    assert changed == set(TAILS[:3])
    fairswap.save("walk.glb", figure("Osric"), [clip])
    done = run("convert", "walk.glb", "--onto", TROUPE / "juniper.glb", "--sway", "tutu*", "-o", "out.glb")
    assert done.returncode == 2
    assert "'tutu*'. It has coat_tail_1_l" in " ".join(done.stderr.split())
    assert run("convert", "walk.glb", "--onto", TROUPE / "juniper.glb", "--sway", "*", "-o", "out.glb").returncode == 0
