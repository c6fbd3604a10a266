"""Clothes of one body on another: laid, joined, kept out of the skin; and what is told where they are not."""

from dataclasses import replace

import numpy as np
import pytest

import fairswap
from fairswap.bones.roles import side_of
from fairswap.figures.dressing.cutting import cutting_of
from fairswap.figures.dressing.worn import Wearing, worn_by_shape
from fairswap.measure.nearness import Surface
from fairswap.model.mesh import Mesh, deformed_vertices
from fairswap.model.skeleton import Skeleton
from making import TROUPE, keeps_to_schema, run

COAT, BOOTS, OSRIC, PIP = (fairswap.demo_file(f"{n}.glb") for n in ("osric-coat", "osric-boots", "osric", "pip"))


@pytest.fixture(scope="module")
def walking():
    """Pip with a step of the walk."""
    document = fairswap.demo_motion("walk", "Pip")
    return replace(document, clips=(fairswap.clips.trim(document.clips[0], start="1", end="1.5"),))


@pytest.fixture(scope="module")
def dressed(walking):
    return fairswap.dress(walking, COAT, BOOTS, made_for=OSRIC)


@pytest.fixture(scope="module")
def booted(walking):
    """Where the boots lie at rest, as they are laid on Pip without more."""
    return fairswap.dress(walking, BOOTS, made_for=OSRIC, settle=False).figure.rest_vertices[-1]


def test_the_nearest_place_of_a_surface_is_the_nearest_of_very_many():
    """Against as many samples as it takes: no place on the surface is nearer than the one that is named."""
    rng = np.random.default_rng(3)
    vertices = rng.normal(size=(60, 3))
    triangles = rng.integers(0, 60, size=(40, 3))
    triangles = triangles[[len(set(row)) == 3 for row in triangles.tolist()]]
    points = 2.0 * rng.normal(size=(50, 3))
    shares = rng.dirichlet([0.7, 0.7, 0.7], size=4000)
    samples = np.einsum("sk,tki->tsi", shares, vertices[triangles]).reshape(-1, 3)
    found = Surface(vertices, triangles).nearest(points)
    apart = np.linalg.norm(found.place - points, axis=1)
    best = np.array([np.linalg.norm(samples - point, axis=1).min() for point in points])
    # It looks at the triangles of the nearest samples; with triangles as wild as these it may miss one by a little.
    assert np.median(apart - best) <= 1e-9
    assert np.mean(apart <= best + 1e-9) > 0.8
    assert np.allclose(np.einsum("nk,nki->ni", found.shares, vertices[triangles[found.triangle]]), found.place)


def test_height_above_a_ball_is_its_distance_less_the_radius():
    rows = np.linspace(0.0, np.pi, 40)[1:-1]
    around = np.linspace(0.0, 2 * np.pi, 80, endpoint=False)
    up, turn = np.meshgrid(rows, around, indexing="ij")
    ball = np.stack([np.sin(up) * np.cos(turn), np.cos(up), -np.sin(up) * np.sin(turn)], axis=-1).reshape(-1, 3)
    i, j = np.meshgrid(np.arange(len(rows) - 1), np.arange(80), indexing="ij")
    a, b = (i * 80 + j).ravel(), (i * 80 + (j + 1) % 80).ravel()
    triangles = np.concatenate([np.stack([a, a + 80, b], axis=1), np.stack([b, a + 80, b + 80], axis=1)])
    points = np.random.default_rng(1).normal(size=(400, 3)) * 0.8
    points = points[np.abs(points[:, 1]) < 0.7 * np.linalg.norm(points, axis=1)]
    off = np.linalg.norm(points, axis=1) - 1.0
    points, off = points[np.abs(off) < 0.4], off[np.abs(off) < 0.4]
    surface = Surface(ball, triangles)
    assert np.abs(surface.nearest(points).height_m - off).max() < 0.004
    assert set(np.flatnonzero(off < 0.0)) <= set(surface.low(points, 0.01))


