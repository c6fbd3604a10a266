"""Rigs whose limbs are cut in two, whose thumb hangs on a bone of the palm, whose tail is longer than their spine."""

from dataclasses import replace
from functools import cache
from pathlib import Path

import numpy as np
import pytest

import fairswap
from fairswap.measure.capsules import capsules_of
from fairswap.measure.comparison import Motion, compare_motions
from fairswap.measure.contacts import contacts_of
from fairswap.measure.soles import lowest_and_speed
from fairswap.model.chain_world import ChainWorld
from fairswap.model.poses import PoseBuilder
from fairswap.model.posture import posture_from_positions
from fairswap.model.rotation import angle_between, multiply, quaternion_from_axis_angle, rotate
from fairswap.model.words import sides_of
from fairswap.retarget.bearing import move_hips
from fairswap.retarget.inverse_kinematics import solve_limb
from fairswap.retarget.sway import swinging_bones
from making import FREE, act, figure, rigged, swap_between
from rewrites import Scene, rewritten

SIDES = ("left", "right")
# The joint, the next one, and what the two pieces of the bone between them are called.
CUT = {
    "upper_arm": ("lower_arm", "upper_arm.{0}.0{1}"),
    "lower_arm": ("hand", "forearm.{0}.0{1}"),
    "upper_leg": ("lower_leg", "thigh.{0}.0{1}"),
    "lower_leg": ("foot", "shin.{0}.0{1}"),
    "index_proximal": ("index_intermediate", "finger_index.01.{0}.0{1}"),
}
ALONE = {
    "shoulder": "shoulder.{0}",
    "hand": "hand.{0}",
    "foot": "foot.{0}",
    "toes": "toe.{0}",
    "index_metacarpal": "palm.01.{0}",
    "index_intermediate": "finger_index.02.{0}",
    "index_distal": "finger_index.03.{0}",
}


def cut_in_two(scene, names):
    """Limbs of two bones in line each, both of which hold skin; the thumb on the palm bone of the index finger."""
    number = {row.get("name"): at for at, row in enumerate(scene.nodes)}
    nodes = {role: number[name] for role, name in names.items()}
    for side, mark in zip(SIDES, "LR", strict=True):
        for role, (end, called) in CUT.items():
            first, last = nodes[f"{role}_{side}"], nodes[f"{end}_{side}"]
            half = 0.5 * np.array(scene.nodes[last]["translation"])
            row = {"name": called.format(mark, 2), "translation": half.tolist(), "children": [last]}
            scene.nodes.append(row)
            second = len(scene.nodes) - 1
            scene.nodes[first]["name"] = called.format(mark, 1)
            children = scene.nodes[first]["children"]
            children[children.index(last)] = second
            scene.nodes[last]["translation"] = half.tolist()
            for skin in scene.json["skins"]:
                binds = scene.arrays[skin["inverseBindMatrices"]]
                at = skin["joints"].index(first)
                bind = binds[at].reshape(4, 4).T.astype(float)
                moved = np.eye(4)
                moved[:3, 3] = -half
                skin["inverseBindMatrices"] = scene.add(np.concatenate([binds, (moved @ bind).T.reshape(1, 16)]))
                skin["joints"].append(second)
                for primitive in scene.primitives():
                    attributes = primitive["attributes"]
                    joints = scene.arrays[attributes["JOINTS_0"]]
                    places = scene.floats(attributes["POSITION"]) @ bind[:3, :3].T + bind[:3, 3]
                    beyond = places @ half > half @ half
                    kind = joints.dtype.str.replace("|", "")
                    far = np.where(beyond[:, None] & (joints == at), len(skin["joints"]) - 1, joints)
                    attributes["JOINTS_0"] = scene.add(far, kind)
        for role, called in ALONE.items():
            scene.nodes[nodes[f"{role}_{side}"]]["name"] = called.format(mark)
        hand, palm, thumb = (nodes[f"{role}_{side}"] for role in ("hand", "index_metacarpal", "thumb_metacarpal"))
        _hang_on(scene, thumb, hand, palm)


