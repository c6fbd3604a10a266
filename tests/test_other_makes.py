"""Rigs of another make: arms on the neck, arms called alike thrice, a thing in one hand, shins in two that bend."""

from dataclasses import replace
from functools import cache

import numpy as np
import pytest

import fairswap
from fairswap.bones.rig import Rig
from fairswap.measure.capsules import capsules_of
from fairswap.measure.comparison import Motion, compare_motions
from fairswap.measure.palms import palms_of
from fairswap.measure.verdict import part_scores
from fairswap.model.chain_world import ChainWorld
from fairswap.model.clip import Clip
from fairswap.model.poses import Poses
from fairswap.model.rotation import angle_between, conjugate, multiply, quaternion_from_axis_angle, rotate
from fairswap.model.skeleton import Skeleton
from fairswap.pose.pieces import cut_limbs
from fairswap.retarget.hands import push_hand
from fairswap.retarget.inverse_kinematics import solve_limb
from making import FREE, act, figure, rigged, swap_between
from test_motion_quality import X, Y, Z, about, on_all_fours, posed

SIDES = ("left", "right")
OSRIC = figure("Osric")
ROLES = fairswap.bones.roles_of(OSRIC).bones


def in_plain_words(names_of_roles=None):
    """Osric's bones by other names: those of their roles in plain words, or as given; what has none by a number."""
    called = {bone: role.replace("_", " ") for role, bone in ROLES.items()}
    called |= {ROLES[role]: name for role, name in (names_of_roles or {}).items()}
    names = tuple(called.get(bone, f"x{bone}") for bone in range(len(OSRIC.skeleton)))
    return replace(OSRIC.skeleton, names=names)


def without(skeleton, bones):
    """A skeleton less some bones and all that hangs on them."""
    gone = {one for bone in bones for one in (bone, *skeleton.below(bone).tolist())}
    kept = [bone for bone in range(len(skeleton)) if bone not in gone]
    number = {bone: at for at, bone in enumerate(kept)} | {-1: -1}
    parents = [number[parent] for parent in skeleton.parents[kept].tolist()]
    ends = frozenset(number[bone] for bone in skeleton.ends if bone in number)
    names = tuple(skeleton.names[bone] for bone in kept)
    return Skeleton(names, np.array(parents), skeleton.rest_rotations[kept], skeleton.rest_translations[kept], ends)


def roles_by_name(skeleton):
    found = fairswap.bones.roles_of(fairswap.Figure("made otherwise", skeleton)).bones
    return {role: skeleton.names[bone] for role, bone in found.items()}


def test_arms_are_twins_though_one_holds_a_thing_or_lacks_the_ends_of_its_fingers():
    plain = in_plain_words()
    usual = roles_by_name(plain)
    limbs = {role for role in usual if "leg" in role or "arm" in role or role.startswith(("hand", "foot", "shoulder"))}
    lost = [plain.names.index(f"{finger} {part} left") for finger in ("index", "middle", "ring", "little")
            for part in ("intermediate",)]  # fmt: skip
    short = roles_by_name(without(plain, lost))
    assert {role: short[role] for role in limbs} == {role: usual[role] for role in limbs}
    assert "index_proximal_left" in short
    hand = plain.names.index("hand right")
    count, reach = len(plain), 0.5 * np.array([0.0, 0.0, 1.0])
    armed = Skeleton(
        (*plain.names, "shotgun", "handle", "mainbody", "barrel"),
        np.append(plain.parents, [hand, count, count + 1, count + 2]),
        np.concatenate([plain.rest_rotations, np.tile([0.0, 0.0, 0.0, 1.0], (4, 1))]),
        np.concatenate([plain.rest_translations, [0.2 * reach, 0.1 * reach, reach, reach]]),
        plain.ends,
    )
    held = roles_by_name(armed)
    assert {role: held[role] for role in limbs} == {role: usual[role] for role in limbs}
    assert not {"shotgun", "handle", "mainbody", "barrel"} & set(held.values())


