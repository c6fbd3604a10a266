"""Pictures: what is drawn is where it should be."""

import json
from dataclasses import replace
from io import BytesIO
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

import fairswap
from fairswap.demo.repertoire import ACTS
from fairswap.model.mesh import deformed_vertices
from fairswap.picture.comparison_sheet import comparison_sheet
from fairswap.picture.framing import SHOTS, Frame, Staged
from fairswap.picture.lone_sheet import lone_sheet
from fairswap.picture.raster import Canvas, covered_pixels
from making import FREE, TROUPE, act, figure, run, swap_between


def test_each_pixel_of_two_triangles_that_share_an_edge_is_covered_once():
    corners = np.array([[[2, 2], [30, 5], [8, 25]], [[30, 5], [33, 28], [8, 25]]], dtype=float)
    count = np.zeros((40, 40), dtype=int)
    for x, y, share, _ in covered_pixels(corners, 40, 40):
        np.add.at(count, (y, x), 1)
        assert np.allclose(share.sum(axis=1), 1.0)
    area = 0.5 * ((28 * 23 - 3 * 6) + (3 * 20 + 22 * 23))
    assert abs(count.sum() - area) < 12
    assert count.max() == 1


def test_the_nearer_of_two_triangles_is_seen_and_the_far_side_is_not():
    pixels = np.array([[0, 0], [0, 20], [20, 0]], dtype=float)
    normals, triangle = np.tile([0.0, 0, 1], (3, 1)), np.array([[0, 1, 2]])
    canvas = Canvas.blank(20, 20, (0, 0, 0))
    for depth, color in ((1.0, [1, 0, 0]), (2.0, [0, 1, 0]), (0.0, [0, 0, 1])):
        canvas.draw(pixels, np.full(3, depth), normals, triangle, np.tile(np.array(color, dtype=float), (3, 1)))
    red, green, blue = canvas.color[5, 5]
    assert green > 0.5
    assert red == blue == 0
    canvas.draw(pixels, np.full(3, 9.0), normals, triangle[:, ::-1], np.ones((3, 3)))
    assert canvas.color[5, 5, 0] == 0


def test_a_sheet_shows_both_actors_standing_on_their_floor_lines():
    swap = swap_between(figure("Juniper"), figure("Osric"))
    clip = act("turn-and-bow", "Juniper")
    result = swap.convert(clip, FREE)
    proof = fairswap.compare((figure("Juniper"), clip), (figure("Osric"), result))
    png = comparison_sheet(proof, "bow.glb  onto  Osric")
    picture = np.asarray(Image.open(BytesIO(png)).convert("RGB"), dtype=int)
    assert picture.shape == (1044, 1800, 3)
    dark, rows = picture.sum(axis=2) < 200, {}
    for number, top in enumerate((116, 512)):  # in each row: boots on the floor line, nothing much below it
        # The line is darker than its ground in every column that nothing stands in.
        ground = picture[top + 370, 150:].sum(axis=1)
        line = picture[top : top + 384, 150:].sum(axis=2) < ground - 150
        rows[number] = floor = top + int(np.argmax(line.mean(axis=1)))
        assert dark[floor - 12 : floor - 1, 150:].sum() > 300
        assert dark[floor + 3 : top + 384, 150:].sum() < 40
    assert abs((rows[1] - 512) - (rows[0] - 116)) <= 1  # at one scale, on one line
    # The coats: green above, red below.
    green = (picture[:, :, 1] > picture[:, :, 0] + 30) & (picture[:, :, 2] < picture[:, :, 1] + 20)
    red = (picture[:, :, 0] > 110) & (picture[:, :, 1] < 80)
    assert green[116:500].sum() > 5000
    assert green[512:896].sum() < 500
    assert red[512:896].sum() > 5000


def skins(staged):
    """The vertices of all meshes in each instant."""
    for instant in range(staged.poses.frames):
        yield [
            deformed_vertices(mesh, staged.world, instant, staged.poses, number)
            for number, mesh in enumerate(staged.figure.meshes)
        ]