def _hang_on(scene, node, old, new):
    """A child of ``old`` hangs on ``new``, another one: it stays where it is at rest."""
    rows = scene.nodes
    turn, place = rows[new].get("rotation", [0, 0, 0, 1]), np.array(rows[new].get("translation", [0, 0, 0]), float)
    undo = np.array(turn) * [-1, -1, -1, 1]
    rows[node]["translation"] = rotate(undo, np.array(rows[node]["translation"]) - place).tolist()
    rows[node]["rotation"] = multiply(undo, np.array(rows[node].get("rotation", [0, 0, 0, 1]))).tolist()
    rows[old]["children"].remove(node)
    rows[new].setdefault("children", []).append(node)


@cache
def cut() -> bytes:
    body = figure("Juniper")
    fairswap.save("whole.glb", body, [act("walk", "Juniper")])
    names = {role: body.skeleton.names[bone] for role, bone in fairswap.bones.roles_of(body).bones.items()}
    scene = Scene(Path("whole.glb").read_bytes())
    cut_in_two(scene, names)
    return scene.bytes()


@cache
def cut_figure():
    return fairswap.load(cut(), format=".glb").figure


def test_of_a_limb_cut_in_two_the_first_piece_has_the_joint():
    body = cut_figure()
    roles = fairswap.bones.roles_of(body).bones
    called = {role: body.skeleton.names[bone] for role, bone in roles.items()}
    for role, (_, name) in CUT.items():
        assert called[f"{role}_left"] == name.format("L", 1)
        assert called[f"{role}_right"] == name.format("R", 1)
    for role, name in ALONE.items():
        assert called[f"{role}_left"] == name.format("L")
    # The thumb on the palm bone is a thumb, and the finger that shares the bone is all there.
    assert {f"thumb_{part}_left" for part in ("metacarpal", "proximal", "distal")} <= set(called)
    assert set(roles) == set(fairswap.bones.roles_of(figure("Juniper")).bones)


@pytest.mark.parametrize("short", [0.6, 0.75, 1.0])
def test_the_first_piece_has_the_elbow_on_broad_shoulders_too(short):
    """Long collars speak for a longer upper arm; that the second piece of a forearm is called like the first tells
    more."""
    skeleton = cut_figure().skeleton
    steps, names = skeleton.rest_translations.copy(), list(skeleton.names)
    for mark in "LR":
        steps[names.index(f"upper_arm.{mark}.01")] *= 1.3
        for name in ("upper_arm.{0}.02", "forearm.{0}.01"):
            steps[names.index(name.format(mark))] *= short
    roles = fairswap.bones.roles_of(fairswap.Figure("broad", replace(skeleton, rest_translations=steps))).bones
    assert names[roles["lower_arm_left"]] == "forearm.L.01"
    assert names[roles["lower_leg_right"]] == "shin.R.01"


def test_a_limb_cut_in_two_is_as_long_and_as_thick_as_a_whole_one():
    whole, pieces = (capsules_of(rigged(body)) for body in (figure("Juniper"), cut_figure()))
    for role, limb in whole.items():
        lengths = [np.linalg.norm(one.end - one.start) for one in (limb, pieces[role])]
        assert lengths[1] == pytest.approx(lengths[0], rel=1e-4)
        np.testing.assert_allclose(pieces[role].radii, limb.radii, rtol=0.05)


def test_a_motion_goes_onto_limbs_cut_in_two_as_onto_whole_ones():
    pip = act("walk", "Pip")
    onto = swap_between(figure("Pip"), cut_figure(), motion=pip).convert(pip, FREE)
    whole = swap_between(figure("Pip"), figure("Juniper"), motion=pip).convert(pip, FREE)
    a, b = (fairswap.bones.roles_of(body).bones for body in (cut_figure(), figure("Juniper")))
    places = onto.world().positions, whole.world().positions
    limbs = [f"{role}_{side}" for role in ("lower_arm", "hand", "lower_leg", "foot", "thumb_distal") for side in SIDES]
    for role in limbs:
        np.testing.assert_allclose(places[0][:, a[role]], places[1][:, b[role]], atol=2e-3, err_msg=role)


