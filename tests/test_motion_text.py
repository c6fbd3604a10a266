"""What a motion file without a mesh says of a figure: the same as the figure's own file did."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

import fairswap
from fairswap.model.poses import Poses
from fairswap.model.skeleton import Skeleton, parents_first
from fairswap.pose.rest import rest_pose_of
from making import TROUPE, act, clip_of, figure, random_poses, random_skeleton, rigged, run
from rewrites import rewritten
from test_blocks import blocks
from test_few_parts import BODIES
from test_limbs_apart import WAYS, apart, plain

UNTURNED = np.array([0.0, 0.0, 0.0, 1.0])


def in_another_order(skeleton, seed):
    """The same bones, holders before what they hold, but limbs through one another; and where each was."""
    random, parents = np.random.default_rng(seed), skeleton.parents.tolist()
    order, free = [], [bone for bone, parent in enumerate(parents) if parent < 0]
    while free:
        order.append(free.pop(int(random.integers(len(free)))))
        free += [bone for bone, parent in enumerate(parents) if parent == order[-1]]
    at = {bone: index for index, bone in enumerate(order)}
    mixed = Skeleton(
        tuple(skeleton.names[bone] for bone in order), [at.get(parents[bone], -1) for bone in order],
        skeleton.rest_rotations[order], skeleton.rest_translations[order], frozenset(at[end] for end in skeleton.ends),
    )  # fmt: skip
    return mixed, order


def kind_of_rest(document):
    return rest_pose_of(document.figure, rigged(document.figure).roles).kind


def places_by_name(clip):
    world = clip.world().positions
    return {name: world[:, bone] for bone, name in enumerate(clip.skeleton.names) if bone not in clip.skeleton.ends}


@pytest.mark.parametrize(
    ("suffix", "seed"),
    [(".bvh", 0), (".bvh", 1), (".bvh", 2), (".csv", 0), (".glb", 0), (".dae", 1), (".x3d", 2), (".usda", 1)],
)
@pytest.mark.long(but=3)
def test_bones_in_any_order_are_where_they_were(suffix, seed):
    """A skeleton whose bones do not follow each other limb by limb: values belong to the bones they are written for."""
    mixed, _ = in_another_order(random_skeleton(14, seed), seed)
    poses = random_poses(mixed, 5, seed, moved=(0,))
    fairswap.save(f"mixed{suffix}", fairswap.Figure("mixed", mixed), [clip_of(poses)], force=True)
    read = fairswap.load(f"mixed{suffix}").clips[0]
    before, after = places_by_name(clip_of(poses)), places_by_name(read)
    # A file of random bones stands anywhere: seen from its first bone.
    top, again = (places[mixed.names[0]] for places in (before, after))
    turn = np.linalg.lstsq(
        np.concatenate([before[name] - top for name in before]),
        np.concatenate([after[name] - again for name in before]), rcond=None,
    )[0]  # fmt: skip
    assert np.abs(turn @ turn.T - np.eye(3)).max() < 1e-3
    for name in before:
        assert np.abs((before[name] - top) @ turn - (after[name] - again)).max() < 1e-4, name


def test_a_person_in_any_order_is_the_same_in_motion_text():
    who, clip = figure("Osric"), act("walk", "Osric")
    mixed, order = in_another_order(who.skeleton, 4)
    at = {bone: index for index, bone in enumerate(order)}
    poses = clip.poses
    moved = np.array([at[bone] for bone in poses.translated_bones.tolist()])
    sort = np.argsort(moved)
    walk = clip_of(Poses(mixed, poses.rotation_tracks[order], moved[sort], poses.translation_tracks[sort]), "Walk")
    fairswap.save("mixed.bvh", fairswap.Figure("Osric", mixed), [walk])
    fairswap.save("sorted.bvh", fairswap.Figure("Osric", who.skeleton), [clip])
    mixed_up, plainly = (fairswap.compare((who, clip), name) for name in ("mixed.bvh", "sorted.bvh"))
    assert mixed_up.likeness == pytest.approx(plainly.likeness, abs=0.01)
    assert parents_first(mixed.parents.tolist()) == list(range(len(mixed)))  # a skeleton like any other


@pytest.mark.parametrize("way", ["saved in mid motion", "turned aside"])
@pytest.mark.long(but=1)
def test_a_figure_saved_in_mid_motion_rests_in_a_t_in_motion_text(way):
    """Its mesh tells how it stands, and is not there: what is read from the text alone is what was made."""
    if way == "saved in mid motion":
        Path("crouched.glb").write_bytes(rewritten(plain(), way))
        crouched = fairswap.load("crouched.glb")
    else:  # it rests as in a frame of the walk, its side ahead
        who, clip = figure("Osric"), act("walk", "Osric")
        local = clip.poses.rotation_tracks[:, :, 20].copy()
        skeleton = replace(who.skeleton, rest_rotations=local)
        crouched = fairswap.Document("crouched", "", who.space, (replace(who, skeleton=skeleton, source=None),), (
            replace(clip, poses=replace(clip.poses, skeleton=skeleton), origin=None),))  # fmt: skip
    bow = fairswap.demo_motion("turn-and-bow", by="Juniper")
    made = fairswap.convert(bow, crouched)
    made.save("bow.bvh", force=True)
    read = fairswap.load("bow.bvh")
    assert kind_of_rest(read) == "T"
    assert fairswap.compare(bow, "bow.bvh").likeness == pytest.approx(made.done[0].comparison.likeness, abs=8.0)
    body = [made.figure.skeleton.names[bone] for role, bone in rigged(made.figure).roles.bones.items()]
    ours, theirs = places_by_name(made.clips[0]), places_by_name(read.clips[0])
    assert max(np.abs(ours[name] - theirs[name]).max() for name in body) < 1e-4


def test_clips_of_such_a_figure_become_motion_text_as_well():
    Path("crouched.glb").write_bytes(rewritten(plain(), "saved in mid motion"))
    done = run("clip", "reverse", "crouched.glb", "-o", "back.bvh")
    assert done.returncode == 0, done.stderr
    assert "it rests in a T there" in " ".join(done.stdout.split())
    assert kind_of_rest(fairswap.load("back.bvh")) == "T"
    back = fairswap.clips.reverse(fairswap.load("crouched.glb").clips[0])
    ours, theirs = places_by_name(back), places_by_name(fairswap.load("back.bvh").clips[0])
    assert max(np.abs(ours[name] - theirs[name]).max() for name in ours if name in theirs) < 1e-4


@pytest.mark.long
def test_a_figure_that_stands_rests_in_motion_text_as_it_does():
    made = fairswap.convert(fairswap.demo_motion("walk", by="Juniper"), figure("Osric"))
    made.save("walk.bvh", force=True)
    assert kind_of_rest(fairswap.load("walk.bvh")) == rest_pose_of(figure("Osric"), rigged(figure("Osric")).roles).kind


@pytest.mark.parametrize("way", WAYS)
@pytest.mark.long(but=1)
def test_limbs_that_hang_beside_the_body_hang_on_it_in_motion_text(way):
    """One root, from which everything hangs: programs read no second one."""
    document = apart(way)
    fairswap.save("one.bvh", document.figure, document.clips, force=True)
    text = Path("one.bvh").read_text()
    assert text.count("ROOT") == 1
    read = fairswap.load("one.bvh")
    assert set(rigged(read).roles.bones) >= set(rigged(document.figure).roles.bones) - {"jaw", "eye_left", "eye_right"}
    ours, theirs = places_by_name(document.clips[0]), places_by_name(read.clips[0])
    assert max(np.abs(ours[name] - theirs[name]).max() for name in ours if name in theirs) < 1e-4


@pytest.mark.parametrize("build", ["six", "ten", "with pelvis"])
@pytest.mark.long(but=1)
def test_a_body_of_few_parts_is_told_by_its_bones(build, tmp_path):
    """Hips, hands, feet that its file lacks are written where they are reckoned to be; stiff limbs are not parted."""
    juniper = fairswap.Document("act", "", figure("Juniper").space, (figure("Juniper"),), (act("walk", "Juniper"),))
    made = fairswap.convert(juniper, blocks(BODIES[build]).load(tmp_path), face=fairswap.FaceOptions("none"))
    made.save("moved.bvh", force=True)
    read = fairswap.load("moved.bvh")
    whole, bare = rigged(made.figure), rigged(read.figure)
    ours, theirs = made.clips[0].world().positions, read.clips[0].world().positions
    for role in ("hips", "spine_1", "head", "upper_arm_left", "upper_arm_right", "upper_leg_left", "upper_leg_right"):
        apart = np.linalg.norm(ours[:, whole.roles.bones[role]] - theirs[:, bare.roles.bones[role]], axis=1)
        assert apart.max() < 1e-4, role
    assert fairswap.compare(juniper, read).likeness > 60.0  # 43 where a leg was taken to end elsewhere
    # And from there again, as it came: nothing is added twice.
    fairswap.save("again.bvh", read.figure, read.clips, force=True)
    joints = [[line for line in Path(name).read_text().splitlines() if "JOINT" in line or "ROOT" in line]
              for name in ("moved.bvh", "again.bvh")]  # fmt: skip
    assert joints[0] == joints[1]


def test_a_head_beside_what_guards_the_neck_is_the_head():
    """Bones alone: a neck that holds a head and a collar of armour."""
    skeleton = figure("Osric").skeleton
    roles = rigged(figure("Osric")).roles.bones
    neck = max((role for role in roles if role.startswith("neck_")), default="head")
    names = [name if bone != roles["head"] else "Head" for bone, name in enumerate(skeleton.names)]
    names[roles[neck]] = "Neck"
    keep = [bone for bone in range(len(skeleton)) if bone not in set(skeleton.below(roles["head"]).tolist())]
    at = {bone: index for index, bone in enumerate(keep)}
    parents = [at.get(int(skeleton.parents[bone]), -1) for bone in keep]
    places = [*skeleton.rest_translations[keep], np.array([0.0, 0.02, -0.03]), np.array([0.0, 0.1, 0.05])]
    turns = [*skeleton.rest_rotations[keep], *np.tile([0.0, 0.0, 0.0, 1.0], (2, 1))]
    armed = Skeleton(
        (*(names[bone] for bone in keep), "Collar plate", "Helmet"),
        [*parents, at[roles[neck]], at[roles["head"]]], turns, places,
    )  # fmt: skip
    found = rigged(fairswap.Figure("guard", armed)).roles.bones
    assert armed.names[found["head"]] == "Head"
    assert armed.names[found[neck]] == "Neck"


def test_a_body_that_nothing_tells_the_front_of_rests_where_its_file_says():
    """Legs that hang beside the trunk's foot: no body with two legs is seen, and the clip crouches all the time."""
    joints = """ROOT hips
{
 OFFSET 0 1 0
 CHANNELS 6 Xposition Yposition Zposition Zrotation Xrotation Yrotation
 JOINT mast
 {
  OFFSET 0 0.5 -0.4
  CHANNELS 3 Zrotation Xrotation Yrotation
  End Site
  {
   OFFSET 0 0.4 0
  }
 }
 JOINT post
 {
  OFFSET 0 -1 0
  CHANNELS 3 Zrotation Xrotation Yrotation
  End Site
  {
   OFFSET 0 0 0.2
  }
 }
}"""
    crouching = " ".join(["0", "0.95", "0"] + ["0"] * 3 + ["10", "20", "0"] + ["0"] * 3)
    text = f"HIERARCHY\n{joints}\nMOTION\nFrames: 3\nFrame Time: 0.04\n" + f"{crouching}\n" * 3
    Path("odd.bvh").write_text(text)
    read = fairswap.load("odd.bvh")
    assert "space-guessed" in [finding.code for finding in read.findings]
    assert read.figure.skeleton.rest.positions[0, 0, 1] == pytest.approx(1.0)


