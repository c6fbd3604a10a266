"""Platforms: what they demand, what is checked, what is mended and what that costs."""

import base64
import io
import itertools
import json
import re
from dataclasses import replace
from fractions import Fraction
from functools import cache
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from scipy.optimize import nnls
from scipy.spatial.transform import Rotation

import fairswap
from fairswap.clips.proving import body_reel
from fairswap.clips.resampling import at_rate
from fairswap.figures.bones_alone import without_mesh
from fairswap.formats.gltf.opening import open_container
from fairswap.model.mesh import Mesh, deformed_vertices
from fairswap.model.poses import Poses
from fairswap.model.skeleton import Skeleton
from fairswap.model.space import Space
from fairswap.platform.checking import check
from fairswap.platform.fitting import fit_figure
from fairswap.platform.influences import with_fewer_influences
from fairswap.platform.motions import down_to_size, fitted_clip, fitting_name, travel_of
from fairswap.platform.rules import ClipRules, Platform, built_in_platforms, platform_named, rule_names, template
from making import TROUPE, act, figure, random_skeleton, rigged, run

FERNWAY = platform_named("fernway")


@cache
def fitted(who="Pip", stage="fernway", title="walk"):
    return fit_figure(figure(who), [act(title, who)], platform_named(stage))


def saved(name, made, clips=(), space=None):
    fairswap.save(name, made, clips, space=space or Space(), force=True)
    return fairswap.load(name)


def wrong_rules(document, platform=FERNWAY):
    return {row.rule for row in check(document, platform).broken}


def grown(made, parent, name, weight=0.0):
    """One more bone below ``parent``, with a little weight or none."""
    old = made.skeleton
    above = old.names.index(parent)
    skeleton = Skeleton(
        (*old.names, name),
        np.append(old.parents, above),
        np.concatenate([old.rest_rotations, [[0.0, 0, 0, 1]]]),
        np.concatenate([old.rest_translations, [[0.0, 0.02, -0.1]]]),
    )
    meshes = []
    for mesh in made.meshes:
        bind = np.eye(4)[None].copy()
        bind[0, :3, 3] = -skeleton.rest.positions[0, -1]
        joints = np.concatenate([mesh.joints, np.full((len(mesh.joints), 1), len(old))], axis=1)
        share = np.zeros((len(mesh.joints), 1))
        share[:40] = weight
        weights = np.concatenate([mesh.weights * (1.0 - share), share], axis=1)
        binds = np.concatenate([mesh.bind_matrices, bind])
        meshes.append(replace(mesh, joints=joints, weights=weights, bind_matrices=binds))
    return replace(made, skeleton=skeleton, meshes=tuple(meshes))


def renamed_bone(made):
    names = tuple("crown" if name == "noggin" else name for name in made.skeleton.names)
    return replace(made, skeleton=replace(made.skeleton, names=names))


def smeared(made):
    """Eight bones for some vertices."""
    body = made.meshes[0]
    joints = np.concatenate([body.joints, np.tile(np.arange(4, 8), (len(body.joints), 1))], axis=1)
    weights = np.concatenate([body.weights, np.zeros((len(body.weights), 4))], axis=1)
    weights[:50] = 1 / 8
    joints[:50] = np.arange(8)
    return replace(made, meshes=(replace(body, joints=joints, weights=weights), *made.meshes[1:]))


def textured(made, kind, size):
    picture = io.BytesIO()
    Image.new("RGB", (size, size), (200, 120, 90)).save(picture, kind)
    body = made.meshes[0]
    material = replace(body.materials[0], texture=picture.getvalue())
    return replace(made, meshes=(replace(body, materials=(material,)), *made.meshes[1:]))


def more_morphs(made):
    face = made.meshes[1]
    return replace(made, meshes=(made.meshes[0], replace(face, morph_names=("grimace", *face.morph_names[1:]))))


def larger(made, factor):
    skeleton = replace(made.skeleton, rest_translations=made.skeleton.rest_translations * factor)
    meshes = []
    for mesh in made.meshes:
        binds = mesh.bind_matrices.copy()
        binds[:, :3, 3] *= factor
        deltas = None if mesh.morph_deltas is None else mesh.morph_deltas * factor
        meshes.append(replace(mesh, vertices=mesh.vertices * factor, bind_matrices=binds, morph_deltas=deltas))
    return replace(made, skeleton=skeleton, meshes=tuple(meshes))


BAD_FIGURES = {
    "bones": lambda f: (renamed_bone(f), None),
    "space.unit": lambda f: (f, Space("+Y", "+Z", "cm")),
    "figure.extra": lambda f: (grown(f, "seat", "tail", 0.3), None),
    "figure.max_influences": lambda f: (smeared(f), None),
    "figure.max_texture_px": lambda f: (textured(f, "PNG", 1024), None),
    "figure.morphs": lambda f: (more_morphs(f), None),
    "figure.height_m": lambda f: (larger(f, 2.6), None),
    "figure.ends": lambda f: (with_a_tip(f), None),
    "figure.root": lambda f: (rooted(f), None),
    "figure.texture_formats": lambda f: (textured(f, "WEBP", 64), None),
    "figure.rest_pose": lambda f: (figure_resting_in_t(), None),
}


def with_a_tip(made):
    longer = grown(made, "paw-near", "paw-near tip")
    tip = len(longer.skeleton) - 1
    return replace(longer, skeleton=replace(longer.skeleton, ends=frozenset({tip})))


def rooted(made):
    """A bone above the hips, on the floor."""
    old = made.skeleton
    skeleton = Skeleton(
        ("ground", *old.names),
        np.concatenate([[-1], np.where(old.parents < 0, 0, old.parents + 1)]),
        np.concatenate([[[0.0, 0, 0, 1]], old.rest_rotations]),
        np.concatenate([[[0.0, 0, 0]], old.rest_translations]),
    )
    meshes = tuple(
        replace(m, joints=m.joints + 1, bind_matrices=np.concatenate([np.eye(4)[None], m.bind_matrices]))
        for m in made.meshes
    )
    return replace(made, skeleton=skeleton, meshes=meshes)


def figure_resting_in_t():
    rules = replace_rules(FERNWAY, figure={"rest_pose": "T"})
    return fit_figure(figure("Pip"), [], rules).figure


def replace_rules(platform, **tables):
    import msgspec

    changed = {name: msgspec.structs.replace(getattr(platform, name), **values) for name, values in tables.items()}
    return replace(platform, **changed)


@pytest.mark.parametrize("rule", BAD_FIGURES)
@pytest.mark.long(but=2)
def test_one_broken_rule_of_a_figure_is_found_and_mended(rule):
    assert not wrong_rules(saved("good.glb", fitted().figure))
    made, space = BAD_FIGURES[rule](fitted().figure)
    document = saved("bad.glb", made, space=space)
    assert wrong_rules(document) == {rule}
    again = fit_figure(document.figure, document.clips_of(document.figure), FERNWAY)
    left = wrong_rules(saved("mended.glb", again.figure))
    assert left == ({rule} if rule == "figure.height_m" else set())  # nobody's size is changed unasked


def test_shapes_that_a_chart_does_not_have_are_named_and_the_others_counted():
    good, odd = fitted().figure, more_morphs(fitted().figure)
    rows = [next(row for row in check(fairswap.Document("f", "", made.space, (made,), ()), FERNWAY).results
                 if row.rule == "figure.morphs") for made in (good, odd)]  # fmt: skip
    assert rows[0].measured == f"{len(good.meshes[1].morph_names)} of them"
    assert rows[1].measured == "'grimace' not"


def uniform(clip):
    return replace(clip, kept=None)


def travelling(clip):
    hips = fitted().figure.skeleton.names.index("seat")
    row = clip.poses.translated_bones.tolist().index(hips)
    tracks = clip.poses.translation_tracks.copy()
    tracks[row, 2] += np.linspace(0.0, 3.0, clip.frames)
    return replace(clip, poses=replace(clip.poses, translation_tracks=tracks), origin=None)