def branches(*rows):
    """A rig of one bone and branches from it, each of bones so long; a row may fork after its first or third bone."""
    names, parents, steps = ["hips"], [-1], [[0.0, 0.0, 0.0]]
    tops = []
    for number, (lengths, fork) in enumerate(rows):
        last = 0
        for at, length in enumerate(lengths):
            names.append(f"b{number} {at}")
            parents.append(last)
            steps.append([0.2 * number, 0.0, 0.0] if at == 0 else [0.0, -length, 0.0])
            last = len(names) - 1
            if at == 0:
                tops.append(last)
            if at == fork:
                for aside in range(2):
                    for _ in range(2):
                        names.append(f"x{len(names)}")
                        parents.append(last if _ == 0 else len(names) - 2)
                        steps.append([0.01 * (aside + 1), -0.02, 0.01])
    turns = np.tile([0.0, 0.0, 0.0, 1.0], (len(names), 1))
    rig = Rig(fairswap.Figure("made", Skeleton(tuple(names), np.array(parents), turns, np.array(steps))))
    return [rig.twins(tops[0], other) for other in tops[1:]]


def test_limbs_are_twins_as_far_as_the_hand_and_a_tail_is_no_twin_of_a_leg():
    leg = [0.1, 0.4, 0.4, 0.1]
    same, ends, tail = branches((leg, None), (leg, None), ([*leg, 0.02, 0.02], None), ([*leg, 0.4, 0.4], None))
    assert same == 1.0
    assert ends > 0.3
    assert tail < 0.02
    # Beyond a hand, of three bones or more, nothing is held against; a branch that forks at once is a whole.
    holds, whole = branches((leg, 3), ([*leg, 0.4, 0.4], 3), ([0.1, 0.4, 0.1, 0.3], 0))
    assert holds > 0.5
    assert whole < 0.02


@pytest.mark.parametrize("collar", [0.5, 1.0, 1.8])
def test_an_arm_called_alike_three_times_has_its_shoulder_first(collar):
    words = {f"{part}_{side}": f"{side[0]} arm{number}" for side in SIDES
             for part, number in (("shoulder", ""), ("upper_arm", 1), ("lower_arm", 2))}  # fmt: skip
    words |= {f"{part}_{side}": f"{side[0]} leg{number}" for side in SIDES
              for part, number in (("upper_leg", ""), ("lower_leg", 1))}  # fmt: skip
    skeleton = in_plain_words(words)
    steps = skeleton.rest_translations.copy()
    for side in SIDES:
        steps[ROLES[f"upper_arm_{side}"]] *= collar
    found = roles_by_name(replace(skeleton, rest_translations=steps))
    assert {role: found.get(role) for role in words} == words


@pytest.mark.parametrize(("word", "first"), [("finger", 0), ("n", 1)])
def test_fingers_that_are_counted_are_counted_from_the_thumb(word, first):
    """Two fingers, the first a little longer: its number tells that it is the thumb, if it is called a finger."""
    plain = in_plain_words()
    lost = [plain.names.index(f"{finger} {part} {side}") for side in SIDES
            for finger, part in (("index", "proximal"), ("ring", "proximal"), ("little", "proximal"))]  # fmt: skip
    names = dict(zip(plain.names, plain.names, strict=True))
    for side in SIDES:
        for part in ("metacarpal", "proximal", "distal"):
            names[f"thumb {part} {side}"] = f"{side} {word} 0"
        for part in ("proximal", "intermediate", "distal"):
            names[f"middle {part} {side}"] = f"{side} {word} 1"
    skeleton = without(plain, lost)
    steps = skeleton.rest_translations.copy()
    for side in SIDES:
        thumb, middle = (skeleton.names.index(f"{name} {side}") for name in ("thumb metacarpal", "middle proximal"))
        steps[thumb] = steps[middle] * [1.0, 0.9, 1.1]
        for lower in (1, 2):
            steps[thumb + lower] = steps[middle + lower] * 1.1
    counted = replace(skeleton, rest_translations=steps, names=tuple(names[name] for name in skeleton.names))
    found = fairswap.bones.roles_of(fairswap.Figure("counted", counted)).bones
    for side in SIDES:
        assert counted.names[found[f"thumb_proximal_{side}"]] == f"{side} {word} {first}"
        assert counted.names[found[f"middle_proximal_{side}"]] == f"{side} {word} {1 - first}"


