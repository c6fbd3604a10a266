"""Fewer triangles: as many as asked, the shape kept, seams whole, weights and morphs what they were."""

import io
from dataclasses import replace

import numpy as np
import pytest
from click.testing import CliRunner
from PIL import Image
from scipy.spatial import cKDTree

import fairswap
from fairswap.cli.main import command
from fairswap.figures.reducing import reduced
from fairswap.measure.nearness import Surface
from fairswap.model.mesh import deformed_vertices

_STRICT = """fairswap = "platform/1"
name = "strict"
bones = "fernway"
[figure]
max_triangles = 6000
max_vertices = 4000
"""


def triangles_of(figure):
    return sum(len(mesh.triangles) for mesh in figure.meshes)


@pytest.fixture(scope="module")
def pip():
    return fairswap.load(fairswap.demo_file("pip.glb")).figure


@pytest.fixture(scope="module")
def half(pip):
    return reduced(pip, triangles_of(pip) // 2)


def open_edges(mesh):
    """Edges with one triangle, vertices at one place taken as one."""
    place = np.unique(np.round(mesh.vertices * 1e6).astype(int), axis=0, return_inverse=True)[1].ravel()
    corners = place[mesh.triangles]
    edges = np.sort(np.concatenate([corners[:, [0, 1]], corners[:, [1, 2]], corners[:, [2, 0]]]), axis=1)
    return int((np.unique(edges, axis=0, return_counts=True)[1] == 1).sum())


def volume(mesh):
    a, b, c = mesh.vertices[mesh.triangles].transpose(1, 0, 2)
    return np.einsum("ni,ni->", a, np.cross(b, c)) / 6.0


@pytest.mark.parametrize("share", [0.5, 0.1])
@pytest.mark.long(but=1)
def test_there_are_as_many_as_asked_and_the_shape_is_kept(share, pip):
    made = reduced(pip, int(share * triangles_of(pip)), fairswap.reel(pip, rate=1).clip)
    assert triangles_of(made.figure) <= share * triangles_of(pip) + 2
    assert made.mean_mm < (0.6 if share == 0.5 else 4.5)
    assert volume(made.figure.meshes[0]) == pytest.approx(volume(pip.meshes[0]), rel=0.015 if share == 0.5 else 0.10)
    assert np.abs(np.ptp(made.figure.rest_points, axis=0) - np.ptp(pip.rest_points, axis=0)).max() < 0.012


def test_what_is_left_is_as_it_was(pip, half):
    """Each vertex is one of the old ones, with its weights, texture coordinates and morphs."""
    for old, new in zip(pip.meshes, half.figure.meshes, strict=True):

        def rows(mesh):
            parts = [mesh.vertices, mesh.weights, mesh.joints]
            parts += [mesh.uvs] if mesh.uvs is not None else []
            parts += list(mesh.morph_deltas) if mesh.morph_deltas is not None else []
            return {row.tobytes() for row in np.concatenate(parts, axis=1)}

        assert rows(new) <= rows(old)
        assert new.morph_names == old.morph_names
        assert len(new.materials) == len(old.materials)
        assert sum(row.triangles.stop - row.triangles.start for row in new.materials) == len(new.triangles)


def test_no_seam_opens(pip, half):
    """Where the surface was closed it is, though its texture has seams."""
    for old, new in zip(pip.meshes, half.figure.meshes, strict=True):
        assert open_edges(new) <= open_edges(old)


def test_morphs_move_the_skin_as_they_did(pip, half):
    """Each morph at full: the old vertices, held to the reduced surface at rest, are carried along."""
    old, new = pip.meshes[1], half.figure.meshes[1]
    surface = Surface(new.vertices, new.triangles)
    found = surface.nearest(old.vertices)
    for name, was, now in zip(old.morph_names, old.morph_deltas, new.morph_deltas, strict=True):
        off = np.linalg.norm(surface.taken(now, found) - was, axis=1)
        assert off.mean() < 0.05 * np.linalg.norm(was, axis=1).max(), name


def test_the_loss_is_what_it_is(pip):
    """The worst that is told is at least what the farthest old vertex is from the new surface; nothing asked, none."""
    made = reduced(pip, triangles_of(pip) // 8)
    new = made.figure.meshes[0]
    some = (
        np.random.default_rng(0).dirichlet([1, 1, 1], size=len(new.triangles) * 30).reshape(len(new.triangles), 30, 3)
    )
    samples = np.einsum("tsk,tki->tsi", some, new.vertices[new.triangles]).reshape(-1, 3)
    off = cKDTree(samples).query(pip.meshes[0].vertices)[0]
    assert 0.001 * made.worst_mm < off.max() + 0.02
    assert made.worst_mm > 1000.0 * off.max() - 6.0
    same = reduced(pip, triangles_of(pip))
    assert same.figure is pip
    assert (same.mean_mm, same.worst_mm) == (0.0, 0.0)


def by_themselves(figure):
    """The figure with three vertices of its own for each triangle, as some programs write it."""
    apart = []
    for mesh in figure.meshes:
        rows = mesh.triangles.ravel()
        own = {name: getattr(mesh, name)[rows] for name in ("vertices", "normals", "joints", "weights", "uvs")}
        deltas = None if mesh.morph_deltas is None else mesh.morph_deltas[:, rows]
        apart.append(replace(mesh, triangles=np.arange(len(rows)).reshape(-1, 3), morph_deltas=deltas,
                             tangents=None, morph_normals=None, more={}, origin=None, **own))  # fmt: skip
    return replace(figure, meshes=tuple(apart), source=None)


def test_triangles_by_themselves_are_put_together_before_any_is_taken_away(pip):
    """Three times the vertices that a platform allows, and none of them needed: nothing may be lost for it."""
    apart = by_themselves(pip)
    shown = sum(len(np.unique(mesh.triangles)) for mesh in pip.meshes)
    assert sum(len(mesh.vertices) for mesh in apart.meshes) > 2 * shown
    once = reduced(apart, triangles_of(apart), vertices=shown)
    assert triangles_of(once.figure) == triangles_of(pip)
    assert sum(len(mesh.vertices) for mesh in once.figure.meshes) <= shown
    assert once.worst_mm == 0.0
    for old, new in zip(apart.meshes, once.figure.meshes, strict=True):
        for name in ("vertices", "normals", "weights", "uvs"):
            np.testing.assert_array_equal(getattr(old, name)[old.triangles], getattr(new, name)[new.triangles])
        if old.morph_deltas is not None:
            np.testing.assert_array_equal(old.morph_deltas[:, old.triangles], new.morph_deltas[:, new.triangles])
    # And then fewer of them: as well as of a figure that was never taken apart.
    half, plain = (reduced(figure, triangles_of(pip) // 2) for figure in (apart, pip))
    assert triangles_of(half.figure) <= triangles_of(pip) // 2 + 2
    assert half.mean_mm < 1.1 * plain.mean_mm + 0.05


def test_odd_meshes_are_borne(pip):
    """Slivers, edges of three triangles, triangles apart: fewer come out, nothing breaks."""
    mesh = pip.meshes[0]
    rng = np.random.default_rng(5)
    soup = np.concatenate([mesh.triangles[rng.random(len(mesh.triangles)) < 0.7], mesh.triangles[:50, [0, 1, 1]],
                           mesh.triangles[100:150, [2, 1, 0]]])  # fmt: skip
    material = replace(mesh.materials[0], triangles=slice(0, len(soup)))
    odd = replace(mesh, triangles=soup, materials=(material,), origin=None)
    made = reduced(replace(pip, meshes=(odd,), source=None), len(soup) // 2)
    assert 100 < triangles_of(made.figure) < 0.75 * len(soup)
    assert np.isfinite(made.worst_mm)


@pytest.mark.long
def test_fit_keeps_to_what_a_platform_allows(tmp_path):
    (tmp_path / "strict.toml").write_text(_STRICT)
    run = CliRunner().invoke(
        command, ["fit", str(fairswap.demo_file("pip.glb")), "--platform", "strict.toml", "-o", "light.glb"]
    )
    assert run.exit_code == 0, run.output
    figure = fairswap.load("light.glb").figure
    assert triangles_of(figure) <= 6000
    assert sum(len(mesh.vertices) for mesh in figure.meshes) <= 4000
    assert "mm mean" in run.output
    fewer = CliRunner().invoke(
        command,
        [
            "fit",
            str(fairswap.demo_file("pip.glb")),
            "--platform",
            "strict.toml",
            "-o",
            "fewer.glb",
            "--triangles",
            "3000",
        ],
    )
    assert fewer.exit_code == 0, fewer.output
    assert triangles_of(fairswap.load("fewer.glb").figure) <= 3000


def test_a_reduced_figure_moves_as_the_whole_one(pip, half):
    clip = fairswap.demo_motion("walk", "Pip").clips[0]
    poses = clip.at(np.array([0.4]))
    world = poses.world()
    for old, new in zip(pip.meshes, half.figure.meshes, strict=True):
        whole, fewer = (deformed_vertices(mesh, world, 0) for mesh in (old, new))
        assert np.abs(np.ptp(whole, axis=0) - np.ptp(fewer, axis=0)).max() < 0.01


def test_the_loss_of_each_vertex_is_its_way_to_the_skin_that_is_left(pip, half):
    """Against points strewn over the new triangles: none is nearer than is told (but where the skin folds at rest, as
    in the armpits), and one is nearly as near."""
    rng = np.random.default_rng(3)
    assert half.mean_mm == pytest.approx(float(np.concatenate(half.off_mm).mean()))
    assert half.worst_mm == pytest.approx(max(float(row.max()) for row in half.off_mm))
    left = zip(half.figure.meshes, half.figure.rest_vertices, strict=True)
    for old, (mesh, new), off in zip(pip.rest_vertices, left, half.off_mm, strict=True):
        shares = rng.dirichlet(np.ones(3), (len(mesh.triangles), 200))
        strewn = np.einsum("tsk,tkx->tsx", shares, new[mesh.triangles]).reshape(-1, 3)
        near = 1000.0 * cKDTree(np.concatenate([strewn, new])).query(old)[0]
        assert (off <= near + 1e-4).mean() > 0.95
        assert abs((near - off).mean()) < 0.2


@pytest.mark.long
def test_the_picture_of_a_fit_shows_what_fewer_triangles_cost(tmp_path):
    """The more is lost, the more of the picture is yellow and red."""
    warm = {}
    for count in (None, 2000):
        fitted = fairswap.fit(fairswap.demo_file("pip.glb"), "quillmoor", triangles=count)
        picture = np.asarray(Image.open(io.BytesIO(fairswap.picture.loss(fitted))).convert("RGB")).astype(int)
        body = picture[100:, :940]
        warm[count] = int(((body[..., 0] - body[..., 2]) > 70).sum())
    assert warm[None] < 50
    assert warm[2000] > 500
