"""From a USD stage to figures and clips: its skeletons, meshes and animations built up as nodes, skins and keys."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np

from fairswap.errors import Finding, InputError
from fairswap.formats.gltf.container import Container
from fairswap.formats.gltf.reading import document_from_container
from fairswap.formats.limits import clip_numbers, mesh_numbers
from fairswap.formats.scene.beside import Pictures
from fairswap.formats.scene.building import SceneBuilder, Surface, trs_from_matrices
from fairswap.formats.scene.polygons import triangles_from_polygons, vertices_from_corners
from fairswap.formats.scene.stance import stance_node
from fairswap.formats.usd.apart import done_apart
from fairswap.formats.usd.looks import Looks
from fairswap.formats.usd.packing import library, opened_stage
from fairswap.model.arrays import Floats, Integers
from fairswap.model.document import Document

_AGAIN = "Export the file again"
_MOST_PRIMS = 200_000


def read(content: bytes, path: Path, *, unit: str | None = None, up: str | None = None) -> Document:
    """Read the content of a USD file; see :func:`fairswap.load`.

    Raises
    ------
    ImpossibleError
        If the official library is not installed.
    InputError
        If it is no USD, damaged, or names what is not there.
    """
    library()  # says so if it is not there
    container, findings = done_apart(_container, len(content), content, path, unit, up)
    document = document_from_container(container)
    return replace(document, findings=(*findings, *document.findings))


def _container(content: bytes, path: Path, unit: str | None, up: str | None) -> tuple[Container, list[Finding]]:
    """The stage as a glTF document, and what was noticed."""
    with opened_stage(content, path) as (stage, folder, beside):
        scene = _Scene(stage, folder, path, len(content))
        scene.build(unit, up)
        pictures = scene.looks.pictures.beside if folder == path.parent else []
        files = tuple(dict.fromkeys([*beside, *pictures]))
        return scene.builder.container(path, "USD", beside=files), scene.findings


@dataclass
class _Bones:
    """A skeleton while it is read: its joints' nodes, their names, and their bind matrices ``(joints, 4, 4)``."""

    joints: list[str]
    nodes: list[int]
    binds: Floats
    rest: Floats
    skinned: bool = False


@dataclass
class _Shape:
    """A mesh that was hung: its node, and for each of its morphs the token and how weights of the token move it."""

    node: int
    tokens: list[str]
    curves: list[tuple[list[float], list[float]]]
    rest: Floats


