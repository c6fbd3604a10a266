"""Who is a person: animals have the same bones on four feet, and are refused with what is unlike."""

from fractions import Fraction
from functools import cache
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, assume, given, settings
from hypothesis import strategies as st

import fairswap
from fairswap.model.poses import Poses
from fairswap.model.rotation import quaternion_from_axis_angle, rotate
from making import FREE, TROUPE, act, figure, run
from rests import RESTS, resting
from rewrites import Scene


class Beast:
    """A body on four legs that trots."""

    def __init__(self, named=True, trunk=0.64, leg=0.5, neck=0.35, tail=4, toes=True, lean=0.0, heel=0.0, turn=None):
        self.names, self.parents, self.places, self.named = [], [], [], named
        pelvis = self.add("Pelvis", -1, [0, leg + 0.1, -trunk / 2])
        at = pelvis
        for number in range(3):
            at = self.add(f"Spine{number + 1}", at, [0, lean * trunk / 3, trunk / 3])
        chest, up = at, neck / 2
        for number in range(2):
            at = self.add(f"Neck{number + 1}", at, [0, up, 0.1])
        head = self.add("Head", at, [0, 0.1, 0.1])
        self.add("Jaw", head, [0, -0.03, 0.05])
        self.swinging = []
        for side, x in (("L", 0.1), ("R", -0.1)):
            shoulder = self.add(f"Shoulder_{side}", chest, [x, -0.05, 0.05])
            self.leg(shoulder, ["UpperFrontLeg", "LowerFrontLeg", "FrontPaw"], side, leg + lean * trunk, toes)
            self.leg(pelvis, ["Thigh", "Shin", "HindPaw"], side, leg, toes, heel if toes else 0.0)
        at = pelvis
        for number in range(tail):
            at = self.add(f"Tail{number}", at, [0, 0.02, -0.12])
        places = np.array(self.places, dtype=float)
        if turn is not None:  # the whole body lies or is turned
            places = rotate(turn, places)
        count = len(self.names)
        self.skeleton = fairswap.Skeleton(tuple(self.names), self.parents, np.tile([0, 0, 0, 1.0], (count, 1)), places)

    def add(self, name, parent, place):
        self.names.append(name if self.named else f"b{len(self.names)}")
        self.parents.append(parent)
        self.places.append(place)
        return len(self.names) - 1

    def leg(self, parent, names, side, length, toes, heel=0.0):
        x = 0.08 if side == "L" else -0.08
        steps = [[x, -0.02, 0.0], [0, -length / 2, -0.04], [0, (heel - 1.0) * length / 2, 0.03]]
        for name, step in zip(names, steps, strict=True):
            parent = self.add(f"{name}_{side}", parent, step)
            self.swinging.append(parent)
        if toes:
            self.add(f"{names[2].replace('Paw', 'Toe')}_{side}", parent, [0, -0.05 - heel * length / 2, 0.08])

    def trot(self):
        tracks = np.zeros((len(self.names), 4, 40))
        tracks[:, 3] = 1.0
        for number, bone in enumerate(self.swinging):
            swing = 0.4 * np.sin(np.arange(40) / 5.0 + number)
            tracks[bone] = quaternion_from_axis_angle([1.0, 0, 0], swing).T
        everything = frozenset(range(len(self.names)))
        return fairswap.Clip("trot", Fraction(30), Poses(self.skeleton, tracks), everything)

    def document(self):
        body = fairswap.Figure("beast", self.skeleton)
        return fairswap.Document("beast.glb", "glTF 2.0", body.space, (body,), (self.trot(),))


@given(
    named=st.booleans(), trunk=st.floats(0.4, 1.2), leg=st.floats(0.25, 0.9), neck=st.floats(0.1, 0.9),
    tail=st.integers(0, 6), toes=st.booleans(), lean=st.floats(-0.3, 0.3),
)  # fmt: skip
@settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_whoever_stands_on_four_legs_is_refused(**build):
    assume(build["leg"] + build["lean"] * build["trunk"] > 0.4 * build["leg"])  # or it has no front legs to stand on
    beast = Beast(**build).document()
    with pytest.raises(fairswap.ImpossibleError) as told:
        fairswap.convert(beast, TROUPE / "pip.glb", motion=FREE)
    assert told.value.code in ("no-person", "bones-unknown")


