"""Skeletons brought to a platform's: chains of another count, bones put in and left out, weights handed on."""

from dataclasses import replace
from functools import cache
from itertools import pairwise

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from fairswap.bones.profile import profile_named
from fairswap.bones.roles import RoleMap
from fairswap.platform.rules import FigureRules
from fairswap.platform.skeleton import moved_to_rebuilt, rebuilt
from making import act, figure, rigged

VRM = profile_named("vrm-1")


@cache
def brought(who, **rules):
    lists = {key: list(value) if key in ("required", "forbidden") else value for key, value in rules.items()}
    return rebuilt(figure(who), rigged(figure(who)).roles, VRM, FigureRules(**lists))


def roles_of(made):
    return {bone.key: number for number, bone in enumerate(made.bones)}


def weights_by_bone(mesh, bones):
    """How much of each vertex each bone has: a plain loop."""
    out = np.zeros((len(mesh.vertices), bones))
    for vertex in range(len(mesh.vertices)):
        for joint, weight in zip(mesh.joints[vertex], mesh.weights[vertex], strict=True):
            out[vertex, joint] += weight
    return out


def away_from_rest(skeleton, poses, bone):
    world = poses.world().rotations[:, bone]
    return Rotation.from_quat(world) * Rotation.from_quat(skeleton.rest.rotations[0, bone]).inv()


@pytest.mark.parametrize("who", ["Juniper", "Osric", "Pip"])
@pytest.mark.parametrize("count", [1, 2, 3, 5, 8])
def test_a_chain_of_another_count_stands_on_the_old_one_and_its_ends_move_as_the_old_ends(who, count):
    own, old = rigged(figure(who)).roles, figure(who).skeleton
    made = brought(who, spine=(count, count))
    new, found = made.figure.skeleton, roles_of(made)
    chain = [found[f"spine_{number}"] for number in range(1, count + 1)]
    assert f"spine_{count + 1}" not in found
    before = [own.bones[role] for role in own.chain("spine")]
    if count == len(before):
        assert np.abs(new.rest.positions[0, chain] - old.rest.positions[0, before]).max() < 1e-12
        return
    # Walked along the old chain in small steps, up to where the neck begins.
    beyond = own.bones[(*own.chain("neck"), "head")[0]]
    corners = old.rest.positions[0, [*before, beyond]]
    small = np.linspace(0, 1, 2000, endpoint=False)[:, None]
    steps = np.concatenate([a + small * (b - a) for a, b in pairwise(corners)])
    length = np.concatenate([[0.0], np.linalg.norm(np.diff(steps, axis=0), axis=1).cumsum()])
    for number, bone in enumerate(chain):
        at = np.argmin(np.abs(length - number / count * length[-1]))
        assert np.linalg.norm(new.rest.positions[0, bone] - steps[at]) < 1e-3
    if count < len(before):
        return  # fewer bones bend so that hands and head arrive; see test_platform
    clip = act("turn-and-bow", who)
    moved = moved_to_rebuilt(clip, made)
    for bone, was in ((chain[-1], before[-1]), (chain[0], before[0])):
        off = away_from_rest(new, moved.poses, bone) * away_from_rest(old, clip.poses, was).inv()
        assert np.degrees(off.magnitude()).max() < 1e-5


@pytest.mark.parametrize("who", ["Juniper", "Osric", "Pip"])
def test_every_vertex_is_held_as_much_as_before_and_by_bones_next_to_each_other(who):
    one = figure(who)
    own = rigged(one).roles
    made = brought(who, spine=(8, 8))
    found = roles_of(made)
    chain = [found[f"spine_{number}"] for number in range(1, 9)]
    spine = [own.bones[role] for role in own.chain("spine")]
    heights = made.figure.skeleton.rest.positions[0, chain, 1]
    for was, now in zip(one.meshes, made.figure.meshes, strict=True):
        old, new = weights_by_bone(was, len(one.skeleton)), weights_by_bone(now, len(made.bones))
        assert np.abs(new.sum(axis=1) - 1.0).max() < 1e-9
        share = new[:, chain]
        assert np.abs(share.sum(axis=1) - old[:, spine].sum(axis=1)).max() < 1e-5
        held = share > 1e-6
        assert held.sum(axis=1).max(initial=0) <= 2
        # The higher a vertex, the higher the bones that hold it: each stands between the middles of its two.
        for vertex in np.flatnonzero(held.any(axis=1)):
            low, high = np.flatnonzero(held[vertex])[[0, -1]]
            assert high - low <= 1
            y = now.vertices[vertex, 1]
            ends = np.append(heights, 2 * heights[-1] - heights[-2])
            middles = (ends[1:] + ends[:-1]) / 2
            if low == high:
                assert low in (0, 7) or abs(y - middles[low]) < 1e-3 or share[vertex, low] < 1e-5
            else:
                assert middles[low] - 1e-9 <= y <= middles[high] + 1e-9
                part = share[vertex, high] / share[vertex].sum()
                assert part == pytest.approx((y - middles[low]) / (middles[high] - middles[low]), abs=1e-4)


