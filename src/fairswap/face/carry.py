"""Carry faces over: source weights become units over time, units become the target's weights.

Units are reached as nearly as the target's shapes can, at once as units and as places of the face that move: so what a
head cannot show is made by what looks most like it.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np

from fairswap.bones.roles import RoleMap
from fairswap.clip import Clip, MorphTrack, Poses
from fairswap.errors import Finding, UsageError
from fairswap.face.anatomy import landmark_ways
from fairswap.face.bones import face_bones, put_on_bones, shares_from_bones
from fairswap.face.chart import FaceChart
from fairswap.face.draft import FaceDraft, draft_face
from fairswap.face.geometry import FaceFrame, head_frame
from fairswap.face.solve import bounded_weights
from fairswap.face.units import UNITS
from fairswap.figure import Figure
from fairswap.kernels import Floats

# Against a unit of 1: how much a landmark's way of one head size counts. Most go some 0.04 of it.
_PLACES_COUNT, _UNITS_COUNT = 14.0, 0.6
_SAME = 0.999
_LOST = 0.15


@dataclass(frozen=True, eq=False)
class FaceSide:
    """A head with its chart; without a chart one is drafted."""

    figure: Figure
    roles: RoleMap | None
    given: FaceChart | None = None
    clips: tuple[Clip, ...] = ()

    @cached_property
    def drafted(self) -> FaceDraft:
        """What is found out about the head by itself."""
        return draft_face(self.figure, self.roles, self.clips)

    @cached_property
    def chart(self) -> FaceChart:
        return self.given or self.drafted.chart

    @cached_property
    def frame(self) -> FaceFrame:
        """Where the face is, by the bones."""
        return head_frame(self.figure, self.roles)

    @cached_property
    def bones(self) -> dict[str, int]:
        """The bones that poses of the chart move."""
        if self.roles is None:
            return {}
        own = face_bones(self.figure.skeleton, self.roles, self.frame)
        used = {bone for shape in self.chart.shapes.values() for bone in shape.bones}
        return {name: bone for name, bone in own.items() if name in used}

    def moves(self, clip: Clip) -> bool:
        """Whether a clip does anything with this face."""
        return bool(np.abs(self.shares(clip)).max(initial=0.0) > 0.01)

    def shares(self, clip: Clip) -> Floats:
        """How much of each way of each shape a clip uses: ``(ways, frames)``."""
        weights: dict[str, Floats] = {}
        for track in clip.poses.morph_tracks:
            for name, row in zip(self.figure.meshes[track.mesh].morph_names, track.weights, strict=True):
                if name in self.chart.shapes and name not in weights:
                    weights[name] = row
        out = self.chart.shares(weights) if weights else np.zeros((len(self.chart.ways), clip.frames))
        numbers, from_bones = shares_from_bones(self.chart, clip.poses, self.bones, self.frame)
        if numbers:
            out[numbers] = from_bones
        return out

    def units(self, clip: Clip) -> Floats:
        """What a clip does in units: ``(units, frames)``."""
        return np.asarray(self.chart.matrix @ self.shares(clip))

    def performed(self, shares: Floats, clip: Clip) -> Clip:
        """``clip`` (of this figure) with the face driven by ``shares`` of the chart's ways."""
        weights = self.chart.file_weights(shares)
        tracks = []
        for number, mesh in enumerate(self.figure.meshes):
            if any(name in weights for name in mesh.morph_names):
                zero = np.zeros(clip.frames)
                rows = np.stack([np.asarray(weights.get(name, zero)) for name in mesh.morph_names])
                tracks.append(MorphTrack(number, rows))
        numbers = [i for i, (name, _) in enumerate(self.chart.ways) if self.chart.shapes[name].bones]
        shapes = [self.chart.shapes[self.chart.ways[i][0]] for i in numbers]
        moved = put_on_bones(shapes, shares[numbers], self.figure.skeleton, self.bones, self.frame)
        return _with_face(clip, moved, tuple(tracks))


