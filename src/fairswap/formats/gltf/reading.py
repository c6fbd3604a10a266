"""From a glTF document to figures and clips in our space."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np

from fairswap.errors import Finding, InputError
from fairswap.formats.gltf.animations import Keys, grid_of_keys, keys_of_animation, said_of_mended
from fairswap.formats.gltf.blocks import block_bodies
from fairswap.formats.gltf.boxes import stated_boxes
from fairswap.formats.gltf.container import Container
from fairswap.formats.gltf.contents import held_beside
from fairswap.formats.gltf.copies import Copy, copies_in
from fairswap.formats.gltf.folding import fold_nodes
from fairswap.formats.gltf.holding import bones_that_hold
from fairswap.formats.gltf.materials import MaterialOrigin, picture_of_image
from fairswap.formats.gltf.merging import container_with_merged_joints
from fairswap.formats.gltf.meshes import read_meshes, weights_width_by_node
from fairswap.formats.gltf.nodes import FigureNodes, Tree, figures_from_nodes, tree_from_nodes
from fairswap.formats.gltf.opening import container_from_bytes
from fairswap.formats.gltf.origins import AT_ONCE_S, GltfOrigin, GltfSource
from fairswap.formats.gltf.pieces import container_with_joined_pieces
from fairswap.formats.gltf.stance import as_it_was_written, posture_of_nodes, turned_by_its_feet
from fairswap.formats.limbs_apart import limbs_apart
from fairswap.formats.limits import clip_numbers
from fairswap.formats.naming import distinct
from fairswap.formats.vrm.avatars import Places, avatar_from
from fairswap.formats.vrm.humanoid import extension_of, nodes_of_motion, vrm_roles
from fairswap.model.arrays import Floats, Integers
from fairswap.model.avatar import Avatar
from fairswap.model.clip import Clip
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.model.mesh import Mesh
from fairswap.model.poses import BesideTrack, MorphTrack, PoseBuilder, Poses, StretchTrack
from fairswap.model.posture import PLAUSIBLE_HEIGHT_M, Posture, unit_from_height
from fairswap.model.rotation import without_sign_jumps
from fairswap.model.skeleton import Skeleton
from fairswap.model.space import OURS, UNITS_M, Space, nearest_direction, usual_forward


def read(content: bytes, path: Path, *, unit: str | None = None, up: str | None = None) -> Document:
    """Read the content of a ``.glb`` or ``.gltf``; see :func:`fairswap.load`."""
    container = container_from_bytes(content, path)
    for name, edition in (("VRMC_vrm", "VRM 1.0"), ("VRM", "VRM 0.x")):
        if extension_of(container.raw, name):
            container = replace(container, format=edition)
    return document_from_container(container, unit=unit, up=up)


def document_from_container(container: Container, *, unit: str | None = None, up: str | None = None) -> Document:
    """Figures and clips of a document that is open already; copies of a skeleton are joined with it."""
    path = container.path
    tree = tree_from_nodes(container.document)
    container, told_pieces = container_with_joined_pieces(container, tree)
    named = nodes_of_motion(container.raw)
    groups = figures_from_nodes(container.document, tree, named) or block_bodies(container.document, tree)
    copies = copies_in(container, tree, groups)
    if copies:
        container, joined, findings = _joined(container, tree, copies)
        tree = tree_from_nodes(container.document)
        groups = figures_from_nodes(container.document, tree, named)
    else:
        joined, findings = (), []
    findings += told_pieces
    if container.packed:
        message = f"its data is compressed ({', '.join(container.packed)}); what is written of it is not, and larger"
        findings.append(Finding("unpacked", "note", path.stem, message))
    once = _document(container, tree, groups, {}, unit, up)
    carried = {n: limbs for n, one in enumerate(once.figures) if (limbs := limbs_apart(one, once.clips_of(one)))}
    # What a body stands as shows only with its limbs in their places.
    whole = _document(container, tree, groups, carried, unit, up) if carried else once
    held = held_beside(container, tree, groups, _clip_names(container))
    return replace(whole, findings=(*findings, *whole.findings), joined=joined, held=tuple(held))


def _clip_names(container: Container) -> list[str]:
    names = [animation.name for animation in container.document.animations]
    return distinct([name or f"{container.path.stem} {index + 1}" for index, name in enumerate(names)])


def _document(
    container: Container, tree: Tree, groups: Sequence[FigureNodes], carried: Mapping[int, Mapping[int, int]],
    unit: str | None, up: str | None,
) -> Document:  # fmt: skip
    """Figures and clips; ``carried`` are limbs of figures that hang beside them, each with the bone it belongs to."""
    findings: list[Finding] = []
    figures, spaces = [], []
    for number, nodes in enumerate(groups):
        figure, told, space = _figure(container, tree, nodes, carried.get(number, {}), unit, up)
        figures.append(figure)
        findings += told
        spaces.append(space)
    clips: list[Clip] = []
    for index, name in enumerate(_clip_names(container)):
        told_clips, told = _clips(container, index, name, figures)
        clips += told_clips
        findings += told
    space = max(zip(figures, spaces, strict=True), key=lambda pair: len(pair[0].skeleton), default=(None, OURS))[1]
    return Document(
        str(container.path), container.format, space, tuple(figures), tuple(clips), tuple(findings), container.files,
        origin=container,
    )  # fmt: skip


def _joined(
    container: Container, tree: Tree, copies: list[Copy]
) -> tuple[Container, tuple[tuple[str, str], ...], list[Finding]]:
    """The document with copies of skeletons joined with their bodies' bones: which with which, and what to tell."""
    rows: list[tuple[str, str]] = []
    findings = []
    nodes = container.document.nodes
    for copy in copies:
        rows += [(nodes[node].name, nodes[partner].name) for node, partner in copy.into.items()]
        name = _figure_name(container, tree, copy.body)
        own = {*copy.copy.skins}
        worn = ", ".join(repr(node.name) for node in nodes if node.skin in own and node.name) or repr(name)
        if not copy.copy.skins:
            message = f"a copy of its skeleton ({len(copy.into)} bones) holds nothing"
        elif copy.body.skins:
            message = f"{worn} on a copy of its skeleton ({len(copy.into)} bones)"
        else:
            message = f"{worn} driven by a copy of its skeleton ({len(copy.into)} bones)"
        findings.append(Finding("skeletons-joined", "note", name, f"{message}; both are read, and written, as one"))
        container, _ = container_with_merged_joints(container, copy.into, copy.shift, copy.as_bound)
    return container, tuple(rows), findings


