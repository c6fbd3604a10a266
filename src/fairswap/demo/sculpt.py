"""Sculpt a member of the troupe: rounded shapes, smoothly joined, meshed once, painted, and weighted to the bones.

Run by ``make troupe``; what comes out is shipped under ``data/troupe``. Needs the ``sculpt`` extra.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from io import BytesIO

import numpy as np

from fairswap.demo.anatomy import Body
from fairswap.model.arrays import Floats, Integers
from fairswap.model.mesh import Material, Mesh, vertex_normals
from fairswap.model.rotation import matrix_from_quaternion, normalized
from fairswap.picture.raster import covered_pixels

_CELL_M = 0.0055
_MARGIN_M = 0.05
_TEXTURE = 1024
_SMOOTHINGS = 9

Paint = Callable[[Floats, Floats], Floats]


@dataclass(frozen=True)
class Shape:
    """A cone with round ends from ``a`` to ``b``, flattened by ``squash``; ``bones`` are those it may hang on.

    Shapes of one ``group`` melt into each other over ``blend`` metres; groups are then joined more sharply.
    """

    a: tuple[float, float, float]
    b: tuple[float, float, float]
    radius_a: float
    radius_b: float
    bones: tuple[str, ...]
    color: str
    group: str = "body"
    blend: float = 0.02
    squash: tuple[float, float, float] = (1.0, 1.0, 1.0)

    def mirrored(self) -> Shape:
        """The same on the right side."""

        def flip(point: tuple[float, float, float]) -> tuple[float, float, float]:
            return (-point[0], point[1], point[2])

        bones = tuple(
            bone.replace("_left", "_right").replace("Port", "Starboard") if "left" in bone or "Port" in bone
            else bone[:-2] + "_r" if bone.endswith("_l") else bone
            for bone in self.bones
        )  # fmt: skip
        group = self.group.replace("left", "right")
        return Shape(
            flip(self.a), flip(self.b), self.radius_a, self.radius_b, bones, self.color, group, self.blend, self.squash
        )

    def distance(self, points: Floats) -> Floats:
        """Signed distance, nearly: exact for round cones, a bound for flattened ones."""
        squash = np.array(self.squash)
        p, a, b = points / squash, np.array(self.a) / squash, np.array(self.b) / squash
        along = b - a
        length2 = float(along @ along)
        fraction = np.clip((p - a) @ along / length2, 0.0, 1.0) if length2 > 1e-12 else np.zeros(p.shape[:-1])
        radius = self.radius_a + (self.radius_b - self.radius_a) * fraction
        offset = p - a - fraction[..., None] * along
        return (np.sqrt(np.einsum("...i,...i->...", offset, offset)) - radius) * squash.min()

    def box(self) -> tuple[Floats, Floats]:
        """Corners of what it can touch."""
        reach = max(self.radius_a, self.radius_b) * np.array(self.squash) + self.blend + 0.02
        ends = np.array([self.a, self.b])
        return ends.min(axis=0) - reach, ends.max(axis=0) + reach


def sculpt(body: Body, shapes: list[Shape], paint: Paint, triangles: int) -> Mesh:
    """One closed mesh in the T-pose, with about ``triangles`` triangles, painted and weighted."""
    vertices, faces = surface_of_shapes(shapes, triangles)
    normals = vertex_normals(vertices, faces)
    joints, weights = _weights(body, shapes, vertices, faces)
    texture, corners, uvs, faces = _painted(vertices, normals, faces, paint)
    binds = np.tile(np.eye(4), (len(body.bones), 1, 1))
    inverse = matrix_from_quaternion(body.tpose).transpose(0, 2, 1)
    binds[:, :3, :3] = inverse
    binds[:, :3, 3] = -np.einsum("bij,bj->bi", inverse, body.places)
    return Mesh(
        name=f"{body.name} body",
        vertices=vertices[corners],
        normals=normals[corners],
        triangles=faces,
        joints=joints[corners],
        weights=weights[corners],
        bind_matrices=binds,
        uvs=uvs,
        materials=(Material(slice(0, len(faces)), np.ones(3), texture),),
    )


def surface_of_shapes(shapes: list[Shape], triangles: int, cell_m: float = _CELL_M) -> tuple[Floats, Integers]:
    """The closed surface around shapes, ``(n, 3)`` in metres and ``(m, 3)``, with about so many triangles."""
    import fast_simplification
    from skimage import measure as images

    field, origin = _field(shapes, cell_m)
    vertices, faces, _, _ = images.marching_cubes(field, 0.0, spacing=(cell_m,) * 3)
    vertices, faces = vertices.astype(np.float64) + origin, faces.astype(np.int64)
    if triangles < len(faces):
        vertices, faces = fast_simplification.simplify(
            vertices.astype(np.float32), faces.astype(np.int32), target_count=triangles, agg=4
        )
    vertices, faces = np.asarray(vertices, dtype=np.float64), np.asarray(faces, dtype=np.intp)
    vertices, faces = _largest_piece(vertices, faces)
    if _volume(vertices, faces) < 0:
        faces = faces[:, ::-1]
    return vertices, faces


def nearest_shape(shapes: list[Shape], points: Floats) -> Integers:
    """The shape that each point lies on."""
    best = np.full(len(points), np.inf)
    which = np.zeros(len(points), dtype=np.intp)
    for index, shape in enumerate(shapes):
        distance = shape.distance(points)
        nearer = distance < best
        best[nearer], which[nearer] = distance[nearer], index
    return which


def skin_depth(shapes: Sequence[Shape], x: Floats, y: Floats, furthest: float) -> Floats:
    """How far ahead (z) the surface of shapes lies at places seen from the front, ``furthest`` at most."""
    z = np.linspace(0.0, furthest, 141)
    points = np.stack(np.broadcast_arrays(x[:, None], y[:, None], z[None]), axis=-1)
    field = np.full(points.shape[:2], 0.2)
    for shape in shapes:
        field = _smooth_union(field, shape.distance(points), shape.blend)
    inside = field < 0.0
    last = np.where(inside.any(axis=1), len(z) - 1 - np.argmax(inside[:, ::-1], axis=1), 0)
    after = np.minimum(last + 1, len(z) - 1)
    rows = np.arange(len(x))
    here, there = field[rows, last], field[rows, after]
    step = np.where(there > here, np.clip(-here / np.where(there > here, there - here, 1.0), 0.0, 1.0), 0.0)
    return np.asarray(z[last] + step * (z[after] - z[last]))


def _field(shapes: list[Shape], cell_m: float) -> tuple[Floats, Floats]:
    """Signed distances on a grid, group by group, and the grid's first corner."""
    low = np.min([shape.box()[0] for shape in shapes], axis=0) - _MARGIN_M
    high = np.max([shape.box()[1] for shape in shapes], axis=0) + _MARGIN_M
    counts = np.ceil((high - low) / cell_m).astype(int)
    axes = [low[i] + cell_m * np.arange(counts[i]) for i in range(3)]
    groups: dict[str, Floats] = {}
    for shape in shapes:
        field = groups.setdefault(shape.group, np.full(counts, 0.2, dtype=np.float32))
        start, stop = ((corner - low) / cell_m for corner in shape.box())
        window = tuple(slice(max(int(a), 0), min(int(b) + 2, n)) for a, b, n in zip(start, stop, counts, strict=True))
        grid = np.stack(np.meshgrid(*(axis[w] for axis, w in zip(axes, window, strict=True)), indexing="ij"), axis=-1)
        field[window] = _smooth_union(field[window], shape.distance(grid).astype(np.float32), shape.blend)
    out = np.full(counts, 0.2, dtype=np.float32)
    for field in groups.values():
        out = _smooth_union(out, field, 0.012)
    return out, low


