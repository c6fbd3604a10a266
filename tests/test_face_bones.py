"""What becomes of a face where a platform does not take its bones or its morphs: kept by the others, or told."""

from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

import fairswap
from fairswap.face.head import Head
from fairswap.face.transfer import perform_units, still_clip
from fairswap.face.units import UNITS
from fairswap.model.rotation import angle_between
from making import FREE, figure, rig, run
from rewrites import rewritten


def speaking(who):
    return fairswap.demo_motion("spoken line", who)


def skin_of(document, frame):
    clip = document.clips[0]
    return np.concatenate(document.figure.skin(clip.poses.world(), frame, clip.poses))


def test_a_face_of_bones_gets_morphs_where_a_stage_does_not_take_its_bones():
    """Osric speaks with bones; Quillmoor keeps eyes and jaw. His skin goes where it went, on morphs of his poses."""
    osric = speaking("Osric")
    fitted = fairswap.fit(osric, "quillmoor")
    fitted.save("osric.glb")
    made = fairswap.load("osric.glb")
    names = {name for mesh in made.figure.meshes for name in mesh.morph_names}
    assert {"lip_corner_puller_left", "inner_brow_raiser_left"} <= names
    assert not any(name.startswith(("gaze", "jaw")) for name in names)  # eyes and jaw stay bones
    assert {"jaw", "eye_left"} <= fairswap.RiggedFigure.of(made).roles.bones.keys()
    mute = replace(made, clips=(made.clips[0].with_poses(replace(made.clips[0].poses, morph_tracks=())),))
    rate = float(made.clips[0].rate / osric.clips[0].rate)
    off = {"spoken": [], "mute": []}
    for frame in range(0, osric.clips[0].frames, 12):
        wanted = skin_of(osric, frame)
        for name, document in (("spoken", made), ("mute", mute)):
            moved = np.linalg.norm(skin_of(document, round(frame * rate)) - wanted, axis=1)
            off[name].append(moved.max())
    assert max(off["mute"]) > 0.01
    assert max(off["spoken"]) < 0.003
    assert fairswap.compare(osric, made).face_missed < 0.15


def test_who_plays_at_home_stays_as_she_is():
    assert fairswap.check(fairswap.demo_file("juniper.glb"), "quillmoor").fits
    fitted = fairswap.fit(speaking("Juniper"), "quillmoor")
    fitted.save("home.glb")
    assert fairswap.compare(speaking("Juniper"), "home.glb").likeness > 98.0


def jaw_turned(axis, degrees, held=False):
    """Osric stands, and his jaw turns once about an axis of the world and back; or is so all the time."""
    osric = fairswap.demo_motion("idle", "Osric")
    clip, skeleton = osric.clips[0], osric.figure.skeleton
    jaw = fairswap.RiggedFigure.of(osric).roles.bones["jaw"]
    above = Rotation.from_quat(skeleton.rest.rotations[0, skeleton.parents[jaw]])
    part = np.ones(clip.frames) if held else np.sin(np.linspace(0.0, np.pi, clip.frames))
    turns = Rotation.from_rotvec(np.outer(part, np.radians(degrees) * np.asarray(axis, dtype=float)))
    tracks = clip.poses.rotation_tracks.copy()
    tracks[jaw] = (above.inv() * turns * above * Rotation.from_quat(skeleton.rest_rotations[jaw])).as_quat().T
    return replace(osric, clips=(replace(clip, poses=replace(clip.poses, rotation_tracks=tracks)),))


def chin_aside(document):
    """How far the chin goes to the figure's left against the head, by the skin, in its own heights: ``(frames,)``."""
    figure, clip = document.figure, document.clips[0]
    roles, world = fairswap.RiggedFigure.of(document).roles.bones, clip.world()
    held = [mesh.weights[mesh.joints == roles["jaw"]].sum() for mesh in figure.meshes]
    number = int(np.argmax(held))
    mesh = figure.meshes[number]
    chin = np.where(mesh.joints == roles["jaw"], mesh.weights, 0.0).sum(axis=1) > 0.9
    frames = range(0, clip.frames, 10)
    places = np.array([figure.skin(world, frame, clip.poses)[number][chin].mean(axis=0) for frame in frames])
    head = Rotation.from_quat(world.rotations[list(frames), roles["head"]])
    rest = Rotation.from_quat(figure.skeleton.rest.rotations[0, roles["head"]])
    local = (rest * head.inv()).apply(places - world.positions[list(frames), roles["head"]])
    return (local - local[0])[:, 0] / figure.height_m