def test_pieces_of_a_limb_that_turn_by_themselves_carry_what_hangs_on_them():
    """Twist along the arm, and some bend: on a figure with the same bones every joint is where it was."""
    body = cut_figure()
    base = fairswap.load(cut(), format=".glb").clips[0]
    edit, names = base.poses.edit(), list(body.skeleton.names)
    swing = np.radians(35.0) * np.sin(np.arange(base.frames) / 8.0)
    for name, axis in (("upper_arm.L.02", [1, 0.3, 0]), ("forearm.R.02", [0, 1, 0.2]), ("shin.L.02", [0.2, 1, 0])):
        bone = names.index(name)
        turn = quaternion_from_axis_angle(axis, swing)
        edit.rotation_tracks[bone] = multiply(edit.rotation_tracks[bone].T, turn).T
    clip = base.with_poses(edit.poses(), keyed=frozenset(range(len(names))))
    larger = fairswap.load(rewritten(cut(), "a giant"), format=".glb").figure
    pair = swap_between(body, larger, motion=clip)
    made = pair.transfer(clip)
    ratio = pair.leg_ratio
    before, after = clip.world(), made.world()
    hips = pair.source.roles.bones["hips"]
    for role in ("hand_left", "hand_right", "foot_left", "lower_arm_left", "index_distal_left"):
        bone = pair.source.roles.bones[role]
        ways = [seen.positions[:, bone] - seen.positions[:, hips] for seen in (before, after)]
        np.testing.assert_allclose(ways[1], ratio * ways[0], atol=2e-3 * ratio, err_msg=role)


def test_the_twist_of_a_wrist_goes_up_a_forearm_in_pieces():
    """Of 60 degrees the second half of the forearm takes 30, and the hand is where it is on a whole one."""
    pip = figure("Pip")
    clip = act("walk", "Pip")
    hand = fairswap.bones.roles_of(pip).bones["hand_left"]
    edit = clip.poses.at([0, 0]).edit()
    turn = quaternion_from_axis_angle(pip.skeleton.rest_translations[hand], np.radians(60.0))
    edit.rotation_tracks[hand, :, 1] = multiply(turn, edit.rotation_tracks[hand, :, 1])
    twisted = fairswap.Clip("wrist", clip.rate, edit.poses(), frozenset(range(len(pip.skeleton))))
    made, whole = (swap_between(pip, body, motion=clip).transfer(twisted) for body in (cut_figure(), figure("Juniper")))
    piece = made.bone("forearm.L.02")
    assert piece in made.keyed
    turned = np.degrees(angle_between(made.rotations[0, piece], made.rotations[1, piece]))
    assert turned == pytest.approx(30.0, abs=1.0)
    ends = [
        clip.world().rotations[:, fairswap.bones.roles_of(body).bones["hand_left"]]
        for clip, body in ((made, cut_figure()), (whole, figure("Juniper")))
    ]
    assert np.degrees(angle_between(*ends)).max() < 0.5
    pair = swap_between(pip, cut_figure(), motion=clip)
    assert not {"forearm.L.02", "shin.R.02"} & set(pair.resting_bones)


def test_pieces_that_both_have_do_what_the_source_s_do_also_nothing():
    body = cut_figure()
    clip = fairswap.load(cut(), format=".glb").clips[0]
    hand = fairswap.bones.roles_of(body).bones["hand_left"]
    edit = clip.poses.edit()
    turn = quaternion_from_axis_angle(body.skeleton.rest_translations[hand], np.radians(60.0))
    edit.rotation_tracks[hand] = multiply(turn, edit.rotation_tracks[hand].T).T
    pair = swap_between(body, fairswap.resize(body, height_m=1.2), motion=clip)
    made = pair.transfer(clip.with_poses(edit.poses()))
    piece = made.bone("forearm.L.02")
    assert np.degrees(angle_between(made.rotations[:, piece], pair.target.resting_rotations[piece])).max() < 0.01


def test_no_piece_of_a_limb_sways():
    names = cut_figure().skeleton.names
    swings = {names[bone] for bone in swinging_bones(rigged(cut_figure()), ["*"], frozenset())}
    assert swings  # the coat does
    assert not {name for name in swings if name.endswith((".01", ".02"))}


