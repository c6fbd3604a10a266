"""Put a figure in one pose before a viewer: front or side, skinned and shaded, or as bones where it has no mesh."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from copy import copy
from functools import cached_property

import numpy as np

from fairswap.bones.roles import side_of
from fairswap.errors import InputError
from fairswap.formats.images import opened_image
from fairswap.model.arrays import Floats, Integers
from fairswap.model.caching import kept_with_its_argument
from fairswap.model.figure import Figure
from fairswap.model.mesh import Material, Mesh, vertex_normals
from fairswap.model.poses import Poses
from fairswap.model.rotation import normalized
from fairswap.model.skeleton import WorldTransforms
from fairswap.picture.raster import Canvas, Singles, Surface

# Rows are the viewer's right, up, and towards us. From the side we see the figure's right, facing to our right.
VIEWS = {
    "front": np.array([[1.0, 0, 0], [0, 1, 0], [0, 0, 1]]),
    "side": np.array([[0.0, 0, 1], [0, 1, 0], [-1, 0, 0]]),
}
_STAYS_M, _MIDDLE_M = 1e-7, 0.01
LEFT, RIGHT, MIDDLE = (0.85, 0.45, 0.10), (0.12, 0.42, 0.78), (0.25, 0.25, 0.28)


class View:
    """A camera without perspective: ``centre`` (metres) is seen at pixel ``at``, with ``scale`` pixels a metre."""

    def __init__(self, name: str, centre: Floats, at: tuple[float, float], scale: float) -> None:
        self.axes = VIEWS[name]
        self.centre, self.at, self.scale = centre, np.array(at), scale

    def pixels(self, points: Floats) -> tuple[Floats, Floats]:
        """Pixels ``(n, 2)`` and depths ``(n,)``, nearer is larger."""
        seen = (points - self.centre) @ self.axes.T
        return self.at + seen[:, :2] * [self.scale, -self.scale], seen[:, 2]

    def moved(self, right: float, down: float) -> View:
        """The same camera, with all that it sees so many pixels further right and down."""
        out = copy(self)
        out.at = self.at + [right, down]
        return out


class Stance:
    """A figure in one pose of some, and the bones of its roles where they are known. Its skin is worked out once,
    however often it is drawn."""

    def __init__(
        self, figure: Figure, world: WorldTransforms, frame: int = 0, poses: Poses | None = None,
        roles: Mapping[str, int] | None = None,
    ) -> None:  # fmt: skip
        self.figure, self.world, self.frame, self.poses, self.roles = figure, world, frame, poses, roles

    @cached_property
    def sides(self) -> list[str]:
        """The side that each bone is on, ``left``, ``right`` or nothing: that of its role, or of what it hangs on; by
        where it rests where no roles are known."""
        skeleton = self.figure.skeleton
        if self.roles is None:
            across = skeleton.rest.position_tracks[:, 0, 0].tolist()
            return ["" if abs(x) < _MIDDLE_M else "left" if x > 0.0 else "right" for x in across]
        role_of, found = {bone: role for role, bone in self.roles.items()}, list[str]()
        for bone, parent in enumerate(skeleton.parents.tolist()):
            found.append(side_of(role_of[bone]) if bone in role_of else found[parent] if parent >= 0 else "")
        return found

    @cached_property
    def vertices(self) -> list[Floats]:
        """The vertices ``(n, 3)`` of each mesh, metres."""
        return self.figure.skin(self.world, self.frame, self.poses)

    @cached_property
    def normals(self) -> list[Floats]:
        """Which way the skin looks at each of them."""
        return [_seamless_normals(*pair) for pair in zip(self.vertices, self.figure.meshes, strict=True)]


def draw_figure(
    canvas: Canvas, view: View, stance: Stance, bones: frozenset[int], painted: Sequence[Floats] | None = None
) -> None:
    """Draw the meshes of a figure; without meshes, the given bones as solid rods.

    ``painted`` are colours of the triangles of each mesh, ``(m, 3)``, to be shown instead of its materials.
    """
    figure = stance.figure
    for number, mesh in enumerate(figure.meshes):
        pixels, depth = view.pixels(stance.vertices[number])
        normals = stance.normals[number] @ view.axes.T
        if painted is not None:
            canvas.draw(pixels, depth, normals, mesh.triangles, painted[number])
            continue
        colors = np.zeros((len(mesh.triangles), 3))
        for material in mesh.materials:
            colors[material.triangles] = np.clip(material.color, 0, 1) ** (1 / 2.2)
        surfaces = [_surface_of(material) for material in mesh.materials]
        canvas.draw(pixels, depth, normals, mesh.triangles, colors, mesh.shown_uvs, surfaces)
    canvas.blend()
    if not figure.meshes:
        vertices, triangles, colors = _rods(stance, bones)
        pixels, depth = view.pixels(vertices)
        canvas.draw(pixels, depth, vertex_normals(vertices, triangles) @ view.axes.T, triangles, colors)


def changed_box(
    figure: Figure, view: View, before: Sequence[Floats], after: Sequence[Floats], width: int, height: int
) -> tuple[int, int, int, int] | None:
    """Where a picture of this size changes with the skin: left, top, right and bottom in pixels; None if nowhere.

    Of a figure without meshes it is all of it.
    """
    if not figure.meshes:
        return 0, 0, width, height
    corners = [np.zeros((0, 2))]
    for mesh, old, new in zip(figure.meshes, before, after, strict=True):
        group = _same_places(mesh)
        moved = np.abs(new - old).max(axis=1) > _STAYS_M
        for _ in range(2):  # with what moves the light changes on the triangles around, and on those around them
            moved[mesh.triangles[moved[mesh.triangles].any(axis=1)]] = True
            moved = (np.bincount(group, moved) > 0.0)[group]
        corners += [view.pixels(points[moved])[0] for points in (old, new)]
    pixels = np.concatenate(corners)
    if not len(pixels):
        return None
    low = np.clip(np.floor(pixels.min(axis=0)) - 1, 0, [width, height]).astype(int)
    high = np.clip(np.ceil(pixels.max(axis=0)) + 1, 0, [width, height]).astype(int)
    return (*low.tolist(), *high.tolist()) if (high > low).all() else None


def bone_lines(stance: Stance, bones: frozenset[int]) -> list[tuple[Floats, Floats, str]]:
    """Each of ``bones`` as a line from the one it hangs on, with the side it is on: ``left``, ``right`` or nothing."""
    skeleton = stance.figure.skeleton
    places = stance.world.position_tracks[:, :, stance.frame]
    lines = []
    for bone in sorted(bones):
        parent = int(skeleton.parents[bone])
        while parent >= 0 and parent not in bones:
            parent = int(skeleton.parents[parent])
        if parent < 0 or (skeleton.parents[parent] < 0 and len(skeleton.children[parent]) == 1):
            continue  # from a root on the floor up to the hips is no bone
        lines.append((places[parent], places[bone], stance.sides[bone]))
    return lines


def _seamless_normals(vertices: Floats, mesh: Mesh) -> Floats:
    """Vertex normals with vertices at one place taken together, so that texture seams do not show as edges."""
    group = _same_places(mesh)
    merged = np.zeros((group.max() + 1, 3))
    raw = vertex_normals(vertices, mesh.triangles)
    for axis in range(3):
        merged[:, axis] = np.bincount(group, raw[:, axis])
    return normalized(merged)[group]


@kept_with_its_argument
def _same_places(mesh: Mesh) -> Integers:
    """Numbers that are equal for vertices of a mesh that stand at one place in its bind pose."""
    places = np.round(mesh.vertices * 1e5).astype(np.int64)
    return np.unique(places, axis=0, return_inverse=True)[1].ravel()


def _surface_of(material: Material) -> Surface:
    pictures = _pictures_of(material) if material.texture is not None else []
    return Surface(
        material.triangles, pictures, material.blending, material.alpha, material.cutoff, material.two_sided
    )  # fmt: skip


@kept_with_its_argument
def _pictures_of(material: Material) -> list[Singles]:
    """The colour picture of a material as ``(rows, columns, 4)`` in 0..1, and it in half the size, a quarter …; none of
    one that cannot be read."""
    try:
        with opened_image(material.texture or b"", "a material") as picture:
            sizes = [picture.convert("RGBA")]
    except InputError:  # packed for graphics cards, or damaged: its plain colour shows where the mesh is
        return []
    while min(sizes[-1].size) > 1:
        sizes.append(sizes[-1].reduce(2))
    return [np.asarray(size, dtype=np.float32) / np.float32(255.0) for size in sizes]


def _rods(stance: Stance, bones: frozenset[int]) -> tuple[Floats, Integers, Floats]:
    """Bones as six-sided spindles, coloured by side."""
    thick = 0.016 * stance.figure.height_m
    corners = np.arange(6) * np.pi / 3
    vertices: list[Floats] = []
    triangles: list[tuple[int, int, int]] = []
    colors: list[Floats] = []
    for start, end, side in bone_lines(stance, bones):
        along = end - start
        length = float(np.linalg.norm(along))
        if length < 1e-6:
            continue
        along = along / length
        across = normalized(np.cross(along, [1.0, 0.0, 0.0] if abs(along[0]) < 0.9 else [0.0, 1.0, 0.0]))
        ring = np.outer(np.cos(corners), across) + np.outer(np.sin(corners), np.cross(along, across))
        radius = min(thick, 0.22 * length)
        base = len(vertices) * 14
        rings = [
            start + along * min(radius, 0.3 * length) + ring * radius,
            end - along * 0.05 * length + ring * 0.45 * radius,
        ]
        vertices.append(np.concatenate([*rings, [start], [end]]))
        for k in range(6):
            n = (k + 1) % 6
            triangles += [(base + k, base + n, base + 6 + n), (base + k, base + 6 + n, base + 6 + k)]
            triangles += [(base + n, base + k, base + 12), (base + 6 + k, base + 6 + n, base + 13)]
        colors.append(np.broadcast_to({"left": LEFT, "right": RIGHT, "": (0.55, 0.55, 0.58)}[side], (14, 3)))
    if not vertices:
        return np.zeros((1, 3)), np.zeros((0, 3), dtype=np.intp), np.ones((1, 3))
    return np.concatenate(vertices), np.array(triangles, dtype=np.intp), np.concatenate(colors)
