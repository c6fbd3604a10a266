"""VRM animations (``.vrma``): a motion of the humanoid alone, with expressions and gaze, for any avatar of VRM 1.0."""

from __future__ import annotations

import copy
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from fairswap.errors import Finding, UsageError
from fairswap.formats.gltf.container import Container
from fairswap.formats.gltf.nodes import tree_from_nodes
from fairswap.formats.gltf.opening import container_from_bytes
from fairswap.formats.gltf.reading import document_from_container
from fairswap.formats.gltf.writing import document_of_figure, files_of_document
from fairswap.formats.storage import Chunk
from fairswap.formats.vrm.avatars import numbers_or
from fairswap.formats.vrm.humanoid import VRM_BONE_OF_ROLE, extension_of, nodes_of_humanoid
from fairswap.formats.vrm.writing import add_extension, humanoid_of
from fairswap.model.arrays import Floats
from fairswap.model.avatar import Expression
from fairswap.model.bounded import bounded_weights
from fairswap.model.clip import Clip
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.model.poses import PoseBuilder
from fairswap.model.rotation import conjugate, multiply, quaternion_from_matrix, rotate
from fairswap.model.skeleton import Skeleton
from fairswap.model.space import OURS, Space

_NAME = "VRMC_vrm_animation"
_EYES = ("eye_left", "eye_right")
_LOOK = "lookAt"
_FACE_LOST = 0.05
# Where eyes are, from the head's joint, if nobody says so: metres to the left, up and ahead.
_BETWEEN_EYES = (0.0, 0.06, 0.08)


def read(content: bytes, path: Path, *, unit: str | None = None, up: str | None = None) -> Document:
    """Read the content of a ``.vrma``; see :func:`fairswap.load`. The gaze becomes two eyes below the head."""
    container = with_eyes(container_from_bytes(content, path))
    return document_from_container(replace(container, format="VRM animation"), unit=unit, up=up)


def encode(figure: Figure, clips: Sequence[Clip], name: str, *, space: Space | None) -> dict[str, list[Chunk]]:
    """One clip as a ``.vrma``: the humanoid's bones, what expressions its morphs show, where its eyes look.

    Raises
    ------
    UsageError
        If there is not one clip.
    ImpossibleError
        If it is not known which bone is which.
    """
    if len(clips) != 1:
        raise UsageError(f"a VRM animation holds one clip, not {len(clips)}", code="one-clip-only")
    clip = clips[0]
    humanoid_of(figure, range(len(figure.skeleton)))  # says what is missing, before any work
    bare, moved = _humanoid_alone(figure, clip)
    raw, packer, nodes, _ = document_of_figure(bare, [moved], OURS)
    extension: dict[str, Any] = {"specVersion": "1.0", "humanoid": humanoid_of(bare, nodes)}
    animation = raw["animations"][0]
    times = animation["samplers"][0]["input"]
    frames = [clip.start_s + frame / float(clip.rate) for frame in range(clip.frames)]
    if packer.accessors[times]["count"] != len(frames):
        times = packer.attribute(np.array(frames, dtype="<f4")[:, None], target=None, bounds=True)
    weights = expression_weights(figure, clip)
    if weights:
        avatar = figure.avatar
        kinds: dict[str, dict[str, Any]] = {"preset": {}, "custom": {}}
        for title, row in weights.items():
            node = _node(raw, title)
            values = np.zeros((clip.frames, 3), dtype="<f4")
            values[:, 0] = row
            _channel(animation, node, "translation", times, packer.attribute(values, target=None))
            preset = avatar is not None and avatar.expressions[title].preset
            kinds["preset" if preset else "custom"][title] = {"node": node}
        extension["expressions"] = {kind: rows for kind, rows in kinds.items() if rows}
    gaze = _gaze(figure, clip)
    if gaze is not None:
        node = _node(raw, _LOOK)
        _channel(animation, node, "rotation", times, packer.attribute(gaze.astype("<f4"), target=None))
        head, eyes = (figure.skeleton.rest.positions[0][[figure.known_roles[role] for role in roles]].mean(axis=0)
                      for roles in (("head",), _EYES))  # fmt: skip
        offset = rotate(conjugate(figure.skeleton.rest.rotations[0][figure.known_roles["head"]]), eyes - head)
        extension[_LOOK] = {"node": node, "offsetFromHeadBone": offset.tolist()}
    add_extension(raw, _NAME, extension)
    raw["accessors"], raw["bufferViews"] = packer.accessors, packer.views
    return files_of_document(name, raw, packer)