def _smooth_union(a: Floats, b: Floats, blend: float) -> Floats:
    """The union with a fillet: the quadratic smooth minimum (Quílez)."""
    h = np.maximum(blend - np.abs(a - b), 0.0) / blend
    return np.minimum(a, b) - h * h * blend * 0.25


def _largest_piece(vertices: Floats, faces: Integers) -> tuple[Floats, Integers]:
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components

    pairs = np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]]])
    graph = coo_matrix((np.ones(len(pairs)), pairs.T), shape=(len(vertices),) * 2)
    _, label = connected_components(graph, directed=False)
    keep = label == np.argmax(np.bincount(label))
    number = np.cumsum(keep) - 1
    return vertices[keep], number[faces[keep[faces[:, 0]]]]


def _volume(vertices: Floats, faces: Integers) -> float:
    a, b, c = vertices[faces.T]
    return float(np.einsum("ni,ni->", a, np.cross(b, c)))


def _weights(body: Body, shapes: list[Shape], vertices: Floats, faces: Integers) -> tuple[Integers, Floats]:
    """Each vertex starts on the nearest bone of those of its shape; then weights spread over the surface."""
    from scipy.sparse import coo_matrix, diags

    owner = nearest_shape(shapes, vertices)
    matrix = np.zeros((len(vertices), len(body.bones)))
    for index, shape in enumerate(shapes):
        rows = np.flatnonzero(owner == index)
        bones = np.array([body.index[bone] for bone in shape.bones])
        distance = np.stack([_to_segment(vertices[rows], body.places[b], body.tips[b]) for b in bones], axis=1)
        matrix[rows, bones[np.argmin(distance, axis=1)]] = 1.0
    # Cloth over the legs goes halfway with them, else they come through it.
    for side in "lr":
        thigh = body.index[f"upper_leg_{'left' if side == 'l' else 'right'}"]
        for i, bone in enumerate(body.bones):
            if bone.startswith("coat_tail") and bone.endswith(side):
                matrix[:, thigh] += 0.55 * matrix[:, i]
                matrix[:, i] *= 0.45
    pairs = np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]])
    pairs = np.concatenate([pairs, pairs[:, ::-1]])
    graph = coo_matrix((np.ones(len(pairs)), pairs.T), shape=(len(vertices),) * 2).tocsr()
    graph.data[:] = 1.0
    mean = diags(1.0 / np.maximum(np.asarray(graph.sum(axis=1)).ravel(), 1.0)) @ graph
    for _ in range(_SMOOTHINGS):
        matrix = 0.5 * matrix + 0.5 * (mean @ matrix)
    order = np.argsort(-matrix, axis=1, kind="stable")[:, :4]
    weights = np.take_along_axis(matrix, order, axis=1)
    weights[weights < 0.01] = 0.0
    return order.astype(np.intp), weights / weights.sum(axis=1, keepdims=True)


