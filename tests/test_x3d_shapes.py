"""Shapes of X3D: a block written in each way of the standard is one block; faces, colours and materials of shapes."""

from dataclasses import replace

import numpy as np
import pytest

import fairswap
from judging import validated

# A block of 0.2 x 0.4 x 0.1, and the four corners of each side, against the clock from outside.
SIZE = (0.2, 0.4, 0.1)
CORNERS = np.array([[x, y, z] for x in (-0.1, 0.1) for y in (-0.2, 0.2) for z in (-0.05, 0.05)])
SIDES = [[0, 1, 3, 2], [4, 6, 7, 5], [0, 4, 5, 1], [2, 3, 7, 6], [0, 2, 6, 4], [1, 5, 7, 3]]
HALVES = [[row[a], row[b], row[c]] for row in SIDES for a, b, c in ((0, 1, 2), (0, 2, 3))]


def words(values):
    return " ".join(f"{value:g}" for value in np.ravel(values))


def points(rows=CORNERS, more=""):
    return f'<Coordinate point="{words(rows)}"/>{more}'


def listed(rows):
    return words([[*row, -1] for row in rows])


def strip(row):
    """The corners of a side, in the order of a strip of two triangles."""
    return [row[0], row[1], row[3], row[2]]


def of_sides(order=tuple):
    return CORNERS[[corner for side in SIDES for corner in order(side)]]


WAYS = {
    "Box": f'<Box size="{words(SIZE)}"/>',
    "IndexedFaceSet": f'<IndexedFaceSet coordIndex="{listed(SIDES)}">{points()}</IndexedFaceSet>',
    "IndexedFaceSet, last one open": f'<IndexedFaceSet coordIndex="{listed(SIDES)[:-3]}">{points()}</IndexedFaceSet>',
    "IndexedFaceSet, with the clock": f'<IndexedFaceSet ccw="false" coordIndex="{listed([s[::-1] for s in SIDES])}">'
    f"{points()}</IndexedFaceSet>",
    "IndexedTriangleSet": f'<IndexedTriangleSet index="{words(HALVES)}">{points()}</IndexedTriangleSet>',
    "TriangleSet": f"<TriangleSet>{points(CORNERS[np.ravel(HALVES)])}</TriangleSet>",
    "IndexedQuadSet": f'<IndexedQuadSet index="{words(SIDES)}">{points()}</IndexedQuadSet>',
    "QuadSet": f"<QuadSet>{points(of_sides())}</QuadSet>",
    "IndexedTriangleStripSet": f'<IndexedTriangleStripSet index="{listed(map(strip, SIDES))}">{points()}'
    "</IndexedTriangleStripSet>",
    "TriangleStripSet": f'<TriangleStripSet stripCount="{words([4] * 6)}">{points(of_sides(strip))}</TriangleStripSet>',
    "IndexedTriangleFanSet": f'<IndexedTriangleFanSet index="{listed(SIDES)}">{points()}</IndexedTriangleFanSet>',
    "TriangleFanSet": f'<TriangleFanSet fanCount="{words([4] * 6)}">{points(of_sides())}</TriangleFanSet>',
    "CoordinateDouble": f'<IndexedQuadSet index="{words(SIDES)}"><CoordinateDouble point="{words(CORNERS)}"/>'
    "</IndexedQuadSet>",
}


def scene(geometry, appearance=""):
    return f"""<X3D profile="Full" version="4.0"><Scene><HAnimHumanoid DEF="h" name="Wick" version="2.0">
     <HAnimJoint name="humanoid_root" center="0 1 0" containerField="skeleton">
      <HAnimJoint name="l_hip" center="0.1 0.9 0"><HAnimSegment name="l_thigh"><Shape>{appearance}{geometry}</Shape>
      </HAnimSegment><HAnimJoint name="l_knee" center="0.1 0.5 0"/></HAnimJoint>
     </HAnimJoint></HAnimHumanoid></Scene></X3D>""".encode()


def mesh_of(geometry, appearance=""):
    (mesh,) = fairswap.load(scene(geometry, appearance), format=".x3d").figure.meshes
    return mesh