@pytest.mark.parametrize("degrees", [10.0, -10.0])
@pytest.mark.long(but=1)
def test_a_jaw_that_swings_to_a_side_takes_the_chin_along_on_another_head(degrees):
    """Osric's jaw turns about the upright, Juniper's slides: it was lost, at a full verdict."""
    osric = jaw_turned([0, 1, 0], degrees)
    made = fairswap.convert(osric, fairswap.demo_file("juniper.glb")).done[0]
    document = fairswap.Document("made", "glTF 2.0", osric.space, (made.swap.target.figure,), (made.clip,))
    wanted, got = chin_aside(osric), chin_aside(document)
    assert np.abs(wanted).max() > 0.005
    assert np.abs(got - wanted).max() < 0.35 * np.abs(wanted).max()
    assert not [row for row in made.findings if row.code in ("face-bones-unread", "face-lost")]


@pytest.mark.parametrize(("axis", "told"), [((0, 0, 1), True), ((1, 0, 0), False), ((-1, 0, 0), True)])
@pytest.mark.long(but=2)
def test_what_a_bone_of_the_face_does_that_no_shape_does_is_told(axis, told):
    """A jaw that rolls, or goes further up than shut; one that opens is carried over."""
    made = fairswap.convert(jaw_turned(axis, 12.0), fairswap.demo_file("pip.glb")).done[0]
    rows = [row for row in made.findings if row.code == "face-bones-unread"]
    assert len(rows) == told
    if told:
        assert "'salt:Beard' turns by 12°" in rows[0].message
    held = fairswap.convert(jaw_turned(axis, 12.0, held=True), fairswap.demo_file("pip.glb")).done[0]
    assert not [row for row in held.findings if row.code == "face-bones-unread"]  # its exporter left it so


@pytest.mark.parametrize("stage", ["eyes.toml", "fernway"])
@pytest.mark.long(but=1)
def test_what_a_jaw_did_its_morphs_do_where_the_jaw_goes(stage):
    """A figure with morphs and a jaw: the motion of the jaw was lost without a word."""
    Path("eyes.toml").write_text(
        'fairswap = "platform/2"\nname = "eyes"\nbones = "quillmoor"\n[figure]\nface_bones = "eyes"\n'
    )
    made = fairswap.convert(rig("words.bvh"), rig("crew.glb"), platform=stage)
    head = Head.of(made.figure)
    (clip,) = made.fitted.clips
    drop = head.units(clip)[list(UNITS).index("jaw_drop")]
    source = Head.of(fairswap.load(rig("words.bvh")))
    wanted = source.units(source.clips[0])[list(UNITS).index("jaw_drop")]
    assert wanted.max() > 0.5
    assert drop.max() == pytest.approx(wanted.max(), abs=0.1)


@pytest.mark.parametrize("target", ["words", "crew"])
def test_a_jaw_that_opens_by_bone_and_morph_at_once_does_so_on_another(target):
    """The target's file has no clip that would show it: with half of it read, the same motion was called another."""
    source, other = fairswap.load(rig("words.glb")), fairswap.load(rig(f"{target}.glb")).figure
    roles = fairswap.RiggedFigure.of(other).roles.bones
    places = other.skeleton.rest_translations.copy()
    for side in ("left", "right"):
        places[roles[f"hand_{side}"]] *= 1.1
    taller = replace(other, skeleton=replace(other.skeleton, rest_translations=places), source=None)
    found = fairswap.convert(source, taller).done[0]
    assert found.comparison.face_missed < 1e-3
    before, after = (clip.poses.morph_tracks[0].weights for clip in (found.original, found.clip))
    assert np.abs(before - after).max() < 1e-3
    assert np.ptp(before, axis=1).min() > 0.3
    jaws = [clip.poses.rotation_tracks[swapped.roles.bones["jaw"]].T for clip, swapped in (
        (found.original, found.swap.source), (found.clip, found.swap.target))]  # fmt: skip
    opened = [np.degrees(angle_between(jaw, jaw[0])) for jaw in jaws]
    assert opened[0].max() > 10.0
    assert opened[1] == pytest.approx(opened[0], abs=0.2)


