"""BVH: read whatever programs write, write what any program reads."""

import re
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

import fairswap
from fairswap.formats.bvh.numbers import rows_from_text, text_from_rows
from fairswap.model.rotation import angle_between, quaternion_from_euler
from making import STICK, act, bvh, figure

ROW = [0, 90, 0, 10, 20, 30, -5, 15, 25]


def read(text, name="clip.bvh", **options):
    Path(name).write_bytes(text if isinstance(text, bytes) else text.encode())
    return fairswap.load(name, **options)


def codes(document):
    return {finding.code for finding in document.findings}


def same_motion(a, b, degrees=1e-4, metres=1e-6):
    assert (a.rate, a.frames) == (b.rate, b.frames)
    assert np.degrees(angle_between(a.rotations, b.rotations)).max() < degrees
    assert np.abs(a.world().positions - b.world().positions).max() < metres


def test_angles_are_composed_in_the_order_of_the_channels():
    clip = read(bvh(STICK, [ROW, ROW]), unit="m", up="+Y").clips[0]
    expected = quaternion_from_euler(np.radians([10.0, 20.0, 30.0]), "ZXY")
    assert angle_between(clip.rotations[0, 0], expected) < 1e-12
    assert np.allclose(clip.translations[0, 0], [0, 90, 0])


@pytest.mark.parametrize(
    ("channels", "row", "angles", "order"),
    [
        ("3 Yrotation Xrotation Zrotation", [7, 8, 9], [7, 8, 9], "YXZ"),
        ("1 Xrotation", [40], [40], "X"),
        ("2 Zrotation Yrotation", [40, 3], [40, 3], "ZY"),
        ("6 Xrotation Zposition Yrotation Xposition Zrotation Yposition", [1, 3, 2, 1, 3, 52], [1, 2, 3], "XYZ"),
        ("4 Yposition Xrotation Yrotation Zrotation", [60, 1, 2, 3], [1, 2, 3], "XYZ"),
        ("0", [], [], ""),
    ],
)
def test_any_channels_on_any_joint(channels, row, angles, order):
    text = bvh(STICK.replace("3 Zrotation Xrotation Yrotation", channels), [ROW[:6] + row] * 2)
    clip = read(text, unit="m", up="+Y").clips[0]
    expected = quaternion_from_euler(np.radians(np.array(angles, dtype=float)), order)
    assert angle_between(clip.rotations[0, 1], expected) < 1e-12
    if "position" in channels:
        expected = [1, 52, 3] if channels.startswith("6") else [0, 60, 0]
        assert np.allclose(clip.translations[0, 1], expected)
    document = fairswap.load("clip.bvh", unit="m", up="+Y")
    fairswap.save("again.bvh", document.figure, document.clips)
    same_motion(fairswap.load("again.bvh", unit="m", up="+Y").clips[0], clip)


def test_odd_but_lawful_text_says_the_same():
    plain = read(bvh(STICK, [ROW, ROW]), unit="cm", up="+Y").clips[0]
    odd = (
        bvh(STICK, [ROW, ROW])
        .replace("ROOT a", "root a")
        .replace("OFFSET", "Offset")
        .replace(" CHANNELS", "\tchannels")
    )
    odd = "\ufeff" + odd.replace("\n", "\r\n").replace("10 20", "1.0e1\t2.E+1").replace(
        "HIERARCHY", "Hierarchy \r\n\r\n"
    )
    same_motion(read(odd.rstrip() + " ", "odd.bvh", unit="cm", up="+Y").clips[0], plain)
    joined = bvh(STICK, [ROW, ROW]).replace("ROOT a\n{", "ROOT a {").replace("JOINT b\n {", "JOINT b {")
    same_motion(read(joined + "\n\n\n", "joined.bvh", unit="cm", up="+Y").clips[0], plain)
    wrapped = bvh(STICK, [[*ROW[:4], "\n", *ROW[4:]], [*ROW[:4], "\n", *ROW[4:]]])
    same_motion(read(wrapped, "wrapped.bvh", unit="cm", up="+Y").clips[0], plain)


def test_names_with_blanks_colons_and_other_letters_and_named_ends():
    text = (
        STICK.replace("ROOT a", "ROOT Füße: Hüfte 1")
        .replace("JOINT b", "JOINT 左 腕")
        .replace("End Site", "End Site Spitze 2")
    )
    document = read(bvh(text, [ROW, ROW]))
    assert document.figure.skeleton.names == ("Füße: Hüfte 1", "左 腕", "Spitze 2")
    fairswap.save("back.bvh", document.figure, document.clips)
    assert fairswap.load("back.bvh").figure.skeleton.names == document.figure.skeleton.names
    latin = read(bvh(text, [ROW]).replace("左 腕", "b").encode("latin-1"), "latin.bvh")
    assert latin.figure.skeleton.names[0] == "Füße: Hüfte 1"
    assert "encoding" in codes(latin)


