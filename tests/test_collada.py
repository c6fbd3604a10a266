"""COLLADA of other programs: one skin, one bend, one place written in each way of the standard comes to the same."""

import math

import numpy as np
import pytest

import fairswap
from fairswap.model.mesh import deformed_vertices
from test_scenes import collada, source, strip, words

TURNS, TIMES = (0.0, 45.0, 90.0), (0.0, 0.5, 1.0)


def loaded(text):
    return fairswap.load(text if isinstance(text, bytes) else text.encode(), format=".dae")


def changed(*pairs, text=None):
    text = strip().decode() if text is None else text
    for old, new in pairs:
        assert old in text, old
        text = text.replace(old, new)
    return text


def cut(text, start, end, new):
    """The text with what stands from one mark up to another replaced."""
    at = text.index(start)
    return text[:at] + new + text[text.index(end, at) :]


def skin_at(document, second):
    clip, figure = document.clips[0], document.figure
    poses = clip.at(np.array([second]))
    return np.concatenate([deformed_vertices(mesh, poses.world(), 0) for mesh in figure.meshes])


POINTS = [[x, 0, 100 + 30 * i] for i in range(4) for x in (-10, 10)]
BINDS = np.tile(np.eye(4), (3, 1, 1))
BINDS[:, 2, 3] = [-100, -150, -190]


def named_twice():
    text = changed((words("j", ["shoulder", "elbow", "wrist"]), words("j", ["shoulder", "elbow", "wrist", "elbow"])))
    text = text.replace(source("b", BINDS, 16, "TRANSFORM"), source("b", [*BINDS, BINDS[1]], 16, "TRANSFORM"))
    return changed(("<v>0 0 0 0 1 0 1 0", "<v>0 0 0 0 3 0 1 0"), text=text)


SKINS = {
    "a shape of half the size, doubled when it is bound": lambda: changed(
        (source("p", POINTS, 3), source("p", 0.5 * np.array(POINTS), 3)),
        ("1 0 0 0 0 1 0 0 0 0 1 0 0 0 0 1</bind", "2 0 0 0 0 2 0 0 0 0 2 0 0 0 0 1</bind"),
    ),
    "joints by their ids": lambda: changed(
        (words("j", ["shoulder", "elbow", "wrist"]), words("j", ["s0", "e", "w0"], "IDREF_array"))
    ),
    "joints by their names": lambda: changed(
        (words("j", ["shoulder", "elbow", "wrist"]), words("j", ["Shoulder", "Elbow", "Wrist"]))
    ),
    "a joint that is named twice": named_twice,
    "no skeleton": lambda: changed(("<skeleton>#s0</skeleton>", "")),
    "weights on what nothing moves": lambda: changed(
        (source("w", [1.0], 1, "WEIGHT"), source("w", [1.0, 0.0], 1, "WEIGHT")),
        ("<vcount>1 1", "<vcount>2 1"),
        ("<v>0 0 0 0", "<v>0 0 -1 1 0 0"),
    ),
}


@pytest.mark.parametrize("way", SKINS)
def test_a_skin_that_is_bound_in_another_way_moves_alike(way):
    plain, other = loaded(strip()), loaded(SKINS[way]())
    for second in (0.0, 0.3, 1.0):
        assert skin_at(other, second) == pytest.approx(skin_at(plain, second), abs=1e-5)
    assert [finding for finding in other.findings if finding.severity == "warning"] == []


def test_a_joint_that_is_no_node_is_told():
    found = loaded(changed((words("j", ["shoulder", "elbow", "wrist"]), words("j", ["shoulder", "elbow", "claw"]))))
    assert {row.code for row in found.findings if row.severity == "warning"} == {
        "joints-missing",
        "unweighted-vertices",
    }
    with pytest.raises(fairswap.InputError, match="none of its 3 joints"):
        loaded(changed((words("j", ["shoulder", "elbow", "wrist"]), words("j", ["a", "b", "c"]))))


def corners(order, tag="p"):
    return f"<{tag}>{' '.join(f'{one} 0' for one in order)}</{tag}>"