def test_what_one_clip_shows_of_a_face_counts_in_all_whatever_comes_first():
    """In the first clip the jaw's bone rests: what it does in the second was lost, and nothing told it."""
    source = fairswap.load(rig("words.glb"))
    act, jaw = source.clips[0], fairswap.RiggedFigure.of(source).roles.bones["jaw"]
    edit = act.poses.edit()
    edit.turn(jaw, source.figure.skeleton.rest_rotations[jaw][:, None])
    still = replace(act.with_poses(edit.poses()), name="still")
    for clips in ((still, act), (act, still)):
        made = fairswap.convert(replace(source, clips=clips), rig("nautical.glb"), motion=FREE)
        missed = {row.original.name: row.comparison.face_missed for row in made.done}
        assert missed["still"] < 0.01
        assert missed[act.name] > 0.2  # its morph is open, and there is no jaw to go on with


def test_what_a_face_cannot_show_is_told_with_when_it_is_most():
    """A head whose jaw opens by bone and morph at once, onto one that has the morph alone."""
    made = fairswap.convert(rig("words.glb"), rig("nautical.glb"), motion=FREE).done[0]
    (lost,) = [row for row in made.face.lost if row.unit == "jaw_drop"]
    source = fairswap.load(rig("words.glb"))
    does = Head.of(source).units(source.clips[0])[list(UNITS).index("jaw_drop")]
    assert lost.wanted == pytest.approx(does.max(), abs=1e-6)
    assert lost.lost == pytest.approx(does.max() - 1.0, abs=1e-3)
    assert lost.at_s * 30.0 == pytest.approx(does.argmax(), abs=1e-6)


def test_what_a_morph_does_is_done_by_a_morph_where_a_bone_could_do_it_too():
    """Not by a half of each."""
    figure = fairswap.load(rig("words.glb")).figure
    clip = fairswap.convert(rig("nautical.glb"), rig("words.glb")).done[0].clip
    names = figure.meshes[clip.poses.morph_tracks[0].mesh].morph_names
    opened = clip.poses.morph_tracks[0].weights[names.index("Jaw_Open")]
    (source,) = fairswap.load(rig("nautical.glb")).clips
    assert opened.max() == pytest.approx(source.poses.morph_tracks[0].weights[2].max(), abs=1e-3)
    jaw = clip.poses.rotation_tracks[fairswap.RiggedFigure.of(figure).roles.bones["jaw"]]
    assert np.ptp(jaw, axis=1).max() < 1e-3


@pytest.mark.long
def test_a_face_that_a_stage_cannot_take_is_told_clip_by_clip_and_by_compare():
    told = [row for row in fairswap.fit(speaking("Juniper"), "saltglass").findings if row.code == "face-left-out"]
    assert [(row.severity, row.place) for row in told] == [("warning", "spoken line")]
    assert "saltglass takes no morphs" in told[0].message
    # A face that is held, and never moves, is lost as well.
    juniper = speaking("Juniper")
    (track,) = juniper.clips[0].poses.morph_tracks
    held = replace(track, weights=np.repeat(track.weights[:, 100:101], track.weights.shape[1], axis=1))
    assert held.weights.max() > 0.1
    clip = juniper.clips[0].with_poses(replace(juniper.clips[0].poses, morph_tracks=(held,)))
    told = fairswap.fit(replace(juniper, clips=(clip,)), "saltglass").findings
    assert [row.code for row in told].count("face-left-out") == 1
    Path("eyes.toml").write_text(
        'fairswap = "platform/2"\nname = "eyes"\nbones = "saltglass"\n[figure]\nmorphs = "none"\nface_bones = "eyes"\n'
    )
    fitted = fairswap.fit(speaking("Osric"), "eyes.toml")
    assert [row.code for row in fitted.findings].count("face-left-out") == 1
    fitted.save("eyes.glb")
    fairswap.save("osric.glb", speaking("Osric"))
    found = fairswap.compare("osric.glb", "eyes.glb")
    assert found.face_lacking.startswith("the face but for its eyes")
    assert "not judged: the face but for its eyes" in run("compare", "osric.glb", "eyes.glb").stdout