def test_several_roots():
    document = read(
        bvh(STICK + "\n" + STICK.replace("ROOT a", "ROOT c").replace("JOINT b", "JOINT d"), [ROW + ROW] * 2)
    )
    assert document.figure.skeleton.parents.tolist() == [-1, 0, 1, -1, 3, 4]


@pytest.mark.parametrize(("declared", "there"), [(5, 3), (2, 3)])
def test_fewer_or_more_frames_than_declared_are_told(declared, there):
    document = read(bvh(STICK, [ROW] * there, frames=declared))
    assert document.clips[0].frames == min(declared, there)
    if there < declared:
        assert "frames-declared" in codes(document)
    cut = read(bvh(STICK, [ROW] * 3).rstrip()[:-6], "cut.bvh")
    assert cut.clips[0].frames == 2
    assert "frames-declared" in codes(cut)


@pytest.mark.parametrize(
    ("text", "rate"),
    [("0.0333333", 30), ("0.033333", 30), ("0.0333", 30), ("0.033367", Fraction(30000, 1001)), ("0.0416667", 24),
     ("0.04", 25), ("0.0083333", 120), ("0.008333", 120), ("1.6666666e-02", 60), ("0.01", 100),
     ("0.0123", Fraction(10000, 123))],
)  # fmt: skip
def test_the_frame_time_becomes_an_exact_rate(text, rate):
    assert read(bvh(STICK, [ROW] * 2, text)).clips[0].rate == rate


@pytest.mark.parametrize(
    ("unit", "up", "forward"), [("in", "+Z", "-Y"), ("cm", "+Y", "+Z"), ("m", "+Z", "-Y"), ("mm", "+Y", "-Z")]
)
def test_unit_up_and_front_are_found_from_size_and_posture(unit, up, forward):
    clip = act("walk", "Osric")
    fairswap.save("walk.bvh", figure("Osric"), [clip], space=fairswap.Space(up, forward, unit))
    document = fairswap.load("walk.bvh")
    assert (document.space.up, document.space.forward, document.space.unit) == (up, forward, unit)
    assert "space-found" in codes(document)
    read_names = document.figure.skeleton.names
    bones = [read_names.index(name) for name in clip.skeleton.names]
    assert np.abs(document.clips[0].world().positions[:, bones] - clip.world().positions).max() < 2e-5


def test_unit_and_up_can_be_set():
    fairswap.save("walk.bvh", figure("Osric"), [act("walk", "Osric")], space=fairswap.Space("+Y", "+Z", "cm"))
    big, small = fairswap.load("walk.bvh", unit="in"), fairswap.load("walk.bvh")
    assert big.figure.height_m / small.figure.height_m == pytest.approx(2.54)


def test_a_root_without_a_resting_place_is_stood_on_the_floor():
    fairswap.save("walk.bvh", figure("Osric"), [act("walk", "Osric")], space=fairswap.Space("+Y", "+Z", "cm"))
    text = Path("walk.bvh").read_text()
    zeroed = text.replace("OFFSET 0.000000 78.000000", "OFFSET 0.000000 0.000000", 1)
    assert zeroed != text
    document = read(zeroed, "zeroed.bvh")
    assert "rest-height" in codes(document)
    places = document.figure.skeleton.rest.positions[0]
    assert places[:, 1].min() == pytest.approx(0.0, abs=1e-9)
    # The motion itself stays where it was.
    assert np.allclose(
        document.clips[0].world().positions[:, 0], fairswap.load("walk.bvh").clips[0].world().positions[:, 0]
    )


def test_positions_relative_to_the_offset_are_added_to_it():
    absolute = read(bvh(STICK, [ROW, ROW]), unit="cm", up="+Y")
    relative = read(bvh(STICK, [[0, 0.5, 0, *ROW[3:]], [0, 0, 0, *ROW[3:]]]), "relative.bvh", unit="cm", up="+Y")
    assert "relative-positions" in codes(relative)
    assert np.allclose(relative.clips[0].translations[1, 0], absolute.clips[0].translations[1, 0])


def test_read_and_written_again_nothing_is_lost_and_twice_the_same_bytes():
    text = bvh(
        STICK.replace("3 Zrotation Xrotation Yrotation", "2 Yrotation Xrotation"), [ROW[:8], ROW[:8]], "0.0416667"
    )
    document = read(text)
    for name in ("one.bvh", "two.bvh"):
        fairswap.save(name, document.figure, document.clips)
    assert Path("one.bvh").read_bytes() == Path("two.bvh").read_bytes()
    again = fairswap.load("one.bvh")
    same_motion(again.clips[0], document.clips[0])
    head = Path("one.bvh").read_text()
    assert "CHANNELS 2 Yrotation Xrotation" in head
    assert "Frame Time: 0.0416667" in head
    fairswap.save("three.bvh", again.figure, again.clips)
    assert Path("three.bvh").read_bytes() == Path("one.bvh").read_bytes()


