"""Transfer faces: source weights become units over time, units become the target's weights.

Units are reached as nearly as the target's shapes can, at once as units and as places of the face that move: so what a
head cannot show is made by what looks most like it.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from fractions import Fraction
from typing import TYPE_CHECKING

import numpy as np

from fairswap.bones.roles import SIDES, RoleMap
from fairswap.errors import Finding, UsageError
from fairswap.face.anatomy import landmark_displacements
from fairswap.face.beside import with_shapes_beside
from fairswap.face.chart import FaceChart, Shape
from fairswap.face.drafting import shown_by_morphs
from fairswap.face.expressions import PRESET_UNITS
from fairswap.face.head import Head
from fairswap.face.neutral import bones_of_face
from fairswap.face.units import INDEX, UNITS
from fairswap.face.unread import unread_bones
from fairswap.model.arrays import Floats
from fairswap.model.bounded import bounded_weights
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.poses import Poses
from fairswap.model.rotation import angle_between
from fairswap.model.signals import eased
from fairswap.model.skeleton import local_rotations
from fairswap.model.skinning import bound_pose
from fairswap.wording import listed

if TYPE_CHECKING:
    from fairswap.retarget.swap import Swap

# Against a unit of 1: how much a landmark's way of one head size counts. Most go some 0.04 of it.
_PLACES_COUNT, _UNITS_COUNT = 14.0, 0.6
# Lids closed by more than this shall shut; by shapes of which closing lids is this part at least, or by a squint.
_SHUT, _CLOSING, _SQUINTS = 0.5, 0.3, 0.5
_SAME = 0.999
_LOST = 0.15
# A shape that is used by less than this, of all of it, does nothing to speak of.
_SHOWN = 0.02
# A bone of a face that is turned by less than this from its rest is as its exporter left it.
_HELD_DEGREES = 3.0


@dataclass(frozen=True)
class LostUnit:
    """A unit that the target cannot show: how much of it at most, when, and what was done instead."""

    unit: str
    wanted: float
    lost: float
    at_s: float
    instead: tuple[str, ...]


@dataclass(frozen=True, eq=False)
class TransferredFace:
    """A clip with its face, what was used, and what could not be shown."""

    clip: Clip
    used: tuple[str, ...]
    lost: tuple[LostUnit, ...]
    told: tuple[Finding, ...] = ()

    @property
    def findings(self) -> list[Finding]:
        """What was lost, in a line, and what else is worth telling."""
        if not self.lost:
            return list(self.told)
        rows = (f"{row.unit.replace('_', ' ')} ({row.lost:.0%} at {row.at_s:.2f} s)" for row in self.lost)
        message = f"the face cannot show {listed(rows, 4)}; the nearest it can was used"
        return [Finding("face-lost", "note", self.clip.name, message), *self.told]


@dataclass(frozen=True, eq=False)
class FaceSwap:
    """Two heads made ready: what the source's face does, the target's face does as nearly as it can.

    ``carried`` are bones of the source's face, each with the one of the target that goes as it goes: where the source's
    moves, the target's is left as it is, and what it does is not done again by shapes.
    """

    source: Head
    target: Head
    carried: Mapping[int, int] = field(default_factory=dict)

    def __post_init__(self) -> None:
        object.__setattr__(self, "source", as_shown_by(self.source, self.target))
        doubled = doubled_units(self.source)
        if doubled and not doubled <= self.target.doubled:
            object.__setattr__(self, "target", replace(self.target, doubled=doubled))

    def transfer(self, clip: Clip, onto: Clip) -> TransferredFace:
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
        shares = self.source.activations(clip)
        done = [bone for bone in self.carried if moves(clip, bone)]
        unread = unread_bones(self.source, clip, shares, done)
        shares[self.source.ways_of({clip.skeleton.names[bone] for bone in done})] = 0.0
        units = np.asarray(self.source.chart.matrix @ shares)
        kept = frozenset(self.carried[bone] for bone in done)
        done_on = perform_units(self.target, units, onto, self._same_shapes() @ shares, kept)
        with_body, lost = with_shapes_beside(self.source, self.target, clip, done_on.clip)
        return replace(done_on, clip=with_body, told=(*self.source.findings, *unread, *lost, *done_on.told))

    def _same_shapes(self) -> Floats:
        """Which ways of the target mean the same as which of the source: ``(target ways, source ways)``."""
        a, b = self.target.chart.matrix, self.source.chart.matrix
        long_a, long_b = np.linalg.norm(a, axis=0), np.linalg.norm(b, axis=0)
        alike = (a.T @ b) / np.maximum(np.outer(long_a, long_b), 1e-12) > _SAME
        names_a, names_b = ([name for name, _ in side.chart.columns] for side in (self.target, self.source))
        same_name = np.array([[x == y for y in names_b] for x in names_a], dtype=bool).reshape(alike.shape)
        bones_a, bones_b = (np.array([bool(side.chart.shapes[name].bones) for name in names], dtype=bool)
                            for side, names in ((self.target, names_a), (self.source, names_b)))  # fmt: skip
        # Of several that mean the same, the one of the same name; else an equal share of each that is of the same kind,
        # a morph for a morph; else of all.
        named = alike & same_name
        alike = np.where(named.any(axis=1, keepdims=True) | named.any(axis=0, keepdims=True), named, alike)
        of_kind = alike & (bones_a[:, None] == bones_b)
        alike = np.where(of_kind.any(axis=0, keepdims=True), of_kind, alike)
        fraction = alike / np.maximum(alike.sum(axis=0, keepdims=True), 1)
        return np.asarray(fraction * (long_a > 0.0)[:, None] * long_b / np.maximum(long_a, 1e-12)[:, None])


def as_shown_by(source: Head, target: Head) -> Head:
    """A head whose expressions are told by name, as what the target's own expressions or morphs of those names do.

    That is what such a motion means: how an avatar looks when it is happy is for its maker to say.
    """
    said, own = source.figure.avatar, target.figure.avatar
    if said is None or not said.controls or source.given_chart is not None:
        return source
    shapes, expressions = dict(source.chart.shapes), {} if own is None else own.expressions
    for name, bone in said.controls.items():
        units: dict[str, float] = {}
        for morph, weight in [row[1:] for row in expressions[name].morphs] if name in expressions else [(name, 1.0)]:
            for unit, share in (target.chart.units_of(morph) if morph in target.chart.shapes else {}).items():
                units[unit] = units.get(unit, 0.0) + weight * share
        if units:
            node = source.figure.skeleton.names[bone]
            shapes[f"{node}.left"] = Shape(f"{node}.left", units, control=(node, 0))
    return replace(source, given_chart=replace(source.chart, shapes=shapes))


def doubled_units(head: Head) -> frozenset[str]:
    """The units that bones of a head show in its clips, and a morph shows too: a jaw may be opened by both at once."""
    shapes = head.chart.shapes
    ways = [
        (number, unit) for number, (name, _) in enumerate(head.chart.columns) if shapes[name].bones
        for unit in shapes[name].units if shown_by_morphs(unit, shapes.values())
    ]  # fmt: skip
    if not ways:
        return frozenset()
    shown = np.max([head.activations(clip).max(axis=1, initial=0.0) for clip in head.clips], axis=0, initial=0.0)
    return frozenset(unit for number, unit in ways if shown[number] > _SHOWN)


def unsaid_expressions(head: Head, other: Head, clip: Clip) -> list[str]:
    """The expressions by name that a clip of a ``head`` moves, of which neither the standard nor the ``other`` figure,
    by its own of that name, says what they look like."""
    avatar = head.figure.avatar
    if avatar is None:
        return []
    known = {*PRESET_UNITS, *other.chart.shapes}
    if other.figure.avatar is not None:
        known |= other.figure.avatar.expressions.keys()
    return [name for name, bone in avatar.controls.items() if name not in known and moves(clip, bone)]


def perform_units(
    target: Head, units: Floats, onto: Clip, prefer: Floats | None = None, kept: frozenset[int] = frozenset()
) -> TransferredFace:
    """Units over time ``(units, frames)`` put on ``onto``, a clip of the target, as nearly as its shapes can.

    ``kept`` are bones that stay as they move in ``onto``.
    """
    chart = target.chart
    metric = np.concatenate([_UNITS_COUNT * np.eye(len(UNITS)), _PLACES_COUNT * landmark_displacements()])
    most = target.most
    most[target.ways_of({target.figure.skeleton.names[bone] for bone in kept})] = 0.0
    shares = bounded_weights(metric @ chart.matrix, metric @ units, most, prefer)
    shares = _lids_shut(chart, units, shares, most)
    shown = chart.matrix @ shares
    used = tuple(
        dict.fromkeys(name for row, (name, _) in enumerate(chart.columns) if shares[row].max(initial=0.0) > _SHOWN)
    )
    return TransferredFace(
        target.performed(shares, onto, kept), used, _lost(units, shown, shares, chart, float(onto.rate)),
        tuple(target.findings),
    )  # fmt: skip


def lay_units(
    target: Head, units: Floats, rate: float, onto: Clip, start_s: float = 0.0, ease_s: float = 0.2
) -> TransferredFace:
    """Units over time ``(units, frames)`` at a ``rate``, laid over ``onto`` from ``start_s`` on.

    The face of ``onto`` goes over into them in ``ease_s`` seconds, and back where they end before it.
    """
    at = np.arange(onto.frames) / float(onto.rate) - start_s
    lasts = (units.shape[1] - 1) / rate
    frames = np.clip(at, 0.0, lasts) * rate
    numbers = np.arange(units.shape[1])
    there = np.array([np.interp(frames, numbers, row) for row in units])
    coming = np.ones(onto.frames) if start_s <= 0.0 else eased(at / max(ease_s, 1e-6))
    going = eased((lasts - at) / max(ease_s, 1e-6)) if start_s + lasts < onto.duration_s else np.ones(onto.frames)
    weight = np.where((at >= 0.0) & (at <= lasts), coming * going, 0.0)
    return perform_units(target, weight * there + (1.0 - weight) * target.units(onto), onto)


def _lids_shut(chart: FaceChart, units: Floats, shares: Floats, most: Floats) -> Floats:
    """Shares with which lids that are to be shut are shut, if any shape can do it, whatever else that brings.

    Half a blink is nearer to a blink than a blink with a frown, by numbers; but all that is seen of it is missing.
    """
    rows = [INDEX[f"eye_closure_{side}"] for side in SIDES]
    both, closes = units[rows].min(axis=0), chart.matrix[rows].min(axis=0)
    shown = (chart.matrix[rows] @ shares).min(axis=0)
    if not closes.any():  # a squint is better than nothing
        closes = _SQUINTS * chart.matrix[[INDEX[f"lid_tightener_{side}"] for side in SIDES]].min(axis=0)
    able = np.where((most > 0.0) & (closes > _CLOSING * np.linalg.norm(chart.matrix, axis=0)), closes, 0.0)
    wanted = np.flatnonzero(both > _SHUT)
    if not able.any() or not len(wanted):
        return shares
    short = np.maximum(both - np.maximum(shown, able @ shares), 0.0)[wanted]
    # Where lids are hardly down nothing is added, and everything where they are shut: no jump between.
    short *= np.clip((both[wanted] - _SHUT) / (1.0 - _SHUT), 0.0, 1.0)
    best = int(np.argmax(able))
    out = shares.copy()
    out[best, wanted] = np.minimum(out[best, wanted] + short / able[best], most[best])
    return out


def _lost(units: Floats, shown: Floats, shares: Floats, chart: FaceChart, rate: float) -> tuple[LostUnit, ...]:
    rows = []
    short = units - shown
    for number, unit in enumerate(UNITS):
        worst = int(np.argmax(short[number]))
        if short[number, worst] < _LOST:
            continue
        # What stands in: shapes in use at that moment that do not contain the unit, by how their places move alike.
        directions = landmark_displacements()
        towards = directions.T[number] @ directions @ chart.matrix * shares[:, worst]
        towards[chart.matrix[number] > 0.0] = 0.0
        best = [chart.columns[i][0] for i in np.argsort(-towards)[:2].tolist() if towards[i] > 1e-4]
        rows.append(LostUnit(unit, float(units[number, worst]), float(short[number, worst]), worst / rate, tuple(best)))
    return tuple(sorted(rows, key=lambda row: -row.lost))


def needs_face(figure: Figure, clip: Clip, roles: RoleMap, carried: Mapping[int, int]) -> bool:
    """Whether a clip does something with its face that carrying the body over does not: morphs, or bones of the face
    that are not ``carried``."""
    if any(np.abs(track.weights).max(initial=0.0) > 1e-3 for track in clip.poses.morph_tracks):
        return True
    if any(moves(clip, bone) for bone in figure.face_controls):
        return True
    bones = bones_of_face(figure, roles).values()
    own = [bone for bone in bones if bone not in carried]
    if any(moves(clip, bone) for bone in own):
        return True
    held = _held(clip, own) if figure.meshes else set()
    return bool(held) and bool(held & _bound_as_they_rest(figure, own))


def moves(clip: Clip, bone: int) -> bool:
    """Whether a bone turns or shifts against its parent, in a clip."""
    turns, places = clip.poses.rotation_tracks[bone], clip.poses.translation_track(bone)
    return bool(np.ptp(turns, axis=1).max() > 1e-4 or np.ptp(places, axis=1).max(initial=0.0) > 1e-5)


def _held(clip: Clip, bones: Sequence[int]) -> set[int]:
    """The bones that a clip begins with clearly turned from their rest: a mouth that is open all the time."""
    apart = angle_between(clip.poses.rotation_tracks[bones, :, 0], clip.skeleton.rest_rotations[bones])
    return {bone for bone, angle in zip(bones, apart, strict=True) if np.degrees(angle) > _HELD_DEGREES}


def _bound_as_they_rest(figure: Figure, bones: Sequence[int]) -> set[int]:
    """The bones that rest as the skin was bound to them: only then the rest tells what is open and what is shut."""
    bound, skeleton = bound_pose(figure), figure.skeleton
    if bound is None:
        return set(bones)
    apart = angle_between(local_rotations(skeleton, bound.rotations[0])[bones], skeleton.rest_rotations[bones])
    return {bone for bone, angle in zip(bones, apart, strict=True) if np.degrees(angle) < _HELD_DEGREES}


def carried_in_face(swap: Swap) -> dict[int, int]:
    """Bones of the source's face, each with the target's that carrying the body over moves just so: eyes, and those of
    one name."""
    names = [rigged.skeleton.names for rigged in (swap.source, swap.target)]
    out = {extra.source: extra.target for extra in swap.extras}
    for pair in swap.pairs:
        same = names[0][pair.first] == names[1][pair.target]
        if pair.role.startswith("eye_") or (pair.role == "jaw" and same):
            out[pair.first] = pair.target
    return out


def still_clip(figure: Figure, name: str, rate: Fraction, frames: int) -> Clip:
    """A clip in which a figure rests, for a face alone."""
    rotations = np.repeat(figure.skeleton.rest_rotations[:, :, None], frames, axis=2)
    return Clip(name, rate, Poses(figure.skeleton, rotations))