@pytest.mark.parametrize("name", ["Juniper", "Osric", "Pip"])
def test_whatever_moves_is_inside_its_panel(name):
    """Random instants of all acts: no vertex outside, the largest not far from the edge, all at one scale."""
    random = np.random.default_rng(len(name))
    own, rigged = figure(name), fairswap.RiggedFigure.of(figure(name))
    for title in ACTS:
        clip = act(title, name)
        staged = Staged.of(own, clip, np.sort(random.uniform(0.0, clip.duration_s, 11)), rigged)
        for shot, width, height in (("full", 200, 330), ("hands", 150, 330), ("full", 400, 100)):
            frame = Frame.around([staged], SHOTS[shot], width, height)
            free = []
            for instant in range(staged.poses.frames):
                for panel in SHOTS[shot]:
                    seen, _ = frame.view_of(staged, instant, panel).pixels(staged.points(instant, panel))
                    free += [seen.min(axis=0), 2.0 * np.array([width, height]) - seen.max(axis=0)]
            free = np.array(free)
            assert free.min() > 2.0, (title, shot)
            # And no more room than need be: of a whole figure the skin comes near an edge in some panel.
            if shot == "full":
                skin = [
                    frame.view_of(staged, instant, panel).pixels(np.concatenate(meshes))[0]
                    for instant, meshes in enumerate(skins(staged)) for panel in SHOTS[shot]
                ]  # fmt: skip
                wide, high = np.ptp(np.array(skin), axis=1).max(axis=0) / [2.0 * width, 2.0 * height]
                assert max(wide, high) > 0.8, title
            else:
                assert (free / [2.0 * width, 2.0 * height]).min() < 0.2, title


def test_a_root_that_stays_behind_is_no_part_of_what_is_seen():
    """A motion without meshes whose hips go away from its root fills its panel all the same."""
    clip = act("walk", "Osric")
    bare = fairswap.Figure("Osric", figure("Osric").skeleton)
    for rigged in (fairswap.RiggedFigure.of(bare), None):
        staged = Staged.of(bare, clip, np.linspace(0.0, clip.duration_s, 5), rigged)
        frame = Frame.around([staged], SHOTS["full"], 300, 300)
        assert frame.scale > 0.75 * 300  # pixels to its height


def test_odd_figures_are_drawn_and_never_cut():
    """All bones in one line at rest, no height, no meshes, no roles: by the pose that moves."""
    own = figure("Pip")
    flat = replace(own.skeleton, rest_translations=own.skeleton.rest_translations * [0.0, 0.0, 1.0])
    poses = replace(act("walk", "Pip").poses, skeleton=flat)
    odd = fairswap.Figure("line", flat)
    clip = fairswap.Clip("walk", act("walk", "Pip").rate, poses)
    for what, motion in ((odd, clip), (odd, None), (replace(own, source=None), None)):
        png = lone_sheet(what, motion, times_s=[0.0])
        picture = np.asarray(Image.open(BytesIO(png)).convert("RGB"), dtype=int)
        assert len(np.unique(picture.reshape(-1, 3), axis=0)) > 30
    staged = Staged.of(odd, clip, np.array([0.0, 1.0]), None)
    frame = Frame.around([staged], SHOTS["full"], 200, 200)
    assert np.isfinite(frame.scale)


def opened(path):
    return Image.open(BytesIO(Path(path).read_bytes())).convert("RGB")


def test_instants_and_shots_are_chosen():
    fairswap.save("walk.glb", figure("Juniper"), [act("walk", "Juniper")])
    done = run(
        "compare", "walk.glb", "walk.glb", "--picture", "o.png", "--at", "0.5", "--shot", "full", "--shot", "feet"
    )
    assert done.returncode == 0, done.stderr
    assert opened("o.png").height == 92 + 2 * (24 + 2 * (384 + 12)) + 58 + 78
    again = fairswap.picture.sheet(fairswap.compare("walk.glb", "walk.glb"), "walk.glb  onto  walk.glb", at=[0.5],
                                   shots=["full", "feet"])  # fmt: skip
    assert Path("o.png").read_bytes() == again
    for words, says in (("0.5,99", "99 s is not in 'Walk'"), ("0,0.1,0.2,0.3,0.4,0.5,0.6,0.7,0.8", "at most 8")):
        wrong = run("compare", "walk.glb", "walk.glb", "--picture", "p.png", "--at", words)
        assert says in wrong.stderr
        assert not Path("p.png").exists()


def test_a_lone_file_is_drawn():
    fairswap.save("walk.bvh", figure("Osric"), [act("walk", "Osric")])
    report = json.loads(run("draw", "walk.bvh", "-o", "o.png", "--json").stdout)
    assert report["bones_known"]
    assert opened("o.png").width == 1800
    rest = json.loads(
        run("draw", TROUPE / "juniper.glb", "-o", "rest.png", "--shot", "full", "--shot", "face", "--json").stdout
    )
    assert rest["clip"] == ""
    picture = np.asarray(opened("rest.png"), dtype=int)
    green = (picture[:, :, 1] > picture[:, :, 0] + 30) & (picture[:, :, 2] < picture[:, :, 1] + 20)
    assert green[78:700].sum() > 3000
    wrong = run("draw", TROUPE / "pip.glb", "-o", "p.png", "--clip", "nobody")
    assert wrong.returncode != 0
    assert not Path("p.png").exists()