def shifted_hand(clip):
    bone = fitted().figure.skeleton.names.index("paw-near")
    poses = clip.poses
    own = np.tile(poses.skeleton.rest_translations[bone][:, None], (1, clip.frames)) + 0.01
    bones = np.append(poses.translated_bones, bone)
    new = Poses(poses.skeleton, poses.rotation_tracks, bones, np.concatenate([poses.translation_tracks, own[None]]))
    kept = replace(clip.kept, translations={**clip.kept.translations, bone: np.arange(clip.frames)})
    return replace(clip, poses=new, kept=kept, keyed=clip.keyed | {bone})


BAD_CLIPS = {
    "clip.rates": lambda c: [replace(c, rate=Fraction(25))],
    "clip.max_seconds": lambda c: [
        replace(c, rate=Fraction(20), poses=c.poses.at(np.arange(240) % c.frames), kept=None)
    ],
    "clip.keys": lambda c: [uniform(c)],
    "clip.travel": lambda c: [travelling(c)],
    "clip.moving": lambda c: [shifted_hand(c)],
    "clip.names": lambda c: [replace(c, name="walk!?")],
    "clip.max_name_length": lambda c: [replace(c, name="w" * 40)],
    "clip.files": lambda c: [c, replace(c, name="second")],
}


@pytest.mark.parametrize("rule", BAD_CLIPS)
@pytest.mark.long(but=2)
def test_one_broken_rule_of_a_clip_is_found_and_mended(rule):
    bones = without_mesh(fitted().figure)
    clip = fitted().clips[0]
    assert not wrong_rules(saved("good.glb", bones, [clip]))
    document = saved("bad.glb", bones, BAD_CLIPS[rule](clip))
    also = {"clip.max_seconds": {"clip.keys", "file.max_motion_kib"}, "clip.travel": set()}.get(rule, set())
    assert {rule} <= wrong_rules(document) <= {rule} | also
    done = run("fit", "bad.glb", "--platform", "fernway", "-o", "out", "--json")
    assert done.returncode == 0, done.stdout
    # What was done is told under the name of the rule, with the clip; names in too long are names as well.
    told = {row["rule"]: row["what"] for row in done.report["changes"]}
    if rule != "clip.files":
        assert document.clips[0].name in told[rule.replace("max_name_length", "names")]
    assert set(told) <= {*rule_names()}
    assert run("check", "out", "--platform", "fernway").returncode == 0


@pytest.mark.parametrize("stage", ["quillmoor", "saltglass", "fernway"])
@pytest.mark.parametrize("who", ["Juniper", "Osric", "Pip"])
@pytest.mark.long(but=2)
def test_every_figure_comes_to_every_stage_and_looks_the_same(who, stage):
    platform, made = platform_named(stage), fitted(who, stage)
    document = saved("figure.glb", made.figure, space=platform.space)
    assert check(document, platform).fits
    if stage != "fernway" or who == "Pip":  # no bones of the body were taken away
        assert made.proof.mean_mm < 2.0
    else:
        assert made.proof.mean_mm < 15.0
        assert any(change.rule == "figure.max_bones" for change in made.changes)
    clip = made.clips[0]
    assert abs(clip.duration_s - act("walk", who).duration_s) <= 0.5 / float(clip.rate) + 1e-9
    names = made.figure.skeleton.names
    world = clip.world().positions
    motion = saved("motion.glb", without_mesh(made.figure), [clip], space=platform.space)
    again = motion.clips[0].at(np.arange(clip.frames) / float(clip.rate)).world().positions
    order = [motion.figure.skeleton.names.index(name) for name in names]
    assert np.abs(again[:, order] - world).max() < 1e-4


def test_materials_go_along_whole(tmp_path):
    """Normal maps, alpha and extensions too; all their pictures made smaller."""
    made = open_container(TROUPE / "juniper.glb")
    raw = json.loads(json.dumps(made.raw))
    picture = io.BytesIO()
    Image.new("RGB", (2048, 1024), (128, 128, 255)).save(picture, "PNG")
    uri = "data:image/png;base64," + base64.b64encode(picture.getvalue()).decode()
    raw["images"].append({"uri": uri})
    raw["samplers"] = [{"wrapS": 33071}]
    raw["textures"].append({"source": len(raw["images"]) - 1, "sampler": 0})
    raw["materials"][0] |= {"normalTexture": {"index": len(raw["textures"]) - 1, "scale": 0.5}, "alphaMode": "MASK"}
    raw["materials"][0]["extensions"] = {"KHR_materials_clearcoat": {"clearcoatFactor": 0.3}}
    raw["extensionsUsed"] = ["KHR_materials_clearcoat"]
    data = base64.b64encode(bytes(made.buffers[0])).decode()
    raw["buffers"] = [{"byteLength": len(made.buffers[0]), "uri": f"data:;base64,{data}"}]
    Path("shiny.gltf").write_text(json.dumps(raw))
    assert run("fit", "shiny.gltf", "--platform", "fernway", "-o", "shiny.glb").returncode == 0
    got = open_container(Path("shiny.glb")).raw
    material = got["materials"][0]
    assert material["alphaMode"] == "MASK"
    assert material["extensions"]["KHR_materials_clearcoat"] == {"clearcoatFactor": 0.3}
    assert got["extensionsUsed"] == ["KHR_materials_clearcoat"]
    texture = got["textures"][material["normalTexture"]["index"]]
    assert got["samplers"][texture["sampler"]] == {"wrapS": 33071}
    view = got["bufferViews"][got["images"][texture["source"]]["bufferView"]]
    stored = open_container(Path("shiny.glb")).buffers[0]
    bytes_ = bytes(stored[view["byteOffset"] : view["byteOffset"] + view["byteLength"]])
    assert Image.open(io.BytesIO(bytes_)).size == (512, 256)


def test_what_fits_already_is_copied_byte_for_byte():
    fairswap.save("pip.glb", fitted().figure)
    done = run("fit", "pip.glb", "--platform", "fernway", "-o", "again.glb")
    assert done.returncode == 0
    assert Path("again.glb").read_bytes() == Path("pip.glb").read_bytes()


def test_convert_goes_straight_to_a_platform():
    done = run(
        "convert", TROUPE.parent / "troupe" / "osric.glb", "--platform", "quillmoor", "-o", "osric.glb", "--json"
    )
    assert done.returncode == 0, done.stderr
    assert json.loads(done.stdout)["fits"]
    fairswap.save("bow.glb", figure("Juniper"), [act("turn-and-bow", "Juniper")])
    words = ("--onto", TROUPE / "pip.glb", "--platform", "fernway", "-o", "out", "--picture", "loss.png", "--json")
    done = run("convert", "bow.glb", *words)
    assert done.returncode == 0, done.stderr
    report = json.loads(done.stdout)
    assert {Path(row["file"]).name for row in report["written"]} == {"Pip.glb", "Turn and bow.glb", "loss.png"}
    assert run("check", "out", "--platform", "fernway").returncode == 0
    assert run("convert", "bow.glb", "-o", "x.glb").returncode == 2


@pytest.mark.parametrize("most", [2, 4])
def test_fewer_influences_are_mostly_the_best_that_any_choice_of_bones_can_do(most):
    """Every choice is tried out by SciPy, over the very places of the vertices in all poses."""
    skeleton, count, wide = random_skeleton(12, seed=4), 40, 6
    rng = np.random.default_rng(8)
    # Bones that move much alike: then some would be best with less than nothing.
    turns = Rotation.from_rotvec(0.15 * rng.normal(size=(12 * 15, 3))) * Rotation.from_quat(
        np.repeat(skeleton.rest_rotations, 15, axis=0)
    )
    poses = Poses(skeleton, turns.as_quat().reshape(12, 15, 4).transpose(0, 2, 1).copy())
    joints = np.array([rng.permutation(12)[:wide] for _ in range(count)])
    weights = rng.dirichlet(np.ones(wide), count)
    mesh = Mesh("m", rng.normal(size=(count, 3)), np.tile([0.0, 1.0, 0.0], (count, 1)), np.array([[0, 1, 2]]),
                joints, weights, np.tile(np.eye(4), (12, 1, 1)))  # fmt: skip
    cut, changed = with_fewer_influences(fairswap.Figure("f", skeleton, (mesh,)), most, poses)
    assert changed == count
    (made,) = cut.meshes
    assert (made.weights > 0.0).sum(axis=1).max() <= most
    world = poses.world()
    turns = Rotation.from_quat(world.rotations.reshape(-1, 4)).as_matrix().reshape(15, 12, 3, 3)
    carried = np.einsum("fbij,vj->vfbi", turns, mesh.vertices) + world.positions  # of each vertex by each bone
    ours, best = [], []
    for vertex, places in enumerate(carried):
        ways = places.transpose(0, 2, 1).reshape(45, 12)
        goal = ways[:, joints[vertex]] @ weights[vertex]
        ours.append(np.linalg.norm(ways[:, made.joints[vertex]] @ made.weights[vertex] - goal))
        rows = [1e4 * np.ones(most)]  # the weights sum to one
        found = []
        for bones in itertools.combinations(joints[vertex], most):
            share, _ = nnls(np.vstack([ways[:, bones], *rows]), np.append(goal, 1e4))
            found.append(np.linalg.norm(ways[:, bones] @ share - goal))
        best.append(min(found))
    ratio = np.array(ours) / np.array(best)
    assert np.median(ratio) < 1.01
    assert ratio.mean() < 1.35  # one bone after the other goes: now and then another choice would have been better
    assert made.weights.min() >= 0.0