def left_out(figure: Figure, clips: Sequence[Clip]) -> list[Finding]:
    """What of a figure and its clips this format cannot hold."""
    out = []
    known = figure.known_roles
    kept = set(known.values())
    if "hips" in known:  # what carries the hips is in where they go
        kept |= set(figure.skeleton.with_ancestors([known["hips"]]))
    for clip in clips:
        moving = np.flatnonzero(np.ptp(clip.poses.rotation_tracks, axis=2).max(axis=1) > 1e-4).tolist()
        lost = [clip.skeleton.names[bone] for bone in moving if bone not in kept]
        if lost:
            named = ", ".join(lost[:4]) + (" …" if len(lost) > 4 else "")
            message = f"VRM animation cannot hold {len(lost)} bones that move beside the humanoid: {named}"
            out.append(Finding("format-leaves-out", "warning", clip.name, message))
        share = face_lost(figure, clip)
        if share > _FACE_LOST:
            message = f"VRM animation cannot hold {share:.0%} of the face: no expression of the figure shows it"
            out.append(Finding("format-leaves-out", "warning", clip.name, message))
    return out


def with_eyes(container: Container) -> Container:
    """The document with two eyes below the head that turn as its gaze does, where it has a gaze and no eyes."""
    look = extension_of(container.raw, _NAME).get(_LOOK)
    bones = nodes_of_humanoid(container.raw)
    node = look.get("node") if isinstance(look, dict) else None
    count = len(container.document.nodes)
    if not isinstance(node, int) or not 0 <= node < count or "head" not in bones or not 0 <= bones["head"] < count:
        return container
    if {"leftEye", "rightEye"} & set(bones):
        return container
    raw = copy.deepcopy(container.raw)
    head = bones["head"]
    world = tree_from_nodes(container.document).world[head]
    ahead = np.array(numbers_or(look.get("offsetFromHeadBone") if isinstance(look, dict) else None, _BETWEEN_EYES))
    linear = np.linalg.inv(world[:3, :3])
    turn = quaternion_from_matrix(_rotation(linear))
    nodes = raw["nodes"]
    # A node that undoes the head's own turn: the gaze is told against the figure, not against the bone.
    frame = len(nodes)
    place = linear @ ahead
    nodes.append(
        {"name": "gaze", "rotation": turn.tolist(), "translation": place.tolist(), "children": [frame + 1, frame + 2]}
    )
    for name, side in (("leftEye", 0.03), ("rightEye", -0.03)):
        nodes.append({"name": name, "translation": [side, 0.0, 0.0]})
    nodes[head].setdefault("children", []).append(frame)
    humanoid = raw["extensions"][_NAME]["humanoid"]["humanBones"]
    humanoid |= {"leftEye": {"node": frame + 1}, "rightEye": {"node": frame + 2}}
    for animation in raw.get("animations", ()):
        looking = [row for row in animation["channels"] if row["target"] == {"node": node, "path": "rotation"}]
        animation["channels"] = [row for row in animation["channels"] if row not in looking]
        for channel in looking:
            for eye in (frame + 1, frame + 2):
                animation["channels"].append(
                    {"sampler": channel["sampler"], "target": {"node": eye, "path": "rotation"}}
                )
    return replace(container.changed(raw), as_read=container.raw)


def expression_weights(figure: Figure, clip: Clip) -> dict[str, Floats]:
    """How much of each expression a clip shows ``(frames,)``: what brings its morphs nearest to where they are.

    The standard's own expressions come first, since every avatar has them; what they leave over, those of this one.
    """
    rows, matrix, wanted = _expressions_and_morphs(figure, clip)
    if not rows or not len(wanted):
        return {}
    standard = np.array([one.preset for _, one in rows])
    first = np.zeros((len(rows), clip.frames))
    first[standard] = bounded_weights(matrix[:, standard], wanted, np.ones(int(standard.sum())))
    found = bounded_weights(matrix, wanted, np.ones(len(rows)), prefer=first)
    return {name: row for (name, _), row in zip(rows, found, strict=True) if row.max(initial=0.0) > 1e-3}


def face_lost(figure: Figure, clip: Clip) -> float:
    """The share of what a clip's morphs do that no expression of the figure shows, 0 to 1."""
    rows, matrix, wanted = _expressions_and_morphs(figure, clip)
    whole = float(np.linalg.norm(wanted))
    if not whole:
        return 0.0
    found = expression_weights(figure, clip)
    shown = (
        np.stack([found.get(name, np.zeros(clip.frames)) for name, _ in rows]) if rows else np.zeros((0, clip.frames))
    )
    return float(np.linalg.norm(wanted - matrix @ shown)) / whole