@pytest.mark.parametrize(("who", "name"), [("Pip", "walk"), ("Pip", "clap"), ("Juniper", "walk"), ("Osric", "clap")])
@pytest.mark.long(but=1)
def test_a_result_in_motion_text_is_nearly_what_was_told_of_it(who, name):
    """Its ends tell where soles leave the floor and fingertips point: no mesh does (a walk of Pip's had 37 of 100)."""
    act_of = "Juniper" if who != "Juniper" else "Osric"
    motion = fairswap.demo_motion(name, by=act_of)
    made = fairswap.convert(motion, figure(who))
    made.save("result.bvh", force=True)
    assert fairswap.compare(motion, "result.bvh").likeness > made.done[0].comparison.likeness - 6.0


def test_the_ends_of_a_shoe_and_of_a_stub_are_where_they_bear_and_point():
    """A shoe ends where its sole leaves the floor, behind its round tip; a mitten's stub on the way its bone points."""
    pip = figure("Pip")
    fairswap.save("pip.bvh", pip, [act("idle", "Pip")])
    read = fairswap.load("pip.bvh").figure.skeleton
    bones, places = rigged(pip).roles.bones, read.rest.positions[0]
    at = {name: bone for bone, name in enumerate(read.names)}
    shoe = at[pip.skeleton.names[bones["foot_left"]]]
    end = places[read.children[shoe][0]]
    skin = np.concatenate([mesh.vertices[mesh.main_bones == bones["foot_left"]] for mesh in pip.meshes])
    low = skin[skin[:, 1] < 0.006]
    assert end[1] < 0.006
    assert end[2] == pytest.approx(low[:, 2].max(), abs=0.005)
    assert end[2] < skin[:, 2].max() - 0.02
    stub = at[pip.skeleton.names[bones["middle_intermediate_left"]]]
    way = places[read.children[stub][0]] - places[stub]
    frame = Rotation.from_quat(pip.skeleton.rest.rotations[0, bones["middle_intermediate_left"]])
    own = frame.inv().apply(way / np.linalg.norm(way))
    assert np.abs(own).max() > 0.99  # along an axis of its own