def test_influences_are_cut_with_at_most_half_the_error_of_keeping_the_largest():
    own = figure("Osric")
    body = own.meshes[0]
    rng = np.random.default_rng(2)
    near = np.argsort(np.linalg.norm(body.vertices[:, None] - own.skeleton.rest.positions[0][None], axis=2), axis=1)
    joints = np.concatenate([body.joints, near[:, :4]], axis=1)
    weights = np.concatenate([0.6 * body.weights, rng.uniform(0.0, 0.2, (len(body.vertices), 4))], axis=1)
    weights /= weights.sum(axis=1, keepdims=True)
    fat = replace(own, meshes=(replace(body, joints=joints, weights=weights, origin=None),), source=None)
    reel, _ = body_reel(rigged(fat), 10)
    cut, changed = with_fewer_influences(fat, 4, reel.poses)
    assert changed > 0.9 * len(weights)
    assert cut.meshes[0].weights.shape[1] == 4
    assert np.allclose(cut.meshes[0].weights.sum(axis=1), 1.0)
    assert cut.meshes[0].weights.min() >= 0.0
    largest = np.argsort(-weights, axis=1)[:, :4]
    kept = np.take_along_axis(weights, largest, axis=1)
    kept /= kept.sum(axis=1, keepdims=True)
    plain = replace(fat.meshes[0], joints=np.take_along_axis(joints, largest, axis=1), weights=kept)
    worst = np.zeros(2)
    world = reel.world()
    for frame in range(3, reel.frames, 37):
        there = deformed_vertices(fat.meshes[0], world, frame)
        for i, mesh in enumerate((cut.meshes[0], plain)):
            worst[i] = max(worst[i], np.linalg.norm(deformed_vertices(mesh, world, frame) - there, axis=1).max())
    assert worst[0] < 0.5 * worst[1]
    # Of the bones that a vertex kept no weight moved from one to another brings it nearer to where it was.
    mesh = cut.meshes[0]
    several = np.flatnonzero((mesh.weights > 0.1).sum(axis=1) >= 2)[::60]
    frames = range(0, reel.frames, 9)
    wanted = np.stack([deformed_vertices(fat.meshes[0], world, frame)[several] for frame in frames])

    def off(changed):
        moved = replace(mesh, weights=changed)
        now = np.stack([deformed_vertices(moved, world, frame)[several] for frame in frames])
        return np.square(now - wanted).sum(axis=2).mean(axis=0)

    order = np.argsort(-mesh.weights, axis=1)
    first, second = order[:, 0], order[:, 1]
    least = off(mesh.weights)
    for step in (0.05, -0.05):
        changed = np.array(mesh.weights)
        changed[np.arange(len(changed)), first] += step
        changed[np.arange(len(changed)), second] -= step
        assert (off(changed) > least - 1e-8).mean() > 0.95


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ('[figure]\nextra = "kept"', "figure.extra: 'kept' is not a word for this field. Give one of allowed, merged."),
        ('[file]\nformats = [".glb", ".zip"]', "file.formats[1]: '.zip' is not a word for this field. Give one of"),
        ("[figure]\nspine = [1]", "figure.spine: its list has 1 entry, not 2. Correct that list."),
        ("[figure]\nmax_bones = 0", "figure.max_bones: it is not a whole number that is 1 or more. Correct"),
        ('[figure]\nmax_bones = "ten"', "figure.max_bones: it is a text in quotes, not a whole number. Correct that"),
        ("[file]\nmax_kib = -2.5", "file.max_kib: it is not a number that is more than 0. Correct that number."),
        ("[clip]\nrates = [[30]]", "clip.rates[0]: it is a list in brackets, not a number or a text in quotes."),
        ("figure = 3", "figure: it is a whole number, not a table."),
        ("[figure]\nmax_bone = 9", "there is no field 'max_bone' in a platform. Do you mean max_bones?"),
        ("[figure]\nsevereness = 9", "there is no field 'severeness' in a platform."),
    ],
)  # fmt: skip
def test_a_field_that_is_wrong_is_told_in_words(text, said):
    Path("ours.toml").write_text(f'fairswap = "platform/2"\nname = "ours"\nbones = "quillmoor"\n{text}\n')
    with pytest.raises(fairswap.InputError) as told:
        Platform.load("ours.toml")
    assert str(told.value).startswith("ours.toml")
    assert said in str(told.value)
    assert "`" not in str(told.value)


def test_a_field_that_is_missing_is_named():
    Path("ours.toml").write_text('fairswap = "platform/2"\nbones = "quillmoor"\n')
    with pytest.raises(fairswap.InputError, match=r"the field 'name' is missing\. Write it in"):
        Platform.load("ours.toml")


@pytest.mark.parametrize(("axes", "along"), [("+Y", [0.0, 1.0, 0.0]), ("+X", [1.0, 0.0, 0.0])])
@pytest.mark.parametrize("who", ["Juniper", "Osric"])
def test_bones_point_along_the_axis_that_a_platform_wants(who, axes, along):
    """From each joint to the next of its limb; bones without a role keep their axes."""
    text = 'fairswap = "platform/2"\nname = "ours"\nbones = "quillmoor"\n[figure]\naxes = '
    Path("ours.toml").write_text(f'{text}"{axes}"\n')
    made = rigged(fit_figure(figure(who), [], Platform.load("ours.toml")).figure)
    roles, rest = made.roles.bones, made.skeleton.rest
    places, turns = rest.positions[0], Rotation.from_quat(rest.rotations[0])
    ways = [("hips", "spine_1"), ("spine_1", "spine_2"), ("neck_1", "head")]
    for side in ("left", "right"):
        parts = ("upper_arm lower_arm", "lower_arm hand", "upper_leg lower_leg", "lower_leg foot", "shoulder upper_arm")
        ways += [tuple(f"{name}_{side}" for name in part.split()) for part in parts]
    for role, onward in ways:
        way = places[roles[onward]] - places[roles[role]]
        points = turns[roles[role]].apply(along)
        assert np.linalg.norm(points - way / np.linalg.norm(way)) < 0.01, role
    source = rigged(figure(who))
    known = {*source.roles.bones.values(), *source.roles.helpers, *source.skeleton.ends}
    extras = [name for bone, name in enumerate(source.skeleton.names) if bone not in known]
    kept = [name for name in extras if name in made.skeleton.names]
    assert kept or who == "Juniper"
    for name in kept:
        before, now = (
            Rotation.from_quat(one.skeleton.rest.rotations[0, one.skeleton.names.index(name)]) for one in (source, made)
        )
        assert (before.inv() * now).magnitude() < 0.02, name


def test_a_root_is_wanted_or_not():
    """Juniper's is the first of her bones; Pip hangs on none."""
    for rule, fits in (("required", ("Juniper",)), ("forbidden", ("Pip",))):
        Path("ours.toml").write_text(
            f'fairswap = "platform/2"\nname = "ours"\nbones = "quillmoor"\n[figure]\nroot = "{rule}"\n'
        )
        for who in ("Juniper", "Pip"):
            found = check(TROUPE / f"{who.lower()}.glb", Platform.load("ours.toml"))
            (row,) = [row for row in found.results if row.rule == "figure.root"]
            assert row.ok == (who in fits)


