"""Surfaces: shapes hung on nodes, displacers as morphs, and the skin of a humanoid."""

from __future__ import annotations

import numpy as np

from fairswap.errors import InputError
from fairswap.formats.markup import Tag
from fairswap.formats.scene.building import Surface
from fairswap.formats.scene.polygons import vertices_from_corners
from fairswap.formats.x3d.fields import kept_word, number, rows, whole
from fairswap.formats.x3d.scene import Humanoid, Scene
from fairswap.formats.x3d.shapes import Faces, faces_of
from fairswap.model.arrays import Floats, Integers
from fairswap.model.rotation import matrix_from_quaternion

_AGAIN = "Export the file again"


def hang_shapes(scene: Scene, node: int, name: str, shapes: list[Tag], displacers: list[Tag]) -> None:
    """Hang shapes on a node as one mesh, or as one for each where they share no points. The same shape elsewhere is the
    same mesh."""
    same = id(shapes[0]) if len(shapes) == 1 and not displacers else None
    if same in scene.meshes:
        scene.builder.hang(node, scene.meshes[same])
        return
    found = [(shape, faces) for shape in shapes if (faces := _faces(scene, shape)) is not None]
    groups: dict[int, list[tuple[Tag, Faces]]] = {}
    for shape, faces in found:
        key = id(faces.coordinates) if faces.coordinates is not None else id(shape)
        groups.setdefault(key, []).append((shape, faces))
    for index, own in enumerate(groups.values()):
        surface, points = _surface(scene, own)
        total = len(own[0][1].tables["positions"][0])
        used = _displace(surface, displacers, points, total) if displacers else []
        holder = node if not index else scene.builder.node(f"{name} {index + 1}", node)
        number_of = scene.builder.mesh(name, surface)
        scene.builder.hang(holder, number_of)
        if same is not None:
            scene.meshes[same] = number_of
        for at, displacer in enumerate(used):
            scene.displaced.setdefault(displacer, []).append((holder, at))


def hang_skin(scene: Scene, humanoid: Humanoid) -> None:
    """The skin of a humanoid, bound to its joints; without one, its joints are a skeleton all the same."""
    if not humanoid.joints:
        return
    nodes = [joint.node for joint in humanoid.joints]
    binds = np.tile(np.eye(4), (len(nodes), 1, 1))
    for at, joint in enumerate(humanoid.joints):
        binds[at, :3, :3] = matrix_from_quaternion(joint.rest)
        binds[at, :3, 3] = joint.center
    skin = scene.builder.skin(nodes, binds)
    children = [one for one in humanoid.tag if isinstance(one, Tag)]
    coordinates = next((scene.resolved(one) for one in children if one.get("containerField") == "skinCoord"), None)
    if coordinates is None:
        return
    total = len(rows(coordinates, "point", 3))
    influences = _influences(humanoid, total)
    displacers = [
        scene.resolved(one) for joint in humanoid.joints for one in joint.tag
        if one.tag == "HAnimDisplacer" and isinstance(one, Tag)
    ]  # fmt: skip
    for child in children:
        if child.get("containerField") != "skin":
            continue
        held = scene.resolved(child)
        shapes = (
            [held]
            if held.tag == "Shape"
            else [scene.resolved(one) for one in held if one.tag == "Shape" and isinstance(one, Tag)]
        )
        found = [(shape, faces) for shape in shapes if (faces := _faces(scene, shape)) is not None]
        own = [(shape, faces) for shape, faces in found if faces.coordinates is coordinates]
        if not own:
            continue
        surface, points = _surface(scene, own)
        surface.joints, surface.weights = influences[0][points], influences[1][points]
        used = _displace(surface, displacers, points, total)
        name = kept_word(held, "name") or held.get("DEF") or "skin"
        node = scene.builder.node(name, None)
        scene.builder.hang(node, scene.builder.mesh(name, surface), skin)
        for at, displacer in enumerate(used):
            scene.displaced.setdefault(displacer, []).append((node, at))


def _faces(scene: Scene, shape: Tag) -> Faces | None:
    kinds = ("Appearance", "MetadataString", "MetadataSet")
    geometry = next((one for one in shape if one.tag not in kinds and isinstance(one, Tag)), None)
    faces = None if geometry is None else faces_of(scene.resolved(geometry), scene.resolved, scene.file_bytes)
    return faces if faces is not None and len(faces.tables["positions"][1]) else None


