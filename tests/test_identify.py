"""Bones found by themselves: on odd rigs, on the troupe under other names, and where there is no body."""

import base64
import json
import re
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

import fairswap
from fairswap.bones.assignment import roles_of
from fairswap.bones.identification import identify
from fairswap.demo.rigs import NAMINGS, odd_rig
from fairswap.formats.gltf.opening import open_container
from fairswap.model.figure import Figure
from fairswap.model.mesh import deformed_vertices
from fairswap.model.skeleton import Skeleton
from fairswap.model.words import meaning_of
from making import FREE, TROUPE, act, arm, figure, random_skeleton, run, swap_between

PER_NAMING = 10


def renamed(figure_, names):
    return replace(figure_, skeleton=replace(figure_.skeleton, names=tuple(names)), source=None)


@pytest.fixture(scope="module")
def answers():
    """(naming, role, right, confidence) of rigs that nothing was fitted on."""
    rows = []
    for number, naming in enumerate(NAMINGS):
        for seed in range(50_000 + 100 * number, 50_000 + 100 * number + PER_NAMING):
            rig = odd_rig(seed, naming)
            found = identify(rig.figure).answers
            for role, bone in rig.truth.items():
                rows.append((naming, role, role in found and found[role].bone == bone, 0.0))
            for role, answer in found.items():
                rows.append((naming, role, rig.truth.get(role) == answer.bone, answer.confidence))
    return rows


def test_99_of_100_bones_are_right_and_97_where_names_mean_nothing(answers):
    asked = [(naming, right) for naming, _, right, confidence in answers if confidence == 0.0]
    assert np.mean([right for _, right in asked]) >= 0.99
    for naming in ("numbers", "nonsense"):
        assert np.mean([right for other, right in asked if other == naming]) >= 0.97


def test_of_the_answers_given_0_9_or_more_99_of_100_are_right(answers):
    sure = [right for _, _, right, confidence in answers if confidence >= 0.9]
    assert len(sure) > 2000
    assert np.mean(sure) >= 0.99


@pytest.mark.parametrize("kind", ["own", "numbers", "nonsense", "one name"])
@pytest.mark.parametrize("name", ["Juniper", "Osric"])
@pytest.mark.parametrize("skin", [True, False])
def test_the_troupe_under_any_names_with_skin_and_without(name, kind, skin):
    whole = figure(name)
    truth = roles_of(whole).bones
    rng = np.random.default_rng(1)
    count = len(whole.skeleton)
    names = {
        "own": whole.skeleton.names,
        "numbers": [f"{i:03}" for i in range(count)],
        "nonsense": ["".join(rng.choice(list("bdgkmptz"), 5)) for _ in range(count)],
        "one name": ["bone"] * count,
    }[kind]
    found = identify(replace(renamed(whole, names), meshes=whole.meshes if skin else ())).answers
    wrong = {role for role, bone in truth.items() if role not in found or found[role].bone != bone}
    assert not wrong
    assert not [role for role, answer in found.items() if answer.confidence >= 0.9 and truth.get(role) != answer.bone]


def test_helpers_extras_and_ends_are_sorted():
    found = identify(figure("Juniper"))
    names = figure("Juniper").skeleton.names
    assert {names[bone]: row for bone, row in found.helper.items()} == {
        f"{joint}_twist_{side[0]}": (f"{role}_{side}", 0.5)
        for joint, role in (("shoulder_joint", "upper_arm"), ("elbow", "lower_arm"))
        for side in ("left", "right")
    }
    assert {names[bone][:9] for bone in found.extra} == {"coat_tail"}
    found = identify(figure("Osric"))
    assert all(figure("Osric").skeleton.names[bone].endswith("End") for bone in found.end)


def test_a_mirrored_naming_is_said_and_not_swapped_silently():
    osric = figure("Osric")
    swapped = [
        name.replace("Port", "#").replace("Starboard", "Port").replace("#", "Starboard")
        for name in osric.skeleton.names
    ]
    found = identify(renamed(osric, swapped))
    assert "sides-disagree" in {finding.code for finding in found.findings}
    assert all(answer.confidence < 0.9 for role, answer in found.answers.items() if role.endswith("_left"))


