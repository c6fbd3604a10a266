"""Clips put together: parts of one over another, one after another, on the floor; and corrections in words."""

import json
from pathlib import Path

import numpy as np
import pytest

import fairswap
from fairswap.bones.roles import SIDES, part_of
from fairswap.clips.blending import PARTS
from fairswap.clips.placing import stand_of
from fairswap.measure.contacts import contacts_of
from fairswap.measure.soles import lowest_and_speed, soles_of
from fairswap.model.poses import Poses
from fairswap.model.rotation import angle_between
from fairswap.model.skeleton import Skeleton
from making import act, figure, rigged, run

WALK, CLAP, TURN, IDLE = (act(name, "Juniper") for name in ("walk", "clap", "turn-and-bow", "idle"))
JUNIPER = rigged(figure("Juniper"))
LEFT, UP, AHEAD = np.eye(3)


def turned_apart(a, b):
    """Degrees ``(frames, bones)`` between the local rotations of two clips."""
    return np.degrees(angle_between(a.rotations, b.rotations))


@pytest.mark.parametrize("part", ["arms", "arms:left", "hands", "trunk", "head", "upper"])
def test_a_part_laid_over_a_clip_is_that_of_the_other_and_nothing_else_changes(part):
    made = fairswap.clips.blend(WALK, CLAP, JUNIPER, part, start="1", end="3", ease_s=0.25)
    rate = float(WALK.rate)
    over = fairswap.clips.rate(CLAP, WALK.rate)
    inside = np.arange(round(1.3 * rate), round(2.7 * rate))
    outside = [i for i in range(WALK.frames) if not rate <= i <= 3 * rate]
    assert turned_apart(made, WALK)[outside].max() < 1e-6
    mine = set(np.flatnonzero(turned_apart(made, WALK)[inside].max(axis=0) > 1e-4).tolist())
    assert mine
    theirs = over.rotations[inside - round(rate)][:, sorted(mine)]
    assert np.degrees(angle_between(made.rotations[inside][:, sorted(mine)], theirs)).max() < 1e-4
    wanted, _, side = part.partition(":")
    for bone in mine & set(JUNIPER.role_of_bone):
        role = JUNIPER.role_of_bone[bone]
        assert role != "hips"
        assert part_of(role) not in ("legs", "feet")
        assert not side or role.endswith(side)
        if wanted in ("arms", "hands", "head"):
            assert ("arm" in role or "shoulder" in role or part_of(role) == "hands") == (wanted != "head")

    # Nothing jumps: no bone turns faster than in one of the two, but for what the ease adds.
    def fastest(clip):
        return np.degrees(angle_between(clip.rotations[1:], clip.rotations[:-1])).max()

    assert fastest(made) < max(fastest(WALK), fastest(over)) + 25.0


@pytest.mark.parametrize(("start", "end"), [("1", "3"), (None, "2"), ("4", "6")])
def test_legs_of_another_clip_go_on_from_where_the_body_is_and_feet_stand(start, end):
    made = fairswap.clips.blend(WALK, TURN, JUNIPER, "lower", start=start, end=end)
    hips = [clip.world().positions[:, JUNIPER.roles.bones["hips"]] for clip in (made, WALK)]
    steps = [np.linalg.norm(np.diff(path[:, [0, 2]], axis=0), axis=1).max() for path in hips]
    assert steps[0] < steps[1] * 1.7  # the body does not leap
    rate, contacts = float(made.rate), contacts_of(JUNIPER, made)
    assert contacts.count() >= 6
    for side, sole in soles_of(JUNIPER).items():
        heights, speeds = lowest_and_speed(sole.track(made.world()), rate)
        standing = contacts.standing(side)
        # No more than those of the clips it is made of.
        assert 100 * np.median(speeds[standing]) < 2.5
        assert heights.min() > JUNIPER.floor_m - 0.01
    # Where it goes on walking it goes as it did, from where it is then.
    if end != "6":
        after = slice(round((float(end) + 0.5) * rate), None)
        ways = [np.linalg.norm((path[after][-1] - path[after][0])[[0, 2]]) for path in hips]
        assert ways[0] == pytest.approx(ways[1], abs=0.08)


def test_the_face_of_another_clip():
    spoken = fairswap.load(Path(fairswap.demo_file("juniper.glb"))).figure
    mesh = next(i for i, mesh in enumerate(spoken.meshes) if mesh.morph_names)
    count = len(spoken.meshes[mesh].morph_names)
    from fairswap.model.poses import MorphTrack

    weights = np.zeros((count, CLAP.frames))
    weights[2] = 1.0
    smiling = CLAP.with_poses(CLAP.poses.edit().poses(morph_tracks=(MorphTrack(mesh, weights),)))
    made = fairswap.clips.blend(WALK, smiling, JUNIPER, "face", start="1", end="2", ease_s=0.2)
    track = made.poses.morph_tracks[0].weights
    assert track[:, 0].max() == 0.0
    assert track[2, 45] == pytest.approx(1.0)
    assert turned_apart(made, WALK).max() < 1e-6