@dataclass
class _Scene:
    """The scene while it is built up."""

    stage: Any
    folder: Path
    path: Path
    file_bytes: int
    builder: SceneBuilder = field(default_factory=SceneBuilder)
    findings: list[Finding] = field(default_factory=list)
    skeletons: dict[str, _Bones] = field(default_factory=dict)
    shapes: dict[str, list[_Shape]] = field(default_factory=dict)

    def build(self, unit: str | None, up: str | None) -> None:
        """Nodes, skeletons, meshes; then what moves them."""
        from pxr import Usd, UsdGeom, UsdSkel

        self.looks = Looks(self.builder, Pictures(self.folder, self.path.name, self.findings))
        metres, axis = float(UsdGeom.GetStageMetersPerUnit(self.stage)), f"+{UsdGeom.GetStageUpAxis(self.stage)}"
        top = stance_node(self.builder, unit, up, file_metres=metres, file_up=axis)
        nodes: dict[str, int] = {}
        meshes, animations, moving = [], [], []
        for count, prim in enumerate(self.stage.Traverse(Usd.TraverseInstanceProxies())):
            if count > _MOST_PRIMS:
                raise InputError(f"it holds over {_MOST_PRIMS} things", remedy=_AGAIN + " with the figure alone")
            if prim.IsA(UsdSkel.Animation):
                animations.append(UsdSkel.Animation(prim))
            if not prim.IsA(UsdGeom.Xformable):
                continue
            xform = UsdGeom.Xformable(prim)
            above = next((nodes[str(at)] for at in _above(prim.GetPath()) if str(at) in nodes), top)
            matrix = _matrix(xform.GetLocalTransformation())
            # A skeleton is called after what it is the skeleton of, unless it has a name to show.
            named = prim.GetParent() if prim.IsA(UsdSkel.Skeleton) and not prim.GetDisplayName() else prim
            number = self.builder.node(_name(named), above, matrix)
            nodes[str(prim.GetPath())] = number
            if xform.TransformMightBeTimeVarying():
                moving.append((xform, number))
            if prim.IsA(UsdSkel.Skeleton):
                self.skeletons[str(prim.GetPath())] = self._bones(UsdSkel.Skeleton(prim), number)
            elif prim.IsA(UsdGeom.Mesh):
                meshes.append((UsdGeom.Mesh(prim), number))
        for mesh, number in meshes:
            self._mesh(mesh, number)
        for bones in self.skeletons.values():
            if not bones.skinned and bones.nodes:
                self.builder.skin(bones.nodes, bones.binds)
        self._clips(animations, moving)

    def _bones(self, skeleton: Any, holder: int) -> _Bones:
        """The joints of a skeleton as nodes below it."""
        from pxr import UsdSkel

        joints = [str(token) for token in skeleton.GetJointsAttr().Get() or ()]
        place = str(skeleton.GetPath())
        topology = UsdSkel.Topology(joints)
        valid, reason = topology.Validate()
        if not valid:
            raise InputError(f"its joints are no tree ({reason})", place=place, remedy=_AGAIN)
        parents = [int(topology.GetParent(index)) for index in range(len(joints))]
        names = list(skeleton.GetJointNamesAttr().Get() or ())
        if len(names) != len(joints):
            names = [joint.rpartition("/")[2] for joint in joints]
        binds = _matrix_array(skeleton.GetBindTransformsAttr().Get(), len(joints), place)
        rest = _matrix_array(skeleton.GetRestTransformsAttr().Get(), len(joints), place)
        if binds is None and rest is None:
            raise InputError("its joints have neither a bind nor a rest pose", place=place, remedy=_AGAIN)
        if rest is None and binds is not None:
            inverse = np.linalg.inv(binds)
            rest = np.stack([
                binds[at] if parent < 0 else inverse[parent] @ binds[at] for at, parent in enumerate(parents)
            ]) if joints else np.empty((0, 4, 4))  # fmt: skip
        assert rest is not None
        if binds is None:
            binds = rest.copy()
            for at, parent in enumerate(parents):
                if parent >= 0:
                    binds[at] = binds[parent] @ rest[at]
        nodes: list[int] = []
        for at, parent in enumerate(parents):
            nodes.append(self.builder.node(str(names[at]), nodes[parent] if parent >= 0 else holder, rest[at]))
        return _Bones(joints, nodes, binds, rest)

    def _mesh(self, mesh: Any, node: int) -> None:
        """One mesh with its skin, morphs and materials on its node."""
        from pxr import UsdGeom, UsdSkel

        prim, place = mesh.GetPrim(), str(mesh.GetPath())
        points = _floats(mesh.GetPointsAttr().Get(), 3, place)
        counts = np.array(mesh.GetFaceVertexCountsAttr().Get() or (), dtype=np.intp)
        indices = np.array(mesh.GetFaceVertexIndicesAttr().Get() or (), dtype=np.intp)
        if not len(points) or not len(counts):
            return
        if (
            (counts < 0).any()
            or counts.sum() != len(indices)
            or indices.min(initial=0) < 0
            or indices.max(initial=-1) >= len(points)
        ):
            raise InputError("its faces name points that are not there", place=place, remedy=_AGAIN)
        if len(indices) * 12 > mesh_numbers(self.file_bytes):
            raise InputError(f"its faces have {len(indices)} corners", place=place, remedy=_AGAIN)
        triangles, faces = triangles_from_polygons(points[indices], counts)
        if mesh.GetOrientationAttr().Get() == UsdGeom.Tokens.leftHanded:
            triangles = triangles[:, ::-1]
        if not len(triangles):
            return
        corners = triangles.ravel()
        owners = np.repeat(faces, 3)
        columns = [indices[corners]]
        tables: dict[str, tuple[Floats, int]] = {}
        for name, values, interpolation, width in self._attributes(mesh, place):
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
        two_sided = bool(mesh.GetDoubleSidedAttr().Get())
        cut = vertex.reshape(-1, 3)
        for rows, owner in _runs(mesh, faces):
            surface.runs.append((cut[rows], self.looks.number(owner, two_sided)))
        curves, tokens = self._morphs(prim, surface, picked[0], len(points))
        skin = self._skin(prim, surface, picked[0], len(points), place)
        self.builder.hang(node, self.builder.mesh(_name(prim), surface), skin)
        if tokens:
            rest = np.array(surface.morph_weights) if len(surface.morph_weights) else np.zeros(len(surface.morphs))
            owner = UsdSkel.BindingAPI(prim).GetInheritedSkeleton()
            key = str(owner.GetPath()) if owner else ""
            self.shapes.setdefault(key, []).append(_Shape(node, tokens, curves, rest))

    def _attributes(self, mesh: Any, place: str) -> list[tuple[str, Floats, str, int]]:
        """Normals, texture coordinates and colours: values, how they are spread, how many numbers to one."""
        from pxr import UsdGeom

        out = []
        primvars = UsdGeom.PrimvarsAPI(mesh)
        normals = primvars.GetPrimvar("normals")
        if normals and normals.HasValue():
            out.append(("normals", _floats(normals.ComputeFlattened(), 3, place), normals.GetInterpolation(), 3))
        elif mesh.GetNormalsAttr().HasValue():
            values = _floats(mesh.GetNormalsAttr().Get(), 3, place)
            out.append(("normals", values, mesh.GetNormalsInterpolation(), 3))
        coordinates = [
            one for one in primvars.GetPrimvars() if "texCoord2" in str(one.GetTypeName()) and one.HasValue()
        ]
        plain = [primvars.GetPrimvar(name) for name in ("st", "UVMap", "st0")]
        sets = [*(one for one in plain if one and one.HasValue()), *coordinates]
        if sets:
            out.append(("uvs", _floats(sets[0].ComputeFlattened(), 2, place), sets[0].GetInterpolation(), 2))
        color = primvars.GetPrimvar("displayColor")
        if color and color.HasValue() and color.GetInterpolation() not in ("constant", "uniform"):
            values = np.clip(_floats(color.ComputeFlattened(), 3, place), 0.0, 1.0)
            out.append(("colors", values, color.GetInterpolation(), 3))
        return [row for row in out if len(row[1])]

    def _skin(self, prim: Any, surface: Surface, rows: Integers, count: int, place: str) -> int | None:
        """Bind a surface to its skeleton; None if it hangs as a whole."""
        from pxr import UsdSkel

        binding = UsdSkel.BindingAPI(prim)
        skeleton = binding.GetInheritedSkeleton()
        bones = self.skeletons.get(str(skeleton.GetPath())) if skeleton else None
        joints, weights = binding.GetJointIndicesPrimvar(), binding.GetJointWeightsPrimvar()
        if bones is None or not bones.joints or not joints or not joints.HasValue() or not weights.HasValue():
            return None
        own = [str(token) for token in binding.GetJointsAttr().Get() or ()] or bones.joints
        known = {joint: at for at, joint in enumerate(bones.joints)}
        if any(joint not in known for joint in own):
            raise InputError("it names joints that its skeleton has not", place=place, remedy=_AGAIN)
        order = np.array([known[joint] for joint in own], dtype=np.intp)
        width = max(int(joints.GetElementSize()), 1)
        number = np.array(joints.ComputeFlattened() or (), dtype=np.intp)
        weight = _floats(weights.ComputeFlattened(), 1, place)[:, 0]
        if joints.GetInterpolation() == "constant":
            number, weight = np.tile(number[:width], count), np.tile(weight[:width], count)
        if len(number) != count * width or len(weight) != len(number) or (number < 0).any() or number.max() >= len(own):
            raise InputError(
                "its influences do not add up, or name joints that are not there", place=place, remedy=_AGAIN
            )
        surface.joints = order[number].reshape(count, width)[rows]
        surface.weights = weight.reshape(count, width)[rows]
        held = binding.GetGeomBindTransformAttr()
        bind = _matrix(held.Get()) if held and held.HasValue() else np.eye(4)
        surface.positions = surface.positions @ bind[:3, :3].T + bind[:3, 3]
        if surface.normals is not None and abs(np.linalg.det(bind[:3, :3])) > 1e-18:
            surface.normals = surface.normals @ np.linalg.inv(bind[:3, :3])
        surface.morphs = {name: (shifts @ bind[:3, :3].T, turns) for name, (shifts, turns) in surface.morphs.items()}
        bones.skinned = True
        return self.builder.skin(bones.nodes, bones.binds)

    def _morphs(
        self, prim: Any, surface: Surface, rows: Integers, count: int
    ) -> tuple[list[tuple[list[float], list[float]]], list[str]]:
        """Put blend shapes on a surface; an in-between is a morph of its own, which comes and goes on the way.

        Gives for each morph the curve by which the weight of its token moves it (weights, and what they make), and the
        tokens.
        """
        from pxr import UsdSkel

        binding = UsdSkel.BindingAPI(prim)
        tokens = (
            [str(token) for token in binding.GetBlendShapesAttr().Get() or ()] if binding.GetBlendShapesAttr() else []
        )
        targets = binding.GetBlendShapeTargetsRel().GetTargets() if tokens else []
        curves: list[tuple[list[float], list[float]]] = []
        used: list[str] = []
        for token, target in zip(tokens, targets, strict=False):
            held = self.stage.GetPrimAtPath(target)
            shape = UsdSkel.BlendShape(held)
            if not shape:
                raise InputError(f"its blend shape {token!r} is not there", place=str(prim.GetPath()), remedy=_AGAIN)
            place = str(held.GetPath())
            points = np.array(shape.GetPointIndicesAttr().Get() or (), dtype=np.intp)
            if len(points) and (points.min() < 0 or points.max() >= count):
                raise InputError("it moves points that are not there", place=place, remedy=_AGAIN)
            whole = _spread(shape.GetOffsetsAttr().Get(), points, count, place)
            turns = shape.GetNormalOffsetsAttr().Get()
            shaped = _spread(turns, points, count, place) if turns else None
            title, number = _name(held), 2
            while title in surface.morphs:
                title, number = f"{_name(held)} ({number})", number + 1
            between = [(float(one.GetWeight()), one.GetOffsets()) for one in shape.GetInbetweens()]
            stops = [(weight, _spread(shifts, points, count, place)) for weight, shifts in sorted(between, key=_weight)]
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

    def _clips(self, animations: Sequence[Any], moving: Sequence[tuple[Any, int]]) -> None:
        """Each animation as a clip; what moves beside the skeletons goes with the one that is bound, or by itself."""
        from pxr import UsdSkel

        ticks = float(self.stage.GetTimeCodesPerSecond()) or 24.0
        sources: dict[str, list[str]] = {}
        for key in self.skeletons:
            bound = UsdSkel.BindingAPI(self.stage.GetPrimAtPath(key)).GetInheritedAnimationSource()
            if bound:
                sources.setdefault(str(bound.GetPath()), []).append(key)
        beside = [row for xform, number in moving for row in self._xform_keys(xform, number, ticks)]
        names: list[str] = []
        for animation in animations:
            own = str(animation.GetPath())
            tokens = [str(token) for token in animation.GetJointsAttr().Get() or ()]
            keys = sources.get(own) or [
                key for key, bones in self.skeletons.items() if tokens and set(tokens) <= set(bones.joints)
            ][:1]  # fmt: skip
            channels = [row for key in keys for row in self._keys(animation, tokens, key, ticks)]
            if own in sources or (not sources and not names):
                channels += beside
                beside = []
            if channels:
                names.append(_name(animation.GetPrim()))
                self.builder.animation(names[-1], channels)
        if beside:
            self.builder.animation(self.path.stem, beside)

    def _keys(
        self, animation: Any, tokens: list[str], key: str, ticks: float
    ) -> list[tuple[int, str, Floats, Floats, str]]:
        """The keys of one animation on one skeleton, and on the meshes that hang on it."""
        bones = self.skeletons[key]
        known = {joint: at for at, joint in enumerate(bones.joints)}
        place = str(animation.GetPath())
        out: list[tuple[int, str, Floats, Floats, str]] = []
        only = animation.GetPrim().GetCustomDataByKey("keyed")
        rows = self.builder.raw["nodes"]
        for path, attribute, width in (
            ("rotation", animation.GetRotationsAttr(), 4),
            ("translation", animation.GetTranslationsAttr(), 3),
            ("scale", animation.GetScalesAttr(), 3),
        ):
            times, values = self._samples(attribute, len(tokens), width, ticks, place)
            if values is None:
                continue
            for column, token in enumerate(tokens):
                if token not in known:
                    continue
                node = bones.nodes[known[token]]
                track = values[:, column]
                spread = float(np.ptp(track, axis=0).max(initial=0.0))
                rest = trs_from_matrices(bones.rest[known[token]][None])
                still = {"rotation": rest[1][0], "translation": rest[0][0], "scale": rest[2][0]}[path]
                toward = -1.0 if path == "rotation" and track[0] @ still < 0.0 else 1.0
                off = float(np.abs(track[0] * toward - still).max())
                at_rest = spread < 1e-6 and off < 1e-6 * max(1.0, float(np.abs(still).max()))
                if at_rest and path != "rotation":
                    continue
                if at_rest and only is not None and rows[node]["name"] not in only:
                    continue
                kept = slice(None) if spread >= 1e-7 or len(times) < 2 else [0, -1]
                out.append((node, path, times[kept], track[kept], "LINEAR"))
        names = [str(token) for token in animation.GetBlendShapesAttr().Get() or ()]
        times, weights = self._samples(animation.GetBlendShapeWeightsAttr(), len(names), 1, ticks, place)
        if weights is None:
            return out
        column_of = {name: at for at, name in enumerate(names)}
        for shape in [*self.shapes.get(key, ()), *self.shapes.get("", ())]:
            if not set(shape.tokens) & set(column_of):
                continue
            values = np.tile(shape.rest, (len(times), 1))
            for at, (token, (ways, made)) in enumerate(zip(shape.tokens, shape.curves, strict=True)):
                if token in column_of:
                    track = weights[:, column_of[token], 0]
                    # Beyond its ends the last stretch goes on, as a weight over one does.
                    bent = np.interp(track, ways, made)
                    values[:, at] = np.where(track > 1.0, bent * track, bent) if len(ways) > 2 else track
            out.append((shape.node, "weights", times, values, "LINEAR"))
        return out

    def _samples(
        self, attribute: Any, count: int, width: int, ticks: float, place: str
    ) -> tuple[Floats, Floats | None]:
        """The times in seconds and values ``(times, count, width)`` of an attribute; None if it has none."""
        codes = list(attribute.GetTimeSamples()) if attribute else []
        if not attribute or not count or not attribute.HasAuthoredValue():
            return np.zeros(1), None
        if len(codes) * count * width > clip_numbers(self.file_bytes):
            raise InputError(
                f"its {len(codes)} samples are too many for a file of this size", place=place, remedy=_AGAIN
            )
        rows = [attribute.Get(code) for code in codes] or [attribute.Get()]
        if any(row is None or len(row) != count for row in rows):
            if all(row is None or len(row) == 0 for row in rows):
                return np.zeros(1), None
            raise InputError(f"a sample of {attribute.GetName()} has not {count} values", place=place, remedy=_AGAIN)
        values = np.stack([np.array(row, dtype=np.float64) for row in rows]).reshape(len(rows), count, width)
        if not np.isfinite(values).all():
            raise InputError("a sample is not finite", place=place, remedy=_AGAIN)
        if width == 4:
            # A turn of length zero is none.
            values[~values.any(axis=2)] = [0.0, 0.0, 0.0, 1.0]
        times = np.array(codes or [0.0]) / ticks
        start = max(0.0, -float(times[0]))
        return times + start, values

    def _xform_keys(self, xform: Any, node: int, ticks: float) -> list[tuple[int, str, Floats, Floats, str]]:
        """The keys of a thing that moves as a whole."""
        codes = xform.GetTimeSamples()
        if len(codes) < 2 or len(codes) * 16 > clip_numbers(self.file_bytes):
            return []
        matrices = np.stack([_matrix(xform.GetLocalTransformation(code)) for code in codes])
        places, turns, sizes = trs_from_matrices(matrices)
        times = np.array(codes) / ticks
        times = times + max(0.0, -float(times[0]))
        out = [(node, "rotation", times, turns, "LINEAR"), (node, "translation", times, places, "LINEAR")]
        if np.ptp(sizes, axis=0).max() > 1e-5:
            out.append((node, "scale", times, sizes, "LINEAR"))
        return out


