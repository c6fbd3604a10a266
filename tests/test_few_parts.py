"""Bodies of few parts: arms and legs of one piece. Read as figures, moved, and written in their own structure."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

import fairswap
from fairswap.demo.repertoire import ACTS
from fairswap.model.mesh import Mesh
from making import FREE, act, figure, run
from test_blocks import BOX, FACES, FIFTEEN, blocks, json_of, unit

HEAD = ("Head", (0, 1.42, 0), (0, 0.15, 0), (0.13, 0.15, 0.13))
ARM_DOWN = [("Arm", "", (0.30, 1.36), (0, -0.3), (0.07, 0.32, 0.07))]
ARM_OUT = [("Arm", "", (0.24, 1.32), (0.3, 0), (0.3, 0.07, 0.07))]
ARM_OF_TWO = [("Upper arm", "", (0.24, 1.32), (0.15, 0), (0.15, 0.07, 0.07)),
              ("Forearm", "Upper arm", (0.54, 1.32), (0.16, 0), (0.16, 0.06, 0.06))]  # fmt: skip
LEG = [("Leg", "", (0.11, 0.72), (0, -0.36), (0.1, 0.36, 0.1))]
LEG_OF_TWO = [("Thigh", "", (0.11, 0.72), (0, -0.18), (0.1, 0.18, 0.1)),
              ("Shin", "Thigh", (0.11, 0.38), (0, -0.19), (0.09, 0.19, 0.09))]  # fmt: skip


def body(arm, leg, pelvis=False):
    """Trunk, head, two arms, two legs; with ``pelvis`` the legs hang on a block of their own."""
    trunk = [("Trunk", "Pelvis" if pelvis else "", (0, 0.75, 0), (0, 0.33, 0), (0.22, 0.31, 0.12))]
    parts = [("Pelvis", "", (0, 0.70, 0), (0, 0.03, 0), (0.2, 0.05, 0.12)), *trunk] if pelvis else trunk
    parts.append((HEAD[0], "Trunk", *HEAD[1:]))
    for sign, side in ((1, "left"), (-1, "right")):
        for limb, holder in ((arm, "Trunk"), (leg, "Pelvis" if pelvis else "Trunk")):
            for name, above, (x, y), (dx, dy), half in limb:
                hangs = f"{above} {side}" if above else holder
                parts.append((f"{name} {side}", hangs, (sign * x, y, 0), (sign * dx, dy, 0), half))
    return parts


BODIES = {
    "six": body(ARM_DOWN, LEG),
    "six in T": body(ARM_OUT, LEG),
    "with pelvis": body(ARM_DOWN, LEG, pelvis=True),
    "elbows": body(ARM_OF_TWO, LEG),
    "knees": body(ARM_DOWN, LEG_OF_TWO),
    "ten": body(ARM_OF_TWO, LEG_OF_TWO),
    "eleven": body(ARM_OF_TWO, LEG_OF_TWO, pelvis=True),
}
LIMBS = [("upper_arm", "hand"), ("upper_leg", "foot")]


def from_juniper(name):
    return fairswap.Document("act", "", figure("Juniper").space, (figure("Juniper"),), (act(name, "Juniper"),))


def converted(target, name, motion=None):
    options = {} if motion is None else {"motion": motion}
    return fairswap.convert(from_juniper(name), target, face=fairswap.FaceOptions("none"), **options)


@pytest.mark.parametrize("build", BODIES)
def test_all_that_a_person_needs_is_found(build, tmp_path):
    document = blocks(BODIES[build]).load(tmp_path)
    assert document.figure.bone_count == len(BODIES[build])
    rigged = fairswap.RiggedFigure.of(document)
    assert not rigged.roles.missing()
    assert [finding.code for finding in document.findings].count("few-parts") == 1
    names = {role: rigged.skeleton.names[bone] for role, bone in rigged.roles.bones.items()}
    assert names["head"] == "Head"
    assert names["spine_1"] == "Trunk"
    for side in ("left", "right"):
        assert names[f"upper_arm_{side}"] in (f"Arm {side}", f"Upper arm {side}")
        assert names[f"upper_leg_{side}"] in (f"Leg {side}", f"Thigh {side}")
        if "Forearm left" in rigged.skeleton.names:
            assert names[f"lower_arm_{side}"] == f"Forearm {side}"
        if "Shin left" in rigged.skeleton.names:
            assert names[f"lower_leg_{side}"] == f"Shin {side}"


@pytest.mark.parametrize("build", BODIES)
def test_it_is_written_as_it_was(build, tmp_path):
    """The same nodes, meshes and places; the rest pose to a hundredth of a millimetre."""
    document = blocks(BODIES[build]).load(tmp_path)
    made = converted(document, "walk")
    made.save(tmp_path / "moved.glb")
    before, after = json_of(tmp_path / "made.glb"), json_of(tmp_path / "moved.glb")
    assert [node["name"] for node in after["nodes"]] == [node["name"] for node in before["nodes"]]
    assert [node.get("children") for node in after["nodes"]] == [node.get("children") for node in before["nodes"]]
    assert "skins" not in after
    for old, new in zip(before["nodes"], after["nodes"], strict=True):
        assert np.allclose(old["translation"], new["translation"], atol=1e-5)
    moved = {channel["target"]["node"] for channel in after["animations"][0]["channels"]}
    assert moved == set(range(len(before["nodes"])))


@pytest.mark.parametrize("suffix", [".glb", ".dae", ".usda", ".x3d"])
@pytest.mark.long(but=1)
def test_what_is_judged_is_what_is_written(suffix, tmp_path):
    made = converted(blocks(BODIES["six"]).load(tmp_path), "walk")
    made.save(tmp_path / f"moved{suffix}")
    read = fairswap.load(tmp_path / f"moved{suffix}")
    assert read.figure.bone_count == 6
    judged, written = made.clips[0], read.clips[0]
    for name in ("Trunk", "Head", "Arm left", "Leg right"):
        a, b = (clip.world().positions[:, clip.bone(name)] for clip in (judged, written))
        assert np.abs(a - b).max() < 2e-4
    result = fairswap.compare(from_juniper("walk"), read)
    assert result.likeness == pytest.approx(made.done[0].comparison.likeness, abs=2.0)


@pytest.mark.parametrize("build", BODIES)
def test_bones_alone_say_how_long_the_parts_were(build, tmp_path):
    """A BVH holds no blocks: its last bones end where the blocks did, and it is read as the same body again."""
    made = converted(blocks(BODIES[build]).load(tmp_path), "walk")
    made.save(tmp_path / "moved.bvh")
    read = fairswap.load(tmp_path / "moved.bvh")
    whole, bare = (fairswap.RiggedFigure.of(one) for one in (made.figure, read))
    assert set(whole.roles.bones) == set(bare.roles.bones)

    def from_hips(one, role):
        places = one.skeleton.rest.positions[0]
        return places[one.roles.bones[role]] - places[one.roles.bones["hips"]]

    # Of two bones and their end, the end counts as the hand or foot: nobody says how long those are.
    unsaid = {f"{part}_{side}" for part in ("hand", "foot") for side in ("left", "right")}
    for role in set(whole.roles.bones) - (unsaid if len(BODIES[build]) > 7 else set()):
        assert from_hips(bare, role) == pytest.approx(from_hips(whole, role), abs=1e-4), role
    assert not bare.figure.meshes


@pytest.mark.parametrize("build", ["six", "with pelvis"])
@pytest.mark.parametrize("name", sorted(ACTS))
@pytest.mark.long(but=5)
def test_limbs_point_where_the_source_s_do(name, build, tmp_path):
    """Arm and leg, joint to hand and foot, against the act by angles alone; and soles on the floor, by the corners."""
    target = blocks(BODIES[build]).load(tmp_path)
    made = converted(target, name)
    clip = made.clips[0]
    source = from_juniper(name)
    whole = []
    for who, motion in ((source.figure, source.clips[0]), (made.figure, clip)):
        bones, places = fairswap.RiggedFigure.of(who).roles.bones, motion.world().positions
        whole.append([
            unit(places[:, bones[f"{end}_{side}"]] - places[:, bones[f"{start}_{side}"]])
            for start, end in LIMBS for side in ("left", "right")
        ])  # fmt: skip
    for first, second in zip(*whole, strict=True):
        angles = np.degrees(np.arccos(np.clip((first * second).sum(axis=1), -1, 1)))
        assert np.median(angles) < 12.0
    lowest = corners(made.figure, clip)[:, :, 1].min(axis=1)
    assert lowest.min() > -0.01
    assert abs(lowest[0]) < 0.01  # all acts begin on the floor


@pytest.mark.parametrize("name", sorted(ACTS))
@pytest.mark.long(but=2)
def test_elbows_and_knees_without_hands_and_feet_do_as_well_as_with_them(name, tmp_path):
    made = converted(blocks(BODIES["ten"]).load(tmp_path), name)
    whole = converted(blocks(FIFTEEN).load(tmp_path), name)
    assert made.done[0].comparison.likeness > min(whole.done[0].comparison.likeness, 85) - 12
    assert corners(made.figure, made.clips[0])[:, :, 1].min() > -0.03


def corners(whole, clip):
    """All corners of all blocks over time, by SciPy and the file's own bones ``(frames, corners, 3)``."""
    world = clip.world()
    points = []
    for mesh in whole.meshes:
        bone = int(mesh.joints[0, 0])
        local = (
            np.einsum("ij,nj->ni", mesh.bind_matrices[bone][:3, :3], mesh.vertices) + mesh.bind_matrices[bone][:3, 3]
        )
        turn = Rotation.from_quat(world.rotations[:, bone])
        points.append(np.stack([turn.apply(point) for point in local], axis=1) + world.positions[:, bone, None])
    return np.concatenate(points, axis=1)


