"""The few instants at which a motion is looked at show all of it."""

from dataclasses import replace

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from fairswap.clips.proving import body_reel
from fairswap.measure.instants import telling_instants
from making import act, figure, rigged

NEAR = 0.05  # in heights


def seen_from_hips(clip, times_s, hips):
    """Joints in the hips' own frame, by SciPy."""
    world = clip.at(times_s).world()
    turns = Rotation.from_quat(world.rotations[:, hips])
    about = world.positions - world.positions[:, [hips]]
    return np.stack([turns.inv().apply(about[:, bone]) for bone in range(about.shape[1])], axis=1)


@pytest.mark.parametrize(("name", "who"), [("walk", "Osric"), ("leap", "Pip"), ("idle", "Juniper")])
def test_every_frame_looks_as_one_of_them_does_and_counts_there(name, who):
    """No joint of any frame is further than 5 % of the height from where it is in one of them."""
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


@pytest.mark.parametrize("role", ["foot_left", "hand_right", "head"])
def test_the_furthest_that_a_limb_goes_is_one_of_them(role):
    """With a thigh at its furthest a coat cuts; a twelfth of a second before it does not."""
    person = rigged(figure("Juniper"))
    clip, _ = body_reel(person, 4)
    hips = person.roles.bones["hips"]
    (found,) = telling_instants([clip], hips, person.figure.height_m)
    seen = seen_from_hips(clip, np.arange(clip.frames) / 4, hips)[:, person.roles.bones[role]]
    off = np.linalg.norm(seen - seen[0], axis=1)
    furthest = np.flatnonzero(off > off.max() - 1e-6) / 4
    assert set(furthest.tolist()) & set(found.times_s.tolist())