def _to_segment(points: Floats, a: Floats, b: Floats) -> Floats:
    along = b - a
    fraction = np.clip((points - a) @ along / max(float(along @ along), 1e-12), 0.0, 1.0)
    return np.linalg.norm(points - a - fraction[:, None] * along, axis=1)


def _painted(
    vertices: Floats, normals: Floats, faces: Integers, paint: Paint
) -> tuple[bytes, Integers, Floats, Integers]:
    """Unwrap, and paint each texel by the place on the body it shows."""
    import xatlas
    from PIL import Image

    atlas = xatlas.Atlas()
    atlas.add_mesh(vertices.astype(np.float32), faces.astype(np.uint32), normals.astype(np.float32))
    options = xatlas.PackOptions()
    options.resolution = _TEXTURE
    options.padding = 3
    options.bruteForce = False
    atlas.generate(pack_options=options)
    corners, new_faces, uvs = atlas[0]
    corners, new_faces = corners.astype(np.intp), new_faces.astype(np.intp)
    image = np.zeros((_TEXTURE, _TEXTURE, 3))
    filled = np.zeros((_TEXTURE, _TEXTURE), dtype=bool)
    place, normal = vertices[corners], normals[corners]
    texels = covered_pixels(uvs.astype(np.float64)[new_faces] * _TEXTURE, _TEXTURE, _TEXTURE, grow=0.05)
    for x, y, fraction, face in texels:
        where = np.einsum("nk,nki->ni", fraction, place[new_faces[face]])
        facing = normalized(np.einsum("nk,nki->ni", fraction, normal[new_faces[face]]))
        image[y, x] = paint(where, facing)
        filled[y, x] = True
    for _ in range(4):  # bleed over the seams
        for axis, step in ((0, 1), (0, -1), (1, 1), (1, -1)):
            neighbour, known = np.roll(image, step, axis), np.roll(filled, step, axis)
            new = known & ~filled
            image[new] = neighbour[new]
            filled |= new
    picture = Image.fromarray((np.clip(image, 0, 1) * 255).round().astype(np.uint8))
    out = BytesIO()
    picture.quantize(160, method=Image.Quantize.MEDIANCUT, dither=Image.Dither.NONE).save(out, "PNG", optimize=True)
    return out.getvalue(), corners, uvs.astype(np.float64), new_faces