@pytest.mark.parametrize("heel", [0.3, 0.5, 0.7, 0.9])
def test_whoever_stands_on_its_toes_is_refused_for_that(heel):
    """The heels of dogs and horses are halfway up their legs: what comes down as far as the hands are the toes."""
    with pytest.raises(fairswap.ImpossibleError, match="four legs"):
        fairswap.convert(Beast(heel=heel).document(), TROUPE / "pip.glb", motion=FREE)


def test_the_refusal_names_what_is_unlike_and_what_to_do():
    beast = Beast()
    fairswap.save("beast.glb", fairswap.Figure("beast", beast.skeleton), [beast.trot()])
    done = run("convert", "beast.glb", "--onto", TROUPE / "pip.glb", "-o", "out.glb")
    assert done.returncode != 0
    for word in ("four legs", "bones draft", "--source-bones"):
        assert word in done.stderr
    told = run("inspect", "beast.glb")
    assert "not a person" in told.stdout
    # Whoever means it writes the bones down.
    assert run("bones", "draft", "beast.glb", "-o", "beast.toml").returncode == 0
    done = run("convert", "beast.glb", "--onto", TROUPE / "pip.glb", "--source-bones", "beast.toml", "-o", "out.glb")
    assert done.returncode in (0, 1), done.stderr
    assert fairswap.load("out.glb").clips


def test_a_beast_beside_a_person_is_never_the_one_that_moves():
    beast, walk = Beast(), act("walk", "Osric")
    two = fairswap.Document(
        "two.glb", "glTF 2.0", figure("Osric").space,
        (fairswap.Figure("beast", beast.skeleton), figure("Osric")), (beast.trot(), walk),
    )  # fmt: skip
    made = fairswap.convert(two.choosing("Osric"), TROUPE / "pip.glb", motion=FREE)
    assert made.clips[0].frames == walk.frames
    with pytest.raises(fairswap.ImpossibleError, match="four legs"):
        fairswap.convert(two.choosing("beast"), TROUPE / "pip.glb", motion=FREE)


@pytest.mark.parametrize("rest", RESTS)
@pytest.mark.parametrize("who", ["Juniper", "Osric", "Pip"])
def test_people_are_people_however_they_rest(who, rest):
    from fairswap.demo.anatomy import body_of

    body = fairswap.Figure(who, resting(body_of(who), rest))
    assert not fairswap.bones.roles_of(body, clip=None if rest != "in line" else act("walk", who)).missing()


def side_by_side():
    """A file with two people."""
    Path("two.glb").write_bytes(two_people())
    return "two.glb"


@cache
def two_people(first="Osric", second="Pip"):
    """Two people in one file, each with a clip, two metres apart."""
    for who in (first, second):
        fairswap.save(f"{who}.glb", figure(who), [act("idle", who)], force=True)
    one, two = (Scene(Path(f"{who}.glb").read_bytes()) for who in (first, second))
    shift = len(one.nodes), len(one.arrays), len(one.json["meshes"]), len(one.json["skins"]), len(one.json["materials"])
    for row, values in zip(two.json["accessors"], two.arrays, strict=True):
        one.json["accessors"].append(row)
        one.arrays.append(values)
    for material in two.json["materials"]:
        one.json["materials"].append({"name": material.get("name", "")})
    for mesh in two.json["meshes"]:
        for part in mesh["primitives"]:
            for holder in (part["attributes"], *part.get("targets", [])):
                for key in holder:
                    holder[key] += shift[1]
            part["indices"] += shift[1]
            part["material"] += shift[4]
        one.json["meshes"].append(mesh)
    for skin in two.json["skins"]:
        skin["joints"] = [joint + shift[0] for joint in skin["joints"]]
        skin["inverseBindMatrices"] += shift[1]
        skin.pop("skeleton", None)
        one.json["skins"].append(skin)
    for node in two.nodes:
        for key, by in (("mesh", shift[2]), ("skin", shift[3])):
            if key in node:
                node[key] += by
        if "children" in node:
            node["children"] = [child + shift[0] for child in node["children"]]
        one.nodes.append(node)
    one.nodes.append({"name": "place", "translation": [2.0, 0.0, 0.0], "children": [i + shift[0] for i in two.roots()]})
    one.roots().append(len(one.nodes) - 1)
    for animation in two.json["animations"]:
        for sampler in animation["samplers"]:
            sampler["input"] += shift[1]
            sampler["output"] += shift[1]
        for channel in animation["channels"]:
            channel["target"]["node"] += shift[0]
        one.json["animations"].append({**animation, "name": f"{second} idle"})
    return one.bytes()


