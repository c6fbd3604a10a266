"""Baked motion of H-Anim 2.0, as other programs write it: a table of degrees for each frame."""

from pathlib import Path

import numpy as np
import pytest

import fairswap
from making import act, figure
from scenes import baked

WICK = """<X3D profile="Immersive" version="4.0"><Scene><HAnimHumanoid name="Wick" version="2.0">
 <HAnimJoint name="humanoid_root" center="0 1 0" containerField="skeleton">
  <HAnimJoint name="l_hip" center="0.1 0.9 0"><HAnimJoint name="l_knee" center="0.1 0.5 0">
   <HAnimJoint name="l_ankle" center="0.1 0.1 0"/></HAnimJoint></HAnimJoint></HAnimJoint>
 {}</HAnimHumanoid></Scene></X3D>"""
KNEE = {"name": "Bend", "frameDuration": "0.5", "joints": "humanoid_root, IGNORED, l_knee",
        "channels": "6 Xposition Yposition Zposition Zrotation Xrotation Yrotation, 2 Xrotation Yrotation, 1 Xrotation",
        "values": "0 0 0 0 0 0  50 60  0   0 0.25 0 0 0 90  50 60  90   0 0.5 0 0 0 0  50 60  0"}  # fmt: skip


def load(*motions):
    nodes = "".join(f"<HAnimMotion {' '.join(f'{k}={v!r}' for k, v in fields.items())}/>" for fields in motions)
    return fairswap.load(WICK.format(nodes).encode(), format=".x3d")


def ankle(document, number=0):
    """The way of the ankle at each frame ``(frames, 3)``."""
    clip = document.clips[number]
    return clip.poses.world().positions[:, clip.skeleton.names.index("l_ankle")]


@pytest.mark.parametrize("orders", ["ZXY", "XYZYZXZYX"])
def test_a_clip_baked_is_the_clip(orders):
    who, clip = figure("Juniper"), act("turn-and-bow", "Juniper")
    fairswap.save("plain.x3d", who, [clip])
    Path("baked.x3d").write_text(baked(Path("plain.x3d").read_text(), 60, orders))
    document = fairswap.load("baked.x3d")
    (read,) = document.clips
    assert (read.name, read.frames, read.rate) == ("Turn and bow", clip.frames, clip.rate)
    bones = [read.skeleton.names.index(name) for name in clip.skeleton.names]
    off = np.abs(read.poses.world().positions[:, bones] - clip.poses.world().positions)
    assert off.max() < 2e-5
    assert not [row for row in document.findings if row.severity == "warning"]


def test_the_table_is_read_in_degrees_joint_by_joint_and_what_is_ignored_is():
    document = load(KNEE)
    (clip,) = document.clips
    assert (clip.name, clip.duration_s) == ("Bend", pytest.approx(1.0))
    at = [round(second * float(clip.rate)) for second in (0, 0.5, 1)]
    # Half way the root is up by a quarter metre and turned left; the knee has sent the calf to the back, now the right.
    assert ankle(document)[at] == pytest.approx(np.array([[0.1, 0.1, 0], [-0.4, 0.75, -0.1], [0.1, 0.6, 0]]), abs=1e-6)
    older = load(KNEE | {"joints": '"HumanoidRoot" IGNORED l_knee'})
    assert ankle(older)[at] == pytest.approx(ankle(document)[at])


@pytest.mark.parametrize("stated", ["true,true,false", " ".join(["true"] * 8 + ["false"])])
def test_a_channel_that_is_off_does_not_move(stated):
    way = ankle(load(KNEE | {"channelsEnabled": stated}))
    assert np.ptp(way[:, 1]) == pytest.approx(0.5, abs=1e-6)  # the root alone
    assert way[len(way) // 2] == pytest.approx([0, 0.35, -0.1], abs=1e-6)


def test_each_motion_of_a_humanoid_is_a_clip_whichever_is_played():
    up = {"name": "", "description": "Up", "enabled": "false", "startFrame": "1", "endFrame": "2", "frameDuration": "1"}
    document = load(KNEE, KNEE | up, {"loa": "1"})
    assert [(clip.name, round(clip.duration_s, 3)) for clip in document.clips] == [("Bend", 1.0), ("Up", 2.0)]
    ends = [ankle(document, number)[[0, -1]] for number in (0, 1)]
    assert ends[0] == pytest.approx(ends[1], abs=1e-6)


def test_a_motion_in_no_humanoid_is_told():
    """One that a humanoid takes by its name is its own, wherever it stands."""
    apart = WICK.replace(
        "<Scene>", f"<Scene><HAnimMotion DEF='far' {' '.join(f'{k}={v!r}' for k, v in KNEE.items())}/>"
    )
    document = fairswap.load(apart.format("").encode(), format=".x3d")
    assert not document.clips
    assert [row.message for row in document.findings if row.code == "motion-not-read"] == [
        "1 baked motion in no humanoid: not read"
    ]
    document = fairswap.load(apart.format("<HAnimMotion USE='far'/>").encode(), format=".x3d")
    assert ankle(document) == pytest.approx(ankle(load(KNEE)))
    assert "motion-not-read" not in {row.code for row in document.findings}


def test_joints_that_are_not_there_and_odd_lists_are_told():
    document = load(KNEE | {"joints": "humanoid_root l_wing l_knee", "channelsEnabled": "true false"})
    told = [row.message for row in document.findings if row.code == "channels-left-out"]
    assert any("1 joint its humanoid does not have (l_wing)" in message for message in told)
    assert any("2 channels whether they count" in message for message in told)
    assert ankle(document) == pytest.approx(ankle(load(KNEE)))


@pytest.mark.parametrize(
    ("fields", "told"),
    [
        ({"values": "1 2 3"}, "3 values, 9 to a frame"),
        ({"values": "1 2 knee 4"}, "not a number"),
        ({"values": "nan " * 9}, "not finite"),
        ({"joints": "humanoid_root"}, "names 1 joints and has channels for 3"),
        ({"channels": "Xrotation"}, "'Xrotation' is not the number of a joint's channels"),
        ({"channels": "3 Xrotation Yrotation"}, "joint 1 has 3 channels, but not so many"),
        ({"channels": "2 Xrotation Xrotation"}, "joint 1 has 2 channels, but not so many"),
        ({"channels": "1 Wrotation"}, "joint 1 has 1 channels, but not so many"),
        ({"frameDuration": "0"}, "a frame of it lasts 0 s"),
        ({"frameDuration": "-1"}, "a frame of it lasts -1 s"),
    ],
)
def test_a_table_that_does_not_fit_is_refused_in_one_line(fields, told):
    with pytest.raises(fairswap.InputError, match=told) as error:
        load(KNEE | fields)
    assert "HAnimMotion" in str(error.value)