def test_toes_that_were_not_there_take_what_lies_ahead_of_them():
    assert "toes_left" not in rigged(figure("Pip")).roles.bones
    plain, made = brought("Pip"), brought("Pip", required=("toes_left", "toes_right"))
    before, after = roles_of(plain), roles_of(made)
    reached = 0
    for was, now in zip(plain.figure.meshes, made.figure.meshes, strict=True):
        old, new = weights_by_bone(was, len(plain.bones)), weights_by_bone(now, len(made.bones))
        for side in ("left", "right"):
            foot, toes = new[:, after[f"foot_{side}"]], new[:, after[f"toes_{side}"]]
            whole = old[:, before[f"foot_{side}"]]
            assert np.abs(foot + toes - whole).max() < 1e-5
            ahead = now.vertices[:, 2] - made.bones[after[f"toes_{side}"]].place[2]
            share = np.clip((ahead + 0.015) / 0.03, 0.0, 1.0)  # soft over three centimetres
            assert np.abs(toes - share * whole).max() < 1e-5
            reached += int((toes > 0.5).sum())
    assert reached > 20
    # They are put in before the foot, near the ground, and named as the profile names them.
    new = made.figure.skeleton
    for side in ("left", "right"):
        foot, toes = (new.rest.positions[0, after[f"{part}_{side}"]] for part in ("foot", "toes"))
        assert toes[2] > foot[2]
        assert 0.0 < toes[1] < 0.5 * foot[1]
        assert new.names[after[f"toes_{side}"]] == VRM.roles[f"toes_{side}"][0]
        assert new.parents[after[f"toes_{side}"]] == after[f"foot_{side}"]
    assert set(made.added) - set(plain.added) == {VRM.roles[f"toes_{side}"][0] for side in ("left", "right")}


@pytest.mark.parametrize("who", ["Juniper", "Osric"])
def test_the_weights_of_a_bone_that_goes_are_those_of_the_nearest_above_it_that_stays(who):
    one, own = figure(who), rigged(figure(who)).roles
    fingers = tuple(role for role in own.bones if "index" in role or "thumb" in role)
    made = brought(who, extra="merged", helpers="merged", face_bones="none", forbidden=fingers)
    found = roles_of(made)
    stays = {bone: found[role] for role, bone in own.bones.items() if role in found}
    gone = [bone for role in fingers for bone in [own.bones[role]]]
    assert {one.skeleton.names[bone] for bone in gone} <= set(made.merged)
    assert not set(fingers) & set(found)
    for was, now in zip(one.meshes, made.figure.meshes, strict=True):
        old, new = weights_by_bone(was, len(one.skeleton)), weights_by_bone(now, len(made.bones))
        wanted = np.zeros_like(new)
        for bone in range(len(one.skeleton)):
            above = bone
            while above not in stays and above >= 0:
                above = int(one.skeleton.parents[above])
            wanted[:, stays.get(above, found["hips"])] += old[:, bone]
        assert np.abs(new - wanted).max() < 1e-5


@pytest.mark.parametrize(
    ("rules", "there", "gone"),
    [
        ({"face_bones": "all"}, ("jaw", "eye_left", "eye_right"), ()),
        ({"face_bones": "eyes"}, ("eye_left", "eye_right"), ("jaw",)),
        ({"face_bones": "eyes", "required": ("jaw",)}, ("jaw", "eye_left"), ()),
        ({"face_bones": "none"}, (), ("jaw", "eye_left", "eye_right")),
        ({"root": "required"}, ("root", "hips"), ()),
        ({"root": "forbidden"}, ("hips",), ("root",)),
        ({"forbidden": ("head",)}, ("neck_1",), ("head",)),
        ({"neck": (0, 0)}, ("head",), ("neck_1",)),
        ({"forbidden": ("hand_left", "lower_arm_right", "foot_left")}, ("toes_left", "hand_right"), ("hand_left",)),
        ({"neck": (2, 3)}, ("neck_1", "neck_2"), ("neck_3",)),
        ({"required": ("spine_7",)}, ("spine_7",), ("spine_8",)),
    ],
)
def test_bones_are_there_as_the_rules_say(rules, there, gone):
    made = brought("Osric", **rules)
    found = roles_of(made)
    assert set(there) <= set(found)
    assert not set(gone) & set(found)
    # Every bone hangs on one before it, and only the first on none.
    parents = made.figure.skeleton.parents
    assert (parents[1:] >= 0).all()
    assert parents[0] == -1
    assert (parents < np.arange(len(parents))).all()
    assert len(set(made.figure.skeleton.names)) == len(parents)


