"""Bodies that are built in an odd way: many toes, bones put in, channels that name an axis twice, broad boots."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

import fairswap
from fairswap.bones.roles import FINGERS
from fairswap.demo.anatomy import body_of
from fairswap.measure.capsules import capsules_of, depths
from fairswap.model.chain_world import ChainWorld
from fairswap.model.poses import PoseBuilder
from fairswap.model.rotation import angle_between, conjugate, multiply, rotate
from fairswap.model.skeleton import Skeleton
from fairswap.platform.fitting import fit_figure
from fairswap.platform.rules import platform_named
from making import FREE, TROUPE, act, figure, rigged, run
from rewrites import Scene
from test_other_makes import without

SPREAD = {"big": -0.35, "second": -0.15, "third": 0.0, "fourth": 0.2, "small": 0.4}


def with_five_toes(who, called):
    """A figure whose toes are five chains side by side; the one ``called`` has the name of the toes, and the others
    names of their own. Its walk bends all of them alike."""
    body, clip = figure(who), act("walk", who)
    old, roles = body.skeleton, fairswap.bones.roles_of(body).bones
    names, parents = list(old.names), old.parents.tolist()
    turns, places, tracks = (
        list(rows) for rows in (old.rest_rotations, old.rest_translations, clip.poses.rotation_tracks)
    )
    for side, sign in (("left", 1.0), ("right", -1.0)):
        foot, toes = roles[f"foot_{side}"], roles[f"toes_{side}"]
        frame = old.rest.rotations[0, foot]
        ahead = rotate(frame, old.rest_translations[toes])
        length = np.linalg.norm(ahead)
        for name, aside in SPREAD.items():
            place = rotate(conjugate(frame), ahead + [sign * aside * length, 0.0, 0.0])
            if name == called:
                places[toes] = place
                continue
            names.append(f"{name} toe {side}")
            parents.append(foot)
            turns.append(old.rest_rotations[toes])
            places.append(place)
            tracks.append(clip.poses.rotation_tracks[toes])
    skeleton = fairswap.Skeleton(tuple(names), parents, turns, places, old.ends)
    poses = PoseBuilder(skeleton, np.array(tracks), clip.poses.translation_by_bone()).poses()
    made = fairswap.Figure(who, skeleton)
    return fairswap.Document(
        "toes.glb", "glTF 2.0", made.space, (made,), (clip.with_poses(poses, keyed=frozenset(range(len(names)))),)
    )


def degrees_apart(a, b):
    dots = np.abs(np.einsum("bif,bif->bf", a.poses.rotation_tracks, b.poses.rotation_tracks)).clip(0.0, 1.0)
    return np.degrees(2.0 * np.arccos(dots)).max()


@pytest.mark.parametrize("called", SPREAD)
@pytest.mark.long(but=2)
def test_five_toes_turn_no_foot_whichever_has_the_role(called):
    """A foot points where the middle of its toes is."""
    toed = with_five_toes("Juniper", called)
    made = fairswap.convert(toed, TROUPE / "osric.glb", motion=FREE).clips[0]
    body = fairswap.Figure("Juniper", figure("Juniper").skeleton)
    plain = fairswap.Document("p.glb", "glTF 2.0", body.space, (body,), (act("walk", "Juniper"),))
    wanted = fairswap.convert(plain, TROUPE / "osric.glb", motion=FREE).clips[0]
    assert degrees_apart(made, wanted) < 1.5  # the spread is not even: its middle is 0.02 of the foot aside


def test_all_five_toes_bend_with_the_one_that_others_have():
    toed = with_five_toes("Juniper", "third").figure
    made = fairswap.convert(fairswap.demo_motion("walk", by="Osric"), toed, motion=FREE).clips[0]
    role = fairswap.bones.roles_of(toed).bones["toes_left"]
    main = made.poses.rotation_tracks[role]
    assert np.ptp(main, axis=1).max() > 0.05
    for name in ("big", "second", "fourth", "small"):
        track = made.poses.rotation_tracks[toed.skeleton.names.index(f"{name} toe left")]
        assert np.abs(np.abs((track * main).sum(axis=0)) - 1.0).max() < 1e-9


@pytest.mark.parametrize("stage", ["quillmoor", "saltglass"])
def test_a_toe_bone_that_is_put_in_keeps_its_place_on_a_foot_that_slides(stage):
    """The foot's own translation track is the foot's: a bone put in below it hangs where it was put."""
    pip, clip = figure("Pip"), act("walk", "Pip")
    roles, edit = fairswap.bones.roles_of(pip).bones, clip.poses.edit()
    for side in ("left", "right"):
        foot = roles[f"foot_{side}"]
        rest = pip.skeleton.rest_translations[foot][:, None]
        edit.translations[foot] = rest * (1.0 + 0.05 * np.sin(np.arange(clip.frames) / 5.0))
    slides = clip.with_poses(edit.poses(), keyed=frozenset(range(len(pip.skeleton))))
    made = fit_figure(pip, [slides], platform_named(stage))
    found = fairswap.bones.roles_of(made.figure).bones
    world = made.clips[0].world().positions
    for side in ("left", "right"):
        toes, foot = found[f"toes_{side}"], found[f"foot_{side}"]
        length = np.linalg.norm(made.figure.skeleton.rest_translations[toes])
        assert length > 0.02
        assert np.linalg.norm(world[:, toes] - world[:, foot], axis=1) == pytest.approx(length, abs=1e-6)


@pytest.mark.filterwarnings("ignore:Gimbal lock")
@pytest.mark.parametrize("order", ["ZYZ", "XYX", "YXY"])
def test_channels_that_name_an_axis_twice_are_read_and_carried_through(order):
    """Proper Euler angles: legal in the format, written by few."""
    fairswap.save("walk.bvh", figure("Osric"), [act("walk", "Osric")])
    lines = Path("walk.bvh").read_text().splitlines()
    start = next(i for i, line in enumerate(lines) if line.strip() == "MOTION")
    head, rows = lines[:start], [np.array(line.split(), dtype=float) for line in lines[start + 3 :] if line.strip()]
    rows = np.array(rows)
    columns, at, out = [], 0, []
    for line in head:
        words = line.split()
        if words and words[0] == "CHANNELS":
            names = words[2:]
            turns = [i for i, name in enumerate(names) if name.endswith("rotation")]
            axes = "".join(names[i][0] for i in turns)
            values = rows[:, at : at + len(names)].copy()
            rotation = Rotation.from_euler(axes.upper(), values[:, turns], degrees=True)
            values[:, turns] = rotation.as_euler(order, degrees=True)
            columns.append(values)
            for i, axis in zip(turns, order, strict=True):
                names[i] = f"{axis}rotation"
            line = line[: line.index("CHANNELS")] + " ".join(["CHANNELS", words[1], *names])
            at += len(words) - 2
        out.append(line)
    body = [" ".join(f"{value:.6f}" for value in row) for row in np.concatenate(columns, axis=1)]
    Path("odd.bvh").write_text("\n".join([*out, *lines[start : start + 3], *body]) + "\n")
    a, b = (fairswap.load(name).clips[0].world().positions for name in ("walk.bvh", "odd.bvh"))
    assert np.abs(a - b).max() < 1e-4
    done = run("clip", "speed", "odd.bvh", "--times", "2", "-o", "fast.bvh")
    assert done.returncode == 0, done.stderr
    fast = fairswap.load("fast.bvh").clips[0].world().positions
    assert np.abs(fast[: len(a) // 2] - a[: 2 * (len(a) // 2) : 2]).max() < 0.01


def test_bones_of_one_name_are_told_apart_in_reports():
    """By their number among those of one name: where a report names a bone, one can tell which."""
    body = figure("Pip")
    same = fairswap.Skeleton(
        tuple("bone" for _ in body.skeleton.names), body.skeleton.parents, body.skeleton.rest_rotations,
        body.skeleton.rest_translations, body.skeleton.ends,
    )  # fmt: skip
    fairswap.save("same.glb", fairswap.Figure("Pip", same, body.meshes), [])
    done = run("bones", "match", TROUPE / "pip.glb", "same.glb", "--json")
    assert done.returncode == 0, done.stderr
    targets = [row["target"] for row in done.report["pairs"]]
    assert len(set(targets)) == len(targets) > 20
    shown = run("bones", "show", "same.glb", "--json").report["roles"]
    assert len(set(shown.values())) == len(shown)
    told = run("inspect", "same.glb", "--json").report["figures"][0]["roles"]
    assert told == shown
    plain = run("bones", "show", TROUPE / "pip.glb", "--json").report["roles"]
    assert set(plain.values()) <= set(body.skeleton.names)


def test_an_object_to_touch_leaves_the_face_and_the_skin_of_the_source():
    """What marks an object is one bone more; morphs are carried over as without it."""
    from fairswap.figures.props import with_object

    spoken = fairswap.demo_motion("spoken line", by="Juniper")
    grown, clip = with_object(spoken.figure, spoken.clips[0], "lamp", np.array([0.5, 1.0, 0.3]))
    assert len(grown.meshes) == len(spoken.figure.meshes)
    document = fairswap.Document("s.glb", "glTF 2.0", grown.space, (grown,), (clip,))
    with_it = fairswap.convert(document, TROUPE / "pip.glb", motion=FREE).clips[0]
    without = fairswap.convert(spoken, TROUPE / "pip.glb", motion=FREE).clips[0]
    assert with_it.poses.morph_tracks
    for a, b in zip(with_it.poses.morph_tracks, without.poses.morph_tracks, strict=True):
        assert np.abs(a.weights - b.weights).max() < 1e-6


def test_a_clip_that_starts_late_on_its_timeline_is_written_there_again():
    """Keys from 0.35 s on: whatever is done to the motion, it stays beside the sound it belongs to."""
    fairswap.save("walk.glb", figure("Osric"), [act("walk", "Osric")])
    scene = Scene(Path("walk.glb").read_bytes())
    for number in {sampler["input"] for _, _, sampler in scene.channels()}:
        scene.arrays[number] = (scene.arrays[number] + np.float32(0.35)).astype("<f4")
    Path("late.glb").write_bytes(scene.bytes())
    whole = act("walk", "Osric")
    for words, start in (
        (("pose", "set", "late.glb", "--to", "a"), 0.35),
        (("clip", "mirror", "late.glb"), 0.35),
        (("convert", "late.glb", "--onto", TROUPE / "pip.glb"), 0.35),
        (("clip", "cut", "late.glb", "--piece", "step=1..2"), 0.0),
    ):
        done = run(*words, "-o", "out.glb", "--force")
        assert done.returncode == 0, done.stderr
        made = Scene(Path("out.glb").read_bytes())
        first = min(made.arrays[sampler["input"]].min() for _, _, sampler in made.channels())
        assert first == pytest.approx(start, abs=1e-5), words
        clip = fairswap.load("out.glb").clips[0]
        assert clip.start_s == pytest.approx(start, abs=1e-5)
        assert float(clip.duration_s) == pytest.approx(1.0 if start == 0.0 else whole.duration_s, abs=1e-3)


def test_a_thing_that_hangs_on_a_hand_without_fingers_does_not_say_where_it_points():
    """It goes on as the forearm does; where the bone of a bracelet is, it does not point to."""
    skeleton = body_of("Osric").skeleton({})
    roles = fairswap.bones.roles_of(fairswap.Figure("Osric", skeleton)).bones
    bare = without(skeleton, [*(roles[role] for role in roles if role.startswith(FINGERS)), *skeleton.tips])
    hand = bare.names.index(skeleton.names[roles["hand_left"]])
    made = Skeleton(
        (*bare.names, "bracelet"),
        np.append(bare.parents, hand),
        np.vstack([bare.rest_rotations, [[0.0, 0.0, 0.0, 1.0]]]),
        np.vstack([bare.rest_translations, [[0.0, -0.03, 0.0]]]),
    )
    one = rigged(fairswap.Figure("bracelet", made))
    turned = multiply(one.reference.rotations[hand], conjugate(made.rest.rotations[0, hand]))
    arm = one.roles.bones["lower_arm_left"]
    along = multiply(one.reference.rotations[arm], conjugate(made.rest.rotations[0, arm]))
    assert one.roles.bones["hand_left"] == hand
    assert np.degrees(angle_between(turned, along)) < 1.0


def test_a_shin_that_is_deep_from_front_to_back_is_no_wider():
    """A hoof or a boot was felt as thick to all sides as it is on average: a broad one told 25 cm in the other leg."""
    osric = figure("Osric")
    bones = fairswap.bones.roles_of(osric).bones
    shins = [bones[f"lower_leg_{side}"] for side in ("left", "right")]
    deep = []
    for mesh in osric.meshes:
        vertices, shin = mesh.vertices.copy(), np.isin(mesh.main_bones, shins)
        vertices[shin, 2] *= 2.5
        deep.append(replace(mesh, vertices=vertices))
    plain, broad = rigged(osric), rigged(replace(osric, meshes=tuple(deep)))
    world, thick = plain.reference_world, []
    for one in (plain, broad):
        shin = capsules_of(one)["lower_leg_left"]
        placed = shin.placed(world.rotations[:, shin.bone], world.positions[:, shin.bone])
        ways = {"across": [-1.0, 0.0, 0.0], "ahead": [0.0, 0.0, 1.0]}
        thick.append({name: float(shin.thickness(np.full(1, 0.5), placed, np.array([way]))[0])
                      for name, way in ways.items()})  # fmt: skip
    assert thick[1]["across"] == pytest.approx(thick[0]["across"], rel=0.25)
    assert thick[1]["ahead"] > 1.8 * thick[0]["ahead"]
    # Feet side by side are as far from each other as with thin boots.
    stand = act("idle", "Osric").poses.at(np.zeros(2))
    deep_m = [depths(one, ChainWorld(stand))["lower_leg_left", "lower_leg_right"][0] for one in (plain, broad)]
    assert deep_m[1] == pytest.approx(deep_m[0], abs=0.03)
