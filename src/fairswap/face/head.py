"""Heads: a figure's face with the chart of what its shapes do, read from clips and driven in clips."""

from __future__ import annotations

import difflib
from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path

import numpy as np

from fairswap.bones.assignment import roles_of
from fairswap.bones.profile import BoneProfile, profile_named
from fairswap.bones.roles import RoleMap
from fairswap.errors import Finding, ImpossibleError
from fairswap.face.bone_reading import activations_from_bones
from fairswap.face.bones import control_moves, face_bones, moved_controls, put_on_bones
from fairswap.face.chart import FaceChart, Shape
from fairswap.face.drafting import FaceDraft, draft_face
from fairswap.face.family import broken_charts, family_chart, on_figure
from fairswap.face.geometry import FaceFrame, head_frame
from fairswap.face.neutral import at_ease, seen_on
from fairswap.formats.files import document_of
from fairswap.model.arrays import Floats, Value
from fairswap.model.clip import Clip
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.model.mesh import with_weights
from fairswap.model.poses import MorphTrack
from fairswap.wording import counted, listed

# A jaw of bones opens further than a unit, if it is to: one that a bone and a morph open at once, say.
_JAW_MOST = 1.5


@dataclass(frozen=True, eq=False)
class Head(Value):
    """The face of a figure with the chart of what its shapes do; without a chart one is drafted.

    ``roles`` are None of a bare head, whose bones are not known. ``doubled`` are units that its bones are to show where
    its morphs show them, too.

    >>> import fairswap
    >>> head = fairswap.face.Head.of(fairswap.demo_file("pip.glb"))
    >>> head, head.chart
    (<Head of 'Pip': 11 morphs>, <FaceChart 'Pip': 11 shapes>)
    """

    figure: Figure
    roles: RoleMap | None
    given_chart: FaceChart | None = None
    clips: tuple[Clip, ...] = ()
    doubled: frozenset[str] = frozenset()

    def __post_init__(self) -> None:
        if self.given_chart is not None:
            object.__setattr__(self, "given_chart", on_figure(self.given_chart, self.figure))
            _check_fits(self.given_chart, self.figure)

    def __repr__(self) -> str:
        morphs = sum(len(mesh.morph_names) for mesh in self.figure.meshes)
        return f"<Head of {self.figure.name!r}: {counted(morphs, 'morph')}>"

    @classmethod
    def of(
        cls, what: Document | Figure | str | Path, *, bones: BoneProfile | str | Path | None = None,
        chart: FaceChart | str | Path | None = None,
    ) -> Head:  # fmt: skip
        """The head of a document's main figure; a bare head, whose bones are not known, does as well.

        Raises
        ------
        ImpossibleError
            If a bone profile is given and does not fit.
        """
        document = document_of(what)
        figure = document.figure
        return cls(figure, roles_if_known(figure, bones), chart_of(chart), document.clips_of(figure))

    @cached_property
    def drafted(self) -> FaceDraft:
        """What is found out about the head by itself."""
        return draft_face(self.figure, self.roles, self.clips, self.doubled)

    @cached_property
    def chart(self) -> FaceChart:
        """The chart that was given; else one kept for its family, with what that does not know drafted; else a drafted
        one."""
        if self.given_chart is not None or self._of_family is None:
            return self.given_chart or self.drafted.chart
        kept = self._of_family
        if not self._unknown_to_family:
            return kept
        more = {name: self.drafted.chart.shapes[name] for name in self._unknown_to_family}
        return replace(kept, shapes={**kept.shapes, **more})

    def check_has_face(self) -> None:
        """Raise an ImpossibleError if there is nothing on it to show a face with."""
        if not self.chart.columns:
            problem = f"{self.figure.name!r} has no face that could move: no morphs, and no bones of a face"
            raise ImpossibleError(problem, code="no-face-moves")

    @cached_property
    def findings(self) -> list[Finding]:
        """What is worth telling of where the chart is from."""
        if self.given_chart is not None or self._of_family is None:
            return []
        message = f"the chart kept for {self._of_family.name!r} is used for its {len(self._of_family.shapes)} shapes"
        if self._unknown_to_family:
            message += f"; not in it, so drafted: {', '.join(map(repr, self._unknown_to_family[:6]))}"
        remedy = "Give a chart of its own if this is another head"
        return [Finding("face-chart-kept", "note", self.figure.name, message, remedy), *broken_charts()]

    @cached_property
    def _of_family(self) -> FaceChart | None:
        return family_chart(self.figure)

    @cached_property
    def _unknown_to_family(self) -> list[str]:
        known = self._of_family.shapes if self._of_family is not None else {}
        return list(
            dict.fromkeys(name for mesh in self.figure.meshes for name in mesh.morph_names if name not in known)
        )

    @cached_property
    def frame(self) -> FaceFrame:
        """Where the face is, by the bones."""
        return head_frame(self.neutral, self.roles)

    @cached_property
    def neutral(self) -> Figure:
        """The figure with its face at ease and its head upright: mostly as it rests."""
        return at_ease(self.figure, self.roles)

    @cached_property
    def bones(self) -> dict[str, int]:
        """The bones that poses of the chart move."""
        if self.roles is None:
            return {}
        own = face_bones(self.neutral.skeleton, self.roles, self.frame)
        used = {bone for shape in self.chart.shapes.values() for bone in shape.bones}
        return {name: bone for name, bone in own.items() if name in used}

    @property
    def jaw(self) -> int | None:
        """The bone of the jaw."""
        return None if self.roles is None else self.roles.bones.get("jaw")

    @property
    def most(self) -> Floats:
        """How much of each way of the chart is used at most ``(ways,)``."""
        most = np.full(len(self.chart.columns), 1.0)
        if self.jaw is not None:
            most[self.ways_of({self.figure.skeleton.names[self.jaw]})] = _JAW_MOST
        return most

    def ways_of(self, bones: set[str]) -> list[int]:
        """The ways of the chart, by number, that are poses of some of these bones and of no others."""
        shapes = [self.chart.shapes[name] for name, _ in self.chart.columns]
        return [number for number, shape in enumerate(shapes) if shape.bones and set(shape.bones) <= bones]

    def moves(self, clip: Clip) -> bool:
        """Whether a clip does anything with this face."""
        return bool(np.abs(self.activations(clip)).max(initial=0.0) > 0.01)

    def activations(self, clip: Clip) -> Floats:
        """How much of each way of each shape a clip uses: ``(ways, frames)``."""
        weights: dict[str, Floats] = {}
        poses = seen_on(self.neutral, clip.poses)
        for track in poses.morph_tracks:
            for name, row in zip(self.figure.meshes[track.mesh].morph_names, track.weights, strict=True):
                if name in self.chart.shapes and name not in weights:
                    weights[name] = row
        for shape in self.chart.shapes.values():
            if shape.control is not None:
                node = self.figure.skeleton.names.index(shape.control[0])
                weights[shape.name] = control_moves(poses, node, shape.control[1])
        out = self.chart.activations(weights) if weights else np.zeros((len(self.chart.columns), clip.frames))
        numbers, from_bones = activations_from_bones(self.chart, poses, self.bones, self.frame, self.jaw)
        if numbers:
            out[numbers] = from_bones
        return out

    def units(self, clip: Clip) -> Floats:
        """What a clip does in units: ``(units, frames)``."""
        return np.asarray(self.chart.matrix @ self.activations(clip))

    def performed(self, shares: Floats, clip: Clip, kept: frozenset[int] = frozenset()) -> Clip:
        """``clip`` (of this figure) with the face driven by ``shares`` of the chart's ways; bones ``kept`` stay."""
        weights = self.chart.file_weights(shares)
        # What is no part of the face stays as it is in the clip, or as it rests: the shape of a belly.
        driven = {name: row for name, row in weights.items() if self.chart.shapes[name].does_something}
        tracks = [
            MorphTrack(number, with_weights(mesh, number, clip.poses, driven))
            for number, mesh in enumerate(self.figure.meshes)
            if driven.keys() & set(mesh.morph_names)
        ]
        numbers = [i for i, (name, _) in enumerate(self.chart.columns) if self.chart.shapes[name].bones]
        shapes = [self.chart.shapes[self.chart.columns[i][0]] for i in numbers]
        moved = put_on_bones(shapes, shares[numbers], self.neutral.skeleton, self.bones, self.frame)
        moved |= self._controls_at(weights, clip)
        return _with_face(clip, {bone: way for bone, way in moved.items() if bone not in kept}, tuple(tracks))

    def _controls_at(self, weights: Mapping[str, Floats], clip: Clip) -> dict[int, tuple[Floats, Floats]]:
        """Local rotations and places of the nodes that control the face, at some weights, by node."""
        skeleton = self.neutral.skeleton
        metres: dict[int, Floats] = {}
        for shape in self.chart.shapes.values():
            if shape.control is not None:
                node = skeleton.names.index(shape.control[0])
                metres.setdefault(node, np.zeros((clip.frames, 3)))[:, shape.control[1]] += weights[shape.name]
        return {
            node: (clip.poses.rotation_tracks[node], moved_controls(skeleton, node, way))
            for node, way in metres.items()
        }