def volume_and_area(mesh):
    """By the divergence theorem: a volume is positive only if every side looks outward."""
    a, b, c = (mesh.vertices[mesh.triangles[:, corner]] for corner in range(3))
    cross = np.cross(b - a, c - a)
    return np.einsum("ij,ij->", a, cross) / 6.0, np.linalg.norm(cross, axis=1).sum() / 2.0


@pytest.mark.parametrize("way", WAYS)
def test_one_block_written_in_every_way_is_one_block(way):
    mesh = mesh_of(WAYS[way])
    volume, area = volume_and_area(mesh)
    assert volume == pytest.approx(np.prod(SIZE), rel=1e-5)
    assert area == pytest.approx(2 * (0.2 * 0.4 + 0.4 * 0.1 + 0.1 * 0.2), rel=1e-5)
    assert len(mesh.triangles) == 12
    # It lies around the origin of its humanoid, not of the joint that holds it.
    assert np.allclose(mesh.vertices.min(axis=0), CORNERS[0], atol=1e-6)


@pytest.mark.parametrize(
    ("body", "volume"),
    [
        ('<Sphere radius="0.3"/>', 4.0 / 3.0 * np.pi * 0.027),
        ('<Cylinder radius="0.3" height="0.5"/>', np.pi * 0.09 * 0.5),
        ('<Cone bottomRadius="0.3" height="0.5"/>', np.pi * 0.09 * 0.5 / 3.0),
    ],
)
def test_plain_bodies_are_as_large_as_they_say(body, volume):
    mesh = mesh_of(body)
    found, _ = volume_and_area(mesh)
    assert found == pytest.approx(volume, rel=0.05)
    assert found < volume  # cut by flat faces
    assert np.allclose(mesh.vertices.max(axis=0)[[0, 2]], 0.3, atol=0.01)
    assert np.allclose(np.linalg.norm(mesh.normals, axis=1), 1.0, atol=1e-5)
    out = mesh.vertices / np.linalg.norm(mesh.vertices, axis=1, keepdims=True)
    assert np.einsum("ij,ij->i", mesh.normals, out).min() > 0.2
    for row in mesh.triangles:
        assert volume_and_area(replace(mesh, triangles=row[None]))[1] > 1e-6  # none without an area


def seen(mesh):
    """The colour and the outward side of each triangle."""
    first = mesh.triangles[:, 0]
    colors, normals = mesh.more["COLOR_0"][first, :3].round(3), mesh.normals[first].round(3)
    return [(tuple(a), tuple(b)) for a, b in zip(colors.tolist(), normals.tolist(), strict=True)]


PALETTE = np.array([[1, 0, 0], [0, 1, 0], [0, 0, 1], [1, 1, 0], [0, 1, 1], [1, 0, 1]], dtype=float)
OUTWARD = np.array([[-1, 0, 0], [1, 0, 0], [0, -1, 0], [0, 1, 0], [0, 0, -1], [0, 0, 1]], dtype=float)


@pytest.mark.parametrize("turned", [False, True], ids=["in order", "by index"])
def test_each_face_has_its_own_colour_and_normal(turned):
    order = np.arange(6)[::-1] if turned else np.arange(6)
    by_index = f'colorIndex="{words(order)}" normalIndex="{words(order)}"' if turned else ""
    inner = f'<Color color="{words(PALETTE[order])}"/><Normal vector="{words(OUTWARD[order])}"/>'
    mesh = mesh_of(
        f'<IndexedFaceSet colorPerVertex="false" normalPerVertex="false" coordIndex="{listed(SIDES)}" {by_index}>'
        f"{points(more=inner)}</IndexedFaceSet>"
    )
    expected = [(tuple(PALETTE[side].tolist()), tuple(OUTWARD[side].tolist())) for side in range(6) for _ in range(2)]
    assert sorted(seen(mesh)) == sorted(expected)


