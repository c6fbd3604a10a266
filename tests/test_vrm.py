"""VRM: avatars with all that the standard knows, kept, renamed along with bones, made anew; the older edition; motions."""

import copy
import json
import struct
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

import fairswap
from fairswap.face.head import Head
from fairswap.formats.gltf.opening import container_from_bytes, open_container
from fairswap.formats.vrm.rules import broken_rules
from fairswap.model.mesh import deformed_vertices
from fairswap.model.rotation import angle_between
from judging import validated
from making import TROUPE, act, figure, rig, rigged, run
from scenes import EXTRA, avatar_extensions, body, picture, small_avatar, small_avatar_motion, small_scene

META = 'fairswap = "meta/1"\nname = "Wick"\nauthors = ["the troupe"]\n'


def raw_of(name):
    """The JSON of a file as it lies on disk."""
    return container_from_bytes(Path(name).read_bytes(), Path(name)).raw


def meta_file(**more):
    Path("meta.toml").write_text(META + "".join(f"{key} = {json.dumps(value)}\n" for key, value in more.items()))
    return "meta.toml"


def test_an_avatar_is_read_with_all_that_it_says():
    document = fairswap.load(small_avatar(), format=".vrm")
    one, avatar = document.figure, document.figure.avatar
    assert document.format == "VRM 1.0"
    assert len(one.known_roles) == 21
    assert (avatar.meta["name"], avatar.meta["avatarPermission"], avatar.thumbnail) == ("Wick", "everyone", picture())
    assert avatar.expressions["happy"].morphs == ((0, "up", 1.0),)
    assert avatar.expressions["happy"].overrides == {"blink": "block"}
    assert (avatar.expressions["aa"].binary, avatar.expressions["aa"].morphs[0][2]) == (True, 0.5)
    assert avatar.expressions["blush"].colors == ((0, 0, "color", (1.0, 0.0, 0.0, 1.0)),)
    assert avatar.expressions["blush"].textures == ((0, 0, (1.0, 1.0), (0.5, 0.0)),)
    assert avatar.look_at["rangeMapHorizontalInner"]["outputScale"] == 8
    assert avatar.first_person == {0: "thirdPersonOnly"}
    names = one.skeleton.names
    assert [names[bone] for bone, _ in avatar.swinging[0].joints] == list(EXTRA)
    assert (names[avatar.colliders[0][0]], names[avatar.swinging[0].center]) == ("leftUpperLeg", "hips")
    ((bone, (kind, held, _)),) = avatar.constraints.items()
    assert (names[bone], kind, names[held]) == ("rightLowerArm", "roll", "rightUpperArm")


def test_what_an_avatar_says_stays_where_nothing_is_changed_and_goes_along_where_bones_are():
    document = fairswap.load(small_avatar(), format=".vrm")
    fairswap.save("kept.vrm", document.figure, document.clips)
    kept = raw_of("kept.vrm")
    assert kept["extensions"] == avatar_extensions(
        {name: node for node, name in enumerate(row["name"] for row in kept["nodes"][:-1])}
    )
    # The same figure, built anew under other names and in another order of nodes.
    skeleton = document.figure.skeleton
    renamed = replace(skeleton, names=tuple(f"rig:{name}" for name in skeleton.names))
    fairswap.save("anew.vrm", replace(document.figure, skeleton=renamed, source=None))
    again = fairswap.load("anew.vrm").figure
    old, new = document.figure.avatar, again.avatar
    assert broken_rules(raw_of("anew.vrm")) == []
    assert (new.meta, new.thumbnail, new.look_at, new.first_person) == (
        old.meta, old.thumbnail, old.look_at, old.first_person)  # fmt: skip
    assert new.expressions == old.expressions
    called = [name.removeprefix("rig:") for name in again.skeleton.names]
    assert [called[bone] for bone, _ in new.swinging[0].joints] == list(EXTRA)
    assert [called[bone] for bone in new.constraints] == ["rightLowerArm"]
    assert {role: called[bone] for role, bone in again.known_roles.items()} == {
        role: skeleton.names[bone] for role, bone in document.figure.known_roles.items()
    }