@pytest.mark.parametrize("who", ["Osric", "Pip"])
def test_a_root_that_is_put_in_stands_at_the_origin_unturned(who):
    """Not as the hips are turned, which it is put above; whichever way bones may point."""
    Path("ours.toml").write_text(
        'fairswap = "platform/2"\nname = "ours"\nbones = "quillmoor"\n[figure]\nroot = "required"\n'
    )
    one = fairswap.fit(TROUPE / f"{who.lower()}.glb", "ours.toml").figure
    root = rigged(one, bones="quillmoor").roles.bones["root"]
    assert one.skeleton.parents[root] == -1
    assert np.abs(one.skeleton.rest.positions[0, root]).max() < 1e-9
    assert Rotation.from_quat(one.skeleton.rest.rotations[0, root]).magnitude() < 1e-9


def test_what_a_smaller_file_may_cost_is_a_centimetre_unless_it_says_otherwise():
    def read(more=""):
        Path("ours.toml").write_text(f'fairswap = "platform/2"\nname = "ours"\nbones = "fernway"\n[file]\n{more}')
        return Platform.load("ours.toml").file.max_loss_mm

    assert read() == 10.0
    assert read("max_loss_mm = 0.02") == 0.02
    for wrong in ("0", "-1", "nan"):
        with pytest.raises(fairswap.InputError):
            read(f"max_loss_mm = {wrong}")


@pytest.mark.parametrize(
    ("straight", "back", "on_root", "where"),
    [
        (0.20, False, False, "still"), (0.30, False, False, "hips"), (0.50, True, False, "still"),
        (0.70, True, False, "hips"), (0.30, False, True, "root"), (0.001, False, True, "still"),
    ],
)  # fmt: skip
def test_travel_is_told_from_shifting_about(straight, back, on_root, where):
    """By leg lengths: a quarter from start to end, or six tenths there and back."""
    for who in ("Juniper", "Pip"):
        one = figure(who)
        own = rigged(one)
        bone = 0 if on_root else own.roles.bones["hips"]
        if on_root and bone == own.roles.bones["hips"]:
            continue  # Pip stands on no root
        way = straight * own.reference.leg_m * (np.sin(np.linspace(0, np.pi, 31)) if back else np.linspace(0, 1, 31))
        places = np.repeat(one.skeleton.rest_translations[bone][None, :, None], 31, axis=2)
        places[0, 2] += way
        tracks = np.repeat(one.skeleton.rest_rotations[:, :, None], 31, axis=2)
        clip = fairswap.Clip("way", Fraction(30), Poses(one.skeleton, tracks, np.array([bone]), places))
        assert travel_of(clip, own) == where, who
        if not back:  # so it is with nothing between its first pose and its last
            assert travel_of(clip.with_poses(clip.poses.picked(np.array([0, 30]))), own) == where, who


def test_the_ladder_thins_before_it_touches_the_rate_and_stops_at_the_stated_loss():
    bones, clip = without_mesh(fitted().figure), uniform(fitted().clips[0])
    target = rigged(bones, bones=FERNWAY.profile)

    def size_of(one):
        fairswap.save("size.glb", bones, [one], force=True)
        return Path("size.glb").stat().st_size

    full = size_of(clip) / 1024
    made, changes, fits = down_to_size(clip, target, ClipRules(), 0.75 * full, 10.0, size_of)
    assert fits
    assert made.rate == clip.rate
    assert "thinned" in changes[0].what
    made, changes, fits = down_to_size(clip, target, ClipRules(), 1.0, 3.0, size_of)
    assert not fits
    assert float(changes[0].cost.removesuffix(" mm")) <= 3.0
    made, changes, fits = down_to_size(clip, target, ClipRules(rates=[20]), 1.0, 3.0, size_of)
    assert made.rate == clip.rate


def test_where_thinning_does_not_do_the_rate_is_halved_and_the_time_stays():
    """As for a file with all its frames, whatever keys are left."""
    bones, clip = without_mesh(fitted().figure), uniform(fitted().clips[0])
    limit = 0.6 * clip.frames / 1024
    made, (change,), fits = down_to_size(
        clip, rigged(bones, bones=FERNWAY.profile), ClipRules(), limit, 3.0, lambda one: one.frames
    )
    assert fits
    assert made.rate == clip.rate / 2
    assert made.duration_s == pytest.approx(clip.duration_s, abs=1.0 / float(clip.rate))
    assert f"at {float(clip.rate) / 2:g} frames per second" in change.what


def test_what_the_ladder_did_is_told_in_the_sizes_of_the_files():
    bones, clip = without_mesh(fitted().figure), uniform(fitted().clips[0])
    sizes = []

    def size_of(one):
        fairswap.save("size.glb", bones, [one], force=True)
        sizes.append(Path("size.glb").stat().st_size)
        return sizes[-1]

    limit = 0.75 * size_of(clip) / 1024
    _, (change,), fits = down_to_size(clip, rigged(bones, bones=FERNWAY.profile), ClipRules(), limit, 10.0, size_of)
    told = re.search(r"(\d+) to (\d+) KiB$", change.what)
    assert fits
    assert [int(told[1]), int(told[2])] == [round(sizes[0] / 1024), round(sizes[-1] / 1024)]


@pytest.mark.parametrize("with_mesh", ["any", "never"])
def test_files_of_motions_hold_a_mesh_only_where_a_face_needs_it(with_mesh):
    pip, line = figure("Pip"), fairswap.demo_motion("spoken line", "Pip").clips[0]
    clips = (replace(act("walk", "Pip"), name="walk"), replace(line, name="line"))
    stage = replace_rules(FERNWAY, clip={"with_mesh": with_mesh})
    written = fairswap.fit(fairswap.Document("Pip", "", pip.space, (pip,), clips), stage).save("out")
    assert sorted(Path(name).name for name in written) == ["Pip.glb", "line.glb", "walk.glb"]
    meshes = {name: len(fairswap.load(f"out/{name}.glb").figure.meshes) for name in ("walk", "line")}
    assert meshes == {"walk": 0, "line": 0 if with_mesh == "never" else len(pip.meshes)}


@pytest.mark.parametrize("rate", [20, 24, 25, "30000/1001", 30, 60, 120])
@pytest.mark.long(but=2)
def test_duration_and_name_survive_every_rate(rate):
    clip = at_rate(act("walk", "Pip"), Fraction(rate))
    made = fit_figure(figure("Pip"), [clip], FERNWAY).clips[0]
    assert abs(made.duration_s - clip.duration_s) <= 0.025 + 1e-9
    assert made.name == clip.name
    assert travel_of(made, rigged(fitted().figure, bones=FERNWAY.profile)) == "still"


@pytest.mark.long
def test_of_many_clips_the_worst_are_told_and_the_rest_is_counted():
    """Six clips that all lose something: a report fits a screen, and all is there with --all."""
    acts = ("walk", "turn-and-bow", "lamp", "clap", "leap", "idle")
    clips = [replace(fairswap.clips.trim(act(title, "Pip"), start="0", end="2"), name=title) for title in acts]
    fairswap.save("six.glb", figure("Pip"), clips)
    short, whole = (run("fit", "six.glb", "--platform", "fernway", "-o", out, *more).stdout.splitlines()
                    for out, more in (("a", ()), ("b", ("--all",))))  # fmt: skip
    keys = [[line for line in lines if line.startswith("  clip.keys")] for lines in (short, whole)]
    assert [len(rows) for rows in keys] == [3, 6]
    lost = [[float(re.search(r"\(([\d.]+) mm", line)[1]) for line in rows] for rows in keys]
    assert lost[0] == sorted(lost[1], reverse=True)[:3]
    assert "and 3 more, none worse; --all lists them" in short[short.index(keys[0][-1]) + 1]
    told = run("fit", "six.glb", "--platform", "fernway", "-o", "c", "--json").report["changes"]
    costs = [(change["cost"], change["amount"]) for change in told if change["rule"] == "clip.keys"]
    assert len(set(costs)) > 4
    assert all(cost == f"{amount:.2f} mm at worst" for cost, amount in costs)
    wrote = [[line for line in lines if line.startswith("  wrote")] for lines in (short, whole)]
    assert [len(rows) for rows in wrote] == [5, 7]
    assert "           and 2 more; --all lists them" in short
    short, whole = (run("check", "six.glb", "--platform", "fernway", *more).stdout for more in ((), ("--all",)))
    assert [text.count("  clip.keys") for text in (short, whole)] == [3, 6]
    assert "and 3 more" in short
    assert "more" not in whole.partition("to mend")[0]


