"""Pictures: what is drawn is where it should be."""

import json
from dataclasses import replace
from fractions import Fraction
from io import BytesIO
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from scipy.spatial.transform import Rotation

import fairswap
from fairswap.demo.repertoire import ACTS
from fairswap.face.transfer import still_clip
from fairswap.model.mesh import deformed_vertices
from fairswap.picture.comparison_sheet import comparison_sheet
from fairswap.picture.framing import SHOTS, Frame, Staged
from fairswap.picture.lone_sheet import lone_sheet
from fairswap.picture.raster import Canvas, Surface, covered_pixels
from fairswap.picture.stage import Stance, View, draw_figure
from making import FREE, TROUPE, act, figure, run, swap_between

pytestmark = pytest.mark.usefixtures("fine_pictures")


def test_each_pixel_of_two_triangles_that_share_an_edge_is_covered_once():
    corners = np.array([[[2, 2], [30, 5], [8, 25]], [[30, 5], [33, 28], [8, 25]]], dtype=float)
    count = np.zeros((40, 40), dtype=int)
    for x, y, share, _ in covered_pixels(corners, 40, 40):
        np.add.at(count, (y, x), 1)
        assert np.allclose(share.sum(axis=1), 1.0)
    area = 0.5 * ((28 * 23 - 3 * 6) + (3 * 20 + 22 * 23))
    assert abs(count.sum() - area) < 12
    assert count.max() == 1


@pytest.mark.parametrize("side", [3, 300, 900])
def test_one_triangle_of_any_size_is_covered(side):
    corners = np.array([[[0, 0], [side, 0], [0, side]]], dtype=float)
    count = sum(len(x) for x, _, _, _ in covered_pixels(corners, side, side))
    assert count == pytest.approx(side * (side + 1) / 2, abs=side)


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
    assert picture.shape == (1044, 1800, 3)  # nobody lies: rows of full height
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
@pytest.mark.long(but=1)
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