def test_other_formats_say_that_the_avatar_is_not_in_them():
    one = fairswap.load(small_avatar(), format=".vrm").figure
    assert any("terms of use" in row.message for row in fairswap.left_out(one, (), ".dae"))
    assert not fairswap.left_out(one, (), ".vrm")
    assert not fairswap.left_out(one, (), ".glb")  # its own document, with all that is in it
    assert fairswap.left_out(replace(one, source=None), (), ".glb")


def test_the_older_edition_is_read_the_right_way_round():
    document = fairswap.load(small_avatar(old=True), format=".vrm")
    one = document.figure
    assert document.format == "VRM 0.x"
    assert [row.severity for row in document.findings if row.code.startswith("space")] == ["note"]
    places, names = one.skeleton.rest.positions[0], one.skeleton.names
    assert places[names.index("leftHand"), 0] > 0.5  # its left is ours now
    assert places[names.index("leftToes"), 2] > 0.1
    assert set(one.avatar.expressions) == {"happy", "aa", "Own"}
    assert one.avatar.expressions["aa"].morphs == ((0, "down", 0.5),)
    new = fairswap.load(small_avatar(), format=".vrm")
    a, b = new.figure, one
    for frame in (0, 15, 30):
        skins = [
            deformed_vertices(f.meshes[0], c.poses.world(), frame, c.poses, 0)
            for f, c in ((a, new.clips[0]), (b, document.clips[0]))
        ]
        if frame == 0:  # the motions differ: they were made in the figure's own axes
            assert np.ptp(skins[0][:, 1]) == pytest.approx(np.ptp(skins[1][:, 1]), abs=1e-5)
    # Its terms are in other words, and are not made up anew.
    with pytest.raises(fairswap.ImpossibleError, match=r"words of edition 0\.x"):
        fairswap.save("new.vrm", one)
    fairswap.fit(document, "vrm-1", meta=meta_file()).save("new.vrm")
    assert broken_rules(raw_of("new.vrm")) == []
    fairswap.save("plain.glb", one)
    assert "VRM" not in raw_of("plain.glb").get("extensions", {})


def test_nothing_of_the_terms_is_made_up():
    with pytest.raises(fairswap.ImpossibleError, match="nothing says who made 'Pip'"):
        fairswap.fit(figure("Pip"), "vrm-1").save("pip.vrm")
    assert not Path("pip.vrm").exists()
    with pytest.raises(fairswap.ImpossibleError, match="not said which bones"):
        fairswap.save("pip.vrm", figure("Pip"))
    for text, told in (
        ('fairswap = "meta/1"\nname = ""\nauthors = ["a"]\n', "no name"),
        ('fairswap = "meta/1"\nname = "x"\n', "authors"),
        (META + 'avatar_permission = "anybody"\n', "avatar_permission"),
        (META + "colour = 1\n", "colour"),
        (META + 'thumbnail = "../x.png"\n', "outside"),
    ):
        Path("bad.toml").write_text(text)
        with pytest.raises(fairswap.InputError, match=told):
            fairswap.fit(figure("Pip"), "vrm-1", meta="bad.toml")


@pytest.mark.parametrize("who", ["Juniper", "Osric", "Pip"])
@pytest.mark.long(but=1)
def test_the_troupe_become_avatars_that_keep_to_the_standard(who):
    Path("face.png").write_bytes(picture())
    said = meta_file(avatar_permission="everyone", references=["a street"], thumbnail="face.png")
    document = fairswap.Document(who, "", figure(who).space, (figure(who),), (act("idle", who),))
    fitted = fairswap.fit(document, "vrm-1", meta=said, springs=True)
    fitted.save("made.vrm")
    raw = raw_of("made.vrm")
    assert broken_rules(raw) == []
    meta = raw["extensions"]["VRMC_vrm"]["meta"]
    assert (meta["name"], meta["avatarPermission"], meta["references"]) == ("Wick", "everyone", ["a street"])
    assert "avatar of VRM 1.0: 'Wick' by the troupe; worn by everyone" in run("inspect", "made.vrm").stdout
    assert "commercialUsage" not in meta  # the standard's own default, which allows the least
    assert fairswap.load("made.vrm").figure.avatar.thumbnail == picture()
    assert fairswap.check("made.vrm", "vrm-1").fits
    springs = raw["extensions"].get("VRMC_springBone", {}).get("springs", [])
    assert [row["name"] for row in springs] == (["coat_tail_1_l", "coat_tail_1_r"] if who == "Juniper" else springs and [
        row["name"] for row in springs])  # fmt: skip
    assert all(joint["stiffness"] == 1.0 for row in springs for joint in row["joints"])
    morphs = [name for mesh in fitted.figure.meshes for name in mesh.morph_names]
    assert ("happy" in fitted.figure.avatar.expressions) == bool(morphs)