def test_a_clip_shows_the_front_by_the_knees_where_nothing_else_does():
    """No toes, no names, knees straight at rest: only in motion can left be told from right."""
    whole = figure("Osric").skeleton
    toes = {b for b, name in enumerate(whole.names) if "Toecap" in name}
    kept = [b for b in range(len(whole)) if b not in toes and int(whole.parents[b]) not in toes]
    number = {b: i for i, b in enumerate(kept)}
    skeleton = Skeleton(
        tuple(map(str, kept)),
        np.array([number.get(int(whole.parents[b]), -1) for b in kept]),
        whole.rest_rotations[kept],
        whole.rest_translations[kept],
    )
    clip = act("walk", "Osric")
    poses = replace(clip.poses, skeleton=skeleton, rotation_tracks=clip.poses.rotation_tracks[kept])
    body = Figure("toeless", skeleton)
    blind, seeing = identify(body), identify(body, clip=fairswap.Clip("walk", clip.rate, poses))
    left = number[whole.names.index("salt:Port Thigh")]
    assert blind.answers["upper_leg_left"].confidence < 0.6
    assert seeing.answers["upper_leg_left"].bone == left
    assert seeing.answers["upper_leg_left"].confidence > 0.85
    assert any("in the clip" in reason for reason in seeing.answers["upper_leg_left"].reasons)


def test_a_second_copy_of_the_skeleton_is_paired_bone_by_bone():
    whole = figure("Juniper").skeleton
    arm_bones = [b for b in range(len(whole)) if whole.names[b].endswith("_l") and "elbow" in whole.path(b)]
    number = {bone: len(whole) + i for i, bone in enumerate(arm_bones)}
    parents = [number.get(int(whole.parents[b]), int(whole.parents[b])) for b in arm_bones]
    doubled = Skeleton(
        (*whole.names, *(f"{whole.names[b]}.001" for b in arm_bones)),
        np.concatenate([whole.parents, parents]),
        np.concatenate([whole.rest_rotations, whole.rest_rotations[arm_bones]]),
        np.concatenate([whole.rest_translations, whole.rest_translations[arm_bones]]),
    )
    found = identify(Figure("doubled", doubled))
    pairs = dict(found.duplicates)
    roled = [b for b in arm_bones if b in {answer.bone for answer in found.answers.values()}]
    assert len(roled) > 15
    assert all(pairs.get(number[b]) == b for b in roled)


@pytest.mark.parametrize(
    ("skeleton", "says"),
    [
        (
            Skeleton(("a",) * 5000, np.arange(5000) - 1, np.tile([0.0, 0, 0, 1], (5000, 1)), np.full((5000, 3), 0.01)),
            "no two legs",
        ),
        (random_skeleton(40), "humanoid"),
        (Skeleton(("x",), np.array([-1]), np.array([[0.0, 0, 0, 1]]), np.zeros((1, 3))), "no two legs"),
    ],
    ids=["a chain of 5000", "a random tree", "one bone"],
)
def test_no_humanoid_at_all_says_what_it_looks_like(skeleton, says):
    found = identify(Figure("thing", skeleton))
    assert not found.answers or found.missing
    if not found.answers:
        assert says in found.findings[0].message


def test_names_are_understood_in_other_words_and_languages():
    for name, part, side in (
        ("Oberschenkel.L", "upper_leg", "left"),
        ("rightForearm", "lower_arm", "right"),
        ("cuisse_gauche", "upper_leg", "left"),
        ("左太腿", "upper_leg", "left"),
        ("mano.der", "hand", "right"),
        ("L_Zeigefinger_2", "index", "left"),
        ("r upper arm", "upper_arm", "right"),
    ):
        assert (meaning_of(name).parts, meaning_of(name).side) == ({part}, side), name
    assert meaning_of("b013").parts == frozenset()