def hung(performer, name, limb, holder, called):
    """A figure whose limbs hang on another bone, and its act, in which they do as before: keys hold them in place."""
    body, clip = figure(performer), act(name, performer)
    bones, old = fairswap.bones.roles_of(body).bones, body.skeleton
    limbs, onto = [bones[f"{limb}_{side}"] for side in SIDES], bones[holder]
    parents, turns, steps = old.parents.copy(), old.rest_rotations.copy(), old.rest_translations.copy()
    world, tracks = clip.world(), clip.poses.rotation_tracks.copy()
    moved = dict(zip(clip.poses.translated_bones.tolist(), clip.poses.translation_tracks, strict=True))
    back = conjugate(world.rotations[:, onto])
    for bone in limbs:
        parents[bone] = onto
        still = conjugate(old.rest.rotations[0, onto])
        turns[bone] = multiply(still, old.rest.rotations[0, bone])
        steps[bone] = rotate(still, old.rest.positions[0, bone] - old.rest.positions[0, onto])
        tracks[bone] = multiply(back, world.rotations[:, bone]).T
        moved[bone] = rotate(back, world.positions[:, bone] - world.positions[:, onto]).T
    skeleton = Skeleton(in_plain_words(called).names, parents, turns, steps, old.ends)
    poses = Poses(skeleton, tracks, np.array([*moved]), np.stack([*moved.values()]))
    return fairswap.Figure(performer, skeleton), Clip(clip.name, clip.rate, poses)


@cache
def on_the_neck():
    return hung("Osric", "turn-and-bow", "shoulder", "neck_1", {"neck_1": "neck"})


@cache
def on_the_spine():
    return hung("Osric", "turn-and-bow", "upper_leg", "spine_1", {"hips": "pelvis", "spine_1": "spine"})


@pytest.mark.parametrize("made", [on_the_neck, on_the_spine])
def test_arms_may_hang_on_the_neck_and_legs_on_the_spine(made):
    """Neck and pelvis are found all the same; what they do goes to another's, and not to its chest, or its spine's to
    its hips."""
    body, clip = made()
    roles = fairswap.bones.roles_of(body, clip=clip).bones
    told = (
        "neck_1",
        "head",
        "hips",
        "spine_1",
        "spine_4",
        "shoulder_left",
        "hand_right",
        "upper_leg_left",
        "foot_right",
    )
    assert {role: roles.get(role) for role in told} == {role: ROLES[role] for role in told}
    pair = swap_between(body, figure("Pip"), motion=clip)
    onto = pair.convert(clip, FREE)
    usual = swap_between(OSRIC, figure("Pip"), motion=act("turn-and-bow", "Osric"))
    before = usual.convert(act("turn-and-bow", "Osric"), FREE)
    assert np.degrees(angle_between(onto.world().rotations, before.world().rotations)).max() < 0.5


def test_what_is_above_a_spine_that_the_legs_hang_on_is_the_hips_only_if_it_is_called_so():
    body, clip = hung("Osric", "turn-and-bow", "upper_leg", "spine_1", {"hips": "master", "spine_1": "spine"})
    roles = fairswap.bones.roles_of(body, clip=clip).bones
    assert (roles["hips"], roles["spine_1"]) == (ROLES["spine_1"], ROLES["spine_2"])


@pytest.mark.parametrize(
    ("made", "bone", "keeps_to", "limb"),
    [(on_the_neck, "neck_1", "spine_4", "shoulder"), (on_the_spine, "spine_1", "hips", "upper_leg")],
)
def test_what_limbs_hang_on_keeps_to_what_they_are_part_of(made, bone, keeps_to, limb):
    """A neck would carry the shoulders along, a spine the legs. The rest does as the source does."""
    bow, (body, own) = act("turn-and-bow", "Osric"), made()
    onto = swap_between(OSRIC, body, motion=bow)
    carried = onto.convert(bow, FREE)
    theirs, mine = bow.world(), carried.world()
    moved = [ROLES[role] for role in ("hips", "spine_4", "head", "upper_arm_left", "hand_right", "lower_leg_left")]
    assert np.degrees(angle_between(mine.rotations[:, moved], theirs.rotations[:, moved])).max() < 0.5
    turned = multiply(mine.rotations[:, ROLES[bone]], conjugate(onto.target.reference.rotations[ROLES[bone]]))
    kept = multiply(theirs.rotations[:, ROLES[keeps_to]], conjugate(onto.source.reference.rotations[ROLES[keeps_to]]))
    assert np.degrees(angle_between(turned, kept)).max() < 0.5
    places = [world.positions[:, ROLES[f"{limb}_left"]] - world.positions[:, ROLES["hips"]] for world in (theirs, mine)]
    assert np.linalg.norm(places[0] - places[1], axis=1).max() < 0.005
    # One made the same way does what it did, that bone and all.
    again = swap_between(body, body, motion=own).convert(own, FREE)
    assert np.degrees(angle_between(again.world().rotations, own.world().rotations)).max() < 0.5
    limbs = [ROLES[f"{limb}_{side}"] for side in SIDES]
    assert np.abs(again.world().positions[:, limbs] - own.world().positions[:, limbs]).max() < 0.002
    assert compare_motions(Motion(onto.target, own), Motion(onto.target, again)).likeness > 95.0


