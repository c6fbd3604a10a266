"""Rigs as games ship them: hips that turn about the floor, fingers beside what moves them, names half with a prefix."""

from dataclasses import replace
from functools import cache
from pathlib import Path

import numpy as np
import pytest

import fairswap
from fairswap.bones.assignment import roles_of
from fairswap.formats.patterns import common_prefix
from making import act, figure, rig
from rewrites import Scene, _add_joint, rewritten

BOW = fairswap.demo_motion("turn-and-bow", by="Osric")


@cache
def plain(who="Juniper", *ways):
    few = fairswap.clips.trim(act("walk", who), start="0", end="1")
    path = Path("plain") / f"{who}.glb"
    fairswap.save(path, figure(who), [few], force=True)
    return rewritten(path.read_bytes(), *ways)


def found_in(content):
    """The names of the bones that the roles of a figure are found on, by role."""
    read = fairswap.load(content, format=".glb").figure
    return {role: read.skeleton.names[bone] for role, bone in roles_of(read).bones.items()}


def hips_low(*ways):
    return fairswap.load(plain("Juniper", *ways, "hips on the floor"), format=".glb")


@pytest.mark.parametrize("ways", [(), ("names in another script",)], ids=["by profile", "by shape"])
@pytest.mark.long(but=1)
def test_a_body_on_one_bone_on_the_floor_does_what_one_with_hips_does(ways):
    """It swung about the floor, its hips told as below it: 5 to 67 of 100."""
    document = hips_low(*ways)
    assert [finding.code for finding in document.findings] == ["hips-elsewhere"]
    low = fairswap.convert(BOW, document)
    usual = fairswap.convert(BOW, figure("Juniper"))
    assert low.done[0].comparison.likeness == pytest.approx(usual.done[0].comparison.likeness, abs=1.5)
    # What is written is the file's own skeleton, and stands as was judged.
    low.save("low.glb")
    names = [[node.get("name") for node in Scene(content).nodes]
             for content in (plain("Juniper", *ways, "hips on the floor"), Path("low.glb").read_bytes())]  # fmt: skip
    assert names[0] == names[1]
    assert fairswap.compare(BOW, "low.glb").likeness == pytest.approx(low.done[0].comparison.likeness, abs=0.05)


def test_its_hips_are_known_by_the_name_that_they_have_in_the_file():
    document = hips_low("names in another script")
    names = document.figure.skeleton.names
    hips = names[roles_of(document.figure).bones["hips"]]
    assert hips.endswith(" (hips)")
    roles = {role: names[bone] for role, bone in roles_of(document.figure).bones.items()}
    profile = fairswap.BoneProfile("mine", {role: (name.removesuffix(" (hips)"),) for role, name in roles.items()})
    assert roles_of(document.figure, profile).bones["hips"] == names.index(hips)


def test_a_figure_with_hips_where_hips_are_is_left_alone():
    for who in ("Juniper", "Osric", "Pip"):
        assert figure(who).stand_ins is None


def test_fingers_are_found_beside_the_bones_that_move_them():
    """Each finger had a bone without skin at its knuckle, with a target at its tip: none of either was found."""
    scene = Scene(plain("Juniper", "names in another script"))
    usual = found_in(scene.bytes())
    number = {node.get("name"): at for at, node in enumerate(scene.nodes)}
    for count, role in enumerate(role for role in usual if role.startswith(("index_prox", "middle_prox", "ring_prox"))):
        bone = number[usual[role]]
        hand, where = scene.parent_of(bone), scene.nodes[bone]
        place = {key: where[key] for key in ("translation", "rotation") if key in where}
        for each in range(2):
            hand = _add_joint(scene, hand, {"name": f"Finger.{count}.{each}", **place}, bone)
            place = {"translation": [0.0, 0.031 + 0.002 * count, 0.0]}
    assert found_in(scene.bytes()) == usual


def test_a_trunk_of_as_many_bones_as_an_arm_is_no_third_arm():
    content = rewritten(rig("latin.glb").read_bytes(), "arms on a control bone")
    document = fairswap.load(content, format=".glb")
    assert [finding.code for finding in document.findings] == ["limbs-apart"]
    assert found_in(content) == found_in(rig("latin.glb").read_bytes())


def test_a_profile_fits_though_some_names_lack_what_the_scene_puts_before_the_others():
    content = plain("Pip", "a node between every two bones", "all names with a prefix")
    names = fairswap.load(content, format=".glb").figure.skeleton.names
    assert 0 < sum(name.startswith("scene 7|rig:") for name in names) < len(names)
    assert roles_of(fairswap.load(content, format=".glb").figure).profile == "fernway"


def test_what_a_scene_puts_before_names_is_kept_where_another_bone_has_the_bare_name():
    """A rig beside its own copy: ``rig:hips`` and ``hips`` are two bones."""
    assert common_prefix(["rig:hips", "rig:head", "sword"]) == "rig:"
    assert common_prefix(["rig:hips", "rig:head", "hips"]) == ""


def test_nodes_between_bones_take_no_skin_on_a_platform():
    """Of a spine of six on one of four, the skin of two went to nodes that nothing else hung on."""

    def skin(content):
        made = fairswap.fit(replace(fairswap.load(content, format=".glb"), clips=()), "saltglass").figure
        return {role: made.skin_on_bones[bone] for role, bone in roles_of(made).bones.items()}

    usual, between = skin(plain()), skin(plain("Juniper", "a node between every two bones"))
    assert between == pytest.approx(usual, rel=1e-3)
    assert np.count_nonzero([usual[f"spine_{at}"] for at in range(1, 5)]) == 4
