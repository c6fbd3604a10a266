"""Triangles to pixels with a depth buffer, in NumPy: enough for small, shaded pictures without a graphics card.

In single precision: it is memory that drawing waits for, and a colour has eight bits.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, NamedTuple

import numpy as np
from numpy.typing import NDArray

from fairswap.model.arrays import Floats, Integers
from fairswap.model.mesh import Blending

if TYPE_CHECKING:
    from PIL.Image import Image

Singles = NDArray[np.float32]

# Directions towards the lights, in the viewer's frame (right, up, towards us), and how strong they are.
_LIGHTS = (
    (np.array([-0.45, 0.65, 0.62]), 0.62),
    (np.array([0.8, 0.15, 0.35]), 0.20),
    (np.array([0.1, 0.5, -0.8]), 0.16),
)
_AMBIENT = 0.34

_SIDES = np.array([1, 2, 3, 4, 5, 6, 8, 10, 13, 17, 24, 32, 48, 64, 96, 128, 256])


class Surface(NamedTuple):
    """How a run of triangles looks, beside its colours.

    ``pictures`` are its texture ``(rows, columns, 4)``, with opacity, and that at half the size, a quarter, and so on.
    """

    triangles: slice
    pictures: Sequence[Singles] = ()
    blending: Blending = "opaque"
    alpha: float = 1.0
    cutoff: float = 0.5
    two_sided: bool = False


class Fragments(NamedTuple):
    """Where triangles are seen: at which pixels, how near, which triangle, and the shares of its corners ``(n, 3)``."""

    pixel: Integers
    near: Singles
    face: Integers
    share: Singles

    def where(self, chosen: np.ndarray) -> Fragments:
        """Some of them."""
        return Fragments(*(part[chosen] for part in self))


class Glass(NamedTuple):
    """What is to be blended in: at which pixels, how near, colours ``(n, 3)`` and opacity."""

    pixel: Integers
    near: Singles
    color: Singles
    alpha: Singles

    def where(self, chosen: np.ndarray) -> Glass:
        """Some of it."""
        return Glass(*(part[chosen] for part in self))


@dataclass(eq=False)
class Canvas:
    """Colours ``(height, width, 3)`` in 0..1 and depths, larger is nearer; and what is to be blended over them."""

    color: Singles
    depth: Singles
    glass: list[Glass] = field(default_factory=list)

    @classmethod
    def blank(cls, width: int, height: int, color: tuple[float, float, float]) -> Canvas:
        picture = np.empty((height, width, 3), dtype=np.float32)
        picture[:] = np.array(color, dtype=np.float32)
        return cls(picture, np.full((height, width), -np.inf, dtype=np.float32))

    def draw(
        self, pixels: Floats, depth: Floats, normals: Floats, triangles: Integers, colors: Floats,
        uvs: Floats | None = None, surfaces: Sequence[Surface] = (),
    ) -> None:  # fmt: skip
        """Draw a mesh.

        ``pixels`` ``(n, 2)``, ``depth`` ``(n,)`` and ``normals`` ``(n, 3)`` are in the viewer's frame; ``colors`` is
        ``(n, 3)`` per vertex or ``(triangles, 3)`` per triangle, multiplied by the pictures of ``surfaces``, looked up
        at ``uvs``. What is blended shows once all is drawn and :meth:`blend` is called.
        """
        # A mesh is drawn on the part of the canvas that it covers: less memory to go through.
        size = np.array(self.depth.shape[::-1])
        low = np.clip(np.floor(pixels.min(axis=0, initial=np.inf)), 0, size).astype(int)
        high = np.clip(np.ceil(pixels.max(axis=0, initial=-np.inf)), low, size).astype(int)
        here = (slice(low[1], high[1]), slice(low[0], high[0]))
        part = Canvas(self.color[here].copy(), self.depth[here].copy())
        part._draw(_Drawn(pixels - low, depth, normals, triangles, colors, uvs, surfaces))
        self.color[here], self.depth[here] = part.color, part.depth
        for glass in part.glass:
            row, column = np.divmod(glass.pixel, part.depth.shape[1])
            self.glass.append(glass._replace(pixel=(row + low[1]) * size[0] + column + low[0]))

    def _draw(self, drawn: _Drawn) -> None:
        height, width = self.depth.shape
        # What is nearest at each pixel is found first, and only that is given its colour.
        nearest = np.full(height * width, -1, dtype=np.int32)
        shares = np.empty((height * width, 3), dtype=np.float32)
        depths = self.depth.reshape(-1)
        for found in drawn.fragments(drawn.solid, width, height):
            if drawn.cut:
                found = found.where(drawn.kept(found))
            nearer = np.flatnonzero(found.near > depths[found.pixel])
            np.maximum.at(depths, found.pixel[nearer], found.near[nearer])
            # Of several of this batch at one pixel only the nearest is as near as that pixel is now.
            nearer = nearer[found.near[nearer] == depths[found.pixel[nearer]]]
            pixel = found.pixel[nearer]
            nearest[pixel], shares[pixel] = found.face[nearer], found.share[nearer]
        seen = np.flatnonzero(nearest >= 0)
        self.color.reshape(-1, 3)[seen] = drawn.shaded(nearest[seen], shares[seen])[0]
        for found in drawn.fragments(drawn.glass, width, height):
            found = found.where(found.near > depths[found.pixel])
            self.glass.append(Glass(found.pixel, found.near, *drawn.shaded(found.face, found.share)))

    def fade(self, share: float, color: tuple[float, float, float]) -> None:
        """Let what is drawn so far pass into a colour, by this share of it."""
        self.color *= np.float32(1.0 - share)
        self.color += share * np.array(color, dtype=np.float32)

    def image(self) -> Image:
        """What is drawn, as a picture."""
        from PIL import Image

        shown = self.color * np.float32(255.0)
        return Image.fromarray(np.clip(shown, 0.0, 255.0, out=shown).astype(np.uint8))

    def blend(self) -> None:
        """Lay what is blended over what is solid and farther away: at each pixel from the farthest to the nearest."""
        if not self.glass:
            return
        found = Glass(*(np.concatenate(parts) for parts in zip(*self.glass, strict=True)))
        self.glass.clear()
        found = found.where(found.near > self.depth.reshape(-1)[found.pixel])
        found = found.where(np.lexsort((found.near, found.pixel)))
        starts = np.flatnonzero(np.diff(found.pixel, prepend=-1))
        layer = np.arange(len(found.pixel)) - np.repeat(starts, np.diff(starts, append=len(found.pixel)))
        color = self.color.reshape(-1, 3)
        for number in range(int(layer.max(initial=-1)) + 1):
            pixel, _, own, alpha = found.where(layer == number)
            color[pixel] += alpha[:, None] * (own - color[pixel])


class _Drawn:
    """A mesh as it is drawn: which triangles are seen, and what each shows where. ``solid`` and ``glass`` are those
    that hide what is behind them, and those that are blended over it."""

    def __init__(
        self, pixels: Floats, depth: Floats, normals: Floats, triangles: Integers, colors: Floats, uvs: Floats | None,
        surfaces: Sequence[Surface],
    ) -> None:  # fmt: skip
        self.pixels, self.triangles, self.surfaces = pixels, triangles, surfaces
        self.cut = any(surface.blending == "mask" for surface in surfaces)
        # Which way the triangles wind on the screen tells front from back (y runs down).
        a, b, c = pixels[triangles.T]
        self.winding = _cross(b - a, c - a)
        # Each triangle brings what its corners have: reading rows in a line is what makes this fast.
        light = np.stack([_lit(normals), _lit(-normals)])
        self.light = light[(self.winding >= 0).astype(np.intp)[:, None], triangles]
        self.depth = depth.astype(np.float32)[triangles]
        self.colors = colors.astype(np.float32)
        self.by_corner = len(colors) != len(triangles)
        if self.by_corner:
            self.colors = self.colors[triangles]
        self.uvs = None if uvs is None else uvs.astype(np.float32)[triangles]
        self.kind = np.zeros(len(triangles), dtype=np.intp)
        behind, blended = np.zeros((2, len(triangles)), dtype=bool)
        for number, surface in enumerate(surfaces):
            behind[surface.triangles], self.kind[surface.triangles] = surface.two_sided, number
            blended[surface.triangles] = surface.blending == "blend"
        shown = (self.winding < 0) | (behind & (self.winding > 0))
        self.solid, self.glass = np.flatnonzero(shown & ~blended), np.flatnonzero(shown & blended)
        self.levels = [_level(surface, pixels, triangles, uvs) for surface in surfaces]

    def fragments(self, faces: Integers, width: int, height: int) -> Iterator[Fragments]:
        """Where some of the triangles are, in batches."""
        for x, y, share, number in covered_pixels(self.pixels[self.triangles[faces]], width, height):
            face = faces[number]
            yield Fragments(y * width + x, _weighed(share, self.depth[face]), face, share)

    def kept(self, found: Fragments) -> np.ndarray:
        """Which of them are not cut out."""
        kept = np.ones(len(found.face), dtype=bool)
        for number, surface in enumerate(self.surfaces):
            if surface.blending == "mask":
                mine = np.flatnonzero(self.kind[found.face] == number)
                kept[mine] = self._seen(number, found.face[mine], found.share[mine])[:, 3] >= surface.cutoff
        return kept

    def shaded(self, face: Integers, share: Singles) -> tuple[Singles, Singles]:
        """Colours ``(n, 3)`` and opacity of places on triangles, lit."""
        color = _between(share, self.colors[face]) if self.by_corner else self.colors[face]
        color *= _weighed(share, self.light[face])[:, None]
        alpha = np.ones(len(face), dtype=np.float32)
        kind = self.kind[face]
        for number in np.unique(kind).tolist() if self.surfaces else ():
            mine = np.flatnonzero(kind == number)
            seen = self._seen(number, face[mine], share[mine])
            color[mine] *= seen[:, :3]
            alpha[mine] = seen[:, 3]
        return color, alpha

    def _seen(self, number: int, face: Integers, share: Singles) -> Singles:
        """What a surface multiplies colours with, and how solid it is ``(n, 4)``."""
        level, alpha = self.levels[number], self.surfaces[number].alpha
        if level is None or self.uvs is None:
            return np.array([[1.0, 1.0, 1.0, alpha]], dtype=np.float32)
        seen = _looked_up(level[0], _between(share, self.uvs[face]), level[1])
        seen[:, 3] *= alpha
        return seen


def _weighed(share: Singles, corners: Singles) -> Singles:
    """Numbers ``(n,)`` between those of three corners ``(n, 3)``."""
    return np.asarray(np.einsum("nk,nk->n", share, corners))


def _between(share: Singles, corners: Singles) -> Singles:
    """Values ``(n, width)`` between those of three corners ``(n, 3, width)``."""
    return np.asarray(np.einsum("nk,nki->ni", share, corners))


def _level(surface: Surface, pixels: Floats, triangles: Integers, uvs: Floats | None) -> tuple[Singles, bool] | None:
    """The picture of a surface in the size in which about one of its points falls on one pixel, and whether it is too
    small even so."""
    if not surface.pictures or uvs is None:
        return None
    own = triangles[surface.triangles].T
    (a, b, c), (u, v, w) = pixels[own], uvs[own]
    rows, columns = surface.pictures[0].shape[:2]
    points = np.abs(_cross(v - u, w - u)).sum() * rows * columns
    ratio = points / max(float(np.abs(_cross(b - a, c - a)).sum()), 1e-9)
    level = int(np.clip(0.5 * np.log2(max(ratio, 1e-9)), 0, len(surface.pictures) - 1))
    return surface.pictures[level], ratio < 1.0


def _looked_up(picture: Singles, uvs: Singles, between: bool) -> Singles:
    """The picture ``(rows, columns, 4)`` at places ``(n, 2)`` in it: its nearest points, or what is between them; it
    repeats beyond edges."""
    rows, columns = picture.shape[:2]
    flat = picture.reshape(-1, 4)
    x, y = uvs[:, 0] * np.float32(columns), uvs[:, 1] * np.float32(rows)
    if not between:
        return flat.take(np.floor(y).astype(np.intp) % rows * columns + np.floor(x).astype(np.intp) % columns, axis=0)
    x -= np.float32(0.5)
    y -= np.float32(0.5)
    left, top = np.floor(x).astype(np.intp), np.floor(y).astype(np.intp)
    right_share, low_share = (x - left)[:, None].astype(np.float32), (y - top)[:, None].astype(np.float32)
    left, right, top, low = left % columns, (left + 1) % columns, top % rows * columns, (top + 1) % rows * columns
    above, above_right, below, below_right = (
        flat.take(row + column, axis=0) for row in (top, low) for column in (left, right)
    )
    above += (above_right - above) * right_share
    below += (below_right - below) * right_share
    above += (below - above) * low_share
    return above


def covered_pixels(
    corners: Floats, width: int, height: int, grow: float = 0.0
) -> Iterator[tuple[Integers, Integers, Singles, Integers]]:
    """The pixels whose centres lie in triangles ``(m, 3, 2)``, in batches.

    Yields x, y, the shares of the three corners ``(k, 3)`` and the triangle of each pixel. ``grow`` widens the
    triangles by that share of themselves.
    """
    x, y = corners[:, :, 0], corners[:, :, 1]
    # Of each the columns and rows whose middles lie between its corners, and of what is widened one more on each side.
    off = 1.0 if grow else 0.5
    left, top = np.ceil(x.min(axis=1) - off), np.ceil(y.min(axis=1) - off)
    right, bottom = np.floor(x.max(axis=1) + off), np.floor(y.max(axis=1) + off)
    # Of what goes over the edge only what is on the canvas is looked at.
    left, top = np.maximum(left, 0.0), np.maximum(top, 0.0)
    right, bottom = np.minimum(right, float(width)), np.minimum(bottom, float(height))
    seen = (left < right) & (top < bottom)
    first_column, first_row = left.astype(np.intp), top.astype(np.intp)
    # Share k of a point is linear in its place: slope_x * px + slope_y * py + constant.
    area = (x[:, 1] - x[:, 0]) * (y[:, 2] - y[:, 0]) - (y[:, 1] - y[:, 0]) * (x[:, 2] - x[:, 0])
    area = np.where(np.abs(area) < 1e-12, 1e-12, area)
    planes = []
    for i, j in ((1, 2), (2, 0)):
        slope_x, slope_y = (y[:, i] - y[:, j]) / area, (x[:, j] - x[:, i]) / area
        planes.append((slope_x, slope_y, (x[:, i] * y[:, j] - x[:, j] * y[:, i]) / area))
    size = np.maximum(np.maximum(right - left, bottom - top), 0.0).astype(np.intp)
    # Triangles of about one size are tested together, each on a square of its size.
    classes = np.searchsorted(_SIDES, size)
    for number in np.unique(classes[seen]):
        side = int(_SIDES[number]) if number < len(_SIDES) else int(size[seen].max())
        middles = np.arange(side, dtype=np.float32) + np.float32(0.5)
        steps = np.stack([*(step.ravel() for step in np.meshgrid(middles, middles)), np.ones(side * side, np.float32)])
        faces = np.flatnonzero(seen & (classes == number))
        # One triangle at a time at least, however large.
        for face in np.array_split(faces, min(max(len(faces) * side * side // 200_000, 1), len(faces))):
            shares = []
            for slope_x, slope_y, constant in planes:
                at_corner = slope_x[face] * left[face] + slope_y[face] * top[face] + constant[face]
                shares.append(np.stack([slope_x[face], slope_y[face], at_corner], axis=1).astype(np.float32) @ steps)
            inside = (shares[0] >= -grow) & (shares[1] >= -grow) & (shares[0] + shares[1] <= 1.0 + grow)
            found = np.flatnonzero(inside)
            which, step = np.divmod(found, side * side)
            down, right_by = np.divmod(step, side)
            column, row = first_column[face][which] + right_by, first_row[face][which] + down
            if (first_column[face].max() + side > width) or (first_row[face].max() + side > height):
                on = (column < width) & (row < height)
                found, which, column, row = found[on], which[on], column[on], row[on]
            share = np.empty((len(found), 3), dtype=np.float32)
            share[:, 0], share[:, 1] = shares[0].ravel()[found], shares[1].ravel()[found]
            share[:, 2] = 1.0 - share[:, 0] - share[:, 1]
            yield column, row, share, face[which]


def _lit(normals: Floats) -> Singles:
    out = _AMBIENT + 0.08 * normals[:, 1]
    for direction, strength in _LIGHTS:
        out += strength * np.maximum(normals @ (direction / np.linalg.norm(direction)), 0.0)
    return out.astype(np.float32)


def _cross(a: Floats, b: Floats) -> Floats:
    return a[..., 0] * b[..., 1] - a[..., 1] * b[..., 0]
