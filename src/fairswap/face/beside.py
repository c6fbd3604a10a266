"""Shapes beside the face: a belly, an arm, what was not recognised. They go along by their names, as bones do."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from fairswap.errors import Finding
from fairswap.face.head import Head
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.mesh import with_weights
from fairswap.model.poses import MorphTrack
from fairswap.wording import listed

# A shape that differs from how it rests by less than this does not move.
_MOVES = 1e-3
# Weights that go further are of another scale, and would blow up a shape of the same name.
_MOST = 1.5


def shapes_beside(head: Head) -> list[str]:
    """The shapes of a figure that do nothing a face does."""
    shapes = head.chart.shapes
    names = dict.fromkeys(name for mesh in head.figure.meshes for name in mesh.morph_names)
    return [name for name in names if name not in shapes or not shapes[name].does_something]


def with_shapes_beside(source: Head, target: Head, clip: Clip, onto: Clip) -> tuple[Clip, list[Finding]]:
    """``onto``, a clip of the target, with what shapes beside the face do in ``clip`` (of the source), where both have
    one of that name; and what is worth telling of the others that move."""
    moving = _moving(source, clip)
    own = set(shapes_beside(target))
    carried = {name: row for name, row in moving.items() if name in own and np.abs(row).max() <= _MOST}
    tracks = {track.mesh: track for track in onto.poses.morph_tracks}
    for number, mesh in enumerate(target.figure.meshes):
        if carried.keys() & set(mesh.morph_names):
            tracks[number] = MorphTrack(number, with_weights(mesh, number, onto.poses, carried))
    if carried:
        onto = onto.with_poses(replace(onto.poses, morph_tracks=tuple(tracks.values())), keyed=onto.keyed)
    return onto, _told([name for name in moving if name not in carried], clip)


def _moving(head: Head, clip: Clip) -> dict[str, Floats]:
    """The weights ``(frames,)`` of the shapes beside a face that move in a clip."""
    beside = set(shapes_beside(head))
    out: dict[str, Floats] = {}
    for track in clip.poses.morph_tracks:
        mesh = head.figure.meshes[track.mesh]
        for name, row, rest in zip(mesh.morph_names, track.weights, mesh.resting_weights, strict=True):
            if name in beside and np.abs(row - rest).max(initial=0.0) > _MOVES:
                out.setdefault(name, row)
    return out


def _told(lost: list[str], clip: Clip) -> list[Finding]:
    if not lost:
        return []
    does = "moves" if len(lost) == 1 else "move"
    message = f"{listed(map(repr, lost))} {does} too, beside the face: not carried over"
    return [Finding("shapes-lost", "note", clip.name, message)]