def test_an_expression_of_the_standard_looks_like_what_it_says():
    fitted = fairswap.fit(figure("Pip"), "vrm-1", meta=meta_file())
    expressions = fitted.figure.avatar.expressions
    assert expressions["aa"].morphs[0][1] == "say ah"
    assert expressions["happy"].morphs[0][1] == "happy"
    # Every morph can be reached: by the standard's own, or by one of the figure's.
    reached = {morph for one in expressions.values() for _, morph, _ in one.morphs}
    assert reached == {name for mesh in fitted.figure.meshes for name in mesh.morph_names}


def test_an_expression_of_ones_own_with_a_name_of_the_standard_is_not_lost():
    one = fairswap.load(small_avatar(), format=".vrm").figure
    said = one.avatar.expressions
    own = replace(one.avatar, expressions={"happy": replace(said["happy"], preset=False), "blush": said["blush"]})
    fairswap.save("own.vrm", replace(one, avatar=own, source=None))
    assert broken_rules(raw_of("own.vrm")) == []
    again = fairswap.load("own.vrm").figure.avatar.expressions
    assert again == {"happy": said["happy"], "blush": said["blush"]}


def test_a_face_of_bones_becomes_expressions_and_does_what_it_did():
    talk = fairswap.demo_motion("spoken line", "Osric")
    fitted = fairswap.fit(talk, "vrm-1", meta=meta_file())
    expressions = fitted.figure.avatar.expressions
    assert {"happy", "sad", "aa", "blink", "blinkLeft"} <= set(expressions)
    assert not any("Lid" in name or "Brow" in name for name in fitted.figure.skeleton.names)
    assert any(row.weights.max() > 0.5 for row in fitted.clips[0].poses.morph_tracks)
    assert fitted.proof.worst_mm < 5.0
    fitted.save("osric.vrm")
    assert broken_rules(raw_of("osric.vrm")) == []
    assert fairswap.check("osric.vrm", "vrm-1").fits


def test_the_file_itself_says_what_morphs_with_meaningless_names_are():
    made, number = body()
    made.json["meshes"][0]["extras"]["targetNames"] = ["shape 1", "shape 2"]
    made.json["extensions"] = avatar_extensions(number)
    document = fairswap.load(made.glb(), format=".vrm")
    shapes = Head.of(document).chart.shapes
    assert dict(shapes["shape 1"].units) == {"joy": 1.0}
    assert dict(shapes["shape 2"].units) == {"viseme_a": 2.0}  # half of it is the whole vowel