@pytest.mark.parametrize(
    ("words", "says"),
    [
        (["--part", "wings"], "'wings' is not a part of the body. Give upper"),
        (["--part", "arms:middle"], "'arms:middle' is not a part"),
        (["--part", "arms", "--from", "5", "--to", "9"], "which lasts 6.00 s"),
        (["--part", "arms", "--from", "0", "--to", "5.9", "--over-clip", "Clap"], "and from 0 to 5.9 s is longer"),
    ],
)
def test_what_cannot_be_laid_over_is_told(words, says):
    fairswap.save("walk.glb", figure("Juniper"), [WALK])
    fairswap.save("clap.glb", figure("Juniper"), [CLAP])
    done = run("clip", "blend", "walk.glb", "clap.glb", *words, "-o", "out.glb")
    assert done.returncode in (1, 2)
    assert says in " ".join(done.stderr.split())


def test_every_part_is_known_on_the_command_line():
    fairswap.save("walk.glb", figure("Juniper"), [WALK])
    fairswap.save("clap.glb", figure("Juniper"), [CLAP])
    for part in PARTS:
        done = run("clip", "blend", "walk.glb", "clap.glb", "--part", part, "--from", "30f", "-o", f"{part}.glb")
        assert done.returncode == 0, done.stderr
        assert fairswap.load(f"{part}.glb").clips[0].frames == WALK.frames


def test_joining_says_where_each_ends_and_that_rates_are_mixed():
    fairswap.save("a.glb", figure("Juniper"), [WALK])
    fairswap.save("b.glb", figure("Juniper"), [TURN])
    done = run("clip", "join", "a.glb", "b.glb", "-o", "joined.glb", "--json")
    assert done.returncode == 0, done.stderr
    report = json.loads(done.stdout)
    whole = fairswap.load("joined.glb").clips[0]
    for part in report["parts"]:
        _, place = stand_of(whole, round(part["stop_s"] * float(whole.rate)))
        assert [part["ends"]["left_m"], part["ends"]["ahead_m"]] == pytest.approx(place[[0, 2]].tolist(), abs=1e-3)
    assert report["parts"][0]["stop_s"] == report["parts"][1]["start_s"]
    assert [row["code"] for row in report["findings"]] == ["rates-mixed"]


def test_clips_go_on_from_each_other_and_stay_clips_of_their_own():
    fairswap.save("a.glb", figure("Juniper"), [WALK])
    fairswap.save("b.glb", figure("Juniper"), [IDLE])
    assert run("clip", "join", "a.glb", "b.glb", "--separate", "-o", "both.glb").returncode == 0
    assert run("clip", "place", "b.glb", "--after", "a.glb", "-o", "placed.glb").returncode == 0
    first, second = fairswap.load("both.glb").clips
    alone = fairswap.load("placed.glb").clips[0]
    for later in (second, alone):
        ends, begins = stand_of(first, first.frames - 1), stand_of(later, 0)
        np.testing.assert_allclose(begins[1], ends[1], atol=1e-5)
        assert begins[0] == pytest.approx(ends[0], abs=1e-5)
    assert run("clip", "join", "a.glb", "b.glb", "--separate", "--match", "-o", "x.glb").returncode == 2


def corrected(clip, text):
    """The clip with a layer written as text."""
    Path("layer.toml").write_text(f'fairswap = "layers/1"\n[[layer]]\n{text}\n')
    return fairswap.clips.layer(clip, JUNIPER, "layer.toml")


@pytest.mark.parametrize("side", SIDES)
@pytest.mark.parametrize(
    ("part", "end", "word", "way"),
    [
        ("upper_leg", "foot", "forward", lambda out: AHEAD),
        ("upper_leg", "foot", "outward", lambda out: out),
        ("upper_arm", "hand", "forward", lambda out: AHEAD),
        ("upper_arm", "hand", "outward", lambda out: out),  # in the idle its arms hang
        ("foot", "toes", "forward", lambda out: UP),
        ("foot", "toes", "outward", lambda out: out),
        ("index_proximal", "index_distal", "curl", lambda out: -out),  # a hanging hand's palm looks to the thigh
    ],
)
def test_words_mean_the_same_left_and_right(side, part, end, word, way):
    out = LEFT if side == "left" else -LEFT
    made = corrected(IDLE, f'role = "{part}_{side}"\n{word} = 20')
    start, tip = JUNIPER.roles.bones[f"{part}_{side}"], JUNIPER.roles.bones[f"{end}_{side}"]
    arms = [clip.world().positions[:, tip] - clip.world().positions[:, start] for clip in (IDLE, made)]
    moved = (arms[1] - arms[0]).mean(axis=0)
    assert moved @ way(out) > 0.7 * np.linalg.norm(moved)
    apart = angle_between(*(arm / np.linalg.norm(arm, axis=1)[:, None] for arm in arms))
    assert np.degrees(apart).mean() == pytest.approx(20.0, abs=3.0)