def lying(name):
    """Two seconds of lying on the back with the feet ahead, and standing before: as wide as tall."""
    own, clip = figure(name), act("idle", name)
    edit = clip.poses.edit()
    hips = fairswap.RiggedFigure.of(own).roles.bones["hips"]
    half = slice(clip.frames // 2, None)
    down = Rotation.from_euler("x", -90.0, degrees=True)
    edit.rotation_tracks[hips, :, half] = (down * Rotation.from_quat(edit.rotation_tracks[hips].T[half])).as_quat().T
    low = np.array(edit.translation_track(hips))
    low[1, half] = 0.12 * own.height_m
    edit.translations[hips] = low
    return clip.with_poses(edit.poses())


def test_who_lies_down_gets_the_room_and_who_stands_leaves_it():
    """Panels are as wide as they need, so that all are shown larger; none is cut, and together they fill the width."""
    own, clip = figure("Pip"), lying("Pip")
    staged = Staged.of(own, clip, np.linspace(0.0, clip.duration_s, 6), fairswap.RiggedFigure.of(own))
    panels = SHOTS["full"]
    beside = [[(instant, panel)] for instant in range(6) for panel in panels]
    stacked = [[(instant, panel) for panel in panels] for instant in range(6)]
    for columns in (beside, stacked):
        frame = Frame.beside([staged], columns, 1200, 400, 50)
        widths = [frame.width_of(*column[0]) for column in columns]
        assert sum(widths) == 1200
        free = []
        for column, wide in zip(columns, widths, strict=True):
            for instant, panel in column:
                assert frame.width_of(instant, panel) == wide
                seen, _ = frame.view_of(staged, instant, panel).pixels(staged.points(instant, panel))
                free += [seen.min(axis=0), 2.0 * np.array([wide, frame.height]) - seen.max(axis=0)]
        assert np.min(free) > 2.0
        assert frame.scale > 1.3 * Frame.around([staged], panels, 1200 // len(columns), 400).scale
        assert frame.height < 320  # of 400: and no white paper above
    # Where height is what is scarce, what is left over is shared out: all as far apart.
    roomy = Frame.beside([staged], stacked, 6000, 100)
    assert roomy.height == 100
    assert roomy.scale == pytest.approx(Frame.around([staged], panels, 6000, 100).scale)


def test_a_root_that_stays_behind_is_no_part_of_what_is_seen():
    """A motion without meshes whose hips go away from its root fills its panel all the same."""
    clip = act("walk", "Osric")
    bare = fairswap.Figure("Osric", figure("Osric").skeleton)
    for rigged in (fairswap.RiggedFigure.of(bare), None):
        staged = Staged.of(bare, clip, np.linspace(0.0, clip.duration_s, 5), rigged)
        frame = Frame.around([staged], SHOTS["full"], 300, 300)
        assert frame.scale > 0.75 * 300  # pixels to its height


@pytest.mark.long
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


@pytest.mark.long
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


def panes(*depths):
    """Squares of two triangles that cover the canvas, one for each depth, each with its corners in a picture."""
    corners = np.array([[-1.0, -1.0], [41.0, -1.0], [41.0, 41.0], [-1.0, 41.0]])
    triangles = np.concatenate([np.array([[0, 2, 1], [0, 3, 2]]) + 4 * number for number in range(len(depths))])
    normals = np.tile([0.0, 0.0, 1.0], (4 * len(depths), 1))
    pixels, uvs = np.tile(corners, (len(depths), 1)), np.tile(corners / 40.0, (len(depths), 1))
    return pixels, np.repeat(np.array(depths, dtype=float), 4), normals, triangles, uvs


def drawn(colors, depths, *surfaces, back=False):
    """A canvas with panes of some colours on it, as bright as if they were not lit."""
    pixels, depth, normals, triangles, uvs = panes(*depths)
    canvas, white = (Canvas.blank(40, 40, (0.0, 0.0, 0.0)) for _ in range(2))
    own = np.repeat(np.array(colors, dtype=float), 2, axis=0)
    canvas.draw(pixels, depth, normals, triangles[:, ::-1] if back else triangles, own, uvs, surfaces)
    canvas.blend()
    white.draw(*panes(0.0)[:4], np.ones((2, 3)))
    return canvas.color / white.color.max()


def test_what_is_seen_through_is_blended_from_the_farthest_to_the_nearest():
    red, green, blue = np.eye(3)
    glass = [Surface(slice(0, 2), blending="blend", alpha=0.25), Surface(slice(2, 4), blending="blend", alpha=0.5),
             Surface(slice(4, 6))]  # fmt: skip
    expected = 0.25 * red + 0.75 * (0.5 * green + 0.5 * blue)
    assert drawn([red, green, blue], (3.0, 2.0, 1.0), *glass)[20, 12] == pytest.approx(expected, abs=1e-6)
    # Nothing of it is seen behind what is solid.
    hidden = drawn([red, green, blue], (0.5, 2.0, 1.0), *glass)[20, 12]
    assert hidden == pytest.approx(0.5 * green + 0.5 * blue, abs=1e-6)


def test_what_is_cut_out_is_not_there_and_cards_are_seen_from_behind():
    red, blue = np.eye(3)[[0, 2]]
    holes = np.ones((4, 4, 4))
    holes[:, :2, 3] = 0.0  # the left half is cut out
    row = drawn([red, blue], (2.0, 1.0), Surface(slice(0, 2), [holes], "mask"), Surface(slice(2, 4)))[20]
    assert row[4] == pytest.approx(blue, abs=1e-6)
    assert row[30] == pytest.approx(red, abs=1e-6)
    for two_sided, expected in ((False, [0.0, 0.0, 0.0]), (True, [1.0, 0.0, 0.0])):
        behind = drawn([red], (1.0,), Surface(slice(0, 2), two_sided=two_sided), back=True)[20, 20]
        assert (behind > 0.05).tolist() == (np.array(expected) > 0.05).tolist()


def test_a_fine_texture_far_away_is_grey_and_a_coarse_one_near_by_is_smooth():
    fine = np.ones((320, 320, 4))
    fine[::2, ::2, :3] = fine[1::2, 1::2, :3] = 0.0  # dots smaller than a pixel
    sizes = [fine, *(fine.reshape(320 // n, n, 320 // n, n, 4).mean(axis=(1, 3)) for n in (2, 4, 8))]
    grey = drawn([[1.0] * 3], (1.0,), Surface(slice(0, 2), sizes))[5:35, 5:35]
    assert grey == pytest.approx(0.5, abs=0.01)
    coarse = np.ones((2, 2, 4))
    coarse[:, 0, :3] = 0.0
    row = drawn([[1.0] * 3], (1.0,), Surface(slice(0, 2), [coarse]))[20, 10:30, 0]
    assert np.diff(row).max() < 0.07  # from black to white over twenty pixels, without a step
    assert row[0] < 0.1
    assert row[-1] > 0.9


def test_materials_say_what_is_seen_through_and_keep_it():
    figure = fairswap.load(TROUPE / "juniper.glb").figure
    clear = [
        replace(mesh, materials=tuple(
            replace(material, origin=None, blending="blend", alpha=alpha, two_sided=True) for material in mesh.materials
        ))
        for mesh, alpha in zip(figure.meshes, (0.0, 1.0), strict=True)
    ]  # fmt: skip
    view = View("front", [0.0, 1.0, 0.0], (100.0, 100.0), 90.0)
    rest = still_clip(figure, "rest", Fraction(1), 1)

    def seen(shown):
        canvas = Canvas.blank(200, 200, (1.0, 1.0, 1.0))
        draw_figure(canvas, view, Stance(shown, rest.world(), 0, rest.poses), frozenset())
        return canvas.color

    face_alone = seen(replace(figure, meshes=tuple(figure.meshes[1:])))
    assert seen(replace(figure, meshes=tuple(clear))) == pytest.approx(face_alone, abs=0.02)
    cut = replace(clear[0], materials=(replace(clear[0].materials[0], blending="mask", alpha=0.7, cutoff=0.25),))
    fairswap.save("clear.glb", replace(figure, meshes=(cut, clear[1]), source=None))
    read = fairswap.load("clear.glb").figure
    body, face = (mesh.materials[0] for mesh in read.meshes)
    assert (body.blending, body.alpha, body.cutoff, body.two_sided) == ("mask", pytest.approx(0.7), 0.25, True)
    assert (face.blending, face.alpha) == ("blend", 1.0)


@pytest.mark.parametrize("name", ["ходьба", "περπάτημα", "歩く", "Größe", "wälk ходьба 歩"])
def test_names_in_any_script_are_letters_and_no_boxes(name):
    """No letter is drawn as the box that stands for one that no font has; each run has a font that has its letters."""
    import numpy as np
    from PIL import Image

    from fairswap.picture.paper import font, pen

    boxes = []
    for letter in [*name.replace(" ", ""), "\ufff0"]:
        image = Image.new("L", (60, 60), 255)
        pen(image).text((10, 10), letter, font=font(30), fill=0)
        boxes.append(np.asarray(image).copy())
    *letters, box = boxes
    for letter in letters:
        assert (letter < 128).sum() > 5
        assert not np.array_equal(letter, box)
    image = Image.new("L", (600, 60), 255)
    brush = pen(image)
    brush.text((300, 10), name, font=font(30), fill=0, anchor="ma")
    ink = np.flatnonzero((np.asarray(image) < 128).any(axis=0))
    assert abs(0.5 * (ink[0] + ink[-1]) - 300) < 6  # in the middle, whatever the fonts
    assert abs(ink[-1] - ink[0] - brush.textlength(name, font=font(30))) < 15  # full-width letters stand apart


def test_curves_of_clips_with_names_in_any_script():
    import warnings

    from fairswap.picture.letters import families_for

    assert families_for(["walk"]) == ["DejaVu Sans"]
    assert len(families_for(["歩く", "ходьба"])) == 2
    walk = fairswap.demo_motion("walk")
    named = replace(walk, clips=(replace(walk.clips[0], name="歩く"),))
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        assert fairswap.picture.curves(fairswap.compare(named, named), ["head"])[1:4] == b"PNG"