@pytest.mark.parametrize(
    ("change", "told"),
    [
        (lambda e, raw: e["VRMC_vrm"]["meta"].pop("authors"), "at least one is to be named"),
        (lambda e, raw: e["VRMC_vrm"]["meta"].update(modification="yes"), "none of prohibited"),
        (lambda e, raw: e["VRMC_vrm"]["meta"].update(allowRedistribution=1), "neither true nor false"),
        (lambda e, raw: e["VRMC_vrm"].update(specVersion="0.9"), "not '1.0'"),
        (lambda e, raw: e["VRMC_vrm"]["humanoid"]["humanBones"].pop("spine"), "spine is missing"),
        (lambda e, raw: e["VRMC_vrm"]["humanoid"]["humanBones"].update(wing={"node": 0}), "no such bone"),
        (lambda e, raw: e["VRMC_vrm"]["humanoid"]["humanBones"]["head"].update(node=0), "a node is two bones"),
        (lambda e, raw: e["VRMC_vrm"]["humanoid"]["humanBones"]["leftHand"].update(node=12), "not below leftLowerArm"),
        (lambda e, raw: e["VRMC_vrm"]["expressions"]["preset"]["aa"]["morphTargetBinds"][0].update(index=7), "morph 7 of 2"),
        (lambda e, raw: e["VRMC_vrm"]["expressions"]["preset"]["aa"]["morphTargetBinds"][0].update(weight=2), "not 0 to 1"),
        (lambda e, raw: e["VRMC_vrm"]["expressions"]["preset"].update(grin={}), "called otherwise"),
        (lambda e, raw: e["VRMC_vrm"]["lookAt"].update(type="nose"), "neither bone nor expression"),
        (lambda e, raw: e["VRMC_vrm"]["firstPerson"]["meshAnnotations"][0].update(type="some"), "is no type"),
        (lambda e, raw: e["VRMC_springBone"]["colliders"][0].update(shape={}), "neither a sphere nor a capsule"),
        (lambda e, raw: e["VRMC_springBone"]["springs"].append(e["VRMC_springBone"]["springs"][0]), "in two springs"),
        (lambda e, raw: e["VRMC_springBone"]["springs"][0]["joints"][0].update(dragForce=3), "not 0 to 1"),
        (lambda e, raw: raw["nodes"][13].update(extensions={"VRMC_node_constraint": {"constraint": {}}}), "needs one of"),
        (lambda e, raw: raw["extensionsUsed"].remove("VRMC_vrm"), "is not among them"),
    ],
)  # fmt: skip
def test_a_check_tells_which_rule_of_the_standard_is_broken(change, told):
    made, number = body()
    made.json["extensions"] = avatar_extensions(number)
    made.json["extensionsUsed"] = ["VRMC_springBone", "VRMC_vrm"]
    assert broken_rules(made.json) == []
    change(made.json["extensions"], made.json)
    assert any(told in problem for _, problem in broken_rules(made.json))
    Path("bad.vrm").write_bytes(made.glb())
    rules = {row.rule for row in fairswap.check("bad.vrm", "vrm-1").broken}
    assert "file.standard" in rules


def test_terms_and_springs_are_given_on_the_command_line():
    meta_file()
    done = run("fit", TROUPE / "juniper.glb", "--platform", "vrm-1", "-o", "a.vrm")
    assert (done.returncode, "--meta FILE.toml" in done.stderr) == (4, True)
    done = run("fit", TROUPE / "juniper.glb", "--platform", "vrm-1", "--meta", "meta.toml", "--springs", "-o", "a.vrm")
    assert (done.returncode, "2 rows of bones swing now" in done.stdout) == (0, True)
    assert len(raw_of("a.vrm")["extensions"]["VRMC_springBone"]["springs"]) == 2
    done = run("fit", TROUPE / "juniper.glb", "--platform", "vrm-1", "--meta", "meta.toml", "-o", "b.vrm")
    assert "VRMC_springBone" not in raw_of("b.vrm")["extensions"]
    # An avatar onto which a motion is carried keeps its terms; new ones replace them.
    Path("other.toml").write_text(META.replace("Wick", "Snuff"))
    fairswap.save("walk.glb", figure("Pip"), [act("walk", "Pip")])
    for more, name in (((), "Wick"), (("--meta", "other.toml"), "Snuff")):
        done = run("convert", "walk.glb", "--onto", "a.vrm", "-o", "c.vrm", "--force", *more)
        assert done.returncode == 0, done.stderr
        assert raw_of("c.vrm")["extensions"]["VRMC_vrm"]["meta"]["name"] == name
        assert broken_rules(raw_of("c.vrm")) == []


def test_an_avatar_that_stays_in_its_document_gets_springs_where_it_had_none():
    made, number = body()
    made.json["extensions"] = {"VRMC_vrm": avatar_extensions(number)["VRMC_vrm"]}
    made.json["extensionsUsed"] = ["VRMC_vrm"]
    Path("a.vrm").write_bytes(made.glb())
    scene = small_scene()
    fairswap.save("bend.glb", scene.figure, scene.clips)
    done = run("convert", "bend.glb", "--onto", "a.vrm", "--springs", "--face", "none", "-o", "b.vrm")
    assert done.returncode == 0, done.stderr
    raw = raw_of("b.vrm")
    nodes = [joint["node"] for joint in raw["extensions"]["VRMC_springBone"]["springs"][0]["joints"]]
    assert [raw["nodes"][node]["name"] for node in nodes] == list(EXTRA)
    assert broken_rules(raw) == []


# Motions.