QUADS = [[2 * i, 2 * i + 1, 2 * i + 3, 2 * i + 2] for i in range(3)]
RUNS = {
    "triangles": "<triangles count='6' material='m'>{}"
    + corners([one for a, b, c, d in QUADS for one in (a, b, c, a, c, d)]) + "</triangles>",
    "polygons": "<polygons count='3' material='m'>{}" + "".join(map(corners, QUADS)) + "</polygons>",
    "a polygon with a hole": "<polygons count='3' material='m'>{}" + "".join(map(corners, QUADS[:2])) + "<ph>"
    + corners(QUADS[2]) + corners(QUADS[2][:3], "h") + "</ph></polygons>",
    "strips": "<tristrips count='1' material='m'>{}" + corners(range(8)) + "</tristrips>",
    "fans": "<trifans count='3' material='m'>{}" + "".join(map(corners, QUADS)) + "</trifans>",
    "two runs": "<polylist count='2' material='m'>{}<vcount>4 4</vcount>" + corners([*QUADS[0], *QUADS[1]])
    + "</polylist><triangles count='2' material='n'>{}" + corners([4, 5, 7, 4, 7, 6]) + "</triangles>",
}  # fmt: skip


@pytest.mark.parametrize("way", RUNS)
def test_faces_of_every_kind_are_the_same_surface(way):
    inputs = "<input semantic='VERTEX' source='#v' offset='0'/><input semantic='NORMAL' source='#n' offset='1'/>"
    document = loaded(cut(strip().decode(), "<polylist", "</mesh>", RUNS[way].format(inputs, inputs)))
    triangles, points = document.figure.meshes[0].triangles, document.figure.rest_vertices[0]
    a, b, c = (points[triangles[:, corner]] for corner in range(3))
    # Three pieces of 20 by 30 centimetres that look one way.
    areas = 0.5 * np.cross(b - a, c - a)
    assert np.linalg.norm(areas.sum(axis=0)) == pytest.approx(3 * 0.2 * 0.3, rel=1e-5)
    assert len(triangles) == 6
    assert skin_at(document, 1.0).max(axis=0) == pytest.approx(skin_at(loaded(strip()), 1.0).max(axis=0), abs=1e-5)


def about_y(degrees, place=(0, 0, 50)):
    c, s = math.cos(math.radians(degrees)), math.sin(math.radians(degrees))
    return np.array([[c, 0, s, place[0]], [0, 1, 0, place[1]], [-s, 0, c, place[2]], [0, 0, 0, 1]])


def wrist(document, second):
    return document.clips[0].at(np.array([second])).world().positions[0, 2]


MATRICES = [about_y(degrees) for degrees in np.linspace(0, 90, 19)]
AS_MATRIX = ("<translate>0 0 50</translate><rotate sid='turn'>0 1 0 0</rotate>",
             f"<matrix sid='transform'>{' '.join(map(str, about_y(0).ravel()))}</matrix>")  # fmt: skip
MATRIX_KEYS = [
    AS_MATRIX,
    (source("t", TIMES, 1, "TIME"), source("t", np.linspace(0, 1, 19), 1, "TIME")),
    (source("o", TURNS, 1, "ANGLE"), source("o", MATRICES, 16, "TRANSFORM")),
    (words("i", ["LINEAR"] * 3), words("i", ["LINEAR"] * 19)),
]
BENDS = {
    "a whole turn": [
        (source("o", TURNS, 1, "ANGLE"), source("o", [[0, 1, 0, turn] for turn in TURNS], 4, "X Y Z ANGLE")),
        ("e/turn.ANGLE", "e/turn"),
    ],
    "one number of four": [("e/turn.ANGLE", "e/turn(3)")],
    "matrices": [*MATRIX_KEYS, ("e/turn.ANGLE", "e/transform")],
    "matrices by another name than their step": [*MATRIX_KEYS, ("e/turn.ANGLE", "e/matrix")],
    "an animation in another": [
        ("<animation id='a' name='bend'>", "<animation id='z' name='bend'><animation id='a'>"),
        ("</animation>", "</animation></animation>"),
    ],
    "no word of how it goes between keys": [("<input semantic='INTERPOLATION' source='#i'/>", "")],
}


@pytest.mark.parametrize("way", BENDS)
def test_one_bend_keyed_in_every_way_is_one_bend(way):
    document = loaded(changed(*BENDS[way]))
    for second in (0.0, 0.25, 0.5, 0.8, 1.0):
        turned = math.radians(90 * second)
        expected = [0.4 * math.sin(turned), 1.5 + 0.4 * math.cos(turned), 0.0]
        assert wrist(document, second) == pytest.approx(expected, abs=1e-3)
    assert "channels-left-out" not in {row.code for row in document.findings}