def stands_and_sways(degrees=6.0, low_m=0.002):
    """Osric stands, one knee goes from bent to bent backward and back, as straight legs of stylised idles do."""
    clip = posed("Osric", {}, rigged(OSRIC).reference.hips[1] - low_m, seconds=6.0, breathing_m=0.0)
    edit, knee = clip.poses.edit(), ROLES["lower_leg_left"]
    swing = degrees * np.sin(np.linspace(0.0, 4.0 * np.pi, clip.frames))
    world = ChainWorld(clip.poses)
    hinge = rotate(conjugate(world.rotation(ROLES["upper_leg_left"])), np.tile(X, (clip.frames, 1)))
    turn = quaternion_from_axis_angle(hinge, np.radians(swing))
    edit.turn(knee, multiply(turn, clip.poses.rotations[:, knee]).T)
    thigh = ROLES["upper_leg_left"]
    hinge = rotate(conjugate(world.rotation(int(OSRIC.skeleton.parents[thigh]))), np.tile(X, (clip.frames, 1)))
    edit.turn(thigh, multiply(quaternion_from_axis_angle(hinge, np.radians(-0.5 * swing)),
                              clip.poses.rotations[:, thigh]).T)  # fmt: skip
    return clip.with_poses(edit.poses())


def test_the_knee_of_a_straight_leg_does_not_snap():
    clip = stands_and_sways()
    pair = swap_between(OSRIC, figure("Juniper"), motion=clip)
    made = pair.retarget(clip).clip
    swings = {}
    for known, moving in ((pair.source, clip), (pair.target, made)):
        bones = [known.roles.bones[f"{part}_left"] for part in ("upper_leg", "lower_leg")]
        world = moving.world().rotations[:, bones]
        swings[known.figure.name] = np.degrees(angle_between(world[1:], world[:-1])).max()
    assert swings["Osric"] < 1.0
    assert swings["Juniper"] < 2.0 * swings["Osric"]
    told = compare_motions(Motion(pair.source, clip), Motion(pair.target, made))
    assert told.jerk_ratio < 1.5
    assert told.result_footing.sole_below_cm < 0.4


@pytest.mark.parametrize("bend", [-4.0, -1.0, 2.0, 5.0])
def test_a_limb_that_is_nearly_straight_keeps_its_bend_for_a_hair_s_breadth(bend):
    """Of a leg of 0.8 m, two millimetres; a leg that is bent more is brought to its goal exactly."""
    clip = stands_and_sways(degrees=0.0, low_m=0.0)
    chain = ChainWorld(clip.poses.edit())
    knee = ROLES["lower_leg_left"]
    chain.turn(knee, multiply(about(X, bend), chain.rotation(knee)))
    limb = chain.limb(ROLES["upper_leg_left"], knee, ROLES["foot_left"])
    hinge = np.tile(X, (clip.frames, 1))
    for up, same in ((0.0015, True), (0.05, False)):
        upper, lower, reached = solve_limb(limb, limb.root, limb.end + up * Y, hinge)
        turned = np.degrees(
            angle_between(multiply(conjugate(upper), lower), multiply(conjugate(limb.upper), limb.lower))
        )
        assert (turned.max() < 0.1) == same
        off = np.linalg.norm(reached - limb.end - up * Y, axis=1).max()
        assert off < 0.0025


