"""A figure that takes on clothes: its bones with those that come along, and cloth bound as its skin is."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from fairswap.figures.dressing.carrying import blended, carrier_between
from fairswap.figures.dressing.cutting import SPACING
from fairswap.figures.dressing.forms import in_t, shares_of
from fairswap.figures.dressing.garments import Garment
from fairswap.figures.dressing.pairing import nearest_roles
from fairswap.figures.dressing.settling import Moment, settled
from fairswap.figures.dressing.smoothing import Smoother
from fairswap.figures.dressing.wrapping import Form, laid_on, limb_by_limb
from fairswap.figures.rigging.weights import few_influences
from fairswap.formats.naming import distinct
from fairswap.measure.instants import Instants
from fairswap.model.arrays import Floats, Integers
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.mesh import Mesh, deformed_vertices, vertex_normals
from fairswap.model.poses import PoseBuilder
from fairswap.model.rotation import conjugate, multiply, normalized, quaternion_between, rotate
from fairswap.model.skeleton import Skeleton, WorldTransforms
from fairswap.model.skinning import bound_pose, inverse_matrices
from fairswap.pose.rigged import RiggedFigure

# Cloth nearer to the skin than this, in heights, has its weights; and how closely it follows the skin further off.
_CLOSE, _FOLLOWS = 0.006, 2.0
# A bone on the line of a limb, to this share of its length, is a helper of that limb, which the body's own bones do.
_ON_THE_LINE = 0.12


@dataclass(frozen=True, eq=False)
class _Hung:
    """One mesh of a garment on the body in the T: where its vertices are and their linear parts, bones and weights."""

    mesh: Mesh
    vertices: Floats
    linear: Floats
    joints: Integers
    weights: Floats


class Rack:
    """Collects what is put on a figure; all of it in the common T."""

    def __init__(self, target: RiggedFigure, form: Form) -> None:
        assert form.skin is not None
        assert form.body is not None
        self.target, self.form, self.skin, self.body = target, form, form.skin, form.body
        self.hung: list[_Hung] = []
        self._names: list[str] = []
        self._parents: list[int] = []
        self._rotations: list[Floats] = []
        self._steps: list[Floats] = []
        figure = target.figure
        self._table = np.concatenate([_weight_table(mesh, len(figure.skeleton)) for mesh in figure.meshes])

    @property
    def added(self) -> tuple[str, ...]:
        """The names of the bones that came along."""
        return tuple(distinct(self._names, self.target.skeleton.names))

    def hang(self, garment: Garment) -> None:
        """Bring a garment over, with those bones that the body has none for."""
        roles = tuple(garment.roles)
        kept = self._with_bones(garment, roles)
        for mesh in garment.meshes:
            shares = shares_of(mesh, garment.skeleton, garment.roles, roles)
            vertices, linear = limb_by_limb(garment.form, self.form, mesh.vertices, shares, roles)
            old = garment.form
            if old.skin is not None and old.shares is not None:
                bare, _ = limb_by_limb(old, self.form, old.skin.vertices, old.shares, old.roles)
                vertices = laid_on(old, self.form, vertices, mesh.triangles, bare)
            joints, weights = self._weights(mesh, vertices, kept)
            self.hung.append(_Hung(mesh, vertices, linear, joints, weights))

    def _with_bones(self, garment: Garment, roles: tuple[str, ...]) -> dict[int, int]:
        """Take over the bones of a garment that the body has none for: number there to number here."""
        skeleton, own = garment.skeleton, set(garment.roles.values())
        held = np.zeros(len(skeleton))
        for mesh in garment.meshes:
            held += np.bincount(mesh.joints.ravel(), mesh.weights.ravel(), len(skeleton))
        above = {bone for role in own for bone in _line_up(skeleton, role)}
        carriers = nearest_roles(skeleton, garment.roles)
        wanted = [bone for bone in range(len(skeleton)) if bone not in above and not self._is_helper(garment, bone)]
        needed = {up for bone in wanted if held[bone] > 0.0 for up in _line_up(skeleton, bone)} & set(wanted)
        places = skeleton.rest.positions[0]
        shares = np.eye(len(roles))[[roles.index(carrier) for carrier in carriers]]
        there, _ = limb_by_limb(garment.form, self.form, places, shares, roles)
        reference, world = self.target.reference.rotations, self.target.reference_world
        kept: dict[int, int] = {}
        turns, spots = dict(enumerate(reference)), dict(enumerate(world.positions[0]))
        for bone in sorted(needed):
            parent = kept.get(int(skeleton.parents[bone]), -1)
            if parent < 0:
                parent = self._carrier(carriers[bone])
            number = len(self.target.skeleton) + len(self._names)
            kept[bone] = number
            turns[number], spots[number] = skeleton.rest.rotations[0, bone], there[bone]
            undo = conjugate(turns[parent])
            self._names.append(skeleton.names[bone])
            self._parents.append(parent)
            self._rotations.append(multiply(undo, turns[number]))
            self._steps.append(rotate(undo, spots[number] - spots[parent]))
        return kept

    def _is_helper(self, garment: Garment, bone: int) -> bool:
        """Whether a bone without a role lies on the line of an arm or a leg."""
        joints, place = garment.form.joints, garment.skeleton.rest.positions[0, bone]
        for role in joints:
            end = garment.form.onward(role)
            if end is None or not role.startswith(("upper_", "lower_", "shoulder_")):
                continue
            way = end - joints[role]
            length = max(float(np.linalg.norm(way)), 1e-9)
            at = float((place - joints[role]) @ way) / length**2
            if -0.02 <= at <= 1.02 and np.linalg.norm(place - joints[role] - at * way) < _ON_THE_LINE * length:
                return True
        return False

    def _carrier(self, role: str) -> int:
        """The body's bone for a role, or for that which carries it."""
        bones = self.target.roles.bones
        if role in bones:
            return bones[role]
        if role.startswith("spine_"):
            return bones[self.target.roles.chain("spine")[-1]]
        side = role.rpartition("_")[2]
        for start, other in (
            ("neck", "head"),
            ("toes", f"foot_{side}"),
            ("shoulder", self.target.roles.chain("spine")[-1]),
        ):
            if role.startswith(start):
                return bones[other]
        return bones.get(f"hand_{side}", bones["hips"])

    def _weights(self, mesh: Mesh, vertices: Floats, kept: dict[int, int]) -> tuple[Integers, Floats]:
        """The weights of the nearest skin, evened out where cloth is far from it; of the bones that came, its own."""
        height = float(np.ptp(self.skin.vertices[:, 1]))
        found = self.skin.nearest(vertices)
        near = self.skin.taken(self._table, found)
        used = np.flatnonzero(near.any(axis=0))
        # Cloth evens out over about as far as it is off the skin.
        smoother = Smoother(vertices, mesh.triangles)
        apart = np.maximum(np.linalg.norm(found.place - vertices, axis=1) - _CLOSE * height, 1e-4 * height)
        held = np.minimum(_FOLLOWS * (smoother.edge_m / apart) ** 2, 50.0)
        even = np.clip(smoother.near(near[:, used], held), 0.0, None)
        out = np.zeros((len(vertices), len(self.target.skeleton) + len(self._names)))
        out[:, used] = even / np.maximum(even.sum(axis=1, keepdims=True), 1e-12)
        own = np.zeros((len(vertices), out.shape[1]))
        for bone, number in kept.items():
            own[:, number] = (mesh.weights * (mesh.joints == bone)).sum(axis=1)
        return few_influences(own + (1.0 - own.sum(axis=1, keepdims=True)) * out)

    def skeleton(self) -> Skeleton:
        """The body's bones, and behind them those that came along."""
        old = self.target.skeleton
        if not self._names:
            return old
        return Skeleton(
            (*old.names, *self.added), np.append(old.parents, self._parents).astype(np.intp),
            np.concatenate([old.rest_rotations, self._rotations]), np.concatenate([old.rest_translations, self._steps]),
            old.ends,
        )  # fmt: skip

    def wider_clips(self, skeleton: Skeleton, clips: Sequence[Clip]) -> tuple[Clip, ...]:
        """Clips of the body on all bones; those that came along rest."""
        if not self._names:
            return tuple(clips)
        out = []
        for clip in clips:
            poses, count = clip.poses, clip.frames
            still = np.repeat(np.array(self._rotations)[:, :, None], count, axis=2)
            tracks = np.concatenate([poses.rotation_tracks, still])
            builder = PoseBuilder(skeleton, tracks, poses.translation_by_bone(), poses.morph_tracks, poses.beside)
            out.append(clip.with_poses(builder.poses(), kept=clip.kept))
        return tuple(out)

    def figure(self, skeleton: Skeleton, vertices: Sequence[Floats]) -> Figure:
        """The figure in clothes whose vertices are where they are said to be in the T."""
        binds = self._binds(skeleton)
        old = self.target.figure
        grown = np.tile(np.eye(4), (len(skeleton) - len(old.skeleton), 1, 1))
        bodies = [replace(m, bind_matrices=np.concatenate([m.bind_matrices, grown])) if len(grown) else m
                  for m in old.meshes]  # fmt: skip
        names = distinct([row.mesh.name for row in self.hung], [mesh.name for mesh in old.meshes])
        cloth = [self._bound(row, at, name, binds, skeleton)
                 for row, at, name in zip(self.hung, vertices, names, strict=True)]  # fmt: skip
        return replace(old, skeleton=skeleton, meshes=(*bodies, *cloth), source=None)

    def _binds(self, skeleton: Skeleton) -> Floats:
        """Bind matrices for all bones: the body's own, so that cloth moves as the skin below it."""
        old = self.target.figure
        world = bound_pose(old) or old.skeleton.rest
        out = np.empty((len(skeleton), 4, 4))
        out[: len(old.skeleton)] = inverse_matrices(world)
        for mesh in sorted(old.meshes, key=lambda mesh: len(mesh.vertices)):
            used = np.unique(mesh.joints[mesh.weights > 0])
            out[used] = mesh.bind_matrices[used]
        local = np.eye(4)[None].repeat(len(skeleton), axis=0)
        at_rest = WorldTransforms(skeleton.rest_rotations[:, :, None], skeleton.rest_translations[:, :, None])
        local = inverse_matrices(at_rest)
        for bone in range(len(old.skeleton), len(skeleton)):
            out[bone] = local[bone] @ out[skeleton.parents[bone]]
        return out

    def _bound(self, row: _Hung, at: Floats, name: str, binds: Floats, skeleton: Skeleton) -> Mesh:
        """One garment's mesh, carried back from the T to the pose that the body is bound in."""
        mesh = replace(row.mesh, name=name, joints=row.joints, weights=row.weights, bind_matrices=binds, skinned=True,
                       origin=None)  # fmt: skip
        matrices = blended(mesh, in_t(self.target, skeleton))
        back = np.linalg.inv(matrices[:, :, :3])
        vertices = np.einsum("nij,nj->ni", back, at - matrices[:, :, 3])
        linear = np.einsum("nij,njk->nik", back, row.linear)
        turn = quaternion_between(
            vertex_normals(row.mesh.vertices, row.mesh.triangles), vertex_normals(vertices, row.mesh.triangles)
        )

        def turned(vectors: Floats | None) -> Floats | None:
            return None if vectors is None else rotate(turn, vectors)

        tangents = mesh.tangents
        if tangents is not None:
            tangents = np.c_[np.asarray(turned(tangents[:, :3])), tangents[:, 3]]
        deltas = None if mesh.morph_deltas is None else np.einsum("nij,mnj->mni", linear, mesh.morph_deltas)
        return replace(mesh, vertices=vertices, normals=normalized(np.asarray(turned(mesh.normals))), tangents=tangents,
                       morph_deltas=deltas, morph_normals=turned(mesh.morph_normals))  # fmt: skip

    def settled(self, clips: Sequence[tuple[Clip, Instants]]) -> list[Floats]:
        """Where the vertices of all garments lie, pushed out of the body, at the instants of clips too."""
        skeleton = self.skeleton()
        figure = self.target.figure
        base = self.figure(skeleton, [row.vertices for row in self.hung])
        height = float(np.ptp(self.skin.vertices[:, 1]))
        rest = np.concatenate(base.rest_vertices[: len(figure.meshes)])
        posed: list[tuple[WorldTransforms, int, Floats]] = [(skeleton.rest, 0, rest)]
        for clip, instants in clips:
            poses = clip.at(instants.times_s)
            world = poses.world()
            for frame in range(poses.frames):
                skins = [deformed_vertices(mesh, world, frame, poses, i)
                         for i, mesh in enumerate(base.meshes[: len(figure.meshes)])]  # fmt: skip
                posed.append((world, frame, np.concatenate(skins)))
        at_t = in_t(self.target, skeleton)
        out = []
        for row, mesh in zip(self.hung, base.meshes[len(figure.meshes) :], strict=True):
            start = blended(mesh, at_t)
            moments = [Moment(self.body.moved(points), carrier_between(start, blended(mesh, world, frame)))
                       for world, frame, points in posed]  # fmt: skip
            out.append(settled(row.vertices, mesh.triangles, self.body, moments, SPACING * height))
        return out


def _weight_table(mesh: Mesh, bones: int) -> Floats:
    out = np.zeros((len(mesh.vertices), bones))
    np.add.at(out, (np.arange(len(out))[:, None], mesh.joints), mesh.weights)
    return out


def _line_up(skeleton: Skeleton, bone: int) -> list[int]:
    """A bone and all above it."""
    out = []
    while bone >= 0:
        out.append(bone)
        bone = int(skeleton.parents[bone])
    return out
