"""Bare meshes: where their joints are found, what skeleton and weights they get, and what is refused."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

import fairswap
from fairswap.demo.bodies import BareBody, bare_body
from fairswap.errors import ImpossibleError, InputError, UsageError
from making import TROUPE, keeps_to_schema, run


def write_obj(path, pieces, turn=None):
    """An OBJ file of ``(name, vertices, triangles)``, written by nobody's code but this."""
    lines, first = [], 1
    for name, vertices, triangles in pieces:
        places = vertices if turn is None else vertices @ np.asarray(turn).T
        lines.append(f"o {name}")
        lines += ["v {:.6g} {:.6g} {:.6g}".format(*place) for place in places]
        lines += ["f {} {} {}".format(*(row + first)) for row in triangles]
        first += len(vertices)
    path.write_text("\n".join(lines) + "\n")
    return path


def pieces_of(body: BareBody):
    return [(piece.name, piece.vertices, piece.triangles) for piece in body.pieces]


def off_by(body: BareBody, made, scale=1.0, shift=0.0):
    """How far each joint is from its true place, in percent of the height."""
    return {
        role: 100 * np.linalg.norm((made.places[role].position - shift) / scale - at) / body.height_m
        for role, at in body.joints.items()
        if role in made.places
    }


@pytest.fixture(scope="module")
def plain():
    return bare_body(3, pose="A", clothes="", triangles=8000)


@pytest.fixture(scope="module")
def plain_file(plain, tmp_path_factory):
    return write_obj(tmp_path_factory.mktemp("rig") / "plain.obj", pieces_of(plain))


@pytest.fixture(scope="module")
def plain_rigged(plain_file):
    return fairswap.rig(plain_file)


@pytest.mark.long
def test_joints_are_found_from_the_shape_alone(tmp_path):
    body = bare_body(109)
    file = write_obj(tmp_path / "body.obj", pieces_of(body))
    made = fairswap.rig(file)
    off = off_by(body, made)
    assert np.mean(list(off.values())) < 3.0, (body.kind, off)
    four = ("upper_arm_left", "upper_leg_left", "head", "hand_left")
    given = fairswap.rig(file, landmarks={role: body.joints[role] for role in four})
    assert np.mean(list(off_by(body, given).values())) < 1.5
    assert given.places["hand_left"].certainty == 1.0
    # The right side has what was said of the left, mirrored.
    np.testing.assert_allclose(given.places["hand_right"].position, body.joints["hand_right"], atol=0.02)


@pytest.mark.parametrize("name", ["pip"])
@pytest.mark.long
def test_skin_moves_as_that_of_the_figure_whose_bones_were_taken_away(name):
    figure = fairswap.load(TROUPE / f"{name}.glb").figure
    made = fairswap.rig(figure)
    moving = fairswap.reel(figure, rate=4)
    document = fairswap.Document("reel", "", figure.space, (figure,), (moving.clip,))
    free = fairswap.MotionOptions(feet="free", hands="free")
    clip = fairswap.convert(document, made.figure, motion=free, face=fairswap.FaceOptions("none")).clips[0]
    before, after = moving.clip.poses.world(), clip.poses.world()
    apart = []
    for frame in range(0, clip.frames, 5):
        for mesh, other in zip(figure.meshes, made.figure.meshes, strict=True):
            apart.append(np.linalg.norm(skinned(mesh, before, frame) - skinned(other, after, frame), axis=1))
    assert np.concatenate(apart).mean() < 0.02 * figure.height_m