def test_a_glb_motion_becomes_bvh_with_the_same_positions():
    clip = act("turn-and-bow", "Juniper")
    fairswap.save("bow.bvh", figure("Juniper"), [clip], space=fairswap.Space("+Y", "+Z", "cm"))
    back = fairswap.load("bow.bvh")
    bones = [back.figure.skeleton.names.index(name) for name in clip.skeleton.names]
    assert np.abs(back.clips[0].world().positions[:, bones] - clip.world().positions).max() < 1e-5
    assert back.clips[0].rate == clip.rate


numbers = (
    st.floats(allow_nan=False, width=64) | st.floats(-1000, 1000) | st.integers(-(10**6), 10**6).map(lambda n: n / 2e6)
)


@given(st.lists(st.lists(numbers, min_size=3, max_size=3), min_size=1, max_size=30))
def test_numbers_are_written_as_percent_6f_does(rows):
    values = np.array(rows)
    assert text_from_rows(values) == b"".join(b"%.6f %.6f %.6f\n" % tuple(row) for row in rows)


@given(st.lists(st.sampled_from(["{:.6f}", "{:.3f}", "{!r}", "{:.12e}", "{:g}"]), min_size=6, max_size=6), st.lists(
    st.floats(-1e6, 1e6), min_size=6, max_size=6))  # fmt: skip
def test_numbers_are_read_as_float_does(formats, values):
    words = [form.format(value) for form, value in zip(formats, values, strict=True)]
    text = (" ".join(words[:3]) + "\n" + "\t".join(words[3:])).encode()
    read_back = np.concatenate(list(rows_from_text(memoryview(text), 3, 1))).ravel()
    assert read_back.tolist() == [float(word) for word in words]


def test_the_last_bones_are_as_long_as_their_skin():
    """Other programs draw a bone from its joint to its end site: toes reach the tip of the shoe, fingers their tips."""
    osric = figure("Osric")
    fairswap.save("osric.bvh", osric, [act("idle", "Osric")])
    read = fairswap.load("osric.bvh").figure
    ends = {read.skeleton.names[int(read.skeleton.parents[end])]: end for end in read.skeleton.ends}
    roles = {role: osric.skeleton.names[bone] for role, bone in fairswap.RiggedFigure.of(osric).roles.bones.items()}
    places, skin = read.skeleton.rest.positions[0], osric.rest_points
    for role in ("toes_left", "toes_right", "index_distal_left"):
        joint, end = places[read.skeleton.names.index(roles[role])], places[ends[roles[role]]]
        assert np.linalg.norm(end - joint) > 0.015
        assert np.linalg.norm(skin - end, axis=1).min() < 0.02  # where the skin is
    assert places[ends[roles["toes_left"]]][2] == pytest.approx(skin[:, 2].max(), abs=0.02)


@pytest.mark.parametrize("offset", ["of its hips", "none"])
@pytest.mark.parametrize("face", ["down", "up"])
def test_whoever_lies_all_the_time_lies_in_the_axes_of_the_rest_pose(face, offset):
    """Crawling is no sign that another axis is up, nor hips near the floor that their places are relative."""
    clip = act("idle", "Osric")
    turn = Rotation.from_rotvec([np.radians(90.0 if face == "down" else -90.0), 0.0, 0.0])
    top = int(np.flatnonzero(clip.skeleton.parents < 0)[0])
    tracks, places = clip.poses.rotation_tracks.copy(), clip.poses.translation_tracks.copy()
    tracks[top] = (turn * Rotation.from_quat(tracks[top].T)).as_quat().T
    places[top] = turn.apply(places[top].T).T
    floating = clip.with_poses(replace(clip.poses, rotation_tracks=tracks, translation_tracks=places.copy()))
    places[top, 1] -= floating.world().positions[..., 1].min()
    places[top, 2] -= places[top, 2, 0]  # hips begin in the middle of the scene, as the places of recordings do
    lying = clip.with_poses(replace(clip.poses, rotation_tracks=tracks, translation_tracks=places))
    fairswap.save("lying.bvh", fairswap.Figure("Osric", clip.skeleton, (), fairswap.Space("+Y", "+Z", "cm")), [lying])
    if offset == "none":
        text = Path("lying.bvh").read_text()
        Path("lying.bvh").write_text(re.sub(r"OFFSET [-\d. ]+", "OFFSET 0 0 0", text, count=1))
    read = fairswap.load("lying.bvh")
    assert "relative-positions" not in codes(read)
    assert (read.space.up, read.space.forward) == ("+Y", "+Z")
    names = [read.figure.skeleton.names.index(name) for name in clip.skeleton.names]
    assert np.abs(read.clips[0].world().positions[:, names] - lying.world().positions).max() < 1e-3