def with_joints_of_no_length(clip, roles):
    """A joint in the place of the hips for each thigh, and a last one of the spine where the neck is: recorders write
    skeletons so. They never turn."""
    skeleton, poses = clip.skeleton, clip.poses
    thighs, neck = [roles["upper_leg_left"], roles["upper_leg_right"]], roles["neck_1"]
    spine, still = int(skeleton.parents[neck]), np.tile(UNTURNED, (poses.frames, 1)).T
    rows, tracks, at = [], [], {}

    def add(name, parent, rest, place, track):
        rows.append((name, parent, rest, place))
        tracks.append(track)
        return len(rows) - 1

    for bone, parent in enumerate(skeleton.parents.tolist()):
        above, place = at.get(parent, -1), skeleton.rest_translations[bone]
        if bone in thighs:
            above = add(
                f"{skeleton.names[bone]}Socket", above, UNTURNED, np.zeros(3), np.tile(UNTURNED, (poses.frames, 1)).T
            )
        if parent == spine:
            top = skeleton.rest_translations[neck]
            if "top" not in at:
                at["top"] = add("SpineTop", above, UNTURNED, top, still)
            above, place = at["top"], place - top
        at[bone] = add(skeleton.names[bone], above, skeleton.rest_rotations[bone], place, poses.rotation_tracks[bone])
    names, parents, rests, places = zip(*rows, strict=True)
    own = poses.translation_by_bone()
    made = Poses(Skeleton(names, parents, rests, places), np.array(tracks), [at[bone] for bone in own], [*own.values()])
    return clip_of(made, clip.name, clip.rate)


def test_joints_of_no_length_say_nothing_about_the_body():
    """Legs that begin in one place hid which way the body stands; a spine that ends on the neck was 90 degrees off."""
    fairswap.save("plain.bvh", figure("Juniper"), [act("walk", "Juniper")])
    plain = fairswap.load("plain.bvh")
    more = with_joints_of_no_length(plain.clips[0], rigged(plain.figure).roles.bones)
    fairswap.save("more.bvh", fairswap.Figure("more", more.skeleton), [more])
    assert "space-found" in [finding.code for finding in fairswap.load("more.bvh").findings]
    made = {name: fairswap.convert(f"{name}.bvh", TROUPE / "osric.glb") for name in ("plain", "more")}
    assert "correction-large" not in [finding.code for finding in made["more"].findings]
    tracks = [each.clips[0].poses.rotations for each in made.values()]
    dots = np.abs(np.sum(tracks[0] * tracks[1], axis=-1))
    assert np.degrees(2.0 * np.arccos(np.minimum(dots, 1.0))).max() < 0.5
