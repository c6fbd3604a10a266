"""Triangles to pixels with a depth buffer, in NumPy: enough for small, shaded pictures without a graphics card."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from fairswap.model.arrays import Floats, Integers
from fairswap.model.rotation import normalized

# Directions towards the lights, in the viewer's frame (right, up, towards us), and how strong they are.
_LIGHTS = (
    (np.array([-0.45, 0.65, 0.62]), 0.62),
    (np.array([0.8, 0.15, 0.35]), 0.20),
    (np.array([0.1, 0.5, -0.8]), 0.16),
)
_AMBIENT = 0.34

_SIDES = np.array([2, 3, 4, 5, 6, 8, 10, 13, 17, 24, 32, 48, 64, 96, 128, 256])


@dataclass(eq=False)
class Canvas:
    """Colours ``(height, width, 3)`` in 0..1 and depths, larger is nearer."""

    color: Floats
    depth: Floats

    @classmethod
    def blank(cls, width: int, height: int, color: tuple[float, float, float]) -> Canvas:
        picture = np.empty((height, width, 3))
        picture[:] = color
        return cls(picture, np.full((height, width), -np.inf))

    def draw(
        self, pixels: Floats, depth: Floats, normals: Floats, triangles: Integers, colors: Floats,
        uvs: Floats | None = None, textures: Sequence[tuple[slice, Floats]] = (),
    ) -> None:  # fmt: skip
        """Draw a mesh.

        ``pixels`` ``(n, 2)``, ``depth`` ``(n,)`` and ``normals`` ``(n, 3)`` are in the viewer's frame; ``colors`` is
        ``(n, 3)`` per vertex or ``(triangles, 3)`` per triangle, multiplied by ``textures``: each the triangles that
        have it and the picture ``(h, w, 3)``, looked up at ``uvs``.
        """
        height, width = self.depth.shape
        # Which way the triangles wind on the screen tells front from back (y runs down).
        a, b, c = pixels[triangles.T]
        shown = np.flatnonzero(_cross(b - a, c - a) < 0)
        front = triangles[shown]
        for x, y, fraction, face in covered_pixels(pixels[front], width, height):
            corner = front[face]
            near = (fraction * depth[corner]).sum(axis=1)
            nearer = near > self.depth[y, x]
            x, y, fraction, corner, near = x[nearer], y[nearer], fraction[nearer], corner[nearer], near[nearer]
            light = _lit(normalized(np.einsum("nk,nki->ni", fraction, normals[corner])))
            face = shown[face[nearer]]
            color = colors[face] if len(colors) == len(triangles) else np.einsum("nk,nki->ni", fraction, colors[corner])
            for own, texture in textures:
                mine = (face >= own.start) & (face < own.stop)
                if uvs is not None and mine.any():
                    color[mine] *= _looked_up(texture, np.einsum("nk,nki->ni", fraction[mine], uvs[corner[mine]]))
            # Farthest first: of several at one pixel the last, nearest, stays.
            order = np.argsort(near, kind="stable")
            self.color[y[order], x[order]] = (color * light[:, None])[order]
            self.depth[y[order], x[order]] = near[order]


def _looked_up(texture: Floats, uvs: Floats) -> Floats:
    rows, columns = texture.shape[:2]
    u, v = uvs.T
    return texture[np.clip((v * rows).astype(int), 0, rows - 1), np.clip((u * columns).astype(int), 0, columns - 1)]


def covered_pixels(
    corners: Floats, width: int, height: int, grow: float = 0.0
) -> Iterator[tuple[Integers, Integers, Floats, Integers]]:
    """The pixels whose centres lie in triangles ``(m, 3, 2)``, in batches.

    Yields x, y, the shares of the three corners ``(k, 3)`` and the triangle of each pixel. ``grow`` widens the
    triangles by that share of themselves.
    """
    x, y = corners[:, :, 0], corners[:, :, 1]
    left, top = np.floor(x.min(axis=1)), np.floor(y.min(axis=1))
    right, bottom = np.ceil(x.max(axis=1)), np.ceil(y.max(axis=1))
    seen = (left < width) & (top < height) & (right >= 0) & (bottom >= 0)
    # Of what goes over the edge only what is on the canvas is looked at.
    left, top = np.maximum(left, 0.0), np.maximum(top, 0.0)
    right, bottom = np.minimum(right, float(width)), np.minimum(bottom, float(height))
    # Share k of a point is linear in its place: slope_x * px + slope_y * py + constant.
    area = (x[:, 1] - x[:, 0]) * (y[:, 2] - y[:, 0]) - (y[:, 1] - y[:, 0]) * (x[:, 2] - x[:, 0])
    area = np.where(np.abs(area) < 1e-12, 1e-12, area)
    planes = []
    for i, j in ((1, 2), (2, 0)):
        slope_x, slope_y = (y[:, i] - y[:, j]) / area, (x[:, j] - x[:, i]) / area
        planes.append((slope_x, slope_y, (x[:, i] * y[:, j] - x[:, j] * y[:, i]) / area))
    size = np.maximum(np.maximum(right - left, bottom - top), 0.0).astype(np.intp) + 1
    # Triangles of about one size are tested together, each on a square of its size.
    classes = np.searchsorted(_SIDES, size)
    for number in np.unique(classes[seen]):
        side = int(_SIDES[number]) if number < len(_SIDES) else int(size[seen].max())
        step_x, step_y = (steps.ravel() + 0.5 for steps in np.meshgrid(np.arange(side), np.arange(side)))
        faces = np.flatnonzero(seen & (classes == number))
        for face in np.array_split(faces, max(len(faces) * side * side // 200_000, 1)):
            shares = []
            for slope_x, slope_y, constant in planes:
                at_corner = slope_x[face] * left[face] + slope_y[face] * top[face] + constant[face]
                fraction = np.multiply.outer(slope_x[face], step_x)
                fraction += np.multiply.outer(slope_y[face], step_y)
                fraction += at_corner[:, None]
                shares.append(fraction)
            inside = (shares[0] >= -grow) & (shares[1] >= -grow) & (shares[0] + shares[1] <= 1.0 + grow)
            which, step = np.nonzero(inside)
            column = (left[face][which] + step_x[step]).astype(np.intp)
            row = (top[face][which] + step_y[step]).astype(np.intp)
            on = (column >= 0) & (row >= 0) & (column < width) & (row < height)
            which, step = which[on], step[on]
            first, second = shares[0][which, step], shares[1][which, step]
            yield column[on], row[on], np.stack([first, second, 1.0 - first - second], axis=1), face[which]


def _lit(normals: Floats) -> Floats:
    out = np.full(len(normals), _AMBIENT)
    out += 0.08 * normals[:, 1]
    for direction, strength in _LIGHTS:
        out += strength * np.maximum(normals @ (direction / np.linalg.norm(direction)), 0.0)
    return out


def _cross(a: Floats, b: Floats) -> Floats:
    return a[..., 0] * b[..., 1] - a[..., 1] * b[..., 0]