def test_what_hung_on_a_bone_that_is_forbidden_hangs_on_the_next_one_above():
    forbidden = ("head", "hand_left", "lower_arm_right", "foot_left", "spine_2")
    made = brought("Osric", forbidden=forbidden, spine=(3, 3))
    found = roles_of(made)
    keys = {number: key for key, number in found.items()}
    above = {key: keys.get(int(made.figure.skeleton.parents[number])) for key, number in found.items()}
    assert above["jaw"] == above["eye_left"] == max(key for key in found if key.startswith("neck_"))
    assert above["index_proximal_left"] == "lower_arm_left"
    assert above["index_distal_left"] == "index_intermediate_left"
    assert above["hand_right"] == "upper_arm_right"
    assert above["toes_left"] == "lower_leg_left"
    assert above["toes_right"] == "foot_right"
    assert above["spine_3"] == "spine_1"
    assert above["neck_1"] == above["shoulder_left"] == "spine_3"
    assert above["upper_leg_left"] == above["spine_1"] == "hips"


def test_with_too_many_bones_the_tips_of_the_fingers_go_first():
    whole = set(roles_of(brought("Juniper")))
    kept = {}
    for fewer in (1, 4, 10, 14, 22):
        made = brought("Juniper", max_bones=sum(not key.startswith("bone ") for key in whole) - fewer)
        kept[fewer] = {key for key in roles_of(made) if not key.startswith("bone ")}
        lost = {key for key in whole if not key.startswith("bone ")} - kept[fewer]
        assert len(lost) == fewer
        assert all("distal" in role for role in lost) or fewer > 10
        # Where a finger begins it stays as long as any has a part to spare.
        begins = any("proximal" in role for role in lost)
        assert not begins or not any("intermediate" in role or "distal" in role for role in kept[fewer])
    assert kept[22] < kept[14] < kept[10] < kept[4] < kept[1]


def test_clips_say_of_the_new_bones_which_are_keyed():
    made = brought("Juniper", spine=(3, 3))
    clip = act("walk", "Juniper")
    moved = moved_to_rebuilt(clip, made)
    for number, bone in enumerate(made.bones):
        assert (number in moved.keyed) == (bone.first in clip.keyed or bone.second in clip.keyed)
    hips, was = roles_of(made)["hips"], rigged(figure("Juniper")).roles.bones["hips"]
    off = moved.world().positions[:, hips] - clip.world().positions[:, was]
    assert np.abs(off).max() < 1e-9


def test_a_bone_between_two_is_keyed_if_either_is():
    made = brought("Juniper", spine=(4, 4))
    clip = act("walk", "Juniper")
    between = [bone for bone in made.bones if bone.first != bone.second]
    assert between
    for bone in between:
        for one in (bone.first, bone.second):
            moved = moved_to_rebuilt(replace(clip, keyed=frozenset({one})), made)
            assert moved.keyed == {i for i, row in enumerate(made.bones) if one in (row.first, row.second)}


def test_shoulders_that_were_not_there_are_put_in_on_the_line_from_spine_to_arm():
    one = figure("Osric")
    known = rigged(one).roles
    fewer = RoleMap({role: bone for role, bone in known.bones.items() if not role.startswith("shoulder")}, "made")
    made = rebuilt(one, fewer, VRM, FigureRules(required=["shoulder_left", "shoulder_right"]))
    found, places = roles_of(made), one.skeleton.rest.positions[0]
    last = known.chain("spine")[-1]
    for side in ("left", "right"):
        arm, spine = places[known.bones[f"upper_arm_{side}"]], places[known.bones[last]]
        put = made.bones[found[f"shoulder_{side}"]]
        # A fifth of the way out, as high and as deep as the arm; it turns as the spine does.
        assert put.place == pytest.approx((spine[0] + 0.2 * (arm[0] - spine[0]), arm[1], arm[2]))
        assert (put.first, put.second, put.fraction) == (known.bones[last], known.bones[last], 0.0)
        assert made.figure.skeleton.parents[found[f"upper_arm_{side}"]] == found[f"shoulder_{side}"]
        assert made.figure.skeleton.parents[found[f"shoulder_{side}"]] == found[last]


def test_a_chain_of_one_shared_by_two_bends_in_the_middle_of_each():
    one = figure("Osric")
    known = rigged(one).roles
    chain = known.chain("spine")
    fewer = RoleMap({role: bone for role, bone in known.bones.items() if role not in chain[1:]}, "made")
    made = rebuilt(one, fewer, VRM, FigureRules(spine=(2, 2)))
    found = roles_of(made)
    low, high = found["spine_1"], found["spine_2"]
    heights = [made.bones[bone].place[1] for bone in (low, high)]
    middles = [0.5 * (heights[0] + heights[1]), heights[1] + 0.5 * (heights[1] - heights[0])]
    own, seen = known.bones["spine_1"], 0
    for was, now in zip(one.meshes, made.figure.meshes, strict=True):
        old, new = weights_by_bone(was, len(one.skeleton)), weights_by_bone(now, len(made.bones))
        mine = np.flatnonzero(old[:, own] > 0.01)
        upper = np.interp(now.vertices[mine, 1], middles, [0.0, 1.0])
        assert np.abs(new[mine, high] - upper * old[mine, own]).max(initial=0.0) < 1e-5
        seen += int(((upper > 0.05) & (upper < 0.95)).sum())
    assert seen > 20
