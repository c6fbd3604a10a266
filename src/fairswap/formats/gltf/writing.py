"""From a figure and clips to a glTF file: its own document carried through, or a new one."""

from __future__ import annotations

import copy
import os
from collections.abc import Sequence
from pathlib import Path
from typing import Any
from urllib.parse import quote

import msgspec
import numpy as np

from fairswap.errors import Finding
from fairswap.formats.gltf.animations import POINTER
from fairswap.formats.gltf.boxes import state_boxes
from fairswap.formats.gltf.building import build_document
from fairswap.formats.gltf.folding import Fold, fold_nodes
from fairswap.formats.gltf.mending import mended
from fairswap.formats.gltf.nodes import tree_from_nodes
from fairswap.formats.gltf.origins import GltfOrigin, GltfSource
from fairswap.formats.gltf.packing import Packer, glb_chunks
from fairswap.formats.gltf.patching import can_patch, pack_replacements, patch_document, split_matrix
from fairswap.formats.gltf.pruning import repack
from fairswap.formats.gltf.schema import Document
from fairswap.formats.marks import GENERATOR, MARK, RECORD, mark_of
from fairswap.formats.naming import all_in_unicode
from fairswap.formats.storage import Chunk
from fairswap.formats.vrm.humanoid import extension_of
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip, KeptKeys
from fairswap.model.figure import Figure
from fairswap.model.rotation import normalized, quaternion_from_matrix, without_sign_jumps
from fairswap.model.space import OURS, Space

# Differences below this (in quaternion components, metres, weights) are rounding in the file, not motion.
_SAME = 1e-6


def encode(figure: Figure, clips: Sequence[Clip], name: str, *, space: Space | None) -> dict[str, list[Chunk]]:
    """A ``.glb`` or ``.gltf``; see :func:`fairswap.formats.files.encode`."""
    raw, packer, _, _ = document_of_figure(figure, clips, space)
    return files_of_document(name, raw, packer)


def left_out(figure: Figure, clips: Sequence[Clip]) -> list[Finding]:
    """What a plain glTF file cannot hold: what an avatar says of itself, where its document is built anew."""
    source = figure.source
    carried = isinstance(source, GltfSource) and can_patch(figure, source.skeleton, source.meshes)
    if carried or figure.avatar is None or not figure.avatar.meta:
        return []
    message = "plain glTF cannot hold what it says as an avatar: terms of use, expressions, gaze, what swings"
    return [Finding("format-leaves-out", "warning", figure.name, message)]


def document_of_figure(
    figure: Figure, clips: Sequence[Clip], space: Space | None
) -> tuple[dict[str, Any], Packer, list[int], list[int]]:
    """The JSON of a document with a figure and clips, and its buffer; the node of each bone and of each mesh."""
    packer = Packer()
    source = figure.source
    carried = isinstance(source, GltfSource) and can_patch(figure, source.skeleton, source.meshes)
    if isinstance(source, GltfSource) and carried and (space is None or space == figure.space):
        raw = copy.deepcopy(source.container.raw)
        unchanged = {id(clip): clip.origin.animation for clip in clips if _is_unchanged(clip, source)}
        kept = [raw["animations"][unchanged[id(clip)]] | _said_of(clip) for clip in clips if id(clip) in unchanged]
        raw["animations"] = kept + _animations_of_others(raw, source)
        read = source.skeleton, source.meshes, source.nodes, source.mesh_nodes, source.fold
        changed = patch_document(raw, figure, *read) + mended(source.container, raw)
        _stand_up(raw, source.to_ours, figure.name)
        repack(source.container, raw, packer)
        pack_replacements(changed, packer)
        nodes, mesh_nodes, fold, own = list(source.nodes), list(source.mesh_nodes), source.fold, source
    else:
        unchanged, own = {}, None
        raw, nodes, mesh_nodes = build_document(figure, space or OURS, packer)
        tree = tree_from_nodes(msgspec.convert(raw, Document))
        fold = fold_nodes(tree, nodes, figure.skeleton.parents, np.eye(3))
        raw["animations"] = []
    old = iter(list(raw.get("animations", ())))
    raw["animations"] = [
        next(old) if id(clip) in unchanged else _animation(clip, raw, nodes, mesh_nodes, fold, packer, own)
        for clip in clips
    ] + list(old)
    if not raw["animations"]:
        del raw["animations"]
    raw["asset"] = {**raw["asset"], "generator": GENERATOR}
    kept = raw["asset"].get("extras", {})
    if isinstance(kept, dict):  # anything else is a stranger's, and stays
        raw["asset"]["extras"] = kept | {RECORD: {MARK: mark_of(figure.skeleton.rest.positions[0])}}
    raw["accessors"], raw["bufferViews"] = packer.accessors, packer.views
    for table in ("accessors", "bufferViews"):
        if not raw[table]:
            del raw[table]
    for node in raw.get("nodes", ()):
        if "rotation" in node:
            node["rotation"] = _bounded(node["rotation"])
    if figure.bone_boxes is not None:
        state_boxes(raw, nodes, figure)
    return raw, packer, nodes, mesh_nodes