@pytest.mark.long
def test_a_coat_is_as_loose_on_the_boy_as_on_the_man(dressed):
    """It reaches from the neck to the knees, its sleeves to the wrists, and lies as near to the skin as it did."""
    rigged = fairswap.RiggedFigure.of(dressed.figure)
    coat = dressed.figure.meshes[dressed.worn[0]]
    at_t = deformed_vertices(coat, rigged.reference_world, 0)
    joint = {role: rigged.reference_world.positions[0, bone] for role, bone in rigged.roles.bones.items()}
    assert joint["lower_leg_left"][1] - 0.02 < at_t[:, 1].min() < joint["lower_leg_left"][1] + 0.10
    assert joint["neck_1"][1] - 0.03 < at_t[:, 1].max() < joint["head"][1] + 0.03
    wrist = abs(joint["hand_left"][0])
    assert wrist - 0.06 < at_t[:, 0].max() < wrist + 0.01
    assert abs(at_t[:, 0].max() + at_t[:, 0].min()) < 0.02
    skin = dressed.figure.meshes[0]
    above = Surface(deformed_vertices(skin, rigged.reference_world, 0), skin.triangles).nearest(at_t).height_m
    assert np.nanmean(above > 0.0) > 0.99
    assert 0.004 < np.nanmedian(above) < 0.04


@pytest.mark.long
def test_cloth_moves_with_the_limb_it_is_on(dressed):
    """Weights come from the skin below: no sleeve hangs on a leg, no left boot on the right foot."""
    rigged = fairswap.RiggedFigure.of(dressed.figure)
    role_of = {bone: role for role, bone in rigged.roles.bones.items()}
    for mesh in (dressed.figure.meshes[index] for index in dressed.worn):
        at_t = deformed_vertices(mesh, rigged.reference_world, 0)
        for side, sign in (("left", 1.0), ("right", -1.0)):
            far = sign * at_t[:, 0] > (0.02 if mesh.name == "boots" else 0.2)
            bones = mesh.joints[far][mesh.weights[far] > 0.02]
            assert {side_of(role_of.get(int(bone), "")) for bone in bones} <= {side, ""}
    boots = dressed.figure.meshes[dressed.worn[1]]
    parts = {role_of[int(bone)].rpartition("_")[0] for bone in np.unique(boots.joints[boots.weights > 0.4])}
    assert parts <= {"foot", "lower_leg", "toes"}


@pytest.mark.long
def test_settling_keeps_the_cloth_out_of_the_skin(walking, dressed):
    """Also in the armpit, where skin folds: nothing is so deep that it is seen."""
    (coat, boots), (before, _) = dressed.cutting.pieces, dressed.before.pieces
    assert before.worst_m > 0.002
    assert max(coat.worst_m, boots.worst_m) < 0.002
    assert (coat.area, coat.time) == (0.0, 0.0)


@pytest.mark.long
def test_bones_of_its_own_come_along_below_the_right_bone(walking, dressed):
    skeleton, old = dressed.figure.skeleton, walking.figure.skeleton
    assert dressed.added == ("coat:Skirt Port", "coat:Skirt Starboard")
    assert skeleton.names[: len(old)] == old.names
    rigged = fairswap.RiggedFigure.of(walking)
    for number, name in enumerate(dressed.added, len(old)):
        assert skeleton.parents[number] == rigged.roles.bones["hips"]
        behind = skeleton.rest.positions[0, number] - skeleton.rest.positions[0, rigged.roles.bones["hips"]]
        assert behind[2] < -0.03
        assert np.sign(behind[0]) == (1.0 if "Port" in name else -1.0)
    swings = np.isin(dressed.figure.meshes[dressed.worn[0]].joints, [len(old), len(old) + 1])
    assert dressed.figure.meshes[dressed.worn[0]].weights[swings].max() > 0.3


