"""Meshes: faces to triangles, values however they are spread, skin, blend shapes with their in-betweens."""

from __future__ import annotations

from typing import Any

import numpy as np

from fairswap.errors import InputError
from fairswap.formats.limits import mesh_numbers
from fairswap.formats.scene.building import Surface
from fairswap.formats.scene.polygons import triangles_from_polygons, vertices_from_corners
from fairswap.formats.usd.scene import Scene, Shape
from fairswap.formats.usd.values import flat_values, floats_of, matrix_of, name_of, spread_over, value_of
from fairswap.model.arrays import Floats, Integers

_AGAIN = "Export the file again"


def hang_mesh(scene: Scene, mesh: Any, node: int) -> None:
    """One mesh with its skin, morphs and materials on its node."""
    from pxr import UsdGeom, UsdSkel

    prim, place = mesh.GetPrim(), str(mesh.GetPath())
    points = floats_of(value_of(mesh.GetPointsAttr()), 3, place)
    counts = np.array(value_of(mesh.GetFaceVertexCountsAttr()) or (), dtype=np.intp)
    indices = np.array(value_of(mesh.GetFaceVertexIndicesAttr()) or (), dtype=np.intp)
    if not len(points) or not len(counts):
        return
    if (
        (counts < 0).any()
        or counts.sum() != len(indices)
        or indices.min(initial=0) < 0
        or indices.max(initial=-1) >= len(points)
    ):
        raise InputError("its faces name points that are not there", place=place, remedy=_AGAIN)
    if len(indices) * 12 > mesh_numbers(scene.file_bytes):
        raise InputError(f"its faces have {len(indices)} corners", place=place, remedy=_AGAIN)
    triangles, faces = triangles_from_polygons(points[indices], counts)
    if value_of(mesh.GetOrientationAttr()) == UsdGeom.Tokens.leftHanded:
        triangles = triangles[:, ::-1]
    if not len(triangles):
        return
    corners = triangles.ravel()
    owners = np.repeat(faces, 3)
    columns = [indices[corners]]
    tables: dict[str, tuple[Floats, int]] = {}
    for name, values, interpolation, width in _attributes(mesh, place):
        rows = _rows_at(interpolation, corners, owners, indices[corners])
        if len(rows) and rows.max() < len(values):
            tables[name] = values[:, :width], len(columns)
            columns.append(rows)
    picked, vertex = vertices_from_corners(columns)
    surface = Surface(points[picked[0]], [])
    for name, (values, column) in tables.items():
        setattr(surface, name, values[picked[column]])
    if surface.uvs is not None:
        surface.uvs = surface.uvs * [1.0, -1.0] + [0.0, 1.0]
    two_sided = bool(value_of(mesh.GetDoubleSidedAttr()))
    cut = vertex.reshape(-1, 3)
    for rows, owner in _runs(mesh, faces):
        surface.runs.append((cut[rows], scene.looks.number(owner, two_sided)))
    curves, tokens = _morphs(scene, prim, surface, picked[0], len(points))
    skin = _skin(scene, prim, surface, picked[0], len(points), place)
    scene.builder.hang(node, scene.builder.mesh(name_of(prim), surface), skin)
    if tokens:
        rest = np.array(surface.morph_weights) if len(surface.morph_weights) else np.zeros(len(surface.morphs))
        owner = UsdSkel.BindingAPI(prim).GetInheritedSkeleton()
        key = str(owner.GetPath()) if owner else ""
        scene.shapes.setdefault(key, []).append(Shape(node, tokens, curves, rest))


def _attributes(mesh: Any, place: str) -> list[tuple[str, Floats, str, int]]:
    """Normals, texture coordinates and colours: values, how they are spread, how many numbers to one."""
    from pxr import UsdGeom

    out = []
    primvars = UsdGeom.PrimvarsAPI(mesh)
    normals = primvars.GetPrimvar("normals")
    if normals and normals.HasValue():
        out.append(("normals", floats_of(flat_values(normals), 3, place), normals.GetInterpolation(), 3))
    elif mesh.GetNormalsAttr().HasValue():
        values = floats_of(value_of(mesh.GetNormalsAttr()), 3, place)
        out.append(("normals", values, mesh.GetNormalsInterpolation(), 3))
    coordinates = [one for one in primvars.GetPrimvars() if "texCoord2" in str(one.GetTypeName()) and one.HasValue()]
    plain = [primvars.GetPrimvar(name) for name in ("st", "UVMap", "st0")]
    sets = [*(one for one in plain if one and one.HasValue()), *coordinates]
    if sets:
        out.append(("uvs", floats_of(flat_values(sets[0]), 2, place), sets[0].GetInterpolation(), 2))
    color = primvars.GetPrimvar("displayColor")
    if color and color.HasValue() and color.GetInterpolation() not in ("constant", "uniform"):
        values = np.clip(floats_of(flat_values(color), 3, place), 0.0, 1.0)
        out.append(("colors", values, color.GetInterpolation(), 3))
    return [row for row in out if len(row[1])]