def _weight(stop: tuple[float, Any]) -> float:
    return stop[0]


def _curve(ways: list[float], at: int) -> tuple[list[float], list[float]]:
    """One at its own stop, nothing at all others, straight between them."""
    return ways, [1.0 if index == at else 0.0 for index in range(len(ways))]


def _runs(mesh: Any, faces: Integers) -> list[tuple[np.ndarray, Any]]:
    """The triangles of each part of a mesh that has a material of its own, with the prim that says which."""
    from pxr import UsdGeom, UsdShade

    left = np.ones(len(faces), dtype=bool)
    out: list[tuple[np.ndarray, Any]] = []
    for subset in UsdShade.MaterialBindingAPI(
        mesh.GetPrim()
    ).GetMaterialBindSubsets() or UsdGeom.Subset.GetAllGeomSubsets(mesh):
        own = np.array(subset.GetIndicesAttr().Get() or (), dtype=np.intp)
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


def _spread(values: Any, points: Integers, count: int, place: str) -> Floats:
    """Shifts ``(count, 3)`` of all points, from those of some."""
    rows = _floats(values, 3, place)
    if not len(points):
        if len(rows) not in (0, count):
            raise InputError(f"it has {len(rows)} shifts for {count} points", place=place, remedy=_AGAIN)
        return rows if len(rows) else np.zeros((count, 3))
    if len(rows) != len(points):
        raise InputError(f"it has {len(rows)} shifts for {len(points)} points", place=place, remedy=_AGAIN)
    out = np.zeros((count, 3))
    out[points] = rows
    return out