@pytest.mark.long
def test_body_and_clips_stay_what_they_were(walking, dressed, tmp_path):
    fairswap.save(tmp_path / "dressed.glb", dressed.figure, dressed.clips)
    again = fairswap.load(tmp_path / "dressed.glb")
    assert [mesh.name for mesh in again.figure.meshes][-2:] == ["coat", "boots"]
    now, then = again.clips[0].world(), walking.clips[0].world()
    assert np.abs(now.positions[:, : then.positions.shape[1]] - then.positions).max() < 1e-5
    for old, new in zip(walking.figure.rest_vertices, again.figure.rest_vertices, strict=False):
        assert np.abs(old - new).max() < 1e-6


@pytest.mark.long
def test_what_hides_skin_lets_it_be_left_out(walking):
    made = fairswap.dress(walking, COAT, made_for=OSRIC, settle=False, hide=True)
    before, after = (len(figure.meshes[0].triangles) for figure in (walking.figure, made.figure))
    assert 0.5 * before < after < 0.85 * before
    left, whole = (
        deformed_vertices(figure.meshes[0], fairswap.RiggedFigure.of(figure).reference_world, 0)
        for figure in (made.figure, walking.figure)
    )
    shin, hand = whole[:, 1] < 0.18, np.abs(whole[:, 0]) > 0.5
    for seen in (shin, hand, whole[:, 1] > 0.86):  # what no coat covers is all there
        apart = [np.linalg.norm(left - point, axis=1).min() for point in whole[seen][::25]]
        assert max(apart) < 1e-6


@pytest.mark.long
def test_a_worse_fit_is_told_as_worse(dressed):
    """Cloth drawn in by a centimetre cuts deeper, on more of it; the piece and the place are named."""
    rigged = fairswap.RiggedFigure.of(dressed.figure)
    index = dressed.worn[0]
    coat = dressed.figure.meshes[index]
    tight = replace(coat, vertices=coat.vertices - 0.02 * coat.normals, origin=None)
    meshes = list(dressed.figure.meshes)
    meshes[index] = tight
    figure = replace(dressed.figure, meshes=tuple(meshes))
    found = cutting_of(Wearing.of_meshes(figure, rigged.roles, [index]), rigged, dressed.clips[0])
    assert 0.008 < found.pieces[0].worst_m < 0.03
    assert found.pieces[0].area > 0.05
    assert found.pieces[0].part
    assert np.nanmax(found.depth_m[index]) == pytest.approx(found.pieces[0].worst_m)
    assert np.isnan(found.depth_m[0]).all()


@pytest.mark.parametrize(
    ("role", "way", "part"),
    [("spine_1", (0, 0, 1), "trunk"), ("spine_1", (0, 0, -1), "trunk"), ("lower_arm_left", (0, 1, 0), "arms"),
     ("upper_arm_right", (0, 0, 1), "arms"), ("shoulder_left", (0, 1, 0), "trunk")],
)  # fmt: skip
@pytest.mark.long
def test_a_dent_is_told_wherever_it_shows(role, way, part, dressed):
    """A palm of cloth, pressed through the skin: on the chest, the back, a sleeve, in motion as deep as it is made."""
    rigged = fairswap.RiggedFigure.of(dressed.figure)
    index = dressed.worn[0]
    coat = dressed.figure.meshes[index]
    at_t = deformed_vertices(coat, rigged.reference_world, 0)
    joint = rigged.reference_world.positions[0, rigged.roles.bones[role]] + [0.0, 0.04, 0.0]
    facing = np.einsum("ni,i->n", at_t - joint, np.array(way, dtype=float))
    beside = np.linalg.norm(at_t - joint - facing[:, None] * way, axis=1)
    spot = at_t[np.argmin(np.where(facing > 0.0, beside, np.inf))]
    near = np.clip(1.0 - np.linalg.norm(at_t - spot, axis=1) / 0.08, 0.0, 1.0)[:, None]
    dented = replace(coat, vertices=coat.vertices - 0.05 * near * coat.normals, origin=None)
    meshes = list(dressed.figure.meshes)
    meshes[index] = dented
    figure = replace(dressed.figure, meshes=tuple(meshes))
    found = cutting_of(Wearing.of_meshes(figure, rigged.roles, [index]), rigged, dressed.clips[0])
    assert found.pieces[0].worst_m > 0.008
    assert found.pieces[0].part == part
    assert found.pieces[0].time > 0.9


