"""A figure and its clips as a glTF to be played: geometry once, turns in 16 bits, what does not move left out.

A turn in 16 bits is off by 0.003 degrees at most; places stay single numbers of 32 bits.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import msgspec
import numpy as np

from fairswap.formats.gltf.building import build_document
from fairswap.formats.gltf.packing import Packer, glb_chunks
from fairswap.formats.naming import all_in_unicode
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.mesh import Mesh
from fairswap.model.rotation import without_sign_jumps
from fairswap.model.space import OURS

_FULL = 32767
_SAME = 1e-6
# The format's number for 16 bits.
_SHORT = 5122
# As many bones to a vertex as browsers draw.
_MOST_BONES = 4
# Of a place along each axis: a thousand steps.
_BITS = 10


def playable(figure: Figure, clips: Sequence[Clip]) -> bytes:
    """A GLB of a figure with clips; bone ``b`` is its node ``b + 1``, clip ``c`` its animation ``c``."""
    packer = Packer()
    figure = replace(figure, source=None, meshes=tuple(_in_order(mesh) for mesh in figure.meshes))
    raw, nodes, mesh_nodes = build_document(figure, OURS, packer)
    raw["animations"] = [_animation(clip, nodes, mesh_nodes, packer) for clip in clips]
    raw["accessors"], raw["bufferViews"] = packer.accessors, packer.views
    for key in ("animations", "accessors", "bufferViews"):
        if not raw[key]:
            del raw[key]
    if packer.length:
        raw["buffers"] = [{"byteLength": packer.length}]
    return b"".join(map(bytes, glb_chunks(msgspec.json.encode(all_in_unicode(raw)), packer)))


def _in_order(mesh: Mesh) -> Mesh:
    """A mesh as it is drawn: the strongest bones of each vertex, and triangles in the order of where they are.

    Along a Z curve, each material by itself: neighbours share corners, which are then worked out once. A third fewer
    are, by measure.
    """
    triangles = mesh.triangles.copy()
    for material in mesh.materials:
        own = triangles[material.triangles]
        if len(own):
            triangles[material.triangles] = own[np.argsort(_z_curve(mesh.vertices[own].mean(axis=1)), kind="stable")]
    joints, weights = mesh.joints, mesh.weights
    if joints.shape[1] > _MOST_BONES:
        strongest = np.argsort(-weights, axis=1)[:, :_MOST_BONES]
        joints = np.take_along_axis(joints, strongest, axis=1)
        weights = np.take_along_axis(weights, strongest, axis=1)
        weights = weights / np.maximum(weights.sum(axis=1, keepdims=True), 1e-12)
    return replace(mesh, triangles=triangles, joints=joints, weights=weights)


def _z_curve(places: Floats) -> np.ndarray:
    """The numbers of places ``(n, 3)`` along a Z curve through the box that holds them: their bits in turn."""
    wide = max(float(np.ptp(places, axis=0).max()), 1e-9)
    cells = ((places - places.min(axis=0)) / wide * (2**_BITS - 1)).astype(np.int64)
    out = np.zeros(len(cells), dtype=np.int64)
    for bit in range(_BITS):
        for axis in range(3):
            out |= ((cells[:, axis] >> bit) & 1) << (3 * bit + axis)
    return out


def _animation(clip: Clip, nodes: list[int], mesh_nodes: list[int], packer: Packer) -> dict[str, Any]:
    poses, times = clip.poses, (np.arange(clip.frames) / float(clip.rate)).astype("<f4")
    ends = times[[0, -1]] if clip.frames > 1 else times
    arrays: list[np.ndarray] = [times, ends]
    targets: list[tuple[int, str, int]] = []

    def add(node: int, path: str, values: Floats, rest: Floats | None) -> None:
        """One track ``(frames, width)``; one that stands still has two keys, one at rest none."""
        still = bool(np.ptp(values, axis=0).max(initial=0.0) < _SAME)
        if still and rest is not None and np.abs(values[0] - rest).max() < _SAME:
            return
        used = values[: len(ends)] if still else values
        whole = path == "rotation" or (path == "weights" and used.min() >= 0.0 and used.max() <= 1.0)
        arrays.append(np.rint(used * _FULL).astype("<i2") if whole else np.ascontiguousarray(used, dtype="<f4"))
        targets.append((node, path, 1 if still else 0))

    for bone, node in enumerate(nodes):
        rest = clip.skeleton.rest_rotations[bone]
        turns = without_sign_jumps(poses.rotation_tracks[bone]).T
        add(node, "rotation", -turns if turns[0] @ rest < 0.0 else turns, rest)
    for bone in poses.translated_bones.tolist():
        add(nodes[bone], "translation", poses.translation_track(bone).T, clip.skeleton.rest_translations[bone])
    for track in poses.morph_tracks:
        add(mesh_nodes[track.mesh], "weights", track.weights.T, None)
    if not targets:  # nothing moves: the clip still has its length
        arrays.append(np.rint(poses.rotation_tracks[0].T[: len(ends)] * _FULL).astype("<i2"))
        targets.append((nodes[0], "rotation", 1))
    accessors = packer.block([array.reshape(-1) if path == "weights" else array for array, path in
                              zip(arrays, ("", "", *(path for _, path, _ in targets)), strict=True)],
                             frozenset([0, 1]))  # fmt: skip
    for number in accessors:
        if packer.accessors[number]["componentType"] == _SHORT:
            packer.accessors[number]["normalized"] = True
    samplers = [
        {"input": accessors[which], "interpolation": "LINEAR", "output": output}
        for (_, _, which), output in zip(targets, accessors[2:], strict=True)
    ]
    channels = [{"sampler": i, "target": {"node": node, "path": path}} for i, (node, path, _) in enumerate(targets)]
    return {"name": clip.name, "channels": channels, "samplers": samplers}
