"""From a figure and clips to USD: a skeleton, skinned meshes, blend shapes, preview materials, and animations."""

from __future__ import annotations

import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from fairswap.errors import Finding
from fairswap.formats.archives import archive_of
from fairswap.formats.marks import GENERATOR, MARK, RECORD, mark_text
from fairswap.formats.naming import distinct, in_unicode
from fairswap.formats.scene.binding import bind_pose, matrices_of
from fairswap.formats.scene.decided import decided_text
from fairswap.formats.scene.losses import losses
from fairswap.formats.scene.pictures import files_of_pictures, look_names, pictures_of
from fairswap.formats.scene.spaces import (
    mesh_in_space,
    moved_bones,
    rest_in_space,
    rotation_in_space,
    translation_in_space,
)
from fairswap.formats.storage import Chunk
from fairswap.formats.usd.looks import write_look
from fairswap.formats.usd.packing import library
from fairswap.model.arrays import Floats, bounds_of
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.mesh import Mesh, shaped_at_rest
from fairswap.model.skinning import as_bound
from fairswap.model.space import OURS, Space

_TOP = "/Figure"
# The parts of a package begin at multiples of so many bytes (USDZ specification).
_ALIGNED = 64


def encode(figure: Figure, clips: Sequence[Clip], name: str, *, space: Space | None) -> dict[str, list[Chunk]]:
    """A ``.usda``, ``.usdc`` or ``.usd`` with its pictures beside it, or a ``.usdz`` with all inside.

    See :func:`fairswap.formats.files.encode`.
    """
    path = Path(name)
    suffix = path.suffix.lower()
    pictures = pictures_of(figure.meshes, path.stem, maps=True)
    held = files_of_pictures(pictures)
    layer = _layer(figure, clips, space, pictures, ".usda" if suffix == ".usda" else ".usdc")
    if suffix == ".usdz":
        parts: list[tuple[str, Chunk]] = [("figure.usdc", layer), *held.items()]
        return {name: [archive_of(parts, align=_ALIGNED)]}
    files: dict[str, list[Chunk]] = {title: [data] for title, data in held.items()}
    return files | {name: [layer]}


def left_out(figure: Figure, clips: Sequence[Clip]) -> list[Finding]:
    """What of a figure and its clips this format cannot hold, or we do not write into it."""
    return losses(figure, clips, "USD", colors=True, one_bind=True, maps=True)


def _layer(
    figure: Figure, clips: Sequence[Clip], space: Space | None, pictures: dict[bytes, str], suffix: str
) -> bytes:
    """The layer as bytes: the library writes files, and nothing else."""
    library()
    from pxr import Usd

    stage = Usd.Stage.CreateInMemory()
    _Writer(stage, figure, clips, space, pictures).write()
    with tempfile.TemporaryDirectory(prefix="fairswap-usd-") as folder:
        file = Path(folder) / f"figure{suffix}"
        stage.GetRootLayer().Export(str(file), args={"format": suffix[1:]})
        return file.read_bytes()