def test_convert_needs_no_profile_and_strict_refuses_guesses():
    stranger = renamed(figure("Osric"), [f"b{i}" for i in range(len(figure("Osric").skeleton))])
    clip = act("walk", "Osric")
    moved = fairswap.Clip("walk", clip.rate, replace(clip.poses, skeleton=stranger.skeleton))
    fairswap.save("walk.glb", stranger, [moved])
    done = run("convert", "walk.glb", "--onto", TROUPE / "juniper.glb", "-o", "out.glb", "--json", "--feet", "free")
    assert done.returncode == 0, done.stderr
    result = fairswap.load("out.glb")
    proof = fairswap.compare((figure("Juniper"), act("walk", "Juniper")), (result.figure, result.clips[0]))
    assert proof.limbs_worst_degrees < 2.0
    toeless = [i for i, name in enumerate(figure("Osric").skeleton.names) if "Toecap" in name]
    kept = [
        b
        for b in range(len(stranger.skeleton))
        if b not in toeless and int(stranger.skeleton.parents[b]) not in toeless
    ]
    number = {b: i for i, b in enumerate(kept)}
    s = stranger.skeleton
    flat = Skeleton(
        tuple(s.names[b] for b in kept),
        np.array([number.get(int(s.parents[b]), -1) for b in kept]),
        s.rest_rotations[kept],
        s.rest_translations[kept],
    )
    with pytest.raises(fairswap.ImpossibleError, match=r"guesses below 0\.9.*bones\.draft"):
        swap_between(Figure("flat", flat), figure("Juniper"), strict=True)


def test_a_draft_is_a_profile_that_gives_the_same_roles_and_can_be_kept_by_name():
    unknown = renamed(figure("Osric"), [f'b"{i}\\' for i in range(len(figure("Osric").skeleton))])
    fairswap.save("stranger.glb", unknown)
    done = run("bones", "draft", "stranger.glb", "-o", "p.toml", "--save-as", "strangers", "--say", 'jaw=b"7\\')
    assert done.returncode == 0, done.stderr
    text = Path("p.toml").read_text()
    assert "# 1.00 you said so" in text
    assert "legs and spine part here" in text
    found = roles_of(fairswap.load("stranger.glb").figure)
    assert found.profile == "strangers"
    drafted = fairswap.BoneProfile.load("p.toml").assign(unknown.skeleton)
    assert dict(drafted.bones) == dict(found.bones)
    assert len(found.bones) >= 55
    assert run("bones", "list").stdout.count("yours") == 1
    wrong = run("bones", "draft", "stranger.glb", "--say", "jaw=nobody")
    assert (wrong.returncode, "no bone of" in wrong.stderr) == (2, True)


def test_check_finds_an_edition_a_mirror_and_what_is_missing():
    osric = figure("Osric")
    fairswap.save("edition.glb", renamed(osric, [n.replace("Port Cuff", "Port Cuffs") for n in osric.skeleton.names]))
    done = run("bones", "check", "saltglass", "edition.glb", "--picture", "state.png")
    assert "differs by 1 name(s): lower_arm_left: Port Cuff is perhaps ‹salt:Port Cuffs›" in " ".join(
        done.stdout.split()
    )
    assert Path("state.png").stat().st_size > 20_000
    fairswap.save(
        "mirror.glb",
        renamed(
            osric,
            [
                n.replace("Port", "#").replace("Starboard", "Port").replace("#", "Starboard")
                for n in osric.skeleton.names
            ],
        ),
    )
    done = run("bones", "check", "saltglass", "mirror.glb")
    assert "left and right" in done.stdout
    assert "left and right" not in run("bones", "check", "saltglass", TROUPE / "osric.glb").stdout
    run("bones", "draft", TROUPE / "osric.glb", "-o", "own.toml")
    own = run("bones", "check", "own.toml", TROUPE / "osric.glb")
    assert (own.returncode, "left over" in own.stdout, "match no bone" in own.stdout) == (0, False, False)
    # A profile that swaps the sides of a figure whose names say nothing.
    numbers = [f"{i:03}" for i in range(len(osric.skeleton))]
    fairswap.save("numbers.glb", renamed(osric, numbers))
    run("bones", "draft", "numbers.glb", "-o", "right.toml")
    text = Path("right.toml").read_text()
    Path("wrong.toml").write_text(
        re.sub(r"_(left|right) =", lambda m: "_right =" if m[1] == "left" else "_left =", text)
    )
    swapped = run("bones", "check", "wrong.toml", "numbers.glb")
    assert (swapped.returncode, "left and right look swapped" in swapped.stdout) == (1, True)
    clean = run("bones", "check", "right.toml", "numbers.glb")
    assert (clean.returncode, "left over" in clean.stdout) == (0, False)
    assert run("bones", "draft", "numbers.glb", "--save-as", "../x").returncode == 2
    foreign = run("bones", "check", "saltglass", TROUPE / "juniper.glb")
    assert (foreign.returncode, "not one of its 56 roles" in foreign.stdout) == (1, True)
    text = (TROUPE.parent / "profiles" / "saltglass.toml").read_text().replace('"salt:"', '"salt:", "pepper:"')
    Path("peppered.toml").write_text(text)
    assert "prefix 'pepper:'" in run("bones", "check", "peppered.toml", TROUPE / "osric.glb").stdout