def test_a_motion_for_avatars_is_read_with_its_expressions_and_its_gaze():
    document = fairswap.load(small_avatar_motion(), format=".vrma")
    one, clip = document.figure, document.clips[0]
    assert (document.format, len(document.figures), len(one.known_roles)) == ("VRM animation", 1, 21)
    source = small_scene()
    a, b = source.clips[0].poses.world(), clip.poses.world()
    for name in ("hips", "leftHand", "head"):
        bones = source.figure.skeleton.names.index(name), one.skeleton.names.index(name)
        assert np.abs(a.positions[:, bones[0]] - b.positions[:, bones[1]]).max() < 1e-6
    units = Head.of(document).units(clip)
    from fairswap.face.units import UNITS

    smile = units[UNITS.index("lip_corner_puller_left")]
    assert smile == pytest.approx(0.9 * np.linspace(0, 1, 31), abs=1e-5)
    eye = one.known_roles["eye_left"]
    turned = clip.poses.world().rotations[-1, eye]
    assert np.degrees(2 * np.arcsin(turned[1])) == pytest.approx(np.degrees(0.3), abs=1e-4)


@pytest.mark.parametrize("who", ["Juniper", "Pip"])
@pytest.mark.long(but=1)
def test_a_motion_written_for_avatars_says_the_same_when_it_is_read(who):
    fairswap.fit(figure(who), "vrm-1", meta=meta_file()).save("made.vrm")
    talk = fairswap.demo_motion("spoken line", who)
    made = fairswap.convert(talk, "made.vrm")
    made.save("talk.vrma")
    assert broken_rules(raw_of("talk.vrma")) == []
    one, clip = made.figure, made.clips[0]
    document = fairswap.load("talk.vrma")
    other, again = document.figure, document.clips[0]
    assert (again.name, again.rate, again.frames) == (clip.name, clip.rate, clip.frames)
    a, b = clip.poses.world(), again.poses.world()
    for role in set(one.known_roles) & set(other.known_roles):
        mine, theirs = one.known_roles[role], other.known_roles[role]
        if role.startswith("eye"):
            continue
        assert np.abs(a.positions[:, mine] - b.positions[:, theirs]).max() < 1e-5, role
    head = [angle_between(world.rotations[:, f.known_roles["head"]], world.rotations[:1, f.known_roles["head"]])
            for f, world in ((one, a), (other, b))]  # fmt: skip
    assert np.abs(head[0] - head[1]).max() < 1e-4
    # Onto the same avatar again: the face does what it did.
    back = fairswap.convert("talk.vrma", "made.vrm").clips[0]
    heads = Head.of("made.vrm")
    said, heard = heads.units(clip), heads.units(back)
    assert np.sqrt(np.mean((said - heard) ** 2)) < 0.03
    assert np.corrcoef(said.ravel(), heard.ravel())[0, 1] > 0.97


@pytest.mark.long(but=1)
@pytest.mark.parametrize("name", ["suffix", "idle", "cloth", "numbers"])
def test_strangers_become_avatars_and_perform_what_they_performed(name):
    """Lying down, looking back, in a skirt, with names that say nothing: the act is where its own maker has it."""
    path = rig(f"{name}.glb")
    own, truth = fairswap.load(path), json.loads(path.with_suffix(".truth.json").read_text())
    fairswap.fit(own, "vrm-1", meta=meta_file()).save("made.vrm")
    made = fairswap.convert(path, "made.vrm", motion=fairswap.MotionOptions(feet="free", clear=False))
    made.save("act.vrma")
    for name in ("made.vrm", "act.vrma"):
        assert broken_rules(raw_of(name)) == []
        assert [(row["errors"], row["warnings"]) for row in validated(name)] == [(0, 0)]
    # Expressions that the standard does not know are told by the names of the morphs that they are.
    assert fairswap.compare(path, "act.vrma").face_missed < 0.1
    # Of another's names only the avatar says what they look like: no verdict on what nobody knows.
    another = fairswap.compare(rig("latin.glb"), "act.vrma")
    assert another.face_missed is None
    assert "only its avatar says" in another.face_lacking
    played = fairswap.load("act.vrma")
    bones = {role: own.figure.skeleton.names.index(bone) for bone, role in truth["bones"].items() if role}
    performed, again = own.clips[0].world().positions, played.clips[0].world().positions
    for side in ("left", "right"):
        for limb, end in (
            ("upper_arm", "lower_arm"),
            ("lower_arm", "hand"),
            ("upper_leg", "lower_leg"),
            ("lower_leg", "foot"),
        ):
            ways = []
            for positions, known in ((performed, bones), (again, played.figure.known_roles)):
                way = positions[:, known[f"{end}_{side}"]] - positions[:, known[f"{limb}_{side}"]]
                ways.append(way / np.linalg.norm(way, axis=1, keepdims=True))
            off = np.degrees(np.arccos(np.clip(np.sum(ways[0] * ways[1], axis=1), -1, 1)))
            assert off.max() < 0.5, (limb, side)