def test_a_block_trunk_leans_as_hips_and_spine_do(tmp_path):
    """In the bow the line from hips to shoulders leans as far as the source's."""
    made = converted(blocks(BODIES["six"]).load(tmp_path), "turn-and-bow", FREE)
    leans = []
    source = from_juniper("turn-and-bow")
    for who, motion in ((source.figure, source.clips[0]), (made.figure, made.clips[0])):
        bones, places = fairswap.RiggedFigure.of(who).roles.bones, motion.world().positions
        shoulders = 0.5 * (places[:, bones["upper_arm_left"]] + places[:, bones["upper_arm_right"]])
        up = unit(shoulders - places[:, bones["hips"]])
        leans.append(np.degrees(np.arccos(np.clip(up[:, 1], -1, 1))))
    deepest = int(np.argmax(leans[0]))
    assert leans[0][deepest] > 30
    assert abs(leans[0][deepest] - leans[1][deepest]) < 8.0


@pytest.mark.parametrize("build", ["six", "eleven"])
@pytest.mark.long(but=1)
def test_its_motion_goes_to_a_whole_figure(build, tmp_path):
    moved = converted(blocks(BODIES[build]).load(tmp_path), "walk")
    moved.save(tmp_path / "moved.glb")
    made = fairswap.convert(tmp_path / "moved.glb", figure("Osric"), face=fairswap.FaceOptions("none"))
    assert made.done[0].comparison.likeness > 80
    roles = {role.role for role in made.done[0].comparison.roles}
    assert ("lower_leg_left" in roles) == (build == "eleven")  # what it lacks is not judged


