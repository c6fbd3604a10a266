"""What becomes of the motion of face bones that a platform does not take: morphs do it, or it is told that none can."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from fractions import Fraction

import numpy as np

from fairswap.bones.roles import RoleMap
from fairswap.errors import Finding
from fairswap.face.chart import FaceChart, Shape
from fairswap.face.head import Head
from fairswap.face.neutral import bones_of_face
from fairswap.face.transfer import FaceSwap, still_clip
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.poses import MorphTrack
from fairswap.model.rotation import angle_between
from fairswap.platform.morphs import Charted, MorphMade, with_frames_as_morphs
from fairswap.platform.skeleton import Rebuilt

_ELSEWHERE = "Where its face counts, take a platform that keeps the bones or the morphs of faces"
# Less than this, radians and metres, nobody sees on a face.
_TURNED, _SHIFTED_M = 0.01, 5e-4


@dataclass(frozen=True, eq=False)
class Posed(Charted):
    """A figure with a morph for each pose of the bones of its face; ``ways`` are those of its head's chart."""

    ways: tuple[int, ...] = ()

    def clip(self, clip: Clip) -> Clip:
        """A clip of the figure, driving the morphs by as much as the bones were in each pose."""
        if not self.head.moves(clip):
            return clip
        weights = dict(
            zip((row.name for row in self.morphs), self.head.activations(clip)[list(self.ways)], strict=True)
        )
        tracks = tuple(
            MorphTrack(number, np.array([weights[name] for name in mesh.morph_names]))
            for number, mesh in enumerate(self.figure.meshes)
            if mesh.morph_names
        )
        return clip.with_poses(replace(clip.poses, morph_tracks=tracks), kept=clip.kept)


def posed_morphs(head: Head, kept: frozenset[str]) -> Posed | None:
    """The figure of a head of bones with a morph for each of their poses, or None if there are none; not of those that
    move nothing but bones of the roles ``kept``.

    The meshes must be bound at rest.
    """
    chart, roles, names = head.chart, head.roles, head.figure.skeleton.names
    stay = set() if roles is None else {names[roles.bones[role]] for role in kept if role in roles.bones}
    ways = {
        name.removeprefix("bones "): number
        for number, (name, sign) in enumerate(chart.columns)
        if sign > 0 and not chart.shapes[name].bones.keys() <= stay
    }
    if not ways:
        return None
    shares = np.zeros((len(chart.columns), len(ways) + 1))
    shares[list(ways.values()), np.arange(len(ways)) + 1] = 1.0
    posed = head.performed(shares, still_clip(head.figure, "morphs", Fraction(1), len(ways) + 1))
    new = with_frames_as_morphs(head, posed, {name: frame for frame, name in enumerate(ways, 1)})
    there = {name for mesh in new.meshes for name in mesh.morph_names}
    ways = {name: number for name, number in ways.items() if name in there}
    rows = tuple(MorphMade(name, 0.0, (chart.columns[number][0],)) for name, number in ways.items())
    shapes = {name: Shape(name, chart.units_of(chart.columns[number][0])) for name, number in ways.items()}
    target = Head(new, None, FaceChart("poses of its face", shapes))
    return Posed(new, rows, head, target, tuple(ways.values())) if ways else None


@dataclass(frozen=True, eq=False)
class LostFaceBones:
    """Bones of a face that are merged away: ``lost``, of the ``figure`` as it was; ``kept`` are those that stay, each
    with what it became; ``target`` is the head without them."""

    figure: Figure
    roles: RoleMap
    target: Head
    lost: frozenset[int]
    kept: Mapping[int, int]

    @classmethod
    def of(cls, figure: Figure, roles: RoleMap, made: Rebuilt, target: Head) -> LostFaceBones:
        """Of a figure that was rebuilt, and its head now."""
        became = {bone.first: number for number, bone in enumerate(made.bones) if bone.first == bone.second}
        face = set(bones_of_face(figure, roles).values())
        kept = {bone: became[bone] for bone in face & became.keys()}
        return cls(figure, roles, target, frozenset(face - became.keys()), kept)

    def done_by_morphs(self, clip: Clip, fitted: Clip) -> tuple[Clip, list[Finding]]:
        """``fitted``, which ``clip`` of the figure became, its morphs doing what the bones did; and what is lost."""
        if not any(_away_from_rest(clip, bone) for bone in self.lost):
            return fitted, []
        if not self.figure.meshes:
            why, remedy = "its bones are not taken, and morphs need a mesh", "Carry it onto a figure with a mesh"
            return fitted, [face_left_out(clip, why, remedy)]
        if all(shape.bones for shape in self.target.chart.shapes.values()):
            return fitted, [face_left_out(clip, "its bones are not taken, and it has no morphs")]
        # Bones count beside morphs where a clip moves them.
        done = FaceSwap(Head(self.figure, self.roles, clips=(clip,)), self.target, self.kept).transfer(clip, fitted)
        return done.clip, done.findings


def _away_from_rest(clip: Clip, bone: int) -> bool:
    """Whether a bone is ever seen to be turned or shifted; one that is held so counts, too."""
    turned = angle_between(clip.poses.rotation_tracks[bone].T, clip.skeleton.rest_rotations[bone])
    shifted = clip.poses.translation_track(bone) - clip.skeleton.rest_translations[bone][:, None]
    return bool(turned.max() > _TURNED or np.abs(shifted).max(initial=0.0) > _SHIFTED_M)


def face_left_out(clip: Clip, why: str, remedy: str = _ELSEWHERE) -> Finding:
    """A warning that what a face does in a clip is lost."""
    return Finding("face-left-out", "warning", clip.name, f"what the face does in it is left out: {why}", remedy)