def test_names_are_made_to_fit_and_stay_their_own():
    rules = ClipRules(names="[a-z-]+", max_name_length=8)
    assert fitting_name("walk", rules, set()) == "walk"
    assert fitting_name("Wäve! (2)", ClipRules(names="[A-Za-z0-9 -]+"), set()) == "W-ve- -2"
    assert len(fitting_name("walking about", rules, set())) <= 8
    assert fitting_name("walk", ClipRules(), {"walk"}) == "walk 2"


def test_built_in_platforms_and_the_template_are_sound():
    assert {p.name for p in built_in_platforms()} == {"quillmoor", "saltglass", "fernway", "vrm-1"}
    Path("ours.toml").write_text(template("ours"))
    assert Platform.load("ours.toml").name == "ours"
    # Every rule of the template can be taken at its word.
    lines = [
        line.removeprefix("# ") if line.startswith("# ") and " = " in line else line
        for line in template("x").splitlines()
    ]
    text = "\n".join(
        line for line in lines if "forbidden" not in line and "face = " not in line and "morphs = " not in line
    )
    Path("all.toml").write_text(text)
    assert Platform.load("all.toml").figure.max_influences == 4


@pytest.mark.parametrize(
    ("text", "place", "says"),
    [
        ('[figure]\nmax_bones = 2\nrequired = ["hips", "head", "spine_1"]\n', "figure.max_bones",
         "at most 2 bones are allowed, but 3"),
        ("[figure]\nmax_influence = 4\n", "figure", "Do you mean max_influences?"),
        ('[figure]\nrequired = ["hipps"]\n', "figure.required", "'hipps' is not a role"),
        ('[figure]\nrequired = ["head"]\nforbidden = ["head"]\n', "figure", "head is required and forbidden"),
        ('[figure]\nroot = "forbidden"\nrequired = ["root"]\n', "figure.root", "a root is required and forbidden"),
        ('[figure]\nroot = "forbidden"\n[clip]\ntravel = "root"\n', "clip.travel", "travel on a root that is forb"),
        ("[figure]\nheight = 9.0\nheight_m = [0.5, 3.0]\n", "figure.height", "9 m is out of height_m"),
        ("[clip]\nrates = [0]\n", "clip.rates", "is not a frame rate"),
        ('[clip]\nnames = "["\n', "clip.names", "is not a pattern"),
        ("[figure]\nspine = [3, 1]\n", "figure.spine", "3 to 1 is no range"),
        ("[figure]\nneck = [-1, 1]\n", "figure.neck", "-1 to 1 is no range"),
        ('[space]\nup = "+Y"\nforward = "-Y"\n', "space", "lie on one axis"),
        ('[figure]\nmorphs = "chart"\n', "figure.morphs", "there is none"),
        ('[severity]\n"clip.rate" = "note"\n', "severity", "Do you mean clip.rates?"),
        ('[severity]\n"zzz" = "note"\n', "severity", "there is no rule 'zzz'"),
    ],
)  # fmt: skip
def test_a_platform_that_is_wrong_says_where(text, place, says):
    Path("bad.toml").write_text(f'fairswap = "platform/1"\nname = "bad"\nbones = "fernway"\n{text}')
    done = run("check", TROUPE / "pip.glb", "--platform", "bad.toml")
    assert done.returncode == 3
    assert says in done.stderr
    with pytest.raises(fairswap.InputError) as raised:
        Platform.load("bad.toml")
    assert place in (raised.value.place or "")
    assert raised.value.remedy


@pytest.mark.parametrize(
    "text",
    [
        'max_bones = 3\nrequired = ["hips", "head", "spine_1"]',
        "spine = [0, 1]\nneck = [1, 1]",
        "height = 3.0\nheight_m = [0.5, 3.0]",
    ],
)
def test_what_just_fits_together_is_no_contradiction(text):
    Path("edge.toml").write_text(f'fairswap = "platform/2"\nname = "edge"\nbones = "fernway"\n[figure]\n{text}\n')
    assert Platform.load("edge.toml").name == "edge"


def test_rules_of_the_first_edition_are_read_under_their_old_names():
    Path("old.toml").write_text(
        'fairswap = "platform/1"\nname = "old"\nbones = "fernway"\n[figure]\nbones_most = 31\nspine = [1, 3]\n'
        '[clip]\nlongest_s = 4.0\n[severity]\n"figure.bones_most" = "note"\n"clip.rates" = "warning"\n'
    )
    old = Platform.load("old.toml")
    assert (old.figure.max_bones, old.figure.spine, old.clip.max_seconds) == (31, (1, 3), 4.0)
    assert old.severity == {"figure.max_bones": "note", "clip.rates": "warning"}


@pytest.mark.parametrize(("given", "wanted"), [(25, 24), (29, 30), (50, 60), (30, 30)])
def test_a_rate_that_is_not_allowed_becomes_the_nearest_that_is(given, wanted):
    platform = replace_rules(FERNWAY, clip={"rates": [24, 60, 30], "keys": "any"}, file={"max_motion_kib": None})
    made = fit_figure(figure("Pip"), [at_rate(act("walk", "Pip"), Fraction(given))], platform)
    assert made.clips[0].rate == wanted
    told = [change.what for change in made.changes if change.rule == "clip.rates"]
    assert len(told) == (given != wanted)
    assert all(f"{given} to {wanted} frames per second" in what for what in told)


def test_travel_is_moved_and_nothing_else():
    """A hand that leaves its place keeps it, and the clip stays where it was but for the way it goes."""
    platform = replace_rules(FERNWAY, clip={"moving": "any", "keys": "any"}, file={"max_motion_kib": None})
    bones = without_mesh(fitted().figure)
    clip = travelling(shifted_hand(fitted().clips[0]))
    assert travel_of(clip, rigged(bones, bones=FERNWAY.profile)) == "hips"
    made = fit_figure(bones, [clip], platform)
    assert [change.rule for change in made.changes if change.rule.startswith("clip")] == ["clip.travel"]
    assert "from hips to none" in next(change.what for change in made.changes if change.rule == "clip.travel")
    new, names = made.clips[0].poses, made.figure.skeleton.names
    hand = names.index("paw-near")
    assert np.allclose(new.translation_track(hand), clip.poses.translation_track(hand), atol=1e-9)
    assert travel_of(made.clips[0], rigged(made.figure, bones=FERNWAY.profile)) == "still"


@pytest.mark.parametrize("between", [False, True], ids=["root", "a bone between"])
def test_travel_on_a_root_is_told_and_comes_to_the_hips(between):
    """However many bones stand between them; the body goes where it went."""
    motion = fairswap.MotionOptions(travel="root", feet="free", hands="free")
    walk = fairswap.convert(fairswap.demo_motion("walk", "Pip"), figure("Juniper"), motion=motion)
    bones, clip = without_mesh(walk.figure), walk.clips[0]
    if between:
        bones, clip = with_a_bone_over_the_hips(bones, clip)
    roles = rigged(bones)
    assert travel_of(clip, roles) == "root"
    rules = replace_rules(platform_named("quillmoor"), clip={"travel": "hips", "rates": (), "keys": "any"})
    (moved,), changes = fitted_clip(clip, roles, rules.clip)
    assert [(change.rule, change.what) for change in changes] == [
        ("clip.travel", f"{clip.name}: travel from root to hips")
    ]
    assert travel_of(moved, roles) == "hips"
    before, after = clip.world().positions, moved.world().positions
    body = [bone for role, bone in roles.roles.bones.items() if role != "root"]
    assert np.abs(after[:, body] - before[:, body]).max() < 1e-6