def _stand_up(raw: dict[str, Any], to_ours: Floats, name: str) -> None:
    """Bring a document that is not as the format asks (lying, facing backwards, in centimetres) to where it was judged:
    one node above all others turns and scales what hangs on it."""
    if np.allclose(to_ours, np.eye(3), atol=1e-9):
        return
    if extension_of(raw, "VRM"):  # what an avatar of edition 0.x says holds for one that looks along -Z
        del raw["extensions"]["VRM"]
        raw["extensionsUsed"] = [name for name in raw.get("extensionsUsed", ()) if name != "VRM"]
    metres = float(np.cbrt(np.linalg.det(to_ours)))
    nodes = raw["nodes"]
    held = {child for node in nodes for child in node.get("children", ())}
    scenes = raw.get("scenes") or [{"nodes": [index for index in range(len(nodes)) if index not in held]}]
    taken: set[int] = set()
    for scene in scenes:
        roots = [root for root in scene.get("nodes", ()) if root not in taken]
        if not roots:
            continue
        taken.update(roots)
        turn = quaternion_from_matrix(to_ours / metres).tolist()
        nodes.append({"name": name, "rotation": turn, "scale": [metres] * 3, "children": roots})
        scene["nodes"] = [len(nodes) - 1]


def _bounded(rotation: Sequence[float]) -> list[float]:
    """A rotation as the format wants it: no component beyond 1, not even by rounding."""
    return [min(max(float(part), -1.0), 1.0) for part in rotation]


def _animations_of_others(raw: dict[str, Any], source: GltfSource) -> list[dict[str, Any]]:
    """The animations that move nothing of the figure: props, cameras, other figures go on as they did."""
    own = {*source.nodes, *source.mesh_nodes}
    return [
        animation
        for animation in raw.get("animations", ())
        if animation.get("channels") and not any(row["target"].get("node") in own for row in animation["channels"])
    ]


def still_as_read(figure: Figure, clips: Sequence[Clip]) -> bool:
    """Whether a figure and clips are what their own document holds: else that does not speak for them."""
    source = figure.source
    if not isinstance(source, GltfSource):
        return False
    same = figure.meshes is source.meshes and figure.skeleton == source.skeleton
    return same and all(_is_unchanged(clip, source) for clip in clips)


def _is_unchanged(clip: Clip, source: GltfSource) -> bool:
    origin = clip.origin
    if not isinstance(origin, GltfOrigin) or origin.mended:
        return False
    return origin.container is source.container and origin.holds(clip)


