"""What was decided about a conversion, kept in the file of its result, so that whoever judges it judges the same thing.

Which bones fill which roles, both reference poses, the floor, and what was asked for beyond the motion: where the
travel went, by how much it was scaled, and the layers. In glTF it stands in the ``extras`` of the animation.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import msgspec
import numpy as np

from fairswap.bones.roles import MUST_HAVE, RoleMap, is_role
from fairswap.measure.comparison import Motion
from fairswap.model.arrays import Floats
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.rotation import conjugate, normalized, rotate
from fairswap.model.skeleton import Skeleton
from fairswap.pose.reference import ReferencePose, leg_length
from fairswap.pose.rigged import Decided, RiggedFigure
from fairswap.pose.saved import SavedPose
from fairswap.retarget.layers import Layer, Layers

_DIGITS, _DIGITS_OF_WAYS, _DIGITS_OF_STEPS = 7, 4, 3
# A way that was taken out is kept at so many points a second; it was smoothed over longer.
_POINTS_A_SECOND = 15
# No way goes further.
_FURTHEST_M = 1e6
# Legs that differ by less are as long as they were; bones that are off by less, in legs, have the axes they had.
_SAME_SIZE, _SAME_STEP = 1e-3, 0.02


class Side(msgspec.Struct, frozen=True, omit_defaults=True):
    """One figure: its roles as numbers of bones, its reference pose (world rotations of all bones), and its floor.

    ``bones`` are the names of all, in this order: a program that writes a file anew may number them otherwise.
    ``steps`` are where each rests on what it hangs on, in legs: if these are others, so are the axes of the bones, and
    the rotations mean nothing.
    """

    roles: dict[str, int]
    rotations: list[tuple[float, float, float, float]]
    hips: tuple[float, float, float]
    leg_m: float
    floor_m: float
    profile: str = ""
    bones: list[str] = []
    steps: list[tuple[float, float, float]] = []


class KeptLayers(msgspec.Struct, frozen=True):
    """The layers of one file, and the poses that they paste, by role in degrees."""

    layers: list[Layer]
    poses: dict[str, dict[str, tuple[float, float, float]]]


class Record(msgspec.Struct, frozen=True, omit_defaults=True):
    """What was decided about one clip, and what was done to it that is no failure.

    Attributes
    ----------
    source, target : Side or None
        The figures; None of one that is as it is found by itself.
    seconds : float
        How long the clip was: of one that was cut since, the way cannot be put back.
    travel_taken : list of (x, z)
        Points of the way that was taken out, metres, from the first frame to the last.
    travel_scale : float or None
        What the travel was multiplied by, if that was asked for.
    lead_in_dropped : int
        How many frames before the motion were left out.
    cleared : bool
        Whether limbs were to be kept apart.
    face, body : bool
        Whether the face was to be carried over, by charts that are drafted; whether the body was.
    face_laid_on : bool
        Whether another face was laid over the motion since.
    """

    source: Side | None
    target: Side | None
    seconds: float
    travel_taken: list[tuple[float, float]] = []
    travel_scale: float | None = None
    layers: list[KeptLayers] = []
    lead_in_dropped: int = 0
    cleared: bool = False
    face: bool = True
    body: bool = True
    face_laid_on: bool = False
    version: int = 1


def as_made(record: Record) -> Mapping[str, Any]:
    """A record as it stands in a file."""
    return {"fairswap": msgspec.to_builtins(record)}


def side_of(rigged: RiggedFigure) -> Side:
    """What was decided about a figure."""
    reference = rigged.reference
    return Side(
        dict(rigged.roles.bones),
        [tuple(row) for row in np.round(reference.rotations, _DIGITS).tolist()],
        tuple(np.round(reference.hips, _DIGITS).tolist()),
        round(reference.leg_m, _DIGITS),
        round(rigged.floor_m, _DIGITS),
        rigged.roles.profile,
        list(rigged.skeleton.names),
        [tuple(row) for row in np.round(_steps(rigged.skeleton, rigged.roles), _DIGITS_OF_STEPS).tolist()],
    )


def _steps(skeleton: Skeleton, roles: RoleMap) -> Floats:
    """Where each bone rests on what it hangs on, along the axes of that, in legs ``(bones, 3)``."""
    return np.asarray(skeleton.rest_translations / leg_length(roles, skeleton.rest.positions[0]))


def points_of(taken: Floats, rate: float) -> list[tuple[float, float]]:
    """Ground travel ``(frames, 3)`` as points to be kept."""
    count = max(2, int(np.ceil(len(taken) / rate * _POINTS_A_SECOND)) + 1)
    at = np.linspace(0, len(taken) - 1, count)
    frames = np.arange(len(taken))
    return [tuple(np.round(row, _DIGITS_OF_WAYS).tolist()) for row in
            np.stack([np.interp(at, frames, taken[:, axis]) for axis in (0, 2)], axis=1)]  # fmt: skip


def kept_layers(files: tuple[Layers, ...]) -> list[KeptLayers]:
    """Layers with their poses, as they can be kept."""
    return [
        KeptLayers(
            list(file.layers),
            {
                name: {role: tuple(turn.tolist()) for role, turn in pose.turns.items()}
                for name, pose in file.poses.items()
            },
        )
        for file in files
    ]


def fitted_record(clip: Clip, source: RiggedFigure, fitted: RiggedFigure) -> Mapping[str, Any]:
    """What a clip brings along when its figure, ``source``, is made to fit a platform: what was decided about its own
    source, if it has one, else about the figure as it was; and about what was made of it."""
    found = _read(clip) or Record(side_of(source), None, clip.duration_s)
    if found.target is not None and (own := _of(found.target, clip.skeleton)) is not None:
        found = _with_way(found, _grown(own, clip.skeleton))
    return as_made(msgspec.structs.replace(found, target=side_of(fitted)))


def without_its_way(clip: Clip, travel_taken: Floats) -> Mapping[str, Any]:
    """What a clip brings along when a way ``(frames, 3)``, metres, is taken out of it."""
    found = _read(clip) or Record(None, None, clip.duration_s)
    return as_made(msgspec.structs.replace(found, travel_taken=points_of(travel_taken, float(clip.rate))))


def record_in(clip: Clip, source: Figure, target: Figure, came: Clip | None = None) -> Record | None:
    """The record that a clip brought from its file; whatever else stands there is none of ours.

    Of figures that were resized since, lengths are as they are now. Held against another figure than its source, as a
    file that it was made of in between, what was decided of that one stands with its clip ``came``; of what was done
    only the way that was taken out counts.
    """
    found = _read(clip)
    if found is None:
        return None
    told = found.source, found.target
    sides = [side and _of(side, one.skeleton) for side, one in zip(told, (source, target), strict=True)]
    fits = [side is not None or each is None for side, each in zip(sides, told, strict=True)]
    if not all(fits):
        before = None if came is None else _read(came)
        between = before and before.target and _of(before.target, source.skeleton)
        taken = [] if before is not None and before.travel_taken else found.travel_taken
        if not (fits[1] and between) and not taken:
            return None
        sides = [between, sides[1]] if fits[1] and between else [None, None]
        found = Record(None, None, found.seconds, taken, cleared=found.cleared)
    if sides[1] is not None:
        found = _with_way(found, _grown(sides[1], target.skeleton))
    resized = [side and _resized(side, _grown(side, one.skeleton))
               for side, one in zip(sides, (source, target), strict=True)]  # fmt: skip
    return msgspec.structs.replace(found, source=resized[0], target=resized[1])


def _read(clip: Clip) -> Record | None:
    try:
        found = msgspec.convert((clip.made or {}).get("fairswap"), Record)
    except (msgspec.ValidationError, AttributeError):
        return None
    sane = all(abs(length) < _FURTHEST_M for point in found.travel_taken for length in point)
    return found if found.version == 1 and sane else None


def _grown(side: Side, skeleton: Skeleton) -> float:
    """How many times as large a figure is now."""
    grown = leg_length(RoleMap(side.roles, side.profile), skeleton.rest.positions[0]) / side.leg_m
    return 1.0 if abs(grown - 1.0) < _SAME_SIZE or grown <= 0.0 else grown


def _resized(side: Side, grown: float) -> Side:
    hips = tuple(grown * length for length in side.hips)
    return msgspec.structs.replace(side, hips=hips, leg_m=grown * side.leg_m, floor_m=grown * side.floor_m)


def _with_way(record: Record, grown: float) -> Record:
    return msgspec.structs.replace(record, travel_taken=[(grown * x, grown * z) for x, z in record.travel_taken])


def _of(side: Side, skeleton: Skeleton) -> Side | None:
    """What was decided of a figure, in the order that its bones have now; None if it is of another one."""
    bones = len(skeleton)
    numbers = np.array([*side.hips, side.leg_m, side.floor_m, *(part for row in side.rotations for part in row)])
    lengths = np.linalg.norm(np.array(side.rotations).reshape(-1, 4), axis=1)
    sane = (
        len(side.rotations) == bones
        and np.isfinite(numbers).all()
        and np.abs(lengths - 1.0).max(initial=0.0) < 1e-3
        and side.leg_m > 0
        and all(is_role(role) and 0 <= bone < bones for role, bone in side.roles.items())
        and set(side.roles) >= set(MUST_HAVE)
        and len(side.steps) in (0, bones)
        and np.isfinite(np.array(side.steps)).all()
    )
    own = _ordered(side, skeleton) if sane else None
    return own if own is not None and _has_its_axes(own, skeleton) else None


def _ordered(side: Side, skeleton: Skeleton) -> Side | None:
    names = skeleton.names
    known = len(side.bones) == len(names) and len(set(side.bones)) == len(set(names)) == len(names)
    now = {name: number for number, name in enumerate(names)}
    if not known or all(now.get(name, number) == number for number, name in enumerate(side.bones)):
        return side  # as they were, some perhaps renamed
    if now.keys() != set(side.bones):
        return None
    order = [now[name] for name in side.bones]
    before = np.argsort(order).tolist()
    roles = {role: order[bone] for role, bone in side.roles.items()}
    rotations = [side.rotations[old] for old in before]
    steps = [side.steps[old] for old in before] if side.steps else []
    return msgspec.structs.replace(side, rotations=rotations, roles=roles, bones=list(names), steps=steps)


def _has_its_axes(side: Side, skeleton: Skeleton) -> bool:
    if not side.steps:
        return True
    roles = RoleMap(side.roles, side.profile)
    body = [bone for role, bone in roles.bones.items() if role not in ("root", "hips")]
    off = np.array(side.steps)[body] - _steps(skeleton, roles)[body]
    return bool(np.linalg.norm(off, axis=1).max() < _SAME_STEP)


def rigged_as(side: Side | None, figure: Figure, part: str) -> RiggedFigure:
    """A figure, its roles and reference pose as they were decided, or as they are found."""
    if side is None:
        return RiggedFigure.of(figure, part=part)
    reference = ReferencePose(normalized(np.array(side.rotations)), np.array(side.hips), side.leg_m, {})
    roles = RoleMap(dict(side.roles), side.profile)
    return RiggedFigure(figure, roles, part=part, decided=Decided(reference, side.floor_m))


def layers_of(record: Record) -> tuple[Layers, ...]:
    """The layers of a record."""
    return tuple(
        Layers(
            tuple(kept.layers),
            {
                name: SavedPose(name, {role: np.array(turn) for role, turn in turns.items()})
                for name, turns in kept.poses.items()
            },
        )
        for kept in record.layers
    )


def with_travel(result: Motion, points: list[tuple[float, float]]) -> Motion:
    """The result with the way put back that was taken out of it."""
    if not points:
        return result
    clip, hips = result.clip, result.rigged.roles.bones["hips"]
    at = np.linspace(0.0, len(points) - 1.0, clip.frames)
    kept, numbers = np.array(points), np.arange(len(points))
    way = np.stack(
        [np.interp(at, numbers, kept[:, 0]), np.zeros(clip.frames), np.interp(at, numbers, kept[:, 1])], axis=1
    )
    parent = int(clip.skeleton.parents[hips])
    if parent >= 0:
        way = rotate(conjugate(clip.poses.world().rotations[:, parent]), way)
    edit = clip.poses.edit()
    edit.translations[hips] = edit.translation_track(hips) + way.T
    return replace(result, clip=clip.with_poses(edit.poses()))