def test_a_motion_file_with_two_bone_limbs_is_enough():
    """Hips, a spine bone, a head, and limbs of two bones each: their end sites are all there is of hands and feet."""
    lines = [
        "HIERARCHY",
        "ROOT b0",
        "{",
        "OFFSET 0 100 0",
        "CHANNELS 6 Xposition Yposition Zposition Zrotation Xrotation Yrotation",
    ]

    def joint(number, offset, inner):
        return [f"JOINT b{number}", "{", f"OFFSET {offset}", "CHANNELS 3 Zrotation Xrotation Yrotation", *inner, "}"]

    def end(offset):
        return ["End Site", "{", f"OFFSET {offset}", "}"]

    for x, number in ((9, 1), (-9, 3)):
        lines += joint(number, f"{x} -4 0", joint(number + 1, "0 -44 1", end("0 -44 -1")))
    arms = [
        line
        for x, n in ((16, 6), (-16, 8))
        for line in joint(n, f"{x} 22 0", joint(n + 1, f"{1.8 * x} 0 0", end(f"{1.7 * x} 0 0")))
    ]
    lines += joint(5, "0 20 0", [*arms, *joint(10, "0 34 0", end("0 22 0"))])
    text = "\n".join([*lines, "}", "MOTION", "Frames: 1", "Frame Time: 0.04", " ".join(["0", "100", "0", *["0"] * 33])])
    Path("stick.bvh").write_text(text + "\n")
    stick = fairswap.load("stick.bvh").figure
    roles = roles_of(stick).bones
    names = {role: stick.skeleton.names[bone] for role, bone in roles.items()}
    expected = {
        "hips": "b0",
        "spine_1": "b5",
        "head": "b10",
        "upper_leg_left": "b1",
        "lower_leg_right": "b4",
        "lower_arm_left": "b7",
    }
    assert {role: names[role] for role in expected} == expected
    assert {names["foot_left"], names["hand_right"]} == {"b2_end", "b9_end"}


def test_match_pairs_two_figures_through_the_roles():
    done = run("bones", "match", TROUPE / "osric.glb", TROUPE / "juniper.glb")
    assert done.returncode == 0, done.stderr
    assert re_row(done.stdout, "lower_arm_left") == ["salt:Port Cuff", "elbow_l"]
    assert "from salt:Pelvis to salt:Loin" in done.stdout