def _floats(values: Any, width: int, place: str) -> Floats:
    """An array of the library as rows of ``width`` numbers, finite."""
    rows = np.array(values if values is not None else (), dtype=np.float64).reshape(-1, width)
    if not np.isfinite(rows).all():
        raise InputError("a number of it is not finite", place=place, remedy=_AGAIN)
    return rows


def _matrix(value: Any) -> Floats:
    """A matrix of the library, in which points are rows, as ours."""
    matrix = np.array(value, dtype=np.float64).T
    if not np.isfinite(matrix).all():
        raise InputError("a transform is not finite", remedy=_AGAIN)
    return matrix


def _matrix_array(values: Any, count: int, place: str) -> Floats | None:
    """As many matrices as there are joints, each with an inverse; None if there are none."""
    if values is None or len(values) != count:
        return None
    matrices = np.array(values, dtype=np.float64).reshape(-1, 4, 4).transpose(0, 2, 1)
    if not np.isfinite(matrices).all() or (np.abs(np.linalg.det(matrices)) < 1e-18).any():
        raise InputError("a transform of its joints is none", place=place, remedy=_AGAIN)
    return np.array(matrices)


def _name(prim: Any) -> str:
    return str(prim.GetDisplayName() or prim.GetName())


def _above(path: Any) -> list[Any]:
    """The paths above one, from below."""
    out = []
    at = path.GetParentPath()
    while at and at.IsPrimPath():
        out.append(at)
        at = at.GetParentPath()
    return out
