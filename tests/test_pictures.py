"""Pictures: what is drawn is where it should be."""

from io import BytesIO

import numpy as np
from PIL import Image

import fairswap
from fairswap.picture.comparison_sheet import comparison_sheet
from fairswap.picture.raster import Canvas, covered_pixels
from making import FREE, act, figure, swap_between


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
    assert picture.shape == (1054, 1800, 3)
    dark = picture.sum(axis=2) < 200
    for top in (92, 518):  # in each row: boots on the floor line, nothing much below it
        floor = top + 400 - 30
        assert dark[floor - 12 : floor - 2, 150:].sum() > 300
        assert dark[floor + 4 : floor + 28, 150:].sum() < 40
    # The coats: green above, red below.
    green = (picture[:, :, 1] > picture[:, :, 0] + 30) & (picture[:, :, 2] < picture[:, :, 1] + 20)
    red = (picture[:, :, 0] > 110) & (picture[:, :, 1] < 80)
    assert green[92:492].sum() > 5000
    assert green[518:918].sum() < 500
    assert red[518:918].sum() > 5000