def _check_fits(chart: FaceChart, figure: Figure) -> None:
    """Refuse a chart of shapes that a head does not have: nothing would move, and nothing would say so."""
    have = {name for mesh in figure.meshes for name in mesh.morph_names}
    bones = set(figure.skeleton.names)
    missing = [name for name, shape in chart.shapes.items() if not _has(shape, have, bones)]
    if missing:
        near = difflib.get_close_matches(missing[0], have | bones, 1)
        said = f"It has {near[0]!r}. " if near else ""
        problem = (
            f"the chart {chart.name!r} has shapes that {figure.name!r} does not have: {listed(map(repr, missing), 5)}"
        )
        raise ImpossibleError(problem, code="chart-of-another", remedy=f"{said}Correct the chart, or leave it out")


def _has(shape: Shape, morphs: set[str], bones: set[str]) -> bool:
    """Whether a figure has what a shape moves."""
    if shape.bones:
        return set(shape.bones) <= bones
    return shape.control[0] in bones if shape.control is not None else shape.name in morphs


def roles_if_known(figure: Figure, bones: BoneProfile | str | Path | None = None) -> RoleMap | None:
    """The roles of a figure's bones; None where there are none to speak of, as in a bare head.

    Raises
    ------
    ImpossibleError
        If a bone profile is given and does not fit.
    """
    try:
        return roles_of(figure, None if bones is None else profile_named(bones))
    except ImpossibleError:
        if bones is not None:
            raise
        return None


def chart_of(chart: FaceChart | str | Path | None) -> FaceChart | None:
    """A chart itself, or one from a file."""
    return FaceChart.load(chart) if isinstance(chart, str | Path) else chart


def _with_face(clip: Clip, moved: Mapping[int, tuple[Floats, Floats]], tracks: tuple[MorphTrack, ...]) -> Clip:
    """The clip with bones of the face moved, and with morph tracks instead of its own."""
    edit = clip.poses.edit()
    rest = clip.skeleton.rest_translations
    for bone, (rotation, translation) in moved.items():
        edit.rotation_tracks[bone] = rotation
        if bone in edit.translations or np.abs(translation - rest[bone][:, None]).max() > 1e-7:
            edit.translations[bone] = translation
    replaced = {track.mesh for track in tracks}
    others = tuple(track for track in clip.poses.morph_tracks if track.mesh not in replaced)
    return clip.with_poses(edit.poses(morph_tracks=(*others, *tracks)), keyed=clip.keyed | frozenset(moved))