def test_an_arm_gives_way_before_it_is_stretched():
    """A hand is drawn away evenly, further than it reaches: the elbow straightens without a snap, and never bends
    back."""
    bent = {"lower_arm_left": about(Y, -60.0)}
    clip, known = posed("Osric", bent, rigged(OSRIC).reference.hips[1], breathing_m=0.0), rigged(OSRIC)
    chain = ChainWorld(clip.poses.edit())
    limb = chain.limb(*(ROLES[f"{part}_left"] for part in ("upper_arm", "lower_arm", "hand")))
    away = (limb.end - limb.root) / np.linalg.norm(limb.end - limb.root, axis=1)[:, None]
    push_hand(known, "left", chain, np.linspace(0.0, 0.25, clip.frames)[:, None] * limb.length[:, None] * away)
    limb = chain.limb(*(ROLES[f"{part}_left"] for part in ("upper_arm", "lower_arm", "hand")))
    bend = np.degrees(angle_between(limb.middle - limb.root, limb.end - limb.middle))
    steps = np.diff(bend)
    assert bend[0] > 50.0
    assert bend[-1] < 20.0
    assert steps.max() < 0.01
    assert -steps.min() < 3.0


def test_a_hand_leaves_the_floor_where_it_was_brought_to():
    """It slides over the floor while it rests there, and goes on without a leap."""
    clip = on_all_fours("Juniper")
    source = rigged(figure("Juniper"))
    edit, bones = clip.poses.edit(), source.roles.bones
    palm = min(palm.track(ChainWorld(clip.poses))[:, 1].mean() for palm in palms_of(source).values())
    edit.translations[bones["hips"]] = (
        edit.translation_track(bones["hips"]) - (palm - source.floor_m - 0.03) * Y[:, None]
    )
    arm = bones["upper_arm_left"]
    frames = np.arange(clip.frames)
    slides = np.interp(frames, [0, 40, 60], [0.0, 10.0, 60.0])
    world = ChainWorld(clip.poses)
    axis = rotate(conjugate(world.rotation(int(source.skeleton.parents[arm]))), np.tile(X, (clip.frames, 1)))
    edit.turn(arm, multiply(quaternion_from_axis_angle(axis, np.radians(slides)), clip.poses.rotations[:, arm]).T)
    clip = clip.with_poses(edit.poses())
    pair = swap_between(figure("Juniper"), figure("Pip"), motion=clip)
    made = pair.retarget(clip)
    assert any(touch.what == "floor" and touch.side == "left" for touch in made.touches)
    steps = []
    for known, moving in ((pair.source, clip), (pair.target, made.clip)):
        track = palms_of(known)["left"].track(ChainWorld(moving.poses)) / known.reference.leg_m
        steps.append(np.linalg.norm(np.diff(track, 2, axis=0), axis=1).max())
    assert steps[1] < 2.0 * steps[0] + 0.005


def bent_shins():
    """Osric with shins in two pieces, the second of which bends back and forth in his walk: no foot is where it was."""
    old, clip = OSRIC.skeleton, act("walk", "Osric")
    names, parents = list(old.names), old.parents.tolist()
    turns, steps = old.rest_rotations.tolist(), old.rest_translations.tolist()
    tracks = clip.poses.rotation_tracks
    for side in SIDES:
        shin, foot = ROLES[f"lower_leg_{side}"], ROLES[f"foot_{side}"]
        half = 0.5 * old.rest_translations[foot]
        place = names.index(old.names[foot])
        assert parents[place] == names.index(old.names[shin])
        # Before the foot, so that parents come first.
        for rows, value in ((names, f"hock {side}"), (parents, parents[place]), (turns, [0, 0, 0, 1]), (steps, half)):
            rows.insert(place, value)
        parents = [parent + (parent >= place) if at != place else parent for at, parent in enumerate(parents)]
        parents[place + 1], steps[place + 1] = place, half
        swing = 25.0 * np.sin(np.arange(clip.frames) / 9.0) + 25.0
        axis = np.cross(half, rotate(conjugate(old.rest.rotations[0, shin]), Z))
        bend = quaternion_from_axis_angle(np.tile(axis / np.linalg.norm(axis), (clip.frames, 1)), np.radians(swing))
        tracks = np.insert(tracks, place, bend.T, axis=0)
    skeleton = Skeleton(tuple(names), np.array(parents), np.array(turns), np.array(steps), frozenset())
    moved = [names.index(old.names[bone]) for bone in clip.poses.translated_bones]
    poses = Poses(skeleton, tracks, np.array(moved), clip.poses.translation_tracks)
    return fairswap.Figure("Hocks", skeleton), Clip("walk", clip.rate, poses)