def with_a_bone_over_the_hips(bones, clip):
    """The figure and its clip with one more bone between its root and its hips, where the hips are."""
    skeleton, hips = bones.skeleton, rigged(bones).roles.bones["hips"]

    def later(numbers):
        return numbers + (np.asarray(numbers) >= hips)

    parents = np.insert(later(skeleton.parents), hips, skeleton.parents[hips])
    parents[hips + 1] = hips
    new = Skeleton(
        (*skeleton.names[:hips], "between", *skeleton.names[hips:]), parents,
        np.insert(skeleton.rest_rotations, hips, [0.0, 0.0, 0.0, 1.0], axis=0),
        np.insert(skeleton.rest_translations, hips, 0.0, axis=0), frozenset(int(later(end)) for end in skeleton.ends),
    )  # fmt: skip
    rotations = np.insert(clip.poses.rotation_tracks, hips, 0.0, axis=0)
    rotations[hips, 3] = 1.0
    poses = Poses(new, rotations, later(clip.poses.translated_bones), clip.poses.translation_tracks)
    return replace(bones, skeleton=new, source=None), replace(clip, poses=poses, kept=None, origin=None)


def test_only_clips_named_as_cycles_are_closed():
    platform = replace_rules(FERNWAY, clip={"cycles": ["idle*"]})
    made = fit_figure(figure("Pip"), [act("walk", "Pip")], platform)
    assert "clip.cycles" not in {change.rule for change in made.changes}
    assert "clip.cycles" not in wrong_rules(saved("walk.glb", without_mesh(made.figure), made.clips), platform)


STRICT = """fairswap = "platform/2"
name = "strict"
bones = "fernway"
[file]
formats = [".gltf", ".bvh"]
max_kib = 100
[space]
up = "+Z"
forward = "-Y"
unit = "cm"
[figure]
required = ["hips", "head", "spine_2"]
forbidden = ["thumb_proximal_left"]
max_bones = 20
spine = [2, 3]
neck = [2, 2]
root = "required"
face_bones = "none"
extra = "merged"
ends = "dropped"
rest_pose = "T"
axes = "+X"
height = 1.5
[clip]
rates = [24, 25]
max_seconds = 2
keys = "uniform"
travel = "root"
cycles = ["walk*", "Walk*"]
names = "[a-z]*"
max_name_length = 3
files = "one"
with_mesh = "never"
[severity]
"figure.height" = "warning"
"""
# What is told of Pip with a walk of 6 s and an idle of 8 s, both called "Walk" where they were made.
TOLD = """
file.formats        two.glb   .gltf, .bvh                    .glb                        broken
file.max_kib        two.glb   100 KiB                        981 KiB                     broken
bones               Pip       called as in fernway           so                          kept
space.up            Pip       +Z                             +Y                          broken
space.forward       Pip       -Y                             +Z                          broken
space.unit          Pip       cm                             m                           broken
figure.required     Pip       3 roles                        missing: spine_2            broken
figure.forbidden    Pip       none of thumb_proximal_left    thumb_proximal_left         broken
figure.max_bones    Pip       20                             30                          broken
figure.spine        Pip       2 to 3                         1                           broken
figure.neck         Pip       2                              1                           broken
figure.root         Pip       required                       none                        broken
figure.face_bones   Pip       none                           none besides                kept
figure.extra        Pip       none                           none                        kept
figure.ends         Pip       none                           none                        kept
figure.rest_pose    Pip       T, arms 0 degrees below level  A, 45 degrees               broken
figure.axes         Pip       +X along each bone             arm-near and 7 more are not  broken
figure.height       Pip       1.5 m                          1.23 m                      warning
clip.rates          Walk      24, 25                         30                          broken
clip.max_seconds    Walk      2 s                            6.00 s                      broken
clip.keys           Walk      uniform                        100% of frames have keys    kept
clip.travel         Walk      root                           on the hips                 broken
clip.cycles         Walk      closes within 2 degrees        37.7 degrees                broken
clip.names          Walk      [a-z]*                         'Walk'                      broken
clip.max_name_length  Walk    3 letters                      4                           broken
clip.rates          Walk (2)  24, 25                         30                          broken
clip.max_seconds    Walk (2)  2 s                            8.00 s                      broken
clip.keys           Walk (2)  uniform                        100% of frames have keys    kept
clip.travel         Walk (2)  root                           stays in place              kept
clip.cycles         Walk (2)  closes within 2 degrees        0.0 degrees                 kept
clip.names          Walk (2)  [a-z]*                         'Walk (2)'                  broken
clip.max_name_length  Walk (2)  3 letters                    8                           broken
clip.names          Pip       each its own                   each its own                kept
clip.files          Pip       one clip in a file             2                           broken
clip.with_mesh      Pip       motions without a mesh         with                        broken
"""


def test_every_rule_says_of_what_it_is_what_is_allowed_and_what_was_measured():
    Path("strict.toml").write_text(STRICT)
    clips = [act("walk", "Pip"), replace(act("idle", "Pip"), name="Walk")]
    found = check(saved("two.glb", figure("Pip"), clips), platform_named("strict.toml"))
    rows = [
        (row.rule, row.place, row.allowed, row.measured,
         "kept" if row.ok else {"problem": "broken"}.get(row.severity, row.severity))
        for row in found.results
    ]  # fmt: skip
    assert rows == [tuple(re.split(r"  +", line)) for line in TOLD.strip().splitlines()]
    remedies = {row.rule: row.remedy for row in found.broken}
    assert remedies["clip.cycles"] == "clips.loop closes it"
    assert remedies["clip.files"].endswith(".save(FOLDER) mends it")
    assert remedies["file.max_kib"] == "Smaller textures or fewer vertices, where the figure was made"
    assert remedies["figure.neck"] == "fairswap.fit(document, 'strict.toml') mends it"
    assert repr(found) == (
        "<Check: 'two.glb' does not fit strict: file.formats, file.max_kib, space.up, space.forward, space.unit …>"
    )
    assert not found.fits
    loose = check("two.glb", platform_named("strict.toml")).results
    assert [row.ok for row in loose] == [row.ok for row in found.results]


def test_clips_of_one_name_and_bones_of_other_names_are_told():
    Path("names.toml").write_text(
        'fairswap = "platform/2"\nname = "names"\nbones = "quillmoor"\n'
        '[clip]\nmax_name_length = 20\nwith_mesh = "never"\n'
    )
    pip = saved("pip.glb", figure("Pip"), [act("walk", "Pip")])
    twice = replace(pip, clips=(pip.clips[0], pip.clips[0]))
    rows = {(row.rule, row.place): row for row in check(twice, platform_named("names.toml")).results}
    assert (rows["clip.names", "Pip"].measured, rows["clip.names", "Pip"].ok) == ("twice 'Walk'", False)
    assert (rows["bones", "Pip"].ok, rows["bones", "Pip"].allowed) == (False, "called as in quillmoor")
    bare = replace(pip, figures=(replace(pip.figure, meshes=()),))
    rows = {row.rule: row for row in check(bare, platform_named("names.toml")).results}
    assert (rows["clip.with_mesh"].measured, rows["clip.with_mesh"].ok) == ("without", True)


def test_a_check_shows_itself():
    found = fairswap.check(TROUPE / "pip.glb", replace_rules(FERNWAY, figure={"max_bones": 10, "max_influences": 1}))
    assert "does not fit fernway: " in repr(found)
    assert {"figure.max_bones", "figure.max_influences"} <= set(
        repr(found).partition("fernway: ")[2].rstrip(">").split(", ")
    )
    page = found._repr_html_()
    assert page.count("<p>") == page.count("</p>") == len({row.remedy for row in found.broken})  # each remedy once
    assert page.index("figure.max_bones") < page.index("<p>")


def test_a_cycle_that_does_not_close_is_found_and_closed():
    platform = replace_rules(FERNWAY, clip={"cycles": ["walk*"]})
    made = fit_figure(figure("Pip"), [act("walk", "Pip")], platform)
    assert any(change.rule == "clip.cycles" for change in made.changes)
    assert "clip.cycles" in wrong_rules(saved("m.glb", without_mesh(fitted().figure), fitted().clips), platform)
    assert not wrong_rules(saved("n.glb", without_mesh(made.figure), made.clips), platform)


