"""A figure as an avatar of a platform that wants one: which bone is which, expressions, gaze, who sees what."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from fractions import Fraction

import numpy as np

from fairswap.bones.roles import RoleMap
from fairswap.errors import Finding
from fairswap.face.expressions import PRESET_UNITS
from fairswap.face.head import Head
from fairswap.face.transfer import perform_units, still_clip
from fairswap.face.units import vector
from fairswap.model.avatar import Avatar, Expression
from fairswap.model.clip import Clip
from fairswap.model.figure import Figure
from fairswap.model.rotation import conjugate, rotate
from fairswap.platform.changes import Change
from fairswap.platform.skeleton import Rebuilt

# An expression of which more than this is missing is none; a morph that comes in by less has no part in it.
_MOST_LOST, _LEAST_WEIGHT = 0.6, 0.04
# How far eyes turn for how far away what they look at is, in degrees: as the standard's own figures have it.
_INPUT_DEGREES, _BONE_DEGREES = 90.0, 10.0


def as_avatar(
    made: Rebuilt, roles: RoleMap, clips: tuple[Clip, ...], changes: list[Change], findings: list[Finding]
) -> Figure:
    """The rebuilt figure with all that an avatar standard wants to know of it. ``roles`` are those of the new bones.

    What its file said goes along with its bones; expressions that it has none of are made from what its morphs do.
    """
    figure = made.figure
    avatar = (figure.avatar or Avatar()).on_bones(_new_numbers(made))
    known = dict(roles.bones)
    if not avatar.expressions and any(mesh.morph_names for mesh in figure.meshes):
        expressions = expressions_of(figure, roles, clips)
        if expressions:
            standard = sum(one.preset for one in expressions.values())
            own = len(expressions) - standard
            what = f"{standard} of the standard's expressions" + (f" and {own} of its own" if own else "")
            changes.append(Change("figure.expressions", f"{what}, of its morphs"))
        avatar = replace(avatar, expressions=expressions)
    if avatar.look_at is None:
        avatar = replace(avatar, look_at=_look_at(figure, known, avatar.expressions))
    if not avatar.first_person:
        avatar = replace(avatar, first_person=dict.fromkeys(range(len(figure.meshes)), "auto"))
    rows = (figure.avatar or Avatar()).swinging
    if len(avatar.swinging) < len(rows):
        message = f"{len(rows) - len(avatar.swinging)} of {len(rows)} rows of swinging bones are gone with their bones"
        findings.append(Finding("swinging-lost", "warning", figure.name, message))
    return replace(figure, known_roles=known, avatar=avatar)


def expressions_of(figure: Figure, roles: RoleMap, clips: tuple[Clip, ...] = ()) -> dict[str, Expression]:
    """The standard's expressions that the morphs of a figure can show, each as weights of morphs; and its own."""
    head = Head(figure, roles, None, clips)
    names = list(PRESET_UNITS)
    units = np.stack([vector(PRESET_UNITS[name]) for name in names], axis=1)
    still = still_clip(figure, "expressions", Fraction(1), len(names) + 1)
    shown = perform_units(head, np.concatenate([np.zeros((len(units), 1)), units], axis=1), still)
    alone = shown.clip.with_poses(replace(still.poses, morph_tracks=shown.clip.poses.morph_tracks))
    reached = head.chart.matrix @ head.activations(alone)[:, 1:]
    length = np.linalg.norm(units, axis=0)
    lost = np.linalg.norm(units - reached, axis=0) / np.where(length > 0.0, length, 1.0)
    out: dict[str, Expression] = {}
    for number, name in enumerate(names):
        if lost[number] > _MOST_LOST:
            continue
        morphs = [
            (track.mesh, morph, min(float(row[number + 1]), 1.0))
            for track in alone.poses.morph_tracks
            for morph, row in zip(figure.meshes[track.mesh].morph_names, track.weights, strict=True)
            if row[number + 1] - row[0] > _LEAST_WEIGHT  # more than at rest: it is the expression that shows it
        ]
        if morphs:
            out[name] = Expression(True, tuple(morphs))
    # What no expression of the standard is by itself is one of this figure's own.
    single = {one.morphs[0][:2] for one in out.values() if len(one.morphs) == 1}
    for mesh, held in enumerate(figure.meshes):
        for morph in held.morph_names:
            if (mesh, morph) not in single and morph not in out:
                out[morph] = Expression(False, ((mesh, morph, 1.0),))
    return out


def _new_numbers(made: Rebuilt) -> dict[int, int]:
    """The new number of each old bone that is still there as itself."""
    return {
        bone.first: number
        for number, bone in enumerate(made.bones)
        if bone.first == bone.second and bone.fraction == 0.0 and bone.name not in made.added
    }


def _look_at(
    figure: Figure, known: Mapping[str, int], expressions: Mapping[str, Expression]
) -> dict[str, object] | None:
    """How it looks at things: by its eyes' bones, else by expressions; None if it can do neither."""
    eyes = [known[role] for role in ("eye_left", "eye_right") if role in known]
    by_face = {"lookUp", "lookDown", "lookLeft", "lookRight"} <= set(expressions)
    if "head" not in known or (len(eyes) < 2 and not by_face):
        return None
    rest = figure.skeleton.rest
    ahead = (
        rest.positions[0][eyes].mean(axis=0) - rest.positions[0][known["head"]] if eyes else np.array([0, 0.06, 0.08])
    )
    offset = rotate(conjugate(rest.rotations[0][known["head"]]), ahead)
    reach = {"inputMaxValue": _INPUT_DEGREES, "outputScale": _BONE_DEGREES if len(eyes) == 2 else 1.0}
    ways = ("HorizontalInner", "HorizontalOuter", "VerticalDown", "VerticalUp")
    return {
        "type": "bone" if len(eyes) == 2 else "expression",
        "offsetFromHeadBone": offset.tolist(),
        **{f"rangeMap{way}": reach for way in ways},
    }
