"""What a result does not depend on: where, when, how large and in what order the source is given."""

from dataclasses import replace
from fractions import Fraction

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

import fairswap
from fairswap import Motion
from fairswap.measure.comparison import compare_motions
from fairswap.model.mesh import Mesh
from fairswap.model.poses import Poses
from fairswap.model.skeleton import Skeleton
from fairswap.model.skinning import inverse_rest_matrices
from making import FREE, act, figure, rigged, swap_between

CARRIED = [("walk", "Osric", "Juniper"), ("lamp", "Osric", "Pip"), ("clap", "Juniper", "Pip"), ("leap", "Pip", "Osric")]


def carried(clip, source, target, motion=FREE):
    """A clip of one figure on another."""
    return swap_between(source, target, motion=clip).retarget(clip, motion).clip


def degrees_apart(a, b):
    """How far the world rotations of two clips are apart at worst."""
    first, second = (Rotation.from_quat(clip.world().rotations.reshape(-1, 4)) for clip in (a, b))
    return np.degrees((first * second.inv()).magnitude()).max()


def metres_apart(a, b):
    return np.abs(a.world().positions - b.world().positions).max()


def body_apart(a, b, one):
    """Without the root, which may stay where it is."""
    body = [bone for role, bone in rigged(one).roles.bones.items() if role != "root"]
    return np.abs(a.world().positions[:, body] - b.world().positions[:, body]).max()


def moved(clip, turn, shift):
    """The clip with its root turned and shifted in the world."""
    edit = clip.poses.edit()
    root = int(np.flatnonzero(clip.skeleton.parents < 0)[0])
    turned = turn * Rotation.from_quat(clip.poses.rotation_tracks[root].T.copy())
    edit.rotation_tracks[root] = turned.as_quat().T
    edit.translations[root] = turn.apply(clip.poses.translation_track(root).T.copy()).T + np.array(shift)[:, None]
    return clip.with_poses(edit.poses())


@pytest.mark.parametrize(("name", "source", "target"), CARRIED)
def test_who_starts_elsewhere_and_faces_elsewhere_does_so_on_every_figure(name, source, target):
    clip, onto = act(name, source), figure(target)
    turn, shift = Rotation.from_euler("y", 70.0, degrees=True), np.array([3.0, 0.0, -2.0])
    plain = carried(clip, figure(source), onto)
    made = carried(moved(clip, turn, shift), figure(source), onto)
    legs = rigged(onto).reference.leg_m / rigged(figure(source)).reference.leg_m
    assert body_apart(made, moved(plain, turn, legs * shift), onto) < 1e-6


@pytest.mark.parametrize(("name", "source", "target"), CARRIED[:3])
def test_planted_feet_and_hands_go_along_with_where_it_starts(name, source, target):
    clip, onto = act(name, source), figure(target)
    turn, shift = Rotation.from_euler("y", -115.0, degrees=True), np.array([-1.0, 0.0, 4.0])
    motion = fairswap.MotionOptions()
    plain = carried(clip, figure(source), onto, motion)
    made = carried(moved(clip, turn, shift), figure(source), onto, motion)
    legs = rigged(onto).reference.leg_m / rigged(figure(source)).reference.leg_m
    assert body_apart(made, moved(plain, turn, legs * shift), onto) < 1e-6


@pytest.mark.parametrize("degrees", [10.0, -115.0])
def test_a_walk_on_the_spot_is_planted_alike_whichever_way_it_looks(degrees):
    clip, source, onto = act("walk", "Osric"), figure("Osric"), figure("Juniper")
    spot = swap_between(source, source, motion=clip).retarget(clip, fairswap.MotionOptions(travel="none")).clip
    turn, motion = Rotation.from_euler("y", degrees, degrees=True), fairswap.MotionOptions()
    plain, made = (carried(each, source, onto, motion) for each in (spot, moved(spot, turn, np.zeros(3))))
    assert body_apart(made, moved(plain, turn, np.zeros(3)), onto) < 1e-4