def _figure(
    container: Container, tree: Tree, own: FigureNodes, carried: Mapping[int, int], unit: str | None, up: str | None
) -> tuple[Figure, list[Finding], Space]:
    bone_of = {node: bone for bone, node in enumerate(own.nodes)}
    parents = np.full(len(own.nodes), -1, dtype=np.intp)
    for bone, node in enumerate(own.nodes):
        above = tree.parents[node]
        while above >= 0 and above not in bone_of:
            above = tree.parents[above]
        parents[bone] = bone_of.get(above, -1)
    holding, whole = bones_that_hold(container, tree, own), parents.copy()
    whole[list(carried)] = list(carried.values())
    posture = posture_of_nodes(container, tree, own, whole, holding)
    posture = as_it_was_written(container, tree, own, posture)
    stood = _standing(container, tree, own, parents, posture, unit, up)
    turned = turned_by_its_feet(posture, stood[0])
    return stood if turned is posture else _standing(container, tree, own, parents, turned, unit, up)


def _standing(
    container: Container, tree: Tree, own: FigureNodes, parents: Integers, posture: Posture | None, unit: str | None,
    up: str | None,
) -> tuple[Figure, list[Finding], Space]:  # fmt: skip
    """A figure, stood up from the posture that it is in."""
    document = container.document
    bone_of = {node: bone for bone, node in enumerate(own.nodes)}
    name = _figure_name(container, tree, own)
    findings: list[Finding] = []
    to_ours = _to_ours(tree.world[own.nodes][:, :3, 3], posture, container, name, unit, up, findings)
    fold = fold_nodes(tree, own.nodes, parents, to_ours)
    space = _data_space(fold.above[0, :3, :3])
    if space is not None and space != OURS and np.allclose(to_ours, np.eye(3)):
        message = f"its bones are stored with {space}, under a node that turns and scales them; folded in"
        findings.append(Finding("space-folded", "note", name, message))
    if not fold.even.all():
        bones = [document.nodes[own.nodes[bone]].name for bone in np.flatnonzero(~fold.even)[:3]]
        message = f"bones are scaled unevenly ({', '.join(bones)} …): exact at rest, nearly so in motion"
        findings.append(Finding("uneven-scale", "warning", name, message, "Apply the scale before exporting"))
    skeleton = Skeleton(
        names=tuple(document.nodes[node].name or f"node {node}" for node in own.nodes),
        parents=parents,
        rest_rotations=fold.rest_rotations,
        rest_translations=fold.rest_translations,
        ends=frozenset(bone_of[node] for node in own.ends),
    )
    meshes, mesh_nodes = read_meshes(container, tree, own, bone_of, fold, skeleton, to_ours, findings)
    avatar = _avatar(container, bone_of, meshes, mesh_nodes)
    source = GltfSource(container, skeleton, meshes, tuple(own.nodes), fold, mesh_nodes, to_ours, avatar)
    known = vrm_roles(container.raw, bone_of)
    boxes = stated_boxes(document, own.nodes)
    figure = Figure(name, skeleton, meshes, space or OURS, source, known, avatar, bone_boxes=boxes)
    return figure, findings, space or OURS