@pytest.mark.parametrize(
    ("change", "expected"),
    [
        ([("<translate>0 0 50", "<translate sid='at'>0 0 50"), ("e/turn.ANGLE", "e/at.X")], (0.45, 1.9, 0.0)),
        ([("<translate>0 0 50", "<translate sid='at'>0 0 50"), ("e/turn.ANGLE", "e/at.Z")], (0.0, 1.85, 0.0)),
        # Row and column of a matrix: what is X there.
        ([AS_MATRIX, ("e/turn.ANGLE", "e/transform(0)(3)")], (0.45, 1.9, 0.0)),
    ],
)
def test_one_number_of_a_place_is_keyed_by_itself(change, expected):
    assert wrist(loaded(changed(*change)), 0.5) == pytest.approx(expected, abs=1e-4)


def test_steps_hold_and_curves_of_hermite_bend():
    held = loaded(strip(interpolation="STEP"))
    for second, degrees in ((0.45, 0.0), (0.55, 45.0), (0.95, 45.0), (1.0, 90.0)):
        at = wrist(held, second)
        assert math.degrees(math.atan2(at[0], at[1] - 1.5)) == pytest.approx(degrees, abs=0.01)
    tangents = source("to", [60.0, 0.0], 1, "Y") + source("ti", [0.0, -30.0], 1, "Y")
    bent = loaded(strip((0.0, 90.0), "HERMITE", (0.0, 1.0), tangents))
    for s in (0.25, 0.5, 0.75):
        degrees = 60 * (s**3 - 2 * s**2 + s) + 90 * (3 * s**2 - 2 * s**3) - 30 * (s**3 - s**2)
        at = wrist(bent, s)
        assert math.degrees(math.atan2(at[0], at[1] - 1.5)) == pytest.approx(degrees, abs=0.2)


@pytest.mark.parametrize("target", ["e/nowhere.ANGLE", "e/visibility", "ghost/turn.ANGLE", "e/turn(7)"])
def test_motion_that_finds_nothing_to_move_is_told(target):
    text = changed(("e/turn.ANGLE", target))
    if target.endswith("(7)"):
        with pytest.raises(fairswap.InputError, match="step of 4"):
            loaded(text)
        return
    document = loaded(text)
    assert document.clips == ()
    (told,) = [row for row in document.findings if row.code == "channels-left-out"]
    assert target.partition(".")[0] in told.message


def step(kind, *values):
    return f"<{kind}>{' '.join(map(str, values))}</{kind}>"


def scaled(x, y, z):
    return np.diag([x, y, z, 1.0])


def moved(x, y, z):
    out = np.eye(4)
    out[:3, 3] = x, y, z
    return out


LOOK = np.array([[1, 0, 0, 5], [0, 0, -1, 6], [0, 1, 0, 7], [0, 0, 0, 1.0]])  # from (5 6 7) along +Y, +Z up
SHEAR = np.eye(4)
SHEAR[0, 1] = math.tan(math.radians(30))  # what is Y turns towards X
PLACED = {
    "one matrix": (step("matrix", *about_y(30, (1, 2, 3)).ravel()), about_y(30, (1, 2, 3))),
    "place, turn, size": (
        step("translate", 1, 2, 3) + step("rotate", 0, 2, 0, 30) + step("scale", 2, 2, 2),
        about_y(30, (1, 2, 3)) @ scaled(2, 2, 2),
    ),
    "one size for all": (step("scale", 3), scaled(3, 3, 3)),
    "turn before place": (
        step("rotate", 0, 1, 0, 90) + step("translate", 4, 0, 0), about_y(90, (0, 0, 0)) @ moved(4, 0, 0)
    ),
    "a turn about no axis": (step("rotate", 0, 0, 0, 90), np.eye(4)),
    "look at": (step("lookat", 5, 6, 7, 5, 16, 7, 0, 0, 1), LOOK),
    "skew": (step("skew", 30, 0, 1, 0, 1, 0, 0), SHEAR),
}  # fmt: skip


@pytest.mark.parametrize("way", PLACED)
def test_every_step_of_a_node_puts_what_is_below_where_it_belongs(way):
    steps, matrix = PLACED[way]
    text = changed(("<node id='s0' sid='shoulder'", f"<node id='above'>{steps}<node id='s0' sid='shoulder'"),
                   ("</node></node></node>", "</node></node></node></node>"))  # fmt: skip
    document = loaded(text)
    rest = document.figure.skeleton.rest.positions[0, -3:]
    places = np.array([[0, 0, 100, 1], [0, 0, 150, 1], [0, 0, 190, 1]]) @ matrix.T
    # Z is up there: what is (x, y, z) in centimetres is (x, z, -y) in metres here.
    assert rest == pytest.approx(0.01 * places[:, [0, 2, 1]] * [1, 1, -1], abs=1e-4)