def test_a_bone_above_the_hips_that_both_have_does_not_move_them_twice():
    """Two figures with a mover above the hips: its way is told by the hips, once."""
    scene = Scene(cut())
    hips = next(at for at, row in enumerate(scene.nodes) if row.get("name") == "hip_centre")
    above = scene.parent_of(hips)
    scene.nodes.append({"name": "mover", "children": [hips]})
    mover = len(scene.nodes) - 1
    scene.nodes[above]["children"] = [mover if child == hips else child for child in scene.nodes[above]["children"]]
    for skin in scene.json["skins"]:
        binds = scene.arrays[skin["inverseBindMatrices"]]
        skin["inverseBindMatrices"] = scene.add(np.concatenate([binds, binds[:1]]))
        skin["joints"].append(mover)
    for animation in scene.json["animations"]:
        clock = animation["samplers"][0]["input"]
        times = scene.arrays[clock][:, 0]
        way = np.stack([0 * times, 0 * times, 0.4 * times], axis=1)
        animation["samplers"].append({"input": clock, "output": scene.add(way), "interpolation": "LINEAR"})
        target = {"node": mover, "path": "translation"}
        animation["channels"].append({"sampler": len(animation["samplers"]) - 1, "target": target})
    moved = fairswap.load(scene.bytes(), format=".glb")
    clip = moved.clips[0]
    pair = swap_between(moved.figure, fairswap.resize(moved.figure, height_m=1.2), motion=clip)
    assert "mover" in moved.figure.skeleton.names
    known = pair.source.roles.bones["hips"]
    ways = [
        seen.positions[-1, known] - seen.positions[0, known] for seen in (clip.world(), pair.transfer(clip).world())
    ]
    assert ways[0][2] > 1.0
    np.testing.assert_allclose(ways[1], pair.leg_ratio * ways[0], atol=5e-3)


def body_with_a_tail(spine_first):
    """Places and parents of a body whose spine begins beside the pelvis, on which legs and a long tail hang."""
    rows = [("main", -1, (0, 0, 0))]

    def chain(parent, *steps, name):
        for number, step in enumerate(steps):
            at = len(rows)
            base = np.array(rows[parent][2])
            rows.append((f"{name}{number}", parent, tuple(base + step)))
            parent = at
        return parent

    def trunk():
        chest = chain(0, (0, 1.1, 0), (0, 0.2, 0), (0, 0.2, 0), name="spine")
        chain(chest, (0, 0.15, 0), (0, 0.1, 0.05), (0, 0.1, 0), name="head")
        for side, mark in ((1, "l"), (-1, "r")):
            chain(chest, (0.15 * side, 0.1, 0), (0.25 * side, 0, 0), (0.25 * side, 0, 0), name=f"arm_{mark}_")

    def pelvis():
        hips = chain(0, (0, 1.0, 0), name="pelvis")
        for side, mark in ((1, "l"), (-1, "r")):
            steps = (0.1 * side, -0.05, 0), (0, -0.45, 0.05), (0, -0.45, -0.05), (0, -0.03, 0.15)
            chain(hips, *steps, name=f"leg_{mark}_")
        chain(hips, *[(0, 0.02, -0.25)] * 12, name="tail")

    for part in (trunk, pelvis) if spine_first else (pelvis, trunk):
        part()
    return np.array([row[2] for row in rows]), np.array([row[1] for row in rows]), [row[0] for row in rows]


@pytest.mark.parametrize("spine_first", [True, False])
def test_a_tail_longer_than_the_spine_beside_it_is_not_taken_for_the_trunk(spine_first):
    places, parents, names = body_with_a_tail(spine_first)
    posture = posture_from_positions(places, parents, None, sides_of(names))
    assert (posture.up, posture.forward) == ("+Y", "+Z")
    lying = places[:, [0, 2, 1]] * [1, -1, 1]  # on its back: a quarter turn about x
    posture = posture_from_positions(lying, parents, None, sides_of(names))
    assert (posture.up, posture.forward) == ("+Z", "-Y")


def test_the_toes_of_a_leg_in_pieces_tell_the_front():
    document = fairswap.load(rewritten(cut(), "facing backwards"), format=".glb")
    (told,) = (finding.message for finding in document.findings if finding.code == "space-corrected")
    assert "the toes point to -Z" in told