def test_a_shin_in_pieces_that_bend_points_where_its_foot_is():
    body, clip = bent_shins()
    pair = swap_between(body, figure("Juniper"), motion=clip)
    made = pair.convert(clip, FREE)
    roles = [known.roles.bones for known in (pair.source, pair.target)]
    for side in SIDES:
        ways = []
        for bones, moving in zip(roles, (clip, made), strict=True):
            place = moving.world().positions
            way = place[:, bones[f"foot_{side}"]] - place[:, bones[f"lower_leg_{side}"]]
            ways.append(way / np.linalg.norm(way, axis=1)[:, None])
        assert np.degrees(angle_between(*ways)).max() < 0.1
    told = {row.role: row for row in compare_motions(Motion(pair.source, clip), Motion(pair.target, made)).roles}
    assert told["lower_leg_left"].turn_rms_degrees < 1.0
    # Turned about its length it is told.
    edit, shin = made.poses.edit(), roles[1]["lower_leg_left"]
    along = figure("Juniper").skeleton.rest_translations[roles[1]["foot_left"]]
    twist = quaternion_from_axis_angle(along / np.linalg.norm(along), np.radians(40.0))
    edit.turn(shin, multiply(made.poses.rotations[:, shin], twist).T)
    worse = compare_motions(Motion(pair.source, clip), Motion(pair.target, made.with_poses(edit.poses())))
    turned = {row.role: row for row in worse.roles}["lower_leg_left"]
    assert turned.turn_rms_degrees == pytest.approx(40.0, abs=2.0)
    assert "twisted" in {part.part: part for part in worse.parts}["legs"].because


def test_a_shin_that_bends_back_is_as_thick_as_its_first_piece():
    """What stands behind the line from knee to ankle makes no thick leg, that would be in the other one."""
    body = figure("Osric")
    shin, foot = ROLES["lower_leg_left"], ROLES["foot_left"]
    usual = capsules_of(rigged(body))["lower_leg_left"]
    world = rigged(body).reference_world
    knee, ankle = world.positions[0, shin], world.positions[0, foot]
    hock = 0.5 * (knee + ankle) - 0.2 * Z
    old = body.skeleton
    names, parents = (*old.names, "hock left"), np.append(old.parents, shin)
    parents[foot] = len(old)
    order = [*range(foot), len(old), *range(foot, len(old))]
    number = {bone: at for at, bone in enumerate(order)} | {-1: -1}
    steps, turns = (
        np.append(old.rest_translations, [[0, 0, 0]], axis=0),
        np.append(old.rest_rotations, [[0, 0, 0, 1]], 0),
    )
    undo = conjugate(old.rest.rotations[0, shin])
    steps[-1] = rotate(undo, hock - knee)
    steps[foot] = rotate(undo, ankle - hock)
    skeleton = Skeleton(
        tuple(names[bone] for bone in order), np.array([number[int(parents[bone])] for bone in order]), turns[order],
        steps[order], frozenset(number[bone] for bone in old.ends),
    )  # fmt: skip
    known = rigged(fairswap.Figure("Hock", skeleton))
    assert known.roles.bones["foot_left"] == foot + 1
    (cut,) = cut_limbs(known)
    assert (cut.holder, cut.following) == (shin, foot + 1)
    assert not len(cut.shares(skeleton.rest.positions[0]))
    found = capsules_of(known)["lower_leg_left"]
    np.testing.assert_allclose(np.linalg.norm(found.end), np.linalg.norm(hock - knee), rtol=1e-6)
    assert max(found.radii) < 1.5 * max(usual.radii)