@pytest.mark.long
def test_what_it_wears_already_is_pushed_out_and_nothing_else_changes(walking, dressed):
    """A coat drawn in by more than a centimetre: out of the skin again, the body and all the rest as they were."""
    index = dressed.worn[0]
    coat = dressed.figure.meshes[index]
    meshes = list(dressed.figure.meshes)
    meshes[index] = replace(coat, vertices=coat.vertices - 0.012 * coat.normals, origin=None)
    # A button on the chest, from three corners of the cloth: it stays on it.
    rigged = fairswap.RiggedFigure.of(dressed.figure)
    chest = dressed.figure.skeleton.rest.positions[0, rigged.roles.bones["spine_1"]] + [0.0, 0.1, 0.2]
    front = int(np.argmin(np.linalg.norm(dressed.figure.rest_vertices[index] - chest, axis=1)))
    at = meshes[index].vertices[front] + 0.002 * coat.normals[front] + [[0, 0, 0], [0.01, 0, 0], [0, 0.01, 0]]
    meshes.append(
        Mesh("button", at, np.tile(coat.normals[front], (3, 1)), np.array([[0, 1, 2]]),
             np.tile(coat.joints[front], (3, 1)), np.tile(coat.weights[front], (3, 1)), coat.bind_matrices)
    )  # fmt: skip
    step = fairswap.clips.trim(dressed.clips[0], start="0", end="0.1")
    fairswap.save("tight.glb", replace(dressed.figure, meshes=tuple(meshes)), [step])
    tight = fairswap.load("tight.glb")
    done = run("dress", "tight.glb", "-o", "out.glb", "--json")
    keeps_to_schema("dress", done.report)
    assert done.returncode == 0, done.stderr
    assert done.report["worn"] == ["coat", "boots"]
    assert done.report["added"] == []
    before, after = ({row["piece"]: row for row in done.report[name]} for name in ("before", "cutting"))
    assert before["coat"]["worst_mm"] > 8.0
    assert after["coat"]["worst_mm"] < 2.0
    out = fairswap.load("out.glb")
    button, cloth = ([one.figure.meshes[number].vertices for one in (tight, out)] for number in (-1, index))
    pushed = cloth[1][front] - cloth[0][front]
    assert np.linalg.norm(pushed) > 0.002
    assert button[1] - button[0] == pytest.approx(np.tile(pushed, (3, 1)), abs=0.001)
    for number, (old, new) in enumerate(zip(tight.figure.meshes[:-1], out.figure.meshes[:-1], strict=True)):
        off = np.linalg.norm(new.vertices - old.vertices, axis=1)
        assert (off.max() > 0.004) == (number == index)
        assert np.array_equal(old.triangles, new.triangles)
        assert np.array_equal(old.weights, new.weights)
        assert np.linalg.norm(new.normals, axis=1) == pytest.approx(1.0, abs=1e-4)
    assert np.array_equal(tight.clips[0].rotations, out.clips[0].rotations)


def test_where_nothing_is_worn_or_nothing_is_given_it_is_told(walking):
    with pytest.raises(fairswap.ImpossibleError, match="no garment is given"):
        fairswap.dress(walking)
    with pytest.raises(fairswap.UsageError, match="no garment is given"):
        fairswap.dress(walking, made_for=OSRIC)