def test_of_two_people_one_has_to_be_chosen_before_anything_is_changed():
    path = side_by_side()
    document = fairswap.load(path)
    assert {each.name for each in document.figures} == {"Osric", "Pip"}
    fairswap.save("walk.glb", figure("Juniper"), [act("walk", "Juniper")])
    for words in (
        ("convert", "walk.glb", "--onto", path), ("pose", "set", path, "--to", "t"), ("reel", path),
        ("fit", path, "--platform", "fernway"),
    ):  # fmt: skip
        done = run(*words, "-o", "out.glb")
        assert done.returncode == 2, (words, done.stderr)
        assert "'Osric'" in done.stderr
        assert "'Pip'" in done.stderr
        assert "--figure NAME" in done.stderr
        assert not Path("out.glb").exists()
        chosen = run(*words, "--figure", "Pip", "-o", "out.glb")
        assert chosen.returncode in (0, 1), chosen.stderr
        assert "Pip" in chosen.stdout
        Path("out.glb").unlink()
    with pytest.raises(fairswap.UsageError, match="2 people"):
        fairswap.convert("walk.glb", document)
    made = fairswap.convert("walk.glb", document.choosing("Pip"), motion=FREE)
    assert made.figure.name == "Pip"


@pytest.mark.parametrize(
    "words",
    [
        ("inspect", "two.glb"),
        ("bones", "show", "two.glb"),
        ("bones", "draft", "two.glb", "-o", "o.toml"),
        ("bones", "check", "fernway", "two.glb"),
        ("bones", "match", "walk.glb", "two.glb"),
        ("pose", "measure", "two.glb"),
        ("face", "draft", "two.glb", "-o", "o.toml"),
        ("face", "show", "two.glb", "-o", "o.png"),
        ("face", "apply", "line.glb", "--onto", "two.glb", "-o", "o.glb"),
        ("clip", "mirror", "two.glb", "-o", "o.glb"),
        ("clip", "join", "two.glb", "two.glb", "-o", "o.glb"),
        ("clip", "draw", "two.glb", "--role", "head", "-o", "o.png"),
        ("clip", "describe", "two.glb"),
        ("check", "two.glb", "--platform", "fernway"),
    ],
    ids=" ".join,
)
@pytest.mark.long(but=2)
def test_every_command_takes_the_figure_that_is_named(words):
    side_by_side()
    if "walk.glb" in words:
        fairswap.save("walk.glb", figure("Juniper"), [act("walk", "Juniper")])
    if "line.glb" in words:
        spoken = fairswap.demo_motion("spoken line", by="Juniper")
        fairswap.save("line.glb", spoken.figure, spoken.clips)
    force = ["--force"] if "-o" in words else []
    for who in ("Pip", "Osric"):
        done = run(*words, "--figure", who, *force)
        assert done.returncode in (0, 1), done.stderr
        if words[:2] in (("bones", "show"), ("bones", "check"), ("bones", "match")):
            # Bones of the one that was named, and none of the other's.
            assert ("salt:" in done.stdout) == (who == "Osric")
    done = run(*words, "--figure", "Nobody", *force)
    assert done.returncode == 2
    assert "no figure is called 'Nobody'" in done.stderr
    assert "'Osric'" in done.stderr