def _avatar(
    container: Container, bone_of: dict[int, int], meshes: tuple[Mesh, ...], mesh_nodes: tuple[int, ...]
) -> Avatar | None:
    """What VRM says of a figure beside its bones."""
    if not container.raw.get("extensions"):
        return None
    held: dict[int, list[int]] = {}
    runs: dict[int, list[tuple[int, int]]] = {}
    for number, (node, mesh) in enumerate(zip(mesh_nodes, meshes, strict=True)):
        held.setdefault(container.document.nodes[node].mesh or 0, []).append(number)
        for run, material in enumerate(mesh.materials):
            if isinstance(material.origin, MaterialOrigin):
                runs.setdefault(material.origin.index, []).append((number, run))
    places = Places(bone_of, {node: number for number, node in enumerate(mesh_nodes)}, held, runs)
    return avatar_from(container.raw, places, meshes, lambda index: picture_of_image(container, index))


def _figure_name(container: Container, tree: Tree, own: FigureNodes) -> str:
    nodes, skins = container.document.nodes, container.document.skins
    above = tree.parents[own.nodes[0]]
    names = [nodes[above].name if above >= 0 else ""]
    names += [node.name for node in nodes if node.skin in own.skins and node.skin is not None]
    names += [skins[skin].name for skin in own.skins]
    return next((name for name in names if name), container.path.stem)


def _to_ours(
    positions: Floats, posture: Posture | None, container: Container, name: str, unit: str | None, up: str | None,
    findings: list[Finding],
) -> Floats:  # fmt: skip
    """The turn and scale ``(3, 3)`` by which the file is not in our space although the standard asks for it."""
    height = posture.height if posture else float(np.ptp(positions, axis=0).max())
    found_up = up or (posture.up if posture else OURS.up)
    forward = posture.forward if posture and posture.up == found_up else usual_forward(found_up)
    found_unit = unit or "m"
    in_metres = posture is not None and posture.stands_written
    if unit is None and not in_metres and height > 0 and not PLAUSIBLE_HEIGHT_M[0] <= height <= PLAUSIBLE_HEIGHT_M[1]:
        found_unit = unit_from_height(height)
    space = Space(found_up, forward, found_unit)
    if space != OURS:
        size = f"its joints are {height:.4g} {found_unit} high"
        reason = posture.reason if posture else "you said so"
        says = container.says_forward and not extension_of(container.raw, "VRM")
        if not says and (space.up, space.unit) == (OURS.up, OURS.unit):
            message = f"it looks along {forward} ({reason}); turned to face {OURS.forward}"
            findings.append(Finding("space-found", "note", name, message))
        else:
            asked = container.format.split(" ")[0]
            done = "stood up and scaled to metres"
            if (space.up, space.unit) == (OURS.up, OURS.unit):
                done = f"turned to face {OURS.forward}"
            message = f"the file is not as {asked} asks: {space} ({size}; {reason}); {done}"
            findings.append(Finding("space-corrected", "warning", name, message))
    return space.turn * space.metres


def _data_space(linear: Floats) -> Space | None:
    """Up, forward and unit of the data that ``linear`` brings into our space; None if it does more than that."""
    size = float(np.cbrt(abs(np.linalg.det(linear))))
    if not size:
        return None
    turn = linear / size
    if not np.allclose(np.abs(turn), np.round(np.abs(turn)), atol=1e-4) or np.linalg.det(turn) < 0:
        return None
    unit = min(UNITS_M, key=lambda name: abs(np.log(UNITS_M[name] / size)))
    if abs(UNITS_M[unit] / size - 1.0) > 0.01:
        return None
    return Space(nearest_direction(turn[1]), nearest_direction(turn[2]), unit)