def _expressions_and_morphs(figure: Figure, clip: Clip) -> tuple[list[tuple[str, Expression]], Floats, Floats]:
    """The expressions by name, what each does to each morph ``(morphs, expressions)``, and the morphs of a clip
    ``(morphs, frames)``."""
    held = figure.avatar.expressions if figure.avatar is not None else {}
    rows = [(name, one) for name, one in held.items() if one.morphs]
    tracks = {track.mesh: track.weights for track in clip.poses.morph_tracks}
    morphs = [(mesh, name) for mesh in tracks for name in figure.meshes[mesh].morph_names]
    number = {key: index for index, key in enumerate(morphs)}
    matrix = np.zeros((len(morphs), len(rows)))
    for column, (_, one) in enumerate(rows):
        for mesh, name, weight in one.morphs:
            if (mesh, name) in number:
                matrix[number[mesh, name], column] += weight
    wanted = np.concatenate([tracks[mesh] for mesh in tracks]) if tracks else np.zeros((0, clip.frames))
    return rows, matrix, wanted


def _humanoid_alone(figure: Figure, clip: Clip) -> tuple[Figure, Clip]:
    """The bones of the humanoid without those between and around, and the clip on them; eyes are told as a gaze."""
    known = {role: bone for role, bone in figure.known_roles.items() if role in VRM_BONE_OF_ROLE and role not in _EYES}
    old = figure.skeleton
    bones = sorted(known.values())
    new_of = {bone: index for index, bone in enumerate(bones)}
    parents = []
    for bone in bones:
        above = int(old.parents[bone])
        while above >= 0 and above not in new_of:
            above = int(old.parents[above])
        parents.append(new_of.get(above, -1))
    rest, world = old.rest, clip.poses.world()
    places, turns = rest.positions[0][bones], rest.rotations[0][bones]
    up = np.array(parents)
    inner = up >= 0
    local, steps = turns.copy(), places.copy()
    local[inner] = multiply(conjugate(turns[up[inner]]), turns[inner])
    steps[inner] = rotate(conjugate(turns[up[inner]]), places[inner] - places[up[inner]])
    skeleton = Skeleton(tuple(old.names[bone] for bone in bones), up.astype(np.intp), local, steps)
    moved = np.empty((len(bones), 4, clip.frames))
    for index, bone in enumerate(bones):
        own = world.rotations[:, bone]
        if parents[index] >= 0:
            own = multiply(conjugate(world.rotations[:, bones[parents[index]]]), own)
        moved[index] = own.T
    hips = new_of[known["hips"]]
    track = {hips: world.positions[:, known["hips"]].T.copy()}
    roles = {role: new_of[bone] for role, bone in known.items()}
    bare = Figure(figure.name, skeleton, (), OURS, None, roles)
    poses = PoseBuilder(skeleton, moved, track).poses()
    return bare, Clip(clip.name, clip.rate, poses, frozenset(range(len(bones))), start_s=clip.start_s)


def _gaze(figure: Figure, clip: Clip) -> Floats | None:
    """Where both eyes look ``(frames, 4)``, against the figure at rest and along with its head; None if they rest."""
    if not all(role in figure.known_roles for role in (*_EYES, "head")):
        return None
    head, *eyes = (figure.known_roles[role] for role in ("head", *_EYES))
    rest, world = figure.skeleton.rest.rotations[0], clip.poses.world().rotations
    both = np.zeros((clip.frames, 4))
    carried = multiply(world[:, head], conjugate(rest[head]))
    for eye in eyes:
        turned = multiply(conjugate(carried), multiply(world[:, eye], conjugate(rest[eye])))
        both += turned * np.where(turned[:, 3:] < 0.0, -1.0, 1.0)
    both /= np.linalg.norm(both, axis=1, keepdims=True)
    return both if np.abs(both[:, :3]).max() > 1e-4 else None


def _node(raw: dict[str, Any], name: str) -> int:
    raw["nodes"].append({"name": name})
    number = len(raw["nodes"]) - 1
    raw["scenes"][0]["nodes"].append(number)
    return number


def _channel(animation: dict[str, Any], node: int, path: str, times: int, values: int) -> None:
    animation["samplers"].append({"input": times, "output": values, "interpolation": "LINEAR"})
    animation["channels"].append({"sampler": len(animation["samplers"]) - 1, "target": {"node": node, "path": path}})


def _rotation(linear: Floats) -> Floats:
    """The rotation of a matrix that scales evenly."""
    return linear / np.cbrt(np.linalg.det(linear))