@pytest.mark.parametrize(("name", "source", "target"), CARRIED)
def test_the_verdict_does_not_ask_where_both_are_and_which_way_they_look(name, source, target):
    clip, one, onto = act(name, source), rigged(figure(source)), rigged(figure(target))
    made = carried(clip, figure(source), figure(target))
    turn = Rotation.from_euler("y", 33.0, degrees=True)
    here = compare_motions(Motion(one, clip), Motion(onto, made))
    shift = np.array([5.0, 0.0, 1.0])
    over_there = moved(made, turn, onto.reference.leg_m / one.reference.leg_m * shift)
    there = compare_motions(Motion(one, moved(clip, turn, shift)), Motion(onto, over_there))
    for mine, theirs in zip(here.parts, there.parts, strict=True):
        assert mine.part == theirs.part
        assert mine.score == pytest.approx(theirs.score, abs=0.01)
        assert mine.because == theirs.because or mine.score > 99.9


@pytest.mark.parametrize("factor", [0.02, 1.9, 40.0])
def test_a_giant_and_a_dwarf_of_one_build_give_one_result(factor):
    """Figure and clip larger by one factor: the target moves as it did."""
    clip, source, onto = act("walk", "Osric"), figure("Osric"), figure("Pip")
    skeleton = replace(source.skeleton, rest_translations=factor * source.skeleton.rest_translations)
    larger = replace(source, skeleton=skeleton, meshes=(), source=None)
    poses = clip.poses
    grown = Poses(skeleton, poses.rotation_tracks, poses.translated_bones, factor * poses.translation_tracks)
    plain = carried(clip, replace(source, meshes=(), source=None), onto)
    made = carried(replace(clip, poses=grown, origin=None), larger, onto)
    assert degrees_apart(made, plain) < 1e-4
    assert metres_apart(made, plain) < 1e-5


@pytest.mark.parametrize(("name", "source", "target"), CARRIED)
def test_backwards_and_carried_is_carried_and_backwards(name, source, target):
    clip, onto = act(name, source), figure(target)
    pair = swap_between(figure(source), onto, motion=clip)
    there, back = pair.retarget(clip, FREE).clip, pair.retarget(fairswap.clips.reverse(clip), FREE).clip
    assert metres_apart(back, fairswap.clips.reverse(there)) < 1e-9


@pytest.mark.parametrize(("name", "source", "target"), CARRIED)
def test_a_piece_carried_is_that_piece_of_all_of_it(name, source, target):
    clip, onto = act(name, source), figure(target)
    pair = swap_between(figure(source), onto, motion=clip)
    whole = pair.retarget(clip, FREE).clip
    first, last = clip.frames // 3, 2 * clip.frames // 3
    piece = clip.with_poses(clip.poses.picked(slice(first, last)))
    made = pair.retarget(piece, FREE).clip
    assert metres_apart(made, whole.with_poses(whole.poses.picked(slice(first, last)))) < 1e-9


@pytest.mark.parametrize(("name", "source", "target"), CARRIED)
def test_more_frames_between_show_the_same_motion(name, source, target):
    clip, onto = act(name, source), figure(target)
    pair = swap_between(figure(source), onto, motion=clip)
    finer = replace(clip, poses=clip.poses.at(np.arange(0, clip.frames - 0.99, 0.5)), rate=2 * clip.rate, origin=None)
    made, plain = pair.retarget(finer, FREE).clip, pair.retarget(clip, FREE).clip
    assert made.rate == Fraction(2 * clip.rate)
    every_other = made.with_poses(made.poses.picked(slice(None, None, 2)))
    assert metres_apart(every_other, plain) < 1e-9


def shuffled(skeleton, seed):
    """An order in which every bone still comes after its parent: for each new place, the old bone."""
    rng = np.random.default_rng(seed)
    order, ready = [], [int(bone) for bone in np.flatnonzero(skeleton.parents < 0)]
    while ready:
        order.append(ready.pop(int(rng.integers(len(ready)))))
        ready += np.flatnonzero(skeleton.parents == order[-1]).tolist()
    return np.array(order)


