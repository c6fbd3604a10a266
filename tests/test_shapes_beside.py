"""Shapes that are no part of a face, on a body that its owner has shaped: they rest where they were set, go along with
clips by their names, and are told where they are lost."""

from dataclasses import replace

import numpy as np
import pytest

import fairswap
from fairswap.bones.assignment import roles_of
from fairswap.model.poses import MorphTrack
from making import TROUPE, act, figure, run

SET = 0.7


def shaped(name, rest=SET, title="Belly"):
    """A member of the troupe with a belly, set to so much; on every mesh that has a place for it."""
    own = figure(name)
    hips = own.skeleton.rest.positions[0, roles_of(own).bones["hips"], 1]
    meshes = []
    for mesh, places in zip(own.meshes, own.rest_vertices, strict=True):
        forward = 0.06 * np.exp(-(((places[:, 1] - hips) / 0.1) ** 2)) * (np.abs(places[:, 0]) < 0.15)
        belly = np.stack([0.0 * forward, 0.0 * forward, forward], axis=1)
        if forward.max() < 0.03:
            meshes.append(mesh)
            continue
        deltas = belly[None] if mesh.morph_deltas is None else np.concatenate([mesh.morph_deltas, belly[None]])
        weights = np.append(mesh.resting_weights, rest)
        meshes.append(
            replace(mesh, morph_names=(*mesh.morph_names, title), morph_deltas=deltas, morph_normals=None, origin=None,
                    morph_weights=weights)
        )  # fmt: skip
    return replace(own, meshes=tuple(meshes), source=None)


def moved_by(clip, own, most=1.0, title="Belly"):
    """The clip with the belly going from its rest up to the most, beside what else it does."""
    tracks = {track.mesh: track.weights for track in clip.poses.morph_tracks}
    for number, mesh in enumerate(own.meshes):
        if title in mesh.morph_names:
            rows = tracks.get(number, np.repeat(mesh.resting_weights[:, None], clip.frames, axis=1)).copy()
            rows[mesh.morph_names.index(title)] = np.linspace(mesh.resting_weights[-1], most, clip.frames)
            tracks[number] = rows
    tracks = tuple(MorphTrack(mesh, rows) for mesh, rows in tracks.items())
    return replace(clip, poses=replace(clip.poses, morph_tracks=tracks))


def belly_of(path, title="Belly"):
    """How far the belly is out in each frame of the one clip of a file: as it is keyed, or as it rests."""
    document = fairswap.load(path)
    (clip,) = document.clips
    (number,) = (number for number, mesh in enumerate(document.figure.meshes) if title in mesh.morph_names)
    mesh = document.figure.meshes[number]
    keyed = {track.mesh: track.weights for track in clip.poses.morph_tracks}
    at = mesh.morph_names.index(title)
    return keyed[number][at] if number in keyed else np.full(clip.frames, mesh.morph_weights[at])


def in_front(own, mesh):
    """How far a mesh reaches to the front at the height of the hips, at rest."""
    places = own.rest_vertices[mesh]
    hips = own.skeleton.rest.positions[0, roles_of(own).bones["hips"], 1]
    return places[np.abs(places[:, 1] - hips) < 0.03, 2].max()


@pytest.mark.parametrize("who", ["Pip", "Juniper"])
@pytest.mark.long(but=1)
def test_a_body_keeps_its_shape_when_its_face_is_moved(who):
    fairswap.save("speaker.glb", figure("Juniper"), [fairswap.demo_motion("spoken line", "Juniper").clips[0]])
    fairswap.save("own.glb", shaped(who))
    ran = run("convert", "speaker.glb", "--onto", "own.glb", "-o", "line.glb")
    assert ran.returncode == 0, ran.stderr
    assert np.abs(belly_of("line.glb") - SET).max() < 1e-6
    ran = run("face", "apply", "--text", "Evening!", "--onto", "own.glb", "-o", "said.glb")
    assert ran.returncode == 0, ran.stderr
    assert np.abs(belly_of("said.glb") - SET).max() < 1e-6


def test_a_face_laid_over_a_clip_leaves_its_other_shapes_as_they_move():
    own = shaped("Pip")
    clip = moved_by(act("idle", "Pip"), own)
    fairswap.save("breathing.glb", own, [clip])
    words = "--text", "Good evening!", "--onto", "breathing.glb", "--clip", clip.name
    ran = run("face", "apply", *words, "-o", "o.glb")
    assert ran.returncode == 0, ran.stderr
    assert np.abs(belly_of("o.glb") - np.linspace(SET, 1.0, clip.frames)).max() < 1e-6
    (clip,) = fairswap.load("o.glb").clips
    assert max(np.ptp(track.weights, axis=1).max() for track in clip.poses.morph_tracks if len(track.weights) > 1) > 0.3