def test_a_worse_result_is_told(tmp_path):
    """An arm that hangs the other way, and a body lifted off the floor, score less."""
    made = converted(blocks(BODIES["six"]).load(tmp_path), "idle")
    clip, source = made.clips[0], from_juniper("idle")
    good = fairswap.compare(source, fairswap.Document("", "", made.figure.space, (made.figure,), (clip,)))
    edit = clip.poses.edit()
    arm = clip.bone("Arm left")
    edit.turn(
        arm, (Rotation.from_quat(edit.rotation_tracks[arm].T) * Rotation.from_euler("z", 40, degrees=True)).as_quat().T
    )
    bent = clip.with_poses(edit.poses())
    edit = clip.poses.edit()
    hips = fairswap.RiggedFigure.of(made.figure).roles.bones["hips"]
    edit.translations[hips] = edit.translation_track(hips) + np.array([[0.0], [0.12], [0.0]])
    lifted = clip.with_poses(edit.poses())
    for worse in (bent, lifted):
        result = fairswap.compare(source, fairswap.Document("", "", made.figure.space, (made.figure,), (worse,)))
        assert result.likeness < good.likeness - 15


def test_its_own_clips_stay_as_they_stand(tmp_path):
    """A clip that is kept is written key for key, although bones were added to reckon with."""
    first = converted(blocks(BODIES["six"]).load(tmp_path), "walk")
    first.save(tmp_path / "moved.glb")
    made = fairswap.convert(
        from_juniper("idle"), tmp_path / "moved.glb",
        target=fairswap.TargetOptions(keep_clips=True), face=fairswap.FaceOptions("none"),
    )  # fmt: skip
    made.save(tmp_path / "both.glb")
    one, two = fairswap.load(tmp_path / "moved.glb"), fairswap.load(tmp_path / "both.glb")
    assert [clip.name for clip in two.clips] == ["Walk", "Idle"]
    assert np.array_equal(one.clips[0].poses.rotation_tracks, two.clips[0].poses.rotation_tracks)


