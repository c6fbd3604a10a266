"""Meshes without bones: Wavefront OBJ and PLY, and the polygons they are made of."""

import struct
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import fairswap
from fairswap.formats.gltf.accessors import floats_from_accessor
from fairswap.formats.scene.polygons import triangles_from_polygons, vertices_from_corners
from scenes import picture

SQUARE = "v 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nvt 0 0\nvt 1 0\nvt 1 1\nvt 0 1\nvn 0 0 1\n"


def raw_mesh(content, suffix, name="mesh"):
    """The bare mesh as the reader hands it on: places, triangles, materials."""
    from importlib import import_module

    from fairswap.formats import files

    kept = {}
    module = import_module(files.FORMATS[suffix].module + ".reading")
    original = module.document_from_container

    def catching(container, **more):
        kept["it"] = container
        return original(container, **more)

    module.document_from_container = catching
    try:
        fairswap.load(content, format=suffix) if isinstance(content, bytes) else fairswap.load(content)
    finally:
        module.document_from_container = original
    container = kept["it"]
    rows = container.document.meshes[0].primitives
    places = floats_from_accessor(container, rows[0].attributes["POSITION"], "test", 3)
    faces = [floats_from_accessor(container, row.indices, "test", 1).astype(int).reshape(-1, 3) for row in rows]
    return places, np.concatenate(faces), container


def test_an_object_comes_with_its_faces_coordinates_and_materials():
    Path("a.png").write_bytes(picture())
    Path("a.mtl").write_text("newmtl skin\nKd 1 0 0\nmap_Kd a.png\nnewmtl glass\nKd 0 0 1\nd 0.5\n")
    Path("a.obj").write_text(
        f"mtllib a.mtl\no cloak\n{SQUARE}usemtl skin\nf 1/1/1 2/2/1 3/3/1 4/4/1\nusemtl glass\nf -4//-1 -2//-1 -1//-1\n"
    )
    places, faces, container = raw_mesh("a.obj", ".obj")
    assert (len(places), len(faces)) == (4, 3)
    assert container.document.nodes[0].name == "cloak"
    first, second = container.raw["materials"]
    assert first["pbrMetallicRoughness"]["baseColorFactor"] == [1.0, 1.0, 1.0, 1.0]  # its picture says the colour
    assert (second["alphaMode"], second["pbrMetallicRoughness"]["baseColorFactor"]) == ("BLEND", [0.0, 0.0, 1.0, 0.5])
    assert set(fairswap.load("a.obj").files) == {"a.obj", "a.mtl", "a.png"}
    found = fairswap.inspect("a.obj")
    assert (found.format, [row.name for row in found.beside]) == ("Wavefront OBJ", ["cloak"])
    assert found.findings[-1].code == "no-figure"


def test_ply_as_text_and_binary_of_both_orders_holds_the_same():
    points = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0.5]])
    places = "".join(f"property float {axis}\n" for axis in "xyz")
    colors = "".join(f"property uchar {name}\n" for name in ("red", "green", "blue"))
    faces = "element face 2\nproperty list uchar int vertex_indices\n"
    head = "ply\nformat {} 1.0\nelement vertex 4\n" + places + colors + faces + "end_header\n"
    text = "".join(f"{x} {y} {z} 255 0 51\n" for x, y, z in points) + "3 0 1 2\n4 0 1 2 3\n"
    files = [head.format("ascii").encode() + text.encode()]
    for name, order in (("binary_little_endian", "<"), ("binary_big_endian", ">")):
        body = b"".join(struct.pack(f"{order}3f3B", *row, 255, 0, 51) for row in points)
        body += struct.pack(f"{order}B3i", 3, 0, 1, 2) + struct.pack(f"{order}B4i", 4, 0, 1, 2, 3)
        files.append(head.format(name).encode() + body)
    for content in files:
        places, faces, container = raw_mesh(content, ".ply")
        assert places == pytest.approx(points)
        assert faces.tolist() == [[0, 1, 2], [0, 1, 2], [0, 2, 3]]
        colors = floats_from_accessor(
            container, container.document.meshes[0].primitives[0].attributes["COLOR_0"], "x", 3
        )
        assert colors[0] == pytest.approx([1.0, 0.0, 0.2])


@pytest.mark.parametrize(
    ("content", "suffix", "told"),
    [
        (b"v 0 0 0\nv 1 0 0\nl 1 2\n", ".obj", "no faces"),
        (b"v 0 0 0\nv 1 0 0\nv 1 1 0\nf 1 2 9\n", ".obj", "names v 9 of 3"),
        (b"v 0 0 0\nf 0 1 2\n", ".obj", "names a point that is not there"),
        (b"v 0 x 0\nv 1 0 0\nv 1 1 0\nf 1 2 3\n", ".obj", "is not valid"),
        (b"v 0 1e30 0\nv 1 0 0\nv 1 1 0\nf 1 2 3\n", ".obj", "beyond all sizes"),
        (b"nothing\n", ".ply", "first line is not 'ply'"),
        (b"ply\nformat ascii 1.0\nelement vertex 99999999\nend_header\n", ".ply", "more than the file holds"),
        (b"ply\nformat odd 1.0\nend_header\n", ".ply", "its header says"),
        (b"ply\nformat ascii 1.0\nelement vertex 1\nproperty float x\nproperty float y\nproperty float z\n"
         b"end_header\n0 0 0\n", ".ply", "no faces"),
        (b"ply\nformat ascii 1.0\nelement vertex 2\nproperty float x\nproperty float y\nproperty float z\n"
         b"end_header\n0 0 0\n", ".ply", "ends, or is damaged"),
    ],
)  # fmt: skip
def test_what_is_no_mesh_is_refused_with_its_reason(content, suffix, told):
    with pytest.raises(fairswap.InputError, match=told):
        fairswap.load(content, format=suffix)


def area_of(corners, triangles):
    a, b, c = (corners[triangles[:, at]] for at in range(3))
    return np.cross(b - a, c - a) / 2.0


@given(st.integers(3, 24), st.integers(0, 10**6))
@settings(max_examples=60, deadline=None)
def test_hollow_polygons_are_covered_once_by_their_triangles(count, seed):
    """A star-shaped ring of any radii, turned at random: the triangles' areas sum up to its own, none turned over."""
    rng = np.random.default_rng(seed)
    angles = np.linspace(0, 2 * np.pi, count, endpoint=False)
    radii = rng.uniform(0.2, 1.0, count)
    flat = np.c_[radii * np.cos(angles), radii * np.sin(angles), np.zeros(count)]
    turn, _ = np.linalg.qr(rng.normal(size=(3, 3)))
    corners = flat @ turn.T
    triangles, owner = triangles_from_polygons(corners, np.array([count]))
    assert (len(triangles), set(owner.tolist())) == (count - 2, {0})
    whole = np.cross(corners, np.roll(corners, -1, axis=0)).sum(axis=0) / 2.0
    parts = area_of(corners, triangles)
    assert parts.sum(axis=0) == pytest.approx(whole, abs=1e-9)
    assert (parts @ whole >= -1e-9).all()


@given(st.integers(1, 60), st.integers(0, 10**6))
@settings(max_examples=60, deadline=None)
def test_corners_become_as_many_vertices_as_they_differ(count, seed):
    rng = np.random.default_rng(seed)
    columns = [rng.integers(0, 5, count) for _ in range(3)]
    rows, vertex = vertices_from_corners(columns)
    for column, row in zip(columns, rows, strict=True):
        assert np.array_equal(row[vertex], column)
    assert len(rows[0]) == len(set(zip(*(column.tolist() for column in columns), strict=True)))