@pytest.mark.parametrize("seed", [1, 2])
@pytest.mark.parametrize(("name", "source", "target"), CARRIED[:2])
@pytest.mark.long(but=2)
def test_the_order_in_which_a_file_lists_its_bones_says_nothing(name, source, target, seed):
    clip, one, onto = act(name, source), figure(source), figure(target)
    order = shuffled(one.skeleton, seed)
    place = np.argsort(order)
    parents = np.where(one.skeleton.parents[order] < 0, -1, place[one.skeleton.parents[order]])
    old = one.skeleton
    skeleton = Skeleton(
        tuple(old.names[bone] for bone in order), parents, old.rest_rotations[order], old.rest_translations[order],
        ends=frozenset(int(place[bone]) for bone in old.ends),
    )  # fmt: skip
    meshes = tuple(
        replace(mesh, joints=place[mesh.joints], bind_matrices=mesh.bind_matrices[order], origin=None)
        for mesh in one.meshes
    )
    other = replace(one, skeleton=skeleton, meshes=meshes, source=None)
    tracks = {int(place[bone]): track for bone, track in clip.poses.translation_by_bone().items()}
    bones = np.array(sorted(tracks))
    poses = Poses(skeleton, clip.poses.rotation_tracks[order], bones, np.array([tracks[bone] for bone in bones]))
    known, again = rigged(one).roles, rigged(other).roles
    assert {role: int(place[bone]) for role, bone in known.bones.items()} == again.bones
    plain = carried(clip, one, onto, fairswap.MotionOptions())
    made = carried(replace(clip, poses=poses, origin=None), other, onto, fairswap.MotionOptions())
    assert metres_apart(made, plain) < 1e-6
    # And as the figure to animate.
    back = act("turn-and-bow", "Juniper")
    first = carried(back, figure("Juniper"), one, fairswap.MotionOptions())
    second = carried(back, figure("Juniper"), other, fairswap.MotionOptions())
    off = second.world().positions[:, place] - first.world().positions
    assert np.abs(off).max() < 1e-6


@pytest.mark.parametrize(("name", "source", "target"), [("walk", "Osric", "Pip"), ("turn-and-bow", "Juniper", "Pip")])
def test_a_motion_mirrored_and_carried_is_carried_and_mirrored(name, source, target):
    """Of figures whose halves are alike."""
    clip, onto = act(name, source), figure(target)
    flipped = fairswap.clips.mirror(clip, figure(source))
    made = carried(flipped, figure(source), onto)
    wanted = fairswap.clips.mirror(carried(clip, figure(source), onto), onto)
    assert degrees_apart(made, wanted) < 0.5
    assert metres_apart(made, wanted) < 0.01


def test_a_sole_that_is_millimetres_lower_on_one_side_sways_no_hips():
    """Juniper's soles are: a leg about to lift off, nearly straight, pulled her hips back by 4 cm on one side alone."""
    clip, onto = act("walk", "Pip"), figure("Juniper")
    flipped = fairswap.clips.mirror(clip, figure("Pip"))
    made = carried(flipped, figure("Pip"), onto, fairswap.MotionOptions())
    wanted = fairswap.clips.mirror(carried(clip, figure("Pip"), onto, fairswap.MotionOptions()), onto)
    hips = rigged(onto).roles.bones["hips"]
    off = made.world().positions[:, hips] - wanted.world().positions[:, hips]
    assert np.linalg.norm(off, axis=1).max() < 0.02


CHANGES = {
    "cleaned": lambda clip, one: fairswap.clips.clean(clip, jitter=True).clip,
    "faster": lambda clip, one: fairswap.clips.speed(clip, 1.3),
    "of another rate": lambda clip, one: fairswap.clips.rate(clip, 24, smooth=True),
    "thinned": lambda clip, one: fairswap.clips.thin(clip, mm=2.0).clip,
    "trimmed": lambda clip, one: fairswap.clips.trim(clip),
    "doubled": lambda clip, one: fairswap.clips.join([clip, clip], one),
    "joined where it fits": lambda clip, one: fairswap.clips.join([clip, clip], one, match=True),
}


@pytest.mark.parametrize(("name", "who"), [("walk", "Osric"), ("turn-and-bow", "Juniper"), ("leap", "Pip")])
@pytest.mark.parametrize("change", CHANGES)
@pytest.mark.long(but=4)
def test_what_is_done_to_a_clip_does_not_ask_where_it_is(change, name, who):
    clip, one = act(name, who), figure(who)
    turn, shift = Rotation.from_euler("y", 37.0, degrees=True), np.array([2.0, 0.0, -1.5])
    there, here = CHANGES[change](moved(clip, turn, shift), one), CHANGES[change](clip, one)
    assert there.frames == here.frames
    assert body_apart(there, moved(here, turn, shift), one) < 1e-6