def test_what_a_file_holds_is_counted_without_what_stands_in(tmp_path):
    document = blocks(BODIES["six"]).load(tmp_path)
    assert fairswap.inspect(document).figures[0].bones == 6
    assert "6 bones" in repr(document.figure)


def test_a_whole_body_gets_nothing(tmp_path):
    assert blocks(FIFTEEN).load(tmp_path).figure.stand_ins is None
    assert figure("Pip").stand_ins is None


@pytest.mark.parametrize("lacking", ["Head", "Arm left", "Leg right"])
def test_what_is_no_body_stays_refused(lacking, tmp_path):
    parts = [row for row in BODIES["six"] if row[0] != lacking]
    made = blocks(parts)
    made.json["skins"] = [{"joints": list(range(len(parts)))}]  # so that it counts as bones
    for node in made.json["nodes"]:
        node.pop("mesh", None)
    document = made.load(tmp_path)
    with pytest.raises(fairswap.FairSwapError):
        fairswap.RiggedFigure.of(document)


def test_limbs_whose_names_have_other_twins_are_none(tmp_path):
    """A catapult has six parts that lie like a body's; its left sling mirrors its right one, and no lever."""
    names = {"Arm left": "Sling left", "Arm right": "Lever", "Leg left": "Foot left", "Leg right": "Sling right"}
    parts = [(names.get(row[0], row[0]), *row[1:]) for row in BODIES["six"]]
    assert blocks(parts).load(tmp_path).figure.stand_ins is None


def test_what_bends_parts_that_are_not_there_is_told_when_it_is_written(tmp_path):
    """A correction of an elbow has nowhere to go on an arm of one piece; a motion carried over loses nothing."""
    made = converted(blocks(BODIES["six"]).load(tmp_path), "idle")
    assert not fairswap.left_out(made.figure, made.clips, ".glb")
    (tmp_path / "elbow.toml").write_text(
        'fairswap = "layers/1"\n[[layer]]\nrole = "lower_arm_left"\nturn = [0, 0, 30]\n'
    )
    made.save(tmp_path / "idle.glb")
    told = run("clip", "layer", tmp_path / "idle.glb", "--layer", tmp_path / "elbow.toml", "-o", tmp_path / "bent.glb")
    said = " ".join(told.stdout.split())
    assert "Arm left (forearm)" in said
    assert "[parts-lost]" in said
    assert "[parts-lost]" not in run("clip", "reverse", tmp_path / "idle.glb", "-o", tmp_path / "back.glb").stdout


# Bones that lead from the trunk to where limbs begin, and a file that was saved in the middle of a step