def _animation(
    clip: Clip,
    raw: dict[str, Any],
    nodes: list[int],
    mesh_nodes: list[int],
    fold: Fold,
    packer: Packer,
    carried: GltfSource | None,
) -> dict[str, Any]:
    """Append the tracks of a clip to the buffer; constant ones with two keys, those at rest not at all."""
    poses, frames = clip.poses, clip.frames
    times = (clip.start_s + np.arange(frames) / float(clip.rate)).astype("<f4")
    ends = times[[0, -1]] if frames > 1 else times
    arrays: list[np.ndarray] = []
    targets: list[tuple[int, str, int]] = []
    # Key times by number: every frame, both ends, and after thinning those of each track.
    inputs: dict[bytes, int] = {}
    key_times = {0: times, 1: ends}
    thinned = clip.kept or KeptKeys({}, {})

    def add(node: int, path: str, values: np.ndarray, rest: np.ndarray | None, kept: np.ndarray | None = None) -> None:
        constant = bool(np.ptp(values, axis=0).max(initial=0.0) < _SAME)
        if constant and rest is not None and np.abs(values[0] - rest).max() < _SAME:
            return
        used, which = (values[: len(ends)], 1) if constant else (values, 0)
        if kept is not None and (len(kept) > 1 or not targets):
            used, which = values[kept], inputs.setdefault(kept.tobytes(), len(inputs) + 2)
            key_times.setdefault(which, times[kept])
        if path == "weights":
            used = used.reshape(-1)
        arrays.append(np.ascontiguousarray(used, dtype="<f4"))
        targets.append((node, path, which))
        row = raw["nodes"][node] if node >= 0 else {}
        if "matrix" in row:  # a node that is animated may not have one
            split_matrix(row)

    for bone in range(len(clip.skeleton)):
        rotation = fold.node_rotations(bone, poses.rotation_tracks[bone].T)
        rest = fold.node_rotations(bone, clip.skeleton.rest_rotations[bone])
        rotation = without_sign_jumps(rotation.T).T
        if rotation[0] @ rest < 0:
            rotation = -rotation
        # Without a skin it is the keys that tell where a skeleton begins, and which leaves are no end markers.
        outermost = clip.skeleton.parents[bone] < 0 or not clip.skeleton.children[bone]
        keyed = bone in clip.keyed or ("skins" not in raw and outermost and bone not in clip.skeleton.ends)
        add(nodes[bone], "rotation", rotation, None if keyed else rest, thinned.rotations.get(bone))
    for bone in poses.translated_bones.tolist():
        values = fold.node_translations(bone, poses.translation_track(bone).T)
        rest = fold.node_translations(bone, clip.skeleton.rest_translations[bone])
        add(nodes[bone], "translation", values, None if bone in clip.keyed else rest, thinned.translations.get(bone))
    for track in poses.morph_tracks:
        add(mesh_nodes[track.mesh], "weights", track.weights.T, None)
    container = carried.container if carried is not None else None
    for beside in poses.beside:
        if beside.owner is container and container is not None:
            node, path = beside.target
            add(node, path, _turned_on(beside.values.T) if path == "rotation" else beside.values.T, None)
    if not targets:  # nothing moves: the clip still has its length
        values = fold.node_rotations(0, poses.rotation_tracks[0].T)
        add(nodes[0], "rotation", values, None)
    used = sorted({which for _, _, which in targets})
    accessors = packer.block([key_times[i] for i in used] + arrays, frozenset(range(len(used))))
    samplers = [
        {"input": accessors[used.index(which)], "interpolation": "LINEAR", "output": output}
        for (_, _, which), output in zip(targets, accessors[len(used) :], strict=True)
    ]
    channels = [
        {"sampler": index, "target": _channel_target(node, path)} for index, (node, path, _) in enumerate(targets)
    ]
    return {"channels": channels, "samplers": samplers, **_said_of(clip)}


def _said_of(clip: Clip) -> dict[str, Any]:
    return {"name": clip.name, **({"extras": dict(clip.made)} if clip.made else {})}


def _channel_target(node: int, path: str) -> dict[str, Any]:
    if node >= 0:
        return {"node": node, "path": path}
    pointer = {"pointer": path.removeprefix(POINTER)}
    return {"path": "pointer", "extensions": {"KHR_animation_pointer": pointer}}


def _turned_on(rotations: Floats) -> Floats:
    """Rotations ``(frames, 4)`` that were drawn out in a straight line, of unit length again and without jumps."""
    return without_sign_jumps(normalized(rotations).T).T


def files_of_document(name: str, raw: dict[str, Any], packer: Packer) -> dict[str, list[Chunk]]:
    """A document under a name: one binary file, or JSON with its buffer beside it."""
    raw.pop("buffers", None)
    as_text = Path(name).suffix.lower() == ".gltf"
    binary = Path(name).with_suffix(".bin").name
    if packer.length:
        raw["buffers"] = [{"byteLength": packer.length} | ({"uri": quote(os.fsencode(binary))} if as_text else {})]
    try:
        text = msgspec.json.encode(raw)
    except UnicodeEncodeError:  # a name that no file can hold
        text = msgspec.json.encode(all_in_unicode(raw))
    if as_text:
        files: dict[str, list[Chunk]] = {binary: list(packer.chunks)} if packer.length else {}
        return files | {name: [msgspec.json.format(text, indent=1)]}
    return {name: glb_chunks(text, packer)}