DEEP = ("Brow", "Cheek", "Lip Corner")


def with_deep_bones(document):
    """Osric, with bones of brows, cheeks and corners of the mouth that stand 6 cm behind the skin they hold."""
    figure = document.figure
    skeleton = figure.skeleton
    deep = [bone for bone, name in enumerate(skeleton.names) if any(word in name for word in DEEP)]
    places = skeleton.rest_translations.copy()
    for bone in deep:
        above = Rotation.from_quat(skeleton.rest.rotations[0, skeleton.parents[bone]])
        places[bone] += above.inv().apply([0.0, 0.0, -0.06])
    moved = replace(skeleton, rest_translations=places)
    meshes = []
    for mesh in figure.meshes:
        binds = mesh.bind_matrices.copy()
        for bone in deep:
            binds[bone, :3, 3] += Rotation.from_quat(skeleton.rest.rotations[0, bone]).inv().apply([0.0, 0.0, 0.06])
        meshes.append(replace(mesh, bind_matrices=binds))
    return replace(figure, name="deep", skeleton=moved, meshes=tuple(meshes), source=None), deep


def skin_ways(head, clip, bone):
    """How far the middle of the skin that a bone holds goes from its rest, in each frame ``(frames, 3)``, metres."""
    figure, world = head.figure, clip.world()
    held = [np.where(mesh.joints == bone, mesh.weights, 0.0).sum(axis=1) > 0.5 for mesh in figure.meshes]
    places = [np.concatenate([mesh[own] for mesh, own in zip(figure.rest_vertices, held, strict=True)]).mean(axis=0)]
    for frame in range(clip.frames):
        skins = zip(figure.skin(world, frame, clip.poses), held, strict=True)
        places.append(np.concatenate([skin[own] for skin, own in skins]).mean(axis=0))
    return np.array(places[1:]) - places[0]


@pytest.mark.parametrize("which", ["Brow Inner", "Lip Corner", "Cheek"])
@pytest.mark.long(but=1)
def test_a_bone_deep_in_the_head_turns_where_one_in_the_skin_slides(which):
    """Each unit that the bone shows on Osric, where bones turn: the skin goes the same way, and it is read."""
    osric = speaking("Osric")
    figure, _ = with_deep_bones(osric)
    slides, turns = Head.of(osric), Head.of(replace(osric, figures=(figure,), clips=()))
    bone = figure.skeleton.names.index(f"salt:Port {which}")
    shown = [shape.units for shape in slides.chart.shapes.values() if f"salt:Port {which}" in shape.bones]
    numbers = [number for number, unit in enumerate(UNITS) if unit.endswith("left") and any(unit in u for u in shown)]
    clips = [
        perform_units(head, np.eye(len(UNITS))[:, numbers], still_clip(head.figure, "made", Fraction(30), len(numbers)))
        for head in (slides, turns)
    ]
    resting = figure.skeleton.rest_rotations[bone]
    far = [np.degrees(angle_between(done.clip.poses.rotation_tracks[bone].T, resting)).max() for done in clips]
    assert far[0] < 0.1 < 3.0 < far[1]
    wanted, got = (skin_ways(head, done.clip, bone) for head, done in zip((slides, turns), clips, strict=True))
    size = np.linalg.norm(wanted, axis=1)
    # What goes straight ahead, as lips that are pushed out, no turn can show.
    across = np.abs(wanted[:, 2]) < 0.7 * size
    assert across.any()
    assert size.max() > 0.003
    assert (np.linalg.norm(got - wanted, axis=1)[across] < 0.45 * size.max()).all()
    before, after = (np.diag(head.units(done.clip)[numbers]) for head, done in zip((slides, turns), clips, strict=True))
    assert (after > 0.55 * before)[across & (before > 0.8)].all()