LEADING = {
    "barrel": ("", (0, 1.45, 0)), "pate": ("barrel", (0, 1.55, 0)),
    **{f"{name} {side}": (f"{above} {side}" if above else "barrel", (sign * x, y, 0))
       for sign, side in ((1, "left"), (-1, "right"))
       for name, above, x, y in (
           ("to wing", "", 0, 1.45), ("wing", "to wing", 0.2, 1.45), ("wingend", "wing", 0.5, 1.45),
           ("to stilt", "", 0, 1.45), ("stilt", "to stilt", 0.1, 0.95), ("stiltend", "stilt", 0.1, 0.5),
           ("clog", "stiltend", 0.1, 0.08))},
}  # fmt: skip
# The middle of the block on a bone, from its joint, and half of its size; what leads holds none.
ON_LEADING = {
    "barrel": ((0, -0.25, 0), (0.18, 0.25, 0.1)), "pate": ((0, 0.13, 0), (0.11, 0.13, 0.12)),
    "wing": ((0.15, 0, 0), (0.15, 0.05, 0.05)), "wingend": ((0.2, 0, 0), (0.2, 0.04, 0.04)),
    "stilt": ((0, -0.22, 0), (0.07, 0.22, 0.07)), "stiltend": ((0, -0.2, 0), (0.06, 0.2, 0.06)),
    "clog": ((0, -0.04, 0.06), (0.05, 0.04, 0.13)),
}  # fmt: skip
MID_STEP = {"stilt left": -0.7, "stiltend left": 1.0, "stilt right": 0.4, "wing left": 0.5, "wing right": -0.5}


def led(turns):
    """A body of one block and limbs that leading bones hold, bound in a T; some bones are turned at rest."""
    names = tuple(LEADING)
    places = np.array([place for _, place in LEADING.values()], dtype=float)
    parents = [names.index(above) if above else -1 for above, _ in LEADING.values()]
    offsets = places - np.where(np.array(parents)[:, None] >= 0, places[parents], 0.0)
    rests = [Rotation.from_rotvec([turns.get(name, 0.0), 0, 0]).as_quat() for name in names]
    vertices, owners = [], []
    for bone, name in enumerate(names):
        kind, sign = name.split()[0], -1.0 if name.endswith("right") else 1.0
        if kind in ON_LEADING:
            middle, half = np.array(ON_LEADING[kind])
            vertices.append(places[bone] + middle * [sign, 1, 1] + BOX * half)
            owners += [bone] * len(BOX)
    points = np.concatenate(vertices)
    bind = np.tile(np.eye(4), (len(names), 1, 1))
    bind[:, :3, 3] = -places
    triangles = np.concatenate([FACES + 8 * block for block in range(len(vertices))])
    mesh = Mesh("body", points, np.zeros_like(points) + [0, 0, 1.0], triangles, np.array(owners)[:, None],
                np.ones((len(points), 1)), bind)  # fmt: skip
    return fairswap.Figure("led", fairswap.Skeleton(names, parents, np.array(rests), offsets), (mesh,))


@pytest.mark.parametrize("turns", [{}, MID_STEP], ids=["in a T", "in mid-step"])
def test_limbs_that_leading_bones_hold_are_found_where_they_were_bound(turns):
    fairswap.save("led.glb", led(turns))
    document = fairswap.load("led.glb")
    assert not {"space-corrected", "space-found"} & {finding.code for finding in document.findings}
    rigged = fairswap.RiggedFigure.of(document)
    names = {role: rigged.skeleton.names[bone] for role, bone in rigged.roles.bones.items()}
    for side in ("left", "right"):
        assert names[f"upper_arm_{side}"] == f"wing {side}"
        assert names[f"lower_arm_{side}"] == f"wingend {side}"
        assert names[f"upper_leg_{side}"] == f"stilt {side}"
        assert names[f"foot_{side}"] == f"clog {side}"
    # A wrist is at 0.62 of a forearm with its hand, whatever the pose at rest.
    world = rigged.base.world.positions[0]
    hand = world[rigged.roles.bones["hand_left"]]
    assert hand == pytest.approx([0.5 + 0.62 * 0.4, 1.45, 0.0], abs=1e-5)
    assert rigged.floor_m == pytest.approx(0.0, abs=1e-6)
    made = converted(document, "walk")
    assert made.done[0].comparison.likeness >= 90
    made.save("walk.glb")
    again = fairswap.load("walk.glb")
    assert again.figure.bone_count == len(LEADING)
    assert fairswap.compare(from_juniper("walk"), again).likeness == pytest.approx(
        made.done[0].comparison.likeness, abs=1
    )
    # Out of the file by hand: the lower sole is on the floor in every frame.
    clip = again.clips[0]
    lowest = [
        min(v[:, 1].min() for v in again.figure.skin(clip.poses.world(), frame)) for frame in range(0, clip.frames, 7)
    ]
    assert np.abs(lowest).max() < 0.03