def test_joined_and_blended_with_a_clip_that_does_not_move_it_a_shape_goes_back_to_its_rest():
    own = shaped("Pip")
    plain = act("idle", "Pip")
    moving = moved_by(act("idle", "Pip"), own, most=0.0)
    fairswap.save("plain.glb", own, [plain])
    fairswap.save("moving.glb", own, [moving])
    assert run("clip", "join", "moving.glb", "plain.glb", "-o", "joined.glb").returncode == 0
    joined = belly_of("joined.glb")
    assert joined[0] == pytest.approx(SET)
    assert joined[moving.frames // 2] == pytest.approx(SET / 2, abs=0.05)
    assert np.abs(joined[-plain.frames // 2 :] - SET).max() < 1e-6
    ran = run(
        "clip", "blend", "moving.glb", "plain.glb", "--part", "face", "--from", "2", "--to", "4", "-o", "mixed.glb"
    )
    assert ran.returncode == 0, ran.stderr
    mixed = belly_of("mixed.glb")
    rate = float(plain.rate)
    assert mixed[int(3 * rate)] == pytest.approx(SET)
    assert mixed[int(1 * rate)] == pytest.approx(np.linspace(SET, 0.0, moving.frames)[int(1 * rate)], abs=1e-6)


NO_MORPHS = 'fairswap = "platform/2"\nname = "plain"\nbones = "fernway"\n[figure]\nmorphs = "none"\n'


@pytest.mark.parametrize("stage", ["fernway", "plain.toml"])
@pytest.mark.long(but=1)
def test_a_stage_that_does_not_take_the_shape_gets_the_body_that_has_it(stage):
    own = shaped("Pip")
    with open("plain.toml", "w") as file:
        file.write(NO_MORPHS)
    fairswap.save("own.glb", own, [moved_by(act("idle", "Pip"), own)])
    ran = run("fit", "own.glb", "--platform", stage, "-o", "fitted", "--json")
    assert ran.returncode == 0, ran.stderr
    fitted = fairswap.load("fitted/Pip.glb").figure
    assert not [mesh for mesh in fitted.meshes if "Belly" in mesh.morph_names]
    flat = in_front(figure("Pip"), 0)
    assert in_front(own, 0) - flat > 0.02
    assert in_front(fitted, 0) - flat == pytest.approx(in_front(own, 0) - flat, abs=1e-3)
    if stage == "fernway":
        assert "left out, as no part of a face: 'Belly'" in [row["what"] for row in ran.report["changes"]]
        (told,) = [row for row in ran.report["findings"] if row["code"] == "shapes-lost"]
        assert told["message"].startswith("'Belly' moves too")


def test_a_face_that_its_owner_has_set_is_set_on_a_stage_with_other_shapes():
    """Juniper smiles at rest: so does she with the eleven shapes of Fernway, in a clip that leaves her face alone."""
    own = figure("Juniper")
    smiling = tuple(
        replace(mesh, morph_weights=np.array([float(name == "Grin") for name in mesh.morph_names]), origin=None)
        if mesh.morph_names else mesh
        for mesh in own.meshes
    )  # fmt: skip
    smiling = replace(own, meshes=smiling, source=None)
    clip = act("idle", "Juniper")
    made = [
        fairswap.fit(fairswap.Document("x", "", own.space, (one,), (clip,)), "fernway").figure for one in (own, smiling)
    ]
    moved = [np.linalg.norm(np.concatenate(b.rest_vertices) - np.concatenate(a.rest_vertices), axis=1)
             for a, b in ((own, smiling), made)]  # fmt: skip
    # The skin moves where it did, and about as far.
    assert moved[0].max() > 0.01
    assert moved[1].max() > 0.5 * moved[0].max()
    assert np.corrcoef(moved[0], moved[1])[0, 1] > 0.8


def test_an_expression_of_an_avatar_does_not_bring_the_belly_along():
    own = shaped("Pip")
    fitted = fairswap.fit(fairswap.Document("x", "", own.space, (own,), ()), "vrm-1")
    assert fitted.figure.avatar is not None
    mesh = next(number for number, mesh in enumerate(fitted.figure.meshes) if "Belly" in mesh.morph_names)
    for name, expression in fitted.figure.avatar.expressions.items():
        moved = {(number, morph) for number, morph, _ in expression.morphs}
        assert ((mesh, "Belly") in moved) == (name == "Belly"), name


@pytest.mark.parametrize(("target", "moves"), [("Pip", True), ("faceless", True), ("of another scale", False)])
@pytest.mark.long(but=1)
def test_a_shape_of_the_same_name_goes_along_with_a_motion(target, moves):
    most = 100.0 if target == "of another scale" else 1.0
    source = shaped("Juniper", rest=0.0)
    clip = moved_by(act("walk", "Juniper"), source, most)
    fairswap.save("source.glb", source, [clip])
    own = shaped("Pip", rest=0.2)
    if target == "faceless":  # nothing but the belly
        bare = [
            replace(mesh, morph_names=mesh.morph_names[-1:], morph_deltas=mesh.morph_deltas[-1:],
                    morph_weights=mesh.morph_weights[-1:])
            for mesh in own.meshes
        ]  # fmt: skip
        own = replace(own, meshes=tuple(bare))
    fairswap.save("own.glb", own)
    ran = run("convert", "source.glb", "--onto", "own.glb", "-o", "o.glb", "--json")
    assert ran.returncode in (0, 1), ran.stderr
    told = [row["message"] for row in ran.report["findings"] if row["code"] == "shapes-lost"]
    if moves:
        assert np.abs(belly_of("o.glb") - np.linspace(0.0, 1.0, clip.frames)).max() < 1e-6
        assert not told
    else:
        assert np.abs(belly_of("o.glb") - 0.2).max() < 1e-6
        assert told == ["'Belly' moves too, beside the face: not carried over"]


def test_a_shape_that_stays_as_it_rests_is_not_said_to_move():
    """Exporters key all morphs, also those that never change."""
    source = shaped("Pip")
    clip = moved_by(act("walk", "Pip"), source, most=SET)
    made = fairswap.convert(fairswap.Document("x", "", source.space, (source,), (clip,)), TROUPE / "juniper.glb").done[
        0
    ]
    assert not [row for row in made.findings if row.code in ("shapes-lost", "face-none")]


def test_morphs_of_a_stage_are_only_on_the_meshes_that_they_move():
    fitted = fairswap.fit(fairswap.load(TROUPE / "juniper.glb"), "fernway").figure
    for mesh in fitted.meshes:
        for name, deltas in zip(mesh.morph_names, mesh.morph_deltas if mesh.morph_names else (), strict=True):
            assert np.abs(deltas).max() > 1e-5, (mesh.name, name)
    assert len({len(mesh.morph_names) for mesh in fitted.meshes}) > 1


def test_a_face_bone_without_skin_makes_no_morph_and_it_is_told():
    """A jaw that nothing hangs on: an opened mouth made of it would be one that stays shut."""
    own = figure("Osric")
    jaw = roles_of(own).bones["jaw"]
    below, head = set(own.skeleton.below(jaw).tolist()) | {jaw}, roles_of(own).bones["head"]
    meshes = tuple(
        replace(mesh, joints=np.where(np.isin(mesh.joints, list(below)), head, mesh.joints), origin=None)
        for mesh in own.meshes
    )
    bare = replace(own, meshes=meshes, source=None)
    fitted = fairswap.fit(fairswap.Document("x", "", own.space, (bare,), ()), "fernway")
    plain = fairswap.fit(fairswap.Document("x", "", own.space, (own,), ()), "fernway")
    made = {name for mesh in fitted.figure.meshes for name in mesh.morph_names}
    lost = {row.place for row in fitted.findings if row.code == "morph-lost"}
    whole = {name for mesh in plain.figure.meshes for name in mesh.morph_names}
    assert "say ah" in whole
    assert lost
    assert not made & lost


def reach(path):
    """How far a figure's trunk reaches to the front at the height of its hips, at rest, of its own height."""
    own = fairswap.load(path).figure
    places, hips = np.concatenate(own.rest_vertices), own.skeleton.rest.positions[0, roles_of(own).bones["hips"]]
    size = own.height_m
    near = (np.abs(places[:, 1] - hips[1]) < 0.02 * size) & (np.abs(places[:, 0] - hips[0]) < 0.06 * size)
    return (places[near, 2].max() - hips[2]) / size


CHANGES = {
    "t.glb": ("pose", "set", "own.glb", "--to", "t"),
    "moment.glb": ("pose", "set", "own.glb", "--to", "time:1"),
    "stage/Pip.glb": ("fit", "own.glb", "--platform", "quillmoor"),
    "few/Pip.glb": ("fit", "own.glb", "--platform", "quillmoor", "--triangles", "5000"),
    "small/Pip.glb": ("fit", "own.glb", "--platform", "saltglass", "--height", "1.1"),
    "bones.glb": ("rig", "own.glb"),
    "mirrored.glb": ("clip", "mirror", "own.glb"),
    **{f"again{kind}": ("convert", "own.glb", "--onto", "own.glb") for kind in (".dae", ".usda", ".x3d", ".gltf")},
}


SLOW = "few/Pip.glb", "small/Pip.glb", "bones.glb", "t.glb", "again.usda"


@pytest.mark.parametrize("made", [pytest.param(name, marks=pytest.mark.long) if name in SLOW else name
                                  for name in CHANGES])  # fmt: skip
@pytest.mark.long(but=3)
def test_whatever_is_done_to_a_figure_its_belly_is_as_far_out_as_it_was(made):
    own = shaped("Pip")
    fairswap.save("own.glb", own, [act("idle", "Pip")])
    fairswap.save("flat.glb", figure("Pip"), [act("idle", "Pip")])
    where = made.split("/")[0]
    ran = run(*CHANGES[made], "-o", where)
    assert ran.returncode in (0, 1), ran.stderr
    assert reach("own.glb") - reach("flat.glb") > 0.02
    # Points are sampled where vertices happen to be: a rest pose or fewer triangles move them a little.
    assert reach(made) == pytest.approx(reach("own.glb"), abs=0.004)


def test_a_stage_of_usd_moves_a_shape_as_far_as_it_was_moved():
    """Its shapes rest at nothing: weights count from what is in the points."""
    own = shaped("Pip")
    clip = moved_by(act("idle", "Pip"), own)
    fairswap.save("own.glb", own, [clip])
    fairswap.save("own.usda", own, [clip])
    one, other = fairswap.load("own.glb"), fairswap.load("own.usda")
    for frame in (0, clip.frames - 1):
        a, b = (
            np.concatenate(each.figure.skin(each.clips[0].world(), frame, each.clips[0].poses)) for each in (one, other)
        )
        assert np.abs(np.sort(a[:, 2])[-500:] - np.sort(b[:, 2])[-500:]).max() < 1e-4


@pytest.mark.long
def test_clothes_made_for_a_body_that_its_owner_has_set_fit_one_that_is_flat():
    """A belt a centimetre off a set belly lies a centimetre off a flat one."""
    own, flat = shaped("Pip"), figure("Pip")
    number = next(number for number, mesh in enumerate(own.meshes) if "Belly" in mesh.morph_names)
    skin, places = own.meshes[number], own.rest_vertices[number]
    hips = own.skeleton.rest.positions[0, roles_of(own).bones["hips"], 1]
    near = (np.abs(places[:, 1] - hips) < 0.06) & (np.abs(places[:, 0]) < 0.15)
    kept = skin.triangles[near[skin.triangles].all(axis=1)]
    rows, corners = np.unique(kept, return_inverse=True)
    belt = replace(
        skin, name="belt", vertices=places[rows] + 0.01 * skin.normals[rows], normals=skin.normals[rows],
        triangles=corners.reshape(-1, 3), joints=skin.joints[rows], weights=skin.weights[rows], morph_names=(),
        morph_deltas=None, morph_weights=None, morph_normals=None, uvs=None, tangents=None, more={}, origin=None,
        materials=(),
    )  # fmt: skip
    fairswap.save("belt.glb", replace(own, meshes=(belt,), source=None))
    fairswap.save("set.glb", own)
    fairswap.save("flat.glb", flat)
    made = fairswap.dress("flat.glb", "belt.glb", made_for="set.glb", settle=False).figure
    front = made.rest_vertices[-1][:, 2].max() - in_front(flat, number)
    assert front == pytest.approx(0.01, abs=0.008)


@pytest.mark.long
def test_a_figure_that_is_rigged_anew_keeps_its_shapes_as_they_look_at_rest():
    """Bound in the T and resting with the arms down: what a shape moves up there, it moves outward here."""
    own = figure("Pip")
    number = max(range(len(own.meshes)), key=lambda at: np.ptp(own.meshes[at].vertices[:, 0]))
    mesh = own.meshes[number]
    arms = np.zeros((1, len(mesh.vertices), 3))
    arms[0, np.abs(own.rest_vertices[number][:, 0]) > 0.25, 1] = 0.02
    sleeved = replace(mesh, morph_names=("Sleeves",), morph_deltas=arms, morph_weights=np.ones(1), origin=None)
    meshes = tuple(sleeved if at == number else one for at, one in enumerate(own.meshes))
    fairswap.save("own.glb", replace(own, meshes=meshes, source=None))
    assert run("pose", "set", "own.glb", "--to", "t", "--skin", "keep", "-o", "turned.glb").returncode == 0
    turned = fairswap.load("turned.glb").figure
    assert run("rig", "turned.glb", "-o", "rigged.glb").returncode == 0
    rigged = fairswap.load("rigged.glb").figure
    without = [
        replace(one, meshes=tuple(replace(mesh, morph_weights=None) for mesh in one.meshes)) for one in (turned, rigged)
    ]
    assert np.abs(turned.rest_vertices[number] - without[0].rest_vertices[number]).max() > 0.015
    for a, b in ((turned, rigged), without):
        assert max(np.abs(x - y).max() for x, y in zip(a.rest_vertices, b.rest_vertices, strict=True)) < 1e-5