def test_corners_have_colours_with_their_opacity_and_texture_places_from_below():
    shades = np.c_[np.linspace(0, 1, 8), np.zeros(8), np.ones(8), np.linspace(1, 0.3, 8)]
    uvs = np.c_[np.linspace(0, 1, 8), np.linspace(0, 0.7, 8)]
    inner = f'<ColorRGBA color="{words(shades)}"/><TextureCoordinate point="{words(uvs)}"/>'
    mesh = mesh_of(f'<IndexedQuadSet index="{words(SIDES)}">{points(more=inner)}</IndexedQuadSet>')
    for place, color, uv in zip(mesh.vertices, mesh.more["COLOR_0"], mesh.uvs, strict=True):
        corner = int(np.argmin(np.linalg.norm(CORNERS - place, axis=1)))
        assert color == pytest.approx(shades[corner], abs=1e-3)
        assert uv == pytest.approx([uvs[corner, 0], 1.0 - uvs[corner, 1]], abs=1e-5)


def test_materials_of_the_three_kinds():
    def made(material, more=""):
        return mesh_of(WAYS["Box"], f"<Appearance {more}>{material}</Appearance>").materials[0]

    plain = made('<Material diffuseColor="0.1 0.2 0.3" emissiveColor="0 0.5 0" transparency="0.25"/>')
    assert plain.color[:3] == pytest.approx((0.1, 0.2, 0.3))
    assert plain.alpha == pytest.approx(0.75)
    real = made('<PhysicalMaterial baseColor="0.4 0.5 0.6" roughness="0.3" metallic="0.7"/>', 'alphaMode="MASK"')
    assert real.color[:3] == pytest.approx((0.4, 0.5, 0.6))
    flat = made('<UnlitMaterial emissiveColor="0.9 0.8 0.7"/>')
    assert flat.color[:3] == pytest.approx((0.9, 0.8, 0.7))


@pytest.mark.parametrize(
    ("geometry", "told"),
    [
        (f'<IndexedFaceSet coordIndex="0 1 8 -1">{points()}</IndexedFaceSet>', "number 8 of 8 points"),
        (f'<IndexedTriangleSet index="0 1 99">{points()}</IndexedTriangleSet>', "number 99 of 8 points"),
        (f'<TriangleStripSet stripCount="9">{points()}</TriangleStripSet>', "counts do not add up"),
        (f'<TriangleFanSet fanCount="5 -1">{points()}</TriangleFanSet>', "counts do not add up"),
        (
            f'<IndexedFaceSet coordIndex="{listed(SIDES)}" texCoordIndex="0 1 2 -1">'
            f"{points(more='<TextureCoordinate point=' + chr(34) + '0 0 1 1 0 1' + chr(34) + '/>')}</IndexedFaceSet>",
            "3 corners of 24",
        ),
        (
            f'<IndexedFaceSet coordIndex="{listed(SIDES)}" colorPerVertex="false" colorIndex="0 1">'
            f"{points(more='<Color color=' + chr(34) + '0 0 1 1 0 1' + chr(34) + '/>')}</IndexedFaceSet>",
            "one for each face",
        ),
    ],
)
def test_counts_and_numbers_that_do_not_fit_are_one_clear_message(geometry, told):
    with pytest.raises(fairswap.InputError, match=told) as caught:
        fairswap.load(scene(geometry), format=".x3d")
    assert "Set" in str(caught.value)  # where in the file


@pytest.mark.parametrize("given", ["none", "zero"])
def test_triangles_without_an_area_and_normals_that_say_nothing_are_written_as_a_file_may_hold_them(given):
    rows = np.vstack([CORNERS, [[0.5, 0.5, 0.5], [0.6, 0.6, 0.6], [0.7, 0.7, 0.7]]])
    normals = f'<Normal vector="{words(np.zeros((11, 3)))}"/>' if given == "zero" else ""
    mixed = f'<IndexedTriangleSet index="{words(HALVES)} 8 9 10 8 8 9">{points(rows, normals)}</IndexedTriangleSet>'
    figure = fairswap.load(scene(mixed), format=".x3d").figure
    fairswap.save("as-read.glb", figure)
    fairswap.save("built.glb", replace(figure, source=None))
    for report in validated("as-read.glb", "built.glb"):
        assert report["errors"] == 0, report
    again = fairswap.load("as-read.glb").figure.meshes[0]
    sides = again.normals[np.ravel(again.triangles[:12])]
    out = again.vertices[np.ravel(again.triangles[:12])]
    assert np.einsum("ij,ij->i", sides, out).min() > 0.0