@dataclass(frozen=True)
class LostUnit:
    """A unit that the target cannot show: how much of it at most, when, and what was done instead."""

    unit: str
    wanted: float
    lost: float
    at_s: float
    instead: tuple[str, ...]


@dataclass(frozen=True, eq=False)
class CarriedFace:
    """A clip with its face, what was used, and what could not be shown."""

    clip: Clip
    used: tuple[str, ...]
    lost: tuple[LostUnit, ...]

    def as_dict(self) -> dict[str, Any]:
        """As plain data, for reports."""
        rows = [
            {"unit": r.unit, "wanted": round(r.wanted, 3), "lost": round(r.lost, 3), "at_s": round(r.at_s, 3),
             "instead": list(r.instead)} for r in self.lost
        ]  # fmt: skip
        return {"used": list(self.used), "lost": rows}

    @property
    def findings(self) -> list[Finding]:
        """What was lost, in a line."""
        if not self.lost:
            return []
        worst = ", ".join(f"{row.unit.replace('_', ' ')} ({row.lost:.0%} at {row.at_s:.2f} s)" for row in self.lost[:4])
        more = f" and {len(self.lost) - 4} more" if len(self.lost) > 4 else ""
        message = f"the face cannot show {worst}{more}; the nearest it can was used"
        return [
            Finding("face-lost", "note", self.clip.name, message, "'fairswap face match' shows what each shape becomes")
        ]


@dataclass(frozen=True, eq=False)
class FaceSwap:
    """Two heads made ready: what the source's face does, the target's face does as nearly as it can."""

    source: FaceSide
    target: FaceSide

    def carry(self, clip: Clip, onto: Clip) -> CarriedFace:
        """The face of ``clip`` (of the source) put on ``onto``, a clip of the target with as many frames.

        Raises
        ------
        UsageError
            If the two clips differ in frames.
        """
        if clip.frames != onto.frames:
            raise UsageError(
                f"the face has {clip.frames} frames, the body {onto.frames}", remedy="Bring them to one rate"
            )
        shares = self.source.shares(clip)
        return self.perform(np.asarray(self.source.chart.matrix @ shares), onto, shares)

    def perform(self, units: Floats, onto: Clip, source_shares: Floats | None = None) -> CarriedFace:
        """Units over time ``(units, frames)`` put on ``onto``."""
        prefer = None if source_shares is None else self._same_shapes() @ source_shares
        return perform_units(self.target, units, onto, prefer)

    def _same_shapes(self) -> Floats:
        """Which ways of the target mean the same as which of the source: ``(target ways, source ways)``."""
        a, b = self.target.chart.matrix, self.source.chart.matrix
        long_a, long_b = np.linalg.norm(a, axis=0), np.linalg.norm(b, axis=0)
        alike = (a.T @ b) / np.maximum(np.outer(long_a, long_b), 1e-12) > _SAME
        names_a, names_b = ([name for name, _ in side.chart.ways] for side in (self.target, self.source))
        same_name = np.array([[x == y for y in names_b] for x in names_a]).reshape(alike.shape)
        # Of several that mean the same, the one of the same name, else an equal share of each.
        named = alike & same_name
        alike = np.where(named.any(axis=1, keepdims=True) | named.any(axis=0, keepdims=True), named, alike)
        share = alike / np.maximum(alike.sum(axis=0, keepdims=True), 1)
        return np.asarray(share * (long_a > 0.0)[:, None] * long_b / np.maximum(long_a, 1e-12)[:, None])


