"""Figures: a skeleton with the meshes that hang on it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from fairswap.model.arrays import Floats, Value, bounds_of, read_only
from fairswap.model.avatar import Avatar
from fairswap.model.cards import html_card
from fairswap.model.mesh import Mesh, deformed_vertices, weight_on_bones
from fairswap.model.rotation import matrix_from_quaternion
from fairswap.model.skeleton import Skeleton, WorldTransforms
from fairswap.model.space import OURS, Space

if TYPE_CHECKING:
    import pandas

    from fairswap.model.poses import Poses
    from fairswap.model.stand_ins import StandIns

# How far the soles are below the lowest bone where no mesh shows them, as a share of the height.
_SOLE = 0.02
# A bone is on the ground also if it is so little below it: places are rounded.
_ON_GROUND = 0.005


@dataclass(frozen=True, eq=False)
class Figure(Value):
    """A skeleton with its meshes, and the document it came in (opaque; the writer of that format knows it).

    ``known_roles`` are the roles that the file itself gives to bones, as VRM does; ``avatar`` is what else such a file
    says of it: terms of use, expressions, what swings. ``stand_ins`` are bones that a body of few parts lacks and that
    were added to reckon with; they are not written.

    >>> import fairswap
    >>> pip = fairswap.load(fairswap.demo_file("pip.glb")).figure
    >>> pip.skeleton, pip.meshes[0], round(pip.height_m, 2)
    (<Skeleton of 30 bones>, <Mesh 'Pip body': 7258 vertices, 11000 triangles>, 1.23)
    """

    name: str
    skeleton: Skeleton
    meshes: tuple[Mesh, ...] = ()
    space: Space = OURS
    source: Any = None
    known_roles: Mapping[str, int] = field(default_factory=dict)
    avatar: Avatar | None = None
    stand_ins: StandIns | None = field(default=None, repr=False)
    bone_boxes: Floats | None = field(default=None, repr=False)

    def __post_init__(self) -> None:
        for mesh in self.meshes:
            if len(mesh.bind_matrices) != len(self.skeleton):
                counts = f"{len(mesh.bind_matrices)} bones, the figure has {len(self.skeleton)}"
                raise self.wrong(f"mesh {mesh.name!r} is bound to {counts}")
        object.__setattr__(self, "meshes", tuple(self.meshes))

    @cached_property
    def height_m(self) -> float:
        """From sole to crown at rest: of the meshes if there are any, else of the bones."""
        return float(np.ptp(self.rest_points[:, 1]))

    @cached_property
    def floor_m(self) -> float:
        """The height this figure stands on at rest: its lowest vertex.

        Without meshes, the ground at 0 if the lowest bone is on it or just above, else a sole below that bone.
        """
        lowest = float(self.rest_points[:, 1].min())
        if self.meshes:
            return lowest
        return 0.0 if -_ON_GROUND * self.height_m <= lowest < 0.1 * self.height_m else lowest - _SOLE * self.height_m

    @cached_property
    def rest_vertices(self) -> tuple[Floats, ...]:
        """The vertices ``(n, 3)`` of each mesh at rest, in metres."""
        return tuple(map(read_only, self.skin(self.skeleton.rest)))

    def skin(self, world: WorldTransforms, frame: int = 0, poses: Poses | None = None) -> list[Floats]:
        """The vertices ``(n, 3)`` of each mesh in one frame; morphs are as in ``poses``, else as they rest."""
        return [deformed_vertices(mesh, world, frame, poses, number) for number, mesh in enumerate(self.meshes)]

    @cached_property
    def rest_points(self) -> Floats:
        """Every vertex (or, without meshes, every bone) at rest, ``(n, 3)`` in metres."""
        return read_only(np.concatenate(self.rest_vertices)) if self.meshes else self.skeleton.rest.positions[0]

    @cached_property
    def skin_on_bones(self) -> Floats | None:
        """How much skin hangs on each bone, ``(bones,)`` in vertices; None without meshes."""
        if not self.meshes:
            return None
        return read_only(np.sum([weight_on_bones(mesh, len(self.skeleton)) for mesh in self.meshes], axis=0))

    @cached_property
    def skin_boxes(self) -> Floats:
        """The bounds of the skin of each bone, least and most, in the bone's own axes: ``(bones, 2, 3)`` in metres.

        A vertex is of the bone that moves it most. Bones without skin have NaN.

        >>> import fairswap
        >>> pip = fairswap.load(fairswap.demo_file("pip.glb")).figure
        >>> low, high = pip.skin_boxes[pip.skeleton.names.index("seat")]
        >>> bool((high > low).all())
        True
        """
        rest = self.skeleton.rest
        return read_only(self.skin_boxes_in(matrix_from_quaternion(rest.rotations[0]), rest.positions[0]))

    def skin_boxes_in(self, axes: Floats, places: Floats) -> Floats:
        """The same in other axes, the columns of ``axes (bones, 3, 3)``, from other ``places (bones, 3)``.

        >>> import fairswap, numpy
        >>> pip = fairswap.load(fairswap.demo_file("pip.glb")).figure
        >>> world = pip.skin_boxes_in(numpy.tile(numpy.eye(3), (30, 1, 1)), numpy.zeros((30, 3)))
        >>> bool(abs(numpy.nanmin(world[:, 0, 1]) - pip.floor_m) < 1e-9)
        True
        """
        out = np.full((len(self.skeleton), 2, 3), np.nan)
        for mesh, vertices in zip(self.meshes, self.rest_vertices, strict=True):
            owner = mesh.main_bones
            for bone in np.unique(owner).tolist():
                local = (vertices[owner == bone] - places[bone]) @ axes[bone]
                low, high = bounds_of(local)
                out[bone] = np.fmin(out[bone, 0], low), np.fmax(out[bone, 1], high)
        return out

    @property
    def bone_count(self) -> int:
        """How many bones its file has: those that stand in for parts it lacks are not counted."""
        return len(self.skeleton) - (0 if self.stand_ins is None else len(self.stand_ins.carriers))

    @property
    def face_controls(self) -> frozenset[int]:
        """Bones that are no part of the body, but stand for expressions."""
        return frozenset(self.avatar.controls.values()) if self.avatar is not None else frozenset()

    @property
    def max_influences(self) -> int:
        """The most bones that move one vertex."""
        return max((int((mesh.weights > 0).sum(axis=1).max(initial=0)) for mesh in self.meshes), default=0)

    def table(self) -> pandas.DataFrame:
        """The bones as a pandas table: parent, place at rest in metres, the size of the skin in the bone's axes."""
        import pandas

        parents = [self.skeleton.names[p] if p >= 0 else "" for p in self.skeleton.parents.tolist()]
        positions = self.skeleton.rest.positions[0]
        return pandas.DataFrame(
            {
                "bone": self.skeleton.names,
                "parent": parents,
                **{axis: positions[:, i] for i, axis in enumerate("xyz")},
                "end": [bone in self.skeleton.ends for bone in range(len(self.skeleton))],
                **{f"skin_{axis}": np.ptp(self.skin_boxes[:, :, i], axis=1) for i, axis in enumerate("xyz")},
            }
        )

    @property
    def in_short(self) -> str:
        """Its size in a few words."""
        vertices = sum(len(mesh.vertices) for mesh in self.meshes)
        return f"{self.height_m:.2f} m, {self.bone_count} bones, {vertices} vertices"

    def __repr__(self) -> str:
        return f"<Figure {self.name!r}: {self.in_short}>"

    def _repr_html_(self) -> str:
        facts = {
            "height": f"{self.height_m:.2f} m",
            "bones": self.bone_count,
            "meshes": len(self.meshes),
            "vertices": sum(len(mesh.vertices) for mesh in self.meshes),
            "morphs": sum(len(mesh.morph_names) for mesh in self.meshes),
            "space": str(self.space),
        }
        return html_card("Figure", self.name, facts)