def test_what_a_motion_for_avatars_cannot_hold_is_told_and_one_clip_is_one_file():
    scene = fairswap.load(small_avatar(), format=".vrm")
    told = [row.message for row in fairswap.left_out(scene.figure, scene.clips, ".vrma")]
    assert any("tail_1" in row for row in told)
    assert any("of the face" in row for row in told)  # nothing shows "down" by itself beyond a half
    with pytest.raises(fairswap.UsageError, match="one clip, not 2"):
        fairswap.save("two.vrma", scene.figure, [*scene.clips, *scene.clips])
    with pytest.raises(fairswap.ImpossibleError, match="not said which bones"):
        fairswap.save("pip.vrma", figure("Pip"), [act("walk", "Pip")])


def test_a_folder_for_the_standard_holds_the_avatar_and_its_motions():
    line = fairswap.demo_motion("spoken line", "Pip").clips[0]
    clips = (act("walk", "Pip"), replace(line, name="line"))
    document = fairswap.Document("Pip", "", figure("Pip").space, (figure("Pip"),), clips)
    written = fairswap.fit(document, "vrm-1", meta=meta_file()).save("folder")
    assert sorted(Path(name).suffix for name in written) == [".vrm", ".vrma", ".vrma"]
    # A motion of the standard holds a face without a mesh.
    motion = raw_of("folder/line.vrma")
    assert "meshes" not in motion
    assert motion["extensions"]["VRMC_vrm_animation"]["expressions"]
    for name in written:
        assert broken_rules(raw_of(name)) == []


def _edited(raw, path, value):
    """The document with one field other, or taken out (``...``)."""
    raw = copy.deepcopy(raw)
    held = raw
    for key in path[:-1]:
        held = held[key]
    if value is ...:
        del held[path[-1]]
    else:
        held[path[-1]] = value
    return raw