def test_shaking_that_nobody_sees_is_no_jerk_and_shaking_that_one_sees_is():
    clip = posed("Osric", {}, rigged(OSRIC).reference.hips[1], breathing_m=0.001)
    source = rigged(OSRIC)
    dice = np.random.default_rng(4)
    arm, ratios = ROLES["upper_arm_left"], []
    for degrees in (0.003, 0.5):
        edit = clip.poses.edit()
        noise = quaternion_from_axis_angle(Y, np.radians(degrees) * dice.normal(size=clip.frames))
        edit.turn(arm, multiply(noise, clip.poses.rotations[:, arm]).T)
        shaken = clip.with_poses(edit.poses())
        told = compare_motions(Motion(source, clip), Motion(source, shaken))
        ratios.append(told.jerk_ratio)
    assert ratios[0] < 1.3 < 4.0 < ratios[1]


def test_a_foot_that_stood_for_a_frame_is_not_all_that_a_motion_is_judged_by():
    """Its stance lost scores better than a long one lost, all else alike."""
    idle, source = act("idle", "Osric"), rigged(OSRIC)
    told = compare_motions(Motion(source, idle), Motion(source, idle))
    losses = {}
    for seconds in (0.03, 0.3, 3.0):
        stood = replace(told.contacts, source_s=seconds, kept_s=0.0, lost_s=seconds, kept_share=0.0)
        parts = part_scores(replace(told, contacts=stood))
        losses[seconds] = {part.part: part for part in parts}["feet"].score
    assert losses[0.03] > 85.0 > losses[0.3] > losses[3.0] > 56.0
    assert losses[3.0] < 60.0


def finger_joints(known, side, among):
    """The joints of a hand and of those of its fingers that ``among`` has, too."""
    fingers = ("hand", "thumb", "index", "middle", "ring", "little")
    return [bone for role, bone in known.roles.bones.items()
            if role.startswith(fingers) and role.endswith(side) and role in among.roles.bones]  # fmt: skip


def test_fingers_stay_out_of_the_floor_where_the_source_s_do():
    """Fingers that point down to the floor touch it nearly; longer ones would go through."""
    clip, source, known = on_all_fours("Juniper"), rigged(figure("Juniper")), rigged(OSRIC)
    steps = OSRIC.skeleton.rest_translations.copy()
    long = [bone for bone in finger_joints(known, "left", known) if bone != ROLES["hand_left"]]
    steps[long] *= 1.6
    target = replace(OSRIC, skeleton=replace(OSRIC.skeleton, rest_translations=steps), meshes=())
    edit, hips = clip.poses.edit(), source.roles.bones["hips"]
    lowest = clip.world().positions[:, finger_joints(source, "left", known), 1].min()
    edit.translations[hips] = edit.translation_track(hips) - (lowest - source.floor_m - 0.005) * Y[:, None]
    clip = clip.with_poses(edit.poses())
    pair = swap_between(figure("Juniper"), target, motion=clip)
    made = pair.retarget(clip).clip.world().positions
    assert made[:, finger_joints(pair.target, "left", source), 1].min() - pair.target.floor_m > -0.005


def wrists_at(height):
    """Osric on all fours, arms plumb, wrists so high over the floor; and the same motion of one without fingers."""
    osric, clip = rigged(OSRIC), on_all_fours("Osric")
    fingers = [bone for side in SIDES for bone in finger_joints(osric, side, osric) if bone != ROLES[f"hand_{side}"]]
    bare = without(OSRIC.skeleton, fingers)
    kept = [OSRIC.skeleton.names.index(name) for name in bare.names]
    edit, hips = clip.poses.edit(), ROLES["hips"]
    wrist = clip.world().positions[:, ROLES["hand_left"], 1].min() - osric.floor_m
    edit.translations[hips] = edit.translation_track(hips) + (height - wrist) * Y[:, None]
    high = clip.with_poses(edit.poses())
    moved = np.array([kept.index(bone) for bone in high.poses.translated_bones])
    same = Poses(bare, high.poses.rotation_tracks[kept], moved, high.poses.translation_tracks)
    return fairswap.Figure("Bare", bare), Clip("down", clip.rate, same), high, fingers