def test_a_smile_of_four_bones_is_read_as_a_smile():
    """Corners of the mouth, and its lips: its way is near to ours. It was three poses at once, all to the full."""
    osric = speaking("Osric")
    skeleton, clip = osric.figure.skeleton, osric.clips[0]
    few = [name for name in skeleton.names if "Lip" in name or "Beard" in name]
    face = Head.of(osric)
    chart = replace(face.chart, shapes={
        name: replace(shape, bones={bone: pose for bone, pose in shape.bones.items() if bone in few})
        for name, shape in face.chart.shapes.items() if set(shape.bones) & set(few)
    })  # fmt: skip
    edit = clip.poses.at(np.zeros(11)).edit()
    for bone in range(len(skeleton)):
        edit.rotation_tracks[bone] = skeleton.rest_rotations[bone][:, None]
        if bone in edit.translations:
            edit.translations[bone] = np.repeat(skeleton.rest_translations[bone][:, None], 11, axis=1)
    corner = skeleton.names.index("salt:Starboard Lip Corner")
    above = Rotation.from_quat(skeleton.rest.rotations[0, skeleton.parents[corner]])
    way = above.inv().apply([-0.0129, 0.0122, 0.0])  # aside and up, and not back as ours
    edit.translations[corner] = skeleton.rest_translations[corner][:, None] + np.outer(way, np.linspace(0.0, 1.0, 11))
    smile = fairswap.Clip("smile", Fraction(30), edit.poses())
    units = Head(osric.figure, face.roles, chart).units(smile)[:, -1]
    assert UNITS[int(np.argmax(units))] == "lip_corner_puller_right"
    assert 0.7 < units.max() < 1.3
    assert np.sort(units)[-2] < 0.35


def with_one_brow_bone(document):
    """Osric with a single bone for each brow, in the middle of it; what the other held hangs on it, too."""
    figure = document.figure
    skeleton, names = figure.skeleton, figure.skeleton.names
    gone = [bone for bone, name in enumerate(names) if "Brow Inner" in name]
    kept = [bone for bone in range(len(names)) if bone not in gone]
    now = {bone: number for number, bone in enumerate(kept)}
    places = skeleton.rest_translations.copy()
    for bone in gone:
        other = names.index(names[bone].replace("Inner", "Outer"))
        places[other] = 0.5 * (places[other] + places[bone])
        now[bone] = now[other]
    middles = fairswap.Skeleton(names, skeleton.parents, skeleton.rest_rotations, places).rest.positions[0]
    small = fairswap.Skeleton(
        tuple(names[bone] for bone in kept), [now.get(parent, -1) for parent in skeleton.parents[kept].tolist()],
        skeleton.rest_rotations[kept], places[kept],
    )  # fmt: skip
    meshes = []
    for mesh in figure.meshes:
        binds = mesh.bind_matrices[kept].copy()
        for bone in kept:
            if "Brow" in names[bone]:
                turn = Rotation.from_quat(skeleton.rest.rotations[0, bone]).inv()
                binds[now[bone], :3, 3] = turn.apply(-middles[bone])
        joints = np.vectorize(now.__getitem__)(mesh.joints)
        meshes.append(replace(mesh, joints=joints, bind_matrices=binds, origin=None))
    return replace(figure, name="one brow", skeleton=small, meshes=tuple(meshes), source=None)