def morphed(method, skinned, target="mw(0)"):
    """The strip with a morph that lifts its last two corners by 10 cm, half out at rest and wholly at one second."""
    lifted = np.array(POINTS, dtype=float)
    lifted[6:] += [0, 0, 10]
    values = lifted - np.array(POINTS) if method == "RELATIVE" else lifted
    goal = ("<geometry id='lift' name='Lift'><mesh>" + source("lp", values, 3)
            + "<vertices id='lv'><input semantic='POSITION' source='#lp'/></vertices></mesh></geometry>")  # fmt: skip
    morph = (
        f"<controller id='mc'><morph source='#g' method='{method}'>" + words("mt", ["lift"], "IDREF_array")
        + source("mw", [0.5], 1, "WEIGHT")
        + "<targets><input semantic='MORPH_TARGET' source='#mt'/>"
        "<input semantic='MORPH_WEIGHT' source='#mw'/></targets></morph></controller>"
    )  # fmt: skip
    text = changed(
        ("</geometry></library_geometries>", "</geometry>" + goal + "</library_geometries>"),
        ("<library_controllers>", "<library_controllers>" + morph),
        (source("o", TURNS, 1, "ANGLE"), source("o", [0.5, 0.75, 1.0], 1, "WEIGHT")),
        ("e/turn.ANGLE", target),
    )
    if skinned:
        return changed(("<skin source='#g'>", "<skin source='#mc'>"), text=text)
    plain = cut(text, "<instance_controller", "</node></visual_scene>", "<instance_controller url='#mc'/>")
    return changed(("<node id='m0'", "<node id='m0' type='NODE'"), text=plain)


@pytest.mark.parametrize("method", ["NORMALIZED", "RELATIVE"])
@pytest.mark.parametrize("target", ["mw(0)", "mc/mw(0)", "mw"])
def test_morphs_under_a_skin_move_as_far_as_they_say(method, target):
    document = loaded(morphed(method, True, target))
    (mesh,) = document.figure.meshes
    assert mesh.morph_names == ("Lift",)
    shift = np.zeros((8, 3))
    shift[6:, 1] = 0.1
    order = [int(np.argmin(np.linalg.norm(mesh.vertices - place, axis=1)))
             for place in 0.01 * np.array(POINTS)[:, [0, 2, 1]] * [1, 1, -1]]  # fmt: skip
    assert mesh.morph_deltas[0][order] == pytest.approx(shift, abs=1e-5)
    assert mesh.morph_weights == pytest.approx([0.5])
    clip = document.clips[0]
    for second, weight in ((0.0, 0.5), (0.5, 0.75), (1.0, 1.0)):
        poses = clip.at(np.array([second]))
        shown = deformed_vertices(mesh, poses.world(), 0, poses, 0)
        assert shown[:, 1].max() == pytest.approx(1.9 + 0.1 * weight, abs=1e-4)


def test_a_morph_of_another_mesh_is_refused():
    text = morphed("RELATIVE", True)
    at = text.index('<source id="lp"')
    fewer = text[:at] + text[at:].replace('count="8"', 'count="7"', 1)
    with pytest.raises(fairswap.InputError, match="has 7 vertices, the shape has 8"):
        loaded(fewer)


def test_documents_that_stand_otherwise_come_upright():
    for axis, expected in (("Y_UP", (0.0, 1.9, 0.0)), ("X_UP", (0.0, 1.9, 0.0)), ("Z_UP", (0.0, 1.9, 0.0))):
        text = strip((0.0, 0.0, 0.0)).decode().replace("Z_UP", axis)
        if axis != "Z_UP":  # the same strip, laid along the other axis
            turn = {"Y_UP": "1 0 0 0 0 0 1 0 0 -1 0 0 0 0 0 1", "X_UP": "0 0 1 0 0 1 0 0 -1 0 0 0 0 0 0 1"}[axis]
            text = text.replace("<node id='s0'", f"<node id='above'><matrix>{turn}</matrix><node id='s0'")
            text = text.replace("</node></node></node>", "</node></node></node></node>")
        document = loaded(text)
        assert wrist(document, 0.0) == pytest.approx(expected, abs=1e-4)
        assert document.figure.height_m == pytest.approx(0.9, abs=1e-3)


def test_a_file_that_names_what_it_does_not_have_is_read_as_far_as_it_goes():
    assert loaded(collada("<scene/>")).figures == ()
    elsewhere = loaded(changed(("url='#c'", "url='other.dae#c'")))
    assert "part-elsewhere" in {row.code for row in elsewhere.findings}