def on_bare_toes():
    """Juniper without the soles of her boots: her toes bear."""
    body = figure("Juniper")
    roles = fairswap.bones.roles_of(body).bones
    meshes = []
    for mesh in body.meshes:
        own = np.isin(mesh.main_bones, [roles[f"foot_{side}"] for side in SIDES])
        meshes.append(replace(mesh, vertices=mesh.vertices + own[:, None] * [0.0, 0.02, 0.0]))
    return replace(body, meshes=tuple(meshes), source=None)


def hopping(body, over_floor):
    """A figure rises on the balls of its feet for six frames, about a point so high over the floor, and leaves it."""
    known = rigged(body, clip=act("walk", "Juniper"))
    frames, roles = 16, known.roles.bones
    rest, stays = known.skeleton.rest_rotations, np.tile(known.skeleton.rest_translations[[roles["hips"]]].T, frames)
    edit = PoseBuilder(known.skeleton, np.repeat(rest[:, :, None], frames, axis=2), {roles["hips"]: stays})
    chain = ChainWorld(edit)
    up = np.maximum(np.arange(frames) - 6, 0)[:, None] * [0.0, 0.05, 0.0]
    move_hips(roles["hips"], up - [0.0, 0.06, 0.0], chain)
    angle = np.radians(np.minimum(np.arange(frames) * 5.0, 30.0))
    pitch = quaternion_from_axis_angle([1.0, 0.0, 0.0], angle)
    for side in SIDES:
        upper, lower, foot, toes = (roles[f"{name}_{side}"] for name in ("upper_leg", "lower_leg", "foot", "toes"))
        standing = known.reference_world
        ball, ankle = standing.positions[0, toes].copy(), standing.positions[0, foot]
        ball[1] *= over_floor
        limb = chain.limb(upper, lower, foot)
        turned = solve_limb(limb, limb.root, ball + rotate(pitch, ankle - ball) + up, np.tile([1.0, 0, 0], (frames, 1)))
        chain.turn(upper, turned[0])
        chain.turn(lower, turned[1])
        chain.turn(foot, multiply(pitch, standing.rotations[0, foot]))
        chain.turn(toes, np.tile(standing.rotations[0, toes], (frames, 1)))
    return known, fairswap.Clip("hop", 30, edit.poses(), frozenset(range(len(known.skeleton))))


@pytest.mark.parametrize("bears", ["the boot", "the toes"])
def test_a_foot_on_its_ball_is_not_drawn_by_its_heel(bears):
    """Heels rise while the balls rest; planted on a smaller figure, the balls rest as they did, to the last frame."""
    body, over_floor = (figure("Juniper"), 0.0) if bears == "the boot" else (on_bare_toes(), 1.0)
    known, clip = hopping(body, over_floor)
    contacts = contacts_of(known, clip)
    stands = contacts.ball["left"]
    assert stands[:4].all()
    assert not contacts.standing("left")[9:].any()
    pair = swap_between(known.figure, fairswap.resize(body, height_m=1.2), motion=clip)
    made = pair.retarget(clip)
    told = compare_motions(Motion(pair.source, clip), Motion(pair.target, made.clip))
    assert told.result_footing.skate_cm_s < told.source_footing.skate_cm_s + 1.0
    toes = pair.source.roles.bones["toes_left"]
    before, after = (each.world().positions[stands, toes] for each in (clip, made.clip))
    ways = before - before[0], (after - after[0]) / pair.leg_ratio
    np.testing.assert_allclose(ways[1], ways[0], atol=2e-3)


def test_of_a_sole_that_rolls_one_point_rests():
    """A foot that turns over its ball goes nowhere, though its lowest points do; one that slides does."""
    toes = np.array([[0.0, 0.0, 0.0], [0.0, 0.0, 0.06]])
    frames = 12
    angle = np.radians(np.linspace(0.0, 30.0, frames))
    under = np.stack([np.zeros(frames), 0.03 - 0.03 * np.cos(angle), 0.03 * np.sin(angle)], axis=1)
    resting = np.broadcast_to(toes[:, None], (2, frames, 3))
    tracks = np.concatenate([resting + [0.0, 0.001, 0.0], under[None]])
    _, speed = lowest_and_speed(tracks, 30.0)
    assert speed.max() == 0.0
    sliding = tracks + np.linspace(0.0, 0.2, frames)[None, :, None] * [0.0, 0.0, 1.0]
    assert lowest_and_speed(sliding, 30.0)[1].min() > 0.2