@pytest.mark.parametrize("height", [0.05, 0.5])
def test_fingers_that_the_source_does_not_have_are_told_in_the_floor(height):
    bare, down, high, fingers = wrists_at(height)
    found = compare_motions(Motion(rigged(bare), down), Motion(rigged(OSRIC), high))
    told = {row.role: row.below_floor_cm for row in found.roles}
    deep = rigged(OSRIC).floor_m - high.world().positions[:, fingers, 1].min()
    assert max(told["hand_left"], told["hand_right"]) == pytest.approx(100.0 * max(deep, 0.0), abs=0.01)
    assert (told["hand_left"] > 5.0) == (height == 0.05)


def test_fingers_stay_out_of_the_floor_also_where_a_source_without_any_turns_its_hands():
    bare, down, _, fingers = wrists_at(0.06)
    edit = down.poses.edit()
    for side in SIDES:
        hand = bare.skeleton.names.index(OSRIC.skeleton.names[ROLES[f"hand_{side}"]])
        nod = quaternion_from_axis_angle(X, np.radians(8.0) * np.sin(np.arange(down.frames) / 6.0))
        edit.rotation_tracks[hand] = multiply(down.poses.rotation_tracks[hand].T, nod).T
    turning = down.with_poses(edit.poses())
    pair = swap_between(bare, OSRIC, motion=turning)
    floor = pair.target.floor_m
    free, made = pair.convert(turning, FREE), pair.retarget(turning).clip
    assert free.world().positions[:, fingers, 1].min() - floor < -0.04
    assert made.world().positions[:, fingers, 1].min() - floor > -0.005


def test_a_hand_that_a_skeleton_without_fingers_holds_to_the_floor_is_laid_down():
    """It is bent back, evenly, as little as it has to be, and not at all where it is high or the source turns it."""
    known = {}
    for height in (0.03, 0.5):
        bare, down, _, fingers = wrists_at(height)
        pair = swap_between(bare, OSRIC, motion=down)
        free, made = pair.convert(down, FREE), pair.retarget(down).clip
        hands = [ROLES[f"hand_{side}"] for side in SIDES]
        apart = np.degrees(angle_between(*(clip.world().rotations[:, hands] for clip in (free, made))))
        lowest = [clip.world().positions[:, fingers, 1].min() - pair.target.floor_m for clip in (free, made)]
        known[height] = apart, lowest
        told = compare_motions(Motion(pair.source, down), Motion(pair.target, made))
        hand = {part.part: part for part in told.parts}["hands"]
        assert hand.score > 75.0  # and not by the turn of the hands, which the source does not show
    assert known[0.03][0].min() > 20.0
    assert known[0.03][1][0] < -0.08 < -0.035 < known[0.03][1][1]
    assert known[0.5][0].max() < 1.0
    bare, down, _, _ = wrists_at(0.03)
    hand = fairswap.bones.roles_of(bare).bones["hand_left"]
    edit = down.poses.edit()
    wave = quaternion_from_axis_angle(
        np.tile(Z, (down.frames, 1)), np.radians(10.0) * np.sin(np.arange(down.frames) / 9.0)
    )
    edit.turn(hand, multiply(wave, down.poses.rotations[:, hand]).T)
    turned = down.with_poses(edit.poses())
    pair = swap_between(bare, OSRIC, motion=turned)
    clips = pair.convert(turned, FREE), pair.retarget(turned).clip
    left, right = (
        angle_between(*(clip.world().rotations[:, ROLES[f"hand_{side}"]] for clip in clips)) for side in SIDES
    )
    assert np.degrees(left).max() < 1.0 < 20.0 < np.degrees(right).min()


def test_how_a_hand_is_held_counts_where_it_is_high_whatever_the_source_shows():
    scores = {}
    for height in (0.03, 0.5):
        bare, down, high, _ = wrists_at(height)
        edit, hand = high.poses.edit(), ROLES["hand_left"]
        bend = np.tile(about(Z, 60.0), (high.frames, 1))
        edit.turn(hand, multiply(bend, high.poses.rotations[:, hand]).T)
        told = compare_motions(Motion(rigged(bare), down), Motion(rigged(OSRIC), high.with_poses(edit.poses())))
        (row,) = (row for row in told.roles if row.role == "hand_left")
        assert row.mean_degrees > 50.0
        scores[height] = row.rms_degrees
    assert scores[0.03] == 0.0
    assert scores[0.5] > 50.0