def perform_units(target: FaceSide, units: Floats, onto: Clip, prefer: Floats | None = None) -> CarriedFace:
    """Units over time ``(units, frames)`` put on ``onto``, a clip of the target, as nearly as its shapes can."""
    chart = target.chart
    metric = np.concatenate([_UNITS_COUNT * np.eye(len(UNITS)), _PLACES_COUNT * landmark_ways()])
    most = np.full(len(chart.ways), 1.0)
    shares = bounded_weights(metric @ chart.matrix, metric @ units, most, prefer)
    shown = chart.matrix @ shares
    used = tuple(dict.fromkeys(name for row, (name, _) in enumerate(chart.ways) if shares[row].max(initial=0.0) > 0.02))
    return CarriedFace(target.performed(shares, onto), used, _lost(units, shown, shares, chart, float(onto.rate)))


def _lost(units: Floats, shown: Floats, shares: Floats, chart: FaceChart, rate: float) -> tuple[LostUnit, ...]:
    rows = []
    short = units - shown
    for number, unit in enumerate(UNITS):
        worst = int(np.argmax(short[number]))
        if short[number, worst] < _LOST:
            continue
        # What stands in: shapes in use at that moment that do not contain the unit, by how their places move alike.
        ways = landmark_ways()
        towards = ways.T[number] @ ways @ chart.matrix * shares[:, worst]
        towards[chart.matrix[number] > 0.0] = 0.0
        best = [chart.ways[i][0] for i in np.argsort(-towards)[:2].tolist() if towards[i] > 1e-4]
        rows.append(LostUnit(unit, float(units[number, worst]), float(short[number, worst]), worst / rate, tuple(best)))
    return tuple(sorted(rows, key=lambda row: -row.lost))


def _with_face(clip: Clip, moved: Mapping[int, tuple[Floats, Floats]], tracks: tuple[MorphTrack, ...]) -> Clip:
    """The clip with bones of the face moved, and with morph tracks instead of its own."""
    poses = clip.poses
    rotations = poses.rotation_tracks.copy() if moved else poses.rotation_tracks
    places = {bone: poses.translation_track(bone) for bone in poses.translated_bones.tolist()}
    rest = poses.skeleton.rest_translations
    for bone, (rotation, place) in moved.items():
        rotations[bone] = rotation
        if bone in places or np.abs(place - rest[bone][:, None]).max() > 1e-7:
            places[bone] = place
    kept = {track.mesh for track in tracks}
    stay = tuple(track for track in poses.morph_tracks if track.mesh not in kept)
    bones = np.array(sorted(places), dtype=np.intp)
    translations = (
        np.stack([np.broadcast_to(places[b], (3, clip.frames)) for b in bones.tolist()]) if len(bones) else None
    )
    new = Poses(poses.skeleton, rotations, bones, translations, (*stay, *tracks))
    return replace(clip, poses=new, keyed=clip.keyed | frozenset(moved), origin=None, kept=None)


def needs_face(figure: Figure, clip: Clip, roles: RoleMap, target_roles: RoleMap) -> bool:
    """Whether a clip does something with its face that carrying the body over does not: morphs, or bones of the face.

    Jaw and eyes go with the body where both figures have bones for them.
    """
    if any(np.abs(track.weights).max(initial=0.0) > 1e-3 for track in clip.poses.morph_tracks):
        return True
    shared = {roles.bones[role] for role in ("jaw", "eye_left", "eye_right") if role in roles.bones}
    shared &= {roles.bones[role] for role in target_roles.bones if role in roles.bones}
    for bone in face_bones(figure.skeleton, roles, head_frame(figure, roles)).values():
        if bone not in shared:
            turns, places = clip.poses.rotation_tracks[bone], clip.poses.translation_track(bone)
            if np.ptp(turns, axis=1).max() > 1e-4 or np.ptp(places, axis=1).max(initial=0.0) > 1e-5:
                return True
    return False


def still_clip(figure: Figure, name: str, rate: Any, frames: int) -> Clip:
    """A clip in which a figure rests, for a face alone."""
    rotations = np.repeat(figure.skeleton.rest_rotations[:, :, None], frames, axis=2)
    return Clip(name, rate, Poses(figure.skeleton, rotations))