@pytest.mark.parametrize("side", SIDES)
def test_in_turns_a_limb_about_its_own_length_to_the_middle(side):
    out = LEFT if side == "left" else -LEFT
    made = corrected(IDLE, f'role = "upper_leg_{side}"\nin = 25')
    foot, toes, knee = (JUNIPER.roles.bones[f"{part}_{side}"] for part in ("foot", "toes", "lower_leg"))
    worlds = [clip.world().positions for clip in (IDLE, made)]
    assert np.abs(worlds[1][:, knee] - worlds[0][:, knee]).max() < 0.01
    toe = [(world[:, toes] - world[:, foot]).mean(axis=0) for world in worlds]
    assert (toe[1] - toe[0]) @ out < -0.03


def test_a_bone_without_a_role_is_corrected_by_its_name():
    skirt = next(name for bone, name in enumerate(JUNIPER.skeleton.names)
                 if bone not in JUNIPER.role_of_bone and JUNIPER.skeleton.parents[bone] >= 0)  # fmt: skip
    made = corrected(IDLE, f'bone = "{skirt}"\nturn = [15, 0, 0]')
    apart = turned_apart(made, IDLE).max(axis=0)
    bone = JUNIPER.skeleton.names.index(skirt)
    assert apart[bone] == pytest.approx(15.0, abs=1e-3)
    assert np.delete(apart, bone).max() < 1e-6


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ('role = "head"\noutward = 5', "'outward' says nothing of head: around, forward, left do"),
        ('role = "index_distal_left"\nforward = 5', "'forward' says nothing of index_distal_left: curl do"),
        ('bone = "spine"\nforward = 5', "'forward' is for roles"),
        ('bone = "nobody"\nturn = [1, 0, 0]', "has none of that name"),
        ('bone = "x"\nrole = "head"', "needs a role, a bone or a pose"),
        ('role = "upper_leg_left"\nkeys = [{ time = 0.0, curl = 4 }]', "layer[0].keys[0]"),
        ('role = "upper_leg_left"\nforward = nan', "not a finite number"),
    ],
)
def test_words_that_say_nothing_are_told(text, says):
    with pytest.raises(fairswap.FairSwapError) as told:
        corrected(IDLE, text)
    assert says in str(told.value)


def standing_still(clip, one, frames, at, root_keyed):
    """The first pose of a clip, held, somewhere else; some programs key every bone's place, also where it rests."""
    hips = rigged(one).roles.bones["hips"]
    edit = clip.poses.picked(np.zeros(frames, dtype=np.intp)).edit()
    edit.translations[hips] = np.repeat(edit.translation_track(hips)[:, :1], frames, axis=1) + np.array(at)[:, None]
    if root_keyed:
        edit.translations[0] = np.repeat(clip.skeleton.rest_translations[0][:, None], frames, axis=1)
    return clip.with_poses(edit.poses())


@pytest.mark.parametrize("match", [False, True], ids=["", "match"])
@pytest.mark.parametrize("travel", ["hips", "root"])
@pytest.mark.parametrize(("frames", "root_keyed"), [(1, True), (30, True), (30, False)])
@pytest.mark.long(but=5)
def test_a_pose_that_is_held_is_joined_where_the_body_is(frames, root_keyed, travel, match):
    """Whatever bone moves in a clip and whichever has a place: no body leaps from one clip to the next."""
    one = figure("Juniper")
    options = fairswap.MotionOptions(travel=travel, feet="free", hands="free")
    walk = fairswap.Swap(rigged(one), rigged(one)).retarget(act("walk", "Juniper"), options).clip
    still = standing_still(walk, one, frames, (3.0, 0.0, 1.0), root_keyed)
    hips = rigged(one).roles.bones["hips"]
    usual = np.linalg.norm(np.diff(walk.world().positions[:, hips], axis=0), axis=1).max()
    for clips in ((walk, still), (still, walk), (walk, still, walk)):
        made = fairswap.clips.join(clips, one, blend_s=0.0 if frames == 1 else 0.3, match=match)
        steps = np.linalg.norm(np.diff(made.world().positions[:, hips], axis=0), axis=1)
        assert steps.max() < 1.4 * usual, [clip.name for clip in clips]