class _Writer:
    """One stage while it is made."""

    def __init__(
        self, stage: Any, figure: Figure, clips: Sequence[Clip], space: Space | None, pictures: dict[bytes, str]
    ) -> None:
        wanted = space or figure.space
        # The format knows +Y and +Z as up.
        self.space = wanted if wanted.up in ("+Y", "+Z") else OURS
        self.stage, self.figure, self.clips, self.pictures = stage, figure, clips, pictures
        # Blend shapes rest at nothing here: what they make at rest is in the points, and weights count from that.
        self.meshes = [mesh_in_space(shaped_at_rest(mesh), self.space) for mesh in figure.meshes]
        self.resting = [mesh.resting_weights[:, None] for mesh in figure.meshes]
        self.paths = _joint_paths(figure)
        self.ticks = float(max((clip.rate for clip in clips), default=24))
        morphs = [(index, name) for index, mesh in enumerate(self.meshes) for name in mesh.morph_names]
        tokens = _identifiers([f"{self.meshes[index].name}_{name}" for index, name in morphs])
        self.morph_tokens = dict(zip(morphs, tokens, strict=True))

    def write(self) -> None:
        from pxr import Kind, Usd, UsdGeom, UsdSkel

        stage = self.stage
        UsdGeom.SetStageUpAxis(stage, self.space.up[1])
        UsdGeom.SetStageMetersPerUnit(stage, self.space.metres)
        stage.GetRootLayer().customLayerData = {
            "creator": GENERATOR, "facing": self.space.forward,
            MARK: mark_text(self.figure.skeleton.rest.positions[0]),
        }  # fmt: skip
        stage.SetTimeCodesPerSecond(self.ticks)
        stage.SetFramesPerSecond(self.ticks)
        if self.clips:
            stage.SetStartTimeCode(min(clip.start_s for clip in self.clips) * self.ticks)
            stage.SetEndTimeCode(max(clip.start_s + clip.duration_s for clip in self.clips) * self.ticks)
        top = UsdSkel.Root.Define(stage, _TOP)
        top.GetPrim().SetDisplayName(in_unicode(self.figure.name))
        Usd.ModelAPI(top.GetPrim()).SetKind(Kind.Tokens.component)
        stage.SetDefaultPrim(top.GetPrim())
        skeleton = self._skeleton()
        self._looks()
        names = _identifiers([mesh.name for mesh in self.meshes], ["Skeleton", "Looks", "Animations"])
        start = 0
        for index, (name, mesh) in enumerate(zip(names, self.meshes, strict=True)):
            self._mesh(index, f"{_TOP}/{name}", mesh, skeleton, start)
            start += len(mesh.materials)
        animations = [self._animation(name, clip) for name, clip in self._clip_names()]
        if animations:
            binding = UsdSkel.BindingAPI.Apply(skeleton.GetPrim())
            binding.CreateAnimationSourceRel().SetTargets([animations[0]])
        bones = self.figure.skeleton.rest.positions[0] @ self.space.turn / self.space.metres
        top.CreateExtentAttr(self._extent(np.concatenate([bones, *(mesh.vertices for mesh in self.meshes)])))

    def _skeleton(self) -> Any:
        from pxr import UsdSkel, Vt

        skeleton = UsdSkel.Skeleton.Define(self.stage, f"{_TOP}/Skeleton")
        bones = self.figure.skeleton
        skeleton.CreateJointsAttr(self.paths)
        skeleton.CreateJointNamesAttr([in_unicode(name) for name in bones.names])
        local = matrices_of(*rest_in_space(bones, self.space))
        skeleton.CreateRestTransformsAttr(Vt.Matrix4dArray.FromNumpy(_rows(local)))
        self.bind_pose = bind_pose(local, bones.parents.tolist(), self.meshes)
        skeleton.CreateBindTransformsAttr(Vt.Matrix4dArray.FromNumpy(_rows(self.bind_pose)))
        return skeleton

    def _looks(self) -> None:
        looks = [material for mesh in self.meshes for material in mesh.materials]
        titles = look_names(looks)
        self.materials = []
        if looks:
            self.stage.DefinePrim(f"{_TOP}/Looks", "Scope")
        for name, title, look in zip(_identifiers(titles), titles, looks, strict=True):
            self.materials.append(
                write_look(self.stage, f"{_TOP}/Looks/{name}", look, in_unicode(title), self.pictures)
            )

    def _mesh(self, index: int, path: str, mesh: Mesh, skeleton: Any, first_look: int) -> None:
        from pxr import Sdf, UsdGeom, UsdShade, UsdSkel, Vt

        prim = UsdGeom.Mesh.Define(self.stage, path)
        prim.GetPrim().SetDisplayName(in_unicode(mesh.name))
        shape = as_bound(mesh, self.bind_pose)
        prim.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(shape.vertices.astype(np.float32)))
        prim.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.full(len(mesh.triangles), 3, np.int32)))
        prim.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(mesh.triangles.astype(np.int32).ravel()))
        prim.CreateNormalsAttr(Vt.Vec3fArray.FromNumpy(shape.normals.astype(np.float32)))
        prim.SetNormalsInterpolation(UsdGeom.Tokens.vertex)
        prim.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
        prim.CreateExtentAttr(self._extent(shape.vertices))
        prim.CreateDoubleSidedAttr(any(look.two_sided for look in mesh.materials))
        primvars = UsdGeom.PrimvarsAPI(prim)
        if mesh.shown_uvs is not None:
            uvs = (mesh.shown_uvs * [1.0, -1.0] + [0.0, 1.0]).astype(np.float32)
            held = primvars.CreatePrimvar("st", Sdf.ValueTypeNames.TexCoord2fArray, UsdGeom.Tokens.vertex)
            held.Set(Vt.Vec2fArray.FromNumpy(uvs))
        colors = mesh.more.get("COLOR_0")
        if colors is not None and colors.shape[1] in (3, 4):
            held = primvars.CreatePrimvar("displayColor", Sdf.ValueTypeNames.Color3fArray, UsdGeom.Tokens.vertex)
            held.Set(Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(colors[:, :3], dtype=np.float32)))
        binding = UsdSkel.BindingAPI.Apply(prim.GetPrim())
        binding.CreateSkeletonRel().SetTargets([skeleton.GetPath()])
        binding.CreateGeomBindTransformAttr().Set(_identity())
        width = mesh.joints.shape[1]
        joints = binding.CreateJointIndicesPrimvar(False, width)
        joints.Set(Vt.IntArray.FromNumpy(np.where(mesh.weights > 0, mesh.joints, 0).astype(np.int32).ravel()))
        weights = binding.CreateJointWeightsPrimvar(False, width)
        weights.Set(Vt.FloatArray.FromNumpy(mesh.weights.astype(np.float32).ravel()))
        self._morphs(index, path, shape, binding)
        for number, look in enumerate(mesh.materials):
            material = self.materials[first_look + number]
            target = prim.GetPrim()
            if len(mesh.materials) > 1:
                rows = np.arange(len(mesh.triangles))[look.triangles].astype(np.int32)
                subset = UsdGeom.Subset.CreateGeomSubset(
                    prim, f"part_{number + 1}", UsdGeom.Tokens.face, Vt.IntArray.FromNumpy(rows),
                    UsdShade.Tokens.materialBind, UsdGeom.Tokens.partition,
                )  # fmt: skip
                target = subset.GetPrim()
            UsdShade.MaterialBindingAPI.Apply(target).Bind(material)

    def _morphs(self, index: int, path: str, mesh: Mesh, binding: Any) -> None:
        from pxr import UsdSkel, Vt

        if not mesh.morph_names or mesh.morph_deltas is None:
            return
        tokens = [self.morph_tokens[index, name] for name in mesh.morph_names]
        targets = []
        for number, token in enumerate(tokens):
            shape = UsdSkel.BlendShape.Define(self.stage, f"{path}/{token}")
            shape.GetPrim().SetDisplayName(in_unicode(mesh.morph_names[number]))
            turns = mesh.morph_normals[number] if mesh.morph_normals is not None else None
            moved = np.abs(mesh.morph_deltas[number]).max(axis=1) > 0.0
            if turns is not None:
                moved |= np.abs(turns).max(axis=1) > 0.0
            rows = np.flatnonzero(moved)
            shape.CreatePointIndicesAttr(Vt.IntArray.FromNumpy(rows.astype(np.int32)))
            shape.CreateOffsetsAttr(Vt.Vec3fArray.FromNumpy(mesh.morph_deltas[number][rows].astype(np.float32)))
            still = np.zeros((len(rows), 3)) if turns is None else turns[rows]
            shape.CreateNormalOffsetsAttr(Vt.Vec3fArray.FromNumpy(still.astype(np.float32)))
            targets.append(shape.GetPath())
        binding.CreateBlendShapesAttr(tokens)
        binding.CreateBlendShapeTargetsRel().SetTargets(targets)

    def _clip_names(self) -> list[tuple[str, Clip]]:
        return list(zip(_identifiers([clip.name for clip in self.clips]), self.clips, strict=True))

    def _animation(self, name: str, clip: Clip) -> Any:
        """A clip as an animation of all bones, a sample for every frame."""
        from pxr import UsdSkel, Vt

        animation = UsdSkel.Animation.Define(self.stage, f"{_TOP}/Animations/{name}")
        animation.GetPrim().SetDisplayName(in_unicode(clip.name))
        bones = range(len(clip.skeleton))
        animation.CreateJointsAttr(self.paths)
        rest = rest_in_space(clip.skeleton, self.space)[1]
        rotations = np.stack([rotation_in_space(clip, bone, self.space) for bone in bones], axis=1)
        places = [translation_in_space(clip, bone, self.space) for bone in bones]
        still = np.broadcast_to(rest, (clip.frames, len(rest), 3))
        moved = np.stack([still[:, bone] if own is None else own for bone, own in enumerate(places)], axis=1)
        turns = rotations.astype(np.float32)
        codes = ((clip.start_s + np.arange(clip.frames) / float(clip.rate)) * self.ticks).tolist()
        turning, moving = animation.CreateRotationsAttr(), animation.CreateTranslationsAttr()
        travels = moved.astype(np.float32)
        for frame, code in enumerate(codes):
            turning.Set(Vt.QuatfArray.FromNumpy(turns[frame]), code)
        if any(own is not None for own in places):
            for frame, code in enumerate(codes):
                moving.Set(Vt.Vec3fArray.FromNumpy(travels[frame]), code)
        else:
            moving.Set(Vt.Vec3fArray.FromNumpy(travels[0]))
        animation.CreateScalesAttr(Vt.Vec3hArray.FromNumpy(np.ones((len(rest), 3), np.float16)))
        if clip.poses.morph_tracks:
            tokens = [
                self.morph_tokens[track.mesh, title]
                for track in clip.poses.morph_tracks
                for title in self.meshes[track.mesh].morph_names
            ]
            tracks = [track.weights - self.resting[track.mesh] for track in clip.poses.morph_tracks]
            weights = np.concatenate(tracks).T.astype(np.float32)
            animation.CreateBlendShapesAttr(tokens)
            weighing = animation.CreateBlendShapeWeightsAttr()
            for frame, code in enumerate(codes):
                weighing.Set(Vt.FloatArray.FromNumpy(np.ascontiguousarray(weights[frame])), code)
        keyed = [in_unicode(clip.skeleton.names[bone]) for bone in moved_bones(clip, True)]
        if len(keyed) < len(rest):
            animation.GetPrim().SetCustomDataByKey("keyed", Vt.StringArray(keyed))
        decided = decided_text(clip)
        if decided:
            animation.GetPrim().SetCustomDataByKey(RECORD, decided)
        return animation.GetPath()

    def _extent(self, points: Floats) -> Any:
        from pxr import Vt

        return Vt.Vec3fArray.FromNumpy(np.stack([bounds_of(points)]).astype(np.float32))


def _joint_paths(figure: Figure) -> list[str]:
    """The joints as paths, each below its parent's, of names as the format allows them."""
    names = _identifiers(figure.skeleton.names)
    out: list[str] = []
    for name, parent in zip(names, figure.skeleton.parents.tolist(), strict=True):
        out.append(f"{out[parent]}/{name}" if parent >= 0 else name)
    return out


def _identifiers(names: Sequence[str], taken: Sequence[str] = ()) -> list[str]:
    """Names as the format allows them, each once."""
    from pxr import Tf

    plain = [Tf.MakeValidIdentifier(in_unicode(name)) or "_" for name in names]
    return [name.replace(" (", "_").replace(")", "") for name in distinct(plain, taken)]


def _rows(matrices: Floats) -> Floats:
    """Matrices as the library has them: points are rows, on the left."""
    return np.ascontiguousarray(matrices.transpose(0, 2, 1))


def _identity() -> Any:
    from pxr import Gf

    return Gf.Matrix4d(1.0)