def test_a_brow_of_one_bone_goes_up_and_down_as_a_whole():
    """No unit of a part of a brow is what such a bone does: it stood still, and nothing was said of why."""
    osric = speaking("Osric")
    whole = Head.of(replace(osric, figures=(with_one_brow_bone(osric),), clips=()))
    bone = whole.figure.skeleton.names.index("salt:Port Brow Outer")
    wanted = np.zeros((len(UNITS), 3))
    for unit in ("inner_brow_raiser_left", "outer_brow_raiser_left"):
        wanted[UNITS.index(unit), 1] = 1.0
    wanted[UNITS.index("brow_lowerer_left"), 2] = 1.0
    done = perform_units(whole, wanted, still_clip(whole.figure, "made", Fraction(30), 3))
    assert not done.lost
    ways = skin_ways(whole, done.clip, bone)
    assert np.linalg.norm(ways[0]) < 1e-6
    assert ways[1][1] > 0.005 > -0.004 > ways[2][1]
    assert np.abs(whole.units(done.clip) - wanted).max() < 0.05
    # Half of a brow that goes up is the half of the whole; that this is all it can do is no fault of the result.
    juniper = Head.of(speaking("Juniper"))
    inner = np.zeros((len(UNITS), 31))
    inner[UNITS.index("inner_brow_raiser_left")] = np.sin(np.linspace(0.0, np.pi, 31))
    source = perform_units(juniper, inner, still_clip(juniper.figure, "brow", Fraction(30), 31)).clip
    made = fairswap.convert(
        fairswap.Document("brow", "glTF 2.0", osric.space, (juniper.figure,), (source,)), whole.figure
    ).done[0]
    assert skin_ways(whole, made.clip, bone)[15][1] > 0.002
    assert made.comparison.face_region is None or made.comparison.face_region[1] < 0.2
    assert "inner brow raiser left" in next(row.message for row in made.findings if row.code == "face-lost")


@pytest.mark.parametrize("onto", ["juniper", "osric"])
@pytest.mark.long(but=1)
def test_a_jaw_that_is_to_open_further_than_a_unit_does_and_leaves_the_lips_alone(onto):
    """Opened by a bone and a morph at once: what the jaw was short of, lips made up for that were none of it."""
    made = fairswap.convert(rig("words.glb"), fairswap.demo_file(f"{onto}.glb")).done[0]
    head = Head(made.swap.target.figure, made.swap.target.roles, clips=(made.clip,))
    frame = int(np.argmax(head.units(made.clip)[UNITS.index("jaw_drop")]))
    units = head.units(made.clip)[:, frame]
    assert units[UNITS.index("jaw_drop")] > 1.3
    lips = [number for number, unit in enumerate(UNITS) if unit.startswith("lip_")]
    assert units[lips].max() < 0.25
    assert made.comparison.face_region is None or made.comparison.face_region[1] < 0.3


@pytest.mark.parametrize("side", ["source", "target"])
def test_a_file_saved_in_mid_speech_has_the_same_face(side):
    """Its bones rest at an open mouth, and its skin was bound to a shut one: 55 of 100, against itself."""
    line = speaking("Osric")
    fairswap.save("line.glb", line.figure, line.clips)
    saved = rewritten(Path("line.glb").read_bytes(), "saved in mid motion")
    Path("saved.glb").write_bytes(saved)
    read = fairswap.load("saved.glb")
    assert np.abs(read.figure.skeleton.rest_translations - line.figure.skeleton.rest_translations).max() > 0.005
    if side == "source":
        assert fairswap.compare(line, read).likeness > 99.0
    else:
        done = fairswap.convert(speaking("Juniper"), replace(read, clips=())).done[0]
        face = next(part for part in done.comparison.parts if part.part == "face")
        assert face.score > 95.0


def test_a_file_saved_while_its_body_is_turned_has_the_same_face():
    """A third into a bow it looks 56 degrees aside: fewer shapes were found, and others."""
    bow = fairswap.convert(fairswap.demo_motion("turn-and-bow"), figure("Osric")).clips[0]
    fairswap.save("bow.glb", figure("Osric"), [bow])
    turned = fairswap.load(rewritten(Path("bow.glb").read_bytes(), "saved in mid motion"), format=".glb").figure
    plain, found = (Head.of(one) for one in (figure("Osric"), turned))
    assert found.chart.shapes.keys() == plain.chart.shapes.keys()
    for name, shape in plain.chart.shapes.items():
        for bone, (move, turn) in shape.bones.items():
            assert np.allclose(found.chart.shapes[name].bones[bone][0], move, atol=2e-3)
            assert np.allclose(found.chart.shapes[name].bones[bone][1], turn, atol=0.5)