def _surface(scene: Scene, own: list[tuple[Tag, Faces]]) -> tuple[Surface, Integers]:
    """One surface of shapes with the same points; and which point each of its vertices is."""
    names = [name for name in own[0][1].tables if all(name in faces.tables for _, faces in own)]
    columns, tables = [], {}
    for name in names:
        table = own[0][1].tables[name][0]
        if all(_same_table(faces.tables[name][0], table) for _, faces in own):
            tables[name] = table
            columns.append(np.concatenate([faces.tables[name][1] for _, faces in own]))
            continue
        starts = np.cumsum([0, *(len(faces.tables[name][0]) for _, faces in own)])
        width = min(faces.tables[name][0].shape[1] for _, faces in own)
        tables[name] = np.concatenate([faces.tables[name][0][:, :width] for _, faces in own])
        parts = [faces.tables[name][1] + start for (_, faces), start in zip(own, starts, strict=False)]
        columns.append(np.concatenate(parts))
    picked, vertex = vertices_from_corners(columns)
    surface = Surface(tables["positions"][picked[0]], [])
    for name, rows_of_it in zip(names[1:], picked[1:], strict=True):
        setattr(surface, name, tables[name][rows_of_it])
    start = 0
    for shape, faces in own:
        end = start + len(faces.tables["positions"][1])
        held = next((one for one in shape if one.tag == "Appearance" and isinstance(one, Tag)), None)
        look = scene.looks.number(None if held is None else scene.resolved(held), not faces.solid)
        surface.runs.append((vertex[start:end].reshape(-1, 3), look))
        start = end
    return surface, picked[0]


def _same_table(a: Floats, b: Floats) -> bool:
    """Whether two tables are one, or say the same."""
    return a is b or np.array_equal(a, b)


def _displace(surface: Surface, displacers: list[Tag], points: Integers, total: int) -> list[str]:
    """Displacers as morphs of a surface, those that move any of its points; gives their names in the file."""
    used: list[str] = []
    weights: list[float] = []
    for displacer in displacers:
        indices, shifts = whole(displacer, "coordIndex"), rows(displacer, "displacements", 3)
        if len(indices) != len(shifts) or (len(indices) and (indices.min() < 0 or indices.max() >= total)):
            problem = f"it moves {len(indices)} points by {len(shifts)} shifts, of {total} points"
            raise InputError(problem, place=displacer.place, remedy=_AGAIN)
        moved = np.zeros((total, 3))
        moved[indices] = shifts
        if not np.isin(points, indices).any():
            continue
        title, count = displacer.get("name") or displacer.get("DEF") or f"displacer {len(used) + 1}", 2
        while title in surface.morphs:
            title, count = f"{displacer.get('name')} ({count})", count + 1
        surface.morphs[title] = moved[points], None
        weights.append(number(displacer, "weight", 0.0))
        used.append(displacer.get("DEF") or title)
    surface.morph_weights = weights
    return used


def _influences(humanoid: Humanoid, total: int) -> tuple[Integers, Floats]:
    """Joints and weights ``(points, k)`` of a skin; a point that no joint moves goes with the first."""
    joints, points, weights = [], [], []
    for number_of, joint in enumerate(humanoid.joints):
        indices, own = whole(joint.tag, "skinCoordIndex"), rows(joint.tag, "skinCoordWeight", 1)[:, 0]
        if len(own) == 1 and len(indices) > 1:
            own = np.repeat(own, len(indices))
        if len(indices) != len(own) or (len(indices) and (indices.min() < 0 or indices.max() >= total)):
            problem = f"it holds {len(indices)} points by {len(own)} weights, of {total} points"
            raise InputError(problem, place=joint.tag.place, remedy=_AGAIN)
        joints.append(np.full(len(indices), number_of))
        points.append(indices)
        weights.append(own)
    joint_of, point_of, weight_of = np.concatenate(joints), np.concatenate(points), np.concatenate(weights)
    order = np.argsort(point_of, kind="stable")
    joint_of, point_of, weight_of = joint_of[order], point_of[order], weight_of[order]
    counts = np.bincount(point_of, minlength=total)
    most = max(int(counts.max(initial=0)), 1)
    if most * total > 64_000_000:
        raise InputError(f"{most} joints hold one point", place=humanoid.tag.place, remedy=_AGAIN)
    column = np.arange(len(point_of)) - np.repeat(np.cumsum(counts) - counts, counts)
    out, share = np.zeros((total, most), dtype=np.intp), np.zeros((total, most))
    out[point_of, column], share[point_of, column] = joint_of, weight_of
    share[share.sum(axis=1) <= 0.0, 0] = 1.0
    return out, share
