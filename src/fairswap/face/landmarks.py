"""How far the landmarks of a face move, in head sizes: for holding one face against another."""

from __future__ import annotations

import numpy as np

from fairswap.face.anatomy import LANDMARK_POINTS, LANDMARKS
from fairswap.face.bones import face_alone
from fairswap.face.geometry import FaceFrame
from fairswap.face.head import Head
from fairswap.face.neutral import seen_on
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.rotation import rotate

_NEAR = 0.05  # head sizes: a landmark further from any vertex is not there


def landmark_vertices(figure: Figure, frame: FaceFrame) -> dict[str, tuple[int, int]]:
    """The mesh and vertex nearest to each landmark, as seen from the front; of lips the one above or below."""
    out: dict[str, tuple[int, int]] = {}
    best: dict[str, float] = {}
    for number, vertices in enumerate(figure.rest_vertices):
        places = frame.places(vertices)
        ahead = np.flatnonzero(places[:, 2] > 0.1)
        if not len(ahead):
            continue
        for name, wanted in zip(LANDMARKS, LANDMARK_POINTS.xy, strict=True):
            apart = np.hypot(*(places[ahead, :2] - wanted).T) - 0.25 * np.minimum(places[ahead, 2], 0.6)
            nearest = int(np.argmin(apart))
            flat = float(np.hypot(*(places[ahead[nearest], :2] - wanted)))
            if flat < _NEAR and apart[nearest] < best.get(name, np.inf):
                best[name], out[name] = float(apart[nearest]), (number, int(ahead[nearest]))
    return out


def landmark_moves(head: Head, clip: Clip) -> tuple[list[str], Floats]:
    """Where a clip takes the landmarks of a face, seen from the head.

    Returns the names and ``(landmarks, 3, frames)`` in head sizes.
    """
    figure = head.neutral
    frame = head.drafted.frame if any(mesh.morph_names for mesh in figure.meshes) else head.frame
    picked = landmark_vertices(figure, frame)
    world = face_alone(seen_on(figure, clip.poses), set(head.bones.values())).world()
    turned = world.rotation_tracks
    names, moves = [], []
    for name, (mesh_number, vertex) in picked.items():
        mesh = figure.meshes[mesh_number]
        start = np.repeat(mesh.vertices[vertex][:, None], clip.frames, axis=1)
        for track in clip.poses.morph_tracks:
            if track.mesh == mesh_number and mesh.morph_deltas is not None:
                start = start + mesh.morph_deltas[:, vertex].T @ track.weights
        out = np.zeros((3, clip.frames))
        for joint, weight in zip(mesh.joints[vertex].tolist(), mesh.weights[vertex].tolist(), strict=True):
            if weight > 0.0:
                bound = mesh.bind_matrices[joint, :3, :3] @ start + mesh.bind_matrices[joint, :3, 3:]
                out += weight * (_turned(turned[joint], bound) + world.position_tracks[joint])
        rest = figure.rest_vertices[mesh_number][vertex]
        names.append(name)
        moves.append(frame.directions(out.T - rest).T)
    return names, np.array(moves) if moves else np.zeros((0, 3, clip.frames))


def _turned(rotation: Floats, vector: Floats) -> Floats:
    return rotate(rotation.T, vector.T).T
