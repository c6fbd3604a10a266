"""What of a surface is nearest, and whether one is inside: places spread over it, windings around points."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial import ConvexHull, cKDTree

from fairswap.measure.nearness import Surface, spread_over


@settings(deadline=None, max_examples=30)
@given(st.integers(0, 10_000), st.floats(0.02, 0.5))
def test_places_spread_over_triangles_leave_no_gap_and_stand_for_all_of_them(seed, spacing):
    """Inside them, together for the whole area, and nothing further from one (or a corner) than the spacing."""
    rng = np.random.default_rng(seed)
    vertices = rng.normal(size=(12, 3)) * [1.0, 0.4, 0.1]
    triangles = rng.permuted(np.tile(np.arange(12), (6, 1)), axis=1)[:, :3]
    owner, shares, area = spread_over(vertices, triangles, spacing, 400)
    assert np.allclose(shares.sum(axis=1), 1.0)
    assert (shares >= -1e-12).all()
    assert np.allclose(np.bincount(owner, area, len(triangles)), 1.0)
    places = np.einsum("nk,nki->ni", shares, vertices[triangles[owner]])
    for number, corners in enumerate(vertices[triangles]):
        own = places[owner == number]
        anywhere = rng.dirichlet(np.ones(3), 200) @ corners
        assert cKDTree(np.concatenate([own, corners])).query(anywhere)[0].max() < spacing
        # Weighed by what they stand for, they lie about where the triangle does.
        assert np.linalg.norm(area[owner == number] @ own - corners.mean(axis=0)) < spacing


@pytest.mark.parametrize("inverted", [False, True])
def test_windings_tell_inside_from_outside_also_where_a_surface_is_open(inverted):
    """A ball with a lid missing, against its own equation; near the hole it is between."""
    points = np.random.default_rng(2).normal(size=(1500, 3))
    points /= np.linalg.norm(points, axis=1, keepdims=True)
    hull = ConvexHull(points)
    outward = np.einsum("ni,ni->n", hull.equations[:, :3], np.cross(
        points[hull.simplices[:, 1]] - points[hull.simplices[:, 0]],
        points[hull.simplices[:, 2]] - points[hull.simplices[:, 0]])) > 0  # fmt: skip
    triangles = np.where(outward[:, None] ^ inverted, hull.simplices, hull.simplices[:, ::-1])
    sign = -1.0 if inverted else 1.0
    asked = np.random.default_rng(3).uniform(-1.6, 1.6, size=(60, 3))
    asked = asked[np.abs(np.linalg.norm(asked, axis=1) - 1.0) > 0.03]
    inside = np.linalg.norm(asked, axis=1) < 1.0
    assert np.allclose(sign * Surface(points, triangles).windings(asked), inside, atol=1e-3)
    lidless = triangles[points[triangles][:, :, 1].mean(axis=1) < 0.8]
    found = sign * Surface(points, lidless).windings(np.array([[0.0, -0.5, 0.0], [0.0, 0.8, 0.0], [0.0, 1.8, 0.0]]))
    assert found[0] > 0.85
    assert 0.3 < found[1] < 0.7
    assert abs(found[2]) < 0.15


def test_a_way_meets_a_surface_where_it_lies_on_it():
    """Ways through points strewn over the triangles meet them; ways beside them, backward or too short do not."""
    rng = np.random.default_rng(4)
    vertices = rng.normal(size=(30, 3))
    triangles = np.array([rng.choice(30, 3, replace=False) for _ in range(8)])
    surface = Surface(vertices, triangles)
    goals = np.einsum("nk,nki->ni", rng.dirichlet([2, 2, 2], 40), vertices[triangles[rng.integers(0, 8, 40)]])
    starts = goals + 3.0 * rng.normal(size=(40, 3))
    ways = goals - starts
    lengths = np.linalg.norm(ways, axis=1)
    ways /= lengths[:, None]
    assert surface.met(starts, ways, 1.001 * lengths.max()).all()
    far = starts + 100.0 * ways  # beyond everything
    assert not surface.met(far, ways, 1000.0).any()
    alone = Surface(vertices, triangles[:1])
    a, b, c = vertices[triangles[0]]
    middle = (a + b + c) / 3.0
    normal = np.cross(b - a, c - a) / np.linalg.norm(np.cross(b - a, c - a))
    outside = middle + 1.01 * (a - middle)
    places = np.array([middle + normal, middle + normal, middle + normal, outside + normal])
    assert alone.met(places, np.array([-normal, normal, -normal, -normal]), 1.1).tolist() == [True, False, True, False]
    assert not alone.met(places[:1], -normal[None], 0.9).any()