def skinned(mesh, world, frame):
    """Linear blend skinning, written out."""
    x, y, z, w = world.rotations[frame].T
    turn = np.array(
        [[1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
         [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
         [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)]]
    ).transpose(2, 0, 1)  # fmt: skip
    out = np.zeros_like(mesh.vertices)
    for joints, weights in zip(mesh.joints.T, mesh.weights.T, strict=True):
        bound = np.einsum("nij,nj->ni", mesh.bind_matrices[joints, :3, :3], mesh.vertices)
        bound += mesh.bind_matrices[joints, :3, 3]
        out += weights[:, None] * (np.einsum("nij,nj->ni", turn[joints], bound) + world.positions[frame][joints])
    return out


@pytest.mark.parametrize(
    ("turn", "unit", "space"),
    [
        ([[1, 0, 0], [0, 0, -1], [0, 1, 0]], 100.0, "+Z up, facing -Y, cm"),
        ([[0, 0, 1], [0, -1, 0], [1, 0, 0]], 1000.0, "-Y up, facing +X, mm"),
    ],
)
@pytest.mark.long(but=1)
def test_a_mesh_that_stands_otherwise_is_stood_up(plain, turn, unit, space, tmp_path):
    file = write_obj(tmp_path / "turned.obj", pieces_of(plain), np.array(turn) * unit)
    made = fairswap.rig(file)
    assert str(made.space) == space
    assert np.mean(list(off_by(plain, made).values())) < 2.0
    if unit != 100.0:
        return
    # Landmarks are in the coordinates of the file, there and back.
    again = fairswap.rig(file, landmarks=made.landmarks())
    for role, place in made.places.items():
        np.testing.assert_allclose(again.places[role].position, place.position, atol=2e-3, err_msg=role)


@pytest.mark.parametrize("degrees", [-40.0])
@pytest.mark.long
def test_a_mesh_that_stands_aside_is_turned_to_the_front(plain, degrees, tmp_path):
    """As scans come: +Z up, in centimetres, and looking past all axes."""
    aside = Rotation.from_euler("z", degrees, degrees=True).as_matrix()
    upright = 100.0 * np.array([[1, 0, 0], [0, 0, -1], [0, 1, 0]])
    file = write_obj(tmp_path / "aside.obj", pieces_of(plain), aside @ upright)
    made = fairswap.rig(file)
    assert np.mean(list(off_by(plain, made).values())) < 2.0
    (told,) = [row.message for row in made.findings if "aside" in row.message]
    assert f"{abs(degrees):.0f} degrees aside" in told
    # In the file's own coordinates the joints are where they were, whichever way the mesh was turned.
    written = made.landmarks().places
    straight = fairswap.rig(write_obj(tmp_path / "straight.obj", pieces_of(plain), upright)).landmarks().places
    off = [np.linalg.norm(at - aside @ straight[role]) for role, at in written.items() if role in straight]
    assert len(off) > 15
    assert np.mean(off) < 1.5  # cm


@pytest.mark.long
def test_what_is_said_of_how_it_stands_counts(plain, tmp_path):
    turn = 100.0 * np.array([[1, 0, 0], [0, 0, -1], [0, 1, 0]])
    file = write_obj(tmp_path / "turned.obj", pieces_of(plain), turn)
    words = ("--landmarks-only", "--json", "--up", "+Z", "--forward", "-Y", "--unit", "cm")
    said = run("rig", file, "-o", tmp_path / "said.toml", *words).report
    found = fairswap.rig(file).places
    assert {row["role"] for row in said["places"]} == set(found)
    for row in said["places"]:
        np.testing.assert_allclose(row["place"], found[row["role"]].position, atol=1e-6, err_msg=row["role"])
    back = fairswap.rig(file, forward="+Y", unit="mm")
    assert str(back.space) == "+Z up, facing +Y, mm"
    assert back.figure.height_m == pytest.approx(0.1 * plain.height_m, rel=1e-3)
    with pytest.raises(UsageError, match="one axis"):
        fairswap.rig(file, up="+Z", forward="-Z")


def damaged(body, how):
    vertices, triangles = body.pieces[0].vertices, body.pieces[0].triangles
    rng = np.random.default_rng(1)
    if how == "holes, and vertices of nobody":
        more = rng.uniform(-3, 3, (50, 3))
        return np.concatenate([more, vertices, more]), triangles[rng.random(len(triangles)) > 0.1] + 50
    if how == "every triangle alone":
        return vertices[triangles].reshape(-1, 3), np.arange(3 * len(triangles)).reshape(-1, 3)
    if how == "half of it inside out":
        turned = triangles.copy()
        half = rng.random(len(triangles)) < 0.5
        turned[half] = turned[half][:, ::-1]
        return vertices, turned
    if how == "slivers, and edges of three":
        flat = np.stack([triangles[:500, 0], triangles[:500, 1], triangles[:500, 1]], axis=1)
        fins = np.stack([triangles[:300, 0], triangles[:300, 1], triangles[1:301, 2]], axis=1)
        return vertices, np.concatenate([triangles, flat, fins])
    inner = vertices * [0.99, 0.999, 0.99]
    return np.concatenate([vertices, inner]), np.concatenate([triangles, triangles[:, ::-1] + len(vertices)])


@pytest.mark.parametrize(
    "how",
    [
        "holes, and vertices of nobody",
        "every triangle alone",
        "half of it inside out",
        "slivers, and edges of three",
        "double walls",
    ],
)
@pytest.mark.long
def test_broken_meshes_are_rigged_all_the_same(plain, how, tmp_path):
    made = fairswap.rig(write_obj(tmp_path / "broken.obj", [("body", *damaged(plain, how))]))
    assert np.mean(list(off_by(plain, made).values())) < 3.0
    for mesh in made.figure.meshes:
        assert np.isfinite(mesh.weights).all()
        np.testing.assert_allclose(mesh.weights.sum(axis=1), 1.0, atol=1e-6)
        assert mesh.weights.shape[1] <= 4


def without(body, gone):
    vertices, triangles = body.pieces[0].vertices, body.pieces[0].triangles
    at, height = body.joints, body.height_m
    keep = {
        "leg": ~((vertices[:, 0] < -0.01) & (vertices[:, 1] < at["upper_leg_left"][1] - 0.1 * height)),
        "arm": vertices[:, 0] < at["upper_arm_left"][0] + 0.05,
        "head": vertices[:, 1] < at["neck_1"][1],
    }[gone]
    return [("body", vertices, triangles[keep[triangles].all(axis=1)])]


@pytest.mark.parametrize(
    ("gone", "said"),
    [("leg", "the right leg cannot be seen"), ("arm", "the left arm cannot be seen"), ("head", "no head")],
)
@pytest.mark.long(but=1)
def test_what_is_missing_is_said(plain, gone, said, tmp_path):
    file = write_obj(tmp_path / "part.obj", without(plain, gone))
    with pytest.raises(ImpossibleError, match=said):
        fairswap.rig(file)


@pytest.mark.long
def test_things_and_animals_are_refused(tmp_path):
    box = np.array([[x, y, z] for x in (0, 1) for y in (0, 1) for z in (0, 1)], dtype=float)
    faces = np.array([[0, 1, 3], [0, 3, 2], [4, 6, 7], [4, 7, 5], [0, 4, 5], [0, 5, 1], [2, 3, 7], [2, 7, 6],
                      [0, 2, 6], [0, 6, 4], [1, 5, 7], [1, 7, 3]])  # fmt: skip
    with pytest.raises(ImpossibleError, match=r"no head|not the shape of a person"):
        fairswap.rig(write_obj(tmp_path / "box.obj", [("box", box, faces)]))
    for turn in (np.eye(3), np.array([[1, 0, 0], [0, 0, -1], [0, 1, 0]])):
        with pytest.raises(ImpossibleError, match="not the shape of a person"):
            fairswap.rig(write_obj(tmp_path / "dog.obj", [("dog", *dog())], turn))
    with pytest.raises(ImpossibleError, match="no mesh"):
        fairswap.rig(fairswap.load(b"HIERARCHY\nROOT a\n{\nOFFSET 0 0 0\nCHANNELS 3 Zrotation Xrotation Yrotation\n"
                                   b"End Site\n{\nOFFSET 0 1 0\n}\n}\nMOTION\nFrames: 1\nFrame Time: 0.1\n0 0 0\n",
                                   format=".bvh"))  # fmt: skip


def dog():
    from fairswap.demo.sculpt import Shape, surface_of_shapes

    def part(a, b, first, last):
        return Shape(a, b, first, last, (), "", "body", 0.02)

    shapes = [part((0, 0.55, -0.35), (0, 0.58, 0.3), 0.12, 0.14), part((0, 0.62, 0.35), (0, 0.85, 0.5), 0.08, 0.07),
              part((0, 0.88, 0.5), (0, 0.86, 0.72), 0.08, 0.05),
              part((0, 0.6, -0.42), (0, 0.75, -0.75), 0.04, 0.02)]  # fmt: skip
    for x in (0.1, -0.1):
        for z in (0.28, -0.33):
            shapes += [
                part((x, 0.5, z), (x, 0.06, z), 0.06, 0.04),
                part((x, 0.04, z), (x, 0.04, z + 0.06), 0.04, 0.035),
            ]
    return surface_of_shapes(shapes, 8000, 0.01)


def test_places_given_outside_or_wrong_are_refused(plain_file):
    with pytest.raises(UsageError, match="outside of the mesh"):
        fairswap.rig(plain_file, landmarks={"hand_left": [40.0, 1.0, 0.0]})
    with pytest.raises(UsageError, match="not a joint"):
        fairswap.rig(plain_file, landmarks={"paw_left": [0.4, 1.0, 0.0]})
    with pytest.raises(UsageError, match="three numbers"):
        fairswap.rig(plain_file, landmarks={"hand_left": [0.4, float("nan"), 0.0]})


@pytest.mark.long
def test_a_given_place_stands_for_its_side_alone_if_told(plain, plain_file):
    at = plain.joints["lower_arm_left"] + [0.0, 0.03, 0.0]
    both = fairswap.rig(plain_file, landmarks={"lower_arm_left": at})
    one = fairswap.rig(plain_file, landmarks=fairswap.Landmarks("", {"lower_arm_left": at}, mirror=False))
    assert both.places["lower_arm_right"].certainty == 1.0 > one.places["lower_arm_right"].certainty
    bone = both.roles["lower_arm_left"]
    np.testing.assert_allclose(both.figure.skeleton.rest.positions[0, bone], at, atol=1e-9)


def test_the_skeleton_of_a_figure_keeps_names_order_and_axes(plain_file):
    osric = fairswap.RiggedFigure.of(TROUPE / "osric.glb")
    made = fairswap.rig(plain_file, skeleton=osric, ends=True)
    names = [name for name in osric.skeleton.names if name in made.figure.skeleton.names]
    assert list(made.figure.skeleton.names) == names
    again = fairswap.RiggedFigure.of(made.figure)
    # In the T both have the same world axes, bone by bone, but for limbs that the mesh bends otherwise.
    for role in ("upper_arm_left", "lower_leg_right", "head", "hand_left"):
        ours, theirs = (
            again.reference.rotations[again.roles.bones[role]],
            osric.reference.rotations[osric.roles.bones[role]],
        )
        assert 2 * np.degrees(np.arccos(min(1.0, abs(float(ours @ theirs))))) < 25.0, role
    assert any(finding.code == "bones-left-out" for finding in made.findings)


@pytest.mark.long
def test_fingers_are_as_many_as_the_mesh_has():
    for seed, fingers in ((2, 5), (4, 3)):
        body = bare_body(seed, pose="A", clothes="", triangles=20000)
        assert body.kind["fingers"] == fingers
        made = fairswap.rig(figure_of(body))
        found = {role.split("_")[0] for role in made.roles if role.endswith("left")} & {
            "thumb",
            "index",
            "middle",
            "ring",
            "little",
        }
        assert len(found) == fingers


def figure_of(body):
    from io import BytesIO

    lines, first = [], 1
    for piece in body.pieces:
        lines += ["v {:.6g} {:.6g} {:.6g}".format(*place) for place in piece.vertices]
        lines += ["f {} {} {}".format(*(row + first)) for row in piece.triangles]
        first += len(piece.vertices)
    return fairswap.load(BytesIO("\n".join(lines).encode()), format=".obj")


@pytest.mark.long
def test_small_pieces_are_hard_and_clothes_move_with_the_body(plain, tmp_path):
    joints, height = plain.joints, plain.height_m
    button = plain.pieces[0].vertices[:0]
    ring = np.linspace(0, 2 * np.pi, 9)[:-1]
    at = np.array([0.0, 0.5 * (joints["hips"][1] + joints["neck_1"][1]), 0.09 * height])
    button = np.concatenate([[at], at + 0.02 * np.stack([np.cos(ring), np.sin(ring), 0 * ring], axis=1)])
    fan = np.array([[0, i + 1, (i + 1) % 8 + 1] for i in range(8)])
    leg = [(joints[f"{part}_left"]) for part in ("upper_leg", "foot")]
    heights = np.linspace(0.2, 0.7, 12)
    circle = np.linspace(0, 2 * np.pi, 25)[:-1]
    tube = np.array([leg[0] + h * (leg[1] - leg[0]) + 0.055 * height * np.array([np.cos(a), 0, np.sin(a)])
                     for h in heights for a in circle])  # fmt: skip
    quads = np.array([[r * 24 + c, r * 24 + (c + 1) % 24, (r + 1) * 24 + c] for r in range(11) for c in range(24)])
    file = write_obj(tmp_path / "dressed.obj", [*pieces_of(plain), ("button", button, fan), ("trouser", tube, quads)])
    made = fairswap.rig(file)
    body, disc, trouser = made.figure.meshes
    assert (disc.weights.max(axis=1) == 1.0).all()
    assert len(np.unique(disc.joints[:, 0])) == 1
    # Each vertex of the trouser has what the nearest of the body has.
    near = np.argmin(np.linalg.norm(body.vertices[None] - trouser.vertices[::7, None], axis=2), axis=1)
    table = [dense(mesh, len(made.figure.skeleton)) for mesh in (body, trouser)]
    assert np.abs(table[0][near] - table[1][::7]).sum(axis=1).mean() < 0.25
    stiff = fairswap.rig(file, hard=["trou*"])
    assert len(np.unique(stiff.figure.meshes[2].joints[:, 0])) == 1
    with pytest.raises(UsageError, match="no mesh is called"):
        fairswap.rig(file, hard=["boot*"])


def dense(mesh, bones):
    out = np.zeros((len(mesh.vertices), bones))
    np.add.at(out, (np.arange(len(out))[:, None], mesh.joints), mesh.weights)
    return out


@pytest.mark.long
def test_worse_weights_are_told(plain_rigged):
    """The judge of folds sees what is done to good weights."""
    from dataclasses import replace

    from fairswap.measure.folding import folds_of

    made = plain_rigged
    moving = fairswap.reel(made.figure, rate=4)
    times = np.linspace(0.0, moving.clip.duration_s, 40)
    good = folds_of(made.figure, moving.rigged.roles, moving.clip, times)
    mesh = made.figure.meshes[0]
    main = mesh.joints[np.arange(len(mesh.joints)), np.argmax(mesh.weights, axis=1)][:, None]
    rigid = replace(mesh, joints=main, weights=np.ones((len(main), 1)))
    bad = folds_of(replace(made.figure, meshes=(rigid,)), moving.rigged.roles, moving.clip, times)
    assert bad.torn > max(1.5 * good.torn, 0.02)
    still = folds_of(made.figure, moving.rigged.roles, moving.clip, np.array([0.0]))
    assert 0.9 < still.volume[0] < 1.1
    # An oracle: the singular values of each triangle's map, and areas and volume by their own formulas.
    at = times[17:18]
    found = folds_of(made.figure, moving.rigged.roles, moving.clip, at)
    rest = made.figure.rest_vertices[0][mesh.triangles]
    posed = made.figure.skin(moving.clip.at(at).world(), 0)[0][mesh.triangles]
    flat = np.stack([rest[:, 1] - rest[:, 0], rest[:, 2] - rest[:, 0]], axis=2)
    moved = np.stack([posed[:, 1] - posed[:, 0], posed[:, 2] - posed[:, 0]], axis=2)
    sizes = 0.5 * np.linalg.norm(np.cross(flat[:, :, 0], flat[:, :, 1]), axis=1)
    counted = np.flatnonzero(sizes > 0.05 * sizes.mean())
    values = np.linalg.svd(moved[counted] @ np.linalg.pinv(flat[counted]), compute_uv=False)
    np.testing.assert_allclose(found.stretch[0][counted], np.maximum(values[:, 0], 1.0), rtol=1e-6)
    np.testing.assert_allclose(found.squeeze[0][counted], np.minimum(values[:, 0] * values[:, 1], 1.0), rtol=1e-6)
    volumes = [np.einsum("ni,ni->", a, np.cross(b, c)) for a, b, c in (x.transpose(1, 0, 2) for x in (posed, rest))]
    assert found.volume[0] == pytest.approx(volumes[0] / volumes[1], rel=1e-6)


@pytest.mark.long
def test_the_command_writes_draws_and_reads_its_landmarks(plain, plain_file, tmp_path):
    out, marks, drawn = tmp_path / "out.glb", tmp_path / "marks.toml", tmp_path / "out.png"
    status, text, _ = run("rig", plain_file, "-o", marks, "--landmarks-only", "--picture", drawn)
    assert (status, "lower_arm" in text) == (0, True)
    assert drawn.read_bytes()[1:4] == b"PNG"
    read = fairswap.Landmarks.load(marks)
    assert ("hand_left" in read.places, read.mirror) == (True, True)
    moved = marks.read_text().replace("mirror = true", "mirror = false")
    marks.write_text(moved)
    x, y, z = plain.joints["lower_arm_left"].tolist()
    done = run("rig", plain_file, "-o", out, "--landmarks", marks, "--place", f"lower_arm_left={x},{y},{z}",
               "--skeleton", "fernway", "--json")  # fmt: skip
    assert done.returncode == 0, done.stderr
    keeps_to_schema("rig", done.report)
    figure = fairswap.load(out).figure
    assert {"seat", "noggin", "paw-near"} <= set(figure.skeleton.names)
    elbow = figure.skeleton.rest.positions[0, figure.skeleton.names.index("wing-near")]
    np.testing.assert_allclose(elbow, plain.joints["lower_arm_left"], atol=1e-5)
    # It walks: the whole way from a bare mesh to a judged motion.
    made = fairswap.convert(fairswap.demo_motion("walk"), out)
    assert made.looks_same


def test_wrong_uses_of_the_command_are_told(plain_file, tmp_path):
    for arguments, said in (
        (("-o", tmp_path / "x.glb", "--landmarks-only"), "toml"),
        (("-o", tmp_path / "x.glb", "--place", "hand_left=1,2"), "three numbers"),
        (("-o", tmp_path / "x.glb", "--place", "hand_left=a,b,c"), "X,Y,Z"),
        (("-o", tmp_path / "x.glb", "--skeleton", "nowhere"), "no such profile"),
        (("-o", tmp_path / "x.glb", "--hard", "boot*"), "no mesh is called"),
    ):
        status, _, error = run("rig", plain_file, *arguments)
        assert status != 0, arguments
        assert said in error
    bad = tmp_path / "bad.toml"
    bad.write_text('fairswap = "landmarks/1"\n[places]\nhand_left = [1.0, 2.0]\n')
    with pytest.raises(InputError, match="three numbers"):
        fairswap.Landmarks.load(bad)