_VRM, _SPRING = ("extensions", "VRMC_vrm"), ("extensions", "VRMC_springBone")
_ROLL = ("nodes", 11, "extensions", "VRMC_node_constraint", "constraint")
_HAPPY = (*_VRM, "expressions", "preset", "happy")
_BLUSH = (*_VRM, "expressions", "custom", "blush")
BROKEN = [
    (_VRM, "specVersion", "1.1", "VRMC_vrm: specVersion"),
    (_VRM, "meta", ..., "VRMC_vrm: meta"),
    ((*_VRM, "meta"), "name", "", "VRMC_vrm: meta.name"),
    ((*_VRM, "meta"), "authors", [], "VRMC_vrm: meta.authors"),
    ((*_VRM, "meta"), "licenseUrl", ..., "VRMC_vrm: meta.licenseUrl"),
    ((*_VRM, "meta"), "avatarPermission", "nobody", "VRMC_vrm: meta.avatarPermission"),
    ((*_VRM, "meta"), "allowAntisocialOrHateUsage", "no", "VRMC_vrm: meta.allowAntisocialOrHateUsage"),
    ((*_VRM, "meta"), "thumbnailImage", 9, "VRMC_vrm: meta.thumbnailImage"),
    (_VRM, "humanoid", ..., "VRMC_vrm: humanoid"),
    ((*_VRM, "humanoid", "humanBones"), "wing", {"node": 1}, "VRMC_vrm: humanoid.humanBones.wing"),
    ((*_VRM, "humanoid", "humanBones", "head"), "node", 999, "VRMC_vrm: humanoid.humanBones.head"),
    ((*_VRM, "humanoid", "humanBones"), "head", ..., "VRMC_vrm: humanoid: required bones"),
    ((*_VRM, "humanoid", "humanBones", "neck"), "node", 4, "VRMC_vrm: humanoid: one node, one bone"),
    ((*_VRM, "humanoid", "humanBones", "leftHand"), "node", 0, "VRMC_vrm: humanoid: parents of the bones"),
    ((*_VRM, "expressions", "custom"), "sad", {}, "VRMC_vrm: expressions.custom.sad"),
    ((*_HAPPY, "morphTargetBinds", 0), "node", 1, "VRMC_vrm: expressions.preset.happy.morphTargetBinds"),
    ((*_HAPPY, "morphTargetBinds", 0), "index", 7, "VRMC_vrm: expressions.preset.happy.morphTargetBinds"),
    ((*_HAPPY, "morphTargetBinds", 0), "weight", 1.5, "VRMC_vrm: expressions.preset.happy.morphTargetBinds"),
    (_HAPPY, "overrideBlink", "sometimes", "VRMC_vrm: expressions.preset.happy.overrideBlink"),
    ((*_BLUSH, "materialColorBinds", 0), "type", "glitter", "VRMC_vrm: expressions.custom.blush.materialColorBinds"),
    ((*_BLUSH, "materialColorBinds", 0), "material", 5, "VRMC_vrm: expressions.custom.blush.materialColorBinds"),
    ((*_BLUSH, "textureTransformBinds", 0), "material", 5, "VRMC_vrm: expressions.custom.blush.textureTransformBinds"),
    ((*_VRM, "lookAt"), "type", "nose", "VRMC_vrm: lookAt.type"),
    ((*_VRM, "lookAt"), "offsetFromHeadBone", [0.0], "VRMC_vrm: lookAt.offsetFromHeadBone"),
    ((*_VRM, "lookAt", "rangeMapHorizontalInner"), "inputMaxValue", 200, "VRMC_vrm: lookAt.rangeMapHorizontalInner"),
    ((*_VRM, "firstPerson", "meshAnnotations", 0), "type", "never", "VRMC_vrm: firstPerson.meshAnnotations"),
    ((*_VRM, "firstPerson", "meshAnnotations", 0), "node", 99, "VRMC_vrm: firstPerson.meshAnnotations"),
    ((*_SPRING, "colliders", 0), "shape", {}, "VRMC_springBone: colliders"),
    ((*_SPRING, "colliderGroups", 0), "colliders", [4], "VRMC_springBone: colliderGroups"),
    ((*_SPRING, "springs", 0), "joints", [], "VRMC_springBone: springs.joints"),
    ((*_SPRING, "springs", 0), "colliderGroups", [2], "VRMC_springBone: springs.colliderGroups"),
    ((*_SPRING, "springs", 0, "joints", 0), "dragForce", 1.2, "VRMC_springBone: springs.joints"),
    (_ROLL, "aim", {"source": 10, "aimAxis": "PositiveX"}, "VRMC_node_constraint"),
    ((*_ROLL, "roll"), "source", 11, "VRMC_node_constraint"),
    ((*_ROLL, "roll"), "rollAxis", "W", "VRMC_node_constraint"),
    ((*_SPRING, "springs", 0), "joints", None, "VRMC_springBone: springs[0].joints"),
]  # fmt: skip


@pytest.mark.parametrize(("where", "field", "value", "clause"), BROKEN)
def test_a_rule_of_the_standard_that_is_broken_is_named(where, field, value, clause):
    raw = container_from_bytes(small_avatar(), Path("one.vrm")).raw
    assert broken_rules(raw) == []
    assert clause in {name for name, _ in broken_rules(_edited(raw, (*where, field), value))}


def _paths(value, at=()):
    yield at
    rows = value.items() if isinstance(value, dict) else enumerate(value[:2]) if isinstance(value, list) else ()
    for key, inner in rows:
        yield from _paths(inner, (*at, key))


@pytest.mark.parametrize("junk", [None, "x", -1, [], {}, [None], {"a": 1}, True, 1e300], ids=repr)
@pytest.mark.long(but=4)
def test_an_avatar_whose_fields_are_anything_at_all_is_judged_and_breaks_nothing(junk):
    """At every place of what it says beyond glTF: `check` tells, or finds nothing wrong, but never fails."""
    for content, name in ((small_avatar(), "one.vrm"), (small_avatar_motion(), "one.vrma")):
        raw = container_from_bytes(content, Path(name)).raw
        places = [("extensions", *at) for at in _paths(raw["extensions"]) if at]
        for index, node in enumerate(raw["nodes"]):
            places += [("nodes", index, "extensions", *at) for at in _paths(node.get("extensions", {})) if at]
        for place in places:
            assert isinstance(broken_rules(_edited(raw, place, junk)), list), place


