"""Triangles to pixels with a depth buffer, in NumPy: enough for small, shaded pictures without a graphics card."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from fairswap.kernels import Floats, Integers
from fairswap.rotation import normalized

# Directions towards the lights, in the viewer's frame (right, up, towards us), and how strong they are.
_LIGHTS = ((np.array([-0.45, 0.65, 0.62]), 0.62), (np.array([0.8, 0.15, 0.35]), 0.20), (np.array([0.1, 0.5, -0.8]), 0.16))
_AMBIENT = 0.34


@dataclass(eq=False)
class Canvas:
    """Colours ``(height, width, 3)`` in 0..1 and depths, larger is nearer."""

    color: Floats
    depth: Floats

    @classmethod
    def blank(cls, width: int, height: int, color: tuple[float, float, float]) -> Canvas:
        picture = np.empty((height, width, 3), dtype=np.float32)
        picture[:] = color
        return cls(picture, np.full((height, width), -np.inf))

    def draw(
        self,
        pixels: Floats,
        depth: Floats,
        normals: Floats,
        triangles: Integers,
        colors: Floats,
        uvs: Floats | None = None,
        texture: Floats | None = None,
    ) -> None:
        """Draw a mesh.

        ``pixels`` ``(n, 2)``, ``depth`` ``(n,)`` and ``normals`` ``(n, 3)`` are in the viewer's frame; ``colors`` is
        ``(n, 3)`` per vertex, multiplied by ``texture`` ``(h, w, 3)`` looked up at ``uvs`` where given.
        """
        height, width = self.depth.shape
        # Which way the triangles wind on the screen tells front from back (y runs down).
        a, b, c = pixels[triangles.T]
        front = triangles[_cross(b - a, c - a) < 0]
        for x, y, share, face in covered_pixels(pixels[front], width, height):
            corner = front[face]
            near = (share * depth[corner]).sum(axis=1)
            nearer = near > self.depth[y, x]
            x, y, share, corner, near = x[nearer], y[nearer], share[nearer], corner[nearer], near[nearer]
            light = _lit(normalized(np.einsum("nk,nki->ni", share, normals[corner])))
            color = np.einsum("nk,nki->ni", share, colors[corner])
            if uvs is not None and texture is not None:
                u, v = np.einsum("nk,nki->ni", share, uvs[corner]).T
                rows, columns = texture.shape[:2]
                color = color * texture[
                    np.clip((v * rows).astype(int), 0, rows - 1), np.clip((u * columns).astype(int), 0, columns - 1)
                ]
            # Farthest first: of several at one pixel the last, nearest, stays.
            order = np.argsort(near, kind="stable")
            self.color[y[order], x[order]] = (color * light[:, None])[order]
            self.depth[y[order], x[order]] = near[order]


def covered_pixels(
    corners: Floats, width: int, height: int, grow: float = 0.0
) -> Iterator[tuple[Integers, Integers, Floats, Integers]]:
    """The pixels whose centres lie in triangles ``(m, 3, 2)``, in batches.

    Yields x, y, the shares of the three corners ``(k, 3)`` and the triangle of each pixel. ``grow`` widens the triangles
    by that share of themselves.
    """
    low = np.floor(corners.min(axis=1)).astype(np.intp)
    size = (np.ceil(corners.max(axis=1)).astype(np.intp) - low + 1).max(axis=1)
    visible = (low < [width, height]).all(axis=1) & (corners.max(axis=1) >= 0).all(axis=1)
    classes = np.ceil(np.log2(np.maximum(size, 2))).astype(int)
    for power in np.unique(classes[visible]):
        side = 2 ** int(power)
        steps = np.stack(np.meshgrid(np.arange(side), np.arange(side), indexing="ij"), axis=-1).reshape(-1, 2)
        faces = np.flatnonzero(visible & (classes == power))
        for face in np.array_split(faces, max(len(faces) * side * side // 400_000, 1)):
            at = low[face][:, None] + steps[None]
            a, b, c = (corners[face][:, None, k] for k in range(3))
            area = _cross(b - a, c - a)
            area = np.where(np.abs(area) < 1e-12, 1e-12, area)
            point = at + 0.5
            first, second = _cross(c - b, point - b) / area, _cross(a - c, point - c) / area
            share = np.stack([first, second, 1.0 - first - second], axis=-1)
            inside = (share >= -grow).all(axis=-1) & (at >= 0).all(axis=-1) & (at < [width, height]).all(axis=-1)
            which, step = np.nonzero(inside)
            chosen = at[which, step]
            yield chosen[:, 0], chosen[:, 1], share[which, step], face[which]


def _lit(normals: Floats) -> Floats:
    out = np.full(len(normals), _AMBIENT)
    out += 0.08 * normals[:, 1]
    for direction, strength in _LIGHTS:
        out += strength * np.maximum(normals @ (direction / np.linalg.norm(direction)), 0.0)
    return out


def _cross(a: Floats, b: Floats) -> Floats:
    return a[..., 0] * b[..., 1] - a[..., 1] * b[..., 0]