def test_a_second_skeleton_that_came_with_clothes_is_joined_skin_and_all():
    """A cloak of the same shape on a copy of all bones: after joining it moves with the body, vertex for vertex."""
    made = open_container(TROUPE / "juniper.glb")
    raw = json.loads(json.dumps(made.raw))
    count = len(raw["nodes"]) - 2  # the last are the meshes, body and face
    shift = len(raw["nodes"])
    for node in raw["nodes"][:count]:
        twin = {**node, "name": f"{node['name']}.001"}
        if "children" in node:
            twin["children"] = [child + shift for child in node["children"]]
        raw["nodes"].append(twin)
    raw["skins"].append({**raw["skins"][0], "joints": [joint + shift for joint in raw["skins"][0]["joints"]]})
    raw["nodes"].append({"name": "cloak", "mesh": 0, "skin": 1})
    raw["scenes"][0]["nodes"] += [shift, len(raw["nodes"]) - 1]
    data = base64.b64encode(bytes(made.buffers[0])).decode()
    raw["buffers"] = [{"byteLength": len(made.buffers[0]), "uri": f"data:;base64,{data}"}]
    Path("dressed.gltf").write_text(json.dumps(raw))
    dressed = fairswap.load("dressed.gltf")
    assert [len(figure.meshes) for figure in dressed.figures] == [3]
    assert "skeletons-joined" in {finding.code for finding in dressed.findings}
    done = run("bones", "merge", "dressed.gltf", "-o", "joined.glb", "--json")
    assert done.returncode == 0, done.stderr
    report = json.loads(done.stdout)
    assert len(report["merged"]) > 70
    joined = fairswap.load("joined.glb")
    assert [len(f.meshes) for f in joined.figures] == [3]
    clip = swap_between(figure("Osric"), joined.figure).convert(act("walk", "Osric"), FREE)
    world = clip.at([1.1]).world()
    body, _, cloak = (deformed_vertices(mesh, world, 0) for mesh in joined.figure.meshes)
    assert np.abs(body - cloak).max() < 1e-4
    assert run("bones", "merge", TROUPE / "juniper.glb", "-o", "no.glb").returncode == 4


def re_row(text, role):
    line = next(line for line in text.splitlines() if line.strip().startswith(role))
    return re.split(r"\s{2,}", line.strip())[1:]


def test_a_vrm_file_says_itself_which_bone_is_which(tmp_path):
    made = arm()
    made.json["extensionsUsed"] = ["VRMC_vrm"]
    bones = {
        "leftUpperArm": {"node": 1},
        "leftLowerArm": {"node": 2},
        "leftHand": {"node": 3},
        "upperChest": {"node": 1},
    }
    made.json["extensions"] = {"VRMC_vrm": {"specVersion": "1.0", "humanoid": {"humanBones": bones}}}
    known = made.load(tmp_path).figure.known_roles
    names = ("shoulder", "elbow", "wrist")
    found = {role: names[bone] for role, bone in known.items()}
    assert found == {
        "upper_arm_left": "shoulder",
        "lower_arm_left": "elbow",
        "hand_left": "wrist",
        "spine_2": "shoulder",
    }
    made.json["extensions"]["VRMC_vrm"]["humanoid"] = [1]
    assert made.load(tmp_path).figure.known_roles == {}


@pytest.mark.parametrize("name", ["Juniper", "Osric", "Pip"])
@pytest.mark.parametrize("prefix", ["scene 7|rig:", "export|"])
@pytest.mark.long(but=2)
def test_a_profile_knows_its_bones_behind_what_a_scene_puts_before_all_of_them(name, prefix):
    plain = figure(name)
    skeleton = replace(plain.skeleton, names=tuple(prefix + bone for bone in plain.skeleton.names))
    fairswap.save("scene.glb", replace(plain, skeleton=skeleton, source=None))
    roles, wanted = (fairswap.bones.roles_of(each) for each in (fairswap.load("scene.glb").figure, plain))
    assert (roles.profile, dict(roles.bones), dict(roles.helpers)) == (
        wanted.profile, dict(wanted.bones), dict(wanted.helpers)
    )  # fmt: skip
    # A stage wants them called so, not behind a prefix: its check is not deceived, and fitting renames them.
    row = next(row for row in fairswap.check("scene.glb", wanted.profile).results if row.rule == "bones")
    assert row.ok == (name == "Osric")  # whose stage has scenes' prefixes itself
    fairswap.fit("scene.glb", wanted.profile).save("fitted.glb")
    assert next(row for row in fairswap.check("fitted.glb", wanted.profile).results if row.rule == "bones").ok
    # One bone without it, and nothing is put before all of them.
    names = ("stray", *skeleton.names[1:])
    odd = replace(plain, skeleton=replace(skeleton, names=names), source=None, known_roles={})
    if name == "Pip":
        with pytest.raises(fairswap.ImpossibleError):
            fairswap.bones.roles_of(odd, fairswap.bones.named("fernway"))