def _skin(scene: Scene, prim: Any, surface: Surface, rows: Integers, count: int, place: str) -> int | None:
    """Bind a surface to its skeleton; None if it hangs as a whole."""
    from pxr import UsdSkel

    binding = UsdSkel.BindingAPI(prim)
    skeleton = binding.GetInheritedSkeleton()
    bones = scene.skeletons.get(str(skeleton.GetPath())) if skeleton else None
    joints, weights = binding.GetJointIndicesPrimvar(), binding.GetJointWeightsPrimvar()
    if bones is None or not bones.joints or not joints or not joints.HasValue() or not weights.HasValue():
        return None
    own = [str(token) for token in value_of(binding.GetJointsAttr()) or ()] or bones.joints
    known = {joint: at for at, joint in enumerate(bones.joints)}
    if any(joint not in known for joint in own):
        raise InputError("it names joints that its skeleton does not have", place=place, remedy=_AGAIN)
    order = np.array([known[joint] for joint in own], dtype=np.intp)
    width = max(int(joints.GetElementSize()), 1)
    number = np.array(flat_values(joints) or (), dtype=np.intp)
    weight = floats_of(flat_values(weights), 1, place)[:, 0]
    if joints.GetInterpolation() == "constant":
        number, weight = np.tile(number[:width], count), np.tile(weight[:width], count)
    if len(number) != count * width or len(weight) != len(number) or (number < 0).any() or number.max() >= len(own):
        raise InputError("its influences do not add up, or name joints that are not there", place=place, remedy=_AGAIN)
    surface.joints = order[number].reshape(count, width)[rows]
    surface.weights = weight.reshape(count, width)[rows]
    held = binding.GetGeomBindTransformAttr()
    bind = matrix_of(value_of(held)) if held and held.HasValue() else np.eye(4)
    surface.positions = surface.positions @ bind[:3, :3].T + bind[:3, 3]
    if surface.normals is not None and abs(np.linalg.det(bind[:3, :3])) > 1e-18:
        surface.normals = surface.normals @ np.linalg.inv(bind[:3, :3])
    surface.morphs = {name: (shifts @ bind[:3, :3].T, turns) for name, (shifts, turns) in surface.morphs.items()}
    bones.skinned = True
    return scene.builder.skin(bones.nodes, bones.binds)


def _morphs(
    scene: Scene, prim: Any, surface: Surface, rows: Integers, count: int
) -> tuple[list[tuple[list[float], list[float]]], list[str]]:
    """Put blend shapes on a surface; an in-between is a morph of its own, which comes and goes on the way.

    Gives for each morph the curve by which the weight of its token moves it (weights, and what they make), and the
    tokens.
    """
    from pxr import UsdSkel

    binding = UsdSkel.BindingAPI(prim)
    named = binding.GetBlendShapesAttr()
    tokens = [str(token) for token in value_of(named) or ()] if named else []
    targets = binding.GetBlendShapeTargetsRel().GetTargets() if tokens else []
    curves: list[tuple[list[float], list[float]]] = []
    used: list[str] = []
    for token, target in zip(tokens, targets, strict=False):
        held = scene.stage.GetPrimAtPath(target)
        shape = UsdSkel.BlendShape(held)
        if not shape:
            raise InputError(f"its blend shape {token!r} is not there", place=str(prim.GetPath()), remedy=_AGAIN)
        place = str(held.GetPath())
        points = np.array(value_of(shape.GetPointIndicesAttr()) or (), dtype=np.intp)
        if len(points) and (points.min() < 0 or points.max() >= count):
            raise InputError("it moves points that are not there", place=place, remedy=_AGAIN)
        whole = spread_over(value_of(shape.GetOffsetsAttr()), points, count, place)
        turns = value_of(shape.GetNormalOffsetsAttr())
        shaped = spread_over(turns, points, count, place) if turns else None
        title, number = name_of(held), 2
        while title in surface.morphs:
            title, number = f"{name_of(held)} ({number})", number + 1
        between = [(float(one.GetWeight()), one.GetOffsets()) for one in shape.GetInbetweens()]
        stops = [(weight, spread_over(shifts, points, count, place)) for weight, shifts in sorted(between, key=_weight)]
        stops = [(weight, shifts) for weight, shifts in stops if 0.0 < weight < 1.0]
        ways = [0.0, *(weight for weight, _ in stops), 1.0]
        surface.morphs[title] = whole[rows], None if shaped is None else shaped[rows]
        curves.append(_curve(ways, len(ways) - 1))
        used.append(token)
        for at, (weight, shifts) in enumerate(stops, 1):
            surface.morphs[f"{title} {weight:.0%}"] = shifts[rows], None
            curves.append(_curve(ways, at))
            used.append(token)
    return curves, used


def _runs(mesh: Any, faces: Integers) -> list[tuple[np.ndarray, Any]]:
    """The triangles of each part of a mesh that has a material of its own, with the prim that says which."""
    from pxr import UsdGeom, UsdShade

    left = np.ones(len(faces), dtype=bool)
    out: list[tuple[np.ndarray, Any]] = []
    for subset in UsdShade.MaterialBindingAPI(
        mesh.GetPrim()
    ).GetMaterialBindSubsets() or UsdGeom.Subset.GetAllGeomSubsets(mesh):
        own = np.array(value_of(subset.GetIndicesAttr()) or (), dtype=np.intp)
        rows = np.flatnonzero(np.isin(faces, own) & left)
        if len(rows):
            left[rows] = False
            out.append((rows, subset.GetPrim()))
    if left.any():
        out.append((np.flatnonzero(left), mesh.GetPrim()))
    return out


def _rows_at(interpolation: str, corners: Integers, faces: Integers, points: Integers) -> Integers:
    """Which row of a value each corner takes, by how it is spread over the mesh."""
    if interpolation == "faceVarying":
        return corners
    if interpolation == "uniform":
        return faces
    return np.zeros_like(corners) if interpolation == "constant" else points


def _curve(ways: list[float], at: int) -> tuple[list[float], list[float]]:
    """One at its own stop, nothing at all others, straight between them."""
    return ways, [1.0 if index == at else 0.0 for index in range(len(ways))]


def _weight(stop: tuple[float, Any]) -> float:
    return stop[0]