def test_what_cannot_be_judged_is_one_clear_message():
    made = fitted().figure
    body = made.meshes[0]
    broken_texture = replace(body.materials[0], texture=b"\x89PNG this is not possible")
    fairswap.save("no-image.glb", replace(made, meshes=(replace(body, materials=(broken_texture,)), *made.meshes[1:])))
    done = run("check", "no-image.glb", "--platform", "fernway")
    assert done.returncode == 3
    assert "is not a PNG or JPEG" in done.stderr
    wide = textured(made, "PNG", 8)
    picture = io.BytesIO()
    Image.new("RGB", (60_000, 2)).save(picture, "PNG")
    material = replace(wide.meshes[0].materials[0], texture=picture.getvalue())
    fairswap.save("wide.glb", replace(wide, meshes=(replace(wide.meshes[0], materials=(material,)), *wide.meshes[1:])))
    done = run("fit", "wide.glb", "--platform", "fernway", "-o", "out.glb")
    assert done.returncode == 3
    assert "60000 by 2 pixels" in done.stderr
    assert not Path("out.glb").exists()
    done = run("check", TROUPE / "pip.glb", "--platform", "nowhere")
    assert done.returncode == 3
    assert "one of fernway" in done.stderr
    Path("empty").mkdir()
    assert run("check", "empty", "--platform", "fernway").returncode == 2


@pytest.mark.parametrize(
    ("act", "by"), [("turn-and-bow", "Juniper"), ("lamp", "Juniper"), ("clap", "Osric"), ("leap", "Osric")]
)
@pytest.mark.long(but=1)
def test_hands_and_feet_arrive_where_they_were_though_a_spine_of_many_bones_became_one(act, by):
    """Hands and feet in every frame; the head of a deep bow is just over a centimetre off, as one bone is as long
    as the curve of six. The skin is at most half as far off as with turns alone."""
    from fairswap.platform import skeleton as rebuilding
    from fairswap.platform.preparing import prepare
    from fairswap.platform.proof import prove
    from fairswap.pose.setting import clips_on_rest

    document = fairswap.demo_motion(act, by)
    rigged = fairswap.RiggedFigure.of(document)
    made = prepare(rigged, fairswap.platform.named("fernway"), document.clips)
    rested = clips_on_rest(document.clips, rigged.skeleton, made.original.skeleton)
    moved = rebuilding.moved_to_rebuilt(rested[0], made.made)
    was, now = rested[0].world().positions, moved.world().positions
    for role, most in {
        "hand_left": 0.001,
        "hand_right": 0.001,
        "foot_left": 0.001,
        "foot_right": 0.001,
        "head": 0.012,
    }.items():
        off = np.linalg.norm(was[:, rigged.roles.bones[role]] - now[:, made.made.roles.bones[role]], axis=1)
        assert off.max() < most, role
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(rebuilding, "arrive", lambda *_: None)
        turned = rebuilding.moved_to_rebuilt(rested[0], made.made)
    proofs = [prove(made.original, rested, made.made.figure, [clip], rigged.roles) for clip in (moved, turned)]
    assert proofs[0].mean_mm < 0.5 * proofs[1].mean_mm
    assert proofs[0].mean_mm < 4.0


def test_a_platform_may_want_a_height_and_the_way_back_is_exact(tmp_path):
    """The figure and its walk are sized together; sized back they are what they were."""
    walk = fairswap.demo_motion("walk", "Pip")
    rules = replace_rules(FERNWAY, figure={"height": 1.7})
    made = fairswap.fit(walk, rules)
    assert "figure.height" in {change.rule for change in made.changes}
    assert made.figure.height_m == pytest.approx(1.7, rel=0.005)
    assert "figure.height" not in wrong_rules(saved("tall.glb", made.figure), rules)
    assert "figure.height" in wrong_rules(saved("small.glb", fitted().figure), rules)
    factor = 1.7 / walk.figure.height_m
    tall = fairswap.resize(walk, height_m=1.7)
    there, back = tall.clips[0].world().positions, fairswap.resize(tall, factor=1.0 / factor)
    assert np.abs(there / factor - walk.clips[0].world().positions).max() < 1e-5
    assert np.abs(back.figure.rest_points - walk.figure.rest_points).max() < 1e-5
    bad = tmp_path / "bad.toml"
    bad.write_text(
        'fairswap = "platform/2"\nname = "bad"\nbones = "fernway"\n[figure]\nheight = 3.0\nheight_m = [1.0, 2.0]\n'
    )
    with pytest.raises(fairswap.InputError, match="out of height_m"):
        fairswap.platform.named(bad)


def test_what_was_changed_since_it_was_read_is_not_lost_by_sizing_or_placing():
    """A clip that was put in by hand, and a mesh that was changed: the document they came from knows neither."""
    walk = fairswap.demo_motion("walk", "Pip")  # the file has no clip
    for moved in (fairswap.resize(walk, factor=2.0), fairswap.place(lifted(walk), "floor")):
        assert [clip.name for clip in moved.clips] == [walk.clips[0].name]
    wider = replace(walk.figure.meshes[0], vertices=walk.figure.meshes[0].vertices * [1.5, 1.0, 1.0])
    figure = replace(walk.figure, meshes=(wider, *walk.figure.meshes[1:]))
    changed = replace(walk, figures=(figure,), clips=())
    for factor, moved in ((2.0, fairswap.resize(changed, factor=2.0)), (1.0, fairswap.place(lifted(changed), "floor"))):
        wide = np.ptp(moved.figure.meshes[0].vertices[:, 0]) / factor
        assert wide == pytest.approx(np.ptp(wider.vertices[:, 0]), rel=1e-4)


def lifted(document):
    """The document with its figure half a metre over the floor."""
    old = document.figure
    shift = np.array([0.0, 0.5, 0.0])
    roots = (old.skeleton.parents < 0)[:, None]
    skeleton = replace(old.skeleton, rest_translations=old.skeleton.rest_translations + roots * shift)
    figure = replace(old, skeleton=skeleton)
    clips = []
    for clip in document.clips:
        edit = clip.poses.edit()
        edit.skeleton = skeleton
        clips.append(clip.with_poses(edit.poses()))
    return replace(document, figures=(figure,), clips=tuple(clips))


@pytest.mark.long
def test_clothes_that_cut_the_body_are_told_where_a_platform_asks(tmp_path):
    """A coat that stands off fits; the same drawn 3 cm into the body does not, by about as much."""
    Path("strict.toml").write_text(
        'fairswap = "platform/2"\nname = "strict"\nbones = "saltglass"\n[figure]\nmax_cutting_mm = 20\n'
    )
    osric = fairswap.load(TROUPE / "osric.glb").figure
    still = fairswap.clips.trim(act("idle", "Osric"), start="0", end="0.2")
    garment = TROUPE / "osric-coat.glb"
    dressed = fairswap.dress(osric, garment, made_for=osric, settle=False, clips=[still]).figure
    coat = next(mesh for mesh in dressed.meshes if "coat" in mesh.name.lower())
    inward = replace(coat, vertices=coat.vertices - 0.03 * coat.normals)
    drawn_in = replace(dressed, meshes=tuple(inward if mesh is coat else mesh for mesh in dressed.meshes))
    rows = {}
    for name, worn in (("off", dressed), ("in", drawn_in), ("bare", figure("Pip"))):
        rows[name] = next(
            row for row in fairswap.check(worn, "strict.toml").results if row.rule == "figure.max_cutting_mm"
        )
    assert rows["off"].ok
    assert not rows["in"].ok
    assert "coat" in rows["in"].measured
    assert 20.0 < float(rows["in"].measured.split()[0]) < 45.0
    assert "dress" in rows["in"].remedy
    assert rows["bare"].measured == "no clothes"


def test_the_bounds_of_each_bone_s_skin_hold_it():
    """Against SciPy's rotations, vertex by vertex, for the bone that moves each most."""
    osric = figure("Osric")
    turns = Rotation.from_quat(osric.skeleton.rest.rotations[0])
    for mesh, vertices in zip(osric.meshes, osric.rest_vertices, strict=True):
        owner = mesh.joints[np.arange(len(mesh.joints)), mesh.weights.argmax(axis=1)]
        local = turns[owner].inv().apply(vertices - osric.skeleton.rest.positions[0, owner])
        low, high = osric.skin_boxes[owner].transpose(1, 0, 2)
        assert (local >= low - 1e-9).all()
        assert (local <= high + 1e-9).all()
    assert np.isnan(osric.skin_boxes).any()  # some bones have none
    report = run("bones", "show", TROUPE / "osric.glb", "--json").report
    hips = next(row for row in report["boxes"] if row["bone"] == report["roles"]["hips"])
    assert np.allclose(hips["most_m"], osric.skin_boxes[0, 1], atol=1e-6)