@pytest.mark.parametrize(("name", "who"), [("walk", "Osric"), ("turn-and-bow", "Juniper"), ("leap", "Pip")])
def test_cycles_and_descriptions_do_not_ask_where_it_is(name, who):
    clip, one = act(name, who), figure(who)
    there = moved(clip, Rotation.from_euler("y", 37.0, degrees=True), np.array([2.0, 0.0, -1.5]))
    spans = [[(cycle.first, cycle.last) for cycle in fairswap.clips.cycles(each)] for each in (clip, there)]
    assert spans[0] == spans[1]
    assert repr(fairswap.clips.describe(there, one)) == repr(fairswap.clips.describe(clip, one))


def resting_elsewhere(one, turn, shift):
    """The whole figure at rest in another place, looking another way."""
    old = one.skeleton
    rotations, places = old.rest_rotations.copy(), old.rest_translations.copy()
    for root in np.flatnonzero(old.parents < 0):
        rotations[root] = (turn * Rotation.from_quat(rotations[root])).as_quat()
        places[root] = turn.apply(places[root]) + shift
    skeleton = replace(old, rest_rotations=rotations, rest_translations=places)
    meshes = tuple(
        Mesh(
            mesh.name, turn.apply(rest.copy()) + shift, turn.apply(mesh.normals.copy()), mesh.triangles, mesh.joints,
            mesh.weights, inverse_rest_matrices(skeleton),
        )
        for mesh, rest in zip(one.meshes, one.rest_vertices, strict=True)
    )  # fmt: skip
    return replace(one, skeleton=skeleton, meshes=meshes, source=None)


def on_it(clip, one):
    """The clip, whose root turns and goes as it did in the world."""
    poses = clip.poses
    return replace(
        clip, origin=None,
        poses=Poses(one.skeleton, poses.rotation_tracks, poses.translated_bones, poses.translation_tracks),
    )  # fmt: skip


ELSEWHERE = [
    (0.0, (4.0, 0.0, -3.0)),
    (12.0, (0.0, 0.0, 0.0)),
    (-25.0, (0.5, 0.0, 0.0)),
    (50.0, (0, 0, 0)),
    (180.0, (1, 0, 1)),
]


@pytest.mark.parametrize(("degrees", "shift"), ELSEWHERE)
def test_where_a_source_rests_and_which_way_it_looks_there_is_no_motion(degrees, shift):
    """The act is where it is; only that the figure rests elsewhere is new."""
    clip, onto, motion = act("walk", "Osric"), figure("Pip"), fairswap.MotionOptions()
    turn = Rotation.from_euler("y", degrees, degrees=True)
    plain, other = (resting_elsewhere(figure("Osric"), *way) for way in ((Rotation.identity(), 0.0), (turn, shift)))
    first = carried(on_it(clip, plain), plain, onto, motion)
    made = carried(on_it(moved(clip, turn, np.array(shift)), other), other, onto, motion)
    assert body_apart(made, moved(first, turn, np.zeros(3)), onto) < 1e-6


@pytest.mark.parametrize(("degrees", "shift"), ELSEWHERE)
def test_a_figure_that_rests_elsewhere_does_the_same_where_it_stands(degrees, shift):
    clip, motion = act("turn-and-bow", "Juniper"), fairswap.MotionOptions()
    turn = Rotation.from_euler("y", degrees, degrees=True)
    plain, other = (resting_elsewhere(figure("Osric"), *way) for way in ((Rotation.identity(), 0.0), (turn, shift)))
    first, made = (carried(clip, figure("Juniper"), onto, motion).world().positions for onto in (plain, other))
    hips = rigged(plain).roles.bones["hips"]
    was, now = (onto.skeleton.rest.positions[0, hips] for onto in (plain, other))
    body = [bone for role, bone in rigged(plain).roles.bones.items() if role != "root"]
    off = made[:, body] - first[:, body] - (now - was) * [1.0, 0.0, 1.0]
    assert np.abs(off).max() < 1e-6