def _clips(container: Container, index: int, name: str, figures: list[Figure]) -> tuple[list[Clip], list[Finding]]:
    """One animation as a clip for each figure that it moves."""
    document = container.document
    keys = keys_of_animation(container, index, weights_width_by_node(container))
    if not keys:
        return [], []
    rate, times, findings = grid_of_keys(list(keys.values()), name)
    mended = said_of_mended(keys, document, name)
    findings += [mended] if mended else []
    _check_amount(len(times), keys, figures, container.size, name)
    clips = []
    sampled: dict[tuple[int, str], BesideTrack] = {}
    for figure in figures:
        source: GltfSource = figure.source
        skeleton = figure.skeleton
        bone_of = {node: bone for bone, node in enumerate(source.nodes)}
        keyed = {bone_of[node] for node, path in keys if node in bone_of}
        if not keyed and not any(node in source.mesh_nodes for node, path in keys if path == "weights"):
            continue
        for (node, path), track in keys.items():
            if path == "scale" and node in bone_of and _changes_size(track, source.fold.scale[bone_of[node]]):
                bone_name = skeleton.names[bone_of[node]]
                message = (
                    f"the size of bone {bone_name!r} changes over time; this is kept and shown, but not carried over"
                )
                findings.append(Finding("animated-scale", "warning", name, message))
        poses = _poses_from_keys(source, keys, times, name, sampled)
        start_s = float(times[0]) if times[0] > AT_ONCE_S else 0.0
        again = any(row.code == "keys-mended" for row in findings)
        origin = GltfOrigin(container, index, poses, source, rate, float(times[0]), again)
        extras = document.animations[index].extras
        made = extras if isinstance(extras, dict) else None
        clips.append(Clip(name, rate, poses, frozenset(keyed), origin, start_s=start_s, made=made))
    if not document.animations[index].name:
        message = "the clip has no name in the file; it is called after the file"
        findings.append(Finding("clip-unnamed", "note", name, message))
    return clips, findings


def _check_amount(frames: int, keys: dict[tuple[int, str], Keys], figures: list[Figure], size: int, name: str) -> None:
    """Refuse what a few keys would blow up: one late key makes hours of frames."""
    bones = sum(len(figure.skeleton) for figure in figures)
    numbers = frames * (4 * bones + sum(row.values.shape[1] for row in keys.values()))
    most = clip_numbers(size)
    if numbers > most:
        problem = f"its keys span {frames} frames, {numbers} numbers; of a file of this size at most {most} are made"
        raise InputError(problem, place=f"animation {name!r}", remedy="Cut it before exporting, or lower its rate")


def poses_from_origin(clip: Clip, times_s: Floats) -> Poses:
    """The poses of an unchanged clip at any times, from its own keys: linear, step or cubic, as the file says."""
    origin: GltfOrigin = clip.origin
    keys = keys_of_animation(origin.container, origin.animation, weights_width_by_node(origin.container))
    grid_of_keys(list(keys.values()), clip.name)
    return _poses_from_keys(origin.source, keys, times_s + origin.start_s, clip.name, {})


def _poses_from_keys(
    source: GltfSource,
    keys: dict[tuple[int, str], Keys],
    times: Floats,
    name: str,
    sampled: dict[tuple[int, str], BesideTrack],
) -> Poses:
    """The poses of one figure at ``times``; ``sampled`` holds what moves beside, for the next figure."""
    skeleton, fold = source.skeleton, source.fold
    bone_of = {node: bone for bone, node in enumerate(source.nodes)}
    rotations = np.empty((len(skeleton), 4, len(times)))
    rotations[:] = skeleton.rest_rotations[:, :, None]
    moved: dict[int, Floats] = {}
    for (node, path), track in keys.items():
        bone = bone_of.get(node)
        if bone is None:
            continue
        if path == "rotation":
            rotations[bone] = fold.bone_rotations(bone, track.sampled(times, rotation=True)).T
        elif path == "translation":
            moved[bone] = fold.bone_translations(bone, track.sampled(times, rotation=False)).T
    if not np.isfinite(rotations).all():
        raise InputError("a rotation is not a number", place=f"animation {name!r}", remedy="Export the file again")
    morphs = tuple(
        MorphTrack(mesh, keys[node, "weights"].sampled(times, rotation=False).T.copy())
        for mesh, node in enumerate(source.mesh_nodes)
        if (node, "weights") in keys
    )
    beside = tuple(
        sampled.get(target) or sampled.setdefault(target, _beside(source.container, target, keys[target], times))
        for target in sorted(keys)
        if target[1] == "scale" or (target[0] not in bone_of and target[0] not in source.mesh_nodes)
    )
    stretches = tuple(
        StretchTrack(bone_of[node], fold.bone_stretches(bone_of[node], track.sampled(times, rotation=False)))
        for (node, path), track in keys.items()
        if path == "scale" and node in bone_of and _changes_size(track, fold.scale[bone_of[node]])
    )
    return PoseBuilder(skeleton, rotations, moved, morphs, beside).poses(stretches=stretches)


def _changes_size(track: Keys, at_rest: Floats) -> bool:
    """Whether these scales are not those of the node at rest, of which the fold took care."""
    return bool(np.all(at_rest != 0.0) and np.abs(track.values / at_rest - 1.0).max() > 1e-4)


def _beside(container: Container, target: tuple[int, str], keys: Keys, times: Floats) -> BesideTrack:
    rotation = target[1] == "rotation"
    values = keys.sampled(times, rotation=rotation).T
    return BesideTrack(container, target, without_sign_jumps(values) if rotation else values.copy())