@pytest.mark.parametrize(("who", "to"), [("Juniper", "a"), ("Osric", "t")])
def test_skin_bound_to_another_rest_moves_nearer_to_what_it_was(who, to):
    """Clearly nearer than bound anew in its own clip, and no further off in another one; by matrices alone."""
    from fairswap.platform.refitting import refitted
    from fairswap.pose.choice import pose_named
    from fairswap.pose.setting import clips_on_rest, skeleton_resting_in, with_rest

    source = fairswap.RiggedFigure.of(figure(who))
    skeleton = skeleton_resting_in(source, pose_named(to))
    bound = with_rest(source.figure, (), skeleton, skin="bind").figure
    own, unseen = act("lamp", who), act("clap", who)
    shown = (body_reel(source, 10)[0], own)
    fitted_anew = refitted((source.figure, shown), (bound, clips_on_rest(shown, source.skeleton, skeleton)))

    def off(made, clip):
        (moved,) = clips_on_rest((clip,), source.skeleton, skeleton)
        gaps = [
            np.linalg.norm(places(mesh, clip, frame) - places(other, moved, frame), axis=1)
            for mesh, other in zip(source.figure.meshes, made.meshes, strict=True) for frame in range(3, 120, 20)
        ]  # fmt: skip
        return float(np.concatenate(gaps).mean())

    assert off(fitted_anew, own) < 0.8 * off(bound, own) or off(bound, own) < 1e-5
    assert off(fitted_anew, unseen) < 1.05 * off(bound, unseen)
    for mesh, other in zip(bound.meshes, fitted_anew.meshes, strict=True):  # and the shape at rest is what it was
        assert np.linalg.norm(mesh.vertices - other.vertices, axis=1).mean() < 5e-4


def places(mesh, clip, frame):
    """The vertices of a mesh in a frame: linear blend skinning by SciPy's rotations, written out."""
    world = clip.world()
    turn = Rotation.from_quat(world.rotations[frame]).as_matrix()
    moved = np.einsum("bij,bjk->bik", turn, mesh.bind_matrices[:, :3])
    moved[:, :, 3] += world.positions[frame]
    point = np.concatenate([mesh.vertices, np.ones((len(mesh.vertices), 1))], axis=1)
    return np.einsum("nk,nkij,nj->ni", mesh.weights, moved[mesh.joints], point)


@pytest.mark.parametrize("space", ["", '[space]\nup = "+Z"\nforward = "-Y"\nunit = "cm"\n'])
def test_the_boxes_of_bones_stand_in_the_file_where_a_platform_wants_them(tmp_path, space):
    """By SciPy's rotations along the nodes as they stand in the file; and boxes that are wrong, or of other skin, are
    told."""
    Path("boxed.toml").write_text(
        f'fairswap = "platform/2"\nname = "boxed"\nbones = "fernway"\n{space}[figure]\nbone_boxes = "stated"\n'
    )
    bare = fairswap.check(figure("Pip"), "boxed.toml")
    assert "figure.bone_boxes" in {row.rule for row in bare.broken}
    told = run("fit", TROUPE / "pip.glb", "--platform", "boxed.toml", "-o", "boxed.gltf", "--json").report
    assert "figure.bone_boxes" in {row["rule"] for row in told["changes"]}
    assert "figure.bone_boxes" not in {row.rule for row in fairswap.check("boxed.gltf", "boxed.toml").broken}

    raw = json.loads(Path("boxed.gltf").read_text())
    again = fairswap.load("boxed.gltf").figure
    nodes = raw["nodes"]
    parent = {child: index for index, node in enumerate(nodes) for child in node.get("children", ())}

    def upward(node, points):
        """Points in the axes of a node, in metres, from those of the world."""
        above = upward(parent[node], points) if node in parent else (points, 1.0)
        own = nodes[node]
        scale = above[1] * own.get("scale", [1.0])[0]
        place = above[1] * np.array(own.get("translation", [0.0, 0.0, 0.0]))
        return Rotation.from_quat(own.get("rotation", [0, 0, 0, 1])).inv().apply(above[0] - place), scale

    stated = 0
    for bone, name in enumerate(again.skeleton.names):
        own = [
            vertices[mesh.joints[np.arange(len(vertices)), mesh.weights.argmax(axis=1)] == bone]
            for mesh, vertices in zip(again.meshes, again.rest_vertices, strict=True)
        ]
        skin = np.concatenate(own)
        node = next(index for index, row in enumerate(nodes) if row.get("name") == name)
        assert bool(len(skin)) == ("bone_box" in nodes[node].get("extras", {}))
        if len(skin):
            box, (local, _) = nodes[node]["extras"]["bone_box"], upward(node, skin)
            assert np.allclose(local.min(axis=0), box["low_m"], atol=2e-5)
            assert np.allclose(local.max(axis=0), box["high_m"], atol=2e-5)
            stated += 1
    assert stated > 15

    # Larger shoes than are stated; a box too few; and what other programs may mean by the word.
    longer = replace(again, meshes=tuple(replace(m, vertices=m.vertices * [1, 1, 1.1]) for m in again.meshes))
    row = next(r for r in fairswap.check(longer, "boxed.toml").broken if r.rule == "figure.bone_boxes")
    assert "mm off" in row.measured
    fairswap.save("longer.gltf", longer, space=again.space)
    assert "figure.bone_boxes" not in {row.rule for row in fairswap.check("longer.gltf", "boxed.toml").broken}
    with_box = [node for node in nodes if "bone_box" in node.get("extras", {})]
    with_box[0]["extras"] = {"bone_box": "red"}
    Path("boxed.gltf").write_text(json.dumps(raw))
    row = next(r for r in fairswap.check("boxed.gltf", "boxed.toml").broken if r.rule == "figure.bone_boxes")
    assert row.measured == f"1 missing ({with_box[0]['name']})"
    assert "bone boxes" in " ".join(found.message for found in fairswap.left_out(again, [], ".usda"))


@pytest.mark.parametrize("stage", ["quillmoor", "saltglass", "fernway", "vrm-1"])
@pytest.mark.parametrize("who", ["Juniper", "Osric", "Pip"])
@pytest.mark.long(but=3)
def test_a_motion_file_without_a_mesh_comes_to_every_stage(who, stage):
    """Also where figures have morphs: bones alone have nothing to make them of, and none is asked for."""
    one, walk = figure(who), act("walk", who)
    fairswap.save("walk.bvh", one, [walk])
    made = fairswap.fit("walk.bvh", stage)
    assert not [row for row in made.findings if row.code == "face-left-out"]
    (path,) = made.save(f"out-{stage}")
    assert not fairswap.check(path, stage).broken
    again, clip = fairswap.load(path), fairswap.load(path).clips[0]
    assert not again.figure.meshes
    source = fairswap.load("walk.bvh")
    found = fairswap.compare((source.figure, source.clips[0]), (again.figure, clip))
    assert found.limbs_mean_degrees < 1.0


def test_a_face_of_bones_that_a_stage_wants_as_morphs_is_told_as_left_out():
    one, walk = figure("Osric"), act("walk", "Osric")
    jaw = rigged(one).roles.bones["jaw"]
    edit = walk.poses.edit()
    degrees = 8.0 * (1.0 - np.cos(np.arange(walk.frames) / 5.0))
    chewing = Rotation.from_euler("y", degrees[:, None], degrees=True)  # his bones are rolled
    edit.turn(jaw, (Rotation.from_quat(edit.rotation_track(jaw).T.copy()) * chewing).as_quat().T)
    fairswap.save("talk.bvh", one, [walk.with_poses(edit.poses())])
    told = [row for row in fairswap.fit("talk.bvh", "fernway").findings if row.code == "face-left-out"]
    assert [(row.severity, row.place) for row in told] == [("warning", "talk")]
    assert "its bones are not taken" in told[0].message
    # Where the stage keeps bones of the face, nothing is lost.
    assert not [row for row in fairswap.fit("talk.bvh", "saltglass").findings if row.code == "face-left-out"]
