"""The few instants at which a motion is looked at show all of it."""

from dataclasses import replace

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from fairswap.clips.proving import body_reel
from fairswap.measure.instants import telling_instants
from making import act, figure, rigged

NEAR = 0.03  # in heights


def seen_from_hips(clip, times_s, hips):
    """Joints in the hips' own frame, by SciPy."""
    world = clip.at(times_s).world()
    turns = Rotation.from_quat(world.rotations[:, hips])
    about = world.positions - world.positions[:, [hips]]
    return np.stack([turns.inv().apply(about[:, bone]) for bone in range(about.shape[1])], axis=1)


@pytest.mark.parametrize(("name", "who"), [("walk", "Osric"), ("leap", "Pip"), ("idle", "Juniper")])
def test_every_frame_looks_as_one_of_them_does_and_counts_there(name, who):
    """No joint of any frame is further than 3 % of the height from where it is in one of them."""
    clip, person = act(name, who), rigged(figure(who))
    hips, height = person.roles.bones["hips"], person.figure.height_m
    (found,) = telling_instants([clip], hips, height)
    assert (np.diff(found.times_s) > 0.0).all()
    assert found.shares.sum() == pytest.approx(1.0)
    assert len(found.times_s) < 0.5 * clip.frames
    every = seen_from_hips(clip, np.arange(clip.frames) / float(clip.rate), hips)
    chosen = seen_from_hips(clip, found.times_s, hips)
    apart = np.linalg.norm(every[:, None] - chosen[None], axis=3).max(axis=2)
    assert apart.min(axis=1).max() <= NEAR * height
    counted = np.bincount(apart.argmin(axis=1), minlength=len(chosen)) / clip.frames
    np.testing.assert_allclose(found.shares, counted, atol=1e-12)


def test_what_comes_again_is_looked_at_once():
    """A walk there and back needs no more instants; a second clip of the same poses none."""
    clip, person = act("walk", "Osric"), rigged(figure("Osric"))
    hips, height = person.roles.bones["hips"], person.figure.height_m
    back = replace(clip, name="back", poses=clip.poses.at(np.arange(clip.frames)[::-1]), origin=None)
    alone = telling_instants([clip], hips, height)[0]
    first, second = telling_instants([clip, back], hips, height)
    np.testing.assert_array_equal(first.times_s, alone.times_s)
    assert len(second.times_s) == 0


def test_each_joint_of_the_reel_is_seen_where_it_is_turned_furthest():
    """At a thigh's furthest, a coat cuts; a sixth of a second before it does not."""
    person = rigged(figure("Juniper"))
    clip, moves = body_reel(person, 4)
    (found,) = telling_instants([clip], person.roles.bones["hips"], person.figure.height_m)
    angles = clip.poses.rotation_track(person.roles.bones["upper_leg_left"])
    rest = angles[:, 0]
    for move in (one for one in moves if one.role == "upper_leg_left"):
        frames = np.arange(round(move.start_s * 4), round(move.stop_s * 4) + 1)
        turned = np.arccos(np.clip(np.abs(rest @ angles[:, frames]), 0.0, 1.0))
        assert frames[np.argmax(turned)] / 4 in found.times_s