@pytest.mark.long
def test_what_is_worn_is_found_from_the_shape(dressed):
    rigged = fairswap.RiggedFigure.of(dressed.figure)
    assert worn_by_shape(dressed.figure, rigged.roles).names == ("coat", "boots")
    for name in ("juniper", "osric", "pip"):  # faces and hair are no clothes
        alone = fairswap.RiggedFigure.of(fairswap.demo_file(f"{name}.glb"))
        assert worn_by_shape(alone.figure, alone.roles).names == ()


def _bare(figure):
    """The same meshes without any bones."""
    meshes = [
        Mesh(mesh.name, rest, mesh.normals, mesh.triangles, np.zeros((len(rest), 1), dtype=int),
             np.ones((len(rest), 1)), np.eye(4)[None])
        for mesh, rest in zip(figure.meshes, figure.rest_vertices, strict=True)
    ]  # fmt: skip
    skeleton = Skeleton(("thing",), np.array([-1]), np.array([[0.0, 0, 0, 1]]), np.zeros((1, 3)))
    return fairswap.Figure(figure.name, skeleton, tuple(meshes))


@pytest.mark.parametrize("how", ["other names", "whole skeleton", "no bones"])
@pytest.mark.long(but=1)
def test_however_the_garment_comes_it_lies_the_same(how, walking, booted):
    """Under other names, as a body in its clothes, or without bones: the places of the cloth are nearly the same."""
    boots = fairswap.load(BOOTS).figure
    if how == "other names":
        names = tuple(f"rig_17|{name.partition(':')[2].lower()}_jnt" for name in boots.skeleton.names)
        garment = replace(boots, skeleton=replace(boots.skeleton, names=names), source=None)
    elif how == "no bones":
        garment = _bare(boots)
    else:
        osric = fairswap.load(OSRIC).figure
        number = {name.partition(":")[2]: bone for bone, name in enumerate(osric.skeleton.names)}
        new = np.array([number[name.partition(":")[2]] for name in boots.skeleton.names])
        binds = np.tile(np.eye(4), (len(osric.skeleton), 1, 1))
        binds[new] = boots.meshes[0].bind_matrices
        worn = replace(boots.meshes[0], joints=new[boots.meshes[0].joints], bind_matrices=binds, origin=None)
        garment = replace(osric, meshes=(*osric.meshes, worn), source=None)
    made_for = None if how == "whole skeleton" else OSRIC
    made = fairswap.dress(walking, garment, made_for=made_for, settle=False)
    assert [made.figure.meshes[index].name for index in made.worn] == ["boots"]
    off = np.linalg.norm(made.figure.rest_vertices[-1] - booted, axis=1)
    assert off.mean() < 0.004


def test_without_the_old_body_it_is_sized_by_the_bones(walking, booted):
    made = fairswap.dress(walking, BOOTS, settle=False)
    off = np.linalg.norm(made.figure.rest_vertices[-1] - booted, axis=1)
    assert off.mean() < 0.025


def test_what_says_nothing_is_refused(walking, tmp_path):
    far = _bare(fairswap.load(COAT).figure)
    far = replace(far, meshes=(replace(far.meshes[0], vertices=far.meshes[0].vertices + [5.0, 0.0, 0.0]),))
    with pytest.raises(fairswap.ImpossibleError, match="nothing says for whom"):
        fairswap.dress(walking, far)
    with pytest.raises(fairswap.UsageError, match="'coat'"):
        fairswap.dress(walking, COAT, take=["trousers"])
    bones = replace(walking.figure, meshes=(), source=None)
    with pytest.raises(fairswap.ImpossibleError, match="no body"):
        fairswap.dress(bones, COAT)


def test_a_file_that_holds_a_body_and_no_clothes_is_told_with_what_is_in_it():
    """The message names the meshes and the option that says otherwise."""
    done = run("dress", TROUPE / "juniper.glb", "--with", TROUPE / "pip.glb", "-o", "out.glb")
    assert done.returncode == 4
    assert "only the body ('" in done.stderr
    assert "--take MESH" in done.stderr