def test_a_cycle_is_found_where_the_body_stands_still_for_a_while():
    """Of a figure whose root has a place of its own that it never leaves."""
    clip = act("turn-and-bow", "Juniper")
    edit = clip.poses.edit()
    edit.translations[0] = np.repeat(clip.skeleton.rest_translations[0][:, None], clip.frames, axis=1)
    keyed = clip.with_poses(edit.poses())
    found = [[(row.first, row.last) for row in fairswap.clips.cycles(each)] for each in (clip, keyed)]
    assert found[0] == found[1]
    assert fairswap.clips.loop(keyed).clip.frames == fairswap.clips.loop(clip).clip.frames


@pytest.mark.parametrize("travel", ["hips", "root"])
def test_legs_that_stand_still_are_laid_over_a_walk_where_it_is(travel):
    """Whichever bone the walk travels on, and however far from it the pose was made; then the walk goes on."""
    one = figure("Juniper")
    options = fairswap.MotionOptions(travel=travel, feet="free", hands="free")
    walk = fairswap.Swap(rigged(one), rigged(one)).retarget(act("walk", "Juniper"), options).clip
    still = standing_still(act("idle", "Juniper"), one, 61, (3.0, 0.0, 1.0), True)
    made = fairswap.clips.blend(walk, still, one, "legs", start="2", end="4", ease_s=0.4)
    hips = rigged(one).roles.bones["hips"]
    steps = [np.linalg.norm(np.diff(clip.world().positions[:, hips], axis=0), axis=1) for clip in (walk, made)]
    assert steps[1].max() < 2.0 * steps[0].max()
    assert steps[1][80:100].max() < 0.2 * steps[0].max()  # it stands
    assert steps[1][150:].max() > 0.5 * steps[0].max()  # and walks on


def test_a_cycle_of_a_walk_on_its_root_closes_and_stays_on_the_spot_if_asked():
    one = figure("Juniper")
    options = fairswap.MotionOptions(travel="root", feet="free", hands="free")
    walk = fairswap.Swap(rigged(one), rigged(one)).retarget(act("walk", "Juniper"), options).clip
    hips = rigged(one).roles.bones["hips"]
    for travel, far in (("kept", 1.0), ("removed", 0.0)):
        cycle = fairswap.clips.loop(walk, travel=travel).clip
        place = cycle.world().positions[:, hips]
        steps = np.linalg.norm(np.diff(place, axis=0), axis=1)
        assert steps.max() < 0.06
        assert np.linalg.norm((place[-1] - place[0])[[0, 2]]) == pytest.approx(far, abs=0.35 if far else 0.02)
        # The last pose is the first one: all but the place is the same.
        first, last = (cycle.world().positions[frame] - place[frame] for frame in (0, -1))
        if travel == "removed":
            assert np.abs(first - last)[1:].max() < 0.03


def test_a_handle_that_moves_beside_the_body_does_not_carry_it():
    """Rigs come with handles for hands and feet that are keyed too, and stand before the hips in the file."""
    one, walk = figure("Juniper"), act("walk", "Juniper")
    old, hips = one.skeleton, rigged(one).roles.bones["hips"]
    skeleton = Skeleton(
        (old.names[0], "foot handle", *old.names[1:]),
        np.array([-1, 0, *(parent + (parent > 0) for parent in old.parents[1:])]),
        np.insert(old.rest_rotations, 1, [0.0, 0.0, 0.0, 1.0], axis=0),
        np.insert(old.rest_translations, 1, [0.3, 0.0, 0.0], axis=0),
    )
    tracks = {bone + (bone > 0): track for bone, track in walk.poses.translation_by_bone().items()}
    tracks[1] = np.array([0.3, 0.0, 0.0])[:, None] + 0.2 * np.sin(np.arange(walk.frames) / 9.0) * LEFT[:, None]
    bones = np.array(sorted(tracks))
    rotations = np.insert(walk.poses.rotation_tracks, 1, np.array([0.0, 0.0, 0.0, 1.0])[:, None], axis=0)
    keyed = fairswap.Clip("walk", walk.rate, Poses(skeleton, rotations, bones, np.array([tracks[b] for b in bones])))
    for change in (
        lambda clip: fairswap.clips.place(clip, (2.0, 1.0), facing_degrees=90.0),
        lambda clip: fairswap.clips.loop(clip, travel="removed").clip,
        lambda clip: fairswap.clips.cut(clip, ["a=0.5..2"]).clips[0],
    ):
        plain, made = change(walk), change(keyed)
        assert made.frames == plain.frames
        off = made.world().positions[:, hips + 1] - plain.world().positions[:, hips]
        assert np.abs(off).max() < 1e-6
    # What is told of it is told of the body, too.
    told = [fairswap.clips.describe(clip) for clip in (walk, keyed)]
    assert told[0].distance_m == pytest.approx(told[1].distance_m)