def test_an_avatar_that_is_misshapen_is_told_by_the_command():
    raw = container_from_bytes(small_avatar(), Path("one.vrm"))
    text = json.dumps(_edited(raw.raw, (*_HAPPY, "morphTargetBinds"), 7)).encode()
    binary = small_avatar()[20 + struct.unpack("<I", small_avatar()[12:16])[0] :]
    text += b" " * (-len(text) % 4)
    head = struct.pack("<4sII", b"glTF", 2, 20 + len(text) + len(binary)) + struct.pack("<I4s", len(text), b"JSON")
    Path("odd.vrm").write_bytes(head + text + binary)
    done = run("check", "odd.vrm", "--platform", "vrm-1")
    assert done.returncode == 1
    assert "it is a whole number, not a list in brackets" in done.stdout
    rows = run("check", "odd.vrm", "--platform", "vrm-1", "--json").report["files"][0]["rules"]
    assert any("VRMC_vrm: expressions" in row["place"] and "morphTargetBinds" in row["place"] for row in rows)


def test_an_avatar_that_is_made_looks_at_things_with_its_eyes():
    """From between its eyes, seen from the head, however that bone is turned."""
    made = fairswap.fit(TROUPE / "juniper.glb", "vrm-1", meta=meta_file())
    (path,) = made.save("juniper.vrm")
    stated = raw_of(path)["extensions"]["VRMC_vrm"]["lookAt"]
    assert stated["type"] == "bone"
    rest, bones = made.figure.skeleton.rest, rigged(made.figure, bones="vrm-1").roles.bones
    head, eyes = bones["head"], [bones[f"eye_{side}"] for side in ("left", "right")]
    there = Rotation.from_quat(rest.rotations[0, head]).apply(stated["offsetFromHeadBone"]) + rest.positions[0, head]
    assert np.abs(there - rest.positions[0, eyes].mean(axis=0)).max() < 1e-6
    assert {key for key in stated if key.startswith("rangeMap")} == {
        f"rangeMap{way}" for way in ("HorizontalInner", "HorizontalOuter", "VerticalDown", "VerticalUp")
    }


def test_a_gaze_is_written_as_a_gaze_and_what_is_read_back_keeps_to_the_standard():
    """Eyes are read from a gaze; they are not held against the file that has none."""
    one, walk = figure("Osric"), act("walk", "Osric")
    eyes = [rigged(one).roles.bones[f"eye_{side}"] for side in ("left", "right")]
    known, chain = rigged(one), walk.world().rotations
    edit = walk.poses.edit()
    aside = Rotation.from_euler("y", 12.0 * np.sin(np.arange(walk.frames) / 11.0)[:, None], degrees=True)
    head = known.roles.bones["head"]
    rest = one.skeleton.rest.rotations[0]
    for eye in eyes:
        # Turned against the head about its upright, whichever way the bone is rolled.
        carried = Rotation.from_quat(chain[:, head].copy()) * Rotation.from_quat(rest[head].copy()).inv()
        world = carried * aside * Rotation.from_quat(rest[eye].copy())
        above = Rotation.from_quat(chain[:, one.skeleton.parents[eye]].copy())
        edit.turn(eye, (above.inv() * world).as_quat().T)
    fairswap.save("gaze.bvh", one, [walk.with_poses(edit.poses())])
    made = fairswap.fit("gaze.bvh", "vrm-1")
    (path,) = made.save("out")
    stated = open_container(Path(path)).raw["extensions"]["VRMC_vrm_animation"]
    assert "lookAt" in stated
    assert not {"leftEye", "rightEye"} & set(stated["humanoid"]["humanBones"])
    assert not fairswap.check(path, "vrm-1").broken
    # Both eyes look where they did.
    again = fairswap.load(path)
    for eye in ("leftEye", "rightEye"):
        bone = again.figure.skeleton.names.index(eye)
        turned = Rotation.from_quat(again.clips[0].poses.rotations[:, bone])
        assert np.degrees((turned * aside.inv()).magnitude()).max() < 0.1
